"""The cells of a spreadsheet (ECMA-376, ISO/IEC 26300), read in a process of their own.

What reads them holds each sheet whole, as far as its farthest cell lies, however few there are; what fills the memory
or falls over on damage takes that process along, and nothing else.
"""

from __future__ import annotations

import importlib.util
import io
import itertools
import json
import sys
from collections.abc import Iterator
from typing import NamedTuple

from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.remedies import Action, Remedy
from kettlepost.sources.bounded_process import limit_memory, refuse, run_bounded

_MEMORY = 160
_SECONDS = 60
_CELLS = 2_000_000


class Worksheet(NamedTuple):
    """One sheet: its title, and its rows from the first, as texts."""

    title: str
    rows: list[list[str]]


def read_sheets(raw: bytes, most: int) -> list[Worksheet]:
    """The sheets of a spreadsheet, of each so many rows at the most.

    Raises InputError for want of a package and for what is none, OutsideError where it takes too much.
    """
    if importlib.util.find_spec("python_calamine") is None:
        raise InputError("spreadsheets want one more package", Remedy.of(Action.ADD_EXTRA, "tables"))
    try:
        done = run_bounded(__name__, [str(most)], raw, _MEMORY, _SECONDS)
    except OutsideError as error:
        raise OutsideError(f"{error}; save it as CSV") from None
    if done.is_refused:
        raise InputError(f"no spreadsheet that can be read: {done.written.decode('utf-8', 'replace')[:200]}")
    sheets: list[Worksheet] = []
    for line in io.BytesIO(done.written):
        told = json.loads(line)
        if isinstance(told, str):
            sheets.append(Worksheet(told, []))
        else:
            sheets[-1].rows.append(told)
    return sheets


def _cells(raw: bytes, most: int) -> Iterator[str | list[str]]:
    """The title of each sheet, then its rows."""
    import python_calamine

    book, left = python_calamine.CalamineWorkbook.from_filelike(io.BytesIO(raw)), _CELLS
    for title in book.sheet_names:
        yield title
        sheet = book.get_sheet_by_name(title)
        beside = [""] * sheet.start[1] if sheet.start else []  # of what is empty, rows are told and columns are not
        for row in itertools.islice(sheet.iter_rows(), most):
            told = beside + [_cell(cell) for cell in row]
            while told and not told[-1]:
                told.pop()
            left -= len(told)
            if left < 0:
                raise MemoryError
            yield told


def _cell(value: object) -> str:
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value).strip()


def _main() -> None:
    import python_calamine

    [most] = limit_memory()
    try:
        for told in _cells(sys.stdin.buffer.read(), int(most)):
            sys.stdout.write(json.dumps(told) + "\n")
    except (python_calamine.CalamineError, ValueError, OSError) as error:
        refuse(str(error))


if __name__ == "__main__":
    _main()
