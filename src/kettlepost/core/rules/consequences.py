"""Consequences: a finding that only repeats another's cause is told of as what follows from that."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from msgspec.structs import replace

from kettlepost.core.plan import RecordId
from kettlepost.core.rules.findings import SEVERITIES, Finding

Mark = str | RecordId
"""What findings are looked up by: a place, or a record that has a part in them."""


class Follows(NamedTuple):
    """How a finding follows from another: what it is looked up by, and whether it really does.

    The cause is looked up by its place and by the records that have a part in it.
    """

    by: Callable[[Finding], Iterable[Mark]]
    holds: Callable[[Finding, Finding], bool]


Causes = Mapping[str, Mapping[str, Follows]]
"""By the slug of each rule that may be a cause: the rules whose findings may follow from its own, and how."""


def _ways_up(found: Finding) -> Iterator[str]:
    """The place of a finding and every folder above it."""
    place = found.at
    while place:
        yield place
        place = place.rpartition("/")[0]
    yield "(home)"


AMONG_ITS_DOMAINS = Follows(
    lambda other: other.about[:1], lambda cause, other: len(set(other.about)) > 1 and set(other.about) <= cause.records
)
"""Both sides of it come in by domains that the cause is about."""
BETWEEN_THE_SAME = Follows(
    lambda other: sorted(other.records)[:1],
    lambda cause, other: len(other.records) > 1 and other.records <= cause.records,
)
"""All that have a part in it have one in the cause."""
AT_THE_SAME = Follows(lambda other: (other.at,), lambda cause, other: cause.at == other.at)
"""Both are at one place."""
INSIDE = Follows(_ways_up, lambda cause, other: cause.at in _ways_up(other))
"""It is in the cause's place, or in a folder inside."""


def _filed(findings: Sequence[Finding], some: Iterable[int], follows: Follows) -> dict[Mark, list[int]]:
    """Some findings by the marks by which they may follow from another."""
    filed: dict[Mark, list[int]] = defaultdict(list)
    for number in some:
        for mark in follows.by(findings[number]):
            filed[mark].append(number)
    return filed


def fold(findings: Sequence[Finding], causes: Causes) -> list[Finding]:
    """`findings` of one account without those that follow from others, which tell of them instead.

    A finding is never folded into a milder one, so that nothing that stops is made less of.
    """
    by_rule: dict[str, list[int]] = defaultdict(list)
    for number, found in enumerate(findings):
        by_rule[found.rule].append(number)
    if len(by_rule) < 2:
        return list(findings)
    told: dict[int, list[str]] = {}
    folded: set[int] = set()
    for cause_rule, followers in causes.items():
        of_cause = by_rule.get(cause_rule, [])
        for rule, follows in followers.items() if of_cause else ():
            filed = _filed(findings, by_rule.get(rule, ()), follows)
            for cause in (one for one in of_cause if one not in folded) if filed else ():
                for other in dict.fromkeys(one for mark in _marks(findings[cause]) for one in filed.get(mark, ())):
                    if other not in folded and _follows(findings[cause], findings[other], follows):
                        folded.add(other)
                        what = [findings[other].title, *findings[other].follows, *told.pop(other, ())]
                        told.setdefault(cause, []).extend(what)
    return [
        replace(found, follows=(*found.follows, *told[number])) if number in told else found
        for number, found in enumerate(findings)
        if number not in folded
    ]


def _marks(cause: Finding) -> list[Mark]:
    return [cause.at, *sorted(cause.records)]


def _follows(cause: Finding, other: Finding, follows: Follows) -> bool:
    return SEVERITIES.index(other.severity or "stop") >= SEVERITIES.index(cause.severity or "stop") and follows.holds(
        cause, other
    )
