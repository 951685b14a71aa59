r"""Acceptances: findings that were looked at and are lived with, by rule and place.

The place of an `[[accept]]` is tried as it is written first. Where no finding of its rule is there,
it is a pattern in which `*` stands for any text, and `\*` for a star itself.
"""

from __future__ import annotations

import datetime
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from kettlepost.core.errors import Fault
from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import say
from kettlepost.core.names import did_you_mean, quoted
from kettlepost.core.plan import AcceptEntry, Change
from kettlepost.core.rules.findings import Finding, Party, WayOut
from kettlepost.core.rules.parties import party
from kettlepost.core.rules.registry import page_only, slugs
from kettlepost.core.secrets import masked
from kettlepost.core.steps import CompleteEntry

STALE = "stale-accept"
"""The rule about acceptances themselves."""
_STAR = re.compile(r"\\[*]|[*]")


class Acceptance(Struct, array_like=True, frozen=True):
    """An `[[accept]]` of an account: what it is for, until when, and where it stands."""

    rule: str
    at: str
    until: datetime.date | None
    number: int
    party: Party

    def is_past(self, today: datetime.date) -> bool:
        return self.until is not None and today > self.until


def exactly(place: str) -> str:
    """A place as an `[[accept]]` writes it that means no other."""
    return place.replace("*", r"\*")


def matches(pattern: str, text: str) -> bool:
    r"""Whether `text` fits a pattern in which `*` is any text and `\*` a star; in time linear in both."""
    first, *rest = _pieces(pattern)
    if not rest:
        return text == first
    *middle, last = rest
    if not text.startswith(first) or len(text) < len(first) + len(last) or not text.endswith(last):
        return False
    at, end = len(first), len(text) - len(last)
    for piece in middle:
        found = text.find(piece, at, end)
        if found < 0:
            return False
        at = found + len(piece)
    return True


def acceptances(layout: AccountLayout) -> tuple[list[Acceptance], list[Fault]]:
    """The acceptances of an account, and what is wrong with those that name no rule."""
    account, known = layout.account, slugs() if layout.account.accepts else {}
    faults = []
    for accept in account.accepts:
        if accept.finding not in known:
            near = did_you_mean(accept.finding, known)
            text = f"finding {quoted(accept.finding)} is no rule{near}"
            faults.append(account.place(accept, "finding").fault("unknown-rule", text))
    return [_acceptance(layout, accept, known) for accept in account.accepts], faults


class Accepted:
    """What is accepted of the findings of an account on one day."""

    def __init__(self, accepts: Sequence[Acceptance], findings: Sequence[Finding], today: datetime.date):
        self._accepts, self._today = accepts, today
        places: dict[str, dict[str, None]] = defaultdict(dict)
        for found in findings:
            places[found.rule][found.at] = None
        self._met = {accept.number: _met(accept.at, places[accept.rule]) for accept in accepts if accept.rule in places}
        self._hidden = {
            (accept.rule, place)
            for accept in accepts
            if not accept.is_past(today)
            for place in self._met.get(accept.number, ())
        }

    def hides(self, found: Finding) -> bool:
        return (found.rule, found.at) in self._hidden

    def stale(self) -> Iterator[Acceptance]:
        """Those that match nothing, and those that are past their date, but for what is accepted in its turn."""
        lived_with = [accept.at for accept in self._accepts if accept.rule == STALE and not accept.is_past(self._today)]
        for accept in self._accepts:
            if accept.rule == STALE or any(_met(place, {accept.at: None}) for place in lived_with):
                continue
            if accept.is_past(self._today) or not self._met.get(accept.number):
                yield accept


def _met(written: str, places: dict[str, None]) -> Iterable[str]:
    """Of `places` the one that is written, else those that fit the pattern."""
    if written in places:
        return (written,)
    return [place for place in places if matches(written, place)] if "*" in written else ()


def _pieces(pattern: str) -> list[str]:
    """The literal texts between the stars of a pattern."""
    pieces, at = [""], 0
    for star in _STAR.finditer(pattern):
        pieces[-1] += pattern[at : star.start()]
        at = star.end()
        if star[0] == "*":
            pieces.append("")
        else:
            pieces[-1] += "*"
    pieces[-1] += pattern[at:]
    return pieces


def _acceptance(layout: AccountLayout, accept: AcceptEntry, known: dict[str, str]) -> Acceptance:
    said = party(layout.account, accept, "acceptance", quoted(masked(accept.because)))
    return Acceptance(known.get(accept.finding, accept.finding), accept.at, accept.until, accept.number, said)


@page_only("stale-accept", "note")
def stale_accept(accepted: Acceptance, name: str, is_past: bool) -> Finding:
    """An acceptance matches nothing, or its date is past.

    What it was for is mended, or was renamed, and then it waits to hide the next finding at that
    place. After its date it hides nothing any more, and the finding is shown again.

    Bad:

        [[accept]]
        finding = "nested-root"
        at = "www/choir"
        because = "the choir moves to its own account in spring"

    Good:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "www/choir"

        [[accept]]
        finding = "nested-root"
        at = "www/choir"
        because = "the choir moves to its own account in spring"

    Ways out:

    - take it out;
    - where it is past its date and still wanted, give it a later one.
    """
    matched = (
        say("stale-accept/accepted-until", until=accepted.until)
        if is_past
        else say("stale-accept/accepted-such-finding")
    )
    ways = [
        WayOut(
            say("stale-accept/take-acceptance-out", where=accepted.party.where),
            [Change(name, "accept", accepted.number, drop=True)],
        )
    ]
    if is_past:
        later = CompleteEntry(name, "accept", accepted.number, ("until",))
        ways.append(WayOut(say("stale-accept/still-lived-give"), steps=[later]))
    return Finding(
        at=accepted.at,
        title=say("stale-accept/title", rule=accepted.rule, at=accepted.at, matched=matched),
        why=say("stale-accept/why") if is_past else say("stale-accept/why-waits"),
        parties=[accepted.party],
        ways_out=ways,
        account=name,
        rule="stale-accept",
        severity="note",
    )
