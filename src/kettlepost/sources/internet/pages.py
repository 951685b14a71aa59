"""What a server shows: requests that take no more than they should, whatever comes back (RFC 9110, RFC 9112)."""

from __future__ import annotations

import asyncio
import ssl
import zlib
from collections.abc import Sequence
from typing import Any, NamedTuple, Protocol
from urllib.parse import quote, urljoin, urlsplit

import aiohttp
from yarl import URL

from kettlepost.core.names import printable
from kettlepost.core.probing import LONGEST_PAGE, Received
from kettlepost.core.secrets import masked
from kettlepost.core.survey import ProbeTrouble, SeenHop
from kettlepost.sources.internet.certificates import lenient_context
from kettlepost.sources.internet.machines import Machines
from kettlepost.sources.internet.ways import NotPublic, Ways

MOST_HOPS = 10
_LONGEST_HEADER = 16 * 1024
_LONGEST_WAIT = 30
_PIECE = 64 * 1024
_PORTS = {"http": 80, "https": 443}
_LATER = (429, 503)
_REDIRECTS = (301, 302, 303, 307, 308)


class Fetched(NamedTuple):
    """What came of a request: the redirects on the way, where they ended, and the reply there or why there is none."""

    hops: tuple[SeenHop, ...]
    end: str
    reply: Received | None = None
    trouble: ProbeTrouble | None = None


class World(Protocol):
    """What is known of hosts by whoever asks."""

    def is_own(self, host: str) -> bool:
        """Whether a host is one of the plan, so that redirects to it are followed."""
        ...

    def ways(self, host: str) -> Ways:
        """Where connections to a host may go."""
        ...

    async def machine_of(self, host: str) -> str | None:
        """The address at which a host is asked; None where there is none."""
        ...


