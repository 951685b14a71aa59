"""Steps for host names: from the registration to the certificate."""

from __future__ import annotations

from collections.abc import Iterator
from typing import assert_never

from msgspec.structs import replace

from kettlepost.core.layout import FolderState, has_moved, lay_there_before
from kettlepost.core.names import HOME, Folder, HostName
from kettlepost.core.plan import Domain
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.moves import moving_steps, redirects, setting_aside
from kettlepost.core.rules.removal import left_by
from kettlepost.core.rules.ways_out import clearing_folder
from kettlepost.core.steps import (
    AddHost,
    AddLines,
    AwaitName,
    BindLicence,
    CarryLines,
    ChangeRoot,
    Configure,
    Confirm,
    CopyFolder,
    EditLine,
    Forget,
    GetCertificate,
    KeepFolder,
    LookAgain,
    LookAtFile,
    LookAtFolder,
    MakeFolder,
    MakeRecord,
    OpenPage,
    ReadIn,
    RedirectToHttps,
    RegisterName,
    Relocating,
    RemoveHost,
    SendOldOn,
    SetAsideFolder,
    SetNameServers,
    SettleMail,
    WriteFrontFile,
    needs_of,
    root_change_id,
)  # fmt: skip
from kettlepost.core.survey import is_in
from kettlepost.core.work.context import WorkContext, as_wait
from kettlepost.core.work.records import WorkKind, WorkStep

_OWN = ("primary", "addon", "alias")
"""Kinds of domains that are registered in their own right."""


def is_in_work(context: WorkContext, domain: Domain) -> bool:
    """Whether there is something to do for a domain itself."""
    if domain.state == "retired":
        return False
    lacks = domain.https and context.layout.has_certificate(domain.name) is False
    is_moving = domain.root_now is not None
    return domain.state == "planned" or not domain.points_here or lacks or is_moving or _is_left_open(context, domain)


def _is_left_open(context: WorkContext, domain: Domain) -> bool:
    """Whether a domain was confirmed before anybody knew that its name leads here, or is sent on to https."""
    is_sent = not domain.https or not context.is_left_open(WorkKind.HTTPS, domain.name)
    return not is_sent or (not _is_told(context, domain) and context.is_left_open(WorkKind.POINTS, domain.name))


def _is_told(context: WorkContext, domain: Domain) -> bool:
    """Whether the plan says of a domain if its name leads here."""
    return context.account.source.is_written(("domain", domain.number, "points_here"))


def host_steps(context: WorkContext, domain: Domain) -> Iterator[WorkStep]:
    """What is done for a domain of the plan until visitors reach it, by https where that is wanted."""
    host = domain.name
    above = _above(context, host)
    if domain.kind in _OWN and not domain.points_here:
        yield from _registered(context, domain)
    if domain.state == "planned":
        yield _added(context, domain, above)
    if domain.kind == "subdomain" and domain.state == "planned" and not _has_wildcard_record(context, host):
        addresses = context.account.settings.ip_addresses
        records = tuple(f"{'AAAA' if ':' in one else 'A'} {one}" for one in addresses)
        made = MakeRecord(context.account.name, host, records)
        needs = [context.id(WorkKind.ADD, host)]
        record = context.step(WorkKind.RECORD, host, made, needs, _has_record(context, host))
        yield _seen_pointing(context, host, record)
    if not domain.points_here or domain.state == "planned" or _is_left_open(context, domain):
        yield _known(context, domain)
    if domain.root_now is not None and domain.root is not None:
        yield from _moved(context, domain, domain.root)
    if domain.https:
        yield from _secured(context, domain)


