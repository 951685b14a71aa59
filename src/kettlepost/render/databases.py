"""What was seen of databases, in words."""

from __future__ import annotations

import msgspec

from kettlepost.core.names import printable
from kettlepost.core.words import counted, listed
from kettlepost.render.json import document
from kettlepost.render.results import DatabasesRead
from kettlepost.render.screen import Screen
from kettlepost.render.surveys import size_words

_MOST = 20
HOW_TO = """\
Where the server cannot be reached from here, run one of these where it can, and fetch the file; neither
writes anything, and no row of anybody's data is in it:

  MySQL, MariaDB    mysql --batch --execute "SELECT table_schema AS 'database', table_name AS 'table',
                      data_length + index_length AS bytes, COALESCE(update_time, create_time) AS newest
                      FROM information_schema.tables WHERE table_type = 'BASE TABLE' AND table_schema NOT IN
                      ('information_schema', 'performance_schema', 'mysql', 'sys')" > tables.txt

  PostgreSQL        psql --no-align --field-separator=$'\\t' --pset footer=off --command "SELECT
                      current_database() AS database, relname AS table, pg_total_relation_size(oid) AS bytes
                      FROM pg_class WHERE relkind IN ('r', 'p') AND relnamespace = 'public'::regnamespace" > tables.txt

Then: kettlepost database read ACCOUNT --from tables.txt
"""


def show_read(screen: Screen, shown: DatabasesRead) -> None:
    """The databases that were read, each with its tables by prefix."""
    seen, stored = shown
    server = " ".join(filter(None, (seen.server, printable(seen.version))))
    size = counted(len(seen.databases), "database")
    screen.line((seen.account, "bold"), f"  {size}{f' of {server}' if server else ''} in {printable(seen.source)}")
    for base in seen.databases[:_MOST]:
        groups = [f"{printable(group.prefix) or '(none)'} {group.number:,}" for group in base.tables]
        told = f"{counted(base.number, 'table')}{f', {size_words(base.bytes)}' if base.bytes >= 0 else ''}"
        screen.labelled(printable(base.name), told, (f"  {listed(groups, 8)}" if groups else "", "dim"), indent=2,
                        column=24)  # fmt: skip
    if len(seen.databases) > _MOST:
        screen.line((f"and {len(seen.databases) - _MOST:,} more: kettlepost database list", "dim"), indent=2)
    screen.line((f"stored in {stored}", "dim"), indent=2)


def read_json(shown: DatabasesRead) -> str:
    return document(msgspec.to_builtins(shown.seen))
