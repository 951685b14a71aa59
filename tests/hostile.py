"""What does its worst on purpose: packed homes, listings and servers, one behaviour each."""

from __future__ import annotations

import asyncio
import bz2
import gzip
import io
import lzma
import socket
import stat
import struct
import threading
import time
import zipfile
import zlib
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import asyncssh

Made = Callable[[], bytes]


# -- packed


def header(name: bytes, kind: bytes = b"0", size: int | bytes = 0) -> bytes:
    """A ustar header with a right checksum, whatever is in it."""
    block = bytearray(512)
    block[: len(name)] = name
    block[100:108], block[136:148], block[156:157] = b"0000644\0", b"14000000000\0", kind
    block[124:136] = size if isinstance(size, bytes) else b"%011o\0" % size
    block[257:265], block[148:156] = b"ustar\x0000", b" " * 8
    block[148:156] = b"%06o\0 " % sum(block)
    return bytes(block)


def tape(*members: tuple[bytes, bytes, int | bytes, bytes]) -> bytes:
    parts = [header(name, kind, size) + data + bytes(-len(data) % 512) for name, kind, size, data in members]
    return b"".join(parts) + bytes(1024)


def long_path(path: bytes) -> list[tuple[bytes, bytes, int | bytes, bytes]]:
    """A member with a path in an extended header."""
    record, length = b" path=" + path + b"\n", 0
    while length != len(record) + len(str(length)):
        length = len(record) + len(str(length))
    whole = b"%d" % length + record
    return [(b"x", b"x", len(whole), whole), (b"x", b"0", 0, b"")]


PAGE = (b"www/index.html", b"0", 5, b"hello")


def crowd(kind: bytes, number: int) -> bytes:
    packed, packer = [], zlib.compressobj(9, wbits=31)
    for n in range(number):
        packed.append(packer.compress(header(b"www/n%d" % n + (b"/" if kind == b"5" else b""), kind)))
    return b"".join(packed) + packer.compress(bytes(1024)) + packer.flush()


def xz_window(code: int) -> bytes:
    """An xz whose packer asks for a window of 4 GiB."""
    packed = bytearray(lzma.compress(tape(PAGE), preset=0))
    size = (packed[12] + 1) * 4
    packed[16] = code
    packed[12 + size - 4 : 12 + size] = struct.pack("<I", zlib.crc32(bytes(packed[12 : 12 + size - 4])))
    return bytes(packed)


def zstd_window(log: int, number: int) -> bytes:
    """A zstandard frame (RFC 8878) with a large window, filled with what takes three bytes for 128 KiB."""
    first = header(b"www/a", b"0", number << 17)
    blocks = struct.pack("<I", len(first) << 3)[:3] + first
    blocks += (struct.pack("<I", (1 << 17) << 3 | 2)[:3] + b"\0") * number
    return b"\x28\xb5\x2f\xfd\x00" + bytes([(log - 10) << 3]) + blocks + struct.pack("<I", 1)[:3]


def zipped(method: int, link: bool = False, window: int | None = None) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", method) as archive:
        for name in ("www/index.html", "www/wp-config.php", "www/.htaccess"):
            info = zipfile.ZipInfo(name)
            info.compress_type = method
            info.external_attr = 0o120777 << 16 if link else 0
            archive.writestr(info, bytes(60 << 20))
    packed = bytearray(out.getvalue())
    at = packed.find(b"PK\x03\x04") if window is not None else -1
    while at >= 0:
        begin = at + 30 + sum(struct.unpack("<HH", packed[at + 26 : at + 30]))
        packed[begin + 5 : begin + 9] = struct.pack("<I", window)
        at = packed.find(b"PK\x03\x04", begin)
    return bytes(packed)


