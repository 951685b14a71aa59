"""The record of a step that was carried out: each change by itself, and what was there before; as JSON lines.

It is written before anything is changed, so that what broke off can be brought to its end or taken back. Paths are
relative to the account's home, as `printable` writes them, so that a name in any bytes comes back as it was.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from enum import StrEnum
from typing import Any, Literal

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from kettlepost.core.clearing import EntryKind, FileEntry, SetAsideNumber, is_plain
from kettlepost.core.errors import InputError
from kettlepost.core.names import Folder, InvalidName, printable, quoted, unprintable
from kettlepost.core.steps import CarriedOut
from kettlepost.core.survey import SET_ASIDE, is_in


class FileChange(StrEnum):
    """What is done to one path."""

    MAKE = "make"
    """a folder is made, with nothing in it"""
    COPY = "copy"
    """it is a copy of what lies at another path: a file, a link, or a folder"""
    WRITE = "write"
    """a file is written that was not there"""
    EDIT = "edit"
    """a file is written anew"""
    RENAME = "rename"
    """it comes from another path"""


class CarriedItem(Struct, omit_defaults=True, gc=False):
    """One change: what is done at a path, with `origin` where it comes from, and what it is there.

    `before` and `after` are the contents of a file that is written or edited. `identity`, `size` and `changed` are as
    of FileEntry: of the origin until it is done, and of what lies at the path from then on.
    """

    do: FileChange
    path: str
    kind: EntryKind
    origin: str = ""
    size: int = 0
    changed: int = 0
    mode: int = -1
    target: str = ""
    identity: str = ""
    before: bytes | None = None
    after: bytes | None = None

    @property
    def entry(self) -> FileEntry:
        return FileEntry(self.path, self.kind, self.size, self.changed, self.mode, self.target, self.identity)

    def seen_as(self, entry: FileEntry) -> CarriedItem:
        """The same with what a look showed."""
        return replace(self, size=entry.size, changed=entry.changed, identity=entry.identity)


class CarriedHead(Struct, omit_defaults=True):
    """Which step of which account was carried out, when (ISO 8601, UTC), where, and whether it came to its end."""

    kettlepost: Literal[1]
    number: str
    account: str
    id: str
    step: CarriedOut
    taken: str
    source: str
    is_done: bool = False


class CarriedRecord(Struct):
    """All that one step does to the files of an account."""

    head: CarriedHead
    items: list[CarriedItem]

    @property
    def number(self) -> SetAsideNumber:
        return SetAsideNumber(self.head.number)


class _End(Struct):
    end: int


def _folder(kind: type[Any], raw: str) -> Folder:
    """What stands where a step names a folder. Raises TypeError where it is to be something else."""
    if kind is not Folder:
        raise TypeError(kind)
    return Folder.parse(unprintable(raw))


_HEAD = msgspec.json.Decoder(CarriedHead, dec_hook=_folder)
_ITEM = msgspec.json.Decoder(CarriedItem)
_LAST = msgspec.json.Decoder(_End)


def modes_of(items: Iterable[CarriedItem]) -> dict[str, int]:
    """The permission bits of the folders among some items."""
    return {item.path: item.mode for item in items if item.kind == "folder" and item.mode >= 0}


def tops(items: Iterable[CarriedItem]) -> list[CarriedItem]:
    """What comes to its place by itself, and not with the folder around it that is new as well."""
    some = [*items]
    new = {item.path for item in some if item.kind == "folder" and item.do is FileChange.COPY}
    return [item for item in some if item.path.rpartition("/")[0] not in new]


def encode_record(record: CarriedRecord) -> Iterator[bytes]:
    """The record as JSON lines, a piece at a time."""
    encode = msgspec.json.encode
    yield encode(record.head, enc_hook=printable) + b"\n"
    for item in record.items:
        shown = replace(item, path=printable(item.path), origin=printable(item.origin), target=printable(item.target))
        yield encode(shown) + b"\n"
    yield encode(_End(len(record.items))) + b"\n"


def decode_head(raw: bytes) -> CarriedHead:
    """What a record says of itself. Raises InputError for what is none."""
    try:
        head = _HEAD.decode(raw.partition(b"\n")[0])
        SetAsideNumber.parse(head.number)
    except (msgspec.MsgspecError, InvalidName, RecursionError) as error:
        raise InputError(f"no record of a step ({printable(str(error))})") from None
    return head


def decode_record(raw: bytes, name: str, number: SetAsideNumber) -> CarriedRecord:
    """Read a record; `name` is what it is called in errors. Raises InputError for what is none, or is damaged."""
    try:
        lines = raw.decode("utf-8").removesuffix("\n").split("\n")
        head, end = _HEAD.decode(lines[0]), _LAST.decode(lines[-1]).end
        items = [_ITEM.decode(line) for line in lines[1:-1]]
        for item in items:
            item.path, item.origin, item.target = map(unprintable, (item.path, item.origin, item.target))
    except (msgspec.MsgspecError, UnicodeDecodeError, IndexError, InvalidName, RecursionError) as error:
        raise InputError(f"{printable(name)}: no record of a step ({printable(str(error))})") from None
    if end != len(items) or head.number != number:
        raise InputError(f"{printable(name)}: cut short, or of another number")
    for item in items:
        for path in filter(None, (item.path, item.origin)):
            if not is_plain(path) or is_in(path, SET_ASIDE):
                raise InputError(f"{printable(name)}: {quoted(path)} is no path that a step can have changed")
    return CarriedRecord(head, items)
