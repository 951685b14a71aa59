"""Reading a plan folder into records, with every fault of it said at once."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, TypeVar

import msgspec
import rtoml

from kettlepost.core.errors import Fault, PlanError
from kettlepost.core.names import (
    Address,
    Folder,
    HostName,
    InvalidName,
    Suggestions,
    did_you_mean,
    is_ip,
    printable,
    quoted,
)
from kettlepost.core.plan.applications import ALL_DATA, OTHER_DATA, Application, PublicMarks
from kettlepost.core.plan.records import (
    Account,
    AccountFile,
    CatalogueFile,
    Domain,
    Installation,
    Moved,
    PathAlias,
    PathRule,
    Plan,
    PlanFile,
    Waits,
    server_called,
)
from kettlepost.core.plan.source import SourceFile, SourcePlace
from kettlepost.core.plan.toml_edit import Change, change_document
from kettlepost.core.plan.validation import validate
from kettlepost.core.plan.versions import NoVersions, conditions, is_version
from kettlepost.core.webserver import SERVERS, WebServer

SETTINGS_FILE = "kettlepost.toml"
LARGEST_FILE = 64 * 1024 * 1024
_NAME = re.compile(r"[a-z0-9][a-z0-9_-]{0,63}")
_PARSERS: dict[type, Callable[[str], Any]] = {kind: kind.parse for kind in (HostName, Folder, Address)}

_LONGEST_WAIT = 24 * 365
_FOLDERS = {"domain": ("root", "root_now"), "installation": ("folder", "folder_now"), "path_alias": ("folder",)}
"""The keys that hold a folder, by table."""

T = TypeVar("T")


def changed_account(account: Account, changes: Iterable[Change]) -> tuple[Account, dict[str, Any]] | None:
    """An account once `changes` are carried out, and its document; None when that would be no plan any more.

    Lines are still those of the file as it is.
    """
    document = rtoml.loads(account.source.text)
    change_document(document, changes)
    try:
        read = msgspec.convert(_from_home(document), AccountFile, dec_hook=_parsed)
        changed = Account.read(account.source, read)
    except msgspec.ValidationError:
        return None
    return None if any(_account_faults(changed, account.name)) else (changed, document)


@dataclass
class Shared:
    """What holds for every account of a plan: `kettlepost.toml`, and the catalogue it adds to."""

    source: SourceFile
    settings: PlanFile
    applications: dict[str, Application]

    def plan(self, accounts: list[Account]) -> Plan:
        return Plan(self.settings, accounts, self.applications)


def read_shared(raw: bytes, catalogue: dict[str, Application], faults: list[Fault]) -> Shared:
    """What all accounts share, from what `kettlepost.toml` holds; faults are added to `faults`."""
    source = _source(raw, SETTINGS_FILE, faults)
    settings = (_parse(source, PlanFile, faults) if source else None) or PlanFile()
    source = source or SourceFile(SETTINGS_FILE, "")
    faults += _setting_faults(source, settings)
    return Shared(source, settings, catalogue | {application.id: application for application in settings.application})


def read_account(shared: Shared, raw: bytes, name: str, faults: list[Fault]) -> Account | None:
    """One account from what its file called `name` holds; None when that has faults, which are added to `faults`."""
    source = _source(raw, f"accounts/{name}", faults)
    read = _parse(source, AccountFile, faults) if source else None
    if source is None or read is None:
        return None
    account = Account.read(source, read)
    wrong = list(_account_faults(account, name.removesuffix(".toml")))
    if not wrong:
        wrong = [
            *_reference_faults(account, shared.settings, shared.applications),
            *_fallback_faults(account, server_called(account.settings.web_server, shared.settings.web_server)),
        ]
    faults += wrong
    return None if wrong else account


def read_catalogue(texts: Iterable[tuple[str, str]]) -> dict[str, Application]:
    """A catalogue of applications, by id, from its files' names and texts. Raises PlanError."""
    found: dict[str, Application] = {}
    faults: list[Fault] = []
    for name, text in texts:
        read = _parse(SourceFile(name, text), CatalogueFile, faults)
        if read is None:
            raise PlanError(faults)
        found |= {application.id: application for application in read.application}
    return found


def read_source(raw: bytes, name: str) -> SourceFile:
    """A file of a plan as text. Raises PlanError when it is none."""
    faults: list[Fault] = []
    source = _source(raw, name, faults)
    if source is None:
        raise PlanError(faults)
    return source


