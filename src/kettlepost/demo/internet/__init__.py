"""A small internet for the demo: name servers, web servers, a registry and an authority, on loopback ports.

The demo's reseller is on it: each host shows what lies in its folders, but for what `world.toml` has otherwise.
"""

from __future__ import annotations

import asyncio
import json
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from importlib.resources import files
from pathlib import Path
from typing import Any, NamedTuple

import rtoml

from kettlepost.core.answering import Answer, Request, answer
from kettlepost.core.layout import PlanLayout
from kettlepost.core.names import HostName
from kettlepost.core.plan import Application
from kettlepost.demo.internet.authority import Authority
from kettlepost.demo.internet.name_servers import NameServer, Resolver, serve_names
from kettlepost.demo.internet.web_servers import Handler, WebReply, serve_pages
from kettlepost.workspace.plan_folder import PlanFolder

_LIST = "data.iana.org"
_RDAP = "rdap.nic.example"
_SOA = "ns1.fernhollow.example. post.fernhollow.example. {serial} 7200 900 1209600 300"
_PATIENCE = 30


class SmallInternet(NamedTuple):
    """One that runs: the file that says where connections go instead, and the file of its authority."""

    connects: Path
    authority: Path

    @property
    def options(self) -> list[str]:
        """The options of `probe` that lead there."""
        return ["--connect", str(self.connects), "--trust", str(self.authority)]


@contextmanager
def small_internet(
    plan: Path, hosting: Path, folder: Path, more: Mapping[str, Any] | None = None
) -> Iterator[SmallInternet]:
    """Run it as long as the block does; `folder` is for certificates, `more` what is otherwise still."""
    folder.mkdir(parents=True, exist_ok=True)
    told = rtoml.loads(files("kettlepost").joinpath("demo/internet/world.toml").read_text("utf-8"))
    for name, values in (more or {}).items():
        told[name] = {**told[name], **values}
    world = _World(told, PlanFolder(plan).layout, hosting)
    ready, ends, found = threading.Event(), threading.Event(), list[Any]()
    thread = threading.Thread(target=_run, args=(world, folder, ready, ends, found), daemon=True)
    thread.start()
    try:
        if not ready.wait(_PATIENCE) or not isinstance(found[0], SmallInternet):
            raise OSError(f"the small internet does not start: {found[0] if found else 'no answer'}")
        yield found[0]
    finally:
        ends.set()
        thread.join(_PATIENCE)


def _run(world: _World, folder: Path, ready: threading.Event, ends: threading.Event, found: list[Any]) -> None:
    async def serve() -> None:
        connects, closing = await world.serve(folder)
        (folder / "connects").write_text("".join(f"{one}\n" for one in connects))
        found.append(SmallInternet(folder / "connects", folder / "authority.pem"))
        ready.set()
        while not ends.is_set():
            await asyncio.sleep(0.05)
        for one in closing:
            one.close()

    try:
        asyncio.run(serve())
    except Exception as error:  # told to whoever waits for it
        found.append(error)
        ready.set()


