"""Versions held against what an application needs, such as `>=7.4` or `>=8.1, <8.4`."""

from __future__ import annotations

import re

_VERSION = re.compile(r"\d{1,9}(?:\.\d{1,9}){0,5}")
_PART = re.compile(r"\s*(>=|<=|<|>|==|!=)?\s*(\d{1,9}(?:\.\d{1,9}){0,5})\s*")


class NoVersions(ValueError):
    """A text that says no versions."""


def conditions(written: str) -> list[tuple[str, tuple[int, ...]]]:
    """The conditions of a text, each a sign and a version; a version alone is the least. Raises NoVersions."""
    found = []
    for part in written.split(","):
        match = _PART.fullmatch(part)
        if match is None:
            raise NoVersions(written)
        found.append((match[1] or ">=", tuple(map(int, match[2].split(".")))))
    return found


def is_version(written: str) -> bool:
    """Whether a text is a version, such as `8.2`."""
    return _VERSION.fullmatch(written) is not None


def fits(version: str, written: str) -> bool:
    """Whether a version fits all conditions; compared as far as both say it, so that 8.4 is not above `<=8`.

    Raises NoVersions where either is none.
    """
    match = _VERSION.match(version)
    if match is None:
        raise NoVersions(version)
    given = tuple(map(int, match[0].split(".")))
    for sign, wanted in conditions(written):
        length = min(len(given), len(wanted))
        ours, theirs = given[:length], wanted[:length]
        holds = {
            ">=": ours >= theirs, "<=": ours <= theirs, ">": ours > theirs, "<": ours < theirs,
            "==": ours == theirs, "!=": ours != theirs,
        }  # fmt: skip
        if not holds[sign]:
            return False
    return True
