"""What answers at an address, now or once the plan is carried out.

The order is that of the Apache HTTP Server 2.4: the host, then path aliases and the document
root, then control files from the home down (rewriting, index order, fallback), then the first
index file. Where no control file lies, other servers do the same.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

from kettlepost.core.layout.folder_state import HTACCESS, FolderState, Held, index_order
from kettlepost.core.layout.layout import PlanLayout, Reach
from kettlepost.core.layout.mounts import Mount, When
from kettlepost.core.layout.serving import Given, SurveyedSite, given
from kettlepost.core.names import Address, Folder, HostName, printable, quoted
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.survey import Effect
from kettlepost.core.webserver import Reply, Visitor
from kettlepost.core.words import listed

AnswerKind = Literal[
    "application",
    "placeholder",
    "file",
    "listing",
    "empty folder",
    "nothing",
    "redirect",
    "password",
    "denied",
    "error",
    "unknown",
    "not ours",
]
_HOPS = 10
_KINDS = {
    "primary": "the primary domain",
    "addon": "an add-on domain",
    "subdomain": "a subdomain",
    "alias": "an alias",
    "temporary": "a temporary address",
}
_SPARED = {
    "rewrites every path but files": ("file",),
    "rewrites every path but files and folders": ("file", "folder"),
}


class Served(NamedTuple):
    """What a server shows for a folder or file.

    `file` is the very file that is shown, where one is known; `reason` is how a placeholder is
    known as one; `steps` are the rules and control files that had a say; `remedy` is what would
    tell more. `goes` is where a control file sends visitors, `depends` what it all depends on.
    """

    kind: AnswerKind
    words: str
    reason: str = ""
    file: Folder | None = None
    steps: tuple[str, ...] = ()
    remedy: Remedy | None = None
    goes: Address | None = None
    depends: tuple[str, ...] = ()


class Answer(NamedTuple):
    """What stands behind an address: the kind for programs, the words for people.

    A folder with files but none of the index files is a "listing", which a server shows or
    refuses as it is set up. "unknown" means that no survey tells. `goes` is the address that
    visitors are sent on to first; `chain` gives the reasons one after the other. `depends` is empty
    where the answer is certain.
    """

    kind: AnswerKind
    words: str
    reach: Reach | None = None
    file: Folder | None = None
    goes: Address | None = None
    chain: tuple[str, ...] = ()
    remedy: Remedy | None = None
    depends: tuple[str, ...] = ()


class _Plain(NamedTuple):
    """What is shown for names that nothing tells of in one folder: where one is not there, and where none can tell."""

    state: FolderState
    unknown: Served
    under: str


class Answers:
    """Brief answers for long lists of addresses; what was asked before is not worked out again."""

    def __init__(self, layouts: PlanLayout, when: When):
        self._layout = layouts
        self._when = when
        self._known: dict[tuple[Address, Folder, str], tuple[str, str, str]] = {}
        self._plain: dict[tuple[Address, Folder], _Plain | None] = {}

    def brief(self, address: Address) -> tuple[str, str, str]:
        """The folder that an address leads to (`-` for none), the kind of answer, and words for it."""
        mount = self._layout.mount(address, self._when)
        folder = mount.reached(address) if mount is not None else None
        if mount is None or folder is None:
            found = answer(self._layout, address, self._when)
            return "-", found.kind, found.words
        host = address.host if mount.address.host[0] == "*" else ""
        key = (mount.address, folder, host)  # of two mounts at one address only the first answers
        return self._known.get(key) or self._beside(mount, folder) or self._in_full(key, mount, address)

    def _in_full(self, key: tuple[Address, Folder, str], mount: Mount, address: Address) -> tuple[str, str, str]:
        state = self._layout.folder_state(mount.account.name, self._when)
        folder = state.layout.real(key[1])
        seen = _guarded(mount, served_at(state, folder, mount, mount.way_to(address), address=address))
        known = self._known[key] = (folder.shown, seen.kind, seen.words)
        return known

    def _beside(self, mount: Mount, path: Folder) -> tuple[str, str, str] | None:
        """The answer for a name that nothing tells of, in a folder where no control file has a say."""
        parent = path.parent
        key = (mount.address, parent)
        if key not in self._plain:
            state = self._layout.folder_state(mount.account.name, self._when)
            simple = (
                state.is_known
                and not mount.domain.protected
                and not state.layout.links
                and state.is_folder(parent)
                and state.when == "now"
            )
            if simple and not any(state.effects(parent)) and not SurveyedSite(state).has_say(parent):
                seen = _file_served(state, parent.below("\0"), "unknown", parent)
                self._plain[key] = _Plain(state, seen, _under(state, parent.below("\0")))
            else:
                self._plain[key] = None
        plain = self._plain[key]
        if plain is None or not path or plain.state.is_folder(path):
            return None
        there = plain.state.has(parent, path.name)
        if there:
            return None
        shown = path.shown
        if there is None:
            return shown, "unknown", plain.unknown.words
        return shown, "nothing", f"nothing: {shown} does not exist{plain.under}"


def answer(layouts: PlanLayout, address: Address, when: When = "now") -> Answer:
    """What answers at `address`."""
    reach = layouts.reach(address, when)
    if reach is None:
        other = layouts.reach(address, "planned" if when == "now" else "now")
        if other is not None:
            return _at_another_time(other, address, when)
        form = HostName(address.host[4:] if address.host.startswith("www.") else f"www.{address.host}")
        if form in layouts.hosts:
            bare = min(form, address.host, key=len)
            words = f"not one of ours: {form} is, and nobody declares {address.host}"
            return Answer("not ours", words, remedy=Remedy(Do.SET_WWW, f"both {bare}"))
        is_folder = "." not in address.host  # as nearly no host that is reached by name
        asked = "/".join(filter(None, address))
        remedy = Remedy(Do.ASK_FOLDER, quoted(asked) if " " in asked else asked) if is_folder else None
        words = f"not one of ours: no domain of the plan is called {address.host}"
        return Answer("not ours", words, remedy=remedy)
    chain = list(_way_in(reach))
    if reach.folder is None:
        return _sent_on(layouts, address, reach, when, chain)
    state = layouts.folder_state(reach.mount.account.name, when)
    seen = _guarded(reach.mount, served_at(state, reach.folder, reach.mount, reach.way, address=address))
    words = seen.words + (f" ({seen.reason})" if seen.reason else "")
    steps = (*chain, *seen.steps, words)
    return Answer(seen.kind, words, reach, seen.file, seen.goes, steps, seen.remedy, seen.depends)


_SHOWN_TO_MEMBERS = ("application", "placeholder", "file", "listing", "empty folder", "nothing")


def _guarded(mount: Mount, seen: Served) -> Served:
    """What is seen where the server itself asks for a password, whatever the folder says."""
    if not mount.domain.protected or seen.kind not in _SHOWN_TO_MEMBERS:
        return seen
    return seen._replace(kind="password", words=f"asks for a password; behind it {seen.words}")


def _at_another_time(reach: Reach, address: Address, when: When) -> Answer:
    """What is said of a host that is ours at the other time only."""
    place = reach.mount.account.place(reach.mount.domain)
    if when == "now":
        words = f"nothing yet: {address.host} is planned and not on the account ({place})"
    else:
        words = f"nothing any more: {address.host} is retired ({place})"
    return Answer("nothing", words, Reach(reach.mount, None, None), chain=(words,))


def served_at(
    state: FolderState,
    path: Folder,
    mount: Mount | None = None,
    way: Folder | None = None,
    depth: int = 0,
    address: Address | None = None,
) -> Served:
    """What a server shows for a folder or file of an account, reached by way of `mount`.

    `way` is the way there as it is written, where that goes through symbolic links.
    """
    if not state.is_known:
        name = state.layout.name
        return Served("unknown", f"unknown: {name} was not surveyed yet", remedy=Remedy(Do.TAKE_SURVEY, name))
    stands = state.stands(path)
    way = path if way is None else way
    if mount is not None and mount.way is not None and SurveyedSite(state).has_say(_shortened(way, stands.rest)):
        rest = way.relative_to(mount.way) if way != mount.way else ""
        host = HostName(mount.address.host.replace("*", "any"))
        return _by_server(state, mount, address or Address(host, mount.address.path).below(rest), path)
    effects = list(state.effects(_shortened(way, stands.rest)))
    steps = tuple(_on_the_way(effects))
    missing = stands.kind in ("nothing", "unknown")
    rewritten = _rewriting(effects)
    if rewritten is not None:
        place, effect = rewritten
        spared = (*_SPARED.get(effect.does, ()), "below a file")
        target = _target(state, place, effect, mount)
        if stands.kind not in spared and path != target:
            handed = _handed(state, place, effect, mount, depth, steps)
            then = _fallback(list(state.effects(target.parent))) if target is not None else None
            if handed.kind != "nothing" or then is None or not _can_be_handed(state, *then, mount):
                return handed
            return _handed(state, *then, mount, depth, handed.steps)
    fallback = _fallback(effects)
    if fallback is not None and _can_be_handed(state, *fallback, mount):
        first = index_order(state.layout, effects)[:1]
        if missing or (stands.kind == "folder" and not any(state.has(path, name) for name in first)):
            return _handed(state, *fallback, mount, depth, steps)
    if stands.kind == "folder":
        seen = _folder_served(state, path, index_order(state.layout, effects))
    else:
        seen = _file_served(state, path, stands.kind, stands.deepest)
    return seen._replace(steps=(*steps, *seen.steps))


def _by_server(state: FolderState, mount: Mount, address: Address, path: Folder) -> Served:
    """What a server gives where control files have a say, carried through them as it does."""
    found = given(state, SurveyedSite(state), mount, address, Visitor())
    seen = _told(state, found.reply, path, found)
    if found.behind is not None:
        behind = _told(state, found.behind, path, found)
        seen = seen._replace(words=f"{seen.words}; behind it {behind.words}", file=behind.file)
    lines = tuple(f"{printable(Folder(had.folder).below(HTACCESS))} line {had.line}: {printable(had.text)}"
                  for had in found.reply.had)  # fmt: skip
    depends = tuple(
        on if had is None else f"{on} ({printable(Folder(had.folder).below(HTACCESS))} line {had.line})"
        for had, on in dict.fromkeys((*found.reply.doubts, *(found.behind.doubts if found.behind else ())))
    )
    if depends and seen.kind != "unknown":
        seen = seen._replace(words=f"{seen.words}; it depends on {listed(depends, 2)}", depends=depends)
    return seen._replace(steps=(*lines, *seen.steps), goes=found.goes)


def _told(state: FolderState, reply: Reply, path: Folder, found: Given) -> Served:
    """A server's reply in words."""
    stands = state.stands(path)
    if reply.asks_password:
        return Served("password", "asks for a password")
    if found.elsewhere is not None and reply.location is not None:
        round_ = ", which goes round in circles" if found.goes_round else ""
        return Served("redirect", f"a redirect to {printable(found.elsewhere)} ({reply.status}){round_}")
    if reply.folder is not None:
        return _folder_served(state, state.layout.real(Folder(reply.folder)), [])
    if reply.status == 200 and reply.file is not None:
        if stands.kind == "unknown" and any(had is None for had, _ in reply.doubts):
            return _file_served(state, path, stands.kind, stands.deepest)
        return _page_served(state, state.layout.real(Folder(reply.file)), path, reply)
    page = f", with the page {printable(reply.file)}" if reply.file is not None else ""
    if reply.status in (404, 410):
        if reply.status == 404 and not page and stands.kind in ("nothing", "unknown") and reply.handed is None:
            return _file_served(state, path, stands.kind, stands.deepest)
        if reply.status == 404 and not page and reply.handed is not None:
            by = printable(Folder(reply.handed.folder).below(HTACCESS))
            return Served("nothing", f"nothing: {by} sends the path to what does not exist")
        gone = "does not exist" if reply.status == 404 else "is gone for good (410)"
        return Served("nothing", f"nothing: {path.shown} {gone}{page}")
    if reply.status in (401, 403):
        return Served("denied", f"denied ({reply.status}){page}")
    return Served("error", f"an error ({reply.status}){page}")


