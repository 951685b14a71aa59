"""What holds at a place: control files merged from the home down, the nearest last."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from typing import NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from kettlepost.core.secrets import MASK
from kettlepost.core.webserver.access import LegacyAccess, for_method, is_among, require_fault
from kettlepost.core.webserver.arguments import spoils_answers
from kettlepost.core.webserver.directives import NO_SECTION, Directive, Node, Section, split_first
from kettlepost.core.webserver.environment import EnvironmentTest, read_test
from kettlepost.core.webserver.expressions import text_fault
from kettlepost.core.webserver.networks import is_address_or_network, is_network
from kettlepost.core.webserver.rewriting import RewriteRules, RuleFault, read_rules
from kettlepost.core.webserver.sections import ControlPart
from kettlepost.core.webserver.vocabulary import (
    ENVIRONMENT,
    REFUSED,
    REQUIRING,
    decides_nothing,
    has_say,
    is_perhaps_taken,
    is_program,
    is_rare,
    is_status,
    options_meant,
    refusal,
    titled,
)


class SourceLine(NamedTuple):
    """A line that had a say: where it stands, and what it says.

    It is one of the control file in `folder`, or of `file`, of the server's own configuration.
    """

    folder: str
    line: int
    text: str
    file: str = ""


class RedirectLine(NamedTuple):
    """`Redirect` or `RedirectMatch`: where it stands, what it is for, and where it sends visitors."""

    source_line: SourceLine
    status: int
    path: str
    pattern: str | None
    target: str


class DirectorySettings(Struct):
    """What holds at one place, as far as it decides what answers. None is what no file says."""

    rules: RewriteRules | None = None
    index: tuple[str, ...] | None = None
    index_line: SourceLine | None = None
    index_status: int = 0
    index_status_line: SourceLine | None = None
    slash: bool = True
    fallback: str | None = None
    fallback_line: SourceLine | None = None
    sent: tuple[RedirectLine, ...] = ()
    required: tuple[Node, ...] | None = None
    required_line: SourceLine | None = None
    older: LegacyAccess | None = None
    older_line: SourceLine | None = None
    satisfy_any: bool = False
    auth_line: SourceLine | None = None
    auth_module: str = ""
    auth_named: bool = False
    needs_tls: SourceLine | None = None
    errors: dict[int, tuple[str, SourceLine]] = {}
    options: frozenset[str] = frozenset(("follow",))
    options_add: frozenset[str] = frozenset()
    options_remove: frozenset[str] = frozenset()
    options_line: SourceLine | None = None
    says_lists: bool = False
    path_info: bool | None = None
    handlers: dict[str, str] = {}
    types: dict[str, str] = {}
    handler: str | None = None
    engine_line: SourceLine | None = None
    program_line: SourceLine | None = None
    tests: tuple[EnvironmentTest, ...] = ()
    php_flag: bool = True
    php_admin_flag: bool | None = None
    doubts: tuple[SourceLine, ...] = ()
    perhaps: tuple[SourceLine, ...] = ()

    @property
    def runs_php(self) -> bool:
        """Whether PHP runs its files: what the server's own files fix for good goes before all else."""
        return self.php_flag if self.php_admin_flag is None else self.php_admin_flag

    @property
    def asks_for_names(self) -> bool:
        """Whether who gets in hangs on the names of visitors' hosts, so that a server looks them up."""
        lines = [*self.older.allow, *self.older.deny] if self.older is not None else []
        values = [value for line in lines for value in line.arguments[1:]]
        named = any(not value[:1].isdigit() and value.lower() != "all" and "=" not in value for value in values)
        return named or any(_names_hosts(node) for node in self.required or ())


def _names_hosts(node: Node) -> bool:
    if isinstance(node, Section):
        return any(map(_names_hosts, node.inner))
    return bool({"host", "forward-dns"} & set(node.text.lower().split()[:2]))


