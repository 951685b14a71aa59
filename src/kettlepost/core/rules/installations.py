"""Rules about installations and the folders they lie in."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout, Layout
from kettlepost.core.names import nested_pairs
from kettlepost.core.plan import Installation
from kettlepost.core.rules.finding import Finding
from kettlepost.core.rules.parties import installation_party
from kettlepost.core.rules.registry import account_rule
from kettlepost.core.rules.ways import elsewhere
from kettlepost.core.words import listed


@account_rule("stop")
def same_folder(layout: Layout, here: AccountLayout) -> Iterator[Finding]:
    """Two installations end in the same folder.

    The second one to be deployed overwrites the index file, the configuration and the control
    files of the first. It happens when two addresses lead to one folder (an alias, a nested
    root), when the folder box of an installer is left blank, or when an entry was copied.
    Retired installations do not count.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[domain]]
        name = "millbrook-rail.example"
        kind = "alias"
        of = "millbrookrail.example"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

        [[installation]]
        application = "ticketgrove"
        address = "millbrook-rail.example/shop"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[domain]]
        name = "millbrook-rail.example"
        kind = "alias"
        of = "millbrookrail.example"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

        [[installation]]
        application = "ticketgrove"
        address = "millbrook-rail.example/tickets"

    Ways out:

    - give the later one an address whose folder is free;
    - give it a subdomain of its own;
    - if one of them is gone, mark it retired, or remove an entry that was written twice.
    """
    for folder, placed in here.standing.items():
        if len(placed) < 2:
            continue
        keeper, *others = sorted(placed, key=lambda one: one.state != "live")
        moved = others[0]
        names = listed(f"{one.application} at {one.address}" for one in placed)
        yield Finding(
            at=folder.shown,
            title=f"{names} end in one folder, {folder.shown}",
            why="whichever is deployed later overwrites the other's index file, configuration and control files",
            parties=[installation_party(here.account, one) for one in [keeper, *others]],
            ways_out=[
                *elsewhere(layout, here, moved),
                f'if {moved.address} is gone, mark it state = "retired"; if it was written twice, remove one entry',
            ],
            account=here.name,
        )


@account_rule("risk")
def nested_installation(layout: Layout, here: AccountLayout) -> Iterator[Finding]:
    """One installation's folder lies inside another's.

    The outer application's control files and rewrites take effect in the inner one, an update
    or removal of the outer one may sweep the inner one away, and the outer one cannot use the
    address for a page of its own. Often it works for years, then an update ends it.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[domain]]
        name = "shop.millbrookrail.example"
        kind = "subdomain"
        root = "shop"

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"

        [[installation]]
        application = "barrowshop"
        address = "shop.millbrookrail.example"

    Ways out:

    - give the inner one a subdomain with a root of its own, outside the outer one's folder;
    - keep it, back up both before every update of either, and accept the finding.
    """
    for folder, outside in nested_pairs(here.standing):
        inner, outer = here.standing[folder][0], here.standing[outside][0]
        yield Finding(
            at=folder.shown,
            title=f"{inner.application} in {folder.shown} lies inside {outer.application} in {outside.shown}",
            why=f"control files and rewrites of {outer.address} take effect in it, "
            f"and removing {outer.application} takes {inner.application} along",
            parties=[installation_party(here.account, one) for one in (inner, outer)],
            ways_out=[
                *_out_of(layout, here, inner),
                f"keep it, back up {outside.shown} whole before every update of either, and write an [[accept]]",
            ],
            account=here.name,
        )


def _out_of(layout: Layout, here: AccountLayout, inner: Installation) -> list[str]:
    """Only a subdomain leads out of the outer folder; a subfolder stays inside it."""
    return elsewhere(layout, here, inner)[-1:]
