"""What the configuration of an Apache HTTP Server says of folders, files, paths and programs, of all hosts or one."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable, Iterator
from functools import cached_property
from typing import NamedTuple

from kettlepost.core.webserver.configuration import ConfigurationLine, ServerConfiguration
from kettlepost.core.webserver.control import Control, compile_section
from kettlepost.core.webserver.directives import Directive, Node, Section, split_words
from kettlepost.core.webserver.patterns import search
from kettlepost.core.webserver.sections import Scope
from kettlepost.core.webserver.server import Override, WebServer
from kettlepost.core.webserver.settings import SourceLine
from kettlepost.core.webserver.vocabulary import titled
from kettlepost.core.webserver.wildcards import matches_wildcards

MOST_SCOPES = 40
"""Of how many kinds of files a host may say something so that what is not there is answered alike."""
HTACCESS = ".htaccess"
BUILT_IN = frozenset(("core", "so", "http", "log_config", "logio", "version", "unixd", "watchdog"))
"""Modules that no line loads, as they are a part of the program."""
_SECTIONS = frozenset(("directory", "directorymatch", "location", "locationmatch", "proxy", "proxymatch"))
_MAPPING = frozenset(("alias", "aliasmatch", "scriptalias", "scriptaliasmatch", "wsgiscriptalias"))
_PASSING = frozenset(("proxypass", "proxypassmatch"))
_SENDING = frozenset(("redirect", "redirectmatch", "redirectpermanent", "redirecttemp"))
_OF_HOSTS = frozenset(
    """servername serveralias documentroot listen loadmodule virtualdocumentroot userdir sslengine sslcertificatefile
    suexecusergroup assignuserid accessfilename allowencodedslashes mergeslashes serverroot proxyerroroverride
    allowoverride allowoverridelist usecanonicalname virtualhost rewritemap""".split()
)
_BESIDE = _SECTIONS | _MAPPING | _PASSING | _SENDING | _OF_HOSTS
"""What is carried out here, beside what control files may hold."""


def is_carried_out(name: str) -> bool:
    """Whether a directive of the server's own files is carried out here."""
    return name in _BESIDE


class PathMatch(NamedTuple):
    """For which paths something holds: those below `path`, those like it where it has wildcards, or a pattern."""

    path: str
    is_pattern: bool = False

    @property
    def has_wildcards(self) -> bool:
        return not self.is_pattern and any(sign in self.path for sign in "*?[")

    def covers_folder(self, folder: str) -> bool:
        """Whether it is for a folder of the machine. Raises PatternTrouble."""
        if self.is_pattern:
            return search(self.path, folder) is not None
        own = self.path.rstrip("/")
        if not self.has_wildcards:
            return folder.rstrip("/") == own
        return matches_wildcards(folder.rstrip("/"), own, within_segments=True)

    def covers_path(self, uri: str) -> bool:
        """Whether it is for a path of a host, as `<Location>` has it. Raises PatternTrouble."""
        if self.is_pattern:
            return search(self.path, uri) is not None
        if self.has_wildcards:
            return matches_wildcards(uri, self.path, within_segments=True)
        begins = uri.startswith(self.path)
        return begins and (self.path.endswith("/") or uri[len(self.path) :][:1] in ("", "/"))


class FolderSection(NamedTuple):
    """A `<Directory>`: what holds in folders, and what control files may do there (None where it does not say)."""

    match: PathMatch
    control: Control
    overrides: tuple[Override, ...] | None
    listed: tuple[str, ...] | None
    odd: tuple[SourceLine, ...]
    number: int = 0


class PathSection(NamedTuple):
    """A `<Location>`: what holds for paths of a host; `passes` are the lines that hand them to another program."""

    match: PathMatch
    control: Control
    passes: tuple[PassLine, ...]
    odd: tuple[SourceLine, ...]


class AliasLine(NamedTuple):
    """A path that is mapped to a folder or file of the machine, or to a program where `runs` says which kind."""

    source_line: SourceLine
    match: PathMatch
    target: str
    runs: str = ""


class PassLine(NamedTuple):
    """A path that is handed to another program; nowhere where `target` is `!`."""

    source_line: SourceLine
    match: PathMatch
    target: str


