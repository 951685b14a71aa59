"""A domain that goes from one account to another, with all that is installed at it: what is written in both."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import Hint, Message, MessageError, Words, say
from kettlepost.core.names import Folder, HostName, printable
from kettlepost.core.placing.ownership import owner_of
from kettlepost.core.placing.proposals import Proposal
from kettlepost.core.plan import Change, Database, Domain, Installation, table_of
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.bringing import (
    Brought,
    BroughtFolder,
    aliases_with,
    controls_around,
    hosts_line,
    names_of,
    old_root,
    sites_at,
    tables_of,
    unknown_inside,
)
from kettlepost.core.rules.bringing import brought as brought_here
from kettlepost.core.rules.tables_apart import free_database
from kettlepost.core.rules.ways_out import dropping, free_root, setting
from kettlepost.core.trying import Scenario
from kettlepost.core.words import listed

_ALIKE = {"mysql": "mysql", "mariadb": "mysql"}
"""Database servers between which tables can be brought."""


class AccountMove(Struct, frozen=True):
    """A domain that is to go from one account to another, and what that brings.

    `does` is what is done, `minds` what may break, `looks` where it can be looked at before visitors see it, `down` for
    how long nobody sees it, `back` how one comes back; `here` and `there` are what is written in the new account and in
    the old one.
    """

    host: HostName
    other: str
    account: str
    root: Folder | None
    folders: tuple[BroughtFolder, ...]
    sites: tuple[Installation, ...]
    is_same_machine: bool
    does: tuple[Words, ...]
    minds: tuple[Words, ...]
    looks: tuple[Words, ...]
    down: Words
    back: Words
    here: tuple[Change, ...]
    there: tuple[Change, ...]


def account_move(scenario: Scenario, host: HostName, to: str, account: str | None = None) -> AccountMove:
    """What it takes to bring a domain to the account `to`, with what is installed at it, and its aliases.

    Raises InputError for what is not live, or on its way already, and where it is not known what would come along.
    """
    if to not in scenario.summaries:
        raise InputError(f"{printable(to)} is no account of the plan", Remedy.of(Action.ADD_ACCOUNT, to))
    other, here = scenario.layout(owner_of(scenario, host, account)), scenario.layout(to)
    domain = other.account.named.get(host)
    if domain is None:
        owner = other.hosts[host][0].domain
        raise InputError(f"{host} is another name of {owner.name}: bring that")
    _see_it_can_go(other, here, domain)
    aliases = other.aliases_of.get(domain.name, [])
    sites = sites_at(other, domain)
    strays = [str(one.address) for alias in aliases for one in sites_at(other, alias)]
    if strays:
        raise InputError(
            f"{listed(strays, 4)} is written down at an alias of {host}: give it its address at {host} first"
        )
    _see_its_sites_can_go(other, here, sites)
    new = _as_here(here, domain)
    planned = [*_installations(here, other, sites)]
    grown = here.account.with_more([new, *(_as_here(here, one) for one in aliases)], planned)
    comes = brought_here(here.changed(grown, here.plan), grown.named[new.name], other)
    if comes is None or comes.is_same_machine is None:
        raise InputError(f"{host} cannot be brought")
    strange = unknown_inside(other, [*comes.folders], sites)
    if strange:
        where = listed([one.shown for one in strange], 4)
        what = f"{where} of {other.name} would come along, and nothing of the plan is live there"
        raise InputError(what, Remedy.of(Action.ADOPT, other.name))
    if any(not one.folder or not one.to for one in comes.folders):
        raise InputError(
            "the home of an account with all that lies in it is no site: nothing is copied from or to there"
        )
    return AccountMove(
        host, other.name, here.name, new.root, comes.folders, tuple(planned), comes.is_same_machine,
        tuple(_does(here, comes, planned)), tuple(_minds(here, other, domain, comes.folders)),
        () if comes.is_same_machine else (say("bring/look", line=hosts_line(here, comes)),),
        say("bring/down-one-machine" if comes.is_same_machine else "bring/down"),
        say("bring/back-one-machine" if comes.is_same_machine else "bring/back"),
        tuple(_written_here(here, other, [domain, *aliases], planned)),
        tuple(setting(other, one, account_next=here.name) for one in (domain, *aliases)),
    )  # fmt: skip


def move_to_account(scenario: Scenario, found: AccountMove) -> list[Proposal]:
    """What is written in both accounts."""
    other = scenario.layout(found.other)
    slug = "bring/brings" if found.root is not None else "bring/brings-name"
    told = [Hint(say(slug, host=found.host, other=found.other, account=found.account, root=found.root))]
    below = [one.name for one in other.account.named.values() if one.name.endswith(f".{found.host}")]
    if below:
        told.append(Hint(say("bring/stays-with", hosts=below, other=found.other)))
    told.append(Hint(say("bring/then"), (Remedy.of(Action.LIST_WORK, str(found.host)),)))
    return [Proposal(found.other, found.there), Proposal(found.account, found.here, tuple(told))]


def _see_it_can_go(other: AccountLayout, here: AccountLayout, domain: Domain) -> None:
    """Raises InputError where a domain cannot be brought to an account, with the reason."""
    why_not = next(_reasons(other, here, domain), None)
    if why_not is not None:
        raise MessageError(f"{domain.name} cannot come to {here.name}", why_not)
    for layout in (other, here):
        if not layout.account.settings.ip_addresses:
            raise InputError(
                f"nobody has said which machine {layout.name} is on: write ip_addresses into its [account], as on one "
                "machine other things are to be done than on two"
            )
    if other.contents is None:
        words = f"{other.name} was not surveyed yet, so it is not known what would come along"
        raise InputError(words, other.surveying)


def _reasons(other: AccountLayout, here: AccountLayout, domain: Domain) -> Iterator[Message]:
    """Why a domain is none that can be brought."""
    if other.name == here.name:
        yield say("bring/is-there")
    if domain.account_next is not None:
        yield say("bring/on-its-way", other=printable(domain.account_next))
    if domain.root_now is not None:
        yield say("bring/root-on-its-way")
    if domain.state != "live":
        yield say("bring/not-live", state=domain.state)
    if domain.kind == "temporary":
        yield say("bring/temporary")
    if domain.kind == "alias" and domain.of is not None:
        yield say("bring/stands-for", of=domain.of)
    if domain.passed_to is not None:
        yield say("bring/program")
    if here.account.declared(domain.name) is not None:
        yield say("bring/written-down")
    aliased = [str(one.address) for one in other.account.path_aliases if one.address.host in names_of(domain)]
    if aliased:
        yield say("bring/mapped", aliased=aliased)


def _see_its_sites_can_go(other: AccountLayout, here: AccountLayout, sites: list[Installation]) -> None:
    """Raises InputError where something that is installed at it cannot come along."""
    addresses = {one.address for one in sites}
    for one in sites:
        if one.is_moving or one.goes_live:
            raise InputError(f"{one.application} at {one.address} is on its way; confirm or undo that first")
        if one.staging_of is not None and one.staging_of not in addresses:
            raise InputError(f"{one.address} rehearses {one.staging_of}, which stays in {other.name}: retire it first")
        if one.state != "live":
            raise InputError(f"{one.application} at {one.address} is {one.state}: finish that first, or take it out")
        wants_tables = other.application(one).database and _keeps_tables(other)
        if wants_tables and tables_of(other, one) is None:
            raise InputError(
                f"it is not known which tables {one.address} works with: write its database into the plan",
                other.surveying,
            )
    for rehearsal in other.account.installations:
        if rehearsal.state != "retired" and rehearsal.staging_of in addresses and rehearsal.address not in addresses:
            raise InputError(f"{rehearsal.address} rehearses {rehearsal.staging_of}, and stays: retire it first")
    kinds = [layout.account.settings.database_server for layout in (other, here)]
    if _ALIKE.get(kinds[0], kinds[0]) != _ALIKE.get(kinds[1], kinds[1]) and any(tables_of(other, one) for one in sites):
        raise InputError(
            f"the data are on {kinds[0]}, and {here.name} has {kinds[1]}: nothing brings the one to the other"
        )


def _keeps_tables(layout: AccountLayout) -> bool:
    return layout.account.settings.database_server != "sqlite"


def _as_here(here: AccountLayout, domain: Domain) -> Domain:
    """A domain as the new account has it: planned, with a root that is free."""
    kind = domain.kind
    if kind == "subdomain" and not any(above in here.account.named for above in domain.name.above()):
        kind = "addon"
    if kind == "primary" and here.account.primary is not None:
        kind = "addon"
    root = free_root(here, domain.name) if domain.claims_root else None
    return replace(domain, kind=kind, root=root, state="planned", account_now="-", points_here=True)


def _installations(here: AccountLayout, other: AccountLayout, sites: list[Installation]) -> Iterator[Installation]:
    """What is installed at it as the new account has it: planned, with a database of its own there."""
    taken: list[str] = []
    for one in sites:
        own, tables = None, tables_of(other, one)
        if tables is not None and _keeps_tables(other):
            name = free_database(here, one.address, taken)
            taken.append(name)
            own = Database(name, tables.written, name)
        yield replace(
            one, state="planned", folder=_folder_here(here, other, one), database=own, admin_entry=None, set_up_by=None
        )


def _folder_here(here: AccountLayout, other: AccountLayout, installation: Installation) -> Folder | None:
    """Where it is to lie, where that is not where its address leads. Raises InputError where that is not known."""
    lies = other.lies_now(installation)
    if lies is None:
        raise InputError(f"it is not known where the files of {installation.address} lie")
    mount = other.hosts.mount(installation.address)
    old = old_root(other, mount.domain) if mount is not None else None
    if installation.folder is None or other.reach(installation.address) == lies:
        return None
    if old is None or not (lies == old or lies.is_inside(old)):
        raise InputError(f"the files of {installation.address} lie in {lies.shown}, outside of the root of its domain")
    return free_root(here, installation.address.host).below(lies.relative_to(old))


def _written_here(
    here: AccountLayout, other: AccountLayout, domains: list[Domain], sites: list[Installation]
) -> Iterator[Change]:
    for domain in domains:
        entry = table_of(replace(_as_here(here, domain), account_now=other.name))
        yield Change(here.name, "domain", None, entry)
    hosts = {name for domain in domains for name in names_of(domain)}
    for rule in other.account.path_rules:
        if rule.address.host in hosts:
            yield Change(here.name, "path_rule", None, table_of(rule))
    yield from (Change(here.name, "installation", None, table_of(one)) for one in sites)


def _does(here: AccountLayout, comes: Brought, sites: list[Installation]) -> Iterator[Words]:
    for one in comes.folders:
        yield say("bring/folder", old=one.folder.shown, new=one.to.shown)
    for site in sites:
        if site.database is not None:
            yield say("bring/tables", address=site.address, base=printable(site.database.name))
    if comes.is_same_machine:
        yield say("bring/one-machine")
    else:
        yield say("bring/records", names=comes.names, machines=here.account.settings.ip_addresses)


def _minds(
    here: AccountLayout, other: AccountLayout, domain: Domain, folders: tuple[BroughtFolder, ...]
) -> Iterator[Words]:
    for one in folders:
        if one.stays:
            yield say("bring/stays", old=one.folder.shown, stays=[place.shown for place in one.stays])
    around = controls_around(other, folders)
    if around:
        yield say("bring/around", files=[one.shown for one in around])
    was, now = (layout.account.settings for layout in (other, here))
    if was.web_server != now.web_server:
        yield say("bring/server", other=other.name, was=was.web_server, account=here.name, now=now.web_server)
    old, new = domain.php or was.php, now.php
    if old is None or new is None:
        yield say("bring/php-unknown")
    elif old != new:
        yield say("bring/php", other=other.name, was=old, account=here.name, now=new)
    if domain.kind == "primary":
        yield say("bring/main", other=other.name)
    if domain.mail:
        yield say("bring/mail")
    if was.home is not None and old_root(other, domain) is not None:
        yield say("bring/paths", home=was.home)
    yield say("bring/left")


def with_the_other_end(scenario: Scenario, proposal: Proposal) -> list[Proposal]:
    """What is written of a confirmation in both accounts where a domain has come with it: it is retired where it was,
    with all of it, and promises of old addresses come along."""
    here = scenario.layout(proposal.account)
    there: dict[str, list[Change]] = {}
    mine: list[Change] = []
    for change in proposal.changes:
        is_live = change.table == "domain" and change.number is not None and change.values.get("state") == "live"
        domain = here.account.domains[change.number] if is_live and change.number is not None else None
        if domain is None or domain.account_now is None or domain.account_now not in scenario.summaries:
            continue
        other = scenario.layout(domain.account_now)
        was = other.account.named.get(domain.name)
        if was is None or was.account_next != here.name:
            continue
        gone = there.setdefault(other.name, [])
        mine += (setting(here, one, state="live", account_now=None) for one in aliases_with(here, domain))
        whole_was = (was, *aliases_with(other, was))
        gone += (setting(other, one, state="retired", account_next=None) for one in whole_was)
        gone += (setting(other, one, state="retired") for one in sites_at(other, was))
        for moved in other.account.moved:
            if any(moved.old.host in names_of(one) for one in whole_was):
                gone.append(dropping(other, moved))
                mine.append(Change(here.name, "moved", None, table_of(moved)))
    whole = replace(proposal, changes=(*proposal.changes, *mine))
    told = (Hint(say("bring/left-there")),)
    return [whole, *(Proposal(name, tuple(changes), told) for name, changes in there.items())]
