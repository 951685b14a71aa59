"""The right name that a wrong one was probably meant to be."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

_MOST = 4_000_000
"""How many names are compared before wrong ones are left without a suggestion."""


def nearest(word: str, known: Iterable[str], most: int = 1, at_least: float = 60.0) -> list[str]:
    """The names in `known` most like `word`, best first; likeness runs from 0 to 100."""
    return _nearest(word, sorted(set(known)), most, at_least)


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """`; did you mean "addon"?`, or nothing when no name is near."""
    return _question(nearest(word, known))


class Suggestions:
    """Suggestions for many wrong words among the same names, for as long as that takes no time worth mentioning."""

    def __init__(self, known: Iterable[str]):
        self._known = sorted(set(known))
        self._left = _MOST

    def did_you_mean(self, word: str) -> str:
        """As the function of that name; nothing once too many were compared."""
        self._left -= len(self._known)
        return _question(_nearest(word, self._known, 1, 60.0)) if self._left > 0 else ""


def _nearest(word: str, ordered: Sequence[str], most: int, at_least: float) -> list[str]:
    from rapidfuzz import fuzz, process, utils  # costs time to import, and only mistakes need it

    ranked = process.extract(
        word, ordered, scorer=fuzz.ratio, processor=utils.default_process, limit=most, score_cutoff=at_least
    )
    return [name for name, _, _ in ranked]


def _question(found: list[str]) -> str:
    return f'; did you mean "{found[0]}"?' if found else ""
