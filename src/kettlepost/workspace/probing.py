"""Asking the real thing: what names, certificates and addresses of a plan show, kept beside the surveys."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Collection, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from msgspec import Struct, field
from msgspec.structs import replace

from kettlepost import __version__
from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.layout import AccountLayout, When
from kettlepost.core.messages import Words, say
from kettlepost.core.names import Address, HostName, InvalidName, quoted
from kettlepost.core.plan import Domain, Installation
from kettlepost.core.probing import (
    PageComparer,
    PageJudge,
    ProbeRow,
    Questions,
    certificate_row,
    name_row,
    questions,
    zone_rows,
)
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import KnownPages, SeenPage, SeenWorld, WorldRecord, changed_facts, encode_world, page_words
from kettlepost.workspace import catalogue
from kettlepost.workspace.clock import now, today_or
from kettlepost.workspace.files import write_whole
from kettlepost.workspace.password_stores import Phrase, open_store
from kettlepost.workspace.plan_folder import PlanFolder, probe_file
from kettlepost.workspace.subjects import asked_about

if TYPE_CHECKING:
    from kettlepost.sources.internet.asking import AskedAccount, AskingProgress, Manner

Only = Collection[Domain | Installation] | None


class ProbeOptions(NamedTuple):
    """How the world is asked: connections that go elsewhere (`HOST:PORT=ADDRESS:PORT`), authorities that are trusted.

    `logins` are users and passwords by host, and `registries` says whether those are asked.
    """

    instead: Sequence[str] = ()
    trusted: Path | None = None
    logins: dict[str, tuple[str, str]] | None = None
    registries: bool = True


class ProbedAccount(Struct):
    """One account: when it was asked, and each thing that was asked of it; `is_whole` where nothing was broken off.

    `when` is the time whose answers it was held against.
    """

    name: str
    client: str | None
    taken: str
    is_whole: bool
    when: When
    rows: list[ProbeRow] = field(default_factory=list)


class Probed(Struct):
    """What was asked; `is_cut` where the time was over before all of it was."""

    accounts: list[ProbedAccount]
    is_cut: bool = False


def probe(
    plan: PlanFolder,
    asked: Sequence[str] = (),
    account: str | None = None,
    when: When | None = None,
    options: ProbeOptions | None = None,
    progress: Callable[[int, int], None] | None = None,
    today: datetime.date | None = None,
) -> Probed:
    """Ask the world about accounts, addresses, domains or clients, else about all, keep it, and compare it.

    Only hosts of the plan are asked. Without `when` that is what is live now, and of what is named and only planned
    what is to be. Raises InputError, and OutsideError where nobody answers anything at all.
    """
    try:
        from kettlepost.sources.internet.asking import AskingProgress, ask
    except ImportError:
        lacks = "asking the world wants further packages"
        raise InputError(lacks, Remedy.of(Action.ADD_EXTRA, "probe")) from None
    given = options or ProbeOptions()
    wanted: dict[str, Only] = dict(asked_about(plan, asked, account))
    times = {name: when or _time_of(only) for name, only in wanted.items()}
    done = AskingProgress(progress)
    seen: dict[str, tuple[SeenWorld, bool]] = {}

    def keep(world: SeenWorld, is_whole: bool) -> None:
        layout, pages = plan.layout_of(world.account), KnownPages({world.account: plan.survey(world.account)})
        world.pages = [_placed(layout, page, pages) for page in world.pages]
        kept = world.over(plan.world(world.account))
        write_whole(plan.path / probe_file(world.account), encode_world(kept))
        seen[world.account] = kept, is_whole

    judge = PageJudge(plan.shared.plan([]).applications, catalogue.placeholder_finder())
    accounts = (_asked_account(plan, name, times[name], only) for name, only in wanted.items())
    answered = ask(accounts, lambda host: machine_of(plan, host), judge, _manner(plan, given), now, keep, done)
    if not answered and any(world.names for world, _ in seen.values()):
        raise OutsideError("nobody answers: no name server, and none of the machines")
    return compared(plan, times, wanted, {name: world for name, (world, _) in seen.items()}, today, done,
                    {name for name, (_, is_whole) in seen.items() if not is_whole})  # fmt: skip


def _placed(layout: AccountLayout, page: SeenPage, known: KnownPages) -> SeenPage:
    """A page with the surveyed file that is the same to the byte: that to which its address leads, where it is."""
    places = known.places(page.size, page.digest) if page.status == 200 else ()
    if not places:
        return page
    leads = layout.tree("now").reach(Address.parse(page.url))
    own = next((one for one in places if one.folder == leads), places[0])
    return replace(page, shows=str(own.folder.below(own.file)))


def compared(
    plan: PlanFolder, times: dict[str, When], wanted: dict[str, Only], seen: dict[str, SeenWorld],
    today: datetime.date | None = None, done: AskingProgress | None = None, broken: Collection[str] = (),
) -> Probed:  # fmt: skip
    """What was seen of some accounts held against plan and surveys."""
    known = KnownPages({name: plan.survey(name) for name in seen}, lambda: _others(plan, seen))
    pages = [page for world in seen.values() for page in world.pages]
    comparers = {when: PageComparer(plan.layout, when, known, pages) for when in set(times.values())}
    found = []
    for name, world in sorted(seen.items()):
        layout, when = plan.layout_of(name), times[name]
        asked = questions(layout, when, wanted[name])
        rows = list(_rows(plan, layout, world, when, comparers[when], asked, today_or(today)))
        client = layout.account.settings.client
        found.append(ProbedAccount(name, client, world.taken, name not in broken, when, rows))
    return Probed(found, done.cut if done is not None else False)


def _time_of(only: Only) -> When:
    """The time at which an account is asked about: as it is to be, where something is named that is not there yet."""
    return "planned" if any(one.state == "planned" for one in only or ()) else "now"


def _others(plan: PlanFolder, seen: Collection[str]) -> Iterator[KnownPages]:
    """The pages of accounts that were not asked about, for one that is none of those which were."""
    for name in plan.names:
        if name not in seen:
            yield KnownPages({name: plan.survey(name)})


def _asked_account(plan: PlanFolder, name: str, when: When, only: Only) -> AskedAccount:
    from kettlepost.sources.internet.asking import AskedAccount

    layout = plan.layout_of(name)
    found = questions(layout, when, only)
    hosts, untold = list(map(str, found.hosts)), list(map(str, found.untold))
    return AskedAccount(name, layout.account.settings.ip_addresses, hosts, untold, found.pages)


def host_logins(plan: PlanFolder, titles: Sequence[str], phrase: Phrase | None = None) -> dict[str, tuple[str, str]]:
    """The users and passwords of hosts, by host, for passwords that are kept under titles such as `wren@host`.

    Raises InputError for a title that is none, a host that is none of the plan, or a password that is not kept.
    """
    store, found = open_store(plan, phrase), dict[str, tuple[str, str]]()
    for title in titles:
        user, at, written = title.rpartition("@")
        try:
            host = HostName.parse(written)
        except InvalidName as error:
            raise InputError(str(error)) from None
        if not at or not user or ":" in user:
            raise InputError(f"{quoted(title)} is to be a title such as wren@staging.example, with the user and host")
        if machine_of(plan, host) is None:
            raise InputError(f"{quoted(written)} is no host of the plan, so no password goes there")
        password = store.get(title)
        if password is None:
            raise InputError(f"no password is kept under {quoted(title)} in {store.name}")
        found[host] = user, password
    return found


def machine_of(plan: PlanFolder, host: str) -> Sequence[str] | None:
    """The addresses of the machine on which a host of the plan is; None for a host that is none of it."""
    for when in _TIMES:
        mount = plan.layout.mount(Address(HostName(host)), when)
        if mount is not None:
            return mount.account.settings.ip_addresses
    return None


def _manner(plan: PlanFolder, options: ProbeOptions) -> Manner:
    from kettlepost.sources.internet.asking import Manner
    from kettlepost.sources.internet.names import system_resolvers
    from kettlepost.sources.internet.ways import read_instead

    settings = plan.shared.settings.settings
    pace = settings.asking
    machines = [address for name in plan.names for address in plan.account(name).settings.ip_addresses]
    return Manner(
        f"kettlepost/{__version__}", pace.at_once, pace.pause, pace.seconds, pace.all_seconds,
        settings.resolvers or system_resolvers(), read_instead(options.instead), machines, options.trusted,
        options.logins or {}, options.registries,
    )  # fmt: skip


def _rows(
    plan: PlanFolder, layout: AccountLayout, world: SeenWorld, when: When, comparer: PageComparer, asked: Questions,
    today: datetime.date,
) -> Iterator[ProbeRow]:  # fmt: skip
    """Each thing that was asked about an account, as it compares."""
    hosts, urls = {*asked.hosts, *asked.untold}, {page.url for page in asked.pages}
    zones = {name.zone for name in world.names if name.host in hosts}
    ours = [one for one in world.pages if one.url in urls]
    for name in world.names:
        if name.host in hosts:
            row = name_row(plan.layout, layout, name, when, _there(layout, world, name.host))
            yield _with_change(row, world, name)
    for zone, row in zip(world.zones, zone_rows(layout, world.zones), strict=True):
        if zone.zone in zones:
            yield _with_change(row, world, zone)
    for certificate in world.certificates:
        if certificate.host in hosts and layout.is_its_machine(certificate.at):
            yield _with_change(certificate_row(layout, certificate, when, today), world, certificate)
    there = [page for page in ours if layout.is_its_machine(page.at)]
    for page, row in zip(there, comparer.rows(layout.name, there), strict=True):
        yield _with_change(row, world, page)


def _there(layout: AccountLayout, world: SeenWorld, host: str) -> Words:
    """What a name shows at a machine that is not the account's."""
    for page in world.at[host].pages:
        if page.at and layout.are_its_machine([page.at]) is False:
            return say("probe/names/shows-there", at=page.at, shown=page_words(page, layout.plan.titles))
    return ""


def _with_change(row: ProbeRow, world: SeenWorld, record: WorldRecord) -> ProbeRow:
    before = world.past(record)
    if before is not None and before.seen < record.seen:
        row.changed = say(
            "probe/changed", facts=changed_facts(before, record), since=before.seen[:16].replace("T", " ")
        )
    return row


_TIMES: tuple[When, ...] = ("now", "planned")
