"""The servers of an nginx by its configuration: which one answers for a name (ngx_http_core_module)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from functools import cached_property
from typing import NamedTuple

from kettlepost.core.nginx.contexts import Context, http_context, server_context
from kettlepost.core.webserver.configuration import ConfigurationLine, ServerConfiguration
from kettlepost.core.webserver.patterns import PatternTrouble, taken


class Listen(NamedTuple):
    """An address and port that a server listens at; `*` for any address."""

    ip: str
    port: int
    is_secure: bool = False
    is_default: bool = False


class NginxServer(NamedTuple):
    """One `server`, with its number in the order of the file."""

    number: int
    listens: tuple[Listen, ...]
    names: tuple[str, ...]
    section: ConfigurationLine

    @property
    def refuses_tls(self) -> bool:
        """Whether it answers nobody who asks by https."""
        inner = self.section.inner or ()
        return any(line.name == "ssl_reject_handshake" and line.words == ("on",) for line in inner)


class ServerMatch(NamedTuple):
    """The server that answers for a name, and what its pattern took of that."""

    server: NginxServer
    captures: tuple[str, ...] = ()
    named: dict[str, str] | None = None
    is_named: bool = True


class NginxServers:
    """The servers of one configuration, each compiled when it is asked for."""

    def __init__(self, configuration: ServerConfiguration):
        self.configuration = configuration
        self.outer, found = _parts(configuration.lines)
        self.servers = [_server(number, section) for number, section in enumerate(found)]
        self._contexts: dict[int, Context] = {}

    @cached_property
    def maps(self) -> dict[str, ConfigurationLine]:
        """What makes variables of others, by their names."""
        return {
            line.words[-1]: line for line in self.outer if line.name in ("map", "geo", "split_clients") and line.words
        }

    @cached_property
    def names_users(self) -> bool:
        """Whether files of those who may log in are kept of the configuration, as they were not always."""
        return _has_line((*self.outer, *(server.section for server in self.servers)), "auth_basic_user_file")

    @cached_property
    def http(self) -> Context:
        """What holds for all servers."""
        return http_context(self.outer, self.configuration)

    def context(self, server: NginxServer) -> Context:
        """What holds in a server, with its locations."""
        known = self._contexts.get(server.number)
        if known is None:
            known = self._contexts[server.number] = server_context(server.section, self.http, self.configuration)
        return known

    @cached_property
    def ports(self) -> dict[str, int]:
        """The port at which each scheme is answered; those that nothing listens at are not there."""
        every = [listen for server in self.servers for listen in server.listens]
        secure = {listen.port for listen in every if listen.is_secure}
        plain = sorted({listen.port for listen in every} - secure, key=lambda port: (port != 80, port))
        by_tls = sorted(secure, key=lambda port: (port != 443, port))
        return ({"http": plain[0]} if plain else {}) | ({"https": by_tls[0]} if by_tls else {})

    def is_sure(self, name: str, scheme: str, ips: Sequence[str] = ()) -> bool:
        """Whether it is told at which address of the server visitors of a name arrive, where that decides."""
        own = [place for place in self._groups if place[1] == self.ports.get(scheme) and place[0] != "*"]
        every = [place for place in self._groups if place[1] == self.ports.get(scheme)]
        return bool(ips) or not own or len(every) == 1 or (len(own) == 1 and self._tables[own[0]].has(name))

    @cached_property
    def _groups(self) -> dict[tuple[str, int], list[NginxServer]]:
        """The servers of each address and port, in the order of the file."""
        found: dict[tuple[str, int], list[NginxServer]] = {}
        for server in self.servers:
            for listen in server.listens:
                group = found.setdefault((listen.ip, listen.port), [])
                if not group or group[-1] is not server:
                    group.append(server)
        return found

    @cached_property
    def _tables(self) -> dict[tuple[str, int], _NameTable]:
        return {place: _NameTable(servers, place) for place, servers in self._groups.items()}

    def has(self, name: str) -> bool:
        """Whether a server has a name, by itself, by a wildcard or by a pattern."""
        return any(table.has(name) for table in self._tables.values())

    def chosen(self, name: str, scheme: str, ips: Sequence[str] = ()) -> ServerMatch | None:
        """The server that answers for a name; None where nothing listens. `ips` are the account's own addresses."""
        port = self.ports.get(scheme)
        fitting = [place for place in self._groups if place[1] == port]
        named = [one for one in fitting if one[0] != "*"
                 and (one[0] in ips or (not ips and self._tables[one].has(name)))]  # fmt: skip
        place = next(iter(named), None) or next((one for one in fitting if one[0] == "*"), None)
        place = place or next(iter(fitting), None)
        found = self._tables[place].match(name) if place is not None else None
        return None if found is not None and scheme == "https" and found.server.refuses_tls else found


