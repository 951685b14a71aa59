"""The queries by which MySQL and MariaDB copy or rename tables that nobody has listed.

Each asks the server which tables there are. Those that end in `_query` give the statements to be run next, one a
line, so that nothing rests on names that were seen some other day.
"""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.databases.copying import TableCopy
from kettlepost.core.quoting.sql import Sql, within_text

SESSION = Sql.of(
    "SET SESSION sql_mode = 'NO_BACKSLASH_ESCAPES,NO_AUTO_VALUE_ON_ZERO';\n"
    "SET SESSION group_concat_max_len = 1048576;\n"
)
_SAME_SESSION = Sql.of("SELECT 'SET SESSION sql_mode = ''NO_BACKSLASH_ESCAPES,NO_AUTO_VALUE_ON_ZERO'';';\n")
_TABLE_SCHEMA, _TABLE_NAME = Sql.of("table_schema"), Sql.of("table_name")
_OLD_NAME = Sql.of("'`', REPLACE(table_name, '`', '``'), '`'")


def tables(copy: TableCopy) -> Sql:
    """The names of the tables."""
    return Sql.of("SELECT table_name FROM information_schema.tables WHERE «are» ORDER BY table_name;", are=_are(copy))


def troubles(copy: TableCopy) -> Sql:
    """What would be lost, broken or written over, in words: views, keys that lead elsewhere, names that are taken."""
    return Sql.joined((*_left_behind(copy), *_taken(copy)))


def left_behind(copy: TableCopy) -> Sql:
    """What would be lost or broken: views, keys that lead elsewhere."""
    return Sql.joined(_left_behind(copy))


def taken_names(copy: TableCopy) -> Sql:
    """What would be written over where they go."""
    return Sql.joined(_taken(copy))


COLLATIONS = Sql.of("SELECT collation_name FROM information_schema.collations;")
"""How the server can order text."""


def is_there(copy: TableCopy) -> Sql:
    """The name of the database that they go into, where it is there."""
    return Sql.of(
        "SELECT schema_name FROM information_schema.schemata WHERE HEX(schema_name) = HEX(«name»);",
        name=copy.dialect.text(copy.target),
    )


def counting_query(copy: TableCopy, is_new: bool = False) -> Sql:
    """Counts the rows of each table, and tells it without its prefix; `is_new` counts under the new names."""
    base, prefix = (copy.target, copy.new_prefix) if is_new else (copy.source, copy.prefix)
    return Sql.of(
        "SELECT CONCAT('SELECT COUNT(*), ''', REPLACE(SUBSTRING(table_name, «begin»), '''', ''''''), "
        "''' FROM «base».', «old», ';') FROM information_schema.tables WHERE «are»;",
        begin=len(prefix) + 1, base=_inside(copy, base), old=_OLD_NAME, are=_are(copy, base, prefix),
    )  # fmt: skip


def copying_query(copy: TableCopy) -> Sql:
    """Copies them beside themselves: like the old ones, with every column that is not worked out from others."""
    columns = Sql.of(
        "(SELECT GROUP_CONCAT('`', REPLACE(c.column_name, '`', '``'), '`' ORDER BY c.ordinal_position) FROM "
        "information_schema.columns c WHERE c.table_schema = t.table_schema AND c.table_name = t.table_name "
        "AND c.extra NOT LIKE '%GENERATED%')"
    )
    return Sql.of(
        "«session»SELECT CONCAT('CREATE TABLE «base».', «new», ' LIKE «base».', «old», '; INSERT INTO «base».', "
        "«new», ' (', «columns», ') SELECT ', «columns», ' FROM «base».', «old», ';') "
        "FROM information_schema.tables t WHERE «are»;",
        session=_SAME_SESSION, base=_inside(copy, copy.source), new=_new_name(copy), old=_OLD_NAME, columns=columns,
        are=_are(copy),
    )  # fmt: skip


def renaming_query(copy: TableCopy, is_loaded: bool = False) -> Sql:
    """Renames them all in one statement; `is_loaded` those that were loaded into the other database as they were."""
    now = copy.target if is_loaded else copy.source
    return Sql.of(
        "SELECT CONCAT('RENAME TABLE ', GROUP_CONCAT('«now».', «old», ' TO «target».', «new» SEPARATOR ', '), ';') "
        "FROM information_schema.tables WHERE «are»;",
        now=_inside(copy, now), target=_inside(copy, copy.target), old=_OLD_NAME, new=_new_name(copy),
        are=_are(copy, now),
    )  # fmt: skip


