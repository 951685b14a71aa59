"""The records of a plan, field for field as its TOML files spell them.

What each docstring says under `Keys:` is the reference of the plan's keys, docs/plan-keys.md.
"""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Mapping, Sequence, Set
from functools import cached_property
from typing import Literal, NamedTuple, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from kettlepost.core.errors import InputError
from kettlepost.core.names import Address, Folder, HostName, did_you_mean, printable, quoted
from kettlepost.core.plan.applications import Application
from kettlepost.core.plan.source import SourceFile, SourcePlace
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.webserver import SERVERS, WebServer

DeployBy = Literal["host", "hand"]
Update = Literal["everything", "fixes", "by hand"]
DomainKind = Literal["primary", "addon", "subdomain", "alias", "temporary"]
State = Literal["live", "planned", "retired"]
Www = Literal["both", "bare", "www", "apart"]
Prefer = Literal["root", "subfolder", "subdomain", "domain"]
TableName = Literal["domain", "installation", "path_alias", "path_rule", "moved", "certificate", "accept"]
INDEX_FILES = ("index.html", "index.htm", "index.php")


class RecordId(NamedTuple):
    """What tells a table of the plan from all others: its account, its kind, how many such stand before it."""

    account: str
    table: str
    number: int


class Waits(Struct, forbid_unknown_fields=True):
    """How long things take in hours, at least and at most as a rule: `[1, 48]`.

    Keys:
        registration: until a domain is registered
        name_servers: until changed name servers are known everywhere
        record: until a changed record of a zone is, where its own time to live is not known
        certificate: until a certificate is there, once the name points here
        host: until whoever manages the account has done something
        registrar: the same for whoever manages the domain's registration
        client: the same for the client
        you: the same for you
    """

    registration: list[float] = field(default_factory=lambda: [1, 48])
    name_servers: list[float] = field(default_factory=lambda: [1, 48])
    record: list[float] = field(default_factory=lambda: [0.1, 24])
    certificate: list[float] = field(default_factory=lambda: [0.1, 2])
    host: list[float] = field(default_factory=lambda: [0.2, 24])
    registrar: list[float] = field(default_factory=lambda: [0.2, 24])
    client: list[float] = field(default_factory=lambda: [1, 72])
    you: list[float] = field(default_factory=lambda: [0.2, 8])


class KeptCurrent(Struct, frozen=True, forbid_unknown_fields=True):
    """What updates an installation by itself, and who does the rest.

    Keys:
        application: "everything", "fixes" for those that mend security alone, or "by hand"
        extensions: the same for what was added to it; as the application, where absent
        themes: the same for what it looks like
        by: who does it, where that is by hand
    """

    application: Update
    extensions: Update | None = None
    themes: Update | None = None
    by: str | None = None

    @property
    def by_hand(self) -> bool:
        """Whether something of it is updated by hand."""
        return "by hand" in (self.application, self.extensions, self.themes)


class Copies(Struct, frozen=True, forbid_unknown_fields=True):
    """The backups of an installation.

    Keys:
        each: how often one is made
        keep: how many are kept
        at: where they are kept; `account` for inside the account itself
        by: who sees to it
    """

    each: Literal["hour", "day", "week", "month"]
    keep: int
    at: str
    by: str | None = None


class AskingSettings(Struct, forbid_unknown_fields=True):
    """How servers are asked what they show.

    Keys:
        at_once: how many requests one machine gets at the same time
        pause: for how many seconds nothing is asked of it behind each of them
        seconds: how long one answer may take
        all_seconds: how long all of it may take
    """

    at_once: int = 4
    pause: float = 0.1
    seconds: float = 15
    all_seconds: float = 3600


