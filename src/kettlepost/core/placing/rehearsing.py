"""A copy of what is live, by which a change of it is rehearsed: its place, its data, and what keeps visitors out."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout, FolderState
from kettlepost.core.messages import Hint, say
from kettlepost.core.names import Address, Folder, printable
from kettlepost.core.placing.candidates import known_application, placement_at
from kettlepost.core.placing.defaults import free_host
from kettlepost.core.placing.proposals import Proposal, placed
from kettlepost.core.plan import Application, Database, Installation, Www
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.rehearsing import Rehearsed, original
from kettlepost.core.rules.tables_apart import free_database, own_prefix, room_for_databases
from kettlepost.core.rules.ways_out import host_domain
from kettlepost.core.survey import is_in
from kettlepost.core.trying import Scenario

_NAMES = ["staging"]
"""What the subdomain is called where nobody says."""


def rehearse(
    scenario: Scenario,
    layout: AccountLayout,
    live: Installation,
    at: Address | None = None,
    root: Folder | None = None,
    www: Www | None = None,
    database_name: str | None = None,
    table_prefix: str | None = None,
) -> Proposal:
    """Enter a copy of what is live at `at`, else at a subdomain that is free.

    It gets a database of its own with the table prefix as it is, or where the package has room for none, tables with
    another prefix. Raises InputError for what is not live, or is on its way; where it is not known which files or
    tables are to be copied; and where something lies already.
    """
    if live.state != "live":
        raise InputError(f"{live.application} at {live.address} is {live.state}; what is rehearsed is live")
    if live.staging_of is not None:
        raise InputError(f"{live.address} is a copy of {live.staging_of} itself: rehearse that")
    if live.is_moving:
        raise InputError(f"{live.application} is on its way to {live.address}; confirm or undo that first")
    if layout.contents is None:
        raise InputError(
            f"{layout.name} was not surveyed yet, so it is not known what of others lies there", layout.surveying
        )
    if at is None:
        under = host_domain(layout, live.address)
        if under is None:
            raise InputError(f"{live.address.host} has no domain of the account above it: name an address")
        at = Address(free_host(under, _NAMES, scenario.owners))
    application = known_application(scenario, live.application)
    given: dict[str, Any] = {
        "staging_of": live.address, "indexing": False, "version": live.version, "admin_user": live.admin_user,
        "contact": live.contact, "title": live.title, "language": live.language,
        "deploy_by": "hand",
    }  # fmt: skip
    place = placement_at(scenario, application, at, layout.name, root, None, www, **given)
    of = original(layout, live, place.folder)
    if of is None:
        raise InputError(f"it is not known where the files of {live.address} lie, or they lie where the copy is to go")
    if application.all_of and of.folder not in layout.contents.applications:
        raise InputError(f"the survey does not show {application.shown} in {of.folder.shown}", layout.surveying)
    _see_nothing_lacks(of, application)
    if FolderState(layout, "planned").is_empty(place.folder) is False:
        raise InputError(f"{place.folder.shown} is not empty, and the copy is to be told from what lies there")
    entered = replace(
        place.installation, database=_database(layout, place.installation, of, database_name, table_prefix)
    )
    chosen = replace(place, addition=replace(place.addition, installations=[entered]))
    proposal = placed(scenario, chosen)
    return replace(proposal, told=(*proposal.told, *_told(of, entered)), next=())  # in the order of its work list


def _see_nothing_lacks(of: Rehearsed, application: Application) -> None:
    """Raises InputError where others use a part without which the application does not run."""
    marks = [of.folder.below(path.rstrip("/")) for path in (*application.all_of, *application.parts)]
    apart = next((one for one in of.stays if any(is_in(mark, one) for mark in marks)), None)
    if apart is not None:
        raise InputError(f"{apart.shown} is a part of {application.shown}, and others use it: a copy would lack it")


def _database(
    layout: AccountLayout, installation: Installation, of: Rehearsed, name: str | None, prefix: str | None
) -> Database | None:
    """Tables of its own: those of what is live under another name or prefix."""
    if layout.account.settings.database_server == "sqlite":
        return None  # its data lie among its files
    old = of.tables
    if old is None:
        if not layout.application(installation).database and of.live.database is None:
            return None
        raise InputError(
            f"it is not known which tables {of.live.address} works with: write its database into the plan",
            layout.surveying,
        )
    if old.database[0]:
        raise InputError(f"the tables of {old.shown} are on {printable(old.database[0])}, not on the account's server")
    if name is None and prefix is None and not room_for_databases(layout):
        name, prefix = old.name, own_prefix(layout, installation)
    name = name or (old.name if prefix is not None else free_database(layout, installation.address))
    prefix = old.written if prefix is None else prefix
    if (name, prefix) == (old.name, old.written):
        raise InputError(f"those are the tables of {old.shown} itself: name another database or prefix")
    return Database(name, prefix, (old.login or name) if name == old.name else name)


def _told(of: Rehearsed, entered: Installation) -> Iterator[Hint]:
    """What is copied, and what is not."""
    yield Hint(say("rehearse/copies", folder=of.folder.shown, old=of.live.address))
    if of.stays:
        yield Hint(say("rehearse/stays", stays=[one.shown for one in of.stays]))
    if entered.database is not None and of.tables is not None:
        is_own = entered.database.name != of.tables.name
        slug = "rehearse/own-database" if is_own else "rehearse/own-prefix"
        yield Hint(say(slug, name=entered.database.name, prefix=entered.database.prefix))
    if of.live.licensed_to is not None:
        yield Hint(say("rehearse/licence", bound=of.live.licensed_to))
    yield Hint(say("rehearse/then"), (Remedy.of(Action.LIST_WORK, str(entered.address).rstrip("/")),))
