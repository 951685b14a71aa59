"""Steps for an installation, by the host's installer or by hand, from its folder to its sheet."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import msgspec
from msgspec.structs import replace

from kettlepost.core.databases import password_entries, wanted_database
from kettlepost.core.layout import FolderState, holds_in
from kettlepost.core.messages import Words, say
from kettlepost.core.names import Address, Folder, printable
from kettlepost.core.plan import Application, Copies, Database, Installation, KeptCurrent
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules import Finding, WayOut
from kettlepost.core.secrets import masked
from kettlepost.core.steps import (
    BesideFiles,
    BindLicence,
    ClearFolder,
    Configure,
    Confirm,
    CopySheet,
    GivePassword,
    InstallApplication,
    LookAgain,
    MakeDatabase,
    MakeFolder,
    MakePassword,
    Mend,
    RemoveLeftovers,
    SeePage,
    SendOldOn,
    SetBackups,
    SetUp,
    SetUpdates,
    TellSearchEngines,
    UploadFiles,
    WriteFrontFile,
    WriteSettings,
    WriteSheet,
    needs_of,
)  # fmt: skip
from kettlepost.core.survey import ShownKind, url_of
from kettlepost.core.work.context import WorkContext
from kettlepost.core.work.hosts import change_of_root
from kettlepost.core.work.records import WorkKind, WorkStep

_DEPLOYED = frozenset(("deployed", "plan-and-survey-differ"))
"""Findings that only say that something is there, or is not yet."""


def installation_steps(context: WorkContext, installation: Installation) -> Iterator[WorkStep]:
    """Everything that is done for an installation until it is written down."""
    site = installation.address
    application = context.layout.plan.applications.get(installation.application) or Application(
        installation.application
    )
    folder = context.layout.folder_of(installation)
    installed_at = None if context.deploys_by_hand(installation) else _installed_at(context, installation, folder)
    by_hand = installed_at is None
    before = list(mended_steps(context, installation))
    yield from before
    ready = [step.id for step in before]
    domain = context.domain_of(site)
    if domain is not None:
        ready += [context.id(WorkKind.ADD, domain.name), change_of_root(context, domain)]
    there = is_there(context, installation, folder)
    prepared = list(prepared_steps(context, installation, application, folder, by_hand, ready, there))
    yield from prepared
    ready += [step.id for step in prepared]
    if domain is not None and not by_hand:
        ready.append(context.id(WorkKind.POINTS, domain.name))  # installers ask the site itself
    if installed_at is None:
        placed = list(_by_hand(context, installation, application, folder, ready, there))
    else:
        placed = list(_by_host(context, installation, application, folder, ready, there, installed_at))
    placed += _front_steps(context, installation, application, folder, placed[-1].id, installed_at)
    yield from placed
    yield from finished_steps(context, installation, application, folder, placed[-1].id, there)


def _installed_at(context: WorkContext, installation: Installation, folder: Folder | None) -> Address | None:
    """The address that an installer is to be told so that it fills the folder; None where none leads there."""
    if folder is None or context.layout.reach(installation.address) == folder:
        return installation.address
    return next(iter(context.layout.addresses_of(folder)), None)


def _front_steps(
    context: WorkContext, installation: Installation, application: Application, folder: Folder | None, last: str,
    installed_at: Address | None,
) -> Iterator[WorkStep]:  # fmt: skip
    """What makes an installation answer at its address whose files lie elsewhere."""
    own, layout, site = context.account.name, context.layout, installation.address
    front = layout.reach(site) if installation.folder is not None else None
    if folder is None or front is None or front == folder:
        return
    name = layout.front_file(installation)
    is_missing = FolderState(layout, "now").has(front, name) is False
    write = WriteFrontFile(own, front, name, folder)
    yield (made := context.step(WorkKind.FRONT, site, write, [last], False if is_missing else None))
    if installed_at is not None and installed_at != site:
        names = Configure(own, application.shown, folder, address=url_of_site(context, installation))
        yield context.step(WorkKind.READDRESS, site, names, [made.id])


def _probing(site: Address) -> list[Remedy]:
    return [Remedy.of(Action.PROBE, str(site).rstrip("/"))]


def seen_to_show(context: WorkContext, installation: Installation, step: WorkStep) -> WorkStep:
    """The step of opening a site, with what it was seen to show: done where that is the application itself.

    Of a rehearsal that asks for a password nobody sees from outside what is behind it.
    """
    is_closed = installation.staging_of is not None
    for scheme in ("https", "http"):
        page = context.shown(url_of(scheme, installation.address))
        if page is not None and is_closed and page.kind is ShownKind.LOGIN:
            return step
        if page is not None and page.status is not None and page.kind is not ShownKind.PAGE:
            shows = page.kind is ShownKind.APPLICATION and page.what == installation.application
            return replace(step, seen=shows, looked=page.seen)
    return step


def mended_steps(
    context: WorkContext, installation: Installation, apart: frozenset[str] = frozenset()
) -> Iterator[WorkStep]:
    """The steps of the way out of whatever stops it, then that it is gone; what a clearing ends is that step.

    What rules in `apart` find the list mends by itself.
    """
    domain = context.domain_of(installation.address)
    found = context.found_with(installation)
    if domain is not None and (domain.state == "planned" or not domain.points_here):
        found = [*found, *context.found_with(domain)]
    for one in {(*one.place, one.title): one for one in found}.values():
        if one.severity == "stop" and one.rule not in _DEPLOYED | apart and not _is_clearing(one):
            way = one.ways_out[0] if one.ways_out else WayOut("")
            steps = list(_of_the_way(context, installation, one, way))
            if any(not isinstance(step.step, BesideFiles) for step in steps):
                looked = context.look(installation.address, [step.id for step in steps], None, f"{one.rule} {one.at}")
                steps.append(looked)
            yield from steps
            mend = Mend(context.account.name, one.rule, one.at, one.title, way.words)
            does = [way.remedy] if way.remedy is not None else []
            yield context.step(
                WorkKind.MEND, installation.address, mend, [step.id for step in steps], False,
                subject=f"{one.rule} {one.at}", remedies=[*does, Remedy.of(Action.READ_RULE, one.rule)],
            )  # fmt: skip


def _of_the_way(context: WorkContext, installation: Installation, found: Finding, way: WayOut) -> Iterator[WorkStep]:
    """What a way out has somebody do, but for what the list has anyway: to look again, and to confirm.

    Each is called by what it does, as a way out has one step less once one of them was seen to be done.
    """
    steps = [step for step in way.whole if not isinstance(step, LookAgain | Confirm) and step.account == found.account]
    ids: list[str] = []
    for step, needs in zip(steps, needs_of(steps), strict=True):
        does = printable(repr(msgspec.to_builtins(step, enc_hook=printable)))
        subject = f"{found.rule} {found.at} {steps[: len(ids)].count(step)} {does}"
        made = context.step(WorkKind.MEND, installation.address, step, [ids[need] for need in needs], subject=subject)
        ids.append(made.id)
        yield made


def _is_clearing(found: Finding) -> bool:
    return any(way.remedy is not None and way.remedy.do is Action.CLEAR for way in found.ways_out)


def is_there(
    context: WorkContext, installation: Installation, folder: Folder | None, is_set_up: bool = True
) -> bool | None:
    """Whether the survey shows it, whole and as asked set up; None where nothing was surveyed.

    What is planned is told from somebody's older site of the same kind as the layout tells it.
    """
    if context.contents is None or folder is None:
        return None
    found = context.contents.applications.get(context.layout.lies_now(installation) or folder)
    if found is None or found.application != installation.application:
        return False
    if found.condition:
        return not is_set_up and found.condition == "not set up"
    return installation.state == "live" or installation.number in context.layout.deployed


def prepared_steps(
    context: WorkContext, installation: Installation, application: Application, folder: Folder | None, by_hand: bool,
    needs: list[str], there: bool | None,
) -> Iterator[WorkStep]:  # fmt: skip
    """Its folder and its database; `there` says whether it works with that already."""
    site, contents = installation.address, context.contents
    uploaded = is_there(context, installation, folder, is_set_up=False)
    makes_it = by_hand and not context.layout.wants_new_folder(installation)
    if folder is not None and makes_it and not context.layout.mounts.get(folder):
        exists = contents.exists(folder) if contents is not None else None
        yield context.step(WorkKind.FOLDER, site, MakeFolder(context.account.name, folder), needs, exists)
    if folder is not None:
        yield cleared_step(context, installation, folder, uploaded, needs)
    wanted = wanted_database(context.layout, installation)
    if wanted is None:
        return
    seen = None if None in (wanted.is_there, wanted.has_user) else bool(wanted.is_there and wanted.has_user)
    own, title = context.account.name, titles_of(context, installation, application).get("database", "")
    made = MakeDatabase(
        own, Database(wanted.name, installation.database.prefix if installation.database else "", wanted.user),
        wanted.collation, tuple(wanted.rights), wanted.why_not,
    )  # fmt: skip
    base = context.step(
        WorkKind.DATABASE, site, made, [step for step in needs if step.startswith(WorkKind.MEND)],
        seen or (True if there else seen), remedies=[Remedy.of(Action.MAKE_DATABASES, str(site))],
    )  # fmt: skip
    yield base
    password = context.step(
        WorkKind.PASSWORD, site, MakePassword(own, title, "database"),
        remedies=[Remedy.of(Action.MAKE_PASSWORD, str(site), "--for", "database")],
    )  # fmt: skip
    yield password
    yield context.step(
        WorkKind.UNLOCK, site, GivePassword(own, wanted.user, title), [base.id, password.id],
        True if there and installation.state == "live" else None,
        remedies=[Remedy.of(Action.MAKE_DATABASES, str(site), "--passwords")],
    )  # fmt: skip


def cleared_step(
    context: WorkContext, installation: Installation, folder: Folder, there: bool | None, needs: list[str]
) -> WorkStep:
    """That nothing is in the way: what others use there stays, and is named."""
    layout = context.layout
    in_the_way = [
        found for found in context.found_with(installation) if found.severity == "stop" and _is_clearing(found)
    ]
    seen = None if context.contents is None else there or not in_the_way
    holds = list(holds_in(layout, folder, installation.application, installation.number))
    stays = dict.fromkeys(printable(f"{hold.place.shown} ({hold.who})") for hold in holds[:8])
    step = ClearFolder(context.account.name, folder, tuple(found.title for found in in_the_way), tuple(stays))
    does = [Remedy.of(Action.CLEAR, str(installation.address))]
    return context.step(WorkKind.CLEAR, installation.address, step, needs, seen, remedies=does)


def _by_host(
    context: WorkContext, installation: Installation, application: Application, folder: Folder | None, needs: list[str],
    there: bool | None, at: Address,
) -> Iterator[WorkStep]:  # fmt: skip
    """The fields of a host's installer, in general terms."""
    site, domain = installation.address, context.domain_of(at)
    step = InstallApplication(
        context.account.name, **_asked(context, installation, application), application=application.shown,
        release=application.newest or installation.version or "", host=domain.name if domain is not None else at.host,
        box=at.path, address=_url_of(context, at), folder=folder, leave_out=tuple(installation.leave_out),
    )  # fmt: skip
    yield (password := _admin_password(context, installation, application))
    yield context.step(WorkKind.INSTALL, site, step, [*needs, password.id], there, who=installation.set_up_by or "")


