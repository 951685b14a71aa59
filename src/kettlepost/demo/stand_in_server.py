"""A small stand-in for a MariaDB server, for the demo where no real one is installed.

It speaks as much of the client/server protocol, and knows as much SQL, as reading it and the scripts for it want;
everything is in memory, and is gone with it.
"""

from __future__ import annotations

import re
import socketserver
import sqlite3
import struct
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

VERSION = "10.11.0-MariaDB-standin"
_NAME = r"`((?:[^`]|``)+)`"
_ERROR, _DENIED, _ABSENT = 1064, 1045, 1146
_SCHEMA = """
CREATE TABLE is_schemata (schema_name TEXT, default_character_set_name TEXT, default_collation_name TEXT);
CREATE TABLE is_tables (table_schema TEXT, table_name TEXT, table_type TEXT DEFAULT 'BASE TABLE', data_length INTEGER,
    index_length INTEGER DEFAULT 0, update_time TEXT, create_time TEXT);
CREATE TABLE is_user_privileges (grantee TEXT, privilege_type TEXT);
CREATE TABLE is_schema_privileges (grantee TEXT, table_schema TEXT, privilege_type TEXT);
CREATE TABLE is_referential_constraints (constraint_schema TEXT, unique_constraint_schema TEXT, constraint_name TEXT,
    table_name TEXT, referenced_table_name TEXT);
CREATE TABLE is_triggers (trigger_name TEXT, event_object_schema TEXT, event_object_table TEXT);
CREATE TABLE is_routines (routine_schema TEXT);
CREATE TABLE is_events (event_schema TEXT);
CREATE TABLE mysql_user (user TEXT, host TEXT, locked INTEGER);
"""


class Refused(Exception):
    """What the server says instead of an answer: its number, and in words."""


