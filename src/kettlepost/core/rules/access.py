"""Rules about who gets in, who is told, and what an address needs before it can be used."""

from __future__ import annotations

import zlib
from collections import Counter, defaultdict
from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import joined, say
from kettlepost.core.names import HostName, InvalidName, quoted
from kettlepost.core.plan import Change, Domain, Installation
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.parties import domain_party, installation_party, named
from kettlepost.core.rules.paths import canonical
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import MANY, completing, setting
from kettlepost.core.steps import DAYS, AwaitName, BindLicence, GetCertificate, PointName, Step

_GUESSABLE = frozenset(("admin", "administrator", "root", "webmaster", "test", "user", "manager", "owner", "demo"))
_WORDS = ("larch", "tiller", "gable", "fennel", "copse", "bramble", "sluice", "thatch", "heron", "quarry", "sorrel",
          "barley", "pebble", "weir", "linnet", "mallow")  # fmt: skip


@account_rule("guessable-admin", "risk", reaches=RuleReach.NONE)
def guessable_admin(layout: AccountLayout) -> Iterator[Finding]:
    """An administrator's name is one that everybody guesses.

    Programs try passwords for admin, administrator, root, webmaster, test, and for the names
    of the domain and the application, all day. With the name known, half of the lock is open.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        admin_user = "admin"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        admin_user = "platelayer"

    Ways out:

    - choose a name that says nothing of site or software;
    - where it is live, make a second administrator and remove the first.
    """
    for installation in layout.account.installations:
        name = (installation.admin_user or "").lower()
        if not name or installation.state == "retired" or not _is_guessed(layout, installation, name):
            continue
        other = name_for(installation)
        where = joined(
            say("guessable-admin/where", place=layout.account.place(installation, "admin_user")),
            say("guessable-admin/application") if installation.state == "live" else None,
        )
        yield Finding(
            at=str(installation.address),
            title=say(
                "guessable-admin/title",
                **named(installation),
                name=quoted(installation.admin_user or "")
            ),
            why=say("guessable-admin/why"),
            parties=[installation_party(layout.account, installation, "admin_user")],
            ways_out=[
                WayOut(say("guessable-admin/write-name-says", other=other, where=where),
                    [setting(layout, installation, admin_user=other)])
            ],
        )  # fmt: skip


@account_rule("no-contact", "note", reaches=RuleReach.NONE)
def no_contact(layout: AccountLayout) -> Iterator[Finding]:
    """A planned installation has no contact address.

    Notices of the installer, new passwords and update warnings go nowhere, or to whoever wrote
    the form last.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"
        contact = "webkeeper@millbrookrail.example"

    Ways out:

    - write a contact that somebody reads.
    """
    bare = [one for one in layout.account.installations if one.state == "planned" and not one.contact]
    usual = usual_contact(layout) if bare else None
    for installation in bare:
        words = say("no-contact/write-contact-address")
        words = say("no-contact/write-contact-elsewhere", usual=usual) if usual else words
        yield Finding(
            at=str(installation.address),
            title=say("no-contact/title", **named(installation)),
            why=say("no-contact/why"),
            parties=[installation_party(layout.account, installation)],
            ways_out=[
                WayOut(words, [setting(layout, installation, contact=usual)])
                if usual
                else WayOut(words, steps=[completing(layout, installation, "contact")])
            ],
        )


@account_rule("contact-not-reached", "risk", reaches=RuleReach.HOST)
def contact_not_reached(layout: AccountLayout) -> Iterator[Finding]:
    """Mail to a planned installation's contact cannot arrive yet: its domain does not point here.

    The notice with the login goes to where the domain points now, or is lost, and nobody can
    log in to what was just installed.

    Bad:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "choir"
        points_here = false

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"
        state = "planned"
        contact = "news@lanternchoir.example"

    Good:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "choir"
        points_here = false

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"
        state = "planned"
        contact = "news@millbrookrail.example"

    Ways out:

    - write a contact at a domain that is reached already;
    - point the domain here first.
    """
    for installation in layout.account.installations:
        domain = _mail_domain(layout, installation)
        if domain is None or layout.points_here(domain) or installation.state != "planned":
            continue
        usual = usual_contact(layout)
        ways = [WayOut(say("contact-not-reached/point-here-first", domain=domain.name), steps=_pointed(layout, domain))]
        if usual:
            ways.insert(
                0,
                WayOut(
                    say("contact-not-reached/write-contact-until", usual=usual),
                    [setting(layout, installation, contact=usual)],
                ),
            )
        yield Finding(
            at=str(installation.address),
            title=say("contact-not-reached/title", contact=installation.contact, **named(installation)),
            why=say("contact-not-reached/why", domain=domain.name),
            parties=[
                installation_party(layout.account, installation, "contact"),
                domain_party(layout.account, domain, "points_here"),
            ],
            ways_out=ways,
        )


