"""Tables as people keep them: CSV and its kin, Markdown, text copied from a page or a mail, spreadsheets.

Columns are found by their headings, in several languages, and where there are none by what is in them.
"""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.exchange.column_names import YES, kind_of, role_of, state_of
from kettlepost.core.exchange.observed import (
    LARGEST,
    ImportRemark,
    Opener,
    OutputFile,
    Reading,
    SeenHost,
    SeenInstallation,
    SourceSpot,
    address_in,
)
from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.messages import say
from kettlepost.core.names import Address, HostName, InvalidName, quoted, readable
from kettlepost.core.plan import Export
from kettlepost.core.quoting import markdown
from kettlepost.core.quoting.csv import table, unmarked

MOST_ROWS = 200_000
_HEADS_WITHIN = 30
_SHEETS = (b"PK\x03\x04",)
_HOST = re.compile(r"^(?:https?://)?(?:\*\.)?(?:[\w-]+\.)+[\w-]{2,}\.?(?::\d+)?(?:/\S*)?$")
_FOLDER = re.compile(r"^[~/.]?[\w.@+-]*(?:/[\w .@+-]*)+$|^(?:public_html|htdocs|www|html|web)$")
_ONWARD = re.compile(
    r"(?:\W*[-=]>|→|⇒|\W*(?:re-?direct\w*|weiterleitung|umleitung|leitet|redirige\w*|redirecci\w+|reindirizz\w+|"
    r"doorverw\w+|przekierow\w+)\b[^.]*?|(?=https?://))\s*((?:https?://)?(?:[\w-]+\.)+[\w-]{2,}(?:/\S*)?)",
    re.IGNORECASE,
)
"""A redirect where a folder is asked for."""
_NOTHING = ("-", "–", "—", "none", "keine", "keins", "aucun", "aucune", "ninguna", "ninguno", "nessuna", "nessuno",
            "geen", "brak", "nenhum", "n/a")  # fmt: skip
_RULE = re.compile(r"^[\s|:+=-]+$")
COLUMNS = (
    "account",
    "domain",
    "kind",
    "root",
    "state",
    "of",
    "redirect",
    "https",
    "www",
    "application",
    "version",
    "client",
)


class Row(NamedTuple):
    """A row with the number of its line, from 1."""

    number: int
    cells: list[str]


def is_it(raw: bytes) -> bool:
    """Whether it is a spreadsheet, or text in which one column at least holds hosts."""
    if raw.startswith(_SHEETS):
        return True
    if b"\0" in raw[:4096]:
        return False
    text = raw[:100_000].decode("utf-8", "replace")
    rows = list(_rows_of(text))[:200]
    hosts = sum(any(_HOST.match(cell) for cell in row.cells) for row in rows)
    return hosts > 0 and hosts * 3 >= len(rows)


def read(
    files: Sequence[tuple[str, bytes]], opener: Opener, _root: str = "", columns: Mapping[str, str] | None = None
) -> Reading:
    """The hosts of some tables. `columns` names the heading (or number) of a column by what it holds."""
    found = Reading(files=[name for name, _ in files])
    for name, raw in files:
        for sheet, rows in _sheets(name, raw, found.remarks, opener):
            _Table(sheet, rows, columns or {}, found).read()
    return found


def _sheets(name: str, raw: bytes, remarks: list[ImportRemark], opener: Opener) -> Iterator[tuple[str, list[Row]]]:
    if len(raw) > LARGEST:
        remarks.append(
            ImportRemark(
                SourceSpot(name, 0), say("import/too-large", megabytes=LARGEST >> 20), say("import/nothing-read")
            )
        )
        return
    if not raw.startswith(_SHEETS):
        yield name, list(_rows_of(_decoded(raw)))
        return
    try:
        sheets = opener.sheets(raw, MOST_ROWS)
    except (InputError, OutsideError) as error:
        raise type(error)(f"{name}: {error}", *error.remedies) from None
    for title, cells in sheets:
        if cells:
            rows = [Row(n, row) for n, row in enumerate(cells, 1)]
            yield (f"{name} [{title}]" if len(sheets) > 1 else name), rows


def _decoded(raw: bytes) -> str:
    for encoding in ("utf-16",) if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else ("utf-8-sig", "cp1252"):
        try:
            return raw.decode(encoding)
        except UnicodeDecodeError:
            continue
    return raw.decode("latin-1")


