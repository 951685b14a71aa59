"""Ways out: folders that are really free, addresses that lead to them, tables to write."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import count
from typing import Any

from kettlepost.core.layout import AccountLayout, stands_for
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import Change, Installation, Record
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.steps import AddLines, CompleteEntry, MakeFolder, Step

MANY = 12
"""How many parties of one kind are named one by one."""


def setting(layout: AccountLayout, record: Record, **values: Any) -> Change:
    """The change that sets keys of a table; None takes a key out. What is no longer live is not on its way either."""
    if isinstance(record, Installation) and record.is_moving and values.get("state", "live") != "live":
        values = (staying(layout, record) if values["state"] == "retired" else dict.fromkeys(_MOVING)) | values
    if isinstance(record, Installation) and record.goes_live and values.get("state", "live") != "live":
        values = {"goes_live": None, "live_keeps": None} | values
    table = layout.account.identity(record)
    return Change(layout.name, table.table, table.number, values)


_MOVING = ("address_now", "folder_now")


def staying(layout: AccountLayout, installation: Installation) -> dict[str, Any]:
    """The keys of an installation that was to move, and stays where it is."""
    at, old = installation.address_now or installation.address, layout.comes_from(installation)
    is_own = old is None or layout.tree("now").reach(at) == old
    return {"address": str(at).rstrip("/"), "folder": None if is_own else str(old), **dict.fromkeys(_MOVING)}


def dropping(layout: AccountLayout, record: Record) -> Change:
    """The change that takes a table out."""
    table = layout.account.identity(record)
    return Change(layout.name, table.table, table.number, drop=True)


def completing(layout: AccountLayout, record: Record, *keys: str) -> CompleteEntry:
    """That somebody writes keys of a table whose values only a person knows."""
    table = layout.account.identity(record)
    return CompleteEntry(layout.name, table.table, table.number, keys)


def lines_in(layout: AccountLayout, folder: Folder, lines: Iterable[str]) -> list[Step]:
    """Lines at the end of a folder's control file; the folder is made where it is not there yet."""
    made: list[Step] = []
    if layout.contents is not None and not layout.contents.exists(folder):
        made.append(MakeFolder(layout.name, folder))
    return [*made, AddLines(layout.name, folder, ".htaccess", tuple(lines))]


def accepting(rule: str, at: str) -> Remedy:
    """Living with what a rule finds at a place."""
    return Remedy.of(Action.ACCEPT, rule, "--at", at)


def clearing(installation: Installation, measure: str = "") -> Remedy:
    """Clearing the folder that an installation's address leads to."""
    return Remedy.of(Action.CLEAR, str(installation.address), *([f"--{measure}"] if measure else []))


def clearing_folder(layout: AccountLayout, folder: Folder, measure: str) -> Remedy:
    """Clearing a folder that is named by its path."""
    return Remedy.of(Action.CLEAR, "--account", layout.name, "--folder", folder.shown, f"--{measure}")


def is_free(layout: AccountLayout, folder: Folder, taken: Iterable[Folder] = ()) -> bool:
    """Whether nobody holds `folder`, nothing lies in it, and it is outside every root and installation.

    The home does not count: where it is a root itself, nothing is outside it.
    """
    around = (above for above in folder.above() if above)
    if layout.is_held(folder) or layout.claimed_inside(folder) or any(map(layout.is_held, around)) or folder in taken:
        return False
    return layout.contents is None or layout.contents.is_empty(folder)


def free_root(layout: AccountLayout, host: HostName, taken: Iterable[Folder] = ()) -> Folder:
    """A free folder for `host`, outside every other root, beside the roots of its kind if they share a folder."""
    parent = layout.usual_parent
    return next(folder for folder in (parent.below(name) for name in _names(host)) if is_free(layout, folder, taken))


def free_address(layout: AccountLayout, installation: Installation) -> tuple[Address, Folder] | None:
    """An address below the installation's own whose folder is free but for the root it lies in."""
    mount = layout.hosts.mount(installation.address)
    if mount is None or mount.folder is None:
        return None
    return free_below(layout, Address(installation.address.host, mount.address.path), (installation.application,))


def free_below(layout: AccountLayout, base: Address, names: Iterable[str]) -> tuple[Address, Folder] | None:
    """The first address below `base`, by `names` or numbered, whose folder is free but for the root it lies in."""
    for name in numbered(names):
        address = base.below(name)
        folder = layout.reach(address)
        if folder is None:
            return None
        untouched = layout.contents is None or not layout.contents.exists(folder)
        if untouched and not layout.is_held(folder) and not layout.claimed_inside(folder):
            return address, folder
    return None


def host_domain(layout: AccountLayout, address: Address) -> HostName | None:
    """The domain a new subdomain for this address would go under: no alias, and no subdomain itself."""
    mount = layout.hosts.mount(address)
    domain = stands_for(layout.account, mount.domain) if mount is not None else None
    if domain is None or domain.name.startswith("*."):
        return None
    named = layout.account.named
    host = domain.name
    while named[host].kind == "subdomain" and host.parent in named:
        host = named[host.parent].name
    return host


def _names(host: HostName) -> Iterator[str]:
    return numbered((host.spelt, host.replace("*", "any")))


def numbered(names: Iterable[str]) -> Iterator[str]:
    """Each name as it is, then the last with 2, 3, ... behind it, without end."""
    last = ""
    for last in names:
        yield last
    yield from (f"{last}-{number}" for number in count(2))
