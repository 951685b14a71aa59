"""The sheet of a site: all that belongs to it, for the person who looks after it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from enum import StrEnum

from msgspec import Struct, field

from kettlepost.core.databases import password_entries
from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import Message, Words, say
from kettlepost.core.names import HostName, printable
from kettlepost.core.plan import Application, Certificate, Domain, Installation
from kettlepost.core.rules import Finding
from kettlepost.core.secrets import masked

_ADDRESSES = 12


class SheetPart(StrEnum):
    """A part of a sheet; those in FOR_CLIENT are for the client's eyes as well."""

    SITE = "site"
    ADDRESSES = "addresses"
    PLACE = "place"
    DATA = "data"
    CARE = "care"
    PEOPLE = "people"
    OPEN = "open"


FOR_CLIENT = (SheetPart.SITE, SheetPart.ADDRESSES, SheetPart.CARE, SheetPart.PEOPLE)


class SheetLine(Struct, frozen=True):
    """One line of a sheet: what it is called, and its value; `is_internal` is left out for a client."""

    label: str
    value: Words
    is_internal: bool = False


class SiteSheet(Struct):
    """The page of one site: `lines` by part, `findings` in words with their severity, `history` the newest first."""

    address: str
    title: str
    account: str
    client: str
    state: str
    lines: dict[SheetPart, list[SheetLine]] = field(default_factory=dict)
    findings: list[tuple[str, Words]] = field(default_factory=list)
    history: list[str] = field(default_factory=list)

    def for_client(self) -> SiteSheet:
        """The same without what is nobody's concern but those who look after it."""
        kept = {
            part: [line for line in self.lines[part] if not line.is_internal]
            for part in FOR_CLIENT
            if part in self.lines
        }
        return SiteSheet(self.address, self.title, self.account, self.client, self.state, kept)


def sheet_of(layout: AccountLayout, installation: Installation, findings: Sequence[Finding]) -> SiteSheet:
    """All that is known of an installation; no password, only where it is kept."""
    account = layout.account
    application = layout.plan.applications.get(installation.application) or Application(installation.application)
    mount = layout.hosts.mount(installation.address)
    domain = mount.domain if mount is not None else None
    client = (domain.client if domain is not None else None) or account.settings.client or ""
    made = SiteSheet(
        str(installation.address), masked(installation.title or application.shown), account.name, printable(client),
        installation.state,
    )  # fmt: skip
    parts = {
        SheetPart.SITE: _site(layout, installation, application),
        SheetPart.ADDRESSES: _addresses(layout, installation, application, domain),
        SheetPart.PLACE: _place(layout, installation),
        SheetPart.DATA: _data(layout, installation, application),
        SheetPart.CARE: _care(layout, installation),
        SheetPart.PEOPLE: _people(layout, installation, application),
    }
    made.lines = {
        part: told
        for part, lines in parts.items()
        if (told := [SheetLine(line.label, _masked(line.value), line.is_internal) for line in lines if line.value])
    }
    identity = account.identity(installation)
    made.findings = [
        (one.severity or "stop", one.title) for one in findings if identity in one.records or identity in one.about
    ]
    return made


def _masked(words: Words) -> Words:
    """The same without anything that is a secret."""
    if isinstance(words, str):
        return masked(words)
    return Message(
        words.slug, {name: masked(one) if isinstance(one, str) else one for name, one in words.facts.items()}
    )


def _site(layout: AccountLayout, installation: Installation, application: Application) -> Iterator[SheetLine]:
    found = layout.contents.applications.get(layout.folder_of(installation) or "") if layout.contents else None
    seen = found.version if found is not None and found.application == installation.application else None
    yield SheetLine("application", application.shown)
    yield SheetLine("version", printable(seen or installation.version or ""))
    newest = application.newest or ""
    yield SheetLine("newest known", newest if newest != (seen or installation.version) else "")
    yield SheetLine("language", installation.language or "")
    yield SheetLine("state", installation.state)
    if installation.staging_of is not None:
        yield SheetLine("rehearsal for", str(installation.staging_of))


