"""What lies in folders of this machine, for where `_folders.c`, which does the same, could not be compiled."""

from __future__ import annotations

import errno
import os
from collections.abc import Sequence
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
    whoever puts one there meanwhile. Raises OSError, for longer paths than a program could name as well."""
    if len(path) >= _LONGEST:
        raise OSError(errno.ENAMETOOLONG, os.strerror(errno.ENAMETOOLONG))
    handle = os.open(".", FOLDER, dir_fd=home)  # a duplicate would share how far it was read
    for name in path.split(b"/") if path else ():
        try:
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
