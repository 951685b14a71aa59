"""Every reader with inputs that were spoilt: `python tests/mutate_inputs.py NUMBER [SEED [READER...]]` says how many, and what came.

Each is to end in an answer or in a clear error of the program, within seconds; anything else is written down with
the input that brought it about.
"""

from __future__ import annotations

import bz2
import contextlib
import gzip
import io
import json
import lzma
import os
import random
import signal
import sys
import tempfile
import time
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path

import zstandard

sys.path.insert(0, str(Path(__file__).parent))
import spoilt_sftp
from hostile import header, long_path, tape
from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import KettlepostError
from kettlepost.core.exchange import KINDS, kind_of
from kettlepost.core.names import Address, Folder, HostName, InvalidName
from kettlepost.core.plan import read_account, read_shared
from kettlepost.core.survey import decode_databases, decode_outside, decode_survey, take_survey
from kettlepost.core.survey.control_files import effects_of
from kettlepost.core.survey.dump import read_dump, read_listing
from kettlepost.core.survey.scanner import Scanner
from kettlepost.sources import open_source
from kettlepost.sources.ftp_listing import told
from kettlepost.sources.ftp_session import Session
from kettlepost.sources.listing import ls_entry
from kettlepost.workspace import catalogue
from test_exchange import Disk
from test_fuzz import SURVEY, WHOLE

