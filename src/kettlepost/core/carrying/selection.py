"""What a copy takes, what stays out of it, and what is in its way."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

from kettlepost.core.carrying.records import CarriedItem, FileChange
from kettlepost.core.clearing import FileEntry, Tree
from kettlepost.core.names import Folder
from kettlepost.core.survey import is_in


def copied_items(
    tree: Tree, folder: str, to: str, stays: Collection[Folder], there: Collection[str], is_of_another: bool = False
) -> list[CarriedItem]:
    """One item for each thing of a tree that comes to another folder, the outermost first.

    What lies in `stays` is not copied, and neither is where the copy goes, unless the tree is that of another account;
    `there` are folders that are there already.
    """
    items: list[CarriedItem] = []
    for entry in _taken(tree, folder, [*map(str, stays), *([] if is_of_another else [to])]):
        path = _placed(entry.path, folder, to)
        if entry.kind == "odd" or (entry.kind == "folder" and path in there):
            continue
        items.append(
            CarriedItem(
                FileChange.COPY, path, entry.kind, entry.path, entry.size, entry.changed, entry.mode, entry.target,
                entry.identity,
            )
        )  # fmt: skip
    return items


def left_out(tree: Tree, folder: str, to: str, stays: Collection[Folder], is_of_another: bool = False) -> list[str]:
    """What cannot be copied, as it is neither file nor folder nor link."""
    taken = _taken(tree, folder, [*map(str, stays), *([] if is_of_another else [to])])
    return [entry.path for entry in taken if entry.kind == "odd"]


def in_the_way(items: Sequence[CarriedItem], now: Mapping[str, FileEntry]) -> list[str]:
    """The paths at which something is that would have to be written over; a folder is in no other folder's way."""
    return [
        item.path for item in items
        if item.path in now and not (item.kind == now[item.path].kind == "folder") and item.do is not FileChange.EDIT
    ]  # fmt: skip


def _taken(tree: Tree, folder: str, apart: Sequence[str]) -> Iterator[FileEntry]:
    """All that lies in a folder, but for some places; the folder around such a place comes along."""
    apart = [place for place in apart if place != folder and is_in(place, folder)]
    waiting = [folder]
    while waiting:
        below: list[str] = []
        for entry in tree.children(waiting.pop()):
            if apart and any(is_in(entry.path, place) for place in apart):
                continue
            yield entry
            if entry.kind == "folder":
                below.append(entry.path)
        waiting += reversed(below)


def _placed(path: str, folder: str, to: str) -> str:
    rest = path[len(folder) :].lstrip("/") if folder else path
    return f"{to}/{rest}" if to else rest
