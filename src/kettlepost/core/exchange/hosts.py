"""A hosts file (hosts(5)), with which a site is tried before its name points here."""

from __future__ import annotations

from collections.abc import Sequence

from kettlepost.core.errors import InputError
from kettlepost.core.exchange.observed import OutputFile
from kettlepost.core.layout import AccountLayout, When
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


def write(layouts: Sequence[AccountLayout], when: When, template: Export) -> list[OutputFile]:
    """The hosts of some accounts, without wildcards, which a hosts file cannot have."""
    lines: list[Zone] = []
    for layout in layouts:
        hosts = [host for host in layout.tree(when).hosts if host[0] != "*"]
        if hosts:
            lines.append(Zone.of("# «account»", account=comment(layout.name)))
            lines += [
                Zone.of("«address»\t«host»", address=address(one), host=name(host))
                for one in addresses_of(layout, template) for host in hosts
            ]  # fmt: skip
    return [OutputFile("hosts", Zone.joined([*lines, Zone.of("")]))] if lines else []
