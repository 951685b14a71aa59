"""Keeping a plan: what adding, moving and dropping domains, retiring and adopting write into it."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from kettlepost.core.errors import InputError
from kettlepost.core.layout import LOCAL_HOSTS, AccountLayout, bare_and_www, dependents_of, holds_in, own_tables
from kettlepost.core.messages import Hint, Words, say
from kettlepost.core.names import Address, Folder, HostName, did_you_mean, printable, quoted
from kettlepost.core.placing.batch import Granted
from kettlepost.core.placing.candidates import Placement
from kettlepost.core.placing.ownership import owner_of
from kettlepost.core.placing.weighing import step_to_add, weigh_one
from kettlepost.core.plan import Change, Database, Domain, Installation, Www, table_of
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.allowances import uses_of
from kettlepost.core.rules.cross_account import summarise
from kettlepost.core.rules.moves import moving_steps, root_changes
from kettlepost.core.rules.parties import application_words
from kettlepost.core.rules.paths import canonical
from kettlepost.core.rules.precedence import is_rehearsal_name
from kettlepost.core.rules.removal import remaining_words, removal, what_stays
from kettlepost.core.rules.transitions import confirmed
from kettlepost.core.rules.ways_out import dropping, free_root, setting
from kettlepost.core.steps import (
    AddHost,
    Check,
    CopyFolder,
    Forget,
    LeaveFolder,
    LookAgain,
    LookAtFolder,
    PointName,
    RemoveHost,
    Step,
    WriteDown,
)
from kettlepost.core.survey import FoundApplication
from kettlepost.core.trying import Scenario
from kettlepost.core.words import counted, listed

_SHOWN = 20
"""How many addresses that lead elsewhere are named."""


class Proposal(Struct, frozen=True):
    """A change of one account's file, what is to be said of it, and what to do next."""

    account: str
    changes: tuple[Change, ...]
    told: tuple[Hint, ...] = ()
    next: tuple[Step, ...] = ()


def add_domain(layout: AccountLayout, domain: Domain) -> Proposal:
    """Declare a domain."""
    told = []
    if domain.root is not None:
        outer = next((above for above in domain.root.above() if above in layout.roots), None)
        main = layout.account.primary
        if outer is None and main is not None and main.root and domain.kind in ("addon", "subdomain"):
            inside = main.root.below(domain.name.spelt)
            words = say(
                "add-domain/host-allows-folder",
                root=main.root.shown,
                inside=inside.shown,
                domain=domain.name,
                address=Address(main.name).below(domain.name.spelt),
            )
            told.append(
                Hint(words, (Remedy.of(Action.GIVE_ROOT, inside.shown), Remedy.of(Action.READ_RULE, "nested-root")))
            )
    pointing = [
        PointName(layout.name, host)
        for host in (domain.name, *bare_and_www(domain.name))
        if host == domain.name or domain.www not in (None, "apart")
    ]  # fmt: skip
    adding = [step_to_add(layout.name, domain)] if domain.state == "planned" else []
    change = Change(layout.name, "domain", None, table_of(domain))
    return Proposal(layout.name, (change,), tuple(told), (*adding, *dict.fromkeys(pointing)))


def as_named(scenario: Scenario, host: HostName) -> None:
    """Ask back about a new domain that is another's form with www. Raises InputError that names what may be meant."""
    bare = HostName(host.removeprefix("www."))
    if bare == host or "." not in bare:
        return
    if scenario.owners(bare):
        words = f"{host} is {bare} with www, and {bare} is a domain of account {scenario.owners(bare)[0]}"
        raise InputError(
            f"{words}; for a site of its own give --kind subdomain", Remedy.of(Action.SET_WWW, "both", str(bare))
        )
    words = f"is {bare} meant? Declared by its own name it answers at {host} as well"
    raise InputError(f"{words}; for {host} alone give --www apart", Remedy.of(Action.ADD_DOMAIN, bare))


