"""The sections of a control file: for which requests their lines hold, and whether they hold on this server."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from fnmatch import fnmatchcase
from typing import NamedTuple

from kettlepost.core.webserver.access import restricting
from kettlepost.core.webserver.directives import Directive, Node, Section, SyntaxFault
from kettlepost.core.webserver.patterns import PatternTrouble, search
from kettlepost.core.webserver.vocabulary import LOADED, NOT_HERE, VERSION, has_say, is_rare


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
    for node in nodes:
        if node.name in NOT_HERE:
            return SyntaxFault(node.line, f"{node.name} is not allowed in a control file")
        if isinstance(node, Directive) or node.name.startswith("require"):
            found.setdefault(scope, []).append((node, methods, sure))
            continue
        inner_scope, inner_methods, inner_sure = scope, methods, sure
        if node.name in ASKING:
            is_met = holds(node)
            if is_met is None and (known := held.get(condition_of(node))) is not None:
                is_met = known != node.text.strip().startswith("!")
            if is_met is False:
                continue
            inner_sure = sure and is_met is True
        elif node.name in ("files", "filesmatch"):
            inner_scope = scope._replace(files=_matcher(node))
        elif node.name in ("limit", "limitexcept"):
            named = frozenset(map(restricting, node.words))
            inner_methods = named if node.name == "limit" else frozenset({f"!{name}" for name in named})
        elif node.name in ("if", "elseif", "else"):
            inner_scope = scope._replace(expression=f"{node.name} {node.text}")
        else:
            found.setdefault(scope, []).append((Directive(node.name, node.text, node.line), methods, False))
            continue
        inner = node.inner
        if node.name == "ifmodule":  # there it is seen to that the module is there
            inner = tuple(line for line in inner if not is_rare(line.name))
        trouble = _sort(inner, inner_scope, inner_methods, inner_sure, found, held)
        if trouble is not None:
            return trouble
    return None


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
