"""Who uses what in and around a folder that is to be cleared: what has to stay, and for whom."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum, auto

from msgspec import Struct

from kettlepost.core.layout import AccountLayout, Mount, stands_for
from kettlepost.core.messages import Words
from kettlepost.core.names import HOME, Address, Folder
from kettlepost.core.plan import Domain, Installation
from kettlepost.core.survey import SET_ASIDE, FoundApplication


class KeepReason(StrEnum):
    """Why something stays."""

    ROOT = auto()
    ALIAS = auto()
    INSTALLATION = auto()
    LIVE = auto()
    FRONT = auto()
    LINKED = auto()
    WAY = auto()
    CHALLENGES = auto()
    MAIL = auto()
    APPLICATION = auto()
    SITE = auto()
    CONTENT = auto()
    LEFTOVER = auto()
    HARMLESS = auto()
    SHUTS = auto()
    NEEDED = auto()
    DOUBT = auto()
    UNREAD = auto()
    DEVICE = auto()


class KeptEntry(Struct, frozen=True):
    """Something that is left where it is: its path, why, and for whom; `count` files lie in it."""

    path: str
    why: KeepReason
    who: Words = ""
    count: int = 0

    @property
    def is_held(self) -> bool:
        """Whether it stays for somebody's sake, and not only as less was asked for."""
        return self.why not in (KeepReason.LEFTOVER, KeepReason.HARMLESS, KeepReason.CONTENT)


def holders(layout: AccountLayout, folder: Folder) -> dict[str, KeptEntry]:
    """What strictly inside a folder others use, by its path."""
    found: dict[str, KeptEntry] = {}
    for stays in _holders(layout):
        if Folder(stays.path).is_inside(folder):
            found.setdefault(stays.path, stays)
    return found


def _holders(layout: AccountLayout) -> Iterator[KeptEntry]:
    """Roots, aliases, installations, front files, targets of links, links on somebody's way, and mail."""
    yield from _led_to(layout)
    for standing in (layout.standing, layout.present):
        for place, placed in standing.items():
            yield KeptEntry(place, KeepReason.INSTALLATION, str(placed[0].address))
    for front, installation in layout.fronts:
        yield KeptEntry(front.below(layout.front_file(installation)), KeepReason.FRONT, str(installation.address))
    for link, target in layout.links_to:
        yield KeptEntry(target, KeepReason.LINKED, str(link))
    for named, who in _named_folders(layout):
        for way in (*reversed([*named.above()]), named):
            if way in layout.links:
                yield KeptEntry(way, KeepReason.WAY, who)
    contents = layout.contents
    for exposed in contents.survey.exposed if contents is not None else ():
        if exposed.kind == "mail folder" and not exposed.name:
            yield KeptEntry(exposed.folder, KeepReason.MAIL)


def _led_to(layout: AccountLayout) -> Iterator[KeptEntry]:
    for when in ("planned", "now"):
        for place, mounts in layout.tree("now" if when == "now" else "planned").mounts.items():
            for mount in mounts:
                if mount.alias is not None:
                    yield KeptEntry(place, KeepReason.ALIAS, str(mount.alias.address))
                else:
                    yield KeptEntry(place, KeepReason.ROOT, str(mount.domain.name))


def _named_folders(layout: AccountLayout) -> Iterator[tuple[Folder, str]]:
    """Every folder that the plan names, as it is written, and for whom."""
    account = layout.account
    for domain in account.domains:
        for root in (domain.root, domain.root_now):
            if root is not None and domain.state != "retired":
                yield root, str(domain.name)
    for alias in account.path_aliases:
        yield alias.folder, str(alias.address)
    for installation in account.installations:
        if installation.folder is not None and installation.state != "retired":
            yield installation.folder, str(installation.address)
        if installation.folder_now is not None:
            yield installation.folder_now, str(installation.address)


class ClearedFolder(Struct, frozen=True):
    """The folder that is to be cleared, and who has it.

    `live` is the installation that is in use there, `planned` the one that is to come, `found` the application
    that lies there, and `others` are domains that show the folder besides the one whose it is. `beside` is what stays
    there, although nobody of the plan holds it, as what lay in the folder moves away without it. `gives_way` is whether
    all that lies there is replaced, its control files, too.
    """

    folder: Folder
    live: Installation | None = None
    planned: Installation | None = None
    found: FoundApplication | None = None
    others: tuple[str, ...] = ()
    is_shown: bool = False
    beside: tuple[KeptEntry, ...] = ()
    gives_way: bool = False


def place_of(layout: AccountLayout, folder: Folder, address: Address | None = None) -> ClearedFolder:
    """Who has a folder; `address` is by what it was asked for."""
    present = layout.present.get(folder, [])
    deployed = layout.deployed
    live = next((one for one in present if one.state == "live" or one.number in deployed), None)
    planned = next((one for one in present if one.state == "planned" and one.number not in deployed), None)
    planned = planned or next((one for place, one in layout.planned if place == folder), None)
    for front, installation in layout.fronts:
        if front == folder and installation.is_moving:
            planned = planned or installation
        elif front == folder and (installation.state == "live" or installation.number in deployed):
            live = live or installation
        elif front == folder and installation.state == "planned":
            planned = planned or installation
    found = layout.contents.applications.get(folder) if layout.contents is not None else None
    asked = address or (planned.address if planned is not None else live.address if live is not None else None)
    owners = _owners(layout, folder)
    own = _owner_at(layout, asked)
    if own is None and len(owners) == 1:
        own = next(iter(owners))
    others = tuple(sorted(str(name) for name in owners if name != own))
    shown = any(layout.tree(when).mounts.get(folder) for when in ("planned", "now"))
    return ClearedFolder(folder, live, planned, found, others, bool(shown))


def _owners(layout: AccountLayout, folder: Folder) -> set[str]:
    """The domains with that very folder as their own root, and path aliases to it: each once, whatever its names."""
    found: set[str] = set()
    for when in ("planned", "now"):
        for mount in layout.tree("now" if when == "now" else "planned").mounts.get(folder, ()):
            if mount.domain.state != "retired":
                found.add(_owner(layout, mount))
    return found


def _owner(layout: AccountLayout, mount: Mount) -> str:
    if mount.alias is not None:
        return str(mount.alias.address)
    domain: Domain | None = stands_for(layout.account, mount.domain)
    return str((domain or mount.domain).name)


def _owner_at(layout: AccountLayout, address: Address | None) -> str | None:
    if address is None:
        return None
    mount = layout.hosts.mount(address) or layout.tree("now").hosts.mount(address)
    return _owner(layout, mount) if mount is not None else None


def set_aside_folder(layout: AccountLayout) -> str:
    """Who would reach what is set aside, as an address leads to the home or to where it is kept; empty for nobody."""
    aside = Folder(SET_ASIDE)
    for when in ("planned", "now"):
        for place, mounts in layout.tree("now" if when == "now" else "planned").mounts.items():
            if place in (HOME, aside) or place.is_inside(aside):
                mount = mounts[0]
                return str(mount.alias.address if mount.alias is not None else mount.domain.name)
    return ""


def around(layout: AccountLayout, folder: Folder) -> tuple[Folder, str] | None:
    """The application with files of its own in whose folders a folder lies, by where it is and its title."""
    contents = layout.contents
    for found in contents.applications.values() if contents is not None else ():
        known = layout.plan.applications.get(found.application)
        for own in known.folders if known is not None else ():
            place = found.base.below(own)
            if folder == place or folder.is_inside(place):
                return found.base, layout.title(found.application)
        if found.folder != found.base and folder.is_inside(found.base):
            return found.base, layout.title(found.application)
    return None
