"""Reading in what other programs have: files and folders opened, and what they say entered into the plan."""

from __future__ import annotations

import glob
import importlib.util
import os
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from kettlepost.core.errors import Fault, InputError, OutsideError, PlanError, cause
from kettlepost.core.exchange import (
    KINDS,
    LARGEST,
    ROLES,
    AccountEntry,
    Entry,
    Reading,
    Remark,
    assigned,
    entered,
    kind_of,
    main_file,
    outside_of,
)
from kettlepost.core.names import did_you_mean, printable, quoted
from kettlepost.core.plan import Change, as_value, changed_text, read_account
from kettlepost.core.secrets import masked_address
from kettlepost.core.survey import LARGEST_OUTSIDE, Outside, encode_outside
from kettlepost.core.words import listed
from kettlepost.sources.spreadsheets import read_sheets
from kettlepost.workspace.changes import PreparedChange, edit_account
from kettlepost.workspace.files import read_at_most
from kettlepost.workspace.journal import Edit
from kettlepost.workspace.moments import now
from kettlepost.workspace.plan_folder import PlanFolder, outside_file

STDIN = "-"
_ORDER = ("account", "domain", "installation", "path_alias", "path_rule", "certificate")
_MOST_NAMES = 100_000
"""So many host names are read in at once."""
_MOST = 20_000
"""So many files of one folder are looked at."""


class Import(NamedTuple):
    """What sources bring into a plan, and the change that writes it."""

    entry: Entry
    change: PreparedChange


class DiskOpener:
    """Opens the files that a source includes."""

    def read(self, path: str) -> bytes | None:
        try:
            return read_at_most(path, LARGEST)
        except OSError:
            return None

    def matching(self, pattern: str) -> Sequence[str]:
        if os.path.isdir(pattern):
            pattern = os.path.join(glob.escape(pattern), "*")
        found = sorted(glob.glob(pattern)) if any(sign in pattern for sign in "*?[") else [pattern]
        return [name for name in found if os.path.isfile(name)]

    def sheets(self, raw: bytes, most: int) -> Sequence[tuple[str, list[list[str]]]]:
        return read_sheets(raw, most)


def read_sources(sources: Sequence[str], kind: str | None = None, columns: Mapping[str, str] | None = None) -> Reading:
    """Read files and folders of any kind, as they are; `-` is standard input.

    `columns` are headings of tables by what they hold. Raises InputError for what is of no kind,
    OutsideError for what cannot be read.
    """
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
        for name, raw, said in _files(source):
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
            reading.add(KINDS[found].read(files, DiskOpener(), root, columns))
        else:
            reading.add(_read(found, root, files))
    return reading


def _read(kind: str, root: str, files: list[tuple[str, bytes]]) -> Reading:
    """Files of one kind; where a server's main file includes them, with all that it says before and around them."""
    known, reading = KINDS[kind], Reading()
    names = {os.path.realpath(name): name for name, _ in files}
    main = next((path for name in known.main if os.path.isfile(path := os.path.join(root, name))), None)
    if main is not None and os.path.realpath(main) not in names:
        whole = known.read([(main, DiskOpener().read(main) or b"")], DiskOpener(), root)
        asked = {file for file in whole.files if os.path.realpath(file) in names}
        reading = whole.only(asked).named({file: names[os.path.realpath(file)] for file in asked})
        there = set(map(os.path.realpath, asked))
        files = [(name, raw) for name, raw in files if os.path.realpath(name) not in there]
    if files:
        reading.add(known.read(files, DiskOpener(), root))
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
) -> Import:
    """Work out what sources bring into a plan: new domains and accounts, and what says otherwise.

    Raises InputError and OutsideError as `read_sources` does, PlanError with every fault of the plan.
    """
    reading = read_sources(sources, kind, columns)
    if sum(1 + len(host.names) for host in reading.hosts) > _MOST_NAMES:
        raise InputError(f"more than {_MOST_NAMES:,} host names at once; read them in in parts")
    faults: list[Fault] = []
    accounts = [one for name in plan.names if (one := plan.read_account(name, faults)) is not None]
    if faults:
        raise PlanError(faults)
    _read_certificates(reading)
    shared = plan.shared
    said = shared.settings.settings
    entry = entered(reading, accounts, account, homes, takes_source, prunes, shared.applications, said)
    edits = [_edit(plan, one) for one in entry.accounts]
    written = {edit.file for edit in edits}
    for seen in outside_of(reading, entry.assigned, accounts, now()):
        seen.hosts = [one._replace(source=os.path.abspath(one.source)) for one in seen.hosts]
        kept = plan.outside(seen.account)
        merged = seen.over(kept)
        if not merged.same(kept) and (seen.account in plan.names or f"accounts/{seen.account}.toml" in written):
            file = outside_file(seen.account)
            edits.append(Edit(file, plan.raw(file, LARGEST_OUTSIDE), encode_outside(merged)))
    return Import(entry, PreparedChange(plan, edits))


def seen_in(
    plan: PlanFolder, sources: Sequence[str], account: str | None = None, homes: str | None = None
) -> dict[str, Outside]:
    """What sources say of the accounts of a plan, by account; for a check of the plan against them."""
    reading = read_sources(sources)
    _read_certificates(reading)
    faults: list[Fault] = []
    accounts = [one for name in plan.names if (one := plan.read_account(name, faults)) is not None]
    if faults:
        raise PlanError(faults)
    given = assigned(reading.hosts, accounts, account, homes)
    return {one.account: one for one in outside_of(reading, given.hosts, accounts, now())}


def _read_certificates(reading: Reading) -> None:
    """Read the certificates that hosts name, where they can be opened."""
    opener = DiskOpener()
    files = dict.fromkeys(host.certificate for host in reading.hosts if host.certificate)
    found = [(name, raw) for name in files if (raw := opener.read(name)) is not None]
    closed = sorted(files.keys() - {name for name, _ in found})
    if closed:
        spot = next(host.spot for host in reading.hosts if host.certificate in closed)
        text = f"{listed(closed, 3)} cannot be opened here"
        what = "this certificate covers" if len(closed) == 1 else "these certificates cover"
        means = f"which names {what} is not known until it is read in from where it is"
        reading.remarks.append(Remark(spot, text, means))
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


def _files(source: str) -> list[tuple[str, bytes, str | None]]:
    """The files that a source is, each with its kind where that is told by how it lies there."""
    if source == STDIN:
        return [("standard input", sys.stdin.buffer.read(LARGEST + 1), None)]
    path = Path(source)
    try:
        if not path.is_dir():
            return [(source, read_at_most(path, LARGEST), None)]
        names = sorted(entry.name for entry in os.scandir(path) if entry.is_file() and not entry.name.startswith("."))
        main = main_file(names)
        if main is not None:
            return [(str(path / main[0]), read_at_most(path / main[0], LARGEST), main[1])]
        if len(names) > _MOST:
            raise InputError(f"{printable(source)}: more than {_MOST:,} files; name some of them")
        wanted = [name for name in names if not name.endswith(("~", ".bak", ".dpkg-old", ".dpkg-dist", ".swp"))]
        return [(str(path / name), read_at_most(path / name, LARGEST), None) for name in wanted]
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
