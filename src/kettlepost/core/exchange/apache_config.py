"""Configurations of the Apache HTTP Server 2.4, put together: includes, macros, variables and conditions."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from kettlepost.core.exchange.observed import DEEPEST, LARGEST, ImportRemark, Opener, SourceSpot
from kettlepost.core.messages import say
from kettlepost.core.webserver import Directive, Section, read_directives
from kettlepost.core.webserver.directives import NO_SECTION, NOT_CLOSED, ODDLY_CLOSED, split_words
from kettlepost.core.webserver.host_sections import BUILT_IN
from kettlepost.core.webserver.sections import holds
from kettlepost.core.webserver.server import module_name

_VARIABLE = re.compile(r"\$\{([^}:]+)\}")
_LONGEST = 64 * 1024
_UNCLOSED = frozenset(map(str.lower, (NOT_CLOSED, ODDLY_CLOSED, NO_SECTION)))


class ApacheNode(NamedTuple):
    """A directive or section, with included files, macros and variables put in."""

    name: str
    text: str
    spot: SourceSpot
    inner: list[ApacheNode]

    @property
    def words(self) -> list[str]:
        return split_words(self.text)


class Expansion:
    """Puts in what files include, what macros stand for, and the values of variables."""

    def __init__(self, opener: Opener, root: str, remarks: list[ImportRemark]):
        self._opener = opener
        self._root = root
        self._remarks = remarks
        self._defined: dict[str, str] = {}
        self._macros: dict[str, tuple[list[str], tuple[Directive | Section, ...]]] = {}
        self._open: list[str] = []
        self._used_now: list[str] = []
        self.files: list[str] = []
        self.modules: list[str] = []

    def file(self, name: str, raw: bytes) -> Iterator[ApacheNode]:
        if len(raw) > LARGEST:
            self._remarks.append(
                ImportRemark(
                    SourceSpot(name, 0),
                    say("import/too-large", megabytes=LARGEST >> 20),
                    say("import/nothing-read"),
                    cuts=True,
                )
            )
            return
        nodes, fault = read_directives(raw.decode("utf-8", "replace"))
        if fault is not None:
            self._remarks.append(
                ImportRemark(
                    SourceSpot(name, fault.line),
                    fault.text,
                    say("import/syntax/means"),
                    cuts=True,
                )
            )
        self._open.append(name)
        self.files.append(name)
        try:
            yield from self._expanded(nodes, name, 0)
        finally:
            self._open.pop()

    def _expanded(
        self, nodes: Iterable[Directive | Section], file: str, depth: int, at: SourceSpot | None = None
    ) -> Iterator[ApacheNode]:
        """The lines with what they stand for; those of a macro are told where it is used, `at`."""
        for node in nodes:
            self._opener.intake.items()
            spot, name = at or SourceSpot(file, node.line), node.name
            if isinstance(node, Section):
                yield from self._section(node, spot, depth, at)
                continue
            text = self._filled(node.text) if "${" in node.text else node.text
            if name in _UNCLOSED:
                self._remarks.append(
                    ImportRemark(
                        spot,
                        say("import/section-unfinished"),
                        say("import/section-unfinished/means"),
                    )
                )
            elif name in ("include", "includeoptional"):
                yield from self._included(text, spot, name == "include")
            elif name in ("define", "undefine", "loadmodule"):
                self._take(name, split_words(text))
            elif name == "serverroot":
                self._root = (split_words(text) or [self._root])[0]
                yield ApacheNode(name, text, spot, [])
            elif name == "use":
                yield from self._used(text, spot, depth)
            else:
                yield ApacheNode(name, text, spot, [])

    def _take(self, name: str, words: list[str]) -> None:
        """Keep in mind what the server has from here on."""
        if name == "loadmodule":
            self.modules += words[:1]
        elif name == "undefine":
            self._defined.pop(" ".join(words), None)
        elif words:
            self._defined[words[0]] = words[1] if len(words) > 1 else ""

    def _section(self, node: Section, spot: SourceSpot, depth: int, at: SourceSpot | None) -> Iterator[ApacheNode]:
        if node.name == "macro":
            words = node.words
            if words:
                self._macros[words[0].lower()] = (words[1:], node.inner)
            return
        if node.name in ("ifdefine", "ifmodule", "ifversion", "iffile", "ifdirective", "ifsection"):
            known = holds(node)
            if node.name == "ifdefine":
                asked = node.text.strip()
                known = (asked.lstrip("!").strip() in self._defined) != asked.startswith("!")
            elif node.name == "ifmodule" and self.modules:
                asked = node.text.strip()
                known = self._has(asked.lstrip("!").strip()) != asked.startswith("!")
            elif known is None:  # what a server has is not told by its files: what asks for it is taken to hold
                known = not node.text.strip().startswith("!")
            if known:
                yield from self._expanded(node.inner, spot.file, depth, at)
            return
        text = self._filled(node.text) if "${" in node.text else node.text
        yield ApacheNode(node.name, text, spot, list(self._expanded(node.inner, spot.file, depth, at)))

    def _has(self, module: str) -> bool:
        """Whether a module has been loaded so far, or is a part of the program."""
        name = module_name(module.strip("\"'"))
        return name in BUILT_IN or name in map(module_name, self.modules)

    def _filled(self, text: str) -> str:
        filled = _VARIABLE.sub(lambda match: self._defined.get(match[1], match[0]), text)
        return filled if len(filled) <= _LONGEST else text

    def _used(self, text: str, spot: SourceSpot, depth: int) -> Iterator[ApacheNode]:
        words = split_words(text)
        known = self._macros.get(words[0].lower()) if words else None
        if known is None or depth > DEEPEST or words[0].lower() in self._used_now:
            why = say("import/no-such-macro") if known is None else say("import/macro-too-deep")
            told = say("import/macro", text=text[:200], why=why)
            self._remarks.append(ImportRemark(spot, told, say("import/macro/means"), cuts=True))
            return
        names, nodes = known
        self._opener.intake.text(sum(map(_length, nodes)) + len(text))
        values = sorted(zip(names, words[1:], strict=False), key=lambda pair: -len(pair[0]))
        self._used_now.append(words[0].lower())
        yield from self._expanded([_replaced(node, values) for node in nodes], spot.file, depth + 1, spot)
        self._used_now.pop()

    def _included(self, text: str, spot: SourceSpot, wanted: bool) -> Iterator[ApacheNode]:
        pattern = (split_words(text) or [""])[0]
        if not pattern.startswith("/"):
            pattern = posixpath.join(self._root, pattern)
        found = self._opener.matching(pattern)
        if wanted and not found and not any(sign in pattern for sign in "*?["):
            self._remarks.append(
                ImportRemark(spot, say("import/not-there/apache", text=text), say("import/not-there/means"), cuts=True)
            )
        for name in found:
            if name in self._open or len(self._open) > DEEPEST:
                why = say("import/includes-itself") if name in self._open else say("import/includes-too-much")
                told = say("import/included-again", text=text, why=why)
                self._remarks.append(ImportRemark(spot, told, say("import/not-read-again")))
                return
            raw = self._opener.read(name)
            if raw is None:
                self._remarks.append(
                    ImportRemark(
                        spot, say("import/cannot-be-read", name=name), say("import/not-there/means"), cuts=True
                    )
                )
                continue
            yield from self.file(name, raw)


def _length(node: Directive | Section) -> int:
    return len(node.text) + 50 + (sum(map(_length, node.inner)) if isinstance(node, Section) else 0)


def _replaced(node: Directive | Section, values: list[tuple[str, str]]) -> Directive | Section:
    """A line of a macro with its parameters put in."""
    text = node.text
    for name, value in values:
        text = text.replace(name, value)[:_LONGEST]
    if isinstance(node, Directive):
        return Directive(node.name, text, node.line)
    return Section(node.name, text, node.line, tuple(_replaced(inner, values) for inner in node.inner))