class _NameTable:
    """The names of the servers of one address and port."""

    def __init__(self, servers: list[NginxServer], place: tuple[str, int]):
        self._exact: dict[str, NginxServer] = {}
        self._heads: dict[str, NginxServer] = {}
        self._tails: dict[str, NginxServer] = {}
        self._patterns: list[tuple[str, NginxServer]] = []
        for server in servers:
            for name in server.names:
                self._add(name, server)
        default = (
            one for one in servers for listen in one.listens if listen.is_default and (listen.ip, listen.port) == place
        )
        self._default = next(default, servers[0])

    def _add(self, name: str, server: NginxServer) -> None:
        if name.startswith("~"):
            self._patterns.append((name[1:], server))
        elif name.startswith("*."):
            self._heads.setdefault(name[1:], server)
        elif name.endswith(".*"):
            self._tails.setdefault(name[:-1], server)
        elif name.startswith("."):
            self._exact.setdefault(name[1:], server)
            self._heads.setdefault(name, server)
        else:
            self._exact.setdefault(name, server)

    def has(self, name: str) -> bool:
        return self._named(name) is not None

    def _named(self, name: str) -> ServerMatch | None:
        if name in self._exact:
            return ServerMatch(self._exact[name])
        labels = name.split(".")
        for n in range(1, len(labels)):
            if (found := self._heads.get("." + ".".join(labels[n:]))) is not None:
                return ServerMatch(found)
        for n in range(len(labels) - 1, 0, -1):
            if (found := self._tails.get(".".join(labels[:n]) + ".")) is not None:
                return ServerMatch(found)
        for pattern, server in self._patterns:
            try:
                took = taken(pattern, name)
            except PatternTrouble:
                continue
            if took is not None:
                return ServerMatch(server, took.groups, took.named)
        return None

    def match(self, name: str) -> ServerMatch:
        return self._named(name) or ServerMatch(self._default, is_named=False)


def _parts(lines: Iterable[ConfigurationLine]) -> tuple[list[ConfigurationLine], list[ConfigurationLine]]:
    """What holds for all servers, and the servers; those of `http`, or written alone."""
    outer: list[ConfigurationLine] = []
    servers: list[ConfigurationLine] = []
    for line in lines:
        if line.name == "http" and line.inner is not None:
            more, found = _parts(line.inner)
            outer += more
            servers += found
        elif line.name == "server" and line.inner is not None:
            servers.append(line)
        else:
            outer.append(line)
    return outer, servers


def _server(number: int, section: ConfigurationLine) -> NginxServer:
    inner = section.inner or ()
    has_ssl = any(line.name == "ssl" and line.words == ("on",) for line in inner)
    listens = [_listen(line.words, has_ssl) for line in inner if line.name == "listen" and line.words]
    own = tuple(listen for listen in listens if listen is not None)
    words = [word for line in inner if line.name == "server_name" for word in line.words]
    names = tuple(word if word.startswith("~") else word.lower() for word in words)
    return NginxServer(number, own or (Listen("*", 80),), names or ("",), section)


def _listen(words: Sequence[str], has_ssl: bool) -> Listen | None:
    """Where a server listens; None for what no visitor reaches by IPv4."""
    place, options = words[0], words[1:]
    secure, default = has_ssl or "ssl" in options, "default_server" in options or "default" in options
    if place.isdigit():
        return Listen("*", int(place), secure, default)
    match = re.fullmatch(r"([^:\[]*)(?::(\d+))?", place)
    if match is None or "quic" in options:
        return None
    any_address = match[1] in ("", "*", "0.0.0.0")  # noqa: S104 (read, not bound)
    return Listen("*" if any_address else match[1], int(match[2] or 80), secure, default)


def _has_line(lines: Iterable[ConfigurationLine], name: str) -> bool:
    return any(line.name == name or _has_line(line.inner or (), name) for line in lines)
