"""A request on its way through a server: what was asked, what is known of it so far, what it gets."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Hashable, Mapping
from typing import Literal, NamedTuple, Protocol
from urllib.parse import unquote

from msgspec import Struct, field

from kettlepost.core.messages import Message, Words, say
from kettlepost.core.webserver.access import Visitor
from kettlepost.core.webserver.control import Control
from kettlepost.core.webserver.server import SERVERS, WHETHER_IT_LISTS, WebServer
from kettlepost.core.webserver.settings import DirectorySettings, SourceLine
from kettlepost.core.webserver.virtual_hosts import HostSetup

HeldAt = dict[tuple[str, str, tuple[bool, ...], str], tuple[DirectorySettings, tuple[Control, ...], WebServer]]
Stands = Literal["file", "folder", "nothing", "unknown"]
SAFE = "/~!$&'()*+,;=:@"
"""What stands in a path as it is (RFC 3986), beside letters, digits and `-._`."""
WHOLE = re.compile(r"[a-z][a-z0-9+.-]*://", re.IGNORECASE)
"""How a whole URL begins."""
REDIRECTING = "redirect-handler"


class Site(Protocol):
    """The folders and files of an account, as a server finds them; paths are told from the home.

    `held` is what was found to hold in each folder, kept from one request to the next.
    """

    @property
    def held(self) -> HeldAt:
        """By folder, method, what is assumed of the server, and its host where its configuration is known.

        The settings there, the control files on the way, and what those may do.
        """

    def stands(self, path: str) -> Stands:
        """What lies at a path, where links lead."""

    def is_link(self, path: str) -> bool:
        """Whether the path itself is a symbolic link."""

    def has_variant(self, path: str) -> bool | None:
        """Whether a file lies there whose name is this one with an ending; None where that is not known."""

    def is_empty_file(self, path: str) -> bool | None:
        """Whether a file has no bytes; None where that is not known."""

    def control(self, folder: str) -> Control | None:
        """The control file that lies in a folder."""


class ServerRequest(Struct, frozen=True):
    """A request, and how its host is set up: where its document root and its path alias lead.

    `alias` is the path that leads to `root` where that is not the whole host. `home` is where the
    account's home lies on the machine, which patterns may see; it `is_home_told`, or assumed. `server` is
    what is known of the server, `others` the folders of all path aliases
    of a host that has several, `setup` how its configuration has the host, where that was read; `untold` is what
    nobody says of which of its hosts answers, such as the address at which visitors arrive.
    """

    host: str
    path: str
    root: str
    query: str | None = None
    alias: str = ""
    document_root: str | None = None
    scheme: str = "http"
    home: str = "/home/account"
    is_home_told: bool = True
    server: WebServer = SERVERS["apache"]
    visitor: Visitor = field(default_factory=Visitor)
    setup: HostSetup | None = None
    untold: Message | None = None
    others: Mapping[str, str] = field(default_factory=dict)

    @property
    def own_name(self) -> str:
        """The name that the server has for the host: the one asked for, or its own where it insists on that."""
        return (self.setup.canonical_name if self.setup is not None else None) or self.host

    @property
    def index_files(self) -> tuple[str, ...]:
        """The files that are shown for a folder where no control file says which."""
        return self.server.index_files or ("index.html",)

    def absolute(self, folder: str) -> str:
        """A folder of the account as the machine knows it."""
        return f"{self.home}/{folder}" if folder else self.home

    def is_inside(self, filename: str) -> bool:
        """Whether a path of the machine lies in the account's home."""
        return filename == self.home or filename.startswith(f"{self.home}/")

    def relative(self, filename: str) -> str:
        """A path of the machine told from the home; of several slashes in a row one counts."""
        path = filename[len(self.home) :].strip("/")
        return posixpath.normpath(f"/{path}")[1:] if "//" in path or "./" in path or path.endswith("/..") else path

    def mapped(self, uri: str) -> tuple[str | None, str]:
        """The folder in which a path begins, and what is left of the path."""
        rest, alias = uri.strip("/"), self.alias.strip("/")
        path = rest if self.others else ""
        while path:
            if path in self.others:
                return self.others[path], rest[len(path) :].strip("/")
            path = path.rpartition("/")[0]
        if not alias:
            return self.root, rest
        if rest == alias or rest.startswith(alias + "/"):
            return self.root, rest[len(alias) :].strip("/")
        return self.document_root, rest

    @property
    def host_root(self) -> str:
        """The document root of the host as a whole."""
        return self.document_root if self.alias and self.document_root is not None else self.root


