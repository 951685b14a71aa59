"""The rule about certificates that end. It depends on the day, so it is asked when all others have answered."""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Sequence
from contextlib import suppress

from msgspec import Struct

from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import say, series
from kettlepost.core.names import HostName
from kettlepost.core.rules.findings import Finding, Party, WayOut
from kettlepost.core.rules.parties import party
from kettlepost.core.rules.registry import page_only
from kettlepost.core.rules.witnesses import witness
from kettlepost.core.steps import CompleteEntry, GetCertificate, ProbeAgain
from kettlepost.core.words import listed

SLUG = "certificate-ends"
SOON = datetime.timedelta(days=21)
"""How long before its end a certificate is told of."""


class DatedCertificate(Struct, array_like=True, frozen=True):
    """A certificate whose end is known: the names it covers, and where it stands.

    `number` is its place in the file, -1 for one that was seen.
    """

    covers: list[str]
    until: datetime.date
    party: Party
    number: int


def dated_certificates(layout: AccountLayout) -> list[DatedCertificate]:
    """The certificates of an account of which it is known until when they hold: what hosts were seen to show counts
    before what is written down.
    """
    seen: dict[tuple[str, tuple[str, ...]], list[str]] = {}
    moments: dict[tuple[str, tuple[str, ...]], str] = {}
    for host, _, _ in layout.seen_in_world():
        served = layout.served_certificate(host)
        if served is not None:
            seen.setdefault((served.until, served.covers), []).append(str(host))
            moments[served.until, served.covers] = served.seen
    shown = {host for hosts in seen.values() for host in hosts}
    found = [
        DatedCertificate(
            [name for name in map(str, one.covers) if name not in shown],
            one.until,
            party(layout.account, one, "certificate", listed(one.covers, 3), "until"),
            one.number,
        )
        for one in layout.account.certificates
        if one.until is not None
    ]
    for (until, covers), hosts in sorted(seen.items()):
        name = listed(covers, 3)
        moment = moments[until, covers]
        with suppress(ValueError):  # a file that somebody else wrote
            found.append(DatedCertificate(hosts, datetime.date.fromisoformat(until), witness(name, "", moment), -1))
    return found


def ending(certificates: Sequence[DatedCertificate], account: str, today: datetime.date) -> Iterator[Finding]:
    """The findings about those of an account that end soon, or have ended."""
    newest: dict[str, datetime.date] = {}
    for one in certificates:
        for host in one.covers:
            newest[host] = max(newest.get(host, one.until), one.until)
    for one in certificates:
        still = [host for host in one.covers if newest[host] <= one.until]  # others are covered by a later one
        if still and today > one.until - SOON:
            yield certificate_ends(one, account, still, today)


@page_only(SLUG, "stop", "risk")
def certificate_ends(certificate: DatedCertificate, account: str, hosts: list[str], today: datetime.date) -> Finding:
    """A certificate has ended, or ends within three weeks.

    Once it has ended, browsers show a warning instead of the site, and most people go no further.
    Names that another certificate covers for longer are not told of.

    Bad:

        [[certificate]]
        covers = ["millbrookrail.example"]
        until = 2020-02-29

    Good:

        [[certificate]]
        covers = ["millbrookrail.example"]
        until = 2999-02-28

    Ways out:

    - renew it, and write down its new end, or read it in again.
    """
    names, is_past = series(hosts, 4), today > certificate.until
    left = (certificate.until - today).days
    when = "today" if left == 0 else say("certificate-ends/day", left=left)
    told = (
        say("certificate-ends/ended", until=certificate.until)
        if is_past
        else say("certificate-ends/ends", when=when, until=certificate.until)
    )
    return Finding(
        at=hosts[0],
        title=say("certificate-ends/title", names=names, told=told),
        why=say("certificate-ends/why") if is_past else say("certificate-ends/why-soon"),
        parties=[certificate.party],
        ways_out=[_renewed(certificate, account, hosts)],
        account=account,
        rule=SLUG,
        severity="stop" if is_past else "risk",
    )


def _renewed(certificate: DatedCertificate, account: str, hosts: list[str]) -> WayOut:
    get = GetCertificate(account, HostName(hosts[0]), tuple(hosts))
    if certificate.number < 0:
        again = [ProbeAgain(account, HostName(host)) for host in hosts[:_FEW]]
        return WayOut(say("certificate-ends/renew-ask"), steps=[get, *again])
    down = CompleteEntry(account, "certificate", certificate.number, ("until",))
    return WayOut(say("certificate-ends/renew-write-down", where=certificate.party.where), steps=[get, down])


_FEW = 4
