"""A database server for the demo: a real MariaDB where one is installed, else the stand-in; filled, on loopback."""

from __future__ import annotations

import contextlib
import os
import shlex
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from kettlepost.demo.stand_in_server import stand_in_server

_PATIENCE = 60
_TABLES: dict[str, dict[str, tuple[str, ...]]] = {
    "penny_seats": {
        "tg4_": ("aisles", "bookings", "guests", "halls", "performances", "prices", "sessions", "settings"),
        "wp_": ("commentmeta", "comments", "links", "options", "postmeta", "posts", "term_relationships",
                "term_taxonomy", "terms", "usermeta", "users"),
    },
    "penny_diary": {"qm1_": ("comments", "links", "pages", "settings", "tags", "users")},
}  # fmt: skip


class DemoServer(NamedTuple):
    """A server: whether it is a real one, its address, the options of its client, and where that client is."""

    is_real: bool
    address: str
    options: str
    path: str


@contextmanager
def demo_server(folder: Path) -> Iterator[DemoServer]:
    """A server with the theatre's databases, as long as the block runs; `folder` is for the stand-in's client."""
    with _real_server() as port:
        if port is not None:
            server = DemoServer(True, f"mariadb://root@127.0.0.1:{port}/", f"-h127.0.0.1 -P{port} -uroot", "")
            _fill(server)
            yield server
            return
    with stand_in_server() as near:
        folder.mkdir()
        for name, more in (("mariadb", ""), ("mariadb-dump", " --dump")):
            python = shlex.quote(sys.executable)
            (folder / name).write_text(f'#!/bin/sh\nexec {python} -m kettlepost.demo.stand_in_client{more} "$@"\n')
            (folder / name).chmod(0o755)
        server = DemoServer(False, f"mariadb://root@127.0.0.1:{near}/", f"-P{near}", str(folder.resolve()))
        _fill(server)
        yield server


def _fill(server: DemoServer) -> None:
    statements = []
    for base, prefixes in _TABLES.items():
        statements.append(f"CREATE DATABASE `{base}` CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci;")
        for prefix, names in prefixes.items():
            statements += [f"CREATE TABLE `{base}`.`{prefix}{name}` (`id` int, `words` text);" for name in names]
    statements.append("INSERT INTO `penny_seats`.`tg4_bookings` VALUES")
    statements.append(", ".join(f"({n}, 'row {n}')" for n in range(1, 41)) + ";")
    statements.append("CREATE USER IF NOT EXISTS 'penny_seats'@'localhost' ACCOUNT LOCK;")
    statements.append("GRANT ALL PRIVILEGES ON `penny\\_seats`.* TO 'penny_seats'@'localhost';")
    env = os.environ | {"PATH": f"{server.path}:{os.environ.get('PATH', '')}"}
    command = ["sh", "-c", f"mariadb {server.options}"]
    subprocess.run(command, input="\n".join(statements), text=True, check=True, env=env)  # noqa: S603 (words of its own)


@contextmanager
def _real_server() -> Iterator[int | None]:
    """The port of a MariaDB of one's own in a temporary folder; None where none is installed, or it does not start."""
    way = f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/local/sbin"
    programs = [shutil.which(name, path=way) for name in ("mariadbd", "mariadb-install-db", "mariadb", "mariadb-dump")]
    if None in programs:
        yield None
        return
    server, install = str(programs[0]), str(programs[1])
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        is_root = os.geteuid() == 0
        who = ["--user=mysql"] if is_root else []
        with contextlib.suppress(OSError, LookupError):
            folder.chmod(0o755)
            if is_root:
                shutil.chown(folder, "mysql")
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port: int = probe.getsockname()[1]
        made = [install, *who, f"--datadir={folder}/data", "--auth-root-authentication-method=normal", "--skip-test-db"]
        begun = [server, "--no-defaults", *who, f"--datadir={folder}/data", f"--socket={folder}/s", f"--port={port}",
                 "--bind-address=127.0.0.1", f"--pid-file={folder}/pid"]  # fmt: skip
        try:
            subprocess.run(made, check=True, capture_output=True)  # noqa: S603 (programs that were found, words of its own)
        except (OSError, subprocess.CalledProcessError):
            yield None
            return
        with subprocess.Popen(begun, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL) as process:  # noqa: S603
            try:
                yield port if _answers(port, process) else None
            finally:
                process.terminate()
                process.wait()


def _answers(port: int, process: subprocess.Popen[bytes]) -> bool:
    end = time.monotonic() + _PATIENCE
    while time.monotonic() < end and process.poll() is None:
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1):
            return True
        time.sleep(0.05)
    return False
