"""Keeping a plan: what adding, moving and dropping domains, retiring and adopting write into it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct

from kettlepost.core.errors import InputError
from kettlepost.core.layout import LOCAL_HOSTS, AccountLayout
from kettlepost.core.names import Address, Folder, HostName, did_you_mean, printable, quoted
from kettlepost.core.placing.candidates import Placement
from kettlepost.core.placing.ownership import owner_of
from kettlepost.core.placing.scenario import Scenario
from kettlepost.core.placing.weighing import step_to_add, weigh_one
from kettlepost.core.plan import Change, Database, Domain, Installation, table_of
from kettlepost.core.remedies import Do, Remedy, Told
from kettlepost.core.rules.allowances import uses_of
from kettlepost.core.rules.parties import application_words
from kettlepost.core.rules.paths import canonical
from kettlepost.core.rules.ways_out import dropping, setting
from kettlepost.core.steps import DAYS, Sign, Step, StepKind, Subject, SubjectKind, Who
from kettlepost.core.survey import FoundApplication
from kettlepost.core.words import counted, listed

_SHOWN = 20
"""So many addresses that lead elsewhere are named."""


class Proposal(Struct, frozen=True):
    """A change of one account's file, what is to be said of it, and what to do next."""

    account: str
    changes: tuple[Change, ...]
    told: tuple[Told, ...] = ()
    next: tuple[Step, ...] = ()


def add_domain(layout: AccountLayout, domain: Domain) -> Proposal:
    """Declare a domain."""
    told = []
    if domain.root is not None:
        outer = next((above for above in domain.root.above() if above in layout.roots), None)
        main = layout.account.primary
        if outer is None and main is not None and main.root and domain.kind in ("addon", "subdomain"):
            inside = main.root.below(domain.name.words)
            words = (
                f"if the host allows no folder but inside {main.root.shown}, take {inside.shown}: then "
                f"{domain.name} is also reached at {Address(main.name).below(domain.name.words)}, obeys the control "
                f"files of {main.root.shown}, and goes when that is cleared"
            )
            told.append(Told(words, (Remedy(Do.GIVE_ROOT, inside.shown), Remedy(Do.READ_RULE, "nested-root"))))
    pointing = Step(
        StepKind.POINT, Subject(SubjectKind.DNS_RECORD, domain.name), layout.name, Who.REGISTRAR, Sign.POINTS_HERE,
        needs=(Subject(SubjectKind.HOST, domain.name),), wait=DAYS,
    )  # fmt: skip
    adding = [step_to_add(layout.name, domain)] if domain.state == "planned" else []
    change = Change(layout.name, "domain", None, table_of(domain))
    return Proposal(layout.name, (change,), tuple(told), (*adding, pointing))


def find_domain(scenario: Scenario, host: HostName, account: str | None) -> tuple[AccountLayout, Domain]:
    """The declaration of a domain. Raises InputError that names the nearest, or the domain it is another name of."""
    former = [name for name in scenario.former_owners(host) if account in (None, name)]
    is_former = not scenario.owners(host) and len(former) == 1
    layout = scenario.layout(former[0] if is_former else owner_of(scenario, host, account))
    domain = layout.account.declared(host)
    if domain is None:
        owner = layout.hosts[host][0].domain
        raise InputError(
            f"{host} is another name of {owner.name}, declared at {layout.account.place(owner)}; name that"
        )
    return layout, domain


def drop_domain(layout: AccountLayout, domain: Domain) -> Proposal:
    """Take a domain out. Raises InputError while installations answer there."""
    hosts = {
        host
        for hosts in (layout.tree("planned").hosts, layout.tree("now").hosts)
        for host, mounts in hosts.items()
        if any(mount.domain.number == domain.number for mount in mounts)
    }
    there = [
        installation
        for installation in layout.account.installations
        if installation.address.host in hosts and installation.state != "retired"
    ]
    if there:
        told = listed(
            (
                f"{installation.application} at {installation.address} ({layout.account.place(installation)})"
                for installation in there
            ),
            6,
        )
        verb = "answers" if len(there) == 1 else "answer"
        raise InputError(f"{told} still {verb} at {domain.name}; retire or move first what is there")
    folder = layout.real(domain.root) if domain.root is not None else None
    following = [
        Step(
            StepKind.REMOVE, Subject(SubjectKind.HOST, domain.name), layout.name, Who.HOST, Sign.HOST_GONE, domain.root
        )
    ]
    if folder is not None and layout.contents is not None and layout.contents.exists(folder):
        files = layout.contents.totals(folder).files
        subject = Subject(SubjectKind.FOLDER, folder.shown)
        following.append(Step(StepKind.LEAVE, subject, layout.name, Who.FILES, Sign.THERE, folder, count=files))
    return Proposal(layout.name, (dropping(layout, domain),), (), tuple(following))