def set_www(layout: AccountLayout, domains: Sequence[Domain], www: Www) -> Proposal:
    """Say which of the bare name and the one with www answers."""
    steps = [
        AddHost(layout.name, host, domain.kind, domain.root)
        for domain in domains
        for host in bare_and_www(domain.name)
        if www != "apart" and layout.hosts.mount(Address(host)) is None
    ]  # fmt: skip
    changes = [setting(layout, domain, www=www) for domain in domains]
    return Proposal(layout.name, tuple(changes), (), tuple(steps))


def without_www(layout: AccountLayout) -> list[Domain]:
    """The domains of an account for whose form with www nothing is declared."""
    return [layout.account.domains[note.number] for note in summarise(layout).bare]


def find_domain(scenario: Scenario, host: HostName, account: str | None) -> tuple[AccountLayout, Domain]:
    """The declaration of a domain. Raises InputError that names the nearest, or the domain it is another name of."""
    former = [name for name in scenario.former_owners(host) if account in (None, name)]
    is_former = not scenario.owners(host) and len(former) == 1
    layout = scenario.layout(former[0] if is_former else owner_of(scenario, host, account))
    domain = layout.account.declared(host)
    if domain is None:
        owner = layout.hosts[host][0].domain
        raise InputError(
            f"{host} is another name of {owner.name}, declared at {layout.account.place(owner)}; name that"
        )
    return layout, domain


def drop_domain(layout: AccountLayout, domain: Domain) -> Proposal:
    """Take a domain out. Raises InputError while installations answer there."""
    hosts = {
        host
        for hosts in (layout.tree("planned").hosts, layout.tree("now").hosts)
        for host, mounts in hosts.items()
        if any(mount.domain.number == domain.number for mount in mounts)
    }
    there = [
        installation
        for installation in layout.account.installations
        if installation.address.host in hosts and installation.state != "retired"
    ]
    if there:
        told = listed(
            (
                f"{installation.application} at {installation.address} ({layout.account.place(installation)})"
                for installation in there
            ),
            6,
        )
        verb = "answers" if len(there) == 1 else "answer"
        raise InputError(f"{told} still {verb} at {domain.name}; retire or move first what is there")
    hanging = dependents_of(layout, domain)
    words = [Hint(say("drop-domain/hangs-name-servers", domain=domain.name, one=one)) for one in hanging]
    folder = layout.real(domain.root) if domain.root is not None else None
    words += [Hint(one) for one in _left_unreached(layout, hosts)]
    following: list[Step] = [RemoveHost(layout.name, domain.name, domain.root)]
    if folder is not None and layout.contents is not None and layout.contents.exists(folder):
        following.append(LeaveFolder(layout.name, folder, layout.contents.totals(folder).files))
    return Proposal(layout.name, (dropping(layout, domain),), tuple(words), tuple(following))


def _left_unreached(layout: AccountLayout, hosts: Collection[HostName]) -> Iterator[Words]:
    """The applications that no address reaches any more once some hosts are gone."""
    for found in layout.contents.survey.applications if layout.contents is not None else ():
        addresses = layout.addresses_of(found.folder)
        if addresses and all(address.host in hosts for address in addresses):
            yield say(
                "left-unreached/stays-address-leads",
                application=application_words(layout, found),
                folder=found.folder.shown,
            )


def move_root(layout: AccountLayout, domain: Domain, root: Folder) -> Proposal:
    """Give a domain another root.

    Raises InputError when it has none of its own, when its files would cover others, and when what is live at its root
    is another domain's as well.
    """
    if not domain.claims_root:
        raise InputError(f"{domain.name} has no root of its own ({layout.account.place(domain)})")
    if domain.root == root:
        raise InputError(f"{domain.name} leads to {root.shown} already ({layout.account.place(domain)})")
    changes = tuple(root_changes(layout, domain, root))
    added = step_to_add(layout.name, replace(domain, root=root))
    work = moving_steps(layout, domain, root)
    filled = next((step.folder for step in work if isinstance(step, LookAtFolder)), None)
    if filled is not None:
        free = free_root(layout, domain.name)
        raise InputError(
            f"{filled.shown} is not empty, and the files of {domain.name} would be copied over what lies there; name a "
            f"folder that is free, such as {free.shown}, or copy them yourself and write the root into the plan"
        )
    copied = {step.folder for step in work if isinstance(step, CopyFolder)}
    into = next((folder for folder in copied if root.is_inside(folder) and _is_application(layout, folder)), None)
    if into is not None:
        free = free_root(layout, domain.name)
        raise InputError(
            f"{root.shown} lies inside {into.shown}, in which an application is: it would be copied into itself; name "
            f"a folder outside, such as {free.shown}"
        )
    for folder, others, installation in _shared_with(layout, domain):
        if domain.state == "live" and folder not in copied:
            raise InputError(
                f"{layout.title(installation.application)} at {installation.address} lies in {folder.shown}, which "
                f"{listed(others, 4)} shows as well, so it would not come along; write down first at which of them it "
                "stays, as its address"
            )
    return Proposal(layout.name, changes, (), (added,) if domain.state == "planned" else tuple(work))


