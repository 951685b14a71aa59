"""Database servers as the source of what an account's databases hold: MySQL, MariaDB and PostgreSQL, only ever read."""

from __future__ import annotations

import importlib.util
import json
import re
import ssl
import sys
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import SeenLogin, SeenTable
from kettlepost.sources.bounded_process import limit_memory, refuse, run_bounded
from kettlepost.sources.remote import Asking, RemotePlace, Secrets

SCHEMES = ("mysql", "mariadb", "postgresql")
_PATIENCE = 30
_MEMORY, _SECONDS = 160, 300
_MYSQL_DATABASES = """
SELECT schema_name, default_character_set_name, default_collation_name FROM information_schema.schemata
WHERE schema_name NOT IN ('information_schema', 'performance_schema', 'mysql', 'sys')
"""
_MYSQL_TABLES = """
SELECT table_schema, table_name, COALESCE(data_length, 0) + COALESCE(index_length, 0),
DATE(COALESCE(update_time, create_time)) FROM information_schema.tables
WHERE table_type = 'BASE TABLE' AND table_schema NOT IN ('information_schema', 'performance_schema', 'mysql', 'sys')
"""
_OWN_POSTGRESQL = ("template0", "template1")
_LOOPBACK = ("localhost", "127.0.0.1", "::1")


class ReadServer(NamedTuple):
    """What a server shows: its kind and version, databases with character set and collation, tables, users.

    `sees_all` says that the one who asks is shown every database with its tables, `knows_logins` the same of users.
    """

    kind: str
    version: str
    databases: dict[str, tuple[str, str]]
    tables: list[SeenTable]
    logins: list[SeenLogin]
    sees_all: bool
    knows_logins: bool


def read_server(
    place: RemotePlace, secrets: Secrets, credentials: Path | None = None, near: int | None = None
) -> ReadServer:
    """Ask a server what it has, in a transaction that cannot write; `near` is the port here of a tunnel to it.

    `credentials` is a file of the driver's own kind. A server elsewhere is asked by TLS alone, with its certificate
    verified. It is asked in a process of its own, as the drivers take whatever a server sends. Raises InputError for
    want of a driver, OutsideError when the server refuses, does not answer, or sends too much.
    """
    driver = "psycopg" if place.scheme == "postgresql" else "pymysql"
    if importlib.util.find_spec(driver) is None:
        raise InputError(f"{place.scheme}:// wants one more package", Remedy.of(Action.ADD_EXTRA, "databases"))
    if secrets.certificates is not None:
        _trust(secrets)  # to tell of a file that is none
    asking = Asking(secrets)
    password = None if credentials is not None else asking.password(place.who)
    given = [*place, password, *map(_text, (secrets.certificates, credentials)), near]
    try:
        done = run_bounded(__name__, [str(_PATIENCE)], json.dumps(given).encode(), _MEMORY, _SECONDS)
    except OutsideError as error:
        raise OutsideError(f"{place}: {error}") from None
    if done.is_refused:
        raise OutsideError(f"{place}: {printable(asking.hidden(done.written.decode('utf-8', 'replace')))}")
    return msgspec.convert(json.loads(done.written), ReadServer)


def _text(path: Path | None) -> str | None:
    return str(path) if path is not None else None


def _main() -> None:
    global _PATIENCE

    *words, password, certificates, credentials, near = json.load(sys.stdin)
    _PATIENCE = int(limit_memory()[0])
    secrets = Secrets(lambda _: password, certificates=Path(certificates) if certificates else None)
    place, file = RemotePlace(*words), Path(credentials) if credentials else None
    read = _read_postgresql if place.scheme == "postgresql" else _read_mysql
    try:
        found = read(place, secrets, file, near)
    except Exception as error:  # each driver has a tree of errors of its own
        if not type(error).__module__.startswith(("pymysql", "psycopg")) and not isinstance(error, OSError | EOFError):
            raise
        refuse(_said(error))
    else:
        sys.stdout.write(json.dumps(msgspec.to_builtins(found)))