def _moved(context: WorkContext, domain: Domain, root: Folder) -> Iterator[WorkStep]:
    """What is done until a domain leads to another root, by the very steps that the check advises."""
    whole = moving_steps(context.layout, domain, root)
    advised = [step for step in whole if not isinstance(step, ReadIn)]  # which is part of the look that ends it
    reads = [Remedy.of(Action.READ_IN, step.source) for step in whole if isinstance(step, ReadIn)]
    old = context.layout.real(domain.root_now or HOME)
    if advised and not any(isinstance(step, SetAsideFolder) for step in advised):
        aside = SetAsideFolder(context.account.name, old)  # it was, where its number is known
        made = context.step(WorkKind.CLEAR_OLD, domain.name, aside, (), True, f"{domain.name} {old}")
        made.remedies = [clearing_folder(context.layout, old, "everything")]
        if made.set_aside:
            for sent in redirects(context.layout, domain, old, root):
                kind, subject, _ = told_of(context, domain.name, sent)
                yield context.step(kind, domain.name, sent, subject=subject)
            yield made
    copied = {
        step.to for step in advised
        if isinstance(step, CopyFolder) and context.is_said(WorkKind.COPY_FILES, told_of(context, domain.name, step)[1])
    }  # fmt: skip
    ids: list[str] = []
    is_alone = not any(isinstance(step, CopyFolder | MakeFolder) for step in advised)
    is_led = not is_alone  # where nothing is copied, the files are there before the host leads the name to them
    for step, needs in zip(advised, needs_of(advised), strict=True):
        kind, subject, seen = told_of(context, domain.name, step)
        if isinstance(step, LookAtFolder) and step.folder in copied:
            seen = True  # what lies there now is the copy
        made = context.step(kind, domain.name, step, [ids[need] for need in needs], seen, subject)
        if isinstance(step, LookAgain):
            is_there = has_moved(context.layout, domain) or lay_there_before(context.layout, domain)
            made = context.look(domain.name, made.needs, (is_led and is_there) or None)
            made.remedies += reads
        elif isinstance(step, ChangeRoot):
            made.remedies, is_led = [Remedy.of(Action.SAY_DONE, made.id)], is_led or made.is_done
        elif isinstance(step, Confirm):
            made.remedies = [Remedy.of(Action.CONFIRM, domain.name)]
        elif isinstance(step, SetAsideFolder) and step.remedy is not None:
            made.remedies = [step.remedy]
        ids.append(made.id)
        yield made


def change_of_root(context: WorkContext, domain: Domain) -> str:
    """The id of the step by which the host leads a domain to another root, whether there is one or not."""
    old = context.layout.real(domain.root_now or HOME)
    return root_change_id(context.account.name, domain.name, old, domain.root or HOME)


def has_changed_root(context: WorkContext, domain: Domain) -> bool:
    """Whether the host leads a domain to its new root already: as it is seen, else as somebody said."""
    if domain.root_now is None or domain.root is None:
        return False
    return any(step.kind is WorkKind.MOVE_ROOT and step.is_done for step in _moved(context, domain, domain.root))


def told_of(context: WorkContext, who: str, step: Relocating) -> tuple[WorkKind, str, bool | None]:  # noqa: C901 (a closed set)
    """The kind of a step in the list, what its id is made of, and whether what was looked at shows that it is done."""
    contents, outside, host = context.contents, context.layout.outside, who
    match step:
        case MakeFolder():
            return WorkKind.MAKE_FOLDER, f"{host} {step.folder}", contents.exists(step.folder) if contents else None
        case LookAtFolder():
            return WorkKind.LOOK, f"{host} {step.folder}", None
        case CopyFolder():  # no look tells whether all of it was copied
            is_bare = contents is not None and contents.is_empty(step.to)
            return WorkKind.COPY_FILES, f"{host} {step.folder} {step.to}", False if is_bare else None
        case CarryLines() | LookAtFile():
            return WorkKind.CARRY, f"{host} {step.folder} {step.file} {type(step).__name__}", None
        case ChangeRoot():
            found = next((one for one in outside.hosts if one.host == host), None) if outside is not None else None
            return (
                WorkKind.MOVE_ROOT,
                f"{host} {step.old} {step.root}",
                found.root == str(step.root) if found is not None else None,
            )
        case OpenPage():
            return WorkKind.LOOK, f"{host} {step.address}", None
        case AddLines():
            return WorkKind.SEND_ON, f"{host} {step.folder} {' '.join(step.lines)}", None
        case SetAsideFolder():
            gone = contents.is_empty(step.folder) if contents is not None and not step.stays else None
            return WorkKind.CLEAR_OLD, f"{host} {step.folder}", gone
        case WriteFrontFile():
            is_missing = FolderState(context.layout, "now").has(step.folder, step.file) is False
            return WorkKind.FRONT, f"{host} {step.folder}", False if is_missing else None
        case EditLine():
            return WorkKind.CARRY, f"{host} {step.folder} {step.file} {step.line}", None
        case Configure():
            return WorkKind.READDRESS, f"{host} {step.address}", None
        case BindLicence():
            return WorkKind.LICENCE, host, None
        case SendOldOn():
            return WorkKind.REDIRECT, f"{host} {step.old}", None
        case LookAgain() | ReadIn():
            return WorkKind.SURVEY, host, None
        case Confirm():
            return WorkKind.MOVED, host, None
        case _:
            assert_never(step)


