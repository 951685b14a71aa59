"""Real servers on loopback for the length of a test."""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import socket
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import pytest

from conftest import lacking
from webservers import free_port

SSHD = shutil.which("sshd", path=f"{os.environ.get('PATH', '')}:/usr/sbin")


class Login(NamedTuple):
    port: int
    key: Path
    known_hosts: Path


@contextlib.contextmanager
def sftp_server(folder: Path) -> Iterator[Login]:
    """OpenSSH's server, with a host key and a user key of its own."""
    if SSHD is None:
        lacking("sshd")
    keys = folder / "ssh"
    keys.mkdir()
    for name in ("host", "user"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(keys / name)], check=True)
    port = free_port()
    Path("/run/sshd").mkdir(exist_ok=True)
    config = {
        "Port": port, "ListenAddress": "127.0.0.1", "HostKey": keys / "host", "AuthorizedKeysFile": keys / "user.pub",
        "StrictModes": "no", "PasswordAuthentication": "no", "UsePAM": "no", "PidFile": "none",
        "Subsystem": "sftp internal-sftp",
    }  # fmt: skip
    (keys / "config").write_text("".join(f"{key} {value}\n" for key, value in config.items()))
    known = keys / "known_hosts"
    known.write_text(f"[127.0.0.1]:{port} {(keys / 'host.pub').read_text()}")
    with subprocess.Popen([SSHD, "-D", "-e", "-f", str(keys / "config")], stderr=subprocess.DEVNULL) as server:
        try:
            _await(port)
            yield Login(port, keys / "user", known)
        finally:
            server.terminate()


@contextlib.contextmanager
def ftp_server(
    home: Path, certificate: Path | None = None, machine_readable: bool = True, may: str = "elr"
) -> Iterator[int]:
    """An FTP server for the user `webkeeper` with the password `points`, with TLS demanded or without.

    `may` is what that user may do, by pyftpdlib's letters.
    """
    from pyftpdlib.authorizers import DummyAuthorizer
    from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
    from pyftpdlib.servers import FTPServer

    authorizer = DummyAuthorizer()
    authorizer.add_user("webkeeper", "points", str(home), perm=may)
    options: dict[str, object] = {"authorizer": authorizer, "use_sendfile": False, "auth_failed_timeout": 0}
    if certificate is not None:
        options |= {"certfile": str(certificate), "tls_control_required": True, "tls_data_required": True}
    handler = type("Handler", (TLS_FTPHandler if certificate else FTPHandler,), options)
    if not machine_readable:
        handler.proto_cmds = {name: told for name, told in handler.proto_cmds.items() if name not in ("MLSD", "MLST")}
    server = FTPServer(("127.0.0.1", 0), handler)
    thread = threading.Thread(target=server.serve_forever, kwargs={"timeout": 0.05, "handle_exit": False})
    thread.start()
    try:
        yield server.address[1]
    finally:
        server.close_all()
        thread.join()


@contextlib.contextmanager
def dropping_proxy(port: int, after: int, host: str = "127.0.0.1") -> Iterator[int]:
    """Passes a connection on to `port` until the server has sent `after` bytes, then cuts it."""
    with socket.create_server((host, 0)) as listening:

        def serve() -> None:
            with contextlib.suppress(OSError):
                client, _ = listening.accept()
                with client, socket.create_connection(("127.0.0.1", port)) as server:
                    thread = threading.Thread(target=_pass_on, args=(client, server, 1 << 40), daemon=True)
                    thread.start()
                    _pass_on(server, client, after)
                    for end in (client, server):
                        end.shutdown(socket.SHUT_RDWR)

        threading.Thread(target=serve, daemon=True).start()
        yield listening.getsockname()[1]


def _pass_on(source: socket.socket, target: socket.socket, most: int) -> None:
    with contextlib.suppress(OSError):
        while most > 0 and (data := source.recv(min(most, 4096))):
            target.sendall(data)
            most -= len(data)


def certificate(folder: Path, host: str) -> Path:
    """A key and a self-signed certificate for `host` in one file."""
    whole = folder / f"{host}.pem"
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", f"/CN={host}",
         "-addext", f"subjectAltName={'IP' if host[0].isdigit() else 'DNS'}:{host}", "-keyout", str(folder / "key"), "-out", str(folder / "cert")],
        check=True, capture_output=True,
    )  # fmt: skip
    whole.write_bytes((folder / "key").read_bytes() + (folder / "cert").read_bytes())
    return whole


def _await(port: int) -> None:
    for _ in range(200):
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1):
            return
        time.sleep(0.05)
    pytest.fail("the server did not come up")


class DatabaseServer(NamedTuple):
    """A database server on loopback: its address for its first user, who has no password, and its own client."""

    address: str
    client: list[str]


@contextlib.contextmanager
def mariadb_server(folder: Path, *options: str) -> Iterator[DatabaseServer]:
    """MariaDB, in a folder that its user may enter."""
    server, install = (
        shutil.which(name, path=f"{os.environ['PATH']}:/usr/sbin") for name in ("mariadbd", "mariadb-install-db")
    )
    if server is None or install is None:
        lacking("mariadbd")
    data, port = folder / "mariadb", free_port()
    data.mkdir()
    shutil.chown(data, "mysql")
    made = [
        install,
        "--user=mysql",
        f"--datadir={data}/data",
        "--auth-root-authentication-method=normal",
        "--skip-test-db",
    ]
    with (Path(tempfile.gettempdir()) / "kettlepost-install-db.lock").open(
        "w"
    ) as alone:  # two at once refuse each other
        fcntl.flock(alone, fcntl.LOCK_EX)
        subprocess.run(made, check=True, capture_output=True)
    command = [server, "--user=mysql", f"--datadir={data}/data", f"--socket={data}/s", f"--port={port}",
               "--bind-address=127.0.0.1", f"--pid-file={data}/pid", *options, "--no-defaults"]  # fmt: skip
    command.insert(1, command.pop())
    with subprocess.Popen(command, stderr=subprocess.DEVNULL) as process:
        try:
            _await(port)
            yield DatabaseServer(f"mysql://root@127.0.0.1:{port}/", ["mariadb", "-h127.0.0.1", f"-P{port}", "-uroot"])
        finally:
            process.terminate()


@contextlib.contextmanager
def postgresql_server(folder: Path) -> Iterator[DatabaseServer]:
    """PostgreSQL, in a folder that its user may enter."""
    programs = sorted(Path("/usr/lib/postgresql").glob("*/bin"))
    if not programs:
        lacking("postgresql")
    data, port = folder / "postgresql", free_port()
    data.mkdir()
    shutil.chown(data, "postgres")
    as_user = ["setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"]
    subprocess.run(
        [*as_user, str(programs[-1] / "initdb"), "-D", f"{data}/data", "-A", "trust"],
        check=True,
        capture_output=True,
        cwd="/",
    )
    command = [
        *as_user,
        str(programs[-1] / "postgres"),
        "-D",
        f"{data}/data",
        "-p",
        str(port),
        "-k",
        str(data),
        "-h",
        "127.0.0.1",
    ]
    with subprocess.Popen(command, stderr=subprocess.DEVNULL, cwd="/") as process:
        try:
            _await(port)
            client = ["psql", "-q", "-h", "127.0.0.1", "-p", str(port), "-U", "postgres"]
            yield DatabaseServer(f"postgresql://postgres@127.0.0.1:{port}/", client)
        finally:
            process.terminate()
            process.wait()