def move_root(layout: AccountLayout, domain: Domain, root: Folder) -> Proposal:
    """Give a domain another root. Raises InputError when it has none of its own."""
    if not domain.claims_root:
        raise InputError(f"{domain.name} has no root of its own ({layout.account.place(domain)})")
    if domain.root == root:
        raise InputError(f"{domain.name} leads to {root.shown} already ({layout.account.place(domain)})")
    subject = Subject(SubjectKind.HOST, domain.name)
    moving = Step(StepKind.CHANGE, subject, layout.name, Who.HOST, Sign.HOST_THERE, root)
    return Proposal(layout.name, (setting(layout, domain, root=str(root)),), (), (moving,))


def changed_meanings(before: AccountLayout, after: AccountLayout) -> list[str]:
    """Which addresses of an account lead to another folder than before."""
    addresses = dict.fromkeys(
        [mount.address for mounts in before.hosts.values() for mount in mounts]
        + [installation.address for installation in before.account.installations]
    )
    moved = [
        f"{address}: {_shown(was)} -> {_shown(now)}"
        for address in addresses
        for was, now in [(before.reach(address), after.reach(address))]
        if was != now
    ]
    more = [f"and {len(moved) - _SHOWN:,} more"] if len(moved) > _SHOWN else []
    return moved[:_SHOWN] + more


def find_installation(scenario: Scenario, address: Address, account: str | None) -> tuple[AccountLayout, Installation]:
    """The installation at an address that is not retired. Raises InputError that names the nearest."""
    layout = scenario.layout(owner_of(scenario, address.host, account))
    key = canonical(layout, address)
    there = [
        installation for installation in layout.account.installations if canonical(layout, installation.address) == key
    ]
    active = [installation for installation in there if installation.state != "retired"]
    if len(active) > 1:
        places = listed(f"{installation.application} ({layout.account.place(installation)})" for installation in active)
        raise InputError(f"{counted(len(active), 'installation')} are at {address}: {places}; edit the file")
    if not active:
        if there:
            raise InputError(
                f"{there[0].application} at {address} is retired already ({layout.account.place(there[0])})"
            )
        near = did_you_mean(str(address), [str(installation.address) for installation in layout.account.installations])
        raise InputError(f"nothing is installed at {address}{near}")
    return layout, active[0]


def retire(layout: AccountLayout, installation: Installation) -> Proposal:
    """Mark an installation as retired, and say what of it remains."""
    remains = list(_remains(layout, installation))
    again = Step(
        StepKind.SURVEY, Subject(SubjectKind.ACCOUNT, layout.name), layout.name, Who.PLAN, Sign.GONE,
        needs=(Subject(SubjectKind.INSTALLATION, str(installation.address)),), what="retired",
    )  # fmt: skip
    return Proposal(
        layout.name,
        (setting(layout, installation, state="retired"),),
        tuple(Told(f"remains: {words}") for words in remains),
        (again,) if remains else (),
    )  # fmt: skip


def adopt(layout: AccountLayout) -> Proposal:
    """Put what the survey found and the plan does not know into the plan, as it was found.

    Raises InputError when there is no survey, or nothing to adopt.
    """
    if layout.contents is None:
        raise InputError(f"{layout.name} was not surveyed yet", Remedy(Do.TAKE_SURVEY, layout.name))
    told: list[str] = []
    changes = []
    for found in layout.contents.survey.applications:
        if layout.placed.get(found.folder):
            continue
        words = f"{application_words(layout, found)} in {found.folder.shown}"
        addresses = list(_addresses(layout, found.folder))
        why_not = _why_not(layout, found, addresses)
        if why_not:
            told.append(f"left out: {words}: {why_not}")
            continue
        others = f", also reached at {listed(map(str, addresses[1:]), 3)}" if addresses[1:] else ""
        told.append(f"adopted: {words}, at {addresses[0]}{others}")
        changes.append(Change(layout.name, "installation", None, table_of(_adopted(layout, found, addresses[0]))))
    if not changes:
        raise InputError("\n".join(["nothing was found that the plan does not know and could hold", *told]))
    subject = Subject(SubjectKind.ACCOUNT, layout.name)
    keepers = Step(StepKind.WRITE_DOWN, subject, layout.name, Who.PLAN, Sign.WRITTEN, what="admin_user and contact")
    return Proposal(layout.name, tuple(changes), tuple(map(Told, told)), (keepers,))


