"""An HTML page taken apart once, in time that grows with its length: what it says, and what it is made of."""

from __future__ import annotations

import html
import re
import unicodedata
from typing import NamedTuple

from msgspec import Struct, field

_ASCII_LOWER = {upper: upper + 32 for upper in range(ord("A"), ord("Z") + 1)}
_NAME = re.compile(r"/?[a-z][a-z0-9:-]{0,30}")
_ATTRIBUTE = re.compile(
    r"""([a-z][a-z:-]{0,30})\s{0,9}=\s{0,9}(?:"([^"]{0,2000})"|'([^']{0,2000})'|([^\s"'>]{1,2000}))"""
)
_SKIPPED = ("script", "style", "template", "svg", "noscript", "object", "math")
_BLOCKS = frozenset(
    """address article aside blockquote body br button caption center dd div dl dt fieldset figcaption footer form
    h1 h2 h3 h4 h5 h6 head header hr html label legend li main nav ol option p pre section summary table tbody td
    tfoot th thead title tr ul""".split()
)
_CHARSET = re.compile(rb"""<meta[^>]{0,200}?charset\s{0,9}=\s{0,9}["']?([a-zA-Z0-9_-]{3,20})""", re.IGNORECASE)
_LONGEST_TAG = 4000
LONG = 16_000
"""How many letters are read of what a page says."""
_MOST_TAGS = 2500
_PLAIN = str.maketrans({"ı": "i", "ł": "l", "đ": "d", "ø": "o", "æ": "ae", "œ": "oe", "ħ": "h", "ŧ": "t", "’": "'"})
_MARK = frozenset(("Mn", "Mc", "Me"))


class Segment(NamedTuple):
    """A piece of what a page says: a heading, a title, a paragraph, a link."""

    kind: str
    text: str


class Page(Struct):
    """A page: its pieces in order, and of what else it is made; `is_long` where it was not read to its end."""

    segments: list[Segment] = field(default_factory=list)
    links: list[str] = field(default_factory=list)
    scripts: list[str] = field(default_factory=list)
    code: list[str] = field(default_factory=list)
    pictures: int = 0
    fields: int = 0
    frames: int = 0
    navigations: int = 0
    refresh: str = ""
    is_html: bool = False
    is_long: bool = False


def decoded(head: bytes) -> str:
    """A page's text by its byte order mark, as UTF-8 where it is that, by what it says of itself, else as Latin-1."""
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return head.decode("utf-16", "replace")
    try:
        return head.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        if error.start >= len(head) - 4:  # cut within a character
            return head[: error.start].decode("utf-8-sig", "replace")
    named = _CHARSET.search(head[:4096])
    try:
        return head.decode(named[1].decode("ascii"), "replace") if named is not None else head.decode("latin-1")
    except (LookupError, ValueError):
        return head.decode("latin-1")


def folded(text: str) -> str:
    """Lower case, one space between words, entities and accents undone, so that phrases can be looked for."""
    if not text.isascii():
        plain = unicodedata.normalize("NFKD", html.unescape(text)).casefold()
        bare = "".join(sign for sign in plain if sign.isascii() or unicodedata.category(sign) not in _MARK)
        plain = unicodedata.normalize("NFC", bare)
    else:
        plain = (html.unescape(text) if "&" in text else text).lower()
        if not plain.isascii():
            return folded(plain)
        return " ".join(plain.split())
    return " ".join(plain.translate(_PLAIN).split())


def page_of(text: str) -> Page:
    """Take a page apart. What stands in scripts, styles and comments is not what it says."""
    return _PageReader(text).read()


