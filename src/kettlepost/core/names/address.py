"""Addresses: a host name and a path, RFC 3986 without scheme, query and fragment."""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import quote, unquote

from kettlepost.core.names.host import HostName
from kettlepost.core.names.written import InvalidName, quoted
from kettlepost.core.secrets import masked_address

_SIMPLE = re.compile(r"(?:https?://)?([a-z0-9.-]+)((?:/[A-Za-z0-9_~][A-Za-z0-9._~-]*)*)/?")
_SCHEME = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*)://")
_NEW = tuple.__new__
_PORTS = {"": ("80", "443"), "http": ("80",), "https": ("443",)}


class Address(tuple[HostName, str]):
    """Where an installation answers: a host and a path, both in normal form.

    The path is decoded and relative (`shop/new`; empty for the root), because every question
    asked of it is about folders. Text of it is `host/path` with the path percent-encoded
    where RFC 3986 wants it. Case counts in the path and not in the host.
    """

    __slots__ = ()

    def __new__(cls, host: HostName, path: str = "") -> Address:
        return super().__new__(cls, (host, path))

    @classmethod
    def parse(cls, written: str) -> Address:
        """Read an address with or without scheme; query and fragment are dropped.

        Dot segments are resolved (RFC 3986 section 5.2.4), percent-encoding is undone
        (section 6.2.2) and repeated slashes count as one, as web servers map them to folders.
        Raises InvalidName for user names, ports other than the scheme's own, encoded slashes
        and NULs.
        """
        simple = _SIMPLE.fullmatch(written)
        if simple:
            return _NEW(cls, (HostName.parse(simple[1]), simple[2][1:]))
        rest, scheme = written.strip(), ""
        match = _SCHEME.match(rest)
        if match:
            scheme, rest = match[1].lower(), rest[match.end() :]
            if scheme not in ("http", "https"):
                raise InvalidName(f"{_shown(written)} is no web address: {scheme} is neither http nor https")
        rest = re.split(r"[?#]", rest, maxsplit=1)[0]
        authority, _, path = rest.partition("/")
        if "@" in authority:
            raise InvalidName(f"{_shown(written)} holds a user name; write the address without it")
        host, colon, port = authority.partition(":")
        if colon and port and port not in _PORTS[scheme]:
            raise InvalidName(f"{_shown(written)} names port {quoted(port)}; addresses are host and path, without port")
        return cls(HostName.parse(host), _path(path, written))

    @property
    def host(self) -> HostName:
        return self[0]

    @property
    def path(self) -> str:
        return self[1]

    def below(self, rest: str) -> Address:
        """The address one or more segments further down."""
        return Address(self[0], f"{self[1]}/{rest}" if self[1] and rest else self[1] + rest)

    def __getnewargs__(self) -> tuple[Any, ...]:
        return self[0], self[1]

    def __str__(self) -> str:
        return f"{self[0]}/{quote(self[1], safe=_UNENCODED, errors='surrogateescape')}"

    def __repr__(self) -> str:
        return f"Address({str(self)!r})"


_UNENCODED = "/~!$&'()*+,;=:@"


def _path(path: str, written: str) -> str:
    if re.search(r"%2f|%5c|%00", path, re.IGNORECASE) or "\0" in path:
        raise InvalidName(f"{_shown(written)} holds an encoded slash, backslash or NUL, of which nothing is told")
    kept: list[str] = []
    for segment in unquote(path, errors="surrogateescape").split("/"):
        if segment == "..":
            del kept[-1:]
        elif segment not in ("", "."):
            kept.append(segment)
    return "/".join(kept)


def _shown(written: str) -> str:
    return quoted(masked_address(written))
