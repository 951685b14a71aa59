"""The hosts of an Apache HTTP Server by its configuration: which one answers, and what holds there.

Which host it is follows the server: first the address and port, then the name, in the order of the file.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import NamedTuple

from msgspec.structs import replace

from kettlepost.core.messages import Message, say
from kettlepost.core.webserver.configuration import ConfigurationLine, ServerConfiguration
from kettlepost.core.webserver.control import Control, compile_section
from kettlepost.core.webserver.directives import split_words
from kettlepost.core.webserver.host_sections import (
    BUILT_IN,
    HTACCESS,
    MOST_SCOPES,
    AliasLine,
    FolderSection,
    HostSections,
    PassLine,
    PathMatch,
    PathSection,
    folders_down,
)
from kettlepost.core.webserver.rewriting import RewriteRules, RuleFault, read_rules
from kettlepost.core.webserver.sections import Scope
from kettlepost.core.webserver.server import USUAL_MODULES, WebServer, module_name
from kettlepost.core.webserver.settings import RedirectLine, SourceLine, read_part
from kettlepost.core.webserver.vocabulary import known_modules
from kettlepost.core.webserver.wildcards import matches_stars


class HostAddress(NamedTuple):
    """An address and port at which a host answers; `*` for any address, 0 for any port."""

    ip: str
    port: int


class VirtualHost(NamedTuple):
    """One `<VirtualHost>` as it is written, or the server itself, with its number in the order of the file."""

    number: int
    addresses: tuple[HostAddress, ...]
    name: str
    names: frozenset[str]
    wild: tuple[str, ...]
    lines: tuple[ConfigurationLine, ...]
    file: str = ""
    line: int = 0

    def has_by_itself(self, host: str) -> bool:
        """Whether it has a name as it is written, not only by a wildcard."""
        return host == self.name or host in self.names

    def answers_for(self, host: str) -> bool:
        """Whether it has a name, by itself or by a wildcard."""
        return self.has_by_itself(host) or any(matches_stars(host, name) for name in self.wild)


class ApacheHosts:
    """The hosts of one configuration, each compiled when it is asked for."""

    def __init__(self, configuration: ServerConfiguration):
        self.configuration = configuration
        self.outer = tuple(line for line in configuration.lines if line.name != "virtualhost")
        self.hosts = [
            self._host(number, line)
            for number, line in enumerate(line for line in configuration.lines if line.name == "virtualhost")
        ]
        self._compiled: dict[tuple[int, str | None, WebServer], HostSetup] = {}

    def _host(self, number: int, section: ConfigurationLine) -> VirtualHost:
        inner = section.inner or ()
        name = next(
            (_words(line)[0].lower() for line in reversed(inner) if line.name == "servername" and _words(line)), ""
        )
        names = tuple(word.lower() for line in inner if line.name == "serveralias" for word in _words(line))
        addresses = tuple(_address(word) for word in _words(section)) or (HostAddress("*", 0),)
        bare = re.sub(r"^[a-z]+://|:\d+$", "", name)
        wild = tuple(name for name in names if "*" in name or "?" in name)
        exact = frozenset(names).difference(wild)
        return VirtualHost(number, addresses, bare, exact, wild, inner, *self.configuration.spot(section))

    @cached_property
    def itself(self) -> VirtualHost:
        """The server where no `<VirtualHost>` answers."""
        name = next(
            (_words(line)[0].lower() for line in reversed(self.outer) if line.name == "servername" and _words(line)), ""
        )
        return VirtualHost(-1, (), re.sub(r"^[a-z]+://|:\d+$", "", name), frozenset(), (), ())

    @cached_property
    def ports(self) -> dict[str, int]:
        """The port at which each scheme is answered; those that nothing listens at are not there."""
        listens = [_words(line) for line in self.outer if line.name == "listen" and _words(line)]
        found = {int(port) for words in listens if (port := words[0].rpartition(":")[2]).isdigit()}
        secure = (
            {443}
            | {
                int(words[0].rpartition(":")[2])
                for words in listens
                if words[1:] == ["https"] and words[0].rpartition(":")[2].isdigit()
            }
            | {
                address.port
                for host in self.hosts
                if self.is_secure(host)
                for address in host.addresses
                if address.port
            }
        )
        if not found:
            found = {address.port for host in self.hosts for address in host.addresses} - {0}
        plain = sorted(found - secure, key=lambda port: (port != 80, port))
        by_tls = sorted(found & secure, key=lambda port: (port != 443, port))
        ports = {"http": plain[0]} if plain else {}
        if not ports and not found:
            ports = {"http": 80}
        return ports | ({"https": by_tls[0]} if by_tls else {})

    def is_secure(self, host: VirtualHost) -> bool:
        """Whether a host answers by https."""
        said = [line.text.strip().lower() for line in host.lines if line.name == "sslengine"]
        return said[-1:] == ["on"] or (not said and any(address.port == 443 for address in host.addresses))

    @cached_property
    def _chains(self) -> dict[HostAddress, list[VirtualHost]]:
        """The hosts of each address and port, in the order of the file."""
        found: dict[HostAddress, list[VirtualHost]] = {}
        for host in self.hosts:
            for address in host.addresses:
                chain = found.setdefault(address, [])
                if not chain or chain[-1] is not host:
                    chain.append(host)
        return found

    @cached_property
    def _by_name(self) -> dict[tuple[HostAddress, str], VirtualHost]:
        """The first host of a chain that has a name by itself."""
        found: dict[tuple[HostAddress, str], VirtualHost] = {}
        for address, chain in self._chains.items():
            for host in chain:
                for name in (host.name, *host.names):
                    found.setdefault((address, name), host)
        return found

    @cached_property
    def _wild(self) -> dict[HostAddress, list[VirtualHost]]:
        return {address: [host for host in chain if host.wild] for address, chain in self._chains.items()}

    def chosen(self, name: str, scheme: str, ips: Sequence[str] = ()) -> VirtualHost | None:
        """The host that answers for a name; None where nothing listens. `ips` are the account's own addresses."""
        port = self.ports.get(scheme)
        if port is None:
            return None
        address = self._chain(name, port, ips)
        if address is None:
            return self.itself
        by_name = self._by_name.get((address, name))
        wild = next((host for host in self._wild[address] if host.answers_for(name)), None)
        found = [host for host in (by_name, wild) if host is not None]
        return min(found, key=lambda host: host.number) if found else self._chains[address][0]

    def _chain(self, name: str, port: int, ips: Sequence[str]) -> HostAddress | None:
        """Of the addresses at which hosts answer the one that counts: the account's own, else the most exact."""
        fitting = [address for address in self._chains if address.port in (port, 0)]
        named = [one for one in fitting if one.ip != "*" and (one.ip in ips or (not ips and self._has(one, name)))]
        named.sort(key=lambda one: one.port == 0)
        return next(iter(named), None) or next((one for one in fitting if one.ip == "*"), None)

    def is_sure(self, name: str, scheme: str, ips: Sequence[str] = ()) -> bool:
        """Whether it is told at which address of the server visitors of a name arrive, where that decides."""
        port = self.ports.get(scheme)
        own = [one for one in self._chains if one.port in (port, 0) and one.ip != "*"]
        return bool(ips) or not own or (len({one.ip for one in own}) == 1 and self._has(own[0], name))

    def _has(self, address: HostAddress, name: str) -> bool:
        return (address, name) in self._by_name or any(host.answers_for(name) for host in self._wild[address])

    def has(self, name: str) -> bool:
        """Whether a host has a name, by itself or by a wildcard."""
        return name == self.itself.name or any(self._has(address, name) for address in self._chains)

    def setup(self, host: VirtualHost, server: WebServer, root: str | None = None) -> HostSetup:
        """How a host answers; with `root` as it would with that document root. `server` is what else is told of it."""
        key = host.number, root, server
        known = self._compiled.get(key)
        if known is None:
            known = self._compiled[key] = HostSetup(self, host, root, server)
        return known

    def heeds_control_files(self, name: str, folder: str, server: WebServer) -> bool:
        """Whether the host of a name lets control files in a folder of the machine do anything."""
        host = self.chosen(name, "https") or self.chosen(name, "http") or self.itself
        allowed, listed = False, False
        for above in folders_down(folder):
            for section in self.setup(host, server).in_folder(above):
                allowed = allowed if section.overrides is None else section.overrides != ("None",)
                listed = listed if section.listed is None else bool(section.listed)
        return allowed or listed

    @cached_property
    def modules(self) -> frozenset[str] | None:
        """The modules that it has; None where its lines do not tell."""
        told = self.configuration.modules
        return BUILT_IN | frozenset(map(module_name, told)) if told is not None else None

    @cached_property
    def sections(self) -> HostSections:
        """What holds for all hosts."""
        return HostSections(self.outer, self.configuration)


