"""What the plan wants of a database server: databases, their users and their rights."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec import Struct, field

from kettlepost.core.databases.dialect import Dialect
from kettlepost.core.layout import AccountLayout, TableUser, server_key
from kettlepost.core.messages import Words, say
from kettlepost.core.names import printable
from kettlepost.core.plan import FURTHER_RIGHTS, RIGHTS, Database, Installation

COLLATION = "utf8mb4_unicode_ci"
"""For texts in every language, and known to every MySQL and MariaDB that is still about."""


class WantedDatabase(Struct):
    """The database that an installation wants.

    `is_there`, `has_user` and `is_allowed`, whether the user may do all that is wanted, are None where nothing tells.
    `why_not` says why nothing is written for it, `told` what whoever runs the script is to know, `login_of` who
    else logs in as its user, `live_login_of` those of them in use, `base_of` who else uses the database.
    """

    account: str
    installation: Installation
    name: str
    user: str
    host: str
    collation: str
    rights: tuple[str, ...]
    is_there: bool | None = None
    has_user: bool | None = None
    is_allowed: bool | None = None
    why_not: Words = ""
    told: list[Words] = field(default_factory=list)
    login_of: list[str] = field(default_factory=list)
    live_login_of: list[str] = field(default_factory=list)
    base_of: list[str] = field(default_factory=list)

    @property
    def charset(self) -> str:
        return self.collation.partition("_")[0]

    @property
    def is_made(self) -> bool:
        """Whether there is something to make."""
        return not self.why_not and not (self.is_there and self.has_user and self.is_allowed)


def wanted_databases(layout: AccountLayout, named: Iterable[Installation] = ()) -> Iterator[WantedDatabase]:
    """For each installation that is to come, or lacks its database on the server.

    Where some are `named`, it is those, and also where it is not known whether they lack it.
    """
    asked = list(named)
    for installation in asked or layout.account.installations:
        if installation.database is None:
            continue
        wanted = _wanted(layout, installation, installation.database)
        if installation.state == "planned" or (installation.state == "live" and (asked or _lacks(wanted))):
            yield wanted


def wanted_database(layout: AccountLayout, installation: Installation) -> WantedDatabase | None:
    """The same for one installation, in whatever state it is."""
    return _wanted(layout, installation, installation.database) if installation.database is not None else None


def _lacks(wanted: WantedDatabase) -> bool:
    return False in (wanted.is_there, wanted.has_user, wanted.is_allowed)


def _wanted(layout: AccountLayout, installation: Installation, base: Database) -> WantedDatabase:
    settings, seen = layout.account.settings, layout.databases
    dialect = Dialect.of(settings.database_server, seen)
    application = layout.plan.applications.get(installation.application)
    needs = application.needs if application is not None else None
    user = base.user or base.name
    rights = application.database_rights if application is not None else (*RIGHTS, *FURTHER_RIGHTS)
    wanted = WantedDatabase(
        layout.name, installation, base.name, user, settings.database_users_from,
        (needs.collation if needs is not None else None) or COLLATION, rights,
    )  # fmt: skip
    if seen is not None:
        there = seen.named(base.name) is not None
        wanted.is_there = there or (None if not seen.is_whole else False)
        logins = [login for login in seen.logins if login.name == user]
        own = [login for login in logins if dialect.is_postgresql or login.host == wanted.host] or logins
        if own and not dialect.is_postgresql and own[0].host:
            wanted.host = own[0].host  # another of its name, from a narrower host, would stand before the one there is
        wanted.has_user = bool(own) or (False if seen.knows_logins else None)
        needed = {"CONNECT"} if dialect.is_postgresql else set(wanted.rights)
        allowed = {right for login in own for right in (*login.everywhere, *login.databases.get(base.name, ()))}
        if own:
            wanted.is_allowed = needed <= allowed or bool(allowed & {"ALL PRIVILEGES", "ALL", "SUPERUSER"})
    wanted.base_of = [other.shown for other in _others(layout, installation, base)]
    logging_in = _others_by_login(layout, installation, user)
    wanted.login_of = [other.shown for other in logging_in]
    wanted.live_login_of = [
        other.shown for other in logging_in if other.installation is None or other.installation.state == "live"
    ]
    wanted.why_not = _why_not(layout, dialect, wanted, base)
    begin = settings.database_prefix
    wanted.told += [
        say("wanted/no-prefix", name=printable(name), begin=printable(begin))
        for name in dict.fromkeys((wanted.name, user)) if not name.startswith(begin)
    ]  # fmt: skip
    if base.user is None:
        wanted.told.append(say("wanted/no-user", user=printable(user)))
    if wanted.base_of:
        wanted.told.append(say("wanted/shared", others=map(printable, wanted.base_of)))
    if wanted.login_of:
        wanted.told.append(say("wanted/same-login", others=map(printable, wanted.login_of)))
    return wanted


def _others(layout: AccountLayout, installation: Installation, base: Database) -> list[TableUser]:
    """Who else uses the database of the account's own server."""
    key = ("", base.name)
    lower = ("", base.name.lower())
    users = layout.tables.by_database.get(key) or layout.tables.by_database.get(lower) or []
    return [user for user in users if user.installation is None or user.installation.number != installation.number]


def _others_by_login(layout: AccountLayout, installation: Installation, user: str) -> list[TableUser]:
    """Who else logs in by a user."""
    there = layout.tables.by_login.get(user, [])
    return [one for one in there if one.installation is None or one.installation.number != installation.number]


def _why_not(layout: AccountLayout, dialect: Dialect, wanted: WantedDatabase, base: Database) -> Words:
    installation = wanted.installation
    if layout.account.settings.database_server == "sqlite":
        return say("wanted/by-file")
    if server_key(base.server):
        return say("wanted/elsewhere", server=printable(base.server))
    if dialect.is_too_old:
        return say("wanted/too-old", kind=dialect.kind, version=".".join(map(str, dialect.version)))
    for what, name, is_user in (("database", wanted.name, False), ("user", wanted.user, True)):
        fault = dialect.name_fault(name, is_user)
        if fault:
            return say("wanted/name", what=what, fault=fault)
    same = [other.shown for other in _others(layout, installation, base) if other.written == base.prefix]
    if same:
        return say("wanted/same-tables", others=map(printable, same))
    in_use = [str(installation.address)] if installation.state == "live" else wanted.live_login_of
    if in_use and wanted.has_user is None:
        return say("wanted/login-unknown", others=map(printable, in_use), user=printable(wanted.user))
    seen = layout.databases
    there = seen.named(base.name) if seen is not None else None
    is_new = installation.state == "planned" and installation.number not in layout.deployed
    is_new = is_new and installation.staging_of is None  # a rehearsal begins with a copy
    if is_new and there is not None and there.beginning(base.prefix):
        return say("wanted/tables-there")
    return ""