class _World:
    """What everybody on the small internet has and shows."""

    def __init__(self, told: Mapping[str, Any], layouts: PlanLayout, hosting: Path):
        self._told, self._layouts, self._hosting = told, layouts, hosting
        self._machines = {
            host: account.settings.ip_addresses
            for name in layouts.accounts
            for account in [layouts.accounts[name].account]
            for host in layouts.accounts[name].tree("planned").hosts
        }
        self._zones = sorted({_zone(host) for host in (*self._machines, *told["hosts"])})

    async def serve(self, folder: Path) -> tuple[list[str], list[Any]]:
        """Serve all of it; where connections go instead, and what is to be closed in the end."""
        told, connects, closing = self._told, list[str](), list[Any]()
        servers = {told["top"]: NameServer({"example": self._top(), "iana.org": self._iana()})}
        for name, address in told["hosts"].items():
            servers[address] = NameServer({zone: self._zone(zone, name) for zone in self._zones_of(name)})
        resolver = Resolver(told["top"], servers, told["remembered"])
        everybody: list[tuple[str, NameServer | Resolver]] = [*servers.items(), (told["resolver"], resolver)]
        for address, server in everybody:
            port, open_ones = await serve_names(server)
            connects.append(f"{address}:53=127.0.0.1:{port}")
            closing += open_ones
        authority = Authority(folder)
        own = [name for addresses in self._machines.values() for name in addresses]
        certificates: dict[str, Path] = {}
        for names, days in told["certificates"].items():
            certificates |= dict.fromkeys(names.split(), authority.issue(names.split(), days))
        for address in [*sorted(set(own)), told["old_host"]]:
            here = {
                name: path for name, path in certificates.items()
                if address in self._machines.get(HostName(name.removeprefix("*.")), ())
            }  # fmt: skip
            for scheme, port in (("http", 80), ("https", 443)):
                if scheme == "https" and not here:
                    connects.append(f"{address}:443=127.0.0.1:1")
                    continue
                pages = await serve_pages(self._handler(address), here if scheme == "https" else None, scheme)
                connects.append(f"{address}:{port}=127.0.0.1:{pages.sockets[0].getsockname()[1]}")
                closing.append(pages)
        registry = {name: authority.issue([name]) for name in (_LIST, _RDAP)}
        pages = await serve_pages(self._registry, registry, "https")
        connects.append(f"{told['registry']}:443=127.0.0.1:{pages.sockets[0].getsockname()[1]}")
        closing.append(pages)
        return connects, closing

    def _zones_of(self, server: str) -> list[str]:
        own = [zone for zone in self._zones if zone == _zone(server) and zone not in self._told["name_servers"]]
        return own + [zone for zone in self._zones if server in self._servers(zone) and server != "ns.marsh.example"]

    def _servers(self, zone: str) -> Sequence[str]:
        if zone in ("oldhost.example", "marsh.example"):
            return [name for name in self._told["hosts"] if _zone(name) == zone]
        found: Sequence[str] = self._told["name_servers"].get(
            zone, ["ns1.fernhollow.example", "ns2.fernhollow.example"]
        )
        return found

    def _zone(self, zone: str, server: str) -> str:
        """A zone as one of its name servers has it."""
        older = self._told["older"] if server.startswith("ns2.") else {}
        is_older = any(_zone(host) == zone for host in older)
        lines = ["$TTL 3600", f"@ IN SOA {_SOA.format(serial=2026112301 if is_older else 2026112302)}"]
        lines += [f"@ IN NS {name}." for name in self._servers(zone)]
        lines += [f"{host}. IN A {address}" for host, address in self._told["hosts"].items() if _zone(host) == zone]
        for host in self._machines:
            if _zone(host) == zone:
                addresses = older.get(host) or self._told["records"].get(host, self._machines[host])
                lines += [f"{host}. IN A {address}" for address in addresses]
        lines += [f"@ IN MX {one}" for one in self._told["mail"].get(zone, ())]
        return "\n".join([*lines, ""])

    def _top(self) -> str:
        lines = ["$TTL 3600", f"@ IN SOA {_SOA.format(serial=1)}", "@ IN NS a.nic.example.",
                 f"a.nic.example. IN A {self._told['top']}", f"{_RDAP}. IN A {self._told['registry']}"]  # fmt: skip
        for zone in self._zones:
            for name in self._servers(zone):
                lines += [f"{zone}. IN NS {name}."]
        lines += [f"{name}. IN A {address}" for name, address in self._told["hosts"].items()]
        return "\n".join([*dict.fromkeys(lines), ""])

    def _iana(self) -> str:
        return "\n".join(["$TTL 3600", f"@ IN SOA {_SOA.format(serial=1)}", "@ IN NS a.nic.example.",
                          f"data IN A {self._told['registry']}", ""])  # fmt: skip

    def _registry(self, _scheme: str, host: str, path: str) -> WebReply:
        """The list of registries, and what the registry of `example` knows of a domain (RFC 9083)."""
        kind = (("Content-Type", "application/rdap+json"),)
        if host == _LIST:
            known: Any = {"version": "1.0", "services": [[["example"], [f"https://{_RDAP}/"]]]}
            return WebReply(200, json.dumps(known).encode(), kind)
        zone = path.removeprefix("/domain/")
        if zone not in self._zones:
            return WebReply(404, b'{"errorCode": 404}', kind)
        until = self._told["registered"].get(zone, "2027-12-01")
        known = {
            "objectClassName": "domain", "ldhName": zone,
            "events": [{"eventAction": "expiration", "eventDate": f"{until}T00:00:00Z"}],
            "nameservers": [{"objectClassName": "nameserver", "ldhName": name} for name in self._servers(zone)],
        }  # fmt: skip
        return WebReply(200, json.dumps(known).encode(), kind)

    def _handler(self, address: str) -> Handler:
        if address == self._told["old_host"]:
            return lambda _scheme, _host, _path: self._page("old")
        return self._shown

    def _page(self, name: str) -> WebReply:
        page = self._told["pages"][name]
        return WebReply(page["status"], page["body"].encode())

    def _shown(self, scheme: str, host: str, path: str) -> WebReply:
        otherwise = self._told["shows"].get(f"{host}{path}".rstrip("/")) or self._told["shows"].get(host)
        if otherwise is not None and "goes" in otherwise:
            return _sent(otherwise["goes"])
        if otherwise is not None and "page" in otherwise:
            return self._page(otherwise["page"])
        if otherwise is not None:
            host = otherwise["as"]
        request = Request.parse(f"{scheme}://{host}{path}")
        found = answer(self._layouts, request.address, "now", request)
        if scheme == "http" and found.reach is not None and found.reach.mount.domain.https:
            return _sent(f"https://{host}{path}")
        return self._reply(found, host, path)

    def _reply(self, found: Answer, host: str, path: str) -> WebReply:
        goes = found.location or (f"http://{found.goes}" if found.goes is not None else "")
        if goes:
            return _sent(goes)
        status = found.status or 404
        if found.kind in ("listing", "empty folder") and status == 200:
            return WebReply(200, _html(f"Index of {path}", f"<h1>Index of {path}</h1><pre>../</pre>"))
        known = found.shown.held.application if found.shown.held is not None else None
        if found.kind == "application" and known is not None and status == 200:
            return WebReply(200, _of_application(known, HostName(host)))
        if status != 200:
            more = (("WWW-Authenticate", 'Basic realm="members"'),) if status == 401 else ()
            return WebReply(status, _html(str(status), f"<h1>{status}</h1>"), (*WebReply().headers, *more))
        file = found.file
        account = found.reach.mount.account.name if found.reach is not None else ""
        place = self._hosting / account / str(file) if file is not None else None
        if place is None or not place.is_file():
            return WebReply(404, _html("Not found", "<h1>Not found</h1>"))
        if place.suffix == ".php":
            words = "Coming soon" if found.kind == "placeholder" else f"A page of {host}'s own"
            return WebReply(200, _html(words, f"<p>{words}</p>"))
        kind = "text/plain" if place.suffix == ".txt" else "text/html; charset=utf-8"
        return WebReply(200, place.read_bytes(), (("Content-Type", kind),))


def _of_application(known: Application, host: HostName) -> bytes:
    """A page that shows as much of an application as its real ones do: its marks."""
    marks = known.shows
    generator = f"<meta name='generator' content='{marks.generator[0]}'>" if marks and marks.generator else ""
    path = f"<link rel='stylesheet' href='{marks.paths[0]}look.css'>" if marks and marks.paths else ""
    head = f"<!doctype html><html lang='en'><head><title>{host.words.title()}</title>{generator}{path}</head>"
    body = f"<body><h1>{host.words.title()}</h1><p>Everything that happens here, week after week.</p></body></html>"
    return f"{head}{body}".encode()


def _html(title: str, body: str) -> bytes:
    return f"<!doctype html><html lang='en'><title>{title}</title><body>{body}</body></html>".encode()


def _sent(goes: str) -> WebReply:
    return WebReply(301, b"", (("Location", goes),))


def _zone(host: str) -> str:
    """The zone of a host: of a name of three labels and more the last two."""
    return ".".join(host.removeprefix("*.").split(".")[-2:])
