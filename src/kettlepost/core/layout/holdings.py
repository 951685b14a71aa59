"""Who else uses what lies in a folder, and which tables of a database are somebody's alone."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from typing import NamedTuple

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.layout.tables import TableUser, server_key, table_key
from kettlepost.core.names import Folder, strictly_inside
from kettlepost.core.plan import Installation
from kettlepost.core.survey import FoundApplication


class HoldKind(StrEnum):
    """How somebody uses a folder or a file."""

    ROOT = "root"
    ROOT_NOW = "root as long as it has not moved"
    ALIAS = "path alias"
    INSTALLATION = "installation"
    APPLICATION = "application"
    SITE = "site"
    LINK = "link"
    PAGE = "page"
    FRONT = "front file"


class Hold(NamedTuple):
    """Somebody's use of a folder, or of the file at its end; `who` is the name of whoever it is."""

    place: Folder
    kind: HoldKind
    who: str


class OwnTables(NamedTuple):
    """What of a database is one application's alone.

    `others` use the same database, `alike` those of them whose tables cannot be told from its own, as the
    prefixes are the same or its own begins them all; `longer` are prefixes of others that begin with its own.
    `unsure` are those of which no database is known, although they want one.
    """

    name: str
    prefix: str
    server: str
    user: str
    others: tuple[str, ...] = ()
    alike: tuple[str, ...] = ()
    longer: tuple[str, ...] = ()
    user_is_shared: bool = False
    unsure: tuple[str, ...] = ()

    @property
    def is_known(self) -> bool:
        """Whether everybody is known who may use it: it is the account's own, and of nobody the database is unknown."""
        return not self.server and not self.unsure

    @property
    def is_whole(self) -> bool:
        """Whether nobody else uses the database."""
        return not self.others and self.is_known

    @property
    def is_apart(self) -> bool:
        """Whether its tables can be told from those of all others."""
        return self.is_whole or (self.is_known and not self.alike)


def _found_holds(layout: AccountLayout, place: Folder) -> Iterator[Hold]:
    """What the survey found in a folder, and the plan has not."""
    found = layout.contents.applications.get(place) if layout.contents is not None else None
    if found is not None and place not in layout.placed and place not in layout.present:
        yield Hold(place, HoldKind.APPLICATION, found.application)
    site = layout.contents.site(place) if layout.contents is not None else None
    if site is not None:
        yield Hold(place, HoldKind.SITE, site.kind)


def holds_in(layout: AccountLayout, folder: Folder, own: str = "", leaving: int | None = None) -> Iterator[Hold]:
    """What others use of `folder` and of what lies in it, if the application `own` in it goes.

    `leaving` is the number of the installation that goes. Domains that lead to the folder, pages in it
    that are none of the application's and front files for what lies elsewhere are others' as well.
    """
    for place in _used(layout, folder):
        yield from root_holds(layout, place)
        there = (*layout.standing.get(place, ()), *layout.present.get(place, ()))
        for installation in {one.number: one for one in there}.values():
            is_still_there = place != folder and installation.is_moving and place == layout.comes_from(installation)
            if installation.number != leaving or is_still_there:
                yield Hold(place, HoldKind.INSTALLATION, str(installation.address))
        if place != folder:
            yield from _found_holds(layout, place)
    for link, target in layout.links_to:
        if (target == folder or target.is_inside(folder)) and not (link == folder or link.is_inside(folder)):
            yield Hold(target, HoldKind.LINK, link)
    yield from _pages(layout, folder, own)
    around = _is_part_of(layout, folder)
    if around is not None:
        yield Hold(folder, HoldKind.INSTALLATION, around)
    for front, installation in layout.fronts:
        if front == folder or front.is_inside(folder):
            yield Hold(front.below(layout.front_file(installation)), HoldKind.FRONT, str(installation.address))


