"""What was seen in the world held against what plan and survey say: agrees, differs, or cannot be told."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from enum import StrEnum
from functools import cached_property

from msgspec import Struct, field

from kettlepost.core.messages import Words
from kettlepost.core.names import Folder
from kettlepost.core.remedies import Remedy
from kettlepost.core.survey import Survey


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


class PagePlace(Struct, frozen=True):
    """Where a page lies that was surveyed."""

    account: str
    folder: Folder
    file: str


class KnownPages:
    """The pages of surveys by what tells them apart: their size and digest."""

    def __init__(self, surveys: Mapping[str, Survey | None], others: Callable[[], Iterable[KnownPages]] | None = None):
        """`others` gives the pages of further surveys, which are looked at where a page is none of these."""
        self._others = others
        self._by_digest: dict[tuple[int, str], list[PagePlace]] = {}
        self._digests: dict[tuple[str, Folder, str], tuple[int, str]] = {}
        for account, survey in surveys.items():
            for page in survey.pages if survey is not None else ():
                own = page.size, page.digest
                self._by_digest.setdefault(own, []).append(PagePlace(account, page.folder, page.file))
                self._digests[account, page.folder, page.file] = own

    def places(self, size: int, digest: str) -> Sequence[PagePlace]:
        """Where a page lies that is the same to the byte; nowhere where none was surveyed."""
        if not digest:
            return ()
        near = self._by_digest.get((size, digest))
        return near if near is not None else self._far.get((size, digest), ())

    @cached_property
    def _far(self) -> dict[tuple[int, str], list[PagePlace]]:
        found: dict[tuple[int, str], list[PagePlace]] = {}
        for other in self._others() if self._others is not None else ():
            for own, places in other._by_digest.items():
                found.setdefault(own, []).extend(places)
        return found

    def known_as(self, account: str, file: Folder) -> tuple[int, str] | None:
        """The size and digest of a file of an account, where it is a page that was surveyed."""
        return self._digests.get((account, file.parent, file.name))


def counted_verdicts(rows: Iterable[ProbeRow]) -> dict[ProbeVerdict, int]:
    """How many there are of each verdict."""
    counts = dict.fromkeys(ProbeVerdict, 0)
    for row in rows:
        counts[row.verdict] += 1
    return counts