class Settings(Struct, forbid_unknown_fields=True):
    """What holds for every account of the plan.

    Keys:
        index_files: the files that a server shows for a folder, the first that is there
        prefer: the kind of place that is liked best for a new installation
        www: what a new domain's `www` is, but for subdomains; with "apart" none is written, and none missed
        proxies: networks of proxies, such as 203.0.113.0/24: a name that points there may come here all the same
        keep_days: for so many days what was set aside is kept from being deleted
        passwords_in: where passwords are kept: "keyring", or a KDBX file outside of the plan folder
        passwords_key: the key file of the KDBX file
        waits: how long things take, in hours
        records_in: a second place for the sheets, a folder or sftp://user@host/path
        kept_current: what updates an installation that does not say so itself
        copies: the backups of an installation that does not say so itself
        resolvers: the name servers that look-ups go through, where they are not the system's
        asking: how servers are asked what they show
    """

    index_files: list[str] = field(default_factory=lambda: list(INDEX_FILES))
    prefer: Prefer | None = None
    www: Www = "both"
    proxies: list[str] = field(default_factory=list)
    keep_days: int = 30
    passwords_in: str | None = None
    passwords_key: str | None = None
    waits: Waits = field(default_factory=Waits)
    records_in: str | None = None
    kept_current: KeptCurrent | None = None
    copies: Copies | None = None
    resolvers: list[str] = field(default_factory=list)
    asking: AskingSettings = field(default_factory=AskingSettings)


class Package(Struct, forbid_unknown_fields=True):
    """What a hosting package allows; a number that is absent is unlimited.

    Keys:
        addon_domains: domains besides the primary one
        subdomains: subdomains that are declared
        aliases: aliases that are declared
        databases: databases, of whatever server
        installations: applications that are installed
        root_installations: false where none may be at the root of a domain
        disk_mb: space for files, in megabytes (10^6 bytes)
        files: files and folders
        price: what it costs, a number in a currency of your own
        deploy_by: how applications are installed on it: by the "host", which has an installer, or by "hand"
    """

    addon_domains: int | None = None
    subdomains: int | None = None
    aliases: int | None = None
    databases: int | None = None
    installations: int | None = None
    root_installations: bool = True
    disk_mb: int | None = None
    files: int | None = None
    price: float | None = None
    deploy_by: DeployBy | None = None


class Export(Struct, forbid_unknown_fields=True):
    """What of a machine goes into what is written for it by `kettlepost export`.

    `{account}` stands for an account's name, `{host}` for a host's.

    Keys:
        home: where an account's folders lie, where the account itself does not say
        listen: the address and port of http
        listen_secure: the address and port of https
        certificate: the file of a host's certificate; without it nothing is written for https
        key: the file of its key
        users: the file of those who may pass a password prompt
        php: what runs PHP under nginx, such as unix:/run/php/php-fpm.sock
        php_sockets: the same by the version of PHP that a domain or its account has; under Apache as well
        access_log: the file into which requests of a host are written
        error_log: the file into which its errors are written
        acme: the folder that has the answers of whoever renews certificates, below .well-known/acme-challenge
        unknown_names: "refuse" writes a first host that refuses names which no other one has, by https as well
        unknown_certificate: the certificate of that host, which Apache wants
        unknown_key: the file of its key
        lines: further lines of every host under Apache
        addresses: the addresses of the machine, where the account itself does not say
        name_servers: the name servers of every zone
        contact: the mail address that zones name
    """

    home: str = "/home/{account}"
    listen: str = "*:80"
    listen_secure: str = "*:443"
    certificate: str | None = None
    key: str | None = None
    users: str = "/etc/kettlepost/{account}.users"
    php: str | None = None
    php_sockets: dict[str, str] = field(default_factory=dict)
    access_log: str | None = None
    error_log: str | None = None
    acme: str | None = None
    unknown_names: Literal["refuse"] | None = None
    unknown_certificate: str | None = None
    unknown_key: str | None = None
    lines: list[str] = field(default_factory=list)
    addresses: list[str] = field(default_factory=list)
    name_servers: list[str] = field(default_factory=list)
    contact: str | None = None


