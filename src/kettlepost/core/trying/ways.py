"""Trying ways out before they are offered first.

A way out is worked out from what its finding is about. Whether the plan as a whole is better for
it shows only when it is carried out and everything is asked again: the finding has to be gone,
and nothing that stops may be new. One that brings no risk either comes before one that does, which
says so.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from msgspec.structs import replace

from kettlepost.core.layout import AccountLayout
from kettlepost.core.plan import Change
from kettlepost.core.rules import (
    AccountSummary,
    AllAccounts,
    Finding,
    WayOut,
    found_across,
    found_in,
    summarise,
)
from kettlepost.core.rules.allowances import uses_of
from kettlepost.core.steps import Accept, BesideFiles, CopyFolder, Deletion, MoveFolder, Step
from kettlepost.core.trying.account import Outcome, TriedAccount
from kettlepost.core.trying.altered import altered
from kettlepost.core.trying.change import carried_out
from kettlepost.core.trying.footprints import (
    Attribution,
    Batch,
    Footprint,
    footprint,
    prefixes,
    renamed_at,
    with_stand_ins,
)
from kettlepost.core.trying.part import changed_layout

_MOST = 20_000
"""How many tables of the plan are looked at again for one account's ways; beyond, ways stand untried."""
_ROUNDS = (4, 40)
"""How often everything is asked again at least, and at most."""
_SMALL = 300
"""Up to how many tables every way is tried; beyond, only those before the first that holds."""
_MOST_ACROSS = 100
"""How many findings across accounts have their ways tried."""


def with_tried_first(layout: AccountLayout, findings: list[Finding]) -> list[Finding]:
    """The findings of an account, the first way out of each one that holds, where trying tells more than its rule."""
    if not any(map(_is_tried, (way for found in findings for way in found.ways_out))):
        return findings
    account = TriedAccount(layout, findings)

    def outcome(tried: Sequence[_Attempt], is_whole: bool) -> Outcome | None:
        records = {record for one in tried for record in one.trial.found.records}
        change = carried_out(layout, *_work_of(tried), records)
        if change is None:
            return None
        about = {one.trial.found.rule for one in tried}
        return (account.outcome_in_all if is_whole else account.outcome)(change, about)

    return _Rounds({layout.name: layout}, outcome, account.size).ordered(findings)


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
    places = [n for n, found in enumerate(concerned) if any(map(_is_tried, found.ways_out))][:_MOST_ACROSS]
    tried = [concerned[place] for place in places]
    names = {one.account for found in tried for way in found.ways_out for one in (*way.changes, *way.steps)}
    layouts = {name: layout for name in sorted(names) for layout in [layout_of(name)] if layout is not None}

    def outcome(tried: Sequence[_Attempt], _: bool) -> Outcome | None:
        changes, steps = _work_of(tried)
        changed: dict[str, AccountLayout] = {}
        documents: dict[str, tuple[AccountSummary, dict[str, Any]]] = {}
        for name in sorted({one.account for one in (*changes, *steps)}):
            own_changes = [change for change in changes if change.account == name]
            change = carried_out(layouts[name], own_changes, steps) if name in layouts else None
            if change is None:
                return None
            changed[name] = changed_layout(layouts[name], change)
            documents[name] = summarise(changed[name]), change.document
        about = {one.trial.found.rule for one in tried}
        after = [found for layout in changed.values() for found in found_in(layout, with_ways=False, about=about)]
        after += found_across(whole.replaced(documents), about)
        before = [*wide, *(found for name in changed for found in own(name))]
        return Outcome(before, after, {name: (layouts[name], changed[name]) for name in changed}, size)

    ordered, size = list(concerned), max(len(tried), 1)
    for place, found in zip(places, _Rounds(layouts, outcome, size).ordered(tried), strict=True):
        ordered[place] = found
    return ordered


class _Cost(NamedTuple):
    """What came of trying a way: whether the finding stays, what stops then, the risks that it brings.

    `alters` are the addresses that answer otherwise then.
    """

    stays: bool = False
    stops: tuple[tuple[str, str], ...] = ()
    brings: tuple[tuple[str, str], ...] = ()
    alters: tuple[str, ...] = ()


