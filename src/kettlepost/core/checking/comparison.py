"""What an edit of a plan changes in what its check finds."""

from __future__ import annotations

import datetime
from collections.abc import Callable

import rtoml
from msgspec import Struct
from msgspec.structs import replace

from kettlepost.core.checking.evaluation import check_account
from kettlepost.core.errors import Fault, PlanError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.plan import Account, RecordId, Shared, read_account
from kettlepost.core.rules import AccountFindings, AllAccounts, found_across
from kettlepost.core.trying import FindingDifference, Renamed, difference_of, settled_across


class AccountDiff(Struct, frozen=True):
    """An account before and after an edit, the difference in findings, and all accounts with it."""

    before: AccountLayout
    after: AccountLayout
    difference: FindingDifference
    whole: AllAccounts


def compared(
    shared: Shared,
    whole: AllAccounts,
    record: AccountFindings,
    by_plan: Callable[[str], AccountFindings],
    layout: AccountLayout,
    text: bytes,
    today: datetime.date,
) -> AccountDiff:
    """Check the plan with another text of the file of the account of `layout` against the plan without it.

    `whole` and `by_plan` are what the plan's accounts tell of themselves, `record` what checking
    this one by itself gives. Raises PlanError with all faults when the plan would be wrong with it.
    """
    name = layout.name
    faults: list[Fault] = []
    account = read_account(shared, text, f"{name}.toml", faults)
    if account is None:
        raise PlanError(
            [replace(fault, text=f"with this change the plan would be wrong: {fault.text}") for fault in faults]
        )
    after = layout.changed(account, shared.plan([account]))
    changed = check_account(after)
    edited = whole.replaced({name: (changed.summary, rtoml.loads(account.source.text))}, {name: account.source})
    was = settled_across(record, record.findings, found_across(whole), by_plan, today)
    now = settled_across(changed, changed.findings, found_across(edited), by_plan, today)
    return AccountDiff(layout, after, difference_of(was, now, _renamed(layout.account, account)), edited)


def _renamed(before: Account, after: Account) -> Renamed:
    """The installations that an edit only gives another address."""
    if len(before.installations) != len(after.installations):
        return Renamed()
    records: set[RecordId] = set()
    places: dict[str, str] = {}
    for was, now in zip(before.installations, after.installations, strict=True):
        if was.address != now.address and (was.application, was.database) == (now.application, now.database):
            records.add(before.identity(was))
            places[str(was.address)] = str(now.address)
    return Renamed(frozenset(records), places)
