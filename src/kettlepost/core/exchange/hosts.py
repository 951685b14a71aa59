"""A hosts file (hosts(5)), with which a site is tried before its name points here."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from kettlepost.core.errors import InputError
from kettlepost.core.exchange.observed import OutputFile
from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.names import HostName
from kettlepost.core.plan import Export
from kettlepost.core.quoting.zone import Zone, address, comment, name


def addresses_of(layout: AccountLayout, template: Export) -> list[str]:
    """The addresses of the machine that an account is on. Raises InputError where nothing tells."""
    found = layout.account.settings.ip_addresses or template.addresses
    if not found:
        raise InputError(
            f"which machine {layout.name} is on is not told: write ip_addresses into [account], or addresses into "
            "[export] of kettlepost.toml"
        )
    return found


def led_here(layouts: Sequence[AccountLayout], when: When) -> Iterator[tuple[AccountLayout, list[HostName]]]:
    """The hosts whose names lead to each of some accounts, without those that go to another one, or have gone."""
    live = {
        (host, domain.state == "retired")
        for layout in layouts for host, mounts in layout.tree(when).hosts.items() for domain in (mounts[-1].domain,)
    }  # fmt: skip
    for layout in layouts:
        yield layout, [
            host for host, mounts in layout.tree(when).hosts.items()
            if not (when == "planned" and mounts[-1].domain.account_next is not None)
            and not (mounts[-1].domain.state == "retired" and (host, False) in live)
        ]  # fmt: skip


def write(layouts: Sequence[AccountLayout], when: When, template: Export) -> list[OutputFile]:
    """The hosts of some accounts, without wildcards, which a hosts file cannot have."""
    lines: list[Zone] = []
    for layout, led in led_here(layouts, when):
        hosts = [host for host in led if host[0] != "*"]
        if hosts:
            lines.append(Zone.of("# «account»", account=comment(layout.name)))
            lines += [
                Zone.of("«address»\t«host»", address=address(one), host=name(host))
                for one in addresses_of(layout, template) for host in hosts
            ]  # fmt: skip
    return [OutputFile("hosts", Zone.joined([*lines, Zone.of("")]))] if lines else []
