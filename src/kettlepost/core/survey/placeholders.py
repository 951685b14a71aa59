"""Recognising pages that only hold the place: welcome pages, 'coming soon', empty index files."""

from __future__ import annotations

import html
import re
import unicodedata
from importlib.resources import files

import msgspec
import rtoml
from msgspec import Struct, field

from kettlepost.core.names import Folder
from kettlepost.core.survey.records import FoundPlaceholder

_UNSEEN = re.compile(r"<(script|style|head)\b.*?</\1\s*>|<!--.*?-->|<\?.*?(?:\?>|\Z)", re.DOTALL | re.IGNORECASE)
_TITLE = re.compile(r"<title[^>]*>(.*?)</title", re.DOTALL | re.IGNORECASE)
_TAG = re.compile(r"<[^>]*>")
_SPACE = re.compile(r"\s+")


class PlaceholderMark(Struct, forbid_unknown_fields=True):
    """How one kind of placeholder page is known.

    The page's title and visible words, in lower case, hold all of `says` and one of
    `says_one_of`; it has at most `words` visible words and `bytes` bytes.
    """

    id: str
    title: str
    says: list[str] = field(default_factory=list)
    says_one_of: list[str] = field(default_factory=list)
    words: int = 100_000
    bytes: int = 65_536


class _Marks(Struct, forbid_unknown_fields=True):
    placeholder: list[PlaceholderMark]


class PlaceholderFinder:
    """Judges the heads of index files as they pass."""

    def __init__(self, marks: list[PlaceholderMark], names: frozenset[str] | set[str]):
        self._marks = marks
        self._names = names
        self._found: list[FoundPlaceholder] = []

    @classmethod
    def built_in(cls, names: frozenset[str] | set[str]) -> PlaceholderFinder:
        text = files("kettlepost").joinpath("catalogue/placeholders.toml").read_text("utf-8")
        return cls(msgspec.convert(rtoml.loads(text), _Marks).placeholder, names)

    def see(self, folder: str, name: str, head: bytes) -> None:
        if name in self._names:
            judged = self.judge(head)
            if judged:
                self._found.append(FoundPlaceholder(Folder(folder), name, *judged))

    def judge(self, head: bytes) -> tuple[str, str] | None:
        """The kind of placeholder a page is and the reason, or None for a page of its own."""
        if not head.strip():
            return "empty", "the file is empty"
        text = head.decode("utf-8", "replace")
        title = folded(_TAG.sub(" ", " ".join(_TITLE.findall(text))))
        words = folded(_TAG.sub(" ", _UNSEEN.sub(" ", text)))
        if not words and "<?" in text:
            return None  # a program, not a page
        said, count = f" {title} {words} ", len(words.split())
        for mark in self._marks:
            spoken = next((phrase for phrase in mark.says_one_of if phrase in said), None)
            if (
                len(head) <= mark.bytes
                and count <= mark.words
                and all(phrase in said for phrase in mark.says)
                and (spoken or not mark.says_one_of)
            ):
                shown = spoken or mark.says[0]
                return mark.id, f'{mark.title}: says "{shown}" in {count} words'
        return None

    def found(self) -> list[FoundPlaceholder]:
        return sorted(self._found, key=lambda found: (found.folder.tree_key, found.file))


def folded(text: str) -> str:
    """Lower case, one space between words, entities undone, so that phrases can be looked for."""
    plain = unicodedata.normalize("NFKC", html.unescape(text))
    return _SPACE.sub(" ", plain).strip().casefold()