def _page_served(state: FolderState, file: Folder, path: Folder, reply: Reply) -> Served:
    """What a file is that answers for a path: its index file, itself, or one that a control file hands it to."""
    folder, name = file.parent, file.name
    if folder == path:
        return _index_served(state, folder, name)
    if file == path:
        return Served("file", f"the file {printable(name)}", file=file)
    held = state.held(folder)
    if held is not None:
        return Served("application", f"{held.words}, through {printable(name)}", file=file)
    last = reply.handed or (reply.had[-1] if reply.had else None)
    by = f", to which {printable(Folder(last.folder).below(HTACCESS))} sends the path" if last is not None else ""
    return Served("file", f"{printable(name)}{by}", file=file)


def _shortened(way: Folder, rest: str) -> Folder:
    """`way` without the part of it that leads to nothing."""
    for _ in rest.split("/") if rest else ():
        way = way.parent
    return way


def _sent_on(layouts: PlanLayout, address: Address, reach: Reach, when: When, chain: list[str]) -> Answer:
    first = target = reach.mount.sent_to(address)
    if first is None or target is None:
        of = reach.mount.domain.of
        return Answer("nothing", f"nothing: it stands for {of}, which leads nowhere", reach, chain=tuple(chain))
    passed = {address}
    while len(passed) <= _HOPS:
        chain.append(f"sends visitors on to {target}")
        if target in passed:
            return Answer(
                "redirect", f"a redirect to {first} that goes round in circles", reach, None, first, tuple(chain)
            )
        passed.add(target)
        onward = layouts.reach(target, when)
        if onward is None or onward.folder is not None:
            break
        chain += _way_in(onward)
        following = onward.mount.sent_to(target)
        if following is None:
            break
        target = following
    last = answer(layouts, target, when) if onward is not None and onward.folder is not None else None
    words = f"a redirect to {first}" + (f", in the end to {target}" if target != first else "")
    if last is None:
        return Answer("redirect", words, reach, None, first, tuple(chain))
    return Answer("redirect", f"{words}: {last.words}", reach, None, first, (*chain, *last.chain))


