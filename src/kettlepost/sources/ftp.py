"""A folder behind an FTP login as the source of a survey (RFC 959, RFC 3659), with TLS (RFC 4217) or without."""

from __future__ import annotations

import ftplib
import io
import ssl
import time
from collections.abc import Iterable, Iterator
from contextlib import closing, contextmanager

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import HEAD, Listing, Wanted
from kettlepost.sources.ftp_listing import FtpListing, LongListing, unwired, wired
from kettlepost.sources.ftp_session import Session, TlsSession
from kettlepost.sources.grouping import EntryKind, SourceEntry
from kettlepost.sources.remote import Asking, RemotePlace, Secrets

_UNTELLABLE = frozenset("\r\n\0")
_OF_A_LINK = 200
"""How many bytes of memory a link takes that is not handed on yet, but for its name and target."""
_MOST_AT_ONCE = 20_000
"""How many files of a folder come in one listing."""


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
        self._has_itself = self._tells_links = False

    def listings(self, wanted: Wanted, below: str = "") -> Iterator[Listing]:
        session: Session | None = None
        try:
            with self.told_errors():
                session = self.connect()
                yield from self._walk(session, wanted, below)
        finally:
            if session is not None:
                session.close()

    @property
    def tells_facts(self) -> bool:
        """Whether the server has machine-readable listings, as far as it was asked."""
        return self._readable

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
        session.login(wired(place.user), wired(password or ""))  # as UTF-8 (RFC 2640)
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
                items = self._with_links(session, there, self.items(session, there))
            except (ftplib.error_perm, ftplib.error_temp) as error:
                if is_broken(error):
                    raise
                if not folder:
                    words = self._said(error)
                    raise InputError(f"{self.name}: cannot list {printable(there)} ({words})") from None
                yield Listing(folder, trouble=self._said(error).lower())
                continue
            yield from self._listed(session, folder, there, items, wanted, waiting)
            self.budget.let_go()

    def _listed(
        self,
        session: Session,
        folder: str,
        there: str,
        items: Iterable[SourceEntry],
        wanted: Wanted,
        waiting: list[str],
    ) -> Iterator[Listing]:
        """What lies in a folder, in as many listings as it takes; the folders in it are to wait."""
        listing = Listing(folder)
        for item in items:
            if len(listing.names) >= _MOST_AT_ONCE:
                yield listing
                listing = Listing(folder)
            if not _UNTELLABLE.isdisjoint(item.path):
                listing.odd += 1  # which no command can name
            elif item.kind == "folder":
                below_it = f"{folder}/{item.path}" if folder else item.path
                self.budget.listing(below_it, 0, ())
                waiting.append(below_it)
            elif item.kind == "link":
                self.budget.hold(_OF_A_LINK + len(item.path) + len(item.target))
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
            except (ftplib.error_perm, ftplib.error_temp) as error:
                if is_broken(error):
                    raise
                if not way:
                    raise InputError(f"{self.name}: cannot list / ({self._said(error)})") from None
                return True
            way = f"{way}/{name}"
        return True

    def items(self, session: ftplib.FTP, there: str) -> Iterable[SourceEntry]:
        """What lies directly in a folder."""
        if self._readable:
            lines: list[str] = []
            try:
                session.retrlines(f"MLSD {wired(there)}", lines.append)
                return FtpListing(lines)
            except ftplib.error_perm as error:
                if not str(error).startswith(("500", "502")):  # RFC 959: the command is not known
                    raise
                self._readable = False
        return self.long_items(session, there)

    def long_items(self, session: ftplib.FTP, there: str) -> Iterable[SourceEntry]:
        """The same as people are shown it. Raises ftplib.error_perm for a folder that the server could not read."""
        lines: list[str] = []
        session.cwd(wired(there))
        reply = session.retrlines("LIST -a", lines.append)
        found = LongListing(lines, reply, self._year, self._month)
        self._has_itself = self._has_itself or found.has_itself
        if found.is_none(self._has_itself):
            raise ftplib.error_perm("it is not listed: the server may not read it")  # noqa: S321
        return found

    def _with_links(self, session: Session, there: str, items: Iterable[SourceEntry]) -> Iterable[SourceEntry]:
        """The same with symbolic links as links, and where they lead to.

        Servers that are asked for facts may leave out the targets, or take a link for what it leads to.
        """
        kinds, aimless = set[EntryKind](), False
        for item in items:
            kinds.add(item.kind)
            aimless = aimless or (item.kind == "link" and not item.target)
        self._tells_links = self._tells_links or "link" in kinds
        if not self._readable or (not aimless and (self._tells_links or "folder" not in kinds)):
            return items
        try:
            links = {item.path: item for item in self.long_items(session, there) if item.kind == "link"}
        except (ftplib.error_perm, ftplib.error_temp) as error:
            if is_broken(error):
                raise
            return items
        return (links.get(item.path, item) for item in items)


def _trust(secrets: Secrets) -> ssl.SSLContext:
    """The machine's trusted certificates, and those in the user's file."""
    context = ssl.create_default_context()
    if secrets.certificates is not None:
        try:
            context.load_verify_locations(secrets.certificates)
        except OSError as error:  # ssl.SSLError is one
            raise InputError(
                f"{printable(secrets.certificates)}: holds no certificates that can be read ({cause(error)})",
                Remedy(Action.NAME_CERTIFICATES),
            ) from None
    return context


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
    except (ftplib.error_perm, ftplib.error_temp) as error:
        if is_broken(error):
            raise
        return  # a file that may not be read speaks for nothing
    try:
        session.voidresp()
    except (ftplib.error_temp, ftplib.error_perm):
        return  # the server noticed that not all of the file was fetched


def is_broken(error: Exception) -> bool:
    """Whether what the server refused is the connection as such, and not the one thing (RFC 959 section 4.2.1)."""
    return str(error).startswith(("421", "425", "426"))


def said(error: Exception) -> str:
    """What a server said."""
    return printable(unwired(str(error))[:200]) if str(error) else "it said nothing"
