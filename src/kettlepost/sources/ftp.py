"""A folder behind an FTP login as the source of a survey (RFC 959, RFC 3659), with TLS (RFC 4217) or without."""

from __future__ import annotations

import calendar
import ftplib
import io
import re
import ssl
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.survey import HEAD, Listing, Wanted
from kettlepost.sources.grouping import EntryKind, SourceEntry
from kettlepost.sources.listing import ls_entry
from kettlepost.sources.remote import RemotePlace, Secrets

_PATIENCE = 30
_KINDS: dict[str, EntryKind] = {"dir": "folder", "file": "file", "link": "link"}
_MODE = re.compile(r"[0-7]{1,6}")
_LINK = re.compile(r"OS\.unix=(?:slink|symlink)(?::(.*))?", re.IGNORECASE | re.DOTALL)


class FtpFolder:
    """Walks a folder over one FTP session, by machine-readable listings (MLSD) where the server has them."""

    contents = True

    def __init__(self, place: RemotePlace, secrets: Secrets, taken: str):
        self.place = place
        self.name = str(place)
        self._secrets = secrets
        self._year, self._month = int(taken[:4]), int(taken[5:7])
        self._readable = True

    def listings(self, wanted: Wanted, below: str = "") -> Iterator[Listing]:
        session: ftplib.FTP | None = None
        try:
            with self.told_errors():
                session = self.connect()
                yield from self._walk(session, wanted, below)
        finally:
            if session is not None:
                session.close()

    @contextmanager
    def told_errors(self) -> Iterator[None]:
        """Failures of a connection as OutsideError, in words."""
        try:
            yield
        except ftplib.error_perm as error:
            raise OutsideError(f"{self.name}: the server refused: {said(error)}; check user and password") from None
        except ssl.SSLCertVerificationError as error:
            raise OutsideError(
                f"{self.name}: the server's certificate is not trusted ({printable(error.verify_message)}); "
                "ask the host for the name its certificate is made out to, and use that"
            ) from None
        except (ftplib.Error, EOFError, ssl.SSLError) as error:
            raise OutsideError(f"{self.name}: the connection broke off ({said(error)}); try again") from None
        except OSError as error:
            raise OutsideError(f"{self.name}: {cause(error)}; check host and port, then try again") from None

    def connect(self) -> ftplib.FTP:
        """A session that is logged in."""
        place = self.place
        session: ftplib.FTP
        if place.scheme == "ftps":
            session = _FtpTls(context=_trust(self._secrets), timeout=_PATIENCE, encoding="latin-1")
        else:
            session = ftplib.FTP(timeout=_PATIENCE, encoding="latin-1")  # noqa: S321 (the user chose it)
        session.connect(place.host, place.port)
        if isinstance(session, ftplib.FTP_TLS):
            session.auth()
        password = self._secrets.password(place.who)
        session.login(place.user, password or "")
        if isinstance(session, ftplib.FTP_TLS):
            session.prot_p()
        return session

    def _walk(self, session: ftplib.FTP, wanted: Wanted, below: str) -> Iterator[Listing]:
        base = self.place.path.rstrip("/")
        session.voidcmd("TYPE I")
        if below and not self._is_folder(session, below):
            return
        waiting = [below]
        while waiting:
            folder = waiting.pop()
            there = f"{base}/{folder}" if folder else base or "/"
            try:
                items = self.items(session, there)
            except ftplib.error_perm as error:
                if not folder:
                    raise InputError(f"{self.name}: cannot list {printable(there)} ({said(error)})") from None
                yield Listing(folder, trouble=said(error).lower())
                continue
            listing = Listing(folder)
            for item in items:
                if item.kind == "folder":
                    waiting.append(f"{folder}/{item.path}" if folder else item.path)
                elif item.kind == "link":
                    listing.links.append((item.path, item.target))
                elif item.kind == "file":
                    listing.add(item.path, item.size, item.changed)
                    _look_into(session, there, listing, item, wanted)
                else:
                    listing.odd += 1
            yield listing

    def _is_folder(self, session: ftplib.FTP, folder: str) -> bool:
        """Whether each folder on the way is listed as one; where none may be listed, whether one can go there."""
        way = self.place.path.rstrip("/")
        for name in folder.split("/"):
            try:
                if not any(item.path == name and item.kind == "folder" for item in self.items(session, way or "/")):
                    return False
            except ftplib.error_perm as error:
                if not way:
                    raise InputError(f"{self.name}: cannot list / ({said(error)})") from None
                return True
            way = f"{way}/{name}"
        return True

    def items(self, session: ftplib.FTP, there: str) -> list[SourceEntry]:
        """What lies directly in a folder."""
        if self._readable:
            try:
                return list(_facts(session, there))
            except ftplib.error_perm as error:
                if not str(error).startswith(("500", "502")):  # RFC 959: the command is not known
                    raise
                self._readable = False
        return self.long_items(session, there)

    def long_items(self, session: ftplib.FTP, there: str) -> list[SourceEntry]:
        """The same as people are shown it."""
        lines: list[str] = []
        session.cwd(wired(there))
        session.retrlines("LIST -a", lines.append)
        found = (ls_entry(unwired(line), self._year, self._month) for line in lines)
        return [entry for entry in found if entry is not None and entry.path not in (".", "..")]


