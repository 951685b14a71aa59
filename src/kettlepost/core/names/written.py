r"""How names of any bytes are written as text that is safe to show and to store.

Inside the program a name from a disk is text in which bytes that are not UTF-8 stand as
lone surrogates (PEP 383). Written down, every character that a terminal would not print as
itself becomes `\xNN` (one for each byte of its UTF-8 form) and a backslash becomes `\\`, so
that nothing is lost and nothing reaches a terminal as a control sequence.
"""

from __future__ import annotations

import re

_ESCAPE = re.compile(r"\\(\\|x[0-9a-fA-F]{2})|\\")


class InvalidName(ValueError):
    """A host name, folder or address that is none; the message says why and what would be one."""


def printable(name: object) -> str:
    r"""Write `name`, a text or a path, so that it can be shown and stored: `a\x1bb` for an escape character."""
    text = str(name)
    if text.isprintable() and "\\" not in text:
        return text
    return "".join(_written(character) for character in text)


def unprintable(written: str) -> str:
    """Turn what `printable` wrote back into the name itself.

    Raises InvalidName for a backslash that begins no such escape.
    """
    if "\\" not in written:
        return written
    if any(match.group(1) is None for match in _ESCAPE.finditer(written)):
        raise InvalidName(
            f"{quoted(written)} holds a backslash; folders are separated by '/', "
            r"and a byte that cannot be typed is written \xNN"
        )
    raw = re.sub(
        rb"\\(\\|x[0-9a-fA-F]{2})",
        lambda match: b"\\" if match[1] == b"\\" else bytes.fromhex(match[1][1:].decode()),
        written.encode("utf-8", "surrogateescape"),
    )
    return raw.decode("utf-8", "surrogateescape")


def quoted(name: str) -> str:
    """`name` in double quotes, safe to show, shortened when absurdly long."""
    safe = printable(name)
    return f'"{safe}"' if len(safe) <= 300 else f'"{safe[:297]}..."'


def _written(character: str) -> str:
    if character == "\\":
        return "\\\\"
    if character.isprintable():
        return character
    raw = character.encode("utf-8", "surrogateescape" if "\udc80" <= character <= "\udcff" else "surrogatepass")
    return "".join(f"\\x{byte:02x}" for byte in raw)
