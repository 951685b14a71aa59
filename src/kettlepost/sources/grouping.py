"""From single entries in any order, as archives and listings give them, to listings of folders."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Literal, NamedTuple

from kettlepost.core.budget import Budget
from kettlepost.core.errors import InputError
from kettlepost.core.names import quoted
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import Listing

_MOST_KEPT = 20_000
NO_NAMES = frozenset(("", ".", ".."))
EntryKind = Literal["files", "file", "folder", "link", "odd"]


class SourceEntry(NamedTuple):
    """One file, folder or link: its path as the source spells it, and what is known of it.

    Of kind "files" it stands for several plain files of the folder at `path`, which `files` lists. `mode` are its
    permission bits and `unique` what tells it from all others, where a server tells.
    """

    path: str
    kind: EntryKind
    size: int = 0
    changed: int = 0
    target: str = ""
    head: bytes | None = None
    files: Listing | None = None
    mode: int = -1
    unique: str = ""


class Home:
    """Where in a source the account's home lies, decided by the first path that is seen.

    People pack `www`, `./www`, `millbrook/www` or `srv/hosting/millbrook/www`. `inside` is what
    the user says; otherwise the longest end of the account's home that the first path begins with.
    """

    def __init__(self, source: str, home: str | None, account: str, inside: str | None):
        parts = [part for part in (home or "").split("/") if part]
        self._source = source
        self._ends = ["/".join(parts[n:]) for n in range(len(parts))] + [account]
        self._prefix = None if inside is None else "/".join(part for part in inside.split("/") if part not in ("", "."))

    def relative(self, path: str) -> str | None:
        """`path` relative to the home; None for a folder above it.

        Raises InputError for a path that is absolute, climbs, or lies outside the home.
        """
        if path.startswith("/"):
            raise self._refused(path, "is absolute; pack the account's home with relative paths")
        plain = path.removeprefix("./")
        if "//" in plain or "/./" in f"/{plain}" or plain.endswith(("/", "/.")) or plain in ("", "."):
            plain = "/".join(part for part in plain.split("/") if part not in ("", "."))
        if ".." in plain and ".." in plain.split("/"):
            raise self._refused(path, "climbs with '..', so it may lie anywhere")
        if not plain:
            return ""
        if self._prefix is None:
            self._prefix = self._found(plain)
        prefix = self._prefix
        if not prefix or plain == prefix:
            return "" if plain == prefix else plain
        if plain.startswith(prefix + "/"):
            return plain[len(prefix) + 1 :]
        if prefix.startswith(plain + "/"):
            return None
        raise self._refused(path, f"lies outside {quoted(prefix)}", Remedy(Action.NAME_INSIDE))

    def _found(self, first: str) -> str:
        for end in self._ends:
            if first == end or first.startswith(end + "/") or end.startswith(first + "/"):
                return end
        return ""

    def _refused(self, path: str, why: str, *remedies: Remedy) -> InputError:
        return InputError(f"{self._source}: {quoted(path)} {why}", *remedies)


def batched(entries: Iterable[SourceEntry], home: Home, budget: Budget) -> Iterator[Listing]:
    """Listings of folders: one for each where entries come as a walk of the tree meets them.

    A folder is kept until the walk has left it, unless it grows large; where entries come in
    another order it is listed in several parts.
    """
    walk: list[tuple[str, Listing]] = [("", Listing(""))]
    usual = None  # the folder of the file before, as the source spells it
    for entry in entries:
        path, kind = entry[0], entry[1]
        budget.entry()
        spelt, _, name = path.rpartition("/")
        if spelt == usual and kind == "file" and name not in NO_NAMES:
            _put(walk[-1][1], name, entry)
            continue
        place = home.relative(path)
        if place is None:
            continue
        above, _, name = place.rpartition("/")
        folder = place if kind in ("folder", "files") else above
        if folder != walk[-1][0]:
            yield from _left_behind(walk, folder)
            _enter(walk, folder, budget)
        usual = spelt if kind == "file" else None
        if kind == "odd":
            yield Listing(above, odd=1)
        elif kind != "folder":
            _put(walk[-1][1], name, entry)
        if len(walk[-1][1].names) >= _MOST_KEPT:
            yield walk[-1][1]
            walk[-1], usual = (folder, Listing(folder)), None
    for _, listing in walk:
        yield listing


def _put(listing: Listing, name: str, entry: SourceEntry) -> None:
    if entry.files is not None:
        listing.names += entry.files.names
        listing.sizes += entry.files.sizes
        listing.newest = max(listing.newest, entry.files.newest)
    elif entry.kind == "link":
        listing.links.append((name, entry.target))
    else:
        listing.add(name, entry.size, entry.changed)
        if entry.head is not None:
            listing.heads[name] = entry.head


def _left_behind(walk: list[tuple[str, Listing]], folder: str) -> Iterator[Listing]:
    """Take from the end of `walk` the folders that `folder` is neither nor lies inside."""
    while walk[-1][0] and folder != walk[-1][0] and not folder.startswith(walk[-1][0] + "/"):
        yield walk.pop()[1]


def _enter(walk: list[tuple[str, Listing]], folder: str, budget: Budget) -> None:
    """Go into a folder, if the walk is not in it."""
    if folder == walk[-1][0]:
        return
    budget.folder()
    if len(folder) > budget.limits.depth:  # the others cannot be too deep
        budget.entry(folder.count("/") + 1)
    budget.line(len(folder))
    walk.append((folder, Listing(folder)))
