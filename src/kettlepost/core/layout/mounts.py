"""Mounts: one address prefix leading to one folder."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Literal, NamedTuple

from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import Account, Domain, PathAlias

OWN_NAMES = ("primary", "addon", "alias")
"""The kinds of domain that are registered by themselves, so that people put www before them."""
When = Literal["now", "planned"]
"""As it is today, or once the plan is carried out."""


class Mount(NamedTuple):
    """Every address that begins with `address` leads below `folder` of `account`.

    `folder` is None where nothing is shown: visitors are sent on to `goes`, or, where that is
    None too, the domain stands for one that is not there. `way` is the same folder as it is
    written, before symbolic links are followed. `domain` is the declaration it comes
    from, which may name the host among its `also` names or stand for another domain; `alias`
    is the path alias that maps an address away from its domain's root.
    """

    address: Address
    folder: Folder | None
    way: Folder | None
    account: Account
    domain: Domain
    goes: Address | None = None
    alias: PathAlias | None = None

    def covers(self, address: Address) -> bool:
        """Whether `address`, on a host of this mount, lies at or below its prefix."""
        prefix = self.address.path
        return not prefix or address.path == prefix or address.path.startswith(prefix + "/")

    def reached(self, address: Address) -> Folder | None:
        """The folder (or file) that a covered address leads to."""
        if self.folder is None:
            return None
        return self.folder.below(self._rest(address))

    def way_to(self, address: Address) -> Folder | None:
        """The way to that folder as it is written."""
        return self.way.below(self._rest(address)) if self.way is not None else None

    def sent_to(self, address: Address) -> Address | None:
        """The address that a covered address is sent on to: the path goes along."""
        return self.goes.below(self._rest(address)) if self.goes is not None else None

    def _rest(self, address: Address) -> str:
        prefix = self.address.path
        return address.path[len(prefix) + 1 :] if prefix else address.path


MANY_MOUNTS = 8
"""How many mounts of a host are gone through one by one."""


class Hosts(dict[HostName, list[Mount]]):
    """The mounts of each host, those with the longest path first.

    Of two that are alike the one declared first stands first and answers.
    """

    def __init__(self, mounts: Iterable[Mount]):
        super().__init__()
        for mount in mounts:
            self.setdefault(mount.address.host, []).append(mount)
        for there in self.values():
            if len(there) > 1:
                there.sort(key=_longest_path)
        self._by_path: dict[HostName, dict[str, Mount]] = {}
        self.wildcards = any(host.startswith("*.") for host in self)

    def serving(self, host: HostName) -> list[Mount]:
        """The mounts of `host`: its own, else those of the longest wildcard that stands for it."""
        found = self.get(host)
        if found is None and self.wildcards:
            found = next((wild for above in host.above() if (wild := self.get(HostName(f"*.{above}")))), None)
        return found or []

    def mount(self, address: Address) -> Mount | None:
        """The mount that an address takes, or None when none of the mounts covers it."""
        serving = self.serving(address[0])
        if len(serving) > MANY_MOUNTS:
            host = serving[0].address.host
            if host not in self._by_path:
                self._by_path[host] = by_path(serving)
            return longest(self._by_path[host], address.path)
        return covering(serving, address)


def covering(serving: Iterable[Mount], address: Address) -> Mount | None:
    """The first of a host's mounts that covers an address."""
    for mount in serving:
        if mount.covers(address):
            return mount
    return None


def by_path(serving: Iterable[Mount]) -> dict[str, Mount]:
    """The first mount at each path."""
    found: dict[str, Mount] = {}
    for mount in serving:
        found.setdefault(mount.address.path, mount)
    return found


def longest(mounts: Mapping[str, Mount], path: str) -> Mount | None:
    """The mount at `path`, or at the nearest path above it."""
    while path not in mounts:
        if not path:
            return None
        path = path.rpartition("/")[0]
    return mounts[path]


