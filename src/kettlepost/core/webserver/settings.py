"""What holds at a place: control files compiled, and merged from the home down, the nearest last."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import NamedTuple

from msgspec import Struct, field
from msgspec.structs import replace

from kettlepost.core.webserver.access import Older
from kettlepost.core.webserver.directives import (
    Directive,
    Node,
    Section,
    SyntaxFault,
    logical_lines,
    read_directives,
    split_first,
)
from kettlepost.core.webserver.patterns import PatternTrouble, search
from kettlepost.core.webserver.rewriting import RuleFault, Rules, read_rules

VERSION = (2, 4, 62)
"""The version of the server that `<IfVersion>` is asked of."""
LOADED = frozenset(
    """access_compat actions alias auth_basic authn_core authn_file authz_core authz_groupfile authz_host authz_user
    autoindex deflate dir env expires filter headers mime negotiation reqtimeout rewrite setenvif ssl status version
    so log_config unixd""".split()
)
"""Modules that a host has; of others nothing is known."""
NO_SAY = frozenset(
    """addcharset adddefaultcharset adddescription addencoding addicon addiconbyencoding addiconbytype addinputfilter
    addlanguage addoutputfilter addoutputfilterbytype addalt addaltbyencoding addaltbytype allowmethods
    authbasicauthoritative authbasicprovider authdigestdomain authdigestprovider authgroupfile authname authuserfile
    authzsendforbiddenonfailure browsermatch browsermatchnocase bufferedlogs cacheenable cachedisable cgimapextension
    charsetdefault charsetoptions charsetsourceenc contentdigest defaulticon defaultlanguage defaulttype
    deflatecompressionlevel enablemmap enablesendfile expiresactive expiresbytype expiresdefault fileetag
    forcelanguagepriority header headername indexheadinsert indexignore indexignorereset indexoptions indexorderdefault
    indexstylesheet keepalive languagepriority limitrequestbody limitxmlrequestbody logiotrackttfb mcookiename
    metadir metafiles metasuffix modmimeusepathinfo multiviewsmatch passenv php_admin_flag php_admin_value php_flag
    php_value php5_flag php_ini readmename removecharset removeencoding removeinputfilter removelanguage
    removeoutputfilter removetype requestheader rlimitcpu rlimitmem rlimitnproc scriptinterpretersource secfilterengine
    secfilterscanpost serversignature setenv setenvif setenvifnocase setoutputfilter setinputfilter sslrequiressl
    ssloptions sslverifyclient substitute suexecusergroup unsetenv usecanonicalname xbithack xbithack timeout
    addtype forcetype lsphp_processgroup htscanner brotlicompressionquality extendedstatus define authmerging
    authzmerging nocache pagespeed modpagespeed warning""".split()
)
"""Directives that decide nothing about which file answers, and who gets it."""
_SETS_ENVIRONMENT = ("setenvif", "setenvifnocase", "browsermatch", "browsermatchnocase", "setenv", "passenv")
_NOT_HERE = frozenset(
    """virtualhost directory directorymatch location locationmatch proxy proxymatch documentroot servername serveralias
    serverroot listen loadmodule rewritemap rewritelock scriptalias scriptaliasmatch alias aliasmatch customlog errorlog
    user group include includeoptional accessfilename allowoverride sslengine sslcertificatefile""".split()
)
"""Directives and sections that are refused in a control file."""
_OPTION_KEYS = {
    "followsymlinks": "follow", "symlinksifownermatch": "owner", "indexes": "lists", "multiviews": "views",
}  # fmt: skip
_OPTIONS = frozenset(
    "all none indexes followsymlinks symlinksifownermatch multiviews execcgi includes includesnoexec".split()
)


class Had(NamedTuple):
    """A line of a control file that had a say: where it stands, and what it says."""

    folder: str
    line: int
    text: str


class Sent(NamedTuple):
    """`Redirect` or `RedirectMatch`: where it stands, what it is for, and where it sends visitors."""

    had: Had
    status: int
    path: str
    pattern: str | None
    target: str


class Settings(Struct):
    """What holds at one place, as far as it decides what answers. None is what no file says."""

    rules: Rules | None = None
    index: tuple[str, ...] | None = None
    index_had: Had | None = None
    slash: bool = True
    fallback: str | None = None
    fallback_had: Had | None = None
    sent: tuple[Sent, ...] = ()
    required: tuple[Node, ...] | None = None
    required_had: Had | None = None
    older: Older | None = None
    older_had: Had | None = None
    satisfy_any: bool = False
    auth_had: Had | None = None
    errors: dict[int, tuple[str, Had]] = {}
    options: frozenset[str] = frozenset(("follow",))
    options_add: frozenset[str] = frozenset()
    options_remove: frozenset[str] = frozenset()
    options_had: Had | None = None
    says_lists: bool = False
    path_info: bool | None = None
    handlers: dict[str, str] = {}
    handler: str | None = None
    engine_had: Had | None = None
    sets_environment: bool = False
    doubts: tuple[Had, ...] = ()


class Scope(NamedTuple):
    """For what requests the lines of a part hold: a file's name, an expression, a method."""

    files: Callable[[str], bool] | None = None
    expression: str | None = None


