"""A packed copy of what is to be set aside: a tar archive, compressed by Zstandard, that was read again."""

from __future__ import annotations

import hashlib
import io
import tarfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from kettlepost.core.clearing import Manifest, ManifestItem
from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.sources import FileAccess, Trouble

_SECOND = 1_000_000_000


def pack(access: FileAccess, manifest: Manifest, to: Path) -> dict[str, str]:
    """Pack all that a manifest names, compare what was packed with it, and give the digests (SHA-256) of the files.

    Raises InputError where the file is there already or a package is missing, OutsideError where a file cannot be
    read, was changed meanwhile, or comes back otherwise; nothing is left behind then.
    """
    try:
        import zstandard
    except ImportError:
        raise InputError("--copy-here wants one more package", Remedy.of(Action.ADD_EXTRA, "zst")) from None
    try:
        with to.open("xb") as file:
            to.chmod(0o600)
            try:
                with zstandard.ZstdCompressor().stream_writer(file, closefd=False) as packed:
                    digests = _write(access, manifest, packed)
                file.flush()
            except BaseException:
                to.unlink(missing_ok=True)
                raise
        _verify(to, manifest, digests)
    except FileExistsError:
        raise InputError(f"{printable(to)} is there already; name a new file") from None
    except OSError as error:
        raise OutsideError(f"{printable(to)}: cannot be written ({cause(error)}); nothing was moved") from None
    return digests


def _write(access: FileAccess, manifest: Manifest, packed: Any) -> dict[str, str]:
    digests: dict[str, str] = {}
    with tarfile.open(fileobj=packed, mode="w|", format=tarfile.PAX_FORMAT, errors="surrogateescape") as tape:
        for item in manifest.items:
            about = tarfile.TarInfo(item.path)
            about.mtime = item.changed / _SECOND
            about.mode = item.mode if item.mode >= 0 else 0o644
            if item.kind == "folder":
                about.type = tarfile.DIRTYPE
                tape.addfile(about)
            elif item.kind == "link":
                about.type, about.linkname = tarfile.SYMTYPE, item.target
                tape.addfile(about)
            else:
                about.size = item.size
                stream = _Read(access, item)
                tape.addfile(about, stream)
                digests[item.path] = stream.digest()
    return digests


class _Read(io.RawIOBase):
    """What is in a file, as it is read, with its digest."""

    def __init__(self, access: FileAccess, item: ManifestItem):
        self._path = item.path
        self._size, self._seen = item.size, 0
        self._hash = hashlib.sha256()
        self._pieces: Iterator[bytes] = access.read(item.path)
        self._rest = b""

    def read(self, size: int = -1) -> bytes:
        """Read so many bytes, fewer at the end. Raises OutsideError where the file cannot be read."""
        try:
            while len(self._rest) < size and (piece := next(self._pieces, b"")):
                self._rest += piece
                self._seen += len(piece)
                self._hash.update(piece)
        except Trouble as trouble:
            raise OutsideError(f"{printable(self._path)}: {trouble}; nothing was moved") from None
        given, self._rest = self._rest[:size], self._rest[size:]
        if len(given) < size:
            raise OutsideError(f"{printable(self._path)}: was changed while it was read; nothing was moved: try again")
        return given

    def digest(self) -> str:
        """Of the whole file. Raises OutsideError where there was more of it than its size."""
        if self._rest or next(self._pieces, b"") or self._seen != self._size:
            raise OutsideError(f"{printable(self._path)}: was changed while it was read; nothing was moved: try again")
        return self._hash.hexdigest()


def _verify(path: Path, manifest: Manifest, digests: dict[str, str]) -> None:
    """Read the archive again. Raises OutsideError where it does not hold what it is to hold."""
    import zstandard

    wanted = {item.path: item for item in manifest.items}
    with path.open("rb") as file, zstandard.ZstdDecompressor().stream_reader(file) as packed:
        tape = tarfile.open(fileobj=packed, mode="r|", errors="surrogateescape")  # noqa: SIM115 (closed with the stream)
        for member in tape:
            item = wanted.pop(member.name.rstrip("/"), None)
            content = tape.extractfile(member) if member.isfile() else None
            found = hashlib.sha256()
            while content is not None and (piece := content.read(1 << 18)):
                found.update(piece)
            if item is None or (item.kind == "file" and found.hexdigest() != digests[item.path]):
                raise OutsideError(f"{printable(path)}: does not hold what was packed; nothing was moved: try again")
    if wanted:
        raise OutsideError(f"{printable(path)}: does not hold what was packed; nothing was moved: try again")
