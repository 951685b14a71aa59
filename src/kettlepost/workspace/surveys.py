"""Taking surveys, storing them beside the plan, and looking at what is stored."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor, as_completed
from contextlib import nullcontext, suppress
from pathlib import Path
from typing import NamedTuple

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import InputError, KettlepostError, OutsideError, PlanError
from kettlepost.core.layout import Inventory, inventory
from kettlepost.core.names import HOME, Folder, InvalidName, printable
from kettlepost.core.plan import Account, Plan
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import (
    LARGEST_NAMES,
    LARGEST_SURVEY,
    NamesWriter,
    Recognisable,
    RecognitionTrial,
    Source,
    Survey,
    SurveyDifference,
    arrivals,
    compare,
    joined,
    outside_of,
    reaching,
    survey_pieces,
    take_survey,
    try_source,
)
from kettlepost.sources import LocalFolder, Secrets, open_source
from kettlepost.workspace import catalogue
from kettlepost.workspace.clock import now
from kettlepost.workspace.files import being_written, own_folder, read_at_most, write_whole
from kettlepost.workspace.plan_folder import PlanFolder, names_file, names_file_before, survey_file

SIDE_BY_SIDE = 4
Progress = Callable[[int, int], None]


class SurveyComparison(NamedTuple):
    """What came, went and changed between two surveys, and when they were taken."""

    before: str
    after: str
    differences: list[SurveyDifference]


def survey(
    plan: PlanFolder,
    name: str,
    source: str | None = None,
    inside: str | None = None,
    secrets: Secrets | None = None,
    progress: Progress | None = None,
    taken: str | None = None,
    only: str = "",
    limits: Limits | None = None,
) -> Survey:
    """Look at what is in an account's folders, and store it; the survey before stays when anything goes wrong.

    `source` names where, else the account's `survey_from` does. With `only` that folder and all that lies in it
    is looked at, and the rest stays as it was found before; where nothing was, or only all of it would tell,
    everything is looked at; `limits` is what may be spent. Raises InputError, OutsideError.
    """
    account = plan.account(plan.known_names([name])[0])
    moment = taken or now()
    opened = source_of(plan, name, source, inside, secrets, moment, limits)
    known = catalogue.recognised(plan.shared.plan([]))
    before = None
    with suppress(InputError, OutsideError):  # where the one before cannot be read, it tells nothing
        before = plan.read_survey(name)
    folder = _folder(plan, name, only)
    if folder and before is not None:
        found = _again(plan, account, before, known, opened, moment, progress, folder, limits)
        if found is not None:
            return found
    _keep_names(plan, name)
    with being_written(plan.path / names_file(name)) as names:
        budget = Budget(opened.name, limits, time.monotonic)
        found = take_survey(known, name, account, opened, moment, progress, NamesWriter(names.write), budget=budget)
        found.came = arrivals(before, found) if before is not None else []
        store_survey(plan.path, found)  # the one that is there fits its names until these are in place
    return found


def _keep_names(plan: PlanFolder, name: str) -> None:
    """Keep what files were called at the last survey, as a part of it is written over; it is no loss where it fails."""
    with suppress(OSError, KettlepostError):
        there = read_at_most(plan.path / names_file(name), LARGEST_NAMES)
        own_folder(plan.path)
        with being_written(plan.path / names_file_before(name)) as kept:
            kept.write(there)


def _folder(plan: PlanFolder, name: str, written: str) -> Folder:
    """A folder of an account as it was given, with links followed. Raises InputError."""
    try:
        return plan.layout_of(name).real(Folder.parse(written)) if written else HOME
    except InvalidName as error:
        raise InputError(str(error)) from None


def source_of(
    plan: PlanFolder,
    name: str,
    source: str | None = None,
    inside: str | None = None,
    secrets: Secrets | None = None,
    moment: str | None = None,
    limits: Limits | None = None,
) -> Source:
    """Where an account is looked at: what `source` names, else its `survey_from`. Raises InputError, OutsideError."""
    settings = plan.account(name).settings
    written = source or settings.survey_from
    if not written:
        raise InputError(f"it is not said where {name} can be looked at", Remedy.of(Action.NAME_HOME, name))
    return open_source(written, name, settings.home, moment or now(), inside, secrets, limits)


def _again(
    plan: PlanFolder,
    account: Account,
    before: Survey,
    known: Recognisable,
    source: Source,
    moment: str,
    progress: Progress | None,
    only: Folder,
    limits: Limits | None = None,
) -> Survey | None:
    """Look at a part of an account again and store the whole; None where all of it has to be looked at."""
    folder = reaching(before, only, known.applications)
    if not folder or before.contents != source.contents:
        return None
    rest, old = outside_of(before, folder), plan.file_names(account.name)
    kept = old if old is not None and old.digest == before.names else None
    _keep_names(plan, account.name)
    try:
        with being_written(plan.path / names_file(account.name)) if kept is not None else nullcontext() as file:
            names = NamesWriter(file.write) if file is not None else None
            if names is not None and kept is not None:
                names.add_rest(kept, folder)
            budget = Budget(source.name, limits, time.monotonic)
            part = take_survey(known, account.name, account, source, moment, progress, names, folder, rest, budget)
            found = joined(rest, part, folder, known.applications)
            if found is None:
                raise _Untold
            found.names, found.came = part.names, arrivals(before, found)
            store_survey(plan.path, found)
    except _Untold:
        return None
    return found


class _Untold(Exception):
    """What a part shows does not tell how the whole is."""


def survey_all(
    plan: PlanFolder, secrets: Secrets | None = None, limits: Limits | None = None
) -> Iterator[tuple[str, Survey | KettlepostError]]:
    """Survey every account with `survey_from`, side by side, each as it ends; a failure stops no other."""
    names, wrong = [], dict[str, KettlepostError]()
    for name in plan.names:
        try:
            names += [name] if plan.account(name).settings.survey_from else []
        except PlanError as error:
            wrong[name] = error
    yield from wrong.items()
    if not names and not wrong:
        raise InputError('no account has a survey_from; write survey_from = "..." into an [account]')
    catalogue.placeholder_finder()
    pool = ThreadPoolExecutor(SIDE_BY_SIDE)
    try:
        begun = {pool.submit(survey, plan, name, secrets=secrets, limits=limits): name for name in names}
        for future in as_completed(begun):
            try:
                yield begun[future], future.result()
            except KettlepostError as error:
                yield begun[future], error
    finally:
        pool.shutdown(wait=False, cancel_futures=True)  # who is interrupted waits for no server


def store_survey(folder: Path, survey: Survey) -> Path:
    """Write a survey whole, one folder a line, in stable order; returns its path.

    The one that was there is kept as `surveys/ACCOUNT.before.json`. Raises OutsideError when the
    disk refuses, InputError for one that is too large to be read again.
    """
    path = folder / survey_file(survey.account)

    def measured() -> Iterator[bytes]:
        size = 0
        for piece in survey_pieces(survey):
            size += len(piece)
            if size > LARGEST_SURVEY:
                raise InputError(
                    f"{printable(path)}: larger than {LARGEST_SURVEY >> 20} MiB; survey a part of the account"
                )
            yield piece

    write_whole(path, measured(), keep=folder / survey_file(survey.account, before=True))
    return path


def stored_survey(plan: PlanFolder, name: str) -> Inventory:
    """The stored survey of an account as people read it. Raises InputError when there is none."""
    plan.known_names([name])
    if plan.read_survey(name) is None:
        raise InputError(f"{name} was not surveyed yet", plan.surveying(name))
    view = inventory(plan.layout_of(name))
    if view is None:
        raise InputError(f"{name} was not surveyed yet", plan.surveying(name))
    return view


def survey_difference(plan: PlanFolder, name: str) -> SurveyComparison:
    """What came, went and changed since the survey before. Raises InputError when there are no two."""
    plan.known_names([name])
    before, after = plan.read_survey(name, before=True), plan.read_survey(name)
    if before is None or after is None:
        raise InputError(f"{name} was not surveyed twice yet, so there is nothing to compare")
    return SurveyComparison(before.taken, after.taken, compare(before, after))


def try_folder(plan: Plan, path: Path) -> RecognitionTrial:
    """Judge a local folder as if it were the folder of an installation.

    Raises InputError when `path` is no folder, OutsideError when it cannot be read.
    """
    try:
        source = LocalFolder.open(path)
    except InputError as error:
        raise InputError(str(error)) from None  # it is no account's home that is asked for
    return try_source(catalogue.recognised(plan), source)
