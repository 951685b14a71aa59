"""One account's part of the layout: its roots, installations and finds, by folder."""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network

from kettlepost.core.layout.claims import Claim
from kettlepost.core.layout.contents import Contents
from kettlepost.core.layout.deployments import Deployment, deployments
from kettlepost.core.layout.links import Links
from kettlepost.core.layout.mounts import Hosts, Mount, When, bare_and_www, mounts_of, section_of
from kettlepost.core.layout.tables import TableUse
from kettlepost.core.names import HOME, Address, Folder, HostName, is_ip, nested_pairs, strictly_inside
from kettlepost.core.nginx import NginxServers
from kettlepost.core.plan import Account, Application, Domain, Installation, PathRule, Plan
from kettlepost.core.remedies import Remedy, surveying
from kettlepost.core.survey import (
    ExternalFacts,
    FileNames,
    NameState,
    SeenAtHost,
    SeenDatabases,
    SeenPage,
    SeenWorld,
    ServedCertificate,
    Survey,
    url_of,
)
from kettlepost.core.webserver import ApacheHosts, Control, HeldAt, WebServer

ServerHosts = ApacheHosts | NginxServers
"""The hosts of a server by its configuration."""


class AddressTree:
    """The addresses of one account at one time: `hosts` by host name, `mounts` by the folder they lead to."""

    def __init__(self, hosts: Hosts, links: Links):
        self.hosts = hosts
        self._links = links

    @cached_property
    def mounts(self) -> dict[Folder, list[Mount]]:
        found: dict[Folder, list[Mount]] = {}
        for mounts in self.hosts.values():
            for mount in mounts:
                if mount.folder is not None:
                    found.setdefault(mount.folder, []).append(mount)
        return found

    def reach(self, address: Address) -> Folder | None:
        """The folder of this account that an address leads to, with or without www where one stands for both."""
        mount = self.hosts.mount(address)
        if mount is not None and mount.goes is not None and mount.domain.www and mount.domain.redirect_to is None:
            address = mount.sent_to(address) or address
            mount = self.hosts.mount(address)
        folder = mount.reached(address) if mount is not None else None
        return (self._links.real(folder) or folder) if folder is not None else None

    def addresses_of(self, folder: Folder) -> list[Address]:
        """Every address that leads to exactly `folder`, in the order of its mounts, nearest first."""
        return list(dict.fromkeys(self._addresses_of(folder, 3)))

    def _addresses_of(self, folder: Folder, links: int) -> Iterator[Address]:
        ways = (folder, *folder.above())
        for above in ways:
            for mount in self.mounts.get(above, ()):
                address = mount.address.below(folder.relative_to(above))
                if self.hosts.mount(address) is mount:
                    yield address
        for above in ways if links and self._linked else ():
            for link in self._linked.get(above, ()):
                yield from self._addresses_of(link.below(folder.relative_to(above)), links - 1)

    @cached_property
    def _linked(self) -> dict[Folder, list[Folder]]:
        """The links to each folder that symbolic links lead to."""
        found: dict[Folder, list[Folder]] = {}
        for link in self._links.places:
            target = self._links.real(link)
            if target is not None and target != link and not link.is_inside(target):
                found.setdefault(target, []).append(link)
        return found


