"""What steps do to the folders of an account: the survey that would be taken after them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any, assert_never

from msgspec.structs import replace

from kettlepost.core.names import Folder
from kettlepost.core.plan import Database
from kettlepost.core.steps import kinds
from kettlepost.core.steps.kinds import BesideFiles, Step
from kettlepost.core.survey import FoundControl, FoundDatabase, FoundFolder, Survey
from kettlepost.core.survey.control_files import effects_of

_LISTS = ("applications", "placeholders", "controls", "exposed", "sites", "links", "oddities")
"""What a survey lists by folder, besides the folders themselves."""
Keeps = Callable[[Folder], bool]


def survey_after(survey: Survey, steps: Iterable[Step]) -> Survey:
    """The survey that would be taken after `steps`; those that change nothing in files leave it as it is."""
    before = survey
    for step in steps:
        survey = _after(survey, step)
    return survey if survey is before else replace(survey, names="")  # the names kept are those of before


def _after(survey: Survey, step: Step) -> Survey:  # noqa: C901 (a closed set)
    if isinstance(step, BesideFiles):
        return survey
    match step:
        case kinds.MakeFolder():
            return _with_folders(survey, [FoundFolder(step.folder)])
        case kinds.CopyFolder():
            return _copied(survey, step.folder, step.to, step.stays)
        case kinds.MoveFolder():
            return _without(_copied(survey, step.folder, step.to, ()), step.folder, ())
        case kinds.DeleteFolder():
            return _without(survey, step.folder, step.stays)
        case kinds.DeleteFile() | kinds.MoveFile():
            return _without_file(survey, step.folder, step.file)
        case kinds.WriteFrontFile():
            return _with_file(survey, step.folder, step.file)
        case kinds.AddLines():
            return _with_lines(survey, step.folder, step.file, step.lines)
        case kinds.EditLine():
            return _with_line(survey, step.folder, step.file, step.line, step.new)
        case kinds.PutPage():
            return _with_file(survey, step.folder, step.file)
        case kinds.Configure():
            if step.folder is None or step.database is None:
                return survey
            return _configured(survey, step.folder, step.database)
        case _:
            assert_never(step)


def _without(survey: Survey, folder: Folder, stays: Sequence[Folder]) -> Survey:
    """Without what lies in `folder`, but for what stays and the folders around that."""

    def is_kept(place: Folder) -> bool:
        return not _is_in(place, folder) or any(_is_in(place, other) for other in stays if other != folder)

    around = {above for other in stays for above in (other, *other.above())}
    folders: list[FoundFolder] = []
    for found in survey.folders:
        if is_kept(found.folder):
            folders.append(found)
        elif found.folder in around:
            names = tuple(name for name in found.names if found.folder.below(name) in stays)
            folders.append(
                FoundFolder(found.folder, files=len(names), names=names,
                    index=tuple(name for name in found.index if name in names),
                    control=tuple(name for name in found.control if name in names)))  # fmt: skip
    kept = [one for one in survey.controls if is_kept(one.folder) or one.folder.below(one.file) in stays]
    return replace(_only(replace(survey, folders=folders), is_kept), controls=kept)


def _copied(survey: Survey, folder: Folder, to: Folder, stays: Sequence[Folder]) -> Survey:
    """With a copy of what lies in `folder` in another one, but for what stays."""

    def is_taken(place: Folder) -> bool:
        return _is_in(place, folder) and not any(_is_in(place, other) for other in stays)

    def copies(records: Iterable[Any]) -> list[Any]:
        taken = [record for record in records if is_taken(record.folder)]
        return [replace(record, folder=to.below(record.folder.relative_to(folder))) for record in taken]

    survey = _with_folders(survey, copies(survey.folders) or [FoundFolder(to)])
    return replace(survey, **{name: [*there, *copies(there)] for name in _LISTS for there in [getattr(survey, name)]})


def _without_file(survey: Survey, folder: Folder, name: str) -> Survey:
    def less(found: FoundFolder) -> FoundFolder:
        if found.folder != folder or name not in (*found.names, *found.index, *found.control):
            return found
        lists = {
            key: tuple(other for other in getattr(found, key) if other != name) for key in ("names", "index", "control")
        }
        return replace(found, files=max(found.files - 1, 0), **lists)

    return replace(
        survey,
        folders=list(map(less, survey.folders)),
        placeholders=[page for page in survey.placeholders if (page.folder, page.file) != (folder, name)],
        controls=[control for control in survey.controls if (control.folder, control.file) != (folder, name)],
        exposed=[one for one in survey.exposed if (one.folder, one.name) != (folder, name)],
        applications=[
            replace(app, leftovers=[file for file in app.leftovers if app.folder.below(file) != folder.below(name)])
            if app.leftovers else app
            for app in survey.applications
        ],
    )  # fmt: skip


def _with_file(survey: Survey, folder: Folder, name: str) -> Survey:
    """With an index file more in a folder, which is made where there is none."""
    found = next((one for one in survey.folders if one.folder == folder), FoundFolder(folder))
    if name in found.index:
        return survey
    return _with_folders(
        survey, [replace(found, files=found.files + 1, names=(*found.names, name), index=(*found.index, name))]
    )


def _with_lines(survey: Survey, folder: Folder, file: str, lines: Sequence[str]) -> Survey:
    """With lines more in a control file, which is made where there is none."""
    had = next((one for one in survey.controls if (one.folder, one.file) == (folder, file)), FoundControl(folder, file))
    last = max((int(line.partition(" ")[0]) for line in had.lines), default=0)
    more = [f"{last + number} {line}" for number, line in enumerate(lines, 1)]
    effects = effects_of(file, "\n".join(lines).encode())
    control = replace(had, lines=[*had.lines, *more], effects=[*had.effects, *effects])
    here = next((one for one in survey.folders if one.folder == folder), FoundFolder(folder))
    if file not in here.control:
        here = replace(here, files=here.files + 1, names=(*here.names, file), control=(*here.control, file))
    return replace(
        _with_folders(survey, [here]), controls=[*(one for one in survey.controls if one is not had), control]
    )


def _with_line(survey: Survey, folder: Folder, file: str, number: int, new: str | None) -> Survey:
    """With a line of a control file written otherwise, or taken out."""

    def edited(had: FoundControl) -> FoundControl:
        if (had.folder, had.file) != (folder, file):
            return had
        lines = [line for line in had.lines if int(line.partition(" ")[0]) != number]
        effects = [effect for effect in had.effects if effect.line != number]
        if new is not None:
            lines = sorted([*lines, f"{number} {new}"], key=lambda line: int(line.partition(" ")[0]))
            effects += [replace(effect, line=number) for effect in effects_of(file, new.encode())]
        return replace(had, lines=lines, effects=effects)

    return replace(survey, controls=list(map(edited, survey.controls)))


def _configured(survey: Survey, folder: Folder, base: Database) -> Survey:
    """With the configuration in `folder` naming another database."""
    found = FoundDatabase(base.name, base.user or "", base.server, base.prefix)
    applications = [
        replace(app, database=found) if app.folder == folder and app.database is not None else app
        for app in survey.applications
    ]
    return replace(survey, applications=applications)


def _with_folders(survey: Survey, more: Sequence[FoundFolder]) -> Survey:
    """With more folders, and those around them."""
    known = {found.folder for found in survey.folders} | {found.folder for found in more}
    around = {above for found in more for above in found.folder.above()} - known
    new = {found.folder for found in more}
    kept = [found for found in survey.folders if found.folder not in new]
    folders = sorted([*kept, *more, *map(FoundFolder, around)], key=lambda found: found.folder.tree_key)
    return replace(survey, folders=folders)


def _only(survey: Survey, is_kept: Keeps) -> Survey:
    lists = {name: [record for record in getattr(survey, name) if is_kept(record.folder)] for name in _LISTS}
    return replace(survey, **lists)


def _is_in(place: Folder, folder: Folder) -> bool:
    return place == folder or place.is_inside(folder)