def values_query(copy: TableCopy) -> Sql:
    """Gives values that begin with the old prefix the new one, in those of the tables that are there."""
    text, base = copy.dialect.text, copy.dialect.name(copy.target)
    lines = [_SAME_SESSION]
    for value in copy.prefixed:
        table, column = copy.new_prefix + value.table, copy.dialect.name(value.column)
        begins = Sql.of(
            "HEX(LEFT(«column», «length»)) = HEX(«prefix»)", column=column, length=len(copy.prefix),
            prefix=text(copy.prefix),
        )  # fmt: skip
        own = Sql.joined((text(copy.prefix + one) for one in value.only), ", ")
        update = Sql.of(
            "UPDATE «base».«table» SET «column» = CONCAT(«new», SUBSTRING(«column», «begin»)) WHERE «which»;",
            base=base, table=copy.dialect.name(table), column=column, new=text(copy.new_prefix),
            begin=len(copy.prefix) + 1,
            which=Sql.of("«column» IN («own»)", column=column, own=own) if own else begins,
        )  # fmt: skip
        lines.append(Sql.of(
            "SELECT «update» FROM information_schema.tables WHERE HEX(table_schema) = HEX(«target») "
            "AND HEX(table_name) = HEX(«table»);\n",
            update=text(update), target=text(copy.target), table=text(table),
        ))  # fmt: skip
    return Sql.joined(lines, "")


def _are(copy: TableCopy, base: str | None = None, prefix: str | None = None) -> Sql:
    """The condition for the tables that are meant, as they are called now, in one of the two databases."""
    return Sql.of("table_type = 'BASE TABLE' AND «named»", named=_named(copy, base, prefix))


def _named(
    copy: TableCopy, base: str | None = None, prefix: str | None = None,
    schema: Sql = _TABLE_SCHEMA, name: Sql = _TABLE_NAME,
) -> Sql:  # fmt: skip
    """The condition for names with a prefix, but for those of longer prefixes that are others'."""
    text = copy.dialect.text
    base, prefix = copy.source if base is None else base, copy.prefix if prefix is None else prefix
    parts = [Sql.of("HEX(«schema») = HEX(«base»)", schema=schema, base=text(base))]
    others = copy.longer if prefix == copy.prefix else []
    for one, comparison in (
        *((one, Sql.of("=")) for one in (prefix,) if one), *((one, Sql.of("<>")) for one in others)
    ):  # fmt: skip
        parts.append(Sql.of(
            "HEX(LEFT(«name», «length»)) «comparison» HEX(«one»)", name=name, length=len(one), comparison=comparison,
            one=text(one),
        ))  # fmt: skip
    return Sql.joined(parts, " AND ")


def _left_behind(copy: TableCopy) -> Iterator[Sql]:
    yield Sql.of(
        "SELECT CONCAT('the view ', table_name, ' would be left behind') FROM information_schema.tables "
        "WHERE table_type <> 'BASE TABLE' AND «named»;", named=_named(copy),
    )  # fmt: skip
    own = _named(copy, schema=Sql.of("constraint_schema"))
    leads = _named(copy, schema=Sql.of("unique_constraint_schema"), name=Sql.of("referenced_table_name"))
    lost = Sql.of("TRUE") if copy.within and not copy.renames else Sql.of("NOT («leads»)", leads=leads)
    yield Sql.of(
        "SELECT CONCAT('the foreign key ', constraint_name, ' of ', table_name, ' to ', referenced_table_name, "
        "' would be lost or lead elsewhere') FROM information_schema.referential_constraints WHERE «own» AND «lost»;",
        own=own, lost=lost,
    )  # fmt: skip
    if copy.within or copy.renames:
        found = _named(copy, schema=Sql.of("event_object_schema"), name=Sql.of("event_object_table"))
        yield Sql.of(
            "SELECT CONCAT('the trigger ', trigger_name, ' of ', event_object_table, ' would be left behind') "
            "FROM information_schema.triggers WHERE «found»;", found=found,
        )  # fmt: skip


def _taken(copy: TableCopy) -> Iterator[Sql]:
    # a name that is taken: of those they get, and where they are loaded as they are called now, of those too
    for prefix in dict.fromkeys((copy.new_prefix, *(() if copy.within else (copy.prefix,)))):
        but = Sql.of(" AND NOT («named»)", named=_named(copy)) if copy.within else Sql.of("")
        yield Sql.of(
            "SELECT CONCAT('there is a table ', table_name, ' already') FROM information_schema.tables "
            "WHERE «named»«but»;", named=_named(copy, copy.target, prefix), but=but,
        )  # fmt: skip


def _inside(copy: TableCopy, base: str) -> Sql:
    """A database as it stands within a text of the query."""
    return within_text(copy.dialect.name(base))


def _new_name(copy: TableCopy) -> Sql:
    return Sql.of(
        "'`', REPLACE(CONCAT(«prefix», SUBSTRING(table_name, «begin»)), '`', '``'), '`'",
        prefix=copy.dialect.text(copy.new_prefix), begin=len(copy.prefix) + 1,
    )  # fmt: skip
