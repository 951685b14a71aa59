"""The kinds of files that are read in and written out, and which kind a file is."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from kettlepost.core.exchange import apache, certificate, folders, hosts, nginx, table, zone
from kettlepost.core.exchange.observed import OutputFile, Reading
from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.plan import Export

Reader = Callable[..., Reading]
"""Takes files with their names, an `Opener`, and the folder that relative names begin in."""
Writer = Callable[[Sequence[AccountLayout], When, Export], list[OutputFile]]


class SourceKind(NamedTuple):
    """One kind: is it this, read it; `main` are the names of the file from which all others are included."""

    is_it: Callable[[bytes], bool]
    read: Reader
    main: tuple[str, ...] = ()


KINDS: dict[str, SourceKind] = {
    "certificate": SourceKind(certificate.is_it, certificate.read),
    "survey": SourceKind(folders.is_it, folders.read),
    "apache": SourceKind(apache.is_it, apache.read, ("apache2.conf", "httpd.conf")),
    "nginx": SourceKind(nginx.is_it, nginx.read, ("nginx.conf",)),
    "zone": SourceKind(zone.is_it, zone.read),
    "table": SourceKind(table.is_it, table.read),
}
"""By name, in the order in which they are asked whether a file is of theirs."""
WRITERS: dict[str, Writer] = {
    "apache": apache.write,
    "nginx": nginx.write,
    "hosts": hosts.write,
    "zone": zone.write,
    "table": table.write,
    "markdown": table.write_markdown,
}


def kind_of(raw: bytes) -> str | None:
    """The kind that a file is; None where it is none of them."""
    return next((kind for kind, known in KINDS.items() if known.is_it(raw)), None)


def main_file(names: Sequence[str]) -> tuple[str, str] | None:
    """The file of a folder from which a server reads all others, and its kind."""
    for kind, known in KINDS.items():
        for name in known.main:
            if name in names:
                return name, kind
    return None
