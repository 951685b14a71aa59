"""Trying ways out before they are offered first.

A way out is worked out from what its finding is about. Whether the plan as a whole is better for
it shows only when it is carried out and everything is asked again: the finding has to be gone,
and nothing that stops may be new. One that brings no risk either comes before one that does, which
says so.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from itertools import islice
from typing import Any, NamedTuple

from msgspec.structs import replace

from kettlepost.core.answering import Answer, answer
from kettlepost.core.layout import AccountLayout, PlanLayout
from kettlepost.core.names import Address, Folder
from kettlepost.core.plan import Change, changed_account
from kettlepost.core.rules.allowances import uses_of
from kettlepost.core.rules.batches import Attribution, Batch, Footprint, footprint, prefixes, renamed_at, with_stand_ins
from kettlepost.core.rules.cross_account import AccountSummary, AllAccounts, summarise
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.registry import rules
from kettlepost.core.rules.ways_out import setting
from kettlepost.core.steps import (
    Accept,
    AddLines,
    BesideFiles,
    ChangeRoot,
    CopyFolder,
    DeleteFile,
    Deletion,
    EditLine,
    MoveFolder,
    Step,
    survey_after,
)
from kettlepost.core.survey import CONTROL_NAMES

_MOST = 20_000
"""So many tables of the plan are looked at again for one account's ways; beyond, ways stand untried."""
_ROUNDS = (4, 40)
"""So often everything is asked again at least, and at most."""
_SMALL = 300
"""Up to so many tables every way is tried, beyond only those before the first that holds."""
_OPENED, _ASKED = 20, 100
"""So many folders that move along, and so many addresses below a control file, are opened before and after."""
_SHOWING = ("application", "placeholder", "file", "listing")
"""What visitors get who are let in."""
_MOST_ACROSS = 100
"""So many findings across accounts have their ways tried."""


def found_in(layout: AccountLayout, with_ways: bool = True, about: Collection[str] | None = None) -> list[Finding]:
    """What every rule finds in one account by itself; ways that are worked out late only `with_ways`.

    With `about` only those rules are asked, and those that may find a stop or a risk.
    """
    asked = (rule for rule in rules() if about is None or rule.slug in about or {"stop", "risk"} & {*rule.severities})
    return [found for rule in asked for found in rule.found_in(layout, with_ways)]


def found_across(whole: AllAccounts, about: Collection[str] | None = None) -> list[Finding]:
    """What every rule finds across accounts; with `about` only those rules, and those that may stop something."""
    asked = [rule for rule in rules() if about is None or rule.slug in about or "stop" in rule.severities]
    return [found for rule in asked for found in rule.found_across(whole)]


def with_tried_first(layout: AccountLayout, findings: list[Finding]) -> list[Finding]:
    """The findings of an account, the first way out of each one that holds, where trying tells more than its rule."""
    if not any(map(_is_tried, (way for found in findings for way in found.ways_out))):
        return findings
    source = layout.account.source
    alone = AllAccounts(
        [summarise(layout)], lambda _: source
    )  # what would go wrong across accounts goes wrong here as well
    before = [*findings, *found_across(alone)]

    def after(tried: Sequence[_Attempt]) -> _After | None:
        ways = [one.way for one in tried]
        changes, steps = [one for way in ways for one in way.changes], [one for way in ways for one in way.steps]
        changed = _changed(layout, changes, steps)
        if changed is None:
            return None
        whole = alone.replaced({layout.name: (summarise(changed[0]), changed[1])})
        about = {one.trial.found.rule for one in tried}
        after = [*found_in(changed[0], with_ways=False, about=about), *found_across(whole, about)]
        return _After(before, after, {layout.name: changed[0]}, {})

    size = 20 + len(layout.account.domains) + len(layout.account.installations)
    return _Rounds({layout.name: layout}, after, size).ordered(findings)


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

    def after(tried: Sequence[_Attempt]) -> _After | None:
        ways = [one.way for one in tried]
        changes, steps = [one for way in ways for one in way.changes], [one for way in ways for one in way.steps]
        changed: dict[str, AccountLayout] = {}
        documents: dict[str, tuple[AccountSummary, dict[str, Any]]] = {}
        for name in sorted({one.account for one in (*changes, *steps)}):
            own_changes = [change for change in changes if change.account == name]
            other = _changed(layouts[name], own_changes, steps) if name in layouts else None
            if other is None:
                return None
            changed[name], documents[name] = other[0], (summarise(other[0]), other[1])
        about = {one.trial.found.rule for one in tried}
        after = [found for layout in changed.values() for found in found_in(layout, with_ways=False, about=about)]
        after += found_across(whole.replaced(documents), about)
        return _After([*wide, *(found for name in changed for found in own(name))], after, changed, {})

    ordered = list(concerned)
    for place, found in zip(places, _Rounds(layouts, after, max(len(tried), 1)).ordered(tried), strict=True):
        ordered[place] = found
    return ordered