def _is_application(layout: AccountLayout, folder: Folder) -> bool:
    """Whether an application is in exactly a folder today: by the plan, or as it was found."""
    found = layout.contents.applications if layout.contents is not None else {}
    return folder in found or any(one.state == "live" for one in layout.present.get(folder, ()))


def _shared_with(layout: AccountLayout, domain: Domain) -> Iterator[tuple[Folder, list[str], Installation]]:
    """What is live at a domain's own root while other domains lead there, with the folder and those."""
    for installation in layout.installations_of.get(domain.number, ()):
        folder = layout.lies_now(installation)
        mounts = layout.tree("now").mounts.get(folder, ()) if folder is not None else ()
        others = [
            one.domain.name for one in mounts if one.domain.number != domain.number and one.domain.of != domain.name
        ]
        if installation.state == "live" and folder is not None and others:
            yield folder, list(dict.fromkeys(others)), installation


def changed_meanings(before: AccountLayout, after: AccountLayout) -> list[Words]:
    """Which addresses of an account lead to another folder than before."""
    addresses = dict.fromkeys(
        [mount.address for mounts in before.hosts.values() for mount in mounts]
        + [installation.address for installation in before.account.installations]
    )
    moved: list[Words] = [
        f"{address}: {_shown(was)} -> {_shown(now)}"
        for address in addresses
        for was, now in [(before.reach(address), after.reach(address))]
        if was != now
    ]
    more = [say("changed-meanings/more", moved=len(moved) - _SHOWN)] if len(moved) > _SHOWN else []
    return moved[:_SHOWN] + more


def find_installation(scenario: Scenario, address: Address, account: str | None) -> tuple[AccountLayout, Installation]:
    """The installation at an address that is not retired. Raises InputError that names the nearest."""
    layout = scenario.layout(owner_of(scenario, address.host, account))
    key = canonical(layout, address)
    there = [
        installation for installation in layout.account.installations if canonical(layout, installation.address) == key
    ]
    active = [installation for installation in there if installation.state != "retired"]
    if len(active) > 1:
        places = listed(f"{installation.application} ({layout.account.place(installation)})" for installation in active)
        raise InputError(f"{counted(len(active), 'installation')} are at {address}: {places}; edit the file")
    if not active:
        if there:
            raise InputError(
                f"{there[0].application} at {address} is retired already ({layout.account.place(there[0])})"
            )
        near = did_you_mean(str(address), [str(installation.address) for installation in layout.account.installations])
        raise InputError(f"nothing is installed at {address}{near}")
    return layout, active[0]


def retire(layout: AccountLayout, installation: Installation) -> Proposal:
    """Mark an installation as retired, and say what of it remains."""
    remains, lies_at = list(_remains(layout, installation)), str(installation.address_now or installation.address)
    return Proposal(
        layout.name,
        (setting(layout, installation, state="retired"),),
        tuple(Hint(say("retire/remains", words=words)) for words in remains),
        (*_removing(layout, installation), LookAgain(layout.name), Forget(layout.name, lies_at)) if remains else (),
    )


def _removing(layout: AccountLayout, installation: Installation) -> Sequence[Step]:
    """The work by which a retired installation goes, each thing with a copy before."""
    folder, contents = layout.lies_now(installation), layout.contents
    found = contents.applications.get(folder) if contents is not None and folder is not None else None
    found = found if found is not None and found.application == installation.application else None
    return removal(layout, folder, installation, found).steps if folder is not None else ()


