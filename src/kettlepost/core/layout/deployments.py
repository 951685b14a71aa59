"""What has come as it was planned: installations that were deployed, roots that have moved."""

from __future__ import annotations

from enum import StrEnum
from typing import TYPE_CHECKING, NamedTuple

from kettlepost.core.messages import Message, say
from kettlepost.core.names import HOME, Folder, quoted
from kettlepost.core.plan import Database, Domain, Installation
from kettlepost.core.survey import FoundApplication

if TYPE_CHECKING:
    from kettlepost.core.layout.account import AccountLayout


class Aspect(StrEnum):
    """In what an installation may differ from its plan."""

    DATABASE = "database"
    PREFIX = "prefix"
    VERSION = "version"


class Deviation(NamedTuple):
    """One thing that was found otherwise than it was planned."""

    aspect: Aspect
    planned: str
    found: str

    @property
    def words(self) -> Message:
        found = quoted(self.found) if self.found else "none"
        return say("deviation", aspect=self.aspect, found=found, planned=quoted(self.planned))


class Deployment(NamedTuple):
    """A planned installation that is there.

    `same_tables` says that its configuration names the planned database, which tells it from
    somebody's older site; else an earlier survey did not show it.
    """

    folder: Folder
    installation: Installation
    found: FoundApplication
    same_tables: bool
    deviations: tuple[Deviation, ...]


def deployments(layout: AccountLayout) -> dict[int, Deployment]:
    """The planned installations of an account that the survey shows deployed, by their numbers."""
    contents = layout.contents
    if contents is None or not contents.applications:
        return {}
    came = set(contents.survey.came)
    found: dict[int, Deployment] = {}
    for folder, placed in layout.placed.items():
        app = contents.applications.get(folder)
        installation = next((entry for entry in placed if entry.state == "planned"), None)
        if app is None or installation is None or app.application != installation.application or app.condition:
            continue
        mark = layout.application(installation).config
        deviations = tuple(_deviations(installation, app, tells_prefix=mark is not None and mark.prefix is not None))
        real = app.database
        same = real is not None and bool(real.name) and installation.database is not None
        same = same and not any(deviation.aspect is not Aspect.VERSION for deviation in deviations)
        if same or folder in came:
            found[installation.number] = Deployment(folder, installation, app, same, deviations)
    return found


def database_as_found(deployment: Deployment) -> Database | None:
    """The database that a deployed installation uses, with what only the plan says of it."""
    planned, real = deployment.installation.database, deployment.found.database
    if real is None or not real.name:
        return planned
    if planned is None:
        return Database(real.name, real.prefix, real.user or None)
    return Database(real.name, real.prefix or planned.prefix, planned.user, planned.server)


def has_moved(layout: AccountLayout, domain: Domain) -> bool:
    """Whether the survey shows the files of a domain in its new root, and none of them in the old one."""
    contents = layout.contents
    old, new = layout.real(domain.root_now or HOME), layout.real(domain.root or HOME)
    if contents is None or not contents.exists(new) or old == HOME or lay_there_before(layout, domain):
        return False
    live = [
        folder
        for folder, placed in layout.standing.items()
        for installation in placed
        if installation.state == "live" and (folder == new or folder.is_inside(new))
    ]
    if live:
        seen = contents.applications
        return all(folder in seen and old.below(folder.relative_to(new)) not in seen for folder in live)
    others = layout.tree("now").mounts.get(old, ())
    is_shared = any(mount.domain.number != domain.number for mount in others)
    return is_shared or (not files_left(layout, old) and not contents.is_empty(new))


def lay_there_before(layout: AccountLayout, domain: Domain) -> bool:
    """Whether what comes to a domain lies in its new root all along: no look at files tells that it has moved then."""
    new = layout.real(domain.root or HOME)
    stays = [lies for one in layout.moving if (lies := layout.comes_from(one)) and lies == layout.folder_of(one)]
    return any(lies == new or lies.is_inside(new) for lies in stays)


def has_relocated(layout: AccountLayout, installation: Installation) -> bool:
    """Whether the survey shows an installation that is to move where it is to lie, and no more where it lay.

    Of one whose files stay it shows the file at the new address that starts them; it cannot tell where that needs none.
    """
    contents, new, old = layout.contents, layout.folder_of(installation), layout.comes_from(installation)
    if contents is None or new is None or old is None:
        return False
    if old == new:
        front = layout.reach(installation.address)
        there = contents.folders.get(front) if front is not None and front != new else None
        return there is not None and layout.front_file(installation) in (*there.index, *there.names)
    return layout.holds_copy(installation) and old not in contents.applications


def files_left(layout: AccountLayout, root: Folder) -> int:
    """How many files lie in a root, but for the roots that lie inside it; none where nothing was surveyed."""
    contents = layout.contents
    inside = [one for one in {*layout.roots, *layout.tree("now").mounts} if one.is_inside(root)]
    outermost = [one for one in inside if not any(one.is_inside(other) for other in inside)]
    return contents.totals(root).files - sum(contents.totals(one).files for one in outermost) if contents else 0


def _deviations(installation: Installation, found: FoundApplication, tells_prefix: bool) -> list[Deviation]:
    planned, real = installation.database, found.database
    told = []
    if planned is not None and real is not None and real.name:
        if real.name != planned.name:
            told.append(Deviation(Aspect.DATABASE, planned.name, real.name))
        if tells_prefix and real.prefix != planned.prefix:
            told.append(Deviation(Aspect.PREFIX, planned.prefix, real.prefix))
    if installation.version and found.version and installation.version != found.version:
        told.append(Deviation(Aspect.VERSION, installation.version, found.version))
    return told
