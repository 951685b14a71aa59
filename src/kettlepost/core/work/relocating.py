"""Steps for an installation that is to move to another address or folder."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout, Contents, has_relocated
from kettlepost.core.names import Folder, unprintable
from kettlepost.core.plan import Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.relocation import relocation_steps
from kettlepost.core.steps import (
    AddLines,
    Configure,
    Confirm,
    CopyFolder,
    EditLine,
    LookAgain,
    OpenPage,
    Relocating,
    SetAsideFolder,
    WriteFrontFile,
    needs_of,
)
from kettlepost.core.work.context import WorkContext
from kettlepost.core.work.hosts import change_of_root, told_of
from kettlepost.core.work.installing import cleared_step, mended_steps
from kettlepost.core.work.records import WorkKind, WorkStep


def relocated(context: WorkContext, installation: Installation) -> Iterator[WorkStep]:
    """What is done until an installation has moved, behind whatever stops it, and what is in its way."""
    site, layout = str(installation.address), context.layout
    mended = list(mended_steps(context, installation))
    yield from mended
    ready = [step.id for step in mended]
    domain = context.domain_of(installation.address)
    if domain is not None:
        ready += [context.id(WorkKind.ADD, domain.name), change_of_root(context, domain)]
    new, is_copied = layout.folder_of(installation), layout.holds_copy(installation)
    if new is not None and layout.comes_from(installation) != new:
        yield (cleared := cleared_step(context, installation, new, is_copied or None, ready))
        ready.append(cleared.id)
    advised = relocation_steps(layout, installation)
    has_front = any(isinstance(step, WriteFrontFile) for step in advised)  # its files go on answering as they do
    ids: list[str] = []
    before: list[bool] = []
    for step, needs in zip(advised, needs_of(advised), strict=True):
        kind, subject, seen = told_of(context, site, step)
        seen = True if _is_seen(layout, installation, step) else seen
        wanted = [ids[need] for need in needs] or ready
        made = context.step(kind, site, step, wanted, seen, subject)
        if isinstance(step, LookAgain):
            is_first = any(isinstance(one, SetAsideFolder) for one in advised[len(ids) :])
            done = all(before) and (is_copied if is_first else has_relocated(layout, installation))
            made = context.look(installation.address, made.needs, done or None, "copied" if is_first else "")
        elif isinstance(step, Confirm):
            made.remedies = [Remedy.of(Action.CONFIRM, site)]
        elif isinstance(step, Configure) and installation.database is not None and not has_front:
            made.remedies = [Remedy.of(Action.READDRESS, site.rstrip("/")), _mentions(layout, installation)]
        elif isinstance(step, OpenPage):
            made.remedies = [Remedy.of(Action.PROBE, site.rstrip("/"))]
        elif isinstance(step, SetAsideFolder) and step.remedy is not None:
            made.remedies = [step.remedy]
        ids.append(made.id)
        before.append(made.is_done)
        yield made


def _mentions(layout: AccountLayout, installation: Installation) -> Remedy:
    """What tells which files go on naming the old address."""
    old = str(installation.address_now or installation.address).rstrip("/")
    return Remedy.of(layout.surveying.do, layout.name, "--mentions", old)


def _is_seen(layout: AccountLayout, installation: Installation, step: Relocating) -> bool:
    """Whether the survey shows that a step is done."""
    contents, is_copied = layout.contents, layout.holds_copy(installation)
    if contents is None:
        return False
    match step:
        case CopyFolder():
            return is_copied
        case EditLine():
            there = is_copied or layout.comes_from(installation) == step.folder
            return there and step.new is not None and step.new in control_lines(contents, step.folder, step.file)
        case AddLines():
            return set(step.lines) <= control_lines(contents, step.folder, step.file)
        case SetAsideFolder():
            return step.folder not in contents.applications and is_copied
        case _:
            return False


def control_lines(contents: Contents, folder: Folder, file: str) -> set[str]:
    """The lines of a control file, as it was surveyed."""
    kept = (line for one in contents.controls(folder) if one.file == file for line in one.lines)
    return {unprintable(line.partition(" ")[2]) for line in kept}
