"""Reading in what other programs have: files and folders opened, and what they say entered into the plan."""

from __future__ import annotations

import glob
import importlib.util
import os
import sys
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

import msgspec

from kettlepost.core.errors import Fault, InputError, OutsideError, PlanError, cause
from kettlepost.core.exchange import (
    KINDS,
    LARGEST,
    ROLES,
    AccountEntry,
    ImportLimits,
    ImportRemark,
    PlanEntries,
    Reading,
    SeenHost,
    assigned,
    entered,
    kind_of,
    main_file,
    outside_of,
)
from kettlepost.core.messages import say
from kettlepost.core.names import did_you_mean, printable, quoted
from kettlepost.core.plan import Change, as_value, changed_text, read_account
from kettlepost.core.secrets import masked_address
from kettlepost.core.survey import LARGEST_OUTSIDE, ExternalFacts, encode_outside
from kettlepost.core.webserver import LARGEST_CONFIGURATION, encode_configuration, matches_wildcards
from kettlepost.sources.spreadsheets import read_sheets
from kettlepost.workspace.changes import PreparedChange, edit_account
from kettlepost.workspace.clock import now
from kettlepost.workspace.files import read_at_most
from kettlepost.workspace.journal import Edit
from kettlepost.workspace.plan_folder import PlanFolder, configuration_file, outside_file

STDIN = "-"
_ORDER = ("account", "domain", "installation", "path_alias", "path_rule", "moved", "certificate")
_MOST_NAMES = 100_000
"""How many host names are read in at once."""
_MOST = 20_000
"""How many files of one folder are looked at."""


class Import(NamedTuple):
    """What sources bring into a plan, and the change that writes it."""

    entry: PlanEntries
    change: PreparedChange


class DiskOpener:
    """Opens the files that a source includes; all that is read for one import is counted in its `intake`."""

    def __init__(self, seconds: float | None = None):
        self.intake = ImportLimits(time.monotonic, seconds) if seconds is not None else ImportLimits(time.monotonic)
        self._users: dict[int, tuple[str, str] | None] = {}

    def read(self, path: str) -> bytes | None:
        try:
            raw = read_at_most(path, LARGEST)
        except (OSError, ValueError):
            return None
        self.intake.file(len(raw))
        return raw

    def matching(self, pattern: str) -> Sequence[str]:
        if "\0" in pattern:
            return []
        if os.path.isdir(pattern):
            pattern = os.path.join(glob.escape(pattern), "*")
        found = sorted(self._fitting(pattern)) if any(sign in pattern for sign in "*?[") else [pattern]
        return [name for name in found if os.path.isfile(name)]

    def sheets(self, raw: bytes, most: int) -> Sequence[tuple[str, list[list[str]]]]:
        return read_sheets(raw, most)

    def owner(self, folder: str) -> tuple[str, str] | None:
        """The user whose a folder is on this machine, and that user's home; None for one of the system, or who asks."""
        try:
            number = os.stat(folder).st_uid
        except (OSError, ValueError):
            return None
        if number not in self._users:
            self._users[number] = _user(number)
        return self._users[number]

    def _fitting(self, pattern: str) -> list[str]:
        """What an absolute pattern stands for, folder by folder, as glob(7) has it; each name looked at counts."""
        folders = ["/"] if pattern.startswith("/") else [""]
        for part in filter(None, pattern.split("/")):
            if not any(sign in part for sign in "*?["):
                folders = [os.path.join(folder, part) for folder in folders]
                continue
            found: list[str] = []
            for folder in folders:
                with suppress(OSError), os.scandir(folder or ".") as entries:
                    for entry in entries:
                        self.intake.name()
                        if matches_wildcards(entry.name, part) and (
                            part.startswith(".") or not entry.name.startswith(".")
                        ):
                            found.append(os.path.join(folder, entry.name))
            folders = found
        return folders


