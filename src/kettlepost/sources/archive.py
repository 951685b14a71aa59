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
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any, BinaryIO, cast

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import Listing, Wanted
from kettlepost.sources.grouping import Home, SourceEntry, batched
from kettlepost.sources.tar import TapeError, tape_entries

ENDINGS = (".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tbz2", ".tar.xz", ".txz", ".tar.zst", ".tzst", ".zip")
_OF_A_DIRECTORY = 7
"""How many times as much memory as the directory of a zip is large it takes to hold it; measured."""
_BESIDE = 1 << 20
"""What a packer wants besides what it looks back to."""
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
        except NotImplementedError:
            raise InputError(
                f"{printable(self.path)}: packed in a way that is not read here; pack it with Deflate, or as .tar.gz"
            ) from None
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
        with _unpacked(file, self.path, budget.limits.window) as stream:
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


def _unpacked(file: BinaryIO, path: Path, window: int) -> BinaryIO:
    """The plain tape of a packed one, by its first bytes, whatever the file is called."""
    magic = file.read(6)
    file.seek(0)
    if magic.startswith(b"\x1f\x8b"):
        return gzip.GzipFile(fileobj=file)  # type: ignore[return-value]
    if magic.startswith(b"BZh"):
        return bz2.BZ2File(file)  # type: ignore[return-value]
    if magic.startswith(b"\xfd7zXZ"):
        return io.BufferedReader(_Pieces(file, lambda: lzma.LZMADecompressor(memlimit=window + _BESIDE)), 1 << 20)  # type: ignore[type-var]
    if magic.startswith(b"\x28\xb5\x2f\xfd"):
        return _zstandard(file, path, window)
    return file


class _Pieces(io.RawIOBase):
    """Unpacks one stream after the other, never more at a time than is asked for, with the memory that `start` grants.

    Python's own readers of these forms take whatever memory a packer asks for.
    """

    def __init__(self, file: BinaryIO, start: Callable[[], Any], most: int | None = None):
        self._file, self._start, self._unpacker, self._left = file, start, start(), most
        self._waiting = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: bytearray) -> int:  # type: ignore[override]
        while True:
            if self._unpacker.eof:
                self._waiting = self._unpacker.unused_data.lstrip(b"\0")  # which may fill space between streams of xz
                while not self._waiting and (more := self._more()):
                    self._waiting = more.lstrip(b"\0")
                if not self._waiting:
                    return 0
                self._unpacker = self._start()
            if self._unpacker.needs_input and not self._waiting:
                self._waiting = self._more()
                if not self._waiting and self._left is not None:
                    return 0  # a member of a zip may end without saying so
                if not self._waiting:
                    raise EOFError("it ends within a file")
            piece = self._unpacker.decompress(self._waiting, len(buffer))
            self._waiting = b""
            if piece:
                buffer[: len(piece)] = piece
                return len(piece)

    def _more(self) -> bytes:
        piece = self._file.read(1 << 16 if self._left is None else min(1 << 16, self._left))
        self._left = None if self._left is None else self._left - len(piece)
        return piece


