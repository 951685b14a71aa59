"""Steps by which what was rehearsed takes the place of what is live."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import assert_never

from kettlepost.core.layout import Contents
from kettlepost.core.names import unprintable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.going_live import MERGED, GoingLive, TakingOver, has_gone_live, taking_over
from kettlepost.core.steps import (
    CompareTables,
    Configure,
    Confirm,
    CopyFolder,
    EditLine,
    Freeze,
    LookAgain,
    LookAtFile,
    MergeTables,
    OpenPage,
    SetAsideFolder,
    StopMail,
    TellSearchEngines,
    WriteSettings,
)  # fmt: skip
from kettlepost.core.webserver import kept_lines
from kettlepost.core.work.context import WorkContext
from kettlepost.core.work.hosts import told_of
from kettlepost.core.work.installing import mended_steps
from kettlepost.core.work.records import WorkKind, WorkStep
from kettlepost.core.work.rehearsing import DATA_TOGETHER


def replaced(context: WorkContext, going: GoingLive) -> Iterator[WorkStep]:
    """What is done until a rehearsal has taken the place of what is live, behind whatever stops that, one by one."""
    mended = list(mended_steps(context, going.live, DATA_TOGETHER))
    yield from mended
    needs = [step.id for step in mended]
    before: list[WorkStep] = []
    for one in taking_over(context.layout, going):
        made = _told(context, going, one, [step.id for step in before] if isinstance(one, Confirm) else needs)
        if isinstance(one, LookAgain) and not all(step.is_done for step in before):
            made.seen = None  # which shows the files, and not what was written into them since
        yield made
        if not isinstance(one, TellSearchEngines):  # for which nobody waits
            before.append(made)
            needs = [made.id]


def _told(context: WorkContext, going: GoingLive, step: TakingOver, needs: Sequence[str]) -> WorkStep:  # noqa: C901 (a closed set)
    """A step as it stands in the list: its kind, what its id is made of, whether it is done, and what does it."""
    site, has_come = going.live.address, has_gone_live(context.layout, going)
    live, here = str(site).rstrip("/"), str(going.rehearsal.address).rstrip("/")
    both, does = f"{here} {live}", list[Remedy]()
    done: bool | None = has_come or None
    match step:
        case CompareTables() | MergeTables():
            kind = WorkKind.MEANWHILE if isinstance(step, CompareTables) else WorkKind.MERGE_TABLES
            is_known = context.account.settings.database_server in MERGED
            does = [Remedy.of(Action.MERGE_TABLES, here)] if is_known else []
            return context.step(kind, site, step, needs, done, remedies=does)
        case Freeze():
            return context.step(WorkKind.FREEZE, site, step, needs, done)
        case Configure():
            does = [Remedy.of(Action.READDRESS, here)]
            return context.step(WorkKind.READDRESS, site, step, needs, done, both, remedies=does)
        case WriteSettings():
            return context.step(WorkKind.CONFIGURE, site, step, needs, None, both)
        case StopMail():
            return context.step(WorkKind.NO_MAIL, site, step, needs, None, both)
        case TellSearchEngines():
            return context.step(WorkKind.ENGINES, site, step, needs, None, both)
        case LookAgain():
            return context.look(site, needs, done, both, databases=True)
        case Confirm():
            does = [Remedy.of(Action.CONFIRM, live)]
            return context.step(WorkKind.TAKEN_OVER, site, step, needs, False, both, remedies=does)
        case SetAsideFolder():
            done = has_come or _is_away(context.contents, going)
            does = [step.remedy] if step.remedy is not None else []
        case CopyFolder():
            done = has_come
        case EditLine():
            done = _is_edited(context.contents, step) if has_come else None
        case OpenPage():
            done, does = None, [Remedy.of(Action.PROBE, live)]
        case LookAtFile():
            done = None
        case _:
            assert_never(step)
    kind, subject, _ = told_of(context, str(site), step)
    return context.step(kind, site, step, needs, done, f"{subject} {here}", remedies=does)


def _is_edited(contents: Contents | None, step: EditLine) -> bool | None:
    """Whether a line of a control file reads otherwise now, by what a survey keeps of it."""
    if not kept_lines(step.old):
        return None  # as of such a line it keeps nothing
    kept = contents.htaccess(step.folder) if contents is not None else None
    numbered = [one.partition(" ")[::2] for one in kept.lines] if kept is not None else []
    reads = next((text for number, text in numbered if number == str(step.line)), "")
    return reads.partition(" ")[0] != step.old.partition(" ")[0] or unprintable(reads) == step.new


def _is_away(contents: Contents | None, going: GoingLive) -> bool:
    """Whether the survey shows nothing more of what was live."""
    return contents is not None and going.to not in contents.applications
