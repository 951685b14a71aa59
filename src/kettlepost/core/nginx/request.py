"""What a visitor gets from nginx: a request led through its phases, as the server does it.

Rewriting of the server, the location, rewriting there (and the location again where the address became another), who
gets in, `try_files`, then a program, an index file, a list, or the file itself. An internal redirect begins all anew.
"""

from __future__ import annotations

import posixpath
from collections.abc import Iterable
from typing import NamedTuple

from kettlepost.core.messages import say
from kettlepost.core.nginx.contexts import REWRITING, Context, found_location
from kettlepost.core.nginx.servers import NginxServers, ServerMatch
from kettlepost.core.nginx.variables import Variables
from kettlepost.core.webserver.access import restricting
from kettlepost.core.webserver.configuration import ConfigurationLine
from kettlepost.core.webserver.escaping import nginx_path, nginx_redirect
from kettlepost.core.webserver.networks import is_within
from kettlepost.core.webserver.patterns import PatternTrouble, taken
from kettlepost.core.webserver.state import (
    AnswerNotes,
    Reply,
    ServerRequest,
    Site,
    Stands,
    UnknownValue,
    clean,
    resolve_unknowns,
)

MOST_CHANGES = 10
"""How often an address becomes another within a server at most; one more is an error (500)."""
_INDEX = ("index.html",)
_CONTENT_METHODS = ("GET", "HEAD", "POST")


class _Refused(Exception):  # a status is given, as where a phase of the server ends
    def __init__(self, status: int, location: str | None = None, text: bool = False):
        super().__init__(status)
        self.status, self.location, self.text = status, location, text


class _Answered(Exception):
    def __init__(self, reply: Reply):
        super().__init__()
        self.reply = reply


class Rewritten(NamedTuple):
    """How going through lines in order ended: whether the address became another, and whether it is looked at anew."""

    changed: bool
    ends: bool


def nginx_reply(servers: NginxServers, found: ServerMatch, site: Site, request: ServerRequest) -> Reply:
    """What a visitor gets from one server who asks for an address."""

    def reply(notes: AnswerNotes) -> Reply:
        if request.untold is not None:
            notes.doubt(None, request.untold)
        uri = clean(request.path, takes_slashes=True)
        return notes.reply(uri) if isinstance(uri, int) else _Request(servers, found, site, request, notes).run(uri)

    return resolve_unknowns(reply)


