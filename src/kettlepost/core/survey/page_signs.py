"""Signs of a page of one's own: what shops, clubs and people have on theirs, and placeholders have not."""

from __future__ import annotations

import re
from collections.abc import Sequence

from kettlepost.core.survey.pages import Page
from kettlepost.core.survey.phrases import MarkedSentence

_PHONE = re.compile(r"(?:\+\d|\b0\d|\(0\d|\b\d{3}[ -]\d)[\d ()/.-]{5,16}\d|☎|☏")
_PRICE = re.compile(
    r"[€$£¥₹₽₺₩]\s{0,2}\d|\d(?:[.,]\d\d|,-)?\s{0,2}(?:[€£₽₺₩¥]|eur\b|euro\b|usd\b|gbp\b|chf\b|kr\b|zl\b|kc\b|ft\b|руб|грн|円|元|원|tl\b|lei\b|лв|rp\b)|\brp\s?\d",
    re.IGNORECASE,
)
_HOURS = re.compile(
    r"\b\d{1,2}(?:[:.h]\d{2})?\s{0,2}(?:am|pm|uhr|h|hrs)?\s{0,2}(?:[-–—]|to|bis|a|à|as|do|till|until|til|tot|al|alle|ate|kuni|iki|lidz)\s{0,2}\d{1,2}(?:[:.h]\d{2}|\s{0,2}(?:am|pm|uhr|h\b|hrs))"
    r"|\b\d{1,2}\s?(?:am|pm|uhr)\b|\d{1,2}:\d{2}\s{0,2}[-–~]\s{0,2}\d{1,2}:\d{2}",
)
_STREET = re.compile(
    r"\b\d{1,4}[a-z]?,?\s\w+\s(?:street|st\b|road|rd\b|lane|avenue|ave\b|close|square|way|drive|terrace|row|quay)"
    r"|\w{0,30}(?:strasse|straße|str\.|gasse|weg|platz|allee|straat|laan|gade|vej|gatan|vagen|katu|tie|utca|ut|ter)\s\d{1,4}\b"
    r"|\b(?:rue|avenue|place|via|viale|piazza|corso|calle|avenida|plaza|rua|praca|ul\.|ulica|ulice)\s[\w'. ]{2,40}\d"
    r"|(?:al\.|strada|str\.|bd\.|ул\.|улица|вул\.|вулиця|jalan|jl\.)\s[\w'. ]{2,40}\d"
    r"|\b\d{1,4}(?:\s?(?:bis|ter))?,?\s(?:rue|avenue|place|boulevard|chemin|quai)\s",
)
_WEEKDAY = re.compile(
    r"\b(?:mon|tues|wednes|thurs|fri|satur|sun)days?\b|\b(?:montags?|dienstags?|mittwochs?|donnerstags?|freitags?|samstags?|sonntags?)\b"
    r"|\b(?:lundi|mardi|mercredi|jeudi|vendredi|samedi|dimanche|lunes|martes|miercoles|jueves|viernes|sabado|domingo|lunedi|martedi|mercoledi|giovedi|venerdi|sabato|domenica)s?\b"
    r"|\b(?:maandag|dinsdag|woensdag|donderdag|vrijdag|zaterdag|zondag|poniedzialek|wtorek|sroda|czwartek|piatek|sobota|niedziela)\b",
)


def against(page: Page, said: Sequence[MarkedSentence]) -> int:
    """How much speaks for a page of one's own: zero or less."""
    text = " ".join(one.sentence.text for one in said if one.kind != "title")
    others = sum(
        one.sentence.size for one in said if not one.hits and not one.is_later and one.kind not in ("title", "heading")
    )
    inner = sum(
        1
        for link in page.links
        if not link.startswith(("http:", "https:", "//", "mailto:", "tel:", "#")) and link not in ("/", "", ".")
    )
    headings = sum(one.kind == "heading" for one in said)
    items = sum(one.kind == "item" for one in said)
    signs = 0
    signs += bool(_PHONE.search(text))
    signs += 2 * bool(_PRICE.search(text))
    signs += 2 * bool(_HOURS.search(text))
    signs += bool(_STREET.search(text))
    signs += len(set(_WEEKDAY.findall(text))) >= 2
    signs += 2 if inner >= 3 else inner >= 1
    signs += page.navigations > 0 and inner >= 2
    signs += 2 if page.fields >= 3 else page.fields == 2
    signs += headings >= 4
    signs += items >= 5
    signs += page.pictures >= 4
    signs += 3 if others > 90 else 2 if others > 45 else others > 25
    return -signs