class Reply(NamedTuple):
    """What a visitor gets: the status, the file whose content it is, or where the browser is sent.

    `lines` are the lines that had a say, in the order in which they took effect, each once. Where `doubts`
    is not empty, what is said holds only as far as those lines, and what is named there, allow.
    `folder` is one without an index file, `handed` the line that handed the request to another path. `passed_to`
    is the other server, or the program, that answers in this one's place: then the status, 0, is for that to say.
    """

    status: int
    file: str | None = None
    location: str | None = None
    lines: tuple[SourceLine, ...] = ()
    doubts: tuple[tuple[SourceLine | None, Message], ...] = ()
    folder: str | None = None
    asks_password: bool = False
    handed: SourceLine | None = None
    passed_to: Words = ""

    @property
    def is_sure(self) -> bool:
        """Whether all is known but, of a folder without an index file, whether that is listed."""
        return all(on == WHETHER_IT_LISTS for _, on in self.doubts)


Merged = tuple[object, ...]
"""What was merged for a request: two of the same are one set of settings to a server."""


class UnknownValue(str):
    """A value that nobody can know beforehand: what it would be most likely, and on what it depends."""

    def __new__(cls, value: str, on: Message, others: tuple[str, ...] = ()) -> UnknownValue:
        made = super().__new__(cls, value)
        made.on = on
        made.others = others
        return made

    on: Message
    others: tuple[str, ...]


class RequestState:
    """A request, or one within it, as far as it has come."""

    def __init__(self, uri: str, args: str | None, env: dict[str, str], is_sub: bool, method: str = "GET"):
        self.uri = uri
        self.args = self.asked_args = args
        self.env = env
        self.is_sub = is_sub
        self.method = method
        self.filename = ""
        self.path_info = ""
        self.stands: Stands = "nothing"
        self.settings = DirectorySettings()
        self.controls: tuple[Control, ...] = ()
        self.merged: Merged = ()
        self.handler = ""
        self.media_type = ""
        self.goes: str | None = None
        self.location: str | None = None
        self.status = 200
        self.forced: int | None = None
        self.passed_to: Words = ""
        self.handled_by = ""
        self.typed_by = ""
        self.by_rules = False
        self.ended = False
        self.escapes = True
        self.drops_path_info = False
        self.passes = False
        self.is_program = False
        self.server: WebServer | None = None

    @property
    def name(self) -> str:
        """The last part of the file's name."""
        return self.filename.rpartition("/")[2]

    @property
    def handled(self) -> str:
        """What handles the file in the end: what rules say, its handler, or a media type that names a program."""
        return self.handled_by or self.handler or self.typed_by or self.media_type

    def refuse(self, status: int) -> None:
        self.status = status

    def become(self, other: RequestState) -> None:
        """Go on as a request that was looked at within this one."""
        self.filename, self.path_info, self.stands = other.filename, other.path_info, other.stands
        self.settings, self.goes = other.settings, other.goes
        self.handler, self.media_type = other.handler, other.media_type
        self.uri, self.args = other.uri, other.args
        self.passed_to, self.is_program = other.passed_to, other.is_program


class Decision(NamedTuple):
    """A question with two answers of which nothing tells the right one, and the one that was taken."""

    source_line: SourceLine | None
    on: Message
    answer: bool


