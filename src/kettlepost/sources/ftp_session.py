"""An FTP session that a server can neither keep waiting nor flood (RFC 959, RFC 3659, RFC 4217)."""

from __future__ import annotations

import socket
import ssl
from collections.abc import Callable, Generator, Iterator
from contextlib import contextmanager
from ftplib import FTP, FTP_TLS, error_proto
from typing import Any, cast

from kettlepost.core.budget import Budget

_LINES = 1_000
"""How many lines a reply has at the most; the greeting of a host is the longest of them."""
_PIECE = 1 << 16
_STEP = 1 << 12
"""How many bytes of a file are progress."""
_OF_A_LINE = 150
"""How many bytes of memory a line of a listing takes, but for its text."""


class Session(FTP):
    """The library's session, with every wait and every reply held against a budget.

    Progress is a whole line, or some thousand bytes of a file: a server that sends a byte now and
    then makes none. Raises OutsideError for a limit that is met.
    """

    def __init__(self, budget: Budget, **options: Any):
        self.budget = budget
        self._rest = b""
        super().__init__(timeout=budget.limits.patience, encoding="latin-1", **options)

    def putcmd(self, line: str) -> None:
        self.budget.go_on()
        super().putcmd(line)

    def getline(self) -> str:
        while b"\n" not in self._rest:
            if len(self._rest) > self.maxline:
                raise error_proto(f"it sent a line of more than {self.maxline:,} bytes")  # noqa: S321
            piece = self._received(cast("socket.socket", self.sock))
            if not piece:
                raise EOFError
            self._rest += piece
        line, _, self._rest = self._rest.partition(b"\n")
        return line.removesuffix(b"\r").decode("latin-1")

    def getmultiline(self) -> str:
        lines = [self.getline()]
        if lines[0][3:4] == "-":
            while not (lines[-1][:3] == lines[0][:3] and lines[-1][3:4] != "-"):
                lines.append(self.getline())
                if len(lines) > _LINES:
                    raise error_proto(f"it sent a reply of more than {_LINES:,} lines")  # noqa: S321
        self.budget.go_on()
        return "\n".join(lines)

    def retrlines(self, cmd: str, callback: Callable[[str], Any] | None = None) -> str:
        self.sendcmd("TYPE A")
        with _told_nonsense(), self.transfercmd(cmd) as connection:
            rest = b""
            while piece := self._received(connection):
                *lines, rest = (rest + piece).split(b"\n")
                self.budget.line(max(map(len, (*lines, rest))))
                for line in lines:
                    self.budget.entry()
                    self.budget.hold(_OF_A_LINE + len(line))
                    if callback is not None:
                        callback(line.removesuffix(b"\r").decode("latin-1"))
                if lines:
                    self.budget.go_on()
            if rest and callback is not None:
                callback(rest.removesuffix(b"\r").decode("latin-1"))
            if isinstance(connection, ssl.SSLSocket):
                connection.unwrap()
        return self.voidresp()

    def pieces(self, cmd: str) -> Generator[bytes]:
        """What a command sends, piece by piece; whoever has enough of it leaves off."""
        with _told_nonsense(), self.transfercmd(cmd) as connection:
            came = 0
            while piece := self._received(connection):
                came += len(piece)
                if came >= _STEP:
                    came = 0
                    self.budget.go_on()
                yield piece

    def makepasv(self) -> tuple[str, int]:
        with _told_nonsense():
            host, port = super().makepasv()
            if not 0 < port < 1 << 16:
                raise ValueError
            return host, port

    def _received(self, connection: socket.socket) -> bytes:
        """What comes next. Raises OutsideError once nothing came for too long."""
        self.budget.wait()
        try:
            return connection.recv(_PIECE)
        except TimeoutError:
            raise self.budget.silence() from None


class TlsSession(Session, FTP_TLS):
    """Goes on with the TLS session of the control connection, as many servers demand of data connections."""

    def auth(self) -> str:
        said: str = super().auth()
        if self._rest:  # which somebody in between could have sent
            raise error_proto("it went on without TLS after it was asked for")  # noqa: S321
        return said

    def ntransfercmd(self, cmd: str, rest: int | str | None = None) -> tuple[Any, int | None]:
        connection, size = FTP.ntransfercmd(self, cmd, rest)  # noqa: S321 (TLS follows)
        if self._prot_p:  # type: ignore[attr-defined]
            session = self.sock.session if isinstance(self.sock, ssl.SSLSocket) else None
            connection = self.context.wrap_socket(connection, server_hostname=self.host, session=session)
        return connection, size


@contextmanager
def _told_nonsense() -> Iterator[None]:
    """What the library trips over in a reply that is none, as an error of the protocol."""
    try:
        yield
    except (ValueError, OverflowError, IndexError):
        raise error_proto("it sent a reply that is none") from None  # noqa: S321
