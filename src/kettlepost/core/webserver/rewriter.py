"""Carrying a request through the rules of mod_rewrite, as it works in a folder."""

from __future__ import annotations

import re
from functools import lru_cache

from kettlepost.core.messages import say
from kettlepost.core.secrets import MASK
from kettlepost.core.webserver.environment import MASKED, EnvironmentTest
from kettlepost.core.webserver.escaping import apache_path, back_reference
from kettlepost.core.webserver.expressions import NotUnderstood, filled_in, holds
from kettlepost.core.webserver.patterns import PatternTrouble, search
from kettlepost.core.webserver.rewriting import RewriteCondition, RewriteRule, RewriteRules
from kettlepost.core.webserver.server import UnknownSetting
from kettlepost.core.webserver.settings import SourceLine
from kettlepost.core.webserver.state import (
    REDIRECTING,
    WHOLE,
    AnswerNotes,
    RequestState,
    ServerRequest,
    Site,
    UnknownValue,
)
from kettlepost.core.webserver.vocabulary import is_program

ROUNDS = 1000
"""How often rules are gone through again at most; the server itself gives up later."""
_LINKS = frozenset(("follow", "owner"))
BROWSERS = (
    "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/131.0.0.0 Safari/537.36",
    "Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0",
    "Mozilla/5.0 (iPhone; CPU iPhone OS 18_1 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/18.1 "
    "Mobile/15E148 Safari/604.1",
    "Mozilla/5.0 (Linux; Android 15) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/131.0.0.0 Mobile Safari/537.36",
)
"""How browsers call themselves: what is the same for all of these is the same for every visitor."""
_SAID_BY_ALL: dict[str, tuple[str, ...]] = {
    "HTTP_USER_AGENT": BROWSERS,
    "HTTP_ACCEPT": ("*/*", "text/html,application/xhtml+xml,application/xml;q=0.9,image/avif,image/webp,*/*;q=0.8"),
    "HTTP:ACCEPT-ENCODING": ("", "gzip, deflate, br, zstd"),
}
_OF_A_PROXY = (
    "HTTP:X-FORWARDED",
    "HTTP:X-REAL",
    "HTTP:CF-",
    "HTTP:FORWARDED",
    "HTTP:VIA",
    "HTTP:X-PROTO",
    "HTTP:X-URL",
)
_OF_THE_BROWSER = (
    "HTTP:ACCEPT",
    "HTTP:SEC-",
    "HTTP:DNT",
    "HTTP:CACHE",
    "HTTP:PRAGMA",
    "HTTP:CONNECTION",
    "HTTP:UPGRADE-",
)
_OF_THE_MACHINE = frozenset(
    """SERVER_ADDR SERVER_ADMIN SERVER_SOFTWARE API_VERSION SCRIPT_USER SCRIPT_GROUP REMOTE_PORT REMOTE_IDENT
    DOCUMENT_URI LAST_MODIFIED CONN_LOG_ID REQUEST_LOG_ID""".split()
)
_OF_ITS_PROCESS = frozenset("PATH LANG LANGUAGE LC_ALL HOME USER PWD SHELL TZ TERM HOSTNAME SHLVL _".split())
"""What a server's own process has in its environment, or may have."""
_OUTSIDE = ("/home/", "/var/", "/srv/", "/usr/")
_ELSEWHERE = "/srv/w3x9/elsewhere"
WHERE_IT_LIES = say("doubt/account-place")
_MATCHES = tuple[str, ...]
_BEFORE_MARK = re.compile(r"(?:\\.|[^?\\])*")
"""A target up to its first question mark."""


def may_follow_links(state: RequestState) -> bool:
    """Whether links are followed at a place, which rewriting wants as well."""
    return bool(state.settings.options & _LINKS)


