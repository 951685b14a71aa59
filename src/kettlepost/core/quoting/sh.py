"""Scripts for a POSIX shell (POSIX.1-2024, XCU 2.2), in ASCII alone, so that they survive any mail and any locale."""

from __future__ import annotations

from kettlepost.core.errors import InputError
from kettlepost.core.names import printable
from kettlepost.core.quoting.language import Code
from kettlepost.core.quoting.sql import Sql

_PLAIN = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._/:,@+=-")
_PLAIN_BYTES = frozenset(ord(letter) for letter in _PLAIN if letter not in ":,@+=-")


class Sh(Code):
    """Text of a shell script."""

    __slots__ = ()


def word(text: str) -> Sh:
    """A value as one word, in single quotes where need be; what is not printable ASCII is refused (see `assigned`)."""
    if not text.isascii() or not text.isprintable():
        raise InputError(f"{printable(text)} cannot stand as a word in a script")
    if text and text[0] != "-" and _PLAIN.issuperset(text) and "=" not in text:
        return Sh(text)
    return Sh("'" + text.replace("'", "'\\''") + "'")


def raw(text: str) -> Sh:
    """A value as one word, whatever is in it, as UTF-8 where it is not ASCII; control characters are refused."""
    if any(sign < " " or sign == "\x7f" or "\ud800" <= sign <= "\udfff" for sign in text):
        raise InputError(f"{printable(text)} holds a control character, which no script can hold")
    return Sh("'" + text.replace("'", "'\\''") + "'")


def said(text: str) -> Sh:
    """A value for people to read, as one word: what is not printable ASCII stands as `printable` writes it."""
    return word(ascii_of(printable(text)))


def format_of(text: str) -> Sh:
    """A value as a format of printf(1) in single quotes: each byte that is not plain by its octal number.

    It begins with no dash, which would be an option, and holds no NUL, which no argument can.
    """
    raw = text.encode("utf-8", "surrogateescape")
    if b"\0" in raw:
        raise InputError(f"{printable(text)} holds a NUL, which no file system allows")
    return Sh("'" + "".join(chr(byte) if byte in _PLAIN_BYTES else f"\\{byte:03o}" for byte in raw) + "'")


def comment(text: str) -> Sh:
    """A value within a comment of one line."""
    return Sh(ascii_of(printable(text)))


def here_document(body: Sql, then: Sh | None = None) -> Sh:
    """Statements as a here-document that nothing in them ends; `then` is the rest of the line that it begins in."""
    end, taken = "SQL", set(body.split("\n"))
    while end in taken:
        end += "_"
    if "\0" in body or not body.replace("\n", "").isprintable():
        raise InputError("a name holds a control character, which no script can hold")
    return Sh(f"<<'{end}'{then or ''}\n{body}\n{end}")


def ascii_of(text: str) -> str:
    return text.encode("ascii", "backslashreplace").decode()