class HostSections:
    """The sections of one place of a configuration, taken apart."""

    def __init__(self, lines: Iterable[ConfigurationLine], configuration: ServerConfiguration):
        server = WebServer("apache")
        self.plain: list[Node] = []
        self.rewriting: list[Directive] = []
        self.aliases: list[AliasLine] = []
        self.passes: list[PassLine] = []
        self.folders: dict[str, list[FolderSection]] = {}
        self.wild_folders: list[FolderSection] = []
        self.folder_patterns: list[FolderSection] = []
        self.paths: list[PathSection] = []
        self.said: dict[str, list[Directive]] = {}
        self.sending: list[Directive] = []
        self._server, self._configuration, self._number = server, configuration, 0
        self.finds_variants = False
        for line in lines:
            self._take(_node(line, configuration))

    def _take(self, node: Node) -> None:
        name = node.name
        self.finds_variants = self.finds_variants or _may_find_variants(node)
        if isinstance(node, Section) and name in _SECTIONS:
            self._section(node)
        elif isinstance(node, Section):
            self.plain.append(node)
        elif name.startswith("rewrite"):
            self.rewriting.append(node)
        elif name in _MAPPING:
            self.aliases += _alias(node)
        elif name in _PASSING:
            self.passes += _passed(node, "")
        elif name in _SENDING:
            self.sending.append(node)
        elif name in _OF_HOSTS:
            self.said.setdefault(name, []).append(node)
        else:
            self.plain.append(node)

    def _section(self, node: Section) -> None:
        words = node.words
        is_pattern = node.name.endswith("match") or words[:1] == ["~"]
        place = words[-1] if words else ""
        own = [inner for inner in node.inner if inner.name not in _BESIDE or inner.name in _SENDING]
        if node.name.startswith("directory"):
            match = PathMatch(place if is_pattern or place == "/" else posixpath.normpath(place), is_pattern)
            is_wild = is_pattern or match.has_wildcards
            odd = _lines(
                inner for inner in node.inner
                if inner.name in _MAPPING | _PASSING or (is_wild and inner.name == "rewriterule")
            )  # fmt: skip
            own = [inner for inner in own if not (is_wild and inner.name.startswith("rewrite"))]
            self._number += 1
            section = FolderSection(match, compile_section(own, self._server), *_overrides(node), odd, self._number)
            if is_pattern:
                self.folder_patterns.append(section)
            elif match.has_wildcards:
                self.wild_folders.append(section)
            else:
                self.folders.setdefault(match.path.rstrip("/"), []).append(section)
        elif node.name.startswith("location"):
            match = PathMatch(place, is_pattern)
            own_passes = [one for inner in node.inner if inner.name in _PASSING and isinstance(inner, Directive)
                          for one in _passed(inner, place, is_pattern)]  # fmt: skip
            odd = _lines(
                inner for inner in node.inner
                if inner.name in _MAPPING or inner.name.startswith("rewriterule") or inner.name in _SECTIONS
            )  # fmt: skip
            plain = [inner for inner in own if not inner.name.startswith("rewrite")]
            control = compile_section(plain, self._server)
            self.paths.append(PathSection(match, control, tuple(own_passes), odd))

    @cached_property
    def scopes(self) -> list[Scope]:
        """For which files alone something holds in its folders."""
        sections = (one for several in self.folders.values() for one in several)
        return [part.scope for one in sections for part in one.control.parts if part.scope != Scope()]

    def in_folder(self, folder: str) -> list[FolderSection]:
        """The sections for one folder of the machine, without those that have a pattern."""
        own = self.folders.get(folder.rstrip("/"), [])
        if not self.wild_folders:
            return own
        wild = [one for one in self.wild_folders if one.match.covers_folder(folder)]
        return sorted([*own, *wild], key=lambda one: one.number)

    def for_file(self, file: str) -> list[FolderSection]:
        """The sections with wildcards that a server takes a file for as well."""
        return [one for one in self.wild_folders if one.match.covers_folder(file)]

    def text(self, name: str) -> str | None:
        """What a directive says of which the last one counts."""
        said = self.said.get(name)
        words = said[-1].words if said else []
        return words[0] if words else None


def folders_down(path: str) -> list[str]:
    """The folders from the machine's root down to a path, with it."""
    parts = [part for part in path.split("/") if part]
    return ["/", *("/" + "/".join(parts[: n + 1]) for n in range(len(parts)))]


def _node(line: ConfigurationLine, configuration: ServerConfiguration) -> Node:
    file, number = configuration.spot(line)
    if line.inner is None:
        return Directive(line.name, line.text, number, file)
    return Section(line.name, line.text, number, tuple(_node(one, configuration) for one in line.inner), file)


def _source_line(node: Node) -> SourceLine:
    return SourceLine("", node.line, f"{titled(node.name)} {node.text}".strip(), node.file)


def _may_find_variants(node: Node) -> bool:
    """Whether a line, or one in a section, has files of nearly a name taken."""
    if isinstance(node, Section):
        return any(map(_may_find_variants, node.inner))
    return node.name == "options" and "multiviews" in node.text.lower()


def _lines(nodes: Iterable[Node]) -> tuple[SourceLine, ...]:
    return tuple(map(_source_line, nodes))


def _overrides(node: Section) -> tuple[tuple[Override, ...] | None, tuple[str, ...] | None]:
    """What control files may do by a section: kinds of directives, and some by name."""
    kinds: tuple[Override, ...] | None = None
    listed: tuple[str, ...] | None = None
    for inner in node.inner:
        words = split_words(inner.text)
        if inner.name == "allowoverride":
            named = [_OVERRIDES[word.partition("=")[0].lower()] for word in words
                     if word.partition("=")[0].lower() in _OVERRIDES]  # fmt: skip
            kinds = tuple(dict.fromkeys(named)) or ("None",)
        elif inner.name == "allowoverridelist":
            listed = tuple(word for word in words if word.lower() != "none")
    return kinds, listed


_OVERRIDES: dict[str, Override] = {
    "all": "All", "none": "None", "authconfig": "AuthConfig", "fileinfo": "FileInfo", "indexes": "Indexes",
    "limit": "Limit", "options": "Options",
}  # fmt: skip


def _alias(node: Directive) -> Iterator[AliasLine]:
    words = node.words
    if len(words) < 2:
        return
    runs = {"scriptalias": "cgi-script", "scriptaliasmatch": "cgi-script", "wsgiscriptalias": "wsgi-script"}
    match = PathMatch(words[0], node.name.endswith("match"))
    yield AliasLine(_source_line(node), match, words[1], runs.get(node.name, ""))


def _passed(node: Directive, place: str, is_pattern: bool = False) -> Iterator[PassLine]:
    """What a line hands on; within a `<Location>` it says only to whom."""
    words = [
        word for word in node.words if not re.fullmatch(r"[a-z]+=\S*|nocanon|interpolate|noquery", word, re.IGNORECASE)
    ]
    if place and words:
        yield PassLine(_source_line(node), PathMatch(place, is_pattern), words[-1])
    elif len(words) > 1:
        yield PassLine(_source_line(node), PathMatch(words[0], node.name == "proxypassmatch"), words[1])
