"""The sentences of messages, those of a family beside each other in one module, and how they are filled in.

A sentence names its facts in braces. Behind a colon stands how one is written: `{size:,}` as Python writes numbers,
`{names:4}` the first four of several and how many more there are, `{files:=file}` a number with its noun in the right
form (`{found:=entry|entries}` where that is not formed with an s), `{names:?is|are}` the first where it is one, or so,
else the second, `{faults:;}` several with semicolons between them. A fact that is None is written as nothing.
"""

from __future__ import annotations

from string import Formatter
from typing import Any

from kettlepost.core.messages import Message, Words
from kettlepost.core.words import counted, listed
from kettlepost.render.sentences import (
    acceptances,
    access,
    addresses,
    allowances,
    care,
    certificates,
    contents,
    control_files,
    databases,
    exposure,
    installations,
    leftovers,
    moves,
    needs,
    outside,
    parties,
    paths,
    placing,
    removal,
    roots,
    seen_databases,
    tables_apart,
    transitions,
)

FAMILIES = (
    acceptances,
    access,
    addresses,
    allowances,
    care,
    certificates,
    contents,
    control_files,
    databases,
    exposure,
    installations,
    leftovers,
    moves,
    needs,
    outside,
    parties,
    paths,
    placing,
    removal,
    roots,
    seen_databases,
    tables_apart,
    transitions,
)
SENTENCES: dict[str, str] = {slug: words for family in FAMILIES for slug, words in family.SENTENCES.items()}


def text(words: Words) -> str:
    """What a message says, in English."""
    if isinstance(words, str):
        return words
    if words.slug == "joined":
        return "".join(map(text, _several(words.facts["words"])))
    if words.slug == "series":
        most = words.facts["most"]
        return listed(map(text, _several(words.facts["words"])), most if isinstance(most, int) else None)
    return _FILLING.vformat(SENTENCES[words.slug], (), words.facts)


def _several(fact: Any) -> tuple[Words, ...]:
    return fact if isinstance(fact, tuple) else tuple(fact)


class _Filling(Formatter):
    """Facts as a sentence writes them."""

    def format_field(self, value: Any, format_spec: str) -> str:
        if format_spec[:1] == "?":
            one, _, other = format_spec[1:].partition("|")
            number = len(value) if isinstance(value, tuple | list) else value
            return one if number == 1 else other
        if format_spec[:1] == "=":
            singular, _, many = format_spec[1:].partition("|")
            return counted(value, singular, many or None)
        if isinstance(value, tuple | list):
            words = map(text, value)
            return "; ".join(words) if format_spec == ";" else listed(words, int(format_spec) if format_spec else None)
        if value is None or isinstance(value, str | Message):
            return text(value or "")
        return format(value, format_spec)


_FILLING = _Filling()
