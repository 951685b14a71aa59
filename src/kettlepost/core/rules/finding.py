"""Findings: one case of a rule, with the parties to it and the ways out."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct, field

from kettlepost.core.plan import Place

Severity = Literal["stop", "risk", "note"]
SEVERITIES: tuple[Severity, ...] = ("stop", "risk", "note")


class Party(Struct):
    """Somebody with a part in a finding, and where that was written or found.

    `place` points into the plan; `found` says instead how the survey knows of it.
    """

    what: str
    name: str
    place: Place | None = None
    found: str = ""

    @property
    def where(self) -> str:
        return str(self.place) if self.place is not None else self.found


class Finding(Struct):
    """One thing that is wrong. `at` is the folder or address that an `[[accept]]` names."""

    at: str
    title: str
    why: str
    parties: list[Party]
    ways_out: list[str]
    account: str
    rule: str = ""
    severity: Severity = "stop"
    also_at: list[str] = field(default_factory=list)

    @property
    def order(self) -> tuple[int, str, str, str]:
        """Worst first, then by rule and place."""
        return SEVERITIES.index(self.severity), self.rule, self.at, self.title
