"""Numbers and lists in words."""

from __future__ import annotations

from collections.abc import Iterable


def listed(words: Iterable[str]) -> str:
    """`a`, `a and b`, `a, b and c`."""
    *most, last = list(words)
    return f"{', '.join(most)} and {last}" if most else last


def counted(number: int, one: str) -> str:
    """`1 file`, `3 files`, `1,200 files`."""
    return f"{number:,} {one}{'' if number == 1 else 's'}"