class Part(NamedTuple):
    """Lines of a control file that hold for the same requests."""

    scope: Scope
    nodes: tuple[tuple[Node, frozenset[str] | None, bool], ...]


class Control(Struct):
    """One control file, compiled: its parts in the order in which they are merged.

    `unknown` are conditions, such as a module that a host may have, that decide what of it holds.
    """

    folder: str
    parts: tuple[Part, ...]
    fault: SyntaxFault | None = None
    unknown: tuple[Had, ...] = ()
    nodes: tuple[Node, ...] = ()
    variants: dict[tuple[bool, ...], Control] = field(default_factory=dict)

    def where(self, answers: tuple[bool, ...]) -> Control:
        """The same where it is known of each of the conditions whether it holds."""
        if answers not in self.variants:
            held = {condition.text: holds for condition, holds in zip(self.unknown, answers, strict=True)}
            self.variants[answers] = _compiled(self.folder, self.nodes, held)
        return self.variants[answers]


MOST_UNKNOWN = 4
"""So many conditions of one file are answered both ways; with more of them all lines below them are doubts."""


def compile_control(folder: str, text: str) -> Control:
    """A control file in `folder`, which is told from the account's home."""
    nodes, fault = read_directives(text)
    if fault is not None:
        return Control(folder, (), fault)
    control = _compiled(folder, nodes, {})
    unknown = {_condition(node): node.line for node in reversed(list(_conditions(nodes)))}
    if control.fault is None and len(unknown) <= MOST_UNKNOWN:
        control.unknown = tuple(Had(folder, line, text) for text, line in reversed(unknown.items()))
        control.nodes = nodes
    return control


def _compiled(folder: str, nodes: Iterable[Node], held: Mapping[str, bool]) -> Control:
    found: dict[Scope, list[tuple[Node, frozenset[str] | None, bool]]] = {Scope(): []}
    fault = _sort(nodes, Scope(), None, True, found, held)
    parts = [Part(scope, tuple(lines)) for scope, lines in found.items()]
    parts.sort(key=lambda part: (part.scope.expression is not None, part.scope.files is not None))
    control = Control(folder, tuple(parts), fault)
    if control.fault is None:
        try:
            for part in control.parts:
                merged(Settings(), folder, part)
        except RuleFault as error:
            control.fault = SyntaxFault(error.line, error.text)
    return control


def _conditions(nodes: Iterable[Node]) -> Iterator[Section]:
    """The sections whose condition nothing tells, and in which something has a say."""
    for node in nodes:
        if isinstance(node, Section):
            if node.name in _ASKING and _holds(node) is None and any(_has_say(inner) for inner in node.inner):
                yield node
            yield from _conditions(node.inner)


def _has_say(node: Node) -> bool:
    if isinstance(node, Section):
        return any(map(_has_say, node.inner)) if node.name not in ("requireall", "requireany", "requirenone") else True
    return node.name not in NO_SAY and not (node.name == "options" and not _meant(node.text.split()))