def _by_hand(
    context: WorkContext, installation: Installation, application: Application, folder: Folder | None, needs: list[str],
    there: bool | None,
) -> Iterator[WorkStep]:  # fmt: skip
    """What is uploaded, which configuration it gets, and its own set-up."""
    site, who, own = installation.address, installation.set_up_by or "", context.account.name
    files = UploadFiles(
        own, application.shown, folder, application.newest or installation.version or "", application.checksum or "",
        application.files or 0, tuple(installation.leave_out),
    )  # fmt: skip
    is_uploaded = is_there(context, installation, folder, is_set_up=False)
    upload = context.step(WorkKind.UPLOAD, site, files, needs, is_uploaded, who=who)
    yield upload
    mark, last = application.config, upload
    written = (folder.below(mark.file) if folder is not None else Folder(mark.file)).shown if mark is not None else ""
    writes_itself = mark is not None and not (application.sample or mark.ships)
    if mark is not None and not writes_itself:
        settings = WriteSettings(
            own, written, application.sample or "", tuple(settings_of(context, installation, application)),
            titles_of(context, installation, application).get("database", ""), tuple(application.writable),
        )  # fmt: skip
        needs = [upload.id, context.id(WorkKind.UNLOCK, site)]
        is_set = is_configured(context, installation, folder)
        last = context.step(WorkKind.CONFIGURE, site, settings, needs, is_set, who=who)
        yield last
    yield _admin_password(context, installation, application)
    needs_host = [context.id(WorkKind.POINTS, found.name)] if (found := context.domain_of(site)) is not None else []
    runs = SetUp(
        own, **_asked(context, installation, application), writes=written if writes_itself else "",
        address=f"{url_of_site(context, installation).rstrip('/')}/{application.set_up or ''}",
        writable=tuple(application.writable) if last is upload else (),
    )  # fmt: skip
    before = [context.id(WorkKind.UNLOCK, site), context.id(WorkKind.PASSWORD, f"{site} admin"), *needs_host]
    is_done = True if there and installation.state == "live" else None
    yield context.step(WorkKind.SET_UP, site, runs, [upload.id, last.id, *before], is_done, who=who)


