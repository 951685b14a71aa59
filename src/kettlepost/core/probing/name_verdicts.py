"""Whether names lead to the machine of their account, and name servers agree."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from kettlepost.core.layout import AccountLayout, PlanLayout, When
from kettlepost.core.messages import Message, Words, say
from kettlepost.core.names import HostName, readable
from kettlepost.core.plan import Domain
from kettlepost.core.probing.verdicts import Blame, ProbeRow, ProbeVerdict
from kettlepost.core.survey import NameState, SeenName, SeenZone, name_words


def name_row(layouts: PlanLayout, layout: AccountLayout, seen: SeenName, when: When, there: Words = "") -> ProbeRow:
    """A host name held against the plan; `there` is what shows where it leads, where that is elsewhere."""
    host, ours = HostName(seen.host), layout.account.settings.ip_addresses
    domain = domain_of(layout, host, when)
    row = ProbeRow(layout.name, "name", seen.host, "", ProbeVerdict.UNKNOWN, _expected(ours, domain), name_words(seen))
    if domain is None:
        return row
    if len(holders(layouts, host, when)) > 1:
        row.because.append(say("probe/page/claimed-twice"))
        return row
    is_here = layout.are_its_machine(seen.addresses)
    pointing = domain.points_here and domain.state == "live"
    if seen.state is NameState.UNKNOWN:
        row.because.append(say("probe/names/nobody-answers"))
        return row
    if not pointing:
        _judge_elsewhere(row, layout, domain, is_here)
        return row
    if seen.state is not NameState.FOUND:
        row.verdict, row.blame = ProbeVerdict.DIFFERS, Blame.NAMES
        row.mend = _mend_missing(seen, ours)
        return row
    if is_here is None:
        return row
    row.verdict = ProbeVerdict.AGREES
    if not is_here:
        row.verdict, row.blame = ProbeVerdict.DIFFERS, Blame.NAMES
        row.mend = say("probe/mend/record", addresses=ours)
        row.because += [there] if there else []
    elif seen.apart:
        row.verdict, row.blame = ProbeVerdict.DIFFERS, Blame.NAMES
        row.seen = say("probe/names/not-all", seen=row.seen)
        row.because += [say("probe/names/apart", server=one) for one in seen.apart]
        row.mend = say("probe/mend/spreading")
    _add_notes(row, layout, seen)
    return row


def _add_notes(row: ProbeRow, layout: AccountLayout, seen: SeenName) -> None:
    """What others still have, and what is not written down of the machine."""
    if untold := layout.of_no_known_kind(seen.addresses):
        row.notes.append(say("probe/note/not-written", addresses=untold))
    if seen.cached:
        row.because.append(say("probe/names/cached", addresses=seen.cached, ttl=_time(seen.ttl)))


def holders(layouts: PlanLayout, host: str, when: When) -> list[str]:
    """The accounts of the plan that have a host: of several, the name says which of them answers."""
    there = layouts.hosts.get(host, ())
    return [name for name in there if layouts.accounts[name].tree(when).hosts.get(HostName(host))]


def domain_of(layout: AccountLayout, host: HostName, when: When) -> Domain | None:
    """The domain of the plan that a host is of, as it is written down."""
    mounts = layout.tree(when).hosts.serving(host)
    return mounts[-1].domain if mounts else None


def _expected(ours: Sequence[str], domain: Domain | None) -> Message:
    if domain is not None and domain.state == "planned" and not domain.points_here:
        return say("probe/expected/not-yet")
    if domain is not None and not domain.points_here:
        return say("probe/expected/elsewhere")
    return say("probe/expected/leads", addresses=ours) if ours else say("probe/expected/machine-untold")


def _judge_elsewhere(row: ProbeRow, layout: AccountLayout, domain: Domain, is_here: bool | None) -> None:
    """A name of which the plan says that it does not lead here yet, or of which that does not matter yet."""
    if is_here is None:
        return
    row.verdict = ProbeVerdict.AGREES
    if is_here and not domain.points_here:
        row.verdict, row.blame = ProbeVerdict.DIFFERS, Blame.PLAN
        row.mend = say("probe/mend/points-here", place=layout.account.place(domain, "points_here"))


def _mend_missing(seen: SeenName, ours: Sequence[str]) -> Message:
    if seen.state is NameState.NO_SERVER:
        return say("probe/mend/no-server", zone=readable(seen.zone or seen.host))
    if seen.state is NameState.NO_SUCH_NAME and not seen.zone:
        return say("probe/mend/not-registered")
    return say("probe/mend/record", addresses=ours) if ours else say("probe/mend/some-record")


def _time(ttl: int | None) -> Message | None:
    return say("probe/names/ttl", minutes=max(1, round(ttl / 60))) if ttl is not None else None


def zone_rows(layout: AccountLayout, zones: Sequence[SeenZone]) -> Iterator[ProbeRow]:
    """Zones held against what they say of themselves: their name servers, and their signatures."""
    for zone in zones:
        names = [one.name for one in zone.servers]
        row = ProbeRow(layout.name, "zone", zone.zone, "", ProbeVerdict.AGREES, say("probe/expected/servers"),
                       say("probe/zone/servers", servers=names) if names else say("probe/zone/none"))  # fmt: skip
        row.because, row.notes = zone_faults(zone), list(_zone_notes(zone))
        if row.because:
            row.verdict, row.blame = ProbeVerdict.DIFFERS, Blame.NAMES
            row.mend = say("probe/mend/zone", zone=readable(zone.zone))
        yield row


def _zone_notes(zone: SeenZone) -> Iterator[Words]:
    if zone.mail:
        yield say("probe/note/mail", mail=zone.mail)
    if zone.registered_until:
        yield say("probe/note/registered", until=zone.registered_until)
    if zone.wildcard:
        yield say("probe/note/wildcard", addresses=zone.wildcard)


def zone_faults(zone: SeenZone) -> list[Words]:
    """Where the name servers of a zone differ, do not answer, or are not the ones that it names itself."""
    names = {one.name for one in zone.servers}
    told: list[Words] = [
        say("probe/zone/server", server=one.name, trouble=say(one.trouble)) for one in zone.servers if one.trouble
    ]
    numbered = [one for one in zone.servers if one.serial is not None]
    if len({one.serial for one in numbered}) > 1:
        told.append(say("probe/zone/serials", serials=[f"{one.name} {one.serial}" for one in numbered]))
    if zone.own and set(zone.own) != names:
        told.append(say("probe/zone/own", servers=zone.own))
    if zone.fails:
        told.append(say("probe/zone/fails"))
    if zone.registry and names and set(zone.registry) != names:
        told.append(say("probe/zone/registry", servers=zone.registry))
    return told
