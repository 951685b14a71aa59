"""Zone files (RFC 1035 section 5) and hosts files (hosts(5)): names and addresses, and nothing else."""

from __future__ import annotations

import ipaddress

from kettlepost.core.errors import InputError
from kettlepost.core.names import HostName, InvalidName, quoted
from kettlepost.core.quoting.language import Code

_PLAIN = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_*")


class Zone(Code):
    """Text of a zone or a hosts file."""

    __slots__ = ()


def name(text: str) -> Zone:
    """A host name, without the dot at its end. Raises InputError for what is none."""
    try:
        return Zone(".".join(map(_label, HostName.parse(text.rstrip(".")).split("."))))
    except InvalidName as error:
        raise InputError(str(error)) from None


def relative(host: HostName, top: HostName) -> Zone:
    """A host below the name of its zone, or `@` for that itself."""
    return Zone("@") if host == top else Zone(".".join(map(_label, host.removesuffix(f".{top}").split("."))))


def mailbox(text: str) -> Zone:
    """A mail address as a name (RFC 1035 section 8): the dots of its first part are escaped."""
    user, at, domain = text.rpartition("@")
    if not at or not user:
        raise InputError(f"{quoted(text)} is no mail address")
    return Zone.of("«user».«domain».", user=Zone(_label(user)), domain=name(domain))


def address(text: str) -> Zone:
    """An IP address. Raises InputError for what is none."""
    return Zone(str(_address(text)))


def record_of(text: str) -> Zone:
    """The type of the record that holds an address."""
    return Zone("AAAA" if _address(text).version == 6 else "A")


def comment(text: str) -> Zone:
    """A value within a comment, of which only letters and digits are written."""
    return Zone("".join(letter if letter in _PLAIN else "?" for letter in text))


def _address(text: str) -> ipaddress.IPv4Address | ipaddress.IPv6Address:
    try:
        found = ipaddress.ip_address(text)
    except ValueError:
        raise InputError(f"{quoted(text)} is no IP address") from None
    if "%" in str(found):
        raise InputError(f"{quoted(text)} is an address of one machine's own network")
    return found


def _label(label: str) -> str:
    """What is not a letter, digit or hyphen stands by its number."""
    raw = label.encode("utf-8", "surrogateescape")
    return "".join(chr(byte) if chr(byte) in _PLAIN else f"\\{byte:03}" for byte in raw)
