"""The records of a plan, field for field as its TOML files spell them."""

from __future__ import annotations

import datetime
from functools import cached_property
from pathlib import Path
from typing import Literal

from msgspec import Struct, field

from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan.source import Place, SourceFile

Kind = Literal["primary", "addon", "subdomain", "alias", "temporary"]
State = Literal["live", "planned", "retired"]
INDEX_FILES = ("index.html", "index.htm", "index.php")


class Settings(Struct, forbid_unknown_fields=True):
    """What holds for every account of the plan."""

    index_files: list[str] = field(default_factory=lambda: list(INDEX_FILES))


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
    a folder of that name. `config` is absent from an installation that was never set up.
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
    answers_below: bool = False
    wants_new_folder: bool = False
    leftovers: list[str] = field(default_factory=list)
    front_file: str | None = None

    @property
    def shown(self) -> str:
        return self.title or self.id


class AccountSettings(Struct, forbid_unknown_fields=True):
    """The `[account]` table."""

    name: str
    home: str | None = None
    client: str | None = None
    package: str | None = None
    database_prefix: str = ""
    survey_from: str | None = None


class Domain(Struct, forbid_unknown_fields=True):
    """A host name of an account and where it leads."""

    name: HostName
    kind: Kind
    root: Folder | None = None
    of: HostName | None = None
    also: list[HostName] = field(default_factory=list)
    path: str = ""
    redirect_to: Address | None = None

    @property
    def claims_root(self) -> bool:
        """Whether it has a document root in its own right: no alias, temporary address or redirect."""
        return self.root is not None and self.redirect_to is None and self.kind not in ("alias", "temporary")


class Database(Struct, forbid_unknown_fields=True):
    name: str
    prefix: str = ""
    user: str | None = None


class Installation(Struct, forbid_unknown_fields=True):
    """One application at one address."""

    application: str
    address: Address
    state: State = "live"
    folder: Folder | None = None
    database: Database | None = None
    admin_user: str | None = None
    contact: str | None = None


class Accept(Struct, forbid_unknown_fields=True):
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
    accept: list[Accept] = field(default_factory=list)


class PlanFile(Struct, forbid_unknown_fields=True):
    """`kettlepost.toml`."""

    settings: Settings = field(default_factory=Settings)
    package: dict[str, Package] = field(default_factory=dict)
    application: list[Application] = field(default_factory=list)


class CatalogueFile(Struct, forbid_unknown_fields=True):
    """A file of the built-in catalogue of applications."""

    application: list[Application] = field(default_factory=list)


class Account:
    """One hosting account of the plan, and the file it was read from."""

    def __init__(self, source: SourceFile, read: AccountFile):
        self.source = source
        self.settings = read.account
        self.name = read.account.name
        self.domains = read.domain
        self.installations = read.installation
        self.accepts = read.accept

    def __getstate__(self) -> dict[str, object]:
        return {key: value for key, value in self.__dict__.items() if key != "_keys"}

    def place(self, record: Domain | Installation | Accept) -> Place:
        """Where `record` of this account was written."""
        return Place(self.source, self._keys[id(record)])

    @cached_property
    def _keys(self) -> dict[int, tuple[str, int]]:
        lists = (("domain", self.domains), ("installation", self.installations), ("accept", self.accepts))
        return {id(record): (table, n) for table, records in lists for n, record in enumerate(records)}


class Plan:
    """Everything a plan folder says, apart from its surveys."""

    def __init__(self, folder: Path, settings: PlanFile, accounts: list[Account], applications: dict[str, Application]):
        self.folder = folder
        self.settings = settings.settings
        self.packages = settings.package
        self.accounts = accounts
        self.applications = applications

    @property
    def titles(self) -> dict[str, str]:
        """Every application's name for people, by id."""
        return {known.id: known.shown for known in self.applications.values()}

    def account(self, name: str) -> Account | None:
        return next((account for account in self.accounts if account.name == name), None)
