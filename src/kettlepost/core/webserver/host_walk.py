"""A request on its way through what a server's configuration says of its host: programs, redirects, folders, paths.

The order is the server's own: rewriting of the host, what is handed to other programs, redirects of the host, path
aliases and the document root, then `<Directory>` with control files from the machine's root down, `<Files>`,
`<Location>`, and `<If>` last.
"""

from __future__ import annotations

import posixpath
from collections.abc import Iterable
from typing import NamedTuple, Protocol

from msgspec.structs import replace

from kettlepost.core.messages import say
from kettlepost.core.webserver.access import restricting
from kettlepost.core.webserver.control import Control
from kettlepost.core.webserver.directives import Node
from kettlepost.core.webserver.host_sections import FolderSection, folders_down
from kettlepost.core.webserver.mapping import Place, passed_by, place_at, place_of, program_file
from kettlepost.core.webserver.patterns import PatternTrouble
from kettlepost.core.webserver.rewriter import Rewriter
from kettlepost.core.webserver.sections import ControlPart, is_first_condition
from kettlepost.core.webserver.settings import PartSettings, RedirectLine, both_required, is_for_all
from kettlepost.core.webserver.state import AnswerNotes, RequestState, ServerRequest, Site
from kettlepost.core.webserver.virtual_hosts import HostSetup

NOT_RUN = say("doubt/pattern-not-run")
_PERHAPS_TOP = frozenset("backup data export snap storage web www".split())
"""Folders that lie at the root of some machines."""
_TOP_FOLDERS = frozenset("bin boot dev etc home lib lib64 media mnt opt proc root run sbin srv sys tmp usr var".split())
"""The folders that lie at a machine's root, so that a path which begins with one is a path of the machine."""


class Server(Protocol):
    """What carries a request once it is known where that leads."""

    site: Site
    request: ServerRequest
    notes: AnswerNotes
    rewriter: Rewriter

    def is_met(self, state: RequestState, control: Control, part: ControlPart) -> bool:
        """Whether a condition is met."""

    def merge(self, state: RequestState, folder: str) -> None:
        """Merge what holds in a folder of the account."""

    def step(self, state: RequestState, base: str, rest: str, ends: bool) -> None:
        """Go down to a folder of the account, and what follows as far as it is there."""

    def merge_scoped(self, state: RequestState, with_files: bool) -> None:
        """Merge what holds for some files, paths and requests alone."""

    def redirect(self, state: RequestState, lines: Iterable[RedirectLine]) -> None:
        """Send visitors on by the first of some lines that is for their address."""


class HostWalk:
    """Leads one request, or one within it, to where its host's configuration sends it."""

    def __init__(self, server: Server, setup: HostSetup):
        self._server, self._setup = server, setup
        self._request, self._notes = server.request, server.notes

    def walk(self, state: RequestState) -> None:
        """Where a path leads, and what holds there."""
        setup = self._setup
        self._notes.note(setup.line_for(self._request.host))
        for control in setup.base:
            _merge_plain(state, control)
        state.controls = setup.base
        place = self._translated(state)
        if state.status != 200:
            return
        if place is None and not state.passed_to:
            state.refuse(404)
            return
        if place is not None:
            self._in_folders(state, place)
        self._server.merge_scoped(state, with_files=place is not None)
        if place is not None and place.handler:
            state.settings = replace(state.settings, handler=place.handler)

    def _in_folders(self, state: RequestState, place: Place) -> None:
        """Merge what holds in the folders down to a place, from the machine's root."""
        setup = self._setup
        self._notes.note(place.source_line)
        inside = self._request.is_inside(place.base)
        for folder in folders_down(self._request.home if inside else place.base):
            if inside and folder == self._request.home:
                break
            merge_sections(state, setup.in_folder(folder), "")
        if inside:
            self._in_account(state, place)
        else:
            state.filename, state.stands = place.path, "unknown"
            if not state.passed_to:
                state.passed_to = say("doubt/place-outside", place=place.path)
        if state.stands == "file" and not state.path_info:
            merge_sections(state, setup.for_file(state.filename), "")
        try:
            found = [section for section in setup.folder_patterns if section.match.covers_folder(state.filename)]
        except PatternTrouble:
            self._notes.doubt(None, NOT_RUN)
            found = []
        merge_sections(state, found, "")

    def _in_account(self, state: RequestState, place: Place) -> None:
        request = self._request
        self._server.merge(state, "")
        base = request.relative(place.base) if place.base != request.home else ""
        rest = place.path[len(place.base) :]
        self._server.step(state, base, rest, place.is_folder)

    def _translated(self, state: RequestState) -> Place | None:
        """The place that a path leads to; None where it is refused, sent on, or handed to another program."""
        rules = self._setup.rules
        if rules is not None:
            self._server.rewriter.set_variables(state)
            goes = self._server.rewriter.carry_host(state, rules)
            if state.status != 200 or state.passed_to:
                return None
            if goes is not None:
                return self._of_machine(goes)
        try:
            return self._mapped(state)
        except PatternTrouble:
            self._notes.doubt(None, NOT_RUN)
            return None

    def _mapped(self, state: RequestState) -> Place | None:
        """The place that the host's lines map a path to, beside rewriting. Raises PatternTrouble."""
        setup, request = self._setup, self._request
        passed = passed_by(setup, state.uri)
        if passed is not None:
            self._notes.note(passed[0].source_line)
            return self._passed(state, passed[1])
        self._server.redirect(state, (*self._sent_for_all(state), *setup.sent))
        if state.status != 200:
            return None
        place = place_of(setup, state.uri, request.host, request.home)
        if place is None:
            state.passed_to = say("doubt/folder-untold")
        return place

    def _sent_for_all(self, state: RequestState) -> list[RedirectLine]:
        """The redirect that sections for paths, or conditions of the host, have for all: it goes before all others."""
        found: list[RedirectLine] = []
        for section in self._setup.paths:
            if (said := _sending_all(section.control, state, is_plain=True)) and section.match.covers_path(state.uri):
                found = said[-1]
        for control in self._setup.base:
            if _sending_all(control, state, is_plain=False):
                found = self._by_condition(state, control) or found
        return found

    def _by_condition(self, state: RequestState, control: Control) -> list[RedirectLine]:
        """What the conditions of the host that are met send to."""
        found: list[RedirectLine] = []
        is_taken = False
        for number, part in enumerate(control.parts):
            if part.scope.expression is None or part.scope.files is not None:
                continue
            is_taken = is_taken and not is_first_condition(part)
            if not is_taken and self._server.is_met(state, control, part):
                is_taken = True
                found = _of_all(control.part(number, restricting(state.method))) or found
        return found

    def _of_machine(self, goes: str) -> Place:
        """Where a path leads that rules of the host have made: a path of the machine, or below the document root."""
        root = posixpath.normpath(self._setup.document_root or "/")
        path = posixpath.normpath(goes)
        first = path.strip("/").partition("/")[0]
        ours = {part.strip("/").partition("/")[0] for part in (root, self._request.home)}
        if first in ours or first in _TOP_FOLDERS:
            return place_at(goes, root if path == root or path.startswith(f"{root}/") else None)
        if first in _PERHAPS_TOP and "/" in path.strip("/"):
            self._notes.doubt(None, say("doubt/machine-folder", first=first))
        return place_at(f"{root}/{goes}", root)

    def _passed(self, state: RequestState, target: str) -> Place | None:
        """What another program gets: PHP's own a file of the account, which is shown."""
        file = program_file(target)
        if file is None or not self._request.is_inside(file) or not file.endswith(self._request.server.php_files):
            state.passed_to = say("doubt/server", target=target)
            return None
        relative = self._request.relative(file)
        state.filename, state.stands = file, self._server.site.stands(relative)
        state.passed_to, state.is_program = "PHP", True
        return None


