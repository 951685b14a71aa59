"""Who uses which tables of which database, by what the survey found and by what the plan says."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

from kettlepost.core.names import Folder
from kettlepost.core.plan import Account, Installation
from kettlepost.core.survey import FoundApplication

if TYPE_CHECKING:
    from kettlepost.core.layout.account import AccountLayout

_FOLDING = frozenset(("postgresql", "sqlite"))
"""Servers that take names which differ by letter case only for one, unless they are quoted."""
LOCAL_HOSTS = ("", "localhost", "127.0.0.1", "::1")
"""How an application names the database server of its own account."""


def server_key(server: str) -> str:
    """What tells database servers apart: empty for the account's own, however it is called."""
    return "" if server.lower() in LOCAL_HOSTS else server.lower()


def table_key(account: Account, server: str, name: str, prefix: str) -> tuple[tuple[str, str], str]:
    """What tells a database from all others, and the prefix of its tables, both as the server compares them."""
    host = server_key(server)
    if account.settings.database_server in _FOLDING:
        return (host, name.lower()), prefix.lower()
    return (host, name), prefix


class TableUser(NamedTuple):
    """Somebody who uses tables: an installation, or an application that the survey found.

    `database` tells databases apart, `prefix` their tables, both as the server compares them;
    `name` and `written` are the same as they are written.
    """

    database: tuple[str, str]
    prefix: str
    name: str
    written: str
    installation: Installation | None
    found: FoundApplication | None

    @property
    def shown(self) -> str:
        """What people call it: its address, else its folder."""
        return str(self.installation.address) if self.installation else self.found.folder.shown if self.found else ""

    @property
    def login(self) -> str | None:
        """By which database user it logs in: by the configuration that was found, else by the plan."""
        if self.found is not None and self.found.database is not None:
            return self.found.database.user
        own = self.installation.database if self.installation is not None else None
        return own.user if own is not None else None


