"""What answers at an address, now or once the plan is carried out: one way from question to facts.

The order is that of the Apache HTTP Server 2.4: the host, then path aliases and the document
root, then control files from the home down, then the first index file. Where no control file
lies, other servers do the same.
"""

from __future__ import annotations

import re
from typing import NamedTuple

from kettlepost.core.answering.contents import folder_shown, index_shown, page_shown, path_shown, unread
from kettlepost.core.answering.facts import Answer, Certainty, Detail, Doubt, Hop, Shown
from kettlepost.core.answering.hosting import ConfiguredHost, assumed_home, configured_host
from kettlepost.core.answering.serving import FinalReply, Request, SurveyedSite, final_reply, has_tls, scheme_of
from kettlepost.core.answering.wording import answer_words
from kettlepost.core.layout import Destination, FolderState, Mount, PlanLayout, When, stands_for
from kettlepost.core.messages import Message, Words, say
from kettlepost.core.names import HOME, Address, Folder, HostName
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.webserver import WHERE_IT_LIES, WHICH_ADDRESS, HostSetup, Reply, SourceLine, UnknownSetting

_HOPS = 10


class Brief(NamedTuple):
    """An answer in one line: the folder (`-` for none), its kind, its status if any is known, how sure, what to say."""

    leads_to: str
    answers: str
    status: int | None
    certainty: Certainty
    words: Words


def answer(layouts: PlanLayout, address: Address, when: When = "now", request: Request | None = None) -> Answer:
    """What answers at `address`; `request` says more of how it is asked for."""
    request = request or Request(address)
    reach = layouts.reach(address, when)
    if reach is None:
        other = layouts.reach(address, "planned" if when == "now" else "now")
        return _not_ours(layouts, address) if other is None else _at_another_time(other, address, when)
    state = layouts.folder_state(reach.mount.account.name, when)
    if reach.folder is None:
        return _as_configured(state, reach, request, _sent_on(layouts, address, reach, when))
    return answer_in(state, reach, request)


def _as_configured(state: FolderState, reach: Destination, request: Request, planned: Answer) -> Answer:
    """What is said of a host that only sends visitors on, by the server's configuration where that says otherwise."""
    if configured_host(state, reach.mount, request.address.host, scheme_of(reach.mount, request)) is None:
        return planned
    found = answer_in(state, reach._replace(folder=HOME, way=HOME), request)._replace(reach=reach)
    if found.goes is None or found.goes != planned.goes or planned.end is None:
        return found
    return planned._replace(status=found.status, lines=found.lines, doubts=(*planned.doubts, *found.doubts))


def _not_ours(layouts: PlanLayout, address: Address) -> Answer:
    host = address.host
    form = HostName(host[4:] if host.startswith("www.") else f"www.{host}")
    if form in layouts.hosts:
        remedy = Remedy.of(Action.SET_WWW, "both", str(min(form, host, key=len)))
        return Answer(Shown("not ours", Detail.OTHER_FORM_OF_HOST, name=str(form), remedy=remedy), host)
    is_folder = "." not in host  # as nearly no host that is reached by name
    ask = Remedy.of(Action.ASK_FOLDER, "/".join(filter(None, address))) if is_folder else None
    return Answer(Shown("not ours", Detail.NO_DOMAIN, remedy=ask), host)


def _at_another_time(reach: Destination, address: Address, when: When) -> Answer:
    """What is said of a host that is ours at the other time only."""
    place = str(reach.mount.account.place(reach.mount.domain))
    detail = Detail.NOT_YET if when == "now" else Detail.NOT_ANY_MORE
    return Answer(Shown("nothing", detail, name=place), address.host, reach._replace(folder=None, way=None))


