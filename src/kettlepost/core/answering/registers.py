"""The registers people keep in a spreadsheet: every domain, and every installation."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from msgspec import Struct

from kettlepost.core.answering.answers import answer_at, program_at
from kettlepost.core.answering.wording import answer_words
from kettlepost.core.layout import AccountLayout, Mount, PlanLayout
from kettlepost.core.messages import Words, say
from kettlepost.core.names import printable
from kettlepost.core.plan import Domain, Installation
from kettlepost.core.survey import name_words, page_words


class DomainRow(Struct):
    """One domain of an account: where it leads, what is there now, and where it is written.

    `leads_to` is a folder, or the address that visitors are sent on to.
    """

    domain: str
    account: str
    kind: str
    state: str
    leads_to: Words
    also: str
    https: bool
    points_here: bool
    installations: int
    now: Words
    written: str
    seen: Words = ""


class InstallRow(Struct):
    """One installation: what the plan says of it, and the version that the survey found.

    `today` is where it answers while it is to move.
    """

    address: str
    account: str
    folder: str
    application: str
    version: str
    state: str
    database: str
    prefix: str
    admin: str
    contact: str
    findings: int
    written: str
    seen: Words = ""
    today: str = ""


class AccountRow(Struct):
    """One account: whose it is, what it holds, of what its package allows where that is limited, and its survey.

    `addon`, `subdomains`, `databases` and `installations` are such as `3 of 5`, or the number alone.
    """

    account: str
    client: str
    package: str
    domains: int
    addon: str
    subdomains: str
    databases: str
    installations: str
    planned: int
    surveyed: str


def account_row(layout: AccountLayout, used: dict[str, str]) -> AccountRow:
    """An account in one row; `used` tells what is used of each allowance. What is retired does not count."""
    account = layout.account
    standing = [entry for entry in account.installations if entry.state != "retired"]
    return AccountRow(
        account.name,
        printable(account.settings.client or ""),
        account.settings.package or "",
        sum(domain.state != "retired" for domain in account.domains),
        used["addon_domains"],
        used["subdomains"],
        used["databases"],
        used["installations"],
        sum(entry.state == "planned" for entry in standing),
        layout.survey.taken[:10] if layout.survey is not None else "",
    )


def _uses(layout: AccountLayout) -> Counter[int]:
    """How many installations that are not retired there are at each domain, by its number."""
    standing = (one for one in layout.account.installations if one.state != "retired")
    mounts = (layout.hosts.mount(installation.address) for installation in standing)
    return Counter(mount.domain.number for mount in mounts if mount is not None)


def domain_rows(layouts: PlanLayout, layout: AccountLayout) -> Iterator[DomainRow]:
    """Every domain of an account, in the order of the plan."""
    uses = _uses(layout)
    today = layout.tree("now").hosts
    mounts: dict[int, Mount] = {}
    others: dict[int, list[str]] = {}
    for hosts in (layout.hosts, today) if today is not layout.hosts else (layout.hosts,):
        for host, there in hosts.items():
            for known in there:
                number, name = known.domain.number, known.domain.name
                if known.alias is None and (known.folder is not None or number not in mounts):
                    mounts[number] = known  # as it is now, where that differs
                if host != name and host not in others.setdefault(number, []):
                    others[number].append(host)
    for domain in layout.account.domains:
        now: Words
        mount, now, also = mounts.get(domain.number), "", ", ".join(others.get(domain.number, ()))
        if domain.state == "planned":
            now = say("now/nothing-yet")
        elif mount is not None and mount.folder is not None and layout.contents is not None:
            now = answer_words(answer_at(layouts.folder_state(layout.name, "now"), mount), in_full=False)
        yield DomainRow(
            domain.name, layout.name, domain.kind, domain.state, _leads_to(mount), also,
            domain.https, layout.points_here(domain), uses[domain.number], now, str(layout.account.place(domain)),
            _seen_of(layout, domain),
        )  # fmt: skip


def install_rows(layout: AccountLayout, findings: dict[int, int]) -> Iterator[InstallRow]:
    """Every installation of an account, in the order of the plan; `findings` counts them by its place there."""
    for number, installation in enumerate(layout.account.installations):
        folder = layout.folder_of(installation)
        found = layout.contents.applications.get(folder) if layout.contents is not None and folder is not None else None
        version = (
            printable(found.version) if found is not None and found.application == installation.application else ""
        )
        version = version or printable(installation.version or "")
        lies = folder.shown if folder is not None else ""
        base, prefix = (
            (installation.database.name, installation.database.prefix)
            if installation.database is not None
            else ("", "")
        )
        yield InstallRow(
            str(installation.address), layout.name, lies, installation.application, version, installation.state, base,
            prefix, _admin(layout, installation),
            installation.contact or "", findings.get(number, 0), str(layout.account.place(installation)),
            _seen_at(layout, installation),
            str(installation.address_now) if installation.address_now is not None else "",
        )  # fmt: skip


def _seen_of(layout: AccountLayout, domain: Domain) -> Words:
    """What the world showed of a domain: what its name leads to, its certificate, and when."""
    there = layout.world.at.get(domain.name) if layout.world is not None else None
    if there is None or not there.names:
        return ""
    name, served = there.names[0], layout.served_certificate(domain.name)
    until = say("register/certificate", until=served.until) if served is not None else None
    return say("register/seen", name=name_words(name), certificate=until, day=name.seen[:10])


def _seen_at(layout: AccountLayout, installation: Installation) -> Words:
    """What the address of an installation showed, and when: by https where it answers so."""
    found = layout.seen_page(installation.address)
    return (
        say("register/shown", page=page_words(found, layout.plan.titles), day=found.seen[:10])
        if found is not None
        else ""
    )


def _leads_to(mount: Mount | None) -> Words:
    """The folder a domain leads to, or where it sends visitors."""
    program = program_at(mount) if mount is not None else None
    if program is not None:
        return say("answer/program-at", program=program)
    if mount is None or (mount.folder is None and mount.goes is None):
        return "nowhere"
    return mount.folder.shown if mount.folder is not None else f"-> {mount.goes}"


def _admin(layout: AccountLayout, installation: Installation) -> str:
    """The address at which an installation is looked after, where the catalogue knows it."""
    path = layout.application(installation).admin
    path, mark, query = (path or "").partition("?")
    return f"{installation.address.below(path)}{mark}{query}" if path or query else ""
