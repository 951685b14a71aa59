"""`kettlepost place`."""

from __future__ import annotations

from enum import StrEnum
from typing import TYPE_CHECKING, Annotated, Any

import typer

from kettlepost.cli import changing, running
from kettlepost.cli.weigh import AccountOption, AnyAccountOption, NameOption, NewDomainOption, PreferOption

if TYPE_CHECKING:
    from kettlepost.core.placing import Ground, Place, Proposal, Wish


class PlacedAs(StrEnum):
    """States that an installation may be entered in."""

    planned = "planned"
    live = "live"


def place(
    application: Annotated[
        str | None, typer.Argument(metavar="APPLICATION", help="What is to be installed.", show_default=False)
    ] = None,
    address: Annotated[
        str | None,
        typer.Argument(
            metavar="ADDRESS", help="Where it is to answer; with --as the domain it is for.", show_default=False
        ),
    ] = None,
    number: Annotated[
        int | None,
        typer.Option(
            "--as",
            metavar="N",
            min=1,
            help="The place with this number in 'kettlepost weigh'; alone, in the last one.",
        ),
    ] = None,
    folder: Annotated[
        str | None, typer.Option(metavar="FOLDER", help="Where its files go, if not where the address leads.")
    ] = None,
    root: Annotated[
        str | None, typer.Option(metavar="FOLDER", help="The root of a new domain. Default: one that is free.")
    ] = None,
    state: Annotated[PlacedAs, typer.Option(help="What it is entered as.")] = PlacedAs.planned,
    database: Annotated[str | None, typer.Option(metavar="NAME", help="The database. Default: a free name.")] = None,
    database_user: Annotated[str | None, typer.Option(metavar="NAME", help="Its user. Default: a free name.")] = None,
    table_prefix: Annotated[str | None, typer.Option(metavar="TEXT", help="Default: one that overlaps none.")] = None,
    admin: Annotated[
        str | None, typer.Option(metavar="NAME", help="The administrator. Default: a name nobody guesses.")
    ] = None,
    contact: Annotated[
        str | None, typer.Option(metavar="ADDRESS", help="Who looks after it. Default: the account's usual contact.")
    ] = None,
    name: NameOption = None,
    new_domain: NewDomainOption = None,
    prefer: PreferOption = None,
    account: AccountOption = None,
    any_account: AnyAccountOption = False,
    despite: changing.DespiteOption = None,
    because: changing.BecauseOption = None,
    yes: changing.YesOption = False,
    show: changing.ShowOption = False,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Enter an installation into the plan, with the domain, database and names it needs, once it is checked.

    Shows what would change, and writes on --yes or once it has asked. A new finding that stops
    ends it with status 1, and nothing is written.
    """
    from kettlepost.core.placing import Wish

    given = {
        "database_name": database,
        "database_user": database_user,
        "table_prefix": table_prefix,
        "admin_user": admin,
        "contact": contact,
    }
    wish = None
    if application is not None and address is not None:
        wish = Wish(application, address, name, prefer.value if prefer else None, new_domain, account, any_account)

    def make(ground: Ground) -> Proposal:
        asked = _Asked(root, folder, state.value, given)
        found = asked.numbered(ground, wish, number) if number is not None else asked.spelled_out(ground, wish)
        return _proposal(ground, found)

    changing.propose(plan, make, yes, show, form, despite, because)


class _Asked:
    """The values that were given for an installation."""

    def __init__(self, root: str | None, folder: str | None, state: str, given: dict[str, str | None]):
        self._root = running.parsed_folder(root) if root is not None else None
        self._folder = running.parsed_folder(folder) if folder is not None else None
        self._given: dict[str, Any] = {**given, "state": state}

    def numbered(self, ground: Ground, wish: Wish | None, number: int) -> Place:
        """The place that a weighing numbers so, with the values that were given."""
        from kettlepost.cli.weighed import recall, summary_of
        from kettlepost.core.errors import InputError
        from kettlepost.core.placing import refurnished, weigh

        last = recall(ground.plan.folder) if wish is None else None
        weighing = weigh(ground, last.wish if last is not None else wish)  # type: ignore[arg-type]
        if last is not None and summary_of(weighing) != last.places:
            raise InputError("the plan has changed since it was weighed, and so has the order; weigh it again")
        if number > len(weighing.places):
            raise InputError(f"--as {number}: there are {len(weighing.places)} places; 'kettlepost weigh' shows them")
        chosen = weighing.places[number - 1].place
        return refurnished(ground, chosen, self._root, self._folder, **self._given)

    def spelled_out(self, ground: Ground, wish: Wish | None) -> Place:
        """The place at an address that was given, with the values that were given."""
        from kettlepost.core.errors import InputError
        from kettlepost.core.names import Address, InvalidName
        from kettlepost.core.placing import known_application, spelled_out

        if wish is None:
            raise InputError("name the APPLICATION and the ADDRESS, or give --as N after 'kettlepost weigh'")
        if wish.name or wish.new_domain or wish.prefer or wish.any_account:
            raise InputError("--name, --new-domain, --prefer and --any-account go with --as N, as for weigh")
        application = known_application(ground, wish.application)
        try:
            address = Address.parse(wish.domain)
        except InvalidName as error:
            raise InputError(str(error)) from None
        return spelled_out(ground, application, address, wish.account, self._root, self._folder, **self._given)


def _proposal(ground: Ground, place: Place) -> Proposal:
    from kettlepost.core.placing import Proposal, weigh_one
    from kettlepost.core.plan import Change, table_of

    one = weigh_one(ground, place)
    tables = [("domain", record) for record in place.addition.domains]
    tables += [("installation", record) for record in place.addition.installations]  # type: ignore[misc]
    changes = [Change(place.account, table, None, table_of(record)) for table, record in tables]
    told = [f"{place.installation.application} at {place.address} in {place.folder.shown}, account {place.account}"]
    told += [f"there now: {one.there}", f"takes {', '.join(use.words for use in one.uses)}"]
    waits = [f"wait for {words}" for words in one.wait]
    steps = [*one.clear, *(f"create the {words}" for words in one.create), *waits]
    return Proposal(place.account, changes, told, [*steps, f"kettlepost check --account {place.account}"])


def register(app: typer.Typer) -> None:
    running.register(app, place, "place")
