"""Steps for an installation, by the host's installer or by hand, from its folder to its sheet."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.databases import password_entries, wanted_database
from kettlepost.core.layout import holds_in
from kettlepost.core.names import Folder, printable
from kettlepost.core.plan import Application, Copies, Installation, KeptCurrent
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.rules import Finding
from kettlepost.core.secrets import masked
from kettlepost.core.work.ground import Ground, person
from kettlepost.core.work.records import HOST, YOU, Item, WorkKind, WorkStep

_DEPLOYED = frozenset(("deployed", "plan-and-survey-differ"))
"""Findings that only say that something is there, or is not yet."""


def installation_steps(ground: Ground, installation: Installation) -> Iterator[WorkStep]:
    """Everything that is done for an installation until it is written down."""
    site = installation.address
    application = ground.layout.plan.applications.get(installation.application) or Application(installation.application)
    folder = ground.layout.folder_of(installation)
    by_hand = ground.deploys_by_hand(installation)
    before = list(_mended(ground, installation))
    yield from before
    ready = [step.id for step in before]
    domain = ground.domain_of(site)
    if domain is not None:
        ready += [ground.id(WorkKind.ADD, domain.name), ground.id(WorkKind.MOVE_ROOT, domain.name)]
    prepared = list(_prepared(ground, installation, application, folder, by_hand, ready))
    yield from prepared
    ready += [step.id for step in prepared]
    if domain is not None and not by_hand:
        ready.append(ground.id(WorkKind.POINTS, domain.name))  # installers ask the site itself
    last = None
    there = _is_there(ground, installation, folder)
    placed = _by_hand if by_hand else _by_host
    for step in placed(ground, installation, application, folder, ready, there):
        yield step
        last = step.id
    yield from _finished(ground, installation, application, folder, last or "", there)


def _mended(ground: Ground, installation: Installation) -> Iterator[WorkStep]:
    """The way out of whatever stops it, as a step before; what a clearing ends is that step."""
    domain = ground.domain_of(installation.address)
    found = ground.found_with(installation)
    if domain is not None and (domain.state == "planned" or not domain.points_here):
        found = [*found, *ground.found_with(domain)]
    for one in {(*one.place, one.title): one for one in found}.values():
        if one.severity == "stop" and one.rule not in _DEPLOYED and not _is_clearing(one):
            way = one.ways_out[0] if one.ways_out else None
            step = ground.step(
                WorkKind.MEND, installation.address, YOU,
                [(Item.WHY, one.title), (Item.NOTE, way.words if way is not None else None)], seen=False,
                subject=f"{one.rule} {one.at}",
            )  # fmt: skip
            step.remedies = [way.remedy] if way is not None and way.remedy is not None else []
            step.remedies.append(Remedy.of(Do.READ_RULE, one.rule))
            yield step


def _is_clearing(found: Finding) -> bool:
    return any(way.remedy is not None and way.remedy.do is Do.CLEAR for way in found.ways_out)


def _is_there(ground: Ground, installation: Installation, folder: Folder | None, is_set_up: bool = True) -> bool | None:
    """Whether the survey shows it, whole and as asked set up; None where nothing was surveyed.

    What is planned is told from somebody's older site of the same kind as the layout tells it.
    """
    if ground.contents is None or folder is None:
        return None
    found = ground.contents.applications.get(ground.layout.lies_now(installation) or folder)
    if found is None or found.application != installation.application:
        return False
    if found.condition:
        return not is_set_up and found.condition == "not set up"
    return installation.state == "live" or installation.number in ground.layout.deployed


def _prepared(
    ground: Ground, installation: Installation, application: Application, folder: Folder | None, by_hand: bool,
    needs: list[str],
) -> Iterator[WorkStep]:  # fmt: skip
    site, contents = installation.address, ground.contents
    there = _is_there(ground, installation, folder)
    uploaded = _is_there(ground, installation, folder, is_set_up=False)
    if folder is not None and not application.wants_new_folder and by_hand and not ground.layout.mounts.get(folder):
        exists = contents.exists(folder) if contents is not None else None
        yield ground.step(WorkKind.FOLDER, site, YOU, [(Item.FOLDER, folder.shown)], needs, exists)
    if folder is not None:
        yield _cleared(ground, installation, folder, uploaded, needs)
    wanted = wanted_database(ground.layout, installation)
    if wanted is None:
        return
    entries = {
        entry.purpose: entry.title for entry in password_entries(ground.account, installation, application)
    }  # fmt: skip
    seen = None if None in (wanted.is_there, wanted.has_user) else bool(wanted.is_there and wanted.has_user)
    base = ground.step(
        WorkKind.DATABASE, site, HOST,
        [
            (Item.DATABASE, wanted.name), (Item.USER, wanted.user),
            (Item.COLLATION, wanted.collation), (Item.RIGHTS, ", ".join(wanted.rights)),
            (Item.WHY, wanted.why_not or None),
        ],
        [step for step in needs if step.startswith(WorkKind.MEND)], seen or (True if there else seen),
    )  # fmt: skip
    base.remedies = [Remedy.of(Do.MAKE_DATABASES, str(site))]
    yield base
    password = ground.step(WorkKind.PASSWORD, site, YOU, [(Item.PASSWORD, entries.get("database"))], seen=None)
    password.remedies = [Remedy.of(Do.MAKE_PASSWORD, str(site), "--for", "database")]
    yield password
    unlock = ground.step(
        WorkKind.UNLOCK, site, HOST, [(Item.USER, wanted.user), (Item.PASSWORD, entries.get("database"))],
        [base.id, password.id], True if there and installation.state == "live" else None,
    )  # fmt: skip
    unlock.remedies = [Remedy.of(Do.MAKE_DATABASES, str(site), "--passwords")]
    yield unlock


def _cleared(
    ground: Ground, installation: Installation, folder: Folder, there: bool | None, needs: list[str]
) -> WorkStep:
    """That nothing is in the way: what others use there stays, and is named."""
    layout = ground.layout
    in_the_way = [
        found for found in ground.found_with(installation) if found.severity == "stop" and _is_clearing(found)
    ]
    seen = None if ground.contents is None else there or not in_the_way
    holds = list(holds_in(layout, folder, installation.application, installation.number))
    stays = ", ".join(dict.fromkeys(printable(f"{hold.place.shown} ({hold.who})") for hold in holds[:8]))
    step = ground.step(
        WorkKind.CLEAR, installation.address, YOU,
        [(Item.FOLDER, folder.shown), *((Item.IN_THE_WAY, found.title) for found in in_the_way), (Item.STAYS, stays)],
        needs, seen,
    )  # fmt: skip
    step.remedies = [Remedy.of(Do.CLEAR, str(installation.address))]
    return step


def _by_host(
    ground: Ground, installation: Installation, application: Application, folder: Folder | None, needs: list[str],
    there: bool | None,
) -> Iterator[WorkStep]:  # fmt: skip
    """The fields of a host's installer, in general terms."""
    site, domain = installation.address, ground.domain_of(installation.address)
    box = site.path or "leave it blank: whatever stands there is deleted first"
    yield ground.step(
        WorkKind.INSTALL, site, person(installation.set_up_by),
        [
            (Item.APPLICATION, application.shown),
            (Item.RELEASE, application.newest or installation.version),
            (Item.DOMAIN, domain.name if domain is not None else str(site.host)),
            (Item.FOLDER_BOX, box),
            (Item.ADDRESS, _url(ground, installation)),
            (Item.FOLDER, folder.shown if folder is not None else None),
            *_data_details(ground, installation, application),
            *_people_details(ground, installation, application),
            (Item.LEAVE_OUT, ", ".join(installation.leave_out)),
            *_care_details(ground, installation),
        ],
        [*needs, ground.id(WorkKind.PASSWORD, f"{site} admin")], there,
    )  # fmt: skip
    yield _admin_password(ground, installation, application)


