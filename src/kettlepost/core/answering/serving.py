"""What an account's web server gives for an address, where control files have a say."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple
from urllib.parse import quote, unquote

from msgspec.structs import replace

from kettlepost.core.answering.hosting import answers_by_tls, assumed_home, configured_host, what_is_untold
from kettlepost.core.layout import HTACCESS, FolderState, Mount
from kettlepost.core.names import Address, Folder, HostName, InvalidName, unprintable
from kettlepost.core.nginx import NginxServers, nginx_reply
from kettlepost.core.plan import PathRule
from kettlepost.core.survey import INDEX_NAMES
from kettlepost.core.webserver import (
    NOT_KEPT,
    SAFE,
    Control,
    HeldAt,
    HostSetup,
    PatternTrouble,
    Reply,
    ServerRequest,
    Stands,
    Visitor,
    apache_path,
    compile_control,
    nginx_argument,
    nginx_redirect,
    place_of,
    plain_reply,
    reply_to,
    text_of,
)

_HOPS = 10


class FinalReply(NamedTuple):
    """What a visitor gets in the end, with all lines that had a say, and where else a browser is sent first.

    `behind` is what lies behind a password. `goes` is an address of another place; `goes_round` is true where
    it is this very one again. `last` is the last reply by itself.
    """

    reply: Reply
    goes: Address | None = None
    elsewhere: str | None = None
    behind: Reply | None = None
    goes_round: bool = False
    last: Reply | None = None


class Request(NamedTuple):
    """How an address is asked for: its path as it is written, from its slash on, a query, a scheme, and by whom.

    Where no scheme is given it is the one under which the domain is to be reached.
    """

    address: Address
    path: str = ""
    query: str | None = None
    scheme: str | None = None
    visitor: Visitor = Visitor()

    @classmethod
    def parse(cls, written: str, scheme: str | None = None, visitor: Visitor | None = None) -> Request:
        """Read what a visitor asks for. Raises InvalidName for what is no address."""
        who, plain = visitor or _ANYBODY, _PLAIN.fullmatch(written)
        if plain is not None:
            address = Address(HostName.parse(plain[2]), plain[3].strip("/") if plain[3] else "")
            return cls(address, "", None, scheme or plain[1], who)
        address = Address.parse(written)
        match = re.match(r"(?:(https?)://)?[^/?#]*([^?#]*)(?:\?([^#]*))?", written.strip(), re.IGNORECASE)
        final_reply, path, query = match.groups() if match is not None else (None, "", None)
        path = quote(path, safe=SAFE + "%")
        is_usual = path in ("", "/", f"/{quote(address.path, safe=SAFE, errors='surrogateescape')}")
        return cls(
            address, "" if is_usual else path, query, scheme or (final_reply.lower() if final_reply else None), who
        )

    @property
    def is_plain(self) -> bool:
        """Whether nothing of how it is written matters but the address."""
        return not self.path and self.query is None

    @property
    def ends_in_slash(self) -> bool:
        """Whether it is written as its address and a slash, and nothing else of how matters."""
        is_plain = self.query is None and _PLAIN_PATH.fullmatch(self.path) is not None
        return is_plain and self.path == f"/{self.address.path}/"

    @property
    def written_path(self) -> str:
        return self.path or f"/{quote(self.address.path, safe=SAFE, errors='surrogateescape')}"


_ANYBODY = Visitor()
_PLAIN = re.compile(r"(?:(https?)://)?([a-z0-9.-]+)(/|(?:/[A-Za-z0-9_~][A-Za-z0-9._~-]*)+)?")
"""Addresses as nearly all are written, where nothing matters but what they lead to."""
_PLAIN_PATH = re.compile(r"[A-Za-z0-9._~/-]+")


class SurveyedSite:
    """An account's folders as a survey found them, as a server would."""

    def __init__(self, state: FolderState):
        self._state = state
        self._compiled = state.layout.compiled

    @property
    def held(self) -> HeldAt:
        """What was found to hold in each folder."""
        return self._state.layout.held_at

    def stands(self, path: str) -> Stands:
        """What lies at a path, where links lead."""
        place = self._state.layout.real(Folder(path))
        kind = self._state.stands(place).kind
        if kind == "unknown" and self._state.is_coming(place.parent):
            return "nothing"  # a planned application brings its first index file, and others as it likes
        return "nothing" if kind == "below a file" else kind

    def is_link(self, path: str) -> bool:
        """Whether the path itself is a symbolic link."""
        links = self._state.layout.links
        return bool(links) and Folder(path) in links

    def has_variant(self, path: str) -> bool | None:
        """Whether a file lies there whose name is this one with an ending; None where names were not kept."""
        place = Folder(path)
        return self._state.files_called(self._state.layout.real(place.parent), f"{place.name}.")

    def is_empty_file(self, path: str) -> bool | None:
        """Whether a file has no bytes, where anything tells: of all, where their names were kept."""
        layout, name = self._state.layout, Folder(path).name
        folder = layout.real(Folder(path).parent)
        names, page = layout.file_names, self._state.placeholder(folder, name)
        if names is not None or page is not None or name in INDEX_NAMES:
            return page.kind == "empty" if page is not None else names is not None and names.is_empty(folder, name)
        return None

    def control(self, folder: str) -> Control | None:
        """The control file that lies in a folder."""
        if folder not in self._compiled:
            self._compiled[folder] = self._control(Folder(folder))
        return self._compiled[folder]

    def _control(self, folder: Folder) -> Control | None:
        layout = self._state.layout
        contents = layout.contents if layout.server.kind == "apache" else None
        if contents is None:
            return None
        real = layout.real(folder)
        there = contents.folders.get(real)
        if there is None or HTACCESS not in there.control:
            return None
        control = next((one for one in contents.controls(real) if one.file == HTACCESS), None)
        if control is not None and control.lines:
            return compile_control(folder, control_text(control.lines), layout.server)
        is_kept = control is not None and (not control.effects or contents.survey.names)
        return None if is_kept else compile_control(folder, NOT_KEPT, layout.server)

    def begins_that_matter(self, folder: Folder) -> tuple[str, ...] | None:
        """How names that are not there begin of which control files may make what they do not of others.

        None where that cannot be told.
        """
        found: list[str] = []
        for above in (folder, *folder.above()):
            control = self.control(above)
            if control is None:
                continue
            rest = folder.relative_to(above) if above != folder else ""
            begins = control.traits.begins_that_matter(f"{rest}/" if rest else "")
            if begins is None:
                return None
            found += begins
        return tuple(found)

    def has_say(self, way: Folder) -> bool:
        """Whether a control file on a way is known line by line."""
        return any(self.control(above) is not None for above in (way, *way.above()))


