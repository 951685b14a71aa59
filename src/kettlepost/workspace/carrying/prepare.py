"""A step in the files of an account: worked out, shown, carried out, taken back."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import NamedTuple, assert_never

from msgspec.structs import replace

from kettlepost.core.carrying import (
    CarriedHead,
    CarriedItem,
    CarriedRecord,
    FileChange,
    copied_items,
    in_the_way,
    left_out,
    modes_of,
    tops,
)
from kettlepost.core.clearing import (
    FileEntry,
    Manifest,
    ManifestHead,
    ManifestItem,
    Measure,
    RemovalReason,
    SetAsideNumber,
    Tree,
)
from kettlepost.core.errors import InputError, KettlepostError, OutsideError
from kettlepost.core.names import HOME, Folder, did_you_mean, printable, quoted
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.going_live import going_live
from kettlepost.core.steps import (
    AddLines,
    BringFolder,
    CarriedOut,
    CarryLines,
    CopyFolder,
    EditLine,
    MakeFolder,
    MoveFile,
    MoveFolder,
    WriteFrontFile,
    WritingFiles,
    content_after,
    written_place,
)
from kettlepost.core.survey import SET_ASIDE, is_in
from kettlepost.core.words import counted
from kettlepost.core.work import WorkStep
from kettlepost.sources import FileAccess, Refusal, Secrets, Trouble
from kettlepost.sources.file_access import made_above
from kettlepost.workspace.carrying import records
from kettlepost.workspace.carrying.run import NEW, Carried, carry_out, content_of, is_made, put_before
from kettlepost.workspace.clock import now
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.set_aside import move as setting_aside
from kettlepost.workspace.set_aside.listing import (
    access_to,
    afterwards,
    at_work,
    digest_of,
    look_again,
    see_nothing_is_half_way,
)
from kettlepost.workspace.set_aside.move import Left, MoveOutcome, Progress
from kettlepost.workspace.set_aside.prepare import free_number, number_of
from kettlepost.workspace.set_aside.records import copies, keep_copy, keep_or_drop
from kettlepost.workspace.set_aside.store import SetAsideStore, walk
from kettlepost.workspace.work import work

_MOST_NAMED = 3
_FOR_GOOD = (Refusal.CHANGED, Refusal.TAKEN, Refusal.MISSING)
"""Why something stays that is somebody else's by now."""