def _is_part_of(layout: AccountLayout, folder: Folder) -> str | None:
    """The application around a folder that has files of its own in it, by its address or its name."""
    contents = layout.contents
    for above in folder.above() if contents is not None else ():
        found = contents.applications.get(above) if contents is not None else None
        known = layout.plan.applications.get(found.application) if found is not None else None
        begin = f"{folder.relative_to(above)}/"
        if known is not None and any(mark.startswith(begin) for mark in (*known.all_of, *known.parts, *known.any_of)):
            named = layout.standing.get(above, ())
            return str(named[0].address) if named else known.shown
    return None


def own_tables(
    layout: AccountLayout, folder: Folder | None, installation: Installation | None, found: FoundApplication | None
) -> OwnTables | None:
    """The tables of what lies in `folder` that may go with it, by its configuration, else by the plan.

    None where none are known.
    """
    real = found.database if found is not None else None
    planned = installation.database if installation is not None else None
    told: list[tuple[str, str, str, str]] = []
    if real is not None and real.name:
        told.append((real.name, real.prefix, real.host, real.user))
    if planned is not None:
        told.append((planned.name, planned.prefix, planned.server, planned.user or ""))
    alternatives = [_own_tables(layout, folder, installation, found, *one) for one in told]
    is_retired = installation is not None and installation.state == "retired"
    if is_retired:  # whose configuration may name by now what something live works with
        return next((one for one in alternatives if one.is_apart), next(iter(alternatives), None))
    return next(iter(alternatives), None)


def _own_tables(
    layout: AccountLayout, folder: Folder | None, installation: Installation | None, found: FoundApplication | None,
    name: str, prefix: str, server: str, user: str,
) -> OwnTables:  # fmt: skip
    key, begin = table_key(layout.account, server, name, prefix)

    own: set[object] = {folder, installation.number if installation is not None else None}
    own |= {found.folder} if found is not None else set()

    def is_own(other: TableUser) -> bool:
        if other.installation is not None:
            return installation is not None and other.installation.number == installation.number
        return other.found is not None and other.found.folder in own

    others = [other for other in layout.tables.by_database.get(key, ()) if not is_own(other)]
    alike = [other for other in others if not begin or begin.startswith(other.prefix)]
    longer = [other for other in others if begin and other.prefix.startswith(begin) and other.prefix != begin]
    return OwnTables(
        name, prefix, server_key(server), user, tuple(other.shown for other in others),
        tuple(other.shown for other in alike), tuple(dict.fromkeys(other.written for other in longer)),
        bool(layout.tables.logins.get(user, set()) - own),
        tuple(who for place, who in layout.tables.unsure.items() if place not in own),
    )  # fmt: skip


def _used(layout: AccountLayout, folder: Folder) -> Iterator[Folder]:
    """`folder` and the folders in it that somebody uses."""
    yield folder
    yield from (Folder(name) for name in strictly_inside(layout.in_use, folder))


def root_holds(layout: AccountLayout, place: Folder) -> Iterator[Hold]:
    """The domains and path aliases that lead to exactly a folder, today or once the plan is carried out."""
    told: set[str] = set()
    for when, kind in (("planned", HoldKind.ROOT), ("now", HoldKind.ROOT_NOW)):
        for mount in layout.tree("now" if when == "now" else "planned").mounts.get(place, ()):
            name = str(mount.alias.address) if mount.alias is not None else str(mount.domain.name)
            if name not in told and not (mount.domain.kind in ("alias", "temporary") and mount.alias is None):
                told.add(name)
                yield Hold(place, HoldKind.ALIAS if mount.alias is not None else kind, name)


def _pages(layout: AccountLayout, folder: Folder, own: str) -> Iterator[Hold]:
    """Index files in a folder that leads to visitors and that are neither the application's nor placeholders."""
    contents = layout.contents
    there = contents.folders.get(folder) if contents is not None else None
    known = layout.plan.applications.get(own)
    if (
        contents is None
        or there is None
        or not (layout.addresses_of(folder) or layout.tree("now").addresses_of(folder))
    ):
        return
    apart = {page.file for page in contents.placeholders(folder)} | set(known.index_files if known is not None else ())
    for name in there.index:
        if name not in apart:
            yield Hold(folder.below(name), HoldKind.PAGE, name)
