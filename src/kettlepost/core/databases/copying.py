"""Tables that are to come from one database or prefix to another: whose they are, and what they are called there."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from msgspec import Struct, field

from kettlepost.core.databases.dialect import Dialect
from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout, TableUser, retired_users
from kettlepost.core.messages import Words, say
from kettlepost.core.names import printable, quoted
from kettlepost.core.plan import Application, Database
from kettlepost.core.words import listed


class PrefixedValues(NamedTuple):
    """A column whose values begin with the table prefix: the table without it, and which values, empty for all."""

    table: str
    column: str
    only: tuple[str, ...] = ()


class TableCopy(Struct):
    """Tables of one user that get other names: copied, or where `renames` says so moved.

    `longer` are prefixes that begin with this one and are somebody else's, so that their tables stay;
    `prefixed` are values in the tables that hold the prefix; `other` is the account they go to, where that is another.
    """

    account: str
    whose: str
    application: str
    dialect: Dialect
    source: str
    prefix: str
    target: str
    new_prefix: str
    renames: bool = False
    longer: list[str] = field(default_factory=list)
    prefixed: list[PrefixedValues] = field(default_factory=list)
    told: list[Words] = field(default_factory=list)
    other: str = ""

    @property
    def within(self) -> bool:
        """Whether they stay in their database."""
        return self.source == self.target and not self.other


def table_copy(
    layout: AccountLayout, user: TableUser, target: str, new_prefix: str, renames: bool = False
) -> TableCopy:
    """What has to be done to copy or rename the tables of `user`.

    Raises InputError where it cannot be: the names are the same or wrong, the tables are elsewhere, or others use
    those that are to be renamed.
    """
    dialect = Dialect.of(layout.account.settings.database_server, layout.databases)
    if layout.account.settings.database_server == "sqlite":
        raise InputError("the account keeps its data in files (database_server), which are copied as files are")
    if user.database[0]:
        raise InputError(f"the tables of {user.shown} are on {quoted(user.database[0])}, not on the account's server")
    application = user.installation.application if user.installation else user.found.application if user.found else ""
    copy = TableCopy(
        layout.name, user.shown, application, dialect, user.name, user.written, target, new_prefix, renames
    )
    fault = dialect.name_fault(target)
    if fault:
        raise InputError(f"{quoted(target)} is no name for a database: it {fault}")
    if (target, new_prefix) == (user.name, user.written):
        raise InputError("that is where the tables are: name another database or another prefix")
    if copy.within and (new_prefix.startswith(user.written) or user.written.startswith(new_prefix)) and not renames:
        raise InputError(
            f"the prefix {quoted(new_prefix)} and {quoted(user.written)} begin alike in one database, so that "
            "neither's tables could be told from the other's; take another"
        )
    if dialect.is_postgresql and copy.within and not renames:
        raise InputError("under PostgreSQL tables are copied into another database, not beside themselves")
    others = layout.tables.by_database.get(user.database, [])
    same = [other.shown for other in others if other.prefix == user.prefix and other.shown != user.shown]
    if renames and same:
        raise InputError(f"{listed(map(printable, same), 4)} uses the same tables: copy them instead of renaming")
    copy.longer = longer_prefixes(layout, user.database, user.written)
    copy.told = [say("copy/same-tables", name=printable(name)) for name in same]
    entry = layout.plan.applications.get(application)
    copy.prefixed = list(prefixed_values(entry)) if entry is not None and new_prefix != user.written else []
    return copy


def table_bringing(layout: AccountLayout, user: TableUser, here: AccountLayout, base: Database) -> TableCopy:
    """What has to be done to bring the tables of `user` into a database of another account.

    Raises InputError where the one account's server cannot read what the other's writes.
    """
    kinds = layout.account.settings.database_server, here.account.settings.database_server
    if "sqlite" in kinds:
        raise InputError("the account keeps its data in files (database_server), which are copied as files are")
    if ("postgresql" in kinds) and kinds[0] != kinds[1]:
        raise InputError(f"the data are on {kinds[0]}, and {here.name} has {kinds[1]}: nothing brings them there")
    application = user.installation.application if user.installation is not None else ""
    dialect = Dialect.of(kinds[0], layout.databases)
    copy = TableCopy(
        layout.name, user.shown, application, dialect, user.name, user.written, base.name, base.prefix, other=here.name
    )
    copy.longer = longer_prefixes(layout, user.database, user.written)
    entry = layout.plan.applications.get(application)
    copy.prefixed = list(prefixed_values(entry)) if entry is not None and base.prefix != user.written else []
    return copy


def prefixed_values(application: Application) -> Iterator[PrefixedValues]:
    """The columns of an application that hold its table prefix, as its entry writes them."""
    for written in application.prefix_in:
        where, _, only = written.partition("=")
        table, _, column = where.strip().partition(".")
        yield PrefixedValues(table, column, tuple(re.findall(r"[^\s|]+", only)))


def longer_prefixes(layout: AccountLayout, database: tuple[str, str], prefix: str) -> list[str]:
    """The prefixes in a database, as it is told from all others, that begin with one and are somebody else's."""
    known = {other.written for other in layout.tables.by_database.get(database, [])}
    known |= {begin for _, name, begin in retired_users(layout) if ("", name) == database}
    return sorted(one for one in known if one != prefix and one.startswith(prefix))
