"""Which host of a server's configuration answers, now or once the plan is carried out."""

from __future__ import annotations

import posixpath

from kettlepost.core.layout import FolderState, Mount
from kettlepost.core.messages import Message, say
from kettlepost.core.names import Address, HostName
from kettlepost.core.nginx import ServerMatch
from kettlepost.core.plan import Account
from kettlepost.core.webserver import WHICH_ADDRESS, ApacheHosts, HostSetup, VirtualHost

ConfiguredHost = HostSetup | ServerMatch
WHICH_PLACE = say("doubt/host-place")
"""On what it depends whether a new host answers."""


def configured_host(state: FolderState, mount: Mount, host: HostName, scheme: str) -> ConfiguredHost | None:
    """How the server's configuration has a host; None where that was not read in, or does not tell.

    What is planned is as it is now where the plan changes nothing of the host, else as the plan has it under what the
    configuration says of all hosts.
    """
    if state.layout.server_hosts is None:
        return None
    key = mount.address, mount.way, host, scheme
    if key not in state.configured:
        state.configured[key] = _configured(state, mount, host, scheme)
    found: ConfiguredHost | None = state.configured[key]
    return found


def _configured(state: FolderState, mount: Mount, host: HostName, scheme: str) -> ConfiguredHost | None:
    hosts = state.layout.server_hosts
    if hosts is None:
        return None
    ips = state.layout.account.settings.ip_addresses or ()
    if isinstance(hosts, ApacheHosts):
        found = hosts.chosen(host, scheme, ips)
        if found is None:
            return None
        if found.answers_for(host):
            as_it_is = _is_as_it_is(state, mount)
            return hosts.setup(found, state.layout.server) if as_it_is else _planned(state, mount, found)
        if state.when == "now":
            return hosts.setup(found, state.layout.server) if hosts.configuration.is_whole else None
        return _planned(state, mount, None)
    match = hosts.chosen(host, scheme, ips)
    if match is None or not _is_as_it_is(state, mount):
        return None
    return match if match.is_named or hosts.configuration.is_whole else None


def what_is_untold(state: FolderState, mount: Mount, host: HostName, scheme: str) -> Message | None:
    """What nobody says of which host of the server answers; None where that is sure.

    It is the address at which visitors arrive, where hosts differ by that, or the place of a new host of Apache: the
    first that has a name answers, and one may have it by a wildcard.
    """
    hosts, ips = state.layout.server_hosts, state.layout.account.settings.ip_addresses or ()
    if hosts is None:
        return None
    if configured_host(state, mount, host, scheme) is not None and not hosts.is_sure(host, scheme, ips):
        return WHICH_ADDRESS
    if state.when == "now" or not isinstance(hosts, ApacheHosts) or "*" in mount.address.host:
        return None
    found = hosts.chosen(host, scheme, ips)
    has_it = found is not None and found.answers_for(host) and not found.has_by_itself(host)
    return WHICH_PLACE if has_it and not _is_as_it_is(state, mount) else None


def _is_as_it_is(state: FolderState, mount: Mount) -> bool:
    """Whether a mount is the same once the plan is carried out."""
    if state.when == "now":
        return True
    now = state.layout.tree("now").hosts.mount(mount.address)
    return now is not None and (now.address, now.folder, now.goes) == (mount.address, mount.folder, mount.goes)


def _planned(state: FolderState, mount: Mount, found: VirtualHost | None) -> HostSetup | None:
    """A host as the plan has it: the one that is there, else a new one under what is said of all hosts."""
    hosts = state.layout.server_hosts
    base = state.tree.hosts.mount(Address(mount.address.host)) if mount.address.path else mount
    if not isinstance(hosts, ApacheHosts) or not hosts.configuration.is_whole or base is None or base is not mount:
        return None
    own, is_there = mount.domain, found is not None and found.has_by_itself(mount.address.host)
    says_more = own.https or own.protected or own.fallback or state.layout.account.path_rules
    if mount.way is None or (says_more and not is_there):
        return None
    root = posixpath.normpath(f"{assumed_home(state.layout.account)}/{mount.way}")
    return hosts.setup(found if found is not None and is_there else hosts.itself, state.layout.server, root)


def answers_by_tls(state: FolderState, host: HostName) -> bool | None:
    """Whether a host answers by https as the server's configuration has it; None where that does not tell."""
    hosts = state.layout.server_hosts
    if hosts is None:
        return None
    ips = state.layout.account.settings.ip_addresses or ()
    if isinstance(hosts, ApacheHosts):
        found = hosts.chosen(host, "https", ips)
        if found is not None and hosts.is_secure(found):
            return True if found.answers_for(host) or hosts.configuration.is_whole else None
    else:
        match = hosts.chosen(host, "https", ips)
        if match is not None:
            return True if match.is_named or hosts.configuration.is_whole else None
    return False if hosts.configuration.is_whole else None


def assumed_home(account: Account) -> str:
    """Where an account's folders lie on the machine, as it is told, or as it is usual."""
    return (account.settings.home or f"/home/{account.name}").rstrip("/") or "/home"
