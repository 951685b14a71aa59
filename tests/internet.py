"""A small internet for tests: name servers that lead hosts to machines, in a thread of their own."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Awaitable, Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from kettlepost.demo.internet.name_servers import NameServer, Resolver, serve_names

RESOLVER, TOP, SERVER = "192.0.2.53", "192.0.2.60", "192.0.2.54"
SOA = "ns.test. post.test. {} 7200 900 1209600 300"


def zone_of(host: str) -> str:
    return ".".join(host.removeprefix("*.").split(".")[-2:])


def zones(hosts: Mapping[str, Sequence[str]], serial: int = 1, more: Sequence[str] = ()) -> dict[str, str]:
    """The zones of some hosts, each with its addresses."""
    found: dict[str, list[str]] = {}
    for host, addresses in hosts.items():
        lines = found.setdefault(
            zone_of(host), ["$TTL 600", f"@ IN SOA {SOA.format(serial)}", "@ IN NS ns.nic.example.", *more]
        )
        lines += [f"{host}. IN {'AAAA' if ':' in one else 'A'} {one}" for one in addresses]
    return {zone: "\n".join([*lines, ""]) for zone, lines in found.items()}


def top(delegated: Mapping[str, Sequence[str]], hosts: Mapping[str, str]) -> str:
    """The zone of `example`: who is asked for each zone below, and where those are."""
    lines = ["$TTL 600", f"@ IN SOA {SOA.format(1)}", "@ IN NS a.nic.example.", f"a.nic.example. IN A {TOP}"]
    lines += [f"{zone}. IN NS {name}." for zone, names in delegated.items() for name in names]
    return "\n".join([*lines, *(f"{name}. IN A {address}" for name, address in hosts.items()), ""])


def everybody(hosts: Mapping[str, Sequence[str]], remembers: Mapping[str, Sequence[str]] = {}) -> dict[str, Any]:
    """Name servers that have it all as it should be, by their addresses."""
    own = zones(hosts)
    below = {"example": {"ns.nic.example": SERVER}} | {
        zone.rpartition(".")[2]: {} for zone in own if ".example" not in zone
    }
    tops = {
        name: top({key: ["ns.nic.example"] for key in own if key.endswith(f".{name}")}, servers)
        for name, servers in below.items()
    }
    servers: dict[str, Any] = {
        TOP: NameServer(tops),
        SERVER: NameServer(own),
    }
    return servers | {RESOLVER: Resolver(TOP, servers, remembers)}


@contextmanager
def serving(*begins: Callable[[], Awaitable[tuple[list[str], list[Any]]]]) -> Iterator[list[str]]:
    """Run servers as long as the block does; gives where connections go instead."""
    ready, ends, connects, failed = threading.Event(), threading.Event(), list[str](), list[BaseException]()

    async def serve() -> None:
        closing = list[Any]()
        for begin in begins:
            told, some = await begin()
            connects.extend(told)
            closing += some
        ready.set()
        while not ends.is_set():
            await asyncio.sleep(0.02)
        for one in closing:
            one.close()

    def run() -> None:
        try:
            asyncio.run(serve())
        except BaseException as error:
            failed.append(error)
            ready.set()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    try:
        assert ready.wait(30)
        assert not failed, failed
        yield connects
    finally:
        ends.set()
        thread.join(10)


def name_servers(servers: Mapping[str, Any]) -> Callable[[], Awaitable[tuple[list[str], list[Any]]]]:
    async def begin() -> tuple[list[str], list[Any]]:
        connects, closing = [], []
        for address, server in servers.items():
            port, some = await serve_names(server)
            connects.append(f"{address}:53=127.0.0.1:{port}")
            closing += some
        return connects, closing

    return begin