_NOT_0 = re.compile(r"[+-]?0*[1-9]")
_OLDER = ("order", "allow", "deny", "satisfy")


def merged(base: DirectorySettings, folder: str, part: ControlPart, method: str = "GET") -> DirectorySettings:
    """`base` with what a part of a control file in `folder` says for a method, or for any where none is given.

    Raises RuleFault for what a server refuses.
    """
    return read_part(folder, part, method).over(base)


def read_part(folder: str, part: ControlPart, method: str = "GET") -> PartSettings:
    """What a part of a control file in `folder` says, whatever holds above it. Raises RuleFault, as above."""
    held = [
        (left, sure)
        for node, methods, sure in part.nodes
        if (not method or methods is None or is_among(method, methods))
        and (left := for_method(node, method) if node.name in REQUIRING else node) is not None
    ]
    own = PartSettings(folder)
    if any(node.name in _OLDER for node, _, _ in part.nodes):
        own.begin_older()  # likewise
    if any(node.name in REQUIRING for node, _, _ in part.nodes):
        own.values["required"] = ()  # also where none of them is for this method
    for node, sure in held:
        own.take(node, sure)
    return own


def index_names(parts: Iterable[tuple[str, ControlPart]]) -> tuple[str, ...] | None:
    """The index files that control files ask for, given their parts with their folders, the nearest last.

    None where none of them says any, or where one is refused.
    """
    settings = DirectorySettings()
    try:
        for folder, part in parts:
            if part.scope.files is None and part.scope.expression is None:
                settings = merged(settings, folder, part)
    except RuleFault:
        return None
    return settings.index


def _can_be_required(node: Node, around: str) -> None:
    """Raise RuleFault for what a server refuses: what only denies has no effect where one that grants is enough."""
    if isinstance(node, Directive):
        if why := require_fault(node):
            raise RuleFault(node.line, f"Require {node.text}: {why}")
        if around != "requireall" and split_first(node.text)[0].lower() == "not":
            raise RuleFault(node.line, f"negative Require directive has no effect in <{around}>")
        return
    if node.name == "requirenone" and around != "requireall":
        raise RuleFault(node.line, f"<RequireNone> has no effect in <{around}>")
    for inner in node.inner:
        _can_be_required(inner, node.name)
    if not node.inner and node.name in ("requireall", "requireany", "requirenone"):
        raise RuleFault(node.line, f"<{titled(node.name)}> is empty")


def again(settings: DirectorySettings) -> DirectorySettings:
    """What holds once anything more is merged: options that were added by sign are added again."""
    options = (settings.options - settings.options_remove) | settings.options_add
    return settings if options == settings.options else replace(settings, options=options)


