"""What lies in folders of this machine, for where `_folders.c`, which does the same, could not be compiled."""

from __future__ import annotations

import ctypes
import errno
import os
import stat
from collections.abc import Sequence
from contextlib import suppress
from typing import Any

Listed = tuple[int, list[str], list[int], int, list[str], list[tuple[str, str]], int]
"""The errno of a folder that cannot be read, else 0; names of its plain files, their bytes, their newest change in
seconds since 1970; names of the folders in it; names and targets of the symbolic links; how many other things."""

_LONGEST = 4096
"""PATH_MAX of Linux."""
FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
"""How a folder is opened, so that no link in its place is followed."""


Job = Any
"""What `start` gives and `finish` takes."""


def open_below(home: int, path: bytes) -> int:
    """Open a folder step by step from the handle of the home, so that no link on the way is followed,
    whoever puts one there meanwhile. Raises OSError, also for longer paths than a program could name, and for an
    absolute one and one that climbs."""
    if len(path) >= _LONGEST:
        raise OSError(errno.ENAMETOOLONG, os.strerror(errno.ENAMETOOLONG))
    handle = os.open(".", FOLDER, dir_fd=home)  # a duplicate would share how far it was read
    for name in path.split(b"/") if path else ():
        try:
            if name in (b"", b".", b".."):
                raise OSError(errno.EINVAL, os.strerror(errno.EINVAL))
            below = os.open(name, FOLDER, dir_fd=handle)
        finally:
            os.close(handle)
        handle = below
    return handle


def start(home: int, paths: Sequence[bytes]) -> Job:
    """Begin to list each of `paths`, which lie below the folder that the handle `home` stands for.

    Here it is left for `finish`, there a thread begins.
    """
    return home, paths


def finish(job: Job) -> list[Listed]:
    """What lies in the folders of a job, once for each. What vanishes meanwhile counts among the other things."""
    home, paths = job
    return [_list(home, path) for path in paths]


Seen = tuple[bytes, bytes, int, int, int, int, int, bool]
"""A thing that is to be renamed: its name and the new one, the numbers of its device and itself, its bytes, when it
was changed and when anything of it was (0 where that is not to be compared), in nanoseconds, and whether it is a plain
file: else it is a folder, of which the numbers alone count."""
CHANGED_BEFORE, CHANGED_AFTER = -1, -2


def rename_all(around: int, to: int, items: list[Seen]) -> list[int]:
    """Rename things from one folder to another, by handles, if they are what they were, and still are afterwards.

    Gives for each 0, an errno, or that it was changed: before it was renamed, or after, when it was given its
    name back. No new name takes the place of something.
    """
    return [_rename(around, to, item) for item in items]


def rename_new(around: int, name: bytes, to: int, new: bytes) -> None:
    """Rename without ever taking the place of something, also where the file system cannot promise that itself.

    Raises OSError.
    """
    if _RENAME is not None:
        if _RENAME(around, name, to, new, _NOREPLACE) == 0:
            return
        number = ctypes.get_errno()
        if number not in (errno.EINVAL, errno.ENOSYS):
            raise OSError(number, os.strerror(number))
    with suppress(FileNotFoundError):
        os.stat(new, dir_fd=to, follow_symlinks=False)
        raise OSError(errno.EEXIST, os.strerror(errno.EEXIST))
    os.rename(name, new, src_dir_fd=around, dst_dir_fd=to)


def _renameat2() -> Any:
    try:
        return ctypes.CDLL(None, use_errno=True).renameat2
    except (OSError, AttributeError):
        return None


_RENAME = _renameat2()
_NOREPLACE = 1
"""RENAME_NOREPLACE of renameat2(2)."""


def _rename(around: int, to: int, item: Seen) -> int:
    name, new = item[:2]
    try:
        if not _is_still(item, os.stat(name, dir_fd=around, follow_symlinks=False), is_after=False):
            return CHANGED_BEFORE
        rename_new(around, name, to, new)
        with suppress(FileNotFoundError):
            if _is_still(item, os.stat(new, dir_fd=to, follow_symlinks=False), is_after=True):
                return 0
    except OSError as error:
        return error.errno or errno.EIO
    try:
        rename_new(to, new, around, name)
    except OSError:
        return 0  # it stays where it is now
    return CHANGED_AFTER


def _is_still(item: Seen, about: os.stat_result, is_after: bool) -> bool:
    _, _, device, number, size, changed, touched, is_file = item
    if (about.st_dev, about.st_ino) != (device, number):
        return False
    if not is_file:
        return stat.S_ISDIR(about.st_mode)
    same = stat.S_ISREG(about.st_mode) and (about.st_size, about.st_mtime_ns) == (size, changed)
    return same and (is_after or not touched or about.st_ctime_ns == touched)


def _list(home: int, path: bytes) -> Listed:
    names: list[str] = []
    sizes: list[int] = []
    folders: list[str] = []
    links: list[tuple[str, str]] = []
    newest = odd = error = 0
    try:
        handle = open_below(home, path)
    except OSError as failed:
        return failed.errno or 0, names, sizes, newest, folders, links, odd
    try:
        with os.scandir(handle) as entries:
            for entry in entries:
                name = entry.name
                try:
                    if entry.is_file(follow_symlinks=False):
                        about = entry.stat(follow_symlinks=False)
                        names.append(name)
                        sizes.append(about.st_size)
                        newest = max(newest, about.st_mtime_ns // 1_000_000_000)
                    elif entry.is_dir(follow_symlinks=False):
                        folders.append(name)
                    elif entry.is_symlink():
                        links.append((name, os.readlink(name, dir_fd=handle)))
                    else:
                        odd += 1
                except OSError:
                    odd += 1
    except OSError as failed:
        error = failed.errno or 0
    finally:
        os.close(handle)
    return error, names, sizes, newest, folders, links, odd
