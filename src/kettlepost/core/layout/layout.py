"""Joining plan and surveys into the layout, and the questions it answers."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.layout.folder_state import FolderState
from kettlepost.core.layout.mounts import MANY_MOUNTS, Mount, When, by_path, covering, longest
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import Plan
from kettlepost.core.survey import ExternalFacts, SeenDatabases, SeenWorld, Survey


class Destination(NamedTuple):
    """Where an address leads: the mount it takes, and the folder, None when that only redirects.

    `way` is the way to that folder before symbolic links are followed.
    """

    mount: Mount
    folder: Folder | None
    way: Folder | None


class PlanLayout:
    """The two trees of a whole plan and the mounts between them.

    `accounts` may be made as they are asked for; `declared` names, for each host name, the
    accounts that declare it, in their order, so that no other one has to be asked.
    """

    def __init__(
        self,
        plan: Plan,
        accounts: Mapping[str, AccountLayout],
        declared: Mapping[str, Sequence[str]] | None = None,
    ):
        self.plan = plan
        self.accounts = accounts
        self._declared = declared
        self._folder_states: dict[tuple[str, When], FolderState] = {}
        self._serving: dict[When, dict[HostName, list[Mount]]] = {"now": {}, "planned": {}}
        self._by_path: dict[When, dict[HostName, dict[str, Mount]]] = {"now": {}, "planned": {}}

    @cached_property
    def hosts(self) -> Mapping[str, Sequence[str]]:
        """The accounts that declare each host name."""
        return declared_hosts(self.accounts.values()) if self._declared is None else self._declared

    @cached_property
    def _wildcards(self) -> bool:
        return any(host[0] == "*" for host in self.hosts)

    def mount(self, address: Address, when: When) -> Mount | None:
        """The mount that an address takes at one time, or None when none covers it."""
        known, host = self._serving[when], address[0]
        serving = known.get(host)
        if serving is None:
            serving = known[host] = self._mounts(host, when)
        if len(serving) <= MANY_MOUNTS:
            return covering(serving, address)
        paths = self._by_path[when].get(host)
        if paths is None:
            paths = self._by_path[when][host] = by_path(serving)
        return longest(paths, address.path)

    def _mounts(self, host: HostName, when: When) -> list[Mount]:
        """The mounts that serve `host`: its own, else those of the longest wildcard that stands for it."""
        found = self._declared_at(host, when)
        if found or not self._wildcards:
            return found
        return next((wild for above in host.above() if (wild := self._declared_at(HostName(f"*.{above}"), when))), [])

    def _declared_at(self, host: HostName, when: When) -> list[Mount]:
        trees = [self.accounts[account].tree(when) for account in self.hosts.get(host, ())]
        found = [mount for tree in trees for mount in tree.hosts.get(host, ())]
        if len(trees) > 1:
            found = _held(found, when)
        return sorted(found, key=lambda mount: -len(mount.address.path))

    def reach(self, address: Address, when: When = "planned") -> Destination | None:
        """The folder an address leads to at one time, or None when its host is none of ours then."""
        mount = self.mount(address, when)
        if mount is None:
            return None
        folder = mount.reached(address)
        layout = self.accounts[mount.account.name]
        return Destination(mount, layout.real(folder) if folder is not None else None, mount.way_to(address))

    def folder_state(self, account: str, when: When) -> FolderState:
        """What stands in an account's folders at one time."""
        known = self._folder_states.get((account, when))
        if known is None:
            known = self._folder_states[account, when] = FolderState(self.accounts[account], when)
        return known


def _held(mounts: list[Mount], when: When) -> list[Mount]:
    """The mounts of a host that several accounts have, without those of one from which it goes, or has gone."""
    if when == "planned":
        left = {mount.domain.account_now for mount in mounts}
        return [mount for mount in mounts if mount.domain.account_next is None or mount.account.name not in left]
    there = [mount for mount in mounts if mount.domain.state != "retired"]
    return there or mounts


def declared_hosts(accounts: Iterable[AccountLayout]) -> dict[str, list[str]]:
    """The accounts that declare each host name, for today or for later."""
    found: dict[str, list[str]] = {}
    for layout in accounts:
        for host in dict.fromkeys((*layout.tree("planned").hosts, *layout.tree("now").hosts)):
            found.setdefault(host, []).append(layout.name)
    return found


def join(
    plan: Plan,
    surveys: Mapping[str, Survey],
    outside: Mapping[str, ExternalFacts] | None = None,
    databases: Mapping[str, SeenDatabases] | None = None,
    world: Mapping[str, SeenWorld] | None = None,
) -> PlanLayout:
    """Join a plan with the surveys of its accounts, by account name, and with what else was seen of them."""
    seen, bases, shown = outside or {}, databases or {}, world or {}
    accounts = {
        account.name: AccountLayout(
            plan,
            account,
            surveys.get(account.name),
            outside=seen.get(account.name),
            databases=bases.get(account.name),
            world=shown.get(account.name),
        )
        for account in plan.accounts
    }
    return PlanLayout(plan, accounts)
