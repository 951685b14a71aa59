"""Which accounts can have a part in what is wrong with some of them: by host names, and by database servers."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.layout.mounts import bare_and_www
from kettlepost.core.layout.tables import server_key
from kettlepost.core.names import HostName


def neighbours(
    declared: Mapping[str, Sequence[str]], layout_of: Callable[[str], AccountLayout], accounts: Sequence[str]
) -> set[str] | None:
    """`accounts` with those that share a host name with them, or to which redirects lead on from them.

    `declared` are the accounts that declare each host name. None where any account may have a part:
    where a database lies on a server that others may use, too.
    """
    layouts = [layout_of(name) for name in accounts]
    bases = (entry.database for layout in layouts for entry in layout.account.installations)
    if any(base is not None and server_key(base.server) for base in bases):
        return None
    found = set(accounts)
    hosts = {host for layout in layouts for host in _asked_of_others(layout)}
    wild = tuple({host[1:] for layout in layouts for host in layout.hosts if host[0] == "*"})
    if wild:
        hosts |= {HostName(host) for host in declared if host.endswith(wild)}
    passed: set[HostName] = set()
    while hosts:
        passed |= hosts
        names = {name for host in hosts for name in declared.get(host, ())} - found
        found |= names
        hosts = {host for name in names for host in _sent_to(layout_of(name))} - passed
    return found


def _asked_of_others(layout: AccountLayout) -> Iterator[HostName]:
    """The host names that another account may declare as well, or answer for."""
    own = {*layout.hosts, *(entry.address.host for entry in layout.account.installations), *_sent_to(layout)}
    for host in own:
        for name in dict.fromkeys((host, *bare_and_www(host))):
            yield name
            for above in name.above():
                yield from (above, HostName(f"*.{above}"))


def _sent_to(layout: AccountLayout) -> Iterator[HostName]:
    """Where an account's redirects lead, with the wildcards that may answer there."""
    for mounts in layout.hosts.values():
        for mount in mounts:
            if mount.goes is not None:
                yield mount.goes.host
                yield from (HostName(f"*.{above}") for above in mount.goes.host.above())