def _condition(node: Section) -> str:
    """What a section asks for, however it asks."""
    return f"<{node.name} {node.text.strip().lstrip('!').strip().lower()}>"


_ASKING = ("ifmodule", "ifversion", "ifdefine", "iffile", "ifdirective", "ifsection")


def _sort(
    nodes: Iterable[Node], scope: Scope, methods: frozenset[str] | None, sure: bool,
    found: dict[Scope, list[tuple[Node, frozenset[str] | None, bool]]], held: Mapping[str, bool],
) -> SyntaxFault | None:  # fmt: skip
    """File lines under the requests that they hold for; gives the first that is refused in a control file."""
    for node in nodes:
        if node.name in _NOT_HERE:
            return SyntaxFault(node.line, f"{node.name} is not allowed in a control file")
        if isinstance(node, Directive) or node.name.startswith("require"):
            found.setdefault(scope, []).append((node, methods, sure))
            continue
        inner_scope, inner_methods, inner_sure = scope, methods, sure
        if node.name in _ASKING:
            holds = _holds(node)
            if holds is None and (known := held.get(_condition(node))) is not None:
                holds = known != node.text.strip().startswith("!")
            if holds is False:
                continue
            inner_sure = sure and holds is True
        elif node.name in ("files", "filesmatch"):
            inner_scope = scope._replace(files=_matcher(node))
        elif node.name in ("limit", "limitexcept"):
            named = frozenset(word.upper() for word in node.words)
            inner_methods = named if node.name == "limit" else frozenset({f"!{name}" for name in named})
        elif node.name in ("if", "elseif", "else"):
            inner_scope = scope._replace(expression=f"{node.name} {node.text}")
        else:
            found.setdefault(scope, []).append((Directive(node.name, node.text, node.line), methods, False))
            continue
        trouble = _sort(node.inner, inner_scope, inner_methods, inner_sure, found, held)
        if trouble is not None:
            return trouble
    return None


def _holds(node: Section) -> bool | None:
    """Whether a section that asks for a module, a version or a definition holds; None where nothing tells."""
    asked = node.text.strip().strip("\"'")
    is_negated = asked.startswith("!")
    asked = asked.lstrip("!").strip()
    if node.name == "ifmodule":
        name = asked.lower().removeprefix("mod_").removesuffix(".c").removesuffix("_module")
        known: bool | None = True if name in LOADED else None
        if known is None and name.startswith(("php", "lsapi", "litespeed", "security", "proxy", "pagespeed", "perl")):
            known = None
    elif node.name == "ifdefine":
        known = False
    elif node.name == "ifversion":
        known = _version_holds(node.words)
    else:
        known = None
    return known if known is None else known != is_negated


def _version_holds(words: list[str]) -> bool | None:
    sign, written = (words[0], words[1]) if len(words) > 1 else ("=", words[0] if words else "")
    if not re.fullmatch(r"\d+(\.\d+){0,2}", written):
        return None
    asked = tuple(map(int, written.split(".")))
    have = VERSION[: len(asked)] if sign in ("=", "==") else VERSION
    asked = asked if sign in ("=", "==") else asked + (0,) * (3 - len(asked))
    return {
        "=": have == asked, "==": have == asked, ">": have > asked, ">=": have >= asked, "<": have < asked,
        "<=": have <= asked,
    }.get(sign)  # fmt: skip


def _matcher(node: Section) -> Callable[[str], bool]:
    words = node.words
    if node.name == "files" and (not words or words[0] != "~"):
        pattern = words[0] if words else ""
        return lambda name: fnmatchcase(name, pattern)
    pattern = words[1] if node.name == "files" and len(words) > 1 else (words[0] if words else "")

    def matches(name: str) -> bool:
        try:
            return search(pattern, name) is not None
        except PatternTrouble:
            return False

    return matches


def merged(base: Settings, folder: str, part: Part, method: str = "GET") -> Settings:
    """`base` with what a part of a control file in `folder` says. Raises RuleFault for what a server refuses."""
    held = [
        (node, sure)
        for node, methods, sure in part.nodes
        if methods is None or method in methods or (f"!{method}" not in methods and any(m[0] == "!" for m in methods))
    ]
    own = _Own(base, folder)
    if any(node.name.startswith("require") for node, _, _ in part.nodes):
        own.values["required"] = ()  # also where none of them is for this method
    for node, sure in held:
        own.take(node, sure)
    return own.whole()


