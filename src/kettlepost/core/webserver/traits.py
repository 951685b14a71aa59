"""What kinds of things a control file does at all, so that nobody asks for what it cannot do."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from kettlepost.core.webserver.directives import Directive, Node
from kettlepost.core.webserver.rewriting import Rule, RuleFault, rules_in
from kettlepost.core.webserver.vocabulary import has_say

_SENDING = ("redirect", "redirectmatch", "redirectpermanent", "redirecttemp", "directoryindexredirect", "errordocument")
_GUARDS = frozenset(("%{REQUEST_FILENAME}", "%{SCRIPT_FILENAME}"))


class Traits(NamedTuple):
    """What a control file may do: send visitors elsewhere, ask for a password, hand paths on, and anything else."""

    sends: bool
    asks: bool
    hands: bool
    others: bool
    rules: tuple[Rule, ...]

    def may_touch(self, rest: str) -> bool:
        """Whether it may make anything of a folder or file that is there, `rest` from where the control file lies."""
        return self.others or any(_may_touch(rule, rest) for rule in self.rules)


EVERYTHING = Traits(True, True, True, True, ())
"""Of a file of which nothing is known."""


def traits_of(nodes: Iterable[Node]) -> Traits:
    """What a control file's lines may do, wherever they stand."""
    found = list(_directives(nodes))
    try:
        rules = rules_in(tuple(line for line in found if line.name.startswith("rewrite")))
    except RuleFault:
        return EVERYTHING
    sends = any(rule.redirects or "://" in rule.target for rule in rules) or any(
        line.name in _SENDING for line in found
    )
    asks = any(line.name == "authtype" for line in found)
    hands = any(rule.target != "-" for rule in rules) or any(line.name == "fallbackresource" for line in found)
    others = any(not line.name.startswith("rewrite") and has_say(line) for line in found)
    return Traits(sends, asks, hands, others, rules)


def _directives(nodes: Iterable[Node]) -> Iterator[Directive]:
    for node in nodes:
        if isinstance(node, Directive):
            yield node
        elif node.name.startswith("require"):
            yield Directive(node.name, node.text, node.line)
        else:
            yield from _directives(node.inner)


def _may_touch(rule: Rule, rest: str) -> bool:
    if rule.begins and not rest.startswith(rule.begins) and not rule.begins.startswith(rest):
        return False
    if rule.target == "-" and rule.status is None:
        return False
    guards = [one for one in rule.conditions if one.negated and one.tested.upper() in _GUARDS and not one.or_next]
    if any(one.or_next for one in rule.conditions):
        return True
    return not {"-f", "-d"} <= {one.pattern for one in guards}
