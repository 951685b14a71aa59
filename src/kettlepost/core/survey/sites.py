"""Sites that no catalogue entry knows, by their kind."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence

from kettlepost.core.names import Folder
from kettlepost.core.plan import Application
from kettlepost.core.survey.observations import Observations
from kettlepost.core.survey.records import FoundSite
from kettlepost.core.webserver.patterns import PatternTrouble, search

_HEAD = 16 * 1024
"""How much of a page is looked through for what made it."""
_GENERATOR = re.compile(
    rb"""<meta\s[^<>]{0,200}?\bname\s{0,5}=\s{0,5}["']?generator["']?[^<>]{0,200}?\bcontent\s{0,5}=\s{0,5}(?:"([^">]{1,80})"|'([^'>]{1,80})'|([^\s>]{1,80}))"""
    rb"""|<meta\s[^<>]{0,200}?\bcontent\s{0,5}=\s{0,5}["']([^"'>]{1,80})["'][^<>]{0,200}?\bname\s{0,5}=\s{0,5}["']?generator""",
    re.IGNORECASE,
)
_NODE = frozenset(("package.json", "server.js", "app.js"))
_PYTHON = frozenset(
    ("passenger_wsgi.py", "wsgi.py", "asgi.py", "manage.py", "requirements.txt", "pyproject.toml", "app.py")
)
_RUBY = frozenset(("config.ru", "Gemfile", "Rakefile"))
_CGI = frozenset(("index.cgi", "index.pl", "index.fcgi", "dispatch.fcgi", "dispatch.cgi"))
_PAGES = frozenset(("index.html", "index.htm", "index.xhtml", "index.shtml"))
_SKELETONS = ("artisan", "symfony.lock", "spark", "craft", "yii", "cake.php", "bin/cake")
_DOCUMENTATION = {
    "objects.inv": "Sphinx", "doxygen.css": "Doxygen", "element-list": "Javadoc", "package-list": "Javadoc",
    "allclasses-frame.html": "Javadoc", "allclasses-noframe.html": "Javadoc", "allclasses-index.html": "Javadoc",
    "created.rid": "RDoc", "class_list.html": "YARD", "mkdocs.yml": "MkDocs",
}  # fmt: skip
"""Files by which generated documentation is known, and what makes it."""
_DOCUMENTING = re.compile(
    r"sphinx|docutils|doxygen|javadoc|gtk-doc|gi-docgen|docbook|texinfo|makeinfo|mkdocs|rdoc|yard|jsdoc|typedoc|pdoc|"
    r"rustdoc|ford|naturaldocs|asciidoc\w*|asciidoctor|latex2html|tex4ht|docusaurus|vitepress|vuepress|phpdocumentor|apigen|"
    r"haddock|epydoc|linuxdoc|sgml-tools|debiandoc|hevea|pod2html|perldoc|antora|gitbook|epr?doc",
    re.IGNORECASE,
)
_STATIC = re.compile(
    r"hugo|jekyll|eleventy|pelican|hexo|gatsby|astro|zola|nikola|lektor|middleman|next\.js|nuxt|gridsome|wintersmith|metalsmith|"
    r"bridgetown|nanoc|cobalt|publii|ikiwiki",
    re.IGNORECASE,
)
SITE_NAMES = (
    _NODE | _PYTHON | _RUBY | _CGI | _PAGES | _DOCUMENTATION.keys() | {"index.php", "composer.json"} | set(_SKELETONS)
)
ENDINGS = {ending: f".{ending}\0" for ending in ("php", "cgi", "fcgi", "pl", "psgi", "pm", "html", "htm", "css", "js")}
"""What is noticed of the names of all files of a folder, by how they end."""
_PACKAGES = frozenset(("vendor", "node_modules", "bower_components"))
_NEVER = frozenset("test tests spec specs fixtures testing testsuite __tests__ templates template tpl views".split())
"""Folders in which pages are no site of their own, unless an address leads there."""
_PART = frozenset(
    "docs doc documentation manual help examples example demo demos modules plugins extensions addons themes skins "
    "components packages contrib libraries assets resources samples sample".split()
)
"""Folders whose pages are a part of what lies around them."""
_MOST_BESIDE = 5
"""How many files lie at most where a single one is the application."""
_WEB = frozenset("www htdocs html public public_html web webroot site php cgi-bin cgi share".split())
_BESIDE = frozenset(
    "css js images img pics icons style styles theme themes static assets graphics languages lang locale media".split()
)
"""Folders that lie beside pages."""


def generator_of(head: bytes) -> str:
    """What a page names as the program that wrote it."""
    found = _GENERATOR.search(head[:_HEAD])
    return next(group for group in found.groups() if group).decode("utf-8", "replace").strip() if found else ""


def endings_of(names: Sequence[str]) -> frozenset[str]:
    """How the names of some files end, of the endings that matter."""
    joined = "\0".join(names).lower() + "\0"
    return frozenset(ending for ending, written in ENDINGS.items() if written in joined)


def sites(
    notes: Observations,
    taken: Collection[Folder],
    roots: Collection[str],
    applications: Iterable[Application] = (),
    others: Iterable[FoundSite] = (),
) -> list[FoundSite]:
    """The topmost folder of each site, and each document root with one; `taken` folders are spoken for.

    `applications` are those of which some are a single file, `others` sites that are known to lie elsewhere.
    """
    singles = [(one, one.single_file) for one in applications if one.single_file]
    fronts = {
        str(control.folder)
        for control in notes.controls
        if any(effect.does == "rewrites every path" and effect.what.endswith(".php") for effect in control.effects)
    }
    blank = {(str(page.folder), page.file) for page in notes.placeholders}
    found: dict[str, FoundSite] = {}
    beside = {str(site.folder) for site in others}
    for path in sorted({*notes.marks, *notes.endings}, key=lambda path: path.replace("/", "\0")):
        folder, is_root = Folder(path), path in roots
        spoken_for = any(above in taken or above in found or above in beside for above in folder.above())
        if folder in taken or (spoken_for and not is_root):
            continue
        parts = path.split("/")
        if not is_root and not (_PACKAGES.isdisjoint(parts) and _NEVER.isdisjoint(parts[1:])):
            continue
        names = {name for name in notes.marks.get(path, set()) & SITE_NAMES if (path, name) not in blank}
        kind = _kind(names, notes.generators.get(path, ""), path in fronts)
        kind = kind or _without_index(folder, notes, is_root, {page[1] for page in blank if page[0] == path})
        if kind is None or kind[0] == "PHP pages":
            kind = _single(folder, notes, singles) or kind
        if kind is not None:
            found[path] = FoundSite(folder, *kind)
    return [site for site in found.values() if site.folder in roots or not _is_part(site.folder, {*found, *beside})]


def _is_part(folder: Folder, found: Collection[str]) -> bool:
    """Whether a site is a part of an application that has its pages elsewhere, such as its documentation."""
    parts = folder.split("/")
    for at, name in enumerate(parts[1:], 1):
        if name.lower() in _PART:
            around, own = "/".join(parts[:at]) + "/", "/".join(parts[: at + 1]) + "/"
            return any(f"{other}/".startswith(around) and not f"{other}/".startswith(own) for other in found)
    return False


def _made_by(names: set[str], generator: str) -> tuple[str, list[str]] | None:
    """Pages that a program has made, by the files it leaves or the generator they name."""
    made = next((maker for name, maker in _DOCUMENTATION.items() if name in names and names & _PAGES), "")
    if made:
        return f"documentation, made by {made}", sorted(names & _DOCUMENTATION.keys())
    if generator and _DOCUMENTING.search(generator):
        return f"documentation, made by {generator.split(' (')[0][:40]}", [f"generator {generator}"]
    if generator and _STATIC.search(generator):
        return "output of a static site generator", [f"generator {generator}"]
    return None


def _kind(names: set[str], generator: str, front: bool) -> tuple[str, list[str]] | None:
    if "composer.json" in names and not names.isdisjoint(_SKELETONS):
        return "PHP application", ["composer.json", *sorted(names & set(_SKELETONS))]
    if "index.php" in names and (front or "composer.json" in names):
        return "front-controller PHP application", ["index.php", ".htaccess" if front else "composer.json"]
    if names & {"passenger_wsgi.py", "wsgi.py", "asgi.py", "manage.py", "app.py"}:
        return "Python application", sorted(names & _PYTHON)
    if "config.ru" in names or {"Gemfile", "Rakefile"} <= names:
        return "Ruby application", sorted(names & _RUBY)
    if "package.json" in names and not names & _PAGES and "index.php" not in names:
        return "Node application", sorted(names & _NODE)
    if "index.php" in names:
        return "PHP pages", ["index.php"]
    made = _made_by(names, generator)
    if made is not None:
        return made
    if names & _CGI:
        return "CGI scripts", sorted(names & _CGI)
    if names & _PAGES:
        return "static site", sorted(names & _PAGES)
    return None


def _single(
    folder: Folder, notes: Observations, singles: Sequence[tuple[Application, str]]
) -> tuple[str, list[str]] | None:
    """An application that is a single file, in a folder with little else."""
    there = notes.folders.get(folder)
    if there is None or there.files > _MOST_BESIDE or not there.names:
        return None
    for name in sorted(there.names):
        for known, pattern in singles:
            try:
                groups = search(f"^(?:{pattern})$", name)
            except PatternTrouble:
                continue
            if groups is not None:
                version = next((group for group in groups[1:] if group), "")
                return f"{' '.join(filter(None, (known.shown, version)))}, a single file", [name]
    return None


def _without_index(
    folder: Folder, notes: Observations, is_root: bool, placeholders: set[str]
) -> tuple[str, list[str]] | None:
    """A site whose pages are called otherwise than index files, where a folder looks like one that is shown."""
    endings = notes.endings.get(str(folder), frozenset())
    known = notes.folders.get(folder)
    if not endings or known is None:
        return None
    named = {*known.names, *known.index, *known.control}
    there = sorted(named - placeholders)
    if known.files <= len(named):  # all of its files are known by name
        endings = endings_of(there)

    def some(*wanted: str) -> list[str]:
        return [name for name in there if name.lower().rpartition(".")[2] in wanted][:3] or [f"*.{wanted[0]}"]

    if endings & {"cgi", "fcgi"}:
        return "CGI scripts", some("cgi", "fcgi")
    if "psgi" in endings:
        return "Perl application", some("psgi")
    if "pl" in endings and (is_root or not {"cgi-bin", "cgi"}.isdisjoint(folder.split("/"))):
        return "CGI scripts", some("pl")
    looks = is_root or bool(endings & {"html", "htm", "css", "js"}) or folder.name.lower() in _WEB
    looks = looks or any(folder.below(child) in notes.folders for child in _BESIDE)
    if "php" in endings and looks:
        return "PHP pages", some("php")
    if is_root and endings & {"html", "htm"}:
        return "static site", some("html", "htm")
    return None