def _sent_on(layouts: PlanLayout, address: Address, reach: Destination, when: When) -> Answer:
    """What the hosts' own redirects make of an address, up to where they end."""
    target, program = reach.mount.sent_to(address), program_at(reach.mount)
    if program is not None:
        return Answer(
            Shown("unknown", Detail.PASSED_ON, name=say("answer/program-at", program=program)), address.host, reach
        )
    if target is None:
        of = str(reach.mount.domain.of)
        return Answer(Shown("nothing", Detail.LEADS_NOWHERE, name=of), address.host, reach)
    first, hops, passed = target, [Hop(target)], {address}
    goes_round = False
    while len(passed) <= _HOPS:
        if target in passed:
            goes_round = True
            break
        passed.add(target)
        onward = layouts.reach(target, when)
        hops[-1] = Hop(target, onward)
        following = onward.mount.sent_to(target) if onward is not None and onward.folder is None else None
        if following is None:
            break
        target = following
        hops.append(Hop(target))
    onward = hops[-1].onward
    end = answer(layouts, target, when) if onward is not None and onward.folder is not None else None
    shown = Shown("redirect", Detail.SENT_ON, name=str(first))
    doubts = end.doubts if end is not None else ()
    return Answer(shown, address.host, reach, 301, first, None, goes_round, hops=tuple(hops), end=end, doubts=doubts)


def program_at(mount: Mount) -> str | None:
    """The program that answers at a host in place of a folder."""
    domain = stands_for(mount.account, mount.domain)
    return domain.passed_to if domain is not None else None


def answer_in(state: FolderState, reach: Destination, request: Request) -> Answer:
    """What the account's server gives where an address leads to one of its folders."""
    mount, folder, host = reach.mount, reach.folder or Folder(""), request.address.host
    if not state.is_known:
        name = state.layout.name
        remedy = state.layout.surveying
        return Answer(Shown("unknown", Detail.NOT_SURVEYED, name=name, remedy=remedy), host, reach)
    site = SurveyedSite(state)
    if (told := _unread(state, site, reach)) is not None:
        return Answer(told, host, reach)
    if request.scheme == "https" and not has_tls(state, mount, host, untold=True):
        return Answer(Shown("unknown", Detail.NO_SECURE_HOST), host, reach)
    found = final_reply(state, site, mount, request)
    shown = _shown(state, found.reply, folder, found)
    behind = _shown(state, found.behind, folder, found) if found.behind is not None else None
    doubts = [*found.reply.doubts, *(found.behind.doubts if found.behind is not None else ())]
    is_told = configured_host(state, mount, host, scheme_of(mount, request)) is not None
    rule = None if is_told else state.layout.path_rule(request.address, "password", "denied", "redirect")
    told_by = tuple(_doubt(state, on, line) for line, on in dict.fromkeys(doubts))
    status = _status(shown, found.reply)
    not_known = state.stands(folder).kind == "unknown" and not state.coming(folder.parent)
    if told_by and not_known and shown.kind != "unknown" and shown.remedy is None:
        shown = shown._replace(remedy=state.layout.surveying)
    answered = Answer(
        shown, host, reach, status, found.goes, found.elsewhere, found.goes_round, behind, found.reply.lines, rule,
        doubts=(*told_by, *_of_the_account(state, mount, request, found), *_of_what_goes(state, folder, shown)),
    )  # fmt: skip
    return answered if is_told else _guarded(mount, answered, request)


def answer_at(state: FolderState, mount: Mount) -> Answer:
    """What a visitor gets at the very address of a mount."""
    address = Address(HostName(mount.address.host.replace("*", "any")), mount.address.path)
    return answer_in(state, Destination(mount, mount.folder, mount.way), Request(address))


def standing_in(state: FolderState, folder: Folder) -> Answer:
    """What stands in a folder to which no address leads: its first index file, or what it is without one."""
    nobody = HostName("")
    if not state.is_known:
        name = state.layout.name
        remedy = state.layout.surveying
        return Answer(Shown("unknown", Detail.NOT_SURVEYED, name=name, remedy=remedy), nobody)
    if state.stands(folder).kind != "folder":
        return Answer(path_shown(state, folder), nobody)
    names = {name: state.has(folder, name) for name in state.layout.index_files}
    index = next((name for name, there in names.items() if there), None)
    return Answer(index_shown(state, folder, index) if index is not None else folder_shown(state, folder), nobody)