class HostSetup:
    """How one host answers: what is said for all of them, then what is said for it."""

    def __init__(self, hosts: ApacheHosts, host: VirtualHost, root: str | None, server: WebServer):
        self._hosts, self.host = hosts, host
        self.outer, self.own = hosts.sections, HostSections(host.lines, hosts.configuration)
        self.is_whole = hosts.configuration.is_whole
        self.key = f"{hosts.configuration.server} {host.number} {root or ''}"
        self._is_itself = root is None
        told = root if root is not None else self._text("documentroot") or ""
        server_root = self.outer.text("serverroot") or ""
        self.document_root = posixpath.join(server_root, told) if told and server_root.startswith("/") else told
        self.server = self._server(server)

    def _text(self, name: str) -> str | None:
        found = self.own.text(name)
        return found if found is not None else self.outer.text(name)

    def _server(self, told: WebServer) -> WebServer:
        """What is known of the server, as its configuration says it."""
        modules = self._hosts.modules
        if self.is_whole:
            told = replace(
                told, index_files=None, lists=False, allow_override=("None",), allow_list=(), follow_links="always"
            )
        if modules is None:
            return told
        php = [name for name in modules if name.startswith("php")]
        how = "module" if php else told.php if told.php != "module" else None
        lacks = tuple(sorted((USUAL_MODULES | known_modules()) - modules))
        return replace(told, modules=tuple(sorted(modules)), lacks=lacks, php=how)

    @cached_property
    def base(self) -> tuple[Control, ...]:
        """What is said outside of sections for folders and paths."""
        server = WebServer("apache")
        return tuple(compile_section(one.plain, server) for one in (self.outer, self.own) if one.plain)

    @cached_property
    def rules(self) -> RewriteRules | None:
        """The rewriting of the host itself; None where there is none, or the server refuses it."""
        try:
            above = read_rules("", self.outer.rewriting, None) if self.outer.rewriting else None
            if self.host.number < 0:
                return above if self._is_itself else None
            has_own = any(line.name == "rewriteengine" for line in self.own.rewriting)  # which no host inherits
            return read_rules("", self.own.rewriting, above) if has_own else None
        except RuleFault:
            return None

    @cached_property
    def aliases(self) -> list[AliasLine]:
        """What is mapped, in the order in which it is looked at: first what is said for this host."""
        return [*self.own.aliases, *self.outer.aliases]

    @cached_property
    def passes(self) -> list[PassLine]:
        return [*self.outer.passes, *self.own.passes]

    @cached_property
    def sent(self) -> tuple[RedirectLine, ...]:
        """The redirects of the host itself."""
        found: list[RedirectLine] = []
        for one in (self.own, self.outer):
            if one.sending:
                control = compile_section(one.sending, WebServer("apache"))
                found += [sent for part in control.parts for sent in read_part("", part).redirects]
        return tuple(found)

    @cached_property
    def paths(self) -> list[PathSection]:
        return [*self.outer.paths, *self.own.paths]

    @property
    def virtual_root(self) -> str | None:
        """The pattern by which folders are made of names."""
        return self._text("virtualdocumentroot")

    def user_folder(self, user: str) -> str | None:
        """Where `/~name` of a user leads to; None where it leads nowhere."""
        modules = self._hosts.modules
        found, is_off = None, modules is not None and "userdir" not in modules
        for line in (*self.outer.said.get("userdir", ()), *self.own.said.get("userdir", ())):
            first, *users = line.words or [""]
            if first.lower() == "disabled":
                is_off = is_off or not users or user in users
            elif first.lower() != "enabled":
                found = first
        return found if not is_off else None

    @property
    def canonical_name(self) -> str | None:
        """The name of the host that redirects have, whatever was asked for; None where that is the one asked for."""
        return self.host.name or None if (self._text("usecanonicalname") or "").lower() == "on" else None

    @cached_property
    def control_names(self) -> tuple[str, ...]:
        """What control files are called, in the order in which they are looked for; the first that is there counts."""
        said = [*self.outer.said.get("accessfilename", ()), *self.own.said.get("accessfilename", ())]
        return tuple(said[-1].words) if said else (HTACCESS,)

    @property
    def shows_own_errors(self) -> bool:
        """Whether it shows pages of its own for errors of programs behind it."""
        return (self._text("proxyerroroverride") or "").lower() == "on"

    def doubts_path(self, path: str) -> Message | None:
        """On what it depends what the server makes of slashes in a path as it is written; None where on nothing."""
        if "%2f" in path.lower() and (self._text("allowencodedslashes") or "off").lower() != "off":
            return say("doubt/encoded-slashes")
        keeps = (self._text("mergeslashes") or "on").lower() == "off"
        return say("doubt/several-slashes") if keeps and "//" in path else None

    def line_for(self, host: str) -> SourceLine | None:
        """The line of the host, where it answers for a name that it has by a wildcard alone, or not at all."""
        if self.host.number < 0 or self.host.has_by_itself(host):
            return None
        words = " ".join(filter(None, (self.host.name, *self.host.wild)))
        return SourceLine("", self.host.line, f"<VirtualHost> {words}".strip(), self.host.file)

    def in_folder(self, folder: str) -> list[FolderSection]:
        """The sections for one folder of the machine, in their order."""
        return [*self.outer.in_folder(folder), *self.own.in_folder(folder)]

    def for_file(self, file: str) -> list[FolderSection]:
        """The sections for folders that hold for a file as well."""
        return [*self.outer.for_file(file), *self.own.for_file(file)]

    @cached_property
    def folder_patterns(self) -> list[FolderSection]:
        return [*self.outer.folder_patterns, *self.own.folder_patterns]

    @cached_property
    def is_simple(self) -> bool:
        """Whether it makes the same of all that is not there, but for paths that its lines name."""
        has_patterns = any(match.is_pattern or match.has_wildcards for match in self._matches)
        by_pattern = any(sent.pattern is not None for sent in self.sent)
        wild = (
            self.outer.finds_variants
            or self.own.finds_variants
            or self.folder_patterns
            or self.outer.wild_folders
            or self.own.wild_folders
        )
        expressions = any(scope.expression is not None for scope in self._scopes)
        several = self.rules is not None or self.virtual_root is not None or self._users
        return not (has_patterns or by_pattern or wild or several or expressions) and len(self._scopes) <= MOST_SCOPES

    @property
    def _users(self) -> bool:
        return "userdir" in self.outer.said or "userdir" in self.own.said

    @cached_property
    def _matches(self) -> list[PathMatch]:
        """For which paths lines of it hold."""
        return [
            *(line.match for line in self.aliases), *(line.match for line in self.passes),
            *(section.match for section in self.paths),
        ]  # fmt: skip

    @cached_property
    def _scopes(self) -> list[Scope]:
        own = [part.scope for control in self.base for part in control.parts]
        return [scope for scope in (*own, *self.outer.scopes, *self.own.scopes) if scope != Scope()]

    @cached_property
    def _file_scopes(self) -> list[Callable[[str], bool]]:
        return [scope.files for scope in self._scopes if scope.files is not None]

    def touches(self, uri: str) -> bool:
        """Whether a line of a host that is simple names a path, or one above it."""
        return any(match.covers_path(uri) for match in self._matches) or any(
            uri.startswith(sent.path) for sent in self.sent
        )

    def fits(self, name: str) -> tuple[bool, ...]:
        """For which files' names lines hold: those of one name, for each."""
        return tuple(scope(name) for scope in self._file_scopes)

    @property
    def is_secure(self) -> bool:
        """Whether it answers by https."""
        return self._hosts.is_secure(self.host)


def _words(line: ConfigurationLine) -> list[str]:
    return split_words(line.text)


def _address(word: str) -> HostAddress:
    place, colon, port = word.rpartition(":")
    if not colon or port.endswith("]"):
        place, port = word, "0"
    ip = "*" if place.lower() in ("_default_", "*", "") else place.strip("[]")
    return HostAddress(ip, int(port) if port.isdigit() else 0)