_FIRST_USER, _NOBODY = 1_000, 65_534
"""The first number that a person has, and that of nobody, as login.defs(5) and usual systems have them."""


def _user(number: int) -> tuple[str, str] | None:
    if sys.platform == "win32" or number < _FIRST_USER or number == _NOBODY or number == os.geteuid():
        return None
    import pwd

    try:
        known = pwd.getpwuid(number)
    except KeyError:
        return None
    return known.pw_name, known.pw_dir.rstrip("/")


def _see_owners(hosts: Iterable[SeenHost], opener: DiskOpener) -> None:
    """Note whose the folders of hosts are, where they lie on this machine and nothing says who runs the hosts."""
    for host in hosts:
        if host.folder is not None and host.folder.startswith("/") and not (host.user or host.pool or host.account):
            host.file_owner = opener.owner(host.folder)


def read_sources(
    sources: Sequence[str],
    kind: str | None = None,
    columns: Mapping[str, str] | None = None,
    opener: DiskOpener | None = None,
) -> Reading:
    """Read files and folders of any kind, as they are; `-` is standard input.

    `columns` are headings of tables by what they hold; what is read is counted in the intake of `opener`. Raises
    InputError for what is of no kind, OutsideError for what cannot be read.
    """
    opener = opener or DiskOpener()
    if kind is not None and kind not in KINDS:
        raise InputError(f"{quoted(kind)} is no kind{did_you_mean(kind, KINDS)} (kinds: {', '.join(KINDS)})")
    unknown = next((role for role in columns or () if role not in ROLES), None)
    if unknown is not None:
        known = ", ".join(ROLES)
        raise InputError(
            f"--column {unknown}: {quoted(unknown)} is no column{did_you_mean(unknown, ROLES)} (known: {known})"
        )
    grouped: dict[tuple[str, str], list[tuple[str, bytes]]] = {}
    for source in sources:
        for name, raw, said in _files(source, opener.intake):
            found = kind or said or kind_of(raw)
            if found is not None:
                grouped.setdefault((found, _root_of(name, found)), []).append((name, raw))
            elif not os.path.isdir(source):
                raise InputError(f"{printable(name)}: of no kind that is read here ({', '.join(KINDS)}); say --kind")
    if not grouped:
        raise InputError(f"{', '.join(map(printable, sources))}: nothing that can be read in ({', '.join(KINDS)})")
    reading = Reading()
    for (found, root), files in grouped.items():
        if found == "table":
            reading.add(KINDS[found].read(files, opener, root, columns))
        else:
            reading.add(_read(found, root, files, opener))
    return reading


def _read(kind: str, root: str, files: list[tuple[str, bytes]], opener: DiskOpener) -> Reading:
    """Files of one kind; where a server's main file includes them, with all that it says before and around them."""
    known, reading = KINDS[kind], Reading()
    names = {os.path.realpath(name): name for name, _ in files}
    main = next((path for name in known.main if os.path.isfile(path := os.path.join(root, name))), None)
    if main is not None and os.path.realpath(main) not in names:
        whole = known.read([(main, opener.read(main) or b"")], opener, root)
        asked = {file for file in whole.files if os.path.realpath(file) in names}
        reading = whole.only(asked).named({file: names[os.path.realpath(file)] for file in asked})
        there = set(map(os.path.realpath, asked))
        files = [(name, raw) for name, raw in files if os.path.realpath(name) not in there]
    if files:
        reading.add(known.read(files, opener, root))
    return reading


