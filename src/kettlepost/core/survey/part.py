"""A part of an account looked at again: how far that has to reach, and the survey with that part as it is now.

What lies outside stays as it was known. Pages there that counted as a part of a site in the folder, such as its
documentation, and pages that send visitors into it, are judged anew with the next look at everything.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from msgspec.structs import replace

from kettlepost.core.names import Folder
from kettlepost.core.plan import Application
from kettlepost.core.survey.copies import aside
from kettlepost.core.survey.records import FoundApplication, FoundFolder, LookedAt, Survey

_LISTS = ("applications", "sites", "placeholders", "controls", "exposed", "oddities", "links", "pages")
_OF_MAIL = ("cur", "new", "tmp")


def is_in(place: str, folder: str) -> bool:
    """Whether a place is a folder or lies inside it."""
    return not folder or place == folder or place.startswith(folder + "/")


def reaching(before: Survey, folder: Folder, applications: Mapping[str, Application]) -> Folder:
    """The folder that has to be looked at so that what is known of the rest of a survey stays true.

    It lies around `folder` where that was not there yet, or where an application has files of its own in it.
    """
    known = {found.folder for found in before.folders}
    while folder and folder.parent not in known:
        folder = folder.parent
    if folder.name in _OF_MAIL:
        folder = folder.parent
    for found in before.applications:
        known_as = applications.get(found.application)
        if is_in(folder, found.base) and folder != found.base:
            if known_as is None or any(is_in(folder, found.base.below(own)) for own in known_as.folders):
                return reaching(before, found.base, applications)
            if any(is_in(found.base.below(path.strip("/")), folder) for path in _paths(known_as)):
                return reaching(before, found.base, applications)
    return folder


def outside_of(before: Survey, folder: Folder) -> Survey:
    """A survey without what it has of a folder and all that lies in it."""
    lists: dict[str, list[Any]] = {
        name: [record for record in getattr(before, name) if not is_in(record.folder, folder)] for name in _LISTS
    }
    lists["applications"] = [found for found in before.applications if not is_in(found.base, folder)]
    return replace(before, folders=[found for found in before.folders if not is_in(found.folder, folder)], **lists)


def joined(rest: Survey, part: Survey, folder: Folder, applications: Mapping[str, Application]) -> Survey | None:
    """The survey `rest` with what `part` has of a folder; None where only a look at everything would tell.

    When it was looked at is kept beside the moment of the whole.
    """
    for found in part.applications:
        config = applications[found.application].config
        if found.base == folder and found.condition == "not set up" and config is not None and config.above:
            return None  # its configuration may lie in the folder around it
    lists: dict[str, list[Any]] = {
        name: [*getattr(rest, name), *(record for record in getattr(part, name) if is_in(record.folder, folder))]
        for name in _LISTS
    }
    lists["folders"] = [*rest.folders, *(found for found in part.folders if is_in(found.folder, folder))]
    for name in ("folders", *_LISTS):
        lists[name].sort(key=_order)
    kept = _told_apart(lists["applications"], {found.folder: found for found in lists["folders"]}, part.roots or ())
    if kept is None:
        return None
    lists["applications"] = kept
    roots = sorted({*(rest.roots or ()), *(root for root in part.roots or () if is_in(root, folder))})
    later = [one for one in rest.later if not is_in(one.folder, folder)]
    return replace(
        rest,
        **lists,
        roots=roots if rest.roots is not None else None,
        later=sorted([*later, LookedAt(folder, part.taken)], key=_order),
        slow=sorted({*rest.slow, *part.slow}),
        names="",
    )


def _told_apart(
    applications: list[FoundApplication], folders: Mapping[Folder, FoundFolder], roots: Iterable[str]
) -> list[FoundApplication] | None:
    """The applications, of which others may make copies that are kept aside, or the ones in use."""
    newest = {found.base: folders[found.base].newest if found.base in folders else 0 for found in applications}
    copies = aside({found.base: found.application for found in applications}, newest, frozenset(map(str, roots)))
    told = []
    for found in applications:
        if found.base in copies and found.condition in ("", "not set up"):
            found = replace(found, condition="copy")
        elif found.base not in copies and found.condition == "copy":
            return None  # whether it is set up was not kept
        told.append(found)
    return told


def _paths(known: Application) -> Iterable[str]:
    """All that an application is known by."""
    yield from (*known.all_of, *known.parts, *known.any_of, *known.none_of, *known.leftovers)
    if known.config is not None:
        yield known.config.file
    if known.version is not None:
        yield known.version.file


def _order(record: Any) -> tuple[str, str]:
    return record.folder.tree_key, getattr(record, "name", "") or getattr(record, "file", "")