class TableUse:
    """The users of an account's tables, each worked out once when it is asked for."""

    def __init__(self, layout: AccountLayout):
        # of the layout only what is asked for is kept, as each holding the other would keep both in memory
        self._account = layout.account
        self._found: Mapping[str, FoundApplication] = (
            layout.contents.applications if layout.contents is not None else {}
        )
        self._applications = layout.plan.applications
        self._seen = layout.databases_later
        self._standing, self._homeless = layout.present, layout.homeless
        self._placed = layout.placed if self._standing is layout.standing else _placed_today(layout)

    @cached_property
    def users(self) -> list[TableUser]:
        """Who uses which tables: by the configuration that the survey found, else by the plan."""
        users = []
        for folder, found in self._found.items():
            base = found.database
            if base is not None and base.name and folder not in self._placed:
                users.append(self._user(base.host, base.name, base.prefix, None, found))
        planned: list[tuple[int, TableUser]] = []
        for place, placed in self._standing.items():
            for installation in placed:
                used = self._configured(place, installation)
                if used is not None:
                    planned.append((installation.number, self._user(*used, installation, None)))
        for installation in self._homeless:
            own = installation.database
            if installation.state != "retired" and own is not None:
                planned.append((installation.number, self._user(own.server, own.name, own.prefix, installation, None)))
        planned.sort(key=lambda numbered: numbered[0])
        return [*users, *(user for _, user in planned)]

    @cached_property
    def by_login(self) -> dict[str, list[TableUser]]:
        """The users by the database user that they log in by, as their configuration says, else the plan."""
        found: dict[str, list[TableUser]] = {}
        for one in self.users:
            real = one.found.database if one.found is not None else None
            own = one.installation.database if one.installation is not None else None
            planned = (own.user or own.name) if own is not None else ""
            found.setdefault((real.user if real is not None else "") or planned, []).append(one)
        return found

    @cached_property
    def of_installations(self) -> dict[int, TableUser]:
        """The users that are installations, by their numbers."""
        return {one.installation.number: one for one in self.users if one.installation is not None}

    @cached_property
    def shared(self) -> dict[tuple[str, str], list[TableUser]]:
        """The databases with more than one user."""
        if self._is_plain():
            return {}
        return {key: users for key, users in self.by_database.items() if len(users) > 1}

    @cached_property
    def by_database(self) -> dict[tuple[str, str], list[TableUser]]:
        known: dict[tuple[str, str], list[TableUser]] = defaultdict(list)
        for user in self.users:
            known[user.database].append(user)
        return dict(known)

    @cached_property
    def unsure(self) -> dict[Folder | int, str]:
        """What is in use, wants a database, and of which none is known: by its folder, else its number."""
        known: dict[Folder | int, str] = {}
        for folder, found in self._found.items():
            is_bare = found.database is None or not found.database.name
            if is_bare and folder not in self._placed and not found.condition and self._wants(found.application):
                known[found.folder] = found.folder.shown
        for place, there in self._standing.items():
            for live in (entry for entry in there if entry.state == "live" and self._wants(entry.application)):
                if self._configured(place, live) is None:
                    known[place] = str(live.address)
        return known

    def _wants(self, application: str) -> bool:
        entry = self._applications.get(application)
        return entry is None or entry.database

    @cached_property
    def logins(self) -> dict[str, set[Folder | int]]:
        """Who logs in as each user of a database server: folders, and numbers of installations that lie in none."""
        known: dict[str, set[Folder | int]] = defaultdict(set)
        for found in self._found.values():
            if found.database is not None and found.database.user:
                known[found.database.user].add(found.folder)
        placed: list[tuple[Folder | int, Installation]] = [
            (folder, installation) for folder, there in self._standing.items() for installation in there
        ]
        placed += [(other.number, other) for other in self._homeless if other.state != "retired"]
        for place, installation in placed:
            if installation.database is not None and installation.database.user:
                known[installation.database.user].add(place)
        return dict(known)

    @cached_property
    def names(self) -> frozenset[str]:
        """Names of databases and of their users in lower case, as most servers keep both short and
        many hosts make them alike; those that were seen on the server, too."""
        planned = [
            installation.database for installation in self._account.installations if installation.database is not None
        ]
        names = [*(user.name for user in self.users), *(base.name for base in planned)]
        seen = self._seen()
        there = [one.name for one in seen.databases] if seen is not None else []
        there += [one.name for one in seen.logins] if seen is not None else []
        users = [base.user for base in planned if base.user is not None]
        return frozenset(name.lower() for name in (*names, *users, *there))

    def _user(
        self, server: str, name: str, prefix: str, installation: Installation | None, found: FoundApplication | None
    ) -> TableUser:
        key, begin = table_key(self._account, server, name, prefix)
        return TableUser(key, begin, name, prefix, installation, found)

    def _configured(self, folder: Folder, installation: Installation) -> tuple[str, str, str] | None:
        """The server, database and prefix an installation uses, as found if it is live."""
        planned = installation.database
        if installation.state == "live":
            found = self._found.get(folder)
            real = found.database if found is not None and found.application == installation.application else None
            if real is not None and real.name:
                server = planned.server if planned is not None else ""
                return server, real.name, real.prefix or (planned.prefix if planned is not None else "")
        return (planned.server, planned.name, planned.prefix) if planned is not None else None

    def _is_plain(self) -> bool:
        """Whether no two names of databases are alike, as in most accounts."""
        planned = [
            installation.database.name
            for installation in self._account.installations
            if installation.database is not None
        ]
        names = {name.lower() for name in planned}
        if len(names) < len(planned):
            return False
        for found in self._found.values():
            if found.database is None or not found.database.name:
                continue
            placed = self._placed.get(found.folder)
            known = placed[0].database if placed is not None and len(placed) == 1 else None
            if known is not None and known.name == found.database.name:
                continue
            name = found.database.name.lower()
            if name in names:
                return False
            names.add(name)
        return True


def _placed_today(layout: AccountLayout) -> dict[Folder, list[Installation]]:
    """What the plan has in each folder, also in those that it lies in today, as roots change later."""
    placed = {**layout.placed, **layout.present}
    for installation in layout.account.installations:
        lies = layout.lies_now(installation) if installation.state == "retired" else None
        if lies is not None:
            placed.setdefault(lies, [installation])
    return placed
