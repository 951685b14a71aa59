"""Trying ways out before they are offered first.

A way out is worked out from what its finding is about. Whether the plan as a whole is better for
it shows only when it is carried out and everything is asked again: the finding has to be gone,
and nothing that stops may be new.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable
from typing import Any

import msgspec

from kettlepost.core.layout import AccountLayout
from kettlepost.core.plan import Change, changed_account
from kettlepost.core.rules.finding import Finding, Way
from kettlepost.core.rules.registry import rules
from kettlepost.core.rules.whole import Summary, Whole, summarise

_MOST = 20_000
"""So many tables of the plan are looked at again for one account's ways; beyond, ways stand untried."""
_MOST_ACROSS = 40
"""So many findings across accounts have their ways tried."""


def found_in(here: AccountLayout) -> list[Finding]:
    """What every rule finds in one account by itself."""
    return [found for rule in rules() for found in rule.found_in(here)]


def found_across(whole: Whole) -> list[Finding]:
    """What every rule finds across accounts."""
    return [found for rule in rules() for found in rule.found_across(whole)]


def put_tried_first(here: AccountLayout, findings: list[Finding]) -> None:
    """See that the first way out of each finding of an account is one, where it is a change of the plan."""
    if not any(way.changes for found in findings for way in found.ways_out):
        return
    alone = Whole(here.plan.folder, [summarise(here)])  # what would go wrong across accounts goes wrong here as well
    before = [*findings, *found_across(alone)]
    size = 20 + len(here.account.domains) + len(here.account.installations)
    left = _MOST // size
    for found in findings:
        if left <= 0:
            return

        def holds(changes: list[Change], found: Finding = found) -> bool:
            nonlocal left
            left -= 1
            changed = _changed(here, changes)
            if changed is None:
                return False
            whole = alone.replaced({here.name: (summarise(changed[0]), changed[1])})
            return _is_better(found, before, [*found_in(changed[0]), *found_across(whole)])

        found.ways_out = _ordered(found.ways_out, holds)


def put_tried_first_across(
    whole: Whole,
    own: dict[str, list[Finding]],
    wide: list[Finding],
    layout_of: Callable[[str], AccountLayout | None],
) -> None:
    """The same for findings across accounts; `own` is what each account gave by itself."""
    for found in wide[:_MOST_ACROSS]:

        def holds(changes: list[Change], found: Finding = found) -> bool:
            names = {change.account for change in changes}
            changed: dict[str, tuple[Summary, dict[str, Any]]] = {}
            after: list[Finding] = []
            for name in names:
                here = layout_of(name)
                other = _changed(here, [change for change in changes if change.account == name]) if here else None
                if other is None:
                    return False
                changed[name] = (summarise(other[0]), other[1])
                after += found_in(other[0])
            before = [*wide, *(one for name in names for one in own[name])]
            return _is_better(found, before, [*after, *found_across(whole.replaced(changed))])

        found.ways_out = _ordered(found.ways_out, holds)


def _changed(here: AccountLayout, changes: list[Change]) -> tuple[AccountLayout, dict[str, Any]] | None:
    changed = changed_account(here.account, changes)
    return (AccountLayout(here.plan, changed[0], here.survey), changed[1]) if changed is not None else None


def _ordered(ways: list[Way], holds: Callable[[list[Change]], bool]) -> list[Way]:
    """The ways with one that holds first; those that were tried in vain come last, as words only."""
    failed: list[Way] = []
    for n, way in enumerate(ways):
        if not way.changes or holds(way.changes):
            return [*ways[n:], *failed] if failed else ways
        failed.append(msgspec.structs.replace(way, changes=[]))
    return failed


def _is_better(found: Finding, before: Iterable[Finding], after: Iterable[Finding]) -> bool:
    """Whether `found` is gone and nothing that stops is new."""
    was, now = Counter(map(_place, before)), Counter(map(_place, after))
    if now[_place(found)] >= was[_place(found)]:
        return False
    known = {(rule, at) for _, rule, at in was}  # what concerns several accounts may be told of another
    return all((one.rule, one.at) in known for one in after if one.severity == "stop")


def _place(found: Finding) -> tuple[str, str, str]:
    return found.account, found.rule, found.at
