"""The directives of the Apache HTTP Server 2.4 as they are written: in control files, and in virtual hosts.

Nothing is judged here but the syntax: words and quotes, continued lines, comments and sections.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec import Struct

DEEPEST = 40
"""How many sections lie in one another at most; what is deeper is a fault."""
NOT_CLOSED = "NotClosed"
"""What stands at the end of a section that asks for something and is not closed: a fault where it does not hold."""
ODDLY_CLOSED = "OddlyClosed"
"""What stands at the end of such a section behind whose end more is written: a fault where it holds."""
NO_SECTION = "NoSection"
"""What stands for a line within such a section that begins as a section and is none: a fault where it holds."""
ASKING = ("ifmodule", "ifversion", "ifdefine", "iffile", "ifdirective", "ifsection")
_PLAIN_FIRST = re.compile(r"""[ \t\r\v\f]*(?:([^ \t\r\v\f"'\\]+)(?:[ \t\r\v\f]+|\Z)|"([^"\\]*)"[ \t\r\v\f]*)""")
_WORDS = re.compile(r"[^ \t\r\v\f]+")


class Directive(Struct, frozen=True, array_like=True):
    """One directive: its name in lower case, what follows as it is written, and its line, from 1.

    `file` is named where that is no control file.
    """

    name: str
    text: str
    line: int
    file: str = ""

    @property
    def words(self) -> list[str]:
        """What follows, split at white space, with quotes taken off."""
        return split_words(self.text)

    @property
    def arguments(self) -> list[str]:
        """The words up to an empty one, where a server that takes one after the other stops."""
        return until_empty(self.words)


class Section(Struct, frozen=True, array_like=True):
    """A section such as `<Files x>`, with what stands in it."""

    name: str
    text: str
    line: int
    inner: tuple[Directive | Section, ...]
    file: str = ""

    @property
    def words(self) -> list[str]:
        return split_words(self.text)


Node = Directive | Section


class SyntaxFault(Struct, frozen=True):
    """What makes a whole file unreadable, so that a server answers every request there with an error."""

    line: int
    text: str


def read_directives(text: str) -> tuple[tuple[Node, ...], SyntaxFault | None]:
    """The directives of a file, and the first fault of its syntax.

    Lines end in LF or CR LF, a backslash at a line's end continues it, and a line that begins with
    `#` is a comment.
    """
    stack: list[tuple[str, str, int, list[Node]]] = [("", "", 0, [])]
    for line, written in logical_lines(text):
        word, rest = split_first(written)
        if word.startswith("</"):
            is_whole = stack[-1][0] not in ASKING or written.endswith(">")
            if len(stack) < 2 or word.lower() != f"</{stack[-1][0]}>":
                return tuple(stack[0][3]), SyntaxFault(line, f"{written} closes no section")
            opened, words, begun, inner = stack.pop()
            if not is_whole:
                inner.append(Directive(ODDLY_CLOSED.lower(), "", line))
            stack[-1][3].append(Section(opened, words, begun, tuple(inner)))
        elif word.startswith("<"):
            opened = word[1:].removesuffix(">").lower()
            rest = f">{rest}" if word.endswith(">") or not rest else rest  # a server closes one that stands alone
            end = rest.rfind(">")  # what follows is nobody's, unless nothing stands before
            is_section = end >= 0 and (rest[0] != ">" or rest[-1] == ">") and opened and ">" not in opened
            if len(stack) > DEEPEST or not (is_section or any(name in ASKING for name, *_ in stack)):
                return tuple(stack[0][3]), SyntaxFault(line, f"{written} is no section")
            if not is_section:  # a server that does not take the section around it looks for its end alone
                stack[-1][3].append(Directive(NO_SECTION.lower(), written, line))
            stack.append((opened, rest[:end].strip(" \t\r\v\f") if is_section else "", line, []))
        else:
            stack[-1][3].append(Directive(word.lower(), rest, line))
    return _closed(stack)


def _closed(stack: list[tuple[str, str, int, list[Node]]]) -> tuple[tuple[Node, ...], SyntaxFault | None]:
    """The directives of a file that ends while sections of it may be open."""
    while len(stack) > 1:
        opened, words, begun, inner = stack.pop()
        if opened not in ASKING and any(name in ASKING for name, *_ in stack):
            stack[-1][3].append(Section(opened, words, begun, tuple(inner)))
            continue
        if opened not in ASKING:
            return tuple(stack[0][3]), SyntaxFault(begun, f"<{opened}> is not closed")
        # where it holds, a server does not miss its end
        inner.append(Directive(NOT_CLOSED.lower(), "", begun))
        stack[-1][3].append(Section(opened, words, begun, tuple(inner)))
    return tuple(stack[0][3]), None


def logical_lines(text: str) -> Iterator[tuple[int, str]]:
    """The lines that say something, each with the number of its first."""
    begun, held = 0, ""
    for number, raw in enumerate(text.split("\n"), 1):
        line = raw.removesuffix("\r")
        if not held:
            begun = number
        if line.endswith("\\"):
            held += line[:-1]
            continue
        whole = (held + line).strip(" \t\r\v\f")
        held = ""
        if whole and not whole.startswith("#"):
            yield begun, whole
    if held.strip() and not held.strip().startswith("#"):
        yield begun, held.strip()


def split_first(text: str) -> tuple[str, str]:
    """The first word of a text, as a server takes it, and what follows."""
    usual = _PLAIN_FIRST.match(text)
    if usual is not None:
        return usual[1] or usual[2] or "", text[usual.end() :]
    text = text.lstrip(" \t\r\v\f")
    if not text:
        return "", ""
    quote = text[0] if text[0] in "\"'" else ""
    at = 1 if quote else 0
    while at < len(text):
        if quote and text[at] == "\\" and text[at + 1 : at + 2] in ("\\", quote):
            at += 2
            continue
        if (text[at] == quote) if quote else text[at] in " \t\r\v\f":
            break
        at += 1
    word = text[1:at] if quote else text[:at]
    word = re.sub(r"\\(\\|" + (re.escape(quote) if quote else r"\\") + ")", r"\1", word)
    return word, text[at + (1 if quote else 0) :].lstrip(" \t\r\v\f")


def until_empty(words: list[str]) -> list[str]:
    """The words up to an empty one."""
    return words[: words.index("")] if "" in words else words


def split_words(text: str) -> list[str]:
    """All words of a text."""
    if '"' not in text and "'" not in text and "\\" not in text:
        return _WORDS.findall(text)
    words = []
    while text:
        word, text = split_first(text)
        words.append(word)
    return words
