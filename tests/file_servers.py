"""Real file servers on loopback, as Debian packages them, unpacked by `.ci/run` into build/debian: each runs as root,
for the user `keeper` with one password, in whose home everything is another user's."""

from __future__ import annotations

import contextlib
import os
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from conftest import lacking
from servers import _await, certificate, free_port

PACKAGES = Path(__file__).parent.parent / "build/debian"
PASSWORD = "geh\xe9im\u20ac 1%"
NOBODY = 1
"""The user `daemon`, who has a home everywhere, and nothing else."""


class Site(NamedTuple):
    """A server's address for the home, and the files to trust."""

    address: str
    certificate: Path | None = None
    known_hosts: Path | None = None


def vsftpd(home: Path, place: Path, port: int) -> tuple[list[str], Site]:
    """Has no machine-readable listings; knows no user but the one without a name, who may do everything."""
    (place / "empty").mkdir()
    options = {
        "listen": "YES", "listen_port": port, "listen_address": "127.0.0.1", "background": "NO", "anonymous_enable": "YES",
        "no_anon_password": "YES", "anon_root": home, "ftp_username": "daemon", "nopriv_user": "nobody",
        "write_enable": "YES", "anon_upload_enable": "YES", "anon_mkdir_write_enable": "YES", "anon_other_write_enable": "YES",
        "anon_world_readable_only": "NO", "anon_umask": "022", "allow_writeable_chroot": "YES", "seccomp_sandbox": "NO",
        "secure_chroot_dir": place / "empty", "xferlog_enable": "NO",
    }  # fmt: skip
    (place / "config").write_text("".join(f"{key}={value}\n" for key, value in options.items()))
    return ["vsftpd/usr/sbin/vsftpd", str(place / "config")], Site(f"ftp://anonymous@127.0.0.1:{port}/")


def proftpd(home: Path, place: Path, port: int, more: str = "") -> list[str]:
    given = subprocess.run(["openssl", "passwd", "-6", PASSWORD], check=True, capture_output=True, text=True)
    (place / "users").write_text(f"keeper:{given.stdout.strip()}:{NOBODY}:{NOBODY}::{home}:/bin/sh\n")
    (place / "users").chmod(0o600)
    (place / "config").write_text(
        f"ServerType standalone\nDefaultAddress 127.0.0.1\nPort {port}\nUseIPv6 off\nUser root\nGroup root\n"
        f"PidFile {place}/pid\nScoreboardFile {place}/score\nDelayTable none\nWtmpLog off\nSystemLog none\n"
        f"AuthPAM off\nAuthOrder mod_auth_file.c\nAuthUserFile {place}/users\nRequireValidShell off\n"
        f"DefaultRoot ~\nAllowOverwrite on\nModulePath {PACKAGES}/proftpd-core/usr/lib/proftpd\n{more}"
    )
    return ["proftpd-core/usr/sbin/proftpd", "-n", "-q", "-c", str(place / "config")]


def proftpd_ftp(home: Path, place: Path, port: int) -> tuple[list[str], Site]:
    return proftpd(home, place, port), Site(f"ftp://keeper@127.0.0.1:{port}/")


def proftpd_sftp(home: Path, place: Path, port: int) -> tuple[list[str], Site]:
    key = place / "host"
    subprocess.run(["ssh-keygen", "-q", "-t", "rsa", "-m", "PEM", "-N", "", "-f", str(key)], check=True)
    (place / "known").write_text(f"[127.0.0.1]:{port} {(place / 'host.pub').read_text()}")
    module = PACKAGES / "proftpd-mod-crypto/usr/lib/proftpd/mod_sftp.so"
    (PACKAGES / "proftpd-core/usr/lib/proftpd/mod_sftp.so").write_bytes(module.read_bytes())
    command = proftpd(
        home, place, port, f"LoadModule mod_sftp.c\nSFTPEngine on\nSFTPHostKey {key}\nSFTPAuthMethods password\n"
    )
    return command, Site(f"sftp://keeper@127.0.0.1:{port}/", known_hosts=place / "known")


def pure_ftpd(home: Path, place: Path, port: int) -> tuple[list[str], Site]:
    """With TLS demanded of both connections, and links told without their targets."""
    trusted = certificate(place, "localhost")
    users = ["-f", f"{place}/users"]
    subprocess.run(
        [PACKAGES / "pure-ftpd/usr/bin/pure-pw", "useradd", "keeper", "-u", str(NOBODY), "-g", str(NOBODY), "-d", str(home), *users],
        input=f"{PASSWORD}\n{PASSWORD}\n", check=True, capture_output=True, text=True,
    )  # fmt: skip
    subprocess.run(
        [PACKAGES / "pure-ftpd/usr/bin/pure-pw", "mkdb", f"{place}/users.pdb", *users],
        check=True,
        capture_output=True,
    )
    command = ["pure-ftpd/usr/sbin/pure-ftpd", "-S", f"127.0.0.1,{port}", "-l", f"puredb:{place}/users.pdb"]
    command += ["-Y", "3", "-2", str(trusted), "-H", "-u", "1", "-g", f"{place}/pid"]
    return command, Site(f"ftps://keeper@localhost:{port}/", certificate=trusted)


SERVERS = {"vsftpd": vsftpd, "ProFTPD": proftpd_ftp, "ProFTPD by SFTP": proftpd_sftp, "Pure-FTPd": pure_ftpd}


@contextlib.contextmanager
def file_server(name: str, home: Path) -> Iterator[Site]:
    """The server of that name, for the length of a test."""
    if os.geteuid():
        lacking("the right to begin a file server")
    with tempfile.TemporaryDirectory() as folder:
        place, port = Path(folder), free_port()
        place.chmod(0o755)
        if not all(
            (PACKAGES / package).is_dir() for package in ("vsftpd", "proftpd-core", "proftpd-mod-crypto", "pure-ftpd")
        ):
            lacking("a file server")
        command, site = SERVERS[name](home, place, port)
        with subprocess.Popen(
            [PACKAGES / command[0], *command[1:]], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        ) as server:
            try:
                _await(port)
                yield site
            finally:
                server.terminate()