class AccountSettings(Struct, forbid_unknown_fields=True):
    """The hosting account that a file is about.

    Keys:
        name: what it is called, as its file is
        home: where its folders lie on the host
        client: whose it is
        package: the package it has, under `[package.NAME]` in kettlepost.toml
        database_prefix: what every name of a database and of its user begins with
        database_server: the kind of its database server
        database_users_from: the host that database users of MySQL and MariaDB come from, `%` for any
        survey_from: where a survey is taken from when `--from` is not given
        addon_also: the further host name that each add-on domain is given, such as `{label}.{primary}`
        reserved_paths: first path segments that the host answers itself
        web_server: what serves it: "apache", "nginx", "other", or a server of your own under `[web_server.NAME]` \
in kettlepost.toml; only Apache obeys control files
        ip_addresses: the addresses of the machine it is on
        php: the version of PHP that it runs, such as "8.2"
        deploy_by: how applications are installed: by the "host", which has an installer, or by "hand"
    """

    name: str
    home: str | None = None
    client: str | None = None
    package: str | None = None
    database_prefix: str = ""
    database_server: Literal["mysql", "mariadb", "postgresql", "sqlite"] = "mysql"
    database_users_from: str = "localhost"
    survey_from: str | None = None
    addon_also: str | None = None
    reserved_paths: list[str] = field(default_factory=list)
    web_server: str = "apache"
    ip_addresses: list[str] = field(default_factory=list)
    php: str | None = None
    deploy_by: DeployBy | None = None


class Table(Struct, frozen=True, dict=True, forbid_unknown_fields=True):
    """A table of an account's file, of which there may be several of a kind."""

    @property
    def number(self) -> int:
        """How many tables of its kind stand before it in its account's file; -1 until it is one of an account."""
        number: int = self.__dict__.get("number", -1)
        return number


TableT = TypeVar("TableT", bound=Table)


class Domain(Table, frozen=True):
    """A host name of an account and where it leads.

    Keys:
        name: the host name; `*.` at its front stands for every name below
        kind: what it is to the host
        root: the folder it leads to, its document root
        state: "planned" is not on the account yet, "retired" is to go or gone
        root_now: the folder it leads to today, while its root is to change
        account_now: the account that has it today, while it is to come from there with all that is installed at it
        account_next: the account that it goes to, in the entry of the one that has it today
        of: the domain that an alias or temporary address stands for
        also: further names of the same domain
        path: the path at which a temporary address begins
        redirect_to: where it sends visitors, with the path behind it
        passed_to: the program that the server hands its visitors to, such as http://127.0.0.1:3000; it has no root then
        www: which of the bare name and the one with `www.` answers, where the other sends visitors on to it; \
with "apart", or without the key, it stands for its own name alone
        https: whether it is to be reached by https
        points_here: false while name servers lead elsewhere; true says of a planned domain that it does already
        protected: true where the server asks for a password, whatever the folder says
        fallback: the path that a server without control files shows for whatever is not there, such as /index.php
        mail: true where mail for it is received here
        client: whose it is, where that is not the account's client
        php: the version of PHP that it runs, where that is not the account's
        registered_until: the last day for which its registration is paid
    """

    name: HostName
    kind: DomainKind
    root: Folder | None = None
    state: State = "live"
    root_now: Folder | None = None
    account_now: str | None = None
    account_next: str | None = None
    of: HostName | None = None
    also: list[HostName] = field(default_factory=list)
    path: str = ""
    redirect_to: Address | None = None
    passed_to: str | None = None
    www: Www | None = None
    https: bool = False
    points_here: bool = True
    protected: bool = False
    fallback: str | None = None
    mail: bool = False
    client: str | None = None
    php: str | None = None
    registered_until: datetime.date | None = None

    @property
    def claims_root(self) -> bool:
        """Whether it has a document root in its own right: no alias, temporary address or redirect."""
        return self.root is not None and self.redirect_to is None and self.kind not in ("alias", "temporary")


class Database(Struct, frozen=True, forbid_unknown_fields=True):
    """The database of an installation.

    Keys:
        name: what it is called
        prefix: what the names of its tables begin with
        user: who may use it
        server: the server, where it is not the account's own
        entry: the title under which the user's password is kept, where it is another than `password titles` tells
    """

    name: str
    prefix: str = ""
    user: str | None = None
    server: str = ""
    entry: str | None = None

    @property
    def reached_at(self) -> str:
        """The server's name as an application's configuration has it: `localhost` for the account's own."""
        return self.server or "localhost"


