"""Steps for the copy of what is live by which a change of it is rehearsed."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from kettlepost.core.layout import FolderState
from kettlepost.core.names import Folder
from kettlepost.core.plan import Database, Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.rehearsing import Rehearsed, copying_files, guard_lines, guarding, stopping_mail
from kettlepost.core.rules.tables_apart import copy_remedy
from kettlepost.core.steps import (
    AddLines,
    Configure,
    CopyFolder,
    CopyTables,
    EditLine,
    MakePasswordFile,
    ProtectFolder,
    WriteSettings,
)  # fmt: skip
from kettlepost.core.work.context import WorkContext
from kettlepost.core.work.hosts import change_of_root, told_of
from kettlepost.core.work.installing import (
    finished_steps,
    is_configured,
    is_there,
    mended_steps,
    prepared_steps,
    settings_of,
    titles_of,
    url_of_site,
)  # fmt: skip
from kettlepost.core.work.records import WorkKind, WorkStep
from kettlepost.core.work.relocating import control_lines

DATA_TOGETHER = frozenset(("staging-shares-data", "shared-database"))
"""What is found while the copy still works with the data of what is live, which the list itself ends."""


def rehearsed(
    context: WorkContext, installation: Installation, of: Rehearsed, hosts: Sequence[WorkStep]
) -> Iterator[WorkStep]:
    """What is done until a copy of what is live can be tried out; `hosts` are the steps for its host name.

    Its files are copied, and at once nobody is let in without a password; only then a new name leads there. It gets a
    copy of the data, which names its own address before its configuration names that copy.
    """
    layout, site = context.layout, installation.address
    application, to = layout.application(installation), layout.folder_of(installation)
    is_apart = not of.shares_tables(installation.database)
    mended = list(mended_steps(context, installation, DATA_TOGETHER if is_apart else frozenset()))
    yield from mended
    ready = [step.id for step in mended]
    domain = context.domain_of(site)
    ready += [change_of_root(context, domain)] if domain is not None else []
    base, tables = installation.database, of.tables
    is_beside = base is not None and tables is not None and base.name == tables.name  # whose login opens it already
    own = replace(installation, database=None) if is_beside else installation
    has_data = is_configured(context, installation, to)
    prepared = list(prepared_steps(context, own, application, to, False, ready, has_data))
    ready += [step.id for step in prepared if step.kind is WorkKind.CLEAR]
    copied = list(_copied(context, installation, of, to, ready)) if to is not None else []
    for step in prepared:
        if step.kind is WorkKind.CLEAR and any(isinstance(one.step, CopyFolder) and one.is_done for one in copied):
            step.seen = True  # what lies there now is the copy
        yield step
    if to is None:
        yield from hosts
        return
    yield from copied
    for step in hosts:
        if step.kind is WorkKind.ADD and domain is not None and step.site == str(domain.name):
            step.needs += [copied[-1].id]
        yield step
    last = list(_with_data(context, installation, of, to, [step.id for step in copied], prepared))
    yield from last
    there = False if has_data is False else is_there(context, installation, to)
    leads = [context.id(WorkKind.POINTS, domain.name)] if domain is not None else []
    yield from finished_steps(context, installation, application, to, (last or copied)[-1].id, there, leads)


def _copied(
    context: WorkContext, installation: Installation, of: Rehearsed, to: Folder, ready: Sequence[str]
) -> Iterator[WorkStep]:
    """The files, closed to all who have no password, and sending no mail."""
    layout, site, own = context.layout, installation.address, str(installation.address)
    uploaded, needs = is_there(context, installation, to, is_set_up=False), list(ready)
    copies = copying_files(layout, installation, of, to)
    for one in copies:
        kind, subject, seen = told_of(context, own, one)
        if isinstance(one, CopyFolder):
            seen = uploaded or seen
        elif isinstance(one, EditLine) and context.contents is not None and one.new is not None:
            seen = one.new in control_lines(context.contents, one.folder, one.file) or None
        yield (made := context.step(kind, site, one, needs, seen, subject))
        needs = [made.id]
    for guard in guarding(layout, installation, copies, to):
        yield (made := _guard(context, installation, guard, needs))
        needs = [made.id]
    quiet = stopping_mail(layout, installation, to)
    there = isinstance(quiet, AddLines) and FolderState(layout, "now").has(quiet.folder, quiet.file) is True
    yield context.step(WorkKind.NO_MAIL, site, quiet, needs, there or None)


def _guard(
    context: WorkContext, installation: Installation, guard: AddLines | MakePasswordFile | ProtectFolder,
    needs: Sequence[str],
) -> WorkStep:  # fmt: skip
    site, contents = installation.address, context.contents
    seen = None
    if isinstance(guard, AddLines) and contents is not None:
        seen = bool(guard_lines(context.layout, guard.folder)) or None
    subject = f"{site} users" if isinstance(guard, MakePasswordFile) else ""
    return context.step(WorkKind.PROTECT, site, guard, needs, seen, subject)


def _with_data(
    context: WorkContext, installation: Installation, of: Rehearsed, to: Folder, copied: Sequence[str],
    prepared: Sequence[WorkStep],
) -> Iterator[WorkStep]:  # fmt: skip
    """A copy of the data that names the new address, and then the configuration that names it."""
    layout, site, own = context.layout, installation.address, context.account.name
    base, application = installation.database, layout.application(installation)
    told = Remedy.of(layout.surveying.do, own, "--mentions", str(of.address).rstrip("/"), "--only", to.shown)
    if base is None or of.tables is None:  # its data lie among its files, if it has any
        names = Configure(own, str(site), to, address=url_of_site(context, installation))
        yield context.step(WorkKind.READDRESS, site, names, copied, remedies=[told])
        return
    if of.shares_tables(base):
        return  # nothing is written into the tables of what is live; what stops that comes first
    made = [step.id for step in prepared if step.kind in (WorkKind.DATABASE, WorkKind.UNLOCK)]
    old = Database(of.tables.name, of.tables.written, None, of.tables.database[0])
    is_set = is_configured(context, installation, to)
    tables = CopyTables(own, old, base)
    script = copy_remedy(layout, of.tables, base)
    does = [script] if script is not None else []
    yield (data := context.step(WorkKind.COPY_TABLES, site, tables, made, is_set or None, remedies=does))
    names = Configure(own, str(site), to, base, url_of_site(context, installation))
    does = [Remedy.of(Action.READDRESS, str(site).rstrip("/"))]
    yield (named := context.step(WorkKind.READDRESS, site, names, [data.id], is_set or None, remedies=does))
    needs = [named.id, *copied, *made]
    mark, whose = application.config, of.live if base.name == of.tables.name else installation
    title = titles_of(context, whose, application).get("database", "")
    if mark is not None:
        hosts = f"{(mark.host or '').partition('|')[0]} ="  # which stays as it is
        settings = tuple(one for one in settings_of(context, installation, application) if not one.startswith(hosts))
        writes = WriteSettings(own, to.below(mark.file).shown, "", settings, title, ())
        yield context.step(WorkKind.CONFIGURE, site, writes, needs, is_set, remedies=[told])
    else:
        yield context.step(WorkKind.CONFIGURE, site, Configure(own, str(site), to, base), needs, is_set)
