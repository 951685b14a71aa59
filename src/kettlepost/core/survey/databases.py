"""What was seen of an account's databases: names, sizes, tables by prefix, and who may do what; no row, no password.

It is kept as `surveys/NAME.databases.json`, one record a line.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

import msgspec
from msgspec import Struct, field

from kettlepost.core.errors import InputError
from kettlepost.core.names import printable, quoted

LARGEST_DATABASES = 64 * 1024 * 1024
_SAMPLE = 3


class SeenTable(NamedTuple):
    """A table as a server or a dump has it; `bytes` is -1 where it is not known, `newest` a day in ISO 8601 form."""

    database: str
    name: str
    bytes: int = -1
    newest: str = ""


class SeenTables(Struct, omit_defaults=True, frozen=True):
    """The tables of a database that begin alike; `names` are the first few, `bytes` -1 where no size is known."""

    prefix: str
    number: int
    bytes: int = -1
    newest: str = ""
    names: tuple[str, ...] = ()


class SeenDatabase(Struct, omit_defaults=True):
    """A database with its tables by prefix; `charset` and `collation` as the server calls them."""

    name: str
    charset: str = ""
    collation: str = ""
    bytes: int = -1
    tables: list[SeenTables] = field(default_factory=list)

    @property
    def number(self) -> int:
        """How many tables it has."""
        return sum(group.number for group in self.tables)

    def beginning(self, prefix: str, but: tuple[str, ...] = ()) -> int:
        """How many tables belong to a prefix, without those of longer ones."""
        own = (group for group in self.tables if group.prefix.startswith(prefix) and not group.prefix.startswith(but))
        return sum(group.number for group in own)


class SeenLogin(Struct, omit_defaults=True):
    """A user of the server and the databases on which something was granted; `everywhere` where that is on all."""

    name: str
    host: str = ""
    databases: dict[str, list[str]] = field(default_factory=dict)
    everywhere: list[str] = field(default_factory=list)


class SeenDatabases(Struct, omit_defaults=True):
    """All of it for one account at one moment (ISO 8601, UTC).

    `server` is "mysql", "mariadb" or "postgresql", empty where a file does not tell; `is_whole` says that all
    databases of the account were seen, as a server shows them, so that what is missing is not there;
    `knows_logins` says the same of users.
    """

    account: str
    taken: str
    source: str
    server: str = ""
    version: str = ""
    is_whole: bool = False
    knows_logins: bool = False
    databases: list[SeenDatabase] = field(default_factory=list)
    logins: list[SeenLogin] = field(default_factory=list)
    kettlepost: int = 1

    def named(self, name: str) -> SeenDatabase | None:
        """The database of a name, as the server compares names."""
        folds = self.server == "postgresql"
        wanted = name.lower() if folds else name
        return next((one for one in self.databases if (one.name.lower() if folds else one.name) == wanted), None)


def grouped(tables: Iterable[SeenTable], known: Iterable[str] = ()) -> dict[str, list[SeenTables]]:
    """Tables by database and prefix: the longest of the prefixes that are `known`, else up to the first underscore."""
    prefixes = sorted({prefix for prefix in known if prefix}, key=lambda prefix: -len(prefix))
    found: dict[str, dict[str, list[SeenTable]]] = {}
    for table in tables:
        own = next((prefix for prefix in prefixes if table.name.startswith(prefix)), None)
        if own is None:
            head, underscore, _ = table.name.partition("_")
            own = f"{head}_" if underscore and head else ""
        found.setdefault(table.database, {}).setdefault(own, []).append(table)
    return {base: [_group(own, some) for own, some in sorted(groups.items())] for base, groups in found.items()}


def _group(prefix: str, tables: list[SeenTable]) -> SeenTables:
    sizes = [table.bytes for table in tables if table.bytes >= 0]
    names = tuple(sorted(table.name for table in tables)[:_SAMPLE])
    newest = max((table.newest for table in tables), default="")
    return SeenTables(prefix, len(tables), sum(sizes) if sizes else -1, newest, names)


def encode_databases(seen: SeenDatabases) -> bytes:
    """It as JSON: a head line, then each list with one record a line."""
    head = {
        key: printable(value) if isinstance(value, str) else value
        for key, value in msgspec.structs.asdict(seen).items()
        if key not in ("databases", "logins")
    }
    text = msgspec.json.encode(head)[:-1]
    for name in ("databases", "logins"):
        text += b',\n"%s":[' % name.encode()
        text += b",".join(b"\n" + msgspec.json.encode(one) for one in getattr(seen, name)) + b"\n]"
    return text + b"}\n"


def decode_databases(raw: bytes, name: str, account: str) -> SeenDatabases:
    """What the file called `name` holds. Raises InputError when it is none of that account."""
    try:
        found = _DECODER.decode(raw)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        text = f"{printable(name)}: not what was seen of databases ({printable(str(error))}); read them again"
        raise InputError(text) from None
    if found.account != account or found.kettlepost != 1:
        raise InputError(f"{printable(name)}: of account {quoted(found.account)}, not of {quoted(account)}")
    return found


_DECODER = msgspec.json.Decoder(SeenDatabases)
