"""Rules about who gets in, who is told, and what an address needs before it can be used."""

from __future__ import annotations

import zlib
from collections import Counter, defaultdict
from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import HostName, InvalidName, quoted
from kettlepost.core.plan import Domain, Installation
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.parties import domain_party, installation_party
from kettlepost.core.rules.paths import canonical
from kettlepost.core.rules.registry import account_rule
from kettlepost.core.rules.ways_out import MANY, setting
from kettlepost.core.words import listed

_GUESSABLE = frozenset(("admin", "administrator", "root", "webmaster", "test", "user", "manager", "owner", "demo"))
_WORDS = ("larch", "tiller", "gable", "fennel", "copse", "bramble", "sluice", "thatch", "heron", "quarry", "sorrel",
          "barley", "pebble", "weir", "linnet", "mallow")  # fmt: skip


@account_rule("risk")
def guessable_admin(here: AccountLayout) -> Iterator[Finding]:
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
    for one in here.account.installations:
        name = (one.admin_user or "").lower()
        if not name or one.state == "retired" or not _is_guessed(here, one, name):
            continue
        other = name_for(one)
        where = f"at {here.account.place(one, 'admin_user')}" + (
            " and in the application" if one.state == "live" else ""
        )
        yield Finding(
            at=str(one.address),
            title=f"the administrator of {one.application} at {one.address} is called {quoted(one.admin_user or '')}",
            why="everybody guesses that name first, so only the password is left to find",
            parties=[installation_party(here.account, one, "admin_user")],
            ways_out=[
                WayOut(f'write a name that says nothing, such as admin_user = "{other}", {where}',
                    [setting(here, one, admin_user=other)])
            ],
            account=here.name,
        )  # fmt: skip


@account_rule("note")
def no_contact(here: AccountLayout) -> Iterator[Finding]:
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
    for one in here.account.installations:
        if one.state != "planned" or one.contact:
            continue
        usual = usual_contact(here)
        words = "write contact = an address that somebody reads"
        words = f'write contact = "{usual}" as elsewhere in this account' if usual else words
        yield Finding(
            at=str(one.address),
            title=f"{one.application} at {one.address} has no contact",
            why="the installer's notice with the login, and every later warning, reaches nobody",
            parties=[installation_party(here.account, one)],
            ways_out=[WayOut(words, [setting(here, one, contact=usual)] if usual else [])],
            account=here.name,
        )


@account_rule("risk")
def contact_not_reached(here: AccountLayout) -> Iterator[Finding]:
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
    for one in here.account.installations:
        domain = _mail_domain(here, one)
        if domain is None or domain.points_here or one.state != "planned":
            continue
        usual = usual_contact(here)
        ways = [WayOut(f"point {domain.name} here first, and then install")]
        if usual:
            ways.insert(0, WayOut(f'write contact = "{usual}" until it does', [setting(here, one, contact=usual)]))
        yield Finding(
            at=str(one.address),
            title=f"mail to {one.contact}, the contact of {one.application} at {one.address}, cannot arrive yet",
            why=f"{domain.name} does not point here, so the notice with the login is lost",
            parties=[
                installation_party(here.account, one, "contact"),
                domain_party(here.account, domain, "points_here"),
            ],
            ways_out=ways,
            account=here.name,
        )


