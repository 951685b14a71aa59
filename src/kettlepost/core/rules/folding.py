"""Folding: a finding that only repeats another's cause is told of as what follows from that."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable

from kettlepost.core.rules.finding import SEVERITIES, Finding

Follows = Callable[[Finding, Finding], bool]


def _among_its_domains(cause: Finding, other: Finding) -> bool:
    """Both sides of it come in by domains that the cause is about."""
    return len(set(other.about)) > 1 and set(other.about) <= cause.keys


def _between_the_same(cause: Finding, other: Finding) -> bool:
    return len(other.keys) > 1 and other.keys <= cause.keys


def _at_the_same(cause: Finding, other: Finding) -> bool:
    return cause.at == other.at


def _inside(cause: Finding, other: Finding) -> bool:
    return other.at == cause.at or other.at.startswith(cause.at + "/") or cause.at == "(home)"


_CAUSES: dict[str, dict[str, Follows]] = {
    "shared-root": {
        "same-folder": _among_its_domains,
        "nested-installation": _among_its_domains,
        "same-application-nested": _among_its_domains,
        "root-missing": _at_the_same,
        "empty-root": _at_the_same,
        "index-contest": _at_the_same,
    },
    "root-is-home": {"private-exposed": _inside, "empty-root": _at_the_same},
    "nested-root": dict.fromkeys(("nested-installation", "same-application-nested"), _among_its_domains),
    "address-twice": {"same-folder": _between_the_same},
    "same-folder": {"same-tables": _between_the_same},
    "folder-occupied": {"folder-exists": _at_the_same, "placeholder-left": _at_the_same, "untidy-name": _at_the_same},
    "folder-exists": {"placeholder-left": _at_the_same},
    "path-shadowed": dict.fromkeys(("nested-installation", "same-application-nested"), _between_the_same),
    "root-outside-home": {"root-through-link": _at_the_same},
    "root-missing": {"plan-and-survey-differ": _inside},
    "placeholder-wins": {"placeholder-left": _at_the_same},
    "case-twin": {"untidy-name": _at_the_same},
    "reserved-path": {"untidy-name": _at_the_same},
}  # fmt: skip
"""Which rules' findings may follow from which, and when they do."""


def fold(findings: list[Finding]) -> list[Finding]:
    """`findings` of one account without those that follow from others, which tell of them instead.

    A finding is never folded into a milder one, so that nothing that stops is made less of.
    """
    by_rule: dict[str, list[Finding]] = defaultdict(list)
    for found in findings:
        by_rule[found.rule].append(found)
    if len(by_rule) < 2:
        return findings
    folded: set[int] = set()
    for cause_rule, followers in _CAUSES.items():
        for cause in by_rule.get(cause_rule, ()):
            if id(cause) in folded:
                continue
            for rule, follows in followers.items():
                for other in by_rule.get(rule, ()):
                    if id(other) not in folded and _no_worse(other, cause) and follows(cause, other):
                        folded.add(id(other))
                        cause.follows += [other.title, *other.follows]
    return [found for found in findings if id(found) not in folded]


def _no_worse(other: Finding, cause: Finding) -> bool:
    return SEVERITIES.index(other.severity) >= SEVERITIES.index(cause.severity)
