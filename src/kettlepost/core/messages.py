"""What is to be said, as facts: which sentence it is, and what it speaks of. The words are made when it is shown."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, KeysView, ValuesView
from typing import Any, NamedTuple, TypeAlias

from msgspec import Struct, field

from kettlepost.core.errors import InputError
from kettlepost.core.remedies import Remedy

Fact: TypeAlias = "bool | int | str | Message | tuple[str | Message, ...] | None"
"""What a sentence speaks of: a name, a number, whether something is so, another message, or several."""


class Message(Struct, frozen=True, omit_defaults=True):
    """One thing to be said: `slug` names the sentence, `facts` are the values in it by the names that it gives them."""

    slug: str
    facts: dict[str, Fact] = field(default_factory=dict)

    def __hash__(self) -> int:
        return hash((self.slug, *self.facts.values()))

    def __add__(self, other: Words) -> Message:
        """This with another one behind it."""
        return joined(self, other)

    def __radd__(self, other: str) -> Message:
        return joined(other, self)

    def __format__(self, form: str) -> str:
        raise TypeError(f"{self.slug} is in no text yet: whoever shows it makes one of it")


Words: TypeAlias = str | Message
"""What is said: a name or a text that was found as it is, or a message."""


class Hint(NamedTuple):
    """Something good to know, in words, and what can be done with the program about it."""

    words: Words
    remedies: tuple[Remedy, ...] = ()


class MessageError(InputError):
    """An input that is wrong, where a message says more of it: `more` stands behind the error's own words."""

    def __init__(self, message: str, more: Words, *remedies: Remedy):
        super().__init__(message, *remedies)
        self.more = more


def say(slug: str, /, **facts: Any) -> Message:
    """A message about some facts; of several that are given in one, each is kept."""
    return Message(slug, {name: _fact(value) for name, value in facts.items()})


def joined(*words: Words | None) -> Message:
    """One thing behind the other, without anything between them; what is None or empty says nothing."""
    parts: list[Words] = []
    for one in words:
        inner = one.facts["words"] if isinstance(one, Message) and one.slug == "joined" else None
        parts += inner if isinstance(inner, tuple) else [one] if one else []
    only = parts[0] if len(parts) == 1 else None
    return only if isinstance(only, Message) else Message("joined", {"words": tuple(parts)})


def series(words: Iterable[Words], most: int | None = None) -> Message:
    """Several things one after the other, the last behind an "and"; of more than `most` the first few."""
    return Message("series", {"words": tuple(words), "most": most})


def message_order(words: Words) -> str:
    """What messages are sorted by, whatever their words are."""
    return words if isinstance(words, str) else repr(words)


_PLAIN = (str, int, bool, Message)
_SEVERAL = (list, set, frozenset, dict, Iterator, KeysView, ValuesView)


def _fact(value: Any) -> Fact:
    if value is None or type(value) in _PLAIN:
        plain: Fact = value
        return plain
    if isinstance(value, _SEVERAL) or type(value) is tuple:  # an address is a tuple as well, and has words of its own
        return tuple(one if isinstance(one, Message) else str(one) for one in value)
    return str(value)
