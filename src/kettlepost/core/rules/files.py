"""Ways out for single files: set aside, removed, moved out of every root."""

from __future__ import annotations

from collections.abc import Iterable

from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Folder
from kettlepost.core.rules.ways_out import numbered
from kettlepost.core.steps import DeleteFile, DeleteFolder, KeepFile, KeepFolder, MoveFile, MoveFolder, Step


def removed(layout: AccountLayout, folder: Folder, names: Iterable[str], is_placeholder: bool = False) -> list[Step]:
    """Keep a copy of files, or of folders, that lie in one folder, or below it, and remove them."""
    steps: list[Step] = []
    for name in names:
        place = folder.below(name.rstrip("/"))
        if layout.contents is not None and layout.contents.exists(place):
            steps += (KeepFolder(layout.name, place), DeleteFolder(layout.name, place))
            continue
        steps.append(KeepFile(layout.name, place.parent, place.name))
        steps.append(DeleteFile(layout.name, place.parent, place.name, is_placeholder))
    return steps


def moved_out(layout: AccountLayout, folder: Folder, names: Iterable[str]) -> tuple[Folder | None, list[Step]]:
    """Move files, or folders, to a folder that no address reaches; None where every folder can be reached."""
    to = next((place for place in map(Folder, _outside()) if _is_apart(layout, place)), None)
    if to is None:
        return None, []
    contents = layout.contents
    steps: list[Step] = []
    for name in names:
        place = folder.below(name)
        if contents is not None and contents.exists(place):
            steps.append(MoveFolder(layout.name, place, to.below(place.name)))
        else:
            steps.append(MoveFile(layout.name, place.parent, place.name, to))
    return to, steps


def _outside() -> Iterable[str]:
    return (name for name, _ in zip(numbered(("private",)), range(20), strict=False))


def _is_apart(layout: AccountLayout, place: Folder) -> bool:
    around = (place, *place.above())
    led = (*layout.mounts, *layout.tree("now").mounts)
    return not any(folder in layout.placed for folder in around) and not any(
        folder == root or folder.is_inside(root) for root in led for folder in (place,)
    )
