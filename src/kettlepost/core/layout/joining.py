"""Joining plan and surveys into the layout, and the questions it answers."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import NamedTuple

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.layout.mounts import Hosts, Mount
from kettlepost.core.layout.scenes import Scene, When
from kettlepost.core.names import Address, Folder
from kettlepost.core.plan import Plan
from kettlepost.core.survey import Survey


class Reach(NamedTuple):
    """Where an address leads: the mount it takes, and the folder, None when that only redirects.

    `way` is the way to that folder before symbolic links are followed.
    """

    mount: Mount
    folder: Folder | None
    way: Folder | None


class Layout:
    """The two trees of a whole plan and the mounts between them."""

    def __init__(self, plan: Plan, accounts: dict[str, AccountLayout]):
        self.plan = plan
        self.accounts = accounts
        self._scenes: dict[tuple[str, When], Scene] = {}

    @cached_property
    def hosts(self) -> Hosts:
        """The mounts of every account, by host name."""
        return Hosts(mount for here in self.accounts.values() for mounts in here.hosts.values() for mount in mounts)

    def reach(self, address: Address) -> Reach | None:
        """The folder an address leads to, or None when its host is none of ours."""
        mount = self.hosts.mount(address)
        if mount is None:
            return None
        folder = mount.reached(address)
        here = self.accounts[mount.account.name]
        return Reach(mount, here.real(folder) if folder is not None else None, mount.way_to(address))

    def scene(self, account: str, when: When) -> Scene:
        """What stands in an account's folders at one time."""
        known = self._scenes.get((account, when))
        if known is None:
            known = self._scenes[account, when] = Scene(self.accounts[account], when)
        return known


def join(plan: Plan, surveys: Mapping[str, Survey]) -> Layout:
    """Join a plan with the surveys of its accounts, by account name."""
    accounts = {account.name: AccountLayout(plan, account, surveys.get(account.name)) for account in plan.accounts}
    return Layout(plan, accounts)