def _rows_of(text: str) -> Iterator[Row]:
    """The rows of a text, whatever parts its cells: pipes, tabs, semicolons, commas, or several spaces."""
    lines = [line for line in text.splitlines() if line.strip()][:400]
    counts = {sign: sum(sign in line for line in lines) for sign in "|\t;,"}
    most = next((sign for sign in "|\t;," if counts[sign] * 2 >= len(lines) and counts[sign]), None)
    if most in ("\t", ";", ","):
        reader = csv.reader(io.StringIO(text, newline=""), delimiter=most)
        before = 0
        try:
            for cells in reader:
                if before >= MOST_ROWS:
                    return
                yield Row(before + 1, [unmarked(cell.strip()) for cell in cells])
                before = reader.line_num
        except csv.Error:
            return
        return
    for number, line in enumerate(text.splitlines()[:MOST_ROWS], 1):
        if most == "|":
            if not _RULE.match(line):
                yield Row(number, [_shown(cell) for cell in markdown.cells(line)])
        else:
            yield Row(number, re.split(r"\t|[ \u00a0]{2,}", line.strip()) if line.strip() else [])


def _shown(cell: str) -> str:
    """A cell of Markdown without its marks: a link is what it shows."""
    cell = re.sub(r"\[([^\]]*)\]\([^)]*\)", r"\1", cell.strip())
    marks = "` " if cell.startswith("*.") else "`* "
    bare = cell.lstrip(marks)
    while bare[-1:] in marks and bare and not bare[:-1].endswith("\\"):
        bare = bare[:-1]
    return markdown.unescaped(bare)


class _Table:
    """One sheet, and what its columns hold."""

    def __init__(self, name: str, rows: list[Row], given: Mapping[str, str], found: Reading):
        self._name, self._rows, self._found = name, rows, found
        self._at, self._begin = self._columns(given)
        self._hosts: dict[HostName, SeenHost] = {}

    def _columns(self, given: Mapping[str, str]) -> tuple[dict[str, int], int]:
        """The columns by what they hold, and the row in which the table begins: by headings, and by what is in them."""
        columns, begin = self._headed()
        self._heads = [row.cells for row in self._rows[:begin]]
        heads = [row.cells for row in self._rows[: max(begin, 1)]]
        for role, heading in given.items():
            number = next((cells.index(heading) for cells in heads if heading in cells), None)
            if number is None and heading.isdigit():
                number = int(heading) - 1
            if number is None:
                raise InputError(f"--column {role}={heading}: {self._name} has no column {quoted(heading)}")
            columns[role] = number
        if "domain" not in columns or not self._hosts_in(columns["domain"], begin):
            self._by_content(columns, "domain", _HOST, begin)
        if "root" not in columns:
            self._by_content(columns, "root", _FOLDER, begin)
        return columns, begin

    def _headed(self) -> tuple[dict[str, int], int]:
        best: tuple[dict[str, int], int] = ({}, 0)
        for before, row in enumerate(self._rows[:_HEADS_WITHIN], 1):
            if any(_HOST.match(cell) and "." in cell for cell in row.cells):
                break
            roles: dict[str, int] = {}
            for number, cell in enumerate(row.cells):
                role = role_of(cell) if cell else None
                if role is not None:
                    roles.setdefault(role, number)
            if len(roles) > len(best[0]):
                best = roles, before
        return dict(best[0]), best[1]

    def _by_content(self, columns: dict[str, int], role: str, pattern: re.Pattern[str], begin: int) -> None:
        taken = {number for other, number in columns.items() if other != role}
        likely = self._likeliest(pattern, begin, taken)
        if likely is not None:
            columns[role] = likely

    def _hosts_in(self, column: int, begin: int) -> bool:
        return any(len(row.cells) > column and _HOST.match(row.cells[column]) for row in self._rows[begin:])

    def _likeliest(self, pattern: re.Pattern[str], begin: int, taken: set[int]) -> int | None:
        found: Counter[int] = Counter()
        for row in self._rows[begin : begin + 500]:
            found.update(n for n, cell in enumerate(row.cells) if n not in taken and cell and pattern.match(cell))
        return found.most_common(1)[0][0] if found else None

    def read(self) -> None:
        if "domain" not in self._at:
            means = say("import/no-hosts-column/means")
            self._found.remarks.append(ImportRemark(SourceSpot(self._name, 1), say("import/no-hosts-column"), means))
            return
        for row in self._rows[self._begin :]:
            if any(row.cells):
                self._row(row)
        self._found.hosts += self._hosts.values()

    def _value(self, row: Row, role: str) -> str:
        at = self._at.get(role)
        written = row.cells[at].strip() if at is not None and at < len(row.cells) else ""
        return "" if written.lower() in _NOTHING else written

    def _row(self, row: Row) -> None:
        spot, written = SourceSpot(self._name, row.number), self._value(row, "domain")
        if row.cells in self._heads:
            return  # the headings once more
        address = _address(written) if _HOST.match(written) or "." in written else None
        if address is None:
            only = [cell for cell in row.cells if cell]
            means = say("import/row-left-out")
            where = say("import/no-host", column=self._at["domain"] + 1, written=quoted(written[:60]))
            if written or len(only) > 1:
                self._found.remarks.append(ImportRemark(spot, where, means))
            return
        host = self._host(row, address.host, spot)
        application = self._value(row, "application")
        if application:
            version = self._value(row, "version")
            self._found.installations.append(SeenInstallation(address, application, version, spot))
        elif address.path and host is None:
            means = say("import/path-alone/means")
            self._found.remarks.append(ImportRemark(spot, f"{address}", means))

    def _host(self, row: Row, name: HostName, spot: SourceSpot) -> SeenHost | None:
        """The host of a row, entered or joined with the one there is; None for a row about a path of it."""
        written = self._value(row, "domain")
        path = (_address(written) or Address(name)).path
        if path and name not in self._hosts and not self._value(row, "root"):
            return None
        if path:
            return self._hosts.get(name)
        root = self._value(row, "root")
        onward = _ONWARD.fullmatch(root)
        seen = SeenHost(name, spot, account=self._value(row, "account"), client=self._value(row, "client"))
        seen.folder = (root.rstrip("/") or None) if onward is None else None
        for role, look, key in (("kind", kind_of, "kind"), ("state", state_of, "state")):
            said = self._value(row, role)
            choice = look(said) if said else None
            if said and choice is None:
                where = f"column {self._at[role] + 1}: {quoted(said[:60])}"
                self._found.remarks.append(ImportRemark(spot, where, say("import/column-left/means", role=role)))
            setattr(seen, key, choice or "")
        target, of = self._value(row, "redirect") or (onward[1] if onward is not None else ""), self._value(row, "of")
        seen.sends_to = address_in(target) if target and "." in target else None
        if of and "." in of and seen.sends_to is None and (end := _address(of)) is not None and end.host != name:
            seen.of, seen.kind = end.host, "alias"
        elif seen.kind == "alias":
            seen.kind = ""
        seen.is_secure = self._value(row, "https").lower() in YES or written.lower().startswith("https://")
        form, bare = self._value(row, "www").lower(), HostName(name.removeprefix("www."))
        if form == "both":
            seen.names = [one for one in (bare, HostName(f"www.{bare}")) if one != name]
        elif form in ("bare", "www"):
            seen.name = bare if form == "bare" else HostName(f"www.{bare}")
            seen.takes = HostName(f"www.{bare}") if form == "bare" else bare
        return self._joined(seen)

    def _joined(self, seen: SeenHost) -> SeenHost:
        bare = HostName(seen.name.removeprefix("www."))
        other = bare if seen.name != bare else HostName(f"www.{bare}")
        for name in (seen.name, other):
            known = self._hosts.get(name)
            if known is None:
                continue
            if seen.folder in (None, known.folder) and seen.sends_to in (None, known.sends_to):
                if name == other and seen.name not in known.names:
                    known.names.append(seen.name)
                return known
            if name == seen.name:
                there = known.folder or known.sends_to or say("import/told/no-folder")
                means = say("import/twice/means", spot=known.spot, there=there)
                self._found.remarks.append(ImportRemark(seen.spot, say("import/twice", seen=seen.name), means))
                return known
        self._hosts[seen.name] = seen
        return seen


