"""Rules about document roots."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout, Layout
from kettlepost.core.names import Folder, nested_pairs
from kettlepost.core.plan import Domain
from kettlepost.core.rules.finding import Finding
from kettlepost.core.rules.parties import domain_party
from kettlepost.core.rules.registry import account_rule
from kettlepost.core.rules.ways import free_root_words
from kettlepost.core.words import listed


@account_rule("stop")
def shared_root(layout: Layout, here: AccountLayout) -> Iterator[Finding]:
    """Two domains lead to one folder, so both show the same pages.

    Hosts offer a new domain the root of the main site, and a form that is sent as it stands
    takes it. From then on both names show the main site, an application installed "on the new
    domain" lands over the main one, and search engines see every page twice. Aliases,
    temporary addresses and redirects are meant to lead where another domain does, and are
    left alone.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "www"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "lanternchoir"

    Ways out:

    - give the newcomer a folder of its own that is free;
    - if both are to show the same pages, declare the one an alias of the other.
    """
    for root, domains in here.roots.items():
        if len(domains) < 2:
            continue
        keeper = _keeper(here, root, domains)
        newcomers = [domain for domain in domains if domain is not keeper]
        first = newcomers[0]
        ways = [free_root_words(here, domain.name) for domain in newcomers]
        ways.append(
            f"if {first.name} is to show the same pages as {keeper.name}, "
            f'make it an alias: kind = "alias", of = "{keeper.name}", and no root'
        )
        yield Finding(
            at=root.shown,
            title=f"{listed(domain.name for domain in domains)} all lead to {root.shown}"
            if len(domains) > 2
            else f"{domains[0].name} and {domains[1].name} both lead to {root.shown}",
            why=f"they show the same pages, and what is installed for {first.name} lands over {keeper.name}",
            parties=[domain_party(here.account, domain) for domain in [keeper, *newcomers]],
            ways_out=ways,
            account=here.name,
        )


@account_rule("risk")
def nested_root(layout: Layout, here: AccountLayout) -> Iterator[Finding]:
    """One domain's root lies inside another's.

    The inner site is then reached at a second address, below the outer domain; the outer
    site's control files (.htaccess) take effect in it; and whoever clears the outer site, or
    moves it, takes the inner one along. Some hosts allow nothing else; then accept the
    finding and keep the second address from being used.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "www/choir"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "choir"

    Ways out:

    - give the inner domain a free folder outside every other root;
    - where the host insists, redirect the second address to the first, and accept the finding.
    """
    for root, outer in nested_pairs(here.roots):
        domains = here.roots[root]
        inner, holder = domains[0], here.roots[outer][0]
        names = {mount.address for mount in here.mounts[root]}
        second = [str(address) for address in layout.addresses_of(here, root) if address not in names]
        also = f", so it also answers at {listed(second)}" if second else ""
        moved = domains if outer else here.roots[outer]  # nothing is outside a root that is the home
        ways = [free_root_words(here, domain.name) for domain in moved]
        if second:
            ways.append(
                f"if the host gives no other folder, redirect {second[0]} to {inner.name} in a control file "
                f"in {root.shown}, and write an [[accept]]"
            )
        yield Finding(
            at=root.shown,
            title=f"{root.shown}, the root of {listed(domain.name for domain in domains)}, "
            f"lies inside {outer.shown}, the root of {holder.name}",
            why=f"{holder.name} holds it{also}; its control files take effect in it, and clearing it clears both",
            parties=[domain_party(here.account, domain) for domain in [*domains, *here.roots[outer]]],
            ways_out=ways,
            account=here.name,
        )


def _keeper(here: AccountLayout, root: Folder, domains: list[Domain]) -> Domain:
    """The domain that was there first: the primary, else one with installations, else the first written."""
    hosts = [one.address.host for one in here.account.installations]
    ranked = sorted(domains, key=lambda domain: (domain.kind != "primary", -hosts.count(domain.name)))
    return ranked[0]
