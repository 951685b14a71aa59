"""Databases as they are: read from a server, a dump or a listing, kept beside the survey, and listed."""

from __future__ import annotations

import gzip
import io
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.layout import AccountLayout, DatabaseRow, database_rows
from kettlepost.core.names import printable, quoted
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.secrets import masked_address
from kettlepost.core.survey import (
    SeenDatabase,
    SeenDatabases,
    SeenLogin,
    SeenTables,
    encode_databases,
    grouped,
    is_listing,
    read_dump,
    read_listing,
)
from kettlepost.sources import RemotePlace, Secrets
from kettlepost.workspace.clock import now
from kettlepost.workspace.files import write_whole
from kettlepost.workspace.plan_folder import PlanFolder, databases_file

_HEAD = 1 << 16
_LIMITS = Limits(entries=1_000_000, bytes=1 << 40, unpacked=1 << 42)
_SCHEMES = ("mysql", "mariadb", "postgresql")


def read_databases(
    plan: PlanFolder,
    account: str,
    source: str,
    secrets: Secrets | None = None,
    credentials: Path | None = None,
    database: str = "",
    via: str | None = None,
) -> SeenDatabases:
    """Read what an account's databases hold, and keep it; what was kept before stays when anything goes wrong.

    `source` is a server's address, `mysql://user@host`, a dump or a listing of tables; `database` names the one that
    a dump is of, where it does not say so itself; `via` is a machine to go through, `sftp://user@host`.
    Raises InputError, OutsideError.
    """
    plan.known_names([account])
    layout = plan.layout_of(account)
    shown = masked_address(source)
    if via is not None and "://" not in source:
        raise InputError("--via goes with a database server, not with a file")
    if "://" in source:
        seen = _of_server(layout, source, secrets or Secrets(lambda _: None), credentials, via)
    else:
        seen = _of_file(layout, Path(source), database, plan.databases(account))
    seen.source = shown
    write_whole(plan.path / databases_file(account), encode_databases(seen))
    return seen


def databases(plan: PlanFolder, accounts: Sequence[str] | None = None) -> list[DatabaseRow]:
    """Every database of some accounts, all where none is named, in rows."""
    names = plan.known_names(list(accounts) if accounts else None)
    return [row for name in names for row in database_rows(plan.layout_of(name), plan.databases(name))]


def _of_server(
    layout: AccountLayout, source: str, secrets: Secrets, credentials: Path | None, via: str | None
) -> SeenDatabases:
    scheme = source.partition("://")[0].lower()
    if scheme not in _SCHEMES:
        raise InputError(
            f"{quoted(masked_address(source))} is no database server: mysql://, mariadb:// and postgresql:// are read"
        )
    from kettlepost.sources.database_servers import read_server

    place = RemotePlace.parse(source)
    if via is None:
        found = read_server(place, secrets, credentials)
    else:
        if not via.lower().startswith("sftp://"):
            raise InputError(f"{quoted(masked_address(via))}: a machine to go through is named as sftp://user@host")
        from kettlepost.sources.tunnel import tunnel

        with tunnel(RemotePlace.parse(via), place, secrets) as near:
            found = read_server(place, secrets, credentials, near)
    own = _own(layout, found.databases)
    groups = grouped([table for table in found.tables if table.database in own], _known_prefixes(layout))
    bases = [_database(name, *found.databases[name], groups=groups) for name in sorted(own)]
    logins = [login for login in (_on(one, own) for one in found.logins) if login is not None]
    return SeenDatabases(
        layout.name, now(), "", found.kind, found.version, found.sees_all, found.knows_logins, bases, logins
    )


def _own(layout: AccountLayout, names: Iterable[str]) -> set[str]:
    """Those of a server's databases that are the account's: by its prefix, or as somebody there uses them."""
    begin = layout.account.settings.database_prefix
    used = {name for host, name in layout.tables.by_database if host == ""}
    return {name for name in names if not begin or name.startswith(begin) or name in used or name.lower() in used}


