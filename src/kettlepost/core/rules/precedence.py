"""Which of two parties keeps what it has: the one that people use, and was there first."""

from __future__ import annotations

from collections.abc import Iterable

from kettlepost.core.layout import AccountLayout, TableUser
from kettlepost.core.names import Address
from kettlepost.core.plan import Installation

_STATES = {"live": 0, "planned": 3, "retired": 4}
_IN_USE, _LEFT = 1, 2
_REHEARSALS = frozenset(
    "staging stage stg test tests testing dev devel develop development beta preview demo try trial rehearsal "
    "sandbox copy backup bak old new tmp temp clone mirror".split()
)
"""Names of hosts and folders that people give to what is tried out, and to copies."""


def is_rehearsal_name(names: Iterable[str]) -> bool:
    """Whether one of the names of a folder or a host is one that people give to what is tried out, or to a copy."""
    return any(name.lower() in _REHEARSALS for name in names)


Precedence = tuple[int, bool, int, int]


def precedence(layout: AccountLayout, installation: Installation) -> Precedence:
    """The smaller one keeps what it has: live before planned before retired, a site before a rehearsal or copy of
    it, the primary domain's root before another's, that before a subdomain and a subfolder, and what stands first in
    the plan."""
    address = installation.address
    names = {*address.host.split(".")[:-1], *address.path.split("/")}
    is_copy = installation.staging_of is not None or is_rehearsal_name(names)
    return _STATES[installation.state], is_copy, _rank(layout, address), installation.number


def precedence_of(layout: AccountLayout, user: TableUser) -> Precedence:
    """The same for somebody who uses tables: what was found in use comes behind what is live, a copy behind that.

    What is in no plan is as old as its domain.
    """
    if user.installation is not None:
        return precedence(layout, user.installation)
    if user.found is None:
        return _LEFT, False, 0, 0
    folder = user.found.folder
    reached = [
        (_rank(layout, address), mount.domain.number)
        for address in layout.addresses_of(folder)
        if (mount := layout.hosts.mount(address)) is not None
    ]
    rank, number = min(reached, default=(len(_RANKS) + 1, 0))
    return _IN_USE if not user.found.condition else _LEFT, is_rehearsal_name(folder.split("/")), rank, number


_RANKS = {"primary": 0, "addon": 1, "alias": 1, "subdomain": 2, "temporary": 3}


def _rank(layout: AccountLayout, address: Address) -> int:
    """How far an address is from the root of the primary domain."""
    mount = layout.hosts.mount(address)
    if address.path or mount is None:
        return len(_RANKS)
    return _RANKS[mount.domain.kind]
