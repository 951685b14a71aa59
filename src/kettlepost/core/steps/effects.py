"""What steps do to the folders of an account: the survey that would be taken after them."""

from __future__ import annotations

from bisect import bisect_left, insort
from collections.abc import Iterable, Sequence
from typing import Any, assert_never

from msgspec.structs import replace

from kettlepost.core.names import Address, Folder, printable, strictly_inside, unprintable
from kettlepost.core.plan import Database
from kettlepost.core.steps import kinds
from kettlepost.core.steps.kinds import BesideFiles, Step
from kettlepost.core.survey import FoundControl, FoundDatabase, FoundFolder, Survey
from kettlepost.core.survey.control_files import effects_of
from kettlepost.core.survey.records import Effect
from kettlepost.core.webserver import carried_lines, text_of

_LISTS = ("applications", "placeholders", "controls", "exposed", "sites", "links", "oddities")
"""What a survey lists by folder, besides the folders themselves."""


def survey_after(survey: Survey, steps: Iterable[Step]) -> Survey:
    """The survey that would be taken after `steps`; those that change nothing in files leave it as it is."""
    work = [step for step in steps if not isinstance(step, BesideFiles)]
    if not work:
        return survey
    folders = _Folders(survey)
    for step in work:
        folders.carry_out(step)
    return folders.surveyed()


def _what(record: Any) -> object:
    """What a record of a folder is about: one of its files, or the folder itself."""
    return getattr(record, "file", None) or getattr(record, "name", None) or type(record)


def _together(copied: FoundFolder, there: FoundFolder | None) -> FoundFolder:
    """A folder with what is copied into it beside what lies there; a file of the same name is there once."""
    if there is None:
        return copied
    lists = {
        key: tuple(dict.fromkeys((*getattr(copied, key), *getattr(there, key))))
        for key in ("names", "index", "control")
    }
    seen = {*copied.names, *copied.index, *copied.control} & {*there.names, *there.index, *there.control}
    return replace(copied, files=copied.files + there.files - len(seen), **lists)