def zip_crowd(number: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for n in range(number):
            archive.writestr(zipfile.ZipInfo(f"www/d{n}/file-with-a-name"), b"")
    return out.getvalue()


def flipped(packed: bytes, at: int) -> bytes:
    return packed[:at] + bytes([packed[at] ^ 1]) + packed[at + 1 :]


MANY = [part for n in range(3_000) for part in long_path(b"www/%05d" % n + b"n" * 60_000 + b"/f")]
PACKED: dict[str, tuple[Made, int, str]] = {
    "base-256.tar": (lambda: tape(PAGE, (b"www/a", b"0", b"\xff" * 11 + b"\0", b"")), 2, "less than no bytes"),
    "text.tar": (lambda: tape(PAGE, (b"www/a", b"0", b"-0000001000\0", b"")), 2, "less than no bytes"),
    "name.tar": (lambda: tape(PAGE, (b"x", b"L", b"-0000001000\0", b"")), 2, "less than no bytes"),
    "huge.tar": (lambda: tape(PAGE, (b"www/a", b"0", b"\x80" + b"\xff" * 11, b"")), 2, "absurd number"),
    "flip.tar": (
        lambda: flipped(tape(*[(b"www/f%d" % n, b"0", 0, b"") for n in range(9)]), 5 * 512 + 3),
        2,
        "checksum",
    ),
    "deep.tar.gz": (lambda: gzip.compress(tape(PAGE, *long_path(b"www/" + b"a/" * 200_000))), 3, "256 folders deep"),
    "names.tar.gz": (lambda: gzip.compress(tape(PAGE, *MANY)), 3, "150 MB of memory"),
    "folders.tar.gz": (lambda: crowd(b"5", 500_000), 3, "150 MB of memory"),
    "links.tar.gz": (lambda: crowd(b"2", 400_000), 3, "150 MB of memory"),
    "bomb.tar.xz": (
        lambda: lzma.compress(header(b"www/a", b"0", 3 << 29) + bytes(3 << 29), preset=0),
        3,
        "times its size",
    ),
    "bomb.tar.bz2": (lambda: bz2.compress(header(b"www/a", b"0", 3 << 29) + bytes(3 << 29)), 3, "times its size"),
    "window.tar.xz": (lambda: xz_window(40), 2, "Memory usage limit"),
    "window.tar.zst": (lambda: zstd_window(31, 1), 2, "too much memory"),
    "full.tar.zst": (lambda: zstd_window(27, 2_000), 2, "ends"),
    "bzip2.zip": (lambda: zipped(zipfile.ZIP_BZIP2), 0, "stored"),
    "link.zip": (lambda: zipped(zipfile.ZIP_BZIP2, link=True), 0, "stored"),
    "lzma.zip": (lambda: zipped(zipfile.ZIP_LZMA), 0, "stored"),
    "window.zip": (lambda: zipped(zipfile.ZIP_LZMA, window=(1 << 32) - 1), 3, "4,095 MB of memory"),
    "crowd.zip": (lambda: zip_crowd(200_000), 3, "its directory is larger"),
    "line.txt": (lambda: b"./www:\n-rw-r--r-- 1 u g 5 2026-01-01 00:00 " + b"a" * (300 << 20), 3, "a line of more"),
    "line.find": (lambda: b"f 5 0 www/index.html\0\0f 5 0 " + b"a" * (300 << 20), 3, "a line of more"),
    "deep.txt": (lambda: b"./www:\ntotal 0\n\n./www/" + b"a/" * 30_000 + b":\ntotal 0\n", 3, "256 folders deep"),
    "deep.find": (lambda: b"f 5 0 www/index.html\0\0f 5 0 www/" + b"a/" * 30_000 + b"f\0\0", 3, "256 folders deep"),
}
"""What each ends with: its status, and words of what is said."""


# -- FTP


def drip(connection: socket.socket, text: bytes = b"x") -> None:
    for n in range(100_000):
        connection.sendall(text[n % len(text) : n % len(text) + 1])
        time.sleep(0.1)


class Bad:
    """A server that talks to everybody who comes, and misbehaves in one way; `_talk` says how."""

    listener: socket.socket

    def serve(self) -> None:
        with suppress(OSError):
            while True:
                connection, _ = self.listener.accept()
                threading.Thread(target=self._talk, args=(connection,), daemon=True).start()

    def _talk(self, connection: socket.socket) -> None:
        raise NotImplementedError


class BadFtp(Bad):
    """An FTP server that behaves but for one thing."""

    def __init__(self, behaviour: str):
        self.behaviour = behaviour
        newer = behaviour.endswith(("for a port", "port too large"))
        self.host = "[::1]" if newer else "127.0.0.1"
        self.listener = socket.create_server(
            (self.host.strip("[]"), 0), family=socket.AF_INET6 if newer else socket.AF_INET
        )
        self.data = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]

    def _talk(self, connection: socket.socket) -> None:
        with suppress(OSError, ValueError), connection:
            greetings: dict[str, Callable[[], Any]] = {
                "no greeting": lambda: time.sleep(600),
                "a greeting that drips": lambda: drip(connection, b"220-hello there\r\n"),
                "a greeting without end": lambda: [connection.sendall(b"220-hello\r\n" * 1000) for _ in range(10_000)],
                "a line without end": lambda: [connection.sendall(b"2" * 100_000) for _ in range(10_000)],
            }
            greetings.get(self.behaviour, lambda: connection.sendall(b"220 hello\r\n"))()
            for line in connection.makefile("rb"):
                verb, _, words = line.strip().partition(b" ")
                self._answer(connection, verb.upper().decode(), words)

    def _answer(self, connection: socket.socket, verb: str, words: bytes) -> None:
        say = connection.sendall
        digits = b"9" * 5_000
        if verb == "USER":
            say(b"331 go on\r\n")
        elif verb == "PASS":
            if self.behaviour == "silence after login":
                time.sleep(600)
            if self.behaviour == "it repeats the password":
                say(b"530 no login for keeper with " + words + b" at ftp://keeper:" + words + b"@here/\r\n")
            say(b"230 in\r\n")
        elif verb == "EPSV":  # as is asked of a server with an address of IPv6
            ports = {"letters for a port": b"abc", "5,000 digits for a port": digits, "a port too large": b"700000"}
            say(b"229 Entering (|||" + ports.get(self.behaviour, b"0") + b"|)\r\n")
        elif verb == "PASV":
            port = self.data.getsockname()[1]
            ports = {"letters in numbers": b"x,y", "digits without end": digits + b"," + digits, "no port": b"0,0"}
            numbers = ports.get(self.behaviour, b"%d,%d" % (port >> 8, port & 255))
            say(b"227 Entering (127,0,0,1," + numbers + b")\r\n")
        elif verb in ("MLSD", "LIST", "RETR"):
            say(
                b"150 here it comes of ("
                + (digits if self.behaviour == "a size of 5,000 digits" else b"5")
                + b" bytes)\r\n"
            )
            with suppress(OSError), self.data.accept()[0] as data:  # whoever asks may have enough of it
                self._send(data, words.decode("utf-8", "surrogateescape"))
            say(b"226 done\r\n")
        elif verb in ("TYPE", "CWD", "OPTS"):
            say(b"200 well\r\n")
        else:
            say(b"502 what?\r\n")

    def _send(self, data: socket.socket, folder: str) -> None:
        line = b"type=file;size=5;modify=20260101000000; "
        if self.behaviour == "silence in the data":
            time.sleep(600)
        if self.behaviour == "data that drip":
            drip(data, line + b"a-rather-long-name-that-takes-its-time\r\n")
        if self.behaviour == "entries without end":
            for n in range(100_000):
                data.sendall(b"".join(line + b"f%d\r\n" % (n * 1000 + one) for one in range(1000)))
        if self.behaviour == "folders without end":
            for n in range(10_000):
                data.sendall(b"".join(b"type=dir; d%d\r\n" % (n * 1000 + one) for one in range(1000)))
        if self.behaviour == "a name without end":
            for _ in range(10_000):
                data.sendall(b"n" * 100_000)
        if self.behaviour == "depth without end":
            data.sendall(b"type=dir; d\r\n")
        if self.behaviour == "names that are none" and folder.count("/") < 3:
            data.sendall(
                b"".join(b"type=dir; " + name + b"\r\n" for name in (b"", b".", b"..", b"../..", b"a/b", b"/"))
            )
            data.sendall(b"type=dir;size=" + b"9" * 5_000 + b"; d\rx\r\ntype; \xff\xfe\r\n;;;= odd\r\n \r\nnothing\r\n")
            data.sendall(b"type=file;size=" + b"9" * 5_000 + b";modify=99999999999999; big\r\n")
            data.sendall(b"type=OS.unix=slink:/srv/x;unique=803U1; link\r\n" + line + b"index.html\r\n")


