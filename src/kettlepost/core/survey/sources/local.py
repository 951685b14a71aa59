"""A folder of this machine as the source of a survey."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.survey.sources.interface import Listing, Reading, Wanted

_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_FILE = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC


class LocalFolder:
    """Walks a folder, opening each one without following links, so that no link leads out."""

    contents = True

    def __init__(self, path: Path):
        self.path = path
        self.name = str(path)

    @classmethod
    def open(cls, path: Path) -> LocalFolder:
        """Raises InputError when `path` is no folder, OutsideError when it cannot be read."""
        try:
            real = path.resolve(strict=True)
            os.close(os.open(real, _FOLDER))
        except (FileNotFoundError, NotADirectoryError, RuntimeError):
            raise InputError(f"{printable(path)} is no folder; name the account's home folder with --from") from None
        except OSError as error:
            raise OutsideError(
                f"{printable(path)}: cannot be read ({cause(error)}); give yourself the right to read it"
            ) from None
        except ValueError:
            raise InputError("--from holds a NUL; name the account's home folder") from None
        return cls(real)

    def listings(self, wanted: Wanted) -> Iterator[Listing]:
        yield from self.walk([""], wanted)

    def walk(self, waiting: list[str], wanted: Wanted) -> Iterator[Listing]:
        """List the folders in `waiting` and whatever they hold, taking them from there and adding to it."""
        home = str(self.path)
        while waiting:
            folder = waiting.pop()
            try:
                handle = os.open(f"{home}/{folder}", _FOLDER)
            except OSError as error:
                yield Listing.unread(folder, cause(error))
                continue
            try:
                yield _list(handle, folder, waiting, wanted)
            except OSError as error:
                yield Listing.unread(folder, cause(error))
            finally:
                os.close(handle)


def _list(handle: int, folder: str, waiting: list[str], wanted: Wanted) -> Listing:
    files: list[tuple[str, int, int]] = []
    links: list[tuple[str, str]] = []
    heads: dict[str, bytes] = {}
    names = wanted.names
    odd = 0
    inside = f"{folder}/" if folder else ""
    with os.scandir(handle) as entries:
        for entry in entries:
            name = entry.name
            try:
                if entry.is_file(follow_symlinks=False):
                    about = entry.stat(follow_symlinks=False)
                    size = about[6]  # by number, as names of a stat_result cost half of the loop
                    files.append((name, size, about[8]))  # type: ignore[arg-type]
                    if name in names and (reading := wanted.ask(folder, name, size)) is not None:
                        head = _head(handle, name, reading)
                        if head is not None:
                            heads[name] = head
                elif entry.is_dir(follow_symlinks=False):
                    waiting.append(inside + name)
                elif entry.is_symlink():
                    links.append((name, os.readlink(name, dir_fd=handle)))
                else:
                    odd += 1
            except OSError:
                odd += 1  # it vanished, or became something else, while the folder was read
    return Listing(folder, files, links, odd, heads)


def _head(handle: int, name: str, reading: Reading) -> bytes | None:
    """What is to be kept of a file; None when it may not be read, as it then speaks for nothing."""
    try:
        file = os.open(name, _FILE, dir_fd=handle)
    except OSError:
        return None
    with os.fdopen(file, "rb") as opened:
        return reading(opened)
