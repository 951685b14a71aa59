"""Spotting by name alone: what should not be under a document root, and names that make trouble."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Iterator
from functools import lru_cache

from kettlepost.core.names import Folder
from kettlepost.core.survey.listings import Listing
from kettlepost.core.survey.observations import Notes
from kettlepost.core.survey.records import FoundExposed, FoundOddity

_PACKED = r"(?:gz|bz2|xz|zst|zip|Z)"
_KINDS = {
    "private key": r"id_(?:rsa|dsa|ecdsa|ed25519)|[^/]*\.(?:pem|key|p12|pfx|ppk|jks)",
    "database dump": rf"[^/]*\.(?:sql|dump|sqlite3?|mdb)(?:\.{_PACKED})?",
    "configuration backup": (
        r"(?:wp-config|config(?:uration)?(?:\.inc)?|settings|LocalSettings|parameters|database|\.env|\.htaccess)[^/]*"
        r"(?:~|[._-](?:bak|old|orig|save|backup|copy|dist~|txt)\d*)|\.?[^/]*\.sw[nop]|[^/]*\.php~|\.env"
    ),
    "archive": rf"[^/]*\.(?:zip|rar|7z|tar|tgz|tbz2?|txz|tar\.{_PACKED})",
    "log": r"(?:error|access)_log(?:[.-][^/]*)?|[^/]*\.log(?:[.-]\d+)?(?:\.gz)?",
}
_HARMLESS = frozenset(
    """php html htm css js mjs map json xml yml yaml md txt jpg jpeg png gif svg webp avif ico pdf woff woff2 ttf eot
    otf mp3 mp4 webm po mo pot phtml inc tpl twig scss less ts vue htaccess sample example csv lock dist py pl cgi
    rb""".split()
)
"""What follows the last dot of most names: a folder with nothing else has nothing exposed in it."""
_EXPOSED = re.compile(
    r"(?:^|/)(?:" + "|".join(f"(?P<k{n}>{pattern})" for n, pattern in enumerate(_KINDS.values())) + r")(?=/|$)"
)
_FOLDERS = {
    ".git": "repository", ".svn": "repository", ".hg": "repository", ".bzr": "repository", "CVS": "repository",
    "Maildir": "mail folder", "mail": "mail folder", ".ssh": "private key", ".gnupg": "private key",
}  # fmt: skip
MOST = 2_000
"""So many exposed files, and so many odd file names, are recorded of an account at the least."""
BELONGS = frozenset(("archive", "database dump", "log"))
"""Kinds that releases of applications carry themselves, so that they count outside their folders only."""


def spot(listing: Listing, roots: frozenset[str], notes: Notes) -> None:
    """Note what a listing shows by the names of its files; `roots` are the account's document roots."""
    name, names = listing.folder.rpartition("/")[2], listing.names
    if len(notes.exposed) < MOST and _under(listing.folder, roots):
        doubtful = [text for text in names if text.rpartition(".")[2] not in _HARMLESS or "config" in text]
        found = list(_exposed(listing.folder, doubtful)) if doubtful else []
        if name in _FOLDERS and listing.folder not in roots:
            found = [FoundExposed(Folder(listing.folder), "", _FOLDERS[name])]
        elif found and _in_repository(listing.folder):
            found = []
        notes.exposed += found
    if len(notes.oddities) < MOST:
        notes.oddities += _odd_files(listing.folder, names)


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


def _exposed(folder: str, names: list[str]) -> Iterator[FoundExposed]:
    for found in _EXPOSED.finditer("/".join(names)):
        kind = list(_KINDS)[int(str(found.lastgroup)[1:])]
        yield FoundExposed(Folder(folder), found[0].lstrip("/"), kind)


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


def _under(folder: str, roots: frozenset[str]) -> bool:
    """Whether `folder` is a document root or lies below one."""
    return folder in roots or (bool(folder) and _root_above(folder.rpartition("/")[0], roots))


@lru_cache(maxsize=1024)  # folders with the same one above come soon after each other
def _root_above(folder: str, roots: frozenset[str]) -> bool:
    while folder and folder not in roots:
        folder = folder.rpartition("/")[0]
    return folder in roots


def _in_repository(folder: str) -> bool:
    return any(part in _FOLDERS for part in folder.split("/"))
