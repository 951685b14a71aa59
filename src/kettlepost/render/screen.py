"""A place to write text for people: wrapped and coloured on a terminal, whole and plain elsewhere."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, TextIO

from rich.cells import cell_len

from kettlepost.render.gate import plain

if TYPE_CHECKING:
    from rich.console import Console

Span = str | tuple[str, str]
"""Text, or text with a style such as `bold red`."""

STYLES = {"stop": "bold red", "risk": "bold yellow", "note": "bold cyan"}
_NARROWEST = 24


class Screen:
    """Writes lines to `stream`. Only a terminal gets colour and wrapping; nothing is cut off."""

    def __init__(self, stream: TextIO | None = None):
        self._stream = stream or sys.stdout
        self._terminal: Console | None = None
        if self._stream.isatty() and os.environ.get("TERM", "dumb") != "dumb":
            from rich.console import Console  # only a terminal is worth the time it takes to import

            self._terminal = Console(file=self._stream, highlight=False, markup=False, emoji=False)

    @property
    def width(self) -> int:
        return self._terminal.width if self._terminal else 10_000

    def line(self, *spans: Span, indent: int = 0) -> None:
        """One line of text; on a terminal it wraps, and goes on below where it began."""
        self.labelled("", *spans, indent=indent)

    def labelled(self, label: Span, *spans: Span, indent: int = 0, column: int = 0, below: str = "") -> None:
        """A label, then text that begins `column` cells after it and wraps below where it began.

        `below` stands under the label where the text wraps.
        """
        name, style = label if isinstance(label, tuple) else (label, "")
        name, spans = plain(name), tuple(map(_gated, spans))
        pad = " " * max(column - cell_len(name), 1 if name and spans else 0)
        begin = " " * indent + name + pad
        if self._terminal is None:
            words = "".join(span if isinstance(span, str) else span[0] for span in spans)
            self._stream.write(f"{begin}{words}".rstrip() + "\n")
            return
        from rich.text import Text

        hang = cell_len(begin)
        first = Text.assemble(" " * indent, (name, style), pad)
        if hang > self.width - _NARROWEST and name and spans:
            first.rstrip()
            self._terminal.print(first, soft_wrap=True)  # the text does not fit beside its label
            hang = min(indent + 4, self.width - 1)
            first = Text((" " * indent + below)[:hang].ljust(hang))
        body = Text.assemble(*spans).wrap(self._terminal, max(self.width - hang, 1), overflow="fold")
        for n, part in enumerate(body or [Text("")]):
            part.rstrip()
            lead = first if n == 0 else Text((" " * indent + below)[:hang].ljust(hang))
            self._terminal.print(lead + part, soft_wrap=True)

    def raw(self, text: str) -> None:
        """Text that has passed the gate already, for other programs to read: neither wrapped nor coloured."""
        self._stream.write(text)

    def blank(self) -> None:
        self._stream.write("\n")

    def fits(self, widths: Sequence[int]) -> bool:
        """Whether columns of these widths stand side by side."""
        return sum(widths) + 2 * (len(widths) - 1) <= self.width

    def columns(
        self, heads: Sequence[str], rows: Sequence[Sequence[str]], indent: int = 0, labelled: bool = False,
        wraps: bool = False,
    ) -> None:  # fmt: skip
        """Rows under heads, aligned. On a terminal cells wrap between words, and where that is
        not enough each row becomes two lines: the first two cells, then the others, with their
        heads if `labelled`; where the cells are sentences (`wraps`), only what has no room for its words."""
        heads, rows = list(map(plain, heads)), [list(map(plain, row)) for row in rows]
        widths = [max(map(cell_len, cells)) for cells in zip(heads, *rows, strict=True)]
        room = self.width - indent - 2 * (len(widths) - 1)
        if sum(widths) > room:
            words = [max(_longest_word(cell) for cell in cells) for cells in zip(heads, *rows, strict=True)]
            if (sum(widths) > 1.25 * room and not wraps) or sum(words) > room:
                self._stacked(rows, indent, heads[2:] if labelled else None)
                return
            widths = _squeezed(widths, words, room)
        self._row([(head, "dim") for head in heads], widths, indent)
        for row in rows:
            self._row(row, widths, indent)

    def _stacked(self, rows: Sequence[Sequence[str]], indent: int, heads: Sequence[str] | None) -> None:
        for row in rows:
            self.line((row[0], "bold"), "  ", *row[1:2], indent=indent)
            if heads is None:
                self.line("; ".join(row[2:]), indent=indent + 4)
                continue
            told = [(head, cell) for head, cell in zip(heads, row[2:], strict=True) if cell != "-"]
            spans = [span for head, cell in told for span in ((f"{head} ", "dim"), f"{cell}  ")]
            self.line(*spans, indent=indent + 4)

    def _row(self, cells: Sequence[Span], widths: list[int], indent: int) -> None:
        if self._terminal is None:
            words = [cell if isinstance(cell, str) else cell[0] for cell in cells]
            padded = [word + " " * (width - cell_len(word)) for word, width in zip(words, widths, strict=True)]
            self._stream.write((" " * indent + "  ".join(padded)).rstrip() + "\n")
            return
        from rich.text import Text

        texts = [Text.assemble(cell) for cell in cells]
        wrapped = [text.wrap(self._terminal, width, overflow="fold") for text, width in zip(texts, widths, strict=True)]
        for n in range(max(map(len, wrapped))):
            line = Text(" " * indent)
            for parts, width in zip(wrapped, widths, strict=True):
                part = parts[n] if n < len(parts) else Text("")
                part.rstrip()
                line += part + Text(" " * (width - part.cell_len + 2))
            line.rstrip()
            self._terminal.print(line, soft_wrap=True)


def _gated(span: Span) -> Span:
    return plain(span) if isinstance(span, str) else (plain(span[0]), span[1])


def _longest_word(text: str) -> int:
    return max(map(cell_len, text.split()), default=0)


def _squeezed(widths: list[int], words: list[int], room: int) -> list[int]:
    """Narrow columns until all fit: first those that can wrap between words, then the widest."""
    widths = list(widths)
    for floors in (words, [min(8, width) for width in widths]):
        while sum(widths) > room:
            slack = [width - floor for width, floor in zip(widths, floors, strict=True)]
            if max(slack) <= 0:
                break
            widths[slack.index(max(slack))] -= 1
    return widths
