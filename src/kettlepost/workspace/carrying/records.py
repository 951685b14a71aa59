"""The planner's own records of steps that were carried out: the only ones that are believed."""

from __future__ import annotations

from contextlib import suppress

from kettlepost.core.carrying import CarriedHead, CarriedRecord, decode_head, decode_record, encode_record
from kettlepost.core.clearing import LARGEST_MANIFEST, SetAsideNumber
from kettlepost.core.errors import InputError
from kettlepost.core.names import InvalidName, quoted
from kettlepost.core.remedies import Action, Remedy
from kettlepost.workspace.files import OWN_FOLDER, is_trusted, own_folder, read_at_most, remove, write_whole
from kettlepost.workspace.plan_folder import PlanFolder

_PLACE = "carried-out"
_LONGEST_HEAD = 1 << 20


def keep(plan: PlanFolder, record: CarriedRecord) -> None:
    """Keep a record with the plan, readable by who keeps it alone."""
    write_whole(own_folder(plan.path) / _PLACE / f"{record.number}.jsonl", encode_record(record), mode=0o600)


def drop(plan: PlanFolder, number: SetAsideNumber) -> None:
    remove(plan.path / OWN_FOLDER / _PLACE / f"{number}.jsonl")


def record_of(plan: PlanFolder, number: str) -> CarriedRecord:
    """The record of a number. Raises InputError where there is none that can be believed."""
    try:
        own = SetAsideNumber.parse(number)
    except InvalidName as error:
        raise InputError(str(error)) from None
    path = plan.path / OWN_FOLDER / _PLACE / f"{own}.jsonl"
    try:
        if not is_trusted(plan.path):
            raise FileNotFoundError
        return decode_record(read_at_most(path, LARGEST_MANIFEST, follow=False), str(path), own)
    except OSError:
        raise InputError(
            f"{quoted(number)} is no step that was carried out from this plan folder", Remedy(Action.LIST_WORK)
        ) from None


def carried(plan: PlanFolder) -> list[CarriedHead]:
    """What was carried out and can be taken back, the oldest first; damaged records tell nothing."""
    place = plan.path / OWN_FOLDER / _PLACE
    found: list[CarriedHead] = []
    if place.is_symlink() or not is_trusted(plan.path):
        return found
    for path in sorted(place.glob("*.jsonl")):
        with suppress(OSError, InputError):
            head = decode_head(read_at_most(path, _LONGEST_HEAD, follow=False))
            found += [head] if head.number == path.stem else []
    return found


def half_way(plan: PlanFolder, account: str) -> CarriedHead | None:
    """What broke off half-way in an account."""
    return next((one for one in carried(plan) if one.account == account and not one.is_done), None)


def see_nothing_is_half_carried(plan: PlanFolder, account: str) -> None:
    """Raises InputError where a step broke off in an account, and is to be brought to its end, or back, first."""
    broken = half_way(plan, account)
    if broken is not None:
        raise InputError(
            f"{broken.id} is half carried out in {account}, as a run broke off",
            Remedy.of(Action.CARRY_OUT, broken.id),
            Remedy.of(Action.TAKE_BACK, broken.number),
        )
