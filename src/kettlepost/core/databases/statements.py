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
from kettlepost.core.quoting.sql import Sql, dollar_quoted, identifier, keyword, literal, psql_argument

_NO_PASSWORD = "*" + "0" * 40
"""A stored password that no text has, for servers that cannot lock a user."""
_ROUNDS = 4096
_HOME = '\\connect -reuse-previous=on :"kp_home"'
"""Back to the database that the client was in at the beginning."""


def session_statements(dialect: Dialect) -> Iterator[Sql]:
    """What the statements rest on, at the beginning of the session; a client that meets an error is to stop."""
    if dialect.is_postgresql:
        yield Sql.of("\\set ON_ERROR_STOP on")
        yield Sql.of("SET standard_conforming_strings = on;")
        yield Sql.of("SET client_encoding = 'UTF8';")
        yield Sql.of("\\set kp_home :DBNAME")
    else:
        yield Sql.of("SET NAMES utf8mb4;")
        yield Sql.of("SET SESSION sql_mode = 'NO_BACKSLASH_ESCAPES';")


def making_statements(dialect: Dialect, wanted: WantedDatabase) -> Iterator[Sql]:
    """Make a database, its user, who cannot log in yet, and the rights; nothing where they are there."""
    base, user = dialect.name(wanted.name), dialect.user(wanted.user, wanted.host)
    if not dialect.is_postgresql:
        yield Sql.of(
            "CREATE DATABASE IF NOT EXISTS «base» CHARACTER SET «charset» COLLATE «collation»;",
            base=base, charset=keyword(wanted.charset), collation=keyword(wanted.collation),
        )  # fmt: skip
        locked = Sql.of("IDENTIFIED BY PASSWORD «none»", none=dialect.text(_NO_PASSWORD))
        how = Sql.of("ACCOUNT LOCK") if dialect.can_lock else locked
        yield Sql.of("CREATE USER IF NOT EXISTS «user» «how»;", user=user, how=how)
        yield Sql.of(
            "GRANT «rights» ON «base».* TO «user»;", rights=Sql.joined(map(keyword, wanted.rights), ", "),
            base=dialect.granted(wanted.name), user=user,
        )  # fmt: skip
        return
    name, role = dialect.text(wanted.name), dialect.text(wanted.user)
    yield Sql.of("SELECT count(*) = 0 AS kp_new FROM pg_database WHERE datname = «name» \\gset", name=name)
    yield _when_not(
        Sql.of("CREATE ROLE «user» NOLOGIN", user=user),
        Sql.of("SELECT FROM pg_roles WHERE rolname = «role»", role=role),
    )
    yield _when_not(
        Sql.of("CREATE DATABASE «base» ENCODING 'UTF8' TEMPLATE template0", base=base),
        Sql.of("SELECT FROM pg_database WHERE datname = «name»", name=name),
    )
    yield Sql.of("\\if :kp_new")  # of a database that was there before, nothing is taken from anybody
    yield Sql.of("REVOKE ALL ON DATABASE «base» FROM PUBLIC;", base=base)
    yield Sql.of("\\endif")
    yield Sql.of("GRANT CONNECT, TEMPORARY ON DATABASE «base» TO «user»;", base=base, user=user)
    yield _connect(wanted.name)
    yield Sql.of("\\if :kp_new")
    yield Sql.of("REVOKE CREATE ON SCHEMA public FROM PUBLIC;")
    yield Sql.of("\\endif")
    yield Sql.of("GRANT USAGE, CREATE ON SCHEMA public TO «user»;", user=user)
    yield Sql.of(_HOME)


def taking_back_statements(dialect: Dialect, wanted: WantedDatabase) -> Iterator[Sql]:
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
            (Sql.of("tables"), Sql.of("TABLES"), Sql.of("table_schema")),
            (Sql.of("routines"), Sql.of("ROUTINES"), Sql.of("routine_schema")),
            (Sql.of("events"), Sql.of("EVENTS"), Sql.of("event_schema")),
        ):
            number = Sql.of(
                "SELECT COUNT(*) FROM information_schema.«table» WHERE HEX(«column») = HEX(«name»)",
                table=table, column=column, name=name,
            )  # fmt: skip
            yield from _refuse_when(number, f"refused, {what} are in this database", wanted.name)
    if takes_user:
        elsewhere = dialect.text(dialect.granted(wanted.name)[1:-1].replace("``", "`"))
        rights = Sql.of(
            "SELECT COUNT(*) FROM information_schema.schema_privileges WHERE HEX(grantee) = HEX(«grantee») "
            "AND HEX(table_schema) NOT IN (HEX(«elsewhere»), HEX(«name»))",
            grantee=grantee, elsewhere=elsewhere, name=name,
        )  # fmt: skip
        yield from _refuse_when(rights, "refused, this user has rights elsewhere", wanted.user)
    if takes_base:
        yield Sql.of("DROP DATABASE IF EXISTS «base»;", base=base)
    if takes_user:
        yield Sql.of("DROP USER IF EXISTS «user»;", user=user)


