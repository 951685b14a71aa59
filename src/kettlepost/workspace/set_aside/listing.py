"""What was set aside: put back, finished, listed, and deleted for good."""

from __future__ import annotations

import datetime
import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import NamedTuple

from kettlepost.core.clearing import Covering, Manifest, SetAsideNumber, covering, live_in
from kettlepost.core.errors import InputError, KettlepostError, OutsideError, cause
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Folder, InvalidName, printable, quoted
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import SET_ASIDE, is_in
from kettlepost.core.words import counted
from kettlepost.sources import FileAccess, Secrets, Trouble, open_files
from kettlepost.workspace.clock import now
from kettlepost.workspace.files import own_folder
from kettlepost.workspace.plan_edits import folder_of
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.set_aside import move as setting_aside
from kettlepost.workspace.set_aside.move import Discarded, MoveOutcome, Progress
from kettlepost.workspace.set_aside.records import copies, copy_of, days_after, first_seen, keep_or_drop, record_of
from kettlepost.workspace.set_aside.store import SetAsideComparison, SetAsideState, SetAsideStore
from kettlepost.workspace.surveys import source_of, survey


class SetAside(NamedTuple):
    """Something that is set aside: what is known of it, how far it has come, and whether it is still as it was.

    `state` is None where the host was not looked at, and `trouble` says why not where that was tried in vain; `held` is
    None where nothing could be compared. `is_own` is whether the planner's own copy says so, and not only what lies in
    the home; `seen` is the day on which it was first seen here where there is no such copy.
    """

    number: str
    account: str
    manifest: Manifest | None
    state: SetAsideState | None
    held: SetAsideComparison | None
    trouble: str = ""
    is_own: bool = True
    seen: datetime.date | None = None


class UnverifiedRecord(NamedTuple):
    """A record that only the account's home has: what it wants done, to which paths, before that is allowed."""

    account: str
    manifest: Manifest
    paths: list[str]


Allow = Callable[[UnverifiedRecord], None]
"""Raises where what a stranger's record says is not to be done."""


def refuse(doubt: UnverifiedRecord) -> None:
    """What is done with a stranger's record where nobody can be asked. Raises InputError."""
    raise InputError(
        f"of {doubt.manifest.id} there is no copy in this plan's .kettlepost, so only what lies in the home of "
        f"{doubt.account} says what it is, which its customer may have written; nothing was moved",
        Remedy(Action.BELIEVE),
    )


def put_back(
    plan: PlanFolder,
    number: str,
    paths: Sequence[str] = (),
    is_beside: bool = False,
    account: str | None = None,
    source: str | None = None,
    secrets: Secrets | None = None,
    replaces: bool = False,
    takes_over: bool = False,
    allow: Allow = refuse,
) -> MoveOutcome:
    """Put back what was set aside: all of it, or single paths. Raises InputError where something is in the way.

    What would win over something that is in use there since is refused unless `replaces` says otherwise, or it
    is put `is_beside`. `allow` is asked where the planner has no record of it of their own.
    """
    asked = [str(folder_of(path.rstrip("/"), plan)) for path in paths]
    with _store(plan, number, account, source, secrets, takes_over) as (name, store, its_number):
        if store.state(its_number) is SetAsideState.NOTHING:
            return _tidied(plan, store, its_number)
        record = record_of(plan, store, its_number, name)
        manifest = record.manifest
        returning = asked or [item.path for item in manifest.moved]
        if not record.is_own:
            allow(UnverifiedRecord(name, manifest, returning))
        covers = _covering(plan, name, store, manifest, returning, is_beside, source, secrets)
        if covers and not (is_beside or replaces):
            more = f" (and {len(covers) - 1:,} more)" if covers[1:] else ""
            raise InputError(
                f"{covers[0].words}{more}; nothing was put back",
                Remedy(Action.PUT_BESIDE),
                Remedy(Action.PUT_BACK_OVER),
            )
        outcome = setting_aside.put_back(
            store, manifest, asked, is_beside, {one.path for one in covers if not replaces}
        )
        with afterwards(moved_words(outcome, "put back")):
            if record.is_own:
                keep_or_drop(plan, its_number, outcome.manifest)
            look_again(plan, name, [Folder(manifest.head.folder), Folder(SET_ASIDE)], source, secrets)
    return outcome