def _way_in(reach: Reach) -> list[str]:
    """How a host leads to a folder, step by step."""
    mount, domain = reach.mount, reach.mount.domain
    named = f"another name of {domain.name}" if mount.address.host != domain.name else _KINDS[domain.kind]
    stands = f", which stands for {domain.of}" if domain.of is not None else ""
    place = mount.account.place(domain)
    steps = [f"{mount.address.host} is {named}{stands} ({place})"]
    if domain.state == "retired":
        steps.append("it is retired, so this holds only while it is still on the account")
    if domain.https:
        steps.append("http is sent on to https")
    if domain.protected:
        steps.append("the server asks for a password")
    if mount.alias is not None:
        steps.append(
            f"the server maps {mount.address} to {mount.alias.folder.shown} ({mount.account.place(mount.alias)})"
        )
    elif mount.folder is not None:
        steps.append(f"its root is {mount.folder.shown}")
    if reach.folder is not None and reach.folder != mount.folder:
        steps.append(f"so it leads to {reach.folder.shown}")
    return steps


def _on_the_way(effects: list[tuple[Folder, Effect]]) -> list[str]:
    """What control files do besides choosing a file."""
    told = ("asks for a password", "denies everyone", "redirects to https", "redirects to another host",
            "redirects some paths", "redirects", "rewrites some paths")  # fmt: skip
    return [
        f"{printable(place.below('.htaccess'))} line {effect.line} {effect.does}"
        + (f": {printable(effect.what)}" if effect.what else "")
        for place, effect in effects
        if effect.does in told
    ]


