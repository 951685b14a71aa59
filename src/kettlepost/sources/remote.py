"""What sources on other machines share: their addresses, and how they get at a password."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple
from urllib.parse import unquote

from kettlepost.core.errors import InputError
from kettlepost.core.names import printable, quoted
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.secrets import MASK, masked_address

_PORTS = {"sftp": 22, "ftp": 21, "ftps": 21, "mysql": 3306, "mariadb": 3306, "postgresql": 5432}
_PLACE = re.compile(r"(?P<host>\[[0-9A-Fa-f:.%]+\]|[^\s/:?#@\[\]]+)(?::(?P<port>[^/]*))?(?P<path>/.*)?", re.DOTALL)


class Secrets(NamedTuple):
    """How a user proves who they are: a key file, and somebody to ask for a password.

    `password` is told for whom (`user@host`) and gives None when there is none to be had.
    `certificates` and `known_hosts` name files to trust instead of the usual ones.
    """

    password: Callable[[str], str | None]
    key: Path | None = None
    known_hosts: Path | None = None
    certificates: Path | None = None


class Asking:
    """Asks for a password, and hides it in whatever a server says, which may well repeat it."""

    def __init__(self, secrets: Secrets):
        self._secrets = secrets
        self._given = ""

    def password(self, who: str) -> str | None:
        given = self._secrets.password(who)
        self._given = given or ""
        return given

    def hidden(self, words: str) -> str:
        """`words` without the password that was given."""
        for told in (self._given, printable(self._given)):
            if len(told) > 2:
                words = words.replace(told, MASK)
        return words


class RemotePlace(NamedTuple):
    """A folder on another machine, as `sftp://user@host:port/path` names it."""

    scheme: str
    user: str
    host: str
    port: int
    path: str

    @classmethod
    def parse(cls, written: str) -> RemotePlace:
        """Raises InputError for a password in it, a missing user or host, or a wrong port; none shows a password."""
        scheme, _, rest = written.partition("://")
        scheme = scheme.lower()
        login, at, place = rest.partition("@")
        if at and ":" in unquote(login):
            raise InputError(
                "a password does not belong into the address, where others can read it; leave it out",
                Remedy(Action.GIVE_PASSWORD),
            )
        shown = quoted(masked_address(written))
        found = _PLACE.fullmatch(place)
        if not at or not login or found is None or "/" in login:
            raise InputError(f"{shown} is to be {scheme}://user@host/path")
        host, port = found["host"].strip("[]"), found["port"]
        if port is not None and not (port.isdecimal() and 0 < int(port) < 1 << 16):
            raise InputError(f"{shown} names no port between 1 and 65535")
        path = unquote(found["path"] or "", errors="surrogateescape") or "/"
        if "\0" in path or "\n" in path or "\r" in path:
            raise InputError(f"{shown} holds a NUL or a line end")
        return cls(scheme, unquote(login), host.lower(), int(port or _PORTS[scheme]), path)

    @property
    def who(self) -> str:
        return f"{self.user}@{self.host}"

    def __str__(self) -> str:
        port = "" if self.port == _PORTS[self.scheme] else f":{self.port}"
        return f"{self.scheme}://{self.who}{port}{printable(self.path)}"
