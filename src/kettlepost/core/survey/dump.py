"""Dumps of databases, and listings of their tables, read as a stream: names and sizes, nothing of anybody's data."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import BinaryIO

from kettlepost.core.budget import Budget
from kettlepost.core.errors import InputError
from kettlepost.core.survey.databases import SeenTable

_LINE = 1 << 16
"""How much of a line is looked at: statements that insert rows may be far longer."""
_NAME = rb"(?:`((?:[^`]|``)+)`|\"((?:[^\"]|\"\")+)\"|([\w$]+))"
_OF_ANY = rb"(?:" + _NAME + rb"\s{0,4}\.\s{0,4})?" + _NAME
_UNLESS = rb"(?:/\*!\d+\s{1,9}IF NOT EXISTS\*/\s{0,9}|IF\s{1,9}NOT\s{1,9}EXISTS\s{1,9})?"
_CREATE = re.compile(
    rb"\s{0,9}CREATE\s{1,9}(?:UNLOGGED\s{1,9}|FOREIGN\s{1,9})?TABLE\s{1,9}" + _UNLESS + _OF_ANY, re.IGNORECASE
)
_BASE = re.compile(rb"\s{0,9}(?:USE|\\connect(?:\s{1,9}-reuse-previous=\w+)?)\s{1,9}" + _NAME, re.IGNORECASE)
_MADE = re.compile(rb"\s{0,9}CREATE\s{1,9}DATABASE\s{1,9}" + _UNLESS + _NAME, re.IGNORECASE)
_FILLED = re.compile(rb"\s{0,9}(?:INSERT(?:\s{1,9}IGNORE)?|REPLACE)\s{1,9}INTO\s{1,9}" + _OF_ANY, re.IGNORECASE)
_COPIED = re.compile(
    rb"\s{0,9}COPY\s{1,9}" + _OF_ANY + rb"\s{0,9}(?:\([^)]*\))?\s{1,9}FROM\s{1,9}stdin;", re.IGNORECASE
)
_HOST = re.compile(rb"-- Host: .*?\s{1,9}Database: (\S[^\r\n]*)")
_HEADINGS = {
    b"database": "database", b"table_schema": "database", b"schema": "database", b"table": "name",
    b"table_name": "name", b"bytes": "bytes", b"size": "bytes", b"newest": "newest", b"update_time": "newest",
}  # fmt: skip
_DAY = re.compile(rb"\d{4}-\d{2}-\d{2}")


def is_listing(head: bytes) -> bool:
    """Whether a file begins as a listing of tables does: a line of headings that name databases and tables."""
    for line in head.split(b"\n")[:6]:
        cells = {_HEADINGS.get(cell.lower()) for cell in _cells(line)}
        if {"database", "name"} <= cells:
            return True
    return False


def read_listing(stream: BinaryIO, budget: Budget) -> Iterator[SeenTable]:
    """The tables of a listing: columns by tabs, or by the bars that a client draws. Raises InputError for none."""
    columns: list[str | None] = []
    for line in _lines(stream, budget):
        cells = _cells(line)
        if not cells:
            continue
        if not columns:
            named = [_HEADINGS.get(cell.lower()) for cell in cells]
            columns = named if {"database", "name"} <= set(named) else []
            continue
        values = {column: cell for column, cell in zip(columns, cells, strict=False) if column is not None}
        if values.get("database") and values.get("name"):
            budget.entry()
            written, day = values.get("bytes", b""), _DAY.match(values.get("newest", b""))
            size = int(written) if written.isdigit() and len(written) < 19 else -1
            yield SeenTable(_text(values["database"]), _text(values["name"]), size, day[0].decode() if day else "")
    if not columns:
        raise InputError(f"{budget.name}: no listing of tables: a line of headings names the columns")


def read_dump(stream: BinaryIO, budget: Budget, name: str = "") -> Iterator[SeenTable]:
    """The tables that a dump makes, each with the bytes of the statements that fill it; `name` is its database's.

    A dump says itself which database it is of, as a rule. Raises InputError where it makes no table and none is named.
    """
    found: dict[tuple[str, str], int] = {}
    base, copying, filling, has_schemas = name.encode(), None, None, False
    for line in _lines(stream, budget):
        has_schemas = has_schemas or line.startswith(b"-- PostgreSQL database")
        if copying is not None or filling is not None:
            if copying is not None and line.rstrip(b"\r\n") == b"\\.":
                copying = None
                continue
            into = copying or filling
            found[into] = found.get(into, 0) + len(line)  # type: ignore[index, arg-type]
            filling = None if line.rstrip().endswith(b";") else filling
            continue
        base = _base_of(line, base)
        if made := _CREATE.match(line):
            key = _key(made, base, has_schemas)
            if key not in found:
                budget.entry()
                found[key] = 0
        elif filled := _FILLED.match(line):
            key = _key(filled, base, has_schemas)
            found[key] = found.get(key, 0) + len(line)
            filling = None if line.rstrip().endswith(b";") else key
        elif copied := _COPIED.match(line):
            copying = _key(copied, base, has_schemas)
    if not found and not base:
        raise InputError(f"{budget.name}: no dump of a database: it makes no table")
    yield from (SeenTable(database, table, size) for (database, table), size in found.items())
    yield from [SeenTable(_text(base), "")] if not found else []


def _base_of(line: bytes, base: bytes) -> bytes:
    """The database that what follows a line belongs to."""
    if line.startswith(b"--"):
        told = _HOST.match(line)
        return told[1].strip() if told and not base else base
    used = _BASE.match(line) or _MADE.match(line)
    return _name(used.groups()) if used else base


def _key(found: re.Match[bytes], base: bytes, has_schemas: bool) -> tuple[str, str]:
    """The database and the table of a statement; a table in a schema but the usual one is called by both."""
    groups = found.groups()
    around, own = _name(groups[:3]), _name(groups[3:6])
    if has_schemas:
        return _text(base), _text(own if around in (b"", b"public") else around + b"." + own)
    return _text(around or base), _text(own)


def _name(groups: tuple[bytes | None, ...]) -> bytes:
    back, double, plain = groups[:3]
    if back is not None:
        return back.replace(b"``", b"`")
    return double.replace(b'""', b'"') if double is not None else plain or b""


def _text(raw: bytes) -> str:
    return raw.decode("utf-8", "surrogateescape")


def _cells(line: bytes) -> list[bytes]:
    """The cells of a line: between tabs, or between bars; none of a line that is only drawn."""
    line = line.strip(b"\r\n")
    if b"\t" in line:
        return [cell.strip() for cell in line.split(b"\t")]
    if line.lstrip().startswith(b"|") or b" | " in line:
        return [cell.strip() for cell in line.strip().strip(b"|").split(b"|")]
    return []


def _lines(stream: BinaryIO, budget: Budget) -> Iterator[bytes]:
    """All lines, a long one in pieces."""
    read: Callable[[int], bytes] = stream.readline
    while line := read(_LINE):
        budget.read(len(line))
        yield line
