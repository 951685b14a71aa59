"""What of an account an addition touches, as far as a rule reaches.

A rule holds a record against those that share what it reaches: a host, a folder or one around
it, a database. An account that holds only those, with and without the addition, therefore
differs in the same findings of that rule as the whole account does, and takes only as long to ask
as that part is large.
"""

from __future__ import annotations

from collections.abc import Container, Hashable, Iterable, Iterator
from functools import cached_property
from typing import TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from kettlepost.core.layout import AccountLayout, addon_host, bare_and_www
from kettlepost.core.names import HOME, Address, Folder, HostName, strictly_inside
from kettlepost.core.plan import Account, Domain, Installation
from kettlepost.core.rules import RuleReach
from kettlepost.core.rules.paths import Spot, canonical
from kettlepost.core.rules.roots import alike
from kettlepost.core.survey import Survey

K = TypeVar("K", bound=Hashable)
V = TypeVar("V")


class Addition(Struct):
    """Tables that are to come into an account's file."""

    account: str
    domains: list[Domain] = field(default_factory=list)
    installations: list[Installation] = field(default_factory=list)


def new_hosts(account: Account, addition: Addition) -> Iterator[HostName]:
    """The host names that an addition brings."""
    for domain in addition.domains:
        yield domain.name
        yield from domain.also
        if domain.www not in (None, "apart"):
            yield from bare_and_www(domain.name)
        if domain.kind == "addon" and (extra := addon_host(account, domain)) is not None:
            yield extra


class AccountIndex:
    """An account's records and finds, by all that one may have in common with another."""

    def __init__(self, layout: AccountLayout):
        self.layout = layout
        self._domains = layout.account.domains
        self._installations = layout.account.installations

    @cached_property
    def named(self) -> dict[HostName, list[Domain]]:
        return _filed((domain.name, domain) for domain in self._domains)

    @cached_property
    def waited_for(self) -> set[HostName]:
        """The hosts that other domains stand for or send visitors to."""
        goes = {domain.redirect_to.host for domain in self._domains if domain.redirect_to is not None}
        return goes | {domain.of for domain in self._domains if domain.of is not None}

    @cached_property
    def at_host(self) -> dict[HostName, list[Installation]]:
        return _filed((installation.address.host, installation) for installation in self._installations)

    @cached_property
    def answered_by(self) -> dict[int, list[Installation]]:
        """Installations by the domains that answer at their hosts, by a wildcard or another name too."""
        serving = self.layout.hosts.serving
        return _filed(
            (number, installation)
            for host, installations in self.at_host.items()
            for number in dict.fromkeys(mount.domain.number for mount in serving(host))
            for installation in installations
        )

    @cached_property
    def at_place(self) -> dict[Spot, list[Installation]]:
        """Installations by the place that aliases, www and redirects make of their addresses."""
        return _filed(
            (canonical(self.layout, installation.address), installation) for installation in self._installations
        )

    @cached_property
    def reached_by(self) -> dict[str, list[Installation]]:
        """Installations by the domain of their contact."""
        return _filed(
            (installation.contact.rpartition("@")[2].lower(), installation)
            for installation in self._installations
            if installation.contact
        )

    @cached_property
    def databases(self) -> dict[str, list[Installation | Folder]]:
        """Installations, and folders of applications, by the name of their database."""
        found: list[tuple[str, Installation | Folder]] = [
            (installation.database.name.lower(), installation)
            for installation in self._installations
            if installation.database is not None
        ]
        contents = self.layout.contents
        for app in contents.survey.applications if contents is not None else ():
            if app.database is not None:
                found.append((app.database.name.lower(), app.folder))
        return _filed(found)

    @cached_property
    def elsewhere(self) -> list[tuple[Installation, Address]]:
        """Installations that name another address, as what they rehearse or are licensed to."""
        return [
            (installation, other)
            for installation in self._installations
            for other in (installation.staging_of, installation.licensed_to)
            if other
        ]

    @cached_property
    def held(self) -> set[Folder]:
        """Folders that somebody holds, or that an address leads to."""
        layout = self.layout
        applications = layout.contents.survey.applications if layout.contents is not None else ()
        return {
            *layout.roots,
            *layout.placed,
            *layout.mounts,
            *layout.tree("now").mounts,
            *(found.folder for found in applications),
        }

    @cached_property
    def ordered(self) -> list[list[Folder]]:
        """The folders of roots, of mounts and of installations, sorted."""
        layout = self.layout
        return [sorted(layout.roots), sorted(layout.mounts), sorted(layout.tree("now").mounts), sorted(layout.placed)]

    @cached_property
    def twins(self) -> dict[str, dict[Folder, Folder]]:
        """Folders by their names without letter case, each with one that is held in it or is there."""
        layout = self.layout
        found: dict[str, dict[Folder, Folder]] = {}
        for held in (*layout.roots, *layout.standing):
            for folder in (held, *held.above()):
                found.setdefault(alike(folder), {}).setdefault(folder, held)
        for seen in layout.contents.folders if layout.contents is not None else ():
            found.setdefault(alike(seen), {}).setdefault(Folder(seen), Folder(seen))
        return found