class _PageReader:
    """Goes through a page from `<` to `<`, once."""

    def __init__(self, text: str):
        self._text, self._lower = text, text.translate(_ASCII_LOWER)
        self._page = Page()
        self._kind, self._pieces = "text", list[str]()

    def read(self) -> Page:
        text, page = self._text, self._page
        at, end, said, tags = 0, len(text), 0, 0
        while at < end:
            sign = text.find("<", at)
            said += (sign if sign >= 0 else end) - at
            tags += 1
            if said > LONG or tags > _MOST_TAGS:
                page.is_long = True
                break
            self._pieces.append(text[at : sign if sign >= 0 else end])
            if sign < 0:
                break
            at = self._behind_tag(sign)
        self._close("text")
        return page

    def _behind_tag(self, sign: int) -> int:
        """Note what begins at a `<`; the place behind it."""
        text, page = self._text, self._page
        if text.startswith("<!--", sign):
            return _behind(text, "-->", sign + 4)
        if text.startswith("<?", sign):
            at = _behind(text, "?>", sign + 2)
            page.code.append(text[sign:at])
            return at
        close = text.find(">", sign + 1)
        if close < 0:
            return len(text)
        name = _NAME.match(self._lower, sign + 1)
        if name is None and not text.startswith("<!", sign):
            self._pieces.append("<")
            return sign + 1
        page.is_html = True
        if name is None:
            return close + 1
        if name[0] in _SKIPPED:
            return self._skipped(name[0], sign, close)
        self._tag(name[0], sign, close)
        return close + 1

    def _skipped(self, tag: str, sign: int, close: int) -> int:
        """Pass over what holds no words, such as a script; the place behind it."""
        behind = _behind(self._lower, f"</{tag}", close + 1)
        if tag == "script":
            is_own = "src" not in self._lower[sign : min(close, sign + _LONGEST_TAG)]
            self._page.scripts.append(self._text[close + 1 : behind] if is_own else "src")
        elif tag in ("object", "svg"):
            self._page.pictures += 1
        return behind

    def _tag(self, tag: str, sign: int, close: int) -> None:
        if tag.lstrip("/") in _BLOCKS:
            self._close(_kind(tag, self._kind))
        elif tag in ("a", "/a"):
            self._pieces.append(" ")
        end = min(close, sign + _LONGEST_TAG)
        _count(self._page, tag, self._lower[sign:end], self._text[sign:end])

    def _close(self, kind: str) -> None:
        """End a piece of what is said; what follows is of another kind."""
        said = " ".join("".join(self._pieces).split())
        if said:
            self._page.segments.append(Segment(self._kind, said))
        self._pieces.clear()
        self._kind = kind


def _kind(tag: str, before: str) -> str:
    if tag == "title" or (len(tag) == 2 and tag[0] == "h" and tag[1].isdigit()):
        return "title" if tag == "title" else "heading"
    return (
        "item"
        if tag in ("li", "td", "dd", "dt", "option", "th")
        else "heading"
        if tag == "br" and before == "heading"
        else "text"
    )


def _count(page: Page, tag: str, lower: str, written: str) -> None:
    if tag == "a" and "href" in lower:
        page.links.append(_attributes(lower, written).get("href", ""))
    elif tag in ("img", "video", "audio", "canvas", "picture", "embed"):
        page.pictures += tag != "picture"
    elif tag in ("iframe", "frame"):
        page.frames += 1
    elif tag == "nav":
        page.navigations += 1
    elif tag in ("input", "textarea", "select"):
        kind = _attributes(lower, written).get("type", "text").lower()
        page.fields += 3 if kind in ("password", "file") else kind not in ("hidden", "submit", "button", "image")
    elif tag == "meta" and "refresh" in lower and not page.refresh:
        said = _attributes(lower, written)
        if said.get("http-equiv", "").lower() == "refresh":
            _, _, target = said.get("content", "").partition("=")
            page.refresh = target.strip(" '\"")


def _attributes(lower: str, written: str) -> dict[str, str]:
    found: dict[str, str] = {}
    for match in _ATTRIBUTE.finditer(lower):
        group = next(number for number in (2, 3, 4) if match[number] is not None)
        found.setdefault(match[1], html.unescape(written[match.start(group) : match.end(group)]))
    return found


def _behind(text: str, closing: str, at: int) -> int:
    """The place behind what closes, or the end: what is not closed goes on to the end."""
    found = text.find(closing, at)
    return len(text) if found < 0 else found + len(closing)
