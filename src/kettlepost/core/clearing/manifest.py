"""The manifest of what was set aside: where each thing lay, what it was, and why it was taken; as JSON lines.

The first line says what it is, then comes one line for each thing, in the order of paths, and the last line counts
them, so that a manifest that was cut short is known for one. Paths are relative to the account's home, as
`printable` writes them, so that a name in any bytes comes back as it was.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Literal

import msgspec
from msgspec import Struct, field

from kettlepost.core.clearing.entries import Entry, EntryKind
from kettlepost.core.errors import InputError
from kettlepost.core.names import InvalidName, printable, unprintable

LARGEST_MANIFEST = 1 << 30
"""So many bytes of a manifest are read at the most."""


class Head(Struct, omit_defaults=True):
    """What was set aside, where, when and for what.

    `account` is the one it was taken from, `folder` the folder that was cleared, `measure` how much was taken;
    `wanted` says what it was cleared for, `taken` is the moment in ISO 8601 form, `source` where it was done.
    `folders` are those around what was taken, with their permission bits, to be made again where they are gone.
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
    folders: dict[str, int] = field(default_factory=dict)


class Item(Struct, omit_defaults=True, gc=False):
    """One thing: its path, and what a look showed of it.

    `why` is given for what was moved by itself, `what` says more of it; all others lie in such a folder.
    `mode` is its permission bits, `changed` in nanoseconds since 1970, `sha256` the digest of what is in a file.
    """

    path: str
    kind: EntryKind
    size: int = 0
    changed: int = 0
    mode: int = -1
    target: str = ""
    identity: str = ""
    why: str = ""
    what: str = ""
    sha256: str = ""

    @classmethod
    def of(cls, entry: Entry, why: str = "", what: str = "", sha256: str = "") -> Item:
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
    def entry(self) -> Entry:
        return Entry(self.path, self.kind, self.size, self.changed, self.mode, self.target, self.identity)

    @property
    def is_moved(self) -> bool:
        """Whether it was moved by itself, and not with the folder around it."""
        return bool(self.why)


class _Line(Struct, omit_defaults=True):
    end: int


class Manifest(Struct):
    """What was set aside at one time."""

    head: Head
    items: list[Item]

    @property
    def id(self) -> str:
        return self.head.set_aside

    @property
    def moved(self) -> list[Item]:
        """What was moved by itself."""
        return [item for item in self.items if item.is_moved]

    @property
    def files(self) -> int:
        return sum(item.kind != "folder" for item in self.items)

    @property
    def bytes(self) -> int:
        return sum(max(item.size, 0) for item in self.items if item.kind == "file")

    def below(self, path: str) -> list[Item]:
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


def decode_manifest(raw: bytes, name: str) -> Manifest:
    """Raises InputError for what is none, is damaged, or was cut short; `name` is what it is called then."""
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
            if not is_plain(item.path):
                raise InputError(f"{printable(name)}: holds a path that leads out of the home")
        head.folder = unprintable(head.folder)
        head.folders = {unprintable(path): mode for path, mode in head.folders.items()}
    except (msgspec.MsgspecError, UnicodeDecodeError, IndexError, InvalidName, RecursionError) as error:
        raise InputError(f"{printable(name)}: no manifest of what was set aside ({printable(str(error))})") from None
    if not all(is_plain(path) for path in head.folders) or not (is_plain(head.folder) or not head.folder):
        raise InputError(f"{printable(name)}: holds a path that leads out of the home")
    return Manifest(head, items)


def is_plain(path: str) -> bool:
    """Whether a path is relative, and goes down only."""
    return bool(path) and not any(part in ("", ".", "..") for part in path.split("/")) and "\0" not in path


def taken_out(manifest: Manifest, paths: Iterable[str], modes: Mapping[str, int]) -> Manifest:
    """What is left of a manifest once some paths went back; what lay beside them in a moved folder stands by itself.

    `modes` are permission bits of the folders around what went back, which were made again.
    """
    gone = set(paths)
    split = {above for path in gone for above in _folders_above(path)}
    items: list[Item] = []
    parents: dict[str, Item] = {}
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


def _shown_head(head: Head) -> Head:
    return msgspec.structs.replace(
        head, folder=printable(head.folder), folders={printable(path): mode for path, mode in head.folders.items()}
    )


_HEAD = msgspec.json.Decoder(Head)
_ITEM = msgspec.json.Decoder(Item)
_END = msgspec.json.Decoder(_Line)
