"""The files of an account behind an SFTP login (draft-ietf-secsh-filexfer-02): by paths, many requests at a time."""

from __future__ import annotations

import asyncio
import stat
import time
from collections.abc import Awaitable, Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from itertools import islice
from typing import Any, TypeVar

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.clearing import EntryKind, FileEntry
from kettlepost.core.errors import InputError
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.sources.file_access import OLD, KnownFolders, Listed, Refusal, Rename, Trouble, checked
from kettlepost.sources.grouping import NO_NAMES
from kettlepost.sources.remote import Asking, RemotePlace, Secrets
from kettlepost.sources.sftp import AT_ONCE, connect, new_loop, patiently, told_errors

Result = TypeVar("Result")
_PIECE = 1 << 16
_SECOND = 1_000_000_000


class SftpFiles:
    """Renames by the request that never takes the place of something (SSH_FXP_RENAME)."""

    by_handles = False
    unkept = "parts of a second of files' times"
    copies_itself = False

    def __init__(self, place: RemotePlace, secrets: Secrets, limits: Limits | None = None):
        try:
            import asyncssh  # noqa: F401 (to see that it is there)
        except ImportError:
            raise InputError("sftp:// wants one more package", Remedy.of(Action.ADD_EXTRA, "sftp")) from None
        self.name = str(place)
        self._place = place
        self._base = place.path.rstrip("/")
        self._budget = Budget(self.name, limits, time.monotonic)
        self._asking = Asking(secrets)
        self._loop = new_loop()
        self._connection: Any = None
        self._session: Any = None
        self._folders = KnownFolders()
        try:
            self._connection, self._session = self._run(connect(place, secrets, self._budget, self._asking))
            self.copies_itself = bool(self._session.supports_remote_copy)
        except BaseException:
            self._loop.close()
            raise

    def look(self, path: str) -> FileEntry | None:
        return self._run(self._look_safely(path))

    def list_all(self, folders: Sequence[str]) -> Iterator[Listed]:
        waiting = iter(folders)
        while some := list(islice(waiting, AT_ONCE)):
            yield from self._run(self._together(self._list(folder) for folder in some))

    def rename_all(self, renames: Iterable[Rename]) -> Iterator[tuple[Rename, Trouble | None]]:
        waiting = iter(renames)
        while some := list(islice(waiting, AT_ONCE)):
            self._run(self._look_around(some))
            yield from zip(some, self._run(self._together(self._rename(rename) for rename in some)), strict=True)

    def copy_all(self, copies: Iterable[Rename]) -> Iterator[tuple[Rename, Trouble | None]]:
        waiting = iter(copies)
        while some := list(islice(waiting, AT_ONCE)):
            self._run(self._look_around(some))
            yield from zip(some, self._run(self._together(self._copy(one) for one in some)), strict=True)

    async def _copy(self, one: Rename) -> Trouble | None:
        """By the request by which a server copies itself (copy-data), else through this machine, by pieces."""
        import asyncssh

        try:
            source, to = await self._see_both(one)
            if one.entry.kind == "link":
                await self._session.symlink(one.entry.target, to)
            else:
                async with self._session.open(source, "rb") as read, self._session.open(to, "xb") as written:
                    if self.copies_itself:
                        await self._session.remote_copy(read, written)
                    else:
                        while piece := await read.read(_PIECE):
                            self._budget.go_on()
                            await written.write(piece)
                seconds = one.entry.changed // _SECOND
                rights = asyncssh.SFTPAttrs(permissions=one.entry.mode & 0o777, atime=seconds, mtime=seconds)
                await self._give(one.to, rights)
            now, made = await self._look(one.path), await self._look(one.to)
            if now is None or made is None or not one.entry.is_still(now) or made.size != one.entry.size:
                return Trouble(Refusal.CHANGED)
        except Trouble as trouble:
            return trouble
        except _errors() as error:
            return _trouble(error)
        return None

    def bring(self, entry: FileEntry, to: str, content: Iterable[bytes]) -> None:
        import asyncssh

        if entry.kind == "link":
            self._ask(self._session.symlink(entry.target, self._there(to)))
            return
        self.write(to, content)
        seconds, mode = entry.changed // _SECOND, entry.mode & 0o777 if entry.mode >= 0 else 0o644
        self._ask(self._give(to, asyncssh.SFTPAttrs(permissions=mode, atime=seconds, mtime=seconds)))

    def put_over(self, path: str, to: str, entry: FileEntry) -> None:
        """By posix-rename@openssh.com; where a server has not got it, the old file is elsewhere for a moment."""

        async def put() -> None:
            import asyncssh

            await self._see_around(path)
            await self._see_around(to)
            now = await self._look(to)
            if now is None or not entry.is_still(now):
                raise Trouble(Refusal.MISSING if now is None else Refusal.CHANGED)
            try:
                await self._session.posix_rename(self._there(path), self._there(to))
            except asyncssh.SFTPOpUnsupported:
                there, old = self._there(to), self._there(f"{path}{OLD}")
                await self._session.rename(there, old)
                try:
                    await self._session.rename(self._there(path), there)
                except asyncssh.SFTPError:
                    await self._session.rename(old, there)
                    raise
                await self._session.remove(old)

        self._ask(put())

    def make(self, folder: str, mode: int = 0o755) -> None:
        import asyncssh

        async def make() -> None:
            there = self._there(folder)
            await self._see_around(folder)
            if await self._look(folder) is not None:
                raise Trouble(Refusal.TAKEN)
            await self._session.mkdir(there, asyncssh.SFTPAttrs(permissions=mode))
            made = await self._look(folder)
            if made is None or made.mode != mode:  # as the server was begun with another mask, or does not ask for one
                await self._session.chmod(there, mode, follow_symlinks=False)

        self._ask(make())

    def set_mode(self, path: str, mode: int) -> None:
        import asyncssh

        async def give() -> None:
            await self._see_around(path)
            await self._give(path, asyncssh.SFTPAttrs(permissions=mode))

        self._ask(give())

    async def _give(self, path: str, attributes: Any) -> None:
        """Set rights and times, of no link's target: by lsetstat@openssh.com, else after another look."""
        import asyncssh

        try:
            await self._session.setstat(self._there(path), attributes, follow_symlinks=False)
        except asyncssh.SFTPOpUnsupported:
            now = await self._look(path)
            if now is not None and now.kind == "link":
                return
            await self._session.setstat(self._there(path), attributes)

    def read(self, path: str) -> Iterator[bytes]:
        entry = self.look(path)
        if entry is None or entry.kind != "file":
            raise Trouble(Refusal.MISSING if entry is None else Refusal.CHANGED)
        file = self._ask(self._session.open(self._there(path), "rb"))
        try:
            while piece := self._ask(file.read(_PIECE)):
                yield piece
        finally:
            self._run(file.close())

    def write(self, path: str, content: Iterable[bytes]) -> None:
        if self.look(path) is not None:
            raise Trouble(Refusal.TAKEN)
        file = self._ask(self._session.open(self._there(path), "xb"))
        try:
            gathered = bytearray()
            for piece in content:
                gathered += piece
                if len(gathered) >= _PIECE:
                    self._ask(file.write(bytes(gathered)))
                    gathered.clear()
            self._ask(file.write(bytes(gathered)))
        finally:
            self._ask(file.close())

    def remove(self, path: str) -> None:
        self._ask(self._remove(path, self._session.remove))

    def remove_folder(self, path: str) -> None:
        self._folders.forget(path)
        self._ask(self._remove(path, self._session.rmdir))

    async def _remove(self, path: str, how: Callable[[str], Awaitable[None]]) -> None:
        await self._see_around(path)
        await how(self._there(path))

    def close(self) -> None:
        if self._loop.is_closed():
            return
        self._connection.abort()
        for task in asyncio.all_tasks(self._loop):
            task.cancel()
        self._loop.run_until_complete(asyncio.sleep(0))
        self._loop.close()

    def _there(self, path: str) -> str:
        return f"{self._base}/{checked(path)}" if path else self._base or "/"

    async def _see_around(self, path: str) -> None:
        """See that each folder on the way to a path is one: the server would follow a link. Raises Trouble."""
        for above in self._folders.unknown(checked(path)):
            self._folders.see(above, await self._look(above))

    async def _look_around(self, renames: Sequence[Rename]) -> None:
        """The same of the ways to many, each once; what is wrong with one is told when it is renamed."""
        for path in dict.fromkeys(_around(path) + "/x" for rename in renames for path in rename[:2]):
            with suppress(Trouble):
                await self._see_around(path)

    async def _look_safely(self, path: str) -> FileEntry | None:
        try:
            await self._see_around(path)
        except Trouble as trouble:
            if trouble.refusal is Refusal.MISSING:
                return None
            raise
        return await self._look(path)

    def _run(self, what: Awaitable[Result]) -> Result:
        async def done() -> Result:
            return await what

        self._budget.go_on()
        with told_errors(self._place, self._asking):
            return patiently(self._loop, done(), self._budget)

    async def _together(self, these: Iterable[Awaitable[Result]]) -> list[Result]:
        async def done(one: Awaitable[Result]) -> Result:
            found = await one
            self._budget.go_on()
            return found

        return list(await asyncio.gather(*map(done, these)))

    def _ask(self, what: Awaitable[Result]) -> Result:
        async def asked() -> Result:
            try:
                return await what
            except _errors() as error:
                raise _trouble(error) from None

        return self._run(asked())

    async def _look(self, path: str) -> FileEntry | None:
        try:
            about = await self._session.lstat(self._there(path))
            target = await self._session.readlink(self._there(path)) if _is_link(about) else ""
        except _errors() as error:
            trouble = _trouble(error)
            if trouble.refusal is Refusal.MISSING:
                return None
            raise trouble from None
        return _entry(path, about, target)

    async def _list(self, folder: str) -> Listed:
        entries = []
        try:
            await self._see_around(f"{folder}/x" if folder else "x")
            async for found in self._session.scandir(self._there(folder)):
                name = found.filename
                self._budget.entry()
                self._budget.go_on()
                if name in NO_NAMES or "/" in name:
                    continue
                path = f"{folder}/{name}" if folder else name
                target = await self._session.readlink(self._there(path)) if _is_link(found.attrs) else ""
                entries.append(_entry(path, found.attrs, target))
        except Trouble as trouble:
            return Listed(folder, (), trouble)
        except _errors() as error:
            return Listed(folder, (), _trouble(error))
        self._folders.add(entries)
        return Listed(folder, entries)

    async def _see_both(self, rename: Rename) -> tuple[str, str]:
        """Where a thing is and goes, for the server. Raises Trouble where it is another now, or something is there."""
        await self._see_around(rename.path)
        await self._see_around(rename.to)
        now = await self._look(rename.path)
        if now is None or not rename.entry.is_still(now):
            raise Trouble(Refusal.MISSING if now is None else Refusal.CHANGED)
        if await self._look(rename.to) is not None:
            raise Trouble(Refusal.TAKEN)
        return self._there(rename.path), self._there(rename.to)

    async def _rename(self, rename: Rename) -> Trouble | None:
        try:
            there, to = await self._see_both(rename)
            await self._session.rename(there, to)
            self._folders.forget(rename.path)
            now = await self._look(rename.to)
            if now is None or not rename.entry.is_moved(now):
                self._folders.forget(rename.to)
                await self._session.rename(to, there)
                return Trouble(Refusal.CHANGED)
        except Trouble as trouble:
            return trouble
        except _errors() as error:
            return _trouble(error)
        return None


def _around(path: str) -> str:
    return path.rpartition("/")[0]


def _errors() -> type[Exception]:
    import asyncssh

    return asyncssh.SFTPError


def _trouble(error: Exception) -> Trouble:
    """What the server refused; a connection that is lost goes on as an error of its own."""
    import asyncssh

    if isinstance(error, asyncssh.SFTPConnectionLost | asyncssh.SFTPNoConnection):
        raise error
    if isinstance(error, asyncssh.SFTPNoSuchFile | asyncssh.SFTPNoSuchPath):
        return Trouble(Refusal.MISSING)
    return Trouble(Refusal.REFUSED, printable(str(getattr(error, "reason", error)))[:200].lower())


def _is_link(about: Any) -> bool:
    return stat.S_ISLNK(about.permissions or 0)


def _entry(path: str, about: Any, target: str) -> FileEntry:
    permissions = about.permissions or 0
    kinds: dict[int, EntryKind] = {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link"}
    kind = kinds.get(stat.S_IFMT(permissions), "odd")
    size = (about.size or 0) if kind == "file" else 0
    return FileEntry(path, kind, size, (about.mtime or 0) * _SECOND, permissions & 0o7777, target)