def _unread(state: FolderState, site: SurveyedSite, reach: Destination) -> Shown | None:
    """A folder that could not be read, on which no control file has a say either."""
    folder, way = reach.folder or Folder(""), reach.way
    stands = state.stands(folder)
    if not state.trouble(stands.deepest) or (way is not None and site.has_say(_shortened(way, stands.rest))):
        return None
    return unread(state, folder) if stands.kind == "folder" else path_shown(state, folder)


def _shortened(way: Folder, rest: str) -> Folder:
    """`way` without the part of it that leads to nothing."""
    for _ in rest.split("/") if rest else ():
        way = way.parent
    return way


def _status(shown: Shown, reply: Reply) -> int | None:
    if shown.kind == "unknown":
        return None
    return 200 if shown.detail is Detail.ANSWERS_BELOW else reply.status


def _doubt(state: FolderState, on: Message, line: SourceLine | None) -> Doubt:
    server = state.layout.account.settings.web_server
    if on == WHICH_ADDRESS:
        return Doubt(on, line, "ip_addresses", "account")
    if on == WHERE_IT_LIES:
        return _HOME._replace(line=line)
    return Doubt(on, line, on.key, f"web_server.{server}") if isinstance(on, UnknownSetting) else Doubt(on, line)


_HOME = Doubt(WHERE_IT_LIES, key="home", table="account")


def _of_the_account(state: FolderState, mount: Mount, request: Request, found: FinalReply) -> list[Doubt]:
    """What an answer depends on that the account or its server would tell: its home, its certificates.

    A control file that sends visitors to https shows by itself that the host answers there.
    """
    layout, told = state.layout, list[Doubt]()
    settings = layout.account.settings
    if settings.home is None and found.elsewhere is not None and assumed_home(layout.account) in found.elsewhere:
        told.append(_HOME)
    host = request.address.host
    if request.scheme == "https" and not has_tls(state, mount, host, untold=False):
        server = f"web_server.{settings.web_server}"
        told.append(Doubt(say("doubt/answers-https", host=host), key="tls", table=server))
    lies = state.comes_from(mount.folder) if mount.folder is not None else None
    if lies is not None:
        told.append(Doubt(say("doubt/is-copied", lies=lies.shown, folder=(mount.folder or HOME).shown)))
    if mount.domain.account_now is not None and state.when == "planned":
        told.append(Doubt(say("doubt/is-brought", host=mount.domain.name, other=mount.domain.account_now)))
    return told


def _of_what_goes(state: FolderState, folder: Folder, shown: Shown) -> list[Doubt]:
    """That an answer depends on what goes with an application that is retired, or moves away."""
    goes = state.goes_with(folder) if shown.kind not in ("nothing", "unknown") else None
    if goes is None:
        return []
    return [Doubt(say("doubt/is-removed", folder=goes.shown, moves=goes in state.layout.left))]


_SHOWN_TO_MEMBERS = ("application", "placeholder", "file", "listing", "empty folder", "nothing")


def _guarded(mount: Mount, found: Answer, request: Request) -> Answer:
    """What is seen where the server itself asks for a password, whatever the folder says."""
    if not mount.domain.protected or request.visitor.is_known or found.kind not in _SHOWN_TO_MEMBERS:
        return found
    return found._replace(shown=Shown("password", Detail.PASSWORD), behind=found.shown, status=401)


