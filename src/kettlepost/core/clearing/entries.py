"""What lies in a folder, one thing after another, as a look at the host shows it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Literal

from msgspec import Struct

from kettlepost.core.messages import Words, say
from kettlepost.core.names import Folder
from kettlepost.core.survey import FileNames, Listing, Survey, is_in

EntryKind = Literal["file", "folder", "link", "odd"]


class FileEntry(Struct, frozen=True, gc=False):
    """A file, folder, symbolic link or other thing, by its path below the account's home, which is raw.

    Bytes that are not UTF-8 stand as lone surrogates. `size` is in bytes, -1 where it is not known, `changed` the
    last change of what is in it in nanoseconds since 1970, `mode` its permission bits, -1 where the server does not
    tell. `target` is a link's; `identity` tells it from another of its name, `stamp` changes with whatever of
    it changes, and both are empty where a server knows neither.
    """

    path: str
    kind: EntryKind
    size: int = 0
    changed: int = 0
    mode: int = -1
    target: str = ""
    identity: str = ""
    stamp: int = 0

    @property
    def name(self) -> str:
        return self.path.rpartition("/")[2]

    def is_still(self, now: FileEntry) -> bool:
        """Whether a later look shows the same, unchanged as far as can be told; of a folder only that it is it."""
        if (self.kind, self.identity) != (now.kind, now.identity):
            return False
        if self.kind != "file":
            return self.target == now.target
        return (self.size, self.changed) == (now.size, now.changed) and (not self.stamp or self.stamp == now.stamp)

    def is_moved(self, now: FileEntry) -> bool:
        """The same once it has been given another name, which may count as a change of it."""
        if (self.kind, self.identity, self.target) != (now.kind, now.identity, now.target):
            return False
        return self.kind != "file" or (self.size, self.changed) == (now.size, now.changed)


class Tree:
    """A folder and everything in it at one moment; `troubles` are the folders that could not be read, and why."""

    def __init__(
        self, top: str, listed: Mapping[str, Sequence[FileEntry]], troubles: Mapping[str, Words] | None = None
    ):
        self.top = top
        self.listed = listed
        self.troubles = troubles or {}

    def children(self, folder: str) -> Sequence[FileEntry]:
        """What lies directly in a folder, in the order of its names."""
        return sorted(self.listed.get(folder, ()), key=lambda entry: entry.path)

    def below(self, folder: str) -> Iterator[FileEntry]:
        """Everything in a folder, each folder before what lies in it."""
        for entry in self.children(folder):
            yield entry
            if entry.kind == "folder":
                yield from self.below(entry.path)

    def is_read(self, folder: str) -> bool:
        """Whether a folder and every one in it could be read."""
        return not any(place == folder or place.startswith(folder + "/") for place in self.troubles)


def listed_tree(listings: Iterable[Listing], top: Folder) -> Tree:
    """What lies in a folder as a source lists it: names and sizes, no times or modes."""
    listed: dict[str, list[FileEntry]] = {str(top): []}
    troubles: dict[str, Words] = {}

    def add_folder(path: str) -> list[FileEntry]:
        if path not in listed:
            listed[path] = []
            if path != top and is_in(path, top):
                add_folder(path.rpartition("/")[0]).append(FileEntry(path, "folder"))
        return listed[path]

    for listing in listings:
        if not is_in(listing.folder, top):
            continue
        there, begin = add_folder(listing.folder), f"{listing.folder}/" if listing.folder else ""
        there += [
            FileEntry(begin + name, "file", size) for name, size in zip(listing.names, listing.sizes, strict=True)
        ]
        there += [FileEntry(begin + name, "link", target=target) for name, target in listing.links]
        if listing.trouble or listing.odd:
            troubles[listing.folder] = listing.trouble or say("clearing/odd-entries")
    return Tree(str(top), listed, troubles)


def tree_of(survey: Survey, names: FileNames | None, top: Folder) -> Tree:
    """What lies in a folder as a survey and the names kept with it tell: no sizes, times or modes.

    Where the names were not kept, the folders of which not all are known count as not read.
    """
    listed: dict[str, list[FileEntry]] = {}
    troubles: dict[str, Words] = {}
    for found in survey.folders:
        path = str(found.folder)
        if not is_in(path, top):
            continue
        if path != top:
            listed.setdefault(str(found.folder.parent), []).append(FileEntry(path, "folder"))
        there = listed.setdefault(path, [])
        empty = names.of(path) if names is not None else dict.fromkeys(found.names, False)
        there += [FileEntry(str(found.folder.below(name)), "file", 0 if empty[name] else -1) for name in empty]
        if found.trouble or found.unnamed or found.odd:
            troubles[path] = found.trouble_words or say("clearing/odd-entries")
        elif len(empty) < found.files:
            troubles[path] = say("clearing/names-missing")
    for link in survey.links:
        if str(link.folder) in listed:
            place = str(link.folder.below(link.name))
            listed[str(link.folder)].append(FileEntry(place, "link", target=link.target))
    return Tree(str(top), listed, troubles)
