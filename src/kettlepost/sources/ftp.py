"""A folder behind an FTP login as the source of a survey (RFC 959, RFC 3659), with TLS (RFC 4217) or without."""

from __future__ import annotations

import calendar
import ftplib
import io
import re
import ssl
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.survey import HEAD, Listing, Wanted
from kettlepost.sources.ftp_session import Session, TlsSession
from kettlepost.sources.grouping import NO_NAMES, EntryKind, SourceEntry
from kettlepost.sources.listing import ls_entry
from kettlepost.sources.remote import Asking, RemotePlace, Secrets

_KINDS: dict[str, EntryKind] = {"dir": "folder", "file": "file", "link": "link"}
_MODE = re.compile(r"[0-7]{1,6}")
_LINK = re.compile(r"OS\.unix=(?:slink|symlink)(?::(.*))?", re.IGNORECASE | re.DOTALL)
_NUMBER = re.compile(r"[0-9]{1,19}")
_UNTELLABLE = frozenset("\r\n\0")


class FtpFolder:
    """Walks a folder over one FTP session, by machine-readable listings (MLSD) where the server has them."""

    contents = True

    def __init__(self, place: RemotePlace, secrets: Secrets, taken: str, limits: Limits | None = None):
        self.place, self.limits = place, limits
        self.name = str(place)
        self.budget = Budget(self.name, limits, time.monotonic)
        self._secrets, self._asking = secrets, Asking(secrets)
        self._year, self._month = int(taken[:4]), int(taken[5:7])
        self._readable = True

    def listings(self, wanted: Wanted, below: str = "") -> Iterator[Listing]:
        session: Session | None = None
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
            raise OutsideError(
                f"{self.name}: the server refused: {self._said(error)}; check user and password"
            ) from None
        except ssl.SSLCertVerificationError as error:
            raise OutsideError(
                f"{self.name}: the server's certificate is not trusted ({printable(error.verify_message)}); "
                "ask the host for the name its certificate is made out to, and use that"
            ) from None
        except (ftplib.Error, EOFError, ssl.SSLError) as error:
            raise OutsideError(f"{self.name}: the connection broke off ({self._said(error)}); try again") from None
        except OSError as error:
            raise OutsideError(f"{self.name}: {cause(error)}; check host and port, then try again") from None
        except (ValueError, OverflowError, LookupError):
            raise OutsideError(f"{self.name}: the server said something that is no answer") from None

    def _said(self, error: Exception) -> str:
        return self._asking.hidden(said(error))

    def connect(self) -> Session:
        """A session that is logged in."""
        place = self.place
        secure = place.scheme == "ftps"
        session = TlsSession(self.budget, context=_trust(self._secrets)) if secure else Session(self.budget)
        self.budget.go_on()
        session.connect(place.host, place.port)
        if isinstance(session, TlsSession):
            session.auth()
        password = self._asking.password(place.who)
        self.budget.go_on()  # it was the user who was waited for
        if "\n" in place.user or "\r" in place.user or "\n" in (password or "") or "\r" in (password or ""):
            raise InputError(f"{self.name}: a user or password with a line end cannot be sent")
        session.login(place.user, password or "")
        if isinstance(session, TlsSession):
            session.prot_p()
        return session

    def _walk(self, session: Session, wanted: Wanted, below: str) -> Iterator[Listing]:
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
                    words = self._said(error)
                    raise InputError(f"{self.name}: cannot list {printable(there)} ({words})") from None
                yield Listing(folder, trouble=self._said(error).lower())
                continue
            listing = Listing(folder)
            for item in items:
                if not _UNTELLABLE.isdisjoint(item.path):
                    listing.odd += 1  # which no command can name
                elif item.kind == "folder":
                    below_it = f"{folder}/{item.path}" if folder else item.path
                    self.budget.listing(below_it, 0, ())
                    waiting.append(below_it)
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
                    raise InputError(f"{self.name}: cannot list / ({self._said(error)})") from None
                return True
            way = f"{way}/{name}"
        return True

    def items(self, session: ftplib.FTP, there: str) -> list[SourceEntry]:
        """What lies directly in a folder."""
        if self._readable:
            try:
                return [item for name, facts in session.mlsd(wired(there)) if (item := _told(name, facts)) is not None]
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
        return [entry for entry in found if entry is not None and entry.path not in NO_NAMES and "/" not in entry.path]


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


def _told(raw: str, facts: dict[str, str]) -> SourceEntry | None:
    """What the facts of one thing say (RFC 3659 section 7); None where it is no thing in the folder."""
    name, kind, target = unwired(raw), facts.get("type", ""), ""
    link = _LINK.fullmatch(kind)
    if link:
        kind, target = "link", unwired(link[1] or "")
    kind = kind.lower()
    if kind in ("cdir", "pdir") or name in NO_NAMES or "/" in name:
        return None
    size, mode = facts.get("size", ""), facts.get("unix.mode", "")
    return SourceEntry(
        name, _KINDS.get(kind, "odd"), int(size) if _NUMBER.fullmatch(size) else 0, _changed(facts.get("modify", "")),
        target, mode=int(mode, 8) & 0o7777 if _MODE.fullmatch(mode) else -1, unique=facts.get("unique", "").lower(),
    )  # fmt: skip


def _look_into(session: Session, there: str, listing: Listing, item: SourceEntry, wanted: Wanted) -> None:
    reading = wanted.ask(listing.folder, item.path, item.size) if wanted.has(item.path) else None
    if reading is None:
        return
    try:
        session.voidcmd("TYPE I")  # as it is, and not with other line ends (RFC 959 section 3.1.1)
        head, most = b"", min(item.size, HEAD) + 1
        with closing(session.pieces(f"RETR {wired(there)}/{wired(item.path)}")) as pieces:
            for piece in pieces:
                head += piece
                if len(head) >= most:
                    break
        listing.heads[item.path] = reading(io.BytesIO(head[: min(most, HEAD)]))
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
