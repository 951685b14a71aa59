"""A folder of this machine as the source of a survey."""

from __future__ import annotations

import errno
import os
import stat
from collections import deque
from collections.abc import Iterable, Iterator
from pathlib import Path

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.secrets import masked_address
from kettlepost.core.survey import Listing, Reading, Wanted
from kettlepost.sources.folders import FOLDER, Job, Listed, open_below

try:
    from kettlepost.sources._folders import finish, start
except ImportError:
    from kettlepost.sources.folders import finish, start

AHEAD = 4
"""How many threads list folders, while what others have listed is looked at."""
SHARE = 64
"""How many folders each of them lists."""
_FILE = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC


class LocalFolder:
    """Walks a folder by handles, each opened from the one above without following links: no link leads out."""

    contents = True

    def __init__(self, path: Path):
        self.path = path
        self.name = str(path)

    @classmethod
    def open(cls, path: Path) -> LocalFolder:
        """Raises InputError when `path` is no folder, OutsideError when it cannot be read."""
        shown = masked_address(str(path))
        try:
            real = path.resolve(strict=True)
            os.close(os.open(real, FOLDER))
        except (FileNotFoundError, NotADirectoryError, RuntimeError):
            raise InputError(f"{printable(shown)} is no folder", Remedy(Action.NAME_HOME)) from None
        except OSError as error:
            raise OutsideError(
                f"{printable(shown)}: cannot be read ({cause(error)}); give yourself the right to read it"
            ) from None
        except ValueError:
            raise InputError("the folder's name holds a NUL", Remedy(Action.NAME_HOME)) from None
        return cls(real)

    def listings(self, wanted: Wanted, below: str = "") -> Iterator[Listing]:
        try:
            home = os.open(self.path, FOLDER)
        except OSError as error:
            raise OutsideError(f"{printable(masked_address(self.name))}: cannot be read ({cause(error)})") from None
        try:
            yield from self._below(home, wanted, below)
        finally:
            os.close(home)

    def _below(self, home: int, wanted: Wanted, begin: str) -> Iterator[Listing]:
        if begin and not _is_there(home, begin):
            return
        waiting = deque([begin])
        running: deque[tuple[list[str], Job]] = deque()
        while waiting or running:
            while waiting and len(running) < AHEAD:
                share = [waiting.popleft() for _ in range(min(SHARE, len(waiting)))]
                running.append((share, start(home, [os.fsencode(path) for path in share])))
            share, job = running.popleft()
            for path, listed in zip(share, finish(job), strict=True):
                yield self._listing(home, path, listed, waiting, wanted)

    def _listing(self, home: int, path: str, listed: Listed, waiting: deque[str], wanted: Wanted) -> Listing:
        """Make a listing of what was listed; the folders in it are added to `waiting`."""
        error, names, sizes, newest, folders, links, odd = listed
        listing = Listing(path, names, sizes, newest, links, odd, trouble=os.strerror(error).lower() if error else "")
        waiting.extend([f"{path}/{name}" for name in folders] if path else folders)
        if known := wanted.among(names):
            self._look_into(home, listing, known, wanted)
        return listing

    def _look_into(self, home: int, listing: Listing, names: Iterable[str], wanted: Wanted) -> None:
        try:
            folder = open_below(home, os.fsencode(listing.folder))
        except OSError:
            return  # it vanished since
        try:
            for name in names:
                reading = wanted.ask(listing.folder, name, listing.sizes[listing.names.index(name)])
                if reading is not None and (head := _head(folder, name, reading)) is not None:
                    listing.heads[name] = head
        finally:
            os.close(folder)


def _is_there(home: int, folder: str) -> bool:
    """Whether a folder is there; one that may not be opened is."""
    try:
        os.close(open_below(home, os.fsencode(folder)))
    except OSError as error:
        return error.errno not in (errno.ENOENT, errno.ENOTDIR, errno.ELOOP)
    return True


def _head(folder: int, name: str, reading: Reading) -> bytes | None:
    """What is to be kept of a file; None when it cannot be read, as it then speaks for nothing."""
    try:
        with open(name, "rb", opener=lambda path, _: os.open(path, _FILE, dir_fd=folder)) as opened:
            return reading(opened) if stat.S_ISREG(os.fstat(opened.fileno()).st_mode) else None
    except OSError:
        return None
