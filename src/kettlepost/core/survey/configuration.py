"""Reading an application's configuration for its database and its address, and for nothing else.

Only values under the keys that a catalogue entry names are kept; the line they stand in, and
every other line with whatever secret it holds, is dropped as soon as the next one is read.
"""

from __future__ import annotations

import re
from typing import BinaryIO

from kettlepost.core.names import Address, InvalidName
from kettlepost.core.plan import ConfigMark
from kettlepost.core.survey.listings import HEAD, Reading
from kettlepost.core.survey.records import FoundDatabase

FIELDS = ("name", "user", "host", "prefix")
_SECRET = re.compile(r"pass|pwd|secret|salt|token", re.IGNORECASE)
_PAIR = re.compile(
    rb"""['"]?([A-Za-z_][\w.\-]*)['"]?\s*\]?\s*(?:=>|=|,|:)\s*(?:'([^'\\]{0,200})'|"([^"\\]{0,200})"|([^\s'",;<>(){}\[\]$]{1,200}))"""
)
_COMMENT = (b"//", b"#", b"*", b"/*", b";")


def sifting(marks: list[ConfigMark]) -> Reading:
    """A reading that keeps `key<TAB>value` for the keys of `marks`, the first value of each."""
    keys = {
        key.encode()
        for mark in marks
        for field in (*FIELDS, "address")
        if (key := getattr(mark, field)) and not _SECRET.search(key)
    }

    def sifted(stream: BinaryIO) -> bytes:
        kept: dict[bytes, bytes] = {}
        left = HEAD
        while left > 0 and (line := stream.readline(min(left, 4096))):
            left -= len(line)
            if line.lstrip().startswith(_COMMENT):
                continue
            for key, single, double, bare in _PAIR.findall(line):
                if key in keys:
                    kept.setdefault(key, single or double or bare)
        return b"".join(b"%s\t%s\n" % (key, value.replace(b"\n", b" ")) for key, value in kept.items())

    return sifted


def database_of(mark: ConfigMark, sifted: bytes) -> FoundDatabase | None:
    """What was sifted out of a configuration file, under the keys of one entry."""
    pairs = _pairs(sifted)
    values = {field: pairs.get(getattr(mark, field) or "", "") for field in FIELDS}
    return FoundDatabase(**values) if any(values.values()) else None


def address_of(mark: ConfigMark, sifted: bytes) -> str:
    """The host and path at which a configuration file says its application is; empty where it says none."""
    written = _pairs(sifted).get(mark.address or "", "")
    try:
        return str(Address.parse(written.removeprefix("//")))
    except InvalidName:
        return ""


def _pairs(sifted: bytes) -> dict[str, str]:
    return dict(line.split("\t", 1) for line in sifted.decode("utf-8", "replace").splitlines() if "\t" in line)
