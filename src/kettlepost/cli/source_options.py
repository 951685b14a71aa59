"""What commands share that reach the folders of an account: where they are, and how one logs in there."""

from __future__ import annotations

import getpass
import os
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import interruption

KeyOption = Annotated[Path | None, typer.Option("--key", metavar="FILE", help="SFTP: the private key to log in with.")]
KnownHostsOption = Annotated[
    Path | None,
    typer.Option("--known-hosts", metavar="FILE", help="SFTP: trusted host keys; default ~/.ssh/known_hosts."),
]
CertificatesOption = Annotated[
    Path | None,
    typer.Option("--certificates", metavar="FILE", help="FTPS: trusted certificates (PEM) beside the usual."),
]
FilesOption = Annotated[
    str | None,
    typer.Option(
        "--from",
        metavar="SOURCE",
        help="The account's home: a folder, or sftp://, ftp:// or ftps://user@host/path. Default: survey_from.",
        show_default=False,
    ),
]


def secrets(key: Path | None, known_hosts: Path | None, certificates: Path | None) -> kettlepost.Secrets:
    """How the user proves who they are; a password is asked for when it is needed."""
    interruption.watch()
    return kettlepost.Secrets(_asking(), key, known_hosts, certificates)


def _asking() -> Callable[[str], str | None]:
    """Gives the password from the environment, else asks for it once for each login."""
    lock, known = threading.Lock(), dict[str, str]()

    def password(who: str) -> str | None:
        from kettlepost.render.remedies import PASSWORD_VARIABLE

        given = os.environ.get(PASSWORD_VARIABLE)
        if given is not None:
            return given
        with lock:
            if who not in known and sys.stdin.isatty():
                known[who] = getpass.getpass(f"Password of {who}: ", stream=sys.stderr)
            return known.get(who)

    return password


class Progress:
    """Says on a terminal how far something long has come, a few times a second; `words` has two numbers to fill in."""

    def __init__(self, words: str) -> None:
        self._words = words
        self._shows = sys.stderr.isatty()
        self._next = time.monotonic() + 0.7
        self._shown = False

    def seen(self, first: int, second: int) -> None:
        if self._shows and time.monotonic() >= self._next:
            self._next = time.monotonic() + 0.2
            self._shown = True
            sys.stderr.write("\r\x1b[K" + self._words.format(f"{first:,}", f"{second:,}"))
            sys.stderr.flush()

    def clear(self) -> None:
        if self._shown:
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()
