"""Ways out: folders that are really free, addresses that lead to them, tables to write."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator
from itertools import count

from kettlepost.core.layout import AccountLayout, Layout
from kettlepost.core.names import HOME, Address, Folder, HostName, nested_pairs
from kettlepost.core.plan import Installation


def is_free(here: AccountLayout, folder: Folder) -> bool:
    """Whether nobody holds `folder`, nothing lies in it, and it is outside every root and installation.

    The home does not count: where it is a root itself, nothing is outside it.
    """
    around = (above for above in folder.above() if above)
    if here.is_held(folder) or here.claimed_inside(folder) or any(map(here.is_held, around)):
        return False
    return here.contents is None or here.contents.is_empty(folder)


def free_root(here: AccountLayout, host: HostName) -> Folder:
    """A free folder for `host`, outside every other root, beside the roots of its kind if they share a folder."""
    parent = _usual_parent(here)
    return next(folder for folder in (parent.below(name) for name in _names(host)) if is_free(here, folder))


def free_root_words(here: AccountLayout, host: HostName) -> str:
    free = "free" if here.contents is not None else "free in the plan (no survey tells what is there)"
    return f"give {host} the folder {free_root(here, host).shown}, which is {free}"


def free_address(layout: Layout, here: AccountLayout, installation: Installation) -> tuple[Address, Folder] | None:
    """An address below the installation's own whose folder is free but for the root it lies in."""
    reach = layout.reach(installation.address)
    if reach is None or reach.folder is None or reach.mount.account is not here.account:
        return None
    base = Address(installation.address.host, reach.mount.address.path)
    for name in _numbered((installation.application,)):
        address = base.below(name)
        found = layout.reach(address)
        folder = found.folder if found else None
        if folder is None or found is None or found.mount.account is not here.account:
            return None
        untouched = here.contents is None or (not here.contents.exists(folder))
        if untouched and not here.is_held(folder) and not here.claimed_inside(folder):
            return address, folder
    return None


def elsewhere(layout: Layout, here: AccountLayout, installation: Installation) -> list[str]:
    """Words for moving an installation to a subfolder or a subdomain of its own."""
    words = []
    below = free_address(layout, here, installation)
    if below is not None:
        words.append(f"move {installation.address} to {below[0]}, whose folder {below[1].shown} is free")
    domain = host_domain(layout, installation.address)
    if domain is not None:
        host = next(
            host
            for name in _numbered((re.sub(r"[^a-z0-9-]", "", installation.application.replace("_", "-")) or "site",))
            if (host := HostName(f"{name}.{domain}")) not in layout.hosts
        )
        root = free_root(here, host)
        words.append(f"move it to a subdomain of its own, {host}, with the root {root.shown}, which is free")
    return words


def host_domain(layout: Layout, address: Address) -> HostName | None:
    """The domain a new subdomain for this address would go under: no alias, and no subdomain itself."""
    reach = layout.reach(address)
    if reach is None:
        return None
    names = {domain.name: domain for domain in reach.mount.account.domains}
    domain = reach.mount.domain
    while domain.of is not None:
        domain = names[domain.of]
    host = domain.name
    while names[host].kind == "subdomain" and host.parent in names:
        host = names[host.parent].name
    return host


def _usual_parent(here: AccountLayout) -> Folder:
    """Where the account's other roots stand side by side, if that is inside none of them."""
    nested = {inner for inner, _ in nested_pairs(here.roots)}
    parents = Counter(root.parent for root in here.roots if root.depth > 1 and root not in nested)
    usual = [parent for parent, number in parents.most_common() if number > 1]
    return next((parent for parent in usual if not here.is_held(parent)), HOME)


def _names(host: HostName) -> Iterator[str]:
    return _numbered((host.words, host.replace("*", "any")))


def _numbered(names: Iterable[str]) -> Iterator[str]:
    """Each name as it is, then the last with 2, 3, ... behind it."""
    last = ""
    for last in names:
        yield last
    yield from (f"{last}-{number}" for number in count(2))
