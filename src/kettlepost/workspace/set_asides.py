"""What was set aside: put back, finished, listed, and deleted for good."""

from __future__ import annotations

import datetime
import hashlib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import NamedTuple

from kettlepost.core.clearing import Manifest
from kettlepost.core.errors import InputError, KettlepostError, OutsideError, cause
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Folder, printable, quoted
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.survey import SET_ASIDE, is_in
from kettlepost.sources import FileAccess, Secrets, Trouble, open_files
from kettlepost.workspace import setting_aside
from kettlepost.workspace.files import own_folder
from kettlepost.workspace.manifest_copies import copies, copy_of, keep_or_drop
from kettlepost.workspace.moments import now
from kettlepost.workspace.plan_edits import folder_of
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.setting_aside import Outcome, Progress
from kettlepost.workspace.shelf import Held, Shelf, State
from kettlepost.workspace.surveys import source_of, survey


class SetAside(NamedTuple):
    """Something that is set aside: what is known of it, how far it has come, and whether it is still as it was.

    `state` is None where the host was not looked at, and `trouble` says why not where that was tried in vain; `held` is
    None where nothing could be compared.
    """

    number: str
    account: str
    manifest: Manifest | None
    state: State | None
    held: Held | None
    trouble: str = ""


def put_back(
    plan: PlanFolder,
    number: str,
    paths: Sequence[str] = (),
    is_beside: bool = False,
    account: str | None = None,
    source: str | None = None,
    secrets: Secrets | None = None,
) -> Outcome:
    """Put back what was set aside: all of it, or single paths. Raises InputError where something is in the way."""
    asked = [str(folder_of(path.rstrip("/"), plan)) for path in paths]
    with _shelf(plan, number, account, source, secrets) as (name, shelf):
        copy = copy_of(plan, number)
        if copy is not None and shelf.state(number) is State.DAMAGED:
            shelf.restore(copy)
        manifest = shelf.manifest(number) if shelf.state(number) is not State.NOTHING else None
        outcome = setting_aside.put_back(shelf, number, asked, is_beside)
        keep_or_drop(plan, number, outcome.manifest)
    folders = [Folder(manifest.head.folder)] if manifest is not None else []
    look_again(plan, name, [*folders, Folder(SET_ASIDE)], source, secrets)
    return outcome


def finish(
    plan: PlanFolder,
    number: str,
    account: str | None = None,
    source: str | None = None,
    secrets: Secrets | None = None,
    progress: Progress | None = None,
) -> Outcome:
    """Bring to its end what broke off, so that all of it is set aside."""
    with _shelf(plan, number, account, source, secrets) as (name, shelf):
        outcome = setting_aside.finish(shelf, number, progress)
        keep_or_drop(plan, number, outcome.manifest)
    folders = [Folder(outcome.manifest.head.folder)] if outcome.manifest is not None else []
    look_again(plan, name, [*folders, Folder(SET_ASIDE)], source, secrets)
    return outcome


def discard(
    plan: PlanFolder,
    number: str,
    account: str | None = None,
    source: str | None = None,
    secrets: Secrets | None = None,
) -> int:
    """Delete for good what was set aside; gives how many files went. Raises InputError for what broke off half-way."""
    with _shelf(plan, number, account, source, secrets) as (name, shelf):
        files = setting_aside.discard(shelf, number)
        keep_or_drop(plan, number, None)
    look_again(plan, name, [Folder(SET_ASIDE)], source, secrets)
    return files


def discardable(
    plan: PlanFolder,
    number: str,
    account: str | None,
    source: str | None,
    secrets: Secrets | None,
    today: datetime.date,
    is_told: bool = False,
) -> SetAside:
    """What is to be deleted, as it is now. Raises InputError where it is not old enough, unless that `is_told`."""
    name = account if account is not None else _account_of(plan, number)
    rows = set_asides(plan, [name], True, False, source, secrets)
    row = next((row for row in rows if row.number == number and row.state is not None), None)
    if row is None:
        raise InputError(f"{quoted(number)} is not set aside in {name}")
    days = plan.shared.plan([]).settings.keep_days
    if not is_told and row.manifest is not None and row.state is not State.GOING:
        until = datetime.date.fromisoformat(row.manifest.head.taken[:10]) + datetime.timedelta(days)
        if until > today:
            raise InputError(
                f"{number} is kept until {until}, as keep_days in [settings] is {days}", Remedy(Do.DISCARD_NOW)
            )
    return row


def set_asides(
    plan: PlanFolder,
    accounts: Sequence[str] = (),
    look: bool = True,
    with_digests: bool = False,
    source: str | None = None,
    secrets: Secrets | None = None,
) -> Iterator[SetAside]:
    """What was set aside, the oldest first: of accounts that are named, else of those of which something is known.

    With `look` each is compared with its manifest on the host; `with_digests` reads the files for that.
    """
    known_here = copies(plan)
    names = plan.known_names(list(accounts)) if accounts else sorted(_with_some(plan, known_here))
    for name in names:
        known = {number: manifest for number, manifest in known_here.items() if manifest.head.account == name}
        if look:
            try:
                yield from _looked_at(plan, name, known, with_digests, source, secrets)
                continue
            except KettlepostError as error:
                trouble = str(error)
        else:
            trouble = ""
        for number in sorted(known):
            yield SetAside(number, name, known[number], None, None, trouble)
        if trouble and not known:
            yield SetAside("", name, None, None, None, trouble)


