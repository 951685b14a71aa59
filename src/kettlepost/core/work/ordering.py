"""A work list: the steps of some accounts in an order in which they can be done, and how long all of it takes."""

from __future__ import annotations

import datetime
import heapq
from collections.abc import Callable, Iterable, Iterator, Sequence

from kettlepost.core.plan import Domain, Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.bringing import comes_with
from kettlepost.core.rules.going_live import going_live
from kettlepost.core.rules.rehearsing import rehearsed_from
from kettlepost.core.steps import Discard
from kettlepost.core.work.bringing import comes_along, coming, transferred
from kettlepost.core.work.context import WorkContext
from kettlepost.core.work.going_live import replaced
from kettlepost.core.work.hosts import host_steps, is_in_work, removed_host
from kettlepost.core.work.installing import installation_steps
from kettlepost.core.work.records import NOBODY, WorkKind, WorkList, WorkSpan, WorkStep
from kettlepost.core.work.rehearsing import rehearsed
from kettlepost.core.work.relocating import relocated
from kettlepost.core.work.retiring import retired_steps

_FINISHING = frozenset(
    (WorkKind.VERIFY, WorkKind.ENGINES, WorkKind.UPDATES, WorkKind.COPIES, WorkKind.SHEET, WorkKind.SECOND_COPY)
)


def steps_of(context: WorkContext, only: Iterable[Domain | Installation] | None = None) -> list[WorkStep]:
    """Everything that is to be done in an account, or for some records of it; each step once."""
    account, found = context.account, dict[str, WorkStep]()
    wanted = None if only is None else {account.identity(record) for record in only}
    for step in _all_steps(context, lambda record: wanted is None or account.identity(record) in wanted):
        found.setdefault(step.id, step)
    for step in _discards(context) if wanted is None else ():
        found.setdefault(step.id, step)
    return list(found.values())


def _all_steps(context: WorkContext, is_wanted: Callable[[Domain | Installation], bool]) -> Iterator[WorkStep]:
    """The steps of the installations and domains that are wanted; some more than once."""
    hosts: dict[int, Domain] = {}
    for installation in filter(is_wanted, context.account.installations):
        yield from _of_installation(context, installation, hosts)
    for domain in filter(is_wanted, context.account.domains):
        if domain.state == "retired":
            yield from removed_host(context, domain)
        elif domain.number not in hosts and domain.account_now is not None:
            yield from _brought(context, domain, hosts)
        elif domain.number not in hosts and is_in_work(context, domain):
            yield from _with_above(context, domain, hosts)


def _of_installation(context: WorkContext, installation: Installation, hosts: dict[int, Domain]) -> Iterator[WorkStep]:
    if installation.state == "retired":
        yield from retired_steps(context, installation)
    elif (going := going_live(context.layout, installation)) is not None:
        yield from replaced(context, going)
    elif (domain := comes_along(context, installation)) is not None:
        yield from _brought(context, domain, hosts)
    elif installation.state == "planned" or _is_begun(context, installation):
        before = list(_with_above(context, context.domain_of(installation.address), hosts))
        copied = rehearsed_from(context.layout, installation)
        if copied is not None:
            yield from rehearsed(context, installation, copied, before)
        else:
            yield from before
            yield from installation_steps(context, installation)
    elif installation.is_moving:
        yield from _with_above(context, context.domain_of(installation.address), hosts)
        yield from relocated(context, installation)


def _brought(context: WorkContext, domain: Domain, hosts: dict[int, Domain]) -> Iterator[WorkStep]:
    """The steps by which a domain comes from another account, behind those of the domain that it stands for."""
    with_it = comes_with(context.layout, domain)
    if with_it is not None:
        hosts[domain.number] = domain
        yield from _brought(context, with_it, hosts)
        return
    if domain.number in hosts:
        return
    comes = coming(context, domain)
    if comes is None:
        yield from _with_above(context, domain, hosts)
        return
    hosts |= {one.number: one for one in (domain, *comes.aliases)}
    yield from transferred(context, comes)


def _discards(context: WorkContext) -> Iterator[WorkStep]:
    """What was set aside, and has been kept as long as it is to be."""
    for one in context.set_asides:
        if one.is_due:
            step = Discard(context.account.name, one.number, one.folder, one.day)
            does = [Remedy.of(Action.DISCARD, one.number)]
            yield context.step(WorkKind.DISCARD, one.folder, step, seen=False, subject=one.number, remedies=does)


def work_list(steps: Sequence[WorkStep], now: datetime.datetime) -> WorkList:
    """Steps in order, with what blocks each, and from when to when the last is done.

    Nothing comes before what it needs; of what could come next, what was generated first does. A need that is no
    step of the list is nothing to wait for.
    """
    known = {step.id: step for step in steps}
    for step in steps:
        step.needs = [need for need in dict.fromkeys(step.needs) if need in known and need != step.id]
    ordered = _in_order(steps)
    _without_implied(ordered)
    for step in ordered:
        step.blocked_by = [need for need in step.needs if not known[need].is_done]
    span = _span(ordered, now)
    for step in ordered:
        step.is_longest = span is not None and step.id in span.chain
    return WorkList(ordered, span)