class Impact:
    """The part of an account that an addition touches for rules that reach so far.

    `crowded` are the hosts that are declared more than once in the plan, `under` the endings
    of hosts for which a wildcard of some account stands that stands for a new host, too.
    """

    def __init__(
        self,
        index: AccountIndex,
        addition: Addition,
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
        self._take_hosts(set(new_hosts(index.layout.account, addition)))
        for installation in addition.installations:
            self._take_mounts(installation.address.host)
            if RuleReach.HOST in reach:
                self._take_address(installation.address)
                self._take_named(installation)
            if RuleReach.DATABASE in reach and installation.database is not None:
                self._take_database(installation.database.name)
        for folder in self._folders_of(addition):
            self._take_place(folder)
        if index.layout.account.primary is not None:
            self._take_domain(index.layout.account.primary)

    @property
    def selection(self) -> tuple[frozenset[Hashable], ...]:
        """What is taken of the account so far: two that are equal hold the same."""
        return tuple(frozenset(part) for part in (self._domains, self._installations, self._folders, self._trees))

    def layouts(self, whole: Account) -> tuple[AccountLayout, AccountLayout]:
        """The part without the addition, and with it; `whole` is the account with the addition."""
        before, after = self._parts(whole)
        moved = {
            folder for installation in after.account.installations for folder in _moves(installation, before, after)
        }
        if moved - self._trees:
            for folder in moved:
                self._take_place(folder)
            before, after = self._parts(whole)
        return before, after

    def _parts(self, whole: Account) -> tuple[AccountLayout, AccountLayout]:
        layout, survey = self._layout, self._survey()
        domains = sorted(self._domains.values(), key=lambda domain: domain.number)
        installations = sorted(self._installations.values(), key=lambda installation: installation.number)
        new = (
            whole.domains[len(self._layout.account.domains) :],
            whole.installations[len(self._layout.account.installations) :],
        )
        more = whole.part([*domains, *new[0]], [*installations, *new[1]])
        before = whole.part(domains, installations)
        return layout.changed(before, survey=survey), layout.changed(more, survey=survey)

    def _take_hosts(self, hosts: set[HostName]) -> None:
        """What has to do with host names that are new."""
        layout, index = self._layout, self._index
        wild = layout.hosts.wildcards or any(host[0] == "*" for host in hosts)
        if any(host in index.waited_for for host in hosts) or (hosts and wild):
            self._take_all()
            return
        for host in hosts:
            for domain in index.named.get(host, ()):
                self._take_domain(domain)
            for name in (host, *host.above()):
                for mount in layout.hosts.get(name, ()):
                    self._take_domain(mount.domain)
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
            if not mount.domain.points_here:
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
        """The domains that answer at a host, and those of its name, which may be retired and lead nowhere."""
        for domain in self._index.named.get(host, ()):
            self._take_domain(domain)
        for mount in self._layout.hosts.serving(host):
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

    def _folders_of(self, addition: Addition) -> Iterator[Folder]:
        """The folders that an addition names: as they are written, and where links lead."""
        layout = self._layout
        named = [domain.root for domain in addition.domains] + [
            installation.folder for installation in addition.installations
        ]
        for folder in named:
            if folder is not None:
                yield from (folder, layout.real(folder))
        for installation in addition.installations:
            reached = layout.reach(installation.address)
            if reached is not None:
                yield reached

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


def _moves(installation: Installation, before: AccountLayout, after: AccountLayout) -> Iterator[Folder]:
    """The folders an installation comes from and goes to, where an addition lets its address lead elsewhere."""
    was, now = before.folder_of(installation), after.folder_of(installation)
    return (folder for folder in (was, now) if was != now and folder is not None)


def _filed(pairs: Iterable[tuple[K, V]]) -> dict[K, list[V]]:
    filed: dict[K, list[V]] = {}
    for key, value in pairs:
        filed.setdefault(key, []).append(value)
    return filed
