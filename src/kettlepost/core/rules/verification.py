"""Trying ways out before they are offered first.

A way out is worked out from what its finding is about. Whether the plan as a whole is better for
it shows only when it is carried out and everything is asked again: the finding has to be gone,
and nothing that stops may be new.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from msgspec.structs import replace

from kettlepost.core.layout import AccountLayout
from kettlepost.core.plan import Change, changed_account
from kettlepost.core.rules.cross_account import AccountSummary, AllAccounts, summarise
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.registry import rules
from kettlepost.core.steps import Step, survey_after

_MOST = 20_000
"""So many tables of the plan are looked at again for one account's ways; beyond, ways stand untried."""
_MOST_ACROSS = 40
"""So many findings across accounts have their ways tried."""


def found_in(layout: AccountLayout) -> list[Finding]:
    """What every rule finds in one account by itself."""
    return [found for rule in rules() for found in rule.found_in(layout)]


def found_across(whole: AllAccounts, about: str = "") -> list[Finding]:
    """What every rule finds across accounts; with `about` only that rule and those that may stop something."""
    asked = [rule for rule in rules() if not about or rule.slug == about or "stop" in rule.severities]
    return [found for rule in asked for found in rule.found_across(whole)]


def with_tried_first(layout: AccountLayout, findings: list[Finding]) -> list[Finding]:
    """The findings of an account, the first way out of each one that holds, where it is a change of the plan."""
    if not any(way.changes for found in findings for way in found.ways_out):
        return findings
    source = layout.account.source
    alone = AllAccounts(
        [summarise(layout)], lambda _: source
    )  # what would go wrong across accounts goes wrong here as well
    before = [*findings, *found_across(alone)]
    size = 20 + len(layout.account.domains) + len(layout.account.installations)
    left = _MOST // size
    tried: list[Finding] = []
    for found in findings:

        def holds(way: WayOut, found: Finding = found) -> bool:
            nonlocal left
            left -= 1
            changed = _changed(layout, way.changes, way.steps)
            if changed is None:
                return False
            whole = alone.replaced({layout.name: (summarise(changed[0]), changed[1])})
            return _is_better(found, before, [*found_in(changed[0]), *found_across(whole, found.rule)])

        tried.append(_ordered(found, holds) if left > 0 else found)
    return tried


def with_tried_first_across(
    whole: AllAccounts,
    own: Callable[[str], Sequence[Finding]],
    wide: Sequence[Finding],
    concerned: Sequence[Finding],
    layout_of: Callable[[str], AccountLayout | None],
) -> list[Finding]:
    """The same for those of the findings across accounts that are `concerned`; `wide` are all of them.

    `own` is what each account gave by itself.
    """
    tried: list[Finding] = []
    for found in concerned[:_MOST_ACROSS]:

        def holds(way: WayOut, found: Finding = found) -> bool:
            changes = way.changes
            names = sorted({change.account for change in changes})
            changed: dict[str, tuple[AccountSummary, dict[str, Any]]] = {}
            after: list[Finding] = []
            for name in names:
                layout = layout_of(name)
                own_changes = [change for change in changes if change.account == name]
                other = _changed(layout, own_changes, way.steps) if layout is not None else None
                if other is None:
                    return False
                changed[name] = (summarise(other[0]), other[1])
                after += found_in(other[0])
            before = [*wide, *(finding for name in names for finding in own(name))]
            return _is_better(found, before, [*after, *found_across(whole.replaced(changed), found.rule)])

        tried.append(_ordered(found, holds))
    return [*tried, *concerned[_MOST_ACROSS:]]


def _changed(
    layout: AccountLayout, changes: Sequence[Change], steps: Sequence[Step]
) -> tuple[AccountLayout, dict[str, Any]] | None:
    """An account once a way out is gone: what is to be done in its folders done, and the changes written."""
    changed = changed_account(layout.account, changes)
    if changed is None:
        return None
    work = [step for step in steps if step.account == layout.name]
    survey = survey_after(layout.survey, work) if work and layout.survey is not None else layout.survey
    return layout.changed(changed[0], survey=survey), changed[1]


def _ordered(found: Finding, holds: Callable[[WayOut], bool]) -> Finding:
    """The finding with a way that holds first; those that were tried in vain come last, as words only."""
    failed: list[WayOut] = []
    for n, way in enumerate(found.ways_out):
        if not way.changes or way.as_it_is or holds(way):
            return replace(found, ways_out=(*found.ways_out[n:], *failed)) if failed else found
        failed.append(replace(way, changes=(), steps=()))
    return replace(found, ways_out=tuple(failed))


def _is_better(found: Finding, before: Iterable[Finding], after: Iterable[Finding]) -> bool:
    """Whether `found` is gone and nothing that stops is new."""
    was, now = Counter(finding.place for finding in before), Counter(finding.place for finding in after)
    if now[found.place] >= was[found.place]:
        return False
    known = {(rule, at) for _, rule, at in was}  # what concerns several accounts may be told of another
    return all((finding.rule, finding.at) in known for finding in after if finding.severity == "stop")
