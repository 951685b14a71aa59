"""What visitors get at each address in one state of a plan and in another, and what that means for them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Iterator
from enum import StrEnum
from functools import cached_property
from typing import Literal, NamedTuple

from msgspec import Struct, field

from kettlepost.core.answering import Answer, Answers, Brief, ExpectedPage, Request, answer_words, expected_page
from kettlepost.core.comparing.addresses import known_addresses
from kettlepost.core.layout import AccountLayout, Mount, PlanLayout, When, has_moved
from kettlepost.core.messages import Words
from kettlepost.core.moving import promised
from kettlepost.core.names import Address, HostName, InvalidName
from kettlepost.core.plan import Domain
from kettlepost.core.survey import KnownPages

MOST = 3_000_000
"""So many addresses of an account are compared at most."""
MOST_KEPT = 100_000
"""So many differences are kept one by one; further ones are counted."""


class Becomes(StrEnum):
    """What becomes of an address, worst first."""

    LOST = "lost"
    ELSEWHERE = "elsewhere"
    OTHER = "other"
    SHUT = "shut"
    UNSURE = "depends"
    OPENED = "open"
    SENT_ON = "sent-on"
    NEW = "new"


class Because(StrEnum):
    """Why an address answers otherwise."""

    HOST_GONE = "host-gone"
    HOST_NEW = "host-new"
    ROOT = "root"
    SENT = "sent"
    INSTALLED = "installed"
    RETIRED = "retired"
    MOVED = "moved"
    FILES = "files"


class AddressDifference(NamedTuple):
    """One address that answers otherwise: what becomes of it and why, and the answers before and after.

    `end` is where visitors end up who are sent on.
    """

    account: str
    url: str
    host: HostName
    becomes: Becomes
    because: Because
    before: Answer
    after: Answer
    end: str = ""
    is_sure: bool = True

    @property
    def words(self) -> tuple[Words, Words]:
        """The answers before and after, in words."""
        return answer_words(self.before), answer_words(self.after)


Scheme = Literal["http", "https"]


class AnswerState:
    """A state of a plan: the layout, and whether that is as it is now or as it is to be; `name` is for people."""

    def __init__(self, layouts: PlanLayout, when: When, name: str):
        self.layouts, self.when, self.name = layouts, when, name

    @cached_property
    def pages(self) -> KnownPages:
        """The pages of its surveys, by which one is the same wherever it lies."""
        return KnownPages({name: layout.survey for name, layout in self.layouts.accounts.items()})


class AnswersCompared(Struct):
    """How many addresses were compared, and which answer otherwise.

    `counts` has how often each becomes of an address, those too that are not kept one by one. `clients` are those of
    the accounts that were compared, `moving` domains whose root is to move with its files, which are not compared,
    `cut` the accounts of which not all addresses were, `unsurveyed` those of whose folders one state knows nothing,
    `unnamed` those of whose files it does not know all names.
    """

    before: str
    after: str
    asked: int = 0
    differences: list[AddressDifference] = field(default_factory=list)
    counts: Counter[Becomes] = field(default_factory=Counter)
    clients: dict[str, str | None] = field(default_factory=dict)
    moving: list[Domain] = field(default_factory=list)
    cut: list[str] = field(default_factory=list)
    unsurveyed: list[str] = field(default_factory=list)
    unnamed: list[str] = field(default_factory=list)


class DifferenceGroup(NamedTuple):
    """Addresses below hosts that share a folder, of which the same becomes for the same reason."""

    account: str
    hosts: tuple[HostName, ...]
    becomes: Becomes
    because: Because
    differences: list[AddressDifference]


def compare_answers(
    before: AnswerState, after: AnswerState, accounts: Collection[str] | None = None, scheme: Scheme = "http"
) -> AnswersCompared:
    """The addresses that answer otherwise after than before, of some accounts or of all, asked by one scheme."""
    found, twice = AnswersCompared(before.name, after.name), set[str]()
    brief = Answers(before.layouts, before.when), Answers(after.layouts, after.when)
    names = sorted({*before.layouts.accounts, *after.layouts.accounts})
    for name in names if accounts is None else [one for one in names if one in accounts]:
        was, now = (state.layouts.accounts.get(name) for state in (before, after))
        known = now or was
        found.clients[name] = known.account.settings.client if known is not None else None
        if any(one is not None and one.survey is None for one in (was, now)):
            found.unsurveyed.append(name)
        moving = _moving(now) if after.when == "planned" else {}
        here = (domain for host, domain in moving.items() if host == domain.name)
        found.moving += [domain for domain in here if domain.account_next is None]
        stays = was is not None and was is now and _is_as_planned(before.layouts, was)
        for url, request in _requests(found, name, before, after, twice, scheme):
            if request.address.host in moving:
                continue
            found.asked += 1
            if not stays and _may_differ(brief[0].brief(request), brief[1].brief(request)):
                for one in _difference(name, url, request, before, after):
                    found.counts[one.becomes] += 1
                    if len(found.differences) < MOST_KEPT:
                        found.differences.append(one)
    return found


def _may_differ(was: Brief, now: Brief) -> bool:
    """Whether visitors may get something else: where they are sent on in the same way, what is there may differ."""
    return was != now or was.answers == "redirect"


def grouped(differences: Iterable[AddressDifference]) -> list[DifferenceGroup]:
    """Differences of hosts that share a folder of which the same becomes for the same reason, the worst first."""
    groups: dict[tuple[object, ...], list[AddressDifference]] = {}
    for one in differences:
        reach = one.before.reach or one.after.reach
        shared = reach.mount.folder if reach is not None and reach.mount.folder is not None else one.host
        groups.setdefault((one.account, one.becomes, one.because, shared), []).append(one)
    order = {becomes: number for number, becomes in enumerate(Becomes)}
    found = [
        DifferenceGroup(some[0].account, tuple(dict.fromkeys(one.host for one in some)), some[0].becomes,
                        some[0].because, some)
        for some in groups.values()
    ]  # fmt: skip
    return sorted(found, key=lambda group: (group.account, order[group.becomes], group.hosts, group.because))


def _requests(
    found: AnswersCompared, name: str, before: AnswerState, after: AnswerState, twice: set[str], scheme: Scheme
) -> Iterator[tuple[str, Request]]:
    """All that is known of an account in either state, each once; `twice` are those that other accounts had as well."""
    layouts = [(state.layouts.accounts.get(name), state.when) for state in (before, after)]
    known = (url for layout, when in layouts if layout is not None for url in known_addresses(layout, when))
    seen: dict[str, None] = {}
    for url in known:
        if len(seen) >= MOST:
            found.cut.append(name)
            break
        seen[url] = None
    for url in seen:
        host = url.partition("/")[0]
        if len({*before.layouts.hosts.get(host, ()), *after.layouts.hosts.get(host, ())}) > 1:
            if url in twice:
                continue
            twice.add(url)
        try:
            yield url, Request.parse(f"{scheme}://{url}")
        except InvalidName:  # a folder that no address can have
            continue


def _is_as_planned(layouts: PlanLayout, layout: AccountLayout) -> bool:
    """Whether nothing is planned, retired or to move in an account, so that what is and what is to be are the same."""
    account = layout.account
    states = {one.state for one in account.domains} | {one.state for one in account.installations}
    is_settled = states <= {"live"} and not layout.moving and not any(one.root_now for one in account.domains)
    return is_settled and all(len(layouts.hosts.get(host, ())) < 2 for host in layout.tree("planned").hosts)


def _moving(layout: AccountLayout | None) -> dict[HostName, Domain]:
    """The hosts of domains whose root is to move and has not, or that go to another account, with what lies there."""
    if layout is None:
        return {}
    return {
        host: mounts[-1].domain
        for host, mounts in layout.tree("planned").hosts.items()
        if _is_on_its_way(layout, mounts[-1].domain)
    }


def _is_on_its_way(layout: AccountLayout, domain: Domain) -> bool:
    goes = domain.account_now is not None or domain.account_next is not None
    return goes or (domain.root_now is not None and not has_moved(layout, domain))


def _difference(
    name: str, url: str, request: Request, before: AnswerState, after: AnswerState
) -> Iterator[AddressDifference]:
    """What becomes of an address; nothing where visitors get the same in the end, in the same way."""
    asked = f"{request.scheme}://{url}"
    old, new = (expected_page(state.layouts, asked, state.when) for state in (before, after))
    going = _goes(new.end or request.address, after) if _standing(old) not in ("nothing", "unknown") else None
    onward = promised(after.layouts, request.address) if going is Because.MOVED else None
    becomes = _becomes(request, old, new, before, after)
    was_going = _goes(old.end or request.address, before) if _standing(new) not in ("nothing", "unknown") else None
    if going is None and was_going is not None:
        becomes, going = Becomes.NEW, was_going
    elif going is not None:
        becomes = Becomes.SENT_ON if onward is not None else Becomes.LOST
    if becomes is None:
        return
    mounts = [state.layouts.mount(request.address, state.when) for state in (before, after)]
    end = new.leaves or (str(new.end) if new.end is not None and new.end != request.address else "")
    end = str(onward) if onward is not None else end
    because = going or _because(mounts[0], mounts[1], new, request, after)
    yield AddressDifference(
        name, url, request.address.host, becomes, because, old.answer, new.answer, end, old.is_sure and new.is_sure
    )


def _becomes(
    request: Request, old: ExpectedPage, new: ExpectedPage, before: AnswerState, after: AnswerState
) -> Becomes | None:
    was, now = _standing(old), _standing(new)
    same = _shows(old, before) == _shows(new, after)
    is_sent = bool(new.leaves) or (new.end is not None and new.end != request.address)
    was_sent = bool(old.leaves) or (old.end is not None and old.end != request.address)
    if "unknown" in (was, now):
        return Becomes.UNSURE if was not in ("unknown", "nothing") else None
    if was == "nothing":
        return Becomes.NEW if now in ("site", "shut", "held", "away") else None
    if now == "nothing":
        return Becomes.LOST if was != "held" else None
    if was == now and same and is_sent == was_sent:
        return Becomes.UNSURE if old.is_sure and not new.is_sure else None
    if now == "away":
        return Becomes.ELSEWHERE
    if was == "shut" or now == "shut":
        return Becomes.OPENED if now != "shut" else Becomes.SHUT if was != "shut" else Becomes.OTHER
    if was == "held":
        return Becomes.NEW if now == "site" else Becomes.OTHER
    if is_sent:
        return Becomes.SENT_ON if same else Becomes.ELSEWHERE
    return None if same else Becomes.OTHER


def _standing(page: ExpectedPage) -> str:
    """What an address is to visitors: a site, something that holds the place, shut, away from the plan, or nothing."""
    if page.leaves:
        return "away"
    match page.answer.kind:
        case "application" | "file":
            return "site"
        case "placeholder" | "listing" | "empty folder":
            return "held"
        case "password":
            return "shut"
        case "unknown":
            return "unknown"
        case "redirect":
            return "nothing" if page.answer.goes_round else "away"
        case _:
            return "nothing"


def _shows(page: ExpectedPage, state: AnswerState) -> tuple[object, ...]:
    """What is shown in the end, by what tells it from all else."""
    found = page.answer
    shown = found.behind or found.shown
    if page.leaves:
        return "away", page.leaves
    if shown.kind == "application" and shown.held is not None and shown.held.application is not None:
        return "application", shown.held.application.id, shown.base
    if shown.file is not None:
        account = found.reach.mount.account.name if found.reach is not None else ""
        return "file", state.pages.known_as(account, shown.file) or shown.file
    return found.kind, shown.place


def _because(was: Mount | None, now: Mount | None, new: ExpectedPage, request: Request, after: AnswerState) -> Because:
    if was is None and now is not None:
        return Because.HOST_NEW
    if was is not None and now is None:
        return Because.HOST_GONE
    if new.leaves or (new.end is not None and new.end.host != request.address.host):
        return Because.SENT
    if was is not None and now is not None and was.folder != now.folder:
        return Because.ROOT
    return Because.INSTALLED if _is_planned(new.answer, after) else Because.FILES


def _is_planned(found: Answer, state: AnswerState) -> bool:
    """Whether an answer comes from where something is planned that is not there yet."""
    if state.when == "now" or found.reach is None or found.reach.folder is None:
        return False
    layout, folder = found.reach.mount.account, found.reach.folder
    own = state.layouts.accounts[layout.name]
    placed = next((own.standing[above] for above in (folder, *folder.above()) if own.standing.get(above)), ())
    return any(one.state == "planned" for one in placed)


def _goes(address: Address, state: AnswerState) -> Because | None:
    """Why an address is one of what is to go: it was retired, or moves elsewhere; None where it is not."""
    mount = state.layouts.mount(address, state.when) if state.when == "planned" else None
    folder = mount.reached(address) if mount is not None else None
    if mount is None or folder is None:
        return None
    name = mount.account.name
    goes = state.layouts.folder_state(name, state.when).goes_with(folder)
    if goes is None:
        return None
    return Because.MOVED if goes in state.layouts.accounts[name].left else Because.RETIRED