class Rewriter:
    """Carries requests to one site through its rules."""

    def __init__(self, site: Site, request: ServerRequest, notes: AnswerNotes):
        self._site = site
        self._request = request
        self._notes = notes

    def carry(self, state: RequestState) -> None:
        """Apply the rules that hold where a request has come to."""
        rules = state.settings.rules
        if rules is None or not rules.on:
            return
        folder = self._request.absolute(rules.folder) + "/"
        if "allownoslash" not in rules.options and state.filename == folder[:-1]:
            return  # the folder itself without its slash is for mod_dir
        if state.ended if state.is_sub else self._notes.is_rewriting_ended:
            return
        if not may_follow_links(state):
            self._notes.note(state.settings.options_line)
            self._notes.note(state.settings.engine_line)
            state.refuse(403)
            return
        begun, state.asked_args = state.filename, state.args
        changed, status, source_line = self._gone_through(state, rules, folder)
        if status is not None and not 300 <= status < 400:
            state.by_rules = True
            state.refuse(status)
            self._notes.note(source_line)
            if status < 300:
                self._notes.doubt(source_line, say("doubt/server-page"))
        elif not changed:
            state.filename = begun
        else:
            state.forced = status
            self._finish(state, rules, folder, begun, source_line)

    def carry_host(self, state: RequestState, rules: RewriteRules) -> str | None:
        """Apply the rules of a host itself; gives the path that they make of the address, None where they make none.

        A path that is passed through is looked at as any other address of the host.
        """
        if not rules.on or (state.ended if state.is_sub else self._notes.is_rewriting_ended):
            return None
        state.filename, state.asked_args = state.uri, state.args
        changed, status, source_line = self._gone_through(state, rules, "")
        goes, whole = state.filename, WHOLE.match(state.filename)
        if state.passed_to:
            return None
        if status is not None and not 300 <= status < 400:
            state.by_rules = True
            state.refuse(status)
            self._notes.note(source_line)
        elif changed:
            self._notes.note(source_line)
            state.forced = status
            if whole is not None:
                self._send(state, goes, whole.end(), rules, "/")
            elif self._is_odd(state) or not goes.startswith("/"):
                state.refuse(403 if goes.startswith("/") else 400)
            elif state.passes:
                state.uri = goes
            else:
                return goes
        return None

    def _finish(
        self, state: RequestState, rules: RewriteRules, folder: str, begun: str, source_line: SourceLine | None
    ) -> None:
        """What becomes of a request that rules have changed: a redirect, or another address of the host."""
        goes = state.filename
        whole = WHOLE.match(goes)
        if whole is not None:
            self._notes.note(source_line)
            self._send(state, goes, whole.end(), rules, folder)
            return
        if self._is_odd(state):
            state.refuse(403)
            self._notes.note(source_line)
            return
        if not goes.startswith("/"):
            state.refuse(400)
            self._notes.note(source_line)
            return
        if goes == begun:
            return
        self._notes.note(source_line)
        goes = _in_place_of(goes, folder, rules.base) if rules.base is not None else self._stripped(goes)
        state.goes = goes + (f"?{state.args}" if state.args is not None else "")
        state.filename = f"redirect:{goes}"
        state.handler = REDIRECTING

    @staticmethod
    def _is_odd(state: RequestState) -> bool:
        """Whether a query holds spaces or control characters, which are refused."""
        return state.args is not None and re.search(r"[\0-\x20\x7f]", state.args) is not None

    def _send(self, state: RequestState, goes: str, begin: int, rules: RewriteRules, folder: str) -> None:
        if not state.escapes and self._is_odd(state):
            state.refuse(403)
            return
        slash = goes.find("/", begin)
        if rules.base is not None and slash >= 0 and goes[slash + 1 :]:
            goes = goes[:slash] + _in_place_of(goes[slash:], folder, rules.base)
        if state.escapes and slash >= 0:
            goes = goes[: slash + 1] + apache_path(goes[slash + 1 :])
        if state.args is not None:
            is_asked = state.args == state.asked_args
            goes += f"?{apache_path(state.args) if state.escapes and not is_asked else state.args}"
        state.location, state.by_rules = goes, True
        state.refuse(500 if re.search(r"[\0-\x1f]", goes) else state.forced or 302)

    def _stripped(self, goes: str) -> str:
        """A path of the machine as a URL: without the document root, or as what the path alias makes of it."""
        request = self._request
        root, mapped = request.absolute(request.host_root), request.absolute(request.root)
        has_root = (
            not request.alias or request.document_root is not None
        )  # where a path is mapped, the host may have none
        if has_root and goes.startswith(root + "/"):
            return goes[len(root) :]
        if request.alias and goes.startswith(mapped + "/"):
            return f"/{request.alias.strip('/')}{goes[len(mapped) :]}"
        return goes

    # -- the rules one after the other

    def _gone_through(
        self, state: RequestState, rules: RewriteRules, folder: str
    ) -> tuple[bool, int | None, SourceLine | None]:
        """Carry the rules out; gives whether one changed anything, the status, and the rule that decided."""
        changed, status, source_line = False, None, None
        at, rounds = 0, 0
        while at < len(rules.rules):
            home, rule = rules.rules[at]
            at += 1
            if state.is_sub and (rule.not_sub or rule.forced):
                continue
            is_other = rule.begins and not self._rest(state, folder).startswith(rule.begins)
            outcome = self._applied(state, home, rule, folder) if not is_other else None
            if outcome is None and state.status == 200:
                at = _behind_chain(rules.rules, at, rule)
                continue
            here = SourceLine(home, rule.line, rule.written, rule.file)
            if state.status != 200 or (rule.status is not None and not rule.redirects):
                return True, state.status if state.status != 200 else rule.status, here
            if outcome:
                changed, source_line, state.escapes = True, here, not rule.no_escape
                state.passes = rule.passes
                status = _sent_with(rule, state.filename, status)
            if rule.proxy:
                return self._passed_on(state, here)
            if rule.end:
                self._end(state)
            if rule.last:
                break
            at = 0 if rule.again else at + rule.skip
            rounds += rule.again
            if rounds > ROUNDS or (rule.again and 0 < _leading(rule.rounds) <= rounds + 1):
                return True, 500, here
        return changed, status, source_line

    def _passed_on(self, state: RequestState, source_line: SourceLine) -> tuple[bool, int | None, SourceLine | None]:
        """A request that a rule hands to another server, where this one has what that takes."""
        on = UnknownSetting("doubt/asks-others", key="modules")
        is_there = self._request.server.says("proxy")
        if is_there is None:
            is_there = self._notes.decide("<ifmodule proxy>", source_line, on)
        if not is_there:
            return True, 403, source_line
        self._notes.note(source_line)
        state.passed_to = say("doubt/server", target=state.filename.removeprefix("proxy:"))
        return False, None, source_line

    def _end(self, state: RequestState) -> None:
        """No more rewriting: of a request within another for that alone."""
        if state.is_sub:
            state.ended = True
        else:
            self._notes.is_rewriting_ended = True

    def _set_variables(
        self, state: RequestState, rule: RewriteRule, back: _MATCHES, percent: _MATCHES, source_line: SourceLine
    ) -> None:
        """Set the variables that a rule sets, and take those away that it takes away."""
        for variable in rule.variables:
            written = self._expanded(state, variable, back, percent, source_line)
            name, _, value = written.partition(":")
            if name.startswith("!"):
                state.env.pop(name[1:], None)
            elif MASK in value:
                state.env[name] = UnknownValue("", say("doubt/value-of-not-kept", name=name))
            else:
                state.env[name] = UnknownValue(value, written.on) if isinstance(written, UnknownValue) else value

    def _applied(self, state: RequestState, home: str, rule: RewriteRule, folder: str) -> bool | None:
        """Apply one rule: None where it does not fit, else whether it changed the address."""
        source_line = SourceLine(home, rule.line, rule.written, rule.file)
        try:
            groups = search(rule.pattern, self._rest(state, folder), rule.ignores_case)
        except PatternTrouble:
            self._notes.doubt(source_line, say("doubt/pattern-not-run"))
            return None
        if (groups is not None) == rule.negated:
            return None
        back = groups or ()
        percent = self._all_met(state, home, rule, back)
        if percent is None:
            return None
        state.handled_by = rule.handler or state.handled_by
        state.typed_by = rule.kind if is_program(rule.kind) else state.typed_by
        self._set_variables(state, rule, back, percent, source_line)
        if rule.target == "-" or (rule.status is not None and not rule.redirects):
            return rule.target != "-"
        state.drops_path_info = state.drops_path_info or rule.drop_path_info
        if rule.escape_back:
            back, percent = (tuple(_back_reference(rule, one) for one in groups) for groups in (back, percent))
        if MASK in rule.target.partition("?")[0] and not rule.redirects:
            self._notes.doubt(source_line, say("doubt/path-not-kept"))
        goes = self._expanded(state, rule.target, back, percent, source_line)
        if isinstance(goes, UnknownValue):
            self._notes.doubt(source_line, goes.on)
        is_marked = "%3f" in self._request.path.lower() and not rule.unsafe_mark
        path = _BEFORE_MARK.match(rule.target) if is_marked else None
        if path is not None and "?" in self._expanded(state, path[0], back, percent, source_line):
            state.refuse(403)  # a question mark of the path itself is none before a query (since 2.4.60)
            return True
        state.filename = str(goes)
        _split_query(state, rule)
        self._qualify(state, rule, folder, source_line)
        return True

    @staticmethod
    def _rest(state: RequestState, folder: str) -> str:
        """What a rule looks at: the path behind the folder for which it holds."""
        return (state.filename + ("" if state.drops_path_info else state.path_info)).removeprefix(folder)

    def _qualify(self, state: RequestState, rule: RewriteRule, folder: str, source_line: SourceLine) -> None:
        """Make what a rule gives a path from the root, or a whole URL.

        A whole URL of the host itself is taken for a path where the host's name is written with its port.
        """
        whole = WHOLE.match(state.filename)
        if not state.filename.startswith("/") and whole is None:
            state.filename = folder + state.filename
        own = f"{self._request.scheme}://{self._request.own_name}"
        if rule.redirects:
            if whole is None:
                state.filename = own + state.filename
        elif state.filename.lower().startswith(own + "/") or state.filename.lower() == own:
            on = say("doubt/name-with-port")
            if self._notes.decide(say("doubt/port"), source_line, on):
                state.filename = state.filename[len(own) :] or "/"

    def _all_met(self, state: RequestState, home: str, rule: RewriteRule, back: _MATCHES) -> _MATCHES | None:
        """The groups of the last condition that matched, where a rule's conditions are met; None where they are not."""
        percent: _MATCHES = ()
        conditions = rule.conditions
        n = 0
        while n < len(conditions):
            condition = conditions[n]
            met, found = self._meets(state, home, condition, back, percent)
            percent = found or percent
            if condition.or_next and met:
                while n < len(conditions) and conditions[n].or_next:
                    n += 1
            elif not met and not condition.or_next:
                return None
            n += 1
        return percent

    def _meets(
        self, state: RequestState, home: str, condition: RewriteCondition, back: _MATCHES, percent: _MATCHES
    ) -> tuple[bool, _MATCHES]:
        source_line = SourceLine(home, condition.line, f"RewriteCond {condition.written}", condition.file)
        if condition.tested.lower() == "expr":
            return self.evaluate(state, condition.pattern, source_line) != condition.negated, ()
        tested = self._expanded(state, condition.tested, back, percent, source_line)
        if MASK in tested:
            tested = UnknownValue(tested, say("doubt/value-not-kept"))
        met, groups = self._fits(condition, tested, source_line)
        if isinstance(tested, UnknownValue):
            outcomes = {self._fits(condition, other, source_line)[0] for other in tested.others} or {met, not met}
            if outcomes != {met}:
                met = self._notes.decide((source_line, str(tested)), source_line, tested.on, met)
        return met, groups if met else ()

    def _fits(self, condition: RewriteCondition, tested: str, source_line: SourceLine) -> tuple[bool, _MATCHES]:
        """Whether a text is as a condition wants it, and the groups of its pattern."""
        pattern = condition.pattern
        if pattern == f"={MASK}" and not tested and not isinstance(tested, UnknownValue):
            return condition.negated, ()  # which is nothing that few know
        if MASK in pattern and pattern[:1] in ("<", ">", "="):
            return self._notes.decide(("pattern", source_line), source_line, say("doubt/value-not-kept")), ()
        test = re.fullmatch(r"-([dfslhLxFU])", pattern)
        if test is not None:
            return self._tested(test[1], tested, source_line) != condition.negated, ()
        number = re.fullmatch(r"-(eq|ne|lt|le|gt|ge)\s*(-?\d+)", pattern)
        if number is not None:
            return _counts(_leading(tested), number[1], int(number[2])) != condition.negated, ()
        if pattern[:1] in ("<", ">", "="):
            return _ordered(pattern, tested, condition.ignores_case) != condition.negated, ()
        try:
            groups = search(pattern, tested, condition.ignores_case)
            if not self._request.is_home_told and self._request.home in tested:
                elsewhere = search(pattern, tested.replace(self._request.home, _ELSEWHERE), condition.ignores_case)
                if (groups is None) != (elsewhere is None):
                    fits = (groups is None) == condition.negated
                    return self._notes.decide(("home", source_line), source_line, WHERE_IT_LIES, fits), groups or ()
        except PatternTrouble:
            return self._notes.decide(("pattern", source_line), source_line, say("doubt/pattern-not-run")), ()
        return (groups is not None) != condition.negated, groups or ()

    def set_variables(self, state: RequestState) -> None:
        """Set the variables that lines set by what the request says, before anybody is let in."""
        for test in state.settings.tests:
            source_line = SourceLine(test.folder, test.line, test.text, test.file)
            value = self._attribute(state, test.attribute)
            groups = self._found(test, value, source_line) if test.pattern != MASKED else None
            met = groups is not None
            if test.pattern == MASKED:
                met = self._notes.decide(source_line, source_line, say("doubt/pattern-not-kept"))
            elif isinstance(value, UnknownValue):
                others = {self._found(test, other, source_line) is not None for other in value.others} or {met, not met}
                met = (
                    met
                    if others == {met}
                    else self._notes.decide((source_line, str(value)), source_line, value.on, met)
                )
            for name, given in test.sets if met else ():
                if given is None:
                    state.env.pop(name, None)
                elif given == MASKED:
                    state.env[name] = UnknownValue("1", say("doubt/value-of-not-kept", name=name))
                else:
                    state.env[name] = _with_groups(given, groups or ())

    def _found(self, test: EnvironmentTest, value: str, source_line: SourceLine) -> _MATCHES | None:
        try:
            return search(test.pattern, value, test.ignores_case)
        except PatternTrouble:
            self._notes.doubt(source_line, say("doubt/pattern-not-run"))
            return None

    def _attribute(self, state: RequestState, name: str) -> str:
        """What a line that sets variables looks at: a part of the request, a header, or a variable."""
        upper = name.upper()
        if upper in ("REQUEST_URI", "REMOTE_ADDR", "REQUEST_METHOD", "REMOTE_HOST", "SERVER_ADDR"):
            return self._variable(state, name)
        if upper == "REQUEST_PROTOCOL":
            return self._variable(state, "SERVER_PROTOCOL")
        return state.env[name] if name in state.env else self._variable(state, f"HTTP:{name}")

    # -- what is asked for within a rule

    def evaluate(self, state: RequestState, text: str, source_line: SourceLine) -> bool:
        """Whether an expression holds; of one that is not modelled nothing tells."""
        unsure: list[UnknownValue] = []
        if MASK in text:
            return self._notes.decide((source_line, text), source_line, say("doubt/value-not-kept"))

        def lookup(name: str) -> str:
            value = self._variable(state, name)
            if isinstance(value, UnknownValue):
                unsure.append(value)
            return value

        try:
            met = holds(text, lookup, lambda test, path: self._tested(test, path, source_line))
        except NotUnderstood:
            return self._notes.decide((source_line, text), source_line, say("doubt/expression"))
        return self._notes.decide((source_line, text), source_line, unsure[0].on, met) if unsure else met

    def filled_in(self, state: RequestState, text: str, source_line: SourceLine) -> str:
        """A text with what its variables and functions give; what cannot be told of them is noted."""
        if "%{" not in text:
            return text
        unsure: list[UnknownValue] = []

        def lookup(name: str) -> str:
            value = self._variable(state, name)
            unsure.extend([value] if isinstance(value, UnknownValue) else [])
            return value

        try:
            found = filled_in(text, lookup)
        except NotUnderstood:
            self._notes.doubt(source_line, say("doubt/expression"))
            return text
        if unsure:
            self._notes.doubt(source_line, unsure[0].on)
        return found

    def _tested(self, test: str, value: str, source_line: SourceLine) -> bool:
        """Whether a file test holds of a path on the machine."""
        home = self._request.home
        if test in ("F", "U", "x"):
            on = say("doubt/executable") if test == "x" else say("doubt/inner-request")
            return self._notes.decide((test, value), source_line, on)
        if value != home and not value.startswith(home + "/"):
            return value.startswith(_OUTSIDE) and self._notes.decide(
                (test, value), source_line, say("doubt/path-outside")
            )
        path = self._request.relative(value)
        is_link = self._site.is_link(path)
        if test in ("l", "h", "L"):
            return is_link and not value.endswith("/")  # which asks what is behind it
        stands = self._site.stands(path)
        if stands == "unknown":
            if not self._notes.decide(("there", path), source_line, say("doubt/is-there", place=path)):
                return False
            is_folder = is_link and self._notes.decide(
                ("folder", path), source_line, say("doubt/is-folder", place=path)
            )
            stands = "folder" if is_folder else "file"
        if test == "d":
            return stands == "folder"
        if test == "e":
            return stands != "nothing"
        if stands != "file" or value.endswith("/"):
            return False
        empty = self._site.is_empty_file(path) if test == "s" else False
        if empty is None:
            empty = self._notes.decide(("empty", path), source_line, say("doubt/is-empty", place=path))
        return not empty

    def _expanded(
        self, state: RequestState, text: str, back: _MATCHES, percent: _MATCHES, source_line: SourceLine
    ) -> str:
        """A text with groups and variables filled in."""
        out: list[str] = []
        unsure: UnknownValue | None = None
        for kind, piece in _pieces(text):
            if kind == "$" or kind == "%":
                groups = back if kind == "$" else percent
                out.append(groups[int(piece)] if int(piece) < len(groups) else "")
            elif kind == "%{":
                value = self._variable(state, self._expanded(state, piece, back, percent, source_line))
                unsure = value if isinstance(value, UnknownValue) else unsure
                out.append(value)
            elif kind == "${":
                self._notes.doubt(source_line, say("doubt/server-map"))
            else:
                out.append(piece)
        if unsure is None:
            return "".join(out)
        return unsure if len(out) == 1 else UnknownValue("".join(out), unsure.on)

    def _variable(self, state: RequestState, name: str) -> str:
        """What a server variable holds."""
        upper = name.upper()
        if upper.startswith("ENV:"):
            return state.env.get(name[4:]) or (
                UnknownValue("", say("doubt/machine")) if name[4:] in _OF_ITS_PROCESS else ""
            )
        if upper == "CONN_REMOTE_ADDR" and not self._request.server.behind_proxy:
            return self._request.visitor.ip
        if upper == "HTTP:HOST":
            return self._request.host
        known = _known(self._request, state).get(upper)
        if known is not None:
            return known
        if upper == "REMOTE_HOST":
            names = state.settings.asks_for_names  # else nobody looks the name up
            return UnknownValue("", say("doubt/visitor-name")) if names else self._request.visitor.ip
        if upper.startswith(_OF_A_PROXY) and (told := self._request.server.behind_proxy) is not None:
            return self._said_by_proxy(upper, name) if told else ""
        return _told_by_few(upper, name)

    def _said_by_proxy(self, upper: str, name: str) -> str:
        """What a proxy of the host says: the scheme for sure."""
        if upper in ("HTTP:X-FORWARDED-PROTO", "HTTP:X-FORWARDED-SCHEME"):
            return self._request.scheme
        return UnknownValue("", say("doubt/proxy-header", name=name[5:]))


