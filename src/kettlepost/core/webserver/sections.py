"""The sections of a control file: for which requests their lines hold, and whether they hold on this server."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from fnmatch import fnmatchcase
from typing import NamedTuple

from kettlepost.core.webserver.access import restricting
from kettlepost.core.webserver.arguments import methods_fault, pattern_fault
from kettlepost.core.webserver.directives import NOT_CLOSED, Directive, Node, Section, SyntaxFault
from kettlepost.core.webserver.patterns import PatternTrouble, search
from kettlepost.core.webserver.vocabulary import LOADED, VERSION, has_say, is_not_here, is_rare, titled


class Scope(NamedTuple):
    """For what requests the lines of a part hold: a file's name, an expression, a method."""

    files: Callable[[str], bool] | None = None
    expression: str | None = None


class Part(NamedTuple):
    """Lines of a control file that hold for the same requests."""

    scope: Scope
    nodes: tuple[Line, ...]


Line = tuple[Node, frozenset[str] | None, bool]
"""A directive, the methods for which it holds (None for all), and whether it is sure that it holds at all."""


def parts_of(nodes: Iterable[Node], held: Mapping[str, bool]) -> tuple[tuple[Part, ...], SyntaxFault | None]:
    """The parts of a file in the order in which they are merged, and the first line that is refused.

    `held` says of conditions that nothing tells whether they hold.
    """
    found: dict[Scope, list[Line]] = {Scope(): []}
    fault = _sort(nodes, Scope(), None, True, found, held)
    parts = [Part(scope, tuple(lines)) for scope, lines in found.items()]
    parts.sort(key=lambda part: (part.scope.expression is not None, part.scope.files is not None))
    return tuple(parts), fault


def conditions(nodes: Iterable[Node]) -> Iterator[Section]:
    """The sections whose condition nothing tells, and in which something has a say."""
    for node in nodes:
        if isinstance(node, Section):
            if node.name in ASKING and holds(node) is None and any(has_say(inner) for inner in node.inner):
                yield node
            yield from conditions(node.inner)


def condition_of(node: Section) -> str:
    """What a section asks for, however it asks."""
    return f"<{node.name} {node.text.strip().lstrip('!').strip().lower()}>"


ASKING = ("ifmodule", "ifversion", "ifdefine", "iffile", "ifdirective", "ifsection")


def _sort(
    nodes: Iterable[Node], scope: Scope, methods: frozenset[str] | None, sure: bool,
    found: dict[Scope, list[Line]], held: Mapping[str, bool],
) -> SyntaxFault | None:  # fmt: skip
    """File lines under the requests that they hold for; gives the first that is refused in a control file."""
    nodes = tuple(nodes)
    fault = _lone_else(nodes)
    if fault is not None:
        return fault
    for node in nodes:
        if is_not_here(node.name):
            return SyntaxFault(node.line, f"{titled(node.name)} is not allowed in a control file")
        if isinstance(node, Directive) or node.name.startswith("require"):
            found.setdefault(scope, []).append((node, methods, sure))
            continue
        trouble = _sort_section(node, scope, methods, sure, found, held)
        if trouble is not None:
            return trouble
    return None


def _sort_section(
    node: Section, scope: Scope, methods: frozenset[str] | None, sure: bool,
    found: dict[Scope, list[Line]], held: Mapping[str, bool],
) -> SyntaxFault | None:  # fmt: skip
    """The lines of a section, under the requests that they hold for."""
    why = _section_fault(node, methods)
    if why:
        return SyntaxFault(node.line, f"<{titled(node.name)}>: {why}")
    if node.name in ASKING:
        is_met = _is_met(node, held)
        if is_met is False and any(line.name == NOT_CLOSED.lower() for line in node.inner):
            return SyntaxFault(node.line, f"<{titled(node.name)}> is not closed")
        if is_met is False:
            return None
        sure = sure and is_met is True
    elif node.name in ("limit", "limitexcept"):
        named = frozenset(map(restricting, node.words))
        methods = named if node.name == "limit" else frozenset({f"!{name}" for name in named})
    elif node.name in ("files", "filesmatch", "if", "elseif", "else"):
        scope = _scope_of(node, scope)
    else:
        found.setdefault(scope, []).append((Directive(node.name, node.text, node.line), methods, False))
        return None
    inner = tuple(line for line in node.inner if line.name != NOT_CLOSED.lower())
    if node.name == "ifmodule":  # there it is seen to that the module is there
        inner = tuple(line for line in inner if not is_rare(line.name))
    return _sort(inner, scope, methods, sure, found, held)


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
    if node.name in ("files", "filesmatch"):
        return scope._replace(files=_matcher(node))
    return scope._replace(expression=f"{node.name} {node.text}")


def _is_met(node: Section, held: Mapping[str, bool]) -> bool | None:
    """Whether what a section asks for is so, by itself or as it is assumed; None where nothing tells."""
    is_met = holds(node)
    if is_met is None and (known := held.get(condition_of(node))) is not None:
        return known != node.text.strip().startswith("!")
    return is_met


def _section_fault(node: Section, methods: frozenset[str] | None) -> str:
    """Why a server refuses a section, in words; empty where it takes it."""
    words = node.words
    if node.name in ("files", "filesmatch", "if", "elseif", "limit", "limitexcept", *ASKING) and not node.text.strip():
        return "it says not for what"
    if methods is not None and node.name in ("files", "filesmatch", "if", "elseif", "else"):
        return "it may not stand within <Limit>"
    if node.name in ("limit", "limitexcept"):
        return methods_fault(words)
    if node.name == "files" and words[0] != "~" and len(words) > 1:
        return "it takes one name"
    if node.name == "filesmatch" or (node.name == "files" and words[0] == "~" and len(words) > 1):
        return pattern_fault(words[-1])
    return ""


def holds(node: Section) -> bool | None:
    """Whether a section that asks for a module, a version or a definition holds; None where nothing tells."""
    asked = node.text.strip().strip("\"'")
    is_negated = asked.startswith("!")
    asked = asked.lstrip("!").strip()
    if node.name == "ifmodule":
        name = asked.lower().removeprefix("mod_").removesuffix(".c").removesuffix("_module")
        known: bool | None = True if name in LOADED else None
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
