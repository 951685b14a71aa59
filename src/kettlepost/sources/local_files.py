"""The files of an account on this machine: by handles, each opened from the one above without following links."""

from __future__ import annotations

import errno
import os
import stat
from collections import OrderedDict
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path

from kettlepost.core.clearing import FileEntry, is_plain
from kettlepost.core.errors import OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.sources.file_access import Listed, Refusal, Rename, Trouble, checked
from kettlepost.sources.folders import FOLDER, Seen, open_below, rename_new

try:
    from kettlepost.sources._folders import rename_all
except ImportError:
    from kettlepost.sources.folders import rename_all

_PIECE = 1 << 18
_OPEN = 48
"""How many folders are kept open."""
_TOGETHER = 256
"""How many things are renamed before anything else is seen to."""
_READING = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
_MAKING = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_LOST = frozenset((errno.EIO, errno.ESTALE, errno.ENOTCONN, errno.ETIMEDOUT))
_KINDS = {errno.ENOENT: Refusal.MISSING, errno.ENOTDIR: Refusal.MISSING, errno.ELOOP: Refusal.CHANGED,
          errno.EEXIST: Refusal.TAKEN, errno.ENOTEMPTY: Refusal.TAKEN, errno.EXDEV: Refusal.ELSEWHERE}  # fmt: skip


