"""What two checks of a plan differ in."""

from __future__ import annotations

import datetime
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping

from msgspec import Struct

from kettlepost.core.messages import Words
from kettlepost.core.plan import RecordId
from kettlepost.core.rules import AccountFindings, Finding, Party, settled


class FindingDifference(Struct, frozen=True):
    """What an addition changes in the findings of a plan.

    A finding that has grown by a party or has become worse is among `added`, and its older form
    among `ended`; one that is only told in other words is in neither.
    """

    added: tuple[Finding, ...] = ()
    ended: tuple[Finding, ...] = ()

    @property
    def gone(self) -> list[Finding]:
        """Those of `ended` that are not there in other words."""
        there = {found.place for found in self.added}
        return [found for found in self.ended if found.place not in there]


def settled_across(
    account: AccountFindings,
    own: list[Finding],
    wide: Iterable[Finding],
    record_of: Callable[[str], AccountFindings],
    today: datetime.date,
) -> list[Finding]:
    """What is left, folded and accepted, of what one account gives by itself and of what is found across accounts."""
    by_account: dict[str, list[Finding]] = defaultdict(list)
    for found in wide:
        by_account[found.account].append(found)
    shown = settled(account, [*own, *by_account.pop(account.name, ())], today)[0]
    for other, there in by_account.items():
        shown += settled(record_of(other), there, today, with_stale=False)[0]
    return shown


class Renamed(Struct, frozen=True):
    """What only has another address: the records that moved, and each place that is called otherwise now."""

    records: frozenset[RecordId] = frozenset()
    places: Mapping[str, str] = {}


def difference_of(was: list[Finding], now: list[Finding], renamed: Renamed | None = None) -> FindingDifference:
    """What two checks differ in; a finding that is there before and after in other words is no difference.

    Neither is one of what has moved, where its place and parties are called by another address only.
    """
    renamed = renamed or Renamed()
    before, after = Counter(map(_told, was)), Counter(map(_told, now))
    ended, old = list(_beyond(was, after)), defaultdict(list)
    earlier = {new: at for at, new in renamed.places.items()}
    for found in ended:
        old[found.place].append(found)
    added = []
    for found in _beyond(now, before):
        account, rule, at = found.place
        there = [*old[found.place], *(old[account, rule, earlier[at]] if at in earlier else ())]
        same = next((other for other in there if _is_reworded(other, found, renamed.records)), None)
        if same is None:
            added.append(found)
        else:
            old[same.place].remove(same)
            ended.remove(same)
    return FindingDifference(tuple(added), tuple(ended))


def _is_reworded(was: Finding, now: Finding, moved: frozenset[RecordId]) -> bool:
    """Whether two findings of a rule at one place are the same: no party has come, and it is no worse."""

    def who(party: Party) -> RecordId | str:
        return party.record if party.record is not None and party.record in moved else party.name

    come = Counter(map(who, now.parties)) - Counter(map(who, was.parties))
    return now.severity == was.severity and now.stops <= was.stops and not come


def _beyond(findings: list[Finding], known: Counter[tuple[Words, ...]]) -> Iterator[Finding]:
    """Those of `findings` that are not among `known` as often."""
    left = known.copy()
    for found in findings:
        key = _told(found)
        if left[key]:
            left[key] -= 1
        else:
            yield found


def _told(found: Finding) -> tuple[Words, ...]:
    return *found.place, found.title
