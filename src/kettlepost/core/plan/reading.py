"""Reading a plan folder into records, with every fault of it said at once."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import rtoml

from kettlepost.core.errors import InputError, OutsideError, PlanError, cause
from kettlepost.core.names import Address, Folder, HostName, did_you_mean, printable, quoted
from kettlepost.core.plan.diagnosing import faults
from kettlepost.core.plan.records import (
    Account,
    AccountFile,
    Application,
    CatalogueFile,
    Domain,
    Plan,
    PlanFile,
    VersionMark,
)
from kettlepost.core.plan.source import Key, Place, SourceFile

SETTINGS_FILE = "kettlepost.toml"
LARGEST_FILE = 64 * 1024 * 1024
_NAME = re.compile(r"[a-z0-9][a-z0-9_-]{0,63}")
_PARSERS: dict[type, Callable[[str], Any]] = {kind: kind.parse for kind in (HostName, Folder, Address)}

T = TypeVar("T")


def read_plan(folder: Path) -> Plan:
    """Read `kettlepost.toml` and every `accounts/*.toml` below `folder`.

    Raises PlanError with all faults found, InputError when `folder` holds no plan, and
    OutsideError when a file cannot be read.
    """
    if not (folder / SETTINGS_FILE).is_file():
        raise InputError(
            f"{printable(folder)} is no plan folder: it holds no {SETTINGS_FILE}; "
            "start one with 'kettlepost new FOLDER', or name one with --plan"
        )
    problems: list[str] = []
    settings_source = _read_source(folder / SETTINGS_FILE, SETTINGS_FILE, problems)
    settings = _parse(settings_source, PlanFile, problems) if settings_source else None
    accounts = list(_read_accounts(folder / "accounts", problems))
    if settings and settings_source:
        problems += _setting_faults(settings_source, settings)
        applications = read_catalogue() | {application.id: application for application in settings.application}
        for account in accounts:
            problems += _reference_faults(account, settings, applications)
    if problems or settings is None:
        raise PlanError(problems)
    return Plan(folder, settings, accounts, applications)


def empty_plan() -> Plan:
    """A plan without accounts, for asking of the catalogue alone."""
    return Plan(Path(), PlanFile(), [], read_catalogue())


def read_catalogue() -> dict[str, Application]:
    """The built-in catalogue of applications, by id."""
    found: dict[str, Application] = {}
    for entry in sorted(files("kettlepost").joinpath("catalogue/applications").iterdir(), key=lambda entry: entry.name):
        if entry.name.endswith(".toml") and not entry.name.startswith("_"):
            problems: list[str] = []
            read = _parse(SourceFile(entry.name, entry.read_text("utf-8")), CatalogueFile, problems)
            if read is None:
                raise PlanError(problems)
            found |= {application.id: application for application in read.application}
    return found


def _read_accounts(folder: Path, problems: list[str]) -> Iterator[Account]:
    try:
        paths = sorted(path for path in folder.glob("*.toml") if not path.name.startswith("."))
    except OSError as error:
        raise OutsideError(f"{printable(folder)}: cannot be read ({cause(error)})") from None
    for path in paths:
        source = _read_source(path, f"accounts/{path.name}", problems)
        read = _parse(source, AccountFile, problems) if source else None
        if source and read:
            account = Account(source, read)
            wrong = list(_account_faults(account, path.stem))
            problems += wrong
            if not wrong:
                yield account


def _read_source(path: Path, name: str, problems: list[str]) -> SourceFile | None:
    try:
        with path.open("rb") as file:
            raw = file.read(LARGEST_FILE + 1)
    except OSError as error:
        raise OutsideError(
            f"{printable(path)}: cannot be read ({cause(error)}); give yourself the right to read it"
        ) from None
    if len(raw) > LARGEST_FILE:
        problems.append(f"{printable(name)}: larger than {LARGEST_FILE >> 20} MiB; divide the account's file")
        return None
    try:
        return SourceFile(printable(name), raw.decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        problems.append(f"{printable(name)}:{line}: not UTF-8, which TOML files are; save the file as UTF-8")
        return None


def _parse(source: SourceFile, kind: type[T], problems: list[str]) -> T | None:
    try:
        data = rtoml.loads(source.text)
    except (rtoml.TomlParsingError, ValueError) as error:
        problems.append(_syntax_fault(source, str(error)))
        return None
    try:
        return msgspec.convert(data, kind, dec_hook=_parsed)
    except msgspec.ValidationError as error:
        problems += faults(source, data, kind, _parsed) or [f"{source.name}:1: {error}"]
        return None


def _parsed(kind: type[Any], value: Any) -> Any:
    if type(value) is not str:
        raise TypeError("expected text")
    return _PARSERS[kind](value)


def _syntax_fault(source: SourceFile, message: str) -> str:
    found = re.search(r"line (\d+)", message)
    lines = [line.strip() for line in message.splitlines() if line.strip() and "|" not in line]
    reasons = [line for line in lines if not line.startswith("TOML parse error")] or lines or ["not TOML"]
    return f"{source.name}:{found[1] if found else 1}: not TOML: {'; '.join(map(printable, reasons))}"


def _setting_faults(source: SourceFile, settings: PlanFile) -> Iterator[str]:
    def fault(key: Key, text: str) -> str:
        return f"{Place(source, key)}: {text}"

    if not settings.settings.index_files:
        yield fault(("settings", "index_files"), 'index_files is empty; name at least one file, such as "index.html"')
    for name in settings.settings.index_files:
        if not name or "/" in name:
            yield fault(("settings", "index_files"), f"index_files: {quoted(name)} is no file name")
    seen: dict[str, int] = {}
    for n, application in enumerate(settings.application):
        here = ("application", n)
        if not _NAME.fullmatch(application.id):
            yield fault((*here, "id"), f"id {quoted(application.id)} is to be lower-case letters, digits, '-' and '_'")
        if application.id in seen:
            first = Place(source, ("application", seen[application.id])).line
            yield fault((*here, "id"), f"id {quoted(application.id)} is taken by the entry at line {first}")
        seen.setdefault(application.id, n)
        yield from (fault((*here, key), text) for key, text in _application_faults(application))


def _application_faults(application: Application) -> Iterator[tuple[str, str]]:
    paths = {key: getattr(application, key) for key in ("all_of", "any_of", "none_of", "folders", "leftovers")}
    paths |= {"index_files": application.index_files, "config": [application.config.file] if application.config else []}
    for key, names in paths.items():
        for name in names:
            if not name or name.startswith("/") or ".." in name.split("/"):
                yield key, f"{key}: {quoted(name)} is to be a path below the application's folder"
    if application.version is not None:
        yield from _version_faults(application.version)


def _version_faults(version: VersionMark) -> Iterator[tuple[str, str]]:
    try:
        if re.compile(version.pattern).groups < 1:
            yield "version", f"pattern {quoted(version.pattern)} has no group; put the version's part in (...)"
    except (re.error, OverflowError, RecursionError) as error:
        yield "version", f"pattern {quoted(version.pattern)} is no regular expression: {error}"


def _account_faults(account: Account, stem: str) -> Iterator[str]:
    name = account.name
    place = Place(account.source, ("account", "name"))
    if not _NAME.fullmatch(name):
        yield f"{place}: name {quoted(name)} is to be lower-case letters, digits, '-' and '_', 64 at most"
    elif name != stem:
        right = f"accounts/{name}.toml"
        yield f"{place}: account {quoted(name)} stands in {account.source.name}; rename the file to {right}"
    names = {domain.name: domain for domain in account.domains}
    for domain in account.domains:
        if domain.claims_root and domain.of is None and not domain.path:
            continue  # the usual case, of which there may be a hundred thousand
        for key, text in _domain_faults(domain, names):
            yield f"{Place(account.source, (*account.place(domain).key, key))}: {text}"


def _domain_faults(domain: Domain, names: dict[HostName, Domain]) -> Iterator[tuple[str, str]]:
    stands_for = domain.kind in ("alias", "temporary")
    if domain.path and domain.kind != "temporary":
        yield "path", 'path goes with kind "temporary" only; another domain\'s addresses begin at its host'
    if domain.redirect_to is not None and domain.of is not None:
        yield "of", f"{domain.name} redirects, so it stands for no other domain; remove of or redirect_to"
    if domain.redirect_to is None and domain.kind == "alias" and domain.of is None:
        yield "kind", f'alias {domain.name} lacks "of", the domain it is another name of'
    if domain.redirect_to is None and domain.kind == "temporary" and (domain.of is None) == (domain.root is None):
        yield "kind", f'temporary address {domain.name} is to have either "of", the domain it stands for, or "root"'
    if domain.kind == "alias" and domain.root is not None:
        yield "root", f"alias {domain.name} has the root of the domain it is another name of; remove root"
    if not stands_for and domain.of is not None:
        yield "of", f'"of" goes with kind "alias" or "temporary"; {domain.kind} {domain.name} has a root of its own'
    if not stands_for and domain.root is None and domain.redirect_to is None:
        yield "kind", f'{domain.kind} domain {domain.name} lacks "root", the folder it leads to'
    if domain.of is not None:
        if domain.of not in names:
            yield "of", f"of {quoted(domain.of)} is no domain of this account{did_you_mean(domain.of, names)}"
        elif _ends_nowhere(domain, names):
            yield "of", f"{domain.name} stands for itself in the end; name a domain with a root of its own"


def _ends_nowhere(domain: Domain, names: dict[HostName, Domain]) -> bool:
    seen = set()
    here: Domain | None = domain
    while here is not None and here.of is not None:
        if here.name in seen:
            return True
        seen.add(here.name)
        here = names.get(here.of)
    return False


def _reference_faults(account: Account, settings: PlanFile, applications: dict[str, Application]) -> Iterator[str]:
    package = account.settings.package
    if package is not None and package not in settings.package:
        yield (
            f"{Place(account.source, ('account', 'package'))}: package {quoted(package)} is not in {SETTINGS_FILE}"
            f"{did_you_mean(package, settings.package)}"
        )
    for installation in account.installations:
        if installation.application not in applications:
            key = (*account.place(installation).key, "application")
            yield _unknown_application(Place(account.source, key), installation.application, applications)


def _unknown_application(place: Place, name: str, known: Iterable[str]) -> str:
    return (
        f"{place}: application {quoted(name)} is neither in the catalogue nor in {SETTINGS_FILE}"
        f"{did_you_mean(name, known)}"
    )