def adopt(layout: AccountLayout, wanted: Collection[Folder] = ()) -> Proposal:
    """Put what the survey found and the plan does not know into the plan, as it was found.

    What is planned and deployed as planned becomes live. What looks like a copy or a rehearsal is
    entered only where it is `wanted`. Raises InputError when there is no survey, or nothing was found
    in a folder that is wanted.
    """
    contents = layout.contents
    if contents is None:
        raise InputError(f"{layout.name} was not surveyed yet", layout.surveying)
    strange = [folder for folder in wanted if folder not in contents.applications]
    if strange:
        near = did_you_mean(strange[0], list(contents.applications))
        raise InputError(f"the survey found no application in {strange[0].shown}{near}")
    told: list[Hint] = []
    changes = []
    for found in contents.survey.applications:
        if layout.placed.get(found.folder) or layout.present.get(found.folder):
            continue
        words = say("adopt/found-in", application=application_words(layout, found), folder=found.folder.shown)
        addresses = list(_addresses(layout, found.folder))
        original = _rehearsed(layout, found, addresses)
        why_not = _why_not(layout, found, addresses, original, found.folder in wanted)
        if why_not:
            is_choice = bool(addresses) and found.application in layout.plan.applications
            too = (Remedy.of(Action.ADOPT_TOO, found.folder.shown),) if is_choice else ()
            told.append(Hint(say("adopt/left-out", words=words, why_not=why_not), too))
            continue
        others = say("adopt/also-reached", addresses=map(str, addresses[1:])) if addresses[1:] else ""
        of = say("adopt/staging-site", original=original) if original is not None else ""
        told.append(Hint(say("adopt/adopt", words=words, address=addresses[0], others=others, of=of)))
        entry = _adopted(layout, found, addresses[0], original)
        changes.append(Change(layout.name, "installation", None, table_of(entry)))
    for there in layout.deployed.values():
        if not there.deviations:
            live = say(
                "installation/at",
                application=application_words(layout, there.found),
                address=there.installation.address,
            )
            told.append(Hint(say("adopt/make-live", live=live)))
            changes.append(confirmed(layout, there))
    if not changes:
        return Proposal(layout.name, (), (*told, Hint(say("adopt/nothing-left-adopt", layout=layout.name))))
    return Proposal(layout.name, tuple(changes), tuple(told), (WriteDown(layout.name),))


def _rehearsed(layout: AccountLayout, found: FoundApplication, addresses: Sequence[Address]) -> Address | None:
    """The address of the site that an application looks like a copy or a rehearsal of."""
    names = [*found.folder.split("/"), *(addresses[0].host.split(".")[:1] if addresses else ())]
    if not addresses or not is_rehearsal_name(names):
        return None
    known = [
        entry.address
        for entry in layout.account.installations
        if entry.application == found.application and entry.state == "live"
    ]
    contents = layout.contents
    for other in contents.survey.applications if contents is not None else ():
        is_like = other.application == found.application and other.folder != found.folder and not other.condition
        if is_like and not is_rehearsal_name(other.folder.split("/")):
            known += list(_addresses(layout, other.folder))[:1]
    host, known = addresses[0].host, list(dict.fromkeys(known))
    near = [address for address in known if host == address.host or host.endswith(f".{address.host}")]
    return near[0] if near else known[0] if len(known) == 1 else None


def _remains(layout: AccountLayout, installation: Installation) -> Iterator[Words]:
    """What is left of an installation once nobody uses it: files, tables, allowances; and what others use of it."""
    folder = layout.lies_now(installation)
    found = layout.contents.applications.get(folder) if layout.contents is not None and folder is not None else None
    if folder is not None and layout.contents is not None and layout.contents.exists(folder):
        totals = layout.contents.totals(folder)
        yield say("remains/bytes", files=totals.files, folder=folder.shown, bytes=totals.bytes)
    elif folder is not None and layout.contents is None:
        yield say("remains/whatever-lies-surveyed", folder=folder.shown)
    yield from remaining_words(own_tables(layout, folder, installation, found))
    own, number = installation.application, installation.number
    stays = what_stays(layout, folder, holds_in(layout, folder, own, number)) if folder is not None else []
    if stays:
        yield say("retire/must-stay", stays=stays)
    for use in uses_of(layout):
        if use.key == "installations" or (use.key == "databases" and installation.database is not None):
            yield say("remains/host-counts-until", total=use.total, allowed=use.allowed, use=use.name)


