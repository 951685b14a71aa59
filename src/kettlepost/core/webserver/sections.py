"""The sections of a control file: for which requests their lines hold, and whether they hold on this server."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from typing import NamedTuple

from kettlepost.core.messages import Message, say
from kettlepost.core.webserver.access import is_among, module_asked, restricting
from kettlepost.core.webserver.arguments import methods_fault, pattern_fault
from kettlepost.core.webserver.directives import (
    ASKING,
    NOT_CLOSED,
    ODDLY_CLOSED,
    Directive,
    Node,
    Section,
    SyntaxFault,
    split_first,
)
from kettlepost.core.webserver.expressions import expression_fault
from kettlepost.core.webserver.patterns import PatternTrouble, compiled, search
from kettlepost.core.webserver.server import SERVERS, WebServer, module_name
from kettlepost.core.webserver.vocabulary import (
    REQUIRING,
    SECTIONS,
    VERSION,
    has_say,
    is_allowed,
    is_module,
    is_named,
    is_not_here,
    module_of,
    refusal,
    titled,
)
from kettlepost.core.webserver.wildcards import matches_wildcards


class Scope(NamedTuple):
    """For what requests the lines of a part hold: a file's name, an expression; whether within another such one."""

    files: Callable[[str], bool] | None = None
    expression: str | None = None
    is_nested: bool = False


class ControlPart(NamedTuple):
    """Lines of a control file that hold for the same requests."""

    scope: Scope
    nodes: tuple[Line, ...]


def is_first_condition(part: ControlPart) -> bool:
    """Whether a part is that of an `<If>`, with which a chain of conditions begins."""
    return (part.scope.expression or "").startswith("if ")


Methods = frozenset[str] | None
"""The methods that something holds for: some, or all but those behind a `!`; None for all."""
Line = tuple[Node, Methods, bool]
"""A directive, the methods for which it holds, and whether it is sure that it holds at all."""
_FOR_SOME = ("files", "filesmatch", "if", "elseif", "else")
_BY_METHOD = frozenset(("order", "allow", "deny", "satisfy"))
"""What `<Limit>` limits, beside `Require`; all else in it holds for every method."""
_WHO_GETS_IN = frozenset(("AuthConfig",))
"""What may stand in a section that says who gets in, whatever a control file may do beside."""


class UnknownCondition(NamedTuple):
    """What nothing tells and decides what of a file holds: `about` tells it from others, `line` is where it stands.

    `usual` is what is likelier.
    """

    about: str
    line: int
    text: str
    on: Message
    usual: bool


class SortedLines(NamedTuple):
    """The parts of a file in the order in which they are merged, its first fault, and what it hangs on beside."""

    parts: tuple[ControlPart, ...]
    fault: SyntaxFault | None
    unknown: tuple[UnknownCondition, ...]


def parts_of(
    nodes: Iterable[Node], server: WebServer, held: Mapping[str, bool], is_running: bool = False
) -> SortedLines:
    """What of a file holds on a server, where `held` says of conditions whether they do that nothing tells.

    With lines of the server's own configuration it `is_running`: it has taken them all.
    """
    sorter = _Sorter(server, held, is_running)
    fault = sorter.sort(nodes, Scope())
    parts = [ControlPart(scope, tuple(lines)) for scope, lines in sorter.found.items()]
    parts.sort(key=lambda part: (part.scope.expression is not None, part.scope.files is not None))
    return SortedLines(tuple(parts), fault, tuple(sorter.unknown.values()))


class _Requirement:
    """A section that says who gets in, as its lines are read: those that say so, and how surely."""

    def __init__(self, name: str):
        self.name = name
        self.sure = True
        self.nodes: list[Node] = []


