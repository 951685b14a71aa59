"""The manifest of what was set aside: where each thing lay, what it was, and why it was taken; as JSON lines.

The first line says what it is, then comes one line for each thing, in the order of paths, and the last line counts
them, so that a manifest that was cut short is known for one. Paths are relative to the account's home, as
`printable` writes them, so that a name in any bytes comes back as it was.
"""

from __future__ import annotations

import datetime
import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Annotated, Literal

import msgspec
from msgspec import Meta, Struct, field

from kettlepost.core.clearing.entries import EntryKind, FileEntry
from kettlepost.core.errors import InputError
from kettlepost.core.names import Folder, InvalidName, printable, quoted, unprintable
from kettlepost.core.survey import SET_ASIDE, is_in

LARGEST_MANIFEST = 1 << 30
"""How many bytes of a manifest are read at the most."""
_NUMBER = re.compile(r"[0-9]{8}-[0-9]{6}(?:-[0-9]{1,6})?", re.ASCII)
PermissionBits = Annotated[int, Meta(ge=-1, le=0o7777)]


class SetAsideNumber(str):
    """The number of something that was set aside, by its moment in UTC: `20261126-143005`, or with `-2` behind it."""

    __slots__ = ()

    @classmethod
    def parse(cls, written: str) -> SetAsideNumber:
        """Raises InvalidName for what is no such number."""
        if _NUMBER.fullmatch(written) is None:
            raise InvalidName(f"{quoted(written)} is no number of something set aside, such as 20261126-143005")
        return cls(written)

    @staticmethod
    def is_one(name: str) -> bool:
        return _NUMBER.fullmatch(name) is not None


class ManifestHead(Struct, omit_defaults=True):
    """What was set aside, where, when and for what.

    `account` is the one it was taken from, `folder` the folder that was cleared, `measure` how much was taken;
    `wanted` says what it was cleared for, `taken` is the moment in ISO 8601 form, `source` where it was done.
    `folders` are those around what was taken, with their permission bits, to be made again where they are gone;
    `live` those in which something was in use at that time that was not taken, with what it is.
    """

    kettlepost: Literal[1]
    set_aside: str
    account: str
    folder: str
    measure: str
    taken: str
    source: str
    wanted: str = ""
    address: str = ""
    folders: dict[str, PermissionBits] = field(default_factory=dict)
    live: dict[str, str] = field(default_factory=dict)

    @property
    def day(self) -> datetime.date:
        """The day it was set aside on, in UTC. Raises InputError where `taken` is no moment."""
        try:
            return datetime.date.fromisoformat(self.taken[:10])
        except ValueError:
            raise InputError(f"{self.set_aside}: {quoted(self.taken)} is no moment at which it was set aside") from None


class ManifestItem(Struct, omit_defaults=True, gc=False):
    """One thing: its path, and what a look showed of it.

    `why` is given for what was moved by itself, `what` says more of it; all others lie in such a folder.
    `mode` is its permission bits, `changed` in nanoseconds since 1970, `sha256` the digest of what is in a file.
    """

    path: str
    kind: EntryKind
    size: int = 0
    changed: int = 0
    mode: PermissionBits = -1
    target: str = ""
    identity: str = ""
    why: str = ""
    what: str = ""
    sha256: str = ""

    @classmethod
    def of(cls, entry: FileEntry, why: str = "", what: str = "", sha256: str = "") -> ManifestItem:
        return cls(
            entry.path,
            entry.kind,
            entry.size,
            entry.changed,
            entry.mode,
            entry.target,
            entry.identity,
            why,
            what,
            sha256,
        )

    @property
    def entry(self) -> FileEntry:
        return FileEntry(self.path, self.kind, self.size, self.changed, self.mode, self.target, self.identity)

    @property
    def is_moved(self) -> bool:
        """Whether it was moved by itself, and not with the folder around it."""
        return bool(self.why)


class _Line(Struct, omit_defaults=True):
    end: int


class Manifest(Struct):
    """What was set aside at one time."""

    head: ManifestHead
    items: list[ManifestItem]

    @property
    def id(self) -> SetAsideNumber:
        return SetAsideNumber(self.head.set_aside)

    @property
    def moved(self) -> list[ManifestItem]:
        """What was moved by itself."""
        return [item for item in self.items if item.is_moved]

    @property
    def files(self) -> int:
        return sum(item.kind != "folder" for item in self.items)

    @property
    def bytes(self) -> int:
        return sum(max(item.size, 0) for item in self.items if item.kind == "file")

    def below(self, path: str) -> list[ManifestItem]:
        """One thing and all that lies in it."""
        return [item for item in self.items if item.path == path or item.path.startswith(path + "/")]