@contextmanager
def bad_ftp(behaviour: str) -> Iterator[str]:
    """Yields its address."""
    server = BadFtp(behaviour)
    threading.Thread(target=server.serve, daemon=True).start()
    try:
        yield f"ftp://keeper@{server.host}:{server.port}/"
    finally:
        server.listener.close()
        server.data.close()


FTP: dict[str, str] = {
    "no greeting": "nothing came of it",
    "a greeting that drips": "nothing came of it",
    "a greeting without end": "more than 1,000 lines",
    "a line without end": "a line of more than 8,192 bytes",
    "silence after login": "nothing came of it",
    "it repeats the password": "refused",
    "letters for a port": "a reply that is none",
    "5,000 digits for a port": "a reply that is none",
    "a port too large": "a reply that is none",
    "letters in numbers": "broke off",
    "digits without end": "a reply that is none",
    "no port": "a reply that is none",
    "a size of 5,000 digits": "a reply that is none",
    "silence in the data": "nothing came of it",
    "data that drip": "nothing came of it",
    "entries without end": "MB of memory",
    "folders without end": "MB of memory",
    "a name without end": "a line of more than 65,536 bytes",
    "depth without end": "256 folders deep",
    "names that are none": "",
}
"""What is said in the end; nothing where it is a survey all the same."""


