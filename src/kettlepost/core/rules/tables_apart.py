"""Ways out for those who use the tables of others: names that are free, and how the data comes there."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from kettlepost.core.layout import AccountLayout, TableUser
from kettlepost.core.messages import Words, say, series
from kettlepost.core.names import Address, Folder, printable, quoted
from kettlepost.core.plan import Change, Database, Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.allowances import use_of
from kettlepost.core.rules.findings import WayOut
from kettlepost.core.rules.removal import removal
from kettlepost.core.rules.ways_out import MANY, setting
from kettlepost.core.steps import CompleteEntry, Configure, CopyTables, Decide, LookAgain, MakeDatabase, Question, Step

LONGEST = {"mysql": (64, 32), "mariadb": (64, 32), "postgresql": (63, 63), "sqlite": (255, 63)}
"""The longest names of a database and of a user, in characters; PostgreSQL's are bytes."""


class _Names:
    """Names of databases and prefixes, each given once, as long as the package has room for databases."""

    def __init__(self, layout: AccountLayout, users: list[TableUser]):
        self.layout = layout
        self._room = room_for_databases(layout)
        self._given: list[str] = []
        self._prefixes = [user.prefix for user in users]

    def database(self, place: Address | Folder) -> str | None:
        """A database of its own for what is at an address or in a folder; None where the package has no room."""
        if len(self._given) >= self._room:
            return None
        self._given.append(free_database(self.layout, place, self._given))
        return self._given[-1]

    def prefix(self, application: str, place: Address | Folder) -> str | None:
        """A prefix of its own; None where somebody's empty prefix begins every other."""
        if "" in self._prefixes:
            return None
        self._prefixes.append(free_prefix(self._prefixes, application, place))
        return self._prefixes[-1]


def tables_apart(layout: AccountLayout, users: list[TableUser], moved: list[TableUser]) -> list[WayOut]:
    """Give each of `moved` tables of its own; the other users of the database keep theirs.

    What is planned gets another name in the plan. What is set up already gets a database of its
    own, or a prefix where the package has no room, filled by copying; what was put aside goes.
    """
    numbers = {(user.database, user.prefix, user.shown) for user in moved}
    names = _Names(layout, [user for user in users if (user.database, user.prefix, user.shown) not in numbers])
    told: list[Words] = []
    changes: list[Change] = []
    steps: list[Step] = []
    for user in moved:
        way = _apart(layout, names, user)
        if way is None:
            words = say("tables-apart/needs-database-own", user=user.shown)
            return [WayOut(words, steps=[CompleteEntry(layout.name, "account", None, ("package",))])]
        told.append(way.words)
        changes += way.changes
        steps += way.steps
    return [WayOut(series(told, MANY) if not steps else say("tables-apart/each", told=told), changes, steps=steps)]


def data_apart(layout: AccountLayout, user: TableUser, installation: Installation, own: dict[str, str]) -> WayOut:
    """Give a live installation a database or a prefix of its own, filled by copying; what it has now stays as it is."""
    return _copied(layout, user, installation, layout.folder_of(installation), own)


def _apart(layout: AccountLayout, names: _Names, user: TableUser) -> WayOut | None:
    installation, found = user.installation, user.found
    if installation is None:
        if found is None:
            return None
        if found.condition:
            return removal(layout, found.folder, found=found)
        given = _given(names, found.application, found.folder)
        return _copied(layout, user, None, found.folder, given) if given is not None else None
    if installation.state == "planned":
        prefix = names.prefix(installation.application, installation.address)
        name_ = names.database(installation.address) if prefix is None else None
        if prefix is None and name_ is None:
            return None
        value = {"prefix": prefix} if prefix is not None else {"name": name_}
        told = say("apart/prefix", prefix=prefix) if prefix is not None else say("apart/database", name=name_)
        words = say("apart/give", address=installation.address, told=told)
        return WayOut(words, [setting(layout, installation, database=value)])
    folder = layout.lies_now(installation)
    there = layout.present.get(folder, []) if folder is not None else []
    if len(there) > 1 and folder is not None:  # only one of them is there, so that no tables are to be told apart
        words = say("apart/find-out-them", folder=folder.shown)
        asked = Decide(layout.name, Question.WHICH_IS_THERE, tuple(str(one.address) for one in there))
        return WayOut(words, steps=[asked])
    values = _given(names, installation.application, installation.address)
    return _copied(layout, user, installation, layout.folder_of(installation), values) if values is not None else None


def _given(names: _Names, application: str, place: Address | Folder) -> dict[str, str] | None:
    """A database of its own, else a prefix, by the key of the plan that names it."""
    database = names.database(place)
    if database is not None:
        return {"name": database}
    prefix = names.prefix(application, place)
    return {"prefix": prefix} if prefix is not None else None


