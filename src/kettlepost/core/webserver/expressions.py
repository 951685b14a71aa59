"""Expressions of `<If>`, `Require expr` and `RewriteCond expr` (ap_expr), as far as they ask for what is known."""

from __future__ import annotations

import operator
import re
from collections.abc import Callable, Iterator
from urllib.parse import quote, unquote

from kettlepost.core.webserver.networks import is_within
from kettlepost.core.webserver.patterns import PatternTrouble, is_no_pattern, search
from kettlepost.core.webserver.wildcards import matches_wildcards

_TOKEN = re.compile(
    r"""\s*(?:(?P<regex>(?:m(?=[/#|,!;:%^?._-])|(?=/))(?P<sep>.)(?:(?!(?P=sep)).)*(?P=sep)i?)|(?P<string>"(?:\\.|[^"\\])*"|'(?:\\.|[^'\\])*')
    |(?P<variable>%\{(?:[^{}]|\{[^{}]*\})+\}|[$]\d)|(?P<sign>&&|\|\||==|!=|=~|!~|<=|>=|=|<|>|!|\(|\)|\{|\}|,)|(?P<word>-?[\w.$/*-]+))""",
    re.VERBOSE | re.DOTALL,
)


_PIECE = re.compile(r"%\{(?:[^{}]|\{[^{}]*\})*\}|%\{|\$[0-9]|[^%$]+|[%$]", re.DOTALL)
"""What a text with variables is made of; a function's argument may hold one more."""
_VARIABLES = frozenset(
    """HTTPS IPV6 CONN_LOG_ID CONN_REMOTE_ADDR REQUEST_METHOD REQUEST_SCHEME REQUEST_URI REQUEST_FILENAME REMOTE_HOST
    REMOTE_IDENT REMOTE_USER REMOTE_ADDR REMOTE_PORT SERVER_ADMIN SERVER_NAME SERVER_PORT SERVER_PROTOCOL
    SERVER_SOFTWARE SERVER_PROTOCOL_VERSION SERVER_PROTOCOL_VERSION_MAJOR SERVER_PROTOCOL_VERSION_MINOR
    SCRIPT_FILENAME SCRIPT_USER SCRIPT_GROUP PATH_INFO QUERY_STRING IS_SUBREQ DOCUMENT_ROOT DOCUMENT_URI
    AUTH_TYPE THE_REQUEST CONTENT_TYPE HANDLER REQUEST_LOG_ID LAST_MODIFIED CONTEXT_PREFIX CONTEXT_DOCUMENT_ROOT
    REQUEST_STATUS TIME API_VERSION HTTP_ACCEPT HTTP_COOKIE HTTP_FORWARDED HTTP_HOST HTTP_PROXY_CONNECTION
    HTTP_REFERER HTTP_USER_AGENT""".split()
)
"""The variables that an expression may ask for, beside those of modules."""


class NotUnderstood(Exception):
    """An expression that asks for something that is not modelled."""


class InvalidExpression(NotUnderstood):
    """What is no expression, so that a server refuses it."""


def expression_fault(text: str) -> str:
    """Why a server refuses an expression; empty where it takes it, or where that is not known."""
    try:
        holds(text, lambda _name: "", lambda _test, _path: False)
    except InvalidExpression as error:
        return f"it is no expression: {error}"
    except NotUnderstood:
        return ""
    return ""


def holds(text: str, lookup: Callable[[str], str], is_there: Callable[[str, str], bool]) -> bool:
    """Whether an expression holds; `lookup` gives a variable, `is_there` answers `-f` and the like of a path.

    Raises NotUnderstood.
    """
    return _ExpressionReader(list(_tokens(text)), lookup, is_there).whole()


def filled_in(text: str, lookup: Callable[[str], str]) -> str:
    """A text with what its variables and functions give. Raises NotUnderstood."""
    return _ExpressionReader([], lookup, lambda _test, _path: False).filled(text)