def removed_host(context: WorkContext, domain: Domain) -> Iterator[WorkStep]:
    """What is done for a domain that is to go: nobody else's addresses, folders, records or mail go with it."""
    needs: list[str] = []
    is_back = domain.name in context.account.named
    if not is_back:  # else it is on the account again, under another entry
        outside = context.layout.outside
        there = None if outside is None or not outside.hosts else any(one.host == domain.name for one in outside.hosts)
        others = tuple(one.name for one in context.account.named.values() if one.of == domain.name)
        gone = RemoveHost(context.account.name, domain.name, domain.root, others, bool(domain.mail))
        step = context.step(WorkKind.REMOVE_HOST, domain.name, gone, seen=None if there is None else not there)
        yield step
        needs = [step.id]
    left = left_by(context.layout, domain) if not is_back else None
    if left is not None and left.files:
        subject = f"{domain.name} {left.root}"
        keeps = KeepFolder(context.account.name, left.root)
        yield (kept := context.step(WorkKind.KEEP_FILES, domain.name, keeps, subject=subject))
        aside = setting_aside(context.layout, left.root, {left.root, *left.stays})
        does = [aside.remedy] if aside.remedy is not None else []
        cleared = context.step(WorkKind.CLEAR_OLD, domain.name, aside, [*needs, kept.id], False, subject, remedies=does)
        yield cleared
        yield (look := context.look(domain.name, [cleared.id], False))
        needs = [look.id]
    installed = (one for one in context.account.installations if one.state == "retired")
    needs += [context.id(WorkKind.FORGET, one.address) for one in installed if one.address.host == domain.name]
    yield context.step(WorkKind.FORGET, domain.name, Forget(context.account.name, domain.name), needs, False)


def _above(context: WorkContext, host: HostName) -> Domain | None:
    named = context.account.named
    return next((named[name] for name in host.above() if name in named), None)


def _registered(context: WorkContext, domain: Domain) -> Iterator[WorkStep]:
    host = domain.name
    outside = context.layout.outside
    has_zone = True if outside is not None and any(one.host == host for one in outside.records) else None
    own = context.account.name
    register = context.step(WorkKind.REGISTER, host, RegisterName(own, host), seen=has_zone)
    if domain.state == "planned":
        yield _seen_pointing(context, host, replace(register, wait=as_wait(context.waits.registration)))
    yield context.step(WorkKind.MAIL, host, SettleMail(own, host))
    step = SetNameServers(own, host, tuple(context.layout.plan.export.name_servers))
    needs = [register.id, context.id(WorkKind.MAIL, host), context.id(WorkKind.ADD, host)]
    yield _seen_pointing(context, host, context.step(WorkKind.NAME_SERVERS, host, step, needs))


def _seen_pointing(context: WorkContext, host: HostName, step: WorkStep) -> WorkStep:
    """A step behind which a name leads here: done where it was seen to."""
    looked = context.layout.seen_pointing(host)
    return replace(step, seen=True, looked=looked[1]) if looked is not None and looked[0] else step