def _zstandard(file: BinaryIO, path: Path, window: int) -> BinaryIO:
    try:
        import zstandard
    except ImportError:
        raise InputError(
            f"{printable(path)}: zstandard archives want one more package", Remedy.of(Action.ADD_EXTRA, "zst")
        ) from None

    class Reader(io.RawIOBase):
        """Reads frame after frame, with the package's errors as this module's own."""

        def __init__(self) -> None:
            self._reader = zstandard.ZstdDecompressor(max_window_size=window).stream_reader(
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
    _refuse_huge(file, budget)
    with zipfile.ZipFile(file) as archive:
        # in the order of a walk, as packers may write members in any, and the directory is in hand
        for info in sorted(archive.infolist(), key=lambda info: info.filename.replace("/", "\0")):
            budget.line(len(info.filename))
            budget.go_on()
            if info.flag_bits & 1:
                raise InputError(f"{archive.filename or 'the archive'} is encrypted; decrypt it first and survey that")
            path, mode = _zip_name(info), info.external_attr >> 16
            if path.endswith("/"):
                yield SourceEntry(path, "folder")
                continue
            kind = mode & 0o170000
            if kind == 0o120000:
                yield SourceEntry(
                    path, "link", target=_zip_head(archive, info, budget).decode("utf-8", "surrogateescape")
                )
            elif kind not in (0, 0o100000):
                yield SourceEntry(path, "odd")
            else:
                yield SourceEntry(
                    path,
                    "file",
                    info.file_size,
                    _zip_time(info),
                    head=_wanted_head(archive, info, path, home, wanted, budget),
                )


def _refuse_huge(file: BinaryIO, budget: Budget) -> None:
    """The directory of a zip is read whole, so one that would fill the memory is refused first."""
    end = file.seek(0, io.SEEK_END)
    file.seek(max(0, end - 66_000))
    tail = file.read()
    at = tail.rfind(b"PK\x05\x06")
    if at >= 0 and len(tail) >= at + 16:
        size = int.from_bytes(tail[at + 12 : at + 16], "little")
        most = budget.limits.memory // 2 // _OF_A_DIRECTORY
        if size > most and end > most:
            raise OutsideError(
                f"{budget.name}: its directory is larger than {most >> 20} MB; pack the home as .tar instead"
            )
    file.seek(0)


def _wanted_head(
    archive: zipfile.ZipFile, info: zipfile.ZipInfo, path: str, home: Home, wanted: Wanted, budget: Budget
) -> bytes | None:
    name = path.rpartition("/")[2]
    if not wanted.has(name):
        return None
    place = home.relative(path)
    reading = wanted.ask(place.rpartition("/")[0], name, info.file_size) if place else None
    if reading is None:
        return None
    with _opened(archive, info, budget) as opened:
        return reading(opened)


def _zip_head(archive: zipfile.ZipFile, info: zipfile.ZipInfo, budget: Budget) -> bytes:
    with _opened(archive, info, budget) as opened:
        return opened.read(4096)


def _opened(archive: zipfile.ZipFile, info: zipfile.ZipInfo, budget: Budget) -> BinaryIO:
    """A member, unpacked as far as it is read (APPNOTE 4.4.5, 5.8)."""
    if info.compress_type not in (zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA):
        return archive.open(info)  # type: ignore[return-value]
    file = cast("BinaryIO", archive.fp)
    file.seek(info.header_offset)
    header = file.read(30)
    if header[:4] != b"PK\x03\x04":
        raise zipfile.BadZipFile("a file is not where the directory says")
    file.seek(sum(struct.unpack("<HH", header[26:30])), io.SEEK_CUR)
    if info.compress_type == zipfile.ZIP_BZIP2:
        return io.BufferedReader(_Pieces(file, bz2.BZ2Decompressor, info.compress_size))  # type: ignore[type-var]
    told = file.read(9)
    if len(told) < 9 or told[2:4] != b"\5\0":
        raise zipfile.BadZipFile("a file does not say how it is packed")
    window = int.from_bytes(told[5:9], "little")
    if window > budget.limits.window:
        raise OutsideError(f"{budget.name}: a file wants {window >> 20:,} MB of memory; pack it again, as .tar.gz")
    packed = {
        "id": lzma.FILTER_LZMA1, "dict_size": window,
        "lc": told[4] % 9, "lp": told[4] // 9 % 5, "pb": told[4] // 45,
    }  # fmt: skip
    start = partial(lzma.LZMADecompressor, lzma.FORMAT_RAW, filters=[packed])
    return io.BufferedReader(_Pieces(file, start, info.compress_size - 9))  # type: ignore[type-var]


def _zip_name(info: zipfile.ZipInfo) -> str:
    """The name in UTF-8, which is what Unix packers write even where they do not say so.

    Some on Windows part folders by backslashes, against APPNOTE 4.4.17; no name there can hold one.
    """
    name = info.filename
    if not info.flag_bits & 0x800:
        name = info.orig_filename.encode("cp437").decode("utf-8", "surrogateescape")
    return name.replace("\\", "/") if info.create_system == 0 else name


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