def _known(request: ServerRequest, state: RequestState) -> dict[str, str]:
    """The server variables that a request tells."""
    query = f"?{request.query}" if request.query is not None else ""
    is_https = request.scheme == "https"
    return {
        "REQUEST_URI": state.uri,
        "REQUEST_FILENAME": state.filename,
        "SCRIPT_FILENAME": state.filename,
        "PATH_INFO": state.path_info,
        "QUERY_STRING": state.args or "",
        "HTTP_HOST": request.host,
        "SERVER_NAME": request.own_name,
        "HTTPS": "on" if is_https else "off",
        "SERVER_PORT": "443" if is_https else "80",
        "REQUEST_SCHEME": request.scheme,
        "SSL:HTTPS": "on" if is_https else "off",
        "IPV6": "on" if ":" in request.visitor.ip else "off",
        "REQUEST_METHOD": state.method,
        "SERVER_PROTOCOL": "HTTP/1.1",
        "THE_REQUEST": f"{request.visitor.method} {request.path}{query} HTTP/1.1",
        "REMOTE_ADDR": request.visitor.ip,
        "DOCUMENT_ROOT": request.absolute(request.host_root),
        "CONTEXT_DOCUMENT_ROOT": request.absolute(request.root),
        "CONTEXT_PREFIX": f"/{request.alias.strip('/')}" if request.alias else "",
        "IS_SUBREQ": "true" if state.is_sub else "false",
        "REQUEST_STATUS": "200",
        "AUTH_TYPE": "",
    }


