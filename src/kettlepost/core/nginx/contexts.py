"""What holds in a server or a location of nginx: directives with those of the levels above, and locations by path."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Literal

from kettlepost.core.webserver.configuration import ConfigurationLine, ServerConfiguration
from kettlepost.core.webserver.patterns import Taken, taken
from kettlepost.core.webserver.settings import SourceLine

REWRITING = frozenset(("set", "if", "return", "rewrite", "break"))
"""Directives that are gone through in order (ngx_http_rewrite_module)."""
PASSING = frozenset(
    "proxy_pass fastcgi_pass uwsgi_pass scgi_pass grpc_pass memcached_pass perl js_content content_by_lua_block "
    "content_by_lua_file stub_status status empty_gif flv mp4 dav_methods".split()
)
"""What gives the content in place of a file."""
_SINGLE = frozenset(
    """root alias auth_basic auth_basic_user_file satisfy autoindex merge_slashes absolute_redirect
    recursive_error_pages fastcgi_index fastcgi_split_path_info fastcgi_intercept_errors proxy_intercept_errors
    port_in_redirect server_name_in_redirect valid_referers ssl_verify_client""".split()
)
_SEVERAL = ("error_page", "index", "fastcgi_param")
_ACCESS = ("allow", "deny")
_OWN = frozenset(("try_files", "internal", *PASSING))
"""What no location takes from the level above."""
_BLOCKS = frozenset(
    """location limit_except listen server_name http server map geo split_clients ssl ssl_certificate upstream
    ssl_reject_handshake""".split()
)
_KNOWN = _SINGLE | REWRITING | _OWN | _BLOCKS | {*_SEVERAL, *_ACCESS}
Kind = Literal["", "=", "^~", "~", "~*", "@"]


def is_carried_out(name: str) -> bool:
    """Whether a directive is carried out here."""
    return name in _KNOWN


class Context:
    """A server, or a location in it.

    `path` is what it is for, `kind` how that is compared. `captures` are those of its pattern.
    """

    def __init__(
        self,
        lines: Sequence[ConfigurationLine],
        above: Context | None,
        configuration: ServerConfiguration,
        kind: Kind = "",
        path: str = "",
        line: SourceLine | None = None,
    ):
        self.lines, self.above, self.kind, self.path, self.line = lines, above, kind, path, line
        self._configuration = configuration
        self.said: dict[str, list[ConfigurationLine]] = {}
        for one in lines:
            self.said.setdefault(one.name, []).append(one)

    def source_line(self, line: ConfigurationLine) -> SourceLine:
        """A line, and where it stands."""
        file, number = self._configuration.spot(line)
        return SourceLine("", number, " ".join((line.name, *line.words)), file)

    @cached_property
    def locations(self) -> list[Context]:
        """The locations in it, in the order of the file."""
        return [_location(one, self, self._configuration) for one in self.said.get("location", ()) if one.words]

    @cached_property
    def _static(self) -> dict[str, Context]:
        found: dict[str, Context] = {}
        for one in self.locations:
            if one.kind in ("", "^~"):
                found.setdefault(one.path, one)
        return found

    @cached_property
    def _exact(self) -> dict[str, Context]:
        found: dict[str, Context] = {}
        for one in self.locations:
            if one.kind == "=":
                found.setdefault(one.path, one)
        return found

    @cached_property
    def _lengths(self) -> list[int]:
        return sorted({len(path) for path in self._static}, reverse=True)

    @cached_property
    def patterns(self) -> list[Context]:
        """The locations with a pattern, in the order in which they are tried."""
        return [one for one in self.locations if one.kind in ("~", "~*")]

    def named(self, name: str) -> Context | None:
        """The location of a name."""
        return next((one for one in self.locations if one.kind == "@" and one.path == name), None)

    def of_prefix(self, uri: str) -> Context | None:
        """The location whose path is the longest that an address begins with, or the very one."""
        if uri in self._exact:
            return self._exact[uri]
        for length in self._lengths:
            if length <= len(uri) and (found := self._static.get(uri[:length])) is not None:
                return found
        return None

    def with_slash(self, uri: str) -> Context | None:
        """The location of a program at an address with a slash behind it, to which visitors of this one are sent."""
        found = self._exact.get(f"{uri}/") or self._static.get(f"{uri}/")
        return found if found is not None and any(name in found.said for name in PASSING) else None

    def single(self, name: str) -> ConfigurationLine | None:
        """What a directive says here, or else above."""
        if name in self.said:
            return self.said[name][-1]
        return self.above.single(name) if self.above is not None else None

    def several(self, name: str) -> list[ConfigurationLine]:
        """All that a directive says here, or where it does not, above."""
        if name in self.said:
            return self.said[name]
        return self.above.several(name) if self.above is not None else []

    def own(self, name: str) -> ConfigurationLine | None:
        """What a directive says here alone."""
        return self.said[name][-1] if name in self.said else None

    @cached_property
    def access(self) -> list[ConfigurationLine]:
        """Who gets in, in order; what is said above counts where nothing is said here."""
        own = [line for line in self.lines if line.name in _ACCESS]
        return own or (self.above.access if self.above is not None else [])

    @cached_property
    def rewriting(self) -> list[ConfigurationLine]:
        return [line for line in self.lines if line.name in REWRITING]

    @cached_property
    def place(self) -> tuple[ConfigurationLine | None, str, Kind]:
        """The line that says where files lie, and the path and kind of the location that it stands in."""
        for name in ("root", "alias"):
            if name in self.said:
                return self.said[name][-1], self.path, self.kind
        return self.above.place if self.above is not None else (None, "", "")

    @cached_property
    def passing(self) -> ConfigurationLine | None:
        """What gives the content in place of a file."""
        return next((self.said[name][-1] for name in self.said if name in PASSING), None)

    @cached_property
    def odd(self) -> list[SourceLine]:
        """The lines of which nothing is known, here and above."""
        own = [self.source_line(line) for line in self.lines if line.name not in _KNOWN]
        return own + (self.above.odd if self.above is not None else [])


def http_context(lines: Sequence[ConfigurationLine], configuration: ServerConfiguration) -> Context:
    """What holds for all servers."""
    return Context(lines, None, configuration)


def server_context(section: ConfigurationLine, http: Context, configuration: ServerConfiguration) -> Context:
    """What holds in one server."""
    return Context(section.inner or (), http, configuration)


def _location(line: ConfigurationLine, above: Context, configuration: ServerConfiguration) -> Context:
    sign, path = (line.words[0], line.words[1]) if len(line.words) > 1 else ("", line.words[0])
    kinds: dict[str, Kind] = {"": "", "=": "=", "^~": "^~", "~": "~", "~*": "~*"}
    kind = kinds.get(sign, "")
    if not sign:
        for begin in ("=", "^~", "~*", "~"):
            if path.startswith(begin) and len(path) > len(begin):
                kind, path = kinds[begin], path[len(begin) :]
                break
    if path.startswith("@") and not kind:
        kind = "@"
    return Context(line.inner or (), above, configuration, kind, path, above.source_line(line))


def matched(context: Context, uri: str) -> Taken | None:
    """What a location's pattern takes of an address; None where it does not fit. Raises PatternTrouble."""
    return taken(context.path, uri, context.kind == "~*")


def found_location(server: Context, uri: str) -> Iterator[Context | Taken]:
    """The locations on the way to the one that is for an address, the last one last, with what patterns took.

    Raises PatternTrouble.
    """
    at = server
    prefix = at.of_prefix(uri)
    if prefix is not None:
        yield prefix
        if prefix.kind == "=":
            return
        inner = list(found_location(prefix, uri))
        yield from inner
        # a location with a pattern, or the very one, within it is the last word
        if any(isinstance(one, Context) and one.kind in ("=", "~", "~*") for one in inner) or prefix.kind == "^~":
            return
    for one in at.patterns:
        took = matched(one, uri)
        if took is not None:
            yield one
            yield took
            yield from found_location(one, uri)
            return
