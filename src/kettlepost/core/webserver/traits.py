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

    def begins_that_matter(self, rest: str) -> list[str] | None:
        """How names in a folder begin, `rest` from where the control file lies, of which a rule may make its own.

        All other names that are not there are one to it; None where that cannot be told.
        """
        if self.others:
            return None
        found = []
        for rule in self.rules:
            if rule.begins and not rest.startswith(rule.begins):
                if rule.begins.startswith(rest):
                    found.append(rule.begins[len(rest) :])
            elif rule.negated or rule.pattern not in _ANY or not _is_one_for_all(rule):
                return None
        return found


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
    others = others or any(line.name == "rewriteoptions" for line in found)  # rules may then hold further down
    return Traits(sends, asks, hands, others, rules)


def _directives(nodes: Iterable[Node]) -> Iterator[Directive]:
    for node in nodes:
        if isinstance(node, Directive):
            yield node
        elif node.name.startswith("require"):
            yield Directive(node.name, node.text, node.line)
        else:
            yield from _directives(node.inner)


_ANY = frozenset((".", "^", ".*", "^.*", "^.*$", "(.*)", "^(.*)$", "^(.+)$", "^.+$"))
_FILE_TESTS = ("-f", "-d", "-l", "-s")
_OF_THE_HOST = frozenset(("%{HTTPS}", "%{HTTP_HOST}", "%{SERVER_PORT}", "%{REQUEST_METHOD}", "%{QUERY_STRING}"))


def _is_one_for_all(rule: Rule) -> bool:
    """Whether a rule makes the same of every name that is not there."""
    if "$" in rule.target or "%" in rule.target or rule.variables or rule.again or rule.proxy:
        return False
    tested = [(one.tested.upper(), one.pattern) for one in rule.conditions]
    return all(text in _OF_THE_HOST or (text in _GUARDS and test in _FILE_TESTS) for text, test in tested)


def _may_touch(rule: Rule, rest: str) -> bool:
    if rule.begins and not rest.startswith(rule.begins) and not rule.begins.startswith(rest):
        return False
    if rule.target == "-" and rule.status is None:
        return False
    guards = [one for one in rule.conditions if one.negated and one.tested.upper() in _GUARDS and not one.or_next]
    if any(one.or_next for one in rule.conditions):
        return True
    return not {"-f", "-d"} <= {one.pattern for one in guards}