def merge_sections(state: RequestState, sections: Iterable[FolderSection], folder: str) -> None:
    """Merge what the server says of a folder, and what it lets control files there do."""
    for section in sections:
        control = section.control.placed(folder)
        _merge_plain(state, control)
        if section.overrides is not None and state.server is not None:
            state.server = replace(state.server, allow_override=section.overrides)
        if section.listed is not None and state.server is not None:
            state.server = replace(state.server, allow_list=section.listed)
        if section.odd:
            state.settings = replace(state.settings, doubts=(*state.settings.doubts, *section.odd))
        if any(part.scope.files is not None or part.scope.expression is not None for part in control.parts):
            state.controls = (*state.controls, control)


def merge_paths(state: RequestState, setup: HostSetup, notes: AnswerNotes) -> list[tuple[str, int]]:
    """Merge what the server says of a path of the host; gives which sections those were."""
    found: list[tuple[str, int]] = []
    before, asked = state.settings.required, Requirement("", None)
    for number, section in enumerate(setup.paths):
        try:
            is_for_it = section.match.covers_path(state.uri)
        except PatternTrouble:
            notes.doubt(None, NOT_RUN)
            continue
        if not is_for_it:
            continue
        asked = _merge_plain(state, section.control, asked)
        state.controls = (*state.controls, section.control)
        found.append((f"path {setup.key}", number))
        for line in section.odd:
            notes.doubt(line, say("doubt/line-in-section"))
    if asked.how in ("and", "or"):  # sections for paths go together first, and then with what holds in the folder
        whole = before if asked.nodes is None else asked.nodes
        both = before is not None and asked.nodes is not None
        required = both_required(asked.how, before or (), asked.nodes or ()) if both else whole
        state.settings = replace(state.settings, required=required)
    return found


class Requirement(NamedTuple):
    """Who gets in by some sections together: how that goes together with what is asked above, and what is asked."""

    how: str
    nodes: tuple[Node, ...] | None

    def with_more(self, how: str, nodes: tuple[Node, ...] | None) -> Requirement:
        """The same with what another section asks for."""
        if how in ("and", "or"):
            if self.nodes is not None and nodes is not None:
                return Requirement(how, both_required(how, self.nodes, nodes))
            return Requirement(how, nodes if nodes is not None else self.nodes)
        return self if nodes is None and not how else Requirement(how, nodes)


def _merge_plain(state: RequestState, control: Control, asked: Requirement | None = None) -> Requirement:
    """Merge what holds without a condition; gives who gets in by that and by what was `asked` before."""
    asked = asked or Requirement("", None)
    for number, part in enumerate(control.parts):
        if part.scope.files is None and part.scope.expression is None:
            own = control.part(number, restricting(state.method))
            state.settings = own.over(state.settings)
            asked = asked.with_more(*own.requirement)
    return asked


def _sending_all(control: Control, state: RequestState, is_plain: bool) -> list[list[RedirectLine]]:
    """The redirects for all that a section's parts have, those without a condition or those with one."""
    method = restricting(state.method)
    own = (control.part(number, method) for number, part in enumerate(control.parts)
           if part.scope.files is None and (part.scope.expression is None) == is_plain)  # fmt: skip
    return [said for said in map(_of_all, own) if said]


def _of_all(part: PartSettings) -> list[RedirectLine]:
    return [one for one in part.redirects if is_for_all(one)]
