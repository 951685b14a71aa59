"""Rules about the addresses of one account: which is taken, shadowed, or leads nowhere."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout, stands_for
from kettlepost.core.names import Address, HostName, nearest, quoted
from kettlepost.core.plan import Application, Installation, RecordId
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.moves import moves_elsewhere, own_subdomain
from kettlepost.core.rules.parties import domain_party, installation_party
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import completing, dropping, free_root, setting
from kettlepost.core.words import listed

RESERVED = frozenset(("cgi-bin", ".well-known", "server-status", "server-info", "icons", "error"))
"""First segments that web servers and certificates' programs answer themselves as they are usually set up."""


@account_rule("address-twice", "stop", reaches=RuleReach.HOST)
def address_twice(layout: AccountLayout) -> Iterator[Finding]:
    """Two installations are at one address.

    The later one overwrites the earlier, whatever their entries say. An alias and the domain it
    stands for count as one host, and so do the bare name and the one with www where the plan
    says that both lead to one place. Retired installations do not count.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        www = "both"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

        [[installation]]
        application = "ticketgrove"
        address = "www.millbrookrail.example/shop"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        www = "both"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

        [[installation]]
        application = "ticketgrove"
        address = "www.millbrookrail.example/tickets"

    Ways out:

    - give the later one an address whose folder is free;
    - if one of them is gone, mark it retired; if it was written twice, remove an entry.
    """
    if len({installation.address for installation in layout.account.installations}) == len(
        layout.account.installations
    ) and not any(
        domain.of or domain.also or domain.www or domain.redirect_to or domain.name[0] == "*"
        for domain in layout.account.domains
    ):
        return
    taken: dict[Spot, list[Installation]] = defaultdict(list)
    for installation in layout.account.installations:
        if installation.state != "retired":
            taken[canonical(layout, installation.address)].append(installation)
    for there in taken.values():
        if len(there) < 2:
            continue
        keeper, *others = sorted(there, key=lambda installation: installation.state != "live")
        ways = moves_elsewhere(layout, others[0]) if len(others) == 1 else []
        gone = f'if {others[0].application} is gone, mark it state = "retired"; if it was written twice, remove one'
        yield Finding(
            at=str(keeper.address),
            title=f"{listed(f'{each.application} at {each.address}' for each in there)} are at one address",
            why="whichever is deployed later overwrites the other",
            parties=[installation_party(layout.account, installation, "address") for installation in [keeper, *others]],
            ways_out=[*ways, WayOut(gone, [setting(layout, installation, state="retired") for installation in others])],
        )


@account_rule("www-split", "risk", reaches=RuleReach.NONE)
def www_split(layout: AccountLayout) -> Iterator[Finding]:
    """A domain with and without www leads to two folders.

    Visitors take both for one site. Which of the two they see depends on what they type, and
    whoever mends the one wonders why the other stays as it was.

    Bad:

        [[domain]]
        name = "www.millbrookrail.example"
        kind = "subdomain"
        root = "old"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        www = "bare"

    Ways out:

    - declare one of them, and say with www = "both", "bare" or "www" which one answers;
    - if they are meant to differ, say so with www = "apart".
    """
    for www, mounts in layout.hosts.items():
        if not www.startswith("www."):
            continue
        theirs, ours = mounts[-1], layout.hosts.get(HostName(www[4:]), [None])[-1]
        if ours is None or ours.folder is None or theirs.folder is None or ours.folder == theirs.folder:
            continue
        if "apart" in (ours.domain.www, theirs.domain.www) or ours.address.path or theirs.address.path:
            continue
        apart = WayOut(
            f'if they are meant to differ, write www = "apart" at {layout.account.place(ours.domain)}',
            [setting(layout, ours.domain, www="apart")],
        )
        ways = [apart]
        used = any(installation.address.host == www for installation in layout.account.installations)
        alone = theirs.domain.name == www and not theirs.domain.also and ours.domain.name == www[4:]
        if alone and not used:
            ways.insert(
                0,
                WayOut(
                    f'write www = "both" at {layout.account.place(ours.domain)}, and take {www} out',
                    [setting(layout, ours.domain, www="both"), dropping(layout, theirs.domain)],
                ),
            )
        yield Finding(
            at=str(ours.address.host),
            title=f"{ours.address.host} leads to {ours.folder.shown}, {www} to {theirs.folder.shown}",
            why="visitors take both for one site, and see one or the other by what they type",
            parties=[domain_party(layout.account, ours.domain), domain_party(layout.account, theirs.domain)],
            ways_out=ways,
        )