class AnswerNotes:
    """What is noted on the way: the lines that had a say, and what is not known.

    `forced` are the answers to the first questions that nothing tells; to those after them, the one
    that is given for each.
    """

    def __init__(self, forced: tuple[bool, ...] = ()) -> None:
        self.decisions: list[Decision] = []
        self._forced = forced
        self._decided: dict[Hashable, bool] = {}
        self._source_line: dict[SourceLine, None] = {}
        self._doubts: dict[tuple[SourceLine | None, Message], None] = {}
        self.is_rewriting_ended = False
        self.handed: SourceLine | None = None

    def note(self, source_line: SourceLine | None) -> None:
        if source_line is not None:
            self._source_line.setdefault(source_line)

    def doubt(self, source_line: SourceLine | None, on: Message) -> None:
        self._doubts.setdefault((source_line, on))

    def decide(self, about: Hashable, source_line: SourceLine | None, on: Message, usual: bool = False) -> bool:
        """An answer to a question that nothing tells, always the same for what it is `about`."""
        if about not in self._decided:
            number = len(self.decisions)
            answer = self._forced[number] if number < len(self._forced) else usual
            self.decisions.append(Decision(source_line, on, answer))
            self._decided[about] = answer
        return self._decided[about]

    def reply(
        self, status: int, file: str | None = None, location: str | None = None, folder: str | None = None,
        asks: bool = False, passed_to: Words = "",
    ) -> Reply:  # fmt: skip
        source_line, doubts = tuple(self._source_line), tuple(self._doubts)
        return Reply(status, file, location, source_line, doubts, folder, asks, self.handed, passed_to)

    @property
    def noted(self) -> dict[SourceLine, None]:
        """The lines that had a say so far."""
        return dict(self._source_line)

    @noted.setter
    def noted(self, source_line: dict[SourceLine, None]) -> None:
        self._source_line = source_line

    @property
    def last(self) -> SourceLine | None:
        """The line that had its say last."""
        return next(reversed(self._source_line), None)


MOST_WAYS = 40
"""How many ways to answer what is not known are gone through."""


WHICH_ADDRESS = say("doubt/server-address")


def resolve_unknowns(ask: Callable[[AnswerNotes], Reply]) -> Reply:
    """A reply, with what it depends on: all that may be is gone through, and what makes no difference is no doubt."""
    notes = AnswerNotes()
    first = ask(notes)
    doubts = dict.fromkeys(first.doubts)
    ways = [(first, notes.decisions, 0)]
    tried = 0
    while ways:
        reply, taken, settled = ways.pop()
        for at in range(settled, len(taken)):
            here = (taken[at].source_line, taken[at].on)
            if tried >= MOST_WAYS:
                doubts.setdefault(here)
                continue
            tried += 1
            notes = AnswerNotes((*(one.answer for one in taken[:at]), not taken[at].answer))
            other = ask(notes)
            if _gets(other) != _gets(reply):
                doubts.setdefault(here)
            doubts |= dict.fromkeys(other.doubts)
            ways.append((other, notes.decisions, at + 1))
    return first._replace(doubts=tuple(doubts))


def _gets(reply: Reply) -> tuple[object, ...]:
    return reply.status, reply.file, reply.location, reply.folder, reply.asks_password, reply.passed_to


def clean(path: str, takes_slashes: bool = False) -> str | int:
    """A path as a server maps it: decoded, one slash for several, no dot segments; a status where it is refused.

    Apache refuses slashes that are encoded; another server takes them for slashes.
    """
    if not takes_slashes and re.search(r"%2f|%00", path, re.IGNORECASE):
        return 404
    if "%" in path and re.search(r"%(?![0-9A-Fa-f]{2})", path):
        return 400
    if "%00" in path:
        return 400
    text = unquote(path, errors="surrogateescape")
    parts: list[str] = []
    pieces = text.split("/")
    for part in pieces:
        if part == "..":
            if not parts:
                return 400
            parts.pop()
        elif part not in ("", "."):
            parts.append(part)
    ends = text.endswith("/") or pieces[-1] in (".", "..")
    return "/" + "/".join(parts) + ("/" if ends and parts else "")