def _on(login: SeenLogin, own: set[str]) -> SeenLogin | None:
    """A user with what was granted on some databases; None for one of others'."""
    rights = {name: found for name, found in login.databases.items() if name in own}
    others = sorted(name for name in login.databases if name not in own)
    if not rights:
        return None
    return SeenLogin(
        login.name, login.host, rights | {name: login.databases[name] for name in others}, login.everywhere
    )


def _of_file(layout: AccountLayout, path: Path, database: str, before: SeenDatabases | None) -> SeenDatabases:
    budget = Budget(str(path), _LIMITS, time.monotonic)
    with _opened(path) as stream:
        head = stream.peek(_HEAD)[:_HEAD]  # type: ignore[attr-defined]
        listing = is_listing(head)
        tables = list(read_listing(stream, budget) if listing else read_dump(stream, budget, database))
    unnamed = [table for table in tables if not table.database]
    if unnamed:
        raise InputError(f"{printable(path)}: does not say which database it is of; name it with --database NAME")
    if listing:  # which may be of a whole server
        own = _own(layout, {table.database for table in tables})
        tables = [table for table in tables if table.database in own]
    groups = grouped([table for table in tables if table.name], _known_prefixes(layout))
    names = sorted({table.database for table in tables})
    bases = {name: _database(name, groups=groups) for name in names}
    if before is not None and not listing:  # a dump is of one database as a rule, and says nothing of the others
        bases = {**{one.name: one for one in before.databases}, **bases}
    kept = before if before is not None and not listing else SeenDatabases(layout.name, "", "")
    return SeenDatabases(
        layout.name, now(), "", kept.server, kept.version, kept.is_whole, kept.knows_logins,
        [bases[name] for name in sorted(bases)], kept.logins,
    )  # fmt: skip


def _database(
    name: str, charset: str = "", collation: str = "", *, groups: dict[str, list[SeenTables]]
) -> SeenDatabase:
    tables = groups.get(name, [])
    sizes = [group.bytes for group in tables if group.bytes >= 0]
    return SeenDatabase(name, charset, collation, sum(sizes) if sizes else 0 if not tables else -1, tables)


def _known_prefixes(layout: AccountLayout) -> set[str]:
    """The prefixes of everybody who is known to use tables, retired ones too."""
    planned = {one.database.prefix for one in layout.account.installations if one.database is not None}
    return planned | {user.written for user in layout.tables.users}


@contextmanager
def _opened(path: Path) -> Iterator[BinaryIO]:
    """A file, unpacked where it is packed by gzip or Zstandard. Raises InputError, OutsideError."""
    try:
        with path.open("rb", buffering=0) as file:
            magic = file.read(4)
            file.seek(0)
            if magic[:2] == b"\x1f\x8b":
                with gzip.open(file, "rb") as unpacked:
                    yield io.BufferedReader(unpacked, _HEAD)
            elif magic == b"\x28\xb5\x2f\xfd":
                try:
                    import zstandard
                except ImportError:
                    lacks = f"{printable(path)} wants one more package"
                    raise InputError(lacks, Remedy.of(Action.ADD_EXTRA, "zst")) from None
                with zstandard.ZstdDecompressor(max_window_size=1 << 27).stream_reader(file) as reader:
                    yield io.BufferedReader(reader, _HEAD)
            else:
                yield io.BufferedReader(file, _HEAD)
    except (EOFError, gzip.BadGzipFile) as error:
        raise InputError(f"{printable(path)}: damaged or cut off ({printable(str(error))})") from None
    except IsADirectoryError:
        raise InputError(f"{printable(path)} is a folder, not a dump or a listing") from None
    except FileNotFoundError:
        raise InputError(f"{printable(path)} is not there") from None
    except OSError as error:
        raise OutsideError(f"{printable(path)}: cannot be read ({cause(error)})") from None