class PartSettings:
    """What one part says, before it is merged with what holds above."""

    def __init__(self, folder: str):
        self._folder = folder
        self._errors: dict[int, tuple[str, SourceLine]] = {}
        self._handlers: dict[str, str] = {}
        self._types: dict[str, str] = {}
        self.values: dict[str, object] = {}
        self._rewriting: list[Directive] = []
        self._sent: list[RedirectLine] = []
        self._required: list[Node] = []
        self._older: LegacyAccess | None = None
        self._merging = ""
        self._index: list[str] | None = None
        self._doubts: list[SourceLine] = []
        self._perhaps: list[SourceLine] = []
        self._tests: list[EnvironmentTest] = []
        self._options_set: set[str] | None = None
        self._options_add: set[str] = set()
        self._options_remove: set[str] = set()

    def take(self, node: Node, sure: bool) -> None:
        name = node.name
        source_line = SourceLine(self._folder, node.line, f"{titled(name)} {node.text}".strip(), node.file)
        self._see_it_is_taken(node, source_line)
        if name in REQUIRING:
            _can_be_required(node, "requireany")
            self._required.append(node)
            self.values["required_line"] = source_line
        elif name.startswith("rewrite") and isinstance(node, Directive):
            self._rewriting.append(node)
            if name == "rewriteengine":
                self.values["engine_line"] = source_line
        elif name in TAKEN and isinstance(node, Directive):
            TAKEN[name](self, node, source_line)
        elif name in ENVIRONMENT:
            self._tests += [test for test in [read_test(self._folder, node)] if test is not None]
        elif not decides_nothing(name) and not is_rare(name):
            self._doubts.append(source_line)
            return
        if not sure and has_say(node):
            self._doubts.append(source_line)

    def _see_it_is_taken(self, node: Node, source_line: SourceLine) -> None:
        """Raise RuleFault for a line that a server refuses, whose module it has."""
        if isinstance(node, Section):
            return
        if node.name == REFUSED.lower():
            raise RuleFault(node.line, f"{node.text}: the server does not take its arguments")
        if node.name == NO_SECTION.lower():
            raise RuleFault(node.line, f"{node.text} is no section")
        if is_perhaps_taken(node.name, node.words):
            self._perhaps.append(source_line)
        if node.name == "header" and spoils_answers(node.words):
            self._doubts.append(source_line)
        if why := refusal(node.name, node.words):
            raise RuleFault(node.line, f"{source_line.text}: {why}")

    @property
    def redirects(self) -> list[RedirectLine]:
        """The redirects that it says, in their order."""
        return self._sent

    def over(self, base: DirectorySettings) -> DirectorySettings:
        """What holds where this is merged over what holds above."""
        values = dict(self.values)
        for name, own in (("errors", self._errors), ("handlers", self._handlers), ("types", self._types)):
            if own:
                values[name] = {**getattr(base, name), **own}
        if self._rewriting:
            values["rules"] = read_rules(self._folder, self._rewriting, base.rules)
        if self._sent:
            has_own = any(map(is_for_all, self._sent))
            above = [one for one in base.sent if not (has_own and is_for_all(one))]
            values["sent"] = (*self._sent, *above)
        if self._tests:
            values["tests"] = (*base.tests, *self._tests)
        if (
            self._required or self._merging == "off"
        ):  # which takes away what is asked above, where nothing is asked here
            values["required"] = self._with_above(base.required, tuple(self._required)) or None
        more = {"older": self._older, "index": None if self._index is None else tuple(self._index)}
        values |= {name: own for name, own in more.items() if own is not None}
        options, add, remove = self._options_over(base)
        if (options, add, remove) != (base.options, base.options_add, base.options_remove):
            values |= {"options": options, "options_add": add, "options_remove": remove}
        if self._perhaps:
            values["perhaps"] = tuple(self._perhaps)
        if self._doubts:
            values["doubts"] = (*base.doubts, *self._doubts)
        return replace(base, **values) if values else base

    def _options_over(self, base: DirectorySettings) -> tuple[frozenset[str], frozenset[str], frozenset[str]]:
        """The options that hold then, and which of them were added and removed by sign."""
        add, remove = frozenset(self._options_add), frozenset(self._options_remove)
        if self._options_set is not None:
            return frozenset(self._options_set), add, remove
        add, remove = (base.options_add - remove) | add, (base.options_remove - add) | remove
        return (base.options - remove) | add, add, remove

    @property
    def requirement(self) -> tuple[str, tuple[Node, ...] | None]:
        """How what it asks for goes together with what is asked above, and what it asks for."""
        return self._merging, tuple(self._required) or None

    def _with_above(self, above: tuple[Node, ...] | None, own: tuple[Node, ...]) -> tuple[Node, ...]:
        """Who gets in by this part, beside those who do by what is above, where it says so."""
        return own if self._merging not in ("and", "or") or above is None else both_required(self._merging, above, own)

    # -- one directive each

    def _auth_merging(self, node: Directive, _source_line: SourceLine) -> None:
        self._merging = node.text.strip().strip("\"'").lower()

    def _directory_index(self, node: Directive, source_line: SourceLine) -> None:
        words = node.arguments
        if len(words) == 1 and words[0].lower() == "disabled":
            self._index = []
        else:
            self._index = [*(self._index or ()), *words]
        self.values["index_line"] = source_line

    def _index_redirect(self, node: Directive, source_line: SourceLine) -> None:
        word = node.text.strip().strip("\"'").lower()
        named = {"on": 302, "off": 0, "permanent": 301, "temp": 302, "seeother": 303}
        if word not in named and not re.fullmatch(r"3\d\d", word):
            raise RuleFault(node.line, f"{source_line.text} names no status that sends on")
        self.values["index_status"] = named[word] if word in named else int(word)
        self.values["index_status_line"] = source_line

    def _directory_slash(self, node: Directive, _source_line: SourceLine) -> None:
        self.values["slash"] = node.text.strip().strip("\"'").lower() != "off"

    def _fallback(self, node: Directive, source_line: SourceLine) -> None:
        word = next(iter(node.words), "")
        self.values["fallback"] = None if word.lower() == "disabled" else word
        self.values["fallback_line"] = source_line

    def _redirect(self, node: Directive, source_line: SourceLine) -> None:
        status, words, is_told = _status_of(node)
        is_match, sends = node.name == "redirectmatch", 300 <= status < 400
        why = _redirect_fault(words, sends, is_match, is_told)
        if why:
            raise RuleFault(node.line, f"{source_line.text} {why}")
        # what names one thing is a target for all that lies here, or for a status that sends nowhere a path
        path = words[0] if len(words) == 2 or (words and not sends) else None
        target = words[-1] if sends else ""
        if path is None and (why := text_fault(target)):
            raise RuleFault(node.line, f"{source_line.text} {why}")
        is_odd = is_match and sends and (not path or not _is_url(target))
        if status < 300 or is_odd or (path is None and "$" in target):
            self._doubts.append(source_line)  # a page of the server's own, or one that it makes an error of
            return
        if not is_status(status):
            status = 500  # which it becomes once somebody asks
        if path is None:  # of which a place has one
            self._sent = [one for one in self._sent if not is_for_all(one)]
            self._sent.append(RedirectLine(source_line, status, "", "", target))
        elif is_match or path.startswith("/"):  # else it is never asked for
            self._sent.append(RedirectLine(source_line, status, path, path if is_match else None, target))

    def _order(self, node: Directive, source_line: SourceLine) -> None:
        word = node.words[0].lower()
        if word not in ("allow,deny", "deny,allow", "mutual-failure"):
            raise RuleFault(node.line, f"{source_line.text} is no order")
        self._old(source_line).order = word

    def _allow(self, node: Directive, source_line: SourceLine) -> None:
        _see_it_is_from(node, source_line)
        self._old(source_line).allow.append(node)

    def _deny(self, node: Directive, source_line: SourceLine) -> None:
        _see_it_is_from(node, source_line)
        self._old(source_line).deny.append(node)

    def _old(self, source_line: SourceLine) -> LegacyAccess:
        older = self.begin_older()
        self.values["older_line"] = source_line
        return older

    def begin_older(self) -> LegacyAccess:
        """Any of these takes the place of all that was said of them above."""
        if self._older is None:
            self._older = LegacyAccess()
            self._older.allow, self._older.deny = [], []
            self.values |= {"satisfy_any": False, "older_line": None}
        return self._older

    def _satisfy(self, node: Directive, source_line: SourceLine) -> None:
        if node.words[0].lower() not in ("any", "all"):
            raise RuleFault(node.line, f"{source_line.text} is neither all nor any")
        self._old(source_line)
        self.values["satisfy_any"] = node.words[0].lower() == "any"

    def _needs_tls(self, _node: Directive, source_line: SourceLine) -> None:
        self.values["needs_tls"] = source_line

    def _auth_type(self, node: Directive, source_line: SourceLine) -> None:
        kind = node.text.strip().strip("\"'").lower()
        self.values |= {"auth_line": None if kind == "none" else source_line, "auth_module": f"auth_{kind}"}

    def _auth_name(self, node: Directive, _source_line: SourceLine) -> None:
        self.values["auth_named"] = node.words != [""]

    def _error_document(self, node: Directive, source_line: SourceLine) -> None:
        code, rest = split_first(node.text)
        if not code.isdigit() or not is_status(int(code)):
            raise RuleFault(node.line, f"{source_line.text} names no status")
        shown = split_first(rest)[0]
        if why := text_fault(shown):
            raise RuleFault(node.line, f"{source_line.text} {why}")
        self._errors[int(code)] = (shown, source_line)

    def _options(self, node: Directive, source_line: SourceLine) -> None:
        words = node.words
        by_sign = any(word[:1] in ("+", "-") for word in words)
        all_or_none = any(word.lower() in ("all", "none") for word in words)
        for number, word in enumerate(words):
            sign, name = (word[0], word[1:].lower()) if word[:1] in ("+", "-") else ("", word.lower())
            meant = options_meant([name])
            if not sign:
                self._options_set = (self._options_set if number and self._options_set is not None else set()) | meant
                continue
            on = sign == "+"
            (self._options_remove if on else self._options_add).difference_update(meant)
            (self._options_add if on else self._options_remove).update(meant)
            if self._options_set is not None:
                self._options_set = self._options_set | meant if on else self._options_set - meant
            if "lists" in meant:
                self.values["says_lists"] = True
        if (words and not by_sign) or all_or_none:
            self.values["says_lists"] = True
        if words:
            self.values["options_line"] = source_line

    def _accept_path_info(self, node: Directive, source_line: SourceLine) -> None:
        word = node.words[0].lower()
        if word not in ("on", "off", "default"):
            raise RuleFault(node.line, f"{source_line.text} is neither on, off nor default")
        self.values["path_info"] = {"on": True, "off": False}.get(word)

    def _add_handler(self, node: Directive, _source_line: SourceLine) -> None:
        name, *endings = node.arguments or [""]
        self._handlers |= {f".{ending.lstrip('.').lower()}": name for ending in endings}

    def _remove_handler(self, node: Directive, _source_line: SourceLine) -> None:
        self._handlers |= {f".{ending.lstrip('.').lower()}": "" for ending in node.arguments}

    def _php_setting(self, node: Directive, source_line: SourceLine) -> None:
        """Whether PHP runs: what a flag has that is not on is off, and a value is read as php.ini has it."""
        name, value, *_ = *node.words, "", ""
        if name == MASK and node.name == "php_flag":  # of surveys that kept no more of it
            self._doubts.append(source_line)
        if name != "engine":
            return
        value = value.lower()
        is_other = node.name.endswith("value") and (value in ("yes", "true") or _NOT_0.match(value) is not None)
        self.values[node.name.replace("value", "flag")] = value in ("on", "1") or is_other

    def _add_type(self, node: Directive, _source_line: SourceLine) -> None:
        """A type that names a program, which handles what has no handler."""
        name, *endings = node.words if node.name == "addtype" else (*node.words, "")
        own = {f".{ending.lstrip('.').lower()}" if ending else "": name for ending in endings}
        if is_program(name):
            self._types |= own

    def _program(self, _node: Directive, source_line: SourceLine) -> None:
        self.values["program_line"] = source_line

    def _program_or_not(self, node: Directive, source_line: SourceLine) -> None:
        self.values["program_line"] = None if node.text.strip().strip("\"'").lower() == "off" else source_line

    def _set_handler(self, node: Directive, _source_line: SourceLine) -> None:
        word = next(iter(node.words), "")
        self.values["handler"] = None if word.lower() == "none" else word


