"""Which folders of an account are shown as a tree, and how many inside each are not."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Set

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.names import HOME, Folder


def held_folders(layout: AccountLayout) -> set[Folder]:
    """The folders that somebody holds: roots, mounts, installations, and what was found."""
    held = {*layout.mounts, *layout.placed, *layout.roots}
    if layout.contents is not None:
        survey = layout.contents.survey
        held |= {page.folder for page in survey.placeholders} | {found.folder for found in survey.applications}
    return held


def shown_folders(known: Iterable[Folder], held: Iterable[Folder], every: bool = False) -> list[Folder]:
    """Those that are held with all above them, and those directly in the home, or `every` one; in a tree's order."""
    shown = {above for folder in held for above in (folder, *folder.above())}
    shown |= {folder for folder in known if every or folder.depth <= 1}
    return sorted(shown, key=lambda folder: folder.tree_key)


def hidden_inside(known: Iterable[Folder], shown: Set[Folder]) -> Counter[Folder]:
    """How many folders that are not shown lie in each that is, counted at the nearest above."""
    return Counter(
        next((above for above in folder.above() if above in shown), HOME) for folder in known if folder not in shown
    )