def _shown(state: FolderState, reply: Reply, path: Folder, found: FinalReply) -> Shown:
    """What a server's reply shows."""
    stands, page = state.stands(path), reply.file or ""
    if reply.passed_to:
        return Shown("unknown", Detail.PASSED_ON, path, name=reply.passed_to)
    if reply.asks_password:
        return Shown("password", Detail.PASSWORD, path, name=page)
    if found.elsewhere is not None and reply.location is not None:
        return Shown("redirect", Detail.SENT_BY_SERVER, path, name=found.elsewhere, number=reply.status)
    if reply.folder is not None:
        return folder_shown(state, state.layout.real(Folder(reply.folder)))
    if reply.status == 200 and reply.file is not None:
        if stands.kind == "unknown" and any(line is None for line, _ in reply.doubts):
            return path_shown(state, path)
        return page_shown(state, state.layout.real(Folder(reply.file)), path, reply)
    if reply.status == 410:
        return Shown("nothing", Detail.GONE, path, name=page)
    if reply.status == 404:
        return _not_found(state, reply, path)
    if reply.status in (401, 403):
        return Shown("denied", Detail.DENIED, path, name=page, number=reply.status)
    return Shown("error", Detail.FAILED, path, name=page, number=reply.status)


def _not_found(state: FolderState, reply: Reply, path: Folder) -> Shown:
    """Why nothing is there, or what may be."""
    kind, page = state.stands(path).kind, reply.file or ""
    if kind == "file":
        return Shown("nothing", Detail.BELOW_A_FILE, path, name=page)
    if page or (reply.handed is None and kind not in ("nothing", "unknown")):
        return Shown("nothing", Detail.NOT_THERE, path, name=page)
    if reply.handed is not None:
        return Shown("nothing", Detail.HANDED_TO_NOTHING, path, by=reply.handed)
    return path_shown(state, path)


_Kind = tuple[bool | None, bool, tuple[bool, ...], tuple[bool, ...]]


_PLAIN_NAMES = re.compile(r"[A-Za-z0-9._~/-]+")
"""Names of which nothing but where they lie matters: of others a server refuses some that rules make of them."""


class _Absent:
    """What is not there below one folder, of which a few begin so that a rule may do something of its own."""

    def __init__(self, site: SurveyedSite | None, folder: Folder, setup: HostSetup | None = None):
        self._folder, self._setup = folder, setup
        self._begins = site.begins_that_matter(folder) if site is not None else None
        self.has_rules = site is None or site.has_say(folder)
        self.answers: dict[_Kind, Answer] = {}

    def key(self, state: FolderState, path: Folder, request: Request) -> _Kind | None:
        """What makes a difference between such paths; None where one may be of its own."""
        rest = path.relative_to(self._folder)
        is_hidden = rest.lower().startswith(".ht") or "/.ht" in rest.lower()
        if self._begins is None or is_hidden or not _PLAIN_NAMES.fullmatch(rest) or rest.startswith(self._begins):
            return None
        if self._setup is not None and self._setup.touches(f"/{request.address.path}" + "/" * request.ends_in_slash):
            return None
        first = rest.partition("/")[0]  # which a server takes for the file, and what follows for more of its path
        there = state.has(self._folder, first)
        programs = tuple(name.lower().endswith(state.layout.server.php_files) for name in (first, rest))
        fits = self._setup.fits(first) if self._setup is not None else ()
        return None if there else (there, "/" in rest, programs, fits)


_Key = tuple[object, ...]