class _Request:
    def __init__(
        self, servers: NginxServers, found: ServerMatch, site: Site, request: ServerRequest, notes: AnswerNotes
    ):
        self._servers = servers
        self.server = servers.context(found.server)
        self.site, self.request, self.notes = site, request, notes
        self.context = self.server
        self.uri = ""
        self.args = request.query
        self.method = request.visitor.method.upper()
        self.changes = MOST_CHANGES + 1
        self.is_internal = False
        self.first_error: int | None = None
        self.is_failing = False
        self.variables = Variables(self, servers, found)
        slashes = self.server.single("merge_slashes")
        if slashes is not None and slashes.words == ("off",) and "//" in request.path:
            notes.doubt(self.server.source_line(slashes), say("doubt/several-slashes"))
        if request.host not in found.server.names:
            section = found.server.section
            words = " ".join(("server", "{ server_name", *found.server.names, "}"))
            notes.note(self.server.source_line(section)._replace(text=words))

    # -- phases

    def run(self, uri: str) -> Reply:
        """Answer for an address of the host."""
        try:
            return self._run(uri)
        except _Answered as answered:
            return answered.reply

    def _run(self, uri: str) -> Reply:
        self.uri = uri
        verifies = self.server.single("ssl_verify_client")
        if self.request.scheme == "https" and verifies is not None and verifies.words == ("on",):
            return self.notes.reply(400)  # a visitor has no certificate
        while True:
            try:
                return self._from_the_server()
            except _Refused as refused:
                reply = self._failed(refused)
                if reply is not None:
                    return reply

    def _from_the_server(self) -> Reply:
        self.context = self.server
        self._rewrite(self.server)
        return self._from_the_location()

    def _from_the_location(self) -> Reply:
        while True:
            self._find_location()
            if self._rewrite(self.context).changed:
                self._count()
                continue
            return self._in_location()

    def _count(self) -> None:
        self.changes -= 1
        if self.changes <= 0:
            raise _Refused(500)

    def _find_location(self) -> None:
        """The location that is for the address as it is now."""
        self.context = self.server
        try:
            for one in found_location(self.server, self.uri):
                if isinstance(one, Context):
                    self.context = one
                    self.notes.note(one.line)
                else:
                    self.variables.take(one)
        except PatternTrouble:
            self.notes.doubt(self.context.line, say("doubt/pattern-not-run"))
        at = self.context
        program = self.server.with_slash(self.uri)
        if program is not None and at.path != self.uri and at.kind not in ("~", "~*"):
            raise _Refused(301, self._whole(f"{nginx_path(self.uri)}/") + self._query())
        if "internal" in at.said and not self.is_internal:
            raise _Refused(404)
        for line in at.odd:
            self.notes.doubt(line, say("doubt/directive"))

    def _in_location(self) -> Reply:
        self._admit()
        self._try_files()
        return self._content()

    # -- rewriting

    def _rewrite(self, context: Context) -> Rewritten:
        result = self._gone_through(context.rewriting, context)
        return Rewritten(result.changed and context is not self.server, result.ends)

    def _gone_through(self, lines: Iterable[ConfigurationLine], context: Context) -> Rewritten:
        """Carry lines out in their order, until one ends it."""
        changed = False
        for line in lines:
            outcome = self._carried_out(line, context)
            changed = changed or outcome.changed
            if outcome.ends:
                return outcome
        return Rewritten(changed, False)

    def _carried_out(self, line: ConfigurationLine, context: Context) -> Rewritten:
        """Carry one line out; what answers by itself ends the request."""
        name, words = line.name, line.words
        if name == "set" and len(words) == 2:
            self.variables.set(words[0].lstrip("$"), self.variables.filled(words[1]))
        elif name == "return" and words:
            self._return(line, context)
        elif name == "rewrite" and len(words) > 1:
            flag = self._rewrite_line(line, context)
            return Rewritten(flag not in (None, "break"), flag in ("last", "break"))
        elif name == "if" and self._holds(line, context):
            return self._in_block(line, context)
        return Rewritten(False, name == "break")

    def _in_block(self, line: ConfigurationLine, context: Context) -> Rewritten:
        """Carry out what stands in an `if` that is met; what is no rewriting makes a location of its own of it."""
        self.notes.note(context.source_line(line))
        inner = line.inner or ()
        rewriting = [one for one in inner if one.name in REWRITING]
        if context is not self.server and not rewriting:
            self.notes.doubt(context.source_line(line), say("doubt/block-leaves"))
        for one in inner:
            if one.name not in REWRITING:
                self.notes.doubt(context.source_line(one), say("doubt/line-in-block"))
        return self._gone_through(rewriting, context)

    def _return(self, line: ConfigurationLine, context: Context) -> None:
        words = line.words
        self.notes.note(context.source_line(line))
        code = int(words[0]) if words[0].isdigit() else 302
        text = words[1] if len(words) > 1 else words[0] if not words[0].isdigit() else None
        if code in (301, 302, 303, 307, 308) and text is not None:
            goes = self.variables.filled(text)
            self._doubt_value(goes, line, context)
            raise _Refused(code, self._whole(str(goes)) if goes.startswith("/") else str(goes))
        if code == 444:
            self.notes.doubt(context.source_line(line), say("doubt/connection-closed"))
        if text is not None:
            raise _Answered(self.notes.reply(code))
        raise _Refused(code)

    def _rewrite_line(self, line: ConfigurationLine, context: Context) -> str | None:
        """What one line makes of the address: None where it does not fit, else its flag, or nothing."""
        pattern, target, *flags = line.words
        flag = flags[0] if flags else ""
        try:
            took = taken(pattern, self.uri)
        except PatternTrouble:
            self.notes.doubt(context.source_line(line), say("doubt/pattern-not-run"))
            return None
        if took is None:
            return None
        self.notes.note(context.source_line(line))
        self.variables.take(took)
        leads = flag in ("redirect", "permanent") or target.startswith(("http://", "https://", "$scheme"))
        keeps, is_coded = not target.endswith("?"), "%" in self.request.path or "+" in self.request.path
        before, mark, behind = target.removesuffix("?").partition("?")
        path = self.variables.filled(before, is_coded and leads)
        query = self.variables.filled(behind, is_coded)
        for value in (path, query):
            self._doubt_value(value, line, context)
        if keeps and self.args:
            query = f"{query}&{self.args}" if mark and query else self.args
            mark = "?"
        elif not keeps and not query:
            mark = ""
        if leads:
            whole = nginx_redirect(path)
            goes_to = self._whole(whole) if path[:1] == "/" or "://" not in path else whole
            raise _Refused(301 if flag == "permanent" else 302, goes_to + (f"?{query}" if mark else ""))
        self.uri, self.args = path or "/", (query if mark else None)
        if not self.uri.startswith("/"):
            self.uri = f"/{self.uri}" if self.context is not self.server else self.uri
        return flag

    def _doubt_value(self, value: str, line: ConfigurationLine, context: Context) -> None:
        if isinstance(value, UnknownValue):
            self.notes.doubt(context.source_line(line), value.on)

    def _holds(self, line: ConfigurationLine, context: Context) -> bool:
        """Whether what an `if` asks for is so."""
        words = [word for word in (" ".join(line.words).strip(),) if word]
        text = words[0].strip() if words else ""
        text = text[1:-1].strip() if text.startswith("(") and text.endswith(")") else text
        return self.variables.holds(text, line, context)

    # -- who gets in

    def _admit(self) -> None:
        context = self.context
        limit = context.own("limit_except")
        if limit is not None and restricting(self.method) not in {restricting(word) for word in limit.words}:
            inner = limit.inner or ()
            if any(line.name == "deny" and line.words == ("all",) for line in inner):
                self.notes.note(context.source_line(limit))
                raise _Refused(403)
        verdicts = [self._by_address(), self._by_password()]
        refused = [status for status in verdicts if status]
        satisfy = context.single("satisfy")
        if satisfy is None or satisfy.words != ("any",):
            if refused:
                raise _Refused(refused[0])
        elif refused and 0 not in verdicts:
            raise _Refused(401 if 401 in refused else 403)

    def _by_address(self) -> int | None:
        """How a visitor is refused for where they come from, 0 where they are let in for it; None where nobody asks."""
        for line in self.context.access:
            if line.words and (line.words[0] == "all" or is_within(self.request.visitor.ip, line.words[0])):
                self.notes.note(self.context.source_line(line))
                return 403 if line.name == "deny" else 0
        return None

    def _by_password(self) -> int | None:
        """The same for whether they have logged in."""
        asks = self.context.single("auth_basic")
        if asks is None or not asks.words or self.variables.filled(asks.words[0]) == "off":
            return None
        source_line = self.context.source_line(asks)
        if self.context.single("auth_basic_user_file") is None:  # without which nobody is asked
            is_told = self._servers.names_users
            if is_told or not self.notes.decide("users", source_line, say("doubt/file-of-users"), True):
                return None
        if not self.request.visitor.is_known:
            self.notes.note(source_line)
        return 0 if self.request.visitor.is_known else 401

    # -- what lies there

    def root(self) -> str:
        """The folder in which the files of the location lie."""
        line = self.context.place[0]
        if line is None or not line.words:
            return "/etc/nginx/html"
        filled = self.variables.filled(line.words[0])
        self._doubt_value(filled, line, self.context)
        return str(filled)

    def file_of(self, uri: str) -> str:
        """The path of the machine that an address leads to."""
        line, path, kind = self.context.place
        root = self.root()
        if line is not None and line.name == "alias":
            if kind in ("~", "~*"):
                return root
            return root + uri[len(path) :]
        return root.rstrip("/") + uri

    def lies(self, path: str) -> Stands:
        """What lies at a path of the machine; where it lies outside of the account nothing tells."""
        ends = path.endswith("/")
        whole = posixpath.normpath(path)
        if not self.request.is_inside(whole):
            on = say("doubt/lies-outside", place=whole)
            return "file" if self.notes.decide(("there", whole), None, on) else "nothing"
        relative = self.request.relative(whole)
        lies = self.site.stands(relative)
        if lies == "unknown":
            if self.site.is_link(relative):
                self.notes.doubt(None, say("doubt/behind-link", place=relative))
            return (
                "file"
                if self.notes.decide(("there", relative), None, say("doubt/is-there", place=relative))
                else "nothing"
            )
        return "nothing" if ends and lies == "file" else lies

    def _try_files(self) -> None:
        line = self.context.own("try_files")
        if line is None or len(line.words) < 2:
            return
        place, own_path, kind = self.context.place
        is_alias = place is not None and place.name == "alias"
        for word in line.words[:-1]:
            wants_folder = word.endswith("/")
            tried = str(self.variables.filled(word[:-1] if wants_folder else word))
            if is_alias and kind not in ("~", "~*"):
                path = self.root() + (tried[len(own_path) :] if tried.startswith(own_path) else tried)
            else:
                path = self.root().rstrip("/") + (tried if tried.startswith("/") else f"/{tried}")
            if self.lies(path) == ("folder" if wants_folder else "file"):
                if tried != self.uri:
                    self.notes.note(self.context.source_line(line))
                self.uri = tried if tried.startswith("/") else f"/{tried}"
                return
        last = line.words[-1]
        self.notes.note(self.context.source_line(line))
        if last.startswith("="):
            raise _Refused(int(last[1:]) if last[1:].isdigit() else 404)
        self.notes.handed = self.context.source_line(line)
        if last.startswith("@"):
            self._jump(last)
        goes = self.variables.filled(last)
        self._doubt_value(goes, line, self.context)
        path, mark, query = goes.partition("?")
        self._internally(path, query if mark else None)

    def _internally(self, uri: str, args: str | None) -> None:
        """Begin anew for another address of the host, as an internal redirect does."""
        self._count()
        self.uri = uri if uri.startswith("/") else f"/{uri}"
        self.args, self.is_internal = args, True
        raise _Answered(self._run(self.uri))

    def _jump(self, name: str) -> None:
        """Go on in a location that has a name."""
        self._count()
        found = self.server.named(name)
        if found is None:
            raise _Refused(500)
        self.is_internal = True
        self.context = found
        self.notes.note(found.line)
        try:
            if self._rewrite(found).changed:
                raise _Answered(self._from_the_location())
            raise _Answered(self._in_location())
        except _Refused as refused:
            reply = self._failed(refused)
            raise _Answered(reply if reply is not None else self._run(self.uri)) from None

    def _content(self) -> Reply:
        passing = self.context.passing
        if passing is not None:
            return self._passed(passing)
        if self.method not in _CONTENT_METHODS:
            raise _Refused(405)
        path, uri = self.file_of(self.uri), self.uri
        inside = self.request.is_inside(posixpath.normpath(path))
        if not inside:
            return self.notes.reply(0, passed_to=say("doubt/place-outside", place=posixpath.normpath(path)))
        lies = self.lies(path.rstrip("/") or "/")
        relative = self.request.relative(posixpath.normpath(path))
        if uri.endswith("/"):
            return self._index(path, lies, relative)
        if lies == "folder":
            raise _Refused(301, self._whole(f"{nginx_path(uri)}/") + self._query())
        if lies == "nothing":
            raise _Refused(404)
        if self.method == "POST":
            raise _Refused(405)
        return self._given(relative)

    def _given(self, relative: str) -> Reply:
        return self.notes.reply(self.first_error or 200, file=relative)

    def _index(self, path: str, lies: Stands, relative: str) -> Reply:
        if lies != "folder":
            raise _Refused(404)
        lines = self.context.several("index")
        names = [word for line in lines for word in line.words] or list(_INDEX)
        for name in names:
            filled = str(self.variables.filled(name))
            if filled.startswith("/"):
                self._internally(filled, self.args)
            if self.lies(path + filled) == "file":
                for line in lines:
                    self.notes.note(self.context.source_line(line))
                self._internally(self.uri + filled, self.args)
        listed = self.context.single("autoindex")
        if listed is not None and listed.words == ("on",) and self.method != "POST":
            self.notes.note(self.context.source_line(listed))
            return self.notes.reply(200, folder=relative)
        raise _Listless(relative)

    def _passed(self, line: ConfigurationLine) -> Reply:
        """What another program gives; of PHP's own, the file that it runs."""
        context = self.context
        if line.name != "fastcgi_pass":
            target = str(self.variables.filled(" ".join(line.words)))
            self.notes.note(context.source_line(line))
            return self.notes.reply(0, passed_to=say("doubt/program", target=target) if line.words else line.name)
        params = [one for one in context.several("fastcgi_param") if one.words[:1] == ("SCRIPT_FILENAME",)]
        told = params[-1].words[1] if params and len(params[-1].words) > 1 else "$document_root$fastcgi_script_name"
        file = posixpath.normpath(str(self.variables.filled(told)))
        self.notes.note(context.source_line(line))
        if not self.request.is_inside(file):
            return self.notes.reply(0, passed_to=say("doubt/place-outside", place=file))
        at = file
        while self.request.is_inside(at) and at != self.request.home:  # PHP takes what stands behind a script's name
            relative = self.request.relative(at)
            lies = self.site.stands(relative)
            if lies == "unknown":
                lies = self.lies(at)
            if lies == "file":
                if not at.endswith(self.request.server.php_files):
                    raise _Answered(self.notes.reply(403))
                return self._given(relative)
            if lies == "folder":
                break
            at = at.rpartition("/")[0]
        catches = context.single("fastcgi_intercept_errors")
        if catches is not None and catches.words == ("on",):
            raise _Refused(404)
        return self.notes.reply(self.first_error or 404)

    def script_name(self) -> str:
        """The name of the script as it is told to a program: behind a slash, with the index file of programs."""
        context, uri = self.context, self.uri
        split = context.single("fastcgi_split_path_info")
        if split is not None and split.words:
            try:
                took = taken(split.words[0], uri)
            except PatternTrouble:
                took = None
                self.notes.doubt(context.source_line(split), say("doubt/pattern-not-run"))
            if took is not None and len(took.groups) > 1:
                self.variables.path_info = took.groups[2] if len(took.groups) > 2 else ""
                return took.groups[1]
        index = context.single("fastcgi_index")
        return uri + index.words[0] if uri.endswith("/") and index is not None and index.words else uri

    # -- errors and addresses

    def _failed(self, refused: _Refused) -> Reply | None:
        """What is shown for a status: a page that is named for it, or the server's own; None to begin anew."""
        status = refused.status
        folder = refused.folder if isinstance(refused, _Listless) else None
        asks = status == 401
        if refused.location is not None and not self.is_failing and not self._page(status):
            return self.notes.reply(status, location=refused.location)
        again = self.context.single("recursive_error_pages")
        if self.is_failing and (again is None or again.words != ("on",)):
            code = self.first_error if status < 300 and self.first_error is not None else status
            return self.notes.reply(code, location=refused.location, folder=folder, asks=asks)
        line = self._page(status)
        if line is None:
            return self.notes.reply(status, location=refused.location, folder=folder, asks=asks)
        self.notes.note(self.context.source_line(line))
        target, given = line.words[-1], self._given_status(line, status)
        if target.startswith(("http://", "https://")) or ("://" in target and "$" in target):
            goes = str(self.variables.filled(target))
            return self.notes.reply(given if given in (301, 302, 303, 307, 308) else 302, location=goes)
        self.is_failing = True
        self.first_error = given or None
        try:
            if target.startswith("@"):
                self._jump(target)
            self.method = "GET" if self.method != "HEAD" else "HEAD"
            goes = self.variables.filled(target)
            path, mark, query = goes.partition("?")
            self._internally(path, query if mark else None)
        except _Answered as answered:
            reply = answered.reply
            if asks and reply.status == 401:
                reply = reply._replace(asks_password=True)
            return reply
        except _Refused as again_refused:
            return self.notes.reply(
                again_refused.status, location=again_refused.location, asks=again_refused.status == 401
            )
        return None

    def _page(self, status: int) -> ConfigurationLine | None:
        """The page that is named for a status; none any more once the address has become another too often."""
        pages = self.context.several("error_page") if self.changes > 0 else []
        return next((line for line in pages if str(status) in line.words[:-1]), None)

    @staticmethod
    def _given_status(line: ConfigurationLine, status: int) -> int:
        """The status with which a page for errors is given; 0 for that of the page."""
        told = next((word for word in line.words[:-1] if word.startswith("=")), None)
        if told is None:
            return status
        return int(told[1:]) if told[1:].isdigit() else 0

    def _whole(self, path: str) -> str:
        """An address of the host, as a browser takes it."""
        named = self.context.single("server_name_in_redirect")
        by_name = named is not None and named.words == ("on",) and self.variables.server_name
        return f"{self.request.scheme}://{self.variables.server_name if by_name else self.request.host}{path}"

    def _query(self) -> str:
        return f"?{self.args}" if self.args else ""


class _Listless(_Refused):
    """A folder without an index file that is not listed."""

    def __init__(self, folder: str):
        super().__init__(403)
        self.folder = folder