class _Trial:
    """A finding while its ways are tried, one after the other: until one holds that costs nothing, or all of them.

    The way that holds comes first, one that costs nothing where there is one; those that were tried in vain come last,
    and nobody is to do their steps. One of which trying tells nothing leads where it is the first.
    """

    def __init__(self, found: Finding, is_thorough: bool):
        self.found, self._is_thorough = found, is_thorough
        self._ways = list(found.ways_out)
        self._next, self._lead, self._is_costly = 0, None if _is_tried(self._ways[0]) else 0, False
        self._failed: set[int] = set()
        self._advance()

    @property
    def is_open(self) -> bool:
        return self._next < len(self._ways) and (self._lead is None or self._is_thorough)

    @property
    def way(self) -> WayOut:
        """The way that is tried next."""
        return self._ways[self._next]

    @property
    def settled(self) -> Finding:
        """The finding with its ways in their order, as far as they were tried."""
        lead = [self._lead] if self._lead is not None else []
        rest = [n for n in range(len(self._ways)) if n != self._lead and n not in self._failed]
        order = [*lead, *rest, *sorted(self._failed)]
        return replace(self.found, ways_out=[self._ways[n] for n in order])

    def _advance(self) -> None:
        """On to the next way of which trying tells anything."""
        while self._next < len(self._ways) and not _is_tried(self.way):
            self._next += 1

    def take(self, cost: _Cost) -> None:
        """What came of it. A way that takes something for good comes behind one that costs, but takes nothing."""
        way = self.way
        if cost.stays or cost.stops:
            self._failed.add(self._next)
            self._ways[self._next] = replace(way, changes=(), steps=(), stays=cost.stays, stops=cost.stops)
        else:
            self._ways[self._next] = replace(way, brings=cost.brings, alters=cost.alters)
            takes = way.expects or any(isinstance(step, Deletion) for step in way.steps)
            if cost.brings or cost.alters or (self._is_costly and takes):
                self._is_costly = True
            elif self._lead is None:
                self._lead = self._next
        self._next += 1
        self._advance()


class _Attempt(NamedTuple):
    """A way that is tried for a finding: as it is, or with other names for what is new in it."""

    trial: _Trial
    way: WayOut
    what: Footprint
    names: dict[str, str]


def _work_of(tried: Sequence[_Attempt]) -> tuple[list[Change], list[Step]]:
    ways = [one.way for one in tried]
    return [change for way in ways for change in way.changes], [step for way in ways for step in way.steps]


class _Rounds:
    """Rounds in which ways of many findings are tried at once, as long as none touches what another does.

    What is new then is laid to the way that touches it. Where that is not one alone, each that may have brought it is
    tried by itself.
    """

    def __init__(
        self,
        layouts: dict[str, AccountLayout],
        outcome: Callable[[Sequence[_Attempt], bool], Outcome | None],
        size: int,
    ):
        self._layouts, self._outcome, self._is_thorough = layouts, outcome, size <= _SMALL
        self._room = min(
            (max(use.allowed - use.total, 1) for one in layouts.values() for use in uses_of(one)), default=_MOST
        )
        self._left = min(max(_MOST, _ROUNDS[0] * size), _ROUNDS[1] * size)
        self._size = size

    def ordered(self, findings: Sequence[Finding]) -> list[Finding]:
        """The findings, each with a way that holds first, one that brings nothing where there is one."""
        trials = {n: _Trial(found, self._is_thorough) for n, found in enumerate(findings) if found.ways_out}
        while self._left > 0 and (open_ := [trial for trial in trials.values() if trial.is_open]):
            self._try(list(self._together(open_)))
        return [trials[n].settled if n in trials else found for n, found in enumerate(findings)]

    def _together(self, trials: Iterable[_Trial]) -> Iterator[_Attempt]:
        """Ways that can be tried at once; where two want the same new name, one of them gets another."""
        batch = Batch(room=self._room)
        for number, trial in enumerate(trials):
            if not self._layouts.keys() >= {one.account for one in (*trial.way.changes, *trial.way.steps)}:
                trial.take(_Cost())  # of an account that cannot be read
                continue
            what = footprint(self._layouts, trial.way)
            if batch.takes(what):
                yield _Attempt(trial, trial.way, what, {})
                continue
            way, names = with_stand_ins(self._layouts, trial.way, number)
            if names and batch.takes(what := footprint(self._layouts, way)):
                yield _Attempt(trial, way, what, names)

    def _try(self, together: list[_Attempt], is_whole: bool = False) -> None:
        after = self._outcome(together, is_whole)
        self._left -= after.cost if after is not None else self._size
        if after is None and len(together) == 1:
            together[0].trial.take(_Cost(stays=True))
            return
        if after is None:
            self._try_each(together)
            return
        brought, unsure = _brought(after, together, self._layouts)
        for one in together:
            if one.trial not in unsure:
                one.trial.take(self._with_altered(brought[one.trial], one, after))
        self._try_each([one for one in together if one.trial in unsure], is_whole=after.is_part and len(together) == 1)

    def _try_each(self, together: list[_Attempt], is_whole: bool = False) -> None:
        for one in together:
            if self._left <= 0:
                return
            self._try([one], is_whole)

    def _with_altered(self, cost: _Cost, tried: _Attempt, after: Outcome) -> _Cost:
        if tried.way.expects or cost.stays or cost.stops:
            return cost
        names = sorted({step.account for step in tried.way.steps} & after.layouts.keys())
        coming = {
            str(self._layouts[one.account].account.installations[one.number].address)
            for one in tried.trial.found.records
            if tried.trial.found.rule == "address-swallowed" and one.table == "installation"
        }  # that they answer otherwise is what is wanted
        shown = (at for name in names for at in altered(after.views(name), tried.way))
        return cost._replace(alters=tuple(renamed_at(at, tried.names) for at in shown if at not in coming))