def text_fault(text: str) -> str:
    """Why a server refuses a text with variables; empty where it takes it, or where that is not known."""
    try:
        filled_in(text, lambda _name: "")
    except InvalidExpression as error:
        return f"it is no expression: {error}"
    except NotUnderstood:
        return ""
    return ""


def _tokens(text: str) -> Iterator[tuple[str, str]]:
    text = text.strip()
    if not text:
        raise InvalidExpression("it is empty")
    if text[0] in "\"'" and text[-1] == text[0] and text.count(text[0]) == 2:
        text = text[1:-1]
    at = 0
    while at < len(text.rstrip()):
        match = _TOKEN.match(text, at)
        if match is None:
            raise InvalidExpression(f"{text[at:]} cannot be read")
        kind = match.lastgroup if match.lastgroup != "sep" else "regex"
        yield kind or "", match[kind or 0]
        at = match.end()


class _ExpressionReader:
    def __init__(
        self, tokens: list[tuple[str, str]], lookup: Callable[[str], str], is_there: Callable[[str, str], bool]
    ):
        self._tokens = tokens
        self._at = 0
        self._lookup = lookup
        self._is_there = is_there
        self._groups: tuple[str, ...] = ()

    def whole(self) -> bool:
        found = self._either()
        if self._at != len(self._tokens):
            raise InvalidExpression("more behind it")
        return found

    def _next(self) -> tuple[str, str]:
        return self._tokens[self._at] if self._at < len(self._tokens) else ("", "")

    def _take(self) -> tuple[str, str]:
        token = self._next()
        if not token[0]:
            raise InvalidExpression("it ends early")
        self._at += 1
        return token

    def _either(self) -> bool:
        found = self._both()
        while self._next()[1] in ("||", "or"):
            self._at += 1
            found = self._both() or found
        return found

    def _both(self) -> bool:
        found = self._single()
        while self._next()[1] in ("&&", "and"):
            self._at += 1
            found = self._single() and found
        return found

    def _single(self) -> bool:
        kind, text = self._take()
        if text == "!" or (kind == "word" and text == "not"):
            return not self._single()
        if text == "(":
            found = self._either()
            self._expect(")")
            return found
        if kind == "word" and text.lower() in ("true", "false"):
            return text.lower() == "true"
        if kind == "word" and re.fullmatch(r"-[a-zA-Z]", text):
            return self._tested(text[1:], self._value(*self._take()))
        return self._compared(self._value(kind, text), self._take()[1])

    def _expect(self, sign: str) -> None:
        if self._take()[1] != sign:
            raise InvalidExpression(f"{sign} is missing")

    def _tested(self, test: str, value: str) -> bool:
        if test in "nz":
            return bool(value) == (test == "n")
        if test == "T":
            return value.lower() not in ("", "0", "off", "false", "no")
        if test == "R":
            return is_within(self._lookup("REMOTE_ADDR"), value)
        if test in "fdshLe":
            return self._is_there(test, value)
        if test not in "LFUAx":
            raise InvalidExpression(f"there is no -{test}")
        raise NotUnderstood(f"-{test}")

    def _compared(self, value: str, sign: str) -> bool:
        if sign in ("=~", "!~"):
            return self._matches(value) == (sign == "=~")
        if sign in ("in", "-in"):
            return value in self._list()
        other = self._value(*self._take())
        if sign in ("==", "=", "!="):
            return (value == other) == (sign != "!=")
        if sign in ("<", "<=", ">", ">="):
            return {"<": value < other, "<=": value <= other, ">": value > other, ">=": value >= other}[sign]
        if sign in _NUMBERS and value.isdigit() and other.isdigit():
            return _NUMBERS[sign](int(value), int(other))
        if sign in _WILDCARDS:
            return _WILDCARDS[sign](value, other)
        if sign == "-ipmatch":
            return is_within(value, other)
        if sign not in _NUMBERS and (sign[:1].isalpha() or sign[:1] == "-"):
            raise InvalidExpression(f"{sign} compares nothing")
        raise NotUnderstood(sign)

    def _matches(self, value: str) -> bool:
        kind, text = self._take()
        if kind != "regex":
            raise InvalidExpression(f"{text} is no pattern")
        body = text[1:] if text.startswith("m") else text
        end = body.rfind(body[0])
        try:
            found = search(body[1:end], value, body.endswith("i") and end < len(body) - 1)
        except PatternTrouble as error:
            odd = is_no_pattern(str(error))
            raise InvalidExpression(str(error)) if odd else NotUnderstood(str(error)) from None
        self._groups = found or self._groups
        return found is not None

    def _list(self) -> list[str]:
        self._expect("{")
        found = [self._value(*self._take())]
        while self._next()[1] == ",":
            self._at += 1
            found.append(self._value(*self._take()))
        self._expect("}")
        return found

    def _value(self, kind: str, text: str) -> str:
        if kind == "word" and self._next()[1] == "(":
            return self._called(text.lower())
        if kind == "variable" and text.startswith("$"):
            return self._groups[int(text[1])] if int(text[1]) < len(self._groups) else ""
        if kind == "variable":
            return self._variable(text[2:-1])
        if kind == "string":
            return self.filled(text[1:-1])
        if kind == "word" and text.isdigit():
            return text
        raise InvalidExpression(f"{text} is neither a value nor a function")

    def filled(self, text: str) -> str:
        """A text with what `%{...}` gives, innermost first, and `$1` for what a pattern took."""
        out: list[str] = []
        for piece in _PIECE.findall(text):
            if piece == "%{":
                is_open = text.count("{") > text.count("}")  # else one within another within another
                raise InvalidExpression("} is missing") if is_open else NotUnderstood(text)
            if piece[:2] == "%{":
                out.append(self._variable(piece[2:-1]))
            elif piece[:1] == "$" and len(piece) > 1:
                out.append(self._groups[int(piece[1])] if int(piece[1]) < len(self._groups) else "")
            else:
                out.append(piece)
        return "".join(out)

    def _variable(self, name: str) -> str:
        """What a variable holds, of those that there are."""
        upper = name.upper()
        function, colon, value = name.partition(":")
        if colon:
            value = self.filled(value)
            return self._lookup(name) if function.upper() == "SSL" else self._applied(function.lower(), value)
        if upper not in _VARIABLES and not upper.startswith(("SSL_", "H2", "HTTP2", "TIME_")):
            raise InvalidExpression(f"there is no variable {name}")
        return self._lookup(name)

    def _called(self, name: str) -> str:
        """What a function gives."""
        self._expect("(")
        value = self._value(*self._take())
        self._expect(")")
        return self._applied(name, value)

    def _applied(self, name: str, value: str) -> str:
        """What a function gives for a value."""
        if name in ("tolower", "toupper"):
            return value.lower() if name == "tolower" else value.upper()
        if name in ("req", "http"):
            return self._lookup(f"HTTP:{value}")
        if name in ("env", "reqenv", "v"):
            return self._lookup(f"ENV:{value}") if name != "v" else self._lookup(value)
        if name in ("escape", "unescape"):
            return quote(value) if name == "escape" else unquote(value)
        raise NotUnderstood(name) if name in _FUNCTIONS else InvalidExpression(f"there is no function {name}")


# "file" and "filesize" are for the server's own configuration alone
_FUNCTIONS = frozenset("resp osenv note base64 unbase64 md5 sha1 ldap replace join split listsub bool".split())
_COMPARE: dict[str, Callable[[int, int], bool]] = {
    "eq": operator.eq, "ne": operator.ne, "lt": operator.lt, "le": operator.le, "gt": operator.gt, "ge": operator.ge,
}  # fmt: skip
_NUMBERS = _COMPARE | {f"-{name}": compare for name, compare in _COMPARE.items()}
"""What compares numbers, with a dash and without."""
_WILDCARDS: dict[str, Callable[[str, str], bool]] = {
    "-strmatch": matches_wildcards,
    "-strcmatch": lambda value, pattern: matches_wildcards(value.lower(), pattern.lower()),
    "-fnmatch": lambda value, pattern: matches_wildcards(value, pattern, within_segments=True),
}
