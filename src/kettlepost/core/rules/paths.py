"""Rules about the addresses of one account: which is taken, shadowed, or leads nowhere."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout, stands_for
from kettlepost.core.messages import say
from kettlepost.core.names import Address, HostName, nearest, quoted
from kettlepost.core.plan import Application, Installation, RecordId
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.moves import moves_elsewhere, own_subdomain
from kettlepost.core.rules.parties import domain_party, installation_party, named
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import completing, dropping, free_root, setting

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
        gone = say("address-twice/gone-mark-state", application=others[0].application)
        yield Finding(
            at=str(keeper.address),
            title=say("address-twice/title", there=(f"{each.application} at {each.address}" for each in there)),
            why=say("address-twice/why"),
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
            say("www-split/they-meant-differ", place=layout.account.place(ours.domain)),
            [setting(layout, ours.domain, www="apart")],
        )
        ways = [apart]
        used = any(installation.address.host == www for installation in layout.account.installations)
        alone = theirs.domain.name == www and not theirs.domain.also and ours.domain.name == www[4:]
        if alone and not used:
            ways.insert(
                0,
                WayOut(
                    say("www-split/write-www-both", place=layout.account.place(ours.domain), www=www),
                    [setting(layout, ours.domain, www="both"), dropping(layout, theirs.domain)],
                ),
            )
        yield Finding(
            at=str(ours.address.host),
            title=say(
                "www-split/title",
                address=ours.address.host,
                folder=ours.folder.shown,
                www=www,
                www_folder=theirs.folder.shown,
            ),
            why=say("www-split/why"),
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
        has = say("path-shadowed/folder-name") if first in known.folders else say("path-shadowed/answers-path-itself")
        yield Finding(
            at=str(inner.address),
            title=say("path-shadowed/title", **named(inner), known=known.shown, around=outer.address, has=has),
            why=say("path-shadowed/why", known=known.shown, first=first),
            parties=[installation_party(layout.account, inner, "address"), installation_party(layout.account, outer)],
            ways_out=[
                *([own] if own is not None else []),
                WayOut(
                    say("path-shadowed/give-path-does", known=known.shown, taken=_taken(known)),
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
            title=say("reserved-path/title", **named(installation), first=quoted(first)),
            why=say("reserved-path/why"),
            parties=[installation_party(layout.account, installation, "address")],
            ways_out=moves_elsewhere(layout, installation)
            or [
                WayOut(
                    say("reserved-path/give-installation-another"), steps=[completing(layout, installation, "address")]
                )
            ],
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
            say("alias-of-nothing/give-root-own", kind=kind, root=root.shown),
            [setting(layout, domain, kind=kind, of=None, root=str(root))],
        )
        ways = [
            WayOut(say("alias-of-nothing/meant-write", name=name, place=layout.account.place(domain, 'of')),
                [setting(layout, domain, of=str(name))])
            for name in meant
        ]  # fmt: skip
        yield Finding(
            at=str(domain.name),
            title=say("alias-of-nothing/title", domain=domain.name, of=domain.of, layout=layout.name),
            why=say("alias-of-nothing/why"),
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
    if target is None or target.name == alias:
        return False
    return target.root is not None or target.redirect_to is not None or target.passed_to is not None
