"""Rules about host names and the addresses below them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout, Layout, Mount
from kettlepost.core.names import Address, HostName, nearest
from kettlepost.core.plan import Installation, Place
from kettlepost.core.rules.finding import Finding, Party
from kettlepost.core.rules.parties import domain_party, installation_party
from kettlepost.core.rules.registry import plan_rule
from kettlepost.core.rules.ways import free_root
from kettlepost.core.words import counted, listed


@plan_rule("stop")
def stray_host(layout: Layout) -> Iterator[Finding]:
    """An installation's host is no domain of its account.

    Nothing leads from the address to a folder: the domain was never added, belongs to another
    account, or is misspelt. An installer then offers the main site's folder or fails half-way.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[installation]]
        application = "barrowshop"
        address = "milbrookrail.example/shop"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

    Ways out:

    - correct the host name to the nearest one of the account;
    - declare the domain, with a root that is free;
    - move the entry to the account that has the domain;
    - where the domain only redirects, use the address it redirects to.
    """
    for here in layout.accounts.values():
        for installation in here.homeless:
            yield _stray(layout, here, installation)
        for folder in here.placed.values():
            for installation in folder:
                if installation.folder is not None and _stray_reason(layout, here, installation) is not None:
                    yield _stray(layout, here, installation)


@plan_rule("stop")
def domain_twice(layout: Layout) -> Iterator[Finding]:
    """One host name is declared twice, in one account or in two.

    A host name leads to one place. Which declaration wins depends on the server, so half the
    plan describes something that does not exist. Case, a trailing dot and the two spellings
    of an international name make no difference. A temporary address shared by several
    accounts is told apart by its path.

    Bad:

        [[domain]]
        name = "lanternchoir.example"
        kind = "primary"
        root = "www"

        [[domain]]
        name = "LanternChoir.example."
        kind = "addon"
        root = "choir"

    Good:

        [[domain]]
        name = "lanternchoir.example"
        kind = "primary"
        root = "www"

    Ways out:

    - keep the declaration that is true, usually the one with installations, and remove the rest.
    """
    for host, mounts in layout.hosts.items():
        if len(mounts) < 2:
            continue
        alike: dict[str, list[Mount]] = defaultdict(list)
        for mount in mounts:
            alike[mount.address.path].append(mount)
        for path, twice in alike.items():
            if len(twice) > 1:
                yield _twice(Address(host, path), twice)


def _stray_reason(layout: Layout, here: AccountLayout, installation: Installation) -> str | None:
    """Why an address leads to no folder of its account; None when it does."""
    address = installation.address
    mounts = layout.hosts.get(address.host)
    if not mounts:
        return f"{address.host} is no domain of the plan"
    reach = layout.reach(address)
    if reach is None:
        known = listed(str(mount.address) for mount in mounts)
        return f"{address.host} leads to folders only below {known}"
    owner = reach.mount.account
    if owner is not here.account:
        return f"{address.host} is a domain of account {owner.name}, not of {here.name}"
    return f"{address.host} redirects and leads to no folder" if reach.folder is None else None


def _stray(layout: Layout, here: AccountLayout, installation: Installation) -> Finding:
    address = installation.address
    reason = _stray_reason(layout, here, installation)
    mounts = layout.hosts.get(address.host, [])
    owners = {mount.account.name: mount.account for mount in mounts if mount.account is not here.account}
    ways: list[str] = []
    if owners:
        ways.append(f"move the entry to {listed(owner.source.name for owner in owners.values())}, which has the domain")
    elif mounts:
        others = [str(mount.domain.redirect_to or mount.address) for mount in mounts]
        ways.append(f"give the installation an address below {listed(others)}")
    else:
        own = [host for host, known in layout.hosts.items() if known[0].account is here.account]
        near = nearest(address.host, own, 3) or nearest(address.host, layout.hosts, 1)
        ways += [f'if {host} is meant, write address = "{Address(HostName(host), address.path)}"' for host in near]
        kind = "subdomain" if any(address.host.endswith("." + host) for host in own) else "addon"
        root = free_root(here, address.host)
        ways.append(
            f'if it is a new domain, declare it: [[domain]] name = "{address.host}", kind = "{kind}", '
            f'root = "{root.shown}", which is free'
        )
    return Finding(
        at=str(address),
        title=f"{installation.application} is to be at {address}, but {reason}",
        why="nothing leads from the address to a folder, so it cannot be deployed there",
        parties=[installation_party(here.account, installation)]
        + [domain_party(mount.account, mount.domain) for mount in mounts[:1]],
        ways_out=ways,
        account=here.name,
    )


def _twice(address: Address, mounts: list[Mount]) -> Finding:
    uses = {id(mount): _uses(mount) for mount in mounts}
    keeper = max(mounts, key=lambda mount: uses[id(mount)])
    others = [mount for mount in mounts if mount is not keeper]
    accounts = sorted({mount.account.name for mount in mounts})
    within = f"in account {accounts[0]}" if len(accounts) == 1 else f"in accounts {listed(accounts)}"
    used = f", which has {counted(uses[id(keeper)], 'installation')}" if uses[id(keeper)] else ""
    removed = listed(f"the one at {_written(mount)[0]}" for mount in others)
    return Finding(
        at=str(address.host),
        title=f"{address.host if not address.path else address} is declared {_times(len(mounts))}, {within}",
        why="a host name leads to one place, and which declaration wins is up to the server",
        parties=[_declared(mount) for mount in [keeper, *others]],
        ways_out=[f"keep the declaration at {_written(keeper)[0]}{used}, and remove {removed}"],
        account=keeper.account.name,
        also_at=sorted({mount.account.name for mount in others} - {keeper.account.name}),
    )


def _times(number: int) -> str:
    return "twice" if number == 2 else f"{number} times"


def _uses(mount: Mount) -> int:
    """How many installations of the mount's account answer at its host."""
    ours = (one for one in mount.account.installations if one.state != "retired")
    return sum(one.address.host == mount.address.host for one in ours)


def _declared(mount: Mount) -> Party:
    place, how = _written(mount)
    return Party(how, mount.address.host, place)


def _written(mount: Mount) -> tuple[Place, str]:
    """Where a mount's host was written, and as what."""
    table = mount.account.place(mount.domain)
    if mount.domain.name == mount.address.host:
        return table, mount.domain.kind
    return Place(table.source, (*table.key, "also")), f"another name of {mount.domain.name}"