class Installation(Table, frozen=True):
    """One application at one address.

    Keys:
        application: what is installed: an id of the catalogue, or of one's own entries
        address: where it answers, without https://
        state: "planned" is still to be installed, "retired" is to go or gone
        folder: where its files lie, where that is not where the address leads
        database: what it keeps its data in
        admin_user: who looks after it there
        contact: the mail address that its notices go to
        staging_of: the address that it is a rehearsal for
        goes_live: whether it is to take the place of what it rehearses
        live_keeps: of which data that keeps what it has then: kinds of the application's entry, "other" for what none \
of them names, or "all"
        indexing: false where the application itself keeps search engines out
        licensed_to: the address that its licence is bound to
        version: the one that was last written down
        admin_entry: the title under which the administrator's password is kept, where it is another than \
`password titles` tells
        title: what the site is called
        language: its language, such as "en" (BCP 47)
        kept_current: what updates it, and who does the rest, where that is not as in [settings]
        copies: its backups, where they are not as in [settings]
        leave_out: what an installer would bring along and nobody wants
        also_tell: further mail addresses for its notices
        set_up_by: who installs it
        changed_theme: whether what it looks like was changed by hand, so that an update would undo it
        deploy_by: how it is installed: by the "host", which has an installer, or by "hand"
        address_now: where it answers today, while it is to move
        folder_now: where its files lie today, while it is to move, where that is not where `address_now` leads
    """

    application: str
    address: Address
    state: State = "live"
    folder: Folder | None = None
    database: Database | None = None
    admin_user: str | None = None
    contact: str | None = None
    staging_of: Address | None = None
    goes_live: bool = False
    live_keeps: list[str] = field(default_factory=list)
    indexing: bool = True
    licensed_to: Address | None = None
    version: str | None = None
    admin_entry: str | None = None
    title: str | None = None
    language: str | None = None
    kept_current: KeptCurrent | None = None
    copies: Copies | None = None
    leave_out: list[str] = field(default_factory=list)
    also_tell: list[str] = field(default_factory=list)
    set_up_by: str | None = None
    changed_theme: bool = False
    deploy_by: DeployBy | None = None
    address_now: Address | None = None
    folder_now: Folder | None = None

    @property
    def database_entry(self) -> str:
        """The title under which the password of its database user is kept; empty where it has no database."""
        base = self.database
        title = f"{printable(str(self.address))} (database {printable(base.name)})" if base is not None else ""
        return (base.entry if base is not None else None) or title

    @property
    def is_moving(self) -> bool:
        """Whether it is to answer, or to lie, elsewhere than it does today."""
        return self.address_now is not None or self.folder_now is not None


class PathAlias(Table, frozen=True):
    """An address that the server maps to a folder of its own, whatever the root holds.

    Keys:
        address: where it begins
        folder: what it leads to
    """

    address: Address
    folder: Folder


class PathRule(Table, frozen=True):
    """What the server itself does with an address and all below it, before it looks into a folder.

    Keys:
        address: where it begins
        does: "password" asks for one, "denied" lets nobody in, "redirect" sends visitors on, and "fallback" \
shows one file for whatever is not there
        to: where a redirect sends them, or the path that a fallback shows, from the host's root
    """

    address: Address
    does: Literal["password", "denied", "redirect", "fallback"]
    to: str = ""


class Moved(Table, frozen=True):
    """A promise: an old address of the account stays good, and leads its visitors to where they find the same now.

    `redirect_to` of a domain, `[[path_rule]]` and control files keep it.

    Keys:
        from: the old address, at a domain of this account
        to: the address that shows today what the old one did, wherever that is
        below: false where it is that very address alone, and not all below it with the path behind it
        permanent: true where browsers and search engines are told that it is for good, which they keep in mind
        since: the day on which it moved
        until: the last day for which the old address is kept; without it for good
    """

    old: Address = field(name="from")
    to: Address
    below: bool = True
    permanent: bool = False
    since: datetime.date | None = None
    until: datetime.date | None = None


class Certificate(Table, frozen=True):
    """A certificate of the account.

    Keys:
        covers: the host names it holds; `*.` covers one label (RFC 6125 section 6.4.3)
        until: the last day on which it holds
    """

    covers: list[HostName]
    until: datetime.date | None = None