def _trust(secrets: Secrets) -> ssl.SSLContext:
    """The machine's trusted certificates, and those in the user's file."""
    context = ssl.create_default_context()
    if secrets.certificates is not None:
        try:
            context.load_verify_locations(secrets.certificates)
        except OSError as error:  # ssl.SSLError is one
            raise InputError(
                f"{printable(secrets.certificates)}: holds no certificates that can be read ({cause(error)})",
                Remedy(Do.NAME_CERTIFICATES),
            ) from None
    return context


class _FtpTls(ftplib.FTP_TLS):
    """Goes on with the TLS session of the control connection, as many servers demand of data connections."""

    def ntransfercmd(self, cmd: str, rest: int | str | None = None) -> tuple[Any, int | None]:
        connection, size = ftplib.FTP.ntransfercmd(self, cmd, rest)  # noqa: S321 (TLS follows)
        if self._prot_p:  # type: ignore[attr-defined]
            session = self.sock.session if isinstance(self.sock, ssl.SSLSocket) else None
            connection = self.context.wrap_socket(connection, server_hostname=self.host, session=session)
        return connection, size


def _facts(session: ftplib.FTP, there: str) -> Iterator[SourceEntry]:
    lines: list[str] = []
    session.retrlines(f"MLSD {wired(there)}", lines.append)
    for line in lines:
        facts, _, raw = line.partition(" ")
        known = dict(fact.partition("=")[::2] for fact in facts.lower().split(";") if fact)
        name, kind, target = unwired(raw), known.get("type", ""), ""
        link = _LINK.search(facts)
        if link:
            kind, target = "link", unwired(link[1] or "").rstrip(";")
        if kind in ("cdir", "pdir") or name in ("", ".", "..") or "/" in name:
            continue
        size = int(known["size"]) if known.get("size", "").isdecimal() else 0
        mode = known.get("unix.mode", "")
        yield SourceEntry(
            name, _KINDS.get(kind, "odd"), size, _changed(known.get("modify", "")), target,
            mode=int(mode, 8) & 0o7777 if _MODE.fullmatch(mode) else -1, unique=known.get("unique", ""),
        )  # fmt: skip


def _look_into(session: ftplib.FTP, there: str, listing: Listing, item: SourceEntry, wanted: Wanted) -> None:
    reading = wanted.ask(listing.folder, item.path, item.size) if wanted.has(item.path) else None
    if reading is None:
        return
    try:
        session.voidcmd("TYPE I")  # as it is, and not with other line ends (RFC 959 section 3.1.1)
        with (
            session.transfercmd(f"RETR {wired(there)}/{wired(item.path)}") as connection,
            connection.makefile("rb") as file,
        ):
            head = file.read(min(item.size, HEAD) + 1)
        listing.heads[item.path] = reading(io.BytesIO(head[:HEAD]))
    except ftplib.error_perm:
        return  # a file that may not be read speaks for nothing
    try:
        session.voidresp()
    except (ftplib.error_temp, ftplib.error_perm):
        return  # the server noticed that not all of the file was fetched


def _changed(stamp: str) -> int:
    """`YYYYMMDDHHMMSS` in UTC (RFC 3659 section 2.3) as seconds since 1970; 0 for anything else."""
    try:
        return calendar.timegm(time.strptime(stamp[:14], "%Y%m%d%H%M%S"))
    except ValueError:
        return 0


def wired(name: str) -> str:
    """A name as the session's encoding (Latin-1) carries its bytes unchanged."""
    return name.encode("utf-8", "surrogateescape").decode("latin-1")


def unwired(raw: str) -> str:
    """A name as it came over the wire, as it is."""
    return raw.encode("latin-1").decode("utf-8", "surrogateescape")


def said(error: Exception) -> str:
    """What a server said."""
    return printable(unwired(str(error))[:200]) if str(error) else "it said nothing"
