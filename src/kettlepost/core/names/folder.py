"""Folders of one hosting account, relative to its home."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from typing import TypeVar

from kettlepost.core.names.written import InvalidName, printable, quoted, unprintable

_NORMAL = re.compile(r"[a-zA-Z0-9_-][a-zA-Z0-9._-]*(?:/[a-zA-Z0-9_-][a-zA-Z0-9._-]*)*")

Name = TypeVar("Name", bound=str)

_LONGEST = 4096
"""PATH_MAX of Linux, in bytes, with the NUL that ends a path."""


class Folder(str):
    """A folder below an account's home, in normal form: `www/shop`; the home itself is empty text.

    No leading or doubled slash, no `.` and no `..`: there is no way out of the home. Two
    folders are equal when they are the same folder to a file system that tells letter cases
    and Unicode forms apart.
    """

    __slots__ = ()

    @classmethod
    def parse(cls, written: str) -> Folder:
        r"""Read a folder as a plan names it; `\xNN` stands for a byte that cannot be typed.

        Raises InvalidName when it is absolute, climbs with `..` or holds a NUL.
        """
        if len(written) < _LONGEST and _NORMAL.fullmatch(written):
            return cls(written)
        if written.startswith(("/", "~/")):
            raise InvalidName(f"{quoted(written)} is absolute; folders are relative to the account's home, such as www")
        return cls.stored(written)

    @classmethod
    def stored(cls, written: str) -> Folder:
        """Read a folder as `printable` wrote it, which may well be called `~`.

        Raises InvalidName when it climbs with `..` or holds a NUL.
        """
        if len(written) < _LONGEST and _NORMAL.fullmatch(written):
            return cls(written)
        name = unprintable(written)
        parts = [part for part in name.split("/") if part not in ("", ".")]
        if ".." in parts:
            raise InvalidName(f"{quoted(name)} climbs with '..'; write the folder it leads to, from the account's home")
        if len(name.encode("utf-8", "surrogateescape")) >= _LONGEST:
            raise InvalidName(
                f"{quoted(name)} is longer than {_LONGEST - 1:,} bytes, which no host's file system allows"
            )
        if "\0" in name:
            raise InvalidName(f"{quoted(name)} holds a NUL, which no file system allows")
        return cls("/".join(parts))

    @staticmethod
    def can_be(path: str) -> bool:
        """Whether a file system would take `path`, which is normal in all else, for its length."""
        return len(path.encode("utf-8", "surrogateescape")) < _LONGEST

    @property
    def parent(self) -> Folder:
        """The folder above; the home is its own parent."""
        return Folder(self.rpartition("/")[0])

    @property
    def name(self) -> str:
        return self.rpartition("/")[2]

    @property
    def depth(self) -> int:
        """0 for the home, 1 for `www`, 2 for `www/shop`."""
        return self.count("/") + 1 if self else 0

    @property
    def shown(self) -> str:
        """As people are shown it; the home as `(home)`."""
        return printable(self) or "(home)"

    @property
    def tree_key(self) -> str:
        """A key that sorts a folder directly before what lies inside it (no name holds a NUL)."""
        return self.replace("/", "\0")

    def above(self) -> Iterator[Folder]:
        """Every folder that this one lies inside, nearest first, the home last."""
        folder = self
        while folder:
            folder = folder.parent
            yield folder

    def is_inside(self, other: str) -> bool:
        """Whether this folder lies strictly inside `other`."""
        return bool(self) if not other else self.startswith(other + "/")

    def below(self, rest: str) -> Folder:
        """The folder `rest` (normal, relative) inside this one."""
        return Folder(f"{self}/{rest}" if self and rest else self + rest)

    def relative_to(self, other: str) -> str:
        """What to add to `other` to come here; `other` is this folder or above it."""
        return self[len(other) + 1 :] if other else str(self)


HOME = Folder("")


def strictly_inside(ordered: Sequence[Name], folder: str) -> Sequence[Name]:
    """Of folders sorted as text those that lie strictly inside `folder`."""
    if not folder:
        return ordered[1:] if ordered and not ordered[0] else ordered
    # "0" follows "/" in code point order, so all that lies inside stands between the two
    return ordered[bisect_left(ordered, folder + "/") : bisect_left(ordered, folder + "0")]


def nested_pairs(folders: Iterable[Folder]) -> Iterator[tuple[Folder, Folder]]:
    """Each of `folders` that lies inside another of them, with the nearest it lies inside."""
    around: list[Folder] = []
    # with a slash behind each, whatever lies inside a folder sorts directly after it
    for folder in sorted(folders, key=_slashed):
        while around and not folder.is_inside(around[-1]):
            around.pop()
        if around:
            yield folder, around[-1]
        around.append(folder)


def _slashed(folder: Folder) -> str:
    return folder + "/" if folder else ""
