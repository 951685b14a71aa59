"""The names of all files of an account, kept beside its survey, which tells only the first few of each folder.

The form is a line that says what it is, then a stream of DEFLATE data (RFC 1950) in which each folder is a
record: `/` and its path, then its files' names, each behind a NUL, and two NULs at the end. `/` behind a name
says that the file is empty. Names are bytes as the server has them, UTF-8 for most.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Callable, Iterator, Sequence

from kettlepost.core.errors import InputError

LARGEST_NAMES = 512 * 1024 * 1024
"""How many bytes of names are read at most, once unpacked."""
_HEAD = b"kettlepost names 1\n"
_PIECE = 1 << 16


class NamesWriter:
    """Writes names while folders are looked at; `write` takes the bytes one piece after another."""

    def __init__(self, write: Callable[[bytes], object]):
        self._write = write
        self._digest = hashlib.blake2b(digest_size=16)
        self._packer = zlib.compressobj(4)
        self._waiting: list[bytes] = []
        self._size = 0
        self._put(_HEAD)

    def add(self, folder: str, names: Sequence[str], sizes: Sequence[int]) -> None:
        """The files that lie directly in a folder, with their bytes."""
        if 0 in sizes:
            names = [name if size else f"{name}/" for name, size in zip(names, sizes, strict=True)]
        text = "\0".join(names)
        if text.count("\0") != len(names) - 1:  # no request can name such a file
            text = "\0".join(name for name in names if "\0" not in name)
        if text:
            record = _encoded(f"/{folder}\0{text}\0\0")
            self._waiting.append(record)
            self._size += len(record)
            if self._size > _PIECE:
                self._flush()

    def add_rest(self, names: FileNames, folder: str) -> None:
        """All that is kept in `names`, but for a folder and what lies in it."""
        for record in names.outside_of(folder):
            self._waiting.append(record)
            self._size += len(record)
            if self._size > _PIECE:
                self._flush()

    def close(self) -> str:
        """End the stream; gives the digest by which a survey knows its names."""
        self._flush()
        self._put(self._packer.flush())
        return self._digest.hexdigest()

    def _flush(self) -> None:
        self._put(self._packer.compress(b"".join(self._waiting)))
        self._waiting.clear()
        self._size = 0

    def _put(self, piece: bytes) -> None:
        self._digest.update(piece)
        self._write(piece)


def _encoded(text: str) -> bytes:
    """Names as the bytes they were; one from a listing may be none of a server's."""
    try:
        return text.encode("utf-8", "surrogateescape")
    except UnicodeEncodeError:
        return text.encode("utf-8", "surrogatepass")


class FileNames:
    """All names of an account's files, folder by folder; `digest` is by what their survey knows them."""

    def __init__(self, raw: bytes):
        """Raises InputError for what is damaged, or too large."""
        if not raw.startswith(_HEAD):
            raise InputError("not names of files")
        self.digest = hashlib.blake2b(raw, digest_size=16).hexdigest()
        unpacker = zlib.decompressobj()
        try:
            self._text = unpacker.decompress(raw[len(_HEAD) :], LARGEST_NAMES)
        except zlib.error:
            raise InputError("damaged names of files") from None
        if not unpacker.eof:
            raise InputError("names of files cut short, or too many of them")
        self._records: dict[bytes, list[bytes]] | None = None
        self._known: dict[str, frozenset[bytes]] = {}

    def outside_of(self, folder: str) -> Iterator[bytes]:
        """The records of all folders but one and what lies in it, as they are kept; to be asked first."""
        place = b"/" + _encoded(folder)
        for record in self._text.split(b"\0\0"):
            if record and not record.startswith((place + b"\0", place + b"/")):
                yield record + b"\0\0"

    def of(self, folder: str) -> dict[str, bool]:
        """The names of the files that lie directly in a folder, each with whether it is empty."""
        return {
            name.removesuffix(b"/").decode("utf-8", "surrogateescape"): name.endswith(b"/")
            for name in self._names(folder)
        }

    def has(self, folder: str, name: str) -> bool:
        """Whether a file of that name lies directly in a folder."""
        raw = name.encode("utf-8", "surrogateescape")
        names = self._names(folder)
        return raw in names or raw + b"/" in names

    def begins(self, folder: str, begin: str) -> bool:
        """Whether a file lies there whose name begins so."""
        raw = begin.encode("utf-8", "surrogateescape")
        return any(name.startswith(raw) for name in self._names(folder))

    def is_empty(self, folder: str, name: str) -> bool:
        """Whether that file has no bytes."""
        return name.encode("utf-8", "surrogateescape") + b"/" in self._names(folder)

    def _names(self, folder: str) -> frozenset[bytes]:
        known = self._known.get(folder)
        if known is None:
            if self._records is None:
                self._records = {}
                for record in self._text.split(b"\0\0"):
                    place, _, names = record.partition(b"\0")
                    self._records.setdefault(place, []).append(names)
                self._text = b""
            records = self._records.get(b"/" + folder.encode("utf-8", "surrogateescape"), [])
            known = self._known[folder] = frozenset(name for names in records for name in names.split(b"\0"))
        return known
