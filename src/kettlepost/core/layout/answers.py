"""What answers at an address, now or once the plan is carried out.

The order is that of the Apache HTTP Server 2.4: the host, then path aliases and the document
root, then control files from the home down, then the first index file. Where no control file
lies, other servers do the same.
"""

from __future__ import annotations

from typing import NamedTuple

from kettlepost.core.layout.folder_state import FolderState
from kettlepost.core.layout.layout import PlanLayout, Reach
from kettlepost.core.layout.mounts import Mount, When
from kettlepost.core.layout.served import AnswerKind, Certainty, Served, absent, certainty, guarded, served_at, under
from kettlepost.core.layout.serving import Request, SurveyedSite
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.webserver import Visitor

_HOPS = 10
_KINDS = {
    "primary": "the primary domain",
    "addon": "an add-on domain",
    "subdomain": "a subdomain",
    "alias": "an alias",
    "temporary": "a temporary address",
}


class Answer(NamedTuple):
    """What stands behind an address: the kind for programs, the words for people.

    A folder with files but none of the index files is a "listing", which a server shows or
    refuses as it is set up. "unknown" means that no survey tells. `goes` is the address that
    visitors are sent on to first; `chain` gives the reasons one after the other. `depends` is empty
    where the answer is certain, `status` the server's where it can be told.
    """

    kind: AnswerKind
    words: str
    reach: Reach | None = None
    file: Folder | None = None
    goes: Address | None = None
    chain: tuple[str, ...] = ()
    remedy: Remedy | None = None
    depends: tuple[str, ...] = ()
    status: int | None = None

    @property
    def certainty(self) -> Certainty:
        return certainty(self.kind, self.depends)


class Brief(NamedTuple):
    """An answer in one line: the folder (`-` for none), its kind, its status if any is known, how sure, in words."""

    leads_to: str
    answers: str
    status: int | None
    certainty: Certainty
    words: str


class _Plain(NamedTuple):
    """What is shown for names that nothing tells of in one folder: where one is not there, and where none can tell."""

    state: FolderState
    unknown: Served
    under: str


class _Alike:
    """Names that are not there in one folder, of which a few begin so that a rule may do something of its own."""

    def __init__(self, state: FolderState | None):
        self.state = state
        self.brief: Brief | None = None
        self._begins: tuple[str, ...] = ()
        self._folder: Folder | None = None

    def holds_for(self, path: Folder) -> bool:
        if self.state is None:
            return False
        if self._folder is None:
            self._folder = path.parent
            begins = SurveyedSite(self.state).begins_that_matter(self._folder)
            if begins is None:
                self.state = None
                return False
            self._begins = begins
        name = path.name
        if name[:3].lower() == ".ht" or name.startswith(self._begins) or self.state.is_folder(path):
            return False
        return self.state.has(self._folder, name) is False


_Key = tuple[Address, Folder, str, str | None, Visitor]