def _by_hand(
    ground: Ground, installation: Installation, application: Application, folder: Folder | None, needs: list[str],
    there: bool | None,
) -> Iterator[WorkStep]:  # fmt: skip
    """What is uploaded, which configuration it gets, and its own set-up."""
    site, who = installation.address, person(installation.set_up_by)
    upload = ground.step(
        WorkKind.UPLOAD, site, who,
        [
            (Item.APPLICATION, application.shown),
            (Item.RELEASE, application.newest or installation.version or "look up which is the newest"),
            (Item.CHECKSUM, application.checksum or "look it up where the release is offered, and compare"),
            (Item.FOLDER, folder.shown if folder is not None else None),
            (Item.FILES, f"{application.files:,}" if application.files else None),
            (Item.LEAVE_OUT, ", ".join(installation.leave_out)),
        ],
        needs, _is_there(ground, installation, folder, is_set_up=False),
    )  # fmt: skip
    yield upload
    mark, last = application.config, upload
    written = (folder.below(mark.file) if folder is not None else Folder(mark.file)).shown if mark is not None else ""
    own = ""
    if mark is not None and not (application.sample or mark.ships):
        own = f"its own set-up writes {written}, or that is written from these values where it has none"
    elif mark is not None:
        last = ground.step(
            WorkKind.CONFIGURE, site, who,
            [
                (Item.FILE, written),
                (Item.NOTE, f"a copy of {application.sample}" if application.sample else None),
                *_config_details(ground, installation, application),
                (Item.WRITABLE, ", ".join(application.writable)),
            ],
            [upload.id, ground.id(WorkKind.UNLOCK, site)], _is_configured(ground, installation, folder),
        )  # fmt: skip
        yield last
    yield _admin_password(ground, installation, application)
    opened = f"{_url(ground, installation).rstrip('/')}/{application.set_up or ''}"
    needs_host = [ground.id(WorkKind.POINTS, found.name)] if (found := ground.domain_of(site)) is not None else []
    yield ground.step(
        WorkKind.SET_UP, site, who,
        [
            (Item.OPEN, opened), (Item.NOTE, own),
            (Item.WRITABLE, ", ".join(application.writable) if last is upload else None),
            *_data_details(ground, installation, application),
            *_people_details(ground, installation, application), *_care_details(ground, installation),
        ],
        [
            upload.id, last.id, ground.id(WorkKind.UNLOCK, site),
            ground.id(WorkKind.PASSWORD, f"{site} admin"), *needs_host,
        ],
        True if there and installation.state == "live" else None,
    )  # fmt: skip


