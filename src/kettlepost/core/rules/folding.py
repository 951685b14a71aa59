"""Folding: a finding that only repeats another's cause is told of as what follows from that."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from kettlepost.core.rules.finding import SEVERITIES, Finding


class Follows(NamedTuple):
    """How a finding follows from another: what it is looked up by, and whether it really does.

    The cause is looked up by its place and by the records that have a part in it.
    """

    by: Callable[[Finding], Iterable[str]]
    holds: Callable[[Finding, Finding], bool]


def _ways_up(found: Finding) -> Iterator[str]:
    """The place of a finding and every folder above it."""
    place = found.at
    while place:
        yield place
        place = place.rpartition("/")[0]
    yield "(home)"


_among_its_domains = Follows(
    lambda other: other.about[:1], lambda cause, other: len(set(other.about)) > 1 and set(other.about) <= cause.keys
)
"""Both sides of it come in by domains that the cause is about."""
_between_the_same = Follows(
    lambda other: sorted(other.keys)[:1], lambda cause, other: len(other.keys) > 1 and other.keys <= cause.keys
)
_at_the_same = Follows(lambda other: (other.at,), lambda cause, other: cause.at == other.at)
_inside = Follows(_ways_up, lambda cause, other: cause.at in _ways_up(other))

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
        causes = by_rule.get(cause_rule, [])
        for rule, follows in followers.items() if causes else ():
            filed: dict[str, list[Finding]] = defaultdict(list)
            for other in by_rule.get(rule, ()):
                for name in follows.by(other):
                    filed[name].append(other)
            for cause in causes if filed else ():
                if id(cause) not in folded:
                    _fold_into(
                        cause,
                        (other for name in (cause.at, *cause.keys) for other in filed.get(name, ())),
                        follows,
                        folded,
                    )
    return [found for found in findings if id(found) not in folded]


def _fold_into(cause: Finding, others: Iterable[Finding], follows: Follows, folded: set[int]) -> None:
    for other in others:
        if id(other) not in folded and _no_worse(other, cause) and follows.holds(cause, other):
            folded.add(id(other))
            cause.follows += [other.title, *other.follows]


def _no_worse(other: Finding, cause: Finding) -> bool:
    return SEVERITIES.index(other.severity) >= SEVERITIES.index(cause.severity)
