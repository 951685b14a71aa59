"""What a source brings into a plan: what is new, what says otherwise, what the source no longer has."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from kettlepost.core.exchange.accounts_of import PUBLIC, Owner, assigned
from kettlepost.core.exchange.entries import AccountEntry, Differing, NewEntry, NotSeen, PlanEntries
from kettlepost.core.exchange.observed import ImportRemark, Reading, SeenHost, SeenPath, SourceSpot
from kettlepost.core.exchange.reconcile import Reconciliation
from kettlepost.core.layout import bare_and_www
from kettlepost.core.messages import Words, say
from kettlepost.core.names import Address, Folder, HostName, InvalidName
from kettlepost.core.plan import (
    Account,
    Application,
    Change,
    Domain,
    PathAlias,
    PathRule,
    PlanFile,
    Www,
    below_home,
    server_called,
    table_of,
)
from kettlepost.core.webserver import WebServer

_KINDS = ("primary", "addon", "subdomain", "alias", "temporary")


def entered(
    reading: Reading,
    accounts: Sequence[Account],
    account: str | None = None,
    homes: str | None = None,
    takes_source: bool = False,
    prunes: bool = False,
    applications: Mapping[str, Application] | None = None,
    settings: PlanFile | None = None,
) -> PlanEntries:
    """Work out what comes into a plan of such `accounts`. Nothing of the plan is removed unless it `prunes`.

    `applications` are those that can be installed, by id; `settings` are those of the plan.
    """
    given = assigned(reading.hosts, accounts, account, homes)
    entry = PlanEntries(
        remarks=[*reading.remarks, *given.left],
        guessed=given.guessed,
        hosts=len(reading.hosts),
        records=len(reading.records),
    )
    entry.assigned = given.hosts
    known = {one.name: one for one in accounts}
    said = settings or PlanFile()
    beside = Reconciliation(entry, accounts, given.hosts, applications or {}, takes_source, said.settings.proxies)
    _tell_index(entry, reading.hosts, said.settings.index_files)
    is_cut = prunes and any(remark.cuts for remark in reading.remarks)
    prunes = prunes and not is_cut  # what was not read is not gone
    for owner, hosts in given.hosts.items():
        if owner.is_new and not owner.home and any(host.folder is not None for host in hosts):
            means = say("import/home-untold/means", owner=owner.name)
            entry.remarks.append(ImportRemark(hosts[0].spot, say("import/home-untold", owner=owner.name), means))
            continue
        there = known.get(owner.name)
        server = server_called(there.settings.web_server, said.web_server) if there is not None else None
        _Account(entry, owner, hosts, there, takes_source, prunes, server).enter(reading)
    beside.enter(reading)
    files = list(dict.fromkeys(remark.spot.file for remark in entry.remarks))
    order = {file: number for number, file in enumerate(files)}
    entry.remarks.sort(key=lambda remark: (order[remark.spot.file], remark.spot.line))
    if is_cut:
        entry.missing = [one._replace(kept_for=say("import/kept-for/unread")) for one in entry.missing]
    return entry


def _tell_index(entry: PlanEntries, hosts: Sequence[SeenHost], index_files: Sequence[str]) -> None:
    """Remark each order of index files that is not the plan's, once."""
    told = {tuple(index_files), ()}
    for host in hosts:
        if host.index not in told:
            told.add(host.index)
            means = say("import/index-files/means", index_files=", ".join(f'"{name}"' for name in index_files))
            text = say("import/index-files", host=host.name, names=", ".join(host.index))
            entry.remarks.append(ImportRemark(host.spot, text, means))