class LocalFiles:
    """Renames by handles of the folders around, so that no link that is put in a folder's place leads out."""

    by_handles = True
    unkept = ""
    copies_itself = True

    def __init__(self, home: Path):
        self.name = str(home)
        try:
            self._home = os.open(home, FOLDER)
        except OSError as error:
            raise OutsideError(f"{printable(home)}: cannot be read ({cause(error)})") from None
        self._open: OrderedDict[str, int] = OrderedDict()
        self._is_superuser = os.geteuid() == 0
        about = os.fstat(self._home)
        self._owner = (about.st_uid, about.st_gid)

    def look(self, path: str) -> FileEntry | None:
        try:
            folder, name = self._around(path)
            return _entry(path, name, folder)
        except OSError as error:
            if error.errno in (errno.ENOENT, errno.ENOTDIR):
                return None
            raise _trouble(error) from None

    def list_all(self, folders: Sequence[str]) -> Iterator[Listed]:
        for path in folders:
            try:
                folder = self._handle(path)
                with os.scandir(folder) as found:
                    names = [entry.name for entry in found]
                entries = []
                for name in names:
                    with suppress(FileNotFoundError):
                        entries.append(_entry(f"{path}/{name}" if path else name, name, folder))
                yield Listed(path, entries)
            except Trouble as trouble:
                yield Listed(path, (), trouble)
            except OSError as error:
                yield Listed(path, (), _trouble(error))

    def rename_all(self, renames: Iterable[Rename]) -> Iterator[tuple[Rename, Trouble | None]]:
        """Those from one folder to another together, as far as they are files or folders."""
        some: list[Rename] = []
        beside = "", ""
        for rename in renames:
            if not (is_plain(rename.path) and is_plain(rename.to)):
                yield rename, Trouble(Refusal.ASTRAY)
                continue
            places = rename.path.rpartition("/")[0], rename.to.rpartition("/")[0]
            if places != beside or len(some) >= _TOGETHER:
                yield from self._rename_some(some)
                some, beside = [], places
            if rename.entry.kind in ("file", "folder"):
                some.append(rename)
                continue
            yield from self._rename_some(some)
            some = []
            yield rename, self._rename(rename)
        yield from self._rename_some(some)

    def _rename_some(self, renames: Sequence[Rename]) -> Iterator[tuple[Rename, Trouble | None]]:
        if not renames:
            return
        around, to = (path.rpartition("/")[0] for path in renames[0][:2])
        try:
            told = rename_all(self._handle(around), self._handle(to), list(map(_seen, renames)))
        except OSError as error:
            yield from ((rename, _trouble(error)) for rename in renames)
            return
        for rename, number in zip(renames, told, strict=True):
            if rename.entry.kind == "folder":  # what is open goes by where it was
                self._forget(rename.path)
                self._forget(rename.to)
            if number > 0:
                yield rename, _trouble(OSError(number, os.strerror(number)))
            else:
                yield rename, Trouble(Refusal.CHANGED) if number else None

    def _rename(self, rename: Rename) -> Trouble | None:
        """Rename a link, or something else, that is neither file nor folder."""
        entry = rename.entry
        try:
            folder, name = self._around(rename.path)
            there, new = self._around(rename.to)
            if not entry.is_still(_entry(entry.path, name, folder)):
                return Trouble(Refusal.CHANGED)
            rename_new(folder, name, there, new)
            if entry.is_moved(_entry(entry.path, new, there)):
                return None
            with suppress(OSError):  # else it stays where it is now, whatever it is
                rename_new(there, new, folder, name)
                return Trouble(Refusal.CHANGED)
        except OSError as error:
            return _trouble(error)
        return None

    def copy_all(self, copies: Iterable[Rename]) -> Iterator[tuple[Rename, Trouble | None]]:
        for one in copies:
            try:
                yield one, self._copy(one)
            except Trouble as trouble:
                yield one, trouble
            except OSError as error:
                yield one, _trouble(error)

    def _copy(self, one: Rename) -> Trouble | None:
        folder, name = self._around(one.path)
        there, new = self._around(one.to)
        if one.entry.kind == "link":
            if not one.entry.is_still(_entry(one.path, name, folder)):
                return Trouble(Refusal.CHANGED)
            os.symlink(os.fsencode(one.entry.target), new, dir_fd=there)
            os.utime(new, ns=(one.entry.changed, one.entry.changed), dir_fd=there, follow_symlinks=False)
            if self._is_superuser:
                os.chown(new, *self._owner, dir_fd=there, follow_symlinks=False)
            return None
        source = os.open(name, _READING, dir_fd=folder)
        try:
            before = os.fstat(source)
            if not _is_same(one.entry, before):
                return Trouble(Refusal.CHANGED)
            target = os.open(new, _MAKING, 0o600, dir_fd=there)
            try:
                _copy_bytes(source, target, before.st_size)
                if self._is_superuser:
                    os.fchown(target, before.st_uid, before.st_gid)  # nobody gets to read what was not theirs
                os.fchmod(target, before.st_mode & 0o777)
                os.utime(target, ns=(before.st_atime_ns, before.st_mtime_ns))
            finally:
                os.close(target)
            return None if _is_same(one.entry, os.fstat(source)) else Trouble(Refusal.CHANGED)
        finally:
            os.close(source)

    def bring(self, entry: FileEntry, to: str, content: Iterable[bytes]) -> None:
        try:
            there, new = self._around(to)
            if entry.kind == "link":
                os.symlink(os.fsencode(entry.target), new, dir_fd=there)
                os.utime(new, ns=(entry.changed, entry.changed), dir_fd=there, follow_symlinks=False)
                if self._is_superuser:
                    os.chown(new, *self._owner, dir_fd=there, follow_symlinks=False)
                return
            with os.fdopen(os.open(new, _MAKING, 0o600, dir_fd=there), "wb") as file:
                file.writelines(content)
                file.flush()
                self._give_away(file.fileno())
                os.fchmod(file.fileno(), entry.mode & 0o777 if entry.mode >= 0 else 0o644)
                os.utime(file.fileno(), ns=(entry.changed, entry.changed))
        except OSError as error:
            raise _trouble(error) from None

    def put_over(self, path: str, to: str, entry: FileEntry) -> None:
        try:
            folder, name = self._around(path)
            there, new = self._around(to)
            about = os.stat(name, dir_fd=folder, follow_symlinks=False)
            if not stat.S_ISREG(about.st_mode) or not entry.is_still(_entry(to, new, there)):
                raise Trouble(Refusal.CHANGED)
            os.rename(name, new, src_dir_fd=folder, dst_dir_fd=there)
            os.fsync(there)
        except OSError as error:
            raise _trouble(error) from None

    def make(self, folder: str, mode: int = 0o755) -> None:
        try:
            around, name = self._around(folder)
            os.mkdir(name, 0o700, dir_fd=around)
            handle = os.open(name, FOLDER, dir_fd=around)
            try:
                self._give_away(handle)
                os.fchmod(handle, mode)
            finally:
                os.close(handle)
        except OSError as error:
            raise _trouble(error) from None

    def set_mode(self, path: str, mode: int) -> None:
        try:
            around, name = self._around(path)
            handle = os.open(name, _READING, dir_fd=around)
            try:
                os.fchmod(handle, mode)
            finally:
                os.close(handle)
        except OSError as error:
            raise _trouble(error) from None

    def read(self, path: str) -> Iterator[bytes]:
        try:
            around, name = self._around(path)
            handle = os.open(name, _READING, dir_fd=around)
        except OSError as error:
            raise _trouble(error) from None
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            os.close(handle)
            raise Trouble(Refusal.CHANGED, "it is no plain file")
        with os.fdopen(handle, "rb", buffering=0) as file:
            try:
                while piece := file.read(_PIECE):
                    yield piece
            except OSError as error:
                raise _trouble(error) from None

    def write(self, path: str, content: Iterable[bytes]) -> None:
        try:
            around, name = self._around(path)
            with os.fdopen(os.open(name, _MAKING, 0o600, dir_fd=around), "wb") as file:
                self._give_away(file.fileno())
                file.writelines(content)
                file.flush()
                os.fsync(file.fileno())
            os.fsync(around)
        except OSError as error:
            raise _trouble(error) from None

    def remove(self, path: str) -> None:
        self._unlink(path, os.unlink)

    def remove_folder(self, path: str) -> None:
        self._forget(path)
        self._unlink(path, os.rmdir)

    def _unlink(self, path: str, how: object) -> None:
        try:
            around, name = self._around(path)
            how(name, dir_fd=around)  # type: ignore[operator]
        except OSError as error:
            raise _trouble(error) from None

    def close(self) -> None:
        for handle in (*self._open.values(), self._home):
            if handle >= 0:
                os.close(handle)
        self._open.clear()
        self._home = -1

    def _around(self, path: str) -> tuple[int, bytes]:
        folder, _, name = path.rpartition("/")
        checked(name if folder in self._open else path)  # a folder that is open was checked
        return self._handle(folder), os.fsencode(name)

    def _handle(self, folder: str) -> int:
        """A folder, kept open; one that was given another name meanwhile stays the same folder."""
        if not folder:
            return self._home
        handle = self._open.get(folder)
        if handle is None:
            handle = open_below(self._home, os.fsencode(checked(folder)))
            self._open[folder] = handle
            if len(self._open) > _OPEN:
                os.close(self._open.popitem(last=False)[1])
        else:
            self._open.move_to_end(folder)
        return handle

    def _forget(self, path: str) -> None:
        for folder in [one for one in self._open if one == path or one.startswith(path + "/")]:
            os.close(self._open.pop(folder))

    def _give_away(self, handle: int) -> None:
        """What the superuser makes in somebody's home is theirs."""
        if self._is_superuser:
            os.fchown(handle, *self._owner)