class Pages:
    """Asks hosts for pages, at addresses that are given: the name of a host is never looked up here.

    `tls` is how https is begun; without it whatever certificate is shown is taken, as that is told apart.
    """

    def __init__(self, world: World, machines: Machines, seconds: float, agent: str, tls: ssl.SSLContext | None = None):
        self._world, self._machines, self._seconds = world, machines, seconds
        self._accepts = ", ".join(["gzip", "deflate", *_UNPACKERS])
        self._headers = {"User-Agent": agent, "Accept": "text/html,*/*;q=0.8", "Accept-Encoding": self._accepts}
        self._tls = tls or lenient_context()
        self._session: aiohttp.ClientSession | None = None

    async def __aenter__(self) -> Pages:
        self._session = aiohttp.ClientSession(
            connector=aiohttp.TCPConnector(limit=0, force_close=True, ssl=self._tls, use_dns_cache=False),
            cookie_jar=aiohttp.DummyCookieJar(), auto_decompress=False, headers=self._headers, trust_env=False,
            skip_auto_headers=("Accept", "Accept-Encoding", "User-Agent"), read_bufsize=_PIECE,
            max_line_size=_LONGEST_HEADER, max_field_size=_LONGEST_HEADER,
        )  # fmt: skip
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._session is not None:
            await self._session.close()

    async def fetch(self, url: str, address: str, login: tuple[str, str] | None = None) -> Fetched:
        """What an address shows, asked at one machine; redirects are followed within the hosts of the plan.

        `login` is a user and password for the host of `url`, and goes there by its scheme alone.
        """
        hops, here, passed = list[SeenHop](), url, {url}
        own, cookies = urlsplit(url).netloc, dict[str, str]()
        while True:
            host = urlsplit(here).netloc
            may_know = login is not None and host == own and here.partition(":")[0] == url.partition(":")[0]
            auth = aiohttp.BasicAuth(*login) if login is not None and may_know else None
            place: str | None = address if host == own else await self._world.machine_of(host)
            if place is None:
                return Fetched(tuple(hops), shown_url(here), None, ProbeTrouble.NO_ADDRESS)
            reply, trouble = await self._ask(here, place, auth, cookies if host == own else None)
            if reply is None:
                return Fetched(tuple(hops), shown_url(here), None, trouble)
            goes = reply.header("location") if reply.status in _REDIRECTS else ""
            onward = _onward(here, goes)
            if not onward:
                return Fetched(tuple(hops), shown_url(here), reply)
            hops.append(SeenHop(shown_url(here), reply.status, printable(reply.header("server"))[:100]))
            if not self._world.is_own(urlsplit(onward).netloc):
                return Fetched(tuple(hops), shown_url(onward))
            if host == own:
                cookies |= _cookies(reply)
            is_round = onward in passed
            if (is_round and not cookies) or len(hops) >= MOST_HOPS:
                return Fetched(
                    tuple(hops), shown_url(onward), None, ProbeTrouble.ROUND if is_round else ProbeTrouble.TOO_FAR
                )
            passed.add(onward)
            here = onward

    async def _ask(
        self, url: str, address: str, auth: aiohttp.BasicAuth | None, cookies: dict[str, str] | None
    ) -> tuple[Received | None, ProbeTrouble | None]:
        """One request, and another one where the machine wants to be asked a little later."""
        parts = urlsplit(url)
        try:
            place = self._world.ways(parts.netloc).to(address, _PORTS[parts.scheme], parts.netloc)
        except NotPublic:
            return None, ProbeTrouble.NOT_PUBLIC
        reply, trouble = await self._once(url, place, auth, cookies)
        wait = reply.header("retry-after") if reply is not None and reply.status in _LATER else ""
        if not (wait.isascii() and wait.isdigit()) or len(wait) > 6:
            return reply, trouble
        self._machines.wait(place[0], min(int(wait), _LONGEST_WAIT))
        if int(wait) > _LONGEST_WAIT:
            return (reply, None) if reply is not None and reply.status == 503 else (None, ProbeTrouble.LATER)
        return await self._once(url, place, auth, cookies)

    async def _once(
        self, url: str, place: tuple[str, int], auth: aiohttp.BasicAuth | None, cookies: dict[str, str] | None
    ) -> tuple[Received | None, ProbeTrouble | None]:
        if self._session is None:
            raise RuntimeError("asked before it is opened")
        parts = urlsplit(url)
        host = f"[{place[0]}]" if ":" in place[0] else place[0]
        target = parts.path + (f"?{parts.query}" if parts.query else "") or "/"
        headers = {"Host": parts.netloc}
        if cookies:
            headers["Cookie"] = "; ".join(f"{name}={value}" for name, value in cookies.items())
        try:
            async with self._machines.slot(place[0]), asyncio.timeout(self._seconds):
                where = URL(f"{parts.scheme}://{host}:{place[1]}{target}", encoded=True)
                secure: dict[str, Any] = {"server_hostname": parts.hostname} if parts.scheme == "https" else {}
                async with self._session.get(
                    where, headers=headers, allow_redirects=False, auth=auth, timeout=_NO_LIMIT, **secure
                ) as reply:
                    packed, is_whole = await _body(reply)
                    sent = [(name, value[:_LONGEST_HEADER]) for name, value in reply.headers.items()]
                    status = reply.status
        except TimeoutError:
            return None, ProbeTrouble.TIMED_OUT
        except (aiohttp.ClientConnectorSSLError, aiohttp.ClientConnectorCertificateError):
            return None, ProbeTrouble.NO_TLS
        except aiohttp.ClientConnectorError:
            return None, ProbeTrouble.CANNOT_CONNECT
        except (aiohttp.ServerDisconnectedError, aiohttp.ClientOSError, aiohttp.ClientPayloadError):
            return None, ProbeTrouble.CLOSED
        except (aiohttp.ClientError, ValueError, OSError):
            return None, ProbeTrouble.NOT_HTTP
        kind = next((value for name, value in sent if name.lower() == "content-encoding"), "").strip().lower()
        body, is_all = _unpacked(packed, kind)
        return Received(url, status, sent, body, is_whole and is_all), None


_NO_LIMIT = aiohttp.ClientTimeout(total=None, sock_connect=None, sock_read=None)


