"""Changes to a plan, carried out on the text of its files so that comments and order survive."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from msgspec import NODEFAULT, Struct, field
from msgspec.structs import fields


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


def table_of(record: Struct) -> dict[str, Any]:
    """A record as a file writes it: without what is left to its default."""
    table: dict[str, Any] = {}
    for known in fields(record):
        value = getattr(record, known.name)
        usual = known.default if known.default_factory is NODEFAULT else known.default_factory()
        if value != usual:
            plain = isinstance(value, bool | list | int) or type(value) is str
            table[known.name] = (
                table_of(value) if isinstance(value, Struct) else list(map(str, value)) if isinstance(value, list)
                else value if plain else str(value)
            )  # fmt: skip
    return table


def changed_text(text: str, changes: Iterable[Change]) -> str:
    """The text of one account's file once `changes` are carried out, in whatever order they come."""
    import tomlkit  # slow to import, and only changes need it

    def new_list(document: Any, name: str) -> None:
        document.append(name, tomlkit.aot())

    document = tomlkit.parse(text)
    _carry_out(document, changes, new_list, tomlkit.table, tomlkit.inline_table)
    return tomlkit.dumps(document)


def change_document(document: dict[str, Any], changes: Iterable[Change]) -> None:
    """Carry `changes` out on what a parser made of an account's file."""

    def new_list(document: Any, name: str) -> None:
        document[name] = []

    _carry_out(document, changes, new_list, dict, dict)


def _carry_out(
    document: Any,
    changes: Iterable[Change],
    new_list: Callable[[Any, str], None],
    new_table: Callable[[], Any],
    new_inline: Callable[[], Any],
) -> None:
    ordered = sorted(changes, key=lambda change: (change.drop, -(change.number or 0)))
    for change in ordered:
        if change.table == "account":
            _set(document["account"], change.values, new_inline)
        elif change.number is None:
            if change.table not in document:
                new_list(document, change.table)
            table = new_table()
            _set(table, change.values, new_inline)
            document[change.table].append(table)
        elif change.drop:
            del document[change.table][change.number]
            if not document[change.table]:
                del document[change.table]
        else:
            _set(document[change.table][change.number], change.values, new_inline)


def _set(table: Any, values: dict[str, Any], new_inline: Callable[[], Any]) -> None:
    for key, value in values.items():
        if value is None:
            table.pop(key, None)
        elif isinstance(value, dict):
            inline = new_inline()
            inline.update({**table.get(key, {}), **value})
            table[key] = inline
        else:
            table[key] = value
