"""How a kind and version of database server writes names, texts and users."""

from __future__ import annotations

import re
from typing import NamedTuple

from kettlepost.core.quoting.sql import Sql, identifier, literal
from kettlepost.core.rules.tables_apart import LONGEST
from kettlepost.core.survey import SeenDatabases

_LOCKS = {"mysql": (5, 7, 6), "mariadb": (10, 4, 2)}
"""Since when a user can be made locked."""
_OLDEST = {"mysql": (5, 7, 6), "mariadb": (10, 1, 3), "postgresql": (9, 6, 0)}
"""Since when a user can be made if it is not there."""


class Dialect(NamedTuple):
    """A kind of server, "mysql", "mariadb" or "postgresql", and its version, empty where it is not known.

    Statements are written for a session that has set sql_mode to NO_BACKSLASH_ESCAPES (MySQL, MariaDB) or has
    standard_conforming_strings (PostgreSQL), so that a backslash is one.
    """

    kind: str
    version: tuple[int, ...] = ()

    @classmethod
    def of(cls, kind: str, seen: SeenDatabases | None) -> Dialect:
        """That of an account's server: as it was seen, else as the plan says."""
        if seen is None or not seen.server or (seen.server == "postgresql") != (kind == "postgresql"):
            return cls(kind)
        return cls(seen.server, tuple(int(part) for part in re.findall(r"\d+", seen.version)[:3]))

    @property
    def is_postgresql(self) -> bool:
        return self.kind == "postgresql"

    @property
    def can_lock(self) -> bool:
        """Whether a user can be made that cannot log in yet."""
        return self.is_postgresql or not self.version or self.version >= _LOCKS[self.kind]

    @property
    def is_too_old(self) -> bool:
        return bool(self.version) and self.version < _OLDEST[self.kind]

    def name(self, written: str) -> Sql:
        """An identifier: of a database, a table, a column, and under PostgreSQL of a role."""
        return identifier(written, '"' if self.is_postgresql else "`")

    def text(self, written: str) -> Sql:
        """A text literal."""
        return literal(written)

    def user(self, name: str, host: str) -> Sql:
        """A user; the host from which it may come has a say in MySQL and MariaDB alone."""
        if self.is_postgresql:
            return self.name(name)
        return Sql.of("«name»@«host»", name=self.text(name), host=self.text(host))

    def granted(self, database: str) -> Sql:
        """A database in a grant of MySQL or MariaDB, which takes a pattern there."""
        return self.name(re.sub(r"([\\_%])", r"\\\1", database))

    def name_fault(self, name: str, is_user: bool = False) -> str:
        """Why a name cannot be one of a database or a user; empty where it can."""
        most = LONGEST[self.kind][is_user]
        length = len(name.encode()) if self.is_postgresql else len(name)
        unit = "bytes" if self.is_postgresql else "characters"
        if not name:
            return "is empty"
        if length > most:
            return f"has {length} {unit}, and the server takes {most}"
        if not name.isprintable():
            return "holds a character that does not show as itself"
        if not self.is_postgresql and (name.endswith(" ") or any(ord(char) > 0xFFFF for char in name)):
            return "ends in a space, or holds a character that the server takes in no name"
        return ""