def finish(
    plan: PlanFolder,
    number: str,
    account: str | None = None,
    source: str | None = None,
    secrets: Secrets | None = None,
    progress: Progress | None = None,
    takes_over: bool = False,
    allow: Allow = refuse,
) -> MoveOutcome:
    """Bring to its end what broke off, so that all of it is set aside. `allow` is as of `put_back`."""
    with _store(plan, number, account, source, secrets, takes_over) as (name, store, its_number):
        if store.state(its_number) is SetAsideState.NOTHING:
            return _tidied(plan, store, its_number)
        record = record_of(plan, store, its_number, name)
        manifest = record.manifest
        if not record.is_own:
            allow(UnverifiedRecord(name, manifest, [item.path for item in manifest.moved]))
        outcome = setting_aside.finish(store, manifest, progress)
        with afterwards(moved_words(outcome, "set aside")):
            if record.is_own:
                keep_or_drop(plan, its_number, outcome.manifest)
            look_again(plan, name, [Folder(manifest.head.folder), Folder(SET_ASIDE)], source, secrets)
    return outcome


def discard(
    plan: PlanFolder,
    number: str,
    account: str | None = None,
    source: str | None = None,
    secrets: Secrets | None = None,
    takes_over: bool = False,
) -> Discarded:
    """Delete for good what was set aside, and tell what went and what stayed.

    Raises InputError for what broke off half-way, and where nothing tells what it is.
    """
    with _store(plan, number, account, source, secrets, takes_over) as (name, store, its_number):
        if store.state(its_number) is SetAsideState.NOTHING:
            _tidied(plan, store, its_number)
            return Discarded(0, None, [])
        record = record_of(plan, store, its_number, name)
        done = setting_aside.discard(store, record.manifest)
        with afterwards(f"{counted(done.files, 'file')} of {its_number} {'is' if done.files == 1 else 'are'} deleted"):
            if record.is_own:
                keep_or_drop(plan, its_number, done.manifest)
            look_again(plan, name, [Folder(SET_ASIDE)], source, secrets)
    return done


def discardable(
    plan: PlanFolder,
    number: str,
    account: str | None,
    source: str | None,
    secrets: Secrets | None,
    today: datetime.date,
    is_told: bool = False,
) -> SetAside:
    """What is to be deleted, as it is now. Raises InputError where it is not old enough, unless that `is_told`.

    How old it is, is told by the planner's own copy, else by when it was first seen here; and where nothing
    tells what it is, nothing of it is deleted.
    """
    name, its_number = _known_as(plan, number, account)
    rows = set_asides(plan, [name], True, False, source, secrets)
    row = next((row for row in rows if row.number == its_number and row.state is not None), None)
    if row is None:
        raise InputError(f"{quoted(number)} is not set aside in {name}")
    if row.manifest is None and row.state is not SetAsideState.NOTHING:
        why = row.trouble or "nothing tells what was set aside"
        raise InputError(f"{number}: {why}; nothing of it is deleted: look at it")
    if is_told or row.state is SetAsideState.NOTHING:
        return row
    days = plan.shared.plan([]).settings.keep_days
    begun = row.manifest.head.day if row.is_own and row.manifest is not None else row.seen
    if begun is None:
        raise InputError(
            f"since when {number} is there is not known: no copy of its record is in this plan, and none can be noted",
            Remedy(Action.DISCARD_NOW),
        )
    if begun > today + datetime.timedelta(1):
        raise InputError(f"{number} was set aside on {begun}, which is still to come: see what the clock says")
    until = days_after(begun, days)
    if until > today:
        since = "" if row.is_own else f" (first seen here on {begun})"
        raise InputError(
            f"{number} is kept until {until}{since}, as keep_days in [settings] is {days}", Remedy(Action.DISCARD_NOW)
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
    known: Mapping[SetAsideNumber, Manifest],
    with_digests: bool,
    source: str | None,
    secrets: Secrets | None,
) -> Iterator[SetAside]:
    access = access_to(plan, name, source, secrets)
    try:
        store = SetAsideStore(access)
        there = store.ids()
        today = datetime.date.fromisoformat(now()[:10])
        seen = first_seen(plan, name, [number for number in there if number not in known], today)
        for number in there:
            state, day = store.state(number), seen.get(number)
            try:
                record = record_of(plan, store, number, name) if state is not SetAsideState.NOTHING else None
            except InputError as error:
                yield SetAside(number, name, None, SetAsideState.DAMAGED, None, str(error), False, day)
                continue
            held, is_own = None, record is not None and record.is_own
            if record is not None and state in (SetAsideState.WHOLE, SetAsideState.DAMAGED):
                digests = _digests_of(access, record.manifest) if with_digests else None
                held = store.look_at(record.manifest, digests)
            yield SetAside(number, name, record.manifest if record else None, state, held, "", is_own, day)
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
def _store(
    plan: PlanFolder,
    number: str,
    account: str | None,
    source: str | None,
    secrets: Secrets | None,
    takes_over: bool = False,
) -> Iterator[tuple[str, SetAsideStore, SetAsideNumber]]:
    """What is set aside in the account that a number belongs to. Raises InputError where no account is known for it."""
    name, its_number = _known_as(plan, number, account)
    plan.known_names([name])
    access = access_to(plan, name, source, secrets)
    try:
        with at_work(plan, name):
            store = SetAsideStore(access, takes_over)
            if its_number not in store.ids():
                copy = copy_of(plan, its_number)
                if copy is not None and copy.head.account == name:
                    keep_or_drop(plan, its_number, None)  # else it would be told of for ever
                raise InputError(f"{its_number} is not set aside in {printable(access.name)} any more, or never was")
            yield name, store, its_number
    finally:
        access.close()


