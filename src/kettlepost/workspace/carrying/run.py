"""Carrying out: all that is new is made out of sight, and comes to its place by renaming, so that it is whole there."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple, assert_never

from kettlepost.core.carrying import CarriedItem, CarriedRecord, FileChange, tops
from kettlepost.core.clearing import FileEntry
from kettlepost.core.errors import OutsideError
from kettlepost.core.names import printable
from kettlepost.sources import FileAccess, Refusal, Trouble
from kettlepost.sources.file_access import made_above
from kettlepost.workspace.carrying.stage import OWNERS, Stage, origin_of
from kettlepost.workspace.set_aside.move import Left, Progress
from kettlepost.workspace.set_aside.store import SetAsideStore


class Carried(NamedTuple):
    """What was done: the record as it is now, and what stayed as it was, and why."""

    record: CarriedRecord
    left: list[Left]


NEW = (FileChange.COPY, FileChange.WRITE)
"""What makes something that was not there."""


def carry_out(
    store: SetAsideStore,
    record: CarriedRecord,
    again: Callable[[], list[CarriedItem]],
    keep: Callable[[CarriedRecord], None],
    progress: Progress | None = None,
    origin: FileAccess | None = None,
) -> Carried:
    """Do what a record says; `again` looks at what is copied once more, `keep` writes the record down, and `origin` are
    the files of another account where it comes from there.

    What an earlier run has brought to its place already is left there. Raises OutsideError where it cannot be done:
    what is new is in its place as a whole or not at all.
    """
    stage = Stage(store, record.number, origin)
    with store.at_work(record.number):
        stage.clear(record.items)
        try:
            done = _Done(item for item in tops(record.items) if _is_done(store, item))
            rest = [item for item in record.items if item in done]
            items = [item for item in record.items if item not in done]
            for item in items:
                if item.do in (FileChange.WRITE, FileChange.EDIT):
                    stage.write(item, item.after or b"")
            copied = [item for item in items if item.do is FileChange.COPY]
            if copied:
                others = [item for item in items if item.do is not FileChange.COPY]
                whole = stage.copy(copied, lambda: [item for item in again() if item not in done], progress)
                items = [*others, *whole]
                record = CarriedRecord(record.head, [*rest, *items])
                keep(record)
            _bring_in(store, stage, items)
        finally:
            stage.clear(record.items)
        seen = store.there(item.path for item in record.items)
        left = [Left(item.path, Trouble(Refusal.MISSING)) for item in record.items if item.path not in seen]
        items = [item.seen_as(seen[item.path]) if item.path in seen else item for item in record.items]
        return Carried(CarriedRecord(record.head, items), left)


def _bring_in(store: SetAsideStore, stage: Stage, items: Sequence[CarriedItem]) -> None:
    """Give everything its place. What was brought in before something is refused there goes out again."""
    brought: list[CarriedItem] = []
    for item in tops(items):
        trouble = _bring(store, stage, item)
        if trouble is not None:
            stay = [one.path for one in reversed(brought) if not _is_out_again(store, stage, one)]
            more = f"; {printable(stay[0])} is there already and stays" if stay else ""
            raise OutsideError(f"{store.access.name}: {printable(item.path)}: {trouble}; nothing was done{more}")
        brought.append(item)
    for item in reversed(items):
        if item.kind == "folder" and item.do is FileChange.COPY and 0 <= item.mode != item.mode | OWNERS:
            store.access.set_mode(item.path, item.mode)


def _bring(store: SetAsideStore, stage: Stage, item: CarriedItem) -> Trouble | None:
    try:
        match item.do:
            case FileChange.MAKE:
                store.access.make(item.path, item.mode)
            case FileChange.EDIT:
                if store.access.look(item.path) is None:  # it broke off while it was put over
                    return store.rename(stage.at(item), item.path)
                store.access.put_over(stage.at(item), item.path, item.entry)
            case FileChange.RENAME:
                return store.rename(item.origin, item.path, origin_of(item))
            case FileChange.COPY | FileChange.WRITE:
                return store.rename(stage.at(item), item.path)
            case _:
                assert_never(item.do)
    except Trouble as refused:
        return refused
    return None


def _is_out_again(store: SetAsideStore, stage: Stage, item: CarriedItem) -> bool:
    """Take out again what was just brought in, and say whether that worked; what was written anew stays."""
    match item.do:
        case FileChange.COPY | FileChange.WRITE:
            return store.rename(item.path, stage.at(item)) is None
        case FileChange.RENAME:
            return store.rename(item.path, item.origin) is None
        case FileChange.MAKE:
            store.remove(item.path, is_folder=True)
            return store.access.look(item.path) is None
        case FileChange.EDIT:
            return False
        case _:
            assert_never(item.do)


def put_before(store: SetAsideStore, record: CarriedRecord) -> list[Left]:
    """Put back what was written anew, renamed or made empty, where that is still as it was left; the rest stays.

    What is new as a whole is set aside by others; what of it has not come to its place is taken away.
    """
    left: list[Left] = []
    stage = Stage(store, record.number)
    stage.clear(record.items)
    for item in reversed(record.items):
        if item.do in NEW:
            continue
        try:
            trouble = _put_one_before(store, stage, item)
        except Trouble as refused:
            trouble = refused
        if trouble is not None:
            left.append(Left(item.path, trouble))
    stage.clear(record.items)
    return left


def _put_one_before(store: SetAsideStore, stage: Stage, item: CarriedItem) -> Trouble | None:
    now = store.access.look(item.path)
    if item.do is FileChange.RENAME:
        return store.rename(item.path, item.origin) if now is not None else None
    if item.do is FileChange.MAKE:
        if now is not None and store.entries(item.path):
            return Trouble(Refusal.TAKEN, "something lies in it")
        if now is not None:
            store.access.remove_folder(item.path)
        return None
    holds = content_of(store, item.path) if now is not None and now.kind == "file" else None
    if holds == item.before:
        return None
    if now is not None and holds != item.after:
        return Trouble(Refusal.CHANGED)
    stage.write(item, item.before or b"")
    if now is None:
        return store.rename(stage.at(item), item.path)
    store.access.put_over(stage.at(item), item.path, now)
    return None


def content_of(store: SetAsideStore, path: str) -> bytes:
    """What a file holds that a step writes. Raises Trouble."""
    return b"".join(store.access.read(path))


def _is_done(store: SetAsideStore, item: CarriedItem) -> bool:
    """Whether an earlier run has done this already."""
    now = store.access.look(item.path)
    return now is not None and is_made(store, item, now)


def is_made(store: SetAsideStore, item: CarriedItem, now: FileEntry) -> bool:
    """Whether what lies at a path is what a step was to make there, as far as a look tells, and nobody else's."""
    if now.kind != item.kind:
        return False
    match item.do:
        case FileChange.EDIT | FileChange.WRITE:
            return content_of(store, item.path) == item.after
        case FileChange.RENAME:
            return store.access.look(item.origin) is None
        case FileChange.MAKE:
            return True
        case FileChange.COPY:
            if item.kind == "link":
                return now.target == item.target
            keeps_times = store.access.by_handles  # a server may give a copy a time of its own
            return item.kind == "folder" or (now.size == item.size and (now.changed == item.changed or not keeps_times))
        case _:
            assert_never(item.do)


class _Done:
    """What an earlier run has brought to its place: a folder that is a copy with all that lies in it."""

    def __init__(self, items: Iterable[CarriedItem]):
        some = [*items]
        self._paths = {item.path for item in some}
        self._copies = {item.path for item in some if item.do is FileChange.COPY}

    def __contains__(self, item: CarriedItem) -> bool:
        if not self._paths:
            return False
        return item.path in self._paths or any(above in self._copies for above in made_above(item.path))
