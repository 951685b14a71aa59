"""A change tried in one account by itself: what is found before and after, in all of it or in the part it touches."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from functools import cached_property

from kettlepost.core.layout import AccountLayout, PlanLayout
from kettlepost.core.rules import (
    AllAccounts,
    Finding,
    RuleReach,
    account_rules,
    found_across,
    found_in,
    plan_rules,
    summarise,
)
from kettlepost.core.trying.change import TriedChange
from kettlepost.core.trying.index import AccountIndex
from kettlepost.core.trying.part import Part, changed_layout, parts_touched

_FIXED, _READING = 20, 10
"""What asking any part costs, in tables, and how many tables are read in the time in which one is asked."""
_MUCH_LESS = 4
"""How many times smaller than its account a part has to be for it to be asked alone."""
_WIDEST = RuleReach.HOST | RuleReach.FOLDER | RuleReach.SIBLINGS | RuleReach.DATABASE


class Outcome:
    """What is found before and after a change, in accounts as they are and as they are then.

    `cost` is how many tables of the plan were looked at; `is_part` says that both are parts of an account.
    """

    def __init__(
        self,
        before: Sequence[Finding],
        found: Sequence[Finding],
        layouts: Mapping[str, tuple[AccountLayout, AccountLayout]],
        cost: int,
        is_part: bool = False,
    ):
        self.before, self.found, self.layouts, self.cost, self.is_part = before, found, layouts, cost, is_part
        self._views: dict[str, tuple[PlanLayout, PlanLayout]] = {}

    def views(self, name: str) -> tuple[PlanLayout, PlanLayout]:
        """An account by itself, as it is and as it is then, for all questions about answers."""
        if name not in self._views:
            one, other = self.layouts[name]
            self._views[name] = PlanLayout(one.plan, {name: one}), PlanLayout(other.plan, {name: other})
        return self._views[name]


class TriedAccount:
    """An account in which changes are tried, with what is found in it: what came of one is no part of the next."""

    def __init__(self, layout: AccountLayout, findings: Sequence[Finding]):
        self._layout, self._findings = layout, findings
        source, self._summary = layout.account.source, summarise(layout)
        # what would go wrong across accounts goes wrong here as well
        self._alone = AllAccounts([self._summary], lambda _: source)
        self.size = _FIXED + len(layout.account.domains) + len(layout.account.installations)

    @cached_property
    def _before(self) -> list[Finding]:
        return [*self._findings, *found_across(self._alone)]

    @cached_property
    def _index(self) -> AccountIndex:
        return AccountIndex(self._layout)

    @cached_property
    def _crowded(self) -> frozenset[str]:
        declared = Counter(note.host for note in self._summary.hosts)
        return frozenset(host for host, count in declared.items() if count > 1)

    def outcome(self, change: TriedChange, about: Collection[str]) -> Outcome:
        """What comes of a change, in its part of the account where that is much less than all of it.

        `about` are the rules that are asked besides those that may find a stop or a risk.
        """
        touched = change.touched(self._layout.account)
        named = len(touched.domains) + len(touched.installations) + len(touched.worked_in)
        if not touched.is_all and named * _MUCH_LESS < self.size:
            size = _FIXED + Part(self._index, change, touched, _WIDEST, self._crowded).size
            if size * _MUCH_LESS < self.size:
                return self.outcome_in_part(change, about, 2 * size + self.size // _READING)
        return self.outcome_in_all(change, about)

    def outcome_in_all(self, change: TriedChange, about: Collection[str]) -> Outcome:
        """What comes of a change in the whole account."""
        layout, changed = self._layout, changed_layout(self._layout, change)
        whole = self._alone.replaced({layout.name: (summarise(changed), change.document)})
        found = [*found_in(changed, with_ways=False, about=about), *found_across(whole, about)]
        return Outcome(self._before, found, {layout.name: (layout, changed)}, self.size)

    def outcome_in_part(self, change: TriedChange, about: Collection[str], cost: int = 0) -> Outcome:
        """What comes of it in the part that it touches, each rule asked as far as it reaches."""
        name, source = self._layout.name, self._layout.account.source
        own, wide = account_rules(about), plan_rules(about)
        reaches = dict.fromkeys((*(rule.reach for rule in own), *(rule.reach_across for rule in wide), _WIDEST))
        parts = parts_touched(self._index, change, reaches, self._crowded)
        found: list[list[Finding]] = []
        for side in (0, 1):
            here = [one for rule in own for one in rule.found_in(parts[rule.reach][side], with_ways=False)]
            for reach in dict.fromkeys(rule.reach_across for rule in wide):
                whole = AllAccounts([summarise(parts[reach][side])], lambda _: source)
                if side:
                    whole = whole.replaced({name: (whole.accounts[name], change.document)})
                here += (one for rule in wide if rule.reach_across == reach for one in rule.found_across(whole))
            found.append(here)
        return Outcome(found[0], found[1], {name: parts[_WIDEST]}, cost, is_part=True)
