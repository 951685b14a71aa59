"""A packed home folder as the source of a survey: read as a stream, never unpacked to disk."""

from __future__ import annotations

import bz2
import calendar
import gzip
import io
import lzma
import struct
import time
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.survey import Listing, Wanted
from kettlepost.sources.grouping import Home, SourceEntry, batched
from kettlepost.sources.tar import TapeError, tape_entries

ENDINGS = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz", ".tar.zst", ".tzst", ".zip")
LARGEST_DIRECTORY = 512 * 1024 * 1024
_DAMAGE = (
    TapeError, EOFError, zlib.error, lzma.LZMAError, zipfile.BadZipFile, struct.error, RuntimeError, ValueError,
    LookupError, OverflowError,
)  # fmt: skip
"""What readers of damaged archives raise (the encrypted and the unknown are RuntimeErrors of zipfile)."""


class Archive:
    """A .tar (plain, gzip, bzip2, xz, zstandard) or .zip of an account's home."""

    contents = True

    def __init__(self, path: Path, home: Home, limits: Limits | None = None):
        self._limits = limits
        self.path = path
        self.name = str(path)
        self._home = home

    def listings(self, wanted: Wanted, below: str = "") -> Iterator[Listing]:  # noqa: ARG002 (all has to be read)
        packed = self.name.lower().endswith(".zip")
        budget = Budget(self.name, self._limits, time.monotonic)
        try:
            with self.path.open("rb") as file:
                entries = _zip_entries(file, self._home, wanted, budget) if packed else self._tape(file, wanted, budget)
                yield from batched(entries, self._home, budget)
        except _DAMAGE as error:
            raise InputError(
                f"{printable(self.path)}: damaged or cut off ({printable(str(error)) or type(error).__name__}); "
                "pack or fetch it again"
            ) from None
        except OSError as error:
            if error.errno is None:  # gzip and bz2 report damage as an OSError without number
                raise InputError(
                    f"{printable(self.path)}: damaged ({printable(str(error))}); pack or fetch it again"
                ) from None
            raise OutsideError(f"{printable(self.path)}: cannot be read ({cause(error)})") from None

    def _tape(self, file: BinaryIO, wanted: Wanted, budget: Budget) -> Iterator[SourceEntry]:
        with _unpacked(file, self.path) as stream:
            if stream is file:
                yield from tape_entries(stream, self._home, wanted)
            else:
                yield from tape_entries(_Measured(stream, file, budget), self._home, wanted)  # type: ignore[arg-type]


class _Measured:
    """A stream that is unpacked from a file, with what comes out of it held against what went in."""

    def __init__(self, stream: BinaryIO, packed: BinaryIO, budget: Budget):
        self._stream = stream
        self._packed = packed
        self._budget = budget
        self._at = 0

    def read(self, size: int = -1) -> bytes:
        piece = self._stream.read(size)
        at = self._packed.tell()
        self._budget.read(max(at - self._at, 0))
        self._at = max(at, self._at)
        self._budget.unpack(len(piece))
        return piece


def _unpacked(file: BinaryIO, path: Path) -> BinaryIO:
    """The plain tape of a packed one, by its first bytes, whatever the file is called."""
    magic = file.read(6)
    file.seek(0)
    if magic.startswith(b"\x1f\x8b"):
        return gzip.GzipFile(fileobj=file)  # type: ignore[return-value]
    if magic.startswith(b"BZh"):
        return bz2.BZ2File(file)  # type: ignore[return-value]
    if magic.startswith(b"\xfd7zXZ"):
        return lzma.LZMAFile(file)  # type: ignore[return-value]
    if magic.startswith(b"\x28\xb5\x2f\xfd"):
        return _zstandard(file, path)
    return file