def _can_be_required(node: Node, around: str) -> None:
    """Raise RuleFault for what a server refuses: what only denies has no effect where one that grants is enough."""
    if isinstance(node, Directive):
        if around != "requireall" and split_first(node.text)[0].lower() == "not":
            raise RuleFault(node.line, f"negative Require directive has no effect in <{around}>")
        return
    if node.name == "requirenone" and around != "requireall":
        raise RuleFault(node.line, f"<RequireNone> has no effect in <{around}>")
    for inner in node.inner:
        _can_be_required(inner, node.name)
    negative = [
        inner for inner in node.inner if inner.name == "requirenone" or split_first(inner.text)[0].lower() == "not"
    ]
    if node.name == "requireall" and node.inner and len(negative) == len(node.inner):
        raise RuleFault(node.line, "<RequireAll> contains only negative directives")


def again(settings: Settings) -> Settings:
    """What holds once anything more is merged: options that were added by sign are added again."""
    options = (settings.options - settings.options_remove) | settings.options_add
    return settings if options == settings.options else replace(settings, options=options)


class _Own:
    """What one part says, before it is merged with what holds above."""

    def __init__(self, base: Settings, folder: str):
        self._base = base
        self._folder = folder
        self.values: dict[str, object] = {}
        self._rewriting: list[Directive] = []
        self._sent: list[Sent] = []
        self._required: list[Node] = []
        self._older: Older | None = None
        self._index: list[str] | None = None
        self._doubts: list[Had] = []
        self._options_set: set[str] | None = None
        self._options_add: set[str] = set()
        self._options_remove: set[str] = set()

    def take(self, node: Node, sure: bool) -> None:
        name = node.name
        had = Had(self._folder, node.line, f"{_TITLES.get(name, name)} {node.text}".strip())
        if name.startswith("require") and (isinstance(node, Section) or name == "require"):
            _can_be_required(node, "requireany")
            self._required.append(node)
            self.values["required_had"] = had
        elif name.startswith("rewrite") and isinstance(node, Directive):
            self._rewriting.append(node)
            if name == "rewriteengine":
                self.values["engine_had"] = had
        elif name in _TAKEN and isinstance(node, Directive):
            _TAKEN[name](self, node, had)
        elif name in _SETS_ENVIRONMENT:
            self.values["sets_environment"] = True
            return
        elif name not in NO_SAY:
            self._doubts.append(had)
            return
        if not sure and _has_say(node):
            self._doubts.append(had)

    def whole(self) -> Settings:
        values = self.values
        if self._rewriting:
            values["rules"] = read_rules(self._folder, self._rewriting, self._base.rules)
        if self._sent:
            values["sent"] = (*self._sent, *self._base.sent)
        if self._required:
            values["required"] = tuple(self._required)
        if self._older is not None:
            values["older"] = self._older
        if self._index is not None:
            values["index"] = tuple(self._index)
        base = self._base
        add, remove = frozenset(self._options_add), frozenset(self._options_remove)
        if self._options_set is None:
            add, remove = (base.options_add - remove) | add, (base.options_remove - add) | remove
            options = (base.options - remove) | add
        else:
            options = frozenset(self._options_set)
        if (options, add, remove) != (base.options, base.options_add, base.options_remove):
            values |= {"options": options, "options_add": add, "options_remove": remove}
        if self._doubts:
            values["doubts"] = (*self._base.doubts, *self._doubts)
        return replace(self._base, **values) if values else self._base

    # -- one directive each

    def _directory_index(self, node: Directive, had: Had) -> None:
        words = node.words
        if len(words) == 1 and words[0].lower() == "disabled":
            self._index = []
        else:
            self._index = [*(self._index or ()), *words]
        self.values["index_had"] = had

    def _directory_slash(self, node: Directive, _had: Had) -> None:
        self.values["slash"] = node.text.strip().lower() != "off"

    def _fallback(self, node: Directive, had: Had) -> None:
        word = next(iter(node.words), "")
        self.values["fallback"] = None if word.lower() == "disabled" else word
        self.values["fallback_had"] = had

    def _redirect(self, node: Directive, had: Had) -> None:
        words = node.words
        status = {"redirectpermanent": 301, "redirecttemp": 302}.get(node.name, 302)
        if node.name in ("redirect", "redirectmatch") and words:
            named = {"permanent": 301, "temp": 302, "seeother": 303, "gone": 410}.get(words[0].lower())
            if named is not None or words[0].isdigit():
                status = named if named is not None else int(words[0])
                words = words[1:]
        is_match = node.name == "redirectmatch"
        if not words or (len(words) < 2 and 300 <= status < 400 and not words[0].startswith(("/", "http"))):
            raise RuleFault(node.line, f"{had.text} names no target")
        if len(words) == 1 and 300 <= status < 400:
            raise RuleFault(node.line, f"{had.text} names no target")
        path, target = words[0], words[1] if len(words) > 1 else ""
        if target and not (300 <= status < 400):
            raise RuleFault(node.line, f"{had.text} names a target for a status that sends nowhere")
        if not is_match and not path.startswith("/"):
            raise RuleFault(node.line, f"{had.text} names no path from the root")
        if target and not target.startswith("/") and not re.match(r"[A-Za-z][A-Za-z0-9+.-]*:", target) and not is_match:
            raise RuleFault(node.line, f"{had.text} names no URL")
        self._sent.append(Sent(had, status, path, path if is_match else None, target))

    def _order(self, node: Directive, had: Had) -> None:
        self._old(had).order = node.text.replace(" ", "").lower()

    def _allow(self, node: Directive, had: Had) -> None:
        self._old(had).allow.append(node)

    def _deny(self, node: Directive, had: Had) -> None:
        self._old(had).deny.append(node)

    def _old(self, had: Had) -> Older:
        if self._older is None:  # any of these takes the place of all that was said of them above
            self._older = Older()
            self._older.allow, self._older.deny = [], []
            self.values["satisfy_any"] = False
        self.values["older_had"] = had
        return self._older

    def _satisfy(self, node: Directive, had: Had) -> None:
        self._old(had)
        self.values["satisfy_any"] = node.text.strip().lower() == "any"

    def _auth_type(self, node: Directive, had: Had) -> None:
        self.values["auth_had"] = None if node.text.strip().lower() == "none" else had

    def _error_document(self, node: Directive, had: Had) -> None:
        code, _, rest = node.text.partition(" ")
        if not code.isdigit():
            raise RuleFault(node.line, f"{had.text} names no status")
        errors = dict(self.values.get("errors", self._base.errors))  # type: ignore[call-overload]
        errors[int(code)] = (rest.strip(), had)
        self.values["errors"] = errors

    def _options(self, node: Directive, had: Had) -> None:
        words = node.text.split()
        signed = [word for word in words if word[0] in "+-"]
        if signed and len(signed) != len(words):
            raise RuleFault(node.line, f"{had.text}: either all begin with a sign, or none does")
        if any(word.lstrip("+-").lower() not in _OPTIONS for word in words):
            raise RuleFault(node.line, f"{had.text} names an option that there is not")
        if not signed:
            self._options_set = set()
        for word in words:
            on, name = not word.startswith("-"), word.lstrip("+-").lower()
            meant = _meant([name])
            if not signed and self._options_set is not None:
                self._options_set |= meant
                continue
            (self._options_remove if on else self._options_add).difference_update(meant)
            (self._options_add if on else self._options_remove).update(meant)
            if self._options_set is not None:
                self._options_set = self._options_set | meant if on else self._options_set - meant
            if "lists" in meant:
                self.values["says_lists"] = True
        if not signed:
            self.values["says_lists"] = True
        self.values["options_had"] = had

    def _accept_path_info(self, node: Directive, _had: Had) -> None:
        self.values["path_info"] = {"on": True, "off": False}.get(node.text.strip().lower())

    def _add_handler(self, node: Directive, _had: Had) -> None:
        name, *endings = node.words
        known = dict(self.values.get("handlers", self._base.handlers))  # type: ignore[call-overload]
        self.values["handlers"] = known | {f".{ending.lstrip('.').lower()}": name for ending in endings}

    def _remove_handler(self, node: Directive, _had: Had) -> None:
        known = dict(self.values.get("handlers", self._base.handlers))  # type: ignore[call-overload]
        self.values["handlers"] = known | {f".{ending.lstrip('.').lower()}": "" for ending in node.words}

    def _set_handler(self, node: Directive, _had: Had) -> None:
        word = next(iter(node.words), "")
        self.values["handler"] = None if word.lower() == "none" else word


