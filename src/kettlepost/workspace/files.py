"""Files of a plan folder: read without ever waiting on them, written whole or not at all."""

from __future__ import annotations

import errno
import os
import re
import stat
import tempfile
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable

OWN_FOLDER = ".kettlepost"
"""What the program keeps for itself in a plan folder."""
OLD = 15 * 60.0
"""How many seconds after its last change a temporary file is nobody's any more."""
_TEMPORARY = re.compile(
    r"\.(?:[^/]+\.(?:toml|json|names|pending)|checked|hosts|weighed|\.gitignore)\.[A-Za-z0-9_]{6,8}"
)
"""How `write_whole` calls a file that is being written."""


class NotWritten(OutsideError):
    """A file that the disk refused to have written, or taken away; `is_as_it_was` whether that is known of the file.

    Of other files it says nothing: whoever knows that they are as they were says so by `with_nothing_changed`.
    """

    def __init__(self, path: Path, error: OSError, is_as_it_was: bool = True):
        self.path, self.reason = path, cause(error)
        now = "" if not is_as_it_was else " and is as it was"
        super().__init__(f"{printable(path)}: cannot be written ({self.reason}){now}: {_MAKE_ROOM}")

    def with_nothing_changed(self) -> OutsideError:
        words = f"{printable(self.path)}: cannot be written ({self.reason}); nothing was changed: {_MAKE_ROOM}"
        return OutsideError(words)

    def __reduce__(self) -> tuple[object, ...]:
        return OutsideError, (str(self),)


_MAKE_ROOM = "make room or give yourself the right to write there, then run this again"


def read_at_most(path: str | Path, most: int, follow: bool = True) -> bytes:
    """What the plain file `path` holds, or its first `most` bytes and one more.

    Raises OSError, also for what is no plain file, such as a pipe, which is never waited for, and
    for a symbolic link unless `follow`. Memory is asked for by the file's size, not by `most`.
    """
    file = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | (0 if follow else os.O_NOFOLLOW))
    try:
        about = os.fstat(file)
        if not stat.S_ISREG(about.st_mode):
            raise OSError(0, "it is no plain file")
        first = os.read(file, min(about.st_size, most) + 1)
        if len(first) == about.st_size and about.st_size:
            return first
        parts = [first]  # it changed while it was read, or is larger than it may be
        while parts[-1] and sum(map(len, parts)) <= most:
            parts.append(os.read(file, 1 << 16))
        return b"".join(parts)[: most + 1]
    finally:
        os.close(file)


def read_table(path: Path, most: int = 16 * 1024 * 1024) -> bytes:
    """What a file that the user names holds, and a little more than `most` at the most. Raises InputError."""
    try:
        return read_at_most(path, most)
    except OSError as error:
        raise InputError(f"{printable(path)}: cannot be read ({cause(error)})") from None


