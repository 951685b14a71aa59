"""Steps for what is retired: files, tables, the entry; what others use stays, and is named."""

from __future__ import annotations

from collections.abc import Iterator
from typing import assert_never

from kettlepost.core.layout import FolderState
from kettlepost.core.plan import Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.removal import removal
from kettlepost.core.steps import (
    DeleteFile,
    DeleteFolder,
    DropTables,
    DropUser,
    Forget,
    KeepFile,
    KeepFolder,
    KeepTables,
    LookAtFile,
    needs_of,
)  # fmt: skip
from kettlepost.core.work.context import WorkContext
from kettlepost.core.work.records import WorkKind, WorkStep


def retired_steps(context: WorkContext, installation: Installation) -> Iterator[WorkStep]:
    """Files first, then tables, then the entry; each with a copy before, and nothing that is anybody else's."""
    site, layout, contents = installation.address, context.layout, context.contents
    folder = layout.lies_now(installation)
    ids: list[str] = []
    shown: list[bool | None] = []
    if folder is not None:
        found = contents.applications.get(folder) if contents is not None else None
        found = found if found is not None and found.application == installation.application else None
        way = removal(layout, folder, installation, found)
        is_gone = None if contents is None else found is None
        steps = [step for step in way.steps if isinstance(step, _Removing)]
        for step, needs in zip(steps, needs_of(steps), strict=True):
            kind, seen = _told(context, step, is_gone)
            made = context.step(kind, site, step, [ids[need] for need in needs], seen)
            if kind is WorkKind.REMOVE_FILES and way.remedy is not None and found is not None:
                made.remedies = [way.remedy]
            ids.append(made.id)
            shown.append(made.seen)
            yield made
    if shown:
        gone = [one for one in shown if one is not None]
        is_shown = False if False in gone else True if gone else None
        has_tables = installation.database is not None
        yield (look := context.look(site, ids, is_shown, databases=has_tables))
        ids.append(look.id)  # which may show that the files are gone while tables are left
    forget = Forget(context.account.name, str(site))
    yield context.step(WorkKind.FORGET, site, forget, ids, False, remedies=[Remedy.of(Action.FORGET, str(site))])


_Removing = KeepFolder | DeleteFolder | LookAtFile | KeepFile | DeleteFile | KeepTables | DropTables | DropUser


def _told(context: WorkContext, step: _Removing, is_gone: bool | None) -> tuple[WorkKind, bool | None]:
    """The kind of a step in the list, and whether what was looked at shows that it is done."""
    seen = context.layout.databases
    match step:
        case KeepFolder():
            return WorkKind.KEEP_FILES, is_gone or None
        case DeleteFolder():
            return WorkKind.REMOVE_FILES, is_gone
        case KeepTables() | DropTables():
            there = seen.named(step.database.name) if seen is not None else None
            left = there is not None and bool(there.beginning(step.database.prefix, step.stays))
            gone = None if seen is None or not (seen.is_whole or left) else not left
            if isinstance(step, KeepTables):
                return WorkKind.KEEP_TABLES, gone or None
            return WorkKind.REMOVE_TABLES, gone
        case LookAtFile():
            return WorkKind.LOOK_AT_FRONT, None
        case KeepFile():
            return WorkKind.KEEP_FRONT, None
        case DeleteFile():
            lies = FolderState(context.layout, "now").has(step.folder, step.file)
            return WorkKind.REMOVE_FRONT, None if lies is None else not lies
        case DropUser():
            return WorkKind.REMOVE_USER, None
        case _:
            assert_never(step)