async def _body(reply: aiohttp.ClientResponse) -> tuple[bytes, bool]:
    """As much of a body as is read, and whether that is all of it."""
    pieces, read = list[bytes](), 0
    while read <= LONGEST_PAGE:
        piece = await reply.content.read(_PIECE)
        if not piece:
            return b"".join(pieces), True
        pieces.append(piece)
        read += len(piece)
    return b"".join(pieces)[:LONGEST_PAGE], False


def _unpacked(packed: bytes, kind: str) -> tuple[bytes, bool]:
    """A body without its packing, up to the most that is read of one, and whether that is all of it."""
    if not packed or kind in ("", "identity"):
        return packed, True
    try:
        if kind in ("gzip", "x-gzip", "deflate"):
            return _inflated(packed, kind)
        if kind in _UNPACKERS:
            unpacked: tuple[bytes, bool] = _UNPACKERS[kind](packed)
            return unpacked
    except _UNPACKING_FAULTS:
        return b"", False
    return b"", False


def _inflated(packed: bytes, kind: str) -> tuple[bytes, bool]:
    widths: Sequence[int] = (47,) if kind != "deflate" else (47, -15)
    for width in widths:
        unpacker = zlib.decompressobj(width)
        try:
            body = unpacker.decompress(packed, LONGEST_PAGE)
        except zlib.error:
            continue
        return body, unpacker.eof
    return b"", False


def _with_brotli(packed: bytes) -> tuple[bytes, bool]:
    import brotli

    unpacker = brotli.Decompressor()
    body = unpacker.process(packed, output_buffer_limit=LONGEST_PAGE)
    while not unpacker.is_finished() and len(body) < LONGEST_PAGE and not unpacker.can_accept_more_data():
        body += unpacker.process(b"", output_buffer_limit=LONGEST_PAGE)
    return body[:LONGEST_PAGE], unpacker.is_finished()


def _with_zstandard(packed: bytes) -> tuple[bytes, bool]:
    import zstandard

    unpacker = zstandard.ZstdDecompressor(max_window_size=8 * 1024 * 1024).stream_reader(packed)
    body = unpacker.read(LONGEST_PAGE + 1)
    return body[:LONGEST_PAGE], len(body) <= LONGEST_PAGE


def _unpackers() -> tuple[dict[str, Any], tuple[type[Exception], ...]]:
    """What unpacks the codings of which a package is there, and how these fail."""
    found: dict[str, Any] = {}
    faults: list[type[Exception]] = [zlib.error, ValueError, RuntimeError, EOFError]
    try:
        import brotli

        found["br"] = _with_brotli
        faults.append(brotli.error)
    except ImportError:
        pass
    try:
        import zstandard

        found["zstd"] = _with_zstandard
        faults.append(zstandard.ZstdError)
    except ImportError:
        pass
    return found, tuple(faults)


_UNPACKERS, _UNPACKING_FAULTS = _unpackers()


def _onward(here: str, goes: str) -> str:
    """The address to which a redirect leads, without its fragment; empty where it is none."""
    if not goes or len(goes) > 4000:
        return ""
    try:
        raw = goes.encode("utf-8", "surrogateescape")
        onward = urljoin(here, quote(raw, safe="/%:?#[]@!$&'()*+,;=~")).partition("#")[0]
        parts = urlsplit(onward)
        if parts.scheme not in _PORTS or parts.username is not None or not parts.hostname:
            return ""
        port = parts.port
    except ValueError:
        return ""
    if port not in (None, _PORTS[parts.scheme]):
        return onward
    host = f"[{parts.hostname}]" if ":" in parts.hostname else parts.hostname
    return parts._replace(netloc=host, path=parts.path or "/").geturl()


def _cookies(reply: Received) -> dict[str, str]:
    """The cookies that a reply sets, which go back to the same host on the way that it sends visitors."""
    found = {}
    for name, value in reply.headers:
        if name.lower() == "set-cookie":
            key, _, told = value.partition(";")[0].partition("=")
            if key.strip() and len(told) < _LONGEST_HEADER // 4 and f"{key}{told}".isprintable():
                found[key.strip()] = told.strip()
    return dict(list(found.items())[:20])


def shown_url(url: str) -> str:
    """An address as it is kept: without secrets, and printable."""
    return printable(masked(url))[:1000]