def _meant(words: Iterable[str]) -> set[str]:
    """The options among some that decide what answers."""
    names = [word.lstrip("+-").lower() for word in words]
    return {
        key
        for name in names
        for key in (("follow", "lists") if name == "all" else (_OPTION_KEYS.get(name, ""),))
        if key
    }


_TAKEN: dict[str, Callable[[_Own, Directive, Had], None]] = {
    "directoryindex": _Own._directory_index,
    "directoryslash": _Own._directory_slash,
    "fallbackresource": _Own._fallback,
    "redirect": _Own._redirect,
    "redirectmatch": _Own._redirect,
    "redirectpermanent": _Own._redirect,
    "redirecttemp": _Own._redirect,
    "order": _Own._order,
    "allow": _Own._allow,
    "deny": _Own._deny,
    "satisfy": _Own._satisfy,
    "authtype": _Own._auth_type,
    "errordocument": _Own._error_document,
    "options": _Own._options,
    "acceptpathinfo": _Own._accept_path_info,
    "addhandler": _Own._add_handler,
    "removehandler": _Own._remove_handler,
    "sethandler": _Own._set_handler,
}
_TITLES = {
    name: title
    for title in """AcceptPathInfo AddHandler Allow AuthType Deny DirectoryIndex DirectorySlash ErrorDocument
    FallbackResource Options Order Redirect RedirectMatch RedirectPermanent RedirectTemp RemoveHandler Require
    RewriteBase RewriteCond RewriteEngine RewriteOptions RewriteRule Satisfy SetHandler""".split()
    for name in [title.lower()]
}
"""Names of directives as people write them."""


