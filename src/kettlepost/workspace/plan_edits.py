"""Keeping a plan: each change that a user makes, prepared and checked."""

from __future__ import annotations

import datetime
from collections.abc import Collection, Sequence
from typing import Any

from kettlepost.core import placing
from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import Hint
from kettlepost.core.names import Address, Folder, HostName, InvalidName, did_you_mean
from kettlepost.core.placing import Placement, Proposal, Wish
from kettlepost.core.placing.ownership import owner_of
from kettlepost.core.plan import Change, Domain, Www, below_home
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules import find_rule
from kettlepost.core.rules.acceptances import matches
from kettlepost.core.survey import LARGEST_SURVEY
from kettlepost.core.trying import Scenario
from kettlepost.core.words import listed
from kettlepost.workspace.changes import PreparedChange, prepare
from kettlepost.workspace.check_cache import check_plan
from kettlepost.workspace.clock import today_or
from kettlepost.workspace.last_weighing import LastWeighed, recall, summary_of
from kettlepost.workspace.plan_folder import PlanFolder, survey_file


def host_of(written: str) -> HostName:
    """A host name as it was given. Raises InputError when it is none."""
    try:
        return HostName.parse(written)
    except InvalidName as error:
        raise InputError(str(error)) from None


def folder_of(written: str, plan: PlanFolder | None = None) -> Folder:
    """A folder as it was given, from the home, or from the machine's root where an account's home is known.

    Raises InputError when it is none.
    """
    try:
        if plan is not None and written.startswith("/"):
            return Folder.parse(next((inside for _, inside in at_homes(plan, written)), written))
        return Folder.parse(written)
    except InvalidName as error:
        raise InputError(str(error)) from None


def at_homes(plan: PlanFolder, written: str) -> list[tuple[str, str]]:
    """The accounts in whose home a folder lies that is written from the machine's root, and it from there."""
    homes = {name: plan.layout_of(name).account.settings.home for name in plan.names}
    return [(name, inside) for name, home in homes.items() if (inside := below_home(written, home)) is not None]


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
    www: str | None = None,
) -> PreparedChange:
    """Declare a domain, as one that is still to be added at the host unless it is `live`.

    The root that is chosen is never one that is taken, or inside another. Without `www` it is what the
    settings say for a name of its own. What stands against one that is live is told and stops
    nothing, as it is there. Raises InputError for a name that begins with www, unless
    its kind, what it is a name of, or `www` shows that no other domain is meant.
    """
    host, target = host_of(name), host_of(of) if of is not None else None
    folder = folder_of(root, plan) if root is not None else None

    def make(scenario: Scenario) -> Proposal:
        if kind is target is www is None:
            placing.as_named(scenario, host)
        layout = scenario.layout(placing.account_for(scenario, host, account, target))
        state = "live" if live else "planned"
        domain = placing.new_domain(scenario, layout, host, kind, folder, target, state, www)  # type: ignore[arg-type]
        return placing.add_domain(layout, domain)

    return prepare(plan, make, despite, because, may_stop=live)


def set_www(
    plan: PlanFolder, www: Www, names: Sequence[str], account: str | None = None, despite: Collection[str] = (),
    because: str | None = None,
) -> PreparedChange:  # fmt: skip
    """Say which of the bare name and the one with www answers: of domains, or of all in an account that say nothing."""

    def make(scenario: Scenario) -> list[Proposal]:
        wanted: dict[str, list[Domain]] = {}
        for name in names:
            if name in plan.names:
                wanted.setdefault(name, []).extend(placing.without_www(scenario.layout(name)))
            else:
                layout, domain = placing.find_domain(scenario, host_of(name), account)
                wanted.setdefault(layout.name, []).append(domain)
        return [
            placing.set_www(scenario.layout(name), list({domain.number: domain for domain in domains}.values()), www)
            for name, domains in wanted.items()
        ]

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
    host, root = host_of(name), folder_of(folder, plan)

    def make(scenario: Scenario) -> Proposal:
        return placing.move_root(*placing.find_domain(scenario, host, account), root)

    tell = placing.changed_meanings
    return prepare(plan, make, despite, because, tell=lambda found: tell(found.before, found.after))


def retire(plan: PlanFolder, address: str, account: str | None = None) -> PreparedChange:
    """Mark an installation as retired, and tell what of it remains."""
    asked = address_of(address)
    return prepare(
        plan, lambda scenario: placing.retire(*placing.find_installation(scenario, asked, account)), may_stop=True
    )


def adopt(plan: PlanFolder, accounts: str | Sequence[str] = (), wanted: Sequence[str] = ()) -> PreparedChange:
    """Enter what the survey found and the plan does not know, as live installations, exactly as it was found.

    Of all accounts that were surveyed where none is named. What looks like a copy or a rehearsal is
    left out, unless its folder is among `wanted`. What was deployed as planned becomes live.
    """
    accounts = [accounts] if isinstance(accounts, str) else accounts
    names = plan.known_names(list(accounts)) if accounts else [name for name in plan.names if _is_surveyed(plan, name)]
    if not names:
        raise InputError("no account was surveyed yet", Remedy.of(Action.TAKE_SURVEY, "ACCOUNT"))
    folders = list(map(folder_of, wanted))
    if folders and len(names) > 1:
        raise InputError("name the one account that the folder lies in", Remedy(Action.CHOOSE_ACCOUNT))
    if accounts:
        for name in names:
            plan.read_survey(name)  # where it cannot be read, that is what is to be said

    def make(scenario: Scenario) -> list[Proposal]:
        return [placing.adopt(scenario.layout(name), folders) for name in names]

    return prepare(plan, make, may_stop=True)


