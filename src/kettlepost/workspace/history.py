"""What happened to each site: one line an event in `history.jsonl` of the plan folder, which only ever grows."""

from __future__ import annotations

import getpass
import os
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress

import msgspec
import rtoml
from msgspec import Struct

from kettlepost.core.errors import OutsideError, cause
from kettlepost.core.names import Address, HostName, InvalidName, printable
from kettlepost.workspace.files import append_whole
from kettlepost.workspace.journal import Edit
from kettlepost.workspace.plan_folder import HISTORY_FILE, PlanFolder

_LARGEST = 256 * 1024 * 1024


class Event(Struct, omit_defaults=True, frozen=True):
    """One thing that happened to a site: when (ISO 8601, UTC), by whom, and what of it changed.

    `event` is "placed", "written down", "confirmed", "retired", "to move", "moved", "to be replaced", "forgotten",
    "version" or "taken back".
    """

    at: str
    account: str
    site: str
    event: str
    application: str = ""
    by: str = ""
    detail: str = ""
    kettlepost: int = 1


def events_of(edits: Iterable[Edit], at: str, is_undo: bool = False) -> Iterator[Event]:
    """What a change of the plan does to installations."""
    for edit in edits:
        folder, _, name = edit.file.partition("/")
        if folder != "accounts":
            continue
        account = name.removesuffix(".toml")
        before, after = _installations(edit.before), _installations(edit.after)
        for site, application, event, detail in _differences(before, after):
            what, more = ("taken back", f"{event}{f', {detail}' if detail else ''}") if is_undo else (event, detail)
            yield Event(at, account, site, what, application, _who(), more)
        for host in _confirmed_hosts(_tables(edit.before, "domain"), _tables(edit.after, "domain"), is_undo):
            yield Event(at, account, host, "taken back" if is_undo else "confirmed", "", _who(), "confirmed" * is_undo)


def enter(plan: PlanFolder, events: Sequence[Event]) -> None:
    """Add events to the history, once what they tell of is written. Raises OutsideError when the disk refuses."""
    if not events:
        return
    try:
        append_whole(plan.path / HISTORY_FILE, b"".join(msgspec.json.encode(event) + b"\n" for event in events))
    except OSError as error:
        raise OutsideError(
            f"the change is written, but {HISTORY_FILE} could not be added to ({cause(error)}): {len(events):,} "
            f"{'event is' if len(events) == 1 else 'events are'} missing there"
        ) from None


def history(plan: PlanFolder, account: str | None = None) -> list[Event]:
    """What happened, of one account or of all, the oldest first; a line that is none is left out."""
    raw = plan.raw(HISTORY_FILE, _LARGEST) or b""
    found: list[Event] = []
    for line in raw.splitlines():
        with suppress(msgspec.MsgspecError, ValueError):
            event = _DECODER.decode(line)
            if account is None or event.account == account:
                found.append(event)
    return found


def begun_sites(events: Iterable[Event]) -> dict[str, dict[str, str]]:
    """By account the addresses that something was planned for, and when that last was (ISO 8601, UTC)."""
    found: dict[str, dict[str, str]] = {}
    for event in events:
        if event.event in ("placed", "written down", "to move", "to be replaced"):
            with suppress(InvalidName):
                found.setdefault(event.account, {})[str(Address.parse(event.site))] = event.at
    return found


def confirmed_sites(events: Iterable[Event]) -> dict[str, set[str]]:
    """By account the addresses and hosts that were made live as they were planned, and not taken back since."""
    found: dict[str, set[str]] = {}
    for event in events:
        with suppress(InvalidName):
            site = str(Address.parse(event.site)) if event.application else str(HostName.parse(event.site))
            what = event.detail.partition(",")[0] if event.event == "taken back" else event.event
            if event.event == "confirmed":
                found.setdefault(event.account, set()).add(site)
            elif what in ("placed", "confirmed", "forgotten"):
                found.setdefault(event.account, set()).discard(site)
    return found


_DECODER = msgspec.json.Decoder(Event)
_Known = dict[tuple[str, str], dict[str, object]]


def _installations(raw: bytes | None) -> _Known:
    """The installations of an account's file, by application and address."""
    return {(str(one.get("application")), str(one.get("address"))): one for one in _tables(raw, "installation")}


def _tables(raw: bytes | None, name: str) -> list[dict[str, object]]:
    """The tables of a name in an account's file; none where it cannot be read."""
    with suppress(rtoml.TomlParsingError, ValueError):
        tables = rtoml.loads((raw or b"").decode("utf-8-sig")).get(name, [])
        return [one for one in tables if isinstance(one, dict)] if isinstance(tables, list) else []
    return []


def _confirmed_hosts(
    before: Iterable[dict[str, object]], after: Iterable[dict[str, object]], is_undo: bool
) -> Iterator[str]:
    """The domains that a change makes live which were planned; taken back, those that it makes planned again."""
    was = {str(one.get("name")): one.get("state", "live") for one in before}
    states = ("live", "planned") if is_undo else ("planned", "live")
    for one in after:
        name = str(one.get("name"))
        if (was.get(name), one.get("state", "live")) == states:
            yield name


def _differences(before: _Known, after: _Known) -> Iterator[tuple[str, str, str, str]]:
    gone = {key: before[key] for key in before if key not in after}
    for key, one in after.items():
        application, site = key
        was = before.get(key)
        if was is None:
            old = next((other for other, entry in gone.items() if _same(other, entry, key, one)), None)
            if old is not None:
                del gone[old]
                yield site, application, "to move" if "address_now" in one else "moved", f"from {printable(old[1])}"
                continue
            yield site, application, "placed" if one.get("state") == "planned" else "written down", ""
        elif was.get("state", "live") != one.get("state", "live"):
            state = str(one.get("state", "live"))
            yield site, application, {"live": "confirmed", "retired": "retired"}.get(state, "placed"), ""
        elif "address_now" in was and "address_now" not in one:
            yield site, application, "moved", f"from {printable(str(was['address_now']))}"
        if was is not None and one.get("goes_live") and not was.get("goes_live"):
            yield str(one.get("staging_of")), application, "to be replaced", f"by {printable(site)}"
        if was is not None and one.get("version") and was.get("version") != one.get("version"):
            yield site, application, "version", printable(str(one["version"]))
    for application, site in gone:
        yield site, application, "forgotten", ""


def _same(old: tuple[str, str], was: dict[str, object], new: tuple[str, str], one: dict[str, object]) -> bool:
    """Whether an installation at another address is the one that was."""
    return old[0] == new[0] and was.get("database") is not None and was.get("database") == one.get("database")


def _who() -> str:
    """Whoever is logged in, by the name that the system knows."""
    named = os.environ.get("KETTLEPOST_USER")
    if named:
        return printable(named[:200])
    try:
        return printable(getpass.getuser())
    except (KeyError, OSError):
        return ""