def import_sources(
    plan: PlanFolder,
    sources: Sequence[str],
    kind: str | None = None,
    account: str | None = None,
    homes: str | None = None,
    takes_source: bool = False,
    prunes: bool = False,
    columns: Mapping[str, str] | None = None,
    seconds: float | None = None,
) -> Import:
    """Work out what sources bring into a plan: new domains and accounts, and what says otherwise.

    Reading it may take so many `seconds`. Raises InputError and OutsideError as `read_sources` does, PlanError with
    every fault of the plan.
    """
    opener = DiskOpener(seconds)
    reading = read_sources(sources, kind, columns, opener)
    _see_owners(reading.hosts, opener)
    if sum(1 + len(host.names) for host in reading.hosts) > _MOST_NAMES:
        raise InputError(f"more than {_MOST_NAMES:,} host names at once; read them in in parts")
    faults: list[Fault] = []
    accounts = [one for name in plan.names if (one := plan.read_account(name, faults)) is not None]
    if faults:
        raise PlanError(faults)
    _read_certificates(reading, opener)
    shared = plan.shared
    entry = entered(reading, accounts, account, homes, takes_source, prunes, shared.applications, shared.settings)
    edits = [_edit(plan, one) for one in entry.accounts]
    written = {edit.file for edit in edits}
    again = _read_again(plan, reading, entry)
    told = {one.account: one for one in outside_of(reading, entry.assigned, accounts, now())}
    for name in dict.fromkeys((*told, *(one.name for one in accounts if again))):
        kept, seen = plan.outside(name), told.get(name)
        left = kept.without_hosts_of(again) if kept is not None else None
        if seen is not None:
            seen.hosts = [one._replace(source=os.path.abspath(one.source)) for one in seen.hosts]
        merged = seen.over(left) if seen is not None else left
        has_account = name in plan.names or f"accounts/{name}.toml" in written
        if merged is not None and has_account and not merged.same(kept):
            file = outside_file(name)
            edits.append(Edit(file, plan.raw(file, LARGEST_OUTSIDE), encode_outside(merged)))
    edits += _configurations(plan, reading, entry)
    return Import(entry, PreparedChange(plan, edits))


def _read_again(plan: PlanFolder, reading: Reading, entry: PlanEntries) -> frozenset[str]:
    """The files whose hosts are those of this reading and no others.

    They are those that were read, and of a server that was read as a whole those that it does not have any more.
    """
    files = {os.path.abspath(file) for file in reading.files}
    for one in reading.configurations:
        for server in _servers_called(plan, entry, one.kind) if one.is_whole else ():
            hosts = plan.server_hosts(server)
            before = hosts.configuration.files if hosts is not None else ()
            files.update(set(before) - set(map(os.path.abspath, one.files)))
    return frozenset(files)


def _configurations(plan: PlanFolder, reading: Reading, entry: PlanEntries) -> Iterator[Edit]:
    """What servers' configurations become beside the plan, each under the name that accounts have for the server."""
    for one in reading.configurations:
        files = tuple(os.path.abspath(file) for file in one.files)
        for server in _servers_called(plan, entry, one.kind) if one.lines else ():
            found = msgspec.structs.replace(one, server=server, taken=now(), files=files)
            hosts = plan.server_hosts(server)
            kept = hosts.configuration if hosts is not None else None
            found = found.over(kept)
            if not found.same(kept):
                file = configuration_file(server)
                yield Edit(file, plan.raw(file, LARGEST_CONFIGURATION), encode_configuration(found))


def _servers_called(plan: PlanFolder, entry: PlanEntries, kind: str) -> list[str]:
    """What the accounts whose hosts were read call a server of a kind; its kind where none of them says."""
    settings = [plan.account(owner.name).settings for owner in entry.assigned if owner.name in plan.names]
    told = {one.web_server for one in settings if plan.shared.plan([]).server(one.web_server).kind == kind}
    return sorted(told) or [kind]


def seen_in(
    plan: PlanFolder, sources: Sequence[str], account: str | None = None, homes: str | None = None
) -> dict[str, ExternalFacts]:
    """What sources say of the accounts of a plan, by account; for a check of the plan against them."""
    opener = DiskOpener()
    reading = read_sources(sources, opener=opener)
    _see_owners(reading.hosts, opener)
    _read_certificates(reading, opener)
    faults: list[Fault] = []
    accounts = [one for name in plan.names if (one := plan.read_account(name, faults)) is not None]
    if faults:
        raise PlanError(faults)
    given = assigned(reading.hosts, accounts, account, homes)
    return {one.account: one for one in outside_of(reading, given.hosts, accounts, now())}


