"""Sheets of sites: made, and written into a folder where they changed."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import InvalidName, printable, quoted
from kettlepost.core.plan import Domain, Installation
from kettlepost.core.secrets import masked_address
from kettlepost.core.survey import Source
from kettlepost.core.work.sheet import SiteSheet, sheet_of
from kettlepost.sources import FileAccess, Secrets, Trouble, open_files, open_source
from kettlepost.workspace.files import write_whole
from kettlepost.workspace.history import Event, history
from kettlepost.workspace.installations import installation_at
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.queries import check

_EVENTS = 12


class SheetsWritten(NamedTuple):
    """What writing sheets did: the files that are new or changed, those left as they were, and those that went."""

    changed: list[str]
    same: int
    gone: list[str]


def sheets(
    plan: PlanFolder, asked: str | None = None, client: str | None = None, account: str | None = None
) -> list[SiteSheet]:
    """The sheets of an address, of all at a domain, of a client, or of everything that is not retired.

    Raises InputError where nothing is there.
    """
    found: list[tuple[str, Installation]] = []
    if asked is not None:
        found = _at(plan, asked, account)
    else:
        for name in plan.known_names([account] if account else None):
            layout = plan.layout_of(name)
            found += [(name, one) for one in layout.account.installations if one.state != "retired"]
    told = {name: plan.layout_of(name) for name, _ in found}
    findings = check(plan, list(told)).findings if told else []
    made = [sheet_of(told[name], one, [f for f in findings if f.account == name]) for name, one in found]
    happened: dict[tuple[str, str], list[Event]] = {}
    for event in history(plan):
        if not event.application:
            continue  # a domain's
        happened.setdefault((event.account, event.site.rstrip("/")), []).append(event)
    for page in made:
        own = happened.get((page.account, page.address.rstrip("/")), [])
        page.history = list(map(_words, reversed(own[-_EVENTS:])))
    if client is not None:
        made = [one for one in made if one.client.casefold() == client.casefold()]
        if not made:
            raise InputError(f"nothing is installed for a client {quoted(client)}")
    return made


def _words(event: Event) -> str:
    by = f" by {event.by}" if event.by else ""
    return printable(f"{event.at[:10]}  {event.event}{f' {event.detail}' if event.detail else ''}{by}")


def _at(plan: PlanFolder, asked: str, account: str | None) -> list[tuple[str, Installation]]:
    try:
        layout, installation = installation_at(plan, asked, account)
    except InvalidName as error:
        raise InputError(str(error)) from None
    except InputError as none:
        host = asked.strip().lower().rstrip("/")
        for name in plan.known_names([account] if account else None) if "/" not in host else ():
            layout = plan.layout_of(name)
            if any(isinstance(one, Domain) and one.name == host for one in layout.account.domains):
                there = [one for one in layout.account.installations if one.address.host == host]
                if there:
                    return [(name, one) for one in there]
        raise none from None
    return [(layout.name, installation)]


def write_sheets(pages: Iterable[tuple[str, str]], folder: Path, is_all: bool) -> SheetsWritten:
    """Write pages by name into a folder where they are new or changed; with `is_all` those of sites that are gone go.

    Only files that were written so before are ever replaced or removed. Raises InputError, OutsideError.
    """
    mark = MARK.encode()
    changed: list[str] = []
    same = 0
    names: set[str] = set()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name, text in pages:
            path, raw = folder / name, text.encode("utf-8")
            names.add(name)
            before = path.read_bytes() if path.is_file() else None
            if before == raw:
                same += 1
                continue
            if before is not None and mark not in before[:200]:
                raise InputError(f"{printable(path)} was not written as a sheet: name another folder")
            write_whole(path, raw)
            changed.append(name)
        gone = []
        for path in sorted(folder.glob("*.html")) if is_all else ():
            if path.name not in names and path.is_file() and mark in path.read_bytes()[:200]:
                path.unlink()
                gone.append(path.name)
    except OSError as error:
        raise OutsideError(f"{printable(folder)}: cannot be written ({cause(error)})") from None
    return SheetsWritten(changed, same, gone)


def second_place(plan: PlanFolder) -> str | None:
    """Where the settings want the sheets a second time; None where they do not say."""
    return plan.shared.settings.settings.records_in


def copy_sheets(plan: PlanFolder, pages: Mapping[str, str], secrets: Secrets | None = None) -> SheetsWritten:
    """Write pages into the second place, where they are new or changed, and read each back.

    A page is written beside the old one first and compared, so that at every moment a whole one is there. Raises
    InputError, OutsideError where the place cannot be reached, or gives back something else.
    """
    where = second_place(plan)
    if where is None:
        raise InputError('no second place is set: records_in = "..." under [settings]')
    access = open_files(_place_of(plan, where), secrets)
    if access is None:
        raise InputError(f"{quoted(masked_address(where))} is no folder and no server that files can be written to")
    changed: list[str] = []
    try:
        for name, text in pages.items():
            raw = text.encode("utf-8")
            before = _content(access, name)
            if before == raw:
                continue
            if before is not None and MARK.encode() not in before[:200]:
                raise InputError(f"{printable(access.name)}: {name} was not written as a sheet; name another place")
            _replace(access, name, raw, before is not None)
            changed.append(name)
    except Trouble as trouble:
        raise OutsideError(f"{printable(access.name)}: {trouble}") from None
    finally:
        access.close()
    return SheetsWritten(changed, len(pages) - len(changed), [])


def _place_of(plan: PlanFolder, where: str) -> Source:
    if "://" in where:
        return open_source(where)
    path = Path(where).expanduser()
    return open_source(str(path if path.is_absolute() else plan.path / path))


def _replace(access: FileAccess, name: str, raw: bytes, is_there: bool) -> None:
    beside = f"{name}.part"
    if access.look(beside) is not None:
        access.remove(beside)
    access.write(beside, [raw])
    if _content(access, beside) != raw:
        raise OutsideError(
            f"{printable(access.name)}: {name} came back otherwise than it was written; {beside} is left"
        )
    if is_there:
        access.remove(name)
    access.write(name, [raw])
    if _content(access, name) != raw:
        raise OutsideError(f"{printable(access.name)}: {name} came back otherwise than it was written; see {beside}")
    access.remove(beside)


def _content(access: FileAccess, name: str) -> bytes | None:
    if access.look(name) is None:
        return None
    raw = b""
    for piece in access.read(name):
        raw += piece
        if len(raw) > _LARGEST:
            break
    return raw


_LARGEST = 4 * 1024 * 1024
MARK = "<!-- a sheet of kettlepost -->"


def sheet_file(sheet: SiteSheet, taken: Sequence[str] = ()) -> str:
    """`millbrookrail.example-shop.html`, another one where that is taken."""
    stem = re.sub(r"[^a-z0-9.-]+", "-", sheet.address.rstrip("/").lower().replace("/", "-")).strip("-.") or "site"
    name, n = f"{stem}.html", 2
    while name in taken:
        name, n = f"{stem}-{n}.html", n + 1
    return name
