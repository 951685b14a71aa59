"""What should not lie under a document root: by its name, and where names do not tell, by how it begins."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import BinaryIO

from kettlepost.core.names import Folder
from kettlepost.core.survey.listings import Listing
from kettlepost.core.survey.observations import Observations
from kettlepost.core.survey.records import FoundExposed

_PACKED = r"(?:gz|bz2|xz|zst|zip|Z)"
_KINDS = {
    "private key": r"id_(?:rsa|dsa|ecdsa|ed25519)|[^/]*\.(?:p12|pfx|ppk|jks)",
    "database dump": rf"[^/]*\.(?:sql|dump|sqlite3?|mdb)(?:\.{_PACKED})?",
    "environment file": r"\.env(?:\.(?:local|prod|production|live|staging|dev|development))?",
    "configuration backup": (
        r"(?:wp-config|config(?:uration)?(?:\.inc)?|settings|LocalSettings|parameters|database|\.env|\.htaccess)[^/]*"
        r"(?:~|[._-](?:bak|old|orig|save|backup|copy|dist~|txt)\d*)|\.?[^/]*\.sw[nop]|[^/]*\.php~"
    ),
    "database tool": (
        r"adminer(?:-\d[\d.]*)?(?:-[a-z]+)*\.php|editor-\d[\d.]*(?:-[a-z]+)*\.php|phpminiadmin\.php"
        r"|phpliteadmin(?:-[\d.]+)?\.php"
    ),
    "archive": rf"[^/]*\.(?:zip|rar|7z|tar|tgz|tbz2?|txz|tar\.{_PACKED})",
    "mail folder": r"mbox|[^/]*\.mbox",
    "log": r"(?:error|access)_log(?:[.-][^/]*)?|[^/]*\.log(?:[.-]\d+)?(?:\.gz)?",
}
_HARMLESS = frozenset(
    """html htm css js mjs map json xml yml yaml md txt jpg jpeg png gif svg webp avif ico pdf woff woff2 ttf eot
    otf mp3 mp4 webm po mo pot phtml inc tpl twig scss less ts vue htaccess sample example csv lock dist py pl cgi
    rb php""".split()
)
"""What follows the last dot of most names: a folder with nothing else has nothing exposed in it."""
_DOUBTFUL = ("config", "adminer", "editor-", "phpminiadmin", "phpliteadmin")
"""What some harmless names begin with or hold that are looked at all the same."""
_EXPOSED = re.compile(
    r"(?:^|/)(?:" + "|".join(f"(?P<k{n}>{pattern})" for n, pattern in enumerate(_KINDS.values())) + r")(?=/|$)"
)
_FOLDERS = {
    ".git": "repository", ".svn": "repository", ".hg": "repository", ".bzr": "repository", "CVS": "repository",
    ".ssh": "private key", ".gnupg": "private key",
}  # fmt: skip
_SCHEMA = re.compile(r"schema|install|create|upgrade|migrat|initial|structure|fixture", re.IGNORECASE)
_SCHEMAS = frozenset("sql schema schemas install migrations migrate upgrade upgrades updates".split())
"""Where releases keep what makes their tables."""
_KEPT = re.compile(r"dump|backup|bak|export|copy|prod|live|full|(?:19|20)\d\d[-_.]?[01]\d", re.IGNORECASE)
"""What names say that people give to a copy of their tables."""
_SHIPPED = frozenset("vendor node_modules bower_components tests test fixtures spec".split())
"""Where keys and archives are what programs are tested with."""
MOST = 2_000
"""How many exposed files are recorded of an account at the least."""
BELONGS = frozenset(("archive", "database dump", "log"))
"""Kinds that releases of applications carry themselves, so that they count outside their folders only."""
KEYS = (".pem", ".key")
"""How names end of what may be a private key, or a certificate."""
PHP_INFO = frozenset(
    ("phpinfo.php", "info.php", "php.php", "i.php", "test.php", "php_info.php", "pi.php", "infophp.php")
)
"""Names that people give to a page that shows how PHP is set up."""
MOST_OF_A_KEY = 64 * 1024
_BEGINNING = 2048


def read_beginning(stream: BinaryIO) -> bytes:
    """What is kept of a file that is told by how it begins: no more than its kind."""
    head = stream.read(_BEGINNING)
    if re.search(rb"-----BEGIN [A-Z ]{0,30}PRIVATE KEY-----", head):
        return b"private key"
    return b"phpinfo page" if re.search(rb"\bphpinfo\s{0,9}\(", head) else b""


def told_by_beginning(listing: Listing) -> Iterator[FoundExposed]:
    """The keys and pages of a listing that are known by how they begin."""
    if set(listing.folder.lower().split("/")) & _SHIPPED:
        return
    for name, kind in listing.heads.items():
        if kind in (b"private key", b"phpinfo page") and (name in PHP_INFO or name.endswith(KEYS)):
            yield FoundExposed(Folder(listing.folder), name, kind.decode())


def spot(listing: Listing, roots: frozenset[str], notes: Observations, contents: bool = True) -> None:
    """Note what should not be there by its name; `roots` are the document roots.

    Where `contents` cannot be had, keys are told by their names alone.
    """
    if len(notes.exposed) >= MOST or not under(listing.folder, roots):
        return
    name = listing.folder.rpartition("/")[2]
    if name in _FOLDERS and listing.folder not in roots:
        notes.exposed.append(FoundExposed(Folder(listing.folder), "", _FOLDERS[name]))
        return
    doubtful = [
        text for text in listing.names
        if text.rpartition(".")[2] not in _HARMLESS or any(word in text for word in _DOUBTFUL)
    ]  # fmt: skip
    if doubtful and not any(part in _FOLDERS for part in listing.folder.split("/")):
        notes.exposed += _exposed(listing.folder, doubtful, contents)


def mail_folders(folders: Mapping[str, object], roots: frozenset[str]) -> Iterator[FoundExposed]:
    """Folders under a root with mail in them: those with the three folders of the Maildir format."""
    for path in folders:
        above, _, name = path.rpartition("/")
        is_mail = name == "cur" and bool(above) and all(f"{above}/{other}" in folders for other in ("new", "tmp"))
        if is_mail and under(above, roots):
            yield FoundExposed(Folder(above), "", "mail folder")


def _exposed(folder: str, names: list[str], contents: bool) -> Iterator[FoundExposed]:
    parts = set(folder.lower().split("/"))
    for found in _EXPOSED.finditer("/".join(names)):
        kind, name = list(_KINDS)[int(str(found.lastgroup)[1:])], found[0].lstrip("/")
        if kind == "database dump" and _makes_tables(folder, name):
            continue
        if kind in ("private key", "archive", "database dump") and parts & _SHIPPED:
            continue
        yield FoundExposed(Folder(folder), name, kind)
    if not contents:
        for name in names:
            if name.endswith(".key") or name.startswith("privkey"):
                yield FoundExposed(Folder(folder), name, "private key")


def _makes_tables(folder: str, name: str) -> bool:
    """Whether a file is one by which a release makes its tables, and no copy of anybody's."""
    is_kept = not name.endswith(".sql") or _KEPT.search(name) is not None
    return not is_kept and (bool(_SCHEMA.search(name)) or folder.rpartition("/")[2].lower() in _SCHEMAS)


def under(folder: str, roots: frozenset[str]) -> bool:
    """Whether `folder` is a document root or lies below one."""
    return folder in roots or (bool(folder) and _root_above(folder.rpartition("/")[0], roots))


@lru_cache(maxsize=1024)  # folders with the same one above come soon after each other
def _root_above(folder: str, roots: frozenset[str]) -> bool:
    while folder and folder not in roots:
        folder = folder.rpartition("/")[0]
    return folder in roots