def _read_certificates(reading: Reading, opener: DiskOpener) -> None:
    """Read the certificates that hosts name, where they can be opened."""
    files = dict.fromkeys(host.certificate for host in reading.hosts if host.certificate)
    found = [(name, raw) for name in files if (raw := opener.read(name)) is not None]
    closed = sorted(files.keys() - {name for name, _ in found})
    if closed:
        reading.unread = frozenset(closed)
        spot = next(host.spot for host in reading.hosts if host.certificate in closed)
        text = say("import/certificate-closed", closed=closed)
        means = say("import/certificate-closed/means", closed=closed)
        reading.remarks.append(ImportRemark(spot, text, means))
    if found and importlib.util.find_spec("cryptography") is not None:
        reading.add(KINDS["certificate"].read(found, opener, ""))


def _edit(plan: PlanFolder, entry: AccountEntry) -> Edit:
    """What an account's file becomes. Raises PlanError where it would hold what no plan can."""
    owner = entry.owner
    if owner.is_new:
        values = {"name": owner.name, "home": owner.home, "survey_from": _there(owner.home)}
        if entry.server == "nginx":
            values["web_server"] = entry.server
        lines = [f"{key} = {as_value(value)}" for key, value in values.items() if value is not None]
        text = changed_text("[account]\n" + "\n".join(lines) + "\n", _grouped(entry.changes))
        edit = Edit(f"accounts/{owner.name}.toml", None, text.encode())
    else:
        edit = edit_account(plan, owner.name, entry.changes)
    faults: list[Fault] = []
    if read_account(plan.shared, edit.after or b"", f"{owner.name}.toml", faults) is None:
        raise PlanError(faults)
    return edit


def _grouped(changes: Sequence[Change]) -> list[Change]:
    """Changes with tables of one kind together."""
    return sorted(changes, key=lambda change: _ORDER.index(change.table))


def _there(home: str | None) -> str | None:
    """A home that lies on this machine, where a survey can be taken at once."""
    return home if home is not None and os.path.isdir(home) else None


def _files(source: str, intake: ImportLimits) -> Iterator[tuple[str, bytes, str | None]]:
    """The files that a source is, each with its kind where that is told by how it lies there."""
    for name, raw, said in _opened(source):
        intake.file(len(raw))
        yield name, raw, said


def _opened(source: str) -> Iterator[tuple[str, bytes, str | None]]:
    if source == STDIN:
        yield "standard input", sys.stdin.buffer.read(LARGEST + 1), None
        return
    path = Path(source)
    try:
        if not path.is_dir():
            yield source, read_at_most(path, LARGEST), None
            return
        names = sorted(entry.name for entry in os.scandir(path) if entry.is_file() and not entry.name.startswith("."))
        main = main_file(names)
        if main is not None:
            yield str(path / main[0]), read_at_most(path / main[0], LARGEST), main[1]
            return
        if len(names) > _MOST:
            raise InputError(f"{printable(source)}: more than {_MOST:,} files; name some of them")
        wanted = [name for name in names if not name.endswith(("~", ".bak", ".dpkg-old", ".dpkg-dist", ".swp"))]
        for name in wanted:
            yield str(path / name), read_at_most(path / name, LARGEST), None
    except OSError as error:
        raise OutsideError(
            f"{printable(masked_address(str(error.filename or source)))}: cannot be read ({cause(error)})"
        ) from None


def _root_of(name: str, kind: str) -> str:
    """The server's own folder: the nearest above a file that holds its main file, else the file's own."""
    folder = Path(name).absolute().parent
    for above in (folder, *list(folder.parents)[:3]):
        if any((above / main).is_file() for main in KINDS[kind].main):
            return str(above)
    return str(folder)