class _Folders:
    """The folders of a survey on which steps are carried out one after the other: each touches what it names only."""

    def __init__(self, survey: Survey):
        self._survey = survey
        self._found = {found.folder: found for found in survey.folders}
        self._sorted = sorted(self._found)
        self._lists: dict[str, dict[Folder, list[Any]]] = {}
        for name in _LISTS:
            filed = self._lists[name] = {}
            for record in getattr(survey, name):
                filed.setdefault(record.folder, []).append(record)
        self._changed: set[str] = set()
        self._own: set[tuple[Folder, str]] = set()
        """The control files that are copies of those of the survey already."""
        self._told: set[tuple[Folder, str]] = set()
        """Those of which is to be told anew what they do."""

    def surveyed(self) -> Survey:
        """The survey, in the order in which one is written where something has come or gone."""
        lists = {name: [record for filed in self._lists[name].values() for record in filed] for name in self._changed}
        for folder, file in self._told:
            for one in self._lists["controls"].get(folder, ()):
                if one.file == file:
                    one.effects = _effects(one)
        folders = sorted(self._found.values(), key=lambda found: found.folder.tree_key)
        return replace(self._survey, names="", folders=folders, **lists)  # the names kept are those of before

    def carry_out(self, step: Step) -> None:  # noqa: C901 (a closed set)
        if isinstance(step, BesideFiles):
            return
        match step:
            case kinds.MakeFolder():
                self._make(step.folder)
            case kinds.CopyFolder():
                self._copy(step.folder, step.to, step.stays)
            case kinds.MoveFolder():
                self._copy(step.folder, step.to, ())
                self._remove(step.folder, ())
            case kinds.DeleteFolder() | kinds.SetAsideFolder():
                self._remove(step.folder, step.stays)
            case kinds.DeleteFile() | kinds.MoveFile():
                self._remove_file(step.folder, step.file)
            case kinds.WriteFrontFile() | kinds.PutPage():
                self._add_index(step.folder, step.file)
            case kinds.AddLines():
                self._add_lines(step.folder, step.file, step.lines, step.is_first)
            case kinds.CarryLines():
                self._carry(step.folder, step.file, step.to)
            case kinds.EditLine():
                self._edit_line(step.folder, step.file, step.line, step.new)
            case kinds.Configure():
                if step.folder is not None and step.database is not None and not step.address:
                    self._configure(step.folder, step.database)
                elif step.folder is not None and step.database is None:
                    self._readdress(step.folder, step.address)
            case _:
                assert_never(step)

    def _inside(self, folder: Folder) -> list[Folder]:
        """A folder that is there, and all that lie in it."""
        own = [folder] if folder in self._found else []
        return [*own, *(place for place in strictly_inside(self._sorted, folder) if place != folder)]

    def _put(self, found: FoundFolder) -> None:
        for place in (found.folder, *found.folder.above()):
            if place not in self._found:
                insort(self._sorted, place)
                self._found[place] = FoundFolder(place)
        self._found[found.folder] = found

    def _make(self, folder: Folder) -> FoundFolder:
        if folder not in self._found:
            self._put(FoundFolder(folder))
        return self._found[folder]

    def _rewrite(self, name: str, folder: Folder, records: list[Any]) -> None:
        """What a list of the survey has of a folder."""
        filed = self._lists[name]
        if records or folder in filed:
            self._changed.add(name)
            filed[folder] = records

    def _remove(self, folder: Folder, stays: Sequence[Folder]) -> None:
        """Without what lies in `folder`, but for what stays and the folders around that."""
        self._drop_leftover(folder)
        others = [place for place in stays if place != folder]
        around = {above for place in stays for above in (place, *place.above())}
        for place in self._inside(folder):
            if any(place == other or place.is_inside(other) for other in others):
                continue
            found = self._found[place]
            if place in around:
                names = tuple(name for name in found.names if place.below(name) in others)
                index, control = (tuple(n for n in some if n in names) for some in (found.index, found.control))
                self._found[place] = FoundFolder(place, len(names), names=names, index=index, control=control)
            else:
                del self._found[place]
                del self._sorted[bisect_left(self._sorted, place)]
            for name in _LISTS:
                there = self._lists[name].get(place)
                if there:
                    stay = [one for one in there if name == "controls" and place.below(one.file) in others]
                    self._rewrite(name, place, stay)

    def _copy(self, folder: Folder, to: Folder, stays: Sequence[Folder]) -> None:
        """With a copy of what lies in `folder` in another one, but for what stays."""
        self._make(to)
        taken = [place for place in self._inside(folder) if not any(_is_in(place, other) for other in stays)]
        for place in taken:
            goes = to.below(place.relative_to(folder))
            self._own -= {(place, one.file) for one in self._lists["controls"].get(place, ())}  # the copy shares them
            self._put(_together(replace(self._found[place], folder=goes), self._found.get(goes)))
            for name in _LISTS:
                there = self._lists[name].get(place, ())
                if there:
                    copies = [replace(record, folder=goes) for record in there]
                    same = {_what(one) for one in copies}
                    kept = [one for one in self._lists[name].get(goes, ()) if _what(one) not in same]
                    self._rewrite(name, goes, [*kept, *copies])

    def _remove_file(self, folder: Folder, name: str) -> None:
        found = self._found.get(folder)
        if found is not None and name in (*found.names, *found.index, *found.control):
            lists = {key: tuple(one for one in getattr(found, key) if one != name)
                     for key in ("names", "index", "control")}  # fmt: skip
            self._found[folder] = replace(found, files=max(found.files - 1, 0), **lists)
        for list_, key in (("placeholders", "file"), ("controls", "file"), ("exposed", "name")):
            there = self._lists[list_].get(folder, [])
            self._rewrite(list_, folder, [one for one in there if getattr(one, key) != name])
        self._drop_leftover(folder.below(name))

    def _drop_leftover(self, gone: Folder) -> None:
        """An application around it has it left no more."""
        for place in gone.above():
            apps = self._lists["applications"].get(place, [])
            if any(app.leftovers for app in apps):
                left = [replace(app, leftovers=[one for one in app.leftovers if place.below(one.rstrip("/")) != gone])
                        for app in apps]  # fmt: skip
                self._rewrite("applications", place, left)

    def _add_index(self, folder: Folder, name: str) -> None:
        """With an index file more in a folder, which is made where there is none."""
        found = self._make(folder)
        if name not in found.index:
            names, index = (*found.names, name), (*found.index, name)
            self._found[folder] = replace(found, files=found.files + 1, names=names, index=index)

    def _add_lines(self, folder: Folder, file: str, lines: Sequence[str], is_first: bool = False) -> None:
        """With lines more at the end of a control file, or before all others; it is made where there is none."""
        found, there = self._make(folder), self._lists["controls"].get(folder, [])
        before = next((one for one in there if one.file == file), None)
        control = before or FoundControl(folder, file)
        if before is None or (folder, file) not in self._own:  # one that was removed is not there, whosever it was
            control = replace(control, lines=[*control.lines], effects=[*control.effects])
            self._own.add((folder, file))
            self._rewrite("controls", folder, [*(one for one in there if one is not before), control])
        last = _number(control.lines[-1]) if control.lines and not is_first else 0
        added = [f"{last + number} {printable(line)}" for number, line in enumerate(lines, 1)]
        control.lines = added + _moved_down(control.lines, len(lines)) if is_first else control.lines + added
        self._told.add((folder, file))
        if file not in found.control:
            names, control_names = (*found.names, file), (*found.control, file)
            self._found[folder] = replace(found, files=found.files + 1, names=names, control=control_names)

    def _carry(self, folder: Folder, file: str, to: Folder) -> None:
        """With what one control file says of who may see what, and of PHP, at the beginning of another."""
        there = (one for one in self._lists["controls"].get(folder, []) if one.file == file)
        lines = [written for one in there for _, written in carried_lines(_text(one))]
        self._add_lines(to, file, ())
        control = next(one for one in self._lists["controls"][to] if one.file == file)
        own = _moved_down(control.lines, len(lines))
        control.lines = [f"{number} {printable(line)}" for number, line in enumerate(lines, 1)] + own

    def _edit_line(self, folder: Folder, file: str, number: int, new: str | None) -> None:
        """With a line of a control file written otherwise, or taken out."""
        there = self._lists["controls"].get(folder, [])
        self._own.discard((folder, file))
        self._rewrite("controls", folder, [_edited(one, number, new) if one.file == file else one for one in there])

    def _readdress(self, folder: Folder, address: str) -> None:
        """With the configuration in `folder` naming another address, where it names one at all."""
        told = address.partition("//")[2] or address
        apps = self._lists["applications"].get(folder, [])
        if any(app.address for app in apps):
            changed = [replace(app, address=str(Address.parse(told))) if app.address else app for app in apps]
            self._rewrite("applications", folder, changed)

    def _configure(self, folder: Folder, base: Database) -> None:
        """With the configuration in `folder` naming another database."""
        named = FoundDatabase(base.name, base.user or "", base.server, base.prefix)
        apps = self._lists["applications"].get(folder, [])
        told = [replace(app, database=named) if app.database is not None else app for app in apps]
        self._rewrite("applications", folder, told)


