"""What changes in an account ask of the place where its files lie: to look, rename, copy, make, and take away."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from enum import StrEnum
from typing import NamedTuple, Protocol

from kettlepost.core.clearing import FileEntry, is_plain
from kettlepost.core.errors import OutsideError
from kettlepost.core.names import printable

OLD = ".old"
"""What ends the name that a file has for a moment, where a server lets no other take its place."""


class Refusal(StrEnum):
    """Why something could not be done with one file or folder."""

    MISSING = "it is not there any more"
    TAKEN = "something is there already"
    CHANGED = "it was changed since it was looked at"
    ELSEWHERE = "it is on another file system"
    NAMED = "its name cannot be told to the server"
    ASTRAY = "its path does not lead down from the account's home"
    REFUSED = "the server refused"


class Trouble(OutsideError):
    """One file or folder with which something could not be done; `said` is what the system or the server said."""

    def __init__(self, refusal: Refusal, said: str = ""):
        super().__init__(f"{refusal}{f' ({said})' if said else ''}")
        self.refusal = refusal
        self.said = said


class Rename(NamedTuple):
    """A thing that is to get another name, or a copy there; `entry` is what it was when it was looked at."""

    path: str
    to: str
    entry: FileEntry


class Listed(NamedTuple):
    """What lies directly in a folder, or why that cannot be told."""

    folder: str
    entries: Sequence[FileEntry] = ()
    trouble: Trouble | None = None


class FileAccess(Protocol):
    """The files of one account, by paths below its home, which are raw.

    A path that is absolute, climbs, or has an empty part is refused with Trouble, whoever asks (see `checked`). Nothing
    follows a symbolic link in the home, and no renaming ever takes the place of something that is there.
    What concerns one path raises Trouble; what ends the work, such as a lost connection, OutsideError. `by_handles` is
    false where the server knows paths only, so that somebody could put a link in a folder's place between a look
    and what follows it; `unkept` says in words what of a file is not known there. `copies_itself` is false where what
    is copied goes through this machine.
    """

    name: str
    by_handles: bool
    unkept: str
    copies_itself: bool

    def look(self, path: str) -> FileEntry | None:
        """What is at a path; None for nothing."""
        ...

    def list_all(self, folders: Sequence[str]) -> Iterator[Listed]:
        """What lies directly in each of some folders, in any order."""
        ...

    def rename_all(self, renames: Iterable[Rename]) -> Iterator[tuple[Rename, Trouble | None]]:
        """Give each thing its new name, if it is still what it was when it was looked at, and after it, too."""
        ...

    def copy_all(self, copies: Iterable[Rename]) -> Iterator[tuple[Rename, Trouble | None]]:
        """Make a copy of each plain file or link, if it is what it was when it was looked at, and after it, too.

        Of a file its permission bits and the time of its last change are the copy's as well, as far as the place knows
        such; a copy that is not whole may be left where there is trouble.
        """
        ...

    def bring(self, entry: FileEntry, to: str, content: Iterable[bytes]) -> None:
        """Make a file or link like one that lies elsewhere, with its bits and the time of its last change."""
        ...

    def put_over(self, path: str, to: str, entry: FileEntry) -> None:
        """Give a plain file the name of another one, which it takes the place of, if that is still `entry`.

        At every moment the old one or the new one is there, where the place can do that.
        """
        ...

    def make(self, folder: str, mode: int = 0o755) -> None:
        """Make a folder; Trouble where something is there already."""
        ...

    def set_mode(self, path: str, mode: int) -> None:
        """Give a file or folder its permission bits, as far as the place knows such."""
        ...

    def read(self, path: str) -> Iterator[bytes]:
        """What is in a plain file, a piece at a time."""
        ...

    def write(self, path: str, content: Iterable[bytes]) -> None:
        """Make a plain file."""
        ...

    def remove(self, path: str) -> None:
        """Take a file or link away."""
        ...

    def remove_folder(self, path: str) -> None:
        """Take an empty folder away."""
        ...

    def close(self) -> None: ...


def checked(path: str) -> str:
    """The same path, empty for the home; raises Trouble for one that leads anywhere but down from the home."""
    if path and not is_plain(path):
        raise Trouble(Refusal.ASTRAY)
    return path


class KnownFolders:
    """The folders of an account that were seen to be folders, and no links, by a server that knows paths only."""

    def __init__(self) -> None:
        self._known: set[str] = set()

    def unknown(self, path: str) -> list[str]:
        """The folders around a path that are still to be looked at, the outermost first."""
        return [above for above in made_above(path) if above not in self._known]

    def see(self, path: str, entry: FileEntry | None) -> None:
        """Note what was found at a folder's path. Raises Trouble where it is none."""
        if entry is None:
            raise Trouble(Refusal.MISSING)
        if entry.kind != "folder":
            raise Trouble(Refusal.CHANGED, f"{printable(path)} on the way to it is no folder")
        self._known.add(path)

    def add(self, entries: Iterable[FileEntry]) -> None:
        self._known.update(entry.path for entry in entries if entry.kind == "folder")

    def forget(self, path: str) -> None:
        """What has lain at a path, or in it, is somewhere else now, or gone."""
        if path in self._known:
            self._known = {one for one in self._known if one != path and not one.startswith(f"{path}/")}


def made_above(path: str) -> Iterator[str]:
    """The folders around a path, the outermost first."""
    parts = path.split("/")[:-1]
    yield from ("/".join(parts[: n + 1]) for n in range(len(parts)))