def mounts_of(account: Account, real: Callable[[Folder], Folder], when: When) -> Iterator[Mount]:
    """Every mount that an account's domains make at one time, in the order of the plan.

    `real` gives the folder that a folder is once symbolic links are followed.
    """
    apart = "planned" if when == "now" else "retired"
    there = [domain for domain in account.domains if domain.state != apart]
    for domain in there:
        way, goes = _led_to(account, domain, when)
        base = Address.parse(f"{domain.name}/{domain.path}").path if domain.path else ""
        folder = real(way) if way is not None else None
        if domain.www is None or domain.www == "apart":
            yield Mount(Address(domain.name, base), folder, way, account, domain, goes)
        else:
            yield from _www_mounts(account, domain, folder, way, goes)
        for host in domain.also:
            yield Mount(Address(host, base), folder, way, account, domain, goes)
        if domain.kind == "addon" and account.settings.addon_also is not None:
            extra = addon_host(account, domain)
            if extra is not None and extra not in account.named and extra not in domain.also:
                yield Mount(Address(extra, base), folder, way, account, domain, goes)
    if not account.path_aliases:
        return
    first = {host: domain for domain in reversed(there) for host in (domain.name, *domain.also)}
    for alias in account.path_aliases:
        owner = first.get(alias.address.host)
        if owner is not None:  # written in the owner's section, where all its names share it
            for host in dict.fromkeys(section_of(account, owner, there)):
                address = Address(host, alias.address.path)
                yield Mount(address, real(alias.folder), alias.folder, account, owner, None, alias)


def bare_and_www(host: HostName) -> tuple[HostName, HostName]:
    """Both names of a host that answers with and without `www.`."""
    bare = HostName(host.removeprefix("www."))
    return bare, HostName(f"www.{bare}")


def addon_host(account: Account, domain: Domain) -> HostName | None:
    """The name below the primary domain that the host gives an add-on domain besides its own."""
    primary = account.primary
    if primary is None or account.settings.addon_also is None:
        return None
    return HostName(
        account.settings.addon_also.replace("{label}", domain.name.words)
        .replace("{primary}", primary.name)
        .replace("{name}", domain.name)
    )


def stands_for(account: Account, domain: Domain) -> Domain | None:
    """The domain an alias or temporary address stands for in the end; None when that is not there."""
    return account.chains.ends[domain.number] if domain.of is not None else domain


def root_at(domain: Domain, when: When) -> Folder | None:
    """The folder that a domain leads to at one time."""
    return domain.root_now if when == "now" and domain.root_now is not None else domain.root


def _led_to(account: Account, domain: Domain, when: When) -> tuple[Folder | None, Address | None]:
    if domain.of is None:
        return (root_at(domain, when), None) if domain.redirect_to is None else (None, domain.redirect_to)
    target = stands_for(account, domain) if when == "planned" else account.chains_now.ends[domain.number]
    goes = domain.redirect_to or (target.redirect_to if target is not None else None)
    return (root_at(target, when) if target is not None and goes is None else None), goes


def section_of(account: Account, domain: Domain, among: Iterable[Domain]) -> list[HostName]:
    """All names that are one host to a server: a domain's own, its further ones, and those of its aliases."""
    owner = stands_for(account, domain) if domain.kind == "alias" else domain
    found: list[HostName] = []
    for other in among:
        is_alias = other.kind == "alias" and owner is not None and stands_for(account, other) is owner
        if (other is not owner and not is_alias) or other.redirect_to is not None:
            continue
        bare, www = bare_and_www(other.name)
        shown = {"both": (bare, www), "bare": (bare,), "www": (www,)}.get(other.www or "", (other.name,))
        found += [*shown, *other.also]
    return found


def _www_mounts(
    account: Account, domain: Domain, folder: Folder | None, way: Folder | None, goes: Address | None
) -> Iterator[Mount]:
    bare, www = bare_and_www(domain.name)
    shown = {"both": (bare, www), "bare": (bare,), "www": (www,)}[domain.www or "both"]
    for host in (bare, www):
        if host in shown:
            yield Mount(Address(host), folder, way, account, domain, goes)
        else:
            yield Mount(Address(host), None, None, account, domain, goes or Address(shown[0]))


def _longest_path(mount: Mount) -> int:
    return -len(mount.address.path)
