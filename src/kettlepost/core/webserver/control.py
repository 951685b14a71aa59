"""Control files, compiled."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import lru_cache

from msgspec import Struct, field

from kettlepost.core.webserver.directives import Node, SyntaxFault, read_directives
from kettlepost.core.webserver.rewriting import RuleFault
from kettlepost.core.webserver.sections import Part, condition_of, conditions, parts_of
from kettlepost.core.webserver.settings import Had, Settings, merged
from kettlepost.core.webserver.traits import EVERYTHING, Traits, traits_of


class Control(Struct):
    """One control file, compiled: its parts in the order in which they are merged.

    `unknown` are conditions, such as a module that a host may have, that decide what of it holds.
    """

    folder: str
    parts: tuple[Part, ...]
    fault: SyntaxFault | None = None
    unknown: tuple[Had, ...] = ()
    nodes: tuple[Node, ...] = ()
    traits: Traits = EVERYTHING
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
    nodes, parts, fault, unknown, traits = _parsed(text)
    return Control(folder, parts, fault, tuple(Had(folder, line, told) for told, line in unknown), nodes, traits)


_Parsed = tuple[tuple[Node, ...], tuple[Part, ...], SyntaxFault | None, tuple[tuple[str, int], ...], Traits]


@lru_cache(maxsize=1024)  # very many sites have the same few control files
def _parsed(text: str) -> _Parsed:
    """What a control file says, wherever it lies: its lines, its parts, its first fault, and its open conditions."""
    nodes, fault = read_directives(text)
    if fault is not None:
        return (), (), fault, (), EVERYTHING
    control = _compiled("", nodes, {})
    unknown = {condition_of(node): node.line for node in reversed(list(conditions(nodes)))}
    if control.fault is not None or len(unknown) > MOST_UNKNOWN:
        unknown = {}
    traits = traits_of(nodes) if control.fault is None else EVERYTHING
    return nodes, control.parts, control.fault, tuple(reversed(unknown.items())), traits


def _compiled(folder: str, nodes: Iterable[Node], held: Mapping[str, bool]) -> Control:
    parts, fault = parts_of(nodes, held)
    control = Control(folder, parts, fault)
    if control.fault is None:
        try:
            for part in control.parts:
                merged(Settings(), folder, part)
        except RuleFault as error:
            control.fault = SyntaxFault(error.line, error.text)
    return control
