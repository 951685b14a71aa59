"""The kinds of files that are read in, and which kind a file is."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple, Protocol

from kettlepost.core.exchange import apache, nginx
from kettlepost.core.exchange.observed import Opener, Reading


class _IsIt(Protocol):
    def __call__(self, name: str, raw: bytes) -> bool: ...


class _Read(Protocol):
    def __call__(self, files: Sequence[tuple[str, bytes]], opener: Opener, root: str = "") -> Reading: ...


class Kind(NamedTuple):
    """One kind: is it this, read it; `main` are the names of the file from which all others are included."""

    is_it: _IsIt
    read: _Read
    main: tuple[str, ...] = ()


KINDS: dict[str, Kind] = {
    "apache": Kind(apache.is_it, apache.read, ("apache2.conf", "httpd.conf")),
    "nginx": Kind(nginx.is_it, nginx.read, ("nginx.conf",)),
}
"""By name, in the order in which they are asked whether a file is of theirs."""


def kind_of(name: str, raw: bytes) -> str | None:
    """The kind that a file is; None where it is none of them."""
    return next((kind for kind, known in KINDS.items() if known.is_it(name, raw)), None)


def main_file(names: Sequence[str]) -> tuple[str, str] | None:
    """The file of a folder from which a server reads all others, and its kind."""
    for kind, known in KINDS.items():
        for name in known.main:
            if name in names:
                return name, kind
    return None
