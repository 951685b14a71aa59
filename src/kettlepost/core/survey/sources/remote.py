"""What sources on other machines share: their addresses, and how they get at a password."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple
from urllib.parse import unquote, urlsplit

from kettlepost.core.errors import InputError
from kettlepost.core.names import printable, quoted

_PORTS = {"sftp": 22, "ftp": 21, "ftps": 21}


class Secrets(NamedTuple):
    """How a user proves who they are: a key file, and somebody to ask for a password.

    `password` is told for whom (`user@host`) and gives None when there is none to be had.
    `certificates` and `known_hosts` name files to trust instead of the usual ones.
    """

    password: Callable[[str], str | None]
    key: Path | None = None
    known_hosts: Path | None = None
    certificates: Path | None = None


class RemotePlace(NamedTuple):
    """A folder on another machine, as `sftp://user@host:port/path` names it."""

    scheme: str
    user: str
    host: str
    port: int
    path: str

    @classmethod
    def parse(cls, written: str) -> RemotePlace:
        """Raises InputError for a password in it, a missing user or host, or a wrong port."""
        try:
            parts = urlsplit(written)
            port = parts.port
        except ValueError as error:
            raise InputError(f"{quoted(written)} is no address of a server: {printable(str(error))}") from None
        if parts.password is not None:
            raise InputError(
                "a password does not belong into the address, where others can read it; leave it out and "
                "give it at the prompt, or in the environment variable KETTLEPOST_PASSWORD"
            )
        if not parts.hostname or not parts.username:
            raise InputError(f"{quoted(written)} is to be {parts.scheme}://user@host/path")
        path = unquote(parts.path, errors="surrogateescape") or "/"
        if "\0" in path or "\n" in path or "\r" in path:
            raise InputError(f"{quoted(written)} holds a NUL or a line end")
        return cls(parts.scheme, unquote(parts.username), parts.hostname, port or _PORTS[parts.scheme], path)

    @property
    def who(self) -> str:
        return f"{self.user}@{self.host}"

    def __str__(self) -> str:
        port = "" if self.port == _PORTS[self.scheme] else f":{self.port}"
        return f"{self.scheme}://{self.who}{port}{self.path}"
