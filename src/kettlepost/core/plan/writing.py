"""Writing a file whole or not at all."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable
from pathlib import Path

from kettlepost.core.errors import OutsideError, cause
from kettlepost.core.names import printable


def write_whole(path: Path, content: bytes | Iterable[bytes], keep: Path | None = None) -> None:
    """Put `content` at `path` so that at every moment the old or the new file is there, whole.

    Its permissions stay those of the old file, which is found at `keep` from then on if that is
    given. Raises OutsideError when the disk refuses.
    """
    temporary = None
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        with os.fdopen(handle, "wb") as file:
            os.fchmod(file.fileno(), _mode(path))
            file.writelines([content] if isinstance(content, bytes) else content)
            file.flush()
            os.fsync(file.fileno())
        if keep is not None:
            _keep(path, keep)
        os.replace(temporary, path)
        temporary = None
        _sync_folder(path.parent)
    except OSError as error:
        raise OutsideError(
            f"{printable(path)}: cannot be written ({cause(error)}); nothing was changed: "
            "make room or give yourself the right to write there, then run this again"
        ) from None
    finally:
        if temporary is not None:
            Path(temporary).unlink(missing_ok=True)


OWN_FOLDER = ".kettlepost"
"""What the program keeps for itself in a plan folder."""


def own_folder(folder: Path) -> Path:
    """The folder of a plan folder in which the program keeps what is its own, out of version control.

    Raises OSError or OutsideError when it cannot be made.
    """
    place = folder / OWN_FOLDER
    place.mkdir(exist_ok=True)
    if not (place / ".gitignore").exists():
        write_whole(place / ".gitignore", b"*\n")
    return place


def _keep(path: Path, keep: Path) -> None:
    """Let `keep` be what `path` is now, by a second name for it, so that neither is ever half there."""
    second = keep.with_name(f".{keep.name}.{os.getpid()}")
    try:
        os.link(path, second)
    except FileNotFoundError:
        return  # there is no old file
    except OSError:
        write_whole(keep, path.read_bytes())  # a file system without second names
        return
    os.replace(second, keep)


def _mode(path: Path) -> int:
    if path.exists():
        return path.stat().st_mode & 0o777
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