def _confirmed(
    scenario: Scenario, layout: AccountLayout, address: Address | None = None, is_host: bool = False
) -> list[Proposal]:
    """What is written of what has come: in the account from which it came, too."""
    return placing.with_the_other_end(scenario, placing.confirm(layout, address, is_host))


def confirm(plan: PlanFolder, what: str, account: str | None = None) -> PreparedChange:
    """Make what is planned live as it was found: an account, a domain, or an installation by its address.

    Raises InputError where what was found differs from the plan, naming it.
    """
    if what in plan.names and account is None:
        return prepare(plan, lambda scenario: _confirmed(scenario, scenario.layout(what)), may_stop=True)
    asked = address_of(what)

    def make(scenario: Scenario) -> list[Proposal]:
        return _confirmed(scenario, scenario.layout(owner_of(scenario, asked.host, account)), asked, "/" not in what)

    return prepare(plan, make, may_stop=True)


def _with_retired(scenario: Scenario, address: Address, account: str | None) -> str:
    """The account in which something is retired at an address, as a domain may have gone to another one."""
    former = [name for name in scenario.former_owners(address.host) if account in (None, name)]
    if account is None and len(former) == 1:
        owners = [name for name in scenario.owners(address.host) if name != former[0]]
        here = (one for name in owners for one in scenario.layout(name).account.installations)
        if not any(one.state == "retired" and one.address == address for one in here):
            return former[0]
    return owner_of(scenario, address.host, account)


def forget(plan: PlanFolder, what: str, account: str | None = None) -> PreparedChange:
    """Take the entry of a retired installation or domain out. Raises InputError while anything of it is left."""
    asked = address_of(what)

    def make(scenario: Scenario) -> Proposal:
        name = _with_retired(scenario, asked, account)
        return placing.forget(scenario.layout(name), asked, scenario.owners(asked.host) not in ([], [name]))

    return prepare(plan, make, may_stop=True)


def accept(
    plan: PlanFolder, rule: str, at: str, because: str, until: datetime.date | None = None, account: str | None = None,
    today: datetime.date | None = None,
) -> PreparedChange:  # fmt: skip
    """Write down that a finding is lived with: at one place, or, with `*` in `at`, wherever that fits.

    Raises InputError for a rule that is none, and where there is no such finding.
    """
    slug = find_rule(rule).slug
    if not because.strip():
        raise InputError("a finding that is lived with wants a reason")
    names = plan.known_names([account]) if account is not None else None
    found = [one for one in check_plan(plan, today_or(today), names, [slug]).findings if one.rule == slug]
    met = [one for one in found if one.at == at] or [one for one in found if "*" in at and matches(at, one.at)]
    owners = list(dict.fromkeys(one.account for one in met))
    if not met:
        near = did_you_mean(at, [one.at for one in found])
        there = "" if near or not found else f"; it is found at {listed((one.at for one in found), 4)}"
        raise InputError(f"{slug} is not found at {at}{near}{there}" if found else f"nothing is found by {slug}")
    if len(owners) > 1:
        raise InputError(f"{slug} at {at} is found in {listed(owners, 4)}", Remedy(Action.CHOOSE_ACCOUNT))
    values: dict[str, Any] = {"finding": slug, "at": at, "because": because}
    if until is not None:
        values["until"] = until
    told = Hint(f"accepts {slug} at {listed((one.at for one in met), 6)}")
    change = Change(owners[0], "accept", None, values)
    return prepare(plan, lambda _: Proposal(owners[0], (change,), (told,)), may_stop=True, today=today)


def _is_surveyed(plan: PlanFolder, name: str) -> bool:
    return plan.raw(survey_file(name), LARGEST_SURVEY) is not None


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
    new_root = folder_of(root, plan) if root is not None else None
    lies = folder_of(folder, plan) if folder is not None else None

    weighed = recall(plan.path) if number is not None and wish is None else None
    asked = weighed.wish if weighed is not None else wish
    lived_with = [*despite, *(asked.despite if asked is not None else ())]
    reason = because if because is not None or asked is None else asked.because

    def make(scenario: Scenario) -> Proposal:
        if number is not None:
            at = _numbered(weighed, scenario, asked, number)
            chosen = placing.with_values(scenario, at, new_root, lies, **given)
        else:
            if application is None or address is None:
                raise InputError("name the application and the address")
            known = placing.known_application(scenario, application)
            account = wish.account if wish is not None else None
            chosen = placing.placement_at(scenario, known, address_of(address), account, new_root, lies, **given)
        return placing.placed(scenario, chosen)

    return prepare(plan, make, lived_with, reason, asked_for=despite)


def place_wishes(plan: PlanFolder, table: bytes, name: str) -> PreparedChange:
    """Enter an installation for each wish of a table at its best place, all as one change.

    A wish without a place is told of and left out. Raises PlanError with every fault of the table.
    """
    wishes = placing.read_wishes(table, name)

    def make(scenario: Scenario) -> list[Proposal]:
        return placing.granted(list(placing.grant(scenario, wishes)))

    return prepare(plan, make)


def _numbered(last: LastWeighed | None, scenario: Scenario, wish: Wish | None, number: int) -> Placement:
    """The place that a weighing numbers so."""
    weighing = placing.weigh(scenario, wish)  # type: ignore[arg-type]
    if last is not None and summary_of(weighing) != last.places:
        raise InputError("the plan has changed since it was weighed, and so has the order; weigh it again")
    if number > len(weighing.places):
        raise InputError(f"there is no place {number}: there are {len(weighing.places)}, as weighing shows")
    return weighing.places[number - 1].place
