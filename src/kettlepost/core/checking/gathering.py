"""Telling many findings of one kind in an account as one: work that is done for all of them at once."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence

from msgspec.structs import replace

from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.words import listed

FEW = 3
"""So many are told one by one."""


def gathered(findings: Sequence[Finding]) -> list[Finding]:
    """The findings as they are told: where an account has many of a kind that is mended at once, as one."""
    many: dict[tuple[str, str, str], list[int]] = defaultdict(list)
    for number, found in enumerate(findings):
        if found.rule in _AS_ONE and any(way.remedy and way.remedy.do in _AT_ONCE for way in found.ways_out):
            many[found.account, found.rule, found.severity or ""].append(number)
    told: dict[int, Finding | None] = dict(enumerate(findings))
    for (account, rule, _), numbers in many.items():
        if len(numbers) > FEW:
            alike = [findings[number] for number in numbers]
            whole = replace(_AS_ONE[rule](account, alike), parties=[party for one in alike for party in one.parties])
            told |= dict.fromkeys(numbers) | {numbers[0]: whole}
    return [found for found in told.values() if found is not None]


def _unplanned(account: str, many: Sequence[Finding]) -> Finding:
    return replace(
        many[0],
        title=f"{len(many):,} applications are not in the plan: in {listed([found.at for found in many], FEW)}",
        why="they answer, and nobody updates what nobody has written down",
        ways_out=[
            WayOut("write them down", remedy=Remedy.of(Action.ADOPT, account), as_it_is=True),
            WayOut("of those that nobody wants, keep a copy and remove what nobody else uses, one by one"),
        ],
    )


def _without_www(account: str, many: Sequence[Finding]) -> Finding:
    sent = "people are sent there" if many[0].severity == "risk" else "people type it all the same"
    return replace(
        many[0],
        title=f"{len(many):,} domains lead nowhere with www: {listed([found.at for found in many], FEW)}",
        why=f"nobody declares www before them, and {sent}",
        ways_out=[
            WayOut(
                "have www added before each at the host and its name servers, and say that both answer",
                remedy=Remedy.of(Action.SET_WWW, "both", account),
            ),
            WayOut("if none is to answer with www", remedy=Remedy.of(Action.SET_WWW, "apart", account)),
        ],
    )


_AS_ONE: dict[str, Callable[[str, Sequence[Finding]], Finding]] = {
    "unplanned-application": _unplanned,
    "www-missing": _without_www,
}
_AT_ONCE = (Action.ADOPT, Action.SET_WWW)
