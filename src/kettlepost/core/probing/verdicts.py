"""What was seen in the world held against what plan and survey say: agrees, differs, or cannot be told."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

from msgspec import Struct, field

from kettlepost.core.messages import Words
from kettlepost.core.remedies import Remedy


class ProbeVerdict(StrEnum):
    """How what was seen stands to what was said."""

    AGREES = "agrees"
    DIFFERS = "differs"
    UNKNOWN = "untold"


class Blame(StrEnum):
    """What is wrong most likely, where the two differ."""

    PLAN = "plan"
    SURVEY = "survey"
    SERVER = "server"
    NAMES = "names"
    CERTIFICATE = "certificate"
    APPLICATION = "application"


class ProbeRow(Struct):
    """One thing that was asked: what was to be expected, what was seen, and which of the two is wrong most likely.

    `about` is "name", "zone", "certificate" or "page", `at` the host, zone or address. `because` is the evidence,
    `mend` what is to be done, `changed` what was otherwise the last time, and `notes` what is good to
    know beside that.
    """

    account: str
    about: str
    at: str
    machine: str
    verdict: ProbeVerdict
    expected: Words
    seen: Words
    blame: Blame | None = None
    because: list[Words] = field(default_factory=list)
    mend: Words = ""
    remedy: Remedy | None = None
    changed: Words = ""
    notes: list[Words] = field(default_factory=list)


def counted_verdicts(rows: Iterable[ProbeRow]) -> dict[ProbeVerdict, int]:
    """How many there are of each verdict."""
    counts = dict.fromkeys(ProbeVerdict, 0)
    for row in rows:
        counts[row.verdict] += 1
    return counts
