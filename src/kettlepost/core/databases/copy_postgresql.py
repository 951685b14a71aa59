"""The same queries for PostgreSQL, about the tables of the schema `public`; psql runs each in one database."""

from __future__ import annotations

from kettlepost.core.databases.copying import TableCopy

_TABLES = "pg_class c WHERE c.relkind IN ('r', 'p') AND c.relnamespace = 'public'::regnamespace AND "


def connection(database: str) -> str:
    """A database as a connection string, whatever its name holds."""
    value = database.replace("\\", "\\\\").replace("'", "\\'")
    return f"dbname='{value}'"


def tables(copy: TableCopy) -> str:
    """The names of the tables, as pg_dump takes them for just these."""
    quoted = "'public.\"' || replace(c.relname, '\"', '\"\"') || '\"'"
    return f"SELECT {quoted} FROM {_TABLES}{_named(copy, copy.prefix)} ORDER BY 1;"


def troubles(copy: TableCopy) -> str:
    """In the other database: names that are taken."""
    told = "SELECT 'there is a table ' || c.relname || ' already' FROM "
    prefixes = dict.fromkeys((copy.new_prefix,) if copy.within else (copy.new_prefix, copy.prefix))
    but = f" AND NOT ({_named(copy, copy.prefix)})" if copy.within else ""
    return "\n".join(f"{told}{_TABLES}{_named(copy, prefix)}{but};" for prefix in prefixes)


def counting_query(copy: TableCopy, is_new: bool = False) -> str:
    prefix = copy.new_prefix if is_new else copy.prefix
    told = f"format('SELECT count(*), %L FROM public.%I;', substr(c.relname, {len(prefix) + 1}), c.relname)"
    return f"SELECT {told} FROM {_TABLES}{_named(copy, prefix)};"


def renaming_query(copy: TableCopy) -> str:
    new = f"{copy.dialect.text(copy.new_prefix)} || substr(c.relname, {len(copy.prefix) + 1})"
    return (
        f"SELECT 'BEGIN;';\nSELECT format('ALTER TABLE public.%I RENAME TO %I;', c.relname, {new}) "
        f"FROM {_TABLES}{_named(copy, copy.prefix)};\nSELECT 'COMMIT;';"
    )


def values_query(copy: TableCopy) -> str:
    text, lines = copy.dialect.text, list[str]()
    for value in copy.prefixed:
        table, column = copy.new_prefix + value.table, copy.dialect.name(value.column)
        own = ", ".join(text(copy.prefix + one) for one in value.only)
        which = f"{column} IN ({own})" if own else f"left({column}, {len(copy.prefix)}) = {text(copy.prefix)}"
        update = (
            f"UPDATE public.{copy.dialect.name(table)} SET {column} = {text(copy.new_prefix)} || "
            f"substr({column}, {len(copy.prefix) + 1}) WHERE {which};"
        )
        lines.append(f"SELECT {text(update)} FROM {_TABLES}c.relname = {text(table)};")
    return "\n".join(lines)


def _named(copy: TableCopy, prefix: str) -> str:
    text = copy.dialect.text
    parts = [f"left(c.relname, {len(prefix)}) = {text(prefix)}"] if prefix else ["TRUE"]
    if prefix == copy.prefix:
        parts += [f"left(c.relname, {len(one)}) <> {text(one)}" for one in copy.longer]
    return " AND ".join(parts)