class Answers:
    """Brief answers for long lists of addresses; what was asked before is not worked out again."""

    def __init__(self, layouts: PlanLayout, when: When):
        self._layout = layouts
        self._when = when
        self._known: dict[_Key, Brief] = {}
        self._plain: dict[tuple[Address, Folder], _Plain | None] = {}
        self._fronts: dict[_Key, _Alike] = {}

    def brief(self, request: Request) -> Brief:
        """What a request gets, in one line."""
        address = request.address
        mount = self._layout.mount(address, self._when)
        folder = mount.reached(address) if mount is not None else None
        if mount is None or folder is None:
            found = answer(self._layout, address, self._when, request)
            return Brief("-", found.kind, found.status, found.certainty, found.words)
        if not request.is_plain:
            return self._seen(mount, folder, request)
        host = address.host if mount.address.host[0] == "*" else ""
        # of two mounts at one address only the first answers
        key = (mount.address, folder, host, request.scheme, request.visitor)
        known = self._known.get(key) or self._beside(mount, folder)
        return known or self._alike((*key[:1], folder.parent, *key[2:]), mount, folder, request)

    def _alike(self, key: _Key, mount: Mount, path: Folder, request: Request) -> Brief:
        """The answer for a name that is not there, which is that for others where control files see no difference."""
        alike = self._fronts.get(key)
        if alike is None:
            alike = self._fronts[key] = _Alike(self._plain_state(mount, key[1]))
        name = path.name
        if not alike.holds_for(path):
            return self._in_full((key[0], path, *key[2:]), mount, request)
        if alike.brief is None:
            seen = self._in_full((key[0], path, *key[2:]), mount, request)
            if seen.answers == "nothing" or name in seen.words:
                alike.state = None
                return seen
            alike.brief = seen
        return alike.brief._replace(leads_to=path.shown)

    def _in_full(self, key: _Key, mount: Mount, request: Request) -> Brief:
        known = self._known[key] = self._seen(mount, key[1], request)
        return known

    def _plain_state(self, mount: Mount, folder: Folder) -> FolderState | None:
        """What stands in a folder, where nothing but it and its control files matters."""
        state = self._layout.folder_state(mount.account.name, self._when)
        is_simple = (
            state.is_known
            and state.when == "now"
            and not mount.domain.protected
            and not state.layout.links
            and not state.layout.account.path_rules
            and mount.domain.fallback is None
            and state.is_folder(folder)
        )
        return state if is_simple else None

    def _seen(self, mount: Mount, folder: Folder, request: Request) -> Brief:
        state = self._layout.folder_state(mount.account.name, self._when)
        folder = state.layout.real(folder)
        seen = guarded(mount, served_at(state, folder, mount, mount.way_to(request.address), request), request.visitor)
        return Brief(folder.shown, seen.kind, seen.status, certainty(seen.kind, seen.depends), seen.whole_words)

    def _beside(self, mount: Mount, path: Folder) -> Brief | None:
        """The answer for a name that nothing tells of, in a folder where no control file has a say."""
        parent = path.parent
        key = (mount.address, parent)
        if key not in self._plain:
            state = self._plain_state(mount, parent)
            if state is not None and not SurveyedSite(state).has_say(parent):
                place = parent.below("\0")
                self._plain[key] = _Plain(state, absent(state, place, parent), under(state, place))
            else:
                self._plain[key] = None
        plain = self._plain[key]
        if plain is None or not path or path.name[:3].lower() == ".ht" or plain.state.is_folder(path):
            return None
        there = plain.state.has(parent, path.name)
        if there:
            return None
        shown = path.shown
        if there is None:
            return Brief(shown, "unknown", None, "unknown", plain.unknown.words)
        return Brief(shown, "nothing", 404, "certain", f"nothing: {shown} does not exist{plain.under}")


def answer(layouts: PlanLayout, address: Address, when: When = "now", request: Request | None = None) -> Answer:
    """What answers at `address`; `request` says more of how it is asked for."""
    request = request or Request(address)
    reach = layouts.reach(address, when)
    if reach is None:
        other = layouts.reach(address, "planned" if when == "now" else "now")
        if other is not None:
            return _at_another_time(other, address, when)
        form = HostName(address.host[4:] if address.host.startswith("www.") else f"www.{address.host}")
        if form in layouts.hosts:
            bare = min(form, address.host, key=len)
            words = f"not one of ours: {form} is, and nobody declares {address.host}"
            return Answer("not ours", words, remedy=Remedy.of(Do.SET_WWW, "both", str(bare)))
        is_folder = "." not in address.host  # as nearly no host that is reached by name
        asked = "/".join(filter(None, address))
        remedy = Remedy.of(Do.ASK_FOLDER, asked) if is_folder else None
        words = f"not one of ours: no domain of the plan is called {address.host}"
        return Answer("not ours", words, remedy=remedy)
    chain = list(_way_in(reach))
    if reach.folder is None:
        return _sent_on(layouts, address, reach, when, chain)
    state = layouts.folder_state(reach.mount.account.name, when)
    seen = guarded(reach.mount, served_at(state, reach.folder, reach.mount, reach.way, request), request.visitor)
    words = seen.whole_words
    steps = (*chain, *seen.steps, words)
    return Answer(seen.kind, words, reach, seen.file, seen.goes, steps, seen.remedy, seen.depends, seen.status)


def _at_another_time(reach: Reach, address: Address, when: When) -> Answer:
    """What is said of a host that is ours at the other time only."""
    place = reach.mount.account.place(reach.mount.domain)
    if when == "now":
        words = f"nothing yet: {address.host} is planned and not on the account ({place})"
    else:
        words = f"nothing any more: {address.host} is retired ({place})"
    return Answer("nothing", words, Reach(reach.mount, None, None), chain=(words,))


def _sent_on(layouts: PlanLayout, address: Address, reach: Reach, when: When, chain: list[str]) -> Answer:
    first = target = reach.mount.sent_to(address)
    if first is None or target is None:
        of = reach.mount.domain.of
        return Answer("nothing", f"nothing: it stands for {of}, which leads nowhere", reach, chain=tuple(chain))
    passed = {address}
    while len(passed) <= _HOPS:
        chain.append(f"sends visitors on to {target}")
        if target in passed:
            words = f"a redirect to {first} that goes round in circles"
            return Answer("redirect", words, reach, None, first, tuple(chain), status=301)
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
        return Answer("redirect", words, reach, None, first, tuple(chain), status=301)
    words, chained = f"{words}: {last.words}", (*chain, *last.chain)
    return Answer("redirect", words, reach, None, first, chained, depends=last.depends, status=301)


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
