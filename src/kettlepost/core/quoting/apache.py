"""Configurations of the Apache HTTP Server, which puts variables in the place of `${NAME}` wherever it finds them."""

from __future__ import annotations

import re

from kettlepost.core.errors import InputError
from kettlepost.core.names import quoted
from kettlepost.core.quoting.language import Code, one_line

_PLAIN = re.compile(r"[A-Za-z0-9_./:*,@%+=-]+")
_WILD = re.compile(r"[*?\[\]\\]")


class Apache(Code):
    """Text of a configuration of Apache."""

    __slots__ = ()


def word(text: str) -> Apache:
    """An argument, in double quotes where need be. Raises InputError for one with `${`, which cannot be escaped."""
    whole = _whole(text)
    return Apache(whole if _PLAIN.fullmatch(whole) else '"' + whole.replace("\\", "\\\\").replace('"', '\\"') + '"')


def section(name: Apache, path: str) -> Apache:
    """How a section for a path and all below it begins, as `<Location "/x">`; `name` is Location or Directory.

    Signs that stand for others there are told by a regular expression instead.
    """
    if _WILD.search(path) is None:
        return Apache.of("<«name» «path»>", name=name, path=in_quotes(path))
    exact = "^" + re.escape(path.rstrip("/")).replace("/", "/") + "(?:/|$)"
    return Apache.of("<«name»Match «path»>", name=name, path=in_quotes(exact))


def section_end(name: Apache, path: str) -> Apache:
    """The end of a section that begins so."""
    return Apache.of("</«name»>" if _WILD.search(path) is None else "</«name»Match>", name=name)


def own_line(text: str) -> Apache:
    """A line that the user has written for this server. Raises InputError for one that would reach beyond its host."""
    written = one_line(text, "Apache").strip()
    if written.startswith("<") or written.endswith("\\"):
        raise InputError(
            f"{quoted(text)} under [export] is no whole line: it opens a section, or goes on behind its end"
        )
    return Apache(written)


def in_quotes(text: str) -> Apache:
    """An argument in double quotes, as paths and URLs are written; as for `word`."""
    return Apache('"' + _whole(text).replace("\\", "\\\\").replace('"', '\\"') + '"')


def _whole(text: str) -> str:
    if "${" in text:
        raise InputError(f"{quoted(text)} holds ${{, which Apache takes for a variable; rename it")
    return one_line(text, "Apache")
