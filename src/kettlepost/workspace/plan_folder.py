"""The plan folder as it lies on disk: one consistent snapshot, in which each file is opened at most once."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path

from kettlepost.core.errors import Fault, InputError, OutsideError, PlanError, cause
from kettlepost.core.layout import AccountLayout, PlanLayout, ServerHosts, declared_hosts
from kettlepost.core.names import did_you_mean, printable, quoted
from kettlepost.core.nginx import NginxServers
from kettlepost.core.plan import (
    LARGEST_FILE,
    SETTINGS_FILE,
    Account,
    Plan,
    Shared,
    SourceFile,
    read_account,
    read_shared,
    read_source,
)
from kettlepost.core.remedies import Action, Remedy, surveying
from kettlepost.core.survey import (
    LARGEST_DATABASES,
    LARGEST_NAMES,
    LARGEST_OUTSIDE,
    LARGEST_PROBE,
    LARGEST_SURVEY,
    ExternalFacts,
    FileNames,
    SeenDatabases,
    SeenWorld,
    Survey,
    decode_databases,
    decode_outside,
    decode_survey,
    decode_world,
)
from kettlepost.core.webserver import LARGEST_CONFIGURATION, ApacheHosts, decode_configuration
from kettlepost.workspace import catalogue
from kettlepost.workspace.files import OWN_FOLDER, read_at_most
from kettlepost.workspace.host_register import HostRegister

Stamp = tuple[int, int, int, int]
"""What a file system says of a file without opening it: times of its change in nanoseconds, size, number."""
_FEW_HAVE = (".names", ".outside.json", ".databases.json", ".probe.json")
ABSENT: Stamp = (0, 0, 0, 0)


WORK_FILE = "work.toml"
HISTORY_FILE = "history.jsonl"


class PlanFolder:
    """One plan folder at one moment: settings, accounts and surveys, each read when it is first asked for.

    What was read stays as it was; ask a new one once something has changed. `troubles` says of
    surveys that could not be read why not: such an account counts as not surveyed.
    """

    def __init__(self, folder: str | os.PathLike[str]):
        self.path = Path(folder)
        self.troubles: dict[str, str] = {}
        self.is_locked = False
        self._seen: dict[str, Stamp] = {}
        self._raw: dict[str, bytes | None] = {}
        self._accounts: dict[str, Account | None] = {}
        self._surveys: dict[str, Survey | None] = {}
        self._layouts: dict[str, AccountLayout] = {}
        self._faults: dict[str, list[Fault]] = {}
        self._server_hosts: dict[str, ServerHosts | None] = {}
        self._server_troubles: dict[str, str] = {}
        self.against: Mapping[str, ExternalFacts] | None = None
        """What is taken for seen of the accounts instead of what is kept; for one question, before anything is read."""

    def stamp(self, file: str) -> Stamp:
        """What the file system says of a file of the plan, without opening it."""
        if file not in self._seen:
            self._seen[file] = self._stamp(file)
        return self._seen[file]

    def read_again(self) -> None:
        """Forget what was read, once it was changed by whoever holds this plan folder locked."""
        path, is_locked = self.path, self.is_locked
        self.__dict__.clear()
        self.__init__(path)  # type: ignore[misc]
        self.is_locked = is_locked

    def is_current(self) -> bool:
        """Whether nothing of what was looked at has changed on disk since."""
        there = PlanFolder(self.path)
        return there.names == self.names and all(there._stamp(file) == stamp for file, stamp in self._seen.items())

    @cached_property
    def _beside(self) -> frozenset[str]:
        """The names in `surveys`, so that what few accounts have is not looked for one by one."""
        try:
            return frozenset(os.listdir(f"{self._base}/surveys"))
        except OSError:
            return frozenset()

    def _stamp(self, file: str) -> Stamp:
        if file.endswith(_FEW_HAVE) and file.rpartition("/")[2] not in self._beside:
            return ABSENT
        try:
            known = os.stat(f"{self._base}/{file}")
        except OSError:
            return ABSENT
        return known.st_mtime_ns, known.st_ctime_ns, known.st_size, known.st_ino

    def raw(self, file: str, most: int = LARGEST_FILE) -> bytes | None:
        """What a file of the plan holds, and a little more than `most` at the most; None when it is not there.

        Raises OutsideError when it cannot be read.
        """
        if file not in self._raw:
            self.stamp(file)
            try:
                self._raw[file] = read_at_most(f"{self._base}/{file}", most)
            except (FileNotFoundError, NotADirectoryError):
                self._raw[file] = None
            except OSError as error:
                place = printable(self.path / file)
                raise OutsideError(
                    f"{place}: cannot be read ({cause(error)}); give yourself the right to read it"
                ) from None
        return self._raw[file]

    def read_of(self, files: Iterable[str]) -> dict[str, bytes | None]:
        """What was read of some files, for another process of the same command to `take`."""
        return {file: self._raw[file] for file in files if file in self._raw}

    def take(self, files: Mapping[str, bytes | None]) -> None:
        """What another process of the same command has read."""
        self._raw.update(files)

    @property
    def shared(self) -> Shared:
        """What holds for all accounts. Raises PlanError with every fault of the settings."""
        shared, faults = self._shared
        if faults:
            raise PlanError(faults)
        return shared

    def read_shared(self, faults: list[Fault]) -> Shared:
        """What holds for all accounts; faults are added to `faults`.

        Raises InputError when this is no plan folder, OutsideError when the file cannot be read.
        """
        shared, found = self._shared
        faults += found
        return shared

    @cached_property
    def _shared(self) -> tuple[Shared, list[Fault]]:
        raw, faults = self.raw(SETTINGS_FILE), list[Fault]()
        if raw is None:
            raise InputError(
                f"{printable(self.path)} is no plan folder: it holds no {SETTINGS_FILE}", Remedy(Action.START_PLAN)
            )
        return read_shared(raw, catalogue.applications(), faults), faults

    @cached_property
    def names(self) -> list[str]:
        """The names of the accounts, sorted as their files are. Raises OutsideError."""
        try:
            with os.scandir(f"{self._base}/accounts") as entries:
                found = [entry.name for entry in entries if entry.name.endswith(".toml") and entry.name[0] != "."]
        except FileNotFoundError:
            return []
        except OSError as error:
            raise OutsideError(f"{printable(self.path / 'accounts')}: cannot be read ({cause(error)})") from None
        return [name.removesuffix(".toml") for name in sorted(found)]

    def known_names(self, names: tuple[str, ...] | list[str] | None) -> list[str]:
        """`names`, each an account of the plan; all accounts when none is named. Raises InputError."""
        for name in names or ():
            if name not in self._known:
                raise InputError(
                    f"{quoted(name)} is no account of {printable(self.path)}{did_you_mean(name, self.names)} "
                    f"(accounts are the files in {printable(self.path / 'accounts')})"
                )
        return list(names) if names else self.names

    @cached_property
    def _known(self) -> frozenset[str]:
        return frozenset(self.names)

    @cached_property
    def _base(self) -> str:
        return os.fspath(self.path)

    def surveying(self, name: str) -> Remedy:
        """Looking at an account's folders, at the place that the plan names for it."""
        return surveying(name, self.account(name).settings.survey_from)

    def account(self, name: str) -> Account:
        """One account as its file has it. Raises PlanError with every fault of it."""
        faults: list[Fault] = []
        account = self.read_account(name, faults)
        if account is None:
            raise PlanError(faults)
        return account

    def read_account(self, name: str, faults: list[Fault]) -> Account | None:
        """One account; None when its file has faults, which are added to `faults`."""
        if name not in self._accounts:
            found = self._faults[name] = list[Fault]()
            raw = self.raw(f"accounts/{name}.toml")
            self._accounts[name] = read_account(self._shared[0], raw or b"", f"{name}.toml", found)
        faults += self._faults[name]
        return self._accounts[name]

    def passing_layout(self, name: str, faults: list[Fault]) -> AccountLayout | None:
        """One account with its survey, neither of which is kept in mind here: for a look at very many.

        None when the account's file has faults, which are added to `faults`.
        """
        if name in self._layouts:
            return self._layouts[name]
        account = read_account(self._shared[0], self.raw(f"accounts/{name}.toml") or b"", f"{name}.toml", faults)
        if account is None:
            return None
        survey = None
        try:
            survey = self.read_survey(name)
        except (InputError, OutsideError) as error:
            self.troubles[name] = f"{error}: {_NOT_SURVEYED}"
        beside = (
            lambda: self.file_names(name), lambda: self.outside(name), lambda: self.databases(name),
            lambda: self.server_hosts(account.settings.web_server, name), lambda: self.world(name),
        )  # fmt: skip
        return AccountLayout(self._shared[0].plan([account]), account, survey, *beside)

    def survey(self, name: str) -> Survey | None:
        """The stored survey of an account; None when there is none, and when it cannot be read (see `troubles`)."""
        if name not in self._surveys:
            try:
                self._surveys[name] = self.read_survey(name)
            except (InputError, OutsideError) as error:
                self._surveys[name] = None
                self.troubles[name] = f"{error}: {_NOT_SURVEYED}"
        return self._surveys[name]

    def read_survey(self, name: str, before: bool = False) -> Survey | None:
        """The stored survey of an account, or the one before it; None when there is none.

        Raises InputError when the file is no survey of that account, OutsideError when it cannot
        be read.
        """
        file = survey_file(name, before)
        raw = self.raw(file, LARGEST_SURVEY)
        return decode_survey(raw, f"{self._base}/{file}", name) if raw is not None else None

    def file_names(self, name: str) -> FileNames | None:
        """The names of all files of an account, as they were kept; None where there are none that can be read.

        What is damaged, or was not kept with the survey that is there, is told in `troubles`.
        """
        file = names_file(name)
        try:
            raw = self.raw(file, LARGEST_NAMES)
            if raw is None:
                return None
            names, survey = FileNames(raw), self.survey(name)
            if survey is not None and survey.names and survey.names != names.digest:
                raise InputError("not the names that were kept with this survey")
            return names
        except (InputError, OutsideError) as error:
            told = f"{self.path / file}: {error}: counted as not kept, until the account is surveyed again"
            self.troubles.setdefault(name, told)
            return None

    def outside(self, name: str) -> ExternalFacts | None:
        """What was seen of an account outside of its folders; None where nothing was, or it cannot be read."""
        if self.against is not None:
            return self.against.get(name)
        file = outside_file(name)
        try:
            raw = self.raw(file, LARGEST_OUTSIDE) if self.stamp(file) != ABSENT else None
            return decode_outside(raw, str(self.path / file), name) if raw is not None else None
        except (InputError, OutsideError) as error:
            self.troubles.setdefault(name, f"{error}: counted as not seen")
            return None

    @cached_property
    def servers_stamp(self) -> tuple[int, ...]:
        """What the file system says of the configurations of servers, without opening them."""
        try:
            names = sorted(os.listdir(f"{self._base}/servers"))
        except OSError:
            return ()
        return tuple(number for name in names for number in self.stamp(f"servers/{name}"))

    def server_hosts(self, server: str, account: str = "") -> ServerHosts | None:
        """The hosts of a web server by its configuration; None where that was not read in, or cannot be read.

        What cannot be read is told in `troubles`, as one of the account that asks.
        """
        if server not in self._server_hosts:
            file = configuration_file(server)
            found = None
            try:
                raw = self.raw(file, LARGEST_CONFIGURATION) if self.stamp(file) != ABSENT else None
                if raw is not None:
                    kept = decode_configuration(raw, str(self.path / file), server)
                    found = ApacheHosts(kept) if kept.kind == "apache" else NginxServers(kept)
            except (InputError, OutsideError) as error:
                self._server_troubles[server] = f"{error}: counted as not seen"
            self._server_hosts[server] = found
        if server in self._server_troubles:
            self.troubles.setdefault(account or f"server {server}", self._server_troubles[server])
        return self._server_hosts[server]

    def world(self, name: str) -> SeenWorld | None:
        """What was seen of an account in the world; None where nothing was, or it cannot be read (see `troubles`)."""
        file = probe_file(name)
        try:
            raw = self.raw(file, LARGEST_PROBE) if self.stamp(file) != ABSENT else None
            return decode_world(raw, str(self.path / file), name) if raw is not None else None
        except (InputError, OutsideError) as error:
            self.troubles.setdefault(name, f"{error}: counted as not seen")
            return None

    def databases(self, name: str) -> SeenDatabases | None:
        """What was seen of an account's databases; None where nothing was, or it cannot be read (see `troubles`)."""
        file = databases_file(name)
        try:
            raw = self.raw(file, LARGEST_DATABASES) if self.stamp(file) != ABSENT else None
            return decode_databases(raw, str(self.path / file), name) if raw is not None else None
        except (InputError, OutsideError) as error:
            self.troubles.setdefault(name, f"{error}: counted as not seen")
            return None

    def layout_of(self, name: str) -> AccountLayout:
        """One account with its survey, which is read when something depends on it. Raises PlanError."""
        if name not in self._layouts:
            account = self.account(name)
            plan = self._shared[0].plan([account])
            seen = (
                lambda: self.survey(name),
                lambda: self.file_names(name),
                lambda: self.outside(name),
                lambda: self.databases(name),
                lambda: self.server_hosts(account.settings.web_server, name),
                lambda: self.world(name),
            )
            self._layouts[name] = AccountLayout(plan, account, *seen)
        return self._layouts[name]

    @cached_property
    def layout(self) -> PlanLayout:
        """The whole plan, of which an account is read when something depends on it.

        Which accounts have a host name is taken from what is remembered, where that is fresh.
        """
        register = HostRegister.recall(self.path, self.shared.source.text)
        declared: dict[str, list[str]] = {}
        faults: list[Fault] = []
        for name in self.names:
            stamp = self.stamp(f"accounts/{name}.toml")
            hosts = register.fresh(name, stamp)
            if hosts is None and self.read_account(name, faults) is not None:
                hosts = register.note(name, stamp, self.layout_of(name).account)
            for host in hosts or ():
                declared.setdefault(host, []).append(name)
        if faults:
            raise PlanError(faults)
        register.store(self.path, self._known)
        return PlanLayout(self.shared.plan([]), _Layouts(self), declared)

    def layout_for(self, accounts: Sequence[str] | None) -> PlanLayout:
        """The plan for a question about some accounts, all where none is named: of the others as little as may be.

        Which account has a host name is looked up only when an address leads beyond those accounts.
        """
        if not accounts:
            self.plan()
            return self.layout
        return PlanLayout(self.shared.plan([]), _Layouts(self), _Declared(self, self.known_names(list(accounts))))

    def source(self, file: str) -> SourceFile:
        """The text of an account's file, by its name below the plan folder. Raises PlanError, OutsideError."""
        name = file.removeprefix("accounts/").removesuffix(".toml")
        account = self._accounts.get(name)
        return account.source if account is not None else read_source(self.raw(file) or b"", file)

    def plan(self) -> Plan:
        """The plan with all its accounts. Raises PlanError with every fault of it."""
        faults: list[Fault] = []
        shared = self.read_shared(faults)
        accounts = [account for name in self.names if (account := self.read_account(name, faults)) is not None]
        if faults:
            raise PlanError(faults)
        return shared.plan(accounts)


