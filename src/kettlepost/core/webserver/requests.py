"""What a request gets from the Apache HTTP Server 2.4: carried through control files as the server does it.

The order is the server's own: the host's folder, control files from the home down, who gets in, then
rewriting (mod_rewrite), redirects (mod_alias), and the index, slash and fallback of folders
(mod_dir). An internal redirect begins all of it anew.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from urllib.parse import quote

from msgspec.structs import replace

from kettlepost.core.messages import Message, say
from kettlepost.core.secrets import MASK
from kettlepost.core.webserver.access import Case, Verdict, older_lets_in, required, restricting
from kettlepost.core.webserver.control import MOST_UNKNOWN, Control
from kettlepost.core.webserver.directives import Directive, Node
from kettlepost.core.webserver.escaping import apache_path, apache_target
from kettlepost.core.webserver.host_sections import HTACCESS
from kettlepost.core.webserver.host_walk import HostWalk, merge_paths, merge_sections
from kettlepost.core.webserver.mapping import filled, rest_of
from kettlepost.core.webserver.patterns import PatternTrouble, search
from kettlepost.core.webserver.rewriter import Rewriter, may_follow_links
from kettlepost.core.webserver.sections import ControlPart, is_first_condition
from kettlepost.core.webserver.server import HOW_PHP_RUNS, WHETHER_IT_LISTS, UnknownSetting, WebServer
from kettlepost.core.webserver.settings import DirectorySettings, RedirectLine, SourceLine, again, is_for_all
from kettlepost.core.webserver.state import (
    REDIRECTING,
    SAFE,
    AnswerNotes,
    Merged,
    Reply,
    RequestState,
    ServerRequest,
    Site,
    Stands,
    clean,
    resolve_unknowns,
)
from kettlepost.core.webserver.vocabulary import NOT_KEPT, titled

REDIRECTS = 10
"""How often a request is begun anew at most, and how deep one lies within another (LimitInternalRecursion)."""
_DENIED = (Directive("require", "all denied", 0),)
WHO_SAYS_SO = UnknownSetting("doubt/php-missing", key="php")
_PROGRAMS = frozenset(
    """type-map application/x-type-map cgi-script fcgid-script server-status server-info imap-file lua-script
    wsgi-script perl-script balancer-manager isapi-handler ldap-status""".split()
)
"""Handlers of modules, which give more than the file, or refuse it."""
_OWN_PAGES = frozenset(("server-status", "server-info", "balancer-manager", "ldap-status"))
"""Handlers that show a page of the server's own, whatever lies there."""
_ASKING = ("auth_basic", "auth_digest", "auth_form")
"""The modules that ask a visitor for a password."""
_WHOLE = re.compile(r"/|[A-Za-z][A-Za-z0-9+.-]*:")
"""How a place begins to which a browser can be sent."""
_OF_HOST, _OF_MODULE = "php", ("application/x-httpd-php", "php-script")
"""The handlers that run PHP: of files by their names, wherever PHP is, and those that its module has."""
"""What stands as it is in what is sent to a browser."""


def reply_to(site: Site, request: ServerRequest) -> Reply:
    """What a visitor gets who asks for an address.

    Where something is not known that decides, all that may be is gone through: what makes no difference
    in the end is no doubt.
    """
    return resolve_unknowns(lambda notes: _Server(site, request, notes).reply())


