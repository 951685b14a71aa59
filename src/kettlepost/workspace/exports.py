"""Writing a plan for other programs: server configurations, zones, hosts files and tables."""

from __future__ import annotations

import csv
import datetime
import io
from collections.abc import Sequence
from pathlib import Path

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.exchange import WRITERS, OutputFile
from kettlepost.core.layout import When
from kettlepost.core.names import did_you_mean, printable, quoted
from kettlepost.core.quoting.csv import unmarked
from kettlepost.workspace.files import write_whole
from kettlepost.workspace.plan_folder import PlanFolder


def export(
    plan: PlanFolder, kind: str, accounts: Sequence[str] | None = None, when: When = "planned"
) -> list[OutputFile]:
    """What a plan is for another program: files with their names, as they are now or as they are planned.

    Raises InputError for a kind that is none, and where what it needs is not told.
    """
    writer = WRITERS.get(kind)
    if writer is None:
        raise InputError(f"{quoted(kind)} is no kind{did_you_mean(kind, WRITERS)} (kinds: {', '.join(WRITERS)})")
    names = plan.known_names(list(accounts)) if accounts else plan.names
    parts = writer([plan.layout_of(name) for name in names], when, plan.shared.settings.export)
    if not parts:
        raise InputError(f"there is nothing to write: no host is {'live' if when == 'now' else 'live or planned'}")
    return parts


def runs_php(plan: PlanFolder) -> bool:
    """Whether it is told what runs PHP under nginx."""
    return bool(plan.shared.settings.export.php)


def write_parts(parts: Sequence[OutputFile], where: str) -> list[Path]:
    """Write files into a folder (it is there, or ends in a slash), or the only one as a file; gives what was written.

    A table goes into a spreadsheet where that is what the file is called. What is there already is
    replaced whole. Raises InputError where several would become one file.
    """
    to = Path(where)
    try:
        if to.suffix.lower() == ".xlsx":
            if len(parts) != 1 or not parts[0].name.endswith(".csv"):
                raise InputError(f"{printable(to)}: only a table goes into a spreadsheet; write 'export table'")
            _write_spreadsheet(to, [list(map(unmarked, row)) for row in csv.reader(io.StringIO(parts[0].text))])
            return [to]
        if to.is_dir() or (len(parts) > 1 and not to.exists()) or where.endswith("/"):
            paths = [to / part.name for part in parts]
        elif len(parts) > 1:
            raise InputError(f"{printable(to)} is a file, and {len(parts)} are to be written; name a folder")
        else:
            paths = [to]
        for path, part in zip(paths, parts, strict=True):
            write_whole(path, part.text.encode("utf-8", "surrogateescape"))
    except OSError as error:
        raise OutsideError(f"{printable(to)}: cannot be written ({cause(error)})") from None
    return paths


def _write_spreadsheet(to: Path, rows: Sequence[Sequence[str]]) -> None:
    try:
        import xlsxwriter  # type: ignore[import-untyped]
    except ImportError:
        raise InputError("spreadsheets want a package more: pip install 'kettlepost[tables]'") from None
    with xlsxwriter.Workbook(str(to), {"strings_to_urls": False, "strings_to_formulas": False}) as book:
        book.set_properties({"created": datetime.datetime(2000, 1, 1)})  # the same plan, the same file
        sheet = book.add_worksheet("domains")
        for number, row in enumerate(rows):
            sheet.write_row(number, 0, row)
        sheet.freeze_panes(1, 0)
        sheet.autofit()
