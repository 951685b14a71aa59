"""An SFTP server that answers with what it was given, for a survey to read (draft-ietf-secsh-filexfer-02)."""

from __future__ import annotations

import asyncio
import struct
import time
from collections import Counter
from typing import Any

import asyncssh

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.survey import Wanted
from kettlepost.sources import RemotePlace, Secrets
from kettlepost.sources.remote import Asking
from kettlepost.sources.sftp import _Walk, told_errors


def text(words: bytes) -> bytes:
    return struct.pack(">I", len(words)) + words


def attributes(mode: int, size: int = 5) -> bytes:
    return struct.pack(">IQIII", 0xD, size, mode, 0, 1_760_000_000)


def names(*entries: tuple[bytes, int]) -> bytes:
    return struct.pack(">I", len(entries)) + b"".join(
        text(name) + text(b"-rw") + attributes(mode) for name, mode in entries
    )


PART = b"||"
"""What stands between the replies of each kind."""
REPLIES = {
    "version": b"\2" + struct.pack(">I", 3),
    "handle": b"\x66" + text(b"h"),
    "names": b"\x68" + names((b"index.html", 0o100644), (b"d", 0o40755), (b"link", 0o120777), (b"..", 0o40755)),
    "attributes": b"\x69" + attributes(0o40755),
    "data": b"\x67" + text(b"<h1>x</h1>"),
    "target": b"\x68" + names((b"/srv/x", 0o120777)),
    "end": b"\x65" + struct.pack(">I", 1) + text(b"no more") + text(b"en"),
}
SEED = PART.join(REPLIES.values())
KINDS = {
    1: "version",
    11: "handle",
    3: "handle",
    12: "names",
    17: "attributes",
    7: "attributes",
    8: "attributes",
    5: "data",
}
KINDS |= {19: "target", 16: "target"}


MOST = {"names": 1, "data": 1}
"""So often is it answered so; what is asked for later is at its end."""


class Answering(asyncssh.SSHServerSession):  # type: ignore[type-arg]
    """Answers every request by its kind; a folder and a file are read once."""

    replies: dict[str, bytes]

    def __init__(self) -> None:
        self._waiting, self._asked = b"", Counter[str]()

    def connection_made(self, chan: Any) -> None:
        self._chan = chan

    def subsystem_requested(self, subsystem: str) -> bool:
        return subsystem == "sftp"

    def data_received(self, data: bytes, datatype: object) -> None:  # type: ignore[override]  # noqa: ARG002
        self._waiting += data
        while len(self._waiting) >= 4 and len(self._waiting) >= 4 + (size := int.from_bytes(self._waiting[:4], "big")):
            packet, self._waiting = self._waiting[4 : 4 + size], self._waiting[4 + size :]
            kind = KINDS.get(packet[0], "end")
            self._asked[kind] += 1
            reply = self.replies["end" if self._asked[kind] > MOST.get(kind, 99) else kind]
            number = b"" if packet[0] == 1 else packet[1:5]
            whole = reply[:1] + number + reply[1:]
            self._chan.write(struct.pack(">I", len(whole)) + whole)


class Anybody(asyncssh.SSHServer):
    def begin_auth(self, username: str) -> bool:  # noqa: ARG002
        return False

    def session_requested(self) -> Any:
        return Answering()


class Survey:
    """One connection, on which as many surveys are taken as are asked for."""

    def __init__(self) -> None:
        self._loop = asyncio.new_event_loop()
        self._loop.run_until_complete(self._begin())

    async def _begin(self) -> None:
        key = asyncssh.generate_private_key("ssh-ed25519")
        listening = await asyncssh.listen("127.0.0.1", 0, server_factory=Anybody, server_host_keys=[key], encoding=None)
        self._port = listening.get_port()

    async def _connected(self) -> asyncssh.SSHClientConnection:
        return await asyncssh.connect("127.0.0.1", self._port, username="x", known_hosts=None, config=None)

    def take(self, data: bytes, wanted: Wanted, limits: Limits) -> int:
        """How many folders there are, by the replies in `data`."""
        given = data.split(PART)
        Answering.replies = dict(zip(REPLIES, [*given, *list(REPLIES.values())[len(given) :]], strict=False))
        place, secrets = RemotePlace("sftp", "x", "127.0.0.1", self._port, "/"), Secrets(lambda _: None)
        budget = Budget("x", limits, time.monotonic)
        connection = self._loop.run_until_complete(self._connected())

        class Walk(_Walk):
            async def _connect(self) -> None:
                self._sftp = await connection.start_sftp_client(path_encoding="utf-8", path_errors="surrogateescape")

        walk = Walk(place, secrets, Asking(secrets), wanted, self._loop, budget)
        try:
            with told_errors(place):
                return sum(1 for _ in walk.listings(""))
        finally:
            connection.abort()
            self._loop.run_until_complete(connection.wait_closed())