def _addresses(layout: AccountLayout, folder: Folder) -> Iterator[Address]:
    """The addresses of a folder, those of domains with a root of their own first."""
    found = layout.addresses_of(folder)

    def stands_in(address: Address) -> bool:
        mount = layout.hosts.mount(address)
        return mount is None or not mount.domain.claims_root or mount.address.host != mount.domain.name

    yield from sorted(found, key=lambda address: (stands_in(address), address.path.count("/") if address.path else -1))


def _why_not(
    layout: AccountLayout,
    found: FoundApplication,
    addresses: Sequence[Address],
    original: Address | None,
    is_wanted: bool,
) -> Words | None:
    if not addresses:
        return say("why-not/address-leads")
    if found.condition and not is_wanted:
        return say("why-not/use-far-files")
    if original is not None and not is_wanted:
        return say("why-not/looks-like-copy", original=original)
    if found.application not in layout.plan.applications:
        return say("why-not/neither-catalogue-nor", application=quoted(found.application))
    return None


def _adopted(
    layout: AccountLayout, found: FoundApplication, address: Address, original: Address | None
) -> Installation:
    base = found.database
    given: dict[str, Any] = {"version": printable(found.version) or None, "staging_of": original}
    if base is not None and base.name:
        server = base.host if base.host not in LOCAL_HOSTS else ""
        given["database"] = Database(
            printable(base.name), printable(base.prefix), printable(base.user) or None, printable(server)
        )
    if layout.reach(address) != found.folder:
        given["folder"] = found.folder
    return Installation(found.application, address, **given)


def _shown(folder: Folder | None) -> str:
    return folder.shown if folder is not None else "nothing"


def granted(wishes: Sequence[Granted]) -> list[Proposal]:
    """Enter what wishes were given, account by account. Raises InputError when none was given a place."""
    left = [
        f"line {wish.line}: no place for {wish.wish.application} at {wish.wish.domain}"
        + (f": {wish.error}" if wish.error is not None else "")
        for wish in wishes
        if wish.place is None
    ]
    places = [wish.place for wish in wishes if wish.place is not None]
    if not places:
        raise InputError("\n".join(["none of the wishes has a place", *left]))
    proposals = []
    for name in dict.fromkeys(weighed.place.account for weighed in places):
        own = [weighed for weighed in places if weighed.place.account == name]
        told = [
            Hint(
                say(
                    "granted/place",
                    application=one.place.installation.application,
                    address=one.place.address,
                    folder=one.place.folder.shown,
                )
            )
            for one in own
        ]
        changes = tuple(change for weighed in own for change in _entries(weighed.place))
        proposals.append(
            Proposal(name, changes, (*map(Hint, left), *told), tuple(step for one in own for step in one.steps))
        )
        left = []
    return proposals


def _entries(place: Placement) -> Iterator[Change]:
    for record in place.addition.domains:
        yield Change(place.account, "domain", None, table_of(record))
    for record_ in place.addition.installations:
        yield Change(place.account, "installation", None, table_of(record_))


def placed(scenario: Scenario, place: Placement) -> Proposal:
    """Enter an installation at a place, with the domain it needs."""
    weighed = weigh_one(scenario, place)
    changes = tuple(_entries(place))
    told = (
        say(
            "placed/account",
            application=place.installation.application,
            address=place.address,
            folder=place.folder.shown,
            account=place.account,
        ),
        say("placed/now", there=weighed.there),
        say("placed/takes", uses=", ".join(use.words for use in weighed.uses)),
    )
    return Proposal(place.account, changes, tuple(map(Hint, told)), (*weighed.steps, Check(place.account)))
