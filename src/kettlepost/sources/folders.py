"""What lies in folders of this machine, for where `_folders.c`, which does the same, could not be compiled."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any

Listed = tuple[int, list[str], list[int], int, list[str], list[tuple[str, str]], int]
"""The errno of a folder that cannot be read, else 0; names of its plain files, their bytes, their newest change in
seconds since 1970; names of the folders in it; names and targets of the symbolic links; how many other things."""

FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
"""How a folder is opened, so that no link in its place is followed."""


Job = Any
"""What `start` gives and `finish` takes."""


def start(paths: Sequence[bytes]) -> Job:
    """Begin to list each of `paths`, which are no links; here it is left for `finish`, there a thread begins."""
    return paths


def finish(job: Job) -> list[Listed]:
    """What lies in the folders of a job, once for each. What vanishes meanwhile counts among the other things."""
    return [_list(path) for path in job]


def _list(path: bytes) -> Listed:
    names: list[str] = []
    sizes: list[int] = []
    folders: list[str] = []
    links: list[tuple[str, str]] = []
    newest = odd = error = 0
    try:
        handle = os.open(path, FOLDER)
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
