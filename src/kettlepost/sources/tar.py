"""Reading tape archives: POSIX.1-2001 ustar and pax, and the long names and files with holes of GNU tar.

The standard library's reader keeps an object for each member, which is several times slower
than listing the archive with tar; a survey wants six fields of each and keeps none.
"""

from __future__ import annotations

import contextlib
import io
import mmap
import struct
import zlib
from collections.abc import Iterator
from typing import BinaryIO, NamedTuple

from kettlepost.core.survey import Listing, Reading, Wanted
from kettlepost.sources.grouping import NO_NAMES, Home, SourceEntry

BLOCK = 512
_LARGEST_NAME = 1 << 20
_FILES = b"0\x007"
_ZERO = bytes(BLOCK)
_HOLES = "GNU.sparse."
_USUAL = struct.Struct("100s24x11sx11sx8sc100x5s83xB").unpack_from
"""Name, size, time, checksum, kind, magic and the prefix's first byte of a ustar header."""


class TapeError(Exception):
    """The archive is damaged, cut off, or no tape archive at all."""


def tape_entries(stream: BinaryIO, home: Home, wanted: Wanted) -> Iterator[SourceEntry]:
    """Every member in order; of those that are wanted, what is to be kept of their content."""
    tape = _Tape(stream)
    while True:
        run = tape.usual(wanted)
        if run.names:
            yield SourceEntry(run.folder, "files", files=run)
            continue
        header = tape.header()
        if header is None:
            return
        member = _member(tape, header)
        if member is not None:
            yield from _entry(tape, member, home, wanted)


def _entry(tape: _Tape, member: _Member, home: Home, wanted: Wanted) -> Iterator[SourceEntry]:
    if member.kind in _FILES or member.kind == b"S":
        yield _file(tape, member, home, wanted)
        return
    tape.skip(0 if member.kind in b"123456" else _padded(member.size))
    if member.kind in b"5D":
        yield SourceEntry(member.name, "folder")
    elif member.kind == b"2":
        yield SourceEntry(member.name, "link", target=member.target)
    elif member.kind == b"1":
        yield SourceEntry(member.name, "file", 0, member.changed)  # another name of a file that came before
    elif member.kind in b"346":
        yield SourceEntry(member.name, "odd")


class _Member(NamedTuple):
    """One member; `size` is what follows in the archive, `real` the size of a file with holes, of which it leaves
    them out, and -1 for any other."""

    name: str
    kind: bytes
    size: int
    changed: int
    target: str
    real: int = -1


def _member(tape: _Tape, first: bytes) -> _Member | None:
    """The member that `first` is the header of, or the first of its extended headers."""
    path = target = ""
    pax: dict[str, str] = {}
    header: bytes | None = first
    while header is not None:
        kind = header[156:157]
        size = _size(header[124:136])
        if kind in b"LKxg":
            text = tape.take(_padded(size), _LARGEST_NAME)[:size]
            if kind == b"L":
                path = _text(text.rstrip(b"\0"))
            elif kind == b"K":
                target = _text(text.rstrip(b"\0"))
            elif kind == b"x":
                pax = _records(text)
            header = tape.header()
            continue
        changed = int(float(pax["mtime"])) if "mtime" in pax else _number(header[136:148])
        if pax:
            path, target = pax.get("path", path), pax.get("linkpath", target)
            size = _digits(pax["size"]) if "size" in pax else size
        if kind == b"2" and not target:
            target = _text(header[157:257].split(b"\0", 1)[0])
        if kind == b"S" and header[257:263] == b"ustar ":  # as GNU tar alone has it there
            tape.skip_map(header)
            return _Member(path or _name(header), kind, size, changed, target, _size(header[483:495]))
        return _Member(pax.get(_HOLES + "name", path) or _name(header), kind, size, changed, target, _real_size(pax))
    return None


