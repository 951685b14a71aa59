"""Joining plan and surveys into the layout, and the questions it answers."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.layout.mounts import Mount, mounts_of
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import Installation, Plan
from kettlepost.core.survey import Survey


class Reach(NamedTuple):
    """Where an address leads: the mount it takes, and the folder, None when that only redirects."""

    mount: Mount
    folder: Folder | None


class Layout:
    """The two trees of a whole plan and the mounts between them.

    `hosts` holds, for each host name, its mounts with the longest path first; of two that are
    alike the one that was declared first stands first and answers.
    """

    def __init__(self, plan: Plan, accounts: dict[str, AccountLayout], hosts: dict[HostName, list[Mount]]):
        self.plan = plan
        self.accounts = accounts
        self.hosts = hosts

    def reach(self, address: Address) -> Reach | None:
        """The folder an address leads to, or None when its host is none of ours."""
        for mount in self.hosts.get(address.host, ()):
            if mount.covers(address):
                return Reach(mount, mount.reached(address))
        return None

    def addresses_of(self, account: AccountLayout, folder: Folder) -> list[Address]:
        """Every address that leads to exactly `folder` of `account`, in the order of its mounts."""
        found = []
        for above in (folder, *folder.above()):
            for mount in account.mounts.get(above, ()):
                address = mount.address.below(folder.relative_to(above))
                reach = self.reach(address)
                if reach is not None and reach.mount == mount:
                    found.append(address)
        return found

    def folder_of(self, account: AccountLayout, installation: Installation) -> Folder | None:
        """The folder an installation lies in; None when its address reaches none of the account."""
        if installation.folder is not None:
            return installation.folder
        reach = self.reach(installation.address)
        return reach.folder if reach is not None and reach.mount.account is account.account else None


def join(plan: Plan, surveys: Mapping[str, Survey]) -> Layout:
    """Join a plan with the surveys of its accounts, by account name."""
    hosts: dict[HostName, list[Mount]] = {}
    accounts: dict[str, AccountLayout] = {}
    for account in plan.accounts:
        mounts = list(mounts_of(account))
        for mount in mounts:
            hosts.setdefault(mount.address.host, []).append(mount)
        accounts[account.name] = AccountLayout(plan, account, mounts, surveys.get(account.name))
    for there in hosts.values():
        if len(there) > 1:
            there.sort(key=lambda mount: -len(mount.address.path))
    layout = Layout(plan, accounts, hosts)
    for here in accounts.values():
        for installation in here.account.installations:
            folder = layout.folder_of(here, installation)
            if folder is None:
                here.homeless.append(installation)
            else:
                here.placed.setdefault(folder, []).append(installation)
    return layout
