"""Rules about what name servers and certificates showed when the world was last asked."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout, bare_and_www
from kettlepost.core.messages import say
from kettlepost.core.names import HostName, readable
from kettlepost.core.plan import Domain
from kettlepost.core.probing import certificate_faults, zone_faults
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.parties import domain_party
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import accepting, setting
from kettlepost.core.rules.witnesses import witness
from kettlepost.core.steps import (
    Accept,
    GetCertificate,
    MakeRecord,
    ProbeAgain,
    SetNameServers,
    SettleMail,
)
from kettlepost.core.survey import NameState, SeenAtHost, SeenName, SeenZone, ShownKind, name_words


@account_rule("name-elsewhere", "risk", reaches=RuleReach.HOST)
def name_elsewhere(layout: AccountLayout) -> Iterator[Finding]:
    """The name of a live domain does not lead to its account's machine.

    Visitors see the old host, or nothing. What is changed here is seen by nobody, and a certificate
    cannot be had. It was seen when the names were last asked, with `kettlepost probe`.

    Bad:

        [account]
        name = "millbrook"
        ip_addresses = ["192.0.2.10"]

        # probed: names = {"host": "millbrookrail.example", "state": "found", "addresses": ["203.0.113.9"]}

    Good:

        [account]
        name = "millbrook"
        ip_addresses = ["192.0.2.10"]

        # probed: names = {"host": "millbrookrail.example", "state": "found", "addresses": ["192.0.2.10"]}

    Ways out:

    - lead the name here, at whoever manages its names, once the site is here, and ask again;
    - where it is not to lead here yet, write points_here = false; that comes first where the other
      machine is read and no site was seen here.
    """
    for seen, domain in _names(layout):
        is_here = layout.are_its_machine(seen.addresses)
        if _is_www(layout, seen.host, domain) or seen.state is NameState.UNKNOWN:
            continue
        if seen.state is not NameState.FOUND or is_here is False:
            yield Finding(
                at=seen.host,
                title=say("name-elsewhere/title", host=readable(seen.host), seen=name_words(seen)),
                why=say("name-elsewhere/why", day=seen.seen[:10]),
                parties=[domain_party(layout.account, domain), witness(seen.host, name_words(seen), seen.seen)],
                ways_out=_pointing(layout, domain, seen),
            )


@account_rule("www-dead", "risk", reaches=RuleReach.HOST)
def www_dead(layout: AccountLayout) -> Iterator[Finding]:
    """A domain is to answer with www, and that name does not lead here, or the bare one does not.

    People write both, and half of them see an error or the old site.

    Bad:

        [account]
        name = "millbrook"
        ip_addresses = ["192.0.2.10"]

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "choir"
        www = "both"

        # probed: names = {"host": "www.lanternchoir.example", "state": "no-such-name"}

    Good:

        [account]
        name = "millbrook"
        ip_addresses = ["192.0.2.10"]

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "choir"
        www = "both"

        # probed: names = {"host": "www.lanternchoir.example", "state": "found", "addresses": ["192.0.2.10"]}

    Ways out:

    - make the record of that name, and ask again;
    - where it is not wanted, write www = "apart".
    """
    for seen, domain in _names(layout):
        if not _is_www(layout, seen.host, domain) or seen.state is NameState.UNKNOWN:
            continue
        if seen.state is not NameState.FOUND or layout.are_its_machine(seen.addresses) is False:
            host = HostName(seen.host)
            drops = WayOut(say("www-dead/apart", domain=readable(domain.name)), [setting(layout, domain, www="apart")])
            yield Finding(
                at=seen.host,
                title=say("www-dead/title", host=readable(seen.host), seen=name_words(seen)),
                why=say("www-dead/why", day=seen.seen[:10]),
                parties=[domain_party(layout.account, domain, "www"), witness(host, name_words(seen), seen.seen)],
                ways_out=[_record(layout, host), *([drops] if domain.www else [])],
            )


@account_rule("name-servers-disagree", "risk", reaches=RuleReach.HOST)
def name_servers_disagree(layout: AccountLayout) -> Iterator[Finding]:
    """The name servers of a zone do not say the same, or one of them does not answer for it.

    Some visitors get the right address, some the old one or none at all, by chance, and nobody who
    tries it finds out why. Just after a change this passes by itself.

    Bad:

        # probed: names = {"host": "millbrookrail.example", "state": "found", "zone": "millbrookrail.example"}
        # probed: zones = {"zone": "millbrookrail.example", "servers": \
