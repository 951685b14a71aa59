"""What a source says beside hosts and folders: applications, certificates, and where names point."""

from __future__ import annotations

import datetime
import ipaddress
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from kettlepost.core.exchange.accounts_of import Owner
from kettlepost.core.exchange.column_names import plain
from kettlepost.core.exchange.entries import Differing, NewEntry, PlanEntries
from kettlepost.core.exchange.observed import (
    ImportRemark,
    Reading,
    SeenCertificate,
    SeenHost,
    SeenInstallation,
    SeenRecord,
)
from kettlepost.core.layout import bare_and_www
from kettlepost.core.messages import say
from kettlepost.core.names import HostName, did_you_mean, quoted
from kettlepost.core.plan import Account, Application, Certificate, Change, Domain, Installation, table_of

_CHAIN = 8
"""How many CNAME records lead from one to the next at most."""


class Reconciliation:
    """Enters it with the accounts that the names belong to."""

    def __init__(
        self, entry: PlanEntries, accounts: Sequence[Account], hosts: Mapping[Owner, Sequence[SeenHost]],
        applications: Mapping[str, Application], takes: bool, proxies: Sequence[str] = (),
    ):  # fmt: skip
        self._entry, self._takes = entry, takes
        self._proxies = [ipaddress.ip_network(one, strict=False) for one in proxies]
        self._accounts = {one.name: one for one in accounts}
        self._owners = {
            name: Owner(one.name, one.settings.home, False)
            for one in accounts for domain in one.domains for name in _names(domain)
        }  # fmt: skip
        for owner, several in hosts.items():
            for host in several:
                self._owners |= {name: owner for name in (host.name, *host.names) if name not in self._owners}
        self._ids = {plain(word): one.id for one in applications.values() for word in (one.id, one.shown)}
        self._applications = applications

    def enter(self, reading: Reading) -> None:
        known = {str(name) for one in self._accounts.values() for domain in one.domains for name in _names(domain)}
        known |= {one.host for one in self._entry.new if isinstance(one.host, str)}
        self._owners = {name: owner for name, owner in self._owners.items() if str(name) in known}
        for installed in reading.installations:
            self._enter_installation(installed)
        for certificate in reading.certificates:
            self._enter_certificate(certificate)
        if reading.records:
            self._enter_records(reading.records)

    def _owner(self, host: HostName) -> Owner | None:
        return next((owner for name in (host, *bare_and_www(host)) if (owner := self._owners.get(name))), None)

    def _enter_installation(self, seen: SeenInstallation) -> None:
        known, owner = self._ids.get(plain(seen.application)), self._owner(seen.address.host)
        if known is None or owner is None:
            near = did_you_mean(seen.application, [one.shown for one in self._applications.values()])
            why = (
                say("import/no-such-application", application=quoted(seen.application), near=near)
                if known is None
                else say("import/host-not-entered")
            )
            self._entry.remarks.append(
                ImportRemark(
                    seen.spot,
                    say("import/installation", application=seen.application, address=seen.address, why=why),
                    say("import/not-entered"),
                )
            )
            return
        account = self._accounts.get(owner.name)
        there = next((one for one in account.installations if one.address == seen.address), None) if account else None
        if account is not None and there is not None:
            if there.application != known:
                place = str(account.place(there, "application"))
                at, was = str(seen.address), there.application
                self._entry.differing.append(
                    Differing(account.name, at, "application", was, place, known, seen.spot, taken=False)
                )
            return
        values = table_of(Installation(known, seen.address, version=seen.version or None))
        self._add(owner, "installation", values, str(seen.address), "installation", known, seen)

    def _add(
        self, owner: Owner, table: str, values: dict[str, Any], host: str, what: str, leads: str,
        seen: SeenInstallation | SeenCertificate,
    ) -> None:  # fmt: skip
        self._entry.account(owner).changes.append(Change(owner.name, table, None, values))
        self._entry.new.append(NewEntry(owner.name, host, what, leads, seen.spot))

    def _enter_certificate(self, seen: SeenCertificate) -> None:
        until = datetime.date.fromisoformat(seen.until)
        owners = {owner for name in seen.covers for owner in self._covered(name)}
        if not owners:
            self._entry.remarks.append(
                ImportRemark(
                    seen.spot,
                    say("import/certificate-of-others", names=", ".join(seen.covers[:4])),
                    say("import/certificate-of-others/means"),
                )
            )
        for owner in sorted(owners):
            account = self._accounts.get(owner.name)
            same = [one for one in account.certificates if set(one.covers) == set(seen.covers)] if account else []
            if account is None or not same:
                values = table_of(Certificate(list(seen.covers), until))
                self._add(owner, "certificate", values, seen.covers[0], "certificate", f"until {until}", seen)
            elif same[-1].until is None or (same[-1].until < until):
                change = Change(account.name, "certificate", same[-1].number, {"until": until})
                self._entry.account(owner).changes.append(change)
                self._entry.new.append(NewEntry(account.name, seen.covers[0], "until", str(until), seen.spot))

    def _covered(self, name: HostName) -> Iterator[Owner]:
        if name[0] != "*":
            owner = self._owner(name)
            yield from [owner] if owner is not None else []
            return
        yield from (owner for host, owner in self._owners.items() if host == name or host.partition(".")[2] == name[2:])

    def _enter_records(self, records: Sequence[SeenRecord]) -> None:
        """What zones say of where the plan's hosts point, and of mail; hosts of which only one side knows are told."""
        by_host: dict[HostName, list[SeenRecord]] = {}
        for record in records:
            by_host.setdefault(record.host, []).append(record)
        zones = {record.zone: record for record in records}
        for account in self._accounts.values():
            for domain in account.domains:
                zone = next((zones[name] for name in (domain.name, *domain.name.above()) if name in zones), None)
                if zone is not None and domain.state != "retired":
                    self._enter_pointing(account, domain, by_host, zone)
        self._tell_others(by_host)
        ours = {address: name for name, one in self._accounts.items() for address in one.settings.ip_addresses}
        for host, there in by_host.items():
            at = next((ours[record.value] for record in there if record.value in ours), None)
            if (
                at is not None
                and self._owner(host) is None
                and host.partition(".")[0] not in ("mail", "ftp", "ns1", "ns2")
            ):
                text = say("import/points-here", host=host, at=at)
                self._entry.remarks.append(ImportRemark(there[0].spot, text, say("import/points-here/means")))

    def _tell_others(self, by_host: dict[HostName, list[SeenRecord]]) -> None:
        """Remark, once for each zone, the hosts that lead elsewhere and that no domain of the plan has."""
        ours = {address for one in self._accounts.values() for address in one.settings.ip_addresses}
        others: dict[HostName, list[HostName]] = {}
        for host, there in by_host.items():
            leads = [record for record in there if record.kind in ("A", "AAAA", "CNAME")]
            if leads and self._owner(host) is None and not any(record.value in ours for record in leads):
                others.setdefault(there[0].zone, []).append(host)
        for zone, hosts in others.items():
            text = say("import/zone-unknown", hosts=hosts, zone=zone)
            means = say("import/zone-unknown/means", hosts=hosts)
            self._entry.remarks.append(ImportRemark(by_host[hosts[0]][0].spot, text, means))

    def _is_proxy(self, address: str) -> bool:
        try:
            return any(ipaddress.ip_address(address) in network for network in self._proxies)
        except ValueError:
            return False

    def _enter_pointing(
        self, account: Account, domain: Domain, by_host: dict[HostName, list[SeenRecord]], zone: SeenRecord
    ) -> None:
        addresses = _addresses(domain.name, by_host)
        if not addresses:
            text = say("import/not-in-zone", domain=domain.name, zone=zone.zone)
            self._entry.remarks.append(
                ImportRemark(zone.spot, text, say("import/not-in-zone/means", place=account.place(domain)))
            )
            return
        filled: dict[str, Any] = {}
        ours = account.settings.ip_addresses
        if ours and any(self._is_proxy(one.value) for one in addresses):
            means = say("import/by-proxy/means")
            text = say("import/by-proxy", domain=domain.name, address=addresses[0].value)
            self._entry.remarks.append(ImportRemark(addresses[0].spot, text, means))
        elif ours:
            here = any(one.value in ours for one in addresses)
            if here != domain.points_here:
                place, seen = str(account.place(domain, "points_here" if not domain.points_here else "")), addresses[0]
                if domain.points_here:
                    filled["points_here"] = False
                    self._entry.new.append(
                        NewEntry(account.name, domain.name, "points_here", f"false ({seen.value})", seen.spot)
                    )
                else:
                    told, key = f"true ({seen.value})", "points_here"
                    self._entry.differing.append(
                        Differing(account.name, domain.name, key, "false", place, told, seen.spot, self._takes)
                    )
                    filled |= {"points_here": True} if self._takes else {}
        mail = [_addresses(HostName(one.value), by_host) for one in by_host.get(domain.name, ()) if one.kind == "MX"]
        if ours and not domain.mail and any(one.value in ours for there in mail for one in there):
            filled["mail"] = True
            self._entry.new.append(NewEntry(account.name, domain.name, "mail", "true", zone.spot))
        if filled:
            owner = Owner(account.name, account.settings.home, False)
            self._entry.account(owner).changes.append(Change(account.name, "domain", domain.number, filled))


def _names(domain: Domain) -> list[HostName]:
    return [domain.name, *domain.also, *(bare_and_www(domain.name) if domain.www not in (None, "apart") else ())]


def _addresses(host: HostName, by_host: dict[HostName, list[SeenRecord]]) -> list[SeenRecord]:
    """The address records that a host leads to within the zones that were read; by a wildcard where it has none."""
    for _ in range(_CHAIN):
        there = by_host.get(host) or next((by_host[one] for one in _wild(host) if one in by_host), [])
        found = [record for record in there if record.kind in ("A", "AAAA")]
        onward = next((record for record in there if record.kind == "CNAME"), None)
        if found or onward is None:
            return found
        host = HostName(onward.value.lower())
    return []


def _wild(host: HostName) -> Iterator[HostName]:
    return (HostName(f"*.{above}") for above in host.above())
