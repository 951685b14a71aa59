"""Reading an application's configuration for its database and its address, and for nothing else.

Only values under the keys that a catalogue entry names are kept; the line they stand in, and
every other line with whatever secret it holds, is dropped as soon as the next one is read.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import BinaryIO

from kettlepost.core.names import Address, InvalidName
from kettlepost.core.plan import ConfigMark
from kettlepost.core.secrets import masked
from kettlepost.core.survey.listings import HEAD, Reading
from kettlepost.core.survey.records import FoundDatabase

FIELDS = ("name", "user", "host", "prefix")
_SECRET = re.compile(r"pass|pwd|secret|salt|token", re.IGNORECASE)
_PAIR = re.compile(
    rb"""(?<![\w.\-])['"]?([A-Za-z_][\w.\-]{0,80}+)['"]?\s*+\]?\s*+(?:=>|=|,|:)\s*+(?:'([^'\\]{0,200})'|"([^"\\]{0,200})"|([^\s'",;<>(){}\[\]$]{1,200}+)(?!\s*+\())"""
)
_DSN = re.compile(
    rb"""(?<![\w.\-])['"]?([A-Za-z_][\w.\-]{0,80}+)['"]?\s*+\]?\s*+(?:=>|=|,|:)\s*+['"]?"""
    rb"""[a-z]{2,20}(?:\+[a-z]+)?://(?:([^:@/\s'"]{0,100})(?::[^@\s'"]{0,200})?@)?(?:tcp\(|unix\()?([^/)\s'"]{0,200})\)?/([^?;\s'"]{1,200})"""
)
_ARGUMENT = re.compile(rb"""'([^'\\]{0,200})'|"([^"\\]{0,200})\"""")
_HOST = re.compile(
    r"(?:p:)?(?:[A-Za-z0-9_-]{1,63}(?:\.[A-Za-z0-9_-]{1,63}){0,31}\.?|\[[0-9A-Fa-f:.]{2,45}\]|[0-9A-Fa-f]{0,4}:[0-9A-Fa-f:.]{1,45})?"
    r"(?::[0-9]{1,5})?(?::?/[\w./+-]{1,108})?", re.ASCII
)  # fmt: skip
"""A host name or address, its port, and the file of a socket, as drivers take them."""
_COMMENT = (b"//", b"#", b"*", b"/*", b";")
_NO_VALUE = frozenset((b"array", b"true", b"false", b"null", b"NULL", b"new"))


def _called(calls: list[list[str]], line: bytes) -> Iterator[tuple[str, bytes]]:
    """What a line gives to calls of functions, each value with what its place stands for."""
    for function, *places in calls:
        _, found, arguments = line.partition(function.encode() + b"(")
        for place, value in zip(places, _ARGUMENT.findall(arguments) if found else (), strict=False):
            if place != "-":
                yield place, value[0] or value[1]


def sifting(marks: list[ConfigMark]) -> Reading:
    """A reading that keeps `key<TAB>value` for the keys of `marks`, the first value of each."""
    keys = {
        key.encode()
        for mark in marks
        for field in (*FIELDS, "address")
        for key in _keys(getattr(mark, field))
        if not _SECRET.search(key)
    }
    addresses = {mark.dsn.encode() for mark in marks if mark.dsn}
    calls = [mark.call.split() for mark in marks if mark.call]

    def sifted(stream: BinaryIO) -> bytes:
        kept: dict[bytes, bytes] = {}
        left = HEAD
        while left > 0 and (line := stream.readline(min(left, 4096))):
            left -= len(line)
            if line.lstrip().startswith(_COMMENT):
                continue
            for key, single, double, bare in _PAIR.findall(line):
                if key in keys and bare not in _NO_VALUE:
                    kept.setdefault(key, single or double or bare)
            for key, user, host, name in _DSN.findall(line) if addresses else ():
                if key in addresses:
                    kept |= {b"dsn user": user, b"dsn host": host, b"dsn name": name}
            for place, value in _called(calls, line):
                kept.setdefault(f"dsn {place}".encode(), value)
        return b"".join(b"%s\t%s\n" % (key, value.replace(b"\n", b" ")) for key, value in kept.items())

    return sifted


def database_of(mark: ConfigMark, sifted: bytes) -> FoundDatabase | None:
    """What was sifted out of a configuration file, under the keys of one entry."""
    pairs = _pairs(sifted)
    given = mark.dsn is not None or mark.call is not None
    values = {
        field: next((pairs[key] for key in _keys(getattr(mark, field)) if key in pairs), "")
        or (pairs.get(f"dsn {field}", "") if given else "")
        for field in FIELDS
    }
    values = {field: (host_in if field == "host" else _no_secret)(value) for field, value in values.items()}
    return FoundDatabase(**values) if any(values.values()) else None


def host_in(value: str) -> str:
    """The host, with its port or socket, that a value names, which may be a whole address; empty where it names none.

    What stands before it, a user and a password, is not kept.
    """
    _, slashes, rest = value.strip().rpartition("://")
    place = rest.rpartition("@")[2]
    if slashes:
        place = re.split(r"[/?#]", place, maxsplit=1)[0]
    return place if _HOST.fullmatch(place) else ""


def _no_secret(value: str) -> str:
    """A name as it stands; empty where it is an address, or holds what looks like a secret."""
    return value if "://" not in value and masked(value) == value else ""


def _keys(written: str | None) -> list[str]:
    """The keys under which a value stands, of which there may be several, one for each way of writing it."""
    return written.split("|") if written else []


def address_of(mark: ConfigMark, sifted: bytes) -> str:
    """The host and path at which a configuration file says its application is; empty where it says none."""
    pairs = _pairs(sifted)
    written = next((pairs[key] for key in _keys(mark.address) if key in pairs), "")
    try:
        return str(Address.parse(written.removeprefix("//")))
    except InvalidName:
        return ""


def _pairs(sifted: bytes) -> dict[str, str]:
    return dict(line.split("\t", 1) for line in sifted.decode("utf-8", "replace").splitlines() if "\t" in line)
