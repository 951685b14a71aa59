"""A register as a spreadsheet (Office Open XML, ECMA-376), with a filter in each column and its heading in sight."""

from __future__ import annotations

import datetime
import io

from kettlepost.core.errors import InputError
from kettlepost.core.remedies import Action, Remedy
from kettlepost.render import gate
from kettlepost.render.registers import cell_text
from kettlepost.render.results import Register

_NARROWEST, _WIDEST = 8, 60


def register_xlsx(register: Register) -> bytes:
    """All cells are text or numbers: nothing in them is taken for a formula or a link. Raises InputError."""
    try:
        import xlsxwriter  # type: ignore[import-untyped]
    except ImportError:
        raise InputError("a spreadsheet wants one more package", Remedy.of(Action.ADD_EXTRA, "tables")) from None
    whole = io.BytesIO()
    options = {"in_memory": True, "strings_to_urls": False, "strings_to_formulas": False}
    with xlsxwriter.Workbook(whole, options) as book:
        book.set_properties({"created": datetime.datetime(2000, 1, 1)})  # the same plan, the same file
        sheet, head = book.add_worksheet(register.name[:31]), book.add_format({"bold": True})
        columns = list(register.columns)
        widths = [len(column) for column in columns]
        for n, column in enumerate(columns):
            sheet.write_string(0, n, column.replace("_", " "), head)
        for m, row in enumerate(register.rows, 1):
            for n, column in enumerate(columns):
                value = getattr(row, column)
                if isinstance(value, int) and not isinstance(value, bool):
                    sheet.write_number(m, n, value)
                    continue
                text = gate.plain(cell_text(value))
                widths[n] = max(widths[n], len(text))
                sheet.write_string(m, n, text)
        sheet.freeze_panes(1, 0)
        sheet.autofilter(0, 0, max(len(register.rows), 1), max(len(columns) - 1, 0))
        for n, width in enumerate(widths):
            sheet.set_column(n, n, min(max(width + 2, _NARROWEST), _WIDEST))
    return whole.getvalue()