def _edited(control: FoundControl, number: int, new: str | None) -> FoundControl:
    lines = [line for line in control.lines if _number(line) != number]
    beside = [effect for effect in control.effects if effect.line != number]
    if new is not None:
        lines = sorted([*lines, f"{number} {printable(new)}"], key=_number)
    edited = replace(control, lines=lines, effects=beside)
    edited.effects = _effects(edited)
    return edited


def _effects(control: FoundControl) -> list[Effect]:
    """What a control file does by its lines, and by those of which only that was kept."""
    kept = {_number(line) for line in control.lines}
    text = _text(control)
    if not text and control.lines:  # somebody has changed the survey
        return control.effects
    told = effects_of(control.file, text.encode("utf-8", "surrogateescape"))
    return [*told, *(effect for effect in control.effects if effect.line not in kept)]


def _text(control: FoundControl) -> str:
    """The lines that were kept of it; nothing where somebody has changed the survey."""
    try:
        return text_of(map(unprintable, control.lines))
    except ValueError:
        return ""


def _moved_down(lines: Iterable[str], by: int) -> list[str]:
    """Kept lines of a control file once so many stand before them."""
    return [f"{_number(line) + by * bool(_number(line))} {line.partition(' ')[2]}" for line in lines]


def _number(line: str) -> int:
    """The number that a line of a control file is kept behind; 0 where somebody has changed the survey."""
    number = line.partition(" ")[0]
    return int(number) if number.isascii() and number.isdigit() else 0


def _is_in(place: Folder, folder: Folder) -> bool:
    return place == folder or place.is_inside(folder)
