"""Keeping a plan: each change that a user makes, prepared and checked."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from kettlepost.core import placing
from kettlepost.core.errors import InputError
from kettlepost.core.names import Address, Folder, HostName, InvalidName
from kettlepost.core.placing import Placement, Proposal, Scenario, Wish
from kettlepost.workspace.changes import PreparedChange, prepare
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.weighed import recall, summary_of


def host_of(written: str) -> HostName:
    """A host name as it was given. Raises InputError when it is none."""
    try:
        return HostName.parse(written)
    except InvalidName as error:
        raise InputError(str(error)) from None


def folder_of(written: str) -> Folder:
    """A folder as it was given. Raises InputError when it is none."""
    try:
        return Folder.parse(written)
    except InvalidName as error:
        raise InputError(str(error)) from None


def address_of(written: str) -> Address:
    """An address as it was given. Raises InputError when it is none."""
    try:
        return Address.parse(written)
    except InvalidName as error:
        raise InputError(str(error)) from None


def add_domain(
    plan: PlanFolder,
    name: str,
    kind: str | None = None,
    root: str | None = None,
    of: str | None = None,
    account: str | None = None,
    live: bool = False,
    despite: Collection[str] = (),
    because: str | None = None,
) -> PreparedChange:
    """Declare a domain, as one that is still to be added at the host unless it is `live`.

    The root that is chosen is never one that is taken, or inside another.
    """
    host, target = host_of(name), host_of(of) if of is not None else None
    folder = folder_of(root) if root is not None else None

    def make(scenario: Scenario) -> Proposal:
        layout = scenario.layout(placing.account_for(scenario, host, account, target))
        state = "live" if live else "planned"
        return placing.add_domain(layout, placing.new_domain(layout, host, kind, folder, target, state))  # type: ignore[arg-type]

    return prepare(plan, make, despite, because)


def drop_domain(
    plan: PlanFolder,
    name: str,
    account: str | None = None,
    despite: Collection[str] = (),
    because: str | None = None,
) -> PreparedChange:
    """Take a domain out. Raises InputError while installations answer there, naming them."""
    host = host_of(name)
    return prepare(
        plan, lambda scenario: placing.drop_domain(*placing.find_domain(scenario, host, account)), despite, because
    )


def move_root(
    plan: PlanFolder,
    name: str,
    folder: str,
    account: str | None = None,
    despite: Collection[str] = (),
    because: str | None = None,
) -> PreparedChange:
    """Give a domain another root, and tell which addresses then lead to another folder."""
    host, root = host_of(name), folder_of(folder)
    return prepare(
        plan,
        lambda scenario: placing.move_root(*placing.find_domain(scenario, host, account), root),
        despite,
        because,
        tell=lambda found: placing.changed_meanings(found.before, found.after),
    )


def retire(plan: PlanFolder, address: str, account: str | None = None) -> PreparedChange:
    """Mark an installation as retired, and tell what of it remains."""
    asked = address_of(address)
    return prepare(
        plan, lambda scenario: placing.retire(*placing.find_installation(scenario, asked, account)), may_stop=True
    )


def adopt(plan: PlanFolder, account: str) -> PreparedChange:
    """Enter what the survey found and the plan does not know, as live installations, exactly as it was found."""
    plan.known_names([account])
    plan.read_survey(account)  # where it cannot be read, that is what is to be said
    return prepare(plan, lambda scenario: placing.adopt(scenario.layout(account)), may_stop=True)


def place(
    plan: PlanFolder,
    application: str | None = None,
    address: str | None = None,
    number: int | None = None,
    root: str | None = None,
    folder: str | None = None,
    despite: Collection[str] = (),
    because: str | None = None,
    wish: Wish | None = None,
    **given: Any,
) -> PreparedChange:
    """Enter an installation, with the domain, database and names it needs.

    It goes to the place with this `number` among those that a weighing of `wish` gives, of the
    last weighing where there is none, else to `address`; `given` are values for it, such as
    `database_name`, `admin_user` and `state`, and what is not given is chosen.
    """
    new_root = folder_of(root) if root is not None else None
    lies = folder_of(folder) if folder is not None else None

    def make(scenario: Scenario) -> Proposal:
        if number is not None:
            chosen = placing.refurnished(scenario, _numbered(plan, scenario, wish, number), new_root, lies, **given)
        else:
            if application is None or address is None:
                raise InputError("name the application and the address")
            known = placing.known_application(scenario, application)
            account = wish.account if wish is not None else None
            chosen = placing.spelled_out(scenario, known, address_of(address), account, new_root, lies, **given)
        return placing.placed(scenario, chosen)

    return prepare(plan, make, despite, because)


def _numbered(plan: PlanFolder, scenario: Scenario, wish: Wish | None, number: int) -> Placement:
    """The place that a weighing numbers so."""
    last = recall(plan.path) if wish is None else None
    weighing = placing.weigh(scenario, last.wish if last is not None else wish)  # type: ignore[arg-type]
    if last is not None and summary_of(weighing) != last.places:
        raise InputError("the plan has changed since it was weighed, and so has the order; weigh it again")
    if number > len(weighing.places):
        raise InputError(f"there is no place {number}: there are {len(weighing.places)}, as weighing shows")
    return weighing.places[number - 1].place