@account_rule("risk")
def not_pointing(here: AccountLayout) -> Iterator[Finding]:
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

    - point the domain here first, wait until it does, and take out points_here = false;
    - install by way of a temporary address, and move to the domain later.
    """
    planned: dict[int, tuple[Domain, list[Installation]]] = {}
    for one in here.account.installations:
        mount = here.hosts.mount(one.address) if one.state == "planned" else None
        if mount is not None and not mount.domain.points_here:
            planned.setdefault(mount.domain.number, (mount.domain, []))[1].append(one)
    for domain, there in planned.values():
        yield Finding(
            at=str(domain.name),
            title=f"{domain.name} does not point here, and "
            f"{listed((one.application for one in there), 4)} {'is' if len(there) == 1 else 'are'} planned at it",
            why="an installer that calls its own address reaches another server, and no certificate can be had",
            parties=[domain_party(here.account, domain, "points_here")]
            + [installation_party(here.account, one) for one in there],
            ways_out=[
                WayOut(f"point {domain.name} here, wait until it does, and take out points_here = false"),
                WayOut("install at a temporary address, and move to the domain later"),
            ],
            account=here.name,
        )


@account_rule("risk")
def no_certificate(here: AccountLayout) -> Iterator[Finding]:
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
    if not any(domain.https for domain in here.account.domains):
        return
    covered = {name for certificate in here.account.certificates for name in certificate.covers}
    uncovered: dict[int, list[HostName]] = defaultdict(list)
    for host, mounts in here.hosts.items():
        if host not in covered and f"*.{host.partition('.')[2]}" not in covered:
            for wanted in {mount.domain.number for mount in mounts if mount.alias is None}:
                uncovered[wanted].append(host)
    for domain in here.account.domains:
        bare = uncovered.get(domain.number)
        if not domain.https or not bare:
            continue
        yield Finding(
            at=str(domain.name),
            title=f"{listed(bare, 4)} {'is' if len(bare) == 1 else 'are'} to be reached by https, "
            f"and no certificate covers {'it' if len(bare) == 1 else 'them'}",
            why="browsers show a warning instead of the site",
            parties=[domain_party(here.account, domain, "https")],
            ways_out=[
                WayOut(f"get a certificate that covers {listed(bare, MANY)}, and write it down: "
                    f"[[certificate]] covers = [{', '.join(quoted(host) for host in bare[:MANY])}]"),
            ],
            account=here.name,
        )  # fmt: skip


@account_rule("risk")
def licence_bound(here: AccountLayout) -> Iterator[Finding]:
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
    for one in here.account.installations:
        if one.licensed_to is None or one.state == "retired":
            continue
        if canonical(here, one.licensed_to) == canonical(here, one.address):
            continue
        words = f'have the licence issued for {one.address}, then write licensed_to = "{one.address}"'
        yield Finding(
            at=str(one.address),
            title=f"{one.application} at {one.address} is licensed to {one.licensed_to}",
            why="at the new address it stops, or shows visitors a notice",
            parties=[installation_party(here.account, one, "licensed_to")],
            ways_out=[WayOut(words, [setting(here, one, licensed_to=str(one.address))])],
            account=here.name,
        )


def _is_guessed(here: AccountLayout, one: Installation, name: str) -> bool:
    host = one.address.host
    if name in _GUESSABLE or name in (host, host.replace(".", ""), one.application, here.name):
        return True
    return (name in host and name in host.labels[:-1]) or name == here.application(one).shown.lower()


def name_for(one: Installation) -> str:
    """A name that says nothing, the same for the same address."""
    seed = zlib.crc32(str(one.address).encode("utf-8", "surrogateescape"))
    first, second = _WORDS[seed % len(_WORDS)], _WORDS[seed // 16 % len(_WORDS)]
    return f"{first}-{second}{seed // 256 % 90 + 10}"


def _mail_domain(here: AccountLayout, one: Installation) -> Domain | None:
    """The domain of this account that an installation's contact gets mail by."""
    host = (one.contact or "").rpartition("@")[2]
    try:
        name: HostName | None = HostName.parse(host) if host else None
    except InvalidName:
        return None
    mount = here.hosts.get(name, [None])[0] if name is not None else None
    return mount.domain if mount is not None else None


def usual_contact(here: AccountLayout) -> str | None:
    """The contact that most installations of the account have, of those that mail reaches."""
    contacts: Counter[str] = Counter()
    for one in here.account.installations:
        domain = _mail_domain(here, one)
        if one.contact and (domain is None or domain.points_here):
            contacts[one.contact] += 1
    return contacts.most_common(1)[0][0] if contacts else None