def titles_of(context: WorkContext, installation: Installation, application: Application) -> dict[str, str]:
    """The titles under which its passwords are kept, by what they are for."""
    return {one.purpose: one.title for one in password_entries(context.account, installation, application)}


def _admin_password(context: WorkContext, installation: Installation, application: Application) -> WorkStep:
    site = installation.address
    step = MakePassword(context.account.name, titles_of(context, installation, application)["admin"], "admin")
    does = [Remedy.of(Action.MAKE_PASSWORD, str(site), "--for", "admin")]
    return context.step(WorkKind.PASSWORD, site, step, subject=f"{site} admin", remedies=does)


def is_configured(context: WorkContext, installation: Installation, folder: Folder | None) -> bool | None:
    """Whether the configuration that was found names the planned database."""
    if context.contents is None or folder is None:
        return None
    found = context.contents.applications.get(folder)
    if found is None or installation.database is None:
        return False if found is None else None
    real = found.database
    if real is None and context.layout.application(installation).config is None:
        return None  # nothing is known of what it writes
    return real is not None and (real.name, real.prefix or installation.database.prefix) == (
        installation.database.name, installation.database.prefix
    )  # fmt: skip


def url_of_site(context: WorkContext, installation: Installation) -> str:
    return _url_of(context, installation.address)


