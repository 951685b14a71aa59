"""The gate that every text passes on its way out, whoever's it is.

No control or direction character gets through to a terminal or a file, nothing that a spreadsheet
takes for a formula, and nothing that breaks the markup around it. What cannot be shown stands as
`\\xNN`, one for each byte of its UTF-8 form, as `core.names.printable` writes it; what was written
so before stays as it is.
"""

from __future__ import annotations

import html as markup
import re

from kettlepost.core.secrets import masked

_FORMULA = re.compile(r"[\s\u200b]*[=+\-@\uff1d\uff0b\uff0d\uff20]")
_SIGNS = re.compile(r"([\\`*_\[\]<>|#~!&$])")
_BEGIN = re.compile(r"^(\s*)([-+=]|\d+(?=[.)]))")


def plain(text: str) -> str:
    """One line of text without control, direction or other characters that do not show as themselves."""
    if text.isprintable():
        return text
    return "".join(character if character.isprintable() else _escaped(character) for character in text)


def lines(text: str) -> str:
    """The same of text in several lines, which stay lines."""
    return text if text.isprintable() else "\n".join(map(plain, text.split("\n")))


def message(text: str) -> str:
    """What is said on standard error: lines in which nothing that looks like a secret is left either."""
    return lines(masked(text))


def cell(text: str) -> str:
    """A cell of a table for a spreadsheet (RFC 4180); what would be a formula there is marked as text."""
    shown = plain(text)
    return f"'{shown}" if _FORMULA.match(shown) else shown


def markdown(text: str) -> str:
    """Text in which nothing is taken for Markdown or HTML (CommonMark 0.31)."""
    shown = _SIGNS.sub(lambda sign: "&amp;" if sign[1] == "&" else f"\\{sign[1]}", plain(text))
    return _BEGIN.sub(lambda begin: f"{begin[1]}\\{begin[2]}" if not begin[2].isdigit() else begin[0] + "\\", shown)


def code(text: str) -> str:
    """A code span in Markdown, within backticks of which the text holds no run as long."""
    shown = plain(text)
    longest = max((len(run) for run in re.findall(r"`+", shown)), default=0)
    if not longest and shown.strip() and shown == shown.strip():
        return f"`{shown}`"
    fence = "`" * (longest + 1)
    return f"{fence} {shown or ' '} {fence}"


def html(text: str) -> str:
    """Text for HTML or XML, in elements and in quoted attributes."""
    return markup.escape(plain(text), quote=True)


def data(value: object) -> object:
    """A value made of lists, dictionaries and plain values, each text of it as `plain` has it."""
    if isinstance(value, str):
        return plain(value)
    if isinstance(value, dict):
        return {plain(str(key)): data(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return list(map(data, value))
    return value


def _escaped(character: str) -> str:
    raw = character.encode("utf-8", "surrogateescape" if "\udc80" <= character <= "\udcff" else "surrogatepass")
    return "".join(f"\\x{byte:02x}" for byte in raw)
