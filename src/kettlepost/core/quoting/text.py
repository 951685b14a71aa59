"""Plain text for people, on a terminal or in a file."""

from __future__ import annotations


def plain(text: str) -> str:
    """One line of text without control, direction or other characters that do not show as themselves."""
    if text.isprintable():
        return text
    return "".join(character if character.isprintable() else _escaped(character) for character in text)


def lines(text: str) -> str:
    """The same of text in several lines, which stay lines."""
    return text if text.isprintable() else "\n".join(map(plain, text.split("\n")))


def _escaped(character: str) -> str:
    raw = character.encode("utf-8", "surrogateescape" if "\udc80" <= character <= "\udcff" else "surrogatepass")
    return "".join(f"\\x{byte:02x}" for byte in raw)
