"""The work list of a plan folder: what is to be done, what is seen to be done, and what somebody said is."""

from __future__ import annotations

import datetime
from collections.abc import Container, Iterable, Mapping, Sequence
from contextlib import nullcontext, suppress
from typing import NamedTuple

import msgspec
import rtoml
from msgspec import Struct, field

from kettlepost.core.errors import InputError
from kettlepost.core.messages import Hint
from kettlepost.core.names import Address, Folder, InvalidName, did_you_mean, printable, quoted, readable
from kettlepost.core.plan import Domain, Installation
from kettlepost.core.rules import Finding
from kettlepost.core.steps import Step
from kettlepost.core.work import DoneMark, StoredSetAside, WorkContext, WorkList, WorkStep, steps_of, work_list
from kettlepost.workspace.carrying.records import carried
from kettlepost.workspace.changes import PreparedChange, changing
from kettlepost.workspace.clock import now
from kettlepost.workspace.history import begun_sites, confirmed_sites, history
from kettlepost.workspace.journal import Edit
from kettlepost.workspace.plan_folder import WORK_FILE, PlanFolder
from kettlepost.workspace.queries import check, check_near
from kettlepost.workspace.set_aside.records import copies, days_after
from kettlepost.workspace.subjects import asked_about, with_former

_LONGEST = 2000
_OF_ANOTHER = "stray-host"
"""What another account wants at a host of this one is for that account to mend."""
_FEW = 20
"""Of so many accounts and more, all accounts are asked together, of which much is remembered."""


class _WorkFile(Struct, forbid_unknown_fields=True):
    """`work.toml`."""

    done: list[DoneMark] = field(default_factory=list)


def work(
    plan: PlanFolder, asked: Sequence[str] = (), account: str | None = None, today: datetime.datetime | None = None
) -> WorkList:
    """What is to be done, in an order in which it can be: of accounts, addresses, domains or clients, else of all.

    Raises InputError for what is none of them, PlanError with every fault of the plan.
    """
    moment = today or datetime.datetime.fromisoformat(now().replace("Z", "+00:00"))
    happened = _happened(plan, moment)
    steps: list[WorkStep] = []
    wanted = asked_about(plan, asked, account)
    if account is None:
        wanted = with_former(plan, asked, wanted)
    found = _findings(plan, wanted)
    for name, only in wanted.items():
        steps += steps_of(_context(plan, name, happened, found.get(name, ())), only)
    return work_list(steps, moment)


class _Happened(NamedTuple):
    """What the plan folder knows of what was done: said, confirmed by account, set aside by account.

    `carried` are the steps that were carried out, the numbers of their records, and when, where they came to their
    end, by their ids; `begun` is when something was last planned for an address, by account.
    """

    said: Mapping[str, DoneMark]
    confirmed: Mapping[str, set[str]]
    set_asides: Mapping[str, list[StoredSetAside]]
    carried: Mapping[str, tuple[Step, str, str]] = {}
    begun: Mapping[str, Mapping[str, str]] = {}


def _happened(plan: PlanFolder, moment: datetime.datetime) -> _Happened:
    asides: dict[str, list[StoredSetAside]] = {}
    days = plan.shared.settings.settings.keep_days
    for number, manifest in sorted(copies(plan).items()):
        head = manifest.head
        with suppress(InputError):
            is_due = days_after(head.day, days) <= moment.date()
            kept = StoredSetAside(str(number), Folder(head.folder), head.day.isoformat(), is_due)
            asides.setdefault(head.account, []).append(kept)
    done = {one.id: (one.step, one.number, one.taken if one.is_done else "") for one in carried(plan)}
    events = history(plan)
    marks = {one.id: one for one in done_marks(plan)}
    return _Happened(marks, confirmed_sites(events), asides, done, begun_sites(events))


def _context(plan: PlanFolder, name: str, happened: _Happened, findings: Sequence[Finding] = ()) -> WorkContext:
    waits, confirmed = plan.shared.settings.settings.waits, happened.confirmed.get(name, ())
    asides = happened.set_asides.get(name, ())
    begun = happened.begun.get(name, {})
    return WorkContext(
        plan.layout_of(name), findings, happened.said, waits, confirmed, asides, happened.carried, begun,
        lambda other: plan.layout_of(other) if other in plan.names else None,
    )  # fmt: skip


def context_of(plan: PlanFolder, name: str) -> WorkContext:
    """One account, with what was said to be done."""
    return _context(plan, name, _Happened({one.id: one for one in done_marks(plan)}, {}, {}))


def done_marks(plan: PlanFolder) -> list[DoneMark]:
    """What was said to be done. Raises InputError for a file that is none."""
    raw = plan.raw(WORK_FILE)
    if raw is None:
        return []
    try:
        return msgspec.convert(rtoml.loads(raw.decode("utf-8")), _WorkFile).done
    except (rtoml.TomlParsingError, msgspec.ValidationError, ValueError) as error:
        raise InputError(f"{WORK_FILE}: not what was said to be done ({printable(str(error))}); mend it") from None