class _Server:
    def __init__(self, site: Site, request: ServerRequest, notes: AnswerNotes):
        self.site = site
        self.request = request
        self.notes = notes
        self.rewriter = Rewriter(site, request, self.notes)
        self._method = request.visitor.method
        self._nested = 0
        self._assumed: tuple[bool, ...] = ()
        self._begun = DirectorySettings(options=request.server.base_options)
        self._setup = request.setup
        self._first_error = 0

    def reply(self) -> Reply:
        if self.request.untold is not None:
            self.notes.doubt(None, self.request.untold)
        on = self._setup.doubts_path(self.request.path) if self._setup is not None else None
        if on is not None:
            self.notes.doubt(None, on)
        uri = clean(self.request.path)
        if isinstance(uri, int):
            return self.notes.reply(uri)
        return self._run(uri, self.request.query, {}, 0)

    # -- a request from its beginning to its end

    def _run(
        self, uri: str, args: str | None, env: dict[str, str], depth: int, status: int = 200, before: Merged = ()
    ) -> Reply:
        """Answer a request; `status` is what an earlier one has been given already, `before` what held for that."""
        if depth > REDIRECTS:
            return self.notes.reply(500 if status == 200 else status)
        state = self._looked(uri, args, env, is_sub=False, before=before)
        kept = state.forced if state.forced is not None and status == 200 else status
        if state.is_program and state.status == 200:
            self._settle(state)
            file = self.request.relative(state.filename)
            return self.notes.reply(200, file=file) if state.stands == "file" else self.notes.reply(404)
        if state.passed_to and state.status == 200:
            return self.notes.reply(0, passed_to=state.passed_to)
        if state.status != 200:
            return self._failed(state, state.status, depth, 200 if state.by_rules else status)
        if state.handler != REDIRECTING or state.goes is None:
            return self._handled(state, depth, status, kept)
        if state.handled_by:  # what is to handle the file is asked for what is no file, but an address
            self.notes.note(self.notes.last)
            if state.handled_by.startswith("proxy:"):
                self.notes.doubt(self.notes.last, say("doubt/which-program"))
            return self._failed(state, 404, depth, status)
        path, mark, query = state.goes.partition("?")
        goes = clean(quote(path, safe=SAFE + "%"))
        if isinstance(goes, int):
            return self.notes.reply(goes if kept == 200 else kept)
        self.notes.handed = self.notes.last
        return self._run(goes, query if mark else state.args, _redirected(state, kept), depth + 1, kept, state.merged)

    def _handled(self, state: RequestState, depth: int, status: int, kept: int) -> Reply:
        """Give the file, with the status that is kept for it, or what there is instead."""
        settings, path = state.settings, self.request.relative(state.filename)
        self._settle(state)
        if (program := self._program_of(state)) is not None:
            return self.notes.reply(0, passed_to=program)
        is_php = settings.runs_php and self._is_php(state.handled)
        method = restricting(state.method)
        is_program = state.handled in _PROGRAMS
        runs = is_php or is_program or state.handled.startswith("proxy:")
        if state.stands == "folder" and settings.runs_php and self._is_php(settings.handler or ""):
            return self._failed(state, 403, depth, status, folder=path)  # PHP runs no folder
        is_script = state.stands == "folder" and settings.handler == "cgi-script" and not runs
        if not runs and method not in ("GET", "POST") and not is_script:
            if method == "OPTIONS":  # which asks what may be done, and gets no content
                return self.notes.reply(kept, folder=path)
            return self._failed(state, 405, depth, status)
        if state.stands == "folder":
            if settings.handler and not runs:  # a script is no folder
                code = 403 if settings.handler == "cgi-script" else 404
                return self._failed(state, code, depth, status, folder=path)
            if method != "GET":  # lists are for those who ask by GET
                return self._failed(state, 404, depth, status, folder=path)
            if settings.says_lists:
                self.notes.note(settings.options_line)
            self.notes.note(settings.index_line)
            is_told = settings.says_lists or (self._setup is not None and self._setup.is_whole)
            if (
                ("lists" in settings.options and self.request.server.says("autoindex") is not False)
                if is_told
                else self._lists()
            ):
                return self.notes.reply(200, folder=path)
            return self._failed(state, 403, depth, status, folder=path)
        return self._file(state, depth, status, kept, runs, is_php)

    def _program_of(self, state: RequestState) -> Message | None:
        """What answers in place of a file: an application server, or the server itself with a page about it."""
        if state.settings.program_line is not None and state.stands != "file":
            self.notes.note(state.settings.program_line)
            return say("doubt/application-server")
        return say("doubt/server-own", handler=state.handled) if state.handled in _OWN_PAGES else None

    def _file(self, state: RequestState, depth: int, status: int, kept: int, runs: bool, is_php: bool) -> Reply:
        """Give a file, or say that it is not there."""
        settings = state.settings
        accepts = settings.path_info if settings.path_info is not None else runs
        if state.stands == "nothing" and is_php and state.handled.startswith("proxy:") and self._setup is not None:
            return (
                self.notes.reply(404) if not self._setup.shows_own_errors else self._failed(state, 404, depth, status)
            )
        if state.stands == "nothing" or (state.path_info and not accepts):
            if "php" in state.handled and 404 in settings.errors and status == 200 and self._says_so_itself():
                return self.notes.reply(404)
            return self._failed(state, 404, depth, status)
        if (state.handled.startswith("proxy:") and not is_php) or state.handled in _PROGRAMS:
            self.notes.doubt(None, say("doubt/which-program"))
        return self.notes.reply(kept, file=self.request.relative(state.filename))

    def _says_so_itself(self) -> bool:
        """Whether PHP, asked for a program that is not there, shows a page of its own in place of the host's."""
        if self.request.server.php != "module":
            return self.notes.decide("php's 404", None, WHO_SAYS_SO)
        return False

    def _is_php(self, handler: str) -> bool:
        """Whether a handler runs PHP: the host's own does, PHP's module's where that is, others where they are made."""
        if handler.startswith("proxy:") and "fcgi:" in handler and self._setup is not None:
            return True
        how = self.request.server.php
        if "php" not in handler or how == "none":
            return False
        if handler == _OF_HOST or (handler in _OF_MODULE and how == "module"):
            return True
        on: Message = (
            HOW_PHP_RUNS if handler in _OF_MODULE and how is None else say("doubt/what-is-there", handler=handler)
        )
        return self.notes.decide(("handler", handler), None, on, usual=True)

    def _lists(self) -> bool:
        """Whether the server lists folders by itself."""
        told = self.request.server.lists
        return self.notes.decide("lists", None, WHETHER_IT_LISTS) if told is None else told

    def _settle(self, state: RequestState) -> None:
        """Decide what lies where a request leads, where nothing tells."""
        if state.stands == "unknown":
            path = self.request.relative(state.filename)
            if self.site.is_link(path):
                self.notes.doubt(None, say("doubt/behind-link", place=path))
            is_there = self.notes.decide(("there", path), None, say("doubt/is-there", place=path))
            state.stands = "file" if is_there else "nothing"

    def _failed(self, state: RequestState, code: int, depth: int, before: int, folder: str | None = None) -> Reply:
        """An answer that is an error, or a redirect; where a page is named for it, that."""
        asks = code == 401
        if before != 200:
            return self.notes.reply(self._first_error if before >= 400 else before, folder=folder, asks=asks)
        if 300 <= code < 400:
            return self.notes.reply(code, location=state.location)
        if code not in state.settings.errors:
            return self.notes.reply(code, folder=folder, asks=asks)
        self._first_error = self._first_error or code
        text, source_line = state.settings.errors[code]
        text = self.rewriter.filled_in(state, text, source_line)
        self.notes.note(source_line)
        if re.match(r"[a-z]+://", text):
            return self.notes.reply(code if asks else 302, location=None if asks else text, asks=asks)
        path, _, query = text.partition("?")
        goes = clean(path) if text.startswith("/") and " " not in text else 0
        if isinstance(goes, int):
            return self.notes.reply(code, asks=asks)
        self._method = "GET"  # as such a page is asked for
        page = self._run(goes, query or None, _redirected(state, code), depth + 1, code, state.merged)
        return page._replace(asks_password=asks, folder=folder)

    # -- a look: where it leads, who gets in, what control files make of it

    def _looked(
        self, uri: str, args: str | None, env: dict[str, str], is_sub: bool, before: Merged = ()
    ) -> RequestState:
        # within a request the server asks by GET, whatever was asked of it
        state = RequestState(uri, args, dict(env), is_sub, "GET" if is_sub else self._method)
        state.settings = self._begun
        self._walk(state)
        if state.status == 200 and not is_sub:
            self.rewriter.set_variables(state)
        if state.status == 200 and state.merged != before:  # who got so far is not asked again under the same settings
            self._admit(state)
        if state.passed_to and state.status == 200:
            self._send(state)
        if state.status != 200 or state.passed_to:
            return state
        for stage in (self._set_handler, self.rewriter.carry, self._send, self._serve):
            stage(state)
            if state.status != 200 or state.passed_to:
                break
        return state

    def _within(self, uri: str, state: RequestState, args: str | None = None) -> RequestState:
        """A look at another address within a request, which may go no deeper than so far."""
        self._nested += 1
        try:
            if self._nested > REDIRECTS:
                state = RequestState(uri, args, {}, is_sub=True)
                state.refuse(500)
                return state
            return self._looked(uri, args, state.env, is_sub=True, before=state.merged)
        finally:
            self._nested -= 1

    def _walk(self, state: RequestState) -> None:
        """Where a path leads, and what holds there."""
        self._assumed, state.server = (), self.request.server
        if self._setup is not None:
            HostWalk(self, self._setup).walk(state)
            return
        base, rest = self.request.mapped(state.uri)
        if base is None:
            state.refuse(404)
            return
        self.merge(state, "")
        self.step(state, base, rest, state.uri.endswith("/"))
        self.merge_scoped(state)

    def step(self, state: RequestState, base: str, rest: str, ends: bool) -> None:
        """Go down to a folder of the account, and what follows as far as it is there; merge what holds on the way."""
        at = ""
        for part in base.split("/") if base else ():
            at = f"{at}/{part}" if at else part
            self.merge(state, at)
        if state.status != 200:
            return
        stands, left = self.site.stands(base), [part for part in rest.split("/") if part]
        while left and stands == "folder" and state.status == 200:
            part = left.pop(0)
            at = f"{at}/{part}" if at else part
            stands = self.site.stands(at)
            if self.site.is_link(at):
                self._follow(state, stands)
            if stands == "folder" and state.status == 200:
                self.merge(state, at)
        state.filename, state.stands = self.request.absolute(at), stands
        if left or (ends and stands != "folder"):
            state.path_info = "".join(f"/{part}" for part in left) + ("/" if ends else "")
        elif ends:
            state.filename += "/"

    def _follow(self, state: RequestState, stands: Stands) -> None:
        """A link is refused where links are not followed, and where it leads nowhere."""
        may = may_follow_links(state)
        if not may or stands == "nothing":
            self.notes.note(state.settings.options_line if not may else None)
            self._break_off(state, 403)

    def _break_off(self, state: RequestState, status: int) -> None:
        """Refuse while folders are walked: what they say of pages for errors does not hold yet."""
        state.settings = replace(state.settings, errors={})
        state.refuse(status)

    def merge(self, state: RequestState, folder: str) -> None:
        """Merge a folder's control file, as far as it holds for every request there."""
        if state.status != 200:
            return
        setup = self._setup
        if setup is not None:
            merge_sections(state, setup.in_folder(self.request.absolute(folder)), folder)
        server = state.server or self.request.server
        control = self._control(folder, server) if server.reads_control_files else None
        if control is not None and control.unknown:
            control = self._decided(control)
        key = folder, restricting(state.method), self._assumed, setup.key if setup is not None else ""
        held = self.site.held.get(key)
        if held is not None:
            state.settings, state.controls, state.server = held
            return
        if control is not None and control.fault is not None:
            self.notes.note(SourceLine(folder, control.fault.line, control.fault.text))
            self._break_off(state, 500)
            return
        if control is not None:
            state.controls = (*state.controls, control)
            for part in control.parts:
                if part.scope.files is None and part.scope.expression is None:
                    self._merge_part(state, control, part)
        self.site.held[key] = state.settings, state.controls, server

    def _control(self, folder: str, server: WebServer) -> Control | None:
        """The control file that a server reads in a folder."""
        control = self.site.control(folder)
        if self._setup is None:
            return control
        for name in self._setup.control_names:
            if name == HTACCESS:
                return control.under(server) if control is not None else None
            if self.site.stands(f"{folder}/{name}".lstrip("/")) in ("file", "unknown"):
                self.notes.doubt(None, say("doubt/control-file", name=name))
                return None
        return None

    def _decided(self, control: Control) -> Control:
        """A control file where what nothing tells of the server is answered."""
        folder, held, whole = control.folder, dict[str, bool](), control
        while control.unknown:
            for one in control.unknown:
                source_line = SourceLine(folder, one.line, one.text)
                if len(held) >= MOST_UNKNOWN:
                    self.notes.doubt(source_line, one.on)
                    held[one.about] = one.usual
                else:
                    held[one.about] = self.notes.decide(one.about, source_line, one.on, one.usual)
            control = whole.where(held)
        self._assumed = (*self._assumed, *held.values())
        return control

    def _merge_part(self, state: RequestState, control: Control, part: ControlPart) -> None:
        said = control.part(control.parts.index(part), restricting(state.method))
        state.settings = said.over(state.settings)

    def merge_scoped(self, state: RequestState, with_files: bool = True) -> None:
        """Merge what holds for a file of this name, then what holds where an expression does.

        What a server hands to another program is no file.
        """
        name = state.name
        server, is_whole = self.request.server, self._setup is not None and self._setup.is_whole
        is_hidden = name[:3].lower() == ".ht" and not is_whole and with_files
        is_php = not is_whole and server.php != "none" and name.lower().endswith(server.php_files)
        if is_php:
            # a section of the server's own holds for such names, as most hosts are set up
            state.settings = replace(again(state.settings), handler=_OF_HOST)
        if is_hidden:  # and one for these
            state.settings = replace(again(state.settings), required=_DENIED, required_line=None)
        controls = state.controls
        fitting = [
            (control, part) for control in controls for part in control.parts
            if part.scope.files is None or (with_files and part.scope.files(name))
        ]  # fmt: skip
        parts: list[tuple[str, int]] = []
        for control, part in fitting:
            if part.scope.files is not None and part.scope.expression is None:
                parts.append((control.folder, control.parts.index(part)))
                self._merge_special(state, control, part, "")
        if self._setup is not None:
            parts += merge_paths(state, self._setup, self.notes)
            fitting += [
                (control, part) for control in state.controls[len(controls) :] for part in control.parts
                if part.scope.files is None or part.scope.files(name)
            ]  # fmt: skip
        self._merge_expressions(state, fitting, parts)
        state.merged = (is_php, is_hidden, *(control.folder for control in state.controls), *parts)
        self._find_variant(state)
        self._note_doubts(state)

    def _merge_expressions(
        self, state: RequestState, fitting: Iterable[tuple[Control, ControlPart]], parts: list[tuple[str, int]]
    ) -> None:
        """Merge what holds where an expression does, and add which parts those were."""
        is_taken = False
        for control, part in fitting:
            if part.scope.expression is not None:
                was, is_taken = is_taken, self._merge_conditional(state, control, part, is_taken)
                parts += [(control.folder, control.parts.index(part))] * (is_taken and not was)

    def _note_doubts(self, state: RequestState) -> None:
        """Note what is not known of the lines that hold."""
        for control in state.controls:
            for source_line in control.perhaps:
                self.notes.doubt(source_line._replace(folder=control.folder), say("doubt/server-takes"))
        for doubt in state.settings.doubts:
            is_kept = doubt.text.lower() != NOT_KEPT.lower()
            self.notes.doubt(doubt, say("doubt/directive") if is_kept else say("doubt/not-read"))

    def _find_variant(self, state: RequestState) -> None:
        """Where MultiViews has a file of nearly that name taken, which one is not told here."""
        if "views" not in state.settings.options or state.stands not in ("nothing", "unknown"):
            return
        if self.site.has_variant(self.request.relative(state.filename)) is not False:
            self.notes.doubt(state.settings.options_line, say("doubt/file-spelling"))

    def _merge_conditional(self, state: RequestState, control: Control, part: ControlPart, is_taken: bool) -> bool:
        """Merge an `<If>`, or what follows one; gives whether one of them was met."""
        is_taken = is_taken and not is_first_condition(part)
        is_met = not is_taken and self.is_met(state, control, part)
        if is_met:
            self._merge_special(state, control, part, (part.scope.expression or "").partition(" ")[2])
        return is_taken or is_met

    def is_met(self, state: RequestState, control: Control, part: ControlPart) -> bool:
        """Whether the condition of an `<If>` or `<ElseIf>` is met, as that of an `<Else>` always is."""
        kind, _, text = (part.scope.expression or "").partition(" ")
        source_line = SourceLine(control.folder, part.nodes[0][0].line if part.nodes else 0, f"<{kind.title()} {text}>")
        return kind == "else" or self.rewriter.evaluate(state, text, source_line)

    def _merge_special(self, state: RequestState, control: Control, part: ControlPart, text: str) -> None:
        """Merge what holds for some files or requests alone, where rewriting and sections of that kind go own ways."""
        for node, _, _ in part.nodes:
            if part.scope.is_nested or node.name.startswith("rewrite"):
                self.notes.doubt(
                    SourceLine(control.folder, node.line, text or titled(node.name)), say("doubt/line-in-section")
                )
        self._merge_part(state, control, part)

    # -- who gets in

    def _admit(self, state: RequestState) -> None:
        settings, visitor = state.settings, replace(self.request.visitor, method=state.method)
        if settings.needs_tls is not None and self.request.scheme != "https":
            self.notes.note(settings.needs_tls)
            state.refuse(403)
            return

        def decide(node: Node, on: Message) -> bool:
            source_line = settings.required_line or settings.older_line
            here = SourceLine(
                source_line.folder if source_line is not None else "",
                node.line,
                f"{titled(node.name)} {node.text}",
                node.file,
            )
            return self.notes.decide(here, here, on)

        def evaluate(text: str) -> bool:
            return self.rewriter.evaluate(state, text, settings.required_line or SourceLine("", 0, text))

        case = Case(visitor, evaluate, decide, state.env)
        lets_in = settings.older is None or older_lets_in(settings.older, case)
        verdict = Verdict.GRANTED
        if settings.required:
            verdict = required(settings.required, case)
        if verdict is Verdict.NO_USER and visitor.is_known:
            verdict = Verdict.GRANTED
        is_either = settings.satisfy_any and settings.older is not None
        if (lets_in or verdict is Verdict.GRANTED) if is_either else (lets_in and verdict is Verdict.GRANTED):
            self.notes.note(settings.required_line)
            return
        self.notes.note(settings.older_line if not lets_in else None)
        if verdict is Verdict.NO_USER and (lets_in or settings.satisfy_any):
            self.notes.note(settings.required_line)
            self.notes.note(settings.auth_line)
            state.refuse(401 if self._can_ask(settings) else 500)
        else:
            self.notes.note(settings.required_line if lets_in else None)
            state.refuse(403)

    def _can_ask(self, settings: DirectorySettings) -> bool:
        """Whether a visitor can be asked for a password: by a module that the server has, and under a name."""
        module = settings.auth_module
        if settings.auth_line is None or module not in _ASKING:
            return False
        there = self.request.server.says(module)
        if there is None:
            there = self.notes.decide(module, settings.auth_line, self.request.server.untold(module), usual=True)
        return there and settings.auth_named

    def _set_handler(self, state: RequestState) -> None:
        """The handler that a file has, before rules have a say."""
        if state.stands == "folder":
            return
        settings = state.settings
        endings = [f".{part}" for part in state.name.lower().split(".")[1:]]
        own = [settings.handlers[ending] for ending in endings if ending in settings.handlers]
        types = [settings.types[ending] for ending in (*endings, "") if ending in settings.types]
        state.handler = settings.handler if settings.handler is not None else "".join(own[-1:])
        state.media_type = "".join(types[-1:])

    # -- redirects

    def _send(self, state: RequestState) -> None:
        # what is for all that lies in a folder comes before what is for a path
        every = state.settings.sent
        self.redirect(state, sorted(every, key=lambda one: bool(one.pattern or one.path)) if every else ())

    def redirect(self, state: RequestState, lines: Iterable[RedirectLine]) -> None:
        """Send visitors on by the first of some lines that is for their address."""
        for sent in lines:
            found = self._sent_to(state, sent)
            if found is None:
                continue
            self.notes.note(sent.source_line)
            state.refuse(sent.status if sent.status >= 400 or _WHOLE.match(found) else 500)
            if 300 <= sent.status < 400:
                if found.startswith("/"):
                    found = f"{self.request.scheme}://{self.request.own_name}{found}"
                state.location = f"{found}?{state.args}" if state.args is not None and "?" not in found else found
            return

    def _sent_to(self, state: RequestState, sent: RedirectLine) -> str | None:
        """Where a redirect sends an address; None where it is not for it."""
        if is_for_all(sent):
            return apache_target(self.rewriter.filled_in(state, sent.target, sent.source_line))
        if sent.pattern is None and MASK in sent.path:
            self.notes.doubt(sent.source_line, say("doubt/path-not-kept"))
            return None
        if sent.pattern is None:
            rest = rest_of(state.uri, sent.path)
            return None if rest is None else sent.target + apache_path(rest)
        try:
            groups = search(sent.pattern, state.uri)
        except PatternTrouble:
            self.notes.doubt(sent.source_line, say("doubt/pattern-not-run"))
            return None
        return apache_target(filled(sent.target, groups)) if groups is not None else None

    # -- folders

    def _serve(self, state: RequestState) -> None:
        """The slash and the index file of a folder, and the fallback of what is not there."""
        if state.settings.fallback is not None and not state.handler:
            self._settle(state)
        if state.stands == "nothing" and not state.handler:
            self._fall_back(state)
        if state.stands != "folder" or state.path_info:
            return
        if state.uri.endswith("/"):
            if state.handler != REDIRECTING:
                self._index(state)
        elif state.settings.slash:
            state.location = f"{self.request.scheme}://{self.request.own_name}{apache_path(state.uri)}/"
            if state.args is not None:
                state.location += f"?{state.args}"
            state.refuse(301)

    def _index(self, state: RequestState) -> None:
        settings = state.settings
        names = settings.index if settings.index is not None else self.request.index_files
        failed = 200
        for name in names:
            uri = clean(quote(name if name.startswith("/") else state.uri + name, safe=SAFE))
            if isinstance(uri, int):
                failed = uri
                continue
            noted = self.notes.noted
            sub = self._within(uri, state, state.args)
            self._settle(sub)
            if _is_taken(sub):
                self.notes.note(settings.index_line)
                if settings.index_status:
                    self.notes.note(settings.index_status_line)
                    state.location = f"{self.request.scheme}://{self.request.own_name}{apache_path(sub.uri)}"
                    state.refuse(settings.index_status)
                else:
                    state.become(sub)
                return
            if 300 <= sub.status < 400 or (sub.status == 401 and len(names) == 1):
                state.location = sub.location
                state.refuse(sub.status)
                return
            if sub.status not in (200, 404):
                failed = sub.status
            else:  # what had a say in a look that led to nothing had none
                self.notes.noted = noted
        state.refuse(failed)

    def _fall_back(self, state: RequestState) -> None:
        uri = state.settings.fallback
        if uri is None:
            return
        if not uri.startswith("/"):
            uri = f"{state.uri.rpartition('/')[0]}/{uri}"
        path, mark, query = uri.partition("?")
        goes = clean(path)
        sub = self._within(goes, state, query if mark else state.args) if isinstance(goes, str) else None
        if sub is None:
            return
        self._settle(sub)
        if _is_taken(sub):
            self.notes.note(state.settings.fallback_line)
            state.become(sub)
        elif sub.status not in (200, 404):
            self.notes.note(state.settings.fallback_line)
            state.location = sub.location
            state.refuse(sub.status)


def _is_taken(sub: RequestState) -> bool:
    """Whether an index or a fallback answers: a file, or what another program gets, which may have none such."""
    return sub.status == 200 and (sub.stands == "file" or bool(sub.passed_to))


def _redirected(state: RequestState, status: int) -> dict[str, str]:
    """The variables of a request that another became."""
    inner = {f"REDIRECT_{key}": value for key, value in state.env.items()}
    return inner | {"REDIRECT_STATUS": str(status), "REDIRECT_URL": state.uri}