def _told_by_few(upper: str, name: str) -> str:
    """What another variable holds: nothing for most, as who comes for the first time has no cookie and no login."""
    said = _SAID_BY_ALL.get(upper.replace("HTTP:USER-AGENT", "HTTP_USER_AGENT"))
    if said is not None:
        return UnknownValue(said[0], say("doubt/visitor-browser"), said[1:])
    if upper.startswith(_OF_A_PROXY):
        return UnknownValue("", UnknownSetting("doubt/proxy-header", {"name": name[5:]}, key="behind_proxy"))
    if upper.startswith(_OF_THE_BROWSER):
        return UnknownValue("", say("doubt/browser-header", name=name[5:]))
    if upper.startswith("SSL:") or upper == "CONN_REMOTE_ADDR":
        return UnknownValue("", say("doubt/connection"))
    if upper.startswith(("LA-U:", "LA-F:")):
        return UnknownValue("", say("doubt/inner-request"))
    if upper.startswith("TIME"):
        return UnknownValue("", say("doubt/time"))
    return UnknownValue("", say("doubt/machine")) if upper in _OF_THE_MACHINE else ""


@lru_cache(maxsize=4096)  # the same few texts are filled in again and again
def _pieces(text: str) -> tuple[tuple[str, str], ...]:
    """A text taken apart: groups (`$`, `%`), variables (`%{`), maps (`${`), and what stands as it is."""
    found: list[tuple[str, str]] = []
    at = 0
    while at < len(text):
        sign, following = text[at], text[at + 1 : at + 2]
        if sign == "\\" and following:
            found.append(("", following))
            at += 2
        elif sign in "$%" and following.isdigit():
            found.append((sign, following))
            at += 2
        elif sign in "$%" and following == "{" and (end := _closing(text, at + 2)) >= 0:
            found.append((sign + "{", text[at + 2 : end]))
            at = end + 1
        else:
            end = next((place for place in range(at + 1, len(text)) if text[place] in "\\$%"), len(text))
            found.append(("", text[at:end]))
            at = end
    return tuple(found)