class _Sorter:
    """Files lines under the requests that they hold for."""

    def __init__(self, server: WebServer, held: Mapping[str, bool], is_running: bool):
        self._server = server
        self._held = held
        self._is_running = is_running
        self.found: dict[Scope, list[Line]] = {Scope(): []}
        self.unknown: dict[str, UnknownCondition] = {}

    def sort(
        self,
        nodes: Iterable[Node],
        scope: Scope,
        methods: Methods = None,
        sure: bool = True,
        vouched: frozenset[str] = frozenset(),
        inside: _Requirement | None = None,
    ) -> SyntaxFault | None:
        """File some lines; gives the first that is refused.

        `vouched` are the modules that sections around ask for, `inside` is the section around that says who gets in.
        """
        nodes = tuple(nodes)
        fault = _lone_else(nodes)
        if fault is not None:
            return fault
        for node in nodes:
            why = self._refusal(node, inside)
            if why:
                return SyntaxFault(node.line, why)
            if isinstance(node, Section) and node.name in SECTIONS:
                trouble = self._section(node, scope, methods, sure, vouched, inside)
                if trouble is not None:
                    return trouble
            elif not self._is_there(node, vouched):
                return SyntaxFault(node.line, f"{titled(node.name)}, which the server does not have")
            else:
                self._file(node, scope, methods, sure, inside)
        return None

    def _file(self, node: Node, scope: Scope, methods: Methods, sure: bool, inside: _Requirement | None) -> None:
        if inside is None or node.name not in REQUIRING:
            is_limited = node.name in _BY_METHOD or node.name in REQUIRING
            self.found.setdefault(scope, []).append((node, methods if is_limited else None, sure))
            return
        inside.sure = inside.sure and sure
        if methods is not None:
            node = Section("limit", " ".join(sorted(methods)), node.line, (node,), node.file)
        inside.nodes.append(node)

    def _refusal(self, node: Node, inside: _Requirement | None) -> str:
        """Why a server refuses a line where it stands, in words; empty where it does not."""
        if self._is_running:
            return ""
        if is_not_here(node.name):
            return f"{titled(node.name)} is not allowed in a control file"
        if not is_allowed(node.name, self._server.overrides, self._server.allowed):
            return f"{titled(node.name)} is not allowed here by AllowOverride"
        if isinstance(node, Directive) and node.name in SECTIONS:
            return f"{titled(node.name)} is a section, and stands in angle brackets"
        if isinstance(node, Section) and node.name in REQUIRING and node.text.strip():
            return f"<{titled(node.name)}> takes no arguments"
        if inside is not None and (node.name in _FOR_SOME or not is_allowed(node.name, _WHO_GETS_IN)):
            return f"{titled(node.name)} may not stand within <{titled(inside.name)}>"
        return ""

    def _section(
        self,
        node: Section,
        scope: Scope,
        methods: Methods,
        sure: bool,
        vouched: frozenset[str],
        inside: _Requirement | None,
    ) -> SyntaxFault | None:
        """File the lines of a section, under the requests that they hold for."""
        why = _section_fault(node, methods)
        if why:
            return SyntaxFault(node.line, f"<{titled(node.name)}>: {why}")
        if node.name in ASKING:
            is_met = self._is_met(node, methods, inside)
            if is_met is False and any(line.name == NOT_CLOSED.lower() for line in node.inner):
                return SyntaxFault(node.line, f"<{titled(node.name)}> is not closed")
            if is_met is False:
                return None
            if odd := [line for line in node.inner if line.name == ODDLY_CLOSED.lower()]:
                return SyntaxFault(odd[0].line, f"<{titled(node.name)}> is not closed by the line alone")
            sure = sure and is_met is True
        elif node.name in ("limit", "limitexcept"):
            methods = limited_to(node, methods)
        elif node.name in _FOR_SOME:
            scope, sure = _scope_of(node, scope), sure and _is_run_here(node)
        else:
            within = _Requirement(node.name)
            fault = self.sort(node.inner, scope, methods, sure, vouched, within)
            whole = Section(node.name, node.text, node.line, tuple(within.nodes), node.file)
            self._file(whole, scope, None, sure and within.sure, inside)
            return fault
        inner = tuple(line for line in node.inner if line.name != NOT_CLOSED.lower())
        if node.name == "ifmodule" and not node.text.strip().startswith("!"):
            vouched |= {module_name(split_first(node.text)[0])}
        return self.sort(inner, scope, methods, sure, vouched, inside)

    def _is_met(self, node: Section, methods: Methods, inside: _Requirement | None) -> bool | None:
        """Whether what a section asks for is so, by itself or as it is assumed; None where nothing tells."""
        is_met = holds(node, self._server)
        if is_met is not None or not any(self._matters(line, methods, inside) for line in node.inner):
            return is_met
        words = node.text.strip().strip("\"'").lstrip("!").strip().lower()
        module = module_name(words) if node.name == "ifmodule" else ""
        on = self._server.untold(module) if module else say("doubt/server-has")
        known = self._assumed(f"<{node.name} {module or words}>", node, f"<{node.name} {words}>", on, usual=False)
        return known if known is None else known != node.text.strip().startswith("!")

    def _matters(self, node: Node, methods: Methods, inside: _Requirement | None) -> bool:
        """Whether it makes a difference that a line is there: it has a say, or a server refuses it."""
        if has_say(node) or self._refusal(node, inside):
            return True
        if isinstance(node, Directive):
            return bool(refusal(node.name, node.words))
        if _section_fault(node, methods):
            return True
        within = limited_to(node, methods) if node.name in ("limit", "limitexcept") else methods
        return any(self._matters(line, within, inside) for line in node.inner)

    def _is_there(self, node: Node, vouched: frozenset[str]) -> bool:
        """Whether the server has the module of a directive, as far as that is known, or assumed."""
        if self._is_running:
            return True
        module = module_of(node.name)
        if isinstance(node, Directive) and node.name == "require":  # for what that asks nobody vouches
            module, vouched = module_asked(node), frozenset()
        if self._is_vouched(module, vouched) or module == "core":
            return True
        if (known := self._server.says(module)) is not None:
            return known
        on = self._server.untold(module) if is_named(module) else say("doubt/server-has")
        text = f"{titled(node.name)} {node.text}".strip()
        return self._assumed(f"<ifmodule {module}>", node, text, on, usual=True) is not False

    def _is_vouched(self, module: str, vouched: frozenset[str]) -> bool:
        """Whether a section asked for a module, or for one of which nothing tells, as nothing tells of this one."""
        if module in vouched or any(name.startswith(module) for name in vouched):  # php7 is php
            return True
        return not is_module(module) and any(name not in self._server.has for name in vouched)

    def _assumed(self, about: str, node: Node, text: str, on: Message, usual: bool) -> bool | None:
        """What is assumed of a condition; where nothing is so far, it is noted."""
        if about not in self._held:
            self.unknown.setdefault(about, UnknownCondition(about, node.line, text, on, usual))
        return self._held.get(about)


