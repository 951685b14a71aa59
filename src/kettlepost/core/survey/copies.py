"""What folders are called that are kept aside: copies of a site, and what is switched off."""

from __future__ import annotations

import re
from collections.abc import Collection

_WORDS = re.compile(r"[a-z]+|\d+")
_SURE = frozenset(
    """backup backups bak bkp bkup bck bakup backupsite oldsite oldwww oldweb oldfiles oldversion kopie kopien
    copie copies copia copias kopia kopija masolat kopio sauvegarde sauvegardes sicherung sicherungen
    sicherungskopie respaldo respaldos salvataggio zaloha zalohy archiv archivs archivio archivo arquivo
    archiwum arkiv disabled deactivated deaktiviert inactive desactive desactivado obsolete deprecated unused
    trash papierkorb corbeille papelera cestino ancien ancienne vieux vieja viejo vecchio vecchia stary stara
    gammal gammel vanha quarantine quarantaine infected hacked defekt""".split()
)
"""Words that stand for something kept aside wherever they stand in a name."""
_WEAK = frozenset(
    "old alt back copy orig original save saved archive archives before previous prev off removed deleted oud oude "
    "tmp temp broken retired".split()
)
"""Words that do so where they are the whole name, or its end, or stand before what its twin is called."""
_SITE = frozenset(
    "site website web www html blog shop store wp wordpress page pages home homepage forum wiki app".split()
)
_PARENTS = _SURE | {"old", "archive", "archives", "back", "removed", "deleted", "retired", "save", "saved"}
_DATED = re.compile(
    r"(?:^|[^0-9])(?:(?:19|20)\d\d[-_.]?(?:0[1-9]|1[0-2])(?:[-_.]?(?:0[1-9]|[12]\d|3[01]))?"
    r"|(?:0[1-9]|[12]\d|3[01])[-_.](?:0[1-9]|1[0-2])[-_.](?:19|20)?\d\d|\d{2}(?:0[1-9]|1[0-2])(?:0[1-9]|[12]\d|3[01]))"
    r"(?:[-_.T ]?\d{4,6})?$"
)
_NUMBERED = re.compile(r"\s?\((\d{1,2})\)$|\s-\s?(?:copy|kopie|copie|copia|kopia|kopi|kopija)(?:\s?\(\d{1,2}\))?$")
_HOST = re.compile(r"(?:[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)+[a-z]{2,}")
_YEAR = re.compile(r"^(.{2,}?)[-_. ]?((?:19|20)\d\d)$")


def is_aside(name: str, twins: Collection[str]) -> bool:
    """Whether a folder's name says that it is kept aside; `twins` are other folders' with the same application."""
    lower = name.lower()
    if lower.endswith("~") or lower.startswith(("_", "copy of ", "kopie von ", "copie de ", "copia de ", "copia di ")):
        return True
    if _HOST.fullmatch(lower) and not {lower.rpartition(".")[2]} & (_SURE | _WEAK):
        return False  # a site called old.example is one
    if _NUMBERED.search(lower) or _DATED.search(lower):
        return True
    words = _WORDS.findall(lower)
    letters = [word for word in words if word.isalpha()]
    if not letters:
        return False
    if _SURE & set(letters):
        return True
    others = {twin.lower() for twin in twins}
    if letters[-1] in _WEAK or (letters[0] in others and _WEAK & set(letters[1:])):
        return True
    if letters[0] in _WEAK and (
        "".join(letters[1:]) in {re.sub(r"[^a-z]", "", one) for one in others} or set(letters[1:]) <= _SITE
    ):
        return True
    year = _YEAR.match(lower)
    if year is not None and year[1] in others:
        return True
    return any(_glued(lower, word, others) for word in ("old", "bak", "backup", "bkp", "copy", "orig", "alt"))


def _glued(name: str, word: str, others: Collection[str]) -> bool:
    """Whether a name is a word and what its twin is called, or a word for a site, without anything between."""
    stem = re.sub(r"\d+$", "", name)
    is_first = word in ("old", "bak", "backup") and stem.startswith(word)
    rest = stem.removesuffix(word) if stem.endswith(word) else stem.removeprefix(word) if is_first else ""
    return bool(rest) and (rest.strip("-_. ") in others or rest.strip("-_. ") in _SITE)


def is_for_asides(name: str) -> bool:
    """Whether a folder is called as one is in which things are kept aside."""
    words = _WORDS.findall(name.lower())
    return name.startswith("_unused") or (
        bool(words) and all(word in _PARENTS or word.isdigit() for word in words) and words[0].isalpha()
    )
