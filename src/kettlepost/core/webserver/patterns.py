"""Patterns of somebody else's, as a server runs them: Perl-compatible, over bytes, and never without an end."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any, NamedTuple

from kettlepost.core.secrets import MASK

SECONDS = 0.2
"""How long one pattern may look at one text."""


class PatternTrouble(Exception):
    """A pattern that cannot be run here, or that takes too long: what it says is not known."""


@lru_cache(maxsize=4096)
def compiled(pattern: str, ignore_case: bool = False, by_line: bool = False) -> Any:
    """A pattern to search with: a point stands for line ends too, and a dollar for the very end (RegexDefaultOptions).

    Where a text is looked at `by_line`, they end with its lines.
    Raises PatternTrouble for what is none, or is not understood.
    """
    import regex  # only where patterns are met

    if MASK in pattern:
        raise PatternTrouble("a part of it was not kept")
    try:
        flags = (regex.IGNORECASE if ignore_case else 0) | (regex.MULTILINE if by_line else regex.DOTALL)
        written = as_bytes(pattern) if by_line else _ending(as_bytes(pattern))
        return regex.compile(written, flags | regex.ASCII | regex.VERSION0)
    except (regex.error, OverflowError, RecursionError, ValueError) as error:
        raise PatternTrouble(str(error)) from None


def _ending(pattern: str) -> str:
    """A pattern with its dollars for the very end of a text."""
    if "$" not in pattern or "(?m" in pattern or "(?s" in pattern:
        return pattern
    return _DOLLAR.sub(lambda sign: sign[0] if sign[0] != "$" else r"\Z", pattern)


_DOLLAR = re.compile(r"\\.|\[\^?\]?(?:\\.|\[:\w+:\]|[^\]\\])*\]|\$", re.DOTALL)


class Taken(NamedTuple):
    """What a pattern took of a text: the whole match and its groups, and those that have a name."""

    groups: tuple[str, ...]
    named: dict[str, str]


def taken(pattern: str, text: str, ignore_case: bool = False, by_line: bool = False) -> Taken | None:
    """What a pattern takes of a text, groups that took no part as empty ones; None where it does not fit.

    Raises PatternTrouble where that cannot be told.
    """
    found = compiled(pattern, ignore_case, by_line)
    try:
        match = found.search(as_bytes(text), timeout=SECONDS)
    except (TimeoutError, MemoryError, RecursionError):
        raise PatternTrouble("takes too long") from None
    if match is None:
        return None
    groups = tuple(as_text(group or "") for group in (match[0], *match.groups()))
    return Taken(groups, {name: as_text(value or "") for name, value in match.groupdict().items()})


def search(pattern: str, text: str, ignore_case: bool = False, by_line: bool = False) -> tuple[str, ...] | None:
    """The whole match and its groups, as above; None where there is no match. Raises PatternTrouble."""
    found = taken(pattern, text, ignore_case, by_line)
    return found.groups if found is not None else None


def as_bytes(text: str) -> str:
    """A text with a character for each byte of its UTF-8 form, as a server sees it."""
    return text if text.isascii() else text.encode("utf-8", "surrogateescape").decode("latin-1")


def as_text(written: str) -> str:
    """The same turned back."""
    return written if written.isascii() else written.encode("latin-1").decode("utf-8", "surrogateescape")


def is_no_pattern(said: str) -> bool:
    """Whether a pattern is none for anybody, and not only one that is not understood here."""
    return any(word in said for word in _WRONG)


_WRONG = ("missing", "unbalanced", "nothing to repeat", "bad character range", "multiple repeat", "end of pattern")
