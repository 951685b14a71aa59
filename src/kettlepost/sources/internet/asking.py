"""Everything that is asked of the world about some accounts: each host by itself, many at the same time."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from types import MappingProxyType
from typing import NamedTuple

from msgspec.structs import replace

from kettlepost.core.names import HostName
from kettlepost.core.probing import PageJudge, PageQuestion, covers, kept_out_by_robots
from kettlepost.core.survey import ProbeTrouble, SeenPage, SeenWorld, SeenZone, ShownKind
from kettlepost.sources.internet.certificates import Handshakes
from kettlepost.sources.internet.machines import Machines
from kettlepost.sources.internet.names import Lookups
from kettlepost.sources.internet.pages import Fetched, Pages
from kettlepost.sources.internet.registries import Registries
from kettlepost.sources.internet.ways import Place, Ways

_WORKERS = 64
_ZONES_AT_ONCE = 16
_UNHEARD = (ProbeTrouble.CANNOT_CONNECT, ProbeTrouble.TIMED_OUT, ProbeTrouble.NO_TLS, ProbeTrouble.CLOSED,
            ProbeTrouble.NOT_PUBLIC)  # fmt: skip


class AskedAccount(NamedTuple):
    """What is asked of one account: its machine's addresses, its hosts, those of which the plan says nothing, pages."""

    name: str
    machines: Sequence[str]
    hosts: Sequence[str]
    untold: Sequence[str]
    pages: Sequence[PageQuestion]


class Manner(NamedTuple):
    """How it is asked: by whom, how much at once, how long, and where connections go instead.

    `machines` are the addresses of all accounts, at which name servers may be asked whatever range they are of.
    """

    agent: str
    at_once: int
    pause: float
    seconds: float
    all_seconds: float
    resolvers: Sequence[str]
    instead: dict[Place, Place]
    machines: Sequence[str] = ()
    trusted: Path | None = None
    logins: Mapping[str, tuple[str, str]] = MappingProxyType({})
    registries: bool = True


class AskingProgress:
    """How far it is: so many hosts of so many. `cut` says that not all could be asked in the time there was."""

    def __init__(self, tell: Callable[[int, int], None] | None = None):
        self.hosts, self.done, self.cut = 0, 0, False
        self._tell = tell

    def step(self) -> None:
        """One more host is done."""
        self.done += 1
        if self._tell is not None:
            self._tell(self.done, self.hosts)


class PlanHosts:
    """The hosts of the plan, as far as redirects may be followed to them: whose they are, and where they are asked."""

    def __init__(self, owner: Callable[[str], Sequence[str] | None], instead: dict[Place, Place], lookups: Lookups):
        """`owner` gives the addresses of the machine of a host's account; None for a host that is none of the plan."""
        self._owner, self._instead, self._lookups = owner, instead, lookups
        self._ways: dict[tuple[str, ...], Ways] = {}

    def is_own(self, host: str) -> bool:
        """Whether a host is one of the plan."""
        return self._owner(host) is not None

    def ways(self, host: str) -> Ways:
        """Where connections to a host may go: to its account's machine, and to what is public."""
        own = tuple(self._owner(host) or ())
        if own not in self._ways:
            self._ways[own] = Ways(own, self._instead)
        return self._ways[own]

    async def machine_of(self, host: str) -> str | None:
        """The address of a host's machine, else the one that its name leads to."""
        told = _first(self._owner(host) or ())
        return told or _first((await self._lookups.name(host)).addresses)


class Anywhere:
    """The one place of somebody else that is asked: a registry, from which nothing leads on."""

    def __init__(self, instead: dict[Place, Place]):
        self._ways = Ways((), instead)

    def is_own(self, _host: str) -> bool:
        """Nothing is followed from there."""
        return False

    def ways(self, _host: str) -> Ways:
        """Only to what is public."""
        return self._ways

    async def machine_of(self, _host: str) -> str | None:
        """Nowhere else."""
        return None


