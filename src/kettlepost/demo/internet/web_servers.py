"""Web servers of the demo's small internet: each host by what a function says that it gets, over http and https."""

from __future__ import annotations

import asyncio
import ssl
from collections.abc import Awaitable, Callable, Mapping
from http import HTTPStatus
from pathlib import Path
from typing import Any, NamedTuple

_PATIENCE = 10
_LONGEST = 16 * 1024


class WebReply(NamedTuple):
    """A status, headers and a body."""

    status: int = 200
    body: bytes = b""
    headers: tuple[tuple[str, str], ...] = (("Content-Type", "text/html; charset=utf-8"),)


Handler = Callable[[str, str, str], WebReply]
"""What a scheme, a host and a path get."""


async def serve_pages(handle: Handler, certificates: Mapping[str, Path] | None = None, scheme: str = "http") -> Any:
    """Serve on a loopback port; with `certificates` by TLS, each host with its own, and the first for any other."""
    context = _context(certificates) if certificates else None
    return await asyncio.start_server(_connection(handle, scheme), "127.0.0.1", 0, ssl=context, limit=_LONGEST)


def _context(certificates: Mapping[str, Path]) -> ssl.SSLContext:
    contexts = {}
    for host, path in certificates.items():
        contexts[host] = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        contexts[host].load_cert_chain(path)
    first = next(iter(contexts.values()))

    def choose(secure: ssl.SSLObject, host: str | None, _context: ssl.SSLContext) -> None:
        name = host or ""
        secure.context = contexts.get(name) or contexts.get(f"*.{name.partition('.')[2]}", first)

    first.sni_callback = choose
    return first


def _connection(
    handle: Handler, scheme: str
) -> Callable[[asyncio.StreamReader, asyncio.StreamWriter], Awaitable[None]]:
    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            head = await asyncio.wait_for(reader.readuntil(b"\r\n\r\n"), _PATIENCE)
            lines = head.decode("latin-1").split("\r\n")
            target = lines[0].split(" ")[1]
            hosts = [line.partition(":")[2].strip() for line in lines[1:] if line.lower().startswith("host:")]
            reply = handle(scheme, (hosts or [""])[0].partition(":")[0].lower(), target)
            writer.write(_written(reply, lines[0].startswith("HEAD")))
            await writer.drain()
        except (TimeoutError, OSError, asyncio.IncompleteReadError, asyncio.LimitOverrunError, IndexError):
            pass
        finally:
            writer.close()

    return serve


def _written(reply: WebReply, head_only: bool) -> bytes:
    headers = [
        ("Server", "fernhollow"),
        *reply.headers,
        ("Content-Length", str(len(reply.body))),
        ("Connection", "close"),
    ]
    lines = [f"HTTP/1.1 {reply.status} {HTTPStatus(reply.status).phrase}"]
    lines += [f"{name}: {value}" for name, value in headers]
    return "\r\n".join([*lines, "", ""]).encode("latin-1", "replace") + (b"" if head_only else reply.body)