[{"name": "ns1.fernhollow.example", "serial": 2}, {"name": "ns2.fernhollow.example", "trouble": "probe/lame"}]}

    Good:

        # probed: names = {"host": "millbrookrail.example", "state": "found", "zone": "millbrookrail.example"}
        # probed: zones = {"zone": "millbrookrail.example", "servers": \
[{"name": "ns1.fernhollow.example", "serial": 2}, {"name": "ns2.fernhollow.example", "serial": 2}]}

    Ways out:

    - where it was changed just now, wait, and ask again;
    - else name at the registrar the servers that have the zone, and no others.
    """
    told_of = set[str]()
    for host, mounts, seen in layout.seen_in_world():
        zone = _zone(layout, seen)
        told = (
            zone_faults(zone) if zone is not None and zone.zone not in told_of and _is_live(mounts[-1].domain) else []
        )
        if zone is None or not told:
            continue
        told_of.add(zone.zone)
        good = tuple(one.name for one in zone.servers if one.trouble is None)
        again = ProbeAgain(layout.name, host)
        words = say("name-servers-disagree/set", zone=readable(zone.zone))
        set_others = WayOut(words, steps=[SetNameServers(layout.name, HostName(zone.zone), good), again])
        others = [set_others] if 0 < len(good) < len(zone.servers) else []
        yield Finding(
            at=zone.zone,
            title=say("name-servers-disagree/title", zone=readable(zone.zone)),
            why=say("name-servers-disagree/why", day=zone.seen[:10]),
            parties=[witness(zone.zone, why, zone.seen) for why in told],
            ways_out=[WayOut(say("name-servers-disagree/wait"), steps=[again]), *others],
        )


@account_rule("certificate-unfit", "risk", reaches=RuleReach.HOST)
def certificate_unfit(layout: AccountLayout) -> Iterator[Finding]:
    """A host that is to be reached by https shows a certificate for others, one that has ended, or none.

    Browsers show a warning instead of the site, and most people go no further.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        https = true

        # probed: certificates = {"host": "millbrookrail.example", "at": "192.0.2.10", "covers": ["other.example"], \
"until": "2999-01-01"}

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        https = true

        # probed: certificates = {"host": "millbrookrail.example", "at": "192.0.2.10", \