def _addresses(
    layout: AccountLayout, installation: Installation, application: Application, domain: Domain | None
) -> Iterator[SheetLine]:
    scheme = "https" if domain is not None and domain.https else "http"
    site = str(installation.address).rstrip("/")
    yield SheetLine("visitors", f"{scheme}://{site}/")
    if installation.address_now is not None:
        yield SheetLine("today", str(installation.address_now))
    for moved in layout.account.moved:
        if moved.to == installation.address:
            yield SheetLine("old address", str(moved.old))
    if application.admin:
        yield SheetLine("administration", f"{scheme}://{site}/{application.admin}")
    folder = layout.folder_of(installation)
    others = (
        [str(one) for one in layout.addresses_of(folder) if one != installation.address] if folder is not None else []
    )
    yield SheetLine("also at", ", ".join(others[:_ADDRESSES]), is_internal=True)
    if domain is None:
        return
    until, served = _certificate(layout, domain.name), layout.served_certificate(domain.name)
    if served is not None:
        yield SheetLine("certificate", say("sheet/seen-until", until=served.until, day=served.seen[:10]))
    elif until is not None:
        yield SheetLine("certificate", say("sheet/until", until=until.until) if until.until else "yes")
    elif domain.https and layout.has_certificate(domain.name) is False:
        yield SheetLine("certificate", say("sheet/no-certificate"))
    owner = next((one for one in (domain, *_above(layout, domain)) if one.registered_until is not None), None)
    yield SheetLine("registered until", str(owner.registered_until) if owner is not None else "")
    looked = layout.seen_pointing(domain.name)
    if looked is not None:
        told = (
            say("sheet/points-here", day=looked[1][:10])
            if looked[0]
            else say("sheet/leads-elsewhere", day=looked[1][:10])
        )
        yield SheetLine("points here", told)
    else:
        yield SheetLine("points here", say("sheet/not-yet") if not domain.points_here else "")


def _above(layout: AccountLayout, domain: Domain) -> Iterator[Domain]:
    named = layout.account.named
    return (named[name] for name in domain.name.above() if name in named)


def _certificate(layout: AccountLayout, host: HostName) -> Certificate | None:
    names = (host, f"*.{host.partition('.')[2]}")
    held = [one for one in layout.account.certificates if any(name in names for name in one.covers)]
    return max(held, key=lambda one: str(one.until or ""), default=None)


def _place(layout: AccountLayout, installation: Installation) -> Iterator[SheetLine]:
    settings, folder = layout.account.settings, layout.folder_of(installation)
    yield SheetLine("account", layout.name, is_internal=True)
    yield SheetLine("package", settings.package or "", is_internal=True)
    yield SheetLine("home", settings.home or "", is_internal=True)
    yield SheetLine("folder", folder.shown if folder is not None else "", is_internal=True)
    yield SheetLine("surveyed", layout.survey.taken[:10] if layout.survey is not None else "never", is_internal=True)


def _data(layout: AccountLayout, installation: Installation, application: Application) -> Iterator[SheetLine]:
    base = installation.database
    if base is None:
        return
    yield SheetLine("database", printable(base.name), is_internal=True)
    yield SheetLine("server", printable(base.server) or layout.account.settings.database_server, is_internal=True)
    yield SheetLine("table prefix", printable(base.prefix), is_internal=True)
    yield SheetLine("database user", printable(base.user or base.name), is_internal=True)
    title = {entry.purpose: entry.title for entry in password_entries(layout.account, installation, application)}
    yield SheetLine(
        "its password",
        say("sheet/kept-as", title=printable(title["database"])) if "database" in title else "",
        is_internal=True,
    )


def _care(layout: AccountLayout, installation: Installation) -> Iterator[SheetLine]:
    kept = installation.kept_current or layout.plan.settings.kept_current
    copies = installation.copies or layout.plan.settings.copies
    if kept is not None:
        told = [("application", kept.application), ("extensions", kept.extensions), ("themes", kept.themes)]
        words = ", ".join(f"{what} {how}" for what, how in told if how)
        by = kept.by if kept.by_hand else None
        yield SheetLine("updates", say("sheet/updates-by", updates=words, by=printable(by)) if by else words)
    else:
        yield SheetLine("updates", say("sheet/unsaid"))
    if copies is not None:
        yield SheetLine("backups", say("sheet/backups", each=copies.each, keep=copies.keep))
        yield SheetLine("kept at", printable(masked(copies.at)), is_internal=True)
    else:
        yield SheetLine("backups", say("sheet/unsaid"))


def _people(layout: AccountLayout, installation: Installation, application: Application) -> Iterator[SheetLine]:
    yield SheetLine("administrator", printable(installation.admin_user or ""))
    title = next(entry.title for entry in password_entries(layout.account, installation, application))
    yield SheetLine("password", say("sheet/kept-as", title=printable(title)), is_internal=True)
    yield SheetLine(
        "notices go to", printable(", ".join(filter(None, [installation.contact, *installation.also_tell])))
    )
    yield SheetLine("set up by", printable(installation.set_up_by or ""), is_internal=True)