class Answers:
    """Brief answers for long lists of addresses; what was asked before is not worked out again."""

    def __init__(self, layouts: PlanLayout, when: When):
        self._layouts = layouts
        self._when = when
        self._known: dict[_Key, Brief] = {}
        self._absent: dict[_Key, _Absent] = {}
        self._plain: dict[_Key, Answer] = {}

    def brief(self, request: Request) -> Brief:
        """What a request gets, in one line."""
        address, when = request.address, self._when
        mount = self._layouts.mount(address, when)
        folder = mount.reached(address) if mount is not None else None
        if mount is None or folder is None or not (request.is_plain or request.ends_in_slash):
            return _brief(answer(self._layouts, address, when, request))
        # of two mounts at one address only the first answers
        host = address.host if mount.address.host[0] == "*" else ""
        asked = (mount.address, host, request.scheme, request.visitor, request.is_plain)
        known = self._known.get((*asked, folder))
        return known or self._alike(asked, mount, folder, request)

    def _alike(self, asked: _Key, mount: Mount, path: Folder, request: Request) -> Brief:
        """The answer for what is not there, which is that for others where nothing makes a difference."""
        state = self._layouts.folder_state(mount.account.name, self._when)
        deepest = path
        while deepest and not state.is_folder(deepest):
            deepest = deepest.parent
        absent = self._absent.get((*asked, deepest))
        if absent is None:
            setup = configured_host(state, mount, request.address.host, scheme_of(mount, request))
            is_simple = _is_simple(state, mount, deepest) and _is_plain_setup(state, setup)
            apache = setup if isinstance(setup, HostSetup) else None
            absent = _Absent(SurveyedSite(state) if is_simple else None, deepest, apache)
            self._absent[*asked, deepest] = absent
        key = absent.key(state, path, request)
        plain = (mount.account.name, request.scheme, request.visitor, request.is_plain, key)
        is_plain = not absent.has_rules and request.scheme != "https" and state.layout.server_hosts is None
        if key is None:
            known = self._known[*asked, path] = _brief(self._in_full(path, mount, request))
            return known
        found = absent.answers.get(key)
        if found is None and is_plain and (like := self._plain.get(plain)) is not None:
            # it differs in what lies around
            found = absent.answers[key] = like._replace(shown=path_shown(state, path))
        if found is None:
            found = self._in_full(path, mount, request)
            is_own = absent.has_rules and found.kind == "nothing"  # to what is not there rules hand others, not itself
            if is_own or found.shown.place not in (path, deepest) or _names(found, path.name):
                known = self._known[*asked, path] = _brief(found)
                return known
            absent.answers[key] = found
            if is_plain:
                self._plain[plain] = found
        elif found.shown.place != deepest:
            found = found._replace(shown=found.shown._replace(place=path))
        return _brief(found, path)

    def _in_full(self, path: Folder, mount: Mount, request: Request) -> Answer:
        state = self._layouts.folder_state(mount.account.name, self._when)
        reach = Destination(mount, state.layout.real(path), mount.way_to(request.address))
        return answer_in(state, reach, request)


def _names(found: Answer, name: str) -> bool:
    """Whether a name is a part of what is told, beside the place that it is told of."""
    told = [found.shown.name, found.location or "", *(doubt.on for doubt in found.doubts)]
    return any(_mentions(words, name) for words in told)


def _mentions(words: Words, name: str) -> bool:
    facts = words.facts.values() if isinstance(words, Message) else (words,)
    return any(isinstance(fact, str) and name in fact for fact in facts)


def _is_simple(state: FolderState, mount: Mount, folder: Folder) -> bool:
    """Whether nothing but a folder and its control files matters for what is not there."""
    return (
        state.is_known
        and state.when == "now"
        and (not mount.domain.protected or state.layout.server_hosts is not None)
        and not state.layout.links
        and (not state.layout.account.path_rules or state.layout.server_hosts is not None)
        and mount.domain.fallback is None
        and state.is_folder(folder)
    )


def _is_plain_setup(state: FolderState, setup: ConfiguredHost | None) -> bool:
    """Whether how a server has a host makes the same of all that is not there, but for what its lines name."""
    return setup.is_simple if isinstance(setup, HostSetup) else setup is None and state.layout.server_hosts is None


def _brief(found: Answer, folder: Folder | None = None) -> Brief:
    reached = folder or (found.reach.folder if found.reach is not None else None)
    leads = reached.shown if reached is not None else "-"
    return Brief(leads, found.kind, found.status, found.certainty, answer_words(found))
