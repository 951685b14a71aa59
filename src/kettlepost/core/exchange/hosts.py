"""A hosts file (hosts(5)), with which a site is tried before its name points here."""

from __future__ import annotations

from collections.abc import Sequence

from kettlepost.core.errors import InputError
from kettlepost.core.exchange.observed import Part
from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.plan import Export


def addresses_of(layout: AccountLayout, template: Export) -> list[str]:
    """The addresses of the machine that an account is on. Raises InputError where nothing tells."""
    found = layout.account.settings.ip_addresses or template.addresses
    if not found:
        raise InputError(
            f"which machine {layout.name} is on is not told: write ip_addresses into [account], or addresses into "
            "[export] of kettlepost.toml"
        )
    return found


def write(layouts: Sequence[AccountLayout], when: When, template: Export) -> list[Part]:
    """The hosts of some accounts, without wildcards, which a hosts file cannot have."""
    lines = []
    for layout in layouts:
        hosts = [host for host in layout.tree(when).hosts if host[0] != "*"]
        if hosts:
            lines.append(f"# {layout.name}")
            lines += [f"{address}\t{host}" for address in addresses_of(layout, template) for host in hosts]
    return [Part("hosts", "\n".join(lines) + "\n")] if lines else []
