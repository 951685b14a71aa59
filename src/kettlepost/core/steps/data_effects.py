"""What steps do to the databases of an account: what would be seen of them after the steps."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial
from typing import assert_never

from msgspec.structs import replace

from kettlepost.core.plan import Database
from kettlepost.core.steps import kinds
from kettlepost.core.steps.kinds import OnDatabases, Step
from kettlepost.core.survey import SeenDatabase, SeenDatabases, SeenLogin, SeenTables


def databases_after(seen: SeenDatabases, steps: Iterable[Step]) -> SeenDatabases:
    """What would be seen of databases after `steps`; those that change none of them leave it as it is."""
    work = [step for step in steps if isinstance(step, OnDatabases)]
    then = seen if not work else replace(seen, databases=list(seen.databases), logins=list(seen.logins))
    for step in work:
        _carry_out(then, step)
    return then


def _carry_out(then: SeenDatabases, step: OnDatabases) -> None:
    match step:
        case kinds.MakeDatabase():
            if then.named(step.database.name) is None:
                then.databases.append(SeenDatabase(step.database.name))
            _let_in(then, step.database, step.rights)
        case kinds.CopyTables():
            base = then.named(step.database.name)
            copies = _renamed(base, step.database.prefix, step.target.prefix) if base is not None else []
            _put(then, step.target.name, lambda tables: [*tables, *copies])
        case kinds.DropTables():
            if step.is_whole:
                then.databases = [one for one in then.databases if one is not then.named(step.database.name)]
            else:
                _put(then, step.database.name, partial(_without, step.database.prefix, step.stays))
        case kinds.DropUser():
            then.logins = [one for one in then.logins if one.name != step.user]
        case _:
            assert_never(step)


def _let_in(then: SeenDatabases, base: Database, rights: Iterable[str]) -> None:
    """Its user has rights on a database, besides those that it had."""
    if base.user is None:
        return
    known = next((one for one in then.logins if one.name == base.user), SeenLogin(base.user))
    granted = known.databases | {base.name: list(rights) or ["ALL PRIVILEGES"]}
    then.logins = [*(one for one in then.logins if one is not known), replace(known, databases=granted)]


def _without(begin: str, stays: tuple[str, ...], tables: list[SeenTables]) -> list[SeenTables]:
    return [one for one in tables if not one.prefix.startswith(begin) or one.prefix.startswith(stays)]


def _put(then: SeenDatabases, name: str, change: Callable[[list[SeenTables]], list[SeenTables]]) -> None:
    """Change the tables of a database that is there."""
    old = then.named(name)
    then.databases = [replace(one, tables=change(one.tables)) if one is old else one for one in then.databases]


def _renamed(base: SeenDatabase, old: str, new: str) -> list[SeenTables]:
    """The tables of a prefix by another one."""

    def called(name: str) -> str:
        return new + name[len(old) :]

    groups = [one for one in base.tables if one.prefix.startswith(old)]
    return [replace(one, prefix=called(one.prefix), names=tuple(map(called, one.names))) for one in groups]
