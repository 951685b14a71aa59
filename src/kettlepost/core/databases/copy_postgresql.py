"""The same queries for PostgreSQL, about the tables of the schema `public`; psql runs each in one database."""

from __future__ import annotations

from kettlepost.core.databases.copying import TableCopy
from kettlepost.core.quoting.sql import Sql

_TABLES = Sql.of("pg_class c WHERE c.relkind IN ('r', 'p') AND c.relnamespace = 'public'::regnamespace AND ")


def connection(database: str) -> str:
    """A database as a connection string, whatever its name holds."""
    value = database.replace("\\", "\\\\").replace("'", "\\'")
    return f"dbname='{value}'"


def tables(copy: TableCopy) -> Sql:
    """The names of the tables, as pg_dump takes them for just these."""
    return Sql.of(
        "SELECT 'public.\"' || replace(c.relname, '\"', '\"\"') || '\"' FROM «tables»«named» ORDER BY 1;",
        tables=_TABLES, named=_named(copy, copy.prefix),
    )  # fmt: skip


def troubles(copy: TableCopy) -> Sql:
    """In the other database: names that are taken."""
    prefixes = dict.fromkeys((copy.new_prefix,) if copy.within else (copy.new_prefix, copy.prefix))
    but = Sql.of(" AND NOT («named»)", named=_named(copy, copy.prefix)) if copy.within else Sql.of("")
    return Sql.joined(
        Sql.of(
            "SELECT 'there is a table ' || c.relname || ' already' FROM «tables»«named»«but»;",
            tables=_TABLES, named=_named(copy, prefix), but=but,
        )
        for prefix in prefixes
    )  # fmt: skip


def counting_query(copy: TableCopy, is_new: bool = False) -> Sql:
    prefix = copy.new_prefix if is_new else copy.prefix
    return Sql.of(
        "SELECT format('SELECT count(*), %L FROM public.%I;', substr(c.relname, «begin»), c.relname) "
        "FROM «tables»«named»;", begin=len(prefix) + 1, tables=_TABLES, named=_named(copy, prefix),
    )  # fmt: skip


def renaming_query(copy: TableCopy) -> Sql:
    return Sql.of(
        "SELECT 'BEGIN;';\nSELECT format('ALTER TABLE public.%I RENAME TO %I;', c.relname, "
        "«prefix» || substr(c.relname, «begin»)) FROM «tables»«named»;\nSELECT 'COMMIT;';",
        prefix=copy.dialect.text(copy.new_prefix), begin=len(copy.prefix) + 1, tables=_TABLES,
        named=_named(copy, copy.prefix),
    )  # fmt: skip


def values_query(copy: TableCopy) -> Sql:
    text, lines = copy.dialect.text, list[Sql]()
    for value in copy.prefixed:
        table, column = copy.new_prefix + value.table, copy.dialect.name(value.column)
        own = Sql.joined((text(copy.prefix + one) for one in value.only), ", ")
        begins = Sql.of(
            "left(«column», «length») = «prefix»", column=column, length=len(copy.prefix), prefix=text(copy.prefix)
        )  # fmt: skip
        update = Sql.of(
            "UPDATE public.«table» SET «column» = «new» || substr(«column», «begin») WHERE «which»;",
            table=copy.dialect.name(table), column=column, new=text(copy.new_prefix), begin=len(copy.prefix) + 1,
            which=Sql.of("«column» IN («own»)", column=column, own=own) if own else begins,
        )  # fmt: skip
        lines.append(Sql.of(
            "SELECT «update» FROM «tables»c.relname = «table»;", update=text(update), tables=_TABLES, table=text(table)
        ))  # fmt: skip
    return Sql.joined(lines)


def _named(copy: TableCopy, prefix: str) -> Sql:
    parts = [] if prefix else [Sql.of("TRUE")]
    others = copy.longer if prefix == copy.prefix else []
    for one, comparison in (
        *((one, Sql.of("=")) for one in (prefix,) if one), *((one, Sql.of("<>")) for one in others)
    ):  # fmt: skip
        parts.append(Sql.of(
            "left(c.relname, «length») «comparison» «one»", length=len(one), comparison=comparison,
            one=copy.dialect.text(one),
        ))  # fmt: skip
    return Sql.joined(parts, " AND ")