class _Account:
    """One account, with what a source says of it."""

    def __init__(
        self, entry: PlanEntries, owner: Owner, hosts: list[SeenHost], account: Account | None, takes: bool,
        prunes: bool,
        server: WebServer | None,
    ):  # fmt: skip
        self._entry, self._owner, self._account = entry, owner, account
        self._takes, self._prunes = takes, prunes
        servers = {host.server for host in hosts}
        self._into = AccountEntry(owner, servers.pop() if len(servers) == 1 else "")
        self._server = server.kind if server is not None else self._into.server or "apache"
        self._hosts = [host for host in _with_www_joined(hosts) if self._can_be(host)]
        self._names = {name for host in self._hosts for name in (host.name, *host.names)}
        self._names |= {bare_and_www(host.name)[0] for host in self._hosts if _www_form(host) is not None}
        self._names |= set(account.named) if account is not None else set()
        self._primary = self._chosen_primary()
        self._seen = {name for host in hosts for name in (host.name, *host.names)}  # those too that are not entered

    def enter(self, reading: Reading) -> None:
        self._hosts.sort(key=lambda host: host is not self._primary)
        for host in self._hosts:
            self._enter_host(host)
        account = self._account
        if account is not None and account.settings.home is None and self._owner.home and self._hosts:
            self._into.changes.append(Change(account.name, "account", 0, {"home": self._owner.home}))
            self._entry.new.append(NewEntry(account.name, "-", "home", self._owner.home, self._hosts[0].spot))
        self._enter_reserved(reading.reserved)
        if reading.user_folder is not None:
            self._enter_temporary(reading.user_folder)
        if self._account is not None:
            self._enter_missing(self._account)
        if self._into.changes or (self._owner.is_new and self._hosts):
            self._entry.accounts.append(self._into)

    def _enter_reserved(self, reserved: Sequence[SeenPath]) -> None:
        """The first path segments that the server answers itself at every host."""
        there = self._account.settings.reserved_paths if self._account is not None else []
        segments = {path.path.strip("/").partition("/")[0]: path for path in reserved}
        new = {segment: path for segment, path in segments.items() if segment not in there and "*" not in segment}
        if new and self._hosts:
            values = {"reserved_paths": [*there, *new]}
            self._into.changes.append(Change(self._owner.name, "account", 0, values))
            for segment, path in new.items():
                at = say("import/told/every-host", segment=segment)
                self._entry.new.append(NewEntry(self._owner.name, at, "reserved path", path.to, path.spot))

    def _enter_temporary(self, user: SeenPath) -> None:
        """The address `/~name` of the account at the server's own host, where its home ends in its name."""
        host, folder = HostName(user.path), self._inside(user.to)
        if (self._owner.home or "").rpartition("/")[2] != self._owner.name or folder is None or self._declares(host):
            return
        values = table_of(Domain(host, "temporary", folder, path=f"~{self._owner.name}"))
        self._add("domain", values, f"{host}/~{self._owner.name}", "temporary", folder.shown, user.spot)

    def _can_be(self, host: SeenHost) -> bool:
        """Whether a domain can be made of it; if not, that is remarked."""
        if host.elsewhere and host.sends_to is not None:  # of which Apache asks the program first, and nginx sends on
            host.sends_to, host.elsewhere = (None, host.elsewhere) if host.server == "apache" else (host.sends_to, "")
        if host.sends_to is not None or host.of is not None:
            return True
        if host.elsewhere:
            host.folder = None
            return True
        if host.folder is None and (only := self._only_path(host)) is not None:
            host.begins, host.folder, host.paths = only.path.strip("/"), only.to, []
        if host.folder is None:
            means = say("import/no-folder/means")
            self._entry.remarks.append(ImportRemark(host.spot, say("import/no-folder", host=host.name), means))
            return False
        if self._inside(host.folder) is None:
            means = say("import/home-differs/means", owner=self._owner.name, home=self._owner.home)
            text = say("import/outside-home", host=host.name, folder=host.folder)
            if self._owner.home is None:
                means = say("import/home-unwritten/means")
                text = say("import/home-unwritten", host=host.name, folder=host.folder, owner=self._owner.name)
            self._entry.remarks.append(ImportRemark(host.spot, text, means))
            return False
        return True

    def _only_path(self, host: SeenHost) -> SeenPath | None:
        """The one path at which a host leads to a folder, as temporary addresses do."""
        leading = [path for path in host.paths if path.does == "folder"]
        return leading[0] if len(leading) == 1 and not host.names else None

    def _inside(self, folder: str) -> Folder | None:
        """A folder of a source told from the account's home."""
        inside = below_home(folder, self._owner.home) if folder.startswith("/") else folder
        try:
            return Folder.parse(inside) if inside is not None else None
        except InvalidName:
            return None

    def _chosen_primary(self) -> SeenHost | None:
        if self._account is not None and self._account.primary is not None:
            return None
        named = next((host for host in self._hosts if host.kind == "primary"), None)
        if named is not None:
            return named
        roots = {
            host.name: self._inside(host.folder or "") for host in self._hosts if not host.sends_to and not host.of
        }
        able = [
            host for host in self._hosts if roots.get(host.name) is not None and host.name[0] != "*" and not host.begins
        ]

        def rank(host: SeenHost) -> tuple[bool, bool, int]:
            root = roots[host.name]
            outer = any(other is not None and root is not None and other.is_inside(root) for other in roots.values())
            below = any(above in self._names for above in host.name.above())
            return below, not (outer or str(root) in PUBLIC), root.depth if root is not None else 0

        return min(able, key=rank, default=None)

    def _kind(self, host: SeenHost, name: HostName) -> str:
        if host is self._primary and name == host.name.removeprefix("www."):
            return "primary"
        if host.begins:
            return "temporary"
        if host.kind in _KINDS and host.kind != "primary":
            return host.kind
        return "subdomain" if any(above in self._names for above in name.above()) else "addon"

    def _enter_host(self, host: SeenHost) -> None:
        bare = HostName(host.name.removeprefix("www."))
        form = _www_form(host)
        name = bare if form is not None else host.name
        root = self._inside(host.folder) if host.folder is not None and not host.sends_to and not host.of else None
        if form == "both" and self._declares(HostName(f"www.{bare}")) and self._declares(bare):
            form = None  # the plan has both, in its own way
        domain = Domain(
            name, self._kind(host, name), root,  # type: ignore[arg-type]
            state=host.state or "live", of=host.of, redirect_to=host.sends_to, www=form,  # type: ignore[arg-type]
            passed_to=host.elsewhere or None,
            https=host.is_secure or host.to_https, protected=host.asks_password, client=host.client or None,
            fallback=host.fallback if self._server != "apache" else None, path=host.begins,
        )  # fmt: skip
        if host.fallback and self._server == "apache" and host.server == "nginx":
            means = say("import/fallback/means")
            self._entry.remarks.append(
                ImportRemark(host.spot, say("import/fallback", host=host.name, fallback=host.fallback), means)
            )
        others = [one for one in host.names if one not in (bare, HostName(f"www.{bare}"))]
        also = [one for one in others if host.sends_to is None and (one[0] == "*" or bare in one.above())]
        known = self._account.declared(name) or self._account.declared(host.name) if self._account is not None else None
        if known is None and self._account is not None and not host.server and name != bare:
            whole = self._account.declared(bare)  # to a table a name with www is the domain that has it
            known = whole if whole is not None and whole.www in ("both", "www") else None
        if known is None:
            told = table_of(domain) | ({"also": [str(one) for one in also]} if also else {})
            what = say("import/told/guess", kind=domain.kind, guess=host.guess) if host.guess else domain.kind
            self._add("domain", told, name, what, _leads_to(domain), host.spot)
        elif not host.guess:
            self._compare(known, domain, also, host)
        for one in others:
            if one not in also:
                self._enter_other(host, name, one)
        for path in host.paths:
            self._enter_path(name, path)

    def _enter_other(self, host: SeenHost, name: HostName, other: HostName) -> None:
        """A further name of a host: an alias, or one that is sent on like it."""
        bare = HostName(other.removeprefix("www."))
        if other != bare and bare in host.names:
            return  # comes with the bare name
        account = self._account
        known = account.declared(other) if account is not None else None
        if known is None and account is not None:
            known = next((one for one in account.domains if other in one.also), None)
        form: Www | None = "both" if HostName(f"www.{other}") in host.names else None
        if known is not None:
            return
        if host.sends_to is not None:
            kind = "subdomain" if any(above in self._names for above in other.above()) else "addon"
            domain = Domain(other, kind, redirect_to=host.sends_to, www=form)  # type: ignore[arg-type]
        else:
            domain = Domain(other, "alias", of=name, www=form)
        self._add("domain", table_of(domain), other, domain.kind, _leads_to(domain), host.spot)

    def _enter_path(self, name: HostName, path: SeenPath) -> None:
        try:
            address = Address.parse(f"{name}/{path.path.strip('/')}")
            folder = self._inside(path.to) if path.does == "folder" else None
        except InvalidName as error:
            self._entry.remarks.append(ImportRemark(path.spot, str(error), say("import/not-entered")))
            return
        if path.does == "folder" and folder is None:
            means = say("import/path-outside-home/means")
            self._entry.remarks.append(
                ImportRemark(path.spot, say("import/path-outside-home", address=address, folder=path.to), means)
            )
            return
        if path.does == "fallback" and self._server == "apache":
            return
        account = self._account
        record: PathAlias | PathRule
        if folder is not None:
            record = PathAlias(address, folder)
            there = [one for one in account.path_aliases if one.address == address] if account is not None else []
            if there:
                self._differ(name, "path_alias", there[0], {"folder": (there[0].folder, folder)}, path.spot)
                return
        else:
            record = PathRule(address, path.does, path.to)  # type: ignore[arg-type]
            if account is not None and any(
                one.address == address and one.does == path.does for one in account.path_rules
            ):
                return
        table = "path_alias" if folder is not None else "path_rule"
        what = "path alias" if folder is not None else f"path rule ({path.does})"
        self._add(
            table, table_of(record), str(address), what, folder.shown if folder is not None else path.to, path.spot
        )

    def _add(self, table: str, values: dict[str, Any], host: str, what: Words, leads: Words, spot: SourceSpot) -> None:
        self._into.changes.append(Change(self._owner.name, table, None, values))
        self._entry.new.append(NewEntry(self._owner.name, host, what, leads, spot))

    def _compare(self, known: Domain, seen: Domain, also: list[HostName], host: SeenHost) -> None:
        """What a domain of the plan lacks is filled in; what it says otherwise is told."""
        self._fill(known, seen, also, host)
        root = known.root_now if known.root_now is not None else known.root
        pairs: dict[str, tuple[Any, Any]] = {}
        if known.kind not in ("alias", "temporary"):
            has_moved = known.root_now is not None and seen.root == known.root  # which `confirm` writes down
            if root != seen.root and not has_moved and (seen.root is not None or known.redirect_to is None):
                pairs["root_now" if known.root_now is not None else "root"] = root, seen.root
            if known.passed_to != seen.passed_to:
                pairs["passed_to"] = known.passed_to, seen.passed_to
            if known.redirect_to != seen.redirect_to:
                pairs["redirect_to"] = known.redirect_to, seen.redirect_to
        elif seen.root is not None and not self._leads_alike(known, seen):
            pairs["kind"] = known.kind, say("import/told/domain-leads", folder=seen.root.shown)
        says_www = bool(host.server) or seen.www is not None  # which a table without a column for it does not
        differs = known.www not in (None, "apart", seen.www) or (known.www == "apart" and seen.www is not None)
        if says_www and differs:
            pairs["www"] = known.www, seen.www
        if known.state != seen.state:
            pairs["state"] = known.state, seen.state
        self._differ(known.name, "domain", known, pairs, host.spot)

    def _fill(self, known: Domain, seen: Domain, also: list[HostName], host: SeenHost) -> None:
        """Write what a domain of the plan does not say, and the source does."""
        filled: dict[str, Any] = {}
        if seen.https and not known.https:
            filled["https"] = True
        if seen.protected and not known.protected:
            filled["protected"] = True
        if seen.www is not None and known.www is None:
            filled["www"] = seen.www
        if seen.fallback is not None and known.fallback is None:
            filled["fallback"] = seen.fallback
        more = [one for one in also if one not in known.also and not self._declares(one)]
        if more:
            filled["also"] = [str(one) for one in (*known.also, *more)]
        if filled:
            self._into.changes.append(Change(self._owner.name, "domain", known.number, filled))
            for key, value in filled.items():
                said = ", ".join(map(str, more)) if key == "also" else str(value).lower()
                self._entry.new.append(NewEntry(self._owner.name, known.name, key, said, host.spot))

    def _declares(self, name: HostName) -> bool:
        account = self._account
        return account is not None and (
            account.declared(name) is not None or any(name in domain.also for domain in account.domains)
        )

    def _leads_alike(self, known: Domain, seen: Domain) -> bool:
        """Whether an alias of the plan leads where the source has a domain lead."""
        end = self._account.chains.ends.get(known.number) if self._account is not None else None
        return (end.root if end is not None else known.root) == seen.root

    def _differ(
        self, host: str, table: str, known: Domain | PathAlias, pairs: dict[str, tuple[Any, Any]], spot: SourceSpot
    ) -> None:
        account = self._account
        pairs = {key: pair for key, pair in pairs.items() if pair[0] != pair[1]}
        if account is None or not pairs:
            return
        able = self._takes and "kind" not in pairs
        if able:
            values = {key: _plain(value) for key, (_, value) in pairs.items()}
            self._into.changes.append(Change(self._owner.name, table, known.number, values))
        for key, (planned, value) in pairs.items():
            place = account.place(known, key if getattr(known, key, None) else "")
            self._entry.differing.append(
                Differing(account.name, host, key, _shown(planned), str(place), _shown(value), spot, able)
            )

    def _enter_missing(self, account: Account) -> None:
        """The live domains that the source does not have. Those that installations stand at are never dropped."""
        if all(host.guess for host in self._hosts):
            return  # folders do not tell of all domains
        for domain in account.domains:
            if domain.state != "live" or domain.kind == "temporary" or self._covers(domain):
                continue
            stand = self._rests_on(account, domain)
            drops = self._prunes and not stand
            if drops:
                self._into.changes.append(Change(account.name, "domain", domain.number, {}, drop=True))
            kept = stand[0] if stand and self._prunes else ""
            self._entry.missing.append(NotSeen(account.name, domain.name, str(account.place(domain)), drops, kept))

    def _rests_on(self, account: Account, domain: Domain) -> list[Words]:
        """What of the plan would be without its host, were a domain taken out."""
        names = {domain.name, *domain.also, *bare_and_www(domain.name)}
        found: list[Words] = [
            f"{one.application} at {one.address}"
            for one in account.installations if one.address.host in names and one.state != "retired"
        ]  # fmt: skip
        found += [
            say("import/kept-for/stands-for", domain=one.name) for one in account.domains if one.of == domain.name
        ]
        tables: list[PathAlias | PathRule] = [*account.path_aliases, *account.path_rules]
        return found + [
            say("import/kept-for/written", address=one.address) for one in tables if one.address.host in names
        ]

    def _covers(self, domain: Domain) -> bool:
        return bool({domain.name, *bare_and_www(domain.name)} & self._seen)


