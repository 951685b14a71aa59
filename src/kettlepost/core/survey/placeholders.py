"""Recognising pages that only hold the place: welcome pages, 'coming soon', empty index files.

No single word decides. Phrases that speak of a site, or are all that is said, count for it; what a page of
one's own has (telephone numbers, prices, opening hours, menus, much text) counts against it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property
from typing import NamedTuple

from msgspec import Struct, field

from kettlepost.core.survey.page_signs import against
from kettlepost.core.survey.pages import Page, decoded, folded, page_of
from kettlepost.core.survey.phrases import Hit, Language, MarkedSentence, Phrasebook, Sentence

MOST_WORDS = 220
_ROUGHLY = 60
"""So many words fewer may be counted once entities are undone and letters are plain."""
"""A page of more words is one of its own, unless it is a server's welcome page."""
_SURE, _PERHAPS = 3, 2
_FEW = 20
_OF_SITE = re.compile(
    r"\b(?:web ?site|homepage|web(?:seite|auftritt|prasenz|plats|oldal|sted|shop)|internet(?:auftritt|seite|prasenz)|"
    r"hemsida|hjemmeside|nettside|nettsted|sivusto|kotisivu|honlap|witryn|koduleh|majaslap|svetain|spletn|саит|"
    r"ιστοσελιδα|ιστοτοπ)"
)
"""Words that stand for nothing else but a site, as they are folded."""
_TITLES = {
    "coming": "a page that says the site is still to come",
    "building": "a page that says the site is being built",
    "maintenance": "a page shown during maintenance",
    "parked": "a page for a parked domain",
    "suspended": "a page for a suspended account",
    "default": "a page that a host puts into a new folder",
}
IDS = {"coming": "coming-soon", "building": "under-construction", "default": "default-page"}
_WORD = re.compile(r"\w+")
_ENDS = re.compile(r"(?<=[.!?…])\s+|[。！？，、|\n•·]+|\s[–—-]\s|(?<=[\u3040-\u9fff]),")
_FORWARD = re.compile(
    r"""(?:window|document|top|self|parent)?\.?location(?:\.href)?\s{0,9}=\s{0,9}["']([^"'\n]{1,500})["']"""
    r"""|location\.(?:replace|assign)\s{0,9}\(\s{0,9}["']([^"'\n]{1,500})["']""",
    re.IGNORECASE,
)
_HEADER = re.compile(r"""header\s{0,9}\(\s{0,9}["']location:\s{0,9}([^"'\s]{1,500})["']""", re.IGNORECASE)
_UNSAID = re.compile(r"<(script|style|title|template|svg|noscript|object|math)\b|<!--|<\?")
_TAG = re.compile(r"<[^<>]{0,4000}>")
_LOOKED_AT = 100_000
_PLAIN_CODE = re.compile(r"<\?(?:php|=)?|\?>|/\*.*?\*/|(?://|#)[^\n]*|\s+|;", re.DOTALL | re.IGNORECASE)
_DATED = re.compile(r"\s*(?:echo|print)?\s*\(?\s*date\s*\([^()]{0,40}\)\s*\)?\s*;?\s*", re.IGNORECASE)
_CLOSED = frozenset(
    ("directory access is forbidden", "access denied", "forbidden", "403 forbidden", "no direct access",
     "no direct script access", "direct access not allowed", "nothing here", "silence is golden", "access forbidden",
     "restricted access", "direct access is not allowed", "not allowed", "no access", "go away", "nothing to see here")
)  # fmt: skip


class WelcomePage(Struct, forbid_unknown_fields=True):
    """How the page of a server is known: all of `says` stand in it, and it has at most so many words."""

    id: str
    title: str
    says: list[str]
    words: int = 600


class PlaceholderFile(Struct, forbid_unknown_fields=True):
    """The catalogue's file of placeholder pages."""

    welcome: list[WelcomePage]
    language: list[Language] = field(default_factory=list)


class JudgedPage(NamedTuple):
    """What kind a page is and why, whether that is sure, and where it sends visitors, if it does nothing else."""

    kind: str
    because: str
    is_sure: bool = True
    target: str = ""


