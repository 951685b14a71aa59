"""The files of an account behind an FTP login (RFC 959, RFC 3659): by paths, one request after the other."""

from __future__ import annotations

import ftplib
import re
import tempfile
import time
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import closing, suppress
from posixpath import normpath
from typing import TypeVar

from kettlepost.core.budget import Limits
from kettlepost.core.clearing import EntryKind, FileEntry
from kettlepost.sources.file_access import OLD, KnownFolders, Listed, Refusal, Rename, Trouble, checked
from kettlepost.sources.ftp import FtpFolder, is_broken, said
from kettlepost.sources.ftp_listing import unwired, wired
from kettlepost.sources.ftp_session import Session
from kettlepost.sources.grouping import SourceEntry
from kettlepost.sources.remote import RemotePlace, Secrets

Result = TypeVar("Result")
_SECOND = 1_000_000_000
_IN_MEMORY = 1 << 20
"""Of what is read from a server to be written there again, so many bytes are kept in memory, the rest on this disk."""
_UNTELLABLE = frozenset("\r\n\0")
_MISSING = re.compile(r"no such|not found|(?:not|n't) exist")


class FtpFiles:
    """Looks before it renames, as servers let a new name take the place of a file without a word."""

    by_handles = False
    copies_itself = False
    unkept = "who may read and write a file where the server does not tell, and parts of a second of files' times"

    def __init__(self, place: RemotePlace, secrets: Secrets, taken: str, limits: Limits | None = None):
        self._source = FtpFolder(place, secrets, taken, limits)
        self.name = self._source.name
        self._base = place.path.rstrip("/")
        self._session: Session
        self._folders = KnownFolders()
        with self._source.told_errors():
            self._session = self._source.connect()
            self._session.voidcmd("TYPE I")
            with suppress(ftplib.error_perm):
                self._session.voidcmd("OPTS MLST type;size;modify;unique;unix.mode;")

    def look(self, path: str) -> FileEntry | None:
        folder = checked(path).rpartition("/")[0]
        try:
            entries = self._entries(folder)
        except Trouble as trouble:
            if trouble.refusal is Refusal.CHANGED:
                raise
            if folder and self.look(folder) is None:  # as servers have many words for it
                return None
            raise
        return next((entry for entry in entries if entry.path == path), None)

    def list_all(self, folders: Sequence[str]) -> Iterator[Listed]:
        for folder in folders:
            try:
                yield Listed(folder, self._entries(folder))
            except Trouble as trouble:
                yield Listed(folder, (), trouble)

    def rename_all(self, renames: Iterable[Rename]) -> Iterator[tuple[Rename, Trouble | None]]:
        for some in _alike(renames):
            done = yield from self._each(some, self._rename_or_say)
            after = self._by_path(_around(some[0].to)) if done else {}
            for rename in done:
                there = after.get(rename.to)
                if there is not None and rename.entry.is_moved(there):
                    yield rename, None
                    continue
                with suppress(Trouble):
                    self._rename(rename.to, rename.path)
                yield rename, Trouble(Refusal.CHANGED)

    def _each(
        self, some: list[Rename], do: Callable[[Rename], None]
    ) -> Generator[tuple[Rename, Trouble | None], None, list[Rename]]:
        """Do something with each of some things that lie in one folder and go to one, which are looked at once before.

        Gives those with which it was done, and yields the others.
        """
        try:
            before, taken = (self._by_path(_around(path)) for path in some[0][:2])
        except Trouble as trouble:
            yield from ((one, trouble) for one in some)
            return []
        done: list[Rename] = []
        for one in some:
            now = before.get(one.path)
            if now is None or not one.entry.is_still(now):
                yield one, Trouble(Refusal.MISSING if now is None else Refusal.CHANGED)
            elif one.to in taken:
                yield one, Trouble(Refusal.TAKEN)
            else:
                try:
                    do(one)
                    done.append(one)
                except Trouble as trouble:
                    yield one, trouble
        return done

    def _by_path(self, folder: str) -> dict[str, FileEntry]:
        return {entry.path: entry for entry in self._entries(folder)}

    def _rename_or_say(self, rename: Rename) -> None:
        if self._may_not_return(rename):
            raise Trouble(Refusal.REFUSED, "a link that leads nowhere from there may not come back")
        self._rename(rename.path, rename.to)

    def _may_not_return(self, rename: Rename) -> bool:
        """Whether it is a link that leads nowhere from its new place, to a server that would not see it there.

        Servers of old, which know no facts, look for what a link leads to before they rename it.
        """
        target = rename.entry.target
        if self._source.tells_facts or rename.entry.kind != "link" or target.startswith("/"):
            return False
        place = normpath(f"{_around(rename.to)}/{target}").lstrip("/")
        return place == ".." or place.startswith("../") or (place != "." and self.look(place) is None)

    def _rename(self, path: str, to: str) -> None:
        self._folders.forget(path)
        self._ask(lambda: self._session.rename(self._there(path), self._there(to)))

    def copy_all(self, copies: Iterable[Rename]) -> Iterator[tuple[Rename, Trouble | None]]:
        for some in _alike(copies):
            done = yield from self._each(some, self._copy)
            after, made = (self._by_path(_around(path)) for path in some[0][:2]) if done else ({}, {})
            for one in done:
                now, new = after.get(one.path), made.get(one.to)
                is_same = now is not None and one.entry.is_still(now)
                is_whole = is_same and new is not None and new.size == one.entry.size
                yield one, None if is_whole else Trouble(Refusal.CHANGED)

    def _copy(self, one: Rename) -> None:
        if one.entry.kind == "link":
            raise Trouble(Refusal.REFUSED, "FTP makes no links")
        there = self._there(one.to)
        with tempfile.SpooledTemporaryFile(_IN_MEMORY) as whole:  # as one connection reads or writes
            whole.writelines(self._pieces(one.path))
            whole.seek(0)
            self._ask(lambda: self._session.storbinary(f"STOR {there}", whole))
        self._give(one.to, one.entry)

    def _give(self, path: str, entry: FileEntry) -> None:
        """The permission bits of something, and the time of its last change."""
        if entry.mode >= 0:
            self.set_mode(path, entry.mode & 0o777)
        moment = time.strftime("%Y%m%d%H%M%S", time.gmtime(entry.changed // _SECOND))
        with suppress(Trouble):  # a server that sets no times keeps its own
            self._ask(lambda: self._session.voidcmd(f"MFMT {moment} {self._there(path)}"))

    def bring(self, entry: FileEntry, to: str, content: Iterable[bytes]) -> None:
        if entry.kind == "link":
            raise Trouble(Refusal.REFUSED, "FTP makes no links")
        self.write(to, content)
        self._give(to, entry)

    def put_over(self, path: str, to: str, entry: FileEntry) -> None:
        """By one renaming where a server lets that; else the old one is elsewhere for a moment."""
        now = self.look(to)
        if now is None or not entry.is_still(now):
            raise Trouble(Refusal.MISSING if now is None else Refusal.CHANGED)
        try:
            self._rename(path, to)
        except Trouble:
            self._rename(to, f"{path}{OLD}")
            try:
                self._rename(path, to)
            except Trouble:
                self._rename(f"{path}{OLD}", to)
                raise
            self.remove(f"{path}{OLD}")

    def make(self, folder: str, mode: int = 0o755) -> None:
        if self.look(folder) is not None:
            raise Trouble(Refusal.TAKEN)
        self._ask(lambda: self._session.mkd(self._there(folder)))
        self.set_mode(folder, mode)

    def set_mode(self, path: str, mode: int) -> None:
        with suppress(Trouble):  # a server that knows no modes keeps none
            self._ask(lambda: self._session.voidcmd(f"SITE CHMOD {mode:o} {self._there(path)}"))

    def read(self, path: str) -> Iterator[bytes]:
        entry = self.look(path)
        if entry is None or entry.kind != "file":
            raise Trouble(Refusal.MISSING if entry is None else Refusal.CHANGED)
        yield from self._pieces(path)

    def _pieces(self, path: str) -> Iterator[bytes]:
        self._ask(lambda: self._session.voidcmd("TYPE I"))
        with self._source.told_errors(), closing(self._session.pieces(f"RETR {self._there(path)}")) as pieces:
            first = self._ask(lambda: next(pieces, b""))
            while first:
                yield first
                first = next(pieces, b"")
            self._session.voidresp()

    def write(self, path: str, content: Iterable[bytes]) -> None:
        if self.look(path) is not None:
            raise Trouble(Refusal.TAKEN)
        with tempfile.SpooledTemporaryFile(_IN_MEMORY) as whole:  # as one connection reads or writes
            whole.writelines(content)
            size = whole.tell()
            whole.seek(0)
            self._ask(lambda: self._session.storbinary(f"STOR {self._there(path)}", whole))
        there = self.look(path)
        if there is None or there.size != size:
            raise Trouble(Refusal.REFUSED, "it was not written whole")

    def remove(self, path: str) -> None:
        self._see_around(path)
        self._ask(lambda: self._session.delete(self._there(path)))

    def remove_folder(self, path: str) -> None:
        self._see_around(path)
        self._folders.forget(path)
        self._ask(lambda: self._session.rmd(self._there(path)))

    def close(self) -> None:
        if self._session.sock is None:
            return
        with suppress(OSError, EOFError, ftplib.Error):
            self._session.quit()
        self._session.close()

    def _there(self, path: str) -> str:
        if not _UNTELLABLE.isdisjoint(checked(path)):
            raise Trouble(Refusal.NAMED)
        return wired(f"{self._base}/{path}" if path else self._base or "/")

    def _ask(self, what: Callable[[], Result]) -> Result:
        with self._source.told_errors():
            try:
                return what()
            except (ftplib.error_perm, ftplib.error_temp) as error:
                code = str(error)[:3]
                if is_broken(error):
                    raise
                text = str(error).lower()
                missing = code in ("450", "550") and _MISSING.search(text) is not None
                raise Trouble(Refusal.MISSING if missing else Refusal.REFUSED, said(error).lower()) from None

    def _see_around(self, path: str) -> None:
        """See that each folder on the way to a path is one: the server would follow a link. Raises Trouble."""
        for above in self._folders.unknown(checked(path)):
            around = self._list(_around(above))
            self._folders.see(above, next((entry for entry in around if entry.path == above), None))

    def _entries(self, folder: str) -> list[FileEntry]:
        self._see_around(f"{folder}/x" if folder else "x")
        entries = self._list(folder)
        self._folders.add(entries)
        return entries

    def _list(self, folder: str) -> list[FileEntry]:
        there = unwired(self._there(folder))
        found = self._ask(lambda: self._source.items(self._session, there))
        links = self._links(there)
        told = [item for item in found if item.path not in links] + list(links.values())
        self._source.budget.let_go()
        return [_entry(f"{folder}/{item.path}" if folder else item.path, item) for item in told]

    def _links(self, there: str) -> dict[str, SourceEntry]:
        """The symbolic links in a folder, which many servers list as what they lead to where facts are asked for."""
        try:
            listed = self._ask(lambda: self._source.long_items(self._session, there))
        except Trouble:
            return {}
        finally:  # servers lose their way once the folder that they stand in is gone
            with suppress(Trouble):
                self._ask(lambda: self._session.cwd(wired(self._base or "/")))
        return {item.path: item for item in listed if item.kind == "link"}


def _entry(path: str, item: SourceEntry) -> FileEntry:
    kinds: dict[str, EntryKind] = {"folder": "folder", "file": "file", "link": "link"}
    kind = kinds.get(item.kind, "odd")
    return FileEntry(
        path, kind, item.size if kind == "file" else 0, item.changed * _SECOND, item.mode, item.target, item.unique
    )


def _around(path: str) -> str:
    return path.rpartition("/")[0]


def _alike(renames: Iterable[Rename]) -> Iterator[list[Rename]]:
    """Renames from one folder to another, together."""
    some: list[Rename] = []
    for rename in renames:
        if some and (_around(some[0].path), _around(some[0].to)) != (_around(rename.path), _around(rename.to)):
            yield some
            some = []
        some.append(rename)
    if some:
        yield some
