"""Trying ways out before they are offered first.

A way out is worked out from what its finding is about. Whether the plan as a whole is better for
it shows only when it is carried out and everything is asked again: the finding has to be gone,
and nothing that stops may be new. One that brings no risk either comes before one that does, which
says so.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, NamedTuple

from msgspec.structs import replace

from kettlepost.core.answering import Answer, answer
from kettlepost.core.layout import AccountLayout, PlanLayout
from kettlepost.core.names import Address, Folder
from kettlepost.core.plan import Change, changed_account
from kettlepost.core.rules.cross_account import AccountSummary, AllAccounts, summarise
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.registry import rules
from kettlepost.core.rules.ways_out import setting
from kettlepost.core.steps import (
    BesideFiles,
    ChangeRoot,
    CopyFolder,
    DeleteFile,
    Deletion,
    MoveFolder,
    Step,
    survey_after,
)
from kettlepost.core.survey import CONTROL_NAMES

_MOST = 20_000
"""So many tables of the plan are looked at again for one account's ways; beyond, ways stand untried."""
_OPENED = 20
"""So many folders that move along are opened before and after."""
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
    if not any(map(_is_tried, (way for found in findings for way in found.ways_out))):
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

        def cost(way: WayOut, found: Finding = found) -> _Cost:
            nonlocal left
            left -= 1
            changed = _changed(layout, way.changes, way.steps)
            if changed is None:
                return _Cost(stays=True)
            whole = alone.replaced({layout.name: (summarise(changed[0]), changed[1])})
            brought = _brought(found, way, before, [*found_in(changed[0]), *found_across(whole, found.rule)], layout)
            return brought._replace(alters=() if way.expects else _altered(layout, changed[0], way.steps))

        tried.append(_ordered(found, cost) if left > 0 else found)
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

        def cost(way: WayOut, found: Finding = found) -> _Cost:
            changes = way.changes
            names = sorted({change.account for change in changes})
            changed: dict[str, tuple[AccountSummary, dict[str, Any]]] = {}
            after: list[Finding] = []
            for name in names:
                layout = layout_of(name)
                own_changes = [change for change in changes if change.account == name]
                other = _changed(layout, own_changes, way.steps) if layout is not None else None
                if other is None:
                    return _Cost(stays=True)
                changed[name] = (summarise(other[0]), other[1])
                after += found_in(other[0])
            before = [*wide, *(finding for name in names for finding in own(name))]
            return _brought(found, way, before, [*after, *found_across(whole.replaced(changed), found.rule)], None)

        tried.append(_ordered(found, cost))
    return [*tried, *concerned[_MOST_ACROSS:]]


class _Cost(NamedTuple):
    """What came of trying a way: whether the finding stays, what stops then, the risks that it brings.

    `alters` are the addresses that answer otherwise then.
    """

    stays: bool = False
    stops: tuple[tuple[str, str], ...] = ()
    brings: tuple[tuple[str, str], ...] = ()
    alters: tuple[str, ...] = ()


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


def _altered(before: AccountLayout, after: AccountLayout, steps: Sequence[Step]) -> tuple[str, ...]:
    """The addresses that showed something, and show something else then.

    Asked are names that are led elsewhere, and whatever lies below a control file that goes, with what is installed.
    """
    hosts = {step.host for step in steps if isinstance(step, ChangeRoot)}
    ruled = [step.folder for step in steps if isinstance(step, DeleteFile) and step.file in CONTROL_NAMES]
    asked = list(map(Address, sorted(hosts)))
    for folder, mounts in before.tree("now").mounts.items() if ruled else ():
        if any(folder == place or folder.is_inside(place) for place in ruled):
            asked += [mount.address for mount in mounts if not mount.address.host.startswith("*")]
    for step in steps if before.contents is not None else ():
        if isinstance(step, CopyFolder):
            begun = (at for place in _begun_in(before, step.folder) for at in before.addresses_of(place))
            asked += [at for at in begun if at.host in hosts]
    asked += [at for place in ruled for inner in _begun_in(before, place) for at in before.addresses_of(inner)[:1]]
    for entry in before.account.installations:
        lies = before.lies_now(entry) if entry.state == "live" else None
        is_ruled = lies is not None and any(lies == place or lies.is_inside(place) for place in ruled)
        if entry.state == "live" and (is_ruled or entry.address.host in hosts):
            asked.append(entry.address)
    return tuple(str(address) for address in dict.fromkeys(asked) if _differs(before, after, address))


