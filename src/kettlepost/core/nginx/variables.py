"""The variables of nginx, and the conditions of its `if`, as far as a request tells them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Protocol

from kettlepost.core.messages import say
from kettlepost.core.nginx.contexts import Context
from kettlepost.core.nginx.servers import NginxServers, ServerMatch
from kettlepost.core.secrets import MASK
from kettlepost.core.webserver.configuration import ConfigurationLine
from kettlepost.core.webserver.escaping import nginx_argument
from kettlepost.core.webserver.patterns import PatternTrouble, Taken, search, taken
from kettlepost.core.webserver.rewriter import BROWSERS
from kettlepost.core.webserver.settings import SourceLine
from kettlepost.core.webserver.state import AnswerNotes, ServerRequest, Stands, UnknownValue

_VARIABLE = re.compile(r"\$(?:\{(\w+)\}|(\w+))")
_DEEPEST = 20
_LONGEST = 64 * 1024
"""How many letters a value has at most."""


class RunningRequest(Protocol):
    """A request as far as it has come, of which variables tell."""

    uri: str
    args: str | None
    method: str
    request: ServerRequest
    notes: AnswerNotes
    context: Context

    def root(self) -> str:
        """The folder in which the files of the location lie."""

    def file_of(self, uri: str) -> str:
        """The path of the machine that an address leads to."""

    def lies(self, path: str) -> Stands:
        """What lies at a path of the machine."""

    def script_name(self) -> str:
        """The name of the script as it is told to a program."""


class Variables:
    """What variables hold for one request."""

    def __init__(self, request: RunningRequest, servers: NginxServers, found: ServerMatch):
        self._request, self._servers = request, servers
        self._set: dict[str, str] = dict(found.named or {})
        self._captures: tuple[str, ...] = found.captures
        self._depth = 0
        self.path_info = ""
        self.server_name = next((name for name in found.server.names if name and name[0] not in "~*."), "")

    def take(self, took: Taken) -> None:
        """Keep what a pattern took."""
        self._captures = took.groups
        self._set.update(took.named)

    def set(self, name: str, value: str) -> None:
        self._set[name] = value

    def filled(self, text: str, is_coded: bool = False) -> str:
        """A text with the values of variables in it; an UnknownValue where one of them cannot be known.

        What a pattern took is written in codes where the text `is_coded`.
        """
        if MASK in text:
            return UnknownValue("", say("doubt/value-not-kept"))
        if "$" not in text:
            return text
        unsure: list[UnknownValue] = []

        def value(match: re.Match[str]) -> str:
            name = match[1] or match[2]
            found = self.value(name)
            if isinstance(found, UnknownValue):
                unsure.append(found)
            return nginx_argument(str(found)) if is_coded and name.isdigit() else str(found)

        filled = _VARIABLE.sub(value, text)
        if len(filled) > _LONGEST:
            return UnknownValue("", say("doubt/value-too-long"))
        if not unsure:
            return filled
        if len(unsure) == 1 and _VARIABLE.fullmatch(text):
            return unsure[0]
        return UnknownValue(filled, unsure[0].on)

    def value(self, name: str) -> str:
        """What one variable holds."""
        if name.isdigit():
            return self._captures[int(name)] if int(name) < len(self._captures) else ""
        if name in self._set:
            return self._set[name]
        if f"${name}" in self._servers.maps:
            return self._mapped(name)
        known = self._known().get(name)
        if known is not None:
            return known
        args = self._request.args or ""
        if name.startswith("arg_"):
            pairs = (part.partition("=") for part in args.split("&"))
            return next((value for key, _, value in pairs if key.lower() == name[4:].lower()), "")
        if name in ("document_root", "realpath_root"):
            return self._request.root().rstrip("/")
        if name in ("fastcgi_script_name", "fastcgi_path_info"):
            script = self._request.script_name()
            return script if name == "fastcgi_script_name" else self.path_info
        if name == "invalid_referer":
            valid = self._request.context.single("valid_referers")
            return "" if valid is None or "none" in valid.words else "1"  # of who comes for the first time
        if name == "request_filename":
            return self._request.file_of(self._request.uri)
        return self._of_the_visitor(name)

    def _known(self) -> dict[str, str]:
        request = self._request
        asked, args = request.request, request.args or ""
        query = f"?{asked.query}" if asked.query is not None else ""
        return {
            "uri": request.uri, "document_uri": request.uri, "request_uri": f"{asked.path}{query}", "args": args,
            "query_string": args, "is_args": "?" if args else "", "host": asked.host, "http_host": asked.host,
            "server_name": self.server_name, "scheme": asked.scheme, "https": "on" if asked.scheme == "https" else "",
            "request_method": request.method, "remote_addr": asked.visitor.ip,
            "server_port": "443" if asked.scheme == "https" else "80",
            "server_protocol": "HTTP/1.1", "request": f"{request.method} {asked.path}{query} HTTP/1.1",
            "http_cookie": "", "remote_user": "", "http_referer": "", "http_origin": "",
            "http_authorization": "", "http_upgrade": "", "content_type": "", "content_length": "",
        }  # fmt: skip

    @staticmethod
    def _of_the_visitor(name: str) -> str:
        if name == "http_user_agent":
            return UnknownValue(BROWSERS[0], say("doubt/visitor-browser"), BROWSERS[1:])
        if name.startswith("http_x_forwarded"):
            return UnknownValue("", say("doubt/proxy-header", name=name[5:]))
        if name.startswith(("cookie_", "http_x_")):
            return ""
        if name.startswith("http_"):
            return UnknownValue("", say("doubt/browser-header", name=name[5:]))
        return UnknownValue("", say("doubt/variable", name=name))

    # -- maps

    def _mapped(self, name: str) -> str:
        line = self._servers.maps[f"${name}"]
        self._depth += 1
        try:
            if line.name != "map" or self._depth > _DEEPEST or len(line.words) < 2:
                return UnknownValue("", say("doubt/visitor-address", name=name))
            source = self.filled(line.words[0])
            if isinstance(source, UnknownValue):
                values = {str(self._entry(line, one)) for one in (str(source), *source.others)}
                chosen = str(self._entry(line, str(source)))
                others = tuple(sorted(values - {chosen}))
                return chosen if source.others and not others else UnknownValue(chosen, source.on, others)
            return self._entry(line, source)
        finally:
            self._depth -= 1

    def _entry(self, line: ConfigurationLine, source: str) -> str:
        """What a map makes of a value: first what is written as it is, then wildcards of hosts, then patterns."""
        entries = [(one.name, one.words[0] if one.words else "") for one in line.inner or ()]
        plain = {key.lower().removeprefix("\\"): value for key, value in entries if key[:1] != "~"}
        is_hosts = any(key == "hostnames" for key, _ in entries)
        lower = source.lower()
        if lower in plain and lower not in ("default", "hostnames"):
            return self.filled(plain[lower])
        if source and MASK in plain:
            return UnknownValue(plain.get("default", ""), say("doubt/value-not-kept"))
        host = next((key for key in _host_wildcards(lower) if key in plain), None) if is_hosts else None
        if host is not None:
            return self.filled(plain[host])
        for key, value in entries:
            if key[:1] != "~":
                continue
            pattern, ignores = (key[2:], True) if key[:2] == "~*" else (key[1:], False)
            try:
                took = taken(pattern, source, ignores)
            except PatternTrouble:
                return UnknownValue("", say("doubt/pattern-not-run"))
            if took is not None:
                self.take(took)
                return self.filled(value)
        return self.filled(plain.get("default", ""))

    # -- conditions

    def holds(self, text: str, line: ConfigurationLine, context: Context) -> bool:
        """Whether a condition of an `if` is met."""
        request = self._request
        source_line = context.source_line(line)
        if MASK in text:
            return request.notes.decide(source_line, source_line, say("doubt/value-not-kept"))
        test = re.fullmatch(r"(!?)-([fdex])\s+(.+)", text, re.DOTALL)
        if test is not None:
            path = str(self.filled(_bare(test[3])))
            if test[2] == "x":
                return request.notes.decide(source_line, source_line, say("doubt/executable"))
            lies = request.lies(path)
            met = {"f": lies == "file", "d": lies == "folder", "e": lies != "nothing"}[test[2]]
            return met != bool(test[1])
        compared = re.fullmatch(r"(\S+)\s*(!?~\*?|!?=)\s*(.*)", text, re.DOTALL)
        if compared is None:
            value = self.filled(text)
            return self._decided(value, lambda one: one not in ("", "0"), source_line)
        value = self.filled(_bare(compared[1]))
        sign, wanted = compared[2], _bare(compared[3])
        if "~" not in sign:
            other = str(self.filled(wanted))
            return self._decided(value, lambda one: (one == other) != sign.startswith("!"), source_line)
        try:
            took = taken(wanted, str(value), sign.endswith("*"))
        except PatternTrouble:
            return request.notes.decide(source_line, source_line, say("doubt/pattern-not-run"))
        if took is not None and not sign.startswith("!"):
            self.take(took)

        def fits(one: str) -> bool:
            return (search(wanted, one, sign.endswith("*")) is not None) != sign.startswith("!")

        return self._decided(value, fits, source_line)

    def _decided(self, value: str, met: Callable[[str], bool], source_line: SourceLine) -> bool:
        is_met: bool = met(str(value))
        if isinstance(value, UnknownValue):
            outcomes = {met(other) for other in value.others} or {is_met, not is_met}
            if outcomes != {is_met}:
                return self._request.notes.decide((source_line, str(value)), source_line, value.on, is_met)
        return is_met


def _bare(word: str) -> str:
    word = word.strip()
    return word[1:-1] if len(word) > 1 and word[0] == word[-1] and word[0] in "\"'" else word


def _host_wildcards(host: str) -> Iterator[str]:
    """The wildcards under which a map may have a host, the longest first."""
    labels = host.split(".")
    for n in range(len(labels)):
        rest = ".".join(labels[n:])
        yield from (f".{rest}",) if n == 0 else (f"*.{rest}", f".{rest}")