@account_rule("not-pointing", "risk", reaches=RuleReach.HOST)
def not_pointing(layout: AccountLayout) -> Iterator[Finding]:
    """Something is planned at a domain whose name servers lead elsewhere.

    An installer that calls its own address reaches the other site, a certificate cannot be had,
    and nobody can try the result out except by way of a temporary address.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        points_here = false

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"

    Ways out:

    - point the domain here first, wait until it does, and write points_here = true;
    - install by way of a temporary address, and move to the domain later.
    """
    planned: dict[int, tuple[Domain, list[Installation]]] = {}
    for installation in layout.account.installations:
        mount = layout.hosts.mount(installation.address) if installation.state == "planned" else None
        if mount is not None and not layout.points_here(mount.domain):
            planned.setdefault(mount.domain.number, (mount.domain, []))[1].append(installation)
    for domain, there in planned.values():
        yield Finding(
            at=str(domain.name),
            title=say(
                "not-pointing/title",
                domain=domain.name,
                applications=(installation.application for installation in there),
                there=there,
            ),
            why=say("not-pointing/why"),
            parties=[domain_party(layout.account, domain, "points_here")]
            + [installation_party(layout.account, installation) for installation in there],
            ways_out=[
                WayOut(
                    say("not-pointing/point-here-wait", domain=domain.name),
                    [setting(layout, domain, points_here=True)],
                    steps=_pointed(layout, domain),
                ),
                WayOut(
                    say("not-pointing/install-temporary-address"),
                    steps=[completing(layout, installation, "address") for installation in there],
                ),
            ],
        )


@account_rule("no-certificate", "risk", reaches=RuleReach.NONE)
def no_certificate(layout: AccountLayout) -> Iterator[Finding]:
    """A domain is to be reached by https, and no certificate covers one of its names.

    Browsers show a warning instead of the site. A wildcard certificate covers one label: the
    one for `*.millbrookrail.example` neither the bare name nor `a.b.millbrookrail.example`.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        https = true

        [[certificate]]
        covers = ["*.millbrookrail.example"]

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        https = true

        [[certificate]]
        covers = ["millbrookrail.example", "*.millbrookrail.example"]

    Ways out:

    - get a certificate for the names that are missing, and write it down as [[certificate]].
    """
    if not any(domain.https for domain in layout.account.domains):
        return
    uncovered: dict[int, list[HostName]] = defaultdict(list)
    for host, mounts in layout.hosts.items():
        if layout.has_certificate(host) is False:
            for wanted in {mount.domain.number for mount in mounts if mount.alias is None}:
                uncovered[wanted].append(host)
    for domain in layout.account.domains:
        bare = uncovered.get(domain.number)
        if not domain.https or not bare:
            continue
        yield Finding(
            at=str(domain.name),
            title=say("no-certificate/title", bare=bare),
            why=say("no-certificate/why"),
            parties=[domain_party(layout.account, domain, "https")],
            ways_out=[
                WayOut(
                    say(
                        "no-certificate/get-certificate-covers",
                        bare=bare,
                        quoted=", ".join(quoted(host) for host in bare[:MANY]),
                    ),
                    [Change(layout.name, "certificate", None, {"covers": [str(host) for host in bare]})],
                    steps=[GetCertificate(layout.name, bare[0], tuple(map(str, bare)), is_undeclared=True)],
                ),
            ],
        )


@account_rule("licence-bound", "risk", reaches=RuleReach.NONE)
def licence_bound(layout: AccountLayout) -> Iterator[Finding]:
    """An application is licensed to another address than the plan gives it.

    After the move it stops, shows a notice to visitors, or falls back to a trial.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"
        licensed_to = "millbrookrail.example/new"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"
        licensed_to = "millbrookrail.example/shop"

    Ways out:

    - have the licence issued for the new address before the move, and write that down.
    """
    for installation in layout.account.installations:
        if installation.licensed_to is None or installation.state == "retired":
            continue
        if canonical(layout, installation.licensed_to) == canonical(layout, installation.address):
            continue
        words = say("licence-bound/licence-issued-write", address=installation.address)
        yield Finding(
            at=str(installation.address),
            title=say("licence-bound/title", **named(installation), licensed_to=installation.licensed_to),
            why=say("licence-bound/why"),
            parties=[installation_party(layout.account, installation, "licensed_to")],
            ways_out=[
                WayOut(
                    words,
                    [setting(layout, installation, licensed_to=str(installation.address))],
                    steps=[BindLicence(layout.name, str(installation.address), str(installation.licensed_to))],
                )
            ],
        )


def _pointed(layout: AccountLayout, domain: Domain) -> list[Step]:
    return [PointName(layout.name, domain.name), AwaitName(layout.name, domain.name, DAYS, is_told_away=True)]


def _is_guessed(layout: AccountLayout, installation: Installation, name: str) -> bool:
    host = installation.address.host
    if name in _GUESSABLE or name in (host, host.replace(".", ""), installation.application, layout.name):
        return True
    return (name in host and name in host.labels[:-1]) or name == layout.application(installation).shown.lower()


def name_for(installation: Installation) -> str:
    """A name that says nothing, the same for the same address."""
    seed = zlib.crc32(str(installation.address).encode("utf-8", "surrogateescape"))
    first, second = _WORDS[seed % len(_WORDS)], _WORDS[seed // 16 % len(_WORDS)]
    return f"{first}-{second}{seed // 256 % 90 + 10}"


def _mail_domain(layout: AccountLayout, installation: Installation) -> Domain | None:
    """The domain of this account that an installation's contact gets mail by."""
    host = (installation.contact or "").rpartition("@")[2]
    try:
        name: HostName | None = HostName.parse(host) if host else None
    except InvalidName:
        return None
    mount = layout.hosts.get(name, [None])[0] if name is not None else None
    return mount.domain if mount is not None else None


def usual_contact(layout: AccountLayout) -> str | None:
    """The contact that most installations of the account have, of those that mail reaches."""
    contacts: Counter[str] = Counter()
    for installation in layout.account.installations:
        if installation.contact:
            domain = _mail_domain(layout, installation)
            contacts[installation.contact] += domain is None or layout.points_here(domain)
    contacts = +contacts
    return contacts.most_common(1)[0][0] if contacts else None