def _file(tape: _Tape, member: _Member, home: Home, wanted: Wanted) -> SourceEntry:
    name, size = member.name, member.size
    if name.endswith("/"):  # how archives older than POSIX mark a folder
        return SourceEntry(name, "folder")
    reading = None
    if member.real < 0 and wanted.has(name.rpartition("/")[2]):
        folder, _, base = (home.relative(name) or "").rpartition("/")
        reading = wanted.ask(folder, base, size) if base else None
    if reading is not None:
        return SourceEntry(name, "file", size, member.changed, head=tape.read_through(reading, size))
    tape.skip(_padded(size))
    return SourceEntry(name, "file", size if member.real < 0 else member.real, member.changed)


class _Tape:
    """A stream taken in large pieces."""

    def __init__(self, stream: BinaryIO):
        self._stream = stream
        self._piece: bytes | mmap.mmap = b""
        self._at = 0
        self._any = False
        if isinstance(stream, io.BufferedReader) and isinstance(stream.raw, io.FileIO):
            with contextlib.suppress(OSError, ValueError):  # a plain file is one large piece
                self._piece = mmap.mmap(stream.fileno(), 0, access=mmap.ACCESS_READ)
                stream.seek(0, io.SEEK_END)

    def usual(self, wanted: Wanted) -> Listing:
        """The plain files of one folder that come next, as long as they are plain in every way.

        Nearly every member is such a file, so this takes as few steps for each as may be; what
        is wanted, damaged, long-named or at the end of the piece in hand is left for `header`.
        """
        found: list[str] = []
        sizes: list[int] = []
        names, endings = wanted.names, wanted.endings
        piece, at, most = self._piece, self._at, len(self._piece) - BLOCK
        folder: str | None = None
        same, time, newest = b"", 0, 0  # most files of a release changed in one moment
        while at <= most:
            name, size, changed, check, kind, magic, prefix = _USUAL(piece, at)
            if kind != b"0" or magic != b"ustar" or prefix:
                break
            try:
                length = int(size, 8)
                # what zlib sums up of it, and so many times faster, is one more than all its bytes, modulo 65,521
                if ((zlib.adler32(piece[at : at + BLOCK]) & 0xFFFF) + 255 - sum(check) - int(check[:6], 8)) % 65_521:
                    break
                if changed != same:
                    same, time = changed, int(changed, 8)
                above, _, base = name.rstrip(b"\0").decode().rpartition("/")
            except ValueError:
                break
            after = at + BLOCK + (length + BLOCK - 1 & -BLOCK)
            if above != folder:
                if folder is not None:
                    break
                folder = above
            if (
                base in names
                or base in NO_NAMES
                or base.endswith(endings)
                or length < 0
                or after > most + BLOCK
                or "\0" in base
            ):
                break
            found.append(base)
            sizes.append(length)
            if time > newest:
                newest = time
            at = after
        self._any = self._any or bool(found)
        self._at = at
        return Listing(folder or "", found, sizes, newest)

    def header(self) -> bytes | None:
        """The next header that is not the archive's end; None at the end."""
        header = self.take(BLOCK, BLOCK, may_end=True)
        if header == _ZERO:
            return None
        if not header:
            raise TapeError("it ends without an end mark" if self._any else "it is empty")
        if len(header) < BLOCK:
            raise TapeError("it ends within a header")
        if not _is_whole(header):
            raise TapeError("not a tar archive" if not self._any else "a header's checksum is wrong")
        self._any = True
        return header

    def take(self, size: int, most: int, may_end: bool = False) -> bytes:
        if size > most:
            raise TapeError("a name is absurdly long")
        at, end = self._at, self._at + size
        if end <= len(self._piece):
            self._at = end
            return self._piece[at:end]
        parts, have = [self._piece[at:]], len(self._piece) - at
        while have < size:
            piece = self._stream.read(1 << 20)
            if not piece:
                self._piece, self._at = b"", 0
                if may_end:
                    return b"".join(parts)
                raise TapeError("it ends within a file")
            parts.append(piece)
            have += len(piece)
        whole = b"".join(parts)
        self._piece, self._at = whole, size
        return whole[:size]

    def skip(self, size: int) -> None:
        have = len(self._piece) - self._at
        if size <= have:
            self._at += size
            return
        size -= have
        self._piece, self._at = b"", 0
        while size > 0:
            piece = self._stream.read(min(max(size, 1 << 16), 1 << 20))
            if not piece:
                raise TapeError("it ends within a file")
            if len(piece) > size:
                self._piece, self._at = piece, size
            size -= len(piece)

    def skip_map(self, header: bytes) -> None:
        """Go on behind where the parts of a file with holes are told, in blocks of its own where the header is full."""
        more = header[482]
        while more:
            more = self.take(BLOCK, BLOCK)[504]

    def read_through(self, reading: Reading, size: int) -> bytes:
        """Let `reading` read a member of `size` bytes, and go on behind it."""
        most = min(size, 1 << 18)
        kept = reading(io.BytesIO(self.take(most, most)))
        self.skip(_padded(size) - most)
        return kept


