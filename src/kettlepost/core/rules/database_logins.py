"""Rules about the users of a database server: who may do too much, and who too little."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout, TableUser
from kettlepost.core.names import printable
from kettlepost.core.plan import RIGHTS
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.parties import installation_party, server_party
from kettlepost.core.rules.registry import Reach, account_rule
from kettlepost.core.words import listed


@account_rule("login-too-wide", "risk", reaches=Reach.ACCOUNT)
def login_too_wide(layout: AccountLayout) -> Iterator[Finding]:
    """An installation's database user may do more than its own databases want.

    Whoever breaks into the one site reads or writes what is in the others' databases.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_", user = "mill_pages" }

        # tables: mill_pages = "qm3_pages"
        # login: mill_pages = "mill_pages mill_shop"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_", user = "mill_pages" }

        # tables: mill_pages = "qm3_pages"
        # login: mill_pages = "mill_pages"

    Ways out:

    - take back what it does not want, or give the installation a user of its own.
    """
    seen = layout.databases
    for login in seen.logins if seen is not None else ():
        users = [user for user in layout.tables.users if login_of(user) == login.name]
        own = {name for user in users for name in (user.name, user.name.lower())}
        wide = [name for name, rights in login.databases.items() if name not in own and set(rights) - _OF_ALL]
        if seen is None or not users or not (wide or login.everywhere):
            continue
        name, whose = printable(login.name), listed((user.shown for user in users), 4)
        where = "all databases of the server" if login.everywhere else listed(map(printable, sorted(wide)), 4)
        installed = [user.installation for user in users if user.installation is not None]
        yield Finding(
            at=name,
            title=f"the database user {name}, by which {whose} logs in, may work on {where} as well",
            why="whoever breaks into that site has what is in the others' databases",
            parties=[
                *(installation_party(layout.account, installation, "database") for installation in installed),
                server_party(seen),
            ],
            ways_out=[
                WayOut(f"take back what {printable(login.name)} does not want, once nobody else uses it for that"),
                WayOut("give the installation a database user of its own"),
            ],
        )


@account_rule("login-too-narrow", "risk", reaches=Reach.ACCOUNT)
def login_too_narrow(layout: AccountLayout) -> Iterator[Finding]:
    """An installation's database user may do less in its database than the application wants.

    Its installer stops half-way, or the next update does, with tables that are neither old nor new.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_", user = "mill_pages" }

        # tables: mill_pages = "qm3_pages"
        # login: mill_pages = "mill_pages:SELECT,INSERT,UPDATE,DELETE"

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        database = { name = "mill_pages", prefix = "qm3_", user = "mill_pages" }

        # tables: mill_pages = "qm3_pages"
        # login: mill_pages = "mill_pages:SELECT,INSERT,UPDATE,DELETE,CREATE,ALTER,DROP,INDEX"

    Ways out:

    - allow it what the application wants, in that database alone.
    """
    seen = layout.databases
    for user in layout.tables.users if seen is not None else ():
        installation, login = user.installation, login_of(user)
        if seen is None or installation is None or user.database[0] or not login or seen.named(user.name) is None:
            continue
        own = [one for one in seen.logins if one.name == login]
        allowed = {right for one in own for right in (*one.everywhere, *one.databases.get(user.name, ()))}
        wanted = ("CONNECT",) if seen.server == "postgresql" else RIGHTS
        lacking = [right for right in wanted if right not in allowed]
        if not own or not lacking or allowed & _EVERYTHING:
            continue
        name, base = printable(login), printable(user.name)
        yield Finding(
            at=name,
            title=f"the database user {name}, by which {user.shown} logs in, may not {listed(lacking)} in {base}",
            why="an installer or an update that wants it stops half-way",
            parties=[installation_party(layout.account, installation, "database"), server_party(seen)],
            ways_out=[WayOut(f"allow {name} what {installation.application} wants, in {base} alone",
                             remedy=Remedy(Do.MAKE_DATABASES, str(installation.address)))],
        )  # fmt: skip


_EVERYTHING = frozenset(("ALL PRIVILEGES", "ALL", "SUPERUSER"))
_OF_ALL = frozenset(("CONNECT", "TEMPORARY", "USAGE"))
"""What everybody may do on every database, unless it was taken back."""


def login_of(user: TableUser) -> str | None:
    """By which database user somebody logs in: by the configuration that was found, else by the plan."""
    real = user.found.database if user.found is not None else None
    if real is not None:
        return real.user
    own = user.installation.database if user.installation is not None else None
    return own.user if own is not None else None
