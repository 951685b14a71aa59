"""Recognising pages that only hold the place: welcome pages, 'coming soon', empty index files."""

from __future__ import annotations

import html
import re
import unicodedata
from collections.abc import Sequence
from functools import cached_property

from msgspec import Struct, field

_UNSEEN = re.compile(
    r"<(script|style|head|svg|template)\b.*?(?:</\1\s*>|\Z)|<!--.*?(?:-->|\Z)|<\?.*?(?:\?>|\Z)",
    re.DOTALL | re.IGNORECASE,
)
_TITLE = re.compile(r"<title[^>]*>(.*?)</title", re.DOTALL | re.IGNORECASE)
_TAG = re.compile(r"<[^>]*>")
_SPACE = re.compile(r"\s+")
_WORD = re.compile(r"\w+")
_ONWARD = re.compile(
    r"""http-equiv\s*=\s*["']?refresh["']?[^>]*?url\s*=\s*["']?([^"'>\s]+)"""
    r"""|location(?:\.href)?\s*=\s*["']([^"']+)["']|location\.replace\(\s*["']([^"']+)"""
    r"""|header\s*\(\s*["']location:\s*([^"'\s]+)""",
    re.IGNORECASE,
)
_LINKS = re.compile(r"<a\b[^>]*\bhref\s*=", re.IGNORECASE)
_SUBSTANCE = re.compile(r"<(?:form|iframe|video|audio|table|article|nav)\b|<img\b", re.IGNORECASE)


class PlaceholderMark(Struct, forbid_unknown_fields=True):
    """How one kind of placeholder page is known.

    The page's title and visible words, in lower case, hold all of `says` and one of
    `says_one_of`. It has at most `words` visible words besides the phrase, and at most `links`
    links and pieces of substance (forms, pictures, tables, navigation).
    """

    id: str
    title: str
    says: list[str] = field(default_factory=list)
    says_one_of: list[str] = field(default_factory=list)
    words: int = 100_000
    links: int = 100_000


class PlaceholderFile(Struct, forbid_unknown_fields=True):
    """The catalogue's file of placeholder pages."""

    placeholder: list[PlaceholderMark]


class PlaceholderFinder:
    """Judges the heads of index files."""

    def __init__(self, marks: Sequence[PlaceholderMark]):
        self._known = marks

    @cached_property
    def _marks(self) -> list[tuple[PlaceholderMark, list[re.Pattern[str]], re.Pattern[str]]]:
        return [(mark, [_phrases([said]) for said in mark.says], _phrases(mark.says_one_of)) for mark in self._known]

    def judge(self, head: bytes) -> tuple[str, str] | None:
        """The kind of placeholder a page is and the reason, or None for a page of its own."""
        if not head.strip(b"\xef\xbb\xbf \t\r\n\0"):
            return "empty", "the file is empty"
        text = decoded(head)
        title = folded(_TAG.sub(" ", " ".join(_TITLE.findall(text))))
        words = folded(_TAG.sub(" ", _UNSEEN.sub(" ", text)))
        count = len(_WORD.findall(words))
        onward = _ONWARD.search(text)
        if onward and count <= 12 and len(text) <= 1500:
            target = next(group for group in onward.groups() if group)
            return "redirect", f"only sends visitors on to {target[:80]}"
        if not words and (not title or "<?" in text):
            return None  # a program, or a page that shows itself by script
        said = f" {title} | {words} "
        weight = len(_LINKS.findall(text)) + 2 * len(_SUBSTANCE.findall(text))
        for mark, every, some in self._marks:
            if count > mark.words or weight > mark.links:
                continue
            found = [phrase.search(said) for phrase in every]
            match = some.search(said) if mark.says_one_of else None
            if not all(found) or (mark.says_one_of and match is None):
                continue
            shown = match or found[0]
            quote = shown[0] if shown else mark.id
            return mark.id, f'{mark.title}: says "{quote}" in {count} words'
        return None


def decoded(head: bytes) -> str:
    """A page's text: UTF-8 where it is that, else Latin-1, in which every byte is something."""
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return head.decode("utf-16", "replace")
    try:
        return head.decode("utf-8")
    except UnicodeDecodeError:
        return head.decode("latin-1")


def folded(text: str) -> str:
    """Lower case, one space between words, entities and accents undone, so that phrases can be looked for."""
    plain = unicodedata.normalize("NFKD", html.unescape(text)).casefold()
    plain = "".join(character for character in plain if not unicodedata.combining(character))
    return _SPACE.sub(" ", plain.replace("’", "'")).strip()


def _phrases(said: list[str]) -> re.Pattern[str]:
    """Any of some phrases between word borders; `...` in one stands for up to four words."""
    return re.compile(r"(?<!\w)(?:" + "|".join(map(_phrase, said)) + r")(?!\w)")


def _phrase(said: str) -> str:
    parts = [re.escape(folded(part)).replace(r"\ ", r"\W+") for part in said.split("...")]
    return r"(?:\W+\w+){0,4}\W+".join(parts)
