"""Control files, compiled."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import lru_cache

from msgspec import Struct, field
from msgspec.structs import replace

from kettlepost.core.webserver.directives import Node, SyntaxFault, read_directives
from kettlepost.core.webserver.rewriting import RuleFault
from kettlepost.core.webserver.sections import ControlPart, UnknownCondition, parts_of
from kettlepost.core.webserver.server import SERVERS, WebServer
from kettlepost.core.webserver.settings import DirectorySettings, PartSettings, SourceLine, merged, read_part
from kettlepost.core.webserver.traits import EVERYTHING, Traits, traits_of


class Control(Struct):
    """One control file, compiled: its parts in the order in which they are merged.

    `unknown` are conditions, such as a module that a host may have, that decide what of it holds; `perhaps` are
    lines that a server may refuse, whomever they hold for.
    """

    folder: str
    server: WebServer
    parts: tuple[ControlPart, ...] = ()
    fault: SyntaxFault | None = None
    unknown: tuple[UnknownCondition, ...] = ()
    perhaps: tuple[SourceLine, ...] = ()
    nodes: tuple[Node, ...] = ()
    traits: Traits = EVERYTHING
    variants: dict[frozenset[tuple[str, bool]], Control] = field(default_factory=dict)
    read: dict[tuple[int, str], PartSettings] = field(default_factory=dict)
    others: dict[WebServer, Control] = field(default_factory=dict)
    places: dict[str, Control] = field(default_factory=dict)

    def part(self, number: int, method: str) -> PartSettings:
        """What a part says for a method, read once. Raises RuleFault for what a server refuses."""
        known = self.read.get((number, method))
        if known is None:
            known = self.read[number, method] = read_part(self.folder, self.parts[number], method)
        return known

    def under(self, server: WebServer) -> Control:
        """The same on a server that lets control files do something else."""
        if server == self.server or not self.nodes:
            return self
        known = self.others.get(server)
        if known is None:
            known = self.others[server] = _compiled(self.folder, self.nodes, server, {})
            known.nodes = self.nodes
        return known

    def placed(self, folder: str) -> Control:
        """The same as it holds in a folder."""
        known = self.places.get(folder)
        if known is None:
            known = self.places[folder] = replace(self, folder=folder, read={}, variants={}, others={}, places={})
        return known

    def where(self, held: Mapping[str, bool]) -> Control:
        """The same where it is known of some conditions whether they hold."""
        key = frozenset(held.items())
        if key not in self.variants:
            self.variants[key] = _compiled(self.folder, self.nodes, self.server, held)
        return self.variants[key]


MOST_UNKNOWN = 6
"""How many conditions of one file are answered both ways; with more of them all lines below them are doubts."""


def compile_control(folder: str, text: str, server: WebServer = SERVERS["apache"]) -> Control:
    """A control file in `folder`, which is told from the account's home, as a server takes it."""
    return replace(_parsed(text, server), folder=folder, variants={}, read={}, others={}, places={})


@lru_cache(maxsize=1024)  # very many sites have the same few control files
def _parsed(text: str, server: WebServer) -> Control:
    """What a control file says, wherever it lies."""
    nodes, fault = read_directives(text)
    if fault is not None:
        return Control("", server, fault=fault)
    control = _compiled("", nodes, server, {})
    control.nodes = nodes
    if control.fault is None:
        control.traits = traits_of(merged(DirectorySettings(), "", part, "") for part in control.parts)
    return control


def compile_section(nodes: Iterable[Node], server: WebServer) -> Control:
    """Lines of a server's own configuration that hold for the same folders or addresses."""
    parts, fault, unknown = parts_of(nodes, server, {}, is_running=True)
    return Control("", server, parts, fault, unknown)


def _compiled(folder: str, nodes: Iterable[Node], server: WebServer, held: Mapping[str, bool]) -> Control:
    parts, fault, unknown = parts_of(nodes, server, held)
    control = Control(folder, server, parts, fault, unknown)
    if control.fault is None:
        try:
            for part in control.parts:
                control.perhaps += merged(DirectorySettings(), folder, part, "").perhaps
        except RuleFault as error:
            control.fault = SyntaxFault(error.line, error.text)
    return control