def write_whole(
    path: Path, content: bytes | Iterable[bytes], keep: Path | None = None, mode: int | None = None, group: int = -1
) -> None:
    """Put `content` at `path` so that at every moment the old or the new file is there, whole.

    Its permissions and its group stay those of the old file, which is found at `keep` from then on
    if that is given; `mode` and `group` say other ones. Raises OutsideError when the disk refuses.
    """
    temporary, handle = None, None
    try:
        path.parent.mkdir(mode=0o775, parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            _give_rights(file.fileno(), path, mode, group)
            file.writelines([content] if isinstance(content, bytes) else content)
            file.flush()
            os.fsync(file.fileno())
        if keep is not None:
            _keep(path, keep)
        os.replace(temporary, path)
        temporary = None
        _sync_folder(path.parent)
    except OSError as error:
        raise NotWritten(path, error, is_as_it_was=temporary is not None or handle is None) from None
    finally:
        if temporary is not None:
            Path(temporary).unlink(missing_ok=True)


def write_new(path: Path, content: bytes, mode: int = 0o600) -> None:
    """Put `content` at `path`, whole. Raises OutsideError where something is there, or the disk refuses."""
    temporary = None
    try:
        path.parent.mkdir(mode=0o775, parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            os.fchmod(file.fileno(), mode)
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        os.link(temporary, path)  # which never takes the place of something
        _sync_folder(path.parent)
    except FileExistsError:
        raise OutsideError(f"{printable(path)}: was made by somebody else meanwhile; try again") from None
    except OSError as error:
        raise NotWritten(path, error, is_as_it_was=False) from None
    finally:
        if temporary is not None:
            Path(temporary).unlink(missing_ok=True)


def append_whole(path: Path, content: bytes) -> None:
    """Add lines behind those of a plain file, which is begun where it is not there; a line that broke off is ended.

    Raises OSError when the disk refuses, or it is a link or no plain file.
    """
    handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_NONBLOCK, 0o666)
    try:
        known = os.fstat(handle)
        if not stat.S_ISREG(known.st_mode):
            raise OSError(errno.EINVAL, "it is no plain file")
        if known.st_size and os.pread(handle, 1, known.st_size - 1) != b"\n":
            content = b"\n" + content
        while content:
            content = content[os.write(handle, content) :]
        os.fsync(handle)
    finally:
        os.close(handle)


@contextmanager
def being_written(path: Path) -> Iterator[BinaryIO]:
    """A file to write to that is at `path`, whole, once the block ends well, and nowhere where it does not.

    Raises OutsideError when the disk refuses.
    """
    temporary = None
    try:
        path.parent.mkdir(mode=0o775, parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            _give_rights(file.fileno(), path, None, -1)
            yield file
        os.replace(temporary, path)
        temporary = None
    except OSError as error:
        raise NotWritten(path, error) from None
    finally:
        if temporary is not None:
            Path(temporary).unlink(missing_ok=True)


def remove(path: Path) -> None:
    """Take a file out, for good once this returns. Raises OutsideError when the disk refuses."""
    try:
        path.unlink(missing_ok=True)
        _sync_folder(path.parent)
    except OSError as error:
        raise NotWritten(path, error, is_as_it_was=os.path.lexists(path)) from None


def own_folder(folder: Path) -> Path:
    """The folder in which the program keeps what is its own, made if need be, out of version control.

    Raises InputError when it is not to be trusted, OSError or OutsideError when it cannot be made.
    """
    place = folder / OWN_FOLDER
    refuse_strangers(folder)
    if not place.exists():
        place.mkdir(mode=0o775, exist_ok=True)  # whatever the mask: never for anybody to write to
    if not (place / ".gitignore").exists():
        write_whole(place / ".gitignore", b"*\n", mode=0o644)
    return place


def refuse_strangers(folder: Path) -> None:
    """See that nobody but those who keep the plan can have written what the program keeps for itself.

    A plan folder shared by a group is well. Raises InputError for one that anybody may write to,
    and for an own folder that is a link, no folder, or a stranger's.
    """
    try:
        plan = os.stat(folder)
        if plan.st_mode & stat.S_IWOTH:
            raise InputError(
                f"{printable(folder)}: anybody may write to this plan folder; "
                f"take that right away first: chmod o-w {printable(folder)}"
            )
        place = folder / OWN_FOLDER
        about = os.lstat(place)
    except FileNotFoundError:
        return
    except OSError as error:
        raise OutsideError(f"{printable(folder)}: cannot be looked at ({cause(error)})") from None
    if stat.S_ISLNK(about.st_mode) or not stat.S_ISDIR(about.st_mode):
        raise InputError(f"{printable(place)}: is no folder of its own; remove it, and what is needed is made anew")
    shared = plan.st_mode & stat.S_IWGRP and about.st_gid == plan.st_gid
    if (about.st_uid not in (os.geteuid(), plan.st_uid, 0) and not shared) or about.st_mode & stat.S_IWOTH:
        raise InputError(
            f"{printable(place)}: a stranger's, or anybody may write to it; remove it, and what is needed is made anew"
        )


def is_trusted(folder: Path) -> bool:
    """Whether what the program keeps for itself in a plan folder may be believed."""
    try:
        refuse_strangers(folder)
    except (InputError, OutsideError):
        return False
    return True


def is_plain(path: Path) -> bool:
    """Whether a plain file is there, and no link to one."""
    try:
        return stat.S_ISREG(os.lstat(path).st_mode)
    except OSError:
        return False


def clear_temporary(folders: Iterable[Path]) -> None:
    """Remove what runs of the program that were killed have left half written: what is old and ours."""
    oldest = time.time() - OLD
    for folder in folders:
        with suppress(OSError), os.scandir(folder) as entries:
            for entry in entries:
                if not _TEMPORARY.fullmatch(entry.name) or not entry.is_file(follow_symlinks=False):
                    continue
                about = entry.stat(follow_symlinks=False)
                if about.st_uid == os.geteuid() and about.st_mtime < oldest:
                    with suppress(OSError):
                        os.unlink(entry.path)


def _give_rights(handle: int, path: Path, mode: int | None, group: int) -> None:
    """Let a new file have the rights of the one it takes the place of, and no more of them for anybody."""
    known = None
    with suppress(OSError):
        known = os.stat(path)
    if mode is None:
        mode = stat.S_IMODE(known.st_mode) & 0o777 if known is not None else 0o666 & ~_umask()
    if group < 0 and known is not None:
        group = known.st_gid
    if group >= 0 and os.fstat(handle).st_gid != group:
        try:
            os.fchown(handle, -1, group)
        except OSError:
            mode &= ~0o070 | (mode & 0o007) << 3  # the group it has instead may do what anybody may
    os.fchmod(handle, mode)


def _umask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask


def _keep(path: Path, keep: Path) -> None:
    """Let `keep` be what `path` is now, by a second name for it, so that neither is ever half there."""
    second = keep.with_name(f".{keep.name}.{os.getpid():06}")
    try:
        os.link(path, second)
    except FileNotFoundError:
        return  # there is no old file
    except OSError:
        write_whole(keep, path.read_bytes())  # a file system without second names
        return
    os.replace(second, keep)


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