def _read_mysql(place: RemotePlace, secrets: Secrets, credentials: Path | None, near: int | None) -> ReadServer:
    import pymysql

    options: dict[str, Any] = {"read_default_file": str(credentials)} if credentials is not None else {}
    if credentials is None:
        options["password"] = secrets.password(place.who) or ""
    if near is None and place.host not in _LOOPBACK:
        options["ssl"] = _trust(secrets)
    connection = pymysql.connect(
        host="127.0.0.1" if near else place.host, port=near or place.port, user=place.user,
        connect_timeout=_PATIENCE, read_timeout=_PATIENCE * 4,
        write_timeout=_PATIENCE, charset="utf8mb4", local_infile=False, **options,
    )  # fmt: skip
    try:
        with connection.cursor() as cursor:
            cursor.execute("SET SESSION TRANSACTION READ ONLY")
            cursor.execute("SELECT VERSION()")
            version = _word(cursor.fetchone()[0])
            cursor.execute(_MYSQL_DATABASES)
            databases = {_word(name): (_word(charset), _word(order)) for name, charset, order in cursor.fetchall()}
            cursor.execute(_MYSQL_TABLES)
            tables = [
                SeenTable(_word(base), _word(name), int(size), str(day) if day else "")
                for base, name, size, day in cursor.fetchall()
            ]
            logins, knows_logins = list(_mysql_logins(cursor)), _sees_all_logins(cursor)
            sees_all, granted = _mysql_sight(cursor, databases)
    finally:
        connection.close()
    kind = "mariadb" if "mariadb" in version.lower() else "mysql"
    databases = {name: told for name, told in databases.items() if sees_all or name in granted}
    return ReadServer(kind, version, databases, tables, logins, sees_all, knows_logins)


def _mysql_sight(cursor: Any, names: Iterable[str]) -> tuple[bool, set[str]]:
    """Whether the one who asks may look into every database; and those into which it may.

    Without such a right a server shows names whose tables it does not show, or not even the names.
    """
    cursor.execute("SELECT CURRENT_USER()")
    name, _, host = _word(cursor.fetchone()[0]).rpartition("@")
    own = f"'{name}'@'{host}'"
    cursor.execute("SELECT privilege_type FROM information_schema.user_privileges WHERE grantee = %s", (own,))
    sees_all = any(_word(right) in ("SELECT", "INSERT", "UPDATE", "DELETE") for (right,) in cursor.fetchall())
    cursor.execute("SELECT DISTINCT table_schema FROM information_schema.schema_privileges WHERE grantee = %s", (own,))
    patterns = [_pattern(_word(base)) for (base,) in cursor.fetchall()]
    return sees_all, {base for base in names if any(pattern.fullmatch(base) for pattern in patterns)}


def _pattern(granted: str) -> re.Pattern[str]:
    """The database of a grant, which is a pattern: % stands for any text, _ for any character."""
    parts = re.findall(r"\\.|.", granted, re.DOTALL)
    return re.compile("".join({"%": ".*", "_": "."}.get(part, re.escape(part[-1])) for part in parts), re.DOTALL)


def _sees_all_logins(cursor: Any) -> bool:
    """Whether the one who asks is shown every user."""
    import pymysql

    try:
        cursor.execute("SELECT 1 FROM mysql.user LIMIT 1")
    except pymysql.err.OperationalError:
        return False
    return True


def _mysql_logins(cursor: Any) -> Iterator[SeenLogin]:
    """Users with what was granted to them: all where the user may see that, else the one who asks."""
    found: dict[str, SeenLogin] = {}

    def login(grantee: str) -> SeenLogin:
        name, _, host = grantee.rpartition("@")
        return found.setdefault(grantee, SeenLogin(name.strip("'"), host.strip("'")))

    cursor.execute("SELECT grantee, privilege_type FROM information_schema.user_privileges")
    for grantee, right in cursor.fetchall():
        one = login(_word(grantee))
        if _word(right) != "USAGE":
            one.everywhere.append(_word(right))
    cursor.execute("SELECT grantee, table_schema, privilege_type FROM information_schema.schema_privileges")
    for grantee, base, right in cursor.fetchall():
        name = _word(base).replace("\\_", "_").replace("\\%", "%")  # a grant names a pattern
        login(_word(grantee)).databases.setdefault(name, []).append(_word(right))
    yield from _in_order(found.values())


