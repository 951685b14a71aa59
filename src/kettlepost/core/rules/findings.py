"""Findings: one case of a rule, with the parties to it and the ways out."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import cached_property
from typing import Literal, overload

from msgspec import Struct
from msgspec.structs import force_setattr

from kettlepost.core.messages import Words, message_order
from kettlepost.core.plan import Change, RecordId
from kettlepost.core.remedies import Remedy
from kettlepost.core.steps import ChangeRoot, Check, Confirm, EditPlan, LookAgain, SetAsideFolder, Step

Severity = Literal["stop", "risk", "note"]
SEVERITIES: tuple[Severity, ...] = ("stop", "risk", "note")


class Party(Struct, omit_defaults=True, frozen=True):
    """Somebody with a part in a finding, and where that was written or found.

    `file` and `line` point into the plan; `found` says instead how the survey knows of it.
    `record` is the table of the plan that it is.
    """

    what: str
    name: str
    record: RecordId | None = None
    file: str | None = None
    line: int | None = None
    found: Words = ""

    @property
    def where(self) -> Words:
        return f"{self.file}:{self.line}" if self.file is not None else self.found


class WayOut(Struct, omit_defaults=True, frozen=True):
    """One way out, in words: `steps` are the work on files, data and at the host, in their order.

    `changes` are what is then written into the plan, or all there is to do where it is a change of the
    plan alone. `remedy` is what is done with the program, where it is that. `as_it_is` says that they
    only write down what is there, which is so whatever else is found then. `brings` are the risks that come with it,
    each as its rule and its place, and `alters` the addresses that answer otherwise then, as far as it was tried;
    `expects` are the rules of which its own words say that they will find something. `stays` says that it
    was tried, and that what was found is found all the same, `stops` what stops then instead.
    """

    words: Words
    changes: Sequence[Change] = ()
    remedy: Remedy | None = None
    steps: Sequence[Step] = ()
    as_it_is: bool = False
    brings: Sequence[tuple[str, str]] = ()
    alters: Sequence[str] = ()
    expects: Sequence[str] = ()
    stays: bool = False
    stops: Sequence[tuple[str, str]] = ()

    @property
    def whole(self) -> list[Step]:
        """All of it as steps: the work, and what is written into the plan before anybody looks again.

        A root is written before the host is asked for it, as it is said to be done by the plan, and whatever moves
        before its old files are set aside, as they are somebody's until then.
        """
        edits = [EditPlan(one.account, one.table, one.number, one.values, one.drop) for one in self.changes]
        behind = ChangeRoot | SetAsideFolder | LookAgain | Confirm | Check
        at = next((n for n, step in enumerate(self.steps) if isinstance(step, behind)), len(self.steps))
        return [*self.steps[:at], *edits, *self.steps[at:]]

    def __post_init__(self) -> None:
        force_setattr(self, "alters", tuple(self.alters))
        force_setattr(self, "brings", tuple(self.brings))
        force_setattr(self, "stops", tuple(self.stops))
        force_setattr(self, "expects", tuple(self.expects))
        force_setattr(self, "changes", tuple(self.changes))
        force_setattr(self, "steps", tuple(self.steps))


class LazyWays(Sequence[WayOut]):
    """Ways out that are worked out when somebody looks at them: where only what is wrong counts, nobody does."""

    def __init__(self, work_out: Callable[[], Sequence[WayOut]]):
        self._work_out = work_out

    @cached_property
    def _ways(self) -> Sequence[WayOut]:
        return self._work_out()

    @overload
    def __getitem__(self, at: int) -> WayOut: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[WayOut]: ...
    def __getitem__(self, at: int | slice) -> WayOut | Sequence[WayOut]:
        return self._ways[at]

    def __len__(self) -> int:
        return len(self._ways)


class Finding(Struct, omit_defaults=True, frozen=True):
    """One thing that is wrong. `at` is the folder or address that an `[[accept]]` names.

    `pending` is a stop that a known, safe step mends before the deployment: work to do, not a
    collision. `severity` is one of those its rule declares, the rule's own where none is given; `account` is
    the one that was asked, where the rule asks one at a time. `also_at`
    names other accounts with a part in it. `follows` tells in words what follows from it and
    needs no finding of its own; `about` are records it concerns besides those of its parties.
    Whatever list is given for one of its fields is kept as a tuple, but for ways that its rule works out late.
    """

    at: str
    title: Words
    why: Words
    parties: Sequence[Party]
    ways_out: Sequence[WayOut]
    account: str = ""
    rule: str = ""
    severity: Severity | None = None
    also_at: Sequence[str] = ()
    follows: Sequence[Words] = ()
    about: Sequence[RecordId] = ()
    pending: bool = False

    def __post_init__(self) -> None:
        for name in ("parties", "also_at", "follows", "about"):
            force_setattr(self, name, tuple(getattr(self, name)))
        if not isinstance(self.ways_out, LazyWays):
            force_setattr(self, "ways_out", tuple(self.ways_out))

    @property
    def order(self) -> tuple[int, str, str, str]:
        """Worst first, then by rule and place."""
        return SEVERITIES.index(self.severity or "stop"), self.rule, self.at, message_order(self.title)

    @property
    def stops(self) -> bool:
        """Whether it stands against what is planned: a stop that is not merely work to do."""
        return self.severity == "stop" and not self.pending

    @property
    def place(self) -> tuple[str, str, str]:
        """What tells it from others of its kind: account, rule and where it is."""
        return self.account, self.rule, self.at

    @property
    def records(self) -> frozenset[RecordId]:
        """The records of the plan that have a part in it."""
        return frozenset(party.record for party in self.parties if party.record is not None)


def found_with(findings: Iterable[Finding]) -> dict[str, dict[int, int]]:
    """How many findings each installation has a part in, by account and place in its file."""
    counts: dict[str, dict[int, int]] = {}
    for found in findings:
        for record in found.records:
            if record.table == "installation":
                of = counts.setdefault(record.account, {})
                of[record.number] = of.get(record.number, 0) + 1
    return counts
