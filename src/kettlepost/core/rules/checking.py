"""Asking every rule, and leaving out what was accepted."""

from __future__ import annotations

import datetime
from collections.abc import Collection
from dataclasses import dataclass, field

from kettlepost.core.errors import PlanError
from kettlepost.core.layout import Layout
from kettlepost.core.names import did_you_mean, quoted
from kettlepost.core.plan import Place
from kettlepost.core.rules.finding import SEVERITIES, Finding, Severity
from kettlepost.core.rules.registry import rules


@dataclass
class Checked:
    """What a check found: findings worst first within each account, and how many were accepted.

    `accounts` are those that were looked at, `unsurveyed` those among them judged on the plan alone.
    """

    findings: list[Finding]
    accepted: int
    accounts: list[str]
    unsurveyed: list[str]
    counts: dict[Severity, int] = field(init=False)

    def __post_init__(self) -> None:
        self.counts = dict.fromkeys(SEVERITIES, 0)
        for finding in self.findings:
            self.counts[finding.severity] += 1


def check(layout: Layout, today: datetime.date, only: Collection[str] | None = None) -> Checked:
    """Ask every rule of the whole plan, or keep what concerns the accounts in `only`.

    An `[[accept]]` whose date is past no longer counts. Raises PlanError for one that names
    no rule.
    """
    names = [name for name in layout.accounts if only is None or name in only]
    found: list[Finding] = []
    for rule in rules():
        if rule.scope == "plan":
            mine = set(names)
            found += [one for one in rule.findings(layout) if one.account in mine or mine & set(one.also_at)]
        else:
            for name in names:
                found += rule.findings(layout, layout.accounts[name])
    lived_with = _accepted(layout, names, today)
    kept = [one for one in found if (one.account, one.rule, one.at) not in lived_with]
    rank = {name: n for n, name in enumerate(layout.accounts)}
    kept.sort(key=lambda one: (rank[one.account], one.order))
    bare = [name for name in names if layout.accounts[name].survey is None]
    return Checked(kept, len(found) - len(kept), names, bare)


def _accepted(layout: Layout, names: list[str], today: datetime.date) -> set[tuple[str, str, str]]:
    slugs = {rule.slug for rule in rules()}
    wrong: list[str] = []
    accepted: set[tuple[str, str, str]] = set()
    for name in names:
        account = layout.accounts[name].account
        for accept in account.accepts:
            if accept.finding not in slugs:
                place = Place(account.source, (*account.place(accept).key, "finding"))
                wrong.append(
                    f"{place}: finding {quoted(accept.finding)} is no rule{did_you_mean(accept.finding, slugs)}"
                )
            if accept.until is None or today <= accept.until:
                accepted.add((name, accept.finding, accept.at))
    if wrong:
        raise PlanError(wrong)
    return accepted
