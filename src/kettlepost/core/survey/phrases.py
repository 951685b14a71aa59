"""Phrases of many languages, looked for in a sentence word by word."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from itertools import pairwise
from typing import NamedTuple

from msgspec import Struct, field

from kettlepost.core.survey.pages import folded

GAP = "..."
_WORD = re.compile(r"\w+")
_HOST = re.compile(r"(?:^|[\s\"'(/@])(?:[\w-]{1,60}\.)+[a-z]{2,20}(?![\w])")
_MOST_BETWEEN = 6
MOST_WORDS = 60
"""In a longer sentence nothing is looked for."""
KINDS = ("coming", "building", "maintenance", "parked", "suspended", "default")


class Language(Struct, forbid_unknown_fields=True):
    """How pages that hold a place speak in one language; see the catalogue's file."""

    code: str
    site: list[str]
    coming: list[str]
    building: list[str]
    maintenance: list[str]
    parked: list[str]
    suspended: list[str]
    default: list[str]
    later: list[str] = field(default_factory=list)
    spaces: bool = True


class Phrase(NamedTuple):
    """A phrase of a kind; `of_site` where it speaks of a site itself, `is_weak` where people say it otherwise, too."""

    kind: str
    language: str
    words: tuple[str, ...]
    of_site: bool
    is_weak: bool = False


class Hit(NamedTuple):
    """A phrase found: where it begins and ends, in words (or letters), and what it reads."""

    phrase: Phrase
    begin: int
    end: int
    text: str


