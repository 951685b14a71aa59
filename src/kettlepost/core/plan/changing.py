"""Changes to a plan, carried out on the text of its files so that comments and order survive."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from msgspec import Struct, field


class Change(Struct, omit_defaults=True, frozen=True):
    """One change to an account's file.

    `number` is the table's place among those of its kind, from 0; without it a new table is
    written behind the last; of `account` there is one. `values` are the keys to set, None for a
    key to take out. A table is taken out whole when `drop` is true.
    """

    account: str
    table: str
    number: int | None = None
    values: dict[str, Any] = field(default_factory=dict)
    drop: bool = False


def changed_text(text: str, changes: Iterable[Change]) -> str:
    """The text of one account's file once `changes` are carried out, in whatever order they come."""
    import tomlkit  # slow to import, and only changes need it

    document = tomlkit.parse(text)
    ordered = sorted(changes, key=lambda change: (change.drop, -(change.number or 0)))
    for change in ordered:
        tables: Any = document.get(change.table)
        if change.table == "account":
            _set(tables, change.values)
        elif change.number is None:
            _append(document, change)
        elif change.drop:
            del tables[change.number]
        else:
            _set(tables[change.number], change.values)
    return tomlkit.dumps(document)


def _append(document: Any, change: Change) -> None:
    import tomlkit

    table = tomlkit.table()
    _set(table, change.values)
    if change.table not in document:
        document.append(change.table, tomlkit.aot())
    document[change.table].append(table)


def _set(table: Any, values: dict[str, Any]) -> None:
    import tomlkit

    for key, value in values.items():
        if value is None:
            table.pop(key, None)
        elif isinstance(value, dict):
            inline = tomlkit.inline_table()
            inline.update({**table.get(key, {}), **value})
            table[key] = inline
        else:
            table[key] = value