class PlaceholderFinder:
    """Judges the heads of index files."""

    def __init__(self, known: PlaceholderFile):
        self._known = known

    @cached_property
    def _book(self) -> Phrasebook:
        return Phrasebook(self._known.language)

    @cached_property
    def _welcome(self) -> list[tuple[WelcomePage, list[str]]]:
        return [(one, [folded(said) for said in one.says]) for one in self._known.welcome]

    def judge(self, head: bytes) -> JudgedPage | None:
        """What kind of placeholder a page is, or perhaps is; None for a page of its own."""
        if not head.strip(b"\xef\xbb\xbf \t\r\n\0"):
            return JudgedPage("empty", "the file is empty")
        whole = decoded(head)
        if self._is_surely_long(whole):
            return None
        page = page_of(whole)
        if page.is_long:
            return None
        text = " | ".join(segment.text for segment in page.segments)
        number = len(_WORD.findall(text))
        if number > self._longest or self._says_too_much(page, text, number):
            return None
        sentences = [
            (segment.kind, sentence)
            for segment in page.segments
            for part in _ENDS.split(segment.text)
            if (sentence := Sentence(part)).words
        ]
        visible = [sentence for kind, sentence in sentences if kind != "title"]
        words = sum(sentence.size for sentence in visible)
        runs = any(not _is_plain(code) for code in page.code)
        return (
            _onward(page, words)
            or _stub(page, visible, runs)
            or self._welcomes(folded(text), words)
            or (self._holds(page, sentences, words, runs) if words <= MOST_WORDS else None)
        )

    def _is_surely_long(self, whole: str) -> bool:
        """The same as `_says_too_much`, told without taking a page apart where that is plain to see."""
        said = _roughly_said(whole[:_LOOKED_AT])
        if said is None or len(_WORD.findall(said)) <= MOST_WORDS + 2 * _ROUGHLY:
            return False
        plain = folded(said)
        return not any(all(one in plain for one in says) for _, says in self._welcome)

    def _says_too_much(self, page: Page, text: str, number: int) -> bool:
        """Whether a page says more than one that holds the place, and is no server's welcome page: most are that."""
        title = sum(len(_WORD.findall(segment.text)) for segment in page.segments if segment.kind == "title")
        if number - title <= MOST_WORDS + _ROUGHLY:
            return False
        plain = text.lower() if text.isascii() and "&" not in text else folded(text)  # its spaces are single already
        return not any(all(said in plain for said in says) for _, says in self._welcome)

    @cached_property
    def _longest(self) -> int:
        return max((one.words for one in self._known.welcome), default=MOST_WORDS)

    def _welcomes(self, text: str, words: int) -> JudgedPage | None:
        for one, says in self._welcome:
            if words <= one.words and all(said in text for said in says):
                return JudgedPage(one.id, f'{one.title}: says "{says[0]}" in {words} words')
        return None

    def _holds(self, page: Page, sentences: list[tuple[str, Sentence]], words: int, runs: bool) -> JudgedPage | None:
        if not words and (page.scripts or page.code or page.pictures or page.frames) and not sentences:
            return None
        said = [MarkedSentence(one, kind, hits, is_later) for kind, one, hits, is_later in self._looked(sentences)]
        telling = [one for one in said if one.hits]
        if not telling:
            return self._says_little(page, said, words)
        best = max(telling, key=lambda one: (self._weight(one, words), any(hit.phrase.of_site for hit in one.hits)))
        score = self._weight(best, words) + against(page, said)
        score += any(one is not best and self._weight(one, words) >= 2 for one in telling)
        score += any(one.is_later and one is not best for one in said)
        score += words <= 12 and self._weight(best, words) >= 2
        if score < _PERHAPS:
            return None
        hit = max(best.hits, key=lambda hit: (hit.phrase.of_site, hit.end - hit.begin))
        kind = hit.phrase.kind
        is_sure = score >= _SURE and not runs
        return JudgedPage(IDS.get(kind, kind), f'{_TITLES[kind]}: says "{hit.text}" in {words} words', is_sure)

    def _says_little(self, page: Page, said: list[MarkedSentence], words: int) -> JudgedPage | None:
        """A page of a few words that speaks of a site, and has nothing that a page of one's own has: perhaps one."""
        if words > _FEW or page.pictures or page.frames or page.fields or against(page, said):
            return None
        of_site = next((one for one in said if one.kind != "title" and _OF_SITE.search(one.sentence.text)), None)
        if of_site is None:
            return None
        return JudgedPage(
            "bare", f'a page that says little: "{of_site.sentence.whole}" in {words} words', is_sure=False
        )

    def _looked(self, sentences: list[tuple[str, Sentence]]) -> Iterator[tuple[str, Sentence, list[Hit], bool]]:
        for kind, sentence in sentences:
            found = list(self._book.hits(sentence))
            yield (
                kind,
                sentence,
                [hit for hit in found if hit.phrase.kind != "later"],
                any(hit.phrase.kind == "later" for hit in found),
            )

    def _weight(self, said: MarkedSentence, words: int) -> int:
        """How much a sentence speaks for a page that only holds the place."""
        stands_out = said.kind in ("title", "heading") or words <= 30
        best = 0
        for hit in said.hits:
            rest = self._book.rest(said.sentence, hit)
            if hit.phrase.is_weak:
                weight = 2 if rest <= 10 else 1
            elif hit.phrase.of_site:
                weight = 3 if rest <= 16 else 2
            elif rest == 0:
                weight = 3 if stands_out else 2
            elif self._book.speaks_of_site(said.sentence, hit.phrase.language):
                weight = (3 if stands_out else 2) if rest <= 8 else 2 if rest <= 14 else 1
            elif rest <= 2:
                weight = 1
            else:
                weight = 0
            best = max(best, weight)
        return best


