"""The databases of an account in rows: what was seen of each, who uses what in it, and what nobody does."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec import Struct

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.layout.tables import TableUser, server_key
from kettlepost.core.names import printable
from kettlepost.core.plan import Installation
from kettlepost.core.survey import SeenDatabase, SeenDatabases, SeenTables
from kettlepost.core.words import counted, listed


class DatabaseRow(Struct):
    """A database in one row; `bytes` and `tables` are None where they are not known.

    `state` is "in use", "planned", "unused" where nobody is known to use it, "missing" where somebody does and the
    server does not have it, and "not seen" where nothing was read. `used_by` are installations and applications,
    `prefixes` tells whose the tables are, `unclaimed` counts those of nobody.
    """

    database: str
    account: str
    server: str
    state: str
    bytes: int | None
    tables: int | None
    used_by: str
    prefixes: str
    unclaimed: int
    users: str


def database_rows(layout: AccountLayout, seen: SeenDatabases | None) -> Iterator[DatabaseRow]:
    """Every database that was seen, then those that are in use or planned and were not."""
    users = _users(layout)
    told: set[str] = set()
    for base in seen.databases if seen is not None else ():
        own = [user for key in users if key[0] == "" and _same(seen, key[1], base.name) for user in users[key]]
        told.update(name for host, name in users if host == "" and _same(seen, name, base.name))
        yield _seen_row(layout, seen, base, own)
    for (host, name), own in users.items():
        if host == "" and name in told:
            continue
        planned = all(user.installation is not None and user.installation.state == "planned" for user in own)
        is_missing = seen is not None and seen.is_whole and host == ""
        state = "planned" if planned else "missing" if is_missing else "not seen"
        yield DatabaseRow(
            printable(own[0].name), layout.name, host, state, None, None, _used_by(own),
            ", ".join(sorted({printable(user.written) or "(none)" for user in own})), 0, "",
        )  # fmt: skip


def _users(layout: AccountLayout) -> dict[tuple[str, str], list[TableUser]]:
    return {key: list(own) for key, own in layout.tables.by_database.items()}


def _same(seen: SeenDatabases | None, one: str, other: str) -> bool:
    return one == other or (seen is not None and seen.server == "postgresql" and one.lower() == other.lower())


def _seen_row(
    layout: AccountLayout, seen: SeenDatabases | None, base: SeenDatabase, own: list[TableUser]
) -> DatabaseRow:
    prefixes: list[str] = []
    unclaimed = 0
    gone = [
        (begin, f"{one.address}, retired") for one, name, begin in retired_users(layout) if _same(seen, name, base.name)
    ]
    for group in base.tables:
        nearest = max((len(user.prefix) for user in own if group.prefix.startswith(user.prefix)), default=-1)
        whose = [user.shown for user in own if len(user.prefix) == nearest and group.prefix.startswith(user.prefix)]
        whose = whose or [who for begin, who in gone if group.prefix.startswith(begin)]
        unclaimed += 0 if whose else group.number
        prefixes.append(_group_words(group, whose))
    planned = bool(own) and all(user.installation is not None and user.installation.state == "planned" for user in own)
    logins = [login for login in seen.logins if base.name in login.databases] if seen is not None else []
    state = "planned" if planned else "in use" if own else "unused"
    size = base.bytes if base.bytes >= 0 else None
    return DatabaseRow(
        printable(base.name), layout.name, seen.server if seen is not None else "", state, size, base.number,
        _used_by(own), ", ".join(prefixes), unclaimed, ", ".join(sorted({printable(login.name) for login in logins})),
    )  # fmt: skip


def retired_users(layout: AccountLayout) -> Iterator[tuple[Installation, str, str]]:
    """What is retired, with the database and the prefix that it used, by its configuration if that is still there."""
    contents = layout.contents
    for installation in layout.account.installations:
        if installation.state != "retired":
            continue
        folder = layout.lies_now(installation)
        found = contents.applications.get(folder) if contents is not None and folder is not None else None
        real = found.database if found is not None and found.application == installation.application else None
        if real is not None and real.name and not server_key(real.host):
            yield installation, real.name, real.prefix
        elif installation.database is not None and not server_key(installation.database.server):
            yield installation, installation.database.name, installation.database.prefix


def _group_words(group: SeenTables, whose: list[str]) -> str:
    who = listed(map(printable, dict.fromkeys(whose)), 4) if whose else "nobody"
    return f"{printable(group.prefix) or '(none)'} {counted(group.number, 'table')} of {who}"


def _used_by(users: Iterable[TableUser]) -> str:
    return ", ".join(dict.fromkeys(printable(user.shown) for user in users))
