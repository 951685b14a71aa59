"""The queries by which MySQL and MariaDB copy or rename tables that nobody has listed.

Each asks the server which tables there are. Those that end in `_query` give the statements to be run next, one a
line, so that nothing rests on names that were seen some other day.
"""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.databases.copying import TableCopy

SESSION = (
    "SET SESSION sql_mode = 'NO_BACKSLASH_ESCAPES,NO_AUTO_VALUE_ON_ZERO';\n"
    "SET SESSION group_concat_max_len = 1048576;\n"
)
_SAME_SESSION = "SELECT 'SET SESSION sql_mode = ''NO_BACKSLASH_ESCAPES,NO_AUTO_VALUE_ON_ZERO'';';\n"


def tables(copy: TableCopy) -> str:
    """The names of the tables."""
    return f"SELECT table_name FROM information_schema.tables WHERE {_are(copy)} ORDER BY table_name;"


def troubles(copy: TableCopy) -> str:
    """What would be lost, broken or written over, in words: views, keys that lead elsewhere, names that are taken."""
    return "\n".join(_troubles(copy))


def is_there(copy: TableCopy) -> str:
    """The name of the database that they go into, where it is there."""
    name = copy.dialect.text(copy.target)
    return f"SELECT schema_name FROM information_schema.schemata WHERE HEX(schema_name) = HEX({name});"


def counting_query(copy: TableCopy, is_new: bool = False) -> str:
    """Counts the rows of each table, and tells it without its prefix; `is_new` counts under the new names."""
    base, prefix = (copy.target, copy.new_prefix) if is_new else (copy.source, copy.prefix)
    rest = f"REPLACE(SUBSTRING(table_name, {len(prefix) + 1}), '''', '''''')"
    return (
        f"SELECT CONCAT('SELECT COUNT(*), ''', {rest}, ''' FROM {_inside(copy, base)}.', {_old_name()}, ';') "
        f"FROM information_schema.tables WHERE {_are(copy, base, prefix)};"
    )


def copying_query(copy: TableCopy) -> str:
    """Copies them beside themselves: like the old ones, with every column that is not worked out from others."""
    base = _inside(copy, copy.source)
    columns = (
        "(SELECT GROUP_CONCAT('`', REPLACE(c.column_name, '`', '``'), '`' ORDER BY c.ordinal_position) FROM "
        "information_schema.columns c WHERE c.table_schema = t.table_schema AND c.table_name = t.table_name "
        "AND c.extra NOT LIKE '%GENERATED%')"
    )
    new, old = _new_name(copy), _old_name()
    return (
        f"{_SAME_SESSION}SELECT CONCAT('CREATE TABLE {base}.', {new}, ' LIKE {base}.', {old}, '; INSERT INTO {base}.', "
        f"{new}, ' (', {columns}, ') SELECT ', {columns}, ' FROM {base}.', {old}, ';') "
        f"FROM information_schema.tables t WHERE {_are(copy)};"
    )


def renaming_query(copy: TableCopy, is_loaded: bool = False) -> str:
    """Renames them all in one statement; `is_loaded` those that were loaded into the other database as they were."""
    now = copy.target if is_loaded else copy.source
    return (
        f"SELECT CONCAT('RENAME TABLE ', GROUP_CONCAT('{_inside(copy, now)}.', {_old_name()}, "
        f"' TO {_inside(copy, copy.target)}.', {_new_name(copy)} SEPARATOR ', '), ';') "
        f"FROM information_schema.tables WHERE {_are(copy, now)};"
    )


def values_query(copy: TableCopy) -> str:
    """Gives values that begin with the old prefix the new one, in those of the tables that are there."""
    text, base = copy.dialect.text, copy.dialect.name(copy.target)
    lines = [_SAME_SESSION]
    for value in copy.prefixed:
        table, column = copy.new_prefix + value.table, copy.dialect.name(value.column)
        own = ", ".join(text(copy.prefix + one) for one in value.only)
        begins = f"HEX(LEFT({column}, {len(copy.prefix)})) = HEX({text(copy.prefix)})"
        update = (
            f"UPDATE {base}.{copy.dialect.name(table)} SET {column} = CONCAT({text(copy.new_prefix)}, "
            f"SUBSTRING({column}, {len(copy.prefix) + 1})) WHERE {f'{column} IN ({own})' if own else begins};"
        )
        lines.append(
            f"SELECT {text(update)} FROM information_schema.tables WHERE HEX(table_schema) = HEX({text(copy.target)}) "
            f"AND HEX(table_name) = HEX({text(table)});\n"
        )
    return "".join(lines)


def _are(copy: TableCopy, base: str | None = None, prefix: str | None = None) -> str:
    """The condition for the tables that are meant, as they are called now, in one of the two databases."""
    return f"table_type = 'BASE TABLE' AND {_named(copy, base, prefix)}"


def _named(
    copy: TableCopy, base: str | None = None, prefix: str | None = None, schema: str = "table_schema",
    name: str = "table_name",
) -> str:  # fmt: skip
    """The condition for names with a prefix, but for those of longer prefixes that are others'."""
    text = copy.dialect.text
    base, prefix = copy.source if base is None else base, copy.prefix if prefix is None else prefix
    parts = [f"HEX({schema}) = HEX({text(base)})"]
    if prefix:
        parts.append(f"HEX(LEFT({name}, {len(prefix)})) = HEX({text(prefix)})")
    if prefix == copy.prefix:
        parts += [f"HEX(LEFT({name}, {len(one)})) <> HEX({text(one)})" for one in copy.longer]
    return " AND ".join(parts)


def _troubles(copy: TableCopy) -> Iterator[str]:
    yield (
        "SELECT CONCAT('the view ', table_name, ' would be left behind') FROM information_schema.tables "
        f"WHERE table_type <> 'BASE TABLE' AND {_named(copy)};"
    )
    own = _named(copy, schema="constraint_schema")
    leads = _named(copy, schema="unique_constraint_schema", name="referenced_table_name")
    lost = "TRUE" if copy.within and not copy.renames else f"NOT ({leads})"
    yield (
        "SELECT CONCAT('the foreign key ', constraint_name, ' of ', table_name, ' to ', referenced_table_name, "
        f"' would be lost or lead elsewhere') FROM information_schema.referential_constraints WHERE {own} AND {lost};"
    )
    if copy.within or copy.renames:
        found = _named(copy, schema="event_object_schema", name="event_object_table")
        yield (
            "SELECT CONCAT('the trigger ', trigger_name, ' of ', event_object_table, ' would be left behind') "
            f"FROM information_schema.triggers WHERE {found};"
        )
    # a name that is taken: of those they get, and where they are loaded as they are called now, of those too
    for prefix in dict.fromkeys((copy.new_prefix, *(() if copy.within else (copy.prefix,)))):
        but = f" AND NOT ({_named(copy)})" if copy.within else ""
        yield (
            f"SELECT CONCAT('there is a table ', table_name, ' already') FROM information_schema.tables "
            f"WHERE {_named(copy, copy.target, prefix)}{but};"
        )


def _inside(copy: TableCopy, base: str) -> str:
    """A database as it stands within a text of the query."""
    return copy.dialect.name(base).replace("'", "''")


def _old_name() -> str:
    return "'`', REPLACE(table_name, '`', '``'), '`'"


def _new_name(copy: TableCopy) -> str:
    rest = f"SUBSTRING(table_name, {len(copy.prefix) + 1})"
    return f"'`', REPLACE(CONCAT({copy.dialect.text(copy.new_prefix)}, {rest}), '`', '``'), '`'"