class PreparedStep:
    """A step that is worked out, and not carried out yet.

    `items` are its changes one by one, `left_out` the paths of what cannot be copied, `leads_out` those of links that
    lead out of what is copied, and so elsewhere from their new place; `is_again` is whether a run of it broke off.
    `origin` are the files of another account, where they come from there.
    """

    def __init__(
        self, plan: PlanFolder, account: str, own: str, does: CarriedOut, access: FileAccess,
        source: str | None = None, secrets: Secrets | None = None, record: CarriedRecord | None = None,
        origin: FileAccess | None = None,
    ):  # fmt: skip
        self.plan, self.account, self.id, self.does, self.access = plan, account, own, does, access
        self.origin = origin
        self._source, self._secrets = source, secrets
        self.is_again = record is not None
        self.left_out: list[str] = []
        head = CarriedHead(1, number_of(now()), account, own, does, now(), access.name)
        self.record = record or CarriedRecord(head, self._items(does))

    @property
    def items(self) -> list[CarriedItem]:
        return self.record.items

    @property
    def leads_out(self) -> list[str]:
        if not isinstance(self.does, CopyFolder | BringFolder):
            return []
        folder = self.does.folder
        is_of_another = isinstance(self.does, BringFolder)
        links = (item for item in self.items if item.kind == "link")
        return [item.origin for item in links if not _stays_in(item, folder, is_of_another)]

    @property
    def folders(self) -> list[Folder]:
        """The folders in which something comes or is changed, and from which something goes."""
        return _touched(self.items)

    def _items(self, step: CarriedOut) -> list[CarriedItem]:
        if isinstance(step, CopyFolder | BringFolder):
            return self._copied(step)
        made = self._made_around(step)
        match step:
            case MakeFolder():
                own = [CarriedItem(FileChange.MAKE, str(step.folder), "folder", mode=0o755)]
            case MoveFolder() | MoveFile():
                origin = step.folder if isinstance(step, MoveFolder) else step.folder.below(step.file)
                to = step.to if isinstance(step, MoveFolder) else step.to.below(step.file)
                there = self.access.look(origin)
                if there is None:
                    raise InputError(f"{origin.shown} is not there any more; look again")
                own = [
                    CarriedItem(
                        FileChange.RENAME, str(to), there.kind, str(origin), there.size, there.changed, there.mode,
                        there.target, there.identity,
                    )
                ]  # fmt: skip
            case WriteFrontFile() | AddLines() | CarryLines() | EditLine():
                own = [self._written(step)]
            case _:
                assert_never(step)
        items = [*made, *own]
        self._see_nothing_in_the_way(items)
        return items

    @property
    def goes_through_here(self) -> bool:
        """Whether what is copied goes through this machine."""
        return self.origin is not None or not self.access.copies_itself

    @property
    def _from(self) -> FileAccess:
        """The files among which lies what is copied."""
        return self.origin if self.origin is not None else self.access

    def _copied(self, step: CopyFolder | BringFolder) -> list[CarriedItem]:
        if HOME in (step.folder, step.to):
            raise InputError("all of the account lies in its home itself, so nothing is copied from or to there")
        tree = self._whole(step)
        target = walk(self.access, step.to)
        now_there = {entry.path: entry for entry in target.below(step.to)}
        there = {path for path, entry in now_there.items() if entry.kind == "folder"}
        is_of_another = isinstance(step, BringFolder)
        items = copied_items(tree, step.folder, step.to, step.stays, there, is_of_another)
        self.left_out = left_out(tree, step.folder, step.to, step.stays, is_of_another)
        own = self._from.look(step.folder)
        if step.to and step.to not in target.listed:
            mode = own.mode if own is not None else 0o755
            items.insert(0, CarriedItem(FileChange.COPY, str(step.to), "folder", str(step.folder), mode=mode))
        wanting = {item.path: item for item in items}
        self._see_nothing_in_the_way(items, {path: entry for path, entry in now_there.items() if path in wanting})
        return [*self._made_around(step), *items]

    def _whole(self, step: CopyFolder | BringFolder) -> Tree:
        """All that lies in the folder that is copied. Raises InputError, OutsideError where not all of it is told."""
        tree = walk(self._from, step.folder)
        if step.folder not in tree.listed:
            raise InputError(f"{step.folder.shown} is not there any more, or cannot be read; look again")
        unread = [path for path in tree.troubles if not any(is_in(path, place) for place in step.stays)]
        if unread:
            why = tree.troubles[unread[0]]
            told = f" ({why})" if isinstance(why, str) else ""
            raise OutsideError(f"{printable(unread[0])} cannot be read{told}; nothing was copied")
        return tree

    def _again(self) -> list[CarriedItem]:
        """What is to be copied, by another look at where it comes from."""
        step = self.does
        if not isinstance(step, CopyFolder | BringFolder):
            return self.items
        known = {item.path for item in self.record.items}
        target = walk(self.access, step.to)
        there = {entry.path for entry in target.below(step.to) if entry.kind == "folder"} - known
        is_of_another = isinstance(step, BringFolder)
        items = copied_items(self._whole(step), step.folder, step.to, step.stays, there, is_of_another)
        return [*(item for item in self.record.items if item.path == step.to), *items]

    def _written(self, step: WritingFiles) -> CarriedItem:
        path = str(written_place(step))
        there = self.access.look(path)
        if there is not None and there.kind != "file":
            raise InputError(f"{printable(path)} is a {there.kind}, and no file to write to")
        before = self._read(path) if there is not None else None
        carried = b""
        if isinstance(step, CarryLines):
            carried = self._read(str(step.folder.below(step.file)))
        after = content_after(step, before, carried)
        if there is None:
            return CarriedItem(FileChange.WRITE, path, "file", size=len(after), after=after)
        kind = FileChange.WRITE if isinstance(step, WriteFrontFile) and before != after else FileChange.EDIT
        return CarriedItem(
            kind, path, "file", "", there.size, there.changed, there.mode, "", there.identity, before, after
        )

    def _read(self, path: str) -> bytes:
        try:
            return content_of(SetAsideStore(self.access), path)
        except Trouble as trouble:
            raise InputError(f"{printable(path)} cannot be read ({trouble}); look again") from None

    def _made_around(self, step: CarriedOut) -> list[CarriedItem]:
        """The folders that are not there yet around what a step makes."""
        place = str(written_place(step)) if isinstance(step, WritingFiles) else str(getattr(step, "to", step.folder))
        if isinstance(step, MoveFile):
            place = f"{place}/{step.file}"
        return [
            CarriedItem(FileChange.MAKE, above, "folder", mode=0o755)
            for above in made_above(place) if self.access.look(above) is None
        ]  # fmt: skip

    def _see_nothing_in_the_way(
        self, items: Sequence[CarriedItem], there: Mapping[str, FileEntry] | None = None
    ) -> None:
        """Raises InputError where a step would have to write over something."""
        found = there if there is not None else SetAsideStore(self.access).there(item.path for item in items)
        taken = in_the_way(items, found)
        if taken:
            more = f", and {len(taken) - _MOST_NAMED:,} more" if len(taken) > _MOST_NAMED else ""
            named = ", ".join(map(printable, taken[:_MOST_NAMED]))
            raise InputError(f"{named}{more}: something is there already; nothing is written over, so clear it first")

    def commit(self, progress: Progress | None = None, takes_over: bool = False) -> Carried:
        """Carry it out, and look at the folders again. Raises InputError, OutsideError."""
        account = self.account
        with at_work(self.plan, account):
            store = SetAsideStore(self.access, takes_over)
            see_nothing_is_half_way(store, account)
            if not self.is_again:
                records.see_nothing_is_half_carried(self.plan, account)
                known = {SetAsideNumber(one.number) for one in records.carried(self.plan)} | set(copies(self.plan))
                number = free_number(self.record.number, {*known, *store.ids()})
                self.record = CarriedRecord(replace(self.record.head, number=str(number)), self.items)
            records.keep(self.plan, self.record)
            try:
                done = carry_out(
                    store, self.record, self._again, lambda record: records.keep(self.plan, record), progress,
                    self.origin,
                )  # fmt: skip
            except KettlepostError:
                self._drop_untouched(store)
                raise
            head = replace(done.record.head, is_done=True)
            done = done._replace(record=CarriedRecord(head, done.record.items))
            with afterwards("it is done"):
                records.keep(self.plan, done.record)
        with afterwards("it is done"):
            look_again(self.plan, account, self.folders, self._source, self._secrets)
        return done

    def _drop_untouched(self, store: SetAsideStore) -> None:
        """Without its record, where nothing of a step has come to its place."""
        with suppress(KettlepostError):
            new = [item.path for item in tops(self.items) if item.do is not FileChange.EDIT]
            edited = [item for item in self.items if item.do is FileChange.EDIT]
            if not store.there(new) and all(content_of(store, item.path) == item.before for item in edited):
                records.drop(self.plan, self.record.number)

    def close(self) -> None:
        self.access.close()
        if self.origin is not None:
            self.origin.close()


