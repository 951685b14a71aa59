"""What checking one account by itself gives, and what is left of it once it is folded and accepted."""

from __future__ import annotations

import datetime
from collections.abc import Sequence

from msgspec import Struct, field

from kettlepost.core.errors import Fault
from kettlepost.core.rules.acceptances import Acceptance, Accepted, stale_accept
from kettlepost.core.rules.certificates import DatedCertificate
from kettlepost.core.rules.consequences import fold
from kettlepost.core.rules.cross_account import AccountSummary
from kettlepost.core.rules.findings import Finding
from kettlepost.core.rules.moved_addresses import DatedPromise
from kettlepost.core.rules.registry import causes


class AccountFindings(Struct, array_like=True, frozen=True):
    """All that checking one account by itself gives; `taken` is when it was surveyed, if it was.

    `new_roots` are folders that domains lead to and that the survey was not told of.
    """

    name: str
    about: list[str]
    taken: str
    findings: list[Finding]
    summary: AccountSummary
    accepts: list[Acceptance]
    faults: list[Fault] = field(default_factory=list)
    new_roots: list[str] = field(default_factory=list)
    dated: list[DatedCertificate] = field(default_factory=list)
    promises: list[DatedPromise] = field(default_factory=list)


def settled(
    account: AccountFindings, found_here: Sequence[Finding], today: datetime.date, with_stale: bool = True
) -> tuple[list[Finding], int]:
    """What is left of an account's findings once they are folded and accepted, sorted; and how many are accepted."""
    findings = fold(found_here, causes())
    accepted = Accepted(account.accepts, findings, today)
    shown = [found for found in findings if not accepted.hides(found)]
    lived_with = len(findings) - len(shown)
    if with_stale:
        shown += (stale_accept(accept, account.name, accept.is_past(today)) for accept in accepted.stale())
    shown.sort(key=lambda found: found.order)
    return shown, lived_with
