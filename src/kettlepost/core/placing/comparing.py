"""What an edit of a plan changes in what its check finds."""

from __future__ import annotations

import datetime

import rtoml
from msgspec import Struct

from kettlepost.core.errors import InputError, PlanError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.placing.ground import Difference, difference_of, settled_across
from kettlepost.core.plan import Edit, read_account
from kettlepost.core.rules import KnownPlan, check_account


class Compared(Struct):
    """An account before and after an edit, and the difference in findings."""

    before: AccountLayout
    after: AccountLayout
    difference: Difference


def compared(known: KnownPlan, name: str, edit: Edit, today: datetime.date) -> Compared:
    """Check the plan with an edit of one account's file against the plan without it.

    Raises PlanError with all faults when the plan would be wrong with it.
    """
    problems: list[str] = []
    account = read_account(known.shared, edit.after, f"{name}.toml", problems)
    here, record = known.layout_of(name), known.record(name)
    if account is None:
        raise PlanError([f"with this change the plan would be wrong: {problem}" for problem in problems])
    if here is None:
        raise InputError(f"{edit.file} was changed meanwhile and has faults; run this again")
    after = AccountLayout(known.shared.plan([account]), account, here.survey)
    changed = check_account(after)
    whole = known.whole.replaced({name: (changed.summary, rtoml.loads(account.source.text))})
    whole.read_from(account.source)
    was = settled_across(record, record.findings, known.whole, known.record, today)
    now = settled_across(changed, changed.findings, whole, known.record, today)
    return Compared(here, after, difference_of(was, now))
