"""What control files do that matters for planning: who gets in, what answers, what is sent elsewhere.

`.htaccess` and its directives are those of the Apache HTTP Server 2.4; `robots.txt` is RFC 9309;
`.user.ini` and `php.ini` are PHP's.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator

from kettlepost.core.survey.records import Effect
from kettlepost.core.webserver import Directive, Node, read_directives
from kettlepost.core.webserver.directives import ASKING
from kettlepost.core.webserver.sections import holds

CONTROL_NAMES = frozenset(
    (".htaccess", ".htpasswd", ".user.ini", "php.ini", "web.config", "robots.txt", ".maintenance")
)
SENDING = ("redirects to another host", "redirects some paths")
"""What effects do that send visitors to the host they name."""
KEEPING_OUT = frozenset(("asks for a password", "denies everyone"))
"""What effects do that keep visitors out."""
CHOOSING_PHP = frozenset(("sets the PHP version", "chooses PHP"))
"""What effects do by which PHP runs at all: without them its files are sent as they are written."""
_MOST = 40
_EVERY_PATH = frozenset(
    (".", "^", ".*", "^.*", "^.*$", "(.*)", "^(.*)$", "^(.*)", "(.*)$", "^(.+)$", "(.+)", ".+", "^.+$", "/")
)
_RUNNING = frozenset(("addhandler", "sethandler", "addtype", "action", "fcgidwrapper", "fcgiwrapper"))
_PHP = re.compile(r"php-?(?:fpm-?)?(\d)[.-]?(\d{1,2})", re.IGNORECASE)
_HTTPS = re.compile(r"https://%\{(?:HTTP_HOST|SERVER_NAME)\}", re.IGNORECASE)
_HOST = re.compile(r"https?://([^/:%$\s\"]+)", re.IGNORECASE)
_SPARED = {
    "files": re.compile(r"^%\{(?:REQUEST_FILENAME|SCRIPT_FILENAME)\} !-F$"),
    "folders": re.compile(r"^%\{(?:REQUEST_FILENAME|SCRIPT_FILENAME)\} !-D$"),
}


def effects_of(name: str, head: bytes) -> list[Effect]:
    """What a control file does, in the order of its lines; nothing for one that changes nothing here."""
    reader = _READERS.get(name)
    found = list(reader(head.decode("utf-8", "replace"))) if reader is not None else []
    return list({(effect.does, effect.what): effect for effect in reversed(found)}.values())[::-1][:_MOST]


def _htaccess(text: str) -> Iterator[Effect]:
    nodes, fault = read_directives(text)
    if fault is not None:
        yield Effect("is refused by the server", fault.line)
        return
    rewriting = _Rewriting()
    for directive in _for_all(nodes):
        values = directive.words
        effect = rewriting.read(directive.name, values, directive.line) if values else None
        effect = effect or (_directive(directive.name, values, directive.line) if values else None)
        if effect is not None:
            yield effect
    yield from rewriting.engine


def _for_all(nodes: Iterable[Node]) -> Iterator[Directive]:
    """The directives that hold for every request; those in `<Files>`, `<If>` and the like hold for some only."""
    for node in nodes:
        if isinstance(node, Directive):
            yield node
        elif node.name in ASKING and holds(node) is not False:
            yield from _for_all(node.inner)


class _Rewriting:
    """What is carried from one rewriting directive to the next (mod_rewrite)."""

    def __init__(self) -> None:
        self.base = ""
        self.conditions: list[str] = []
        self.handed = False
        self.switched: Effect | None = None

    def read(self, word: str, values: list[str], line: int) -> Effect | None:
        if word == "rewriteengine":
            self.switched = Effect(f"turns rewriting {'on' if values[0].lower() == 'on' else 'off'}", line)
        elif word == "rewritebase":
            self.base = values[0].strip('"').rstrip("/") + "/"
        elif word == "rewritecond":
            self.conditions.append(" ".join(values[:2]).upper())
        elif word == "rewriterule" and len(values) > 1:
            conditions, self.conditions = self.conditions, []
            effect = self._rule(values, conditions, line)
            self.handed = self.handed or (effect is not None and effect.does.startswith("rewrites"))
            return effect
        return None

    @property
    def engine(self) -> Iterator[Effect]:
        """Whether the file switches rewriting, which also ends what the files above it rewrite."""
        if self.switched is not None and not (self.handed and self.switched.does.endswith("on")):
            yield self.switched

    def _rule(self, values: list[str], conditions: list[str], line: int) -> Effect | None:
        pattern, target = values[0].strip('"'), values[1].strip('"')
        flags = values[2].strip("[]").upper().split(",") if len(values) > 2 else []
        if _HTTPS.match(target):
            return Effect("redirects to https", line)
        if host := _HOST.match(target):
            return Effect("redirects to another host", line, host[1])
        if target == "-":
            return Effect("denies everyone", line) if "F" in flags and pattern in _EVERY_PATH else None
        spared = {test for test, is_one in _SPARED.items() if any(is_one.search(text) for text in conditions)}
        whole = len(spared) == len(conditions) and not any(flag.startswith("R") for flag in flags)
        name = target.split("?")[0]
        if pattern not in _EVERY_PATH or not whole or "%" in name or "$" in name:
            return Effect("rewrites some paths", line, name)
        if not name.startswith("/"):
            name = self.base + name
        if spared == {"folders"}:
            return Effect("rewrites some paths", line, name)
        but = {0: "", 1: " but files", 2: " but files and folders"}[len(spared)]
        return Effect(f"rewrites every path{but}", line, name)


def _directive(word: str, values: list[str], line: int) -> Effect | None:
    joined = " ".join(values)
    if word == "fallbackresource":
        return None if values[0] == "disabled" else Effect("falls back to one file", line, values[0])
    if word == "directoryindex":
        return Effect("changes the index order", line, joined)
    if word in ("authtype", "authuserfile") or (word == "require" and values[0] in ("valid-user", "user", "group")):
        return Effect("asks for a password", line)
    if (word == "deny" and joined.lower() == "from all") or (word == "require" and joined.lower() == "all denied"):
        return Effect("denies everyone", line)
    if word in ("redirect", "redirectmatch", "redirectpermanent", "redirecttemp"):
        return _redirect(values, line)
    if word in _RUNNING and "php" in joined.lower():
        version = _PHP.search(joined)
        if version is None:
            return Effect("chooses PHP", line)
        return Effect("sets the PHP version", line, f"{version[1]}.{version[2]}")
    if word == "header" and "x-robots-tag" in joined.lower() and "noindex" in joined.lower():
        return Effect("shuts out search engines", line)
    if word == "php_value" and values[0].lower() in ("auto_prepend_file", "auto_append_file"):
        return Effect("adds a file to every page", line, values[-1])
    return None


def _redirect(values: list[str], line: int) -> Effect | None:
    host = next((found for value in values if (found := _HOST.match(value))), None)
    if host is not None:
        everything = [value for value in values if value.startswith(("/", "^"))][:1] in ([], ["/"], ["^/(.*)$"], ["^"])
        return Effect("redirects to another host" if everything else "redirects some paths", line, host[1])
    return Effect("redirects", line, values[-1]) if len(values) > 1 else None


def _robots(text: str) -> Iterator[Effect]:
    """Whether search engines are kept out of everything: groups of several agents, and the longest match counts."""
    agents: list[str] = []
    is_beginning, shut, opened = True, 0, False
    for number, raw in enumerate(text.removeprefix("\ufeff").splitlines(), 1):
        key, colon, value = raw.partition("#")[0].partition(":")
        key, value = key.strip().lower(), value.strip()
        if not colon or key == "sitemap":
            continue
        if key == "user-agent":
            agents = [*(agents if is_beginning else ()), value.lower()]
            is_beginning = True
            continue
        is_beginning = False
        if "*" in agents and key in ("allow", "disallow"):
            whole = value.rstrip("*$") in ("/", "") and value not in ("", "$")
            shut = shut or (number if whole and key == "disallow" else 0)
            opened = opened or (whole and key == "allow")  # of rules as long as each other the one that allows counts
    if shut and not opened:
        yield Effect("shuts out search engines", shut)


def _php_settings(text: str) -> Iterator[Effect]:
    for number, raw in enumerate(text.removeprefix("\ufeff").splitlines(), 1):
        key, equals, value = raw.partition("=")
        if not equals or raw.lstrip().startswith((";", "#", "[")):
            continue
        name, value = key.strip().lower(), value.partition(";")[0].strip().strip("\"'")
        if name in ("auto_prepend_file", "auto_append_file") and value and value.lower() != "none":
            yield Effect("adds a file to every page", number, value)
        elif name == "display_errors" and value.lower() in ("1", "on", "true", "yes", "stdout"):
            yield Effect("shows PHP's errors to visitors", number)
        else:
            yield Effect("sets PHP's settings", number)


_IIS = {
    "rewrites": r"<rewrite\b", "sends visitors on": r"<httpredirect\b",
    "asks for passwords or denies": r"<(?:authorization|deny)\b",
    "sets index files": r"<defaultdocument\b", "sets error pages": r"<httperrors\b", "runs programs": r"<handlers\b",
}  # fmt: skip


def _iis(text: str) -> Iterator[Effect]:
    """What a file for IIS would do there; other servers pass over it."""
    lower = re.sub(r"<!--.*?(?:-->|\Z)", " ", text.lower(), flags=re.DOTALL)
    what = ", ".join(does for does, pattern in _IIS.items() if re.search(pattern, lower))
    yield Effect("speaks to another web server (IIS)", 1, what)


def _always(effect: Effect) -> Callable[[str], Iterator[Effect]]:
    """Of a file that has one effect, whatever stands in it."""
    return lambda _: iter((effect,))


_READERS: dict[str, Callable[[str], Iterator[Effect]]] = {
    ".htaccess": _htaccess,
    "robots.txt": _robots,
    ".user.ini": _php_settings,
    "php.ini": _php_settings,
    "web.config": _iis,
    ".maintenance": _always(Effect("shows a maintenance notice", 1)),
    ".htpasswd": _always(Effect("holds the users of a password prompt")),
}
