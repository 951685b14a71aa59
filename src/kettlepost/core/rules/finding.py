"""Findings: one case of a rule, with the parties to it and the ways out."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct, field

from kettlepost.core.plan import Change

Severity = Literal["stop", "risk", "note"]
SEVERITIES: tuple[Severity, ...] = ("stop", "risk", "note")


class Party(Struct, omit_defaults=True):
    """Somebody with a part in a finding, and where that was written or found.

    `file` and `line` point into the plan; `found` says instead how the survey knows of it.
    `key` tells parties apart: the table of the plan, or the folder.
    """

    what: str
    name: str
    key: str = ""
    file: str | None = None
    line: int | None = None
    found: str = ""

    @property
    def where(self) -> str:
        return f"{self.file}:{self.line}" if self.file is not None else self.found


class Way(Struct, omit_defaults=True):
    """One way out, in words; `changes` carry it out where it is a change of the plan."""

    words: str
    changes: list[Change] = field(default_factory=list)


class Finding(Struct, omit_defaults=True):
    """One thing that is wrong. `at` is the folder or address that an `[[accept]]` names.

    `also_at` names other accounts with a part in it. `follows` tells in words what follows from
    it and needs no finding of its own; `about` are keys of records it concerns besides those of
    its parties.
    """

    at: str
    title: str
    why: str
    parties: list[Party]
    ways_out: list[Way]
    account: str
    rule: str = ""
    severity: Severity = "stop"
    also_at: list[str] = field(default_factory=list)
    follows: list[str] = field(default_factory=list)
    about: list[str] = field(default_factory=list)

    @property
    def order(self) -> tuple[int, str, str, str]:
        """Worst first, then by rule and place."""
        return SEVERITIES.index(self.severity), self.rule, self.at, self.title

    @property
    def keys(self) -> set[str]:
        """The records of the plan that have a part in it."""
        return {party.key for party in self.parties if party.key}


def found_with(findings: Iterable[Finding]) -> dict[str, dict[int, int]]:
    """How many findings each installation has a part in, by account and place in its file."""
    counts: dict[str, dict[int, int]] = {}
    for found in findings:
        for key in found.keys:
            account, _, number = key.partition(" installation ")
            if number:
                of = counts.setdefault(account, {})
                of[int(number)] = of.get(int(number), 0) + 1
    return counts
