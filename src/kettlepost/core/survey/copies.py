"""What folders are called that are kept aside: copies of a site, and what is switched off."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Collection, Mapping

from kettlepost.core.names import Folder

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


def aside(kinds: Mapping[Folder, str], newest: Mapping[Folder, int], roots: Collection[str]) -> set[Folder]:
    """The applications that are copies kept aside: by their folders' names, where another of the kind is not aside.

    `kinds` are their catalogue ids by folder, `newest` when a file there changed last. Where all of a kind are
    called so, the newest is the one in use; a document root is no copy.
    """
    alike: dict[str, list[Folder]] = defaultdict(list)
    for base, kind in kinds.items():
        alike[kind].append(base)
    found: set[Folder] = set()
    for bases in alike.values():
        if len(bases) < 2:
            continue
        names = {base.name for base in bases}
        called = [
            base for base in bases
            if base not in roots
            and (is_aside(base.name, names - {base.name}) or any(is_for_asides(above.name) for above in base.above()))
        ]  # fmt: skip
        if len(called) == len(bases):
            called.remove(max(called, key=lambda base: (newest[base], base)))
        found.update(called)
    return found


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