def _brought(
    after: Outcome, together: list[_Attempt], layouts: dict[str, AccountLayout]
) -> tuple[dict[_Trial, _Cost], set[_Trial]]:
    """What each way cost, and of which of them that is to be seen alone."""
    was, now = Counter(one.place for one in after.before), Counter(one.place for one in after.found)
    known = {(rule, at) for _, rule, at in was}  # what concerns several accounts may be told of another
    known |= set(moved_along(known, [one.way for one in together], layouts))
    attribution = Attribution(one.what for one in together)
    unsure = {one.trial for one in together if after.is_part and not was[one.trial.found.place]}  # not found in it
    new: dict[_Trial, list[Finding]] = {}
    for found in after.found:
        if found.severity == "note" or (found.rule, found.at) in known:
            continue
        guilty = [together[number].trial for number in attribution.causes(found)]
        if len(guilty) == 1:
            new.setdefault(guilty[0], []).append(found)
        else:
            unsure.update(guilty)
    costs: dict[_Trial, _Cost] = {}
    for trial, way, _, names in together:
        own, mine = trial.found, new.get(trial, [])
        accepts = any(isinstance(one, Accept) and (one.rule, one.at) == (own.rule, own.at) for one in way.steps)
        told = {kind: tuple(sorted({(one.rule, renamed_at(one.at, names)) for one in mine if one.severity == kind}))
                for kind in ("stop", "risk")}  # fmt: skip
        risks = tuple((rule, at) for rule, at in told["risk"] if rule not in way.expects)
        costs[trial] = _Cost(now[own.place] >= was[own.place] and not accepts, told["stop"], risks)
    return costs, unsure


def _is_tried(way: WayOut) -> bool:
    """Whether trying a way tells more than its rule knew: it writes into the plan, or changes what lies in folders."""
    works = any(not isinstance(step, BesideFiles) for step in way.steps)
    return bool(way.changes or works) and not way.as_it_is


def moved_along(
    known: Iterable[tuple[str, str]], ways: Iterable[WayOut], layouts: Mapping[str, AccountLayout]
) -> Iterator[tuple[str, str]]:
    """What was found of what ways move, in a folder or at an address, in its new place."""
    moves: dict[str, list[str]] = {}
    for way in ways:
        for step in way.steps:
            if isinstance(step, CopyFolder | MoveFolder):
                moves.setdefault(str(step.folder), []).append(str(step.to))
        for change in way.changes:
            goes, number, layout = change.values.get("address"), change.number, layouts.get(change.account)
            if layout is not None and goes is not None and number is not None and change.table == "installation":
                moves.setdefault(str(layout.account.installations[number].address), []).append(str(goes))
    for rule, at in known if moves else ():
        for old in prefixes(at):
            for new in moves.get(old, ()):
                yield rule, new + at[len(old) :]