class Sentence:
    """What a page says between two full stops."""

    def __init__(self, text: str):
        self._written = text
        self.text = folded(text)
        self.words = _WORD.findall(self.text)
        self.dense = self.text.replace(" ", "")

    @property
    def size(self) -> int:
        """Its length in words, where words are not set apart by letters."""
        return sum(1 if word.isascii() or not _is_dense(word) else (len(word) + 1) // 2 for word in self.words)

    def quoted(self, begin: int, end: int) -> str:
        """Some of its words as they are written, where that can be told."""
        written = _WORD.findall(self._written)
        return " ".join((written if len(written) == len(self.words) else self.words)[begin:end])

    @property
    def whole(self) -> str:
        """It as it is written, or its beginning."""
        return self._written.strip()[:40]

    @property
    def names_host(self) -> bool:
        return _HOST.search(self.text) is not None


def _is_dense(word: str) -> bool:
    return any("\u3040" <= sign <= "\u30ff" or "\u3400" <= sign <= "\u9fff" for sign in word)


class MarkedSentence(NamedTuple):
    """A sentence of a page with the phrases found in it; `is_later` where it has words that often stand with them."""

    sentence: Sentence
    kind: str
    hits: list[Hit]
    is_later: bool


class Phrasebook:
    """All phrases of all languages."""

    def __init__(self, languages: Sequence[Language]):
        self._exact: dict[str, list[Phrase]] = defaultdict(list)
        self._stems: dict[str, list[Phrase]] = defaultdict(list)
        self._dense: list[tuple[str, Phrase]] = []
        self._sites: dict[str, set[str]] = {}
        self._site_stems: dict[str, tuple[str, ...]] = {}
        self._dense_sites: dict[str, tuple[str, ...]] = {}
        for language in languages:
            nouns = [" ".join(_tokens(noun)) for noun in language.site]
            self._sites[language.code] = {noun for noun in nouns if noun[-1:] != "*"}
            self._site_stems[language.code] = tuple(noun[:-1] for noun in nouns if noun[-1:] == "*")
            for kind in (*KINDS, "later"):
                for written in getattr(language, kind):
                    self._add(language, kind, written)
            if not language.spaces:
                self._dense_sites[language.code] = tuple(_packed(noun) for noun in language.site)
        common = self._sites.get("en", set()) - {"page", "sites", "launch"}
        for nouns_of in self._sites.values():
            nouns_of |= common
        self._lengths = sorted({len(stem) for stem in self._stems})

    def _add(self, language: Language, kind: str, written: str) -> None:
        of_site, is_weak = written.startswith(("!", "?")), written.startswith("?")
        bare = written.lstrip("!?")
        if not language.spaces:
            packed = _packed(bare)
            self._dense.append((packed, Phrase(kind, language.code, (packed,), of_site, is_weak)))
            return
        words = tuple(_tokens(bare))
        phrase = Phrase(kind, language.code, words, of_site, is_weak)
        if words[0].endswith("*"):
            self._stems[words[0][:-1]].append(phrase)
        else:
            self._exact[words[0]].append(phrase)

    def hits(self, sentence: Sentence) -> Iterator[Hit]:
        """Every phrase that stands in a sentence."""
        words = sentence.words
        if len(words) > MOST_WORDS or len(sentence.dense) > 10 * MOST_WORDS:
            return
        for at, word in enumerate(words):
            for phrase in self._starting(word):
                end = _reach(phrase.words, 1, words, at + 1)
                if end is not None:
                    yield Hit(phrase, at, end, sentence.quoted(at, end))
        if not sentence.text.isascii():
            for packed, phrase in self._dense:
                begin = sentence.dense.find(packed)
                if begin >= 0:
                    yield Hit(phrase, begin, begin + len(packed), sentence.whole)

    def _starting(self, word: str) -> Iterator[Phrase]:
        yield from self._exact.get(word, ())
        for length in self._lengths:
            if length > len(word):
                break
            yield from self._stems.get(word[:length], ())

    def speaks_of_site(self, sentence: Sentence, language: str) -> bool:
        """Whether a sentence has a word for a site."""
        if sentence.names_host:
            return True
        if language in self._dense_sites:
            return any(noun in sentence.dense for noun in self._dense_sites[language])
        return any(self._is_site(word, language) for word in self._with_pairs(sentence.words))

    def _is_site(self, word: str, language: str) -> bool:
        stems = self._site_stems.get(language, ())
        return word in self._sites.get(language, ()) or bool(stems and word.startswith(stems))

    @staticmethod
    def _with_pairs(words: Sequence[str]) -> Iterator[str]:
        yield from words
        yield from (f"{one} {other}" for one, other in pairwise(words))

    def rest(self, sentence: Sentence, hit: Hit) -> int:
        """How many words of a sentence are neither of a phrase nor for a site."""
        language = hit.phrase.language
        if language in self._dense_sites:
            left = sentence.dense[: hit.begin] + " " + sentence.dense[hit.end :]
            for noun in sorted(self._dense_sites[language], key=len, reverse=True):
                left = left.replace(noun, "")
            letters = len("".join(_WORD.findall(left)))
            return letters // 2 if language == "zh" else letters // 3  # elsewhere endings take up some
        words = [*sentence.words[: hit.begin], *sentence.words[hit.end :]]
        return sum(not self._is_site(word, language) for word in words)


def _tokens(written: str) -> Iterable[str]:
    """The words of a phrase: `...` stays, and so does `*` at the end of a word."""
    found = []
    for part in written.split():
        if part == GAP:
            found.append(GAP)
            continue
        words = _WORD.findall(folded(part.rstrip("*")))
        found += [*words[:-1], words[-1] + "*"] if part.endswith("*") and words else words
    return found


def _packed(written: str) -> str:
    return folded(written).replace(" ", "")


def _reach(phrase: Sequence[str], number: int, words: Sequence[str], at: int) -> int | None:
    """The end of a phrase in some words, from its `number`-th word on."""
    if number == len(phrase):
        return at
    wanted = phrase[number]
    if wanted == GAP:
        for skipped in range(_MOST_BETWEEN + 1):
            if at + skipped < len(words) and (end := _reach(phrase, number + 1, words, at + skipped)) is not None:
                return end
        return None
    if at >= len(words):
        return None
    fits = words[at].startswith(wanted[:-1]) if wanted[-1:] == "*" else words[at] == wanted
    return _reach(phrase, number + 1, words, at + 1) if fits else None
