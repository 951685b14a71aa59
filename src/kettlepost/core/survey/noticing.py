"""What is remembered while listings pass: little, and the same for every source."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, fields

from kettlepost.core.names import Folder
from kettlepost.core.survey.records import (
    SAMPLE,
    FoundControl,
    FoundDatabase,
    FoundExposed,
    FoundFolder,
    FoundLink,
    FoundOddity,
    FoundPlaceholder,
)
from kettlepost.core.survey.sources import Listing


@dataclass
class Notes:
    """Everything noticed so far. Notes of parts of one tree can be put together in any order.

    `marks` are the file names that recognising asks for, by folder; `versions` and `databases`
    what was read for an application that may lie in a folder; `generators` what pages name as
    the program that wrote them.
    """

    folders: dict[str, FoundFolder] = field(default_factory=dict)
    marks: dict[str, set[str]] = field(default_factory=dict)
    versions: dict[tuple[str, str], str] = field(default_factory=dict)
    databases: dict[tuple[str, str], FoundDatabase] = field(default_factory=dict)
    generators: dict[str, str] = field(default_factory=dict)
    placeholders: list[FoundPlaceholder] = field(default_factory=list)
    controls: list[FoundControl] = field(default_factory=list)
    exposed: list[FoundExposed] = field(default_factory=list)
    oddities: list[FoundOddity] = field(default_factory=list)
    links: list[FoundLink] = field(default_factory=list)
    files: int = 0

    def absorb(self, other: Notes) -> None:
        """Take in what another part of the tree gave."""
        for path, there in other.folders.items():
            known = self.folders.setdefault(path, there)
            if known is not there:
                _add(known, there)
        for path, names in other.marks.items():
            self.marks.setdefault(path, set()).update(names)
        for one in fields(self):
            mine, theirs = getattr(self, one.name), getattr(other, one.name)
            if isinstance(mine, list):
                mine += theirs
            elif one.name in ("versions", "databases", "generators"):
                mine.update(theirs)
        self.files += other.files

    def count(self, listing: Listing) -> FoundFolder:
        """Count what lies in a folder, and remember its first few names."""
        found = self.folders.get(listing.folder)
        if found is None:
            found = self._new_folder(listing.folder)
        found.odd += listing.odd
        found.trouble = found.trouble or listing.trouble
        if listing.links:
            self.links += [FoundLink(found.folder, name, target) for name, target in listing.links]
        names = listing.names
        if not names:
            return found
        self.files += len(names)
        found.files += len(names)
        found.bytes += sum(listing.sizes)
        found.newest = max(found.newest, listing.newest)
        found.names = _first([*found.names, *names] if found.names else names)
        return found

    def _new_folder(self, path: str) -> FoundFolder:
        """A folder seen for the first time; those above it are there too, whether listed or not."""
        found = self.folders[path] = FoundFolder(Folder(path))
        above = path
        while above:
            above = above.rpartition("/")[0]
            if above in self.folders:
                break
            self.folders[above] = FoundFolder(Folder(above))
        return found


def _first(names: Iterable[str]) -> tuple[str, ...]:
    return tuple(sorted(names)[:SAMPLE])


def _add(found: FoundFolder, other: FoundFolder) -> None:
    found.files += other.files
    found.bytes += other.bytes
    found.newest = max(found.newest, other.newest)
    found.names = _first([*found.names, *other.names])
    found.index = tuple(sorted({*found.index, *other.index}))
    found.control = tuple(sorted({*found.control, *other.control}))
    found.odd += other.odd
    found.trouble = found.trouble or other.trouble
