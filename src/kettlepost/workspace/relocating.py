"""Moving an installation to another address of its account, keeping old addresses good, and rehearsing a change."""

from __future__ import annotations

import datetime
from collections.abc import Collection

from kettlepost.core import placing
from kettlepost.core.errors import InputError
from kettlepost.core.messages import MessageError
from kettlepost.core.names import Address
from kettlepost.core.placing import MoveBy, MoveWays, Promise, Proposal
from kettlepost.core.placing.ownership import owner_of
from kettlepost.core.plan import Www
from kettlepost.core.trying import Scenario
from kettlepost.workspace.changes import PreparedChange, prepare, scenario_of
from kettlepost.workspace.check_cache import KnownPlan
from kettlepost.workspace.clock import today_or
from kettlepost.workspace.plan_edits import address_of, folder_of
from kettlepost.workspace.plan_folder import PlanFolder


def move_ways(
    plan: PlanFolder, old: str, new: str, account: str | None = None, keep_live: Collection[str] = ()
) -> MoveWays:
    """The ways by which what is installed at an address comes to another one, side by side; `keep_live` is the data
    that what is rehearsed keeps, where a rehearsal is to take its place.

    Raises InputError for what is not live, and for an address of no domain of its account.
    """
    was, goes = address_of(old), address_of(new)
    scenario = scenario_of(KnownPlan(plan, ()), today_or(None))
    layout, installation = placing.find_installation(scenario, was, account)
    return placing.move_ways(layout, installation, goes, Promise(), [*keep_live])


def move(
    plan: PlanFolder,
    old: str,
    new: str,
    by: str,
    account: str | None = None,
    is_permanent: bool = False,
    until: datetime.date | None = None,
    below: bool = True,
    despite: Collection[str] = (),
    because: str | None = None,
    today: datetime.date | None = None,
    keep_live: Collection[str] = (),
) -> PreparedChange:
    """Enter that an installation comes to another address, by one of the ways, and that its old one stays good.

    A rehearsal takes the place of what it rehearses, which keeps the data of `keep_live`: kinds of its application's,
    "all" or "none"; which has to be said.

    By "done" it has moved already; there may be anything at the old address then, or nothing, and `below` says whether
    all below it is kept as well. Raises InputError for a way that is none here, with the reason.
    """
    was, goes, way = address_of(old), address_of(new), MoveBy(by)
    day = today_or(today)
    promise = Promise(is_permanent, until, day)
    if until is not None and until < day:
        raise InputError(f"{until} is over; name a day to come")

    def make(scenario: Scenario) -> Proposal:
        layout = scenario.layout(owner_of(scenario, was.host, account))
        if was == goes:
            raise InputError(f"{was} is the same address; name another one")
        if way is MoveBy.DONE and not _is_installed(scenario, was, account):
            return placing.keep_address(layout, was, goes, promise, below)
        _, installation = placing.find_installation(scenario, was, account)
        found = placing.move_ways(layout, installation, goes, promise, [*keep_live])
        taken = found.way(way)
        if found.replaces is None and keep_live:
            raise InputError(f"{was} is no rehearsal of what is live at {goes}, so nothing is kept or replaced there")
        if found.replaces is not None and not taken.why_not and not keep_live:
            raise InputError(f"say which data of {goes} stay as they are: --keep-live {'|'.join(found.kinds)}")
        if taken.why_not:
            raise MessageError(f"it cannot move by {way}", taken.why_not)
        return placing.move(found, taken)

    return prepare(plan, make, despite, because, may_stop=way is MoveBy.DONE, today=day)


def rehearse(
    plan: PlanFolder,
    address: str,
    at: str | None = None,
    account: str | None = None,
    root: str | None = None,
    www: Www | None = None,
    database_name: str | None = None,
    table_prefix: str | None = None,
    despite: Collection[str] = (),
    because: str | None = None,
) -> PreparedChange:
    """Enter a copy of what is live, at `at` or a subdomain that is free, with files and tables of its own.

    Raises InputError for what is not live, and where it is not known what is to be copied.
    """
    was, goes = address_of(address), address_of(at) if at is not None else None
    new_root = folder_of(root, plan) if root is not None else None

    def make(scenario: Scenario) -> Proposal:
        layout, live = placing.find_installation(scenario, was, account)
        return placing.rehearse(scenario, layout, live, goes, new_root, www, database_name, table_prefix)

    return prepare(plan, make, despite, because)


def _is_installed(scenario: Scenario, address: Address, account: str | None) -> bool:
    try:
        placing.find_installation(scenario, address, account)
    except InputError:
        return False
    return True
