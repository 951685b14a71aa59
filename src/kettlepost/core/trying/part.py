"""What of an account a change touches, as far as a rule reaches.

A rule holds a record against those that share what it reaches: a host, a folder or one around
it, a database. An account that holds only those, before and after the change, therefore
differs in the same findings of that rule as the whole account does, and takes only as long to ask
as that part is large.
"""

from __future__ import annotations

from collections.abc import Container, Hashable, Iterable, Iterator, Set

from msgspec.structs import replace

from kettlepost.core.layout import AccountLayout, bare_and_www
from kettlepost.core.names import HOME, Address, Folder, HostName, strictly_inside
from kettlepost.core.plan import Account, Domain, Installation, RecordId
from kettlepost.core.rules import RuleReach
from kettlepost.core.rules.paths import canonical
from kettlepost.core.rules.roots import alike
from kettlepost.core.steps import databases_after, survey_after
from kettlepost.core.survey import Survey
from kettlepost.core.trying.change import Touched, TriedChange, hosts_of, outside_after
from kettlepost.core.trying.index import AccountIndex


class Part:
    """The part of an account that a change touches for rules that reach so far.

    `crowded` are the hosts that are declared more than once in the plan, `under` the endings
    of hosts for which a wildcard of some account stands that stands for a new host, too.
    """

    def __init__(
        self,
        index: AccountIndex,
        change: TriedChange,
        touched: Touched,
        reach: RuleReach,
        crowded: Container[str],
        under: tuple[str, ...] = (),
    ):
        self._reach = reach
        self._index = index
        self._layout = index.layout
        self._crowded = crowded
        self._under = under
        self._domains: dict[int, Domain] = {}
        self._installations: dict[int, Installation] = {}
        self._folders: set[Folder] = {HOME}
        self._trees: set[Folder] = set()
        self._change = change
        if touched.is_all:
            self._take_all()
        self._take_hosts({host for domain in touched.domains for host in hosts_of(change.account, domain)})
        for domain in touched.domains:
            if domain.number < len(index.layout.account.domains):
                self._take_domain(index.layout.account.domains[domain.number])
                self._take_hosts(set(bare_and_www(domain.name)))
            self._take_with(domain)
        for installation in touched.installations:
            self._take_changed(installation)
        for folder in touched.folders(index.layout):
            self._take_place(folder)
        for record in change.about:
            self._take_record(record)
        self._folders.update(self._left_beside(set(touched.worked_in)))
        if index.layout.account.primary is not None:
            self._take_domain(index.layout.account.primary)

    def _take_changed(self, installation: Installation) -> None:
        """What has to do with an installation as it was, or as it is to be."""
        self._take_mounts(installation.address.host)
        own = self._index.layout.account.installations
        if installation.number < len(own):
            self._take_installation(own[installation.number])
        if RuleReach.HOST in self._reach:
            self._take_address(installation.address)
            self._take_named(installation)
        if RuleReach.DATABASE in self._reach and installation.database is not None:
            self._take_database(installation.database.name)

    def _take_record(self, record: RecordId) -> None:
        """A domain or an installation of this account, as they are."""
        account = self._index.layout.account
        if record.account == account.name and record.table == "domain":
            self._take_domain(account.domains[record.number])
        if record.account == account.name and record.table == "installation":
            self._take_installation(account.installations[record.number])

    def _left_beside(self, worked_in: Set[Folder]) -> Iterator[Folder]:
        """Around folders in which work is done, one with files that are none of theirs: whether one is empty then."""
        contents = self._layout.contents
        if contents is None:
            return
        for around in {above for folder in worked_in for above in folder.above()}:
            for name in (around, *contents.inside(around)):
                place = Folder(name)
                found = contents.folders.get(place)
                if found is not None and found.files and worked_in.isdisjoint((place, *place.above())):
                    yield place
                    break
            else:  # it comes with what is made in it, and goes with what is taken out
                self._take_holders(around)

    @property
    def selection(self) -> tuple[frozenset[Hashable], ...]:
        """What is taken of the account so far: two that are equal hold the same."""
        return tuple(frozenset(part) for part in (self._domains, self._installations, self._folders, self._trees))

    @property
    def size(self) -> int:
        """How many tables of the plan are in it."""
        return len(self._domains) + len(self._installations)

    @property
    def layouts(self) -> tuple[AccountLayout, AccountLayout]:
        """The part without the change, and with it."""
        before, after = self._both()
        own = {installation.number: installation for installation in before.account.installations}
        moved: set[Folder] = set()
        for installation in after.account.installations:
            was = before.folder_of(own.get(installation.number, installation))
            now = after.folder_of(installation)
            if was != now:
                moved.update(folder for folder in (was, now) if folder is not None)
        for host, mounts in after.hosts.items():  # a name may lead elsewhere by that for which it stands then
            led = {mount.folder for mount in before.hosts.get(host, ())} ^ {mount.folder for mount in mounts}
            moved.update(folder for folder in led if folder is not None)
        if moved - self._trees:
            for folder in moved:
                self._take_place(folder)
            before, after = self._both()
        return before, after

    def _both(self) -> tuple[AccountLayout, AccountLayout]:
        layout, survey, old, new = self._layout, self._survey(), self._layout.account, self._change.account
        places = sorted(self._domains), sorted(self._installations)
        before = old.part([old.domains[n] for n in places[0]], [old.installations[n] for n in places[1]])
        after = new.part(
            [*(new.domains[n] for n in places[0]), *new.domains[len(old.domains) :]],
            [*(new.installations[n] for n in places[1]), *new.installations[len(old.installations) :]],
        )
        return layout.changed(before, survey=survey), _after(layout, after, survey, self._change)

    def _take_hosts(self, hosts: set[HostName]) -> None:
        """What has to do with host names that are new."""
        layout, index = self._layout, self._index
        wild = layout.hosts.wildcards or any(host[0] == "*" for host in hosts)
        if any(host in index.waited_for for host in hosts) or (hosts and wild):
            self._take_all()
            return
        for host in hosts:
            above = (mount.domain for name in (host, *host.above()) for mount in layout.hosts.get(name, ()))
            for domain in (*index.named.get(host, ()), *above):
                self._take_domain(domain)
            for installation in (*index.at_host.get(host, ()), *index.reached_by.get(host, ())):
                self._take_installation(installation)
        for installation, other in index.elsewhere:
            if other.host in hosts:
                self._take_installation(installation)
        endings = (*(f".{host}" for host in hosts), *self._under)
        for host in layout.hosts if endings else ():
            if host.endswith(endings):
                self._take_domain(layout.hosts[host][0].domain)

    def _take_all(self) -> None:
        """The whole account: where a new host changes what others stand for, no part of it tells enough."""
        self._domains = {domain.number: domain for domain in self._layout.account.domains}
        self._installations = {installation.number: installation for installation in self._layout.account.installations}
        self._trees.add(HOME)

    def _take_address(self, address: Address) -> None:
        """What has to do with the address of a new installation."""
        layout, index = self._layout, self._index
        mounts = layout.hosts.serving(address.host)
        key = canonical(layout, address)
        for mount in mounts:
            if not layout.points_here(mount.domain):
                for installation in index.answered_by.get(mount.domain.number, ()):
                    self._take_installation(installation)
        for host in bare_and_www(address.host):
            for installation in index.at_host.get(host, ()):
                if host != address.host:
                    self._take_installation(installation)
        for installation in index.at_place.get(key, ()):
            self._take_installation(installation)
        for installation, other in index.elsewhere:
            if canonical(layout, other) == key:
                self._take_installation(installation)

    def _take_mounts(self, host: HostName) -> None:
        """The domains that answer at a host, with www or without, and those of its name, which may lead nowhere."""
        for name in dict.fromkeys((host, *bare_and_www(host))):
            for domain in self._index.named.get(name, ()):
                self._take_domain(domain)
            for mount in self._layout.hosts.serving(name):
                self._take_domain(mount.domain)

    def _take_named(self, new: Installation) -> None:
        """What has to do with the contact and the original of a new installation."""
        hosts = {other.host for other in (new.staging_of, new.licensed_to) if other is not None}
        for address in (new.staging_of, new.licensed_to):
            if address is not None:
                self._take_mounts(address.host)
                self._take_address(address)
                for installation in self._index.at_host.get(address.host, ()):
                    self._take_installation(installation)
        if new.contact is not None:
            hosts.add(HostName(new.contact.rpartition("@")[2].lower()))
        for host in hosts:
            for mount in self._layout.hosts.serving(host):
                self._take_domain(mount.domain)

    def _take_database(self, name: str) -> None:
        for other in self._index.databases.get(name.lower(), ()):
            if isinstance(other, Installation):
                self._take_installation(other)
            else:
                self._take_holders(other)

    def _take_place(self, folder: Folder) -> None:
        """A folder, as far as is reached: what is around it and in it, and who uses the tables of what it holds."""
        self._take_holders(folder)
        if RuleReach.FOLDER in self._reach:
            self._take_folder(folder)
        contents = self._layout.contents
        if RuleReach.SIBLINGS in self._reach and contents is not None:
            for above in folder.above():
                if above in self._layout.placed or (above in self._layout.roots and not contents.exists(above)):
                    self._take_folder(above)
        application = contents.applications.get(folder) if contents is not None else None
        if RuleReach.DATABASE in self._reach and application is not None and application.database is not None:
            self._take_database(application.database.name)

    def _take_folder(self, folder: Folder) -> None:
        """Everything around a folder and in it."""
        index = self._index
        if folder in self._trees:
            return
        self._trees.add(folder)
        for above in (folder, *folder.above()):
            if above in index.held:
                self._take_holders(above)
            for twin, holder in index.twins.get(alike(above), {}).items() if above else ():
                self._take_holders(twin)
                self._take_holders(holder)
        for names in index.ordered:
            for inside in strictly_inside(names, folder):
                self._take_holders(inside)
        for place, target in self._layout.links_to:
            if target == folder or target.is_inside(folder) or folder.is_inside(target):
                self._take_folder(place)

    def _take_holders(self, folder: Folder) -> None:
        layout = self._layout
        self._folders.add(folder)
        for domain in layout.roots.get(folder, ()):
            self._take_domain(domain)
        for mount in (*layout.mounts.get(folder, ()), *layout.tree("now").mounts.get(folder, ())):
            self._take_domain(mount.domain)
        for installation in (*layout.placed.get(folder, ()), *layout.present.get(folder, ())):
            self._take_installation(installation)

    def _take_installation(self, installation: Installation) -> None:
        if installation.number in self._installations:
            return
        self._installations[installation.number] = installation
        layout = self._layout
        self._take_mounts(installation.address.host)
        if RuleReach.DATABASE in self._reach and installation.database is not None:
            self._take_database(installation.database.name)
        folder = layout.folder_of(installation)
        if folder is not None:
            self._folders.add(folder)

    def _take_domain(self, domain: Domain) -> None:
        """A domain with those of its name, those it stands for, and where one host is declared twice, its users."""
        if domain.number in self._domains:
            return
        self._domains[domain.number] = domain
        self._take_with(domain)

    def _take_with(self, domain: Domain) -> None:
        layout, index = self._layout, self._index
        if domain.root is not None:
            self._folders.add(layout.real(domain.root))
        for host in (domain.name, domain.of, *domain.also):
            if host is None:
                continue
            for other in (*index.named.get(host, ()), *(mount.domain for mount in layout.hosts.serving(host))):
                self._take_domain(other)
            for installation in index.at_host.get(host, ()) if host in self._crowded else ():
                self._take_installation(installation)
        if domain.redirect_to is not None:
            for mount in layout.hosts.serving(domain.redirect_to.host):
                self._take_domain(mount.domain)

    def _survey(self) -> Survey | None:
        """The survey of the folders that have a part in it."""
        contents = self._layout.contents
        if contents is None:
            return None
        wanted = {above for folder in (*self._folders, *self._trees) for above in (folder, *folder.above())}
        for top in self._trees:
            wanted.update(map(Folder, contents.inside(top)))
        order = sorted(wanted, key=lambda folder: folder.tree_key)
        return replace(
            contents.survey,
            folders=[contents.folders[folder] for folder in order if folder in contents.folders],
            applications=[found for found in contents.survey.applications if found.folder in wanted],
            **contents.among(order),
        )