class Store:
    """The databases, in one SQLite database whose tables are called DATABASE.TABLE."""

    def __init__(self) -> None:
        self._base = sqlite3.connect(":memory:", check_same_thread=False, isolation_level=None)
        self._base.executescript(_SCHEMA)
        self._base.create_function("CONCAT", -1, lambda *parts: "".join(map(str, parts)))
        self._base.create_function("KP_LEFT", 2, lambda text, number: str(text)[:number])
        self._base.create_function("VERSION", 0, lambda: VERSION)
        self._base.create_function("CURRENT_USER", 0, lambda: "root@localhost")
        self._lock = threading.Lock()
        self._base.execute("INSERT INTO is_user_privileges VALUES (?, 'SELECT')", ("'root'@'localhost'",))
        self._base.execute("INSERT INTO mysql_user VALUES ('root', 'localhost', 0)")

    def run(self, statement: str, database: str, known: dict[str, Any]) -> tuple[list[str], list[tuple[Any, ...]]]:
        """Columns and rows of a statement. Raises Refused."""
        with self._lock:
            try:
                return self._run(statement.strip().rstrip(";").strip(), database, known)
            except sqlite3.Error as error:
                missing = re.match(r"no such table: (.*)", str(error))
                if missing:
                    raise Refused(_ABSENT, f"Table '{missing[1]}' doesn't exist") from None
                raise Refused(_ERROR, f"the stand-in does not know this: {error}") from None

    def _run(self, text: str, database: str, known: dict[str, Any]) -> tuple[list[str], list[tuple[Any, ...]]]:
        if re.match(r"(?i)SET @", text):
            name, _, value = text[4:].partition("=")
            known[name.strip()] = self._ask(f"SELECT {value}", database, known)[1][0][0]
        elif re.match(r"(?i)(SET|START|COMMIT|ROLLBACK|LOCK|UNLOCK|/\*)", text) or not text:
            pass
        elif made := re.match(rf"(?i)CREATE DATABASE (IF NOT EXISTS )?{_NAME}", text):
            self._create_database(_bare(made[2]), bool(made[1]), text)
        elif gone := re.match(rf"(?i)DROP DATABASE (?:IF EXISTS )?{_NAME}", text):
            self._drop_database(_bare(gone[1]))
        elif re.match(r"(?i)(CREATE|ALTER|DROP) USER", text):
            self._user(text)
        elif granted := re.match(rf"(?i)GRANT (.+) ON {_NAME}\.\* TO ('.*'@'.*')", text):
            base = _bare(granted[2])
            self._base.executemany(
                "INSERT INTO is_schema_privileges VALUES (?, ?, ?)",
                [(granted[3], base, right.strip()) for right in granted[1].split(",")],
            )
        elif renamed := re.match(r"(?i)RENAME TABLE (.+)", text):
            self._rename_all(renamed[1])
        elif re.match(r"(?i)PREPARE kp_step", text):
            known["prepared"] = known["@kp_do"]
        elif re.match(r"(?i)(EXECUTE|DO) ", text):
            step = known["prepared"] if text[:1] in "Ee" else text
            self._ask(re.sub(r"(?i)^DO ", "SELECT ", step), database, known)
        else:
            return self._ask(text, database, known)
        return [], []

    def _ask(self, text: str, database: str, known: dict[str, Any]) -> tuple[list[str], list[tuple[Any, ...]]]:
        text = re.sub(r"(?i)\binformation_schema\.", "is_", text).replace("mysql.user", "mysql_user")
        text = re.sub(r"(?i)\bLEFT\(", "KP_LEFT(", text)
        text = re.sub(r"\bIF\(", "IIF(", text)
        text = re.sub(r"(?s)GROUP_CONCAT\((.*) SEPARATOR ', '\)", r"GROUP_CONCAT(CONCAT(\1), ', ')", text)
        text = re.sub(
            rf"{_NAME}\.{_NAME}(?=[^']*(?:'[^']*'[^']*)*$)", lambda pair: _joined(_bare(pair[1]), _bare(pair[2])), text
        )
        made = re.match(rf"(?is)(CREATE TABLE|INSERT INTO) {_NAME}(?!\.)", text)
        if made and not database:
            raise Refused(1046, "No database selected")
        if made:
            text = text.replace(f"`{made[2]}`", _joined(database, _bare(made[2])), 1)
        for name, value in known.items():
            text = (
                text.replace(name, f"'{value}'" if isinstance(value, str) else str(value)) if name[0] == "@" else text
            )
        found = self._base.execute(text)
        columns = [column[0] for column in found.description or ()]
        rows = found.fetchall()
        named = re.match(r'(?i)CREATE TABLE "((?:[^"]|"")+)"', text)
        if named:
            base, _, table = named[1].replace('""', '"').partition(".")
            self._base.execute(
                "INSERT INTO is_tables (table_schema, table_name, data_length, update_time) VALUES (?, ?, 16384, ?)",
                (base, table, "2026-11-20 06:00:00"),
            )
        return columns, rows

    def _create_database(self, name: str, may_be: bool, text: str) -> None:
        if self._base.execute("SELECT 1 FROM is_schemata WHERE schema_name = ?", (name,)).fetchone():
            if not may_be:
                raise Refused(1007, f"Can't create database '{name}'; database exists")
            return
        collation = re.search(r"COLLATE (\w+)", text)
        order = collation[1] if collation else "utf8mb4_general_ci"
        self._base.execute("INSERT INTO is_schemata VALUES (?, ?, ?)", (name, order.partition("_")[0], order))

    def _drop_database(self, name: str) -> None:
        for (table,) in self._base.execute(
            "SELECT table_name FROM is_tables WHERE table_schema = ?", (name,)
        ).fetchall():
            self._base.execute(f"DROP TABLE {_joined(name, table)}")
        self._base.execute("DELETE FROM is_tables WHERE table_schema = ?", (name,))
        self._base.execute("DELETE FROM is_schemata WHERE schema_name = ?", (name,))

    def _user(self, text: str) -> None:
        found = re.match(r"(?i)(\w+) USER (IF (?:NOT )?EXISTS )?'((?:[^']|'')*)'@'((?:[^']|'')*)'", text)
        if found is None:
            raise Refused(_ERROR, "the stand-in does not know this")
        verb, name, host = found[1].upper(), found[3].replace("''", "'"), found[4].replace("''", "'")
        is_there = self._base.execute("SELECT 1 FROM mysql_user WHERE user = ? AND host = ?", (name, host)).fetchone()
        grantee = f"'{name}'@'{host}'"
        if verb == "CREATE" and not is_there:
            self._base.execute("INSERT INTO mysql_user VALUES (?, ?, 1)", (name, host))
            self._base.execute("INSERT INTO is_user_privileges VALUES (?, 'USAGE')", (grantee,))
        elif verb == "ALTER":
            if not is_there:
                raise Refused(1396, f"Operation ALTER USER failed for {grantee}")
            self._base.execute("UPDATE mysql_user SET locked = 0 WHERE user = ? AND host = ?", (name, host))
        elif verb == "DROP":
            self._base.execute("DELETE FROM mysql_user WHERE user = ? AND host = ?", (name, host))
            for table in ("is_user_privileges", "is_schema_privileges"):
                self._base.execute(f"DELETE FROM {table} WHERE grantee = ?", (grantee,))  # noqa: S608 (two names of its own)

    def _rename_all(self, text: str) -> None:
        for old, new in re.findall(r"(`\S+`\.`\S+`) TO (`\S+`\.`\S+`)", text):
            self._rename(*map(_pair, (old, new)))

    def _rename(self, old: tuple[str, str], new: tuple[str, str]) -> None:
        self._base.execute(f"ALTER TABLE {_joined(*old)} RENAME TO {_joined(*new)}")
        self._base.execute(
            "UPDATE is_tables SET table_schema = ?, table_name = ? WHERE table_schema = ? AND table_name = ?",
            (*new, *old),
        )


