"""Wildcards as Apache matches them: `apr_fnmatch`, and `ap_strcmp_match`, which knows of no sets of characters."""

from __future__ import annotations

import re
from functools import lru_cache

_MOST_KEPT = 1_000


def matches_wildcards(text: str, pattern: str, *, within_segments: bool = False) -> bool:
    """Whether a name is as a pattern of `*`, `?`, `[a-z]` and `[!a-z]` has it; a backslash takes a sign's meaning away.

    `within_segments` is for paths, where none of them stands for a slash.
    """
    return _pattern(pattern, True, within_segments).fullmatch(text) is not None


def matches_stars(text: str, pattern: str) -> bool:
    """Whether a text is as a pattern of `*` and `?` has it, in which every other sign stands for itself."""
    return _pattern(pattern, False, False).fullmatch(text) is not None


@lru_cache(_MOST_KEPT)
def _pattern(pattern: str, has_sets: bool, within_segments: bool) -> re.Pattern[str]:
    one = "[^/]" if within_segments else "."
    pieces = [""]  # what stands between the stars
    at = 0
    while at < len(pattern):
        sign = pattern[at]
        at += 1
        if sign == "*":
            pieces.append("")
        elif sign == "?":
            pieces[-1] += one
        elif has_sets and sign == "[" and (found := _set_at(pattern, at)) is not None:
            written, at = found
            pieces[-1] += f"(?!/){written}" if within_segments else written
        elif has_sets and sign == "\\" and at < len(pattern):
            pieces[-1] += re.escape(pattern[at])
            at += 1
        else:
            pieces[-1] += re.escape(sign)
    first, *others = pieces
    # the first place that fits is as good as any, so that none is tried again
    between = "".join(f"(?>{one}*?{piece})" for piece in others[:-1] if piece)
    return re.compile(first + between + (f"{one}*{others[-1]}" if others else ""), re.DOTALL)


def _set_at(pattern: str, at: int) -> tuple[str, int] | None:
    """A set of characters that begins there, as `re` writes it, and where it ends; None where it does not end."""
    is_negated = pattern[at : at + 1] in ("!", "^")
    at += is_negated
    first, members = at, []
    while at < len(pattern):
        if pattern[at] == "]" and at > first:
            break
        low, at = _member(pattern, at)
        if pattern[at : at + 1] == "-" and pattern[at + 1 : at + 2] not in ("", "]"):
            high, at = _member(pattern, at + 1)
            members += [f"{re.escape(low)}-{re.escape(high)}"] * (low <= high)
        else:
            members.append(re.escape(low))
    else:
        return None
    if not members:  # a range that holds nothing
        return ("." if is_negated else "(?!)"), at + 1
    return f"[{'^' if is_negated else ''}{''.join(members)}]", at + 1


def _member(pattern: str, at: int) -> tuple[str, int]:
    if pattern[at] == "\\" and at + 1 < len(pattern):
        at += 1
    return pattern[at], at + 1