def _roughly_said(text: str) -> str | None:
    """What a page says at least, without its title; None where that is not plain to see."""
    lower, at, pieces = text.lower(), 0, list[str]()
    if len(lower) != len(text):
        return None
    while (match := _UNSAID.search(lower, at)) is not None:
        pieces.append(text[at : match.start()])
        close = "-->" if match[0] == "<!--" else "?>" if match[0] == "<?" else f"</{match[1]}"
        at = lower.find(close, match.end())
        if at < 0:
            return None
    said = _TAG.sub(" ", "".join([*pieces, text[at:]]))
    return said if "<" not in said else None


def _onward(page: Page, words: int) -> JudgedPage | None:
    """A page that only sends visitors on, and where."""
    if words > 25:
        return None
    target = page.refresh
    if not target and words <= 12 and "src" not in page.scripts and sum(map(len, page.scripts)) < 1500:
        found = (match for code in page.scripts for match in _FORWARD.finditer(code))
        target = next((match[1] or match[2] for match in found), "")
    if not target and page.code and not page.is_html and sum(map(len, page.code)) < 600:
        header = _HEADER.search(page.code[0])
        target = header[1] if header is not None else ""
    return JudgedPage("redirect", f"only sends visitors on to {target[:80]}", target=target) if target else None


def _stub(page: Page, visible: list[Sentence], runs: bool) -> JudgedPage | None:
    """A page that shows nothing, or that nobody is let in."""
    if page.scripts or page.pictures or page.frames or page.fields or runs or page.links:
        return None
    text = " ".join(sentence.text for sentence in visible).strip(" .!")
    if not text and page.code and not page.is_html:
        return JudgedPage("stub", "a stub that shows nothing")
    if not text and page.is_html and not any(segment.kind == "title" and segment.text for segment in page.segments):
        return JudgedPage("stub", "a stub that shows nothing")
    if text in _CLOSED or (not text and page.is_html and folded(page.segments[0].text) in _CLOSED):
        return JudgedPage("stub", f'a stub that keeps visitors out: says "{text or folded(page.segments[0].text)}"')
    return None


def _is_plain(code: str) -> bool:
    """Whether code does nothing, or shows a date only."""
    bare = code.removeprefix("<?").removeprefix("php").removeprefix("=").removesuffix("?>")
    if code.lower().startswith("<?xml"):
        return True
    return not _PLAIN_CODE.sub("", code) or _DATED.fullmatch(bare) is not None