def _closing(text: str, at: int) -> int:
    """The bracket that closes one opened before `at`; -1 where there is none."""
    depth = 1
    for place in range(at, len(text)):
        depth += {"{": 1, "}": -1}.get(text[place], 0)
        if not depth:
            return place
    return -1


def _behind_chain(rules: tuple[tuple[str, RewriteRule], ...], at: int, rule: RewriteRule) -> int:
    """Where to go on behind a rule that does not fit: not with those that are chained to it."""
    while rule.chained and at < len(rules):
        rule = rules[at][1]
        at += 1
    return at


def _split_query(state: RequestState, rule: RewriteRule) -> None:
    """Take the query out of what a rule gives."""
    if rule.discard:
        state.args = None
    path, mark, query = state.filename.rpartition("?") if rule.query_last else state.filename.partition("?")
    if not mark:
        return
    state.filename = path
    if rule.append and state.args:
        query = f"{query}&{state.args}" if query else state.args
    state.args = query or None


def _in_place_of(path: str, folder: str, base: str) -> str:
    """`path` with a folder at its beginning taken for the URL that it is."""
    bare = folder.rstrip("/")
    if path.startswith(f"{bare}/"):
        return base.rstrip("/") + "/" + path[len(bare) :].lstrip("/")
    return path


def _leading(text: str) -> int:
    match = re.match(r"\s*([+-]?\d+)", text)
    return int(match[1]) if match else 0