def _is_begun(context: WorkContext, installation: Installation) -> bool:
    """Whether something live is still in work: its end was begun, and not all of it was said to be done."""
    site = installation.address
    kinds = [kind for kind in WorkKind if kind in _FINISHING and kind is not WorkKind.SECOND_COPY]
    said = [
        kind for kind in (*kinds, WorkKind.INSTALL, WorkKind.SET_UP, WorkKind.UPLOAD) if context.is_said(kind, site)
    ]
    return (bool(said) or str(site) in context.confirmed) and not all(context.is_said(kind, site) for kind in kinds)


def _with_above(context: WorkContext, domain: Domain | None, hosts: dict[int, Domain]) -> Iterator[WorkStep]:
    """The steps of a domain that is in work, behind those of the domains above it that are."""
    if domain is None or domain.number in hosts:
        return
    hosts[domain.number] = domain
    named = context.account.named
    for name in domain.name.above():
        if name in named:
            yield from _with_above(context, named[name], hosts)
    if domain.of is not None and domain.of in named:
        yield from _with_above(context, named[domain.of], hosts)
    if is_in_work(context, domain):
        yield from host_steps(context, domain)


def _in_order(steps: Sequence[WorkStep]) -> list[WorkStep]:
    place = {step.id: n for n, step in enumerate(steps)}
    left = {step.id: len(step.needs) for step in steps}
    after: dict[str, list[str]] = {}
    for step in steps:
        for need in step.needs:
            after.setdefault(need, []).append(step.id)
    free = [place[own] for own, number in left.items() if not number]
    heapq.heapify(free)
    ordered: list[WorkStep] = []
    while free:
        step = steps[heapq.heappop(free)]
        ordered.append(step)
        for own in after.get(step.id, ()):
            left[own] -= 1
            if not left[own]:
                heapq.heappush(free, place[own])
    if len(ordered) < len(steps):
        circle = sorted(own for own, number in left.items() if number)
        raise ValueError(f"steps need one another in a circle: {', '.join(circle)}")
    return ordered


def _without_implied(ordered: Sequence[WorkStep]) -> None:
    """Leave to each step the needs that none of its others has already, and is still to be done itself."""
    before: dict[str, frozenset[str]] = {}
    done = {step.id for step in ordered if step.is_done}
    for step in ordered:
        implied = frozenset(own for need in step.needs if need not in done for own in before[need])
        step.needs = [need for need in step.needs if need not in implied]
        before[step.id] = implied | frozenset(step.needs)


def _span(ordered: Sequence[WorkStep], now: datetime.datetime) -> WorkSpan | None:
    """When the last open step is done, at the earliest and the latest as a rule, by the chain that takes longest."""
    ends: dict[str, tuple[datetime.datetime, datetime.datetime]] = {}
    before: dict[str, str] = {}
    for step in ordered:
        if step.is_done:
            continue
        begins = [(ends[need], need) for need in step.needs if need in ends]
        early = max((end[0] for end, _ in begins), default=now)
        late = now
        for end, need in begins:
            if end[1] >= late:
                late, before[step.id] = end[1], need
        wait = step.wait
        least, most = (wait.least, wait.most) if wait is not None else (0, 0)
        add = _passed if step.who == NOBODY else _worked
        ends[step.id] = add(early, least), add(late, most)
        step.until = ends[step.id][1].date().isoformat()
    if not ends:
        return None
    last = max(ends, key=lambda own: ends[own][1])
    chain = [last]
    while chain[-1] in before:
        chain.append(before[chain[-1]])
    earliest = max(end[0] for end in ends.values())
    return WorkSpan(earliest.date().isoformat(), ends[last][1].date().isoformat(), tuple(reversed(chain)))


def _passed(begin: datetime.datetime, seconds: int) -> datetime.datetime:
    return begin + datetime.timedelta(seconds=seconds)


def _worked(begin: datetime.datetime, seconds: int) -> datetime.datetime:
    """When people are done who work from Monday to Friday."""
    end = _on_a_workday(begin)
    left = datetime.timedelta(seconds=seconds)
    while left:
        midnight = (end + datetime.timedelta(days=1)).replace(hour=0, minute=0, second=0, microsecond=0)
        part = min(left, midnight - end)
        end, left = end + part, left - part
        if left:
            end = _on_a_workday(end)
    return end


def _on_a_workday(moment: datetime.datetime) -> datetime.datetime:
    while moment.weekday() >= 5:
        moment = (moment + datetime.timedelta(days=1)).replace(hour=0, minute=0, second=0, microsecond=0)
    return moment
