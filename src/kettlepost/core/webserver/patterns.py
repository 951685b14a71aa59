"""Patterns of somebody else's, as a server runs them: Perl-compatible, over bytes, and never without an end."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

SECONDS = 0.2
"""So long may one pattern look at one text."""


class PatternTrouble(Exception):
    """A pattern that cannot be run here, or that takes too long: what it says is not known."""


@lru_cache(maxsize=4096)
def compiled(pattern: str, ignore_case: bool = False, multiline: bool = False) -> Any:
    """A pattern to search with. Raises PatternTrouble for what is none, or is not understood."""
    import regex  # only where patterns are met

    try:
        flags = (regex.IGNORECASE if ignore_case else 0) | (regex.MULTILINE if multiline else 0)
        return regex.compile(as_bytes(pattern), flags | regex.ASCII | regex.VERSION0)
    except (regex.error, OverflowError, RecursionError, ValueError) as error:
        raise PatternTrouble(str(error)) from None


def search(pattern: str, text: str, ignore_case: bool = False, multiline: bool = False) -> tuple[str, ...] | None:
    """The whole match and its groups, empty for those that took no part; None where there is no match.

    Raises PatternTrouble where that cannot be told.
    """
    found = compiled(pattern, ignore_case, multiline)
    try:
        match = found.search(as_bytes(text), timeout=SECONDS)
    except (TimeoutError, MemoryError, RecursionError):
        raise PatternTrouble("takes too long") from None
    if match is None:
        return None
    return tuple(as_text(group or "") for group in (match[0], *match.groups()))


def as_bytes(text: str) -> str:
    """A text with a character for each byte of its UTF-8 form, as a server sees it."""
    return text if text.isascii() else text.encode("utf-8", "surrogateescape").decode("latin-1")


def as_text(written: str) -> str:
    """The same turned back."""
    return written if written.isascii() else written.encode("latin-1").decode("utf-8", "surrogateescape")