def _tidied(plan: PlanFolder, store: SetAsideStore, number: SetAsideNumber) -> MoveOutcome:
    """Take away what is left of something of which nothing is set aside any more."""
    with store.at_work(number):
        store.tidy(number)
    keep_or_drop(plan, number, None)
    return MoveOutcome(None, [], [])


@contextmanager
def afterwards(done: str) -> Iterator[None]:
    """What goes wrong with the records once something was done is told together with what was done."""
    try:
        yield
    except KettlepostError as error:
        raise OutsideError(f"{done}; but {error}", *error.remedies) from None
    except OSError as error:
        raise OutsideError(f"{done}; but the record of it cannot be written ({cause(error)})") from None


def moved_words(outcome: MoveOutcome, done: str) -> str:
    """`3 things are set aside`."""
    return f"{counted(len(outcome.moved), 'thing')} {'is' if len(outcome.moved) == 1 else 'are'} {done}"


def _covering(
    plan: PlanFolder,
    name: str,
    store: SetAsideStore,
    manifest: Manifest,
    paths: Sequence[str],
    is_beside: bool,
    source: str | None,
    secrets: Secrets | None,
) -> list[Covering]:
    """What of some paths would, once put back, win over something that is in use there and was not before.

    Where something is in the way of them already, that is told instead.
    """
    folder = Folder(manifest.head.folder)
    there = store.access.look(folder)
    if there is None or there.kind != "folder" or (store.there(paths) and not is_beside):
        return []
    layout = look_again(plan, name, [folder], source, secrets)
    known = manifest.head.live
    since = {place: used for place, used in live_in(layout, folder).items() if known.get(place) != used.what}
    kinds = {item.path: item.kind for item in manifest.items}
    index = layout.index_files
    return list(covering(since, {path: kinds[path] for path in paths if path in kinds}, index))


def access_to(plan: PlanFolder, name: str, source: str | None, secrets: Secrets | None) -> FileAccess:
    """The files of an account, to change them. Raises InputError where they are not at hand, OutsideError."""
    where = source_of(plan, name, source, secrets=secrets)
    access = open_files(where, secrets, now())
    if access is None:
        raise InputError(f"{printable(where.name)} holds no files that can be moved", Remedy(Action.NAME_HOME))
    return access


def _known_as(plan: PlanFolder, number: str, account: str | None) -> tuple[str, SetAsideNumber]:
    """The account that a number belongs to, and the number. Raises InputError where it is none, or of nothing known."""
    try:
        its_number = SetAsideNumber.parse(number)
    except InvalidName as error:
        raise InputError(str(error), Remedy(Action.LIST_SET_ASIDE)) from None
    if account is not None:
        return account, its_number
    copy = copy_of(plan, its_number)
    if copy is not None and copy.head.account in plan.names:
        return copy.head.account, its_number
    place = Folder(SET_ASIDE).below(its_number)
    having = [
        name for name in plan.names
        if (found := plan.survey(name)) is not None and any(one.folder == place for one in found.folders)
    ]  # fmt: skip
    if len(having) != 1:
        raise InputError(
            f"{quoted(number)} is not known here", Remedy(Action.LIST_SET_ASIDE), Remedy(Action.CHOOSE_ACCOUNT)
        )
    return having[0], its_number


def _with_some(plan: PlanFolder, known: Mapping[SetAsideNumber, Manifest]) -> set[str]:
    """The accounts of which something is known to be set aside."""
    found = {manifest.head.account for manifest in known.values() if manifest.head.account in plan.names}
    for name in plan.names:
        there = plan.survey(name)
        if there is not None and any(is_in(one.folder, SET_ASIDE) for one in there.folders):
            found.add(name)
    return found


def see_nothing_is_half_way(store: SetAsideStore, name: str) -> None:
    """Raises InputError where something broke off in an account, and is to be brought to an end first."""
    for number, state in store.half_way().items():
        if state in (SetAsideState.NOTHING, SetAsideState.DAMAGED):
            continue
        ways = [Action.FINISH, Action.PUT_BACK] if state is not SetAsideState.GOING else [Action.DISCARD]
        raise InputError(f"{number} is {state} in {name}, as a run broke off", *(Remedy.of(do, number) for do in ways))


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
