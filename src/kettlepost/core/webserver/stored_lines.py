"""What a survey keeps of a control file: the lines that have a say, and no secret."""

from __future__ import annotations

import re
from collections.abc import Iterable

from kettlepost.core.secrets import MASK
from kettlepost.core.webserver.arguments import spoils_answers
from kettlepost.core.webserver.directives import logical_lines, split_first, split_words
from kettlepost.core.webserver.environment import harmless, without_values
from kettlepost.core.webserver.server_table import AWAY
from kettlepost.core.webserver.settings import TAKEN
from kettlepost.core.webserver.vocabulary import (
    ENVIRONMENT,
    NOT_KEPT,
    REFUSED,
    SECTIONS,
    decides_nothing,
    is_perhaps_taken,
    is_program,
    known,
    refusal,
    titled,
)

MOST_LINES = 4_000
"""How many lines of a control file are kept; of a longer one it is only known that it has a say."""


_REWRITING = ("rewriteengine", "rewritebase", "rewriterule", "rewritecond", "rewriteoptions", "rewritemap")
_IN_PART = frozenset(("php_flag", "php_value", "addtype", "forcetype", "authname"))
IN_FULL = frozenset((*TAKEN, *_REWRITING, "require")) - _IN_PART - AWAY
"""Directives of which a survey keeps the whole line, but for secrets in it."""


def kept_lines(text: str, is_whole: bool = True) -> list[str]:
    """The lines of a control file that have a say in what answers, each behind its number.

    Of what is not modelled only the name is kept, and of what decides nothing, nothing at all: there
    secrets may stand.
    """
    told = ((line, _kept(written)) for line, written in logical_lines(text))
    found = [f"{line} {kept}" for line, kept in told if kept is not None]
    if len(found) > MOST_LINES or not is_whole:
        return [f"0 {NOT_KEPT}"]
    return [*found, f"0 {_NAMES_KEPT}"] if _asks_without_a_name(found) else found


_NAMES_KEPT = "NamesKept"
"""What stands in a survey that would have kept an `AuthName`, and found none; those of before kept none at all."""


def _asks_without_a_name(kept: Iterable[str]) -> bool:
    names = {entry.partition(" ")[2].partition(" ")[0].lower() for entry in kept}
    return "authtype" in names and "authname" not in names


def _only_a_name(text: str) -> str:
    return re.sub(r"[^A-Za-z0-9_.-]", "_", text[:60])


def text_of(kept: Iterable[str]) -> str:
    """A control file again, of the lines that were kept of it, each where it stood.

    Raises ValueError for what is no such line.
    """
    kept = list(kept)
    lines: dict[int, str] = {}
    for entry in kept:
        number, _, written = entry.partition(" ")
        lines[int(number)] = _with_arguments(written)
    last = max(lines, default=0)
    if _asks_without_a_name(kept) and lines.get(0) != _NAMES_KEPT:
        last += 1
        lines[last] = f"AuthName {MASK}"
    if not 0 < last <= _LAST_LINE:
        return "\n".join(lines.values())
    return "\n".join(lines.get(number, "") for number in range(1, last + 1))


def _with_arguments(written: str) -> str:
    """A line with so many arguments as it takes, where surveys of before kept the name of a directive alone."""
    entry = known(written.lower())
    is_bare = written.lower() not in IN_FULL and refusal(written.lower(), [])
    return " ".join([written, *[MASK] * max(entry.least, 1)]) if entry is not None and is_bare else written


_LAST_LINE = 1_000_000


def _kept(written: str) -> str | None:
    """What is kept of a line; None where it has no say."""
    name, rest = split_first(written)
    lower, words = name.lower(), split_words(rest)
    if name.startswith("<"):
        end = rest.rfind(">")
        return f"{name} {without_values(lower.lstrip('<'), rest[:end])}{rest[end:]}" if end > 0 else written
    if lower == REFUSED.lower():
        return f"{REFUSED} {_only_a_name(rest)}".rstrip()
    if lower in SECTIONS or (known(lower) is not None and lower not in IN_FULL and refusal(lower, words)):
        return f"{REFUSED} {titled(lower)}"
    if lower in ENVIRONMENT:
        return f"{titled(lower)} {harmless(lower, rest)}"
    if lower in ("php_flag", "php_value"):
        return written if words[0] == "engine" else f"{name} {_only_a_name(words[0])} {MASK}"
    if lower in ("addtype", "forcetype"):
        return written if is_program(words[0]) else None
    if lower in IN_FULL:
        told = without_values(lower, rest)
        return written if told == rest else f"{name} {told}"
    if known(lower) is None:
        return _only_a_name(name) or "_"
    if lower == "header" and spoils_answers(words):
        return f"{name} set {MASK} {MASK}"
    has_say = not decides_nothing(lower) or is_perhaps_taken(lower, words)
    return " ".join([_only_a_name(name), *[MASK] * len(words)]) if has_say else None