def _admin_password(ground: Ground, installation: Installation, application: Application) -> WorkStep:
    site = installation.address
    title = next(entry.title for entry in password_entries(ground.account, installation, application))
    step = ground.step(WorkKind.PASSWORD, site, YOU, [(Item.PASSWORD, title)], subject=f"{site} admin")
    step.remedies = [Remedy.of(Do.MAKE_PASSWORD, str(site), "--for", "admin")]
    return step


def _is_configured(ground: Ground, installation: Installation, folder: Folder | None) -> bool | None:
    """Whether the configuration that was found names the planned database."""
    if ground.contents is None or folder is None:
        return None
    found = ground.contents.applications.get(folder)
    if found is None or installation.database is None:
        return False if found is None else None
    real = found.database
    return real is not None and (real.name, real.prefix or installation.database.prefix) == (
        installation.database.name, installation.database.prefix
    )  # fmt: skip


def _url(ground: Ground, installation: Installation) -> str:
    domain = ground.domain_of(installation.address)
    return f"{'https' if domain is not None and domain.https else 'http'}://{installation.address}"


def _data_details(
    ground: Ground, installation: Installation, application: Application
) -> Iterator[tuple[Item, str | None]]:
    base = installation.database
    if base is None:
        return
    title = {entry.purpose: entry.title for entry in password_entries(ground.account, installation, application)}
    yield Item.DATABASE, base.name
    yield Item.USER, base.user or base.name
    yield Item.PREFIX, base.prefix
    yield Item.SERVER, base.server or ground.account.settings.database_users_from.replace("%", "localhost")
    yield Item.PASSWORD, title.get("database")


def _config_details(
    ground: Ground, installation: Installation, application: Application
) -> Iterator[tuple[Item, str | None]]:
    """Every value of the configuration but the password, by the name that it has there."""
    base, mark = installation.database, application.config
    if mark is None:
        return
    if base is not None:
        host = base.server or "localhost"
        for key, value in (
            (mark.name, base.name),
            (mark.user, base.user or base.name),
            (mark.host, host),
            (mark.prefix, base.prefix),
        ):
            if key:
                yield Item.SETTING, f"{key.partition('|')[0]} = {value}"
        title = {entry.purpose: entry.title for entry in password_entries(ground.account, installation, application)}
        yield Item.PASSWORD, title.get("database")
    if mark.address:
        yield Item.SETTING, f"{mark.address} = {_url(ground, installation)}"


def _people_details(
    ground: Ground, installation: Installation, application: Application
) -> Iterator[tuple[Item, str | None]]:
    title = next((entry.title for entry in password_entries(ground.account, installation, application)), None)
    yield Item.ADMIN, f"{installation.admin_user or 'a name that nobody guesses'}, password as kept under: {title}"
    yield Item.CONTACT, installation.contact
    yield Item.ALSO, ", ".join(installation.also_tell)
    yield Item.TITLE, installation.title
    yield Item.LANGUAGE, installation.language