def _with_groups(text: str, groups: _MATCHES) -> str:
    return re.sub(r"\$(\d)", lambda sign: groups[int(sign[1])] if int(sign[1]) < len(groups) else "", text)


def _back_reference(rule: RewriteRule, group: str) -> str:
    return back_reference(group, rule.escapes_only, rule.escapes_but, rule.spaces_as_codes, rule.controls_only)


def _counts(have: int, sign: str, want: int) -> bool:
    return {
        "eq": have == want, "ne": have != want, "lt": have < want, "le": have <= want, "gt": have > want,
        "ge": have >= want,
    }[sign]  # fmt: skip


def _ordered(pattern: str, tested: str, ignores_case: bool) -> bool:
    """Whether a text is less, more or the same: by length first, as the module compares them."""
    sign = pattern[:2] if pattern[:2] in ("<=", ">=") else pattern[0]
    other = pattern[len(sign) :]
    if sign == "=":
        other = "" if other == '""' else other
        return tested.lower() == other.lower() if ignores_case else tested == other
    have, want = (len(tested), tested), (len(other), other)
    return {"<": have < want, ">": have > want, "<=": have <= want, ">=": have >= want}[sign]


def _sent_with(rule: RewriteRule, goes: str, before: int | None) -> int | None:
    """The status with which visitors are sent on once a rule has changed the address; None where they are not."""
    if rule.redirects:
        return rule.status
    return 302 if WHOLE.match(goes) else before