def _url_of(context: WorkContext, address: Address) -> str:
    domain = context.domain_of(address)
    return f"{'https' if domain is not None and domain.https else 'http'}://{address}"


def _asked(context: WorkContext, installation: Installation, application: Application) -> dict[str, Any]:
    """What a set-up asks for: the database, the people, and how it is kept."""
    base, title = installation.database, titles_of(context, installation, application)
    server = ""
    if base is not None:
        base = replace(base, user=base.user or base.name)
        server = base.reached_at
    return {
        "database": base, "server": server, "password": title.get("database", "") if base is not None else "",
        "admin": installation.admin_user or "", "admin_password": title["admin"],
        "contact": installation.contact or "", "also_tell": tuple(installation.also_tell),
        "title": installation.title or "", "language": installation.language or "",
        "updates": _updates(context, installation), "backups": _backups(context, installation),
    }  # fmt: skip


def settings_of(context: WorkContext, installation: Installation, application: Application) -> Iterator[str]:
    """Every value of the configuration but the password, by the name that it has there."""
    base, mark = installation.database, application.config
    if mark is None:
        return
    if base is not None:
        pairs = (
            (mark.name, base.name), (mark.user, base.user or base.name), (mark.host, base.reached_at),
            (mark.prefix, base.prefix),
        )  # fmt: skip
        yield from (f"{key.partition('|')[0]} = {value}" for key, value in pairs if key)
    if mark.address:
        yield f"{mark.address} = {url_of_site(context, installation)}"


def _updates(context: WorkContext, installation: Installation) -> str:
    kept = kept_current(context, installation)
    if kept is None:
        return ""
    parts = [("application", kept.application), ("extensions", kept.extensions), ("themes", kept.themes)]
    return ", ".join(f"{what}: {how}" for what, how in parts if how)


