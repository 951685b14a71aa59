"""Asking every rule, folding what follows from something else, and leaving out what was accepted."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, field

from msgspec import Struct
from msgspec import field as list_of

from kettlepost.core.errors import PlanError
from kettlepost.core.layout import AccountLayout, Layout
from kettlepost.core.names import did_you_mean, quoted
from kettlepost.core.plan import Accept, Change
from kettlepost.core.rules.finding import SEVERITIES, Finding, Party, Severity, Way
from kettlepost.core.rules.folding import fold
from kettlepost.core.rules.parties import party
from kettlepost.core.rules.registry import page_only, rules
from kettlepost.core.rules.trying import found_across, found_in, put_tried_first, put_tried_first_across
from kettlepost.core.rules.whole import Summary, Whole, summarise


class Acceptance(Struct, array_like=True):
    """An `[[accept]]` of an account: what it is for, until when, and where it stands."""

    rule: str
    at: str
    until: datetime.date | None
    number: int
    party: Party


class Account(Struct, array_like=True):
    """All that checking one account by itself gives; `taken` is when it was surveyed, if it was."""

    name: str
    about: list[str]
    taken: str
    findings: list[Finding]
    summary: Summary
    accepts: list[Acceptance]
    problems: list[str] = list_of(default_factory=list)


@dataclass
class Checked:
    """What a check found: findings worst first within each account, and how many were accepted.

    `accounts` are those that were looked at, `about` says of every account whose it is and its
    home; `unsurveyed` are those judged on the plan alone, `outdated` those whose survey is older
    than the plan's last change to them.
    """

    findings: list[Finding]
    accepted: int
    accounts: list[str]
    about: dict[str, list[str]]
    unsurveyed: list[str]
    outdated: list[str] = field(default_factory=list)
    counts: dict[Severity, int] = field(init=False)

    def __post_init__(self) -> None:
        self.counts = dict.fromkeys(SEVERITIES, 0)
        for finding in self.findings:
            self.counts[finding.severity] += 1


@page_only("note")
def stale_accept(accepted: Acceptance, name: str, is_past: bool) -> Finding:
    """An acceptance matches nothing, or its date is past.

    What it was for is mended, or was renamed, and then it waits to hide the next finding at that
    place. After its date it hides nothing any more, and the finding is shown again.

    Bad:

        [[accept]]
        finding = "nested-root"
        at = "www/choir"
        because = "the choir moves to its own account in spring"

    Good:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "www/choir"

        [[accept]]
        finding = "nested-root"
        at = "www/choir"
        because = "the choir moves to its own account in spring"

    Ways out:

    - take it out;
    - where it is past its date and still wanted, give it a later one.
    """
    matched = f"was accepted until {accepted.until}" if is_past else "is accepted, and there is no such finding"
    ways = [
        Way(f"take the acceptance out at {accepted.party.where}", [Change(name, "accept", accepted.number, drop=True)])
    ]
    if is_past:
        ways.append(Way("if it is still lived with, give it a later date"))
    return Finding(
        at=accepted.at,
        title=f"{accepted.rule} at {accepted.at} {matched}",
        why="it hides nothing any more" if is_past else "it waits to hide the next finding at that place",
        parties=[accepted.party],
        ways_out=ways,
        account=name,
        rule="stale-accept",
        severity="note",
    )


def check(layout: Layout, today: datetime.date, only: Collection[str] | None = None) -> Checked:
    """Ask every rule of the whole plan, and keep what concerns the accounts in `only`.

    Raises PlanError for an `[[accept]]` that names no rule.
    """
    accounts = [check_account(here) for here in layout.accounts.values()]
    problems = [problem for account in accounts for problem in account.problems]
    if problems:
        raise PlanError(problems)
    whole = Whole(layout.plan.folder, (account.summary for account in accounts))
    return settle(whole, accounts, today, layout.accounts.__getitem__, only)


def check_account(here: AccountLayout) -> Account:
    """Ask of one account alone every rule that needs no other."""
    findings = found_in(here)
    put_tried_first(here, findings)
    accepts, problems = _acceptances(here)
    about = [part for part in (here.account.settings.client, here.account.settings.home) if part]
    taken = here.survey.taken if here.survey is not None else ""
    return Account(here.name, about, taken, findings, summarise(here), accepts, problems)


def settle(
    whole: Whole,
    accounts: Collection[Account],
    today: datetime.date,
    layout_of: Callable[[str], AccountLayout | None],
    only: Collection[str] | None = None,
    asked: Collection[str] | None = None,
) -> Checked:
    """Ask the rules across accounts, then fold, accept and sort.

    `layout_of` gives an account's layout, which trying out ways across accounts needs; `asked`
    are the rules to keep, all without it.
    """
    mine = {account.name for account in accounts if only is None or account.name in only}
    wide = found_across(whole)
    put_tried_first_across(whole, {account.name: account.findings for account in accounts}, wide, layout_of)
    across: dict[str, list[Finding]] = {}
    for found in wide:
        if (asked is None or found.rule in asked) and (found.account in mine or mine.intersection(found.also_at)):
            across.setdefault(found.account, []).append(found)
    kept: list[Finding] = []
    accepted = 0
    for account in accounts:
        own = account.findings if account.name in mine else []
        if asked is not None:
            own = [found for found in own if found.rule in asked]
        found_here = [*own, *across.get(account.name, ())]
        if not found_here and not account.accepts:
            continue
        is_stale_asked = account.name in mine and (asked is None or "stale-accept" in asked)
        shown, lived_with = settled(account, found_here, today, is_stale_asked)
        accepted += lived_with
        kept += shown
    names = [account.name for account in accounts if account.name in mine]
    about = {account.name: account.about for account in accounts}
    return Checked(kept, accepted, names, about, [one.name for one in accounts if one.name in mine and not one.taken])


def settled(
    account: Account, found_here: list[Finding], today: datetime.date, with_stale: bool = True
) -> tuple[list[Finding], int]:
    """What is left of an account's findings once they are folded and accepted, sorted; and how many are accepted."""
    findings = fold(found_here)
    lived_with = {(one.rule, one.at) for one in account.accepts if one.until is None or today <= one.until}
    shown = [found for found in findings if (found.rule, found.at) not in lived_with]
    accepted = len(findings) - len(shown)
    if with_stale:
        shown += _stale(account, {(found.rule, found.at) for found in findings}, lived_with, today)
    shown.sort(key=lambda found: found.order)
    return shown, accepted


def _stale(
    account: Account, found: set[tuple[str, str]], lived_with: set[tuple[str, str]], today: datetime.date
) -> Iterator[Finding]:
    for one in account.accepts:
        is_past = one.until is not None and today > one.until
        if ("stale-accept", one.at) in lived_with or one.rule == "stale-accept":
            continue
        if is_past or (one.rule, one.at) not in found:
            yield stale_accept(one, account.name, is_past)


def _acceptances(here: AccountLayout) -> tuple[list[Acceptance], list[str]]:
    account = here.account
    if not account.accepts:
        return [], []
    slugs = {rule.slug for rule in rules()}
    problems = []
    for accept in account.accepts:
        if accept.finding not in slugs:
            place = account.place(accept, "finding")
            near = did_you_mean(accept.finding, slugs)
            problems.append(f"{place}: finding {quoted(accept.finding)} is no rule{near}")
    return [_acceptance(here, accept) for accept in account.accepts], problems


def _acceptance(here: AccountLayout, accept: Accept) -> Acceptance:
    number = here.account.number(accept)
    said = party(here.account, accept, "acceptance", quoted(accept.because))
    return Acceptance(accept.finding, accept.at, accept.until, number, said)