def _looked_at(
    plan: PlanFolder,
    name: str,
    known: Mapping[str, Manifest],
    with_digests: bool,
    source: str | None,
    secrets: Secrets | None,
) -> Iterator[SetAside]:
    access = _access(plan, name, source, secrets)
    try:
        shelf = Shelf(access)
        there = shelf.ids()
        for number in there:
            state = shelf.state(number)
            try:
                manifest = shelf.manifest(number) if state is not State.NOTHING else None
            except InputError as error:
                yield SetAside(number, name, known.get(number), State.DAMAGED, None, str(error))
                continue
            held = None
            if manifest is not None and state is State.WHOLE:
                digests = _digests_of(access, manifest) if with_digests else None
                held = shelf.look_at(manifest, digests)
            yield SetAside(number, name, manifest, state, held)
        for number in sorted(known.keys() - set(there)):
            yield SetAside(number, name, known[number], None, None, "it is not there any more")
    finally:
        access.close()


def look_again(
    plan: PlanFolder, name: str, folders: Sequence[Folder], source: str | None = None, secrets: Secrets | None = None
) -> AccountLayout:
    """Take the survey of some folders again, and give the account as it is then."""
    for folder in folders:
        if folder:
            survey(PlanFolder(plan.path), name, source, secrets=secrets, only=folder)
    return PlanFolder(plan.path).layout_of(name)


@contextmanager
def at_work(plan: PlanFolder, name: str) -> Iterator[None]:
    """Keep other commands of this plan from clearing in the same account. Raises InputError where one is at it."""
    import filelock

    path = own_folder(plan.path) / f"clearing-{name}.lock"
    lock = filelock.FileLock(path, timeout=0, mode=0o600)
    try:
        lock.acquire()
    except filelock.Timeout:
        raise InputError(f"another kettlepost is clearing in {name}; wait until it has ended") from None
    except OSError as error:
        raise OutsideError(f"{printable(path)}: cannot be written ({cause(error)}); nothing was moved") from None
    try:
        yield
    finally:
        lock.release()


@contextmanager
def _shelf(
    plan: PlanFolder, number: str, account: str | None, source: str | None, secrets: Secrets | None
) -> Iterator[tuple[str, Shelf]]:
    """What is set aside in the account that a number belongs to. Raises InputError where no account is known for it."""
    name = account if account is not None else _account_of(plan, number)
    plan.known_names([name])
    access = _access(plan, name, source, secrets)
    try:
        with at_work(plan, name):
            shelf = Shelf(access)
            if number not in shelf.ids():
                keep_or_drop(plan, number, None)  # else it would be told of for ever
                raise InputError(
                    f"{quoted(number)} is not set aside in {printable(access.name)} any more, or never was"
                )
            yield name, shelf
    finally:
        access.close()


def _access(plan: PlanFolder, name: str, source: str | None, secrets: Secrets | None) -> FileAccess:
    where = source_of(plan, name, source, secrets=secrets)
    access = open_files(where, secrets, now())
    if access is None:
        raise InputError(f"{printable(where.name)} holds no files that can be moved", Remedy(Do.NAME_HOME))
    return access


def _account_of(plan: PlanFolder, number: str) -> str:
    copy = copy_of(plan, number)
    if copy is not None and copy.head.account in plan.names:
        return copy.head.account
    place = Folder(SET_ASIDE).below(number) if "/" not in number else Folder(SET_ASIDE)
    having = [
        name for name in plan.names
        if (found := plan.survey(name)) is not None and any(one.folder == place for one in found.folders)
    ]  # fmt: skip
    if len(having) != 1:
        raise InputError(f"{quoted(number)} is not known here", Remedy(Do.LIST_SET_ASIDE), Remedy(Do.CHOOSE_ACCOUNT))
    return having[0]


def _with_some(plan: PlanFolder, known: Mapping[str, Manifest]) -> set[str]:
    """The accounts of which something is known to be set aside."""
    found = {manifest.head.account for manifest in known.values() if manifest.head.account in plan.names}
    for name in plan.names:
        there = plan.survey(name)
        if there is not None and any(is_in(one.folder, SET_ASIDE) for one in there.folders):
            found.add(name)
    return found


def see_nothing_is_half_way(shelf: Shelf, name: str) -> None:
    """Raises InputError where something broke off in an account, and is to be brought to an end first."""
    for number, state in shelf.half_way().items():
        if state in (State.NOTHING, State.DAMAGED):
            continue
        ways = [Do.FINISH, Do.PUT_BACK] if state is not State.GOING else [Do.DISCARD]
        raise InputError(f"{number} is {state} in {name}, as a run broke off", *(Remedy(do, number) for do in ways))


def digest_of(access: FileAccess, path: str) -> str:
    """The SHA-256 of a file. Raises Trouble where it cannot be read."""
    digest = hashlib.sha256()
    for piece in access.read(path):
        digest.update(piece)
    return digest.hexdigest()


def _digests_of(access: FileAccess, manifest: Manifest) -> dict[str, str]:
    """The digests of the files that are set aside, as they are now, where their manifest has one."""
    found: dict[str, str] = {}
    for item in manifest.items:
        if item.sha256:
            try:
                found[item.path] = digest_of(access, f"{SET_ASIDE}/{manifest.id}/files/{item.path}")
            except Trouble:
                continue  # what is missing is told as that
    return found