def _entry(path: str, written: str | bytes, folder: int) -> FileEntry:
    name = os.fsencode(written)
    about = os.stat(name, dir_fd=folder, follow_symlinks=False)
    mode = about.st_mode
    identity = f"{about.st_dev:x}:{about.st_ino:x}"
    if stat.S_ISREG(mode):
        size, changed = about.st_size, about.st_mtime_ns
        stamp = about.st_ctime_ns if about.st_nlink == 1 else 0  # which giving another of its names a new one changes
        return FileEntry(path, "file", size, changed, mode & 0o7777, "", identity, stamp)
    if stat.S_ISLNK(mode):
        target = os.fsdecode(os.readlink(name, dir_fd=folder))
        return FileEntry(path, "link", 0, about.st_mtime_ns, mode & 0o7777, target, identity)
    kind = "folder" if stat.S_ISDIR(mode) else "odd"
    return FileEntry(path, kind, 0, about.st_mtime_ns, mode & 0o7777, "", identity)  # type: ignore[arg-type]


def _is_same(entry: FileEntry, about: os.stat_result) -> bool:
    """Whether an open file is the plain one that was looked at, as it was then."""
    known = (f"{about.st_dev:x}:{about.st_ino:x}", about.st_size, about.st_mtime_ns)
    return stat.S_ISREG(about.st_mode) and known == (entry.identity, entry.size, entry.changed)


def _copy_bytes(source: int, target: int, size: int) -> None:
    """Copy what an open file holds, within the kernel where it can."""
    if size > _PIECE:
        with suppress(OSError):
            while os.copy_file_range(source, target, 1 << 30):
                pass
            return
        os.lseek(source, 0, os.SEEK_SET)
        os.lseek(target, 0, os.SEEK_SET)
        os.ftruncate(target, 0)
    while piece := os.read(source, _PIECE):
        view = memoryview(piece)
        while view:
            view = view[os.write(target, view) :]


def _seen(rename: Rename) -> Seen:
    path, to, entry = rename
    device, _, number = entry.identity.partition(":")
    return (
        path[path.rfind("/") + 1 :].encode("utf-8", "surrogateescape"),
        to[to.rfind("/") + 1 :].encode("utf-8", "surrogateescape"),
        int(device or "0", 16), int(number or "0", 16), entry.size, entry.changed, entry.stamp, entry.kind == "file",
    )  # fmt: skip


def _trouble(error: OSError) -> Trouble:
    if error.errno in _LOST:
        raise OutsideError(f"the disk failed ({cause(error)})") from None
    return Trouble(_KINDS.get(error.errno or 0, Refusal.REFUSED), cause(error))