def _is_whole(header: bytes) -> bool:
    """Whether a header's checksum is that of its other bytes, the checksum counted as spaces.

    Some have summed them up as signed ones, which is taken as well (POSIX.1-1988, section 10.1.1).
    """
    checksum = sum(header[:148]) + 256 + sum(header[156:])
    signed = checksum - 256 * sum(byte > 127 for byte in (*header[:148], *header[156:]))
    return header[148:156].strip(b" \0").lstrip(b"0") in (b"%o" % checksum, b"%o" % max(signed, 0))


def _padded(size: int) -> int:
    return (size + BLOCK - 1) // BLOCK * BLOCK


def _number(field: bytes) -> int:
    """An octal number, or a base-256 one as GNU tar writes what octal cannot hold."""
    if field[0] & 0x80:
        value = int.from_bytes(field[1:] if field[0] == 0x80 else field, "big", signed=field[0] == 0xFF)
    else:
        try:
            value = int(field.rstrip(b" \0") or b"0", 8)
        except ValueError:
            raise TapeError("a header holds no number where one belongs") from None
    if abs(value) > 1 << 62:
        raise TapeError("a header holds an absurd number")
    return value


def _size(field: bytes) -> int:
    number = _number(field)
    if number < 0:
        raise TapeError("a file has less than no bytes")
    return number


def _digits(text: str) -> int:
    if not text.isdecimal() or len(text) > 18:
        raise TapeError("an extended header holds no number where one belongs")
    return int(text)


def _real_size(pax: dict[str, str]) -> int:
    """The size of a file with holes, in any of the forms that GNU tar has written into extended headers; else -1."""
    told = pax.get(_HOLES + "realsize") or pax.get(_HOLES + "size")
    return _digits(told) if told else -1


def _name(header: bytes) -> str:
    name = header[:100].split(b"\0", 1)[0]
    if header[257:263] == b"ustar\0" and header[345]:
        name = header[345:500].split(b"\0", 1)[0] + b"/" + name
    return _text(name)


def _text(raw: bytes) -> str:
    return raw.decode("utf-8", "surrogateescape")


def _records(text: bytes) -> dict[str, str]:
    """The records of a pax header: `length key=value` and a line end, the length counting itself."""
    found: dict[str, str] = {}
    while text:
        length, space, _ = text.partition(b" ")
        size = _digits(length.decode("ascii", "replace")) if space else 0
        record = text[len(length) + 1 : size - 1]
        key, equals, value = record.partition(b"=")
        if not equals or size > len(text):
            raise TapeError("an extended header is damaged")
        found[_text(key)] = _text(value)
        text = text[size:]
    if "mtime" in found:
        try:
            int(float(found["mtime"]))
        except (ValueError, OverflowError):
            raise TapeError("an extended header holds no time where one belongs") from None
    return found