def _source(raw: bytes, name: str, faults: list[Fault]) -> SourceFile | None:
    if len(raw) > LARGEST_FILE:
        text = f"larger than {LARGEST_FILE >> 20} MiB; divide the account's file"
        faults.append(Fault(printable(name), 0, (), "too-large", text))
        return None
    try:
        return SourceFile(printable(name), raw.decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        text = "not UTF-8, which TOML files are; save the file as UTF-8"
        faults.append(Fault(printable(name), line, (), "not-utf8", text))
        return None


def _parse(source: SourceFile, kind: type[T], faults: list[Fault]) -> T | None:
    try:
        data = rtoml.loads(source.text)
    except (rtoml.TomlParsingError, ValueError) as error:
        faults.append(_syntax_fault(source, str(error)))
        return None
    if kind is AccountFile:
        data = _from_home(data, source.text)
    try:
        return msgspec.convert(data, kind, dec_hook=_parsed)
    except msgspec.ValidationError as error:
        faults += validate(source, data, kind, _parsed) or [source.fault((), "invalid", str(error))]
        return None


def _from_home(document: dict[str, Any], text: str | None = None) -> dict[str, Any]:
    """An account's file with folders that are written from the machine's root told from the account's home.

    `text` is what was read, if it was: where the home stands in it once, no folder is written from there.
    """
    settings = document.get("account")
    home = settings.get("home") if isinstance(settings, dict) else None
    if not isinstance(home, str) or not home.startswith("/"):
        return document
    if text is not None and text.count(home.rstrip("/")) < 2 and "\\" not in text:  # an escaped letter could hide it
        return document
    document = dict(document)
    for name, keys in _FOLDERS.items():
        tables = document.get(name)
        if isinstance(tables, list):
            document[name] = [_relative(table, keys, home) for table in tables]
    return document


def _relative(table: Any, keys: Iterable[str], home: str) -> Any:
    if not isinstance(table, dict):
        return table
    found = {key: table[key] for key in keys if isinstance(table.get(key), str)}
    below = {key: inside for key, text in found.items() if (inside := below_home(text, home)) is not None}
    return table | below if below else table


def below_home(written: str, home: str | None) -> str | None:
    """A folder written from the machine's root as one below a home; None where it is none."""
    base = (home or "").rstrip("/") + "/"
    if base == "/" or not (written.rstrip("/") + "/").startswith(base):
        return None
    return written[len(base) :].strip("/") or "."


def _parsed(kind: type[Any], value: Any) -> Any:
    if type(value) is not str:
        raise TypeError("expected text")
    return _PARSERS[kind](value)


def _syntax_fault(source: SourceFile, message: str) -> Fault:
    found = re.search(r"line (\d+)", message)
    lines = [line.strip() for line in message.splitlines() if line.strip() and "|" not in line]
    reasons = [line for line in lines if not line.startswith("TOML parse error")] or lines or ["not TOML"]
    return Fault(
        source.name, int(found[1]) if found else 1, (), "not-toml", f"not TOML: {'; '.join(map(printable, reasons))}"
    )


def _setting_faults(source: SourceFile, settings: PlanFile) -> Iterator[Fault]:
    fault = source.fault
    if not settings.settings.index_files:
        yield fault(
            ("settings", "index_files"), "empty", 'index_files is empty; name at least one file, such as "index.html"'
        )
    for name in settings.settings.index_files:
        if not name or "/" in name:
            yield fault(("settings", "index_files"), "invalid-name", f"index_files: {quoted(name)} is no file name")
    for network in settings.settings.proxies:
        try:
            ipaddress.ip_network(network, strict=False)
        except ValueError:
            text = f"proxies: {quoted(network)} is no network; write it such as 203.0.113.0/24"
            yield fault(("settings", "proxies"), "invalid-name", text)
    yield from _asking_faults(source, settings)
    for name in Waits.__struct_fields__:
        hours = getattr(settings.settings.waits, name)
        if len(hours) not in (1, 2) or not all(0 <= one <= _LONGEST_WAIT for one in hours) or hours[-1] < hours[0]:
            text = f"waits: {name} is to be hours at least and at most, such as [1, 48]"
            yield fault(("settings", "waits", name), "invalid-name", text)
    for name, server in settings.web_server.items():
        yield from (
            fault(("web_server", name, key), "contradiction", text) for key, text in _server_faults(name, server)
        )
    yield from _catalogue_faults(source, settings)


def _asking_faults(source: SourceFile, settings: PlanFile) -> Iterator[Fault]:
    """What is wrong with how the world is asked."""
    fault = source.fault
    for address in settings.settings.resolvers:
        if not is_ip(address):
            text = f"resolvers: {quoted(address)} is no IP address; write one such as 192.0.2.53"
            yield fault(("settings", "resolvers"), "invalid-name", text)
    asking = settings.settings.asking
    if not (1 <= asking.at_once <= 64 and 0 <= asking.pause <= 60):
        text = "asking: at_once is to be 1 to 64 requests, and pause 0 to 60 seconds"
        yield fault(("settings", "asking"), "invalid-name", text)
    if not (0.1 <= asking.seconds <= 600 and asking.seconds <= asking.all_seconds <= 7 * 86_400):
        text = "asking: seconds is to be 0.1 to 600, and all_seconds no less than that, and a week at most"
        yield fault(("settings", "asking"), "invalid-name", text)


def _catalogue_faults(source: SourceFile, settings: PlanFile) -> Iterator[Fault]:
    """What is wrong with the user's own applications."""
    fault, seen = source.fault, dict[str, int]()
    for n, application in enumerate(settings.application):
        table = ("application", n)
        if not _NAME.fullmatch(application.id):
            yield fault(
                (*table, "id"),
                "invalid-name",
                f"id {quoted(application.id)} is to be lower-case letters, digits, '-' and '_'",
            )
        if application.id in seen:
            first = SourcePlace(source, ("application", seen[application.id])).line
            yield fault((*table, "id"), "taken", f"id {quoted(application.id)} is taken by the entry at line {first}")
        seen.setdefault(application.id, n)
        yield from (fault((*table, key), code, text) for key, code, text in _application_faults(application))


def _server_faults(name: str, server: WebServer) -> Iterator[tuple[str, str]]:
    """What is wrong with the record of a web server: the key, and why."""
    kind = server_called(name, {name: server}).kind
    if name in SERVERS and kind != name:
        yield "kind", f"web_server.{name} is {name}; give a server of another kind a name of its own"
    if len(server.allow_override) > 1 and {"All", "None"} & set(server.allow_override):
        yield "allow_override", 'allow_override: "All" and "None" stand alone'
    for one in server.php_files:
        if not one.startswith("."):
            yield "php_files", f"php_files: {quoted(one)} is to begin with a point, such as .php"
    for one in server.index_files or ():
        if not one or "/" in one:
            yield "index_files", f"index_files: {quoted(one)} is no file name"
    if both := server.has_not & set(server.modules):
        yield "lacks", f"{sorted(both)[0]} is among the modules that it has, and that it lacks"


def _application_faults(application: Application) -> Iterator[tuple[str, str, str]]:
    paths = {key: getattr(application, key) for key in ("all_of", "parts", "any_of", "none_of", "folders", "leftovers")}
    paths |= {"index_files": application.index_files, "config": [application.config.file] if application.config else []}
    alone = {key: getattr(application, key) for key in ("front_file", "sample", "document_root")}
    paths |= {key: [path] for key, path in alone.items() if path is not None}
    paths |= {"writable": application.writable}
    paths |= {"stops_mail": [application.stops_mail.file] if application.stops_mail else []}
    paths |= {"data": [folder for kind in application.data for folder in kind.folders]}
    for key, names in paths.items():
        for name in names:
            if not name or name.startswith("/") or ".." in name.split("/"):
                yield key, "invalid-name", f"{key}: {quoted(name)} is to be a path below the application's folder"
    marks = {path.rstrip("/"): key for key in ("all_of", "parts", "any_of") for path in getattr(application, key)}
    for path in application.leftovers:
        inside = next((mark for mark in marks if mark == path or mark.startswith(f"{path}/")), None)
        if inside is not None:
            text = f"{quoted(inside)} is to be there, and one of its leftovers, {quoted(path)}, is to be removed"
            yield marks[inside], "contradiction", text
    for kind in application.data:
        if kind.name in (ALL_DATA, OTHER_DATA) or [one.name for one in application.data].count(kind.name) > 1:
            yield "data", "contradiction", f"data: {quoted(kind.name)} is the name of something else already"
    if application.version is not None:
        yield from _pattern_faults("version", application.version.pattern)
    if application.single_file is not None:
        yield from _pattern_faults("single_file", application.single_file, groups=0)
    yield from _mark_faults(application)
    yield from _database_faults(application)


_SHORTEST_MARK = 4


def _mark_faults(application: Application) -> Iterator[tuple[str, str, str]]:
    for name in PublicMarks.__struct_fields__ if application.shows is not None else ():
        for mark in getattr(application.shows, name):
            if len(mark.strip("* ")) < _SHORTEST_MARK:
                text = f"shows: {name} has {quoted(mark)}, which is too short to tell it from others"
                yield "shows", "invalid-name", text


_RIGHTS = frozenset(
    "CREATE TEMPORARY TABLES|LOCK TABLES|REFERENCES|CREATE VIEW|SHOW VIEW|TRIGGER|EVENT|EXECUTE|CREATE ROUTINE"
    "|ALTER ROUTINE|SELECT|INSERT|UPDATE|DELETE|CREATE|ALTER|DROP|INDEX".split("|")
)
"""What can be allowed on one database of MySQL and MariaDB."""


def _database_faults(application: Application) -> Iterator[tuple[str, str, str]]:
    needs = application.needs
    if needs is not None and needs.php is not None:
        try:
            conditions(needs.php)
        except NoVersions:
            text = f'needs: php = {quoted(needs.php)} says no versions; write it such as ">=8.1, <8.4"'
            yield "needs", "invalid-pattern", text
    if needs is not None and needs.collation is not None and not re.fullmatch(r"[a-z0-9_]{1,64}", needs.collation):
        text = f"needs: collation {quoted(needs.collation)} is none; write it such as utf8mb4_unicode_ci"
        yield "needs", "invalid-name", text
    for right in (needs.rights if needs is not None else None) or ():
        if right.upper() not in _RIGHTS:
            near = did_you_mean(right.upper(), sorted(_RIGHTS))
            yield "needs", "invalid-name", f"needs: {quoted(right)} is no right on one database{near}"
    for value in application.prefix_in:
        if not re.fullmatch(r"\w+\.\w+(\s*=\s*[\w-]+(\|[\w-]+)*)?", value):
            text = f'prefix_in: {quoted(value)} is to be "table.column" or "table.column = value|value"'
            yield "prefix_in", "invalid-pattern", text


def _pattern_faults(key: str, pattern: str, groups: int = 1) -> Iterator[tuple[str, str, str]]:
    try:
        if re.compile(pattern).groups < groups:
            text = f"pattern {quoted(pattern)} has no group; put the version's part in (...)"
            yield key, "invalid-pattern", text
    except (re.error, OverflowError, RecursionError) as error:
        yield key, "invalid-pattern", f"pattern {quoted(pattern)} is no regular expression: {error}"


def _account_faults(account: Account, stem: str) -> Iterator[Fault]:
    name = account.name
    place = SourcePlace(account.source, ("account", "name"))
    if not _NAME.fullmatch(name):
        yield place.fault(
            "invalid-name", f"name {quoted(name)} is to be lower-case letters, digits, '-' and '_', 64 at most"
        )
    elif name != stem:
        right = f"accounts/{name}.toml"
        text = f"account {quoted(name)} stands in {account.source.name}; rename the file to {right}"
        yield place.fault("wrong-file", text)
    if account.settings.php is not None and not is_version(account.settings.php):
        place = SourcePlace(account.source, ("account", "php"))
        yield place.fault("invalid-name", _no_version(account.settings.php))
    for domain in account.domains:
        if domain.php is not None and not is_version(domain.php):
            yield account.place(domain, "php").fault("invalid-name", _no_version(domain.php))
        if domain.claims_root and domain.of is None and not domain.path and domain.www is domain.root_now is None:
            continue  # the usual case, of which there may be a hundred thousand
        for key, text in _missing(domain):
            yield account.place(domain, key).fault("missing-key", text)
        for key, text in _contradictions(domain, domain.number in account.chains.circles):
            yield account.place(domain, key).fault("contradiction", text)
    yield from _host_faults(account)


def _no_version(written: str) -> str:
    return f'php = {quoted(written)} is no version; write it such as "8.2"'


def _host_faults(account: Account) -> Iterator[Fault]:
    template = account.settings.addon_also
    if template is not None:
        place = SourcePlace(account.source, ("account", "addon_also"))
        left = template.replace("{label}", "x").replace("{primary}", "example.org").replace("{name}", "example.net")
        try:
            HostName.parse(left)
        except InvalidName as error:
            yield place.fault("invalid-name", f'addon_also: {error}; write it such as "{{label}}.{{primary}}"')
        if template == left:
            text = 'addon_also names one host for all add-on domains; write it such as "{label}.{primary}"'
            yield place.fault("invalid", text)
    mapped: list[PathAlias | PathRule] = [*account.path_aliases, *account.path_rules]
    named: list[tuple[PathAlias | PathRule | Moved, str, HostName]]
    named = [*((table, "address", table.address.host) for table in mapped)]
    named += [(table, "from", table.old.host) for table in account.moved]
    if named:
        hosts = {host for domain in account.domains for host in (domain.name, *domain.also)}
        suggestions = Suggestions(hosts)
        for table, key, host in named:
            if host not in hosts:
                near = suggestions.did_you_mean(host)
                yield account.place(table, key).fault("unknown-domain", f"{host} is no domain of this account{near}")
    for moved in account.moved:
        if "*" in moved.old.host:
            text = f"{moved.old.host} stands for many names; write the one that the old address has"
            yield account.place(moved, "from").fault("contradiction", text)
        if moved.old == moved.to:
            text = f'{moved.old} leads to itself; write in "to" where its visitors find the same now'
            yield account.place(moved, "to").fault("contradiction", text)


def _fallback_faults(account: Account, server: WebServer) -> Iterator[Fault]:
    """What is wrong with rules of the server's own, and with what it shows for what is not there."""
    for rule in account.path_rules:
        for text in _rule_faults(rule, server):
            yield account.place(rule, "to" if rule.to else "does").fault("contradiction", text)
    for domain in account.domains:
        if domain.fallback is not None and (text := _no_fallback(domain.fallback, server)):
            yield account.place(domain, "fallback").fault("contradiction", text)


def _rule_faults(rule: PathRule, server: WebServer) -> Iterator[str]:
    if rule.does in ("password", "denied") and rule.to:
        yield '"to" goes with does "redirect" or "fallback" only; take it out'
    elif rule.does == "redirect":
        try:
            Address.parse(rule.to)
        except InvalidName as error:
            yield f'a redirect wants "to", the address that visitors are sent on to: {error}'
    elif rule.does == "fallback" and (text := _no_fallback(rule.to, server)):
        yield text


def _no_fallback(path: str, server: WebServer) -> str:
    """Why a path cannot be what is shown for what is not there; empty where it can."""
    if server.kind == "apache":
        return 'on "apache" control files say what is shown for what is not there; fallback is for other web servers'
    if not path.startswith("/") or "?" in path.split("/")[0]:
        return f"fallback {quoted(path)} is to be a path from the host's root, such as /index.php"
    return ""


def _missing(domain: Domain) -> Iterator[tuple[str, str]]:
    if domain.redirect_to is not None or domain.passed_to is not None:
        return
    if domain.kind == "alias" and domain.of is None:
        yield "kind", f'alias {domain.name} lacks "of", the domain it is another name of'
    if domain.kind not in ("alias", "temporary") and domain.root is None:
        yield "kind", f'{domain.kind} domain {domain.name} lacks "root", the folder it leads to'


def _of_programs(domain: Domain) -> Iterator[tuple[str, str]]:
    others = [key for key in ("root", "of", "redirect_to") if getattr(domain, key) is not None]
    if domain.passed_to is not None and others:
        yield "passed_to", f"a program answers at {domain.name}, so it has no {others[0]}; remove one of the two"


def _contradictions(domain: Domain, in_circle: bool) -> Iterator[tuple[str, str]]:
    stands_for = domain.kind in ("alias", "temporary")
    if domain.www not in (None, "apart") and (domain.path or domain.name.startswith("*.")):
        yield "www", f"www goes with a host name alone; {domain.name} has {'a path' if domain.path else 'a wildcard'}"
    if domain.path and domain.kind != "temporary":
        yield "path", 'path goes with kind "temporary" only; another domain\'s addresses begin at its host'
    if domain.redirect_to is not None and domain.of is not None:
        yield "of", f"{domain.name} redirects, so it stands for no other domain; remove of or redirect_to"
    yield from _of_programs(domain)
    leads = domain.redirect_to is not None or domain.passed_to is not None
    if not leads and domain.kind == "temporary" and (domain.of is None) == (domain.root is None):
        yield "kind", f'temporary address {domain.name} is to have either "of", the domain it stands for, or "root"'
    if domain.kind == "alias" and domain.root is not None:
        yield "root", f"alias {domain.name} has the root of the domain it is another name of; remove root"
    if not stands_for and domain.of is not None:
        yield "of", f'"of" goes with kind "alias" or "temporary"; {domain.kind} {domain.name} has a root of its own'
    if domain.root_now is not None and (not domain.claims_root or domain.state != "live"):
        yield "root_now", f"root_now goes with a live domain that has a root; {domain.name} is none"
    elif domain.root_now is not None and domain.root_now == domain.root:
        yield "root_now", f"{domain.name} leads to {domain.root_now.shown} already; take root_now out"
    yield from _between_accounts(domain)
    if in_circle:
        yield "of", f"{domain.name} stands for itself in the end; name a domain with a root of its own"


def _between_accounts(domain: Domain) -> Iterator[tuple[str, str]]:
    key = "account_now" if domain.account_now is not None else "account_next"
    if domain.account_now is not None and domain.state != "planned":
        yield (
            key,
            f'what comes from another account is planned; {domain.name} is {domain.state}: write state = "planned"',
        )
    if domain.account_next is not None and domain.state != "live":
        yield key, f"what goes to another account is live; {domain.name} is {domain.state}: take account_next out"
    if (domain.account_now or domain.account_next) is not None and domain.kind == "temporary":
        yield key, f"a temporary address stays with its account; take {key} out"


def _no_move(installation: Installation) -> str:
    """Why an installation cannot be one that moves; empty where it can."""
    if installation.state != "live":
        return f"what moves is live; {installation.address} is {installation.state}"
    if installation.address_now == installation.address:
        return f"it answers at {installation.address} already; take address_now out"
    now = installation.folder_now
    if now is not None and installation.address_now is None and now == installation.folder:
        return f"it lies in {now.shown} already; take folder_now out"
    return ""


def _not_live(installation: Installation) -> str:
    """Why an installation cannot be one that takes the place of what it rehearses; empty where it can."""
    if not installation.goes_live:
        return f"live_keeps goes with goes_live; {installation.address} stays what it is"
    if installation.staging_of is None:
        return f"goes_live goes with staging_of; {installation.address} rehearses nothing"
    if installation.state != "live" or installation.is_moving:
        return f"what takes the place of what it rehearses is live, and not on its way; {installation.address} is not"
    return ""


def _unknown_kinds(installation: Installation, known: Application | None) -> Iterator[str]:
    """What is wrong with the kinds of data that what is rehearsed keeps."""
    if known is None:
        return  # which is a fault itself
    kinds = [ALL_DATA, OTHER_DATA, *(one.name for one in known.data)]
    for one in installation.live_keeps:
        if one not in kinds:
            yield f"live_keeps: {quoted(one)} is no kind of data of {known.shown}{did_you_mean(one, kinds)}"


def _reference_faults(account: Account, settings: PlanFile, applications: dict[str, Application]) -> Iterator[Fault]:
    package = account.settings.package
    if package is not None and package not in settings.package:
        near = did_you_mean(package, settings.package)
        text = f"package {quoted(package)} is not in {SETTINGS_FILE}{near}"
        yield account.source.fault(("account", "package"), "unknown-package", text)
    server = account.settings.web_server
    if server not in SERVERS and server not in settings.web_server:
        near = did_you_mean(server, [*SERVERS, *settings.web_server])
        text = f"web_server {quoted(server)} is neither apache, nginx nor other, nor under [web_server.NAME] in "
        text += SETTINGS_FILE
        yield account.source.fault(("account", "web_server"), "unknown-server", text + near)
    for domain in account.domains:
        if account.name in (domain.account_now, domain.account_next):
            key = "account_now" if domain.account_now is not None else "account_next"
            text = f"{domain.name} is in {account.name} itself; name the other account, or take {key} out"
            yield account.place(domain, key).fault("contradiction", text)
    for installation in account.installations:
        if installation.is_moving and (text := _no_move(installation)):
            key = "address_now" if installation.address_now is not None else "folder_now"
            yield account.place(installation, key).fault("contradiction", text)
        if (installation.goes_live or installation.live_keeps) and (text := _not_live(installation)):
            key = "goes_live" if installation.goes_live else "live_keeps"
            yield account.place(installation, key).fault("contradiction", text)
        for text in _unknown_kinds(installation, applications.get(installation.application)):
            yield account.place(installation, "live_keeps").fault("not-a-choice", text)
    unknown = [one for one in account.installations if one.application not in applications]
    suggestions = Suggestions(applications if unknown else ())
    for installation in unknown:
        name = installation.application
        near = suggestions.did_you_mean(name)
        text = f"application {quoted(name)} is neither in the catalogue nor in {SETTINGS_FILE}{near}"
        yield account.place(installation, "application").fault("unknown-application", text)
