"""The planner's own records of steps that were carried out: the only ones that are believed."""

from __future__ import annotations

import msgspec

from kettlepost.core.carrying import CarriedRecord, decode_record, encode_record
from kettlepost.core.clearing import LARGEST_MANIFEST, SetAsideNumber
from kettlepost.core.errors import InputError
from kettlepost.core.names import InvalidName, quoted
from kettlepost.core.remedies import Action, Remedy
from kettlepost.workspace.files import OWN_FOLDER, is_trusted, own_folder, read_at_most, remove, write_whole
from kettlepost.workspace.plan_folder import PlanFolder

_PLACE = "carried-out"


class CarriedStep(msgspec.Struct, frozen=True):
    """A step that was carried out and can be taken back: its number, account and id, and whether it came to its end."""

    number: SetAsideNumber
    account: str
    id: str
    is_done: bool


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


def carried(plan: PlanFolder) -> list[CarriedStep]:
    """What was carried out, the oldest first; damaged records tell nothing."""
    place = plan.path / OWN_FOLDER / _PLACE
    found: list[CarriedStep] = []
    if place.is_symlink() or not is_trusted(plan.path):
        return found
    for path in sorted(place.glob("*.jsonl")):
        if not SetAsideNumber.is_one(path.stem):
            continue
        try:
            with path.open("rb") as file:
                head = _HEAD.decode(file.readline(1 << 20))
        except (OSError, msgspec.MsgspecError):
            continue
        found.append(CarriedStep(SetAsideNumber(path.stem), head.account, head.id, head.is_done))
    return found


class _CarriedSummary(msgspec.Struct):
    account: str
    id: str
    is_done: bool = False


_HEAD = msgspec.json.Decoder(_CarriedSummary)


def half_way(plan: PlanFolder, account: str) -> CarriedStep | None:
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