def password_statement(dialect: Dialect, wanted: WantedDatabase, password: str, salt: bytes) -> Sql:
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
        kept = dialect.text(scram_verifier(password, salt))
        return Sql.of("ALTER ROLE «user» LOGIN PASSWORD «kept»;", user=user, kept=kept)
    if dialect.kind == "mysql":
        told = dialect.text(password)
        return Sql.of("ALTER USER «user» IDENTIFIED BY «told» ACCOUNT UNLOCK;", user=user, told=told)
    hashed = hashlib.sha1(hashlib.sha1(password.encode()).digest()).hexdigest().upper()  # noqa: S324 (its own)
    kept = dialect.text(f"*{hashed}")
    if dialect.can_lock:
        return Sql.of("ALTER USER «user» IDENTIFIED BY PASSWORD «kept» ACCOUNT UNLOCK;", user=user, kept=kept)
    return Sql.of("SET PASSWORD FOR «user» = «kept»;", user=user, kept=kept)


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
) -> Iterator[Sql]:
    name, role = dialect.text(wanted.name), dialect.text(wanted.user)
    if takes_base:
        yield Sql.of("SELECT count(*) > 0 AS kp_there FROM pg_database WHERE datname = «name» \\gset", name=name)
        yield Sql.of("\\if :kp_there")
        yield _connect(wanted.name)
        words = dialect.text(f"refused: tables are in the database {wanted.name}".replace("%", "%%"))
        yield _do(Sql.of(
            "IF EXISTS (SELECT FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN "
            "('r', 'p', 'v', 'm', 'S', 'f') AND n.nspname !~ '^(pg_|information_schema)') "
            "THEN RAISE EXCEPTION «words»; END IF", words=words,
        ))  # fmt: skip
        if takes_user:
            revoked = Sql.of("REVOKE ALL ON SCHEMA public FROM «user»", user=dialect.name(wanted.user))
            yield _do(Sql.of(
                "IF EXISTS (SELECT FROM pg_roles WHERE rolname = «role») THEN EXECUTE «revoked»; END IF",
                role=role, revoked=dialect.text(revoked),
            ))  # fmt: skip
        yield Sql.of(_HOME)
        yield Sql.of("DROP DATABASE «base»;", base=dialect.name(wanted.name))
        yield Sql.of("\\endif")
    if takes_user:
        yield Sql.of("DROP ROLE IF EXISTS «user»;", user=dialect.name(wanted.user))


def _refuse_when(number: Sql, why: str, name: str) -> Iterator[Sql]:
    """Meet an error where a query gives another number than 0: there is no other way outside of a stored program."""
    told = f"{why}: {name}".replace("`", "'")[:64].rstrip()
    yield Sql.of("SET @kp_found = («number»);", number=number)
    wrong = Sql.of("DO (SELECT 1 FROM `kettlepost`.«told»)", told=identifier(told, "`"))
    yield Sql.of("SET @kp_do = IF(@kp_found = 0, 'DO 0', «wrong»);", wrong=literal(wrong))
    yield Sql.of("PREPARE kp_step FROM @kp_do;")
    yield Sql.of("EXECUTE kp_step;")


def _when_not(statement: Sql, there: Sql) -> Sql:
    """What psql runs where a query finds nothing."""
    return Sql.of("SELECT «done» WHERE NOT EXISTS («there»)\n\\gexec", done=literal(statement), there=there)


def _do(body: Sql) -> Sql:
    return Sql.of("DO «body»;", body=dollar_quoted(Sql.of("BEGIN «body»; END", body=body)))


def _connect(database: str) -> Sql:
    """Go to another database of the same server, whatever its name holds."""
    named = identifier(connection(database), '"')  # psql takes it for an identifier first
    return Sql.of("\\connect -reuse-previous=on «named»", named=psql_argument(named))