def _with_www_joined(hosts: Sequence[SeenHost]) -> list[SeenHost]:
    """Hosts with those that only send on to their other form, with or without www, made part of it."""
    by_name = {host.name: host for host in hosts}
    found = []
    for host in hosts:
        other = HostName(host.name[4:] if host.name.startswith("www.") else f"www.{host.name}")
        if host.sends_to == Address(other) and by_name.get(other, host).sends_to is None and other in by_name:
            by_name[other].takes = host.name
            names = [name for name in host.names if name != other]
            if names:
                sent = SeenHost(names[0], host.spot, names=names[1:], sends_to=host.sends_to, server=host.server)
                sent.certificate = host.certificate
                found.append(sent)
            continue
        found.append(host)
    return found


def _www_form(host: SeenHost) -> Www | None:
    """Which of the bare name and the one with www answers; None where nothing is said of the other."""
    bare, with_www = bare_and_www(host.name)
    if host.takes is not None:
        return "www" if host.name == with_www else "bare"
    if {bare, with_www} <= {host.name, *host.names}:
        return "both"
    return None


def _leads_to(domain: Domain) -> Words:
    if domain.redirect_to is not None:
        return f"-> {domain.redirect_to}"
    if domain.passed_to is not None:
        return say("import/told/program", passed_to=domain.passed_to)
    return domain.root.shown if domain.root is not None else f"as {domain.of}" if domain.of is not None else ""


def _plain(value: Any) -> Any:
    return None if value is None else value if isinstance(value, bool | list) else str(value).removesuffix("/")


def _shown(value: Any) -> str:
    if value is None:
        return "nothing"
    return value.shown if isinstance(value, Folder) else str(value)
