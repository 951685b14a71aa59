"""The planner's own record of what was set aside: copies of manifests, and when something was first seen here.

What lies in an account's home is its customer's word. What is kept here is the only record that is believed.
"""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from contextlib import suppress
from typing import NamedTuple

import msgspec
from msgspec.structs import replace

from kettlepost.core.clearing import LARGEST_MANIFEST, Manifest, SetAsideNumber, decode_manifest, encode_manifest
from kettlepost.core.errors import InputError, OutsideError
from kettlepost.workspace.files import OWN_FOLDER, is_trusted, own_folder, read_at_most, remove, write_whole
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.set_aside.store import SetAsideStore

_SEEN = "first-seen.json"
_HARMLESS = 0o755
"""The permission bits that a folder is given at the most which a stranger's record speaks of."""


_Days = dict[str, dict[str, datetime.date]]
"""By account and by number."""


class Record(NamedTuple):
    """What is known of something that was set aside, and whether the planner's own copy says so, or only the home."""

    manifest: Manifest
    is_own: bool


def record_of(plan: PlanFolder, store: SetAsideStore, number: SetAsideNumber, account: str) -> Record:
    """The planner's own copy; where there is none, what the home says. Raises InputError where that says nothing."""
    copy = copy_of(plan, number)
    if copy is not None and copy.head.account == account:
        return Record(copy, True)
    found = store.manifest(number)
    folders = {path: mode & _HARMLESS if mode >= 0 else mode for path, mode in found.head.folders.items()}
    items = [replace(item, mode=item.mode & _HARMLESS) if item.mode >= 0 else item for item in found.items]
    return Record(Manifest(replace(found.head, account=account, folders=folders, live={}), items), False)


def keep_copy(plan: PlanFolder, manifest: Manifest) -> None:
    """Keep a copy of a manifest with the plan, readable by who keeps it alone."""
    place = own_folder(plan.path) / "set-aside"
    write_whole(place / f"{manifest.id}.jsonl", encode_manifest(manifest), mode=0o600)


def copies(plan: PlanFolder) -> dict[SetAsideNumber, Manifest]:
    """The manifests of which a copy is kept with the plan; damaged ones tell nothing."""
    place = plan.path / OWN_FOLDER / "set-aside"
    found: dict[SetAsideNumber, Manifest] = {}
    for path in sorted(place.glob("*.jsonl")) if not place.is_symlink() else ():
        copy = copy_of(plan, SetAsideNumber(path.stem)) if SetAsideNumber.is_one(path.stem) else None
        if copy is not None:
            found[copy.id] = copy
    return found


def copy_of(plan: PlanFolder, number: SetAsideNumber) -> Manifest | None:
    """The copy of one manifest; None where there is none that can be read, or a stranger can have written it."""
    if not is_trusted(plan.path):
        return None
    path = plan.path / OWN_FOLDER / "set-aside" / f"{number}.jsonl"
    try:
        return decode_manifest(read_at_most(path, LARGEST_MANIFEST, follow=False), str(path), number)
    except (OSError, InputError):
        return None


def keep_or_drop(plan: PlanFolder, number: SetAsideNumber, manifest: Manifest | None) -> None:
    """Keep the copy as the manifest is now, or drop it where nothing is set aside any more."""
    path = plan.path / OWN_FOLDER / "set-aside" / f"{number}.jsonl"
    if manifest is not None:
        keep_copy(plan, manifest)
    elif path.exists():
        remove(path)


def first_seen(
    plan: PlanFolder, account: str, numbers: Sequence[SetAsideNumber], today: datetime.date
) -> dict[str, datetime.date]:
    """The days on which things were first seen here that the planner has no copy of; those that are new are noted.

    What cannot be noted has no day. What is not there any more is forgotten.
    """
    path = plan.path / OWN_FOLDER / "set-aside" / _SEEN
    known: dict[str, dict[str, datetime.date]] = {}
    with suppress(OSError, msgspec.MsgspecError):
        if is_trusted(plan.path):
            known = msgspec.json.decode(read_at_most(path, 1 << 24, follow=False), type=_Days)
    before = known.get(account, {})
    found: dict[str, datetime.date] = {number: min(before.get(number, today), today) for number in numbers}
    if found != before:
        try:
            own_folder(plan.path)
            known = {**known, account: found}
            write_whole(path, msgspec.json.encode({name: days for name, days in known.items() if days}), mode=0o600)
        except (OSError, OutsideError, InputError):
            return {number: day for number, day in found.items() if number in before}
    return found


def days_after(day: datetime.date, days: int) -> datetime.date:
    try:
        return day + datetime.timedelta(days)
    except OverflowError:
        return datetime.date.max
