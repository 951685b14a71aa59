"""What is in use in and around a folder, and what would win over it, once it is put back."""

from __future__ import annotations

import re
from collections.abc import Container, Iterable, Iterator, Mapping
from typing import NamedTuple

from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Folder, printable
from kettlepost.core.plan import Installation
from kettlepost.core.survey import CONTROL_NAMES, is_in

_INDEX = re.compile(r"(?:index|default|home)\.[a-z0-9]+", re.IGNORECASE)


class InUse(NamedTuple):
    """Something in use in a folder, in words, and whether addresses below it are its own, as an application's are."""

    what: str
    is_application: bool


class Covering(NamedTuple):
    """Something that would win over what is in use in a folder, or have a say over it."""

    path: str
    folder: Folder
    what: str

    @property
    def words(self) -> str:
        there = f"{self.what}, which is in {self.folder.shown} now"
        return f"{printable(self.path)} would come between visitors and {there}"


def live_in(layout: AccountLayout, folder: Folder, taken: Iterable[str] = ()) -> dict[str, InUse]:
    """What is in use in a folder or around it, by its own folder; without that of which `taken` are files."""
    away = list(taken)
    found: dict[str, InUse] = {}
    for place, installations in layout.present.items():
        live = [one for one in installations if one.state == "live" and not _is_away(layout, place, one)]
        if live:
            found[place] = InUse(f"{live[0].application} of {live[0].address}", True)
    survey = layout.survey
    for known in survey.applications if survey is not None else ():
        files = (known.base.below(name) for name in known.evidence)
        if known.condition != "copy" and not any(is_in(file, one) for file in files for one in away):
            found.setdefault(known.base, InUse(known.application, True))
            found.setdefault(known.folder, InUse(known.application, True))
    for site in survey.sites if survey is not None else ():
        if not any(is_in(site.folder.below(name), one) for name in site.evidence for one in away):
            found.setdefault(site.folder, InUse(f"a {site.kind}", False))
    return {place: what for place, what in found.items() if is_in(place, folder) or is_in(folder, place)}


def _is_away(layout: AccountLayout, place: Folder, installation: Installation) -> bool:
    """Whether the survey shows nothing in its folder of something live that it would know."""
    contents = layout.contents
    return contents is not None and bool(layout.application(installation).all_of) and place not in contents.applications


def covering(live: Mapping[str, InUse], paths: Mapping[str, str], index: Container[str]) -> Iterator[Covering]:
    """Of some paths, with their kinds, those that win over something in use, or rule over it.

    That is index files beside it, control files in its folder and around it, and folders in an application's.
    """
    for path, kind in paths.items():
        around, _, name = path.rpartition("/")
        for folder, used in live.items():
            is_page = name in index or _INDEX.fullmatch(name) is not None
            wins = is_page or (used.is_application and kind == "folder")
            if (wins and around == folder) or (name in CONTROL_NAMES and is_in(folder, around)):
                yield Covering(path, Folder(folder), used.what)
                break
