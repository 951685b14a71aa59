"""Which addresses may be connected to, and where a connection really goes."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Collection, Iterable, Mapping
from functools import lru_cache

from kettlepost.core.errors import InputError
from kettlepost.core.names import HostName, InvalidName, quoted

IPAddress = ipaddress.IPv4Address | ipaddress.IPv6Address
Place = tuple[str, int]
_LARGEST = 1 << 20
_TRANSLATED = ipaddress.IPv6Network("64:ff9b::/96")
_INSTEAD = re.compile(r"(?P<host>\[[0-9A-Fa-f:.]+\]|[^\s/:=@\[\]]+):(?P<port>\d{1,5})")


class NotPublic(Exception):
    """An address of a private, loopback, link-local or reserved range that nobody has named as one's own."""


class Ways:
    """Where connections of one account go.

    `own` are the addresses of its machine, to which it may go whatever range they are of; `instead` leads
    somewhere else than a name or address and its port, as whoever runs the program said.
    """

    def __init__(self, own: Collection[str] = (), instead: Mapping[Place, Place] | None = None):
        self._own = frozenset(map(_normal, own))
        self._instead = instead or {}

    def to(self, address: str, port: int, host: str = "") -> Place:
        """Where a connection to a port of an address goes. Raises NotPublic.

        What is refused is looked up by the address that is connected to in the end.
        """
        given = self._instead.get((host, port)) or self._instead.get((_normal(address), port))
        if given is not None:
            return given
        if _normal(address) not in self._own and not is_public(address):
            raise NotPublic
        return address, port

    def to_resolver(self, address: str) -> Place:
        """Where a look-up goes that was told by whoever runs the program, or by the machine it runs on."""
        return self._instead.get((_normal(address), 53), (address, 53))


def is_public(address: str) -> bool:
    """Whether an address is one of the internet's: of no range that RFC 6890 and its followers keep for something else.

    An IPv4 address within one of IPv6 counts by itself.
    """
    return _is_public(address)


@lru_cache(4096)
def _is_public(address: str) -> bool:
    try:
        found = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return False
    return all(one.is_global and not (one.is_multicast or one.is_reserved) for one in _meant(found))


def _meant(address: IPAddress) -> Iterable[IPAddress]:
    if isinstance(address, ipaddress.IPv6Address):
        if address in _TRANSLATED:
            yield ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
            return
        inner = address.ipv4_mapped or address.sixtofour
        if inner is not None:
            yield inner
            return
        if address.teredo is not None:
            yield from address.teredo
            return
    yield address


@lru_cache(4096)
def _normal(address: str) -> str:
    try:
        return str(ipaddress.ip_address(address))
    except ValueError:
        return address


def read_instead(written: Iterable[str]) -> dict[Place, Place]:
    """Each `HOST:PORT=ADDRESS:PORT`, or a file that has one a line. Raises InputError that says what would be right."""
    found = {}
    for one in (line for some in written for line in _lines(some)):
        begin, _, end = one.partition("=")
        left, right = _INSTEAD.fullmatch(begin), _INSTEAD.fullmatch(end)
        if left is None or right is None:
            raise InputError(f"{quoted(one)} is to be HOST:PORT=ADDRESS:PORT, such as 192.0.2.20:80=127.0.0.1:8080")
        host, address = left["host"].strip("[]"), right["host"].strip("[]")
        ports = int(left["port"]), int(right["port"])
        if not all(0 < port < 1 << 16 for port in ports):
            raise InputError(f"{quoted(one)} names no port between 1 and 65535")
        try:
            ipaddress.ip_address(address)
        except ValueError:
            raise InputError(f"{quoted(one)} leads to {quoted(address)}, which is no IP address") from None
        try:
            name = _normal(host) if _is_ip(host) else str(HostName.parse(host))
        except InvalidName as error:
            raise InputError(str(error)) from None
        found[name, ports[0]] = address, ports[1]
    return found


def _lines(written: str) -> list[str]:
    if "=" in written:
        return [written]
    try:
        with open(written, encoding="utf-8") as file:
            return [line.strip() for line in file.read(_LARGEST).splitlines() if line.strip() and line[0] != "#"]
    except (OSError, UnicodeDecodeError):
        text = f"{quoted(written)} is neither HOST:PORT=ADDRESS:PORT nor a file that can be read with one a line"
        raise InputError(text) from None


def _is_ip(written: str) -> bool:
    return _normal(written) != written or ":" in written or written.replace(".", "").isdigit()
