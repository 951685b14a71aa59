"""Which of two parties keeps what it has: the one that people use, and was there first."""

from __future__ import annotations

from collections.abc import Iterable

from kettlepost.core.layout import AccountLayout, TableUser
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
    it, a domain's root before a subdomain and a subfolder, and what stands first in the plan."""
    address = installation.address
    names = {*address.host.split(".")[:-1], *address.path.split("/")}
    is_copy = installation.staging_of is not None or is_rehearsal_name(names)
    mount = layout.hosts.mount(address)
    is_below = mount is not None and mount.domain.kind == "subdomain"
    return _STATES[installation.state], is_copy, 2 if address.path else int(is_below), installation.number


def precedence_of(layout: AccountLayout, user: TableUser) -> Precedence:
    """The same for somebody who uses tables: what was found in use comes behind what is live, a copy behind that."""
    if user.installation is not None:
        return precedence(layout, user.installation)
    kept = user.found is not None and not user.found.condition
    return _IN_USE if kept else _LEFT, False, 0, 0