def control_text(lines: Sequence[str]) -> str:
    """The lines of a control file as they were kept; where somebody has changed them, that it is there."""
    try:
        return text_of([unprintable(line) for line in lines])
    except ValueError:
        return NOT_KEPT


def final_reply(state: FolderState, site: SurveyedSite, mount: Mount, request: Request) -> FinalReply:
    """What a visitor gets at an address that a mount covers, once a browser has followed what stays at that address."""
    address, visitor = request.address, request.visitor
    scheme = scheme_of(mount, request)
    path, query, ways = request.written_path, request.query, list[Reply]()
    passed = {(scheme, path)}
    for _ in range(_HOPS):
        asked = asked_of(state, mount, request, path, scheme)
        reply = reply_of(state, site, mount, asked)
        ways.append(reply)
        if reply.location is None:
            behind = None
            if reply.asks_password and not visitor.is_known:
                behind = final_reply(state, site, mount, request._replace(visitor=_logged_in(visitor))).reply
            return FinalReply(_joined(ways), behind=behind, last=reply)
        match = re.match(r"(https?)://([^/?#]*)([^?#]*)(.*)", reply.location, re.IGNORECASE)
        if match is None or match[2].lower().partition(":")[0] != address.host:
            break
        if match[4] != (f"?{query}" if query else ""):
            break
        onward = match[3] or "/"
        leaves = match[1].lower() == "https" and not has_tls(state, mount, address.host, untold=True)
        if leaves or not _is_same(onward, path):
            break
        if (match[1].lower(), onward) in passed:
            return FinalReply(_joined(ways), None, reply.location, None, True, reply)
        scheme, path = match[1].lower(), onward
        passed.add((scheme, path))
    try:
        goes = Address.parse(reply.location or "")
    except InvalidName:
        goes = None
    return FinalReply(_joined(ways), goes, reply.location, None, False, reply)


def scheme_of(mount: Mount, request: Request) -> str:
    """The scheme under which a host is asked for where nobody says."""
    return "https" if mount.domain.https else request.scheme or "http"


def has_tls(state: FolderState, mount: Mount, host: HostName, untold: bool) -> bool:
    """Whether a host answers by https; `untold` where nothing says so."""
    layout = state.layout
    if (configured := answers_by_tls(state, host)) is not None:
        return configured
    seen = layout.outside.certificates if layout.outside is not None else ()
    covered = (host, f"*.{host.partition('.')[2]}")
    if mount.domain.https or layout.account.has_certificate(host) or any({*one.covers} & {*covered} for one in seen):
        return True
    return {"all": True, "none": False, "certificate": False, None: untold}[layout.server.tls]


