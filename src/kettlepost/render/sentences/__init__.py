"""The sentences of messages, those of a family beside each other in one module, and how they are filled in.

A sentence names its facts in braces. Behind a colon stands how one is written: `{size:,}` as Python writes numbers,
`{names:4}` the first four of several and how many more there are, `{files:=file}` a number, or how many of several
there are, with its noun in the right form (`{found:=entry|entries}` where that is not formed with an s),
`{names:?is|are}` the first where it is one, or so, else the second, `{faults:;}` several with semicolons between them.
A fact that is None is written as nothing.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from importlib import import_module
from pkgutil import iter_modules
from string import Formatter

from kettlepost.core.messages import Fact, Message, Words
from kettlepost.core.words import counted, listed

FAMILIES = tuple(import_module(f"{__name__}.{family.name}") for family in iter_modules(__path__))
"""The modules that hold sentences."""
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
    told = []
    for before, name, form in _pieces(words.slug):
        told.append(before)
        if name is not None:
            told.append(_written(words.facts[name], form or ""))
    return "".join(told)


@cache
def _pieces(slug: str) -> tuple[tuple[str, str | None, str | None], ...]:
    """What a sentence is made of: text, and behind it the fact that follows, with how that is written."""
    return tuple((before, name, form) for before, name, form, _ in Formatter().parse(SENTENCES[slug]))


def _several(fact: Fact) -> Sequence[Words]:
    return fact if isinstance(fact, tuple) else ()


def _written(fact: Fact, form: str) -> str:
    """A fact as its sentence has it written."""
    if isinstance(fact, str | Message) and not form:
        return text(fact)
    if form[:1] == "?":
        one, _, other = form[1:].partition("|")
        return one if (len(fact) if isinstance(fact, tuple) else fact) == 1 else other
    if form[:1] == "=" and isinstance(fact, int | tuple):
        singular, _, many = form[1:].partition("|")
        return counted(len(fact) if isinstance(fact, tuple) else fact, singular, many or None)
    if isinstance(fact, tuple):
        words = map(text, fact)
        return "; ".join(words) if form == ";" else listed(words, int(form) if form else None)
    return "" if fact is None else format(fact, form)
