"""Weighing places against each other: what each brings, takes and costs, and which comes first.

The comparison is made step by step, the first difference decides:

1. a place that adds no `stop` comes before one that adds some;
2. one that lies in nothing live comes before one inside of a live application, whatever is preferred, unless that is
   lived with;
3. a place of the preferred kind comes before others;
4. fewer stops, then fewer risks, counting those it adds less those it ends;
5. less work and waiting: a point for each thing to clear, to create and to wait an hour for,
   three for each that takes days;
6. more room on the account: the allowance that is nearest its end, in tenths;
7. easier to leave later;
8. less shared with others;
9. the lower price of the package, where that of each account is known;
10. fewer notes, then the order of the kinds of place, then the address.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from kettlepost.core.answering import answer, answer_words
from kettlepost.core.layout import Contents, PlanLayout, control_words
from kettlepost.core.messages import Hint, Words, joined, say, series
from kettlepost.core.names import Address, Folder, HostName, printable
from kettlepost.core.placing.candidates import PREFERRED, Placement, Wish, candidates_for
from kettlepost.core.plan import Application, Domain
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules import Finding
from kettlepost.core.rules.allowances import NAMES
from kettlepost.core.rules.parties import application_words, at_its_address
from kettlepost.core.rules.ways_out import clearing
from kettlepost.core.steps import (
    DAYS,
    HOURS,
    MINUTES,
    AddHost,
    AwaitCertificate,
    AwaitName,
    Clearing,
    Creating,
    DeleteFile,
    DeleteFolder,
    Deletion,
    GetCertificate,
    KeepOthers,
    LookAtFile,
    MakeDatabase,
    MakeFolder,
    RetireApplication,
    Step,
    Wait,
    Waiting,
    WriteFrontFile,
    survey_after,
)
from kettlepost.core.trying import Scenario, TrialOutcome
from kettlepost.core.words import counted

_WEIGHTS = {MINUTES: 1, HOURS: 1, DAYS: 3}
_ORDER = ("root", "subfolder", "subdomain", "domain", "empty domain", "front file", "other account")
_LEAVING = {"root": 1, "subfolder": 2, "front file": 3}
"""How hard it is to leave a place of a kind again; all others take their addresses along."""
_INSIDE = ("nested-installation", "same-application-nested", "path-shadowed")
"""The rules that find a place inside of a live application."""
CRITERIA = (
    "stopped", "inside", "not preferred", "stops", "risks", "work and waiting", "room", "leaving", "shared", "price",
    "notes",
)  # fmt: skip
"""The steps of the comparison, as `Weighed.points` counts them; the smaller number comes first."""


class Allowance(Struct, frozen=True):
    """How much of an allowance a place takes; `allowed` is None for unlimited."""

    name: str
    after: int
    allowed: int | None

    @property
    def words(self) -> str:
        if self.allowed is None:
            return f"one {self.name.removesuffix('s')}"
        return f"{self.after:,} of {self.allowed:,} {self.name}"


class AccountRoom(Struct, frozen=True):
    """What an account holds and still has room for, as accounts are compared by it.

    `fullest` is how much is used of the allowance that is nearest its end, from 0, in tenths, once
    the application is there; `sites` counts what is installed.
    """

    account: str
    package: str
    price: float | None
    sites: int
    uses: tuple[Allowance, ...]
    fullest: int


class Weighed(Struct, frozen=True):
    """One place with everything that speaks for it and against it.

    `there` tells what lies in its folder, `now` and `after` what answers at its address before
    and once the plan is carried out; `steps` is what has to be done and waited for first, `lives_with` what it adds
    that is lived with, and so weighs nothing.
    """

    number: int
    place: Placement
    there: Words
    now: Words
    after: Words
    adds: tuple[Finding, ...]
    ends: tuple[Finding, ...]
    steps: tuple[Step, ...]
    uses: tuple[Allowance, ...]
    shares: tuple[Words, ...]
    points: tuple[int, ...]
    lives_with: tuple[Finding, ...] = ()

    @property
    def clear(self) -> list[Clearing]:
        return [step for step in self.steps if isinstance(step, Clearing)]

    @property
    def create(self) -> list[Creating]:
        return [step for step in self.steps if isinstance(step, Creating)]

    @property
    def wait(self) -> list[Waiting]:
        return [step for step in self.steps if isinstance(step, Waiting)]

    @property
    def effort(self) -> int:
        """How much is to be cleared and created."""
        return len(self.clear) + len(self.create)

    @property
    def longest(self) -> Wait | None:
        """The longest wait; None where nothing is to be waited for."""
        return max((step.wait for step in self.wait), key=lambda wait: wait.most, default=None)

    @property
    def stops(self) -> list[Finding]:
        return [found for found in self.adds if found.stops]

    def step_before(self, worse: Weighed) -> int | None:
        """The step of the comparison at which it comes before a worse place; None where they are alike."""
        pairs = enumerate(zip(self.points, worse.points, strict=True))
        return next((n for n, (mine, theirs) in pairs if mine != theirs), None)


class Weighing(Struct, frozen=True):
    """All places for one wish, best first; `application` is the one that is wanted.

    For a client, `account` is empty, `domain` the client's name, and `places` has the best place on
    each account, of which `rooms` tells all.
    """

    wish: Wish
    application: Application
    account: str
    domain: str
    places: tuple[Weighed, ...]
    more: tuple[Hint, ...]
    rooms: tuple[AccountRoom, ...] = ()

    @property
    def best(self) -> Weighed | None:
        """The place to take; None when each is stopped by something."""
        return self.places[0] if self.places and not self.places[0].stops else None


def weigh(scenario: Scenario, wish: Wish, only_preferred: bool = False) -> Weighing:
    """Weigh every sensible place. Raises InputError for what is unknown, naming the nearest.

    With `only_preferred`, places of a kind that is not preferred are left out where one that is
    preferred is not stopped: they could not come first.
    """
    found = candidates_for(scenario, wish)
    prefer = wish.prefer or scenario.plan.settings.prefer
    accounts = dict.fromkeys([*found.compared, *(place.account for place in found.places)])
    rooms = {name: _room(scenario, name) for name in accounts}

    def weighed_at(place: Placement) -> Weighed:
        return _weighed(scenario, place, prefer, rooms, wish.despite)

    liked = [weighed_at(place) for place in found.places if _is_liked(place, prefer)]
    others = [place for place in found.places if not _is_liked(place, prefer)]
    if only_preferred and not all(weighed.stops or _is_inside(weighed.adds) for weighed in liked):
        others = []
    weighed = sorted([*liked, *map(weighed_at, others)], key=_order)
    more = [*found.more, *_passed_over(weighed, prefer)]
    if wish.client is not None:
        best = {each.place.account: each for each in reversed(weighed)}
        more += [Hint(say("weigh/domain-theirs", name=name)) for name in found.compared if name not in best]
        if len(weighed) > len(best):
            more.append(Hint(say("weigh/each-account-best")))
        weighed = [each for each in weighed if best[each.place.account] is each]
    numbered = tuple(replace(placement, number=number) for number, placement in enumerate(weighed, 1))
    shown = tuple(rooms.values()) if wish.client is not None else ()
    return Weighing(wish, found.application, found.account, found.domain, numbered, tuple(more), shown)


def _passed_over(weighed: Sequence[Weighed], prefer: str | None) -> Iterator[Hint]:
    """That a place of the preferred kind would come first, were it not inside of a live application."""
    liked = next((one for one in weighed if prefer is not None and _is_liked(one.place, prefer)), None)
    if liked is None or liked is weighed[0] or liked.stops or not _is_inside(liked.adds):
        return
    rules = list(dict.fromkeys(found.rule for found in liked.adds if found.rule in _INSIDE))
    words = say("passed-over/lies-inside-live", address=liked.place.address)
    yield Hint(words, tuple(Remedy.of(Action.WEIGH_DESPITE, rule) for rule in rules))


def _room(scenario: Scenario, account: str) -> AccountRoom:
    state = scenario.state(account)
    package = state.layout.account.settings.package
    known = state.layout.plan.packages.get(package or "")
    taken = {"installations": 1, "databases": 1}
    used = [(use.total + taken.get(use.key, 0)) / use.allowed for use in state.uses.values() if use.allowed]
    return AccountRoom(
        account, package or "", known.price if known is not None else None,
        sum(entry.state != "retired" for entry in state.layout.account.installations),
        tuple(Allowance(use.name, use.total, use.allowed) for use in state.uses.values()),
        math.ceil(10 * max(used, default=0)),
    )  # fmt: skip


def weigh_one(scenario: Scenario, place: Placement) -> Weighed:
    """One place by itself, as it was spelled out."""
    return replace(_weighed(scenario, place, None, {}), number=1)


def _weighed(
    scenario: Scenario, place: Placement, prefer: str | None, rooms: Mapping[str, AccountRoom],
    despite: Collection[str] = (),
) -> Weighed:  # fmt: skip
    outcome = scenario.outcome(place.addition)
    ends = tuple(outcome.difference.gone)
    adds = tuple(finding for finding in outcome.difference.added if finding.rule not in despite)
    lives_with = tuple(finding for finding in outcome.difference.added if finding.rule in despite)
    waits = list(_to_wait_for(scenario, outcome, place))
    work = [*_to_clear(outcome, place), *_to_create(outcome, place)]
    shares = tuple(_shared(scenario, outcome, place))
    stops, risks, notes = (
        sum(_weight(finding) == severity for finding in adds) - sum(_weight(finding) == severity for finding in ends)
        for severity in ("stop", "risk", "note")
    )
    is_stopped = any(finding.stops for finding in adds)
    effort = len(work) + sum(_WEIGHTS[step.wait] for step in waits)
    ease = _LEAVING.get(place.kind, 0)
    room = rooms[place.account].fullest if rooms else 0
    prices = [each.price for each in rooms.values()]
    price = rooms[place.account].price if rooms and None not in prices else None
    points = (
        int(is_stopped), int(not is_stopped and _is_inside(adds)), int(not _is_liked(place, prefer)), stops, risks,
        effort, room, ease, len(shares),
        round(100 * (price or 0)), notes,
    )  # fmt: skip
    return Weighed(
        0, place, _there(outcome, place), _now(scenario, outcome, place.address), _after(outcome, place.address, work),
        adds, ends, (*work, *waits), tuple(_uses(scenario, place)), shares, points, lives_with,
    )  # fmt: skip


def _weight(finding: Finding) -> str | None:
    """The severity as which a finding counts: what is pending is work, and counted as that."""
    return None if finding.pending else finding.severity


def _is_inside(adds: Iterable[Finding]) -> bool:
    """Whether a place lies inside of a live application, which owns and updates all that is in its folder."""
    return any(found.rule in _INSIDE for found in adds)


def _is_liked(place: Placement, prefer: str | None) -> bool:
    return prefer is None or place.kind in PREFERRED.get(prefer, ())


def _order(weighed: Weighed) -> tuple[tuple[int, ...], int, str, str]:
    return weighed.points, _ORDER.index(weighed.place.kind), weighed.place.account, str(weighed.place.address)


def _there(outcome: TrialOutcome, place: Placement) -> Words:
    """What lies in the folder now."""
    layout, folder = outcome.before, place.folder
    contents = layout.contents
    if contents is None:
        return say("there/unknown-surveyed-yet")
    if not contents.exists(folder):
        return say("there/does-exist-yet")
    found = contents.applications.get(folder)
    pages = [printable(page.file) for page in contents.placeholders(folder)]
    total = contents.totals(folder).files
    if found is not None:
        return f"{application_words(layout, found)}, {counted(total, 'file')}"
    if pages and total == len(pages):
        return say("there/only", pages=pages)
    if not total:
        return say("there/empty-folder")
    return joined(counted(total, "file"), say("there/among-them-placeholder", pages=pages) if pages else None)


def _now(scenario: Scenario, outcome: TrialOutcome, address: Address) -> Words:
    layout = outcome.before
    if layout.hosts.mount(address) is None:
        owners = scenario.owners(address.host)
        return (
            say("now/account-name", owner=owners[0])
            if owners
            else say("now/nothing-declared-yet", address=address.host)
        )
    return answer_words(answer(PlanLayout(layout.plan, {layout.name: layout}), address), in_full=False)


def _after(outcome: TrialOutcome, address: Address, work: Sequence[Step]) -> Words:
    """What answers once the plan is carried out, with what is to be cleared out of the way."""
    layout = outcome.after
    if layout.survey is not None and any(isinstance(step, Deletion) for step in work):
        layout = layout.changed(layout.account, survey=survey_after(layout.survey, work))
    return answer_words(answer(PlanLayout(layout.plan, {layout.name: layout}), address, "planned"), in_full=False)


def _to_clear(outcome: TrialOutcome, place: Placement) -> Iterator[Clearing]:
    """What is in the way in the folder, and at the address where a front file is to lie."""
    contents, folder, account = outcome.before.contents, place.folder, place.account
    front = outcome.after.reach(place.address) if place.kind == "front file" else None
    if contents is not None and front is not None:
        yield from _placeholders_to_clear(contents, front, place)
    if contents is None or not contents.exists(folder):
        return
    found = contents.applications.get(folder)
    standing = outcome.before.standing.get(folder, [])
    if found is not None or standing:
        words = application_words(outcome.before, found) if found else standing[0].application
        yield RetireApplication(account, folder, words)
    yield from _placeholders_to_clear(contents, folder, place)
    for control in contents.controls(folder):
        words = control_words(control)
        if words and found is None:
            yield LookAtFile(account, folder, control.file, words, clearing(place.installation))
    if outcome.after.wants_new_folder(place.installation) and place.kind != "front file":
        with_it = clearing(place.installation) if found is None and not standing else None
        yield DeleteFolder(account, folder, for_installer=True, remedy=with_it)
    there = contents.folders[folder]
    others = there.files - len(contents.placeholders(folder)) - len(there.control)
    if others > 0 and found is None and not standing:
        yield KeepOthers(account, folder, others)


def _placeholders_to_clear(contents: Contents, folder: Folder, place: Placement) -> Iterator[Clearing]:
    for page in contents.placeholders(folder):
        yield DeleteFile(place.account, folder, page.file, is_placeholder=True, remedy=clearing(place.installation))


def _to_create(outcome: TrialOutcome, place: Placement) -> Iterator[Creating]:
    account, folder = place.account, place.folder
    mount = outcome.after.hosts.mount(place.address)
    waiting = [mount.domain] if mount is not None and mount.domain.state == "planned" else []
    new = place.addition.domains or waiting
    for domain in (*_planned_above(outcome, new), *new):
        yield step_to_add(account, domain)
    contents = outcome.before.contents
    missing = contents is not None and not contents.exists(folder)
    makes_it_itself = place.kind == "subfolder" and outcome.after.wants_new_folder(place.installation)
    if place.kind in ("subfolder", "front file") and missing and not makes_it_itself:
        yield MakeFolder(account, folder)
    base = place.installation.database
    if base is not None:
        yield MakeDatabase(account, base)
    if place.kind == "front file":
        root = outcome.after.reach(place.address) or Folder("")
        yield WriteFrontFile(account, root, outcome.after.application(place.installation).front_file or "", folder)
    bare = _without_certificate(outcome, place)
    if bare is not None:
        yield GetCertificate(account, bare)


def _planned_above(outcome: TrialOutcome, domains: Iterable[Domain]) -> Iterator[Domain]:
    """The domains above new subdomains that are not on the account yet either."""
    named = outcome.after.account.named
    for domain in domains:
        above = next((named[name] for name in domain.name.above() if name in named), None)
        if domain.kind == "subdomain" and above is not None and above.state == "planned":
            yield above


def step_to_add(account: str, domain: Domain) -> AddHost:
    """Adding a domain at the host."""
    return AddHost(account, domain.name, domain.kind, domain.root)


def _without_certificate(outcome: TrialOutcome, place: Placement) -> HostName | None:
    """The host, if it is to be reached by https and has no certificate yet."""
    host = place.address.host
    mount = outcome.after.hosts.mount(place.address)
    wanted = mount is not None and mount.domain.https
    return host if wanted and outcome.after.has_certificate(host) is False else None


def _to_wait_for(scenario: Scenario, outcome: TrialOutcome, place: Placement) -> Iterator[Waiting]:
    """What takes time."""
    mount, account = outcome.after.hosts.mount(place.address), place.account
    planned = [mount.domain] if mount is not None and mount.domain.state == "planned" else []
    new = place.addition.domains or planned
    for domain in (*_planned_above(outcome, new), *new):
        if domain.kind == "subdomain":
            yield AwaitName(account, domain.name, HOURS)
        else:
            known = domain not in place.addition.domains or any(scenario.owners(above) for above in domain.name.above())
            yield AwaitName(account, domain.name, DAYS, known)
    if not (place.addition.domains or planned) and mount is not None and not outcome.after.points_here(mount.domain):
        yield AwaitName(account, mount.domain.name, DAYS)
    bare = _without_certificate(outcome, place)
    if bare is not None:
        yield AwaitCertificate(account, bare, MINUTES)


def _uses(scenario: Scenario, place: Placement) -> Iterator[Allowance]:
    """What is taken of the package."""
    uses = scenario.state(place.account).uses
    kinds = {"addon": "addon_domains", "subdomain": "subdomains"}
    keys = [kinds[domain.kind] for domain in place.addition.domains if domain.kind in kinds]
    keys += ["installations"] + (["databases"] if place.installation.database is not None else [])
    for key in keys:
        use = uses.get(key)
        if use is not None:
            yield Allowance(use.name, use.total + 1, use.allowed)
        else:
            yield Allowance(NAMES[key], 1, None)


def _shared(scenario: Scenario, outcome: TrialOutcome, place: Placement) -> Iterator[Words]:
    """What it has in common with what is on the domain already: host, cookies, control files."""
    layout, host = outcome.after, place.address.host
    others = [
        installation for installation in scenario.state(place.account).index.at_host.get(host, ())
        if installation.state != "retired" and installation.address != place.address
    ]  # fmt: skip
    if others:
        told = series(map(at_its_address, others), 3)
        yield say("shared/host-of-others", told=told)
    elif place.kind in ("subfolder", "front file"):
        yield say("shared/host-of-whatever-answers", address=Address(host))
    parent = next((above for above in host.above() if layout.hosts.get(above)), None)
    if parent is not None:
        yield say("shared/cookies-sets-subdomains", parent=parent)  # RFC 6265 section 5.1.3
    contents = outcome.before.contents
    for above in place.folder.above() if contents is not None else ():
        for control in contents.controls(above) if contents is not None else ():
            if any(effect.does != "turns rewriting on" for effect in control.effects):
                yield say("shared/control-file", above=printable(above.below(control.file)))
