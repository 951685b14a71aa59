"""What of the tables of what is live comes into those of its rehearsal, before that takes its place."""

from __future__ import annotations

from msgspec import Struct

from kettlepost.core.databases.copying import PrefixedValues, longer_prefixes, prefixed_values
from kettlepost.core.layout import AccountLayout, server_key
from kettlepost.core.plan import Database
from kettlepost.core.rules.going_live import GoingLive


class MergedTables(Struct, frozen=True):
    """The tables of one side: the database, the prefix, and longer prefixes, whose tables are somebody else's."""

    database: str
    prefix: str
    stays: tuple[str, ...]


class TableMerge(Struct, frozen=True):
    """The tables of the two, the kinds of data with their tables, and those that what is live keeps.

    `prefixed` are columns whose values begin with the table prefix.
    """

    account: str
    whose: str
    instead_of: str
    live: MergedTables
    rehearsal: MergedTables
    kinds: tuple[tuple[str, tuple[str, ...]], ...]
    keeps: tuple[str, ...]
    prefixed: tuple[PrefixedValues, ...]


def table_merge(layout: AccountLayout, going: GoingLive) -> TableMerge:
    """What is compared, and merged, of a rehearsal that is to take the place of what is live."""
    known = layout.application(going.rehearsal)
    prefixed = tuple(prefixed_values(known)) if going.old.prefix != going.new.prefix else ()
    return TableMerge(
        layout.name, str(going.rehearsal.address), str(going.live.address), _side(layout, going.old),
        _side(layout, going.new), tuple((one.name, tuple(one.tables)) for one in known.data),
        tuple(going.rehearsal.live_keeps), prefixed,
    )  # fmt: skip


def _side(layout: AccountLayout, base: Database) -> MergedTables:
    longer = longer_prefixes(layout, (server_key(base.server), base.name), base.prefix)
    return MergedTables(base.name, base.prefix, tuple(longer))