def _rewriting(effects: list[tuple[Folder, Effect]]) -> tuple[Folder, Effect] | None:
    """The rule that hands paths to one file: the nearest file that says anything of rewriting decides."""
    nearest = next(
        (place for place, effect in effects if effect.does.startswith(("rewrites", "turns rewriting"))), None
    )
    nearby = [(place, effect) for place, effect in effects if place == nearest]
    if any(effect.does == "turns rewriting off" for _, effect in nearby):
        return None
    return next(((place, effect) for place, effect in nearby if effect.does.startswith("rewrites every path")), None)


def _fallback(effects: list[tuple[Folder, Effect]]) -> tuple[Folder, Effect] | None:
    """The nearest file that is shown for whatever is not there."""
    return next(((place, effect) for place, effect in effects if effect.does == "falls back to one file"), None)


def _target(state: FolderState, place: Folder, effect: Effect, mount: Mount | None) -> Folder | None:
    """The file that a control file in `place` hands paths to; None when that cannot be reached."""
    if not effect.what.startswith("/"):
        if mount is None or mount.way is None or _holds(mount.way, place):
            return state.layout.real(place.below(effect.what))
        root = state.tree.hosts.mount(Address(mount.address.host))
        if root is None or root.way is None or not _holds(root.way, place):
            return None
        return state.tree.reach(Address(mount.address.host, place.below(effect.what).relative_to(root.way)))
    if mount is None:
        return None
    return state.tree.reach(Address(mount.address.host, effect.what.strip("/")))


def _holds(way: Folder, place: Folder) -> bool:
    return place == way or place.is_inside(way)


def _can_be_handed(state: FolderState, place: Folder, effect: Effect, mount: Mount | None) -> bool:
    """Whether the file that a fallback names is there. While any index file is looked for and
    missing, Apache falls back, so that only the first in the order comes before it."""
    target = _target(state, place, effect, mount)
    return target is not None and state.has(target.parent, target.name) is not False


