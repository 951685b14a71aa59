"""What is asked of the world about an account: its hosts, and the addresses that people open."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from enum import StrEnum
from typing import NamedTuple

from kettlepost.core.layout import AccountLayout, Mount, When, bare_and_www
from kettlepost.core.names import Address, HostName
from kettlepost.core.plan import Domain, Installation
from kettlepost.core.survey import url_of

SCHEMES = ("http", "https")


class AskedFor(StrEnum):
    """Why an address is asked for."""

    HOST = "host"
    INSTALLATION = "installation"
    ADMINISTRATION = "administration"
    PROMISED = "promised"
    DEEPER = "deeper"


class PageQuestion(NamedTuple):
    """An address to open by one scheme."""

    url: str
    host: HostName
    purpose: AskedFor


class Questions(NamedTuple):
    """All that is asked of one account; `untold` are hosts of which the plan does not say whether they are to be."""

    hosts: tuple[HostName, ...]
    untold: tuple[HostName, ...]
    pages: tuple[PageQuestion, ...]


def questions(layout: AccountLayout, when: When, only: Collection[Domain | Installation] | None = None) -> Questions:
    """What is asked about an account, or about some of its domains and installations."""
    domains = {one.number for one in only if isinstance(one, Domain)} if only is not None else None
    sites = {one.number for one in only if isinstance(one, Installation)} if only is not None else None
    hosts = {
        host: mounts
        for host, mounts in layout.tree(when).hosts.items()
        if not host.startswith("*.")
        and (domains is None or any(one.domain.number in domains for one in mounts) or _has_site(layout, host, sites))
    }
    pages = dict[str, PageQuestion]()
    for mounts in hosts.values():
        if domains is not None and not any(one.domain.number in domains for one in mounts):
            continue
        for mount in mounts:
            _add(pages, mount.address, AskedFor.PROMISED if mount.folder is None else AskedFor.HOST)
        _add_deeper(pages, layout, mounts)
    for installation in _there(layout, when, sites or ()):
        if installation.address.host in hosts and (sites is None or domains or installation.number in sites):
            _add(pages, installation.address, AskedFor.INSTALLATION)
            admin = layout.application(installation).admin
            if admin:
                _add(pages, installation.address, AskedFor.ADMINISTRATION, admin)
    for rule in layout.account.path_rules:
        if rule.does == "redirect" and rule.address.host in hosts and sites is None:
            _add(pages, rule.address, AskedFor.PROMISED)
    untold = [name for host in hosts for name in _unsaid(layout, host, hosts[host])]
    return Questions(tuple(sorted(hosts)), tuple(sorted(set(untold) - set(hosts))), tuple(pages.values()))


def _there(layout: AccountLayout, when: When, named: Collection[int]) -> Iterator[Installation]:
    """The installations that are there, and those that are asked about by name, whatever their state."""
    states = ("live",) if when == "now" else ("live", "planned")
    return (one for one in layout.account.installations if one.state in states or one.number in named)


def _has_site(layout: AccountLayout, host: HostName, sites: Collection[int] | None) -> bool:
    return any(one.number in (sites or ()) and one.address.host == host for one in layout.account.installations)


def _unsaid(layout: AccountLayout, host: HostName, mounts: list[Mount]) -> Iterator[HostName]:
    """The other form of a name, with or without www, where the plan does not say what it is."""
    for mount in mounts:
        own = mount.domain
        if own.name == host and own.www is None and own.kind in ("primary", "addon"):
            yield from (name for name in bare_and_www(host) if not layout.tree("planned").hosts.serving(name))


def _add(pages: dict[str, PageQuestion], address: Address, purpose: AskedFor, below: str = "") -> None:
    for scheme in SCHEMES:
        url = url_of(scheme, address, below)
        pages.setdefault(url, PageQuestion(url, address.host, purpose))


def _add_deeper(pages: dict[str, PageQuestion], layout: AccountLayout, mounts: list[Mount]) -> None:
    """One page further down of a host, where the survey shows one that is no site of its own."""
    mount, contents = mounts[-1], layout.contents
    if mount.folder is None or contents is None or contents.applications.get(mount.folder) is not None:
        return
    for folder in contents.children(mount.folder):
        found = contents.folders.get(folder)
        is_held = folder in layout.roots or layout.is_held(folder) or folder.name.startswith(".")
        if found is not None and found.index and not is_held and folder not in contents.applications:
            _add(pages, mount.address.below(folder.relative_to(mount.folder)), AskedFor.DEEPER)
            return
