"""Markdown (CommonMark 0.31, with the tables of GFM), in which no value is taken for markup."""

from __future__ import annotations

import html
import re
from collections.abc import Iterable

from kettlepost.core.quoting.language import Code
from kettlepost.core.quoting.text import plain

_SIGNS = re.compile(r"([\\`*_\[\]<>|#~!&$])")
_CELL = re.compile(r"((?:\\.|[^\\|])*\\?)(?:\||$)")
_ESCAPED = re.compile(r"\\([!-/:-@\[-`{-~])")
_BEGIN = re.compile(r"^(\s*)([-+=]|\d+(?=[.)]))")


class Markdown(Code):
    """Text of a page in Markdown."""

    __slots__ = ()


def text(words: str) -> Markdown:
    """Text in which nothing is taken for Markdown or HTML."""
    shown = _SIGNS.sub(lambda sign: "&amp;" if sign[1] == "&" else f"\\{sign[1]}", plain(words))
    begun = _BEGIN.sub(lambda begin: f"{begin[1]}\\{begin[2]}" if not begin[2].isdigit() else begin[0] + "\\", shown)
    return Markdown(begun)


def code(words: str) -> Markdown:
    """A code span, within backticks of which the text holds no run as long."""
    shown = plain(words)
    longest = max((len(run) for run in re.findall(r"`+", shown)), default=0)
    if not longest and shown.strip() and shown == shown.strip():
        return Markdown(f"`{shown}`")
    fence = "`" * (longest + 1)
    return Markdown(f"{fence} {shown or ' '} {fence}")


def table(head: Iterable[str], rows: Iterable[Iterable[str]]) -> Markdown:
    """A table under a head."""
    heads = [text(cell) for cell in head]
    lines = [_row(heads), _row([Markdown.of("---")] * len(heads)), *(_row(map(text, row)) for row in rows)]
    return Markdown.joined([*lines, Markdown.of("")])


def _row(cells: Iterable[Markdown]) -> Markdown:
    return Markdown.of("| «cells» |", cells=Markdown.joined(cells, " | "))


def cells(row: str) -> list[str]:
    """The cells of a row of a table, with their marks; a bar behind a backslash is none of the table's."""
    line = row.strip().removeprefix("|")
    found = [cell.strip() for cell in _CELL.findall(line)]
    return found[:-1] if len(found) > 1 else found  # behind the last bar comes the end


def unescaped(words: str) -> str:
    """What is shown of text whose signs are escaped (CommonMark 0.31, sections 2.4 and 2.5)."""
    return html.unescape(_ESCAPED.sub(lambda sign: "&amp;" if sign[1] == "&" else sign[1], words))