def _added(context: WorkContext, domain: Domain, above: Domain | None) -> WorkStep:
    host, outside = domain.name, context.layout.outside
    seen_root = next((one for one in outside.hosts if one.host == host), None) if outside is not None else None
    seen = None
    if outside is not None and outside.hosts:
        seen = seen_root is not None and (domain.root is None or seen_root.root == str(domain.root))
    main = context.account.primary
    refuse = main.root if main is not None and main.root != domain.root and domain.claims_root else None
    root = domain.root if domain.claims_root else None
    step = AddHost(context.account.name, host, domain.kind, root, refuse, domain.of, tuple(_names(domain)[1:]))
    needs = [context.id(WorkKind.ADD, above.name)] if above is not None else []
    made, page = context.step(WorkKind.ADD, host, step, needs, seen), context.shown(f"http://{host}/")
    if seen is not None or page is None or not page.shows or domain.root is None:
        return made
    return replace(made, seen=True, looked=page.seen) if is_in(Folder(page.shows), domain.root) else made


def _known(context: WorkContext, domain: Domain) -> WorkStep:
    """Time that passes until everybody's resolver has the new records."""
    host = domain.name
    is_own = domain.kind in _OWN and not domain.points_here
    outside = context.layout.outside
    kept = [one.ttl for one in outside.records if one.host == host and one.ttl] if outside is not None else []
    kept += context.layout.seen_ttl(host)
    wait = as_wait(context.waits.name_servers if is_own else context.waits.record)
    if kept and not is_own:
        wait = as_wait((0, max(kept) / 3600))
    needs = [context.id(kind, host) for kind in (WorkKind.NAME_SERVERS, WorkKind.ADD, WorkKind.RECORD)]
    # that a new name points here, nobody knows until the plan says so, or somebody
    is_open = domain.state == "planned" or context.is_left_open(WorkKind.POINTS, host)
    seen = domain.points_here if _is_told(context, domain) or not is_open else None
    looked = context.layout.seen_pointing(host)
    if looked is not None:
        seen = looked[0]
    step = AwaitName(context.account.name, host, wait, is_told_away=seen is False and not domain.points_here)
    does = [Remedy.of(Action.PROBE, host)]
    made = replace(context.step(WorkKind.POINTS, host, step, needs, seen, remedies=does), wait=wait)
    return replace(made, looked=looked[1]) if looked is not None else made


def _secured(context: WorkContext, domain: Domain) -> Iterator[WorkStep]:
    host = domain.name
    names = _names(domain)
    has = context.layout.has_certificate(host)
    if has is not False and domain.state != "planned" and not context.is_left_open(WorkKind.HTTPS, host):
        return
    needs = [context.id(WorkKind.ADD, host), context.id(WorkKind.POINTS, host)]
    made = GetCertificate(context.account.name, host, tuple(names), is_undeclared=not has)
    certificate = context.step(WorkKind.CERTIFICATE, host, made, needs, has or None)
    served = context.layout.served_certificate(host)
    certificate = replace(certificate, wait=as_wait(context.waits.certificate))
    yield replace(certificate, seen=True, looked=served.seen) if served is not None else certificate
    sent = context.step(WorkKind.HTTPS, host, RedirectToHttps(context.account.name, host), [certificate.id])
    page = context.shown(f"http://{host}/")
    is_sent = page is not None and page.status is not None and page.end.startswith("https:")
    yield replace(sent, seen=is_sent, looked=page.seen) if page is not None and page.status is not None else sent


def _names(domain: Domain) -> list[str]:
    """Every name of a domain, its own first."""
    with_www = [f"www.{domain.name}"] if domain.www in ("both", "bare", "www") else []
    return list(dict.fromkeys([domain.name, *domain.also, *with_www]))


def _has_record(context: WorkContext, host: HostName) -> bool | None:
    outside = context.layout.outside
    if outside is None or not any(host == one.host or host.endswith(f".{one.host}") for one in outside.records):
        return None
    return any(one.host == host for one in outside.records)


def _has_wildcard_record(context: WorkContext, host: HostName) -> bool:
    outside = context.layout.outside
    wild = f"*.{host.partition('.')[2]}"
    return outside is not None and any(one.host == wild for one in outside.records)
