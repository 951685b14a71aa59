"""Configurations of nginx, in whose words a `$` begins a variable wherever one may stand."""

from __future__ import annotations

import re

from kettlepost.core.errors import InputError
from kettlepost.core.names import quoted
from kettlepost.core.quoting.language import Code, one_line

_PLAIN = re.compile(r"[A-Za-z0-9_./:*,@%+=\[\]~-]+")


class Nginx(Code):
    """Text of a configuration of nginx."""

    __slots__ = ()


def value(text: str) -> Nginx:
    """A word in which the server looks for variables. Raises InputError for one with a `$`, which cannot be escaped."""
    if "$" in text:
        raise InputError(f"{quoted(text)} holds a $, which is no plain sign to nginx; rename it")
    return word(text)


def word(text: str) -> Nginx:
    """A word in which it looks for none: a name, the path of a location."""
    return Nginx(one_line(text, "nginx") if _PLAIN.fullmatch(text) and text[0] not in "~=^@" else f'"{_inside(text)}"')


def inside(text: str) -> Nginx:
    """A value as a part of a word in double quotes in which variables are looked for."""
    if "$" in text:
        raise InputError(f"{quoted(text)} holds a $, which is no plain sign to nginx; rename it")
    return Nginx(_inside(text))


def regex(text: str) -> Nginx:
    """A value as a part of a regular expression in double quotes, in which it matches itself."""
    return Nginx(_inside(re.escape(one_line(text, "nginx"))))


def _inside(text: str) -> str:
    return one_line(text, "nginx").replace("\\", "\\\\").replace('"', '\\"')
