"""The statements that make databases and users, and take them back."""

from __future__ import annotations

import base64
import hashlib
import hmac
import unicodedata
from collections.abc import Iterator

from kettlepost.core.databases.copy_postgresql import connection
from kettlepost.core.databases.dialect import Dialect
from kettlepost.core.databases.wanted import WantedDatabase
from kettlepost.core.errors import InputError
from kettlepost.core.names import quoted

_NO_PASSWORD = "*" + "0" * 40
"""A stored password that no text has, for servers that cannot lock a user."""
_ROUNDS = 4096
_HOME = '\\connect -reuse-previous=on :"kp_home"'
"""Back to the database that the client was in at the beginning."""


def session_statements(dialect: Dialect) -> Iterator[str]:
    """What the statements rest on, at the beginning of the session; a client that meets an error is to stop."""
    if dialect.is_postgresql:
        yield "\\set ON_ERROR_STOP on"
        yield "SET standard_conforming_strings = on;"
        yield "SET client_encoding = 'UTF8';"
        yield "\\set kp_home :DBNAME"
    else:
        yield "SET NAMES utf8mb4;"
        yield "SET SESSION sql_mode = 'NO_BACKSLASH_ESCAPES';"


def making_statements(dialect: Dialect, wanted: WantedDatabase) -> Iterator[str]:
    """Make a database, its user, who cannot log in yet, and the rights; nothing where they are there."""
    base, user = dialect.name(wanted.name), dialect.user(wanted.user, wanted.host)
    if not dialect.is_postgresql:
        yield f"CREATE DATABASE IF NOT EXISTS {base} CHARACTER SET {wanted.charset} COLLATE {wanted.collation};"
        how = "ACCOUNT LOCK" if dialect.can_lock else f"IDENTIFIED BY PASSWORD '{_NO_PASSWORD}'"
        yield f"CREATE USER IF NOT EXISTS {user} {how};"
        yield f"GRANT {', '.join(wanted.rights)} ON {dialect.granted(wanted.name)}.* TO {user};"
        return
    name, role = dialect.text(wanted.name), dialect.text(wanted.user)
    yield f"SELECT count(*) = 0 AS kp_new FROM pg_database WHERE datname = {name} \\gset"
    yield _when_not(dialect, f"CREATE ROLE {user} NOLOGIN", f"SELECT FROM pg_roles WHERE rolname = {role}")
    yield _when_not(
        dialect, f"CREATE DATABASE {base} ENCODING 'UTF8' TEMPLATE template0",
        f"SELECT FROM pg_database WHERE datname = {name}",
    )  # fmt: skip
    yield "\\if :kp_new"  # of a database that was there before, nothing is taken from anybody
    yield f"REVOKE ALL ON DATABASE {base} FROM PUBLIC;"
    yield "\\endif"
    yield f"GRANT CONNECT, TEMPORARY ON DATABASE {base} TO {user};"
    yield _connect(wanted.name)
    yield "\\if :kp_new"
    yield "REVOKE CREATE ON SCHEMA public FROM PUBLIC;"
    yield "\\endif"
    yield f"GRANT USAGE, CREATE ON SCHEMA public TO {user};"
    yield _HOME


def taking_back_statements(dialect: Dialect, wanted: WantedDatabase) -> Iterator[str]:
    """Take a database and its user back, in a client that stops at the first error, which it meets while tables
    are in the database, or while the user may do something elsewhere."""
    base, user = dialect.name(wanted.name), dialect.user(wanted.user, wanted.host)
    takes_base, takes_user = not wanted.base_of, not wanted.login_of
    if dialect.is_postgresql:
        yield from _taking_back_postgresql(dialect, wanted, takes_base, takes_user)
        return
    name, grantee = dialect.text(wanted.name), dialect.text(f"'{wanted.user}'@'{wanted.host}'")
    if takes_base:
        for what, table, column in (
            ("tables", "TABLES", "table_schema"), ("routines", "ROUTINES", "routine_schema"),
            ("events", "EVENTS", "event_schema"),
        ):  # fmt: skip
            yield from _refuse_when(
                f"(SELECT COUNT(*) FROM information_schema.{table} WHERE HEX({column}) = HEX({name}))",
                f"refused, {what} are in this database", wanted.name,
            )  # fmt: skip
    if takes_user:
        elsewhere = dialect.text(dialect.granted(wanted.name)[1:-1].replace("``", "`"))
        yield from _refuse_when(
            f"(SELECT COUNT(*) FROM information_schema.schema_privileges WHERE HEX(grantee) = HEX({grantee}) "
            f"AND HEX(table_schema) NOT IN (HEX({elsewhere}), HEX({name})))",
            "refused, this user has rights elsewhere", wanted.user,
        )  # fmt: skip
    if takes_base:
        yield f"DROP DATABASE IF EXISTS {base};"
    if takes_user:
        yield f"DROP USER IF EXISTS {user};"


