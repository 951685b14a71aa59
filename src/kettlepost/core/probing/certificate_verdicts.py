"""Whether a host shows a certificate that is for it, that holds, and that is the one of the plan."""

from __future__ import annotations

import datetime
from collections.abc import Sequence

from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.messages import Message, Words, say
from kettlepost.core.names import HostName, readable
from kettlepost.core.plan import Certificate
from kettlepost.core.probing.name_verdicts import domain_of
from kettlepost.core.probing.verdicts import Blame, ProbeRow, ProbeVerdict
from kettlepost.core.survey import ServedCertificate


def certificate_row(layout: AccountLayout, seen: ServedCertificate, when: When, today: datetime.date) -> ProbeRow:
    """A certificate held against the plan, which may not say that the host is reached by https at all."""
    host = HostName(seen.host)
    domain = domain_of(layout, host, when)
    planned = [one for one in layout.account.certificates if covers(one.covers, host)]
    is_wanted = (domain is not None and domain.https and domain.state == "live" and domain.points_here) or bool(planned)
    row = ProbeRow(
        layout.name, "certificate", seen.host, seen.at, ProbeVerdict.UNKNOWN,
        say("probe/expected/certificate") if is_wanted else say("probe/expected/no-https"), _seen_words(seen),
    )  # fmt: skip
    if seen.oldest:
        row.notes.append(say("probe/note/oldest", oldest=seen.oldest))
    if not is_wanted:
        return row
    row.because = list(certificate_faults(seen, today.isoformat()))
    if row.because:
        row.verdict, row.blame = ProbeVerdict.DIFFERS, Blame.CERTIFICATE
        row.mend = say("probe/mend/certificate", host=readable(host))
        return row
    row.verdict = ProbeVerdict.AGREES
    other = _other_day(planned, seen)
    if other is not None:
        row.verdict, row.blame = ProbeVerdict.DIFFERS, Blame.PLAN
        row.because.append(say("probe/certificate/plan-until", until=other.until, place=layout.account.place(other)))
        row.mend = say("probe/mend/until", until=seen.until)
    return row


def certificate_faults(seen: ServedCertificate, today: str) -> list[Words]:
    """Why a visitor of a host is warned, or gets nothing, on a day in ISO 8601 form."""
    if seen.trouble is not None:
        return [say("probe/certificate/none", trouble=say(seen.trouble))]
    told: list[Words] = []
    if not covers(seen.covers, HostName(seen.host)):
        told.append(say("probe/certificate/others", names=seen.covers or ("nobody",)))
    if seen.until and seen.until < today:
        told.append(say("probe/certificate/ended", until=seen.until))
    elif seen.since > today:
        told.append(say("probe/certificate/begins", since=seen.since))
    elif seen.wrong:
        told.append(say("probe/certificate/wrong", wrong=seen.wrong))
    return told


def covers(names: Sequence[str], host: HostName) -> bool:
    """Whether one of some names is a host's, or a wildcard for its first label (RFC 6125 section 6.4.3)."""
    return host in names or f"*.{host.partition('.')[2]}" in names


def _other_day(planned: Sequence[Certificate], seen: ServedCertificate) -> Certificate | None:
    """The certificate of the plan that ends on another day, where none of its ends on the day that was seen."""
    dated = [one for one in planned if one.until is not None]
    same = any(one.until is not None and one.until.isoformat() == seen.until for one in dated)
    return dated[0] if dated and not same else None


def _seen_words(seen: ServedCertificate) -> Message:
    if seen.trouble is not None:
        return say(seen.trouble)
    return say("probe/certificate/seen", names=seen.covers or ("nobody",), until=seen.until, issuer=seen.issuer or "?")