def _touched(items: Sequence[CarriedItem]) -> list[Folder]:
    """The folders that show what a step did: those around what came or went, or itself where that is the home."""
    places = [item.path for item in tops(items)] + [item.origin for item in items if item.do is FileChange.RENAME]
    return list(dict.fromkeys(Folder(place.rpartition("/")[0] or place) for place in places))


def _step_of(step: WorkStep) -> CarriedOut:
    """What is to be done. Raises InputError for what is nobody's to do in files, or not yet."""
    if step.is_done:
        raise InputError(f"{step.id} is done already")
    if step.blocked_by:
        raise InputError(f"{step.id} comes behind {', '.join(step.blocked_by)}, and that is not done yet")
    if not isinstance(step.step, CarriedOut):
        does = [one for one in step.remedies if one.do is not Action.SAY_DONE]
        ways = does or [Remedy.of(Action.SAY_DONE, step.id)]
        raise InputError(f"{step.id} is nothing that is done in files alone", *ways)
    return step.step


def prepare_step(
    plan: PlanFolder, own: str, source: str | None = None, secrets: Secrets | None = None,
    other_source: str | None = None,
) -> PreparedStep:  # fmt: skip
    """Work out what a step of the work list does to the files of its account, by a look at them now.

    `other_source` is where the files of the account lie from which something comes, where its plan does not say so.
    One that broke off goes on by its record, whatever the list says by now. Raises InputError for what is no step, not
    yet to be done, not done in files, or would write over something.
    """
    broken = next((one for one in records.carried(plan) if one.id == own and not one.is_done), None)
    if broken is not None:
        record = records.record_of(plan, broken.number)
        account, does = plan.known_names([record.head.account])[0], record.head.step
    else:
        record, (account, does) = None, _listed(plan, own)
        records.see_nothing_is_half_carried(plan, account)
    access = access_to(plan, account, source, secrets)
    origin: FileAccess | None = None
    try:
        see_nothing_is_half_way(SetAsideStore(access), account)
        if isinstance(does, BringFolder):
            origin = _origin(plan, plan.known_names([does.other])[0], other_source, secrets)
        return PreparedStep(plan, account, own, does, access, source, secrets, record, origin)
    except BaseException as error:
        for one in (access, origin):
            if one is not None:
                one.close()
        if isinstance(error, Trouble):
            raise OutsideError(f"{printable(access.name)}: {error}") from None
        raise


