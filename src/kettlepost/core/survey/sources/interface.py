"""What every source of a survey gives: the folders of an account, one listing after another."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import BinaryIO, NamedTuple, Protocol

HEAD = 128 * 1024
"""At most so many bytes of a file are ever read."""

Reading = Callable[[BinaryIO], bytes]
"""Reads from the beginning of an opened file what is to be kept of it."""


class Wanted(NamedTuple):
    """Which files are looked into: those with one of `names` for which `ask` gives a reading.

    `ask` is told the folder, the name and the size in bytes.
    """

    names: frozenset[str]
    ask: Callable[[str, str, int], Reading | None]


class Listing(NamedTuple):
    """What lies directly in one folder; a folder may come in several listings.

    Names are raw: bytes that are not UTF-8 stand as lone surrogates. `files` holds name,
    size in bytes and last change in seconds since 1970; `heads` what was kept of the files
    that were looked into.
    """

    folder: str
    files: list[tuple[str, int, int]]
    links: list[tuple[str, str]]
    odd: int
    heads: dict[str, bytes]
    trouble: str = ""

    @classmethod
    def unread(cls, folder: str, trouble: str) -> Listing:
        """A folder of which only its name is known, and why."""
        return cls(folder, [], [], 0, {}, trouble)


class Source(Protocol):
    """A place to survey. It never follows symbolic links and never opens what is no plain file.

    `contents` is false for a source that knows names and sizes only.
    """

    name: str
    contents: bool

    def listings(self, wanted: Wanted) -> Iterator[Listing]:
        """Every folder below the account's home, the home included, in any order.

        A folder that cannot be read is a listing with `trouble`; only a failure of the whole
        source raises, as InputError when it is no such source, else as OutsideError.
        """
        ...
