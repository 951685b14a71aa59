"""What ways out touch, and which of them can be tried at once, as none touches what another does."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator, Mapping
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import HOME, Address, Folder, HostName, InvalidName
from kettlepost.core.plan import Change, Database
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.steps import AddLines, CopyFolder

_FOLDERS = ("folder", "to", "root", "old")
"""The fields of steps that name a folder in which something changes."""
_COUNTED = {"database", "kind", "package", "state"}
COUNTING = ("over-allowance", "near-allowance")
"""The rules that count what an account holds."""
_SHORT = 24
"""How long a name of a database may be so that another one in its place is not too long for a server."""
_TABLES = ("domain", "installation", "certificate")


class Footprint(Struct, frozen=True):
    """What a way out touches: records of the plan by table and place, names and databases, folders.

    `shares` are folders in which it only adds the lines by which old addresses go on; `adds` tells that it writes new
    tables, and `is_all` that it may touch anything.
    """

    keys: frozenset[Hashable] = frozenset()
    folders: frozenset[Folder] = frozenset()
    shares: frozenset[Folder] = frozenset()
    adds: bool = False
    is_all: bool = False


def footprint(layouts: dict[str, AccountLayout], way: WayOut) -> Footprint:
    """What a way out touches, of the accounts that it changes."""
    keys: set[Hashable] = set()
    folders: set[Folder] = set()
    shares: set[Folder] = set()
    for change in way.changes:
        if change.drop or change.table not in _TABLES:
            return Footprint(is_all=True)
        layout = layouts[change.account]
        if change.number is not None:
            keys.add((change.account, change.table, change.number))
            folders.update(_lies(layout, change))
            keys.update(_hosts(layout, change))
        keys.update(_names(change))
        keys.update((change.account, "installation", number) for number in _answering(layout, change))
        folders.update(_goes(layout, change.values))
    moves = any(isinstance(step, CopyFolder) for step in way.steps)
    for step in way.steps:
        named = (getattr(step, name, None) for name in _FOLDERS)
        is_shared = moves and isinstance(step, AddLines)
        (shares if is_shared else folders).update(one for one in named if isinstance(one, Folder))
    if HOME in folders:
        return Footprint(is_all=True)
    adds = any(change.number is None or _COUNTED & change.values.keys() for change in way.changes)
    return Footprint(frozenset(keys), frozenset(folders), frozenset(shares), adds)


def _lies(layout: AccountLayout, change: Change) -> Iterator[Folder]:
    """The folders of a record as it is."""
    if change.table == "domain" and "root" in change.values:
        domain = layout.account.domains[change.number or 0]
        yield from (root for root in (domain.root, domain.root_now) if root is not None)
    if change.table == "installation":
        lies = layout.folder_of(layout.account.installations[change.number or 0])
        if lies is not None:
            yield lies


def _hosts(layout: AccountLayout, change: Change) -> Iterator[str]:
    """The names of a domain that changes, with those for which it stands, or to which it sends visitors."""
    if change.table == "domain" and change.number is not None:
        domain = layout.account.domains[change.number]
        yield from map(str, (domain.name, *domain.also))
        yield from (str(host) for host in (domain.of, domain.redirect_to and domain.redirect_to.host) if host)


def _answering(layout: AccountLayout, change: Change) -> Iterator[int]:
    """The installations at the hosts of a domain that changes, or comes: what becomes of it is theirs as well."""
    if change.table != "domain":
        return
    at_host = layout.installations_at
    hosts = [change.values["name"]] if "name" in change.values else []
    if change.number is not None:
        domain = layout.account.domains[change.number]
        yield from (one.number for one in layout.installations_of.get(change.number, ()))
        hosts += [domain.name, *domain.also]
    for host in hosts:
        yield from (one.number for one in at_host.get(HostName(host), ()))


def _names(change: Change) -> Iterator[str]:
    for key in ("name", "address", "of"):
        value = change.values.get(key)
        if isinstance(value, str):
            yield value.rstrip("/")
    base = change.values.get("database")
    if isinstance(base, dict):
        yield f"{change.account} {base.get('name', '')} {base.get('prefix', '')}"


def _goes(layout: AccountLayout, values: dict[str, Any]) -> Iterator[Folder]:
    """The folders that values name, or to which an address leads."""
    for key in ("root", "folder"):
        if isinstance(values.get(key), str):
            yield Folder(values[key])
    try:
        reached = layout.reach(Address.parse(values["address"])) if values.get("address") else None
    except InvalidName:
        return
    if reached is not None:
        yield reached


def with_stand_ins(layouts: dict[str, AccountLayout], way: WayOut, number: int) -> tuple[WayOut, dict[str, str]]:
    """The same way with other names for what is new in it, as ways that are tried at once may all want the same.

    What it brings is the same under any name that is free. Gives the new names with those that they stand for.
    """
    names: dict[str, str] = {}
    for change in way.changes:
        layout, root = layouts[change.account], change.values.get("root")
        if isinstance(root, str) and root and _is_new(layout, Folder(root)):
            names[root] = f"{root}-{number}"
        host = str(change.values.get("name", "")) if change.table == "domain" and change.number is None else ""
        if host and any(str(one.values.get("address", "")).startswith(host) for one in way.changes):
            names[host] = f"t{number}-{host}"
        base = change.values.get("database")
        name = base.get("name") if isinstance(base, dict) else None
        if isinstance(name, str) and len(name) <= _SHORT and name.lower() not in layout.tables.names:
            names[name] = f"{name}t{number}"
    if not names:
        return way, {}
    changes = [replace(change, values=_renamed(change.values, names)) for change in way.changes]
    steps = [replace(step, **{key: _renamed(getattr(step, key), names) for key in step.__struct_fields__})
             for step in way.steps]  # fmt: skip
    return replace(way, changes=changes, steps=steps), {new: old for old, new in names.items()}


def _is_new(layout: AccountLayout, folder: Folder) -> bool:
    return not layout.is_held(folder) and not (layout.contents is not None and layout.contents.exists(folder))


def _renamed(value: Any, names: Mapping[str, str]) -> Any:
    """A value with other names in it, whole or before a slash."""
    if isinstance(value, str):
        old = next((one for one in prefixes(value) if one in names), None)
        return value if old is None else type(value)(names[old] + value[len(old) :])
    if isinstance(value, tuple | list):
        return type(value)(_renamed(item, names) for item in value)
    if isinstance(value, dict):
        return {key: _renamed(item, names) for key, item in value.items()}
    return replace(value, name=_renamed(value.name, names)) if isinstance(value, Database) else value


def renamed_at(at: str, names: Mapping[str, str]) -> str:
    """Where something was found, by the names that others stood in for."""
    return str(_renamed(at, names))


class Batch(Struct):
    """Ways out that are tried at once; `around` and `below` are the folders around `folders`, and around `shares`.

    `room` is how many more that write new tables fit into what packages allow.
    """

    keys: set[Hashable] = field(default_factory=set)
    folders: set[str] = field(default_factory=set)
    around: set[str] = field(default_factory=set)
    shares: set[str] = field(default_factory=set)
    below: set[str] = field(default_factory=set)
    room: int = 1
    is_closed: bool = False
    size: int = 0

    def takes(self, one: Footprint) -> bool:
        """Take a way in where it touches nothing that one of the others does; whether it was."""
        if self.is_closed or (one.is_all and self.size) or (one.adds and not self.room):
            return False
        if not self.keys.isdisjoint(one.keys):
            return False
        for folder in one.folders:
            if folder in self.folders or folder in self.around or not self.folders.isdisjoint(_above(folder)):
                return False
        for share in one.shares:
            around = list(_above(share))
            if share in self.folders or not (self.folders.isdisjoint(around) and self.shares.isdisjoint(around)):
                return False
        if not self.below.isdisjoint((*one.shares, *one.folders)) or not self.shares.isdisjoint(one.folders):
            return False
        self.shares |= one.shares
        self.below.update(above for share in one.shares for above in _above(share))
        self.keys |= one.keys
        self.folders |= one.folders
        self.around.update(above for folder in one.folders for above in _above(folder))
        self.is_closed = one.is_all
        self.room -= one.adds
        self.size += 1
        return True


class Attribution:
    """Which of some ways a finding may have come of."""

    def __init__(self, ways: Iterable[Footprint]):
        self._by: dict[Hashable, list[int]] = {}
        self._within: dict[str, list[int]] = {}
        self._adding: list[int] = []
        self._all: list[int] = []
        for number, one in enumerate(ways):
            self._all.append(number)
            if one.adds:
                self._adding.append(number)
            for key in (*one.keys, *map(str, one.folders), *map(str, one.shares)):
                self._by.setdefault(key, []).append(number)
            for place in {around for key in (*one.folders, *one.shares) for around in _above(key)}:
                self._within.setdefault(place, []).append(number)

    def causes(self, finding: Finding) -> list[int]:
        """By a record, a name, a folder around the place or in it; else those that write new tables, as all count."""
        if len(self._all) == 1:
            return self._all
        if finding.rule in COUNTING and self._adding:
            return self._adding
        keys: list[Hashable] = [(one.account, one.table, one.number) for one in finding.records]
        found = {number for key in (*keys, *prefixes(finding.at)) for number in self._by.get(key, ())}
        found.update(self._within.get(finding.at, ()))
        return sorted(found) or self._adding or self._all


def _above(folder: str) -> Iterator[str]:
    """The folders around one, nearest first, the home last, as plain text: very many are held against each other."""
    while folder:
        folder = folder.rpartition("/")[0]
        yield folder


def prefixes(at: str) -> Iterator[str]:
    """A place and what is around it: `www/shop/new`, `www/shop`, `www`."""
    while at:
        yield at
        at = at.rpartition("/")[0]
