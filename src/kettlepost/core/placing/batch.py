"""Wishes by the list: read from a table, and given their places one after the other."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import get_args

from msgspec import Struct

from kettlepost.core.errors import Fault, InputError, PlanError
from kettlepost.core.names import did_you_mean, printable, quoted
from kettlepost.core.placing.candidates import Wish
from kettlepost.core.placing.weighing import Weighed, Weighing, weigh
from kettlepost.core.plan import Prefer
from kettlepost.core.trying import Scenario

LARGEST = 16 * 1024 * 1024
"""The largest list of wishes that is read, in bytes."""
_NEEDED = ("application", "domain")
_COLUMNS = (*_NEEDED, "name", "prefer", "new_domain", "account")


class WishLine(Struct):
    """A wish, and the line of the list it stands on, from 1."""

    line: int
    wish: Wish


class Granted(Struct, frozen=True):
    """What becomes of a wish: the place it gets, or why there is none.

    `weighing` has the places that could come first, each of which something stops where none is
    given; `error` is what was wrong with the wish itself.
    """

    line: int
    wish: Wish
    weighing: Weighing | None = None
    error: InputError | None = None

    @property
    def place(self) -> Weighed | None:
        return self.weighing.best if self.weighing is not None else None


def read_wishes(raw: bytes, name: str) -> list[WishLine]:
    """Read a table with a head: `application`, `domain`, and perhaps `name`, `prefer`, `new_domain` and `account`.

    Commas, semicolons and tabs separate; a byte-order mark and any line ends will do
    (RFC 4180). Raises PlanError with every fault, by row and column.
    """
    if len(raw) > LARGEST:
        raise InputError(f"{name}: larger than {LARGEST >> 20} MiB; divide it")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        row = raw.count(b"\n", 0, error.start) + 1
        raise InputError(f"{name}:{row}: not UTF-8; save the table as CSV in UTF-8") from None
    first = text.partition("\n")[0]
    sign = max(",;\t", key=first.count)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=sign, strict=True)
    faults: list[Fault] = []
    found: list[WishLine] = []
    try:
        columns = _columns(next(reader, []), name)
        before = reader.line_num
        for cells in reader:
            line, before = before + 1, reader.line_num
            if any(cell.strip() for cell in cells):
                wish = _wish(columns, cells, name, line, faults)
                if wish is not None:
                    found.append(WishLine(line, wish))
    except csv.Error as error:
        text = f"no table: {error}; quote cells as RFC 4180 says"
        faults.append(Fault(name, reader.line_num, (), "not-csv", text))
    if faults:
        raise PlanError(faults)
    return found


def grant(scenario: Scenario, wishes: list[WishLine]) -> Iterator[Granted]:
    """Give each wish its best place, one after the other: what was given is taken from then on."""
    for wish in wishes:
        try:
            weighing = weigh(scenario, wish.wish, only_preferred=True)
        except InputError as error:
            yield Granted(wish.line, wish.wish, error=error)
            continue
        granted = Granted(wish.line, wish.wish, weighing)
        if granted.place is not None:
            scenario.carry_out(granted.place.place.addition)
        yield granted


def _columns(head: list[str], name: str) -> list[str]:
    """The columns of a table. Raises PlanError for those that are missing, unknown or there twice."""
    columns = [cell.strip().lower().replace(" ", "_").replace("-", "_") for cell in head]
    faults = []
    for number, column in enumerate(columns, 1):
        if column and column not in _COLUMNS:
            near = did_you_mean(column, _COLUMNS)
            text = f"column {number}: {quoted(column)} is no column{near} (columns: {', '.join(_COLUMNS)})"
            faults.append(Fault(name, 1, (number,), "unknown-key", text))
        if column and column in columns[: number - 1]:
            text = f"column {number}: {quoted(column)} is there twice; remove one"
            faults.append(Fault(name, 1, (number,), "taken", text))
    missing = [column for column in _NEEDED if column not in columns]
    if missing:
        text = f"the head lacks {' and '.join(missing)}; begin with a line such as application,domain"
        faults.append(Fault(name, 1, (), "missing-key", text))
    if faults:
        raise PlanError(faults)
    return columns


def _wish(columns: list[str], cells: list[str], file: str, line: int, faults: list[Fault]) -> Wish | None:
    """One row as a wish; faults are added to `faults`."""
    extra = [cell for cell in cells[len(columns) :] if cell.strip()]
    known = len(faults)
    if extra:
        text = f"column {len(columns) + 1}: {quoted(printable(extra[0]))} stands under no head"
        faults.append(Fault(file, line, (len(columns) + 1,), "no-column", text))
    values = {column: cell.strip() for column, cell in zip(columns, cells, strict=False) if column and cell.strip()}
    for column in _NEEDED:
        if column not in values:
            text = f"{column} is empty; every wish names an application and a domain"
            faults.append(Fault(file, line, (column,), "empty", text))
    prefer = values.get("prefer")
    if prefer is not None and prefer not in get_args(Prefer):
        near = did_you_mean(prefer, get_args(Prefer))
        text = f"prefer: {quoted(prefer)} is none of {', '.join(get_args(Prefer))}{near}"
        faults.append(Fault(file, line, ("prefer",), "not-a-choice", text))
    return Wish(**values) if len(faults) == known else None  # type: ignore[arg-type]
