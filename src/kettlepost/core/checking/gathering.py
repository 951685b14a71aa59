"""Telling many findings of one kind in an account as one: work that is done for all of them at once."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence

from msgspec.structs import replace

from kettlepost.core.messages import say
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.findings import Finding, WayOut

FEW = 3
"""How many are told one by one."""


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
        title=say("unplanned/title", many=len(many), ats=[found.at for found in many]),
        why=say("unplanned/why"),
        ways_out=[
            WayOut(say("unplanned/write-them-down"), remedy=Remedy.of(Action.ADOPT, account), as_it_is=True),
            WayOut(say("unplanned/those-nobody-wants")),
        ],
    )


def _without_www(account: str, many: Sequence[Finding]) -> Finding:
    sent = say("without-www/people-sent") if many[0].severity == "risk" else say("without-www/server-without-www")
    return replace(
        many[0],
        title=say("without-www/title", many=len(many), ats=[found.at for found in many]),
        why=say("without-www/why", sent=sent),
        ways_out=[
            WayOut(say("without-www/www-added-before"), remedy=Remedy.of(Action.SET_WWW, "both", account)),
            WayOut(say("without-www/none-answer-www"), remedy=Remedy.of(Action.SET_WWW, "apart", account)),
        ],
    )


_AS_ONE: dict[str, Callable[[str, Sequence[Finding]], Finding]] = {
    "unplanned-application": _unplanned,
    "www-missing": _without_www,
}
_AT_ONCE = (Action.ADOPT, Action.SET_WWW)