def password_statement(dialect: Dialect, wanted: WantedDatabase, password: str, salt: bytes) -> str:
    """Give a user a password, and let it log in; PostgreSQL and MariaDB are told what they keep of it alone,
    as clients and servers repeat statements in errors and logs.

    Raises InputError for a password that would not be read as it is.
    """
    if not password or any(ord(char) < 32 or ord(char) > 126 for char in password):
        raise InputError(
            f"the password of {quoted(wanted.user)} is empty, or holds more than printable ASCII characters: "
            "clients differ in how they send such a one"
        )
    user = dialect.user(wanted.user, wanted.host)
    if dialect.is_postgresql:
        return f"ALTER ROLE {user} LOGIN PASSWORD {dialect.text(scram_verifier(password, salt))};"
    if dialect.kind == "mysql":
        return f"ALTER USER {user} IDENTIFIED BY {dialect.text(password)} ACCOUNT UNLOCK;"
    hashed = f"'*{hashlib.sha1(hashlib.sha1(password.encode()).digest()).hexdigest().upper()}'"  # noqa: S324 (its own)
    if dialect.can_lock:
        return f"ALTER USER {user} IDENTIFIED BY PASSWORD {hashed} ACCOUNT UNLOCK;"
    return f"SET PASSWORD FOR {user} = {hashed};"


def scram_verifier(password: str, salt: bytes) -> str:
    """A password as PostgreSQL keeps it (SCRAM-SHA-256, RFC 5802 and 7677), so that it is in no log of the server."""
    prepared = unicodedata.normalize("NFKC", password).encode()
    salted = hashlib.pbkdf2_hmac("sha256", prepared, salt, _ROUNDS)
    client = hmac.digest(salted, b"Client Key", "sha256")
    server = hmac.digest(salted, b"Server Key", "sha256")
    told = (base64.b64encode(part).decode() for part in (salt, hashlib.sha256(client).digest(), server))
    salt_, stored, kept = told
    return f"SCRAM-SHA-256${_ROUNDS}:{salt_}${stored}:{kept}"


def _taking_back_postgresql(
    dialect: Dialect, wanted: WantedDatabase, takes_base: bool, takes_user: bool
) -> Iterator[str]:
    name, role = dialect.text(wanted.name), dialect.text(wanted.user)
    if takes_base:
        yield f"SELECT count(*) > 0 AS kp_there FROM pg_database WHERE datname = {name} \\gset"
        yield "\\if :kp_there"
        yield _connect(wanted.name)
        words = dialect.text(f"refused: tables are in the database {wanted.name}").replace("%", "%%")
        yield _do(
            "IF EXISTS (SELECT FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN "
            "('r', 'p', 'v', 'm', 'S', 'f') AND n.nspname !~ '^(pg_|information_schema)') "
            f"THEN RAISE EXCEPTION {words}; END IF"
        )
        if takes_user:
            yield _do(
                f"IF EXISTS (SELECT FROM pg_roles WHERE rolname = {role}) THEN "
                f"EXECUTE {dialect.text(f'REVOKE ALL ON SCHEMA public FROM {dialect.name(wanted.user)}')}; END IF"
            )
        yield _HOME
        yield f"DROP DATABASE {dialect.name(wanted.name)};"
        yield "\\endif"
    if takes_user:
        yield f"DROP ROLE IF EXISTS {dialect.name(wanted.user)};"


def _refuse_when(number: str, why: str, name: str) -> Iterator[str]:
    """Meet an error where a number is not 0: there is no other way outside of a stored program."""
    told = f"{why}: {name}".replace("`", "'")[:64].rstrip()
    yield f"SET @kp_found = {number};"
    wrong = f"DO (SELECT 1 FROM `kettlepost`.`{told}`)".replace("'", "''")
    yield f"SET @kp_do = IF(@kp_found = 0, 'DO 0', '{wrong}');"
    yield "PREPARE kp_step FROM @kp_do;"
    yield "EXECUTE kp_step;"


def _when_not(dialect: Dialect, statement: str, there: str) -> str:
    """What psql runs where a query finds nothing."""
    return f"SELECT {dialect.text(statement)} WHERE NOT EXISTS ({there})\n\\gexec"


def _do(body: str) -> str:
    tag = "kp"
    while f"${tag}$" in body:
        tag += "p"
    return f"DO ${tag}$ BEGIN {body}; END ${tag}$;"


def _connect(database: str) -> str:
    """Go to another database of the same server, whatever its name holds."""
    name = connection(database).replace('"', '""')  # psql takes it for an identifier first
    written = f'"{name}"'.replace("\\", "\\\\").replace("'", "\\'")
    return f"\\connect -reuse-previous=on '{written}'"
