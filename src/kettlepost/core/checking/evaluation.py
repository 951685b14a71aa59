"""Asking every rule, folding what follows from something else, and leaving out what was accepted."""

from __future__ import annotations

import datetime
from collections import Counter
from collections.abc import Callable, Collection
from dataclasses import dataclass, field
from functools import cached_property

from kettlepost.core.errors import PlanError
from kettlepost.core.layout import AccountLayout, PlanLayout
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules import (
    SEVERITIES,
    AccountFindings,
    AllAccounts,
    Finding,
    Severity,
    found_across,
    found_in,
    settled,
    summarise,
    unsaid_www,
)
from kettlepost.core.rules.acceptances import acceptances
from kettlepost.core.rules.certificates import SLUG as ENDS
from kettlepost.core.rules.certificates import dated_certificates, ending
from kettlepost.core.rules.moved_addresses import dated_promises, without_ended
from kettlepost.core.trying import with_tried_first, with_tried_first_across


@dataclass(frozen=True)
class Checked:
    """What a check found: findings worst first within each account, and how many were accepted.

    `accounts` are those that were looked at, `about` says of every account whose it is and its
    home; `unsurveyed` are those judged on the plan alone, `outdated` those whose survey is older
    than the plan's last change to them; `troubles` says which surveys could not be read, and why. `unsaid_www` are
    the domains of which nobody says whether they answer with www, and nothing was seen of it.
    """

    findings: list[Finding]
    accepted: int
    accounts: list[str]
    about: dict[str, list[str]]
    unsurveyed: list[str]
    outdated: list[str] = field(default_factory=list)
    troubles: list[str] = field(default_factory=list)
    unsaid_www: list[str] = field(default_factory=list)

    @property
    def saying_www(self) -> Remedy | None:
        """What says of the first domain of which nobody does that it answers with www."""
        return Remedy.of(Action.SET_WWW, "both", self.unsaid_www[0]) if self.unsaid_www else None

    @cached_property
    def counts(self) -> dict[Severity, int]:
        """How many findings there are of each severity."""
        counts = Counter(finding.severity for finding in self.findings)
        return {severity: counts[severity] for severity in SEVERITIES}


def check(layouts: PlanLayout, today: datetime.date, only: Collection[str] | None = None) -> Checked:
    """Ask every rule of the whole plan, and keep what concerns the accounts in `only`.

    Raises PlanError for an `[[accept]]` that names no rule.
    """
    accounts = [check_account(layout) for layout in layouts.accounts.values()]
    faults = [fault for account in accounts for fault in account.faults]
    if faults:
        raise PlanError(faults)
    sources = {layout.account.source.name: layout.account.source for layout in layouts.accounts.values()}
    whole = AllAccounts((account.summary for account in accounts), sources.__getitem__)
    records = {account.name: account for account in accounts}
    names = [name for name in records if only is None or name in only]
    return settle(whole, records.__getitem__, names, today, layouts.accounts.__getitem__)


def check_account(layout: AccountLayout) -> AccountFindings:
    """Ask of one account alone every rule that needs no other."""
    findings = with_tried_first(layout, found_in(layout))
    accepts, faults = acceptances(layout)
    about = [part for part in (layout.account.settings.client, layout.account.settings.home) if part]
    taken = layout.survey.taken if layout.survey is not None else ""
    new_roots = [folder.shown for folder in layout.unasked_roots]
    dated = dated_certificates(layout), dated_promises(layout)
    return AccountFindings(layout.name, about, taken, findings, summarise(layout), accepts, faults, new_roots, *dated)


def known_by_plan(layout: AccountLayout) -> AccountFindings:
    """What an account tells of itself without being asked any rule: whose it is, and what is accepted in it."""
    accepts, faults = acceptances(layout)
    about = [part for part in (layout.account.settings.client, layout.account.settings.home) if part]
    return AccountFindings(layout.name, about, "", [], summarise(layout), accepts, faults)


def settle(
    whole: AllAccounts,
    known: Callable[[str], AccountFindings],
    names: Collection[str],
    today: datetime.date,
    layout_of: Callable[[str], AccountLayout | None],
    asked: Collection[str] | None = None,
    by_plan: Callable[[str], AccountFindings] | None = None,
) -> Checked:
    """Ask the rules across accounts, then fold, accept and sort what concerns the accounts called `names`.

    `known` gives what an account gave by itself, and `layout_of` its layout, which trying out ways
    across accounts needs; both are asked of no account that has no part in it. `by_plan` gives
    what is known of those that have one but are not among `names`. `asked` are the rules to keep,
    all without it.
    """
    beside = by_plan or known
    mine = set(names)
    wide = found_across(whole)
    concerned = [finding for finding in wide if finding.account in mine or mine.intersection(finding.also_at)]
    across: dict[str, list[Finding]] = {}
    for found in with_tried_first_across(whole, lambda name: known(name).findings, wide, concerned, layout_of):
        if asked is None or found.rule in asked:
            across.setdefault(found.account, []).append(found)
    kept: list[Finding] = []
    accepted = 0
    for name in whole.accounts:
        if name not in mine and name not in across:
            continue
        account = known(name) if name in mine else beside(name)
        own = account.findings if name in mine else []
        if asked is not None:
            own = [found for found in own if found.rule in asked]
        ends = ending(account.dated, name, today) if account.dated and (asked is None or ENDS in asked) else ()
        found_here = [*own, *across.get(name, ()), *ends]
        if account.promises:
            found_here = without_ended(found_here, account.promises, name, today)
            found_here = [one for one in found_here if asked is None or one.rule in asked]
        if not found_here and not account.accepts:
            continue
        is_stale_asked = name in mine and (asked is None or "stale-accept" in asked)
        shown, lived_with = settled(account, found_here, today, is_stale_asked)
        accepted += lived_with
        kept += shown
    ordered = [known(name) for name in whole.accounts if name in mine]
    about = {
        account_findings.name: account_findings.about
        for account_findings in (*(beside(name) for name in across if name not in mine), *ordered)
    }
    return Checked(
        kept,
        accepted,
        [account_findings.name for account_findings in ordered],
        about,
        [account_findings.name for account_findings in ordered if not account_findings.taken],
        unsaid_www=list(unsaid_www(whole, mine)) if asked is None or "www-missing" in asked else [],
    )
