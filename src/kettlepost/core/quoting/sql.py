"""Statements for MySQL, MariaDB and PostgreSQL; `core.databases.Dialect` quotes names and texts by the server."""

from __future__ import annotations

import re

from kettlepost.core.errors import InputError
from kettlepost.core.names import printable, quoted
from kettlepost.core.quoting.language import Code

_KEYWORD = re.compile(r"[A-Za-z][A-Za-z0-9_ ]*", re.ASCII)


class Sql(Code):
    """Text of a statement."""

    __slots__ = ()


def identifier(text: str, quote: str) -> Sql:
    """A name in the quotes of a server, which are doubled in it. Raises InputError for what no name can hold."""
    return Sql(quote + _whole(text).replace(quote, quote * 2) + quote)


def literal(text: str) -> Sql:
    """A text in single quotes, in a session in which a backslash is one."""
    return Sql("'" + _whole(text).replace("'", "''") + "'")


def within_text(code: Sql) -> Sql:
    """A part of a statement as it stands within a text in single quotes."""
    return Sql(code.replace("'", "''"))


def comment(text: str) -> Sql:
    """A value within a comment, which its line ends."""
    return Sql(printable(text))


def keyword(text: str) -> Sql:
    """A right, a character set or a collation: letters, digits, underscores and spaces."""
    if _KEYWORD.fullmatch(text) is None:
        raise InputError(f"{quoted(text)} is no word of a database server's")
    return Sql(text)


def dollar_quoted(body: Sql) -> Sql:
    """A body in quotes of PostgreSQL's that nothing in it ends."""
    tag = "kp"
    while f"${tag}$" in body:
        tag += "p"
    return Sql(f"${tag}$ {body} ${tag}$")


def psql_argument(text: str) -> Sql:
    """An argument of a command of psql, which takes backslashes there."""
    return Sql("'" + _whole(text).replace("\\", "\\\\").replace("'", "\\'") + "'")


def _whole(text: str) -> str:
    if any(sign == "\0" or "\ud800" <= sign <= "\udfff" for sign in text):
        raise InputError(f"{quoted(text)} holds a character that no statement can hold; rename it")
    return text