def _remains(layout: AccountLayout, installation: Installation) -> Iterator[str]:
    """What is left of an installation once nobody uses it: files, tables, allowances."""
    folder = layout.folder_of(installation)
    if folder is not None and layout.contents is not None and layout.contents.exists(folder):
        totals = layout.contents.totals(folder)
        yield f"{counted(totals.files, 'file')} in {folder.shown}, {totals.bytes:,} bytes"
    elif folder is not None and layout.contents is None:
        yield f"whatever lies in {folder.shown}, which was not surveyed yet"
    base = installation.database
    if base is not None:
        others = [
            user.shown
            for user in layout.tables.users
            if user.name == base.name and (user.installation is None or user.installation.number != installation.number)
        ]
        shared = f", which {listed(others, 3)} {'uses' if len(others) == 1 else 'use'} too" if others else ""
        prefix = f"the tables that begin with {base.prefix}" if base.prefix else "the tables"
        yield f"{prefix} in the database {base.name}{shared}"
    for use in uses_of(layout):
        if use.key == "installations" or (use.key == "databases" and base is not None):
            yield f"at the host it counts until it is removed there: {use.total:,} of {use.allowed:,} {use.name} now"


def _addresses(layout: AccountLayout, folder: Folder) -> Iterator[Address]:
    """The addresses of a folder, those of domains with a root of their own first."""
    found = layout.addresses_of(folder)

    def stands_in(address: Address) -> bool:
        mount = layout.hosts.mount(address)
        return mount is None or not mount.domain.claims_root or mount.address.host != mount.domain.name

    yield from sorted(found, key=lambda address: (stands_in(address), address.path.count("/") if address.path else -1))


def _why_not(layout: AccountLayout, found: FoundApplication, addresses: Sequence[Address]) -> str | None:
    if found.condition:
        return "it is not in use"
    if not addresses:
        return "no address leads there"
    if found.application not in layout.plan.applications:
        return f"{quoted(found.application)} is neither in the catalogue nor in kettlepost.toml any more"
    return None


def _adopted(layout: AccountLayout, found: FoundApplication, address: Address) -> Installation:
    base = found.database
    given: dict[str, Any] = {"version": printable(found.version) or None}
    if base is not None and base.name:
        server = base.host if base.host not in LOCAL_HOSTS else ""
        given["database"] = Database(
            printable(base.name), printable(base.prefix), printable(base.user) or None, printable(server)
        )
    if layout.reach(address) != found.folder:
        given["folder"] = found.folder
    return Installation(found.application, address, **given)


def _shown(folder: Folder | None) -> str:
    return folder.shown if folder is not None else "nothing"


def placed(scenario: Scenario, place: Placement) -> Proposal:
    """Enter an installation at a place, with the domain it needs."""
    weighed = weigh_one(scenario, place)
    tables: list[tuple[str, Domain | Installation]] = [("domain", record) for record in place.addition.domains]
    tables += [("installation", record) for record in place.addition.installations]
    changes = tuple(Change(place.account, table, None, table_of(record)) for table, record in tables)
    told = (
        f"{place.installation.application} at {place.address} in {place.folder.shown}, account {place.account}",
        f"there now: {weighed.there}",
        f"takes {', '.join(use.words for use in weighed.uses)}",
    )
    subject = Subject(SubjectKind.ACCOUNT, place.account)
    checking = Step(StepKind.CHECK, subject, place.account, Who.PLAN, Sign.NOTHING_STOPS)
    return Proposal(place.account, changes, tuple(map(Told, told)), (*weighed.steps, checking))
