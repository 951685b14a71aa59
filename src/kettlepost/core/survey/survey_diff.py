"""What came, went and changed between two surveys of one account."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any, Literal

from msgspec import Struct

from kettlepost.core.messages import Message, Words, say
from kettlepost.core.names import Folder, printable
from kettlepost.core.survey.records import FoundFolder, Survey
from kettlepost.core.words import counted


class SurveyDifference(Struct):
    """One difference: of a folder, or of something that was found in one."""

    change: Literal["came", "went", "changed"]
    kind: str
    at: str
    words: Words = ""


def arrivals(before: Survey, after: Survey) -> list[Folder]:
    """The folders of applications that an earlier survey looked at and did not show them in."""
    was = {found.folder: found.application for found in before.applications}
    seen = {found.folder: not found.trouble for found in before.folders}
    known = set(before.came)
    return sorted(
        found.folder
        for found in after.applications
        if (found.folder in known and was.get(found.folder) == found.application)
        or (was.get(found.folder) != found.application and _was_looked_at(found.folder, seen))
    )


def _was_looked_at(folder: Folder, seen: Mapping[Folder, bool]) -> bool:
    """Whether a survey tells what was at a folder: by itself, or by the nearest one around it that was there."""
    return next((seen[above] for above in (folder, *folder.above()) if above in seen), False)


def compare(before: Survey, after: Survey) -> list[SurveyDifference]:
    """Every difference, things first and then folders, each in the order of the folders.

    A folder that came or went is told once, with what lies below it counted.
    """
    return [*_things(before, after), *_folders(before, after)]


def _things(before: Survey, after: Survey) -> Iterator[SurveyDifference]:
    kinds: dict[str, Callable[[Any], tuple[str, str]]] = {
        "application": lambda item: (
            item.application,
            " ".join(filter(None, (item.application, item.version, item.condition))),
        ),
        "site": lambda item: ("", item.kind),
        "placeholder": lambda item: (item.file, f"{item.file}, {item.kind}"),
        "control file": lambda item: (
            item.file,
            ", ".join([item.file, *(f"{e.does} {e.what}".strip() for e in item.effects)])
            + ("" if item.effects else "".join(f", {line.partition(' ')[2]}" for line in item.lines[:3])),
        ),
        "exposed": lambda item: (item.name, f"{item.name} {item.kind}".strip()),
        "link": lambda item: (item.name, f"{item.name} -> {item.target}"),
    }
    names = ("applications", "sites", "placeholders", "controls", "exposed", "links")
    for (kind, told), name in zip(kinds.items(), names, strict=True):
        was = {(item.folder, told(item)[0]): told(item)[1] for item in getattr(before, name)}
        now = {(item.folder, told(item)[0]): told(item)[1] for item in getattr(after, name)}
        for key in sorted({*was, *now}, key=lambda key: (key[0].tree_key, key[1])):
            if was.get(key) == now.get(key):
                continue
            shown = key[0].shown
            if key not in was:
                yield SurveyDifference("came", kind, shown, printable(now[key]))
            elif key not in now:
                yield SurveyDifference("went", kind, shown, printable(was[key]))
            else:
                became = say("difference/became", was=printable(was[key]), now=printable(now[key]))
                yield SurveyDifference("changed", kind, shown, became)


def _folders(before: Survey, after: Survey) -> Iterator[SurveyDifference]:
    was = {found.folder: found for found in before.folders}
    now = {found.folder: found for found in after.folders}
    came, went = _topmost(now, was), _topmost(was, now)
    for folder in sorted({*was, *now}, key=lambda folder: folder.tree_key):
        if folder in came:
            yield SurveyDifference("came", "folder", folder.shown, came[folder])
        elif folder in went:
            yield SurveyDifference("went", "folder", folder.shown, went[folder])
        elif folder in was and folder in now and (words := _changed(was[folder], now[folder])):
            yield SurveyDifference("changed", "folder", folder.shown, words)


def _topmost(those: dict[Folder, FoundFolder], others: dict[Folder, FoundFolder]) -> dict[Folder, str]:
    """Folders only in `those`, each standing for what lies below it."""
    files: dict[Folder, int] = {}
    for folder, found in those.items():
        if folder in others:
            continue
        top = folder
        for above in folder.above():
            if above in others or above not in those:
                break
            top = above
        files[top] = files.get(top, 0) + found.files
    return {folder: counted(number, "file") for folder, number in files.items()}


def _changed(was: FoundFolder, now: FoundFolder) -> Message | None:
    parts = []
    if was.files != now.files:
        parts.append(say("difference/files", was=was.files, now=now.files))
    if was.bytes != now.bytes:
        parts.append(say("difference/bytes", was=was.bytes, now=now.bytes))
    elif was.newest != now.newest:
        parts.append(say("difference/newer"))
    if was.trouble_words != now.trouble_words:
        trouble = now.trouble_words
        parts.append(say("difference/unread", trouble=trouble) if trouble else say("difference/read-again"))
    return say("difference/folder", changes=parts) if parts else None
