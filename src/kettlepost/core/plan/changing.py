"""Changes to a plan, carried out on the text of its files so that comments and order survive."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

import rtoml
from msgspec import NODEFAULT, Struct, field
from msgspec.structs import fields

from kettlepost.core.errors import InputError
from kettlepost.core.plan.source import Key, headers_of


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
    """A record as a file writes it: without what is left to its default, but for the state of an installation."""
    table: dict[str, Any] = {}
    for known in fields(record):
        value = getattr(record, known.name)
        usual = known.default if known.default_factory is NODEFAULT else known.default_factory()
        if value != usual or known.name == "state":
            plain = isinstance(value, bool | list | int) or type(value) is str
            table[known.name] = (
                table_of(value) if isinstance(value, Struct) else list(map(str, value)) if isinstance(value, list)
                else value if plain else str(value).removesuffix("/")
            )  # fmt: skip
    return table


def changed_text(text: str, changes: Sequence[Change]) -> str:
    """The text of one account's file once `changes` are carried out, in whatever order they come.

    Comments, order and line ends stay: a key that is new comes behind the last of its table, a
    table that is new behind the last of its kind. Raises InputError where the file is written
    in a way that cannot be kept.
    """
    wanted = rtoml.loads(text)
    change_document(wanted, changes)
    for carry_out in (_in_blocks, _in_document):
        try:
            changed = carry_out(text, changes)
            if rtoml.loads(changed) == wanted:
                return changed
        except (KeyError, IndexError, ValueError, TypeError):
            continue
    raise InputError(f"the file of account {changes[0].account} is written in a way that is not changed here; edit it")


def _in_blocks(text: str, changes: Iterable[Change]) -> str:
    """Change each table within its own lines."""
    end = "\r\n" if "\r\n" in text else "\n"
    lines = text.replace("\r\n", "\n").split("\n")
    headers = [(number - 1, key) for number, key in headers_of("\n".join(lines))]
    edits: list[tuple[int, int, list[str]]] = []
    behind: dict[str, list[str]] = {}
    for change in changes:
        if change.number is None and change.table != "account":
            behind.setdefault(change.table, []).extend(["", f"[[{change.table}]]", *_written(change.values)])
            continue
        key = ("account",) if change.table == "account" else (change.table, change.number or 0)
        first, last = _block(lines, headers, key)
        if change.drop:
            after = last + 1 if last + 1 < len(lines) and not lines[last].strip() else last
            edits.append((first, after, []))
        else:
            edits.append((first, last, _with_keys(lines[first:last], change)))
    for table, new in behind.items():
        kin = [key for _, key in headers if key[0] == table and len(key) == 2]
        if not kin and f"{table} =" in text:
            raise KeyError(table)
        at = _block(lines, headers, kin[-1])[1] if kin else len("\n".join(lines).rstrip().split("\n"))
        edits.append((at, at, new))
    edits.reverse()  # of those at one line, the last written stays behind the others
    for first, last, new in sorted(edits, key=lambda edit: edit[:2], reverse=True):
        lines[first:last] = new
    changed = "\n".join(lines)
    return (changed if changed.endswith("\n") else changed + "\n").replace("\n", end)


def _block(lines: list[str], headers: list[tuple[int, Key]], key: Key) -> tuple[int, int]:
    """The lines of a table: from its header to behind its last key."""
    at = next(n for n, (_, known) in enumerate(headers) if known == key)
    following = (line for line, known in headers[at + 1 :] if known[: len(key)] != key)
    first, last = headers[at][0], next(following, len(lines))
    while last > first + 1 and lines[last - 1].lstrip()[:1] in ("", "#"):
        last -= 1
    return first, last


def _with_keys(block: list[str], change: Change) -> list[str]:
    """The lines of one table with other values."""
    import tomlkit  # slow to import, and only changes need it

    document = tomlkit.parse("\n".join(block) + "\n")
    there: Any = document["account"] if change.table == "account" else document[change.table][0]
    _set(there, change.values, lambda value: tomlkit.parse(f"x = {_value(value)}")["x"])
    return tomlkit.dumps(document).rstrip("\n").split("\n")


def _written(values: dict[str, Any]) -> list[str]:
    return [f"{key} = {_value(value)}" for key, value in values.items() if value is not None]


def _value(value: Any) -> str:
    """A value as TOML writes it, inline tables with spaces inside their braces."""
    import tomlkit

    if isinstance(value, dict):
        return "{ " + ", ".join(_written(value)) + " }"
    return str(tomlkit.item(value).as_string())


def _in_document(text: str, changes: Iterable[Change]) -> str:
    """Change the document as a whole, however its tables are written."""
    import tomlkit

    document = tomlkit.parse(text)
    _carry_out(document, changes, lambda name: document.append(name, tomlkit.aot()), tomlkit.table, _inline)
    return tomlkit.dumps(document)


def _inline(value: dict[str, Any]) -> Any:
    import tomlkit

    inline = tomlkit.inline_table()
    inline.update(value)
    return inline


def change_document(document: dict[str, Any], changes: Iterable[Change]) -> None:
    """Carry `changes` out on what a parser made of an account's file."""

    def new_list(name: str) -> None:
        document[name] = []

    _carry_out(document, changes, new_list, dict, dict)


def _carry_out(
    document: Any,
    changes: Iterable[Change],
    new_list: Callable[[str], object],
    new_table: Callable[[], Any],
    inline: Callable[[dict[str, Any]], Any],
) -> None:
    ordered = sorted(changes, key=lambda change: (change.drop, -(change.number or 0)))
    for change in ordered:
        if change.table == "account":
            _set(document["account"], change.values, inline)
        elif change.number is None:
            if change.table not in document:
                new_list(change.table)
            table = new_table() if hasattr(document[change.table], "body") or type(document) is dict else inline({})
            _set(table, change.values, inline)
            document[change.table].append(table)
        elif change.drop:
            del document[change.table][change.number]
            if not document[change.table]:
                del document[change.table]
        else:
            _set(document[change.table][change.number], change.values, inline)


def _set(table: Any, values: dict[str, Any], inline: Callable[[dict[str, Any]], Any]) -> None:
    for key, value in values.items():
        if value is None:
            table.pop(key, None)
        elif isinstance(value, dict):
            table[key] = inline({**table.get(key, {}), **value})
        else:
            table[key] = value
