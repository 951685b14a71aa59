"""What a source says of each account, as it is kept beside the plan."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from kettlepost.core.exchange.accounts_of import Owner
from kettlepost.core.exchange.observed import Reading, SeenHost
from kettlepost.core.layout import bare_and_www
from kettlepost.core.names import HostName
from kettlepost.core.plan import Account, below_home
from kettlepost.core.survey import ExternalFacts, ObservedCertificate, ObservedHost, ObservedRecord


def outside_of(
    reading: Reading, hosts: Mapping[Owner, Sequence[SeenHost]], accounts: Iterable[Account], taken: str
) -> Iterator[ExternalFacts]:
    """What was seen of each account at a moment, given whose its hosts are."""
    names: dict[str, set[str]] = {one.name: set(_names(one)) for one in accounts}
    for owner, several in hosts.items():
        names.setdefault(owner.name, set()).update(name for host in several for name in (host.name, *host.names))
    observed: dict[str, list[ObservedHost]] = {}
    for owner, several in hosts.items():
        observed[owner.name] = [one for host in several for one in _observed(host, owner, reading)]
    for name, own in names.items():
        found = ExternalFacts(name, taken, sorted(observed.get(name, ())))
        found.records = sorted(
            {
                ObservedRecord(str(one.host), one.kind, one.value, one.ttl)
                for one in reading.records
                if _is_of(one.host, own)
            }
        )
        found.certificates = sorted(
            ObservedCertificate(list(map(str, one.covers)), one.until)
            for one in reading.certificates if any(_is_of(host, own) for host in one.covers)
        )  # fmt: skip
        if found.hosts or found.records or found.certificates:
            yield found


def _names(account: Account) -> Iterator[str]:
    for domain in account.domains:
        yield from (domain.name, *domain.also, *bare_and_www(domain.name))


def _is_of(host: HostName, names: set[str]) -> bool:
    return host in names or any(above in names for above in host.above())


def _observed(host: SeenHost, owner: Owner, reading: Reading) -> Iterator[ObservedHost]:
    """A host and its further names; not what is answered by another program, or lies outside of the home."""
    folder = host.folder or ""
    inside = below_home(folder, owner.home) if folder.startswith("/") else folder
    goes = str(host.sends_to) if host.sends_to is not None else ""
    if host.begins or host.guess or host.elsewhere or host.of is not None or not (inside or goes):
        return
    for name in (host.name, *host.names):
        unread = host.certificate if host.certificate in reading.unread else ""
        yield ObservedHost(str(name), "" if goes else inside or "", goes, str(host.spot), unread)