def ask(
    accounts: Iterable[AskedAccount],
    owner: Callable[[str], Sequence[str] | None],
    judge: PageJudge,
    manner: Manner,
    moment: Callable[[], str],
    keep: Callable[[SeenWorld, bool], None],
    progress: AskingProgress,
) -> bool:
    """Ask all of it; whether anybody answered anything.

    `keep` is told of each account once all of it is seen, and with False of what is known of the others where
    somebody breaks it off, or the time is over. Raises InputError.
    """
    asking = _Asking(owner, judge, manner, moment, keep, progress)
    try:
        asyncio.run(asking.run(accounts))
    finally:
        asking.keep_rest()
    return asking.answered


class _Asking:
    def __init__(
        self, owner: Callable[[str], Sequence[str] | None], judge: PageJudge, manner: Manner,
        moment: Callable[[], str], keep: Callable[[SeenWorld, bool], None], progress: AskingProgress,
    ):  # fmt: skip
        self._owner, self._judge, self._manner, self._moment = owner, judge, manner, moment
        self._keep, self._progress = keep, progress
        self._open: dict[str, tuple[SeenWorld, list[int]]] = {}
        self.answered = False

    async def run(self, accounts: Iterable[AskedAccount]) -> None:
        manner = self._manner
        self._lookups = Lookups(Ways(manner.machines, manner.instead), manner.resolvers, manner.seconds)
        machines = Machines(manner.at_once, manner.pause)
        self._hosts = PlanHosts(self._owner, manner.instead, self._lookups)
        self._handshakes = Handshakes(machines, manner.seconds, manner.trusted)
        elsewhere = Anywhere(manner.instead)
        async with (
            Pages(self._hosts, machines, manner.seconds, manner.agent) as self._pages,
            Pages(elsewhere, machines, manner.seconds, manner.agent, self._handshakes.checking) as outside,
        ):
            self._registries = Registries(outside, self._lookups)
            jobs = self._jobs(accounts)
            try:
                async with asyncio.timeout(manner.all_seconds):
                    await asyncio.gather(*(self._work(jobs) for _ in range(_WORKERS)))
            except TimeoutError:
                self._progress.cut = True

    def keep_rest(self) -> None:
        """Keep what is known of accounts of which not all is."""
        for world, _ in self._open.values():
            self._keep(world, False)
        self._open.clear()

    def _jobs(self, accounts: Iterable[AskedAccount]) -> Iterator[tuple[AskedAccount, str, list[PageQuestion]]]:
        for account in accounts:
            by_host: dict[str, list[PageQuestion]] = {}
            for page in account.pages:
                by_host.setdefault(page.host, []).append(page)
            hosts = [*account.hosts, *account.untold]
            self._open[account.name] = SeenWorld(account.name, self._moment()), [len(hosts)]
            self._progress.hosts += len(hosts)
            if not hosts:
                self._close(account.name)
            for host in hosts:
                yield account, host, by_host.get(host, [])

    def _close(self, name: str) -> None:
        world, _ = self._open.pop(name)
        self._keep(world, True)

    async def _work(self, jobs: Iterator[tuple[AskedAccount, str, list[PageQuestion]]]) -> None:
        for account, host, pages in jobs:
            world, left = self._open[account.name]
            await self._host(account, host, pages, world)
            left[0] -= 1
            self._progress.step()
            if not left[0]:
                await self._zones(world)
                self._close(account.name)

    async def _zones(self, world: SeenWorld) -> None:
        zones = sorted({one.zone for one in world.names if one.zone})
        for begin in range(0, len(zones), _ZONES_AT_ONCE):
            world.zones += await asyncio.gather(*map(self._zone, zones[begin : begin + _ZONES_AT_ONCE]))

    async def _zone(self, zone: str) -> SeenZone:
        seen = await self._lookups.zone(zone)
        if self._manner.registries:
            told = await self._registries.registration(zone)
            seen = replace(seen, registered_until=told.until, registry=told.servers)
        return replace(seen, seen=self._moment())

    async def _host(self, account: AskedAccount, host: str, pages: list[PageQuestion], world: SeenWorld) -> None:
        name = await self._lookups.name(host)
        self.answered = self.answered or self._lookups.answered
        world.names.append(replace(name, seen=self._moment()))
        machine = _first(account.machines)
        leads = _first(name.addresses)
        is_here = leads is not None and (machine is None or bool({*name.addresses} & {*account.machines}))
        here = machine or leads
        if host in account.untold or not pages:
            return
        if here is None:
            world.pages += [_unasked(one, self._moment()) for one in pages]
            return
        await self._at(here, host, pages, world, is_here, self._manner.logins.get(host))
        if leads is not None and not is_here:
            roots = [one for one in pages if one.url.count("/") == 3 and one.url.endswith("/")]
            await self._at(leads, host, roots, world, True)

    async def _at(
        self, address: str, host: str, pages: list[PageQuestion], world: SeenWorld, by_names: bool,
        login: tuple[str, str] | None = None,
    ) -> None:  # fmt: skip
        """What a host shows at one machine.

        A password goes by https where the host has a certificate of its own that is trusted, and by http where not.
        """
        certificate = await self._handshakes.certificate(host, address, self._hosts.ways(host))
        certificate = replace(certificate, seen=self._moment())
        world.certificates.append(certificate)
        heard = [one for one in pages if not (one.url.startswith("https:") and certificate.trouble in _UNHEARD)]
        holds = certificate.trouble is None and not certificate.wrong and covers(certificate.covers, HostName(host))
        scheme = "https:" if holds else "http:"
        found = await asyncio.gather(
            *(self._page(one, address, by_names, login if one.url.startswith(scheme) else None) for one in heard)
        )
        silent = [
            SeenPage(one.url, address, self._moment(), by_names, end=one.url, trouble=certificate.trouble)
            for one in pages if one not in heard
        ]  # fmt: skip
        self.answered = self.answered or certificate.trouble is None or any(one.status for one in found)
        robots = await self._robots(address, found)
        world.pages += [self._with_robots(one, robots) for one in (*found, *silent)]

    async def _page(
        self, question: PageQuestion, address: str, by_names: bool, login: tuple[str, str] | None
    ) -> SeenPage:
        fetched = await self._pages.fetch(question.url, address, login)
        seen = SeenPage(
            question.url,
            address,
            self._moment(),
            by_names,
            login is not None,
            None,
            fetched.hops,
            fetched.end,
            fetched.trouble,
        )
        return self._judged(seen, fetched)

    def _judged(self, seen: SeenPage, fetched: Fetched) -> SeenPage:
        if fetched.reply is None:
            return replace(seen, kind=ShownKind.REDIRECT if fetched.trouble is None else ShownKind.NOTHING)
        return replace(seen, status=fetched.reply.status, **self._judge.content(fetched.reply)._asdict())

    async def _robots(self, address: str, pages: Sequence[SeenPage]) -> str:
        """What a host asks of search engines, where it shows anything."""
        good = next((one for one in pages if one.status == 200 and not one.hops), None)
        if good is None:
            return ""
        base = "/".join(good.url.split("/")[:3])
        fetched = await self._pages.fetch(f"{base}/robots.txt", address)
        reply = fetched.reply
        return reply.body.decode("utf-8", "replace") if reply is not None and reply.status == 200 else ""

    def _with_robots(self, page: SeenPage, robots: str) -> SeenPage:
        if not robots or page.keeps_out or page.status != 200:
            return page
        path = "/" + page.url.split("/", 3)[3]
        return replace(page, keeps_out="robots.txt") if kept_out_by_robots(robots, path) else page


def _unasked(question: PageQuestion, moment: str) -> SeenPage:
    return SeenPage(question.url, "", moment, end=question.url, trouble=ProbeTrouble.NO_ADDRESS)


def _first(addresses: Sequence[str]) -> str | None:
    """The address that is asked of several: one of IPv4 where there is any, as not every network has the other."""
    with suppress(StopIteration):
        return next(one for one in addresses if ":" not in one)
    return addresses[0] if addresses else None
