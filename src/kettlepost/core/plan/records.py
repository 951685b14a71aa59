"""The records of a plan, field for field as its TOML files spell them."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Mapping, Sequence, Set
from functools import cached_property
from typing import Literal, NamedTuple, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from kettlepost.core.errors import InputError
from kettlepost.core.names import Address, Folder, HostName, did_you_mean, quoted
from kettlepost.core.plan.source import Place, SourceFile
from kettlepost.core.remedies import Do, Remedy

DomainKind = Literal["primary", "addon", "subdomain", "alias", "temporary"]
State = Literal["live", "planned", "retired"]
Www = Literal["both", "bare", "www", "apart"]
Prefer = Literal["root", "subfolder", "subdomain", "domain"]
TableName = Literal["domain", "installation", "path_alias", "certificate", "accept"]
INDEX_FILES = ("index.html", "index.htm", "index.php")


class RecordId(NamedTuple):
    """What tells a table of the plan from all others: its account, its kind, how many such stand before it."""

    account: str
    table: str
    number: int


class Settings(Struct, forbid_unknown_fields=True):
    """What holds for every account of the plan; `prefer` is the kind of place that is liked best."""

    index_files: list[str] = field(default_factory=lambda: list(INDEX_FILES))
    prefer: Prefer | None = None


class Package(Struct, forbid_unknown_fields=True):
    """What a hosting package allows; a number that is absent is unlimited."""

    addon_domains: int | None = None
    subdomains: int | None = None
    aliases: int | None = None
    databases: int | None = None
    installations: int | None = None
    root_installations: bool = True
    disk_mb: int | None = None
    files: int | None = None


class VersionMark(Struct, forbid_unknown_fields=True):
    """Where an application writes its version: the first group of `pattern` in `file`."""

    file: str
    pattern: str


class ConfigMark(Struct, forbid_unknown_fields=True):
    """An application's configuration file, and the keys under which it names its database."""

    file: str
    name: str | None = None
    user: str | None = None
    host: str | None = None
    prefix: str | None = None


class Application(Struct, forbid_unknown_fields=True):
    """An application that can be installed, and the public files by which it is known.

    `folders` are its own folders, `segments` the first path segments it answers itself without
    a folder of that name. `default_prefix` is the table prefix its installer offers. `config` is
    absent from an installation that was never set up.
    """

    id: str
    title: str | None = None
    purpose: str | None = None
    all_of: list[str] = field(default_factory=list)
    any_of: list[str] = field(default_factory=list)
    none_of: list[str] = field(default_factory=list)
    version: VersionMark | None = None
    index_files: list[str] = field(default_factory=lambda: ["index.php"])
    folders: list[str] = field(default_factory=list)
    segments: list[str] = field(default_factory=list)
    admin: str | None = None
    config: ConfigMark | None = None
    database: bool = False
    default_prefix: str | None = None
    answers_below: bool = False
    wants_new_folder: bool = False
    leftovers: list[str] = field(default_factory=list)
    front_file: str | None = None

    @property
    def shown(self) -> str:
        return self.title or self.id


class AccountSettings(Struct, forbid_unknown_fields=True):
    """The `[account]` table.

    `addon_also` is the further host name that each add-on domain is given, such as
    `{label}.{primary}`; `reserved_paths` are first path segments that the host answers itself.
    """

    name: str
    home: str | None = None
    client: str | None = None
    package: str | None = None
    database_prefix: str = ""
    database_server: Literal["mysql", "mariadb", "postgresql", "sqlite"] = "mysql"
    survey_from: str | None = None
    addon_also: str | None = None
    reserved_paths: list[str] = field(default_factory=list)


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

    A "planned" one is not on the account yet, a "retired" one is to go or gone. `root_now` is the
    folder it leads to today, while its root is to change. `www` says which of the bare name and
    the one with `www.` answers; the other sends visitors on to it. With "apart", or without the
    key, `name` stands for itself alone. `points_here` is false while name servers lead elsewhere,
    `protected` true where the server asks for a password whatever the folder says.
    """

    name: HostName
    kind: DomainKind
    root: Folder | None = None
    state: State = "live"
    root_now: Folder | None = None
    of: HostName | None = None
    also: list[HostName] = field(default_factory=list)
    path: str = ""
    redirect_to: Address | None = None
    www: Www | None = None
    https: bool = False
    points_here: bool = True
    protected: bool = False

    @property
    def claims_root(self) -> bool:
        """Whether it has a document root in its own right: no alias, temporary address or redirect."""
        return self.root is not None and self.redirect_to is None and self.kind not in ("alias", "temporary")


class Database(Struct, frozen=True, forbid_unknown_fields=True):
    """The database of an installation; `server` is the account's own when it is not named."""

    name: str
    prefix: str = ""
    user: str | None = None
    server: str = ""


