"""The rows of a register that a user wants to see, in the order wanted."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TypeVar

from msgspec import Struct

from kettlepost.core.answering import AccountRow, DomainRow, InstallRow
from kettlepost.core.errors import InputError
from kettlepost.core.layout import DatabaseRow
from kettlepost.core.messages import Message
from kettlepost.core.names import did_you_mean, quoted, readable
from kettlepost.render.sentences import text

StructT = TypeVar("StructT", bound=Struct)
REGISTERS = {
    "accounts": AccountRow.__struct_fields__,
    "databases": DatabaseRow.__struct_fields__,
    "domains": DomainRow.__struct_fields__,
    "installations": InstallRow.__struct_fields__,
}
"""The columns of each register."""


def chosen(
    rows: Sequence[StructT], columns: Sequence[str], match: Iterable[str], sort: str | None
) -> Sequence[StructT]:
    """The rows whose columns hold what each `COLUMN=TEXT` of `match` says, sorted by a column; `-COLUMN` turns round.

    Raises InputError for a column that is none.
    """
    for asked in match:
        column, _, held = asked.partition("=")
        _known_column(column, columns)
        rows = [row for row in rows if _holds(cell_text(getattr(row, column)).lower(), held.lower())]
    if sort is not None:
        column = sort.removeprefix("-")
        _known_column(column, columns)
        rows = sorted(rows, key=lambda row: _sortable(getattr(row, column)), reverse=sort.startswith("-"))
    return rows


def _sortable(value: object) -> tuple[bool, object]:
    """What is not known comes before all that is."""
    return value is not None, text(value) if isinstance(value, Message) else value


def _holds(cell: str, held: str) -> bool:
    """Whether a cell has a text in it, in either form of an international name."""
    return held in cell or any(held in readable(part) for part in cell.split(", "))


def chosen_columns(columns: Sequence[str], wanted: str | None) -> Sequence[str]:
    """The columns that `A,B` names, in that order; all where it is None. Raises InputError for one that is none."""
    if wanted is None:
        return columns
    named = [column.strip().lower().replace(" ", "_") for column in wanted.split(",") if column.strip()]
    for column in named:
        _known_column(column, columns)
    if not named:
        raise InputError(f"name at least one column (columns: {', '.join(columns)})")
    return list(dict.fromkeys(named))


def _known_column(column: str, columns: Sequence[str]) -> None:
    if column not in columns:
        near = did_you_mean(column, columns)
        raise InputError(f"{quoted(column)} is no column{near} (columns: {', '.join(columns)})")


def cell_text(value: object) -> str:
    """A value as it stands in a table: yes or no, a number, or text."""
    if value is None:
        return ""
    if isinstance(value, Message):
        return text(value)
    return ("yes" if value else "no") if isinstance(value, bool) else str(value)
