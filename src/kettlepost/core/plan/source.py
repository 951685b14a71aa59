"""Files of the plan and the lines on which their tables and keys were written.

Parsers of TOML that are quick do not say where a value stood. Lines are wanted for findings
and errors only, so they are looked up afterwards, in the text that was read.
"""

from __future__ import annotations

import re
from functools import cached_property
from typing import NamedTuple

from kettlepost.core.errors import Fault

Key = tuple[str | int, ...]

_TOKEN = re.compile(
    r'"""(?:[^\\]|\\.)*?"{3,5}' r"|'''.*?'{3,5}" r'|"(?:[^"\\\n]|\\.)*"' r"|'[^'\n]*'" r"|#[^\n]*|[\[\]{}\n]|=",
    re.DOTALL,
)
_SINGLE = re.compile(r"[^\[\]{}]*$")
_HEADER = re.compile(r"[ \t]*(\[\[?)([^\[\]\n]+)\]\]?")
_BARE = re.compile(r"[A-Za-z0-9_-]+")
_PART = re.compile(r"""\s*(?:"((?:[^"\\]|\\.)*)"|'([^']*)'|([A-Za-z0-9_-]+))\s*(?:\.|$)""")


class SourceFile:
    """The text of one file of the plan, and its name relative to the plan folder."""

    def __init__(self, name: str, text: str):
        self.name = name
        self.text = text
        self._headed: dict[str, list[int]] = {}

    def __reduce__(self) -> tuple[type[SourceFile], tuple[str, str]]:
        return SourceFile, (self.name, self.text)

    def is_written(self, key: Key) -> bool:
        """Whether the file says something of a key itself, or leaves it to its default."""
        return key in self._lines

    def line(self, key: Key) -> int:
        """The line (from 1) of a table or key such as `("domain", 2, "kind")`, else of what holds it."""
        if len(key) == 2 and "_lines" not in self.__dict__:
            headers = self._headers(str(key[0]))
            if isinstance(key[1], int) and key[1] < len(headers):
                return headers[key[1]]
        while key and key not in self._lines:
            key = key[:-1]
        return self._lines.get(key, 1)

    def fault(self, key: Key, code: str, text: str) -> Fault:
        """Something that is wrong at a table or key."""
        return Fault(self.name, self.line(key), key, code, text)

    @cached_property
    def _lines(self) -> dict[Key, int]:
        return lines_of(self.text)

    def _headers(self, table: str) -> list[int]:
        """The lines of all headers of a table, without a look at anything else; none where that may not do."""
        if table not in self._headed:
            text, lines, number, at = self.text, list[int](), 1, 0
            plain = '"""' not in text and "'''" not in text
            for match in (
                re.finditer(rf"^[ \t]*\[\[[ \t]*{re.escape(table)}[ \t]*\]\]", text, re.MULTILINE) if plain else ()
            ):
                number += text.count("\n", at, match.start())
                at = match.start()
                lines.append(number)
            self._headed[table] = lines
        return self._headed[table]


class SourcePlace(NamedTuple):
    """Where something was written: a file and what in it."""

    source: SourceFile
    key: Key

    @property
    def file(self) -> str:
        return self.source.name

    @property
    def line(self) -> int:
        return self.source.line(self.key)

    def fault(self, code: str, text: str) -> Fault:
        """Something that is wrong there."""
        return self.source.fault(self.key, code, text)

    def __str__(self) -> str:
        return f"{self.file}:{self.line}"


def lines_of(text: str) -> dict[Key, int]:
    """The line of every table header and key of a TOML document (TOML 1.0)."""
    lines: dict[Key, int] = {}
    counts: dict[Key, int] = {}
    table: Key = ()
    for number, statement in _plain_statements(text) or _statements(text):
        header = _HEADER.match(statement) if statement.lstrip()[:1] == "[" else None
        if header:
            table = _table_key(header, counts)
            lines.setdefault(table, number)
            continue
        key, equals, value = statement.partition("=")
        if equals:
            plain = key.strip()
            whole = (*table, plain) if _BARE.fullmatch(plain) else table + _parts(key)
            lines.setdefault(whole, number)
            if value.lstrip().startswith("{"):
                for inner in re.finditer(r"[{,]\s*([A-Za-z0-9_-]+)\s*=", value):
                    lines.setdefault((*whole, inner[1]), number)
    return lines


def _table_key(header: re.Match[str], counts: dict[Key, int]) -> Key:
    """The key of a table; `counts` is what stands before it of each kind, and counts it in."""
    table = resolved(_parts(header[2]), counts)
    if header[1] == "[[":
        counts[table] = counts.get(table, -1) + 1
        table = (*table, counts[table])
    return table


def _plain_statements(text: str) -> list[tuple[int, str]] | None:
    """The lines of a document, where each is a statement of its own; None where one may span several."""
    if '"""' in text or "'''" in text:
        return None
    found = []
    for number, line in enumerate(text.split("\n"), 1):
        if _SINGLE.match(line) is None and (line.count("[") != line.count("]") or line.count("{") != line.count("}")):
            return None
        if "=" in line or line.lstrip()[:1] == "[":
            found.append((number, line))
    return found


def _statements(text: str) -> list[tuple[int, str]]:
    """Logical lines with the number of their first: one that spans several counts once."""
    found: list[tuple[int, str]] = []
    start, number, first, depth, header = 0, 1, 1, 0, False
    for token in _TOKEN.finditer(text):
        symbol = token[0]
        if symbol == "\n":
            number += 1
            if depth <= 0 or header:
                found.append((first, text[start : token.start()]))
                start, first, depth, header = token.end(), number, 0, False
        elif symbol in "[{":
            header = header or not text[start : token.start()].strip()
            depth += 1
        elif symbol in "]}":
            depth -= 1
        else:
            number += symbol.count("\n")
    found.append((first, text[start:]))
    return found


def _parts(dotted: str) -> Key:
    parts: list[str] = []
    at = 0
    while match := _PART.match(dotted, at):
        parts.append(next(group for group in match.groups() if group is not None))
        at = match.end()
        if at >= len(dotted):
            break
    return tuple(parts)


def resolved(parts: Key, counts: dict[Key, int]) -> Key:
    """`domain.x` below a `[[domain]]` belongs to the last of them."""
    whole: Key = ()
    for part in parts[:-1]:
        whole = (*whole, part)
        if whole in counts:
            whole = (*whole, counts[whole])
    return whole + parts[-1:]