@account_rule("path-shadowed", "stop", reaches=RuleReach.FOLDER)
def path_shadowed(layout: AccountLayout) -> Iterator[Finding]:
    """An address lies under an application that answers that path itself, or has a folder of that name.

    The outer application's own pages at the path are gone, or the files of the two mix in one
    folder, and its next update overwrites the inner one.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"

        [[installation]]
        application = "ticketgrove"
        address = "millbrookrail.example/goods"
        state = "planned"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"

        [[installation]]
        application = "ticketgrove"
        address = "millbrookrail.example/tickets"
        state = "planned"

    Ways out:

    - give the inner one a subdomain of its own;
    - give it a path that the outer one does not use.
    """
    for folder, outside in layout.nested:
        outer = layout.standing[outside][0]
        known = layout.application(outer)
        first = folder.relative_to(outside).partition("/")[0]
        if first not in (*known.segments, *known.folders):
            continue
        inner = layout.standing[folder][0]
        own = own_subdomain(layout, inner)
        has = "has a folder of that name" if first in known.folders else "answers that path itself"
        yield Finding(
            at=str(inner.address),
            title=f"{inner.application} at {inner.address} lies under {known.shown} at {outer.address}, which {has}",
            why=f"{known.shown}'s own {first} is gone or mixed with it, and its next update overwrites what is there",
            parties=[installation_party(layout.account, inner, "address"), installation_party(layout.account, outer)],
            ways_out=[
                *([own] if own is not None else []),
                WayOut(
                    f"give it a path that {known.shown} does not use; taken are {listed(_taken(known), 8)}",
                    steps=[completing(layout, inner, "address")],
                ),
            ],
        )


@account_rule("reserved-path", "stop", reaches=RuleReach.NONE)
def reserved_path(layout: AccountLayout) -> Iterator[Finding]:
    """An address begins with a path that the server or the host answers itself.

    Requests never reach the application. Built in are cgi-bin, .well-known, server-status,
    server-info, icons, error and everything that begins with a tilde; what else a host takes
    stands in reserved_paths of the account.

    Bad:

        [account]
        name = "millbrook"
        reserved_paths = ["post"]

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/post"
        state = "planned"

    Good:

        [account]
        name = "millbrook"
        reserved_paths = ["post"]

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"

    Ways out:

    - give the installation another path, or a subdomain of its own.
    """
    reserved = {*RESERVED, *(path.strip("/") for path in layout.account.settings.reserved_paths)}
    for installation in layout.account.installations:
        first = installation.address[1].partition("/")[0]
        if installation.state == "retired" or (first not in reserved and first[:1] != "~"):
            continue
        mount = layout.hosts.mount(installation.address)
        if not first or (mount is not None and mount.address.path):
            continue
        yield Finding(
            at=str(installation.address),
            title=f"{installation.application} is to answer at {installation.address}, "
            f"but the server answers {quoted(first)} itself",
            why="requests never reach the application",
            parties=[installation_party(layout.account, installation, "address")],
            ways_out=moves_elsewhere(layout, installation)
            or [WayOut("give the installation another path", steps=[completing(layout, installation, "address")])],
        )


@account_rule("alias-of-nothing", "stop", reaches=RuleReach.NONE)
def alias_of_nothing(layout: AccountLayout) -> Iterator[Finding]:
    """An alias or temporary address stands for a domain that the account does not have.

    It leads nowhere: the domain was renamed, removed, or moved to another account.

    Bad:

        [[domain]]
        name = "millbrook-rail.example"
        kind = "alias"
        of = "milbrookrail.example"

    Good:

        [[domain]]
        name = "millbrook-rail.example"
        kind = "alias"
        of = "millbrookrail.example"

    Ways out:

    - name the domain that is meant;
    - give it a root of its own, or remove it.
    """
    for domain in layout.account.domains:
        if domain.of is None or domain.state == "retired" or domain.of in layout.account.named:
            continue
        others = [name for name in layout.account.named if name != domain.name]
        meant = [name for name in nearest(domain.of, others, 2, 80.0) if _ends_in_root(layout, name, domain.name)]
        used = any(
            installation.address.host in (domain.name, *domain.also) for installation in layout.account.installations
        )
        root = free_root(layout, domain.name)
        kind = "addon" if domain.kind == "alias" else domain.kind
        own = WayOut(
            f'give it a root of its own: kind = "{kind}", root = "{root.shown}", which is free, and no of',
            [setting(layout, domain, kind=kind, of=None, root=str(root))],
        )
        ways = [
            WayOut(f'if {name} is meant, write of = "{name}" at {layout.account.place(domain, "of")}',
                [setting(layout, domain, of=str(name))])
            for name in meant
        ]  # fmt: skip
        yield Finding(
            at=str(domain.name),
            title=f"{domain.name} stands for {domain.of}, which is no domain of {layout.name}",
            why="it leads to no folder, so visitors see an error or the host's own page",
            parties=[domain_party(layout.account, domain, "of")],
            ways_out=[*(ways if not used else []), own],
            about=[layout.account.identity(domain)],
        )


Spot = tuple[RecordId | str, str]
"""The domain or path alias that an address leads by, or its host where that is not ours, and the rest of its path."""


def canonical(layout: AccountLayout, address: Address) -> Spot:
    """One key for every address that is the same place: aliases, www and redirects lead to one domain."""
    for _ in range(10):
        mount = layout.hosts.mount(address)
        if mount is None:
            break
        sent = mount.sent_to(address)
        if sent is None:
            target = stands_for(layout.account, mount.domain)
            rest = address.path[len(mount.address.path) :].lstrip("/")
            return (layout.account.identity(mount.alias or target or mount.domain), rest)
        address = sent
    return (str(address.host), address.path)


def _taken(known: Application) -> list[str]:
    return list(dict.fromkeys((*known.folders, *known.segments)))


def _ends_in_root(layout: AccountLayout, name: str, alias: HostName) -> bool:
    """Whether standing for `name` would lead to a folder, and not back to the alias itself."""
    target = stands_for(layout.account, layout.account.named[HostName(name)])
    return target is not None and target.name != alias and (target.root is not None or target.redirect_to is not None)
