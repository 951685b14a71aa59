"""Expressions of `<If>`, `Require expr` and `RewriteCond expr` (ap_expr), as far as they ask for what is known."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from kettlepost.core.webserver.patterns import PatternTrouble, search

_TOKEN = re.compile(
    r"""\s*(?:(?P<regex>m?(?P<sep>[/#|,!])(?:\\.|(?!(?P=sep)).)*(?P=sep)i?)|(?P<string>"(?:\\.|[^"\\])*"|'(?:\\.|[^'\\])*')
    |(?P<variable>%\{[^}]+\})|(?P<sign>&&|\|\||==|!=|=~|!~|<=|>=|=|<|>|!|\(|\))|(?P<word>-?[\w.$/*-]+))""",
    re.VERBOSE | re.DOTALL,
)


class NotUnderstood(Exception):
    """An expression that asks for something that is not modelled."""


def holds(text: str, lookup: Callable[[str], str], is_there: Callable[[str, str], bool]) -> bool:
    """Whether an expression holds; `lookup` gives a variable, `is_there` answers `-f` and the like of a path.

    Raises NotUnderstood.
    """
    return _Reader(list(_tokens(text)), lookup, is_there).whole()


def _tokens(text: str) -> Iterator[tuple[str, str]]:
    text = text.strip()
    if text[:1] in "\"'" and text[-1:] == text[:1] and text.count(text[0]) == 2:
        text = text[1:-1]
    at = 0
    while at < len(text.rstrip()):
        match = _TOKEN.match(text, at)
        if match is None:
            raise NotUnderstood(text)
        kind = match.lastgroup if match.lastgroup != "sep" else "regex"
        yield kind or "", match[kind or 0]
        at = match.end()


class _Reader:
    def __init__(
        self, tokens: list[tuple[str, str]], lookup: Callable[[str], str], is_there: Callable[[str, str], bool]
    ):
        self._tokens = tokens
        self._at = 0
        self._lookup = lookup
        self._is_there = is_there

    def whole(self) -> bool:
        found = self._either()
        if self._at != len(self._tokens):
            raise NotUnderstood("more behind it")
        return found

    def _next(self) -> tuple[str, str]:
        return self._tokens[self._at] if self._at < len(self._tokens) else ("", "")

    def _take(self) -> tuple[str, str]:
        token = self._next()
        if not token[0]:
            raise NotUnderstood("it ends early")
        self._at += 1
        return token

    def _either(self) -> bool:
        found = self._both()
        while self._next()[1] == "||":
            self._at += 1
            found = self._both() or found
        return found

    def _both(self) -> bool:
        found = self._single()
        while self._next()[1] == "&&":
            self._at += 1
            found = self._single() and found
        return found

    def _single(self) -> bool:
        kind, text = self._take()
        if text == "!":
            return not self._single()
        if text == "(":
            found = self._either()
            if self._take()[1] != ")":
                raise NotUnderstood("a bracket is open")
            return found
        if kind == "word" and text.lower() in ("true", "false"):
            return text.lower() == "true"
        if kind == "word" and re.fullmatch(r"-[a-zA-Z]", text):
            return self._tested(text[1:], self._value(*self._take()))
        value = self._value(kind, text)
        sign = self._take()[1]
        return self._compared(value, sign)

    def _tested(self, test: str, value: str) -> bool:
        if test in "nz":
            return bool(value) == (test == "n")
        if test == "T":
            return value.lower() not in ("", "0", "off", "false", "no")
        if test in "fdsle":
            return self._is_there(test, value)
        raise NotUnderstood(f"-{test}")

    def _compared(self, value: str, sign: str) -> bool:
        kind, text = self._take()
        if sign in ("=~", "!~"):
            if kind != "regex":
                raise NotUnderstood(sign)
            body = text[1:] if text.startswith("m") else text
            end = body.rfind(body[0])
            try:
                found = search(body[1:end], value, body.endswith("i") and end < len(body) - 1) is not None
            except PatternTrouble as error:
                raise NotUnderstood(str(error)) from None
            return found == (sign == "=~")
        other = self._value(kind, text)
        if sign in ("==", "=", "!="):
            return (value == other) == (sign != "!=")
        if sign in ("-eq", "-ne") and value.isdigit() and other.isdigit():
            return (int(value) == int(other)) == (sign == "-eq")
        raise NotUnderstood(sign)

    def _value(self, kind: str, text: str) -> str:
        if kind == "variable":
            return self._lookup(text[2:-1])
        if kind == "string":
            inner = text[1:-1]
            return re.sub(r"%\{([^}]+)\}", lambda match: self._lookup(match[1]), inner)
        if kind == "word" and not text.startswith("-"):
            return text
        raise NotUnderstood(text)