class AccountLayout:
    """What is known of one account's addresses and folders, from the plan and from its survey.

    `hosts` holds its mounts by host name, `mounts` the same by the folder they lead to, `roots`
    the domains with a document root in their own right, `placed` the installations by the folder
    they lie in; every folder is the one that symbolic links lead to. `homeless` are installations
    whose address reaches no folder of this account. `compiled` are the control files that were asked for,
    by folder, `held_at` what holds there by them. Addresses are those of the plan once it is carried out;
    `tree` gives those of either time.
    """

    def __init__(
        self,
        plan: Plan,
        account: Account,
        survey: Survey | Callable[[], Survey | None] | None,
        names: Callable[[], FileNames | None] | None = None,
        outside: ExternalFacts | Callable[[], ExternalFacts | None] | None = None,
        databases: SeenDatabases | Callable[[], SeenDatabases | None] | None = None,
        server_hosts: Callable[[], ServerHosts | None] | None = None,
        world: SeenWorld | Callable[[], SeenWorld | None] | None = None,
        forgets: frozenset[HostName] = frozenset(),
    ):
        self.plan = plan
        self.account = account
        self._survey = survey
        self._names = names
        self._outside = outside
        self._databases = databases
        self._server_hosts = server_hosts
        self._world = world
        self._forgets = forgets
        self._folders: dict[int, tuple[Installation, Folder | None]] = {}
        self.compiled: dict[str, Control | None] = {}
        self.held_at: HeldAt = {}

    @cached_property
    def server(self) -> WebServer:
        """What is known of the server that serves it."""
        return self.plan.server(self.account.settings.web_server)

    @cached_property
    def server_hosts(self) -> ServerHosts | None:
        """The hosts of its server, where that one's configuration was read in and has one of this account."""
        found = self._server_hosts() if self._server_hosts is not None else None
        names = {name for domain in self.account.domains for name in (domain.name, *domain.also)}
        return found if found is not None and any(map(found.has, names)) else None

    @cached_property
    def index_files(self) -> list[str]:
        """The files that its server shows for a folder, the first that is there."""
        return list(self.server.index_files or ())

    @cached_property
    def survey(self) -> Survey | None:
        """What was found in its folders; where a function was given instead, that is asked once and when it matters."""
        return self._survey() if callable(self._survey) else self._survey

    @cached_property
    def outside(self) -> ExternalFacts | None:
        """What was seen of it outside of its folders, such as the hosts of its server."""
        return self._outside() if callable(self._outside) else self._outside

    @cached_property
    def world(self) -> SeenWorld | None:
        """What its names, certificates and addresses were seen to show in the world."""
        return self._world() if callable(self._world) else self._world

    def seen_in_world(self) -> Iterator[tuple[HostName, list[Mount], SeenAtHost]]:
        """What was seen in the world of each host that it has today, with its mounts."""
        if self.world is not None:
            for host, mounts in self.tree("now").hosts.items():
                seen = self.world.at.get(host)
                if seen is not None and host not in self._forgets:
                    yield host, mounts, seen

    @cached_property
    def _machine(self) -> tuple[frozenset[str], list[IPv4Network | IPv6Network]]:
        """The addresses of its machine in normal form, and the networks of proxies before it."""
        own = (ip_address(one) for one in self.account.settings.ip_addresses if is_ip(one))
        return frozenset(map(str, own)), [ip_network(one, strict=False) for one in self.plan.settings.proxies]

    def is_its_machine(self, address: str) -> bool:
        """Whether an address is one of its machine's, as far as anybody has said which those are."""
        return not self.account.settings.ip_addresses or address in self.account.settings.ip_addresses

    def are_its_machine(self, addresses: Sequence[str]) -> bool | None:
        """Whether all of some addresses are its machine's, or a proxy's before it; None where nobody says.

        Of IPv6 that is judged where it is written down which the machine has, and so of IPv4.
        """
        own, proxies = self._machine
        told = {ip_address(one).version for one in own}
        if not own or not all(map(is_ip, addresses)):
            return None if not own else False
        found = [ip_address(one) for one in addresses]
        judged = [one for one in found if one.version in told or any(one in network for network in proxies)]
        if not judged:
            return None if found else False
        return all(str(one) in own or any(one in network for network in proxies) for one in judged)

    def of_no_known_kind(self, addresses: Sequence[str]) -> list[str]:
        """Those of some addresses of which it is not written down what the machine has: of IPv6, where none is."""
        told = {ip_address(one).version for one in self._machine[0]}
        return [one for one in addresses if told and is_ip(one) and ip_address(one).version not in told]

    def _seen_at(self, host: HostName) -> SeenAtHost | None:
        return self.world.at.get(host) if self.world is not None and host not in self._forgets else None

    def seen_pointing(self, host: HostName) -> tuple[bool, str] | None:
        """Whether a name was seen to lead to its machine, and when; None where that was not seen."""
        there = self._seen_at(host)
        seen = there.names[0] if there is not None and there.names else None
        if seen is None or seen.state is NameState.UNKNOWN:
            return None
        is_here = self.are_its_machine(seen.addresses) if seen.addresses else False
        return (is_here, seen.seen) if is_here is not None else None

    def seen_ttl(self, host: HostName) -> list[int]:
        """For how many seconds others keep what a name leads to, where its name servers were seen to say that."""
        there = self._seen_at(host)
        return [one.ttl for one in there.names if one.ttl] if there is not None else []

    def points_here(self, domain: Domain) -> bool:
        """Whether a domain's name leads here: as it was seen, else as the plan says."""
        seen = self.seen_pointing(domain.name)
        return seen[0] if seen is not None else domain.points_here

    def served_certificate(self, host: HostName) -> ServedCertificate | None:
        """The certificate that a host showed at its machine, where it is one that is for it and was trusted."""
        there = self._seen_at(host)
        wild = f"*.{host.partition('.')[2]}"
        for one in there.certificates if there is not None else ():
            holds = one.trouble is None and not one.wrong and one.until >= one.seen[:10]
            if holds and (host in one.covers or wild in one.covers) and self.is_its_machine(one.at):
                return one
        return None

    def seen_page(self, address: Address) -> SeenPage | None:
        """What an address was seen to show at its machine, by https where it answers so; None for nothing."""
        there = self._seen_at(address.host)
        pages = {one.url: one for one in there.pages if self.is_its_machine(one.at)} if there is not None else {}
        found = [pages[url] for url in (url_of("https", address), url_of("http", address)) if url in pages]
        return next((one for one in found if one.trouble is None), found[-1] if found else None)

    def forgets(self, host: HostName) -> bool:
        """Whether nothing is known any more of what a host showed."""
        return host in self._forgets

    @cached_property
    def databases(self) -> SeenDatabases | None:
        """What was seen of its databases; None where nothing was."""
        return self._databases() if callable(self._databases) else self._databases

    @cached_property
    def file_names(self) -> FileNames | None:
        """The names of all its files, where they were kept with this very survey; read when it matters."""
        wanted = self.survey.names if self.survey is not None else ""
        names = self._names() if self._names is not None and wanted else None
        return names if names is not None and names.digest == wanted else None

    @property
    def databases_later(self) -> Callable[[], SeenDatabases | None]:
        """The same for whoever asks later, and does not keep this layout until then."""
        given = self._databases
        return given if callable(given) else lambda: given

    def changed(
        self,
        account: Account,
        plan: Plan | None = None,
        survey: Survey | None = None,
        databases: SeenDatabases | None = None,
        outside: ExternalFacts | None = None,
        forgets: Iterable[HostName] = (),
    ) -> AccountLayout:
        """The same folders, databases and servers under another plan of the account.

        `survey` says what else would then lie in the folders, `databases` and `outside` what would
        be seen of those; of hosts that it `forgets` nothing is known of what they showed.
        """
        beside = (
            self._names,
            outside or self._outside,
            databases or self._databases,
            self._server_hosts,
            self._world,
            self._forgets.union(forgets),
        )
        return AccountLayout(plan or self.plan, account, survey or self._survey, *beside)

    @cached_property
    def obeys_control_files(self) -> bool:
        """Whether its server reads control files, and lets them do what decides who gets what."""
        if self.server.kind in ("nginx", "other"):
            return False
        hosts, home = self.server_hosts, self.account.settings.home
        if isinstance(hosts, NginxServers):
            return False
        if hosts is None or not hosts.configuration.is_whole or home is None:
            return bool(self.server.overrides)
        live = [(one.name, one.root_now or one.root) for one in self.account.domains if one.state == "live"]
        return any(hosts.heeds_control_files(name, f"{home}/{root}", self.server) for name, root in live if root)

    def has_certificate(self, host: HostName) -> bool | None:
        """Whether a certificate covers a host; None where its server names one that could not be read in."""
        if self.account.has_certificate(host) or self.served_certificate(host) is not None:
            return True
        return None if host in self._uncertain else False

    @cached_property
    def _uncertain(self) -> frozenset[HostName]:
        """Hosts, with and without www, whose certificate was named where it could not be opened."""
        hosts = [HostName(one.host) for one in self.outside.hosts if one.unread] if self.outside is not None else []
        return frozenset(name for host in hosts for name in (host, *bare_and_www(host)))

    @property
    def surveying(self) -> Remedy:
        """Looking at its folders, at the place that the plan names for it."""
        return surveying(self.name, self.account.settings.survey_from)

    @cached_property
    def links(self) -> Links:
        return Links(self.survey.links if self.survey is not None else (), self.account.settings.home)

    def deploy_by(self, installation: Installation) -> str | None:
        """How an application is put in place, by `hand` or by an installer of the `host`; None where nobody says."""
        package = self.plan.packages.get(self.account.settings.package or "")
        by_package = package.deploy_by if package is not None else None
        return installation.deploy_by or self.account.settings.deploy_by or by_package

    def wants_new_folder(self, installation: Installation) -> bool:
        """Whether an installer is to put an application in place that makes its folder itself."""
        return self.application(installation).wants_new_folder and self.deploy_by(installation) != "hand"

    def path_rule(self, address: Address, *does: str) -> PathRule | None:
        """The rule of the server with the longest path that holds for an address, among those that do one of `does`."""
        for rule in self._path_rules.get(address.host, ()):
            path = rule.address.path
            if rule.does in does and (not path or address.path == path or address.path.startswith(f"{path}/")):
                return rule
        return None

    @cached_property
    def _path_rules(self) -> dict[HostName, list[PathRule]]:
        """By host name, those with the longest path first; all names of a host share them."""
        found: dict[HostName, list[PathRule]] = {}
        first = {host: domain for domain in reversed(self.account.domains) for host in (domain.name, *domain.also)}
        for rule in sorted(self.account.path_rules, key=lambda rule: -len(rule.address.path)):
            if rule.address.host not in first:  # a part of an account may be without it
                continue
            names = section_of(self.account, first[rule.address.host], self.account.domains)
            for host in dict.fromkeys((rule.address.host, *names)):
                found.setdefault(host, []).append(rule)
        return found

    def tree(self, when: When) -> AddressTree:
        """The account's addresses as they are today, or once the plan is carried out."""
        return self._today if when == "now" else self._planned

    @cached_property
    def _planned(self) -> AddressTree:
        return AddressTree(Hosts(mounts_of(self.account, self.real, "planned")), self.links)

    @cached_property
    def _today(self) -> AddressTree:
        if all(domain.state == "live" and domain.root_now is None for domain in self.account.domains):
            return self._planned
        return AddressTree(Hosts(mounts_of(self.account, self.real, "now")), self.links)

    @property
    def hosts(self) -> Hosts:
        return self._planned.hosts

    @property
    def mounts(self) -> dict[Folder, list[Mount]]:
        return self._planned.mounts

    @cached_property
    def tables(self) -> TableUse:
        """Who uses which tables of which database."""
        return TableUse(self)

    @cached_property
    def roots(self) -> dict[Folder, list[Domain]]:
        found: dict[Folder, list[Domain]] = {}
        written: set[tuple[Folder, str]] = set()  # one domain written twice is not two
        for domain in self.account.domains:
            if domain.claims_root and domain.root is not None and domain.state != "retired":
                root = self.real(domain.root)
                if (root, domain.name) not in written:
                    written.add((root, domain.name))
                    found.setdefault(root, []).append(domain)
        return found

    @property
    def unasked_roots(self) -> list[Folder]:
        """The folders that domains lead to and of which the survey was not told, so that it did not look for a root."""
        asked = self.survey.roots if self.survey is not None else None
        if asked is None:
            return []
        named = {root for domain in self.account.domains for root in (domain.root, domain.root_now) if root is not None}
        return sorted(named.difference(asked))

    @cached_property
    def placed(self) -> dict[Folder, list[Installation]]:
        return self._installed[0]

    @cached_property
    def homeless(self) -> list[Installation]:
        return self._installed[1]

    @cached_property
    def _installed(self) -> tuple[dict[Folder, list[Installation]], list[Installation]]:
        placed: dict[Folder, list[Installation]] = {}
        homeless = []
        for installation in self.account.installations:
            folder = self.folder_of(installation)
            if folder is None:
                homeless.append(installation)
            else:
                placed.setdefault(folder, []).append(installation)
        return placed, homeless

    @cached_property
    def _has_links(self) -> bool:
        return bool(self.links)

    @property
    def name(self) -> str:
        return self.account.name

    @cached_property
    def contents(self) -> Contents | None:
        return Contents(self.survey, self.roots, self.placed) if self.survey is not None else None

    def application(self, installation: Installation) -> Application:
        return self.plan.applications[installation.application]

    def front_file(self, installation: Installation) -> str:
        """The file at its address that starts an installation which lies elsewhere."""
        known = self.application(installation)
        return known.front_file or next(iter(known.index_files), "index.php")

    def title(self, application: str) -> str:
        """An application's name for people; its id when the catalogue no longer knows it."""
        known = self.plan.applications.get(application)
        return known.shown if known else application

    def real(self, folder: Folder) -> Folder:
        """The folder that links make of `folder`; itself when they lead out of the home."""
        return (self.links.real(folder) or folder) if self._has_links else folder

    def reach(self, address: Address) -> Folder | None:
        """The folder of this account that an address leads to, with or without www where one stands for both."""
        return self._planned.reach(address)

    def folder_of(self, installation: Installation) -> Folder | None:
        """The folder an installation lies in; None when its address reaches none of the account."""
        known = self._folders.get(installation.number)
        if known is None or known[0] is not installation:  # another may have its number: as it is to be, or none yet
            known = self._folders[installation.number] = installation, self._lies_in(installation)
        return known[1]

    def _lies_in(self, installation: Installation) -> Folder | None:
        if installation.folder is not None:
            return self.real(installation.folder)
        led = self.reach(installation.address)
        if led is None and installation.state == "retired":  # with a domain that is to go as well
            led = self.tree("now").reach(installation.address)
        return led

    def addresses_of(self, folder: Folder) -> list[Address]:
        """Every address that leads to exactly `folder`, in the order of its mounts, nearest first."""
        return self._planned.addresses_of(folder)

    @cached_property
    def standing(self) -> dict[Folder, list[Installation]]:
        """Folders with the installations in them that are not retired."""
        active = {
            folder: [installation for installation in placed if installation.state != "retired"]
            for folder, placed in self.placed.items()
        }
        return {folder: placed for folder, placed in active.items() if placed}

    @cached_property
    def present(self) -> dict[Folder, list[Installation]]:
        """The same as `standing`, but what is live stands where it lies today, as roots change later."""
        if not self.moving and all(domain.root_now is None for domain in self.account.domains):
            return self.standing
        found: dict[Folder, list[Installation]] = {}
        for folder, installations in self.standing.items():
            for installation in installations:
                found.setdefault(self._lies_today(installation, folder), []).append(installation)
        return found

    def lies_now(self, installation: Installation) -> Folder | None:
        """The folder an installation lies in today, as roots change later; of a planned one where it is to come."""
        folder = self.folder_of(installation)
        return self._lies_today(installation, folder) if folder is not None else None

    @cached_property
    def moving(self) -> list[Installation]:
        """The installations that are to answer, or to lie, elsewhere than they do today."""
        return [one for one in self.account.installations if one.is_moving]

    @cached_property
    def to_go_live(self) -> list[Installation]:
        """The rehearsals that are to take the place of what they rehearse."""
        return [one for one in self.account.installations if one.goes_live]

    def comes_from(self, installation: Installation) -> Folder | None:
        """The folder that an installation lay in before it was to move; None where none is known, or it does not."""
        if installation.folder_now is not None:
            return self.real(installation.folder_now)
        return self.tree("now").reach(installation.address_now) if installation.address_now is not None else None

    def holds_copy(self, installation: Installation) -> bool:
        """Whether the survey shows an installation that is to move where it is to lie.

        That has come since an earlier survey, and is the very one where it comes from as far as versions and databases
        tell; what lay there all along may be somebody's own. Where nothing is left of the old one it is the new one.
        """
        new, old = self.folder_of(installation), self.comes_from(installation)
        seen = self.contents.applications if self.contents is not None else {}
        there, here = seen.get(new) if new is not None else None, seen.get(old) if old is not None else None
        if there is None or new == old or there.application != installation.application:
            return False
        if here is None:
            return True
        marks = [(one.application, one.version, one.condition, one.database) for one in (there, here)]
        came = self.contents.survey.came if self.contents is not None else ()
        return marks[0] == marks[1] and new in came

    @cached_property
    def left(self) -> dict[Folder, Installation]:
        """The folders that installations leave which are to move, but for those in which another one is to stand."""
        old = {self.comes_from(one): one for one in self.moving}
        stays = {*self.standing}
        return {folder: one for folder, one in old.items() if folder is not None and folder not in stays}

    def _lies_today(self, installation: Installation, folder: Folder) -> Folder:
        if installation.is_moving:
            seen, came = self.contents.applications if self.contents is not None else {}, self.comes_from(installation)
            return folder if came is None or (folder in seen and came not in seen) else came
        mount = self.hosts.mount(installation.address) if installation.state != "planned" else None
        domain = mount.domain if mount is not None else None
        if domain is None or domain.root is None or domain.root_now is None:
            return folder
        root = self.real(domain.root)
        if folder != root and not folder.is_inside(root):
            return folder
        old = self.real(domain.root_now).below(folder.relative_to(root))
        seen = self.contents.applications if self.contents is not None else {}
        return folder if folder in seen and old not in seen else old

    @cached_property
    def planned(self) -> list[tuple[Folder, Installation]]:
        """Folders something is planned in and not there yet, with the first that is."""
        found = (
            (folder, next((one for one in placed if one.state == "planned" or self._is_to_come(one, folder)), None))
            for folder, placed in self.placed.items()
        )
        return [
            (folder, installation)
            for folder, installation in found
            if installation is not None and installation.number not in self.deployed
        ]

    def _is_to_come(self, installation: Installation, folder: Folder) -> bool:
        """Whether the files of something live are still to be moved into a folder."""
        is_away = installation.is_moving and self._lies_today(installation, folder) != folder
        return is_away and not self.holds_copy(installation)

    @cached_property
    def deployed(self) -> dict[int, Deployment]:
        """The planned installations that are there as the survey shows, by their numbers."""
        return deployments(self)

    @cached_property
    def rehearsed_by(self) -> dict[Address, list[Installation]]:
        """The installations that are staging sites, by the address of what they rehearse."""
        found: dict[Address, list[Installation]] = {}
        for installation in self.account.installations:
            if installation.staging_of is not None:
                found.setdefault(installation.staging_of, []).append(installation)
        return found

    @cached_property
    def rehearsals(self) -> list[tuple[Folder, Installation]]:
        """The staging sites that are not retired, with their folders."""
        return [
            (folder, installation)
            for folder, placed in self.standing.items()
            for installation in placed
            if installation.staging_of is not None
        ]

    @cached_property
    def nested(self) -> list[tuple[Folder, Folder]]:
        """The folders of standing installations that lie inside another's, with the nearest such."""
        return list(nested_pairs(self.standing))

    def claims(self, folder: Folder) -> list[Claim]:
        """Everyone who holds exactly `folder`."""
        found = [Claim("root", folder, domain) for domain in self.roots.get(folder, ())]
        found += [Claim("installation", folder, installation) for installation in self.placed.get(folder, ())]
        if self.contents is not None:
            application = self.contents.applications.get(folder)
            found += [Claim("application", folder, application)] if application else []
            found += [Claim("placeholder", folder, page) for page in self.contents.placeholders(folder)]
            there = self.contents.folders.get(folder)
            found += [Claim("control file", folder, name) for name in (there.control if there else ())]
        return found

    def claimed_inside(self, folder: Folder) -> Sequence[Folder]:
        """The folders strictly inside `folder` that a root, an installation or an application holds."""
        return strictly_inside(self._held, folder)

    def is_held(self, folder: Folder) -> bool:
        """Whether a root, an installation or an application holds exactly `folder`."""
        at = bisect_left(self._held, folder)
        return self._held[at : at + 1] == [folder]

    @cached_property
    def in_use(self) -> Sequence[Folder]:
        """The folders that a domain or a path alias leads to, today or once the plan is carried out, and those of
        installations, applications and sites, sorted."""
        found = {*self.mounts, *self.tree("now").mounts, *self.standing}
        if self.contents is not None:
            found |= {known.folder for known in self.contents.survey.applications}
            found |= {site.folder for site in self.contents.survey.sites}
        return sorted(found)

    @cached_property
    def in_use_today(self) -> dict[str, Folder]:
        """The same, and where what is live lies today, as roots change later, each directly before what lies in it.

        They are by their `tree_key`.
        """
        return dict(sorted((folder.tree_key, folder) for folder in {*self.in_use, *self.present}))

    def outermost_in(self, folder: Folder, is_meant: Callable[[Folder], bool]) -> Iterator[Folder]:
        """The folders strictly inside one that are in use and meant; what lies in such a one is not gone through."""
        keys = self._keys_in_use
        begin = folder.tree_key + "\0" if folder else "\1"
        at, end = bisect_left(keys, begin), bisect_left(keys, folder.tree_key + "\1") if folder else len(keys)
        while at < end:
            place = self.in_use_today[keys[at]]
            if is_meant(place):
                yield place
                at = bisect_left(keys, keys[at] + "\1")
            else:
                at += 1

    @cached_property
    def _keys_in_use(self) -> list[str]:
        return list(self.in_use_today)

    @cached_property
    def installations_at(self) -> dict[HostName, list[Installation]]:
        """The installations that are not retired by the host of their address, whether anything leads there or not."""
        found: dict[HostName, list[Installation]] = {}
        for installation in self.account.installations:
            if installation.state != "retired":
                found.setdefault(installation.address.host, []).append(installation)
        return found

    @cached_property
    def installations_of(self) -> dict[int, list[Installation]]:
        """The installations that are not retired by the number of the domain at whose host they answer."""
        found: dict[int, list[Installation]] = {}
        for installation in self.account.installations:
            mount = self.hosts.mount(installation.address) if installation.state != "retired" else None
            if mount is not None:
                found.setdefault(mount.domain.number, []).append(installation)
        return found

    @cached_property
    def aliases_of(self) -> dict[HostName, list[Domain]]:
        """The aliases that are not retired by the name of the domain that they stand for."""
        found: dict[HostName, list[Domain]] = {}
        for domain in self.account.named.values():
            if domain.kind == "alias" and domain.of is not None:
                found.setdefault(domain.of, []).append(domain)
        return found

    @cached_property
    def links_to(self) -> list[tuple[Folder, Folder]]:
        """The symbolic links that lead to a folder of the account, each with that folder."""
        return [(link, target) for link in self.links.places if (target := self.links.real(link)) is not None]

    @cached_property
    def fronts(self) -> list[tuple[Folder, Installation]]:
        """The folders at whose addresses installations answer that lie elsewhere."""
        return [
            (front, installation)
            for folder, placed in self.standing.items()
            for installation in placed
            if installation.folder is not None
            and (front := self.reach(installation.address)) is not None
            and front != folder
        ]

    @cached_property
    def usual_parent(self) -> Folder:
        """Where several roots stand side by side, if that is inside no root or installation; else the home."""
        nested = {inner for inner, _ in nested_pairs(self.roots)}
        parents = Counter(root.parent for root in self.roots if root.depth > 1 and root not in nested)
        usual = [parent for parent, number in parents.most_common() if number > 1]
        return next((folder for folder in usual if not any(map(self.is_held, (folder, *folder.above())))), HOME)

    @cached_property
    def _held(self) -> list[Folder]:
        held = {*self.roots, *self.placed, *self.present}
        for domain in self.account.domains:  # what still leads somewhere, and what did, is nobody else's either
            if domain.claims_root and (domain.state == "retired" or domain.root_now is not None):
                held |= {self.real(root) for root in (domain.root, domain.root_now) if root is not None}
        if self.contents is not None:
            held |= {found.folder for found in self.contents.applications.values()}
        return sorted(held)