def _is_same(one: str, other: str) -> bool:
    return unquote(one).rstrip("/") == unquote(other).rstrip("/")


def _logged_in(visitor: Visitor) -> Visitor:
    return Visitor(visitor.ip, visitor.method, is_known=True)


def _joined(replies: list[Reply]) -> Reply:
    """The last reply, with what had a say in those before it."""
    lines = dict.fromkeys(line for reply in replies for line in reply.lines)
    doubts = dict.fromkeys(doubt for reply in replies for doubt in reply.doubts)
    return replies[-1]._replace(lines=tuple(lines), doubts=tuple(doubts))


def reply_of(state: FolderState, site: SurveyedSite, mount: Mount, asked: ServerRequest) -> Reply:
    """What the account's server replies to a request."""
    found = configured_host(state, mount, HostName(asked.host), asked.scheme)
    if isinstance(found, HostSetup):
        return reply_to(site, asked)
    hosts = state.layout.server_hosts
    if found is not None and isinstance(hosts, NginxServers):
        return nginx_reply(hosts, found, site, asked)
    layout, path = state.layout, unquote(asked.path, errors="surrogateescape").strip("/")
    address = Address(HostName(asked.host), path)
    rule = layout.path_rule(address, "password", "denied", "redirect")
    if rule is not None and not (rule.does == "password" and asked.visitor.is_known):
        return _by_rule(rule, asked)
    if layout.server.kind == "apache":
        return reply_to(site, asked)
    rule = layout.path_rule(address, "fallback")
    own = mount.domain.fallback if not mount.address.path else None  # what is mapped elsewhere has none
    return plain_reply(site, asked, rule.to if rule is not None else own)


def _by_rule(rule: PathRule, asked: ServerRequest) -> Reply:
    if rule.does == "redirect":
        begins = "" if "://" in rule.to else f"{asked.scheme}://"
        path = re.sub("/+", "/", unquote(asked.path, errors="surrogateescape"))
        rest = path.removeprefix(f"/{rule.address.path}")
        return Reply(301, location=f"{begins}{rule.to.rstrip('/')}{_written(rest, asked)}")
    return Reply(403) if rule.does == "denied" else Reply(401, asks_password=True)


def _written(rest: str, asked: ServerRequest) -> str:
    """What stands behind the path of a rule, as the server writes it behind where that leads."""
    if asked.server.kind != "nginx":
        return apache_path(rest)
    return nginx_redirect(nginx_argument(rest)) if "%" in asked.path or "+" in asked.path else rest


def asked_of(state: FolderState, mount: Mount, request: Request, path: str, scheme: str) -> ServerRequest:
    """A request as a server sees it that has the host set up as the plan says."""
    account = state.layout.account
    alias = mount.address.path
    base = state.tree.hosts.mount(Address(mount.address.host)) if alias else None
    asked = ServerRequest(
        request.address.host, path, str(mount.way or ""), query=request.query, alias=alias,
        document_root=str(base.way) if base is not None and base.way is not None and base is not mount else None,
        scheme=scheme, home=assumed_home(account), is_home_told=account.settings.home is not None,
        server=state.layout.server, visitor=request.visitor, others=_aliases(state, mount.address.host),
    )  # fmt: skip
    found = configured_host(state, mount, request.address.host, scheme)
    untold = what_is_untold(state, mount, request.address.host, scheme)
    if untold is not None:
        asked = replace(asked, untold=untold)
    return _under(asked, found) if isinstance(found, HostSetup) else asked


def _aliases(state: FolderState, host: HostName) -> Mapping[str, str]:
    """The path aliases of a host that has several, with their folders: rules may hand a path on from one to another."""
    key = "aliases", host
    if key not in state.configured:
        mounts = [one for one in state.tree.hosts.get(host, ()) if one.address.path and one.way is not None]
        state.configured[key] = {one.address.path: str(one.way) for one in reversed(mounts)} if len(mounts) > 1 else {}
    found: Mapping[str, str] = state.configured[key]
    return found


def _under(asked: ServerRequest, setup: HostSetup) -> ServerRequest:
    """A request to a host as its server's configuration has it."""
    uri = unquote(asked.path.partition("?")[0], errors="surrogateescape")
    try:
        place = place_of(setup, uri, asked.host, asked.home)
    except PatternTrouble:
        place = None
    whole = posixpath.normpath(setup.document_root or "/")
    root = asked.relative(whole) if asked.is_inside(whole) else asked.root
    base = asked.relative(place.base) if place is not None and place.prefix and asked.is_inside(place.base) else root
    alias = place.prefix if place is not None and place.prefix else ""
    return replace(
        asked, root=base, alias=alias, document_root=root if alias else None, server=setup.server, setup=setup
    )