def both_required(how: str, above: tuple[Node, ...], own: tuple[Node, ...]) -> tuple[Node, ...]:
    """What is asked above together with what is asked here (AuthMerging)."""
    both = tuple(Section("requireany", "", 0, nodes) for nodes in (above, own))
    return (Section("requireall" if how == "and" else "requireany", "", 0, both),)


def is_compiled(name: str) -> bool:
    """Whether a directive is carried out that stands in a control file or a section."""
    return name in TAKEN or name in ENVIRONMENT or name in REQUIRING or name.startswith("rewrite")


def is_for_all(sent: RedirectLine) -> bool:
    """Whether a redirect is for all that lies in a folder."""
    return not sent.pattern and not sent.path


def _status_of(node: Directive) -> tuple[int, list[str], bool]:
    """The status of a redirect, what follows it, and whether it is told."""
    words = node.words
    if words:
        named = {"permanent": 301, "temp": 302, "seeother": 303, "gone": 410}.get(words[0].lower())
        begins = re.match(r"\d+", words[0], re.ASCII)  # a server reads no further than the digits go
        if begins is not None:
            return int(begins[0]), words[1:], True
        if named is not None:
            return named, words[1:], True
    return {"redirectpermanent": 301}.get(node.name, 302), words, False


def _redirect_fault(words: list[str], sends: bool, is_match: bool, is_told: bool) -> str:
    """Why a server refuses a redirect, in words."""
    if len(words) > 2:
        return "names no status"
    if len(words) == 2 and not sends:
        return "names a target for a status that sends nowhere"
    if len(words) < 2 and sends and (not words or (is_match and not is_told)):
        return "names no target"
    if sends and not is_match and len(words) == 2 and not _is_url(words[-1]):
        return "names no URL"
    return ""