def _read_postgresql(place: RemotePlace, secrets: Secrets, credentials: Path | None, near: int | None) -> ReadServer:
    import psycopg

    options: dict[str, Any] = {"host": place.host, "port": near or place.port, "user": place.user}
    if near is not None:
        options["hostaddr"] = "127.0.0.1"  # so that a file of passwords is asked for the server's own name
    options |= {"connect_timeout": _PATIENCE, "options": f"-c statement_timeout={_PATIENCE * 4000}"}
    if credentials is not None:
        options["passfile"] = str(credentials)
    elif (password := secrets.password(place.who)) is not None:
        options["password"] = password
    if near is None and place.host not in _LOOPBACK:
        options |= {"sslmode": "verify-full", "sslrootcert": str(secrets.certificates or "system")}

    def asked(database: str, query: str) -> list[tuple[Any, ...]]:
        with psycopg.connect(dbname=database, **options) as connection:
            connection.read_only = True
            return connection.execute(query).fetchall()

    first = place.path.strip("/") or "postgres"
    rows = asked(
        first,
        "SELECT datname, pg_encoding_to_char(encoding), datcollate, has_database_privilege(datname, 'CONNECT') "
        "AND datallowconn, current_setting('server_version') FROM pg_database",
    )
    shown = [row for row in rows if row[0] not in _OWN_POSTGRESQL]
    sees_all, shown = all(row[3] for row in shown), [row for row in shown if row[3]]
    tables: list[SeenTable] = []
    for name in sorted(row[0] for row in shown):
        found = asked(
            name,
            "SELECT n.nspname, c.relname, pg_total_relation_size(c.oid) FROM pg_class c JOIN pg_namespace n "
            "ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p') AND n.nspname !~ '^(pg_|information_schema)'",
        )
        tables += [
            SeenTable(name, table if around == "public" else f"{around}.{table}", size) for around, table, size in found
        ]
    roles: dict[str, SeenLogin] = {}
    for role, base, right, is_super in asked(
        first,
        "SELECT r.rolname, d.datname, p.privilege, r.rolsuper FROM pg_roles r CROSS JOIN pg_database d CROSS JOIN "
        "(VALUES ('CONNECT'), ('CREATE'), ('TEMPORARY')) p (privilege) "
        "WHERE r.rolcanlogin AND NOT d.datistemplate AND has_database_privilege(r.oid, d.oid, p.privilege)",
    ):
        one = roles.setdefault(role, SeenLogin(role, everywhere=["SUPERUSER"] if is_super else []))
        one.databases.setdefault(base, []).append(right)
    version = rows[0][4] if rows else ""
    bases = {name: (charset, order) for name, charset, order, *_ in shown}
    return ReadServer("postgresql", version, bases, tables, list(_in_order(roles.values())), sees_all, True)


def _in_order(logins: Iterable[SeenLogin]) -> Iterator[SeenLogin]:
    for login in sorted(logins, key=lambda one: (one.name, one.host)):
        login.everywhere = sorted(set(login.everywhere))
        login.databases = {name: sorted(set(rights)) for name, rights in sorted(login.databases.items())}
        yield login


def _word(value: Any) -> str:
    return value.decode("utf-8", "surrogateescape") if isinstance(value, bytes) else str(value or "")


def _trust(secrets: Secrets) -> ssl.SSLContext:
    try:
        return ssl.create_default_context(
            cafile=str(secrets.certificates) if secrets.certificates is not None else None
        )
    except OSError:
        raise InputError(
            f"{printable(secrets.certificates)}: holds no certificates that can be read",
            Remedy(Action.NAME_CERTIFICATES),
        ) from None


def _said(error: Exception) -> str:
    """What a driver says, in one line."""
    words = str(error.args[1]) if len(error.args) > 1 and isinstance(error.args[0], int) else str(error)
    return printable(" ".join(words.split())[:300]) or type(error).__name__


if __name__ == "__main__":
    _main()