class _Layouts(Mapping[str, AccountLayout]):
    """The accounts of a plan folder, each made when it is asked for."""

    def __init__(self, folder: PlanFolder):
        self._folder = folder

    def __getitem__(self, name: str) -> AccountLayout:
        if name not in self._folder.names:
            raise KeyError(name)
        return self._folder.layout_of(name)

    def __iter__(self) -> Iterator[str]:
        return iter(self._folder.names)

    def __len__(self) -> int:
        return len(self._folder.names)


class _Declared(Mapping[str, Sequence[str]]):
    """Which accounts declare each host name: looked up in some accounts first, and in all only where those lack it."""

    def __init__(self, folder: PlanFolder, names: Sequence[str]):
        self._folder = folder
        self._near = declared_hosts(folder.layout_of(name) for name in folder.names if name in names)

    @cached_property
    def _all(self) -> Mapping[str, Sequence[str]]:
        return self._folder.layout.hosts

    def __getitem__(self, host: str) -> Sequence[str]:
        return self._near[host] if host in self._near else self._all[host]

    def __iter__(self) -> Iterator[str]:
        return iter(self._all)

    def __len__(self) -> int:
        return len(self._all)


def names_file_before(name: str) -> str:
    """The file of what its files were called at the survey before the last, below the plan folder."""
    return f"{OWN_FOLDER}/before/{name}.names"


def survey_file(name: str, before: bool = False) -> str:
    """The file of an account's survey, or of the one before it, below the plan folder."""
    return f"surveys/{name}.before.json" if before else f"surveys/{name}.json"


def outside_file(name: str) -> str:
    """The file of what was seen of an account outside of its folders."""
    return f"surveys/{name}.outside.json"


def configuration_file(server: str) -> str:
    """The file of what a web server's configuration says."""
    return f"servers/{server}.json"


def databases_file(name: str) -> str:
    """The file of what was seen of an account's databases."""
    return f"surveys/{name}.databases.json"


def probe_file(name: str) -> str:
    """The file of what was seen of an account in the world."""
    return f"surveys/{name}.probe.json"


_NOT_SURVEYED = "counted as not surveyed"


def names_file(name: str) -> str:
    """The file with the names of all files of an account, below the plan folder."""
    return f"surveys/{name}.names"


def read_plan(folder: str | os.PathLike[str]) -> Plan:
    """The plan in a folder, with all its accounts. Raises PlanError with every fault of it."""
    return PlanFolder(folder).plan()