def _origin(plan: PlanFolder, other: str, source: str | None, secrets: Secrets | None) -> FileAccess:
    """The files of another account. Raises InputError where nobody says where they lie."""
    if source is None and not plan.account(other).settings.survey_from:
        raise InputError(
            f"it is not said where the files of {other} lie: name them with --other-from, or write survey_from into "
            f"its [account] in accounts/{other}.toml"
        )
    return access_to(plan, other, source, secrets)


def _listed(plan: PlanFolder, own: str) -> tuple[str, CarriedOut]:
    """The account of a step of the work list, and what is to be done."""
    steps = {step.id: step for step in work(plan).steps}
    if own not in steps:
        raise InputError(
            f"{quoted(own)} is no step that is to be done{did_you_mean(own, steps)}", Remedy(Action.LIST_WORK)
        )
    return steps[own].account, _step_of(steps[own])


class TakenBack(NamedTuple):
    """What was taken back of a step: the number under which what it had made is set aside now, and what stayed."""

    number: str
    aside: MoveOutcome | None
    left: list[Left]


def take_back(
    plan: PlanFolder, number: str, source: str | None = None, secrets: Secrets | None = None,
    takes_over: bool = False,
) -> TakenBack:  # fmt: skip
    """Put everything back as it was before a step: what it made is set aside, what it wrote anew reads as before.

    What was changed since stays, and is told. Raises InputError, OutsideError.
    """
    record = records.record_of(plan, number)
    account = record.head.account
    plan.known_names([account])
    with _store(plan, account, source, secrets, takes_over) as store:
        _see_nothing_is_in_use(plan, store, record)
        new = [item for item in record.items if item.do in NEW]
        manifest, aside = _manifest(plan, store, record, new), None
        if manifest.items:
            keep_copy(plan, manifest)
            aside = setting_aside.set_aside(store, manifest)
            with afterwards(f"{counted(len(aside.moved), 'thing')} set aside"):
                keep_or_drop(plan, manifest.id, aside.manifest)
        with store.at_work(record.number):
            left = [*(aside.left if aside is not None else ()), *put_before(store, record)]
        with afterwards("it is taken back"):
            if any(one.trouble.refusal not in _FOR_GOOD for one in left):
                records.keep(plan, record)  # what was refused may be taken back later
            else:
                records.drop(plan, record.number)
    with afterwards("it is taken back"):
        look_again(plan, account, [*_touched(record.items), Folder(SET_ASIDE)], source, secrets)
    return TakenBack(str(manifest.id) if aside is not None and aside.manifest is not None else "", aside, left)


_FILLING = CopyFolder | BringFolder | CarryLines