def _begun_in(layout: AccountLayout, folder: Folder) -> list[Folder]:
    """The folders inside one in which something begins that people may open."""
    contents = layout.contents
    if contents is None:
        return []
    found = [one.folder for one in contents.survey.applications] + [site.folder for site in contents.survey.sites]
    return [place for place in dict.fromkeys(found) if place.is_inside(folder)][:_OPENED]


def _is_tried(way: WayOut) -> bool:
    """Whether trying a way tells more than its rule knew: it writes into the plan, or changes what lies in folders."""
    works = any(not isinstance(step, BesideFiles) for step in way.steps)
    return bool(way.changes or works) and not way.as_it_is


def _differs(before: AccountLayout, after: AccountLayout, address: Address) -> bool:
    was, now = (answer(PlanLayout(layout.plan, {layout.name: layout}), address, "now") for layout in (before, after))
    return was.certainty == "certain" and was.status == 200 and _page(was) != _page(now)


def _page(found: Answer) -> tuple[str, int | None, str]:
    """What is shown, by the place that it has below the folder to which the address leads."""
    file, reach = found.shown.file or found.shown.place, found.reach.folder if found.reach is not None else None
    is_below = reach is not None and file.is_inside(reach)
    return found.kind, found.status, file.relative_to(reach) if is_below and reach is not None else ""


def _ordered(found: Finding, cost_of: Callable[[WayOut], _Cost]) -> Finding:
    """The finding with a way that holds first, one that brings nothing where there is one.

    One that takes something away for good does not come before one that costs, but takes nothing. Those that were
    tried in vain come last, and nobody is to do their steps.
    """
    costly: list[WayOut] = []
    beside: list[WayOut] = []
    failed: list[WayOut] = []
    for n, way in enumerate(found.ways_out):
        if not _is_tried(way):
            if not costly and not failed:
                return found
            beside.append(way)
            continue
        cost = cost_of(way)
        if cost.stays or cost.stops:
            failed.append(replace(way, changes=(), steps=(), stays=cost.stays, stops=cost.stops))
            continue
        way = replace(way, brings=cost.brings, alters=cost.alters)
        takes = any(isinstance(step, Deletion) for step in way.steps)
        if cost.brings or (costly and (takes or way.expects)):
            costly.append(way)
        else:
            rest = (*costly, *beside, *found.ways_out[n + 1 :], *failed)
            return replace(found, ways_out=(way, *rest))
    return replace(found, ways_out=(*costly, *beside, *failed))


def _brought(
    found: Finding,
    way: WayOut,
    before: Iterable[Finding],
    after: Sequence[Finding],
    layout: AccountLayout | None,
) -> _Cost:
    """Whether `found` is still there after a way out, and what is new then that stops or is a risk."""
    was, now = Counter(finding.place for finding in before), Counter(finding.place for finding in after)
    if now[found.place] >= was[found.place]:
        return _Cost(stays=True)
    known = {(rule, at) for _, rule, at in was}  # what concerns several accounts may be told of another
    known |= set(moved_along(known, way, layout))
    stops = {(one.rule, one.at) for one in after if one.severity == "stop" and (one.rule, one.at) not in known}
    if stops:
        return _Cost(stops=tuple(sorted(stops)))
    new = [
        finding for finding in after
        if finding.severity != "note" and (finding.rule, finding.at) not in known and finding.rule not in way.expects
    ]  # fmt: skip
    return _Cost(brings=tuple(sorted({(finding.rule, finding.at) for finding in new})))


def moved_along(
    known: Iterable[tuple[str, str]], way: WayOut, layout: AccountLayout | None
) -> Iterator[tuple[str, str]]:
    """What was found of what a way moves, in a folder or at an address, in its new place."""
    moves = [(str(step.folder), str(step.to)) for step in way.steps if isinstance(step, CopyFolder | MoveFolder)]
    for change in way.changes:
        goes, number = change.values.get("address"), change.number
        if layout is not None and goes is not None and number is not None and change.table == "installation":
            moves.append((str(layout.account.installations[number].address), str(goes)))
    for rule, at in known:
        for old, new in moves:
            if at == old or at.startswith(f"{old}/"):
                yield rule, new + at[len(old) :]