class Installation(Table, frozen=True):
    """One application at one address.

    A staging site names in `staging_of` the address it is a rehearsal for; `indexing` is false
    when the application itself keeps search engines out; `licensed_to` is the address that a
    licence is bound to; `version` is the one that was last written down.
    """

    application: str
    address: Address
    state: State = "live"
    folder: Folder | None = None
    database: Database | None = None
    admin_user: str | None = None
    contact: str | None = None
    staging_of: Address | None = None
    indexing: bool = True
    licensed_to: Address | None = None
    version: str | None = None


class PathAlias(Table, frozen=True):
    """An address that the server maps to a folder of its own, whatever the root holds."""

    address: Address
    folder: Folder


class Certificate(Table, frozen=True):
    """A certificate of the account; `*.` covers one label (RFC 6125 section 6.4.3)."""

    covers: list[HostName]


class Accept(Table, frozen=True):
    """A finding that was looked at and is lived with."""

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
    certificate: list[Certificate] = field(default_factory=list)
    accept: list[Accept] = field(default_factory=list)


class PlanFile(Struct, forbid_unknown_fields=True):
    """`kettlepost.toml`."""

    settings: Settings = field(default_factory=Settings)
    package: dict[str, Package] = field(default_factory=dict)
    application: list[Application] = field(default_factory=list)


class CatalogueFile(Struct, forbid_unknown_fields=True):
    """A file of the built-in catalogue of applications."""

    application: list[Application] = field(default_factory=list)


Record = Domain | Installation | PathAlias | Certificate | Accept
TABLES: dict[type[Table], TableName] = {
    Domain: "domain",
    Installation: "installation",
    PathAlias: "path_alias",
    Certificate: "certificate",
    Accept: "accept",
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
        self.certificates = read.certificate
        self.accepts = read.accept

    @classmethod
    def read(cls, source: SourceFile, read: AccountFile) -> Account:
        """An account from the tables a reader has just made, which are told their places."""
        for tables in (read.domain, read.installation, read.path_alias, read.certificate, read.accept):
            _number(tables)
        return cls(source, read)

    def identity(self, record: Record) -> RecordId:
        """What tells a record of this account from all others of the plan."""
        return RecordId(self.name, TABLES[type(record)], record.number)

    def place(self, record: Record, key: str = "") -> Place:
        """Where `record` of this account was written, or the key of it that is named."""
        table = (TABLES[type(record)], record.number)
        return Place(self.source, (*table, key) if key else table)

    def with_more(self, domains: Sequence[Domain] = (), installations: Sequence[Installation] = ()) -> Account:
        """The same account with more tables behind those it has."""
        more = _numbered(domains, len(self.domains)), _numbered(installations, len(self.installations))
        return self.part([*self.domains, *more[0]], [*self.installations, *more[1]])

    def part(self, domains: list[Domain], installations: list[Installation]) -> Account:
        """The same account with only some of its domains and installations, each with its place in the file."""
        read = AccountFile(self.settings, domains, installations)
        read.path_alias, read.certificate, read.accept = self.path_aliases, self.certificates, self.accepts
        return Account(self.source, read)

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
        self.accounts = accounts
        self.applications = applications

    @property
    def titles(self) -> dict[str, str]:
        """Every application's name for people, by id."""
        return {known.id: known.shown for known in self.applications.values()}

    def application(self, name: str) -> Application:
        """An application by its id. Raises InputError that names the nearest."""
        if name not in self.applications:
            near = did_you_mean(name, self.applications)
            raise InputError(f"{quoted(name)} is no application that is known{near}", Remedy(Do.LIST_APPLICATIONS))
        return self.applications[name]

    def account(self, name: str) -> Account | None:
        return next((account for account in self.accounts if account.name == name), None)
