"""Weighing places against each other: what each brings, takes and costs, and which comes first.

The comparison is made step by step, the first difference decides:

1. a place that adds no `stop` comes before one that adds some;
2. a place of the preferred kind comes before others;
3. fewer stops, then fewer risks, counting those it adds less those it ends;
4. less work and waiting: a point for each thing to clear, to create and to wait an hour for,
   three for each that takes days;
5. easier to leave later;
6. less shared with others;
7. fewer notes, then the order of the kinds of place, then the address.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

from msgspec import Struct

from kettlepost.core.layout import Layout, answer, control_words
from kettlepost.core.names import Address, Folder, HostName, printable
from kettlepost.core.placing.ground import Ground, Trial
from kettlepost.core.placing.places import PREFERRED, Place, Places, Wish, places_for
from kettlepost.core.plan import Application
from kettlepost.core.rules import Finding
from kettlepost.core.words import counted, listed

_HOURS, _DAYS = 1, 3
_ORDER = ("root", "subfolder", "subdomain", "domain", "empty domain", "front file", "other account")
_LEAVING = {
    "root": (1, "the domain has to lead elsewhere, and all that lies below its root moves or stays behind"),
    "subfolder": (2, "every address below it changes: redirects, stored links and the licence have to follow"),
    "front file": (3, "the front file and the folder's own addresses both have to be found and changed"),
}
_EASY = (0, "its host name takes it along: point that elsewhere, and its addresses stay")
CRITERIA = ("stopped", "not preferred", "stops", "risks", "work and waiting", "leaving", "shared", "notes")
"""The steps of the comparison, as `Weighed.points` counts them; the smaller number comes first."""


class Allowance(Struct):
    """How much of an allowance a place takes; `allowed` is None for unlimited."""

    name: str
    after: int
    allowed: int | None

    @property
    def words(self) -> str:
        return f"{self.after:,} of {self.allowed:,} {self.name}" if self.allowed is not None else f"one of {self.name}"


class Weighed(Struct):
    """One place with everything that speaks for it and against it.

    `there` tells what lies in its folder, `now` and `after` what answers at its address before
    and once the plan is carried out; `clear`, `create` and `wait` are what has to be done first.
    """

    number: int
    place: Place
    there: str
    now: str
    after: str
    adds: list[Finding]
    ends: list[Finding]
    clear: list[str]
    create: list[str]
    wait: list[str]
    uses: list[Allowance]
    leaving: str
    shares: list[str]
    points: list[int]
    because: str = ""

    @property
    def steps(self) -> int:
        """How much is to be cleared and created."""
        return len(self.clear) + len(self.create)

    @property
    def waits(self) -> str:
        """The longest wait: minutes, hours, days, or nothing."""
        return next((word for word in ("days", "hours", "minutes") if any(w.endswith(word) for w in self.wait)), "")

    @property
    def effort(self) -> str:
        return counted(self.steps, "step") + (f" and {self.waits} of waiting" if self.waits else "")

    @property
    def stops(self) -> list[Finding]:
        return [found for found in self.adds if found.severity == "stop"]


class Weighing(Struct):
    """All places for one wish, best first; `advice` says which to take and why."""

    wish: Wish
    account: str
    domain: str
    places: list[Weighed]
    more: list[str]
    advice: str

    @property
    def best(self) -> Weighed | None:
        """The place to take; None when each is stopped by something."""
        return self.places[0] if self.places and not self.places[0].stops else None


def weigh(ground: Ground, wish: Wish) -> Weighing:
    """Weigh every sensible place. Raises InputError for what is unknown, naming the nearest."""
    found = places_for(ground, wish)
    prefer = wish.prefer or ground.plan.settings.prefer
    weighed = [_weighed(ground, found, place, prefer) for place in found.places]
    weighed.sort(key=_order)
    for number, one in enumerate(weighed, 1):
        one.number = number
    for better, worse in pairwise(weighed):
        worse.because = f"behind {better.number}: {_because(better, worse)}"
    if weighed:
        weighed[0].because = f"first: {_profile(weighed[0])}"
    return Weighing(wish, found.account, found.domain, weighed, found.more, _advice(found, weighed))


def weigh_one(ground: Ground, place: Place) -> Weighed:
    """One place by itself, as it was spelled out."""
    application = ground.plan.applications[place.installation.application]
    whole = Places(application, place.account, place.address.host, [place], [])
    one = _weighed(ground, whole, place, None)
    one.number = 1
    return one


def _weighed(ground: Ground, found: Places, place: Place, prefer: str | None) -> Weighed:
    trial = ground.trial(place.addition)
    adds, ends = trial.difference.added, trial.difference.gone
    clear, create = list(_to_clear(trial, place, found.application)), list(_to_create(trial, place))
    wait = list(_to_wait_for(ground, trial, place))
    shares = list(_shared(ground, trial, place))
    ease, leaving = _LEAVING.get(place.kind, _EASY)
    stops, risks, notes = (
        sum(one.severity == severity for one in adds) - sum(one.severity == severity for one in ends)
        for severity in ("stop", "risk", "note")
    )
    is_stopped = any(one.severity == "stop" for one in adds)
    is_liked = prefer is None or place.kind in PREFERRED.get(prefer, ())
    effort = len(clear) + len(create) + sum(weight for weight, _ in wait)
    points = [int(is_stopped), int(not is_liked), stops, risks, effort, ease, len(shares), notes]
    return Weighed(
        0, place, _there(trial, place), _now(ground, trial, place.address), _after(trial, place.address),
        adds, ends, clear, create, [words for _, words in wait], list(_uses(ground, place)), leaving, shares, points,
    )  # fmt: skip


def _order(one: Weighed) -> tuple[list[int], int, str, str]:
    return one.points, _ORDER.index(one.place.kind), one.place.account, str(one.place.address)


def _there(trial: Trial, place: Place) -> str:
    """What lies in the folder now."""
    here, folder = trial.before, place.folder
    contents = here.contents
    if contents is None:
        return "unknown: not surveyed yet"
    if not contents.exists(folder):
        return "does not exist yet"
    found = contents.applications.get(folder)
    pages = [printable(page.file) for page in contents.placeholders(folder)]
    total = contents.totals(folder).files
    if found is not None:
        return f"{found.words(here.title(found.application))}, {counted(total, 'file')}"
    if pages and total == len(pages):
        return f"only {'the placeholder' if len(pages) == 1 else 'placeholders'} {listed(pages)}"
    if not total:
        return "an empty folder"
    return counted(total, "file") + (f", among them the placeholder {listed(pages)}" if pages else "")


def _now(ground: Ground, trial: Trial, address: Address) -> str:
    here = trial.before
    if here.hosts.mount(address) is None:
        owners = ground.owners(address.host)
        return f"account {owners[0]} has that name" if owners else f"nothing: {address.host} is not declared yet"
    return answer(Layout(here.plan, {here.name: here}), address).words


def _after(trial: Trial, address: Address) -> str:
    here = trial.after
    return answer(Layout(here.plan, {here.name: here}), address, "planned").words


def _to_clear(trial: Trial, place: Place, application: Application) -> Iterator[str]:
    """What is in the way in the folder."""
    contents, folder = trial.before.contents, place.folder
    if contents is None or not contents.exists(folder):
        return
    found = contents.applications.get(folder)
    standing = trial.before.standing.get(folder, [])
    if found is not None or standing:
        words = found.words(trial.before.title(found.application)) if found else standing[0].application
        yield f"move or retire {words} in {folder.shown}"
    for page in contents.placeholders(folder):
        yield f"remove the placeholder {printable(folder.below(page.file))}"
    for control in contents.controls(folder):
        words = control_words(control)
        if words and found is None:
            yield f"look at {printable(folder.below(control.file))}: {words}"
    if application.wants_new_folder and place.kind != "front file":
        yield f"remove the folder {folder.shown}, which the installer wants to make itself"
    there = contents.folders[folder]
    others = there.files - len(contents.placeholders(folder)) - len(there.control)
    if others > 0 and found is None and not standing:
        yield f"keep a copy of {counted(others, 'other file')} in {folder.shown}, then remove what is not needed"


def _to_create(trial: Trial, place: Place) -> Iterator[str]:
    kinds = {"addon": "add-on domain", "subdomain": "subdomain"}
    for domain in place.addition.domains:
        root = domain.root.shown if domain.root is not None else ""
        yield f"{kinds.get(domain.kind, domain.kind)} {domain.name} with the root {root}"
    contents = trial.before.contents
    missing = contents is not None and not contents.exists(place.folder)
    if place.kind in ("subfolder", "front file") and missing:
        yield f"folder {place.folder.shown}"
    base = place.installation.database
    if base is not None:
        yield f"database {base.name}, user {base.user or base.name}, table prefix {base.prefix}"
    if place.kind == "front file":
        root = trial.after.reach(place.address) or Folder("")
        file = root.below(trial.after.application(place.installation).front_file or "")
        yield f"front file {file.shown} that starts what is in {place.folder.shown}"
    bare = _without_certificate(trial, place)
    if bare is not None:
        yield f"certificate for {bare}"


def _without_certificate(trial: Trial, place: Place) -> HostName | None:
    """The host, if it is to be reached by https and has no certificate yet."""
    host = place.address.host
    mount = trial.after.hosts.mount(place.address)
    covered = {name for one in trial.after.account.certificates for name in one.covers}
    wanted = mount is not None and mount.domain.https
    return host if wanted and host not in covered and f"*.{host.partition('.')[2]}" not in covered else None


def _to_wait_for(ground: Ground, trial: Trial, place: Place) -> Iterator[tuple[int, str]]:
    """What takes time, with its weight."""
    mount = trial.after.hosts.mount(place.address)
    for domain in place.addition.domains:
        if domain.kind == "subdomain":
            yield _HOURS, f"name servers to know {domain.name}: minutes to hours"
        else:
            known = any(ground.owners(above) for above in domain.name.above())
            yield _DAYS, f"{domain.name} to {'' if known else 'be registered and to '}point here: hours to days"
    if not place.addition.domains and mount is not None and not mount.domain.points_here:
        yield _DAYS, f"{mount.domain.name} to point here: hours to days"
    if _without_certificate(trial, place) is not None:
        yield _HOURS, "the certificate, once the name points here: minutes"


def _uses(ground: Ground, place: Place) -> Iterator[Allowance]:
    """What is taken of the package."""
    uses = ground.state(place.account).uses
    kinds = {"addon": "addon_domains", "subdomain": "subdomains"}
    keys = [kinds[domain.kind] for domain in place.addition.domains if domain.kind in kinds]
    keys += ["installations"] + (["databases"] if place.installation.database is not None else [])
    for key in keys:
        use = uses.get(key)
        if use is not None:
            yield Allowance(use.name, use.total + 1, use.allowed)
        else:
            yield Allowance(key.replace("_", "-").replace("addon-", "add-on "), 1, None)


def _shared(ground: Ground, trial: Trial, place: Place) -> Iterator[str]:
    """What it has in common with what is on the domain already: host, cookies, control files."""
    here, host = trial.after, place.address.host
    others = [
        one for one in ground.state(place.account).index.at_host.get(host, ())
        if one.state != "retired" and one.address != place.address
    ]  # fmt: skip
    if others:
        told = listed((f"{one.application} at {one.address}" for one in others), 3)
        yield f"the host name and its cookies with {told}"
    elif place.kind in ("subfolder", "front file"):
        yield f"the host name and its cookies with whatever answers at {Address(host)}"
    parent = next((above for above in host.above() if here.hosts.get(above)), None)
    if parent is not None:
        yield f"cookies that {parent} sets for its subdomains"  # RFC 6265 section 5.1.3
    contents = trial.before.contents
    for above in place.folder.above() if contents is not None else ():
        for control in contents.controls(above) if contents is not None else ():
            if any(effect.does != "turns rewriting on" for effect in control.effects):
                yield f"the control file {printable(above.below(control.file))}"


def _because(better: Weighed, worse: Weighed) -> str:
    """The first step of the comparison at which two places differ, in words."""
    step = next((n for n, pair in enumerate(zip(better.points, worse.points, strict=True)) if pair[0] != pair[1]), None)
    if step is None:
        return "they are alike, and the simpler kind of place comes first"
    few, many = better.points[step], worse.points[step]
    b, w = better.number, worse.number
    if step == 0:
        return f"nothing new stops {b}, and {w} is stopped by {listed(dict.fromkeys(one.rule for one in worse.stops))}"
    words = [
        "",
        f"{b} is of the kind you prefer",
        f"{b} adds {counted(few, 'stop')}, {w} adds {many:,}",
        f"{b} {_change(few)}, {w} {_change(many)}",
        f"{b} takes {better.effort}, {w} takes {worse.effort}",
        f"{b} is easier to leave later",
        f"{b} shares less with others on the account",
        f"{b} adds fewer notes",
    ]
    return words[step]


def _profile(one: Weighed) -> str:
    """What the first place has to be compared by, in short."""
    counts = [(sum(found.severity == severity for found in one.adds), severity) for severity in ("stop", "risk")]
    adds = " and ".join(counted(number, severity) if number else f"no {severity}" for number, severity in counts)
    shares = f"shares {counted(len(one.shares), 'thing')} with others" if one.shares else "shares nothing with others"
    return f"adds {adds}, takes {one.effort}, {shares}"


def _change(risks: int) -> str:
    if not risks:
        return "adds no risk"
    return f"{'adds' if risks > 0 else 'ends'} {counted(abs(risks), 'risk')}"


def _advice(found: Places, weighed: list[Weighed]) -> str:
    if not weighed:
        return f"There is no place for {found.application.shown} at {found.domain}."
    first = weighed[0]
    where = f"{first.place.address} in {first.place.folder.shown}"
    if first.place.account != found.account:
        where += f" of account {first.place.account}"
    if first.stops:
        told = listed(dict.fromkeys(f"{one.rule} at {one.at}" for one in first.stops), 4)
        return f"No place is free of stops. Nearest is {where}, once this is mended: {told}."
    risks = [one for one in first.adds if one.severity == "risk"]
    but = f", knowing of {listed(dict.fromkeys(one.rule for one in risks), 4)}" if risks else ""
    steps = [*first.clear, *first.create]
    todo = f" First: {steps[0]}{f', and {len(steps) - 1:,} more' if len(steps) > 1 else ''}." if steps else ""
    return f"Take 1, {where}{but}.{todo}"