def _handed(
    state: FolderState, place: Folder, effect: Effect, mount: Mount | None, depth: int, steps: tuple[str, ...]
) -> Served:
    """What answers once a control file has handed the path to one file."""
    control = printable(place.below(".htaccess"))
    target = _target(state, place, effect, mount)
    steps = (*steps, f"{control} line {effect.line} {effect.does}: {printable(effect.what)}")
    if target is None or depth >= _HOPS:
        return Served("nothing", f"nothing: {control} sends the path where this address does not reach", steps=steps)
    held = state.held(target.parent)
    there = state.has(target.parent, target.name)
    if there is False:
        return Served(
            "nothing", f"nothing: {control} sends the path to {target.shown}, which does not exist", steps=steps
        )
    if held is not None:
        return Served("application", f"{held.words}, through {target.name}", file=target, steps=steps)
    return Served("file", f"{target.name}, to which {control} sends the path", file=target, steps=steps)


def _folder_served(state: FolderState, folder: Folder, order: list[str]) -> Served:
    trouble = state.trouble(folder)
    if trouble:
        return Served("unknown", f"unknown: the survey could not read {folder.shown} ({printable(trouble)})")
    held = state.held(folder)
    index = next((name for name in order if state.has(folder, name)), None)
    if index is None:
        if any(state.has(folder, name) is None for name in order) and held is None:
            return Served("unknown", f"unknown: the survey does not list all files of {folder.shown}")
        if held is not None:
            return Served("application", f"{held.words}, found by {held.by}")
        if state.is_empty(folder):
            return Served("empty folder", "an empty folder")
        return Served("listing", "no index file: a listing or an error")
    return _index_served(state, folder, index)


def _index_served(state: FolderState, folder: Folder, index: str) -> Served:
    """What a folder's index file shows."""
    held = state.held(folder)
    file = folder.below(index)
    through = state.through(folder, index)
    if through is not None:
        return Served("application", through, file=file)
    contents = state.layout.contents
    page = state.placeholder(folder, index)
    if page is not None:
        behind = f"; {held.words} behind it is not seen" if held else ""
        return Served("placeholder", f"a placeholder page, {index}{behind}", printable(page.because), file)
    if held is not None and held.application is not None and index not in held.application.index_files:
        return Served("file", f"{index}, a page of its own; {held.words} behind it is not seen", file=file)
    if held is not None:
        return Served("application", f"{held.words}, through {index}", file=file)
    if contents is not None and not contents.survey.contents:
        return Served("file", f"{index}, perhaps a placeholder: a listing does not tell what it says", file=file)
    return Served("file", f"{index}, a page of its own", file=file)


def _file_served(state: FolderState, path: Folder, kind: str, deepest: Folder) -> Served:
    """What answers for a path that is no folder: a file, or nothing."""
    above = state.held_above(path)
    under = _under(state, path)
    if kind == "file" and not path.name.startswith(".ht"):
        return Served("file", f"the file {printable(path.name)}", file=path)
    link = state.layout.links.first_in(path) if state.layout.links else None
    if kind == "unknown" and link is not None:
        leads = f"{link[0].shown} is a symbolic link to {printable(link[1])}"
        return Served("unknown", f"unknown: {leads}, where the survey did not look")
    is_answered = above is not None and state.when == "planned" and _answers_below(above[1])
    if kind == "unknown" and not is_answered and (coming := state.coming(deepest)):
        return Served("unknown", f"unknown: not there now, but {coming} may bring it")
    if kind == "unknown" and deepest == path.parent:
        if above and is_answered:
            return Served("application", f"{above[1].words}: it answers every path below it")
        trouble = state.trouble(deepest)
        if trouble:
            words = f"unknown: the survey could not read {deepest.shown} ({printable(trouble)})"
            return Served("unknown", words + under)
        number = state.files_in(deepest)
        known = f"{number} files in {deepest.shown}, whose names were not kept or are of another survey"
        again = Remedy(Do.TAKE_SURVEY, state.layout.name)
        return Served("unknown", f"no folder; perhaps one of the {known}{under}", remedy=again)
    if above and is_answered and above[1].by == "the plan":
        return Served("application", f"{above[1].words}: it answers every path below it")
    return Served("nothing", f"nothing: {path.shown} does not exist{under}")


def _under(state: FolderState, path: Folder) -> str:
    """What a path lies under, where that is an application, to stand behind what is said of it."""
    above = state.held_above(path)
    return f"; it lies under {above[1].words} in {above[0].shown}" if above else ""


def _answers_below(held: Held) -> bool:
    return held.application is not None and held.application.answers_below
