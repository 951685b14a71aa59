"""What requests would get, asked by rules: through the hosts' own redirects and through control files."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Literal, NamedTuple

from kettlepost.core.answering.serving import (
    FinalReply,
    Request,
    SurveyedSite,
    asked_of,
    control_text,
    final_reply,
    reply_of,
)
from kettlepost.core.layout import AccountLayout, FolderState, Mount, When
from kettlepost.core.names import Address, Folder, InvalidName, unprintable
from kettlepost.core.webserver import Control, HeldAt, Reply, Visitor, compile_control, index_names, reply_to

_HOPS = 10
_PROGRAMS = (".php", ".phtml", ".cgi", ".pl", ".py")
"""How names of files end that a server runs, in place of showing them."""
_IP = re.compile(r"(?<![\d.])\d{1,3}(?:\.\d{1,3}){0,3}\.?(?:/\d+)?(?![\d.])")


class SentOn(NamedTuple):
    """What one reply does with a visitor: its status, None where no host answers, and where it sends them.

    `program` says that a program answers, which may send them on itself.
    """

    status: int | None
    location: str | None
    is_sure: bool = True
    program: bool = False


class Requests:
    """Asks for addresses of one account at one time."""

    def __init__(self, layout: AccountLayout, when: When = "planned", controls: Mapping[Folder, str] | None = None):
        """Were the control files of some folders what `controls` says, in place of what is there."""
        self.layout = layout
        self._state = FolderState(layout, when)
        self._site = _Overlaid(self._state, controls, instead=True) if controls else SurveyedSite(self._state)

    def may_touch(self, folder: Folder) -> bool:
        """Whether a control file above a folder may make anything of what is there."""
        return any(
            control.traits.may_touch(f"{folder.relative_to(above)}/")
            for above in folder.above()
            if (control := self._site.control(above)) is not None
        )

    def may_send(self, folder: Folder) -> bool:
        """Whether a control file in a folder or above may send its visitors elsewhere."""
        for above in (folder, *folder.above()):
            control = self._site.control(above)
            rest = f"{folder.relative_to(above)}/" if above != folder else ""
            if control is not None and control.traits.may_send(rest):
                return True
        return False

    def may_miss(self, folder: Folder, root: Folder) -> bool:
        """Whether the control file in a folder may hand paths to what is not there; `root` is where its host begins."""
        control = self._site.control(folder)
        targets = control.traits.targets if control is not None else []
        return targets is None or any(
            not self.is_there((root if target.startswith("/") else folder).below(target.strip("/")))
            for target in targets
        )

    def may(self, folder: Folder, what: Literal["asks", "hands"]) -> bool:
        """Whether a control file in a folder or above may do that, as far as its lines tell; a refused one may."""
        controls = [self._site.control(above) for above in (folder, *folder.above())]
        return any(control is not None and getattr(control.traits, what) for control in controls)

    def is_there(self, place: Folder) -> bool:
        """Whether something surely lies there."""
        return self._state.stands(place).kind in ("file", "folder")

    def final_reply(self, address: Address, added: Mapping[Folder, str] | None = None) -> FinalReply | None:
        """What a browser gets in the end of a folder; with `added`, were there control files that say so."""
        mount = self._mount(address)
        if mount is None:
            return None
        site = _Overlaid(self._state, added) if added else self._site
        return final_reply(self._state, site, mount, Request(address))

    def reply(self, address: Address, path: str, method: str = "GET", scheme: str = "http") -> Reply | None:
        """The very first reply to a request for a path of a host."""
        mount = self._mount(address)
        if mount is None:
            return None
        request = Request(address, path, visitor=Visitor(method=method))
        return reply_of(self._state, self._site, mount, asked_of(self._state, mount, request, path, scheme))

    def index_order(self, folder: Folder) -> list[str]:
        """The index files that are looked for in a folder, in their order; first the one that rewriting shows."""
        ways = [above for above in (*reversed(tuple(folder.above())), folder) if self._site.control(above) is not None]
        parts = [(way, part) for way in ways if (there := self._site.control(way)) is not None for part in there.parts]
        named = index_names(parts)
        order = self.layout.index_files if named is None else list(named)
        address = next(iter(self.layout.addresses_of(folder)), None) if self.may(folder, "hands") else None
        shown = self.final_reply(address) if address is not None else None
        if shown is None or not shown.reply.is_sure or shown.reply.file is None:
            return order
        place = Folder(shown.reply.file)
        if self.layout.real(place.parent) != self.layout.real(folder):
            return order
        return [place.name, *(name for name in order if name != place.name)]

    def differs(self, address: Address, without: Iterable[Folder], schemes: Iterable[str]) -> bool:
        """Whether the control files of some folders make any difference to what is got at an address and below."""
        mount = self._mount(address)
        if mount is None:
            return True
        return self._differ(mount, address, self._site, self._bare(without), schemes)

    def takes_back(self, address: Address, folder: Folder, lines: Sequence[str], schemes: Iterable[str]) -> bool:
        """Whether with some lines more in a folder's control file those above it make no difference any more."""
        mount = self._mount(address)
        own = next((one for one in self.layout.survey.controls if one.folder == folder and one.file == ".htaccess"),
                   None) if self.layout.survey is not None else None  # fmt: skip
        text = "\n".join([control_text(own.lines), *lines] if own is not None else lines)
        with_lines = _Overlaid(self._state, {folder: text}, instead=True)
        return mount is not None and not self._differ(mount, address, with_lines, self._bare(folder.above()), schemes)

    def line_matters(self, address: Address, folder: Folder, line: int, schemes: Iterable[str]) -> bool:
        """Whether a line of a control file makes any difference by itself to what is got at an address and below."""
        mount, way = self._mount(address), self.layout.reach(address)
        if mount is None or way is None or self.layout.survey is None:
            return True
        own = [one for one in self.layout.survey.controls if one.folder == folder and one.file == ".htaccess"]
        text = [unprintable(one.partition(" ")[2]) for control in own for one in control.lines
                if one.partition(" ")[0] == str(line)]  # fmt: skip
        bare = dict.fromkeys((way, *way.above()), "")
        alone = _Overlaid(self._state, bare | {folder: "\n".join(text)}, instead=True)
        return self._differ(mount, address, alone, self._bare(bare), schemes)

    def only_takes_back(self, address: Address, folder: Folder, schemes: Iterable[str]) -> bool:
        """Whether a folder's own control file says nothing but what holds anyway where nothing is said above it."""
        mount, above = self._mount(address), list(folder.above())
        bare = self._bare(above), self._bare([folder, *above])
        return mount is not None and not self._differ(mount, address, *bare, schemes)

    def _bare(self, without: Iterable[Folder]) -> _Overlaid:
        return _Overlaid(self._state, dict.fromkeys(without, ""), instead=True)

    def _differ(
        self, mount: Mount, address: Address, one_site: SurveyedSite, other_site: SurveyedSite, schemes: Iterable[str]
    ) -> bool:
        begin = f"/{address.path}".rstrip("/")
        for path in (f"{begin}/", f"{begin}/no-such-page", f"{begin}/no-such-page.php", f"{begin}/no/such/page"):
            for scheme in schemes:
                asked = asked_of(self._state, mount, Request(address, path), path, scheme)
                one, other = reply_to(one_site, asked), reply_to(other_site, asked)
                if one[:3] != other[:3] or one.is_sure != other.is_sure:
                    return True
        return False

    def is_kept_for_some(self, address: Address, folder: Folder) -> bool:
        """Whether control files on the way to a folder let in visitors of some addresses only, on purpose."""
        mount, survey = self._mount(address), self.layout.survey
        if mount is None or survey is None:
            return False
        on_the_way = {self.layout.real(above) for above in (folder, *folder.above())}
        lines = [line for one in survey.controls if one.folder in on_the_way for line in one.lines]
        asked = dict.fromkeys(found for line in lines for found in _IP.findall(line))
        for written in [*asked, "127.0.0.1"]:
            ip = ".".join([*written.partition("/")[0].strip(".").split("."), "1", "1", "1"][:4])
            request = Request(address, visitor=Visitor(ip))
            reply = final_reply(self._state, self._site, mount, request).reply
            if reply.status != 403 or reply.folder is not None:
                return True
        return False

    def circle(self, address: Address) -> list[tuple[str, Reply | None]]:
        """The addresses through which redirects go round in circles, each with what sends on; empty where they do not.

        A step without a reply is the host's own: to https, or to another name.
        """
        passed: dict[str, Reply | None] = {}
        here: tuple[str, Address, str] | None = ("http", address, f"/{address.path}")
        for _ in range(_HOPS):
            if here is None:
                return []
            scheme, address, path = here
            written = f"{scheme}://{address.host}{path}"
            if written in passed:
                steps = list(passed.items())
                return steps[[step for step, _ in steps].index(written) :]
            here, passed[written] = self._onward(scheme, address, path)
        return []

    def _onward(self, scheme: str, address: Address, path: str) -> tuple[tuple[str, Address, str] | None, Reply | None]:
        mount = self._state.tree.hosts.mount(address)
        if mount is None:
            return None, None
        if mount.goes is not None:
            onward = mount.sent_to(address)
            return (scheme, onward, f"/{onward.path}") if onward is not None else None, None
        if mount.domain.https and scheme == "http":
            return ("https", address, path), None
        reply = self.reply(address, path, scheme=scheme) if mount.way is not None else None
        if reply is None or reply.location is None or not reply.is_sure:
            return None, None
        match = re.match(r"(https?)://[^/?#]+([^?#]*)", reply.location, re.IGNORECASE)
        try:
            return ((match[1].lower(), Address.parse(reply.location), match[2] or "/") if match else None), reply
        except InvalidName:
            return None, None

    def sent_on(self, address: Address, path: str, scheme: str, query: str | None = None) -> SentOn:
        """Where the first reply to a request sends a visitor: the host itself, or what its server says."""
        mount = self._state.tree.hosts.mount(address)
        if mount is None:
            return SentOn(None, None)
        behind = f"?{query}" if query else ""
        if mount.goes is not None:
            onward = mount.sent_to(address)
            slash = "/" if onward is not None and onward.path and path.endswith("/") else ""
            return (
                SentOn(301, f"{scheme}://{onward}{slash}{behind}") if onward is not None else SentOn(None, None, False)
            )
        if mount.domain.https and scheme == "http":
            return SentOn(301, f"https://{address.host}{path}{behind}")
        if mount.way is None:
            return SentOn(None, None, False)
        if self.layout.contents is None and self.layout.path_rule(address, "denied", "password", "redirect") is None:
            return SentOn(None, None, False)
        request = Request(address, path, query)
        reply = reply_of(self._state, self._site, mount, asked_of(self._state, mount, request, path, scheme))
        is_program = reply.file is not None and reply.file.endswith(_PROGRAMS)
        return SentOn(reply.status, reply.location, reply.is_sure and not reply.doubts, is_program)

    def _mount(self, address: Address) -> Mount | None:
        mount = self._state.tree.hosts.mount(address)
        return mount if mount is not None and mount.way is not None else None


class _Overlaid(SurveyedSite):
    """An account's folders with other control files beside those that are there, or instead of them."""

    def __init__(self, state: FolderState, added: Mapping[Folder, str], instead: bool = False):
        super().__init__(state)
        self._held_here: HeldAt = {}
        self._added = {str(folder): text for folder, text in added.items()}
        self._instead = instead

    @property
    def held(self) -> HeldAt:
        return self._held_here

    def control(self, folder: str) -> Control | None:
        more = self._added.get(str(self._state.layout.real(Folder(folder))))
        there = None if self._instead and more is not None else super().control(folder)
        return compile_control(folder, more, self._state.layout.server) if there is None and more else there


def controlled(layout: AccountLayout) -> Iterator[Folder]:
    """The folders in which a control file lies that is known line by line."""
    survey = layout.survey
    for control in survey.controls if survey is not None else ():
        if control.lines and control.file == ".htaccess":
            yield control.folder
