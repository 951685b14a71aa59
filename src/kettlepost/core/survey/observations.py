"""What is remembered while listings pass: little, and the same for every source."""

from __future__ import annotations

from collections.abc import Iterable

from msgspec import Struct

from kettlepost.core.names import Folder
from kettlepost.core.secrets import masked
from kettlepost.core.survey.listings import Listing
from kettlepost.core.survey.records import (
    SAMPLE,
    FoundControl,
    FoundDatabase,
    FoundExposed,
    FoundFolder,
    FoundLink,
    FoundOddity,
    FoundPage,
    FoundPlaceholder,
)

_SURELY_SHORT = 1000
"""No path of so many characters has too many bytes, as none has more than four."""
_LARGEST = (1 << 63) - 1
"""The largest number that is stored, whatever an archive says of its files."""


class Observations(Struct):
    """Everything noticed so far.

    `marks` are the file names that recognising asks for, by folder; `versions`, `databases`
    and `addresses` what was read for an application that may lie in a folder; `generators` what pages name as
    the program that wrote them, `targets` where pages that do nothing else send visitors,
    `blank` the configurations without a byte in them, `endings` how the names of programs and pages in a folder end.
    """

    folders: dict[str, FoundFolder] = {}
    marks: dict[str, set[str]] = {}
    versions: dict[tuple[str, str], str] = {}
    databases: dict[tuple[str, str], FoundDatabase] = {}
    addresses: dict[tuple[str, str], str] = {}
    generators: dict[str, str] = {}
    blank: set[tuple[str, str]] = set()
    endings: dict[str, frozenset[str]] = {}
    placeholders: list[FoundPlaceholder] = []
    targets: dict[tuple[str, str], str] = {}
    controls: list[FoundControl] = []
    exposed: list[FoundExposed] = []
    oddities: list[FoundOddity] = []
    links: list[FoundLink] = []
    pages: list[FoundPage] = []
    files: int = 0

    def count(self, listing: Listing) -> FoundFolder | None:
        """Count what lies in a folder, and remember its first few names; None for one that no plan can name.

        What lies there is then counted as trouble of the nearest folder above that can be named.
        """
        if len(listing.folder) > _SURELY_SHORT and not Folder.can_be(listing.folder):
            self._leave_out(listing)
            return None
        found = self.folders.get(listing.folder)
        if found is None:
            found = self._new_folder(listing.folder)
        found.odd += listing.odd
        found.trouble = found.trouble or listing.trouble
        if listing.links:
            self.links += [FoundLink(found.folder, name, _target(target)) for name, target in listing.links]
        names = listing.names
        if not names:
            return found
        self.files += len(names)
        found.files += len(names)
        found.bytes = min(found.bytes + sum(listing.sizes), _LARGEST)
        found.newest = min(max(found.newest, listing.newest), _LARGEST)
        found.names = _first([*found.names, *names] if found.names else names)
        return found

    def _leave_out(self, listing: Listing) -> None:
        above = listing.folder
        while not Folder.can_be(above):
            above = above.rpartition("/")[0]
        found = self.folders.get(above) or self._new_folder(above)
        found.unnamed += 1 + len(listing.names) + len(listing.links) + listing.odd

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


def _target(target: str) -> str:
    """A link's target as it is kept: a path as it is, as links are followed by it, and of a URL no secret."""
    return masked(target) if "://" in target else target


def _first(names: Iterable[str]) -> tuple[str, ...]:
    return tuple(sorted(names)[:SAMPLE])