def _see_nothing_is_in_use(plan: PlanFolder, store: SetAsideStore, record: CarriedRecord) -> None:
    """Raises InputError where what a step made is in use by now, or is the last there is of what it is a copy of."""
    step, layout = record.head.step, plan.layout_of(record.head.account)
    if isinstance(step, CopyFolder):
        gone = [item for item in tops(record.items) if item.origin and store.access.look(item.origin) is None]
        if gone:
            raise InputError(
                f"{printable(gone[0].origin)}, of which it made a copy, is not there any more: put that back first",
                Remedy.of(Action.LIST_SET_ASIDE, record.head.account),
            )
    made = {item.path for item in record.items if item.do in NEW}
    replaced = [going for one in layout.to_go_live if (going := going_live(layout, one)) is not None]
    coming = {layout.folder_of(one) for one in layout.moving}  # which do not answer from there yet
    coming |= {going.to for going in replaced}  # of which nobody has confirmed yet that they do
    given_way = {going.live.number for going in replaced}
    if isinstance(step, _FILLING) and step.to not in coming:  # without the lines it would be open to all
        led = layout.tree("now").mounts.get(step.to, ())
        if led and (isinstance(step, CarryLines) or step.to in made):
            raise InputError(f"{led[0].address} leads to {step.to.shown} by now, where it is in use")
    for one in layout.account.installations:
        folder = layout.folder_of(one)
        if one.state != "live" or one.is_moving or folder is None or one.number in given_way:
            continue
        front = layout.reach(one.address)
        file = front.below(layout.front_file(one)) if front is not None and front != folder else folder
        if folder in made or file in made or (isinstance(step, _FILLING) and folder == step.to):
            raise InputError(
                f"{one.application} at {one.address} answers with what it made: move that back instead",
                Remedy.of(Action.MOVE, str(one.address)),
            )


@contextmanager
def _store(
    plan: PlanFolder, account: str, source: str | None, secrets: Secrets | None, takes_over: bool
) -> Iterator[SetAsideStore]:
    access = access_to(plan, account, source, secrets)
    try:
        with at_work(plan, account):
            store = SetAsideStore(access, takes_over)
            see_nothing_is_half_way(store, account)
            yield store
    finally:
        access.close()


def _manifest(plan: PlanFolder, store: SetAsideStore, record: CarriedRecord, new: Sequence[CarriedItem]) -> Manifest:
    """What a step made, as it left it, to be set aside: what is there of it now and has not been changed since."""
    there = store.there(item.path for item in new)
    is_of_another = isinstance(record.head.step, BringFolder)
    items = list(_as_left(store, new, there, record.head.is_done, is_of_another))
    alone = {item.path for item in tops(items)}
    why = RemovalReason.CARRIED.name.lower()
    listed = [ManifestItem.of(item.entry, why if item.path in alone else "") for item in items]
    moment = now()
    number = free_number(number_of(moment), {*store.ids(), *copies(plan), record.number})
    head = ManifestHead(
        1, str(number), record.head.account, _around(alone), Measure.BLOCKING.value, moment, store.access.name,
        f"taking back {record.head.id}", folders=dict(modes_of(items)),
    )  # fmt: skip
    return Manifest(head, listed)


def _as_left(
    store: SetAsideStore, new: Sequence[CarriedItem], there: Mapping[str, FileEntry], is_done: bool,
    is_of_another: bool,
) -> Iterator[CarriedItem]:  # fmt: skip
    """What a step left, as it left it; where it broke off, what is there of it by now, and is nobody else's.

    What comes from another account is not held against that once more.
    """
    for item in new:
        found = there.get(item.path)
        if found is None:
            continue
        if is_done and item.kind != "folder":
            yield item.seen_as(found) if not is_of_another and _reads_as_copied(store, item, found) else item
        elif is_made(store, item, found):
            yield item.seen_as(found)


def _reads_as_copied(store: SetAsideStore, item: CarriedItem, found: FileEntry) -> bool:
    """Whether a copy that was written since, by a step that was taken back, say, holds what it is a copy of again."""
    if item.do is not FileChange.COPY or item.kind != "file" or found.kind != "file" or found == item.entry:
        return False
    origin = store.access.look(item.origin)
    if origin is None or (origin.kind, origin.size) != ("file", found.size):
        return False
    try:
        return digest_of(store.access, item.path) == digest_of(store.access, item.origin)
    except Trouble:
        return False


def _around(paths: set[str]) -> str:
    """The folder in which some paths lie, as a clearing names it."""
    folders = [path.split("/")[:-1] for path in paths]
    shared: list[str] = []
    for parts in zip(*folders, strict=False):
        if len(set(parts)) > 1:
            break
        shared.append(parts[0])
    return "/".join(shared) or (min(paths) if len(paths) == 1 else "")


def _stays_in(item: CarriedItem, folder: str, is_of_another: bool) -> bool:
    """Whether a link leads to what is copied with it."""
    from posixpath import dirname, normpath

    if item.target.startswith("/"):
        return not is_of_another  # it leads where it led
    return is_in(normpath(f"{dirname(item.origin)}/{item.target}"), folder)
