"""Ways out: folders that are really free, addresses that lead to them, tables to write."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from itertools import count
from typing import Any

from kettlepost.core.layout import AccountLayout, stands_for
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import Change, Domain, Installation, Record
from kettlepost.core.rules.findings import WayOut
from kettlepost.core.words import listed

MANY = 12
"""So many parties of one kind are named one by one."""


def setting(here: AccountLayout, record: Record, **values: Any) -> Change:
    """The change that sets keys of a table; None takes a key out."""
    table = here.account.identity(record)
    return Change(here.name, table.table, table.number, values)


def dropping(here: AccountLayout, record: Record) -> Change:
    """The change that takes a table out."""
    table = here.account.identity(record)
    return Change(here.name, table.table, table.number, drop=True)


def is_free(here: AccountLayout, folder: Folder, taken: Iterable[Folder] = ()) -> bool:
    """Whether nobody holds `folder`, nothing lies in it, and it is outside every root and installation.

    The home does not count: where it is a root itself, nothing is outside it.
    """
    around = (above for above in folder.above() if above)
    if here.is_held(folder) or here.claimed_inside(folder) or any(map(here.is_held, around)) or folder in taken:
        return False
    return here.contents is None or here.contents.is_empty(folder)


def free_root(here: AccountLayout, host: HostName, taken: Iterable[Folder] = ()) -> Folder:
    """A free folder for `host`, outside every other root, beside the roots of its kind if they share a folder."""
    parent = here.shelf
    return next(folder for folder in (parent.below(name) for name in _names(host)) if is_free(here, folder, taken))


def moved_roots(here: AccountLayout, domains: Sequence[Domain]) -> WayOut:
    """Give each of `domains` a free folder of its own."""
    taken: dict[Folder, Domain] = {}
    for domain in domains:
        taken[free_root(here, domain.name, taken)] = domain
    changes = [setting(here, domain, root=str(folder)) for folder, domain in taken.items()]
    free = "free" if here.contents is not None else "free in the plan (no survey tells what is there)"
    folders = list(taken)
    if len(domains) == 1:
        words = f"give {domains[0].name} the folder {folders[0].shown}, which is {free}"
    elif len(domains) <= MANY:
        each = listed(f"{domain.name} the folder {folder.shown}" for folder, domain in taken.items())
        words = f"give {each}, which are {free}"
    else:
        words = f"give each of the {len(domains):,} a folder of its own that is {free}, such as {folders[0].shown}"
    return WayOut(words, tuple(changes))


def free_address(here: AccountLayout, installation: Installation) -> tuple[Address, Folder] | None:
    """An address below the installation's own whose folder is free but for the root it lies in."""
    mount = here.hosts.mount(installation.address)
    if mount is None or mount.folder is None:
        return None
    return free_below(here, Address(installation.address.host, mount.address.path), (installation.application,))


def free_below(here: AccountLayout, base: Address, names: Iterable[str]) -> tuple[Address, Folder] | None:
    """The first address below `base`, by `names` or numbered, whose folder is free but for the root it lies in."""
    for name in numbered(names):
        address = base.below(name)
        folder = here.reach(address)
        if folder is None:
            return None
        untouched = here.contents is None or not here.contents.exists(folder)
        if untouched and not here.is_held(folder) and not here.claimed_inside(folder):
            return address, folder
    return None


def elsewhere(here: AccountLayout, installation: Installation) -> list[WayOut]:
    """Moving an installation to a subfolder, or to a subdomain of its own."""
    ways = []
    below = free_address(here, installation)
    if below is not None:
        words = f"move {installation.address} to {below[0]}, whose folder {below[1].shown} is free"
        ways.append(WayOut(words, (setting(here, installation, address=str(below[0]), folder=None),)))
    own = own_subdomain(here, installation)
    return [*ways, own] if own is not None else ways


def own_subdomain(here: AccountLayout, installation: Installation) -> WayOut | None:
    """Moving an installation to a subdomain of its own, with a root outside all others."""
    domain = host_domain(here, installation.address)
    if domain is None:
        return None
    label = re.sub(r"[^a-z0-9-]", "", installation.application.replace("_", "-")).strip("-") or "site"
    host = next(
        host for name in numbered((label,)) if not here.hosts.serving(host := HostName(f"{name}.{domain}"))
        or (host not in here.hosts)
    )  # fmt: skip
    root = free_root(here, host)
    words = f"move it to a subdomain of its own, {host}, with the root {root.shown}, which is free"
    declared = Change(here.name, "domain", None, {"name": str(host), "kind": "subdomain", "root": str(root)})
    return WayOut(words, (declared, setting(here, installation, address=str(host), folder=None)))


def host_domain(here: AccountLayout, address: Address) -> HostName | None:
    """The domain a new subdomain for this address would go under: no alias, and no subdomain itself."""
    mount = here.hosts.mount(address)
    domain = stands_for(here.account, mount.domain) if mount is not None else None
    if domain is None or domain.name.startswith("*."):
        return None
    named = here.account.named
    host = domain.name
    while named[host].kind == "subdomain" and host.parent in named:
        host = named[host.parent].name
    return host


def _names(host: HostName) -> Iterator[str]:
    return numbered((host.words, host.replace("*", "any")))


def numbered(names: Iterable[str]) -> Iterator[str]:
    """Each name as it is, then the last with 2, 3, ... behind it, without end."""
    last = ""
    for last in names:
        yield last
    yield from (f"{last}-{number}" for number in count(2))
