"""Steps by which a domain comes from another account, with all that is installed at it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from kettlepost.core.names import Folder
from kettlepost.core.plan import Database, Domain, Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.bringing import (
    Brought,
    BroughtFolder,
    BroughtSite,
    brought,
    controls_around,
    hosts_line,
    names_of,
)
from kettlepost.core.steps import (
    AddHost,
    AwaitForgotten,
    AwaitName,
    BringFolder,
    BringRest,
    BringTables,
    ChangeRecords,
    ClearFolder,
    CompleteEntry,
    Confirm,
    Freeze,
    GetCertificate,
    OpenPage,
    RedirectToHttps,
    RemoveHost,
    SeeAhead,
    SeePage,
    SetTimeToLive,
    WriteSettings,
)  # fmt: skip
from kettlepost.core.survey import is_in
from kettlepost.core.work.context import WorkContext, as_wait
from kettlepost.core.work.installing import (
    is_configured,
    is_there,
    mended_steps,
    prepared_steps,
    seen_to_show,
    settings_of,
    titles_of,
    url_of_site,
)  # fmt: skip
from kettlepost.core.work.records import WorkKind, WorkStep

SHORT = 300
"""For how many seconds others may keep what a name leads to while it changes."""
IN_BOTH = frozenset(("between-accounts", "domain-twice"))
"""What is found of a domain that is on its way, which the list itself ends."""


def coming(context: WorkContext, domain: Domain) -> Brought | None:
    """What comes with a domain from another account; None where it comes from none that is known."""
    if domain.number not in context.coming:
        other = context.other_account(domain.account_now) if domain.account_now is not None else None
        comes = brought(context.layout, domain, other) if other is not None else None
        context.coming[domain.number] = comes
    return context.coming[domain.number]


def comes_along(context: WorkContext, installation: Installation) -> Domain | None:
    """The domain with which an installation comes from another account, where it does."""
    domain = context.domain_of(installation.address)
    comes = coming(context, domain) if domain is not None else None
    if comes is None or all(site.here.number != installation.number for site in comes.sites):
        return None
    return domain


def transferred(context: WorkContext, comes: Brought) -> Iterator[WorkStep]:
    """Everything that is done until a domain answers from this account, and the plan says so.

    On two machines both answer until the records are known everywhere; on one the host gives the name from one account
    to the other once all of it lies here. What is there stays as it is.
    """
    domain, is_one = comes.domain, comes.is_same_machine is True
    ready = list(_ready(context, comes))
    yield from ready
    needs = [step.id for step in ready]
    adds = [] if is_one else [_added(context, one, []) for one in (domain, *comes.aliases)]
    yield from adds
    first = [step.id for step in adds]
    copied = list(_files(context, comes, ()))
    emptied = [_emptied(context, comes, made, first) for made in copied]
    yield from emptied
    needs += [step.id for step in emptied]
    before = list(_slow_to_forget(context, comes)) if not is_one else []
    before += _certified_ahead(context, comes, first) if not is_one else []
    around = tuple(controls_around(comes.other, comes.folders)) if context.layout.obeys_control_files else ()
    root = comes.folders[0].to if comes.folders else None
    rest = BringRest(context.account.name, comes.other.name, domain.name, domain.mail, root if around else None, around)
    before.append(context.step(WorkKind.REST, domain.name, rest, first))
    yield from before
    needs += [*first, *(step.id for step in before)]
    if comes.folders:
        frozen = Freeze(comes.other.name, f"{'https' if domain.https else 'http'}://{domain.name}/")
        yield (freeze := context.step(WorkKind.FREEZE, domain.name, frozen, needs))
        needs = [freeze.id]
    for made in copied:
        made.needs = list(needs)
    yield from copied
    needs = [*needs, *(step.id for step in copied)]
    for site in comes.sites:
        data = list(_with_data(context, comes, site, needs))
        yield from data
        needs += [step.id for step in data]
    if is_one:
        yield from _given_over(context, comes, needs)
    else:
        yield from _led_here(context, comes, needs)


def _ready(context: WorkContext, comes: Brought) -> Iterator[WorkStep]:
    """What stops it, and for each installation that nothing is in the way and its database is there."""
    for site in comes.sites:
        mended = list(mended_steps(context, site.here, IN_BOTH))
        yield from mended
        has_data = is_configured(context, site.here, site.to)
        application = context.layout.application(site.here)
        first = [step.id for step in mended]
        prepared = prepared_steps(context, site.here, application, site.to, False, first, has_data)
        yield from (step for step in prepared if step.kind is not WorkKind.CLEAR)  # which comes behind the host's page
        yield from _untold(context, comes, site)


def _untold(context: WorkContext, comes: Brought, site: BroughtSite) -> Iterator[WorkStep]:
    """That somebody writes down which tables an installation has, or is to have: else the copy would work with the old
    ones."""
    is_in_files = comes.other.account.settings.database_server == "sqlite"
    lacks = site.here if site.here.database is None else site.there
    if is_in_files or (site.tables is None) == (site.here.database is None):
        return
    account = context.account.name if lacks is site.here else comes.other.name
    step = CompleteEntry(account, "installation", lacks.number, ("database",))
    yield context.step(WorkKind.MEND, site.here.address, step, (), False, f"{site.here.address} database")


def _emptied(context: WorkContext, comes: Brought, copy: WorkStep, needs: Sequence[str]) -> WorkStep:
    """That nothing is in the way of a copy, such as a page that the host put there; what lies there later is that."""
    contents, own = context.contents, context.account.name
    to = copy.step.to if isinstance(copy.step, BringFolder) else Folder("")
    seen = True if copy.is_done else None if contents is None else contents.is_empty(to) or None
    does = [Remedy.of(Action.CLEAR, "--account", own, "--folder", to.shown, "--everything")]
    step = ClearFolder(own, to)
    return context.step(
        WorkKind.CLEAR, comes.domain.name, step, needs, seen, f"{comes.domain.name} {to}", remedies=does
    )


def _is_copied(context: WorkContext, to: Folder) -> bool:
    contents = context.contents
    return contents is not None and to in contents.applications


def _added(context: WorkContext, domain: Domain, needs: Sequence[str]) -> WorkStep:
    """The host name, on the new account."""
    host, outside, main = domain.name, context.layout.outside, context.account.primary
    refuse = main.root if main is not None and main.root != domain.root and domain.claims_root else None
    root = domain.root if domain.claims_root else None
    step = AddHost(context.account.name, host, domain.kind, root, refuse, domain.of, tuple(names_of(domain)[1:]))
    found = next((one for one in outside.hosts if one.host == host), None) if outside is not None else None
    seen = None
    if outside is not None and outside.hosts:
        seen = found is not None and (root is None or found.root == str(root))
    made, page = context.step(WorkKind.ADD, host, step, needs, seen), context.shown(f"http://{host}/")
    if seen is not None or page is None or not page.shows or root is None:
        return made
    return replace(made, seen=True, looked=page.seen) if is_in(Folder(page.shows), root) else made


def _slow_to_forget(context: WorkContext, comes: Brought) -> Iterator[WorkStep]:
    """Records that are soon forgotten, and the time until the old ones are."""
    host, names = comes.domain.name, comes.names
    seen = [*comes.other.seen_ttl(host), *context.layout.seen_ttl(host)]
    is_short = bool(seen) and max(seen) <= SHORT
    lower = SetTimeToLive(context.account.name, host, names, SHORT)
    made = context.step(WorkKind.SHORT_LIVED, host, lower, (), is_short or None)
    yield made
    outside = comes.other.outside
    kept = [one.ttl for one in outside.records if one.host == host and one.ttl] if outside is not None else []
    longest = max((one for one in (*kept, *seen) if one > SHORT), default=0)  # as it was before
    wait = as_wait((0, longest / 3600)) if longest else as_wait(context.waits.record)
    waits = AwaitForgotten(context.account.name, host, wait)
    known = context.step(WorkKind.FORGOTTEN, host, waits, [made.id], None, f"{host} short")  # nothing shows that
    yield replace(known, wait=wait)


def _files(context: WorkContext, comes: Brought, needs: Sequence[str]) -> Iterator[WorkStep]:
    for one in comes.folders:
        step = BringFolder(context.account.name, comes.other.name, one.folder, one.to, one.stays)
        subject = f"{comes.domain.name} {one.folder} {one.to}"
        yield context.step(WorkKind.COPY_FILES, comes.domain.name, step, needs, _has_come(context, comes, one), subject)


def _has_come(context: WorkContext, comes: Brought, one: BroughtFolder) -> bool | None:
    """Whether the survey shows the copy: of applications that they are there, of other files nothing tells all."""
    contents = context.contents
    if contents is None:
        return None
    if contents.is_empty(one.to):
        return False
    places = [site for site in comes.sites if site.to == one.to or site.to.is_inside(one.to)]
    if not places:
        return None
    return all(
        is_there(context, site.here, site.to, is_set_up=False) or _is_copied(context, site.to) for site in places
    )


def _with_data(context: WorkContext, comes: Brought, site: BroughtSite, needs: Sequence[str]) -> Iterator[WorkStep]:
    """The tables of an installation, and the configuration that names them."""
    own, base, tables = context.account.name, site.here.database, site.tables
    if base is None or tables is None:
        return
    address, known = site.here.address, context.layout.application(site.here)
    is_set = is_configured(context, site.here, site.to)
    old = Database(tables.name, tables.written, None, tables.database[0])
    first = [*needs, *(context.id(kind, address) for kind in (WorkKind.DATABASE, WorkKind.UNLOCK))]
    brings = BringTables(own, comes.other.name, old, base)
    does = [Remedy.of(Action.BRING_TABLES, str(address).rstrip("/"))]
    yield (data := context.step(WorkKind.COPY_TABLES, address, brings, first, is_set or None, remedies=does))
    mark = known.config
    if mark is None:
        return
    title = titles_of(context, site.here, known).get("database", "")
    settings = tuple(settings_of(context, site.here, known))
    writes = WriteSettings(own, site.to.below(mark.file).shown, "", settings, title, ())
    home = comes.other.account.settings.home
    told = Remedy.of(context.layout.surveying.do, own, "--mentions", home, "--only", site.to.shown) if home else None
    does = [told] if told is not None else []
    yield context.step(WorkKind.CONFIGURE, address, writes, [data.id, *needs], is_set, remedies=does)


def _certified_ahead(context: WorkContext, comes: Brought, needs: Sequence[str]) -> Iterator[WorkStep]:
    """The certificates, which are there before anybody is led here."""
    for domain in (comes.domain, *comes.aliases):
        if domain.https:
            host, has = domain.name, context.layout.has_certificate(domain.name)
            is_served = context.layout.served_certificate(host) is not None
            names = tuple(names_of(domain))
            made = GetCertificate(context.account.name, host, names, is_undeclared=not has, is_ahead=True)
            certificate = context.step(WorkKind.CERTIFICATE, host, made, needs, has or is_served or None)
            yield replace(certificate, wait=as_wait(context.waits.certificate))
            sent = RedirectToHttps(context.account.name, host)
            page = context.shown(f"http://{host}/")
            is_sent = page is not None and page.end.startswith("https:")
            yield context.step(WorkKind.HTTPS, host, sent, [certificate.id], is_sent or None)


def _led_here(context: WorkContext, comes: Brought, needs: Sequence[str]) -> Iterator[WorkStep]:
    """On two machines: looked at here, then the records, then the plan."""
    domain, own = comes.domain, context.account.name
    host, machines = domain.name, context.account.settings.ip_addresses
    names, line = comes.names, hosts_line(context.layout, comes) if machines else f"IP {' '.join(comes.names)}"
    scheme = "https" if domain.https else "http"
    does = [Remedy.of(Action.PROBE, str(host))]
    yield (ahead := context.step(WorkKind.LOOK, host, SeeAhead(own, f"{scheme}://{host}/", line), needs, remedies=does))
    records = tuple(f"{'AAAA' if ':' in one else 'A'} {one}" for one in machines)
    changes = ChangeRecords(own, host, names, records)
    looked = context.layout.seen_pointing(host)
    seen = looked[0] or None if looked is not None else None
    yield (change := context.step(WorkKind.RECORD, host, changes, [ahead.id], seen))
    wait = as_wait((0, SHORT / 3600))
    points = context.step(WorkKind.POINTS, host, AwaitName(own, host, wait), [change.id], seen, remedies=does)
    yield (points := replace(points, wait=wait, looked=looked[1] if looked is not None else ""))
    yield from _settled(context, comes, [points.id])
    back = SetTimeToLive(own, host, names)
    yield context.step(WorkKind.SHORT_LIVED, host, back, [context.id(WorkKind.MOVED, host)], subject=f"{host} back")


def _given_over(context: WorkContext, comes: Brought, needs: Sequence[str]) -> Iterator[WorkStep]:
    """On one machine: the host takes the name off the one account, and adds it to the other."""
    domain, was = comes.domain, comes.was
    goes, first = {one.name for one in comes.aliases}, list[str]()
    named = comes.other.account.named.values()
    others = tuple(one.name for one in named if one.of == domain.name and one.name not in goes)
    for one in (*comes.aliases, domain):
        root = was.root if one is domain else None
        gone = RemoveHost(
            comes.other.name, one.name, root, others if one is domain else (), one.mail, context.account.name
        )
        off = context.step(WorkKind.REMOVE_HOST, one.name, gone, [*needs, *first], _added(context, one, ()).seen)
        yield off
        first = [off.id]
    for one in (domain, *comes.aliases):
        yield (adds := _added(context, one, first))
        first = [adds.id]
    for one in (domain, *comes.aliases):
        if one.https:
            has = context.layout.has_certificate(one.name)
            made = GetCertificate(context.account.name, one.name, tuple(names_of(one)), is_undeclared=not has)
            certificate = context.step(WorkKind.CERTIFICATE, one.name, made, first, has or None)
            yield replace(certificate, wait=as_wait(context.waits.certificate))
            sent = RedirectToHttps(context.account.name, one.name)
            yield context.step(WorkKind.HTTPS, one.name, sent, [certificate.id])
            first = [*first, certificate.id] if one is domain else first
    yield from _settled(context, comes, first)


def _settled(context: WorkContext, comes: Brought, needs: Sequence[str]) -> Iterator[WorkStep]:
    """The look that ends it, and the plan that says so."""
    domain, own = comes.domain, context.account.name
    host, layout = domain.name, context.layout
    seen: list[str] = []
    for site in comes.sites:
        page = SeePage(own, url_of_site(context, site.here), layout.application(site.here).shown)
        does = [Remedy.of(Action.PROBE, str(site.here.address).rstrip("/"))]
        step = context.step(WorkKind.VERIFY, site.here.address, page, needs, remedies=does)
        yield seen_to_show(context, site.here, step)
        seen.append(step.id)
    if comes.folders and not comes.sites:
        opens = OpenPage(own, f"{'https' if domain.https else 'http'}://{host}/")
        does = [Remedy.of(Action.PROBE, str(host))]
        step = context.step(WorkKind.VERIFY, host, opens, needs, remedies=does)
        shown = context.shown(f"{'https' if domain.https else 'http'}://{host}/")
        is_ours = shown is not None and shown.shows and domain.root and is_in(Folder(shown.shows), domain.root)
        yield replace(step, seen=True, looked=shown.seen) if shown is not None and is_ours else step
        seen.append(step.id)
    there = all(_has_come(context, comes, folder) is True for folder in comes.folders) or None
    if any(is_configured(context, site.here, site.to) is False for site in comes.sites if site.here.database):
        there = None
    yield (look := context.look(host, [*needs, *seen], there, databases=any(s.here.database for s in comes.sites)))
    does = [Remedy.of(Action.CONFIRM, str(host))]
    yield context.step(WorkKind.MOVED, host, Confirm(own, str(host)), [look.id, *seen], False, remedies=does)