# -- SFTP


def folder_attributes() -> asyncssh.SFTPAttrs:
    return asyncssh.SFTPAttrs(permissions=stat.S_IFDIR | 0o755, size=0, mtime=0, atime=0, uid=0, gid=0)


def file_attributes(size: int = 5) -> asyncssh.SFTPAttrs:
    return asyncssh.SFTPAttrs(permissions=stat.S_IFREG | 0o644, size=size, mtime=0, atime=0, uid=0, gid=0)


class BadSftp(asyncssh.SFTPServer):
    """An SFTP server that behaves but for one thing."""

    behaviour = ""

    async def scandir(self, path: bytes) -> AsyncIterator[asyncssh.SFTPName]:
        if self.behaviour == "silence in a listing":
            await asyncio.sleep(600)
        if self.behaviour == "entries without end":
            for n in range(100_000_000):
                yield asyncssh.SFTPName(b"f%d" % n, attrs=file_attributes())
        if self.behaviour == "folders without end":
            for n in range(100_000_000):
                yield asyncssh.SFTPName(b"d%d" % n, attrs=folder_attributes())
        if self.behaviour == "depth without end":
            yield asyncssh.SFTPName(b"d", attrs=folder_attributes())
        if self.behaviour == "names that are none" and path.count(b"/") < 3:
            for name in (b"", b".", b"..", b"../..", b"a/b", b"\xff\xfe", b"d\nx", b"\x1b[31m"):
                yield asyncssh.SFTPName(name, attrs=folder_attributes())
            yield asyncssh.SFTPName(b"big", attrs=file_attributes((1 << 64) - 1))
            yield asyncssh.SFTPName(b"odd", attrs=asyncssh.SFTPAttrs())
        if self.behaviour == "silence in a file":
            yield asyncssh.SFTPName(b"index.html", attrs=file_attributes())

    async def open(self, *_: object) -> object:  # type: ignore[override]
        await asyncio.sleep(600)
        return None


class Mute(asyncssh.SSHServerSession):  # type: ignore[type-arg]
    """A subsystem that begins, and says nothing."""

    def subsystem_requested(self, subsystem: str) -> bool:  # noqa: ARG002
        return True


class Open(asyncssh.SSHServer):
    """Lets everybody in."""

    behaviour = ""

    def begin_auth(self, username: str) -> bool:  # noqa: ARG002
        return False

    def session_requested(self) -> asyncssh.SSHServerSession | bool:  # type: ignore[type-arg, override]
        return Mute() if self.behaviour == "silence after login" else True