def _zstandard(file: BinaryIO, path: Path) -> BinaryIO:
    try:
        import zstandard
    except ImportError:
        raise InputError(
            f"{printable(path)}: zstandard archives want one more package", Remedy(Do.ADD_EXTRA, "zst")
        ) from None

    class Reader(io.RawIOBase):
        """Reads frame after frame, with the package's errors as this module's own."""

        def __init__(self) -> None:
            self._reader = zstandard.ZstdDecompressor(max_window_size=1 << 27).stream_reader(
                file, read_across_frames=True
            )

        def readable(self) -> bool:
            return True

        def readinto(self, buffer: bytearray) -> int:  # type: ignore[override]
            try:
                got: int = self._reader.readinto(buffer)
            except zstandard.ZstdError as error:
                raise TapeError(str(error)) from None
            return got

    return io.BufferedReader(Reader(), 1 << 20)  # type: ignore[type-var]


def _zip_entries(file: BinaryIO, home: Home, wanted: Wanted, budget: Budget) -> Iterator[SourceEntry]:
    _refuse_huge(file)
    with zipfile.ZipFile(file) as archive:
        # in the order of a walk, as packers may write members in any, and the directory is in hand
        for info in sorted(archive.infolist(), key=lambda info: info.filename.replace("/", "\0")):
            budget.line(len(info.filename))
            if info.flag_bits & 1:
                raise InputError(f"{archive.filename or 'the archive'} is encrypted; decrypt it first and survey that")
            path, mode = _zip_name(info), info.external_attr >> 16
            if info.is_dir():
                yield SourceEntry(path, "folder")
                continue
            kind = mode & 0o170000
            if kind == 0o120000:
                yield SourceEntry(path, "link", target=_zip_head(archive, info).decode("utf-8", "surrogateescape"))
            elif kind not in (0, 0o100000):
                yield SourceEntry(path, "odd")
            else:
                yield SourceEntry(
                    path, "file", info.file_size, _zip_time(info), head=_wanted_head(archive, info, path, home, wanted)
                )


def _refuse_huge(file: BinaryIO) -> None:
    """The directory of a zip is read whole, so one that would fill the memory is refused first."""
    end = file.seek(0, io.SEEK_END)
    file.seek(max(0, end - 66_000))
    tail = file.read()
    at = tail.rfind(b"PK\x05\x06")
    if at >= 0 and len(tail) >= at + 16:
        size = int.from_bytes(tail[at + 12 : at + 16], "little")
        if size > LARGEST_DIRECTORY and end > LARGEST_DIRECTORY:
            raise InputError("the zip's directory is larger than 512 MiB; pack the home as .tar instead")
    file.seek(0)


def _wanted_head(
    archive: zipfile.ZipFile, info: zipfile.ZipInfo, path: str, home: Home, wanted: Wanted
) -> bytes | None:
    name = path.rpartition("/")[2]
    if not wanted.has(name):
        return None
    place = home.relative(path)
    reading = wanted.ask(place.rpartition("/")[0], name, info.file_size) if place else None
    if reading is None:
        return None
    with archive.open(info) as opened:
        return reading(opened)  # type: ignore[arg-type]


def _zip_head(archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> bytes:
    with archive.open(info) as opened:
        return opened.read(4096)


def _zip_name(info: zipfile.ZipInfo) -> str:
    """The name in UTF-8, which is what Unix packers write even where they do not say so."""
    if info.flag_bits & 0x800:
        return info.filename
    try:
        return info.orig_filename.encode("cp437").decode("utf-8", "surrogateescape")
    except UnicodeEncodeError:
        return info.orig_filename


def _zip_time(info: zipfile.ZipInfo) -> int:
    """Seconds since 1970: from the extended timestamp (UTC), else from the DOS time taken as UTC."""
    extra = info.extra
    while len(extra) >= 4:
        tag, size = struct.unpack("<HH", extra[:4])
        if tag == 0x5455 and size >= 5 and len(extra) >= 9 and extra[4] & 1:
            return int.from_bytes(extra[5:9], "little", signed=True)
        extra = extra[4 + size :]
    return calendar.timegm((*info.date_time, 0, 0, 0))


def is_archive(path: Path) -> bool:
    return path.name.lower().endswith(ENDINGS)