class _After(NamedTuple):
    """What is found before and after some ways were gone, and the accounts as they are then."""

    before: Sequence[Finding]
    found: Sequence[Finding]
    layouts: dict[str, AccountLayout]
    seen: dict[str, tuple[PlanLayout, PlanLayout]]

    def views(self, layouts: dict[str, AccountLayout], name: str) -> tuple[PlanLayout, PlanLayout]:
        """An account by itself, as it is and as it is then, for all questions about answers."""
        if name not in self.seen:
            one, other = layouts[name], self.layouts[name]
            self.seen[name] = PlanLayout(one.plan, {name: one}), PlanLayout(other.plan, {name: other})
        return self.seen[name]


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


class _Rounds:
    """Rounds in which ways of many findings are tried at once, as long as none touches what another does.

    What is new then is laid to the way that touches it. Where that is not one alone, each that may have brought it is
    tried by itself.
    """

    def __init__(
        self, layouts: dict[str, AccountLayout], after: Callable[[Sequence[_Attempt]], _After | None], size: int
    ):
        self._layouts, self._after, self._is_thorough = layouts, after, size <= _SMALL
        self._room = min(
            (max(use.allowed - use.total, 1) for one in layouts.values() for use in uses_of(one)), default=_MOST
        )
        self._left = min(max(_MOST // size, _ROUNDS[0]), _ROUNDS[1])

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

    def _try(self, together: list[_Attempt]) -> None:
        self._left -= 1
        after = self._after(together)
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
        self._try_each([one for one in together if one.trial in unsure])

    def _try_each(self, together: list[_Attempt]) -> None:
        for one in together:
            if self._left <= 0:
                return
            self._try([one])

    def _with_altered(self, cost: _Cost, tried: _Attempt, after: _After) -> _Cost:
        if tried.way.expects or cost.stays or cost.stops:
            return cost
        names = sorted({step.account for step in tried.way.steps} & after.layouts.keys())
        coming = {
            str(self._layouts[one.account].account.installations[one.number].address)
            for one in tried.trial.found.records
            if tried.trial.found.rule == "address-swallowed" and one.table == "installation"
        }  # that they answer otherwise is what is wanted
        altered = (at for name in names for at in _altered(after.views(self._layouts, name), tried.way))
        return cost._replace(alters=tuple(renamed_at(at, tried.names) for at in altered if at not in coming))


def _brought(
    after: _After, together: list[_Attempt], layouts: dict[str, AccountLayout]
) -> tuple[dict[_Trial, _Cost], set[_Trial]]:
    """What each way cost, and of which of them that is to be seen alone."""
    was, now = Counter(one.place for one in after.before), Counter(one.place for one in after.found)
    known = {(rule, at) for _, rule, at in was}  # what concerns several accounts may be told of another
    known |= set(moved_along(known, [one.way for one in together], layouts))
    attribution = Attribution(one.what for one in together)
    unsure: set[_Trial] = set()
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


def _changed(
    layout: AccountLayout, changes: Sequence[Change], steps: Sequence[Step]
) -> tuple[AccountLayout, dict[str, Any]] | None:
    """An account once a way out is gone: its steps done in folders and at the host, the changes written."""
    work = [step for step in steps if step.account == layout.name]
    changed = changed_account(layout.account, [*changes, *_led_elsewhere(layout, work)])
    if changed is None:
        return None
    survey = survey_after(layout.survey, work) if work and layout.survey is not None else layout.survey
    return layout.changed(changed[0], survey=survey), changed[1]


def _led_elsewhere(layout: AccountLayout, steps: Sequence[Step]) -> Iterator[Change]:
    """What the plan says once the host has other folders for its names: no more where they led before."""
    for step in steps:
        domain = layout.account.named.get(step.host) if isinstance(step, ChangeRoot) else None
        if domain is not None:
            yield setting(layout, domain, root_now=None)


def _altered(views: tuple[PlanLayout, PlanLayout], way: WayOut) -> tuple[str, ...]:
    """The addresses that showed something, or kept visitors out, and show something else then.

    Asked are names that are led elsewhere, and what lies below a control file that goes or says something else; but
    the lines by which a move sends visitors on are said.
    """
    before = next(iter(views[0].accounts.values()))
    hosts = dict.fromkeys(step.host for step in way.steps if isinstance(step, ChangeRoot))
    copied = [step.folder for step in way.steps if isinstance(step, CopyFolder)]
    moves = [step for step in way.steps if isinstance(step, ChangeRoot) and _is_ruled(before, step)]
    asked = [Address(step.host) for step in moves]
    for step in way.steps:
        if isinstance(step, AddLines | EditLine | DeleteFile) and step.file in CONTROL_NAMES:
            asked += _addresses_in(before, step.folder) if not (copied and isinstance(step, AddLines)) else []
    for folder in copied if moves else ():
        begun = (at for place in _begun_in(before, folder) for at in before.addresses_of(place))
        asked += [at for at in begun if at.host in hosts]
    for host in hosts if moves else ():
        domain = before.account.named.get(host)
        entries = before.installations_of.get(domain.number, ()) if domain is not None else ()
        asked += [entry.address for entry in entries if entry.state == "live" and entry.address.host == host][:_OPENED]
    return tuple(str(address) for address in dict.fromkeys(asked) if _differs(views, address))


def _is_ruled(layout: AccountLayout, step: ChangeRoot) -> bool:
    """Whether what answers at a name may hang on where its root lies: a link or a control file is around the two."""
    contents = layout.contents
    if contents is None or layout.links:
        return True
    return any(contents.controls(above) for root in (step.old, step.root) for above in root.above())


def _addresses_in(layout: AccountLayout, folder: Folder) -> list[Address]:
    """The addresses at which something answers in a folder: of names, of what is installed, of what begins in it."""
    mounts, now = layout.tree("now").mounts, []
    for place in (folder, *layout.claimed_inside(folder)[:_ASKED]):
        now += [mount.address for mount in mounts.get(place, ()) if not mount.address.host.startswith("*")]
        now += [entry.address for entry in layout.present.get(place, ()) if entry.state == "live"]
        now += layout.addresses_of(place)[:4]
    begun = (at for place in _begun_in(layout, folder) for at in layout.addresses_of(place)[:4])
    return [*now[:_ASKED], *begun]


def _begun_in(layout: AccountLayout, folder: Folder) -> list[Folder]:
    """The folders inside one in which something begins that people may open."""
    contents = layout.contents
    if contents is None:
        return []
    inside = map(Folder, contents.inside(folder))
    begun = (place for place in inside if place in contents.applications or contents.site(place) is not None)
    return list(islice(begun, _OPENED))


def _is_tried(way: WayOut) -> bool:
    """Whether trying a way tells more than its rule knew: it writes into the plan, or changes what lies in folders."""
    works = any(not isinstance(step, BesideFiles) for step in way.steps)
    return bool(way.changes or works) and not way.as_it_is


def _differs(views: tuple[PlanLayout, PlanLayout], address: Address) -> bool:
    was, now = (answer(view, address, "now") for view in views)
    if now.goes is not None and was.goes is None:
        now = answer(views[1], now.goes, "now")  # visitors are sent on to where it is then
    if was.certainty != "certain":
        return False
    opens = was.kind in ("password", "denied") and now.kind in _SHOWING
    return opens or (was.status == 200 and _page(was) != _page(now))


def _page(found: Answer) -> tuple[str, int | None, str]:
    """What is shown, by the place that it has below the folder to which the address leads."""
    file, reach = found.shown.file or found.shown.place, found.reach.folder if found.reach is not None else None
    is_below = reach is not None and file.is_inside(reach)
    return found.kind, found.status, file.relative_to(reach) if is_below and reach is not None else ""


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
