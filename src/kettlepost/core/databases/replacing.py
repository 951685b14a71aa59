"""What is replaced in the tables of an installation that comes to another address."""

from __future__ import annotations

from msgspec import Struct

from kettlepost.core.databases.copying import longer_prefixes
from kettlepost.core.layout import AccountLayout, TableUser


class AddressReplacement(Struct, frozen=True):
    """Addresses and what is written in their place, and the tables: those with the prefix, without longer ones.

    `keeps` are columns behind the prefix, `table.column`, whose addresses are names that nobody may change.
    """

    account: str
    whose: str
    database: str
    prefix: str
    addresses: tuple[tuple[str, str], ...]
    stays: tuple[str, ...] = ()
    keeps: tuple[str, ...] = ()


def address_replacement(
    layout: AccountLayout, user: TableUser, addresses: tuple[tuple[str, str], ...]
) -> AddressReplacement:
    """What is replaced in the tables of one user of a database; those of others, with longer prefixes, stay."""
    kind = user.installation.application if user.installation is not None else ""
    kind = kind or (user.found.application if user.found is not None else "")
    known = layout.plan.applications.get(kind)
    stays = tuple(longer_prefixes(layout, user.database, user.written))
    place = user.installation.address if user.installation is not None else user.found.folder if user.found else ""
    keeps = tuple(known.identifiers) if known is not None else ()
    return AddressReplacement(layout.name, str(place), user.name, user.written, addresses, stays, keeps)
