"""Ways out for single files: set aside, removed, moved out of every root."""

from __future__ import annotations

from collections.abc import Iterable

from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Folder
from kettlepost.core.rules.ways_out import numbered
from kettlepost.core.steps import Sign, Step, StepKind, Subject, SubjectKind, Who


def removed(layout: AccountLayout, folder: Folder, names: Iterable[str], what: str = "") -> list[Step]:
    """Keep a copy of files that lie in one folder, and remove them."""
    steps: list[Step] = []
    for name in names:
        place = folder.below(name)
        subject = Subject(SubjectKind.FILE, place.shown)
        for kind, seen in ((StepKind.COPY, Sign.THERE), (StepKind.REMOVE, Sign.GONE)):
            steps.append(
                Step(kind, subject, layout.name, Who.FILES, seen, place.parent, file=Folder(place.name), what=what)
            )
    return steps


def moved_out(layout: AccountLayout, folder: Folder, names: Iterable[str]) -> tuple[Folder | None, list[Step]]:
    """Move files, or folders, to a folder that no address reaches; None where every folder can be reached."""
    to = next((place for place in map(Folder, _outside()) if _is_apart(layout, place)), None)
    if to is None:
        return None, []
    contents = layout.contents
    steps = []
    for name in names:
        place = folder.below(name)
        is_folder = contents is not None and contents.exists(place)
        subject = Subject(SubjectKind.FOLDER if is_folder else SubjectKind.FILE, place.shown)
        moved = Step(
            StepKind.TRANSFER, subject, layout.name, Who.FILES, Sign.THERE, place if is_folder else place.parent,
            file=None if is_folder else Folder(place.name), to=to.below(place.name) if is_folder else to,
        )  # fmt: skip
        gone = Step(StepKind.REMOVE, subject, layout.name, Who.FILES, Sign.GONE, moved.where, file=moved.file)
        steps += [moved, gone]
    return to, steps


def _outside() -> Iterable[str]:
    return (name for name, _ in zip(numbered(("private",)), range(20), strict=False))


def _is_apart(layout: AccountLayout, place: Folder) -> bool:
    around = (place, *place.above())
    led = (*layout.mounts, *layout.tree("now").mounts)
    return not any(folder in layout.placed for folder in around) and not any(
        folder == root or folder.is_inside(root) for root in led for folder in (place,)
    )
