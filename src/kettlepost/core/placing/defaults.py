"""The values a new installation is given: a name for its place, a database, an administrator."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Address, HostName
from kettlepost.core.plan import Application, Database, Installation
from kettlepost.core.rules.access import name_for, usual_contact
from kettlepost.core.rules.tables_apart import free_database, own_prefix
from kettlepost.core.rules.ways_out import numbered

_GOOD = {
    "books": ("books", "accounts"),
    "bookings": ("bookings", "seats", "visits"),
    "courses": ("courses", "learn", "classes"),
    "database": ("tables", "data"),
    "files": ("files", "share"),
    "forum": ("forum", "talk"),
    "links": ("links", "go"),
    "mail": ("mail", "post", "letters"),
    "photos": ("photos", "pictures", "album"),
    "shop": ("shop", "store", "market"),
    "site": ("site", "pages", "news"),
    "statistics": ("visits", "figures"),
    "tickets": ("help", "desk", "tickets"),
    "wiki": ("wiki", "notes"),
}


def names_for(application: Application, asked: str | None) -> list[str]:
    """The names its place may be given: the one asked for, else good ones for its purpose."""
    if asked is not None:
        return [asked]
    return [*_GOOD.get(application.purpose or "", ()), application.id.replace("_", "-")]


def free_host(domain: HostName, names: list[str], is_taken: Callable[[str], object]) -> HostName:
    """The first name below `domain` that is not taken."""
    return next(host for name in numbered(names) if not is_taken(host := HostName(f"{name}.{domain}")))


def with_defaults(layout: AccountLayout, application: Application, address: Address, **given: object) -> Installation:
    """A planned installation with all that it needs: what is `given`, the rest free and fitting.

    `given` may hold any key of an installation, and `database_name`, `database_user` and
    `table_prefix`; what is None is chosen.
    """
    chosen = {key: value for key, value in given.items() if value is not None}
    name, user, prefix = (chosen.pop(key, None) for key in ("database_name", "database_user", "table_prefix"))
    state = chosen.pop("state", "planned")
    installation = Installation(application.id, address, state, **chosen)  # type: ignore[arg-type]
    base = installation.database
    if base is None and (application.database or name is not None):
        called = str(name or free_database(layout, installation.address))
        free = own_prefix(layout, installation)
        base = Database(called, free if prefix is None else str(prefix), str(user or called))
    admin, contact = installation.admin_user or name_for(installation), installation.contact or usual_contact(layout)
    return replace(installation, database=base, admin_user=admin, contact=contact)