def _address(written: str) -> Address | None:
    try:
        return Address.parse(re.sub(r":\d+(?=/|$)", "", written.partition("?")[0].partition("#")[0]))
    except InvalidName:
        return None


def rows(layouts: Sequence[AccountLayout], when: When) -> Iterator[list[str]]:
    """The domains and installations of some accounts, a row each, in the order of `COLUMNS`."""
    apart = "planned" if when == "now" else "retired"
    for layout in layouts:
        account, client = layout.name, layout.account.settings.client or ""
        for domain in layout.account.domains:
            if domain.state == apart or domain.path:
                continue
            root = domain.root_now if when == "now" and domain.root_now is not None else domain.root
            https = "yes" if domain.https else ""
            cells = (account, domain.name, domain.kind, root.shown if root is not None else "", domain.state,
                     domain.of or "", str(domain.redirect_to or ""), https, domain.www or "", "", "",
                     domain.client or client)  # fmt: skip
            yield [readable(cell) if n in (1, 5, 6) else str(cell) for n, cell in enumerate(cells)]
        for one in layout.account.installations:
            if one.state != apart:
                yield [account, readable(str(one.address)), "", "", one.state, "", "", "", "", one.application,
                       one.version or "", client]  # fmt: skip


def write(layouts: Sequence[AccountLayout], when: When, _template: Export) -> list[OutputFile]:
    """A table as CSV (RFC 4180)."""
    return [OutputFile("domains.csv", table(COLUMNS, rows(layouts, when), "\n"))]


def write_markdown(layouts: Sequence[AccountLayout], when: When, _template: Export) -> list[OutputFile]:
    """The same as a table in Markdown."""
    return [OutputFile("domains.md", markdown.table(COLUMNS, rows(layouts, when)))]