def say_done(
    plan: PlanFolder, ids: Sequence[str], by: str = "", note: str = "", takes_back: bool = False
) -> PreparedChange:
    """Write down that steps are done, or with `takes_back` that they are not after all.

    `ids` are those of steps, or addresses: of one of these, all its steps that nothing shows to be undone.
    Raises InputError that names the nearest id.
    """
    if len(by) > _LONGEST or len(note) > _LONGEST:
        raise InputError(f"that is longer than {_LONGEST:,} characters")
    said = {one.id: one for one in done_marks(plan)}
    steps = {step.id: step for step in work(plan).steps}
    told: list[Hint] = []
    for own in [step for one in ids for step in _meant(one, steps, takes_back)]:
        if own not in steps and not (takes_back and own in said):
            raise InputError(f"{quoted(own)} is no step that is to be done{did_you_mean(own, steps)}")
        if takes_back:
            said.pop(own, None)
            continue
        said[own] = DoneMark(own, now(), by, note)
        told += _told(steps[own], said)
    before = plan.raw(WORK_FILE)
    return PreparedChange(plan, [Edit(WORK_FILE, before, _written(said.values()))], told)


def _meant(written: str, steps: Mapping[str, WorkStep], takes_back: bool) -> list[str]:
    """The ids that are meant by one, or by the address of a site; what is written where it is neither."""
    if written in steps:
        return [written]
    site = written
    with suppress(InvalidName):
        site = str(Address.parse(written))
    own = [step for step in steps.values() if step.site.rstrip("/") == site.rstrip("/")]
    if takes_back:
        meant, none = (
            [step for step in own if step.said is not None],
            f"nothing of {readable(site)} was said to be done",
        )
    else:
        meant = [step for step in own if not step.is_done and step.seen is not False]
        none = f"of {readable(site)} nothing is open that a look does not tell"
    if own and not meant:
        raise InputError(none)
    return [step.id for step in meant] or [written]


def say_kept(plan: PlanFolder, own: str, where: str) -> None:
    """Write down that a password is kept, as nothing else shows it. Raises InputError, OutsideError."""
    with nullcontext(plan) if plan.is_locked else changing(plan.path) as fresh:
        said = {one.id: one for one in done_marks(fresh)} | {own: DoneMark(own, now(), "", f"kept in {where}")}
        edit = Edit(WORK_FILE, fresh.raw(WORK_FILE), _written(said.values()))
        PreparedChange(fresh, [edit]).commit("kettlepost password make")


def _told(step: WorkStep, said: Container[str]) -> list[Hint]:
    """What speaks against that a step is done, where others are `said` to be."""
    if step.seen is False and not step.looked:
        return [Hint(f"{step.id} is seen not to be done; that is what counts")]
    if step.seen is False:
        return [Hint(f"{step.id} was not done on {step.looked[:10]}; what is said counts until the next look")]
    first = [own for own in step.blocked_by if own not in said]
    if first:
        return [Hint(f"{step.id} comes behind {', '.join(first)}, and that is not done yet")]
    return []


def _written(said: Iterable[DoneMark]) -> bytes | None:
    entries = sorted(said, key=lambda one: (one.at, one.id))
    if not entries:
        return None
    tables = []
    for one in entries:
        keys = {key: value for key, value in msgspec.structs.asdict(one).items() if value}
        tables.append("[[done]]\n" + rtoml.dumps(keys))
    head = "# What was said to be done of the work list. Written by kettlepost work --done.\n\n"
    return (head + "\n".join(tables)).encode("utf-8")


def _findings(plan: PlanFolder, wanted: Mapping[str, list[Domain | Installation] | None]) -> dict[str, list[Finding]]:
    """What stands against what is planned, by account; asked of those alone in which something is.

    Of a few accounts, only those others are looked at that can have a part in it.
    """
    names = []
    for name, only in wanted.items():
        account = plan.account(name)
        records = only if only is not None else account.installations
        if any(isinstance(one, Installation) and (one.state == "planned" or one.is_moving) for one in records) or any(
            isinstance(one, Domain) and one.account_now is not None for one in records
        ):
            names.append(name)
    found: dict[str, list[Finding]] = {}
    asked = check_near if len(names) < _FEW else check
    for one in asked(plan, names).findings if names else ():
        found.setdefault(one.account, []).append(one)
        for other in one.also_at if one.severity == "stop" and one.rule != _OF_ANOTHER else ():
            found.setdefault(other, []).append(one)
    return found


def who_can(steps: WorkList, who: str) -> WorkList:
    """The same list with the steps of one person alone. Raises InputError where nobody of that name has any."""
    wanted = _WHO.get(who.lower(), who)
    people = {step.who for step in steps.steps}
    found = [step for step in steps.steps if step.who.casefold() == wanted.casefold()]
    if not found and wanted not in _WHO.values():
        near = did_you_mean(who, [*_WHO, *people])
        raise InputError(f"nothing is to be done by {quoted(who)}{near}")
    return WorkList(found, steps.span)


_WHO = {"you": "you", "host": "the host", "registrar": "the registrar", "client": "the client"}
