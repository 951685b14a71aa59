"""Mounts: one address prefix leading to one folder."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import Account, Domain


class Mount(NamedTuple):
    """Every address that begins with `address` leads below `folder` of `account`.

    `folder` is None for a domain that only redirects. `domain` is the declaration it comes
    from, which may name the host among its `also` names or stand for another domain.
    """

    address: Address
    folder: Folder | None
    account: Account
    domain: Domain

    def covers(self, address: Address) -> bool:
        """Whether `address`, on the same host, lies at or below this prefix."""
        prefix = self.address.path
        return not prefix or address.path == prefix or address.path.startswith(prefix + "/")

    def reached(self, address: Address) -> Folder | None:
        """The folder (or file) that a covered address leads to."""
        if self.folder is None:
            return None
        prefix = self.address.path
        return self.folder.below(address.path[len(prefix) + 1 :] if prefix else address.path)


def mounts_of(account: Account) -> Iterator[Mount]:
    """Every mount that an account's domains make, in the order of the plan."""
    names: dict[HostName, Domain] | None = None
    for domain in account.domains:
        target = domain
        if domain.of is not None:
            names = names or {known.name: known for known in account.domains}
            while target.of is not None:
                target = names[target.of]
        redirects = domain.redirect_to is not None or target.redirect_to is not None
        folder = None if redirects else target.root
        path = Address.parse(f"{domain.name}/{domain.path}").path if domain.path else ""
        yield Mount(Address(domain.name, path), folder, account, domain)
        for host in domain.also:
            yield Mount(Address(host, path), folder, account, domain)