class AcceptEntry(Table, frozen=True):
    """A finding that was looked at and is lived with.

    Keys:
        finding: the rule
        at: the folder or address that the finding is at; where none is at just that, `*` stands for any text \
and `\\*` for a star
        because: why it is lived with
        until: the last day on which it is
    """

    finding: str
    at: str
    because: str
    until: datetime.date | None = None


class AccountFile(Struct, forbid_unknown_fields=True):
    """One `accounts/*.toml`."""

    account: AccountSettings
    domain: list[Domain] = field(default_factory=list)
    installation: list[Installation] = field(default_factory=list)
    path_alias: list[PathAlias] = field(default_factory=list)
    path_rule: list[PathRule] = field(default_factory=list)
    moved: list[Moved] = field(default_factory=list)
    certificate: list[Certificate] = field(default_factory=list)
    accept: list[AcceptEntry] = field(default_factory=list)


class PlanFile(Struct, forbid_unknown_fields=True):
    """`kettlepost.toml`."""

    settings: Settings = field(default_factory=Settings)
    package: dict[str, Package] = field(default_factory=dict)
    application: list[Application] = field(default_factory=list)
    web_server: dict[str, WebServer] = field(default_factory=dict)
    export: Export = field(default_factory=Export)


def server_called(name: str, told: Mapping[str, WebServer], index_files: tuple[str, ...] = ()) -> WebServer:
    """What is known of a web server, with its kind, and with the plan's index files where it has none of its own."""
    found = told.get(name) or SERVERS.get(name, SERVERS["apache"])
    usual = SERVERS.get(name, SERVERS["apache"]).kind
    return replace(found, kind=found.kind or usual, index_files=found.index_files or index_files or None)


class CatalogueFile(Struct, forbid_unknown_fields=True):
    """A file of the built-in catalogue of applications."""

    application: list[Application] = field(default_factory=list)


Record = Domain | Installation | PathAlias | PathRule | Moved | Certificate | AcceptEntry
TABLES: dict[type[Table], TableName] = {
    Domain: "domain",
    Installation: "installation",
    PathAlias: "path_alias",
    PathRule: "path_rule",
    Moved: "moved",
    Certificate: "certificate",
    AcceptEntry: "accept",
}
"""What an account's file calls each kind of table."""


def _numbered(records: Sequence[TableT], begin: int = 0) -> list[TableT]:
    """Copies of `records` that know their places, which begin at `begin`."""
    copies = [replace(record) for record in records]
    _number(copies, begin)
    return copies


def _number(records: Sequence[Table], begin: int = 0) -> None:
    for number, record in enumerate(records, begin):
        record.__dict__["number"] = number