def _backups(context: WorkContext, installation: Installation) -> Words:
    copies = copies_of(context, installation)
    if copies is None:
        return ""
    return say("work/backups", each=copies.each, keep=copies.keep, at=masked(copies.at))


def kept_current(context: WorkContext, installation: Installation) -> KeptCurrent | None:
    """What updates it: its own, else that of all."""
    return installation.kept_current or context.layout.plan.settings.kept_current


def copies_of(context: WorkContext, installation: Installation) -> Copies | None:
    """Its backups: its own, else those of all."""
    return installation.copies or context.layout.plan.settings.copies


def finished_steps(
    context: WorkContext, installation: Installation, application: Application, folder: Folder | None, last: str,
    there: bool | None, seen_behind: Sequence[str] = (),
) -> Iterator[WorkStep]:  # fmt: skip
    """From what an installer leaves to the sheet; nobody looks at its pages before `seen_behind` is done."""
    site, contents = installation.address, context.contents
    found = contents.applications.get(folder) if contents is not None and folder is not None else None
    own, tidy = context.account.name, [last]
    if application.leftovers:
        seen = None if not there or found is None else not found.leftovers
        step = context.step(
            WorkKind.LEFTOVERS, site, RemoveLeftovers(own, tuple(application.leftovers)), [last], seen,
            remedies=[Remedy.of(Action.CLEAR, str(site), "--leftovers")],
        )  # fmt: skip
        yield step
        tidy.append(step.id)
    survey = context.look(site, tidy, there, databases=installation.database is not None)
    yield survey
    title = installation.title
    name = (
        say("work/shown-or-title", application=application.shown, title=title)
        if title and "title" not in application.asks
        else title
    )
    also = [str(one) for one in context.layout.addresses_of(folder) if one != site] if folder is not None else []
    page = SeePage(own, url_of_site(context, installation), name or application.shown, tuple(also[:8]))
    verify = seen_to_show(
        context, installation, context.step(WorkKind.VERIFY, site, page, [*tidy, *seen_behind], remedies=_probing(site))
    )
    yield verify
    confirm = context.step(
        WorkKind.CONFIRM, site, Confirm(own, str(site)), [survey.id, verify.id], installation.state == "live",
        remedies=[Remedy.of(Action.CONFIRM, str(site))],
    )  # fmt: skip
    yield confirm
    if installation.licensed_to is not None and installation.licensed_to != site:
        yield context.step(WorkKind.LICENCE, site, BindLicence(own, str(site), str(installation.licensed_to)), tidy)
    engines = TellSearchEngines(own, lets_in=installation.staging_of is None and installation.indexing)
    yield context.step(WorkKind.ENGINES, site, engines, [verify.id])
    yield from _old_addresses(context, installation, verify.id)
    kept, copies = kept_current(context, installation), copies_of(context, installation)
    who = kept.by if kept is not None else None
    updates = SetUpdates(own, _updates(context, installation))
    yield context.step(WorkKind.UPDATES, site, updates, [verify.id], who=who or "")
    by = copies.by if copies is not None else None
    backups = SetBackups(own, _backups(context, installation))
    yield context.step(WorkKind.COPIES, site, backups, [verify.id], who=by or "")
    does = [Remedy.of(Action.WRITE_SHEET, str(site))]
    sheet = context.step(WorkKind.SHEET, site, WriteSheet(own, str(site)), [confirm.id], remedies=does)
    yield sheet
    second = context.layout.plan.settings.records_in
    if second:
        yield context.step(WorkKind.SECOND_COPY, site, CopySheet(own, str(site), masked(second)), [sheet.id])


def _old_addresses(context: WorkContext, installation: Installation, after: str) -> Iterator[WorkStep]:
    """Addresses of what is retired and had the same tables: it has moved."""
    base = installation.database
    for other in context.account.installations:
        same = base is not None and other.database is not None and other.database.name == base.name
        if (
            other.state == "retired"
            and same
            and other.application == installation.application
            and other.address != installation.address
        ):
            step = SendOldOn(context.account.name, str(other.address), url_of_site(context, installation))
            yield context.step(WorkKind.REDIRECT, installation.address, step, [after], subject=f"{other.address}")