"covers": ["millbrookrail.example"], "until": "2999-01-01"}

    Ways out:

    - get one that covers the name, and ask again;
    - where the name is not to be reached by https, take out https = true.
    """
    for host, mounts, there in layout.seen_in_world():
        domain = mounts[-1].domain
        if not domain.https or not _is_live(domain):
            continue
        seen = next((one for one in there.certificates if layout.is_its_machine(one.at)), None)
        told = certificate_faults(seen, seen.seen[:10]) if seen is not None else []
        if seen is None or not told:
            continue
        yield Finding(
            at=seen.host,
            title=say("certificate-unfit/title", host=readable(seen.host), told=told[0]),
            why=say("certificate-unfit/why", day=seen.seen[:10]),
            parties=[domain_party(layout.account, domain, "https"), witness(seen.host, told[0], seen.seen)],
            ways_out=[
                WayOut(
                    say("certificate-unfit/get", host=readable(host)),
                    steps=[GetCertificate(layout.name, host, (host,)), ProbeAgain(layout.name, host)],
                ),
                WayOut(
                    say("certificate-unfit/no-https", domain=readable(domain.name)),
                    [setting(layout, domain, https=None)],
                ),
            ],
        )


@account_rule("mail-would-move", "note", reaches=RuleReach.HOST)
def mail_would_move(layout: AccountLayout) -> Iterator[Finding]:
    """The name servers of a domain are to change, and its zone says where its mail goes.

    With the name servers the zone changes as a whole: where nobody carries the mail's records over,
    no mail arrives from that hour on.

    Bad:

        [[domain]]
        name = "marionette.example"
        kind = "addon"
        root = "marionette"
        points_here = false

        # probed: zones = {"zone": "marionette.example", "mail": ["10 mail.elsewhere.example"]}

    Good:

        [[domain]]
        name = "marionette.example"
        kind = "addon"
        root = "marionette"

        # probed: zones = {"zone": "marionette.example", "mail": ["10 mail.elsewhere.example"]}

    Ways out:

    - settle where its mail goes before the name servers change, and write down that it is.
    """
    for domain in layout.account.named.values() if layout.world is not None else ():
        zone = layout.world.zone.get(domain.name) if layout.world is not None else None
        if zone is not None and zone.mail and not domain.points_here and not layout.forgets(domain.name):
            yield Finding(
                at=str(domain.name),
                title=say("mail-would-move/title", domain=readable(domain.name), mail=zone.mail),
                why=say("mail-would-move/why", day=zone.seen[:10]),
                parties=[domain_party(layout.account, domain, "points_here")],
                ways_out=[
                    WayOut(
                        say("mail-would-move/settle"),
                        remedy=accepting("mail-would-move", str(domain.name)),
                        steps=[
                            SettleMail(layout.name, domain.name),
                            Accept(layout.name, "mail-would-move", str(domain.name)),
                        ],
                    )
                ],
            )


def _is_live(domain: Domain) -> bool:
    return domain.state == "live" and domain.points_here and domain.account_next is None


def _names(layout: AccountLayout) -> Iterator[tuple[SeenName, Domain]]:
    """What the names of live hosts lead to."""
    for _, mounts, seen in layout.seen_in_world():
        if _is_live(mounts[-1].domain):
            yield from ((name, mounts[-1].domain) for name in seen.names)


def _zone(layout: AccountLayout, seen: SeenAtHost) -> SeenZone | None:
    """The zone that a host is of."""
    name = seen.names[0].zone if seen.names else ""
    return layout.world.zone.get(name) if layout.world is not None else None


def _is_www(layout: AccountLayout, host: str, domain: Domain) -> bool:
    """Whether a host is the other form of a domain's name, with or without www."""
    return host != domain.name and host in bare_and_www(domain.name) and layout.account.declared(HostName(host)) is None


def _record(layout: AccountLayout, host: HostName) -> WayOut:
    records = tuple(f"{'AAAA' if ':' in one else 'A'} {one}" for one in layout.account.settings.ip_addresses)
    return WayOut(
        say("name-elsewhere/lead-here", host=readable(host)),
        steps=[MakeRecord(layout.name, host, records), ProbeAgain(layout.name, host)],
    )


def _pointing(layout: AccountLayout, domain: Domain, seen: SeenName) -> list[WayOut]:
    """Leading a name here; first, where it leads elsewhere and no site is seen here yet, that it is not to."""
    host = HostName(seen.host)
    ways = [_record(layout, host)]
    if domain.name == host:
        told = say("name-elsewhere/not-yet", host=readable(host))
        ways.append(WayOut(told, [setting(layout, domain, points_here=False)], as_it_is=True))
    is_read_there = bool(seen.addresses) and not _shows_a_site(layout, seen.host)
    return ways[::-1] if is_read_there else ways


def _shows_a_site(layout: AccountLayout, host: str) -> bool:
    """Whether this account's machine was seen to show a site under a name."""
    pages = layout.world.at[host].pages if layout.world is not None and host in layout.world.at else ()
    return any(page.status in (200, 401) and page.kind in _SITES and layout.is_its_machine(page.at) for page in pages)


_SITES = (ShownKind.APPLICATION, ShownKind.PAGE, ShownKind.LOGIN)