def parts_touched(
    index: AccountIndex,
    change: TriedChange,
    reaches: Iterable[RuleReach],
    crowded: Container[str] = (),
    under: tuple[str, ...] = (),
) -> dict[RuleReach, tuple[AccountLayout, AccountLayout]]:
    """What of an account a change touches, without it and with it, for rules that reach so far.

    Those within which the same is touched share their layouts. `crowded` and `under` are as `Part` tells.
    """
    layout, touched = index.layout, change.touched(index.layout.account)
    parts: dict[RuleReach, tuple[AccountLayout, AccountLayout]] = {}
    known: dict[tuple[frozenset[Hashable], ...], tuple[AccountLayout, AccountLayout]] = {}
    for reach in reaches:
        if RuleReach.ACCOUNT in reach or change.has_dropped:
            parts[reach] = layout, changed_layout(layout, change)
            continue
        part = Part(index, change, touched, reach, crowded, under)
        selected = part.selection
        if selected not in known:
            layouts = part.layouts
            if part.selection != selected:  # more was taken, as something moves with it
                parts[reach] = layouts
                continue
            known[selected] = layouts
        parts[reach] = known[selected]
    return parts


def changed_layout(layout: AccountLayout, change: TriedChange) -> AccountLayout:
    """A whole account as it would be."""
    return _after(layout, change.account, layout.survey, change)


def _after(layout: AccountLayout, account: Account, survey: Survey | None, change: TriedChange) -> AccountLayout:
    """An account, or a part of one, as it would be then, with what would then be seen of it."""
    then = survey_after(survey, change.steps) if survey is not None else None
    seen = layout.databases if change.on_databases else None
    bases = databases_after(seen, change.on_databases) if seen is not None else None
    return layout.changed(account, None, then, bases, outside_after(layout, change.at_host), change.asked_again)