def _copied(
    layout: AccountLayout, user: TableUser, installation: Installation | None, folder: Folder | None,
    values: dict[str, str],
) -> WayOut:  # fmt: skip
    new = values.get("name")
    what = say("copied/database", new=new) if new is not None else say("copied/tables-begin", value=values["prefix"])
    where = say("copied/in-folder", folder=folder.shown) if folder is not None else ""
    login = say("copied/rights-user", login=printable(user.login)) if user.login and new is not None else ""
    is_copy = installation is not None and installation.staging_of is not None
    address = (
        say("copied/write-address-into", address=installation.address) if installation is not None and is_copy else ""
    )
    words = say(
        "copied/give-create-copy",
        user=user.shown,
        what=what,
        login=login,
        prefixed=_prefixed(user),
        address=address,
        where=where,
        with_databases=layout.databases is not None,
    )
    base = Database(new or user.name, values.get("prefix", user.written), None, user.database[0])
    changes = []
    if installation is not None:
        written = values if installation.database is not None else {"name": base.name, "prefix": base.prefix}
        changes = [setting(layout, installation, database=written)]
    return WayOut(words, changes, steps=list(_copying(layout, user, installation, folder, base)))


def _copying(
    layout: AccountLayout, user: TableUser, installation: Installation | None, folder: Folder | None,
    new: Database,
) -> Iterator[Step]:  # fmt: skip
    """The work on data: the new database, the copy of the tables, the configuration."""
    yield from copying(layout, user, installation, new)
    if installation is not None and installation.staging_of is not None:
        yield Configure(layout.name, user.shown, folder, new, str(installation.address))
    yield Configure(layout.name, user.shown, folder, new)
    yield LookAgain(layout.name, databases=layout.databases is not None)


def copying(layout: AccountLayout, user: TableUser, installation: Installation | None, new: Database) -> list[Step]:
    """The new database, and the copy of what somebody's tables hold."""
    old = Database(user.name, user.written, None, user.database[0])
    made = Remedy.of(Action.MAKE_DATABASES, str(installation.address)) if installation is not None else None
    is_in_use = user.login is not None and (installation is None or installation.state == "live")
    makes: list[Step] = []
    if new.name != old.name:
        base = replace(new, user=user.login) if is_in_use else new
        makes.append(MakeDatabase(layout.name, base, has_user=is_in_use, remedy=made))
    return [*makes, CopyTables(layout.name, old, new, copy_remedy(layout, user, new))]


def copy_remedy(layout: AccountLayout, user: TableUser, new: Database | None) -> Remedy | None:
    """The command that writes the script for a copy of tables; None where there is none, as for a server elsewhere."""
    kind = layout.account.settings.database_server
    if new is None or user.database[0] or kind == "sqlite" or (kind == "postgresql" and new.name == user.name):
        return None
    words = [user.shown] if user.installation is not None else [user.shown, "--account", layout.name]
    words += ["--to", new.name] if new.name != user.name else []
    words += ["--prefix", new.prefix] if new.prefix != user.written else []
    return Remedy.of(Action.COPY_TABLES, *words)


def _prefixed(user: TableUser) -> Words:
    begin = say("prefixed/prefix", written=quoted(user.written)) if user.written else ""
    return say("prefixed/database", user=printable(user.name), begin=begin)


def own_prefix(layout: AccountLayout, installation: Installation) -> str:
    """A prefix for an installation that begins with none in use in the account, and none with it."""
    taken = (user.prefix for user in layout.tables.users)
    return free_prefix(taken, installation.application, installation.address)


def room_for_databases(layout: AccountLayout) -> int:
    """How many more databases the package allows."""
    use = use_of(layout, "databases")
    return max(use.allowed - use.total, 0) if use is not None else 1 << 30


def free_database(layout: AccountLayout, place: Address | Folder, taken: list[str] | None = None) -> str:
    """A database name that fits the account and that nobody uses, after an address or a folder."""
    longest = min(LONGEST[layout.account.settings.database_server])
    used = layout.tables.names
    last = place.path.rpartition("/")[2] or place.host.spelt if isinstance(place, Address) else place.name
    stem = re.sub(r"[^a-z0-9]+", "", last.lower()) or "site"
    begin = layout.account.settings.database_prefix
    number = 1
    while True:
        tail = "" if number == 1 else str(number)
        name = f"{begin}{stem[: max(longest - len(begin) - len(tail), 1)]}{tail}"
        if name.lower() not in used and name not in (taken or ()):
            return name
        number += 1


_SHORT = 24
"""Longer than any prefix that is made here."""


def free_prefix(taken: Iterable[str], application: str, place: Address | Folder) -> str:
    """A short prefix that begins with none of `taken`, and none of them with it."""
    letters = re.sub(r"[^a-z]", "", application)[:2] or "t"
    number = 1 + sum(map(ord, str(place))) % 89
    others = {prefix.lower() for prefix in taken if prefix}
    longest = max(map(len, others), default=0)
    begun = {prefix[:n] for prefix in others for n in range(1, min(len(prefix), _SHORT) + 1)}
    while True:
        free = f"{letters}{number}_"
        if free not in begun and not any(free[:n] in others for n in range(1, min(len(free), longest) + 1)):
            return free
        number += 1
