"""Numbers and lists in words."""

from __future__ import annotations

from collections.abc import Iterable


def listed(words: Iterable[str], most: int | None = None) -> str:
    """`a`, `a and b`, `a, b and c`; of more than `most` the first few, and how many more there are."""
    *first, last = list(words) or [""]
    if most is not None and len(first) >= most:
        return f"{', '.join(first[:most])} and {len(first) + 1 - most:,} more"
    return f"{', '.join(first)} and {last}" if first else last


def counted(number: int, singular: str, many: str | None = None) -> str:
    """`1 file`, `3 files`, `1,200 files`; `many` is the plural where it is not formed with an s."""
    return f"{number:,} {singular if number == 1 else many or singular + 's'}"


def one(noun: str) -> str:
    """A noun with its article: `a site`, `an archive`."""
    return f"{'an' if noun[:1].lower() in 'aeiou' else 'a'} {noun}"


def age_words(seconds: int) -> str:
    """How long ago something was: `40 seconds ago`, `3 hours ago`; `in the future` for what is still to come."""
    if seconds < -60:
        return "in the future"
    units = ((86_400, "day"), (3_600, "hour"), (60, "minute"), (1, "second"))
    for length, name in units:
        if seconds >= length:
            return f"{counted(seconds // length, name)} ago"
    return "just now"
