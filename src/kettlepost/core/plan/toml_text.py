"""A TOML document (TOML 1.0) as text with places: where each table, key and value stands in it.

It is only ever asked of text that a parser has accepted.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

import rtoml

from kettlepost.core.plan.source import Key, resolved

_STRING = re.compile(r'"""(?:[^\\]|\\.)*?"{3,5}' r"|'''.*?'{3,5}" r'|"(?:[^"\\\n]|\\.)*"' r"|'[^'\n]*'", re.DOTALL)
_SPACE = re.compile(r"[ \t]*")
_BLANK = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_BARE = re.compile(r"[A-Za-z0-9_-]+")


class Span(NamedTuple):
    """A piece of the text: where it begins, and where what follows it begins."""

    begin: int
    end: int


class Pair(NamedTuple):
    """A key and its value: its full path, the text of both, and the whole of its lines.

    `table` is the path of the table that it stands under, `parts` its own key, which may be dotted.
    """

    path: Key
    table: Key
    parts: tuple[str, ...]
    value: Span
    lines: Span


class Header(NamedTuple):
    """The header of a table or of one of an array of tables, and the whole of its line."""

    path: Key
    lines: Span


Statement = Pair | Header


def statements(text: str) -> list[Statement]:
    """Every table header and every pair of a document, in their order."""
    found: list[Statement] = []
    counts: dict[Key, int] = {}
    table: Key = ()
    at = 0
    while (begin := _SPACE.match(text, _skip_blank(text, at)).end()) < len(text):  # type: ignore[union-attr]
        first = text.rfind("\n", 0, begin) + 1
        if text[begin] == "[":
            many = text.startswith("[[", begin)
            end = _scan(text, begin + (2 if many else 1), "]")
            path = resolved(_key(text[begin + (2 if many else 1) : end]), counts)
            if many:
                counts[path] = counts.get(path, -1) + 1
                path = (*path, counts[path])
            table, at = path, _line_end(text, end)
            found.append(Header(path, Span(first, at)))
            continue
        equals = _scan(text, begin, "=")
        parts = _key(text[begin:equals])
        value = _value(text, equals + 1)
        at = _line_end(text, value.end)
        found.append(Pair((*table, *parts), table, parts, value, Span(first, at)))
    return found


def inline_pairs(text: str, table: Span) -> list[Pair]:
    """The pairs of an inline table; their lines are the pairs themselves."""
    found = []
    at = table.begin + 1
    while text[begin := _skip_blank(text, at)] != "}":
        equals = _scan(text, begin, "=")
        parts = _key(text[begin:equals])
        value = _value(text, equals + 1)
        found.append(Pair(parts, (), parts, value, Span(begin, value.end)))
        at = _skip_blank(text, value.end)
        at += text[at] == ","
    return found


def elements(text: str, array: Span) -> list[Span]:
    """The values of an array."""
    found = []
    at = array.begin + 1
    while text[begin := _skip_blank(text, at)] != "]":
        found.append(value := _value(text, begin))
        at = _skip_blank(text, value.end)
        at += text[at] == ","
    return found


def as_key(parts: Iterator[str] | tuple[str, ...]) -> str:
    """A key as it is written, dotted where it has several parts."""
    return ".".join(part if _BARE.fullmatch(part) else as_value(part) for part in parts)


def as_value(value: object) -> str:
    """A value as TOML writes it, tables inline."""
    if isinstance(value, dict):
        inner = ", ".join(f"{as_key((key,))} = {as_value(item)}" for key, item in value.items() if item is not None)
        return f"{{ {inner} }}" if inner else "{}"
    if isinstance(value, list | tuple):
        return f"[{', '.join(map(as_value, value))}]"
    return rtoml.dumps({"x": value}).partition("=")[2].strip()


def _key(written: str) -> tuple[str, ...]:
    """The parts of a key as it is written."""
    plain = written.strip()
    if _BARE.fullmatch(plain):
        return (plain,)
    parts: list[str] = []
    found = rtoml.loads(f"{plain} = 0")
    while isinstance(found, dict):
        ((part, found),) = found.items()
        parts.append(part)
    return tuple(parts)


def _skip_blank(text: str, at: int) -> int:
    found = _BLANK.match(text, at)
    return found.end() if found else at


def _scan(text: str, at: int, sign: str) -> int:
    """Where `sign` stands next outside of quotes."""
    while text[at] != sign:
        quoted = _STRING.match(text, at) if text[at] in "\"'" else None
        at = quoted.end() if quoted else at + 1
    return at


def _value(text: str, at: int) -> Span:
    """The value that begins at or behind `at`."""
    begin = _SPACE.match(text, at).end()  # type: ignore[union-attr]
    if text[begin] in "\"'":
        return Span(begin, _STRING.match(text, begin).end())  # type: ignore[union-attr]
    if text[begin] not in "[{":
        end = begin
        while end < len(text) and text[end] not in ",]}#\r\n":
            end += 1
        return Span(begin, begin + len(text[begin:end].rstrip()))
    depth, end = 0, begin
    while True:
        sign = text[end]
        if sign in "\"'":
            end = _STRING.match(text, end).end()  # type: ignore[union-attr]
            continue
        if sign == "#":
            end = text.index("\n", end)
            continue
        depth += (sign in "[{") - (sign in "]}")
        end += 1
        if not depth:
            return Span(begin, end)


def _line_end(text: str, at: int) -> int:
    end = text.find("\n", at)
    return len(text) if end < 0 else end + 1
