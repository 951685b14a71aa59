"""International names as people write them (RFC 5890), and in letters that every file system takes.

A name is shown in its own letters only where nobody takes it for another: where all are of one
script, as the names of Unicode's characters tell, and either Latin letters of European languages,
or of a script of which not all that are there look like Latin ones.
"""

from __future__ import annotations

import re
import unicodedata
from urllib.parse import unquote

_INTERNATIONAL = "xn--"
_ENCODED = re.compile(r"(?:%[89A-Fa-f][0-9A-Fa-f])+")
_ALIKE = frozenset("аеорсухіјѕһԁԛԝьєονρυχικτγηω")
"""Letters of other scripts that look like Latin ones."""
_TOGETHER = (
    {"LATIN"}, {"CYRILLIC"}, {"GREEK"}, {"ARABIC"}, {"HEBREW"}, {"DEVANAGARI"}, {"THAI"}, {"HANGUL", "CJK"},
    {"CJK", "HIRAGANA", "KATAKANA", "KATAKANA-HIRAGANA"},
)  # fmt: skip
_SPELT = {
    "ä": "ae", "ö": "oe", "ü": "ue", "ß": "ss", "æ": "ae", "œ": "oe", "ø": "oe", "å": "aa",
    "ł": "l", "đ": "d", "ð": "d", "þ": "th", "ı": "i",
}  # fmt: skip


def readable(address: str) -> str:
    """A host name, or an address, as people write it: `münzen.example/läden`."""
    if _INTERNATIONAL not in address and "%" not in address:
        return address
    host, slash, path = address.partition("/")
    labels = [label if not label.startswith(_INTERNATIONAL) else _shown(label) for label in host.split(".")]
    return ".".join(labels) + slash + _ENCODED.sub(_decoded, path)


def spelt(label: str) -> str:
    """A label of a host name in letters of ASCII: `muenzen` for `xn--mnzen-kva`; itself where there is none for it."""
    if not label.startswith(_INTERNATIONAL):
        return label
    letters = "".join(_SPELT.get(letter, letter) for letter in _own_letters(label))
    plain = unicodedata.normalize("NFKD", letters).encode("ascii", "ignore").decode()
    return plain if len(plain) > len(letters) // 2 else label.removeprefix(_INTERNATIONAL)


def _own_letters(label: str) -> str:
    import idna  # only international names need it

    try:
        return idna.decode(label)
    except (idna.IDNAError, UnicodeError):
        return label


def _shown(label: str) -> str:
    """A label in its own letters, where those are unmistakable."""
    own = _own_letters(label)
    letters = [letter for letter in own if letter.isalpha()]
    scripts = {unicodedata.name(letter, "?").split()[0] for letter in letters}
    if not any(scripts <= alone for alone in _TOGETHER) or not own.isprintable():
        return label
    if scripts == {"LATIN"}:
        return own if all(ord(letter) < 0x180 for letter in letters) else label
    return label if all(letter in _ALIKE for letter in letters) else own


def _decoded(match: re.Match[str]) -> str:
    try:
        text = unquote(match[0], errors="strict")
    except UnicodeDecodeError:
        return match[0]
    return text if text.isprintable() and text.isalnum() else match[0]