def _lone_else(nodes: Iterable[Node]) -> SyntaxFault | None:
    """The first `<Else>` or `<ElseIf>` that no `<If>` stands before."""
    is_asked = False
    for node in nodes:
        if node.name in ("else", "elseif") and not is_asked:
            return SyntaxFault(node.line, f"<{titled(node.name)}> follows no <If>")
        is_asked = is_asked or node.name == "if"
    return None


def _scope_of(node: Section, scope: Scope) -> Scope:
    """For what requests the lines of a section hold that stands where those of `scope` do."""
    is_nested = scope.files is not None or scope.expression is not None
    if node.name in ("files", "filesmatch"):  # which a server looks for in folders alone
        return Scope(_matcher(node)) if not is_nested else Scope(lambda _name: False, is_nested=True)
    return scope._replace(expression=f"{node.name} {node.text}", is_nested=scope.expression is not None)


def limited_to(node: Section, methods: Methods) -> frozenset[str]:
    """The methods that a `<Limit>` or `<LimitExcept>` leaves of those of the sections around it."""
    named = frozenset(map(restricting, node.words))
    if node.name == "limitexcept":
        named = frozenset(f"!{name}" for name in named)
    if methods is None:
        return named
    every, own = methods | named, {name for name in methods | named if name[0] != "!"}
    if not own:
        return every
    return frozenset(name for name in own if is_among(name, methods) and is_among(name, named))


def _limit_fault(node: Section, methods: Methods) -> str:
    """Why a server refuses a `<Limit>` or `<LimitExcept>` within another one, in words; empty where it does not."""
    left = limited_to(node, methods)
    if left == methods:
        return "it leaves the methods that the section around it has"
    return "" if left else "it leaves no method"


def _section_fault(node: Section, methods: Methods) -> str:
    """Why a server refuses a section, in words; empty where it takes it."""
    words = node.words
    if node.name in ("files", "filesmatch", "if", "elseif", "limit", "limitexcept", *ASKING) and not node.text.strip():
        return "it says not for what"
    if methods is not None and node.name in _FOR_SOME:
        return "it may not stand within <Limit>"
    if node.name in ("limit", "limitexcept"):
        return methods_fault(words) or _limit_fault(node, methods)
    if node.name == "files" and words[0] != "~" and len(words) > 1:
        return "it takes one name"
    if node.name in ("if", "elseif"):
        return "it takes one expression" if len(words) > 1 else expression_fault(words[0])
    if node.name == "filesmatch" or (node.name == "files" and words[0] == "~" and len(words) > 1):
        return pattern_fault(words[-1])
    return ""


def holds(node: Section, server: WebServer = SERVERS["apache"]) -> bool | None:
    """Whether a section that asks for a module, a version or a definition holds; None where nothing tells."""
    asked = split_first(node.text)[0].strip()
    is_negated = asked.startswith("!")
    asked = asked.lstrip("!").strip()
    if node.name == "ifmodule":
        name = module_name(asked)
        known = server.says(name)
    elif node.name == "ifdefine":  # which takes no quotes off
        known, is_negated = False, node.text.startswith("!")
    elif node.name == "ifversion":
        known = _version_holds(node.words) if node.text[:1] not in ('"', "'") else None
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


def _file_pattern(node: Section) -> str | None:
    """The pattern of names that a section has; None where it is a name with wildcards."""
    words = node.words
    if node.name == "files" and (not words or words[0] != "~"):
        return None
    return words[1] if node.name == "files" and len(words) > 1 else (words[0] if words else "")


def _is_run_here(node: Section) -> bool:
    """Whether it can be told which files a section is for."""
    pattern = _file_pattern(node) if node.name in ("files", "filesmatch") else None
    try:
        return pattern is None or compiled(pattern) is not None
    except PatternTrouble:
        return False


def _matcher(node: Section) -> Callable[[str], bool]:
    words, pattern = node.words, _file_pattern(node)
    if pattern is None:
        return lambda name: matches_wildcards(name, words[0] if words else "")

    def matches(name: str) -> bool:
        try:
            return search(pattern, name) is not None
        except PatternTrouble:
            return True  # its lines are doubts then

    return matches
