"""Scripts for database servers: what makes what the plan wants, what takes it back, what copies tables."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from kettlepost.core.databases import (
    AddressReplacement,
    Dialect,
    TableCopy,
    TableMerge,
    WantedDatabase,
    address_replacement,
    password_entries,
    password_statement,
    session_statements,
    table_bringing,
    table_copy,
    table_merge,
    wanted_database,
    wanted_databases,
)
from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout, TableUser, bare_and_www, server_key
from kettlepost.core.messages import MessageError, Words, say
from kettlepost.core.names import InvalidName, printable, quoted
from kettlepost.core.plan import Database
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.bringing import brought
from kettlepost.core.rules.going_live import MERGED, as_rehearsed, going_live
from kettlepost.core.rules.rehearsing import rehearsed_from
from kettlepost.core.rules.tables_apart import free_database, room_for_databases
from kettlepost.core.words import listed
from kettlepost.workspace.installations import installation_at, installations_of
from kettlepost.workspace.password_stores import Phrase, open_store
from kettlepost.workspace.plan_edits import address_of, folder_of
from kettlepost.workspace.plan_folder import PlanFolder


class ServerScript(NamedTuple):
    """What is wanted of the database server of one account, and the titles of the entries that keep the passwords."""

    account: str
    dialect: Dialect
    prefix: str
    wanted: list[WantedDatabase]
    titles: dict[int, str]
    is_back: bool = False


def database_scripts(
    plan: PlanFolder, what: str | None = None, account: str | None = None, is_back: bool = False
) -> list[ServerScript]:
    """What the plan wants of each account's database server and is not there, by account.

    `is_back` gives what can be taken back instead: databases of what is planned or retired, and nobody else's.
    Raises InputError.
    """
    found: list[ServerScript] = []
    for layout, installations in installations_of(plan, what, account):
        dialect = Dialect.of(layout.account.settings.database_server, layout.databases)
        if is_back:
            all_ = [wanted_database(layout, one) for one in installations]
            wanted = [one for one in all_ if one is not None]
            for one in wanted:
                one.why_not = _why_not_back(one) or one.why_not
        else:
            is_one = what is not None and installations is not layout.account.installations
            wanted = list(wanted_databases(layout, installations if is_one else ()))
        titles = {
            installation.number: entry.title
            for installation in installations
            for entry in password_entries(
                layout.account, installation, layout.plan.applications.get(installation.application)
            )
            if entry.purpose == "database"
        }
        prefix = layout.account.settings.database_prefix
        if wanted:
            found.append(ServerScript(layout.name, dialect, prefix, wanted, titles, is_back))
    return found


def password_statements(
    plan: PlanFolder, what: str | None = None, account: str | None = None, phrase: Phrase | None = None
) -> Iterator[str]:
    """The statements that give planned users their passwords, read from where they are kept.

    Raises InputError where a password is kept nowhere, or a user is one by which something live logs in.
    """
    scripts = database_scripts(plan, what, account)
    store = open_store(plan, phrase)
    told = False
    for script in scripts:
        titles: dict[tuple[str, str], str] = {}
        for wanted in script.wanted:
            if wanted.why_not or (wanted.installation.state == "live" and wanted.has_user is not False):
                continue
            _see_it_is_its_own(script, wanted, titles)
            title = script.titles[wanted.installation.number]
            password = store.get(title)
            if password is None:
                raise InputError(
                    f"no password is kept under {quoted(title)}",
                    Remedy.of(Action.MAKE_PASSWORD, str(wanted.installation.address), "--for", "database"),
                )
            if not told:
                yield from session_statements(script.dialect)
            told = True
            yield password_statement(script.dialect, wanted, password, secrets.token_bytes(16))
    if not told:
        left = [one.why_not for script in scripts for one in script.wanted if one.why_not]
        nothing = "nothing that is asked for wants a new database user"
        raise MessageError(nothing, left[0]) if left else InputError(nothing)


def _see_it_is_its_own(script: ServerScript, wanted: WantedDatabase, titles: dict[tuple[str, str], str]) -> None:
    """Raises InputError where something live logs in by a user, or two of its installations keep it by two entries."""
    if wanted.live_login_of:
        raise InputError(
            f"{wanted.live_login_of[0]} logs in by the user {quoted(wanted.user)} as well: its password is left as "
            f"it is; give {wanted.installation.address} a user of its own"
        )
    title = script.titles[wanted.installation.number]
    if titles.setdefault((wanted.user, wanted.host), title) != title:
        raise InputError(
            f"{wanted.installation.address} and {listed(wanted.login_of)} log in by the user {quoted(wanted.user)}: "
            'write the same entry = "..." into the database of each, or give each a user of its own'
        )


def copy_of_tables(
    plan: PlanFolder, whose: str, to: str | None, prefix: str | None, renames: bool = False, account: str | None = None
) -> TableCopy:
    """How the tables of an installation, or of an application in a folder, come into another database or prefix.

    Without `to` a free name is taken, or with `prefix` the same database. Raises InputError.
    """
    layout, user = _tables_of(plan, whose, account)
    own = user.installation.database if user.installation is not None else None
    if to is None and prefix is None and own is not None and (own.name, own.prefix) != (user.name, user.written):
        to, prefix = own.name, own.prefix  # what the plan says, while the site still works on another
    if to is None and prefix is None:
        if not room_for_databases(layout):
            raise InputError("the package has room for no more databases: name another prefix with --prefix")
        place = (
            user.installation.address if user.installation is not None else user.found.folder if user.found else None
        )
        to = free_database(layout, place) if place is not None else user.name
    return table_copy(layout, user, to or user.name, user.written if prefix is None else prefix, renames)


def tables_to_bring(plan: PlanFolder, whose: str, account: str | None = None) -> TableCopy:
    """How the tables of an installation come from the account from which its domain comes. Raises InputError."""
    here, installation = installation_at(plan, whose, account)
    mount = here.hosts.mount(installation.address)
    domain = mount.domain if mount is not None else None
    if domain is None or domain.account_now is None or domain.account_now not in plan.names:
        raise InputError(f"{installation.address} comes from no other account of the plan")
    comes = brought(here, domain, plan.layout_of(domain.account_now))
    sites = comes.sites if comes is not None else ()
    site = next((one for one in sites if one.here.number == installation.number), None)
    if comes is None or site is None or site.tables is None or installation.database is None:
        raise InputError(
            f"it is not known which tables {installation.address} has in {domain.account_now}, or is to have in "
            f"{here.name}"
        )
    return table_bringing(comes.other, site.tables, here, installation.database)


def addresses_in_tables(
    plan: PlanFolder, whose: str, pairs: Sequence[str] = (), account: str | None = None
) -> AddressReplacement:
    """Which addresses are to be replaced in the tables of an installation: `OLD=NEW`, each with its scheme where that
    is to change; where none are given, those of what is on its way.

    Raises InputError where none are known, and where an old one is none.
    """
    layout, user = _tables_of(plan, whose, account)
    asked = [_pair(one) for one in pairs]
    moving = user.installation
    is_to_come = moving is not None and moving.state == "planned"
    of = rehearsed_from(layout, moving) if moving is not None and is_to_come else None
    if of is not None and moving is not None and moving.database is not None:
        if of.shares_tables(moving.database):
            raise InputError(
                f"{moving.address} is to work with the tables of {of.live.address} itself; give it its own first",
                Remedy.of(Action.READ_RULE, "staging-shares-data"),
            )
        base = moving.database  # whatever its configuration names as yet
        user = TableUser((server_key(base.server), base.name), base.prefix, base.name, base.prefix, moving, None)
        olds = dict.fromkeys(str(one).rstrip("/") for one in (of.address, of.live.address))
        asked = asked or [(old, str(moving.address).rstrip("/")) for old in olds]
    going = going_live(layout, moving) if moving is not None else None
    if not asked and going is not None:
        asked = [(str(going.rehearsal.address).rstrip("/"), str(going.live.address).rstrip("/"))]
    if not asked and moving is not None and moving.address_now is not None:
        asked = [(str(moving.address_now).rstrip("/"), str(moving.address).rstrip("/"))]
    if not asked:
        raise InputError(f"{printable(whose)} is not on its way elsewhere: name the addresses as OLD=NEW")
    with_www = [(old, new) for pair in asked for old, new in (pair, *_www_of(layout, pair))]
    return address_replacement(layout, user, tuple(dict.fromkeys(with_www)))


def merge_of_tables(plan: PlanFolder, whose: str, account: str | None = None) -> TableMerge:
    """The tables of a rehearsal and of what it rehearses, and which data that keeps where it is to take its place.

    Raises InputError for what rehearses nothing that is live, and where tables are not known.
    """
    layout, rehearsal = installation_at(plan, whose, account)
    going = going_live(layout, rehearsal) or as_rehearsed(layout, rehearsal)
    if going is None:
        unknown = "it is not known where the files or tables of both are"
        raise InputError(f"{rehearsal.address} rehearses nothing that is live, or {unknown}")
    if layout.account.settings.database_server not in MERGED:
        raise InputError("the program that merges tables is written for MySQL and MariaDB")
    return table_merge(layout, going)


def _pair(written: str) -> tuple[str, str]:
    old, is_told, new = written.partition("=")
    if not is_told:
        raise InputError(f"{quoted(written)} is no pair of addresses; write it as OLD=NEW")
    for one in (old, new):
        address_of(one)
    return old.strip().rstrip("/"), new.strip().rstrip("/")


def _www_of(layout: AccountLayout, pair: tuple[str, str]) -> list[tuple[str, str]]:
    """The same of the other name of a host that answers with www and without."""
    address = address_of(pair[0])
    mount = layout.tree("now").hosts.mount(address)
    if mount is None or mount.domain.www in (None, "apart"):
        return []
    bare, www = bare_and_www(address.host)
    other = www if address.host == bare else bare
    return [(pair[0].replace(address.host, other, 1), pair[1])]


def _tables_of(plan: PlanFolder, whose: str, account: str | None) -> tuple[AccountLayout, TableUser]:
    """Whose tables are meant by an address, or with an account by a folder. Raises InputError where none are known."""
    user = None
    if account is not None:
        layout = plan.layout_of(plan.known_names([account])[0])
        user = _user_in(layout.tables.users, whose)
    if user is None:
        try:
            layout, installation = installation_at(plan, whose, account)
        except InvalidName:
            raise InputError(f"{quoted(whose)} is no address; of a folder name its --account, too") from None
        number = installation.number
        user = next(
            (one for one in layout.tables.users if one.installation is not None and one.installation.number == number),
            None,
        )
        if user is None and isinstance(installation.database, Database):
            base = installation.database
            key = (server_key(base.server), base.name)
            user = TableUser(key, base.prefix, base.name, base.prefix, installation, None)
    if user is None:
        raise InputError(f"it is not known which tables {printable(whose)} uses; write its database into the plan")
    return layout, user


def _user_in(users: list[TableUser], whose: str) -> TableUser | None:
    try:
        folder = folder_of(whose)
    except InputError:
        return None
    return next((one for one in users if one.found is not None and one.found.folder == folder), None)


def _why_not_back(wanted: WantedDatabase) -> Words:
    if wanted.installation.state == "live":
        return say("wanted/live")
    if wanted.base_of and wanted.login_of:
        return say("wanted/others-use-both")
    return ""
