"""What a survey is made of: the folders of an account, one listing after another, from whatever source."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from typing import BinaryIO, NamedTuple, Protocol

from msgspec import Struct

HEAD = 128 * 1024
"""At most so many bytes of a file are ever read."""

SET_ASIDE = "kettlepost-set-aside"
"""The folder in an account's home for what was taken out of the way: it is counted, and nothing in it is recognised."""

Reading = Callable[[BinaryIO], bytes]
"""Reads from the beginning of an opened file what is to be kept of it."""


class Wanted(NamedTuple):
    """Which files are looked into: those with one of `names`, or one of `endings`, for which `ask` gives a reading.

    `ask` is told the folder, the name and the size in bytes.
    """

    names: frozenset[str]
    ask: Callable[[str, str, int], Reading | None]
    endings: tuple[str, ...] = ()

    def has(self, name: str) -> bool:
        """Whether a file of that name may be looked into."""
        return name in self.names or name.endswith(self.endings)

    def among(self, names: Sequence[str]) -> Collection[str]:
        """Those of some names that may be looked into."""
        known = self.names.intersection(names)
        joined = "/".join(names) + "/" if self.endings else ""
        if any(f"{ending}/" in joined for ending in self.endings):
            return known.union(name for name in names if name.endswith(self.endings))
        return known


class Listing(Struct, gc=False):
    """What lies directly in one folder; a folder may come in several listings.

    Names are raw: bytes that are not UTF-8 stand as lone surrogates. `names` are those of the
    plain files and `sizes` their bytes, in the same order; `newest` is their newest change in
    seconds since 1970; `heads` holds what was kept of the files that were looked into.
    """

    folder: str
    names: list[str] = []
    sizes: list[int] = []
    newest: int = 0
    links: list[tuple[str, str]] = []
    odd: int = 0
    heads: dict[str, bytes] = {}
    trouble: str = ""

    def add(self, name: str, size: int, changed: int) -> None:
        """Count a plain file in."""
        self.names.append(name)
        self.sizes.append(size)
        if changed > self.newest:
            self.newest = changed


class Source(Protocol):
    """A place to survey. It never follows symbolic links and never opens what is no plain file.

    `contents` is false for a source that knows names and sizes only.
    """

    name: str
    contents: bool

    def listings(self, wanted: Wanted, below: str = "") -> Iterator[Listing]:
        """Every folder below the account's home, the home included, in any order; with `below` only that one
        and those inside it, and nothing where it is not there. A source that has to read all of it may give more.

        A folder that cannot be read is a listing with `trouble`; only a failure of the whole
        source raises, as InputError when it is no such source, else as OutsideError.
        """
        ...
