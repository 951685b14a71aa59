"""What all languages share: text made of constant templates, into which only quoted values go."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Self

from kettlepost.core.errors import InputError
from kettlepost.core.names import quoted

_SLOT = re.compile("\u00ab([a-z_]+)\u00bb")


class Code(str):
    """Text of one language. Only the functions beside a language make it of what a user, a file or a server said."""

    __slots__ = ()

    @classmethod
    def of(cls, template: str, /, **values: Self | int) -> Self:
        """A template, which is constant, with a value in the place of each `«name»`.

        Raises TypeError for a value that is no text of this very language, and no number.
        """

        def value(match: re.Match[str]) -> str:
            found = values[match[1]]
            if not isinstance(found, cls) and type(found) is not int:
                raise TypeError(f"{match[1]} is {type(found).__name__}, and no {cls.__name__}")
            return str(found)

        return cls(_SLOT.sub(value, template))

    @classmethod
    def joined(cls, parts: Iterable[Self], between: str = "\n") -> Self:
        """Several texts, with something constant between them. Raises TypeError for what is no text of the language."""
        texts = list(parts)
        for text in texts:
            if not isinstance(text, cls):
                raise TypeError(f"{type(text).__name__} is no {cls.__name__}")
        return cls(between.join(texts))


def one_line(text: str, language: str) -> str:
    """The same text; raises InputError where a language that is written in lines cannot hold it."""
    for sign in text:
        if sign < " " or sign == "\x7f" or "\ud800" <= sign < "\udc80" or "\udcff" < sign <= "\udfff":
            raise InputError(f"{quoted(text)} holds a character that {language} cannot hold; rename it")
    return text