def _bare(quoted: str) -> str:
    return quoted.replace("``", "`")


def _pair(written: str) -> tuple[str, str]:
    first, second = re.findall(_NAME, written)
    return _bare(first), _bare(second)


def _joined(base: str, table: str) -> str:
    return '"' + f"{base}.{table}".replace('"', '""') + '"'


class _Session(socketserver.StreamRequestHandler):
    """One client: the handshake, then a query after the other."""

    store: Store

    def handle(self) -> None:
        self._number = 0
        greeting = b"\x0a" + VERSION.encode() + b"\0" + struct.pack("<I", 1) + b"standin1\0"
        greeting += struct.pack("<HBHHB", 0xF7FF & ~0x0800, 45, _PLAIN, 0x000F, 21) + b"\0" * 10 + b"standin12345\0"
        self._send(greeting + b"mysql_native_password\0")
        self._receive()
        self._send(_OK)
        database, known = "", dict[str, Any]()
        while (packet := self._receive()) is not None and packet[:1] != b"\x01":
            text = packet[1:].decode("utf-8", "replace")
            if packet[:1] == b"\x02":
                database = text
                self._send(_OK)
            elif packet[:1] == b"\x03":
                used = re.match(rf"(?i)USE {_NAME}", text)
                database = _bare(used[1]) if used else database
                self._answer("" if used else text, database, known)
            else:
                self._send(_OK)

    def _answer(self, text: str, database: str, known: dict[str, Any]) -> None:
        try:
            columns, rows = self.store.run(text, database, known)
        except Refused as refused:
            number, words = refused.args
            self._send(b"\xff" + struct.pack("<H", number) + b"#HY000" + words.encode())
            return
        if not columns:
            self._send(_OK)
            return
        self._send(_length(len(columns)))
        for name in columns:
            told = b"".join(map(_text, ("def", "", "", "", name, name)))
            self._send(told + b"\x0c" + struct.pack("<HIBHBH", 45, 1 << 20, 0xFD, 0, 0, 0))
        self._send(_END)
        for row in rows:
            self._send(b"".join(b"\xfb" if value is None else _text(str(value)) for value in row))
        self._send(_END)

    def _send(self, payload: bytes) -> None:
        self.wfile.write(struct.pack("<I", len(payload))[:3] + bytes([self._number & 255]) + payload)
        self._number += 1

    def _receive(self) -> bytes | None:
        head = self.rfile.read(4)
        if len(head) < 4:
            return None
        self._number = head[3] + 1
        return self.rfile.read(int.from_bytes(head[:3], "little"))


_PLAIN = 0x0202
"""What the server says of itself: each statement counts at once, and a backslash in a text is one."""
_OK = b"\0\0\0" + struct.pack("<HH", _PLAIN, 0)
_END = b"\xfe\0\0" + struct.pack("<H", _PLAIN)


def _length(number: int) -> bytes:
    return (
        bytes([number])
        if number < 251
        else b"\xfc" + struct.pack("<H", number)
        if number < 1 << 16
        else b"\xfd" + struct.pack("<I", number)[:3]
    )


def _text(text: str) -> bytes:
    raw = text.encode()
    return _length(len(raw)) + raw


@contextmanager
def stand_in_server() -> Iterator[int]:
    """The port on loopback at which it answers, as long as the block runs."""
    handler = type("Session", (_Session,), {"store": Store()})
    with socketserver.ThreadingTCPServer(("127.0.0.1", 0), handler) as server:
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server.server_address[1]
        server.shutdown()