SECONDS = 20
LIMITS = Limits(unpacked=64 << 20, free=32 << 20, entries=200_000, memory=50 << 20)
PLACE = Path(tempfile.mkdtemp(dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
SHARED = read_shared(b"[package.copper]\ndatabases = 1\n", catalogue.applications(), [])
KNOWN = catalogue.recognised(SHARED.plan([]))
SCANNER = Scanner(KNOWN, None)
CONTROL = b"RewriteEngine On\nRewriteCond %{HTTP_HOST} ^a\\.example$ [NC]\nRewriteRule ^(.*)$ /x/$1 [R=301,L]\nRedirect /a /b\n"
CONTROL += b'DirectoryIndex a.php b.html\n<FilesMatch "\\.php$">\nRequire ip 192.0.2.0/24\n</FilesMatch>\nErrorDocument 404 /e\n'
PAGE = b"<html><head><title>It works</title><meta name=generator content='x 1.0'></head><body>&amp; <h1>Welcome</h1></html>"
HOME = {
    "www/index.html": PAGE, "www/.htaccess": CONTROL, "www/wp-config.php": b"<?php define('DB_NAME','x');",
    "www/.env": b"DB_DATABASE=x\n", "www/a/b/c.txt": b"x" * 700,
}  # fmt: skip
ZONE = b"$ORIGIN a.example.\n$TTL 3600\n@ IN SOA ns.a.example. m.a.example. 1 2 3 4 5\n@ A 192.0.2.1\nwww CNAME @\n* A 192.0.2.1\n"
NGINX = (
    b"http { server { listen 80; server_name a.example *.a.example; root /srv/www; location /x { alias /srv/y; } } }\n"
)
APACHE = b"<VirtualHost *:80>\nServerName a.example\nServerAlias www.a.example\nDocumentRoot /srv/www\nAlias /x /srv/y\n</VirtualHost>\n"
DUMP = b"-- MySQL dump 10\nUSE `x`;\nCREATE TABLE `wp_a` (`id` int);\nINSERT INTO `wp_a` VALUES (1,'a\\'b');\n"
OUTSIDE = json.dumps(
    {"kettlepost": 1, "account": "m", "hosts": [{"name": "a.example", "folder": "www", "by": "x"}]}
).encode()
BASES = json.dumps({"kettlepost": 1, "account": "m", "databases": [{"name": "x", "tables": []}]}).encode()


def packed() -> dict[str, bytes]:
    whole = tape(
        *((name.encode(), b"0", len(data), data) for name, data in HOME.items()), *long_path(b"www/" + b"n" * 200)
    )
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for n, (name, data) in enumerate(HOME.items()):
            archive.writestr(
                name, data, [zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA, zipfile.ZIP_STORED][n % 4]
            )
    return {
        "tar": whole, "tar.gz": gzip.compress(whole), "tar.bz2": bz2.compress(whole), "tar.xz": lzma.compress(whole, preset=0),
        "tar.zst": zstandard.ZstdCompressor().compress(whole), "zip": out.getvalue(),
        "find": b"".join(b"f %d 1760000000.5 www/%s\0\0" % (len(data), name.encode()) for name, data in HOME.items()),
        "ls": b"./www:\ntotal 8\ndrwxr-xr-x 2 a a 4096 Jan  1 2026 a\n-rw-r--r-- 1 a a 5 Jan  1 10:00 index.html\n\n./www/a:\nlrwxrwxrwx 1 a a 5 2026-01-01 10:00 l -> ../x\n",
    }  # fmt: skip


def surveyed(ending: str) -> Callable[[bytes], None]:
    def read(data: bytes) -> None:
        path = PLACE / f"home.{ending}"
        path.write_bytes(data)
        source = open_source(str(path), "m", limits=LIMITS)
        if len(data) % 16:  # the whole of a survey is asked for now and then, as it takes its time
            budget = Budget("x", LIMITS, time.monotonic)
            for listing in source.listings(SCANNER.wanted):
                budget.listing(listing.folder, len(listing.names), listing.links)
            return
        take_survey(KNOWN, "m", None, source, "2026-11-26T12:00:00Z", budget=Budget("x", LIMITS, time.monotonic))

    return read


class Replies:
    """The connection of an FTP session on which a server says what it likes."""

    def __init__(self, data: bytes):
        self.data = io.BytesIO(data)

    def recv(self, number: int) -> bytes:
        return self.data.read(min(number, 700))

    def sendall(self, data: bytes) -> None:
        pass

    def __enter__(self) -> Replies:
        return self

    def __exit__(self, *_: object) -> None:
        pass


def ftp(data: bytes) -> None:
    """Half of it are replies, half of it is a listing."""
    control, _, listing = data.partition(b"|")
    session = Session(Budget("x", LIMITS, time.monotonic))
    session.sock = Replies(control)  # type: ignore[assignment]
    session.af, session.host, session.trust_server_pasv_ipv4_address = 2, "127.0.0.1", True  # type: ignore[attr-defined]
    with contextlib.suppress(EOFError, OSError, *session_errors()):
        session.getresp()
        session.makepasv()
    session.transfercmd = lambda *_: Replies(listing)  # type: ignore[method-assign, assignment]
    session.sendcmd = lambda *_: "200"  # type: ignore[method-assign]
    session.voidresp = lambda: "226"  # type: ignore[method-assign]
    for name, facts in session.mlsd("/x"):
        told(name, facts)
    session.retrlines("LIST", lambda line: ls_entry(line, 2026, 11) and None)


@cache
def sftp_server() -> spoilt_sftp.Survey:
    return spoilt_sftp.Survey()


def sftp(data: bytes) -> None:
    """What a server says of each kind of request."""
    sftp_server().take(data, SCANNER.wanted, LIMITS._replace(patience=2.0, entries=300, depth=8))


def session_errors() -> tuple[type[Exception], ...]:
    import ftplib

    return (ftplib.Error,)


def names(data: bytes) -> None:
    text = data.decode("utf-8", "surrogateescape")
    for parse in (HostName.parse, Folder.parse, Address.parse):
        with contextlib.suppress(InvalidName):
            parse(text)


READERS: dict[str, tuple[bytes, Callable[[bytes], object]]] = {
    **{ending: (data, surveyed(ending)) for ending, data in packed().items()},
    "account": (WHOLE.encode(), lambda data: read_account(SHARED, data, "m.toml", [])),
    "settings": (
        b"[package.copper]\ndatabases = 1\n[application.x]\nall_of = ['a']\n",
        lambda data: read_shared(data, {}, []),
    ),
    "survey": (SURVEY.encode(), lambda data: decode_survey(data, "m.json", "millbrook")),
    "outside": (OUTSIDE, lambda data: decode_outside(data, "m", "m")),
    "databases": (BASES, lambda data: decode_databases(data, "m", "m")),
    "control": (CONTROL, lambda data: effects_of(".htaccess", data)),
    "dump": (DUMP, lambda data: list(read_dump(io.BytesIO(data), Budget("x", LIMITS)))),
    "tables": (b"x\twp_a\t5\nx\twp_b\t6\n", lambda data: list(read_listing(io.BytesIO(data), Budget("x", LIMITS)))),
    "ftp": (
        b"220-hello\r\n220 in\r\n227 Entering (127,0,0,1,4,5)\r\n|type=file;size=5;modify=20260101000000; a\r\ntype=dir; b\r\n",
        ftp,
    ),
    "sftp": (spoilt_sftp.SEED, sftp),
    "names": (b"sub.a.example/x/y?z", names),
    **{
        kind: (text, lambda data, kind=kind: KINDS[kind].read([("source", data)], Disk(), ""))  # type: ignore[misc]
        for kind, text in (
            ("zone", ZONE),
            ("nginx", NGINX),
            ("apache", APACHE),
            ("table", b"Host,Docroot\na.example,www\n"),
        )
    },
    "kind": (APACHE, kind_of),
}
WORDS = [
    b"\0",
    b"\xff" * 8,
    b"\x80" + b"\xff" * 11,
    b"9" * 30,
    b"-1",
    b"../" * 50,
    b"\n" * 9,
    b"(((((",
    b"%{",
    b"\\",
    b"\x1b[31m",
    b"{" * 99,
    b"[" * 99,
]


def spoilt(seed: bytes, pick: random.Random) -> bytes:
    data = bytearray(seed)
    for _ in range(pick.choice((1, 1, 1, 2, 3, 8))):
        at, length = pick.randrange(len(data) + 1), pick.choice((1, 1, 4, 12, 100, 512))
        match pick.randrange(6):
            case 0 if data:
                data[min(at, len(data) - 1)] ^= 1 << pick.randrange(8)
            case 1:
                data[at : at + length] = bytes(pick.randrange(256) for _ in range(min(length, 12)))
            case 2:
                del data[at : at + length]
            case 3:
                data[at:at] = data[at : at + length] * pick.choice((1, 2, 20))
            case 4:
                data[at : at + pick.choice((0, length))] = pick.choice(WORDS)
            case _:
                other = pick.randrange(len(data) + 1)
                data[at:at] = data[other : other + length]
    return bytes(data[: pick.randrange(len(data) + 1)] if pick.random() < 0.1 else data)


def late(_number: int, _frame: object) -> None:
    raise TimeoutError(f"more than {SECONDS} seconds")


def tried(number: int, seed: int) -> Iterator[tuple[str, str, bytes]]:
    """The inputs that ended in anything but an answer or a clear error."""
    pick, kinds = random.Random(seed), list(READERS)
    signal.signal(signal.SIGALRM, late)
    for n in range(number):
        kind = kinds[n % len(kinds)]
        whole, read = READERS[kind]
        data = spoilt(whole, pick)
        if kind.startswith("tar") and pick.random() < 0.5 and len(data) > 512:  # with a right checksum, it gets further
            at = pick.randrange(len(data) // 512) * 512
            data = (
                data[:at]
                + header(b"www/x", bytes([pick.choice(b"0125LKxgS")]), pick.choice((0, 5, 512, b"\x80" * 12)))
                + data[at:]
            )
        signal.alarm(SECONDS)
        try:
            read(data)
        except KettlepostError as error:
            if not str(error).strip():
                yield kind, "an error without words", data
        except BaseException as error:  # whatever it is, it is written down
            yield kind, f"{type(error).__name__}: {error}"[:200], data
        finally:
            signal.alarm(0)


def main() -> None:
    number, seed = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1
    for kind in set(READERS).difference(sys.argv[3:] or READERS):
        del READERS[kind]
    begin, found = time.monotonic(), Counter[tuple[str, str]]()
    for kind, what, data in tried(number, seed):
        if not found[kind, what]:
            print(f"{kind}: {what}: {data[:300]!r}", flush=True)
        found[kind, what] += 1
    for path in PLACE.iterdir():
        path.unlink()
    PLACE.rmdir()
    print(
        f"{number:,} inputs to {len(READERS)} readers in {time.monotonic() - begin:.0f} s: {sum(found.values()):,} wrong"
    )
    os._exit(bool(found))


if __name__ == "__main__":
    main()
