"""What a survey found, indexed for questions about folders."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Sequence
from functools import cached_property
from typing import Any, NamedTuple, Protocol, TypeVar

from msgspec import structs

from kettlepost.core.names import Folder, strictly_inside, unprintable
from kettlepost.core.survey import (
    CHOOSING_PHP,
    KEEPING_OUT,
    FoundApplication,
    FoundControl,
    FoundFolder,
    FoundPlaceholder,
    FoundSite,
    Survey,
)
from kettlepost.core.webserver import is_protecting


class Totals(NamedTuple):
    """What lies in a folder and everything below it; `newest` in seconds since 1970."""

    files: int
    bytes: int
    newest: int


class Contents:
    """The folders of one account as its survey saw them."""

    def __init__(self, survey: Survey, roots: Collection[Folder] = (), placed: Collection[Folder] = ()):
        """`roots` and the folders of installations are named by the plan, so that what lies there is no copy,
        whatever they are called; and an application is where the plan has it, at its files or at its document root.
        """
        self.survey = survey
        self.folders: dict[str, FoundFolder] = {found.folder: found for found in survey.folders}
        self.applications: dict[str, FoundApplication] = {}
        for found in survey.applications:
            if found.around is not None and found.around in placed and found.folder not in placed:
                found = structs.replace(found, folder=found.around, around=None)
            if found.condition == "copy" and (found.folder in roots or found.folder in placed):
                found = structs.replace(found, condition="")
            self.applications[found.folder] = found
        self._placeholders = _by_folder([page for page in survey.placeholders if not page.perhaps])
        self._perhaps = _by_folder([page for page in survey.placeholders if page.perhaps])

    def exists(self, folder: Folder) -> bool:
        return folder in self.folders

    def placeholders(self, folder: Folder) -> list[FoundPlaceholder]:
        """The pages in `folder` that only hold the place, for sure."""
        return self._placeholders.get(folder, [])

    def perhaps_placeholders(self, folder: Folder) -> list[FoundPlaceholder]:
        """The pages in `folder` that may do so: somebody is to look at them."""
        return self._perhaps.get(folder, [])

    def controls(self, folder: Folder) -> list[FoundControl]:
        """The control files directly in `folder`, with what they do."""
        return self._controls.get(folder, [])

    def htaccess(self, folder: Folder) -> FoundControl | None:
        """The control file of Apache that lies directly in `folder`."""
        return next((one for one in self.controls(folder) if one.file == ".htaccess"), None)

    def needed_controls(self, folder: Folder) -> list[str]:
        """The control files directly in a folder that keep visitors out, or by which PHP runs in it at all."""
        needed = CHOOSING_PHP | KEEPING_OUT
        return [
            one.file
            for one in self.controls(folder)
            if any(effect.does in needed for effect in one.effects) or any(map(_is_protecting, one.lines))
        ]

    def site(self, folder: Folder) -> FoundSite | None:
        """The site that no catalogue entry knows in exactly `folder`."""
        return self._sites.get(folder)

    def inside(self, folder: Folder) -> Sequence[str]:
        """Every folder strictly inside `folder`, sorted as text."""
        return strictly_inside(self._sorted, folder)

    def children(self, folder: Folder) -> list[Folder]:
        return self._children.get(folder, [])

    def called(self, names: frozenset[str]) -> dict[Folder, list[Folder]]:
        """The folders with one of these names, by the folder they lie in."""
        found: dict[Folder, list[Folder]] = defaultdict(list)
        for seen_folder in self.survey.folders:
            if seen_folder.folder.rpartition("/")[2] in names:
                found[seen_folder.folder.parent].append(seen_folder.folder)
        return found

    def among(self, folders: Iterable[str]) -> dict[str, list[Any]]:
        """What was found in any of `folders`, by kind, but for folders and applications themselves."""
        return {
            kind: [item for folder in folders for item in filed.get(folder, ())] for kind, filed in self._filed.items()
        }

    def totals(self, folder: Folder) -> Totals:
        """Files, bytes and newest change of `folder` and everything below it."""
        there = [self.folders[name] for name in (folder, *self.inside(folder)) if name in self.folders]
        return Totals(
            sum(found.files for found in there),
            sum(found.bytes for found in there),
            max((found.newest for found in there), default=0),
        )

    def is_empty(self, folder: Folder) -> bool:
        """Whether no file lies in `folder` or below it."""
        return self.totals(folder).files == 0

    @cached_property
    def _filed(self) -> dict[str, dict[Any, list[Any]]]:
        kinds = ("sites", "placeholders", "controls", "exposed", "oddities")
        return {kind: dict(_by_folder(getattr(self.survey, kind))) for kind in kinds}

    @cached_property
    def _controls(self) -> dict[Folder, list[FoundControl]]:
        return _by_folder(self.survey.controls)

    @cached_property
    def _sites(self) -> dict[Folder, FoundSite]:
        return {site.folder: site for site in self.survey.sites}

    @cached_property
    def _sorted(self) -> list[str]:
        return sorted(self.folders)

    @cached_property
    def _children(self) -> dict[str, list[Folder]]:
        children: dict[str, list[Folder]] = defaultdict(list)
        for found in self.survey.folders:
            if found.folder:
                children[found.folder.parent].append(found.folder)
        return children


def _is_protecting(kept: str) -> bool:
    return is_protecting(unprintable(kept.partition(" ")[2]))


class _InFolder(Protocol):
    folder: Folder


Found = TypeVar("Found", bound=_InFolder)


def _by_folder(records: list[Found]) -> dict[Folder, list[Found]]:
    found: dict[Folder, list[Found]] = defaultdict(list)
    for record in records:
        found[record.folder].append(record)
    return found
