"""Findings as tables: CSV for spreadsheets (RFC 4180), Markdown for tickets and wikis."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct
from rich.cells import cell_len

from kettlepost.core.checking import Checked
from kettlepost.core.names import printable, readable
from kettlepost.core.quoting.csv import Csv, table
from kettlepost.core.quoting.markdown import Markdown, code, text
from kettlepost.core.quoting.markdown import table as markdown_table
from kettlepost.core.rules import SEVERITIES, Finding
from kettlepost.core.words import counted
from kettlepost.render import sentences
from kettlepost.render.registers import cell_text
from kettlepost.render.results import Register
from kettlepost.render.screen import Screen
from kettlepost.render.text import way_words

_COLUMNS = ("severity", "rule", "account", "at", "title", "why", "follows", "written at", "way out")


def check_csv(checked: Checked) -> Csv:
    """One row a finding, under a head."""
    rows = (
        (
            str(found.severity),
            found.rule,
            found.account,
            found.at,
            sentences.text(found.title),
            sentences.text(found.why),
            "; ".join(map(sentences.text, found.follows)),
            " ".join(sentences.text(party.where) for party in found.parties if party.file is not None),
            way_words(found.ways_out[0]) if found.ways_out else "",
        )
        for found in checked.findings
    )
    return table(_COLUMNS, rows)


def check_markdown(checked: Checked) -> Markdown:
    """A section an account, and in it a list item a finding."""
    counts = ", ".join(f"{checked.counts[severity]:,} {severity}" for severity in SEVERITIES)
    told = text(f"{counted(len(checked.accounts), 'account')} checked: {counts}.")
    lines = [Markdown.of("# Findings"), Markdown.of(""), told, Markdown.of("")]
    before = None
    for found in checked.findings:
        if found.account != before:
            lines += [Markdown.of("## «account»", account=text(found.account)), Markdown.of("")]
            before = found.account
        lines += [*_finding(found), Markdown.of("")]
    return Markdown.joined([*lines[:-1], Markdown.of("")])


def _finding(found: Finding) -> Iterator[Markdown]:
    yield Markdown.of(
        "- **«severity»** «title» («rule» at «at»)",
        severity=text(str(found.severity)),
        title=text(sentences.text(found.title)),
        rule=code(found.rule),
        at=code(found.at),
    )
    yield Markdown.of("  - why: «why»", why=text(sentences.text(found.why)))
    yield from (Markdown.of("  - so: «follows»", follows=text(sentences.text(follows))) for follows in found.follows)
    for party in found.parties:
        where = Markdown.of(", «where»", where=text(sentences.text(party.where))) if party.where else Markdown.of("")
        yield Markdown.of("  - «party»«where»", party=text(f"{party.what} {party.name}"), where=where)
    yield from (Markdown.of("  - [ ] «way»", way=text(way_words(way))) for way in found.ways_out)


def register_csv(register: Register) -> Csv:
    return table(register.columns, _cells(register))


def register_markdown(register: Register) -> Markdown:
    return markdown_table([column.replace("_", " ") for column in register.columns], _cells(register))


def _cells(register: Register) -> Iterator[list[str]]:
    return ([cell_text(getattr(row, column)) for column in register.columns] for row in register.rows)


_LAST = (
    "users", "server", "unclaimed", "seen",
    "written", "contact", "admin", "also", "now", "findings", "prefix", "surveyed", "planned", "points_here", "https",
    "database", "version", "kind", "package", "subdomains", "addon", "account",
)  # fmt: skip
"""The columns that make room first, where a terminal is too narrow for all."""


def show_register(screen: Screen, register: Register) -> None:
    """A register for people: an entry a line; what is the same in all is told once, and so is what found no room."""
    columns, rows = list(register.columns), register.rows
    cells = {column: [printable(_people(column, row)) for row in rows] for column in columns}
    alike: list[str] = []
    if len(rows) > _FEW and not register.is_chosen:
        alike = [column for column in columns[1:] if len(set(cells[column])) == 1 and cells[column][0]]
        columns = [column for column in columns if column not in alike]
    narrow: list[str] = []
    for column in _LAST:
        if register.is_chosen or screen.fits([_width(name, cells[name]) for name in columns if any(cells[name])]):
            break
        if column in columns[1:]:
            columns.remove(column)
            narrow.append(column)
    show_records(screen, columns, rows)
    if alike:
        same = ", ".join(f"{column.replace('_', ' ')} {cells[column][0]}" for column in alike)
        screen.line((f"the same in all: {same}", "dim"))
    if narrow:
        told = ", ".join(column.replace("_", " ") for column in reversed(narrow))
        screen.line((f"no room for: {told} (--columns A,B,... chooses)", "dim"))


_FEW = 3


_NAMES = frozenset(("domain", "address", "also", "admin"))
"""The columns that hold host names and addresses."""


def _people(column: str, row: Struct) -> str:
    """A cell as people write it."""
    cell = cell_text(getattr(row, column))
    return ", ".join(map(readable, cell.split(", "))) if column in _NAMES else cell


def _width(column: str, cells: Iterable[str]) -> int:
    return max(map(cell_len, (column, *cells)))


def show_records(screen: Screen, columns: Sequence[str], rows: Sequence[Struct], counts: bool = True) -> None:
    """A table for people, and how many rows it has. Columns that are empty throughout are left out."""
    cells = {column: [_people(column, row) for row in rows] for column in columns}
    kept = [
        column for column in columns if any(cells[column]) and (column != "state" or set(cells[column]) != {"live"})
    ]
    if not rows:
        screen.line("none")
        return
    heads = [column.replace("_", " ") for column in kept]
    shown = [[printable(cell) or "-" for cell in cells[column]] for column in kept]
    screen.columns(heads, list(zip(*shown, strict=True)), labelled=True)
    if counts:
        screen.line((f"{len(rows):,} in all", "dim"))