class Account:
    """One hosting account of the plan, and the file it was read from."""

    def __init__(self, source: SourceFile, read: AccountFile):
        self.source = source
        self.settings = read.account
        self.name = read.account.name
        self.domains = read.domain
        self.installations = read.installation
        self.path_aliases = read.path_alias
        self.path_rules = read.path_rule
        self.moved = read.moved
        self.certificates = read.certificate
        self.accepts = read.accept

    @classmethod
    def read(cls, source: SourceFile, read: AccountFile) -> Account:
        """An account from the tables a reader has just made, which are told their places."""
        for name in TABLES.values():
            _number(getattr(read, name))
        return cls(source, read)

    def identity(self, record: Record) -> RecordId:
        """What tells a record of this account from all others of the plan."""
        return RecordId(self.name, TABLES[type(record)], record.number)

    def place(self, record: Record, key: str = "") -> SourcePlace:
        """Where `record` of this account was written, or the key of it that is named."""
        table = (TABLES[type(record)], record.number)
        return SourcePlace(self.source, (*table, key) if key else table)

    def with_more(self, domains: Sequence[Domain] = (), installations: Sequence[Installation] = ()) -> Account:
        """The same account with more tables behind those it has."""
        more = _numbered(domains, len(self.domains)), _numbered(installations, len(self.installations))
        return self.part([*self.domains, *more[0]], [*self.installations, *more[1]])

    def part(self, domains: list[Domain], installations: list[Installation]) -> Account:
        """The same account with only some of its domains and installations, each with its place in the file."""
        read = AccountFile(self.settings, domains, installations)
        read.path_alias, read.path_rule = self.path_aliases, self.path_rules
        read.moved, read.certificate, read.accept = self.moved, self.certificates, self.accepts
        return Account(self.source, read)

    def with_installation(self, changed: Installation, number: int) -> Account:
        """The same account with another record in the place of the installation that has this number."""
        there = _numbered([changed], number)
        return self.part(self.domains, [there[0] if one.number == number else one for one in self.installations])

    def has_certificate(self, host: HostName) -> bool:
        """Whether a certificate that is written down covers a host, by its name or by a wildcard for its label."""
        return host in self._covered or f"*.{host.partition('.')[2]}" in self._covered

    @cached_property
    def _covered(self) -> frozenset[str]:
        return frozenset(name for certificate in self.certificates for name in certificate.covers)

    @property
    def primary(self) -> Domain | None:
        return next((domain for domain in self.domains if domain.kind == "primary" and domain.state != "retired"), None)

    @cached_property
    def named(self) -> dict[HostName, Domain]:
        """Its domains by name, without those that are retired."""
        return {domain.name: domain for domain in self.domains if domain.state != "retired"}

    def declared(self, host: HostName) -> Domain | None:
        """The table of a domain, a retired one too."""
        return self.named.get(host) or self._first_named.get(host)

    @cached_property
    def _first_named(self) -> dict[HostName, Domain]:
        return {domain.name: domain for domain in reversed(self.domains)}

    @cached_property
    def chains(self) -> Chains:
        """Where each domain's chain of `of` ends."""
        return Chains.of(self.domains, self.named.get)

    @cached_property
    def chains_now(self) -> Chains:
        """The same by what is on the account today."""

        def onward(host: HostName) -> Domain | None:
            target = self.declared(host)
            return None if target is None or target.state == "planned" else target

        return Chains.of(self.domains, onward)


class Chains(NamedTuple):
    """What domains stand for in the end, by their numbers.

    `ends` has None for a domain that stands for one that is not there, and for those in `circles`,
    which come to one that they have passed.
    """

    ends: Mapping[int, Domain | None]
    circles: Set[int]

    @classmethod
    def of(cls, domains: Iterable[Domain], named: Callable[[HostName], Domain | None]) -> Chains:
        """Follow each domain of an account to its end; `named` gives the next. Each is passed once."""
        ends: dict[int, Domain | None] = {}
        circles: set[int] = set()
        for domain in domains:
            way: dict[int, None] = {}
            target: Domain | None = domain
            while target is not None and target.of is not None and not (target.number in ends or target.number in way):
                way[target.number] = None
                target = named(target.of)
            if target is not None and (target.number in way or target.number in circles):
                circles.update(way)
                target = None
            end = ends.get(target.number, target) if target is not None else None
            ends.update(dict.fromkeys(way, end))
            if domain.of is None:
                ends[domain.number] = domain
        return cls(ends, circles)


class Plan:
    """Everything a plan folder says, apart from its surveys."""

    def __init__(self, settings: PlanFile, accounts: list[Account], applications: dict[str, Application]):
        self.settings = settings.settings
        self.packages = settings.package
        self.export = settings.export
        self._servers = settings.web_server
        self.accounts = accounts
        self.applications = applications

    @cached_property
    def titles(self) -> dict[str, str]:
        """Every application's name for people, by id."""
        return {known.id: known.shown for known in self.applications.values()}

    def application(self, name: str) -> Application:
        """An application by its id, or its title in any letter case. Raises InputError that names the nearest."""
        if name not in self.applications:
            asked = name.strip().casefold()
            named = [known for known in self.applications.values() if asked in (known.id, known.shown.casefold())]
            if len(named) == 1:
                return named[0]
            near = did_you_mean(name, self.applications)
            raise InputError(f"{quoted(name)} is no application that is known{near}", Remedy(Action.LIST_APPLICATIONS))
        return self.applications[name]

    def server(self, name: str) -> WebServer:
        """What is known of the web server that accounts name so."""
        return server_called(name, self._servers, tuple(self.settings.index_files))

    def account(self, name: str) -> Account | None:
        return next((account for account in self.accounts if account.name == name), None)