def encode_manifest(manifest: Manifest) -> Iterator[bytes]:
    """The manifest as JSON lines, a piece at a time."""
    encode = msgspec.json.encode
    yield encode(_shown_head(manifest.head)) + b"\n"
    for item in manifest.items:
        try:
            line = encode(item)
            if b"\\" not in line and line.isascii():
                yield line + b"\n"
                continue
        except UnicodeEncodeError:
            pass
        shown = msgspec.structs.replace(
            item, path=printable(item.path), target=printable(item.target), what=printable(item.what)
        )
        yield encode(shown) + b"\n"
    yield encode(_Line(len(manifest.items))) + b"\n"


def decode_manifest(raw: bytes, name: str, number: SetAsideNumber) -> Manifest:
    """Read a manifest; `name` is what it is called in errors, `number` the only one that it may be of.

    Raises InputError for what is none, is damaged, was cut short, is of another number, or speaks of anything that
    does not lie in the folder that was cleared.
    """
    try:
        lines = raw.decode("utf-8").removesuffix("\n").split("\n")
        head = _HEAD.decode(lines[0])
        end = _END.decode(lines[-1]).end
        if not raw.endswith(b"\n") or end != len(lines) - 2:
            raise InputError(f"{printable(name)}: cut short")
        items = [_ITEM.decode(line) for line in lines[1:-1]]
        for item in items:
            if "\\" in item.path or "\\" in item.target or "\\" in item.what:
                item.path, item.target, item.what = map(unprintable, (item.path, item.target, item.what))
        head.folder = unprintable(head.folder)
        head.folders = {unprintable(path): mode for path, mode in head.folders.items()}
        head.live = {unprintable(path): what for path, what in head.live.items()}
    except (msgspec.MsgspecError, UnicodeDecodeError, IndexError, InvalidName, RecursionError) as error:
        raise InputError(f"{printable(name)}: no manifest of what was set aside ({printable(str(error))})") from None
    _see_it_holds(head, items, name, number)
    return Manifest(head, items)


def _see_it_holds(head: ManifestHead, items: Iterable[ManifestItem], name: str, number: SetAsideNumber) -> None:
    """Raises InputError for a manifest of another number, or of what lies elsewhere than in the folder it names."""
    if head.set_aside != number:
        raise InputError(f"{printable(name)}: is of {quoted(head.set_aside)}, not of {number}")
    folder = head.folder
    if not is_plain(folder) or is_in(folder, SET_ASIDE):
        raise InputError(f"{printable(name)}: {quoted(folder)} is no folder that can have been cleared")
    astray = [item.path for item in items if not is_plain(item.path) or not is_in(item.path, folder)]
    for path in head.folders:
        if not is_plain(path) or not (is_in(path, folder) or is_in(folder, path)):
            astray.append(path)
    if astray:
        words = f"{quoted(astray[0])} does not lie in {printable(folder)}, which was cleared"
        raise InputError(f"{printable(name)}: {words}")


def is_plain(path: str) -> bool:
    """Whether a path is relative, goes down only, and is one that a file system takes."""
    if any(part in ("", ".", "..") for part in path.split("/")) or "\0" in path:
        return False
    try:
        return Folder.can_be(path)
    except UnicodeEncodeError:  # half a character of UTF-16
        return False


def taken_out(manifest: Manifest, paths: Iterable[str], modes: Mapping[str, int]) -> Manifest:
    """What is left of a manifest once some paths went back; what lay beside them in a moved folder stands by itself.

    `modes` are permission bits of the folders around what went back, which were made again.
    """
    gone = set(paths)
    split = {above for path in gone for above in _folders_above(path)}
    items: list[ManifestItem] = []
    parents: dict[str, ManifestItem] = {}
    for item in manifest.items:
        if item.path in gone or any(above in gone for above in _folders_above(item.path)):
            continue
        around = parents.get(item.path.rpartition("/")[0])
        if item.kind == "folder" and item.path in split:
            parents[item.path] = item if item.is_moved else around or item
            continue
        if around is not None and not item.is_moved:
            item = msgspec.structs.replace(item, why=around.why, what=around.what)
        items.append(item)
    made = {path: mode for path, mode in modes.items() if path in split}
    return Manifest(msgspec.structs.replace(manifest.head, folders={**manifest.head.folders, **made}), items)


def _folders_above(path: str) -> Iterator[str]:
    while "/" in path:
        path = path.rpartition("/")[0]
        yield path


def _shown_head(head: ManifestHead) -> ManifestHead:
    return msgspec.structs.replace(
        head, set_aside=str(head.set_aside), folder=printable(head.folder),
        folders={printable(path): mode for path, mode in head.folders.items()},
        live={printable(path): what for path, what in head.live.items()},
    )  # fmt: skip


_HEAD = msgspec.json.Decoder(ManifestHead)
_ITEM = msgspec.json.Decoder(ManifestItem)
_END = msgspec.json.Decoder(_Line)
