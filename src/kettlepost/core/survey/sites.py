"""Sites that no catalogue entry knows, by their kind."""

from __future__ import annotations

import re

from kettlepost.core.names import Folder
from kettlepost.core.survey.observations import Notes
from kettlepost.core.survey.records import FoundSite

_GENERATOR = re.compile(
    rb"""<meta\b[^>]*\bname\s*=\s*["']?generator["']?[^>]*\bcontent\s*=\s*(?:"([^">]{1,80})"|'([^'>]{1,80})'|([^\s>]{1,80}))"""
    rb"""|<meta\b[^>]*\bcontent\s*=\s*["']([^"'>]{1,80})["'][^>]*\bname\s*=\s*["']?generator""",
    re.IGNORECASE,
)
_STATIC = re.compile(
    r"hugo|jekyll|eleventy|pelican|hexo|gatsby|astro|zola|mkdocs|sphinx|vitepress|vuepress|docusaurus|nikola|lektor|middleman",
    re.IGNORECASE,
)
_NODE = frozenset(("package.json", "server.js", "app.js"))
_PYTHON = frozenset(("passenger_wsgi.py", "wsgi.py", "manage.py", "requirements.txt", "pyproject.toml", "app.py"))
_CGI = frozenset(("index.cgi", "index.pl", "index.fcgi", "dispatch.fcgi", "dispatch.cgi"))
_PAGES = frozenset(("index.html", "index.htm", "index.xhtml", "index.shtml"))
SITE_NAMES = _NODE | _PYTHON | _CGI | _PAGES | {"index.php", "composer.json"}


def generator_of(head: bytes) -> str:
    """What a page names as the program that wrote it."""
    found = _GENERATOR.search(head)
    return next(group for group in found.groups() if group).decode("utf-8", "replace").strip() if found else ""


def sites(notes: Notes, taken: set[Folder], roots: frozenset[str]) -> list[FoundSite]:
    """The topmost folder of each site, and each document root with one; `taken` folders are spoken for."""
    fronts = {
        str(control.folder)
        for control in notes.controls
        if any(effect.does == "rewrites every path" and effect.what.endswith(".php") for effect in control.effects)
    }
    blank = {(str(page.folder), page.file) for page in notes.placeholders}
    found: dict[str, FoundSite] = {}
    for path in sorted(notes.marks, key=lambda path: Folder(path).tree_key):
        folder = Folder(path)
        spoken_for = any(above in taken or above in found for above in folder.above())
        if folder in taken or (spoken_for and path not in roots):
            continue
        names = {name for name in notes.marks[path] & SITE_NAMES if (path, name) not in blank}
        kind = _kind(names, notes.generators.get(path, ""), path in fronts)
        if kind is not None:
            found[path] = FoundSite(folder, *kind)
    return list(found.values())


def _kind(names: set[str], generator: str, front: bool) -> tuple[str, list[str]] | None:
    if "index.php" in names and (front or "composer.json" in names):
        return "front-controller PHP application", ["index.php", ".htaccess" if front else "composer.json"]
    if len(names & _PYTHON) >= 1 and names & {"passenger_wsgi.py", "wsgi.py", "manage.py", "app.py"}:
        return "Python application", sorted(names & _PYTHON)
    if "package.json" in names and not names & _PAGES and "index.php" not in names:
        return "Node application", sorted(names & _NODE)
    if "index.php" in names:
        return "PHP pages", ["index.php"]
    if generator and _STATIC.search(generator):
        return "output of a static site generator", [f"generator {generator}"]
    if names & _PAGES:
        return "static site", sorted(names & _PAGES)
    if names & _CGI:
        return "CGI scripts", sorted(names & _CGI)
    return None