def titled(name: str) -> str:
    return _TITLES.get(name, name)


def controls_on(folders: Sequence[str], control_in: Callable[[str], Control | None]) -> Iterator[Control]:
    """The control files of some folders, from the home down."""
    for folder in folders:
        control = control_in(folder)
        if control is not None:
            yield control


MOST_LINES = 4_000
"""So many lines of a control file are kept; of a longer one it is only known that it has a say."""


def kept_lines(text: str, is_whole: bool = True) -> list[str]:
    """The lines of a control file that have a say in what answers, each behind its number.

    Of what is not modelled only the name is kept, and of what decides nothing, nothing at all: there
    secrets may stand.
    """
    found: list[str] = []
    for line, written in logical_lines(text):
        name, rest = split_first(written)
        lower = name.lower()
        if written.startswith("<"):
            found.append(f"{line} {written}")
        elif lower in _SETS_ENVIRONMENT:
            found.append(f"{line} {_TITLES.get(lower, name)}")
        elif lower in _TAKEN or lower.startswith("rewrite") or lower == "require":
            found.append(f"{line} {written}" if lower != "authtype" else f"{line} {name} {rest}")
        elif lower not in NO_SAY:
            found.append(f"{line} {re.sub(r'[^A-Za-z0-9_.-]', '_', name[:60]) or '_'}")
    if len(found) > MOST_LINES or not is_whole:
        return ["0 TooLongToBeKept"]
    return found


def text_of(kept: Iterable[str]) -> str:
    """A control file again, of the lines that were kept of it, each where it stood."""
    lines: dict[int, str] = {}
    for entry in kept:
        number, _, written = entry.partition(" ")
        lines[int(number)] = written
    return "\n".join(lines.get(number, "") for number in range(1, max(lines, default=0) + 1)) or "\n".join(
        lines.values()
    )