@contextmanager
def bad_sftp(behaviour: str, folder: Path) -> Iterator[int]:
    """Yields its port; the file `known` in `folder` has its key."""
    folder.mkdir(exist_ok=True)
    key = asyncssh.generate_private_key("ssh-ed25519")
    (folder / "known").write_text("* " + key.export_public_key().decode())
    loop = asyncio.new_event_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    own = type("Server", (Open,), {"behaviour": behaviour})
    files = type("Files", (BadSftp,), {"behaviour": behaviour})
    mute = {} if behaviour == "silence after login" else {"sftp_factory": files}

    async def begin() -> asyncssh.SSHAcceptor:
        return await asyncssh.listen("127.0.0.1", 0, server_factory=own, server_host_keys=[key], **mute)

    acceptor = asyncio.run_coroutine_threadsafe(begin(), loop).result(20)
    try:
        yield acceptor.get_port()
    finally:
        loop.call_soon_threadsafe(acceptor.close)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(5)


SFTP: dict[str, str] = {
    "silence after login": "nothing came of it",
    "silence in a listing": "nothing came of it",
    "silence in a file": "nothing came of it",
    "entries without end": "MB of memory",
    "folders without end": "MB of memory",
    "depth without end": "256 folders deep",
    "names that are none": "",
}


# -- databases


def packet(payload: bytes, number: int) -> bytes:
    """A packet of the MySQL protocol."""
    return struct.pack("<I", len(payload))[:3] + bytes([number]) + payload


def columns(number: int) -> list[bytes]:
    one = b"\3def\0\0\0\1x\0\x0c\xff\0" + struct.pack("<IBHB", 255, 0xFD, 0, 0) + b"\0\0"
    return [bytes([number]), *[one] * number, b"\xfe\0\0\2\0"]


class BadMysql(Bad):
    """A MySQL server that behaves until it is asked for its databases."""

    def __init__(self, behaviour: str):
        self.behaviour = behaviour
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]

    def _talk(self, connection: socket.socket) -> None:
        greeting = b"\x0a8.0.0\0" + bytes(4) + b"a" * 8 + b"\0" + struct.pack("<HBHHB", 0xA200, 255, 2, 0x8, 21)
        fine = b"\0\0\0\2\0\0\0"
        with suppress(OSError), connection, connection.makefile("rb") as asked:
            connection.sendall(packet(greeting + bytes(10) + b"b" * 12 + b"\0mysql_native_password\0", 0))
            while head := asked.read(4):
                words = asked.read(int.from_bytes(head[:3], "little"))
                if head[3] == 1 or words[1:4].upper() == b"SET":
                    connection.sendall(packet(fine, head[3] + 1))
                elif b"VERSION" in words:
                    rows = [*columns(1), b"\5" + b"8.0.0", b"\xfe\0\0\2\0"]
                    connection.sendall(b"".join(packet(row, n + 1) for n, row in enumerate(rows)))
                else:
                    self._misbehave(connection)

    def _misbehave(self, connection: socket.socket) -> None:
        if self.behaviour == "silence":
            time.sleep(600)
        if self.behaviour == "a packet without end":
            for n in range(1_000):
                connection.sendall(b"\xff\xff\xff" + bytes([(n + 1) % 256]) + b"\1" * 0xFFFFFF)
        connection.sendall(b"".join(packet(row, n + 1) for n, row in enumerate(columns(3))))
        if self.behaviour == "data that drip":
            drip(connection, packet(b"a" * 60_000, 6))
        for n in range(100_000):
            connection.sendall(
                b"".join(
                    packet(b"\6%06d\1b\1c" % (one % 1_000_000), (6 + one) % 256)
                    for one in range(n * 1000, n * 1000 + 1000)
                )
            )


MYSQL = {
    "rows without end": "wants more than 160 MB of memory",
    "a packet without end": "wants more than 160 MB of memory",
    "silence": "timed out",
    "data that drip": "takes more than",
}
"""What is said in the end."""


@contextmanager
def bad_mysql(behaviour: str) -> Iterator[str]:
    """Yields its address."""
    server = BadMysql(behaviour)
    threading.Thread(target=server.serve, daemon=True).start()
    try:
        yield f"mysql://keeper@127.0.0.1:{server.port}/"
    finally:
        server.listener.close()