def _is_url(text: str) -> bool:
    return text.startswith("/") or re.match(r"[A-Za-z][A-Za-z0-9+.-]*:", text) is not None


def _may_be_from(value: str) -> bool:
    """Whether visitors can come from what is written: an address, a network, a name, or a variable."""
    if "/" in value and not value.lower().startswith("env="):
        return is_address_or_network(value)
    return not value[:1].isdigit() or is_network(value)


def _see_it_is_from(node: Directive, source_line: SourceLine) -> None:
    """Raise RuleFault for `Allow` and `Deny` of nobody, or of addresses that are none."""
    first, *values = node.arguments or [""]
    if first.lower() != "from":
        raise RuleFault(node.line, f"{source_line.text}: from is missing")
    wrong = next((value for value in values if not _may_be_from(value)), None)
    if wrong is not None:
        raise RuleFault(node.line, f"{source_line.text}: {wrong} is no address")


TAKEN: dict[str, Callable[[PartSettings, Directive, SourceLine], None]] = {
    "directoryindex": PartSettings._directory_index,
    "directoryindexredirect": PartSettings._index_redirect,
    "directoryslash": PartSettings._directory_slash,
    "fallbackresource": PartSettings._fallback,
    "redirect": PartSettings._redirect,
    "redirectmatch": PartSettings._redirect,
    "redirectpermanent": PartSettings._redirect,
    "redirecttemp": PartSettings._redirect,
    "order": PartSettings._order,
    "allow": PartSettings._allow,
    "deny": PartSettings._deny,
    "satisfy": PartSettings._satisfy,
    "authmerging": PartSettings._auth_merging,
    "authname": PartSettings._auth_name,
    "authtype": PartSettings._auth_type,
    "sslrequiressl": PartSettings._needs_tls,
    "errordocument": PartSettings._error_document,
    "options": PartSettings._options,
    "acceptpathinfo": PartSettings._accept_path_info,
    "addhandler": PartSettings._add_handler,
    "addtype": PartSettings._add_type,
    "forcetype": PartSettings._add_type,
    "passengerapproot": PartSettings._program,
    "passengerenabled": PartSettings._program_or_not,
    "removehandler": PartSettings._remove_handler,
    "sethandler": PartSettings._set_handler,
    "php_flag": PartSettings._php_setting,
    "php_value": PartSettings._php_setting,
    "php_admin_flag": PartSettings._php_setting,
    "php_admin_value": PartSettings._php_setting,
}
