"""Names that make trouble."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable, Iterator

from kettlepost.core.names import Folder
from kettlepost.core.survey.listings import Listing
from kettlepost.core.survey.observations import Observations
from kettlepost.core.survey.records import FoundOddity

MOST = 2_000
"""How many odd file names are recorded of an account at the least."""


def odd_names(listing: Listing, notes: Observations) -> None:
    """Note the files of a listing whose names make trouble."""
    if len(notes.oddities) < MOST:
        notes.oddities += _odd_files(listing.folder, listing.names)


def odd_folders(folders: Iterable[str]) -> Iterator[FoundOddity]:
    """Folders with names that make trouble, among all folders of a survey."""
    children: dict[str, list[str]] = {}
    for path in folders:
        above, _, name = path.rpartition("/")
        if not name:
            continue
        children.setdefault(above, []).append(name)
        folder = Folder(above)
        if not name.isprintable():
            yield FoundOddity(folder, name, "unprintable name")
        elif " " in name:
            yield FoundOddity(folder, name, "space in the name")
        elif name != name.lower():
            yield FoundOddity(folder, name, "capitals in the name")
        elif not name.isascii():
            yield FoundOddity(folder, name, "letters beyond ASCII in the name")
    for above, names in children.items():
        if not _distinct("/".join(names), len(names)):
            yield from _twins(Folder(above), names)


def _odd_files(folder: str, names: list[str]) -> Iterator[FoundOddity]:
    joined = "/".join(names)
    if not joined.isprintable():
        yield from (FoundOddity(Folder(folder), name, "unprintable name") for name in names if not name.isprintable())
    if not _distinct(joined, len(names)):
        yield from _twins(Folder(folder), names)


def _distinct(joined: str, number: int) -> bool:
    """Whether names, joined by slashes, surely differ by more than letter case and Unicode form."""
    if not joined.isascii():
        return False
    lower = joined.lower()
    return lower == joined or len(set(lower.split("/"))) == number


def _twins(folder: Folder, names: list[str]) -> Iterator[FoundOddity]:
    """Pairs that differ by letter case or Unicode form only: one of them is often taken for the other."""
    seen: dict[str, str] = {}
    for name in sorted(names):
        like = unicodedata.normalize("NFC", name).casefold()
        if like in seen:
            same_case = unicodedata.normalize("NFC", name) == unicodedata.normalize("NFC", seen[like])
            yield FoundOddity(
                folder, name, "differs by Unicode form only" if same_case else "differs by case only", seen[like]
            )
        seen.setdefault(like, name)