def _care_details(ground: Ground, installation: Installation) -> Iterator[tuple[Item, str | None]]:
    kept, copies = kept_current(ground, installation), copies_of(ground, installation)
    if kept is not None:
        parts = [("application", kept.application), ("extensions", kept.extensions), ("themes", kept.themes)]
        yield Item.UPDATES, ", ".join(f"{what}: {how}" for what, how in parts if how)
    if copies is not None:
        yield Item.COPIES, f"one each {copies.each}, {copies.keep} kept, at {masked(copies.at)}"


def kept_current(ground: Ground, installation: Installation) -> KeptCurrent | None:
    """What updates it: its own, else that of all."""
    return installation.kept_current or ground.layout.plan.settings.kept_current


def copies_of(ground: Ground, installation: Installation) -> Copies | None:
    """Its backups: its own, else those of all."""
    return installation.copies or ground.layout.plan.settings.copies


def _finished(
    ground: Ground, installation: Installation, application: Application, folder: Folder | None, last: str,
    there: bool | None,
) -> Iterator[WorkStep]:  # fmt: skip
    """From what an installer leaves to the sheet."""
    site, contents = installation.address, ground.contents
    found = contents.applications.get(folder) if contents is not None and folder is not None else None
    tidy = [last]
    if application.leftovers:
        seen = None if not there or found is None else not found.leftovers
        step = ground.step(
            WorkKind.LEFTOVERS, site, YOU, [(Item.REMOVE, ", ".join(application.leftovers))], [last], seen
        )
        step.remedies = [Remedy.of(Do.CLEAR, str(site), "--leftovers")]
        yield step
        tidy.append(step.id)
    survey = ground.step(WorkKind.SURVEY, site, YOU, needs=tidy, seen=there)
    survey.remedies = [Remedy.of(Do.TAKE_SURVEY, ground.account.name)]
    yield survey
    title = installation.title
    name = f"{application.shown}, or its title {title}" if title and "title" not in application.asks else title
    shows = f"{name or application.shown}, and no page of the host"
    also = [str(one) for one in ground.layout.addresses_of(folder) if one != site] if folder is not None else []
    verify = ground.step(
        WorkKind.VERIFY,
        site,
        YOU,
        [(Item.OPEN, _url(ground, installation)), (Item.SHOWS, shows), (Item.ALSO_AT, ", ".join(also[:8]))],
        tidy,
    )
    yield verify
    confirm = ground.step(WorkKind.CONFIRM, site, YOU, needs=[survey.id, verify.id], seen=installation.state == "live")
    confirm.remedies = [Remedy.of(Do.CONFIRM, str(site))]
    yield confirm
    if installation.licensed_to is not None and installation.licensed_to != site:
        yield ground.step(
            WorkKind.LICENCE, site, YOU, [(Item.NOTE, f"it is bound to {installation.licensed_to}")], tidy
        )
    staging = installation.staging_of is not None
    closed = "keep search engines out: it is a rehearsal" if staging else "let search engines in"
    yield ground.step(WorkKind.ENGINES, site, YOU, [(Item.NOTE, closed)], [verify.id])
    yield from _old_addresses(ground, installation, verify.id)
    kept, copies = kept_current(ground, installation), copies_of(ground, installation)
    who = kept.by if kept is not None else None
    yield ground.step(
        WorkKind.UPDATES,
        site,
        person(who),
        [one for one in _care_details(ground, installation) if one[0] is Item.UPDATES],
        [verify.id],
    )
    by = copies.by if copies is not None else None
    yield ground.step(
        WorkKind.COPIES,
        site,
        person(by),
        [one for one in _care_details(ground, installation) if one[0] is Item.COPIES],
        [verify.id],
    )
    sheet = ground.step(WorkKind.SHEET, site, YOU, needs=[confirm.id])
    sheet.remedies = [Remedy.of(Do.WRITE_SHEET, str(site))]
    yield sheet
    second = ground.layout.plan.settings.records_in
    if second:
        yield ground.step(WorkKind.SECOND_COPY, site, YOU, [(Item.FOLDER, masked(second))], [sheet.id])


def _old_addresses(ground: Ground, installation: Installation, after: str) -> Iterator[WorkStep]:
    """Addresses of what is retired and had the same tables: it has moved."""
    base = installation.database
    for other in ground.account.installations:
        same = base is not None and other.database is not None and other.database.name == base.name
        if (
            other.state == "retired"
            and same
            and other.application == installation.application
            and other.address != installation.address
        ):
            told = [(Item.OPEN, str(other.address)), (Item.ADDRESS, _url(ground, installation))]
            yield ground.step(WorkKind.REDIRECT, installation.address, YOU, told, [after], subject=f"{other.address}")
