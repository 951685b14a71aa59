"""Tables as CSV (RFC 4180), in which no cell is taken for a formula by what opens it."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable

from kettlepost.core.quoting.language import Code
from kettlepost.core.quoting.text import plain

_FORMULA = re.compile(r"[\s\u200b]*[=+\-@\uff1d\uff0b\uff0d\uff20]")


class Csv(Code):
    """Text of a table."""

    __slots__ = ()


def table(head: Iterable[str], rows: Iterable[Iterable[str]], line_end: str = "\r\n") -> Csv:
    """A table under a head, one row a line."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator=line_end)
    writer.writerow(map(marked, head))
    writer.writerows([marked(cell) for cell in row] for row in rows)
    return Csv(out.getvalue())


def marked(text: str) -> str:
    """A cell: what a spreadsheet would take for a formula has an apostrophe in front, and so has what has one."""
    shown = plain(text)
    return f"'{shown}" if _FORMULA.match(shown) or shown.startswith("'") else shown


def unmarked(cell: str) -> str:
    """What was written into a cell: one apostrophe that only marks it is taken off."""
    rest = cell[1:]
    return rest if cell.startswith("'") and (_FORMULA.match(rest) or rest.startswith("'")) else cell
