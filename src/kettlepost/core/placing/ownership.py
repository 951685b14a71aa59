"""Whose a host name is, or whose it would be."""

from __future__ import annotations

from kettlepost.core.errors import InputError
from kettlepost.core.layout import OWN_NAMES, AccountLayout, bare_and_www
from kettlepost.core.names import Folder, HostName, did_you_mean, nearest, quoted
from kettlepost.core.plan import Domain, State, Www
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules import AccountSummary
from kettlepost.core.rules.ways_out import free_root
from kettlepost.core.trying import Scenario
from kettlepost.core.words import listed


def owner_of(scenario: Scenario, host: HostName, account: str | None, is_wish: bool = False) -> str:
    """The account with a domain. Raises InputError that names the nearest, or the account that has it.

    `is_wish` says that the domain may be one that is still to be had.
    """
    owners = scenario.owners(host)
    if account is not None and account not in scenario.summaries:
        raise _no_account(scenario, account)
    if account is not None and owners and account not in owners:
        raise InputError(f"{host} is a domain of account {owners[0]}, not of {account}")
    if not owners and host in scenario.summaries:
        own = next((note.name for note in scenario.summaries[host].hosts), None)
        such = f"name one of its domains{f', such as {own}' if own else ''}"
        raise InputError(f"{host} is an account of the plan, no domain; {such}")
    if not owners:
        what = Remedy.of(Action.WEIGH_NEW_DOMAIN, host) if is_wish else Remedy(Action.LIST_DOMAINS)
        raise InputError(f"{host} is no domain of the plan{_near_host(scenario, host)}", what)
    if account is None and len(owners) > 1:
        owners = staying_owners(scenario, host)
    if account is None and len(owners) > 1:
        raise InputError(f"{host} is declared in accounts {listed(owners)}", Remedy(Action.CHOOSE_ACCOUNT))
    return account or owners[0]


def staying_owners(scenario: Scenario, host: HostName) -> list[str]:
    """The accounts that have a host, without one from which it goes to another of them."""
    owners = scenario.owners(host)
    return [name for name in owners if not _goes(scenario.summaries[name], host, owners)] or owners


def _goes(summary: AccountSummary, host: HostName, owners: list[str]) -> bool:
    numbers = {note.number for note in summary.hosts if note.host == host}
    return any(not one.is_coming and one.number in numbers and one.other in owners for one in summary.transfers)


def _no_account(scenario: Scenario, account: str) -> InputError:
    near = did_you_mean(account, scenario.summaries)
    begin = () if near else (Remedy.of(Action.ADD_ACCOUNT, account),)
    return InputError(f"{quoted(account)} is no account of the plan{near}", *begin)


def _near_host(scenario: Scenario, host: HostName) -> str:
    """The host that was probably meant: ends that many have in common are no likeness."""
    stems = {other.rpartition(".")[0]: other for other in scenario.hosts}
    near = nearest(host.rpartition(".")[0], stems, 1)
    return f'; did you mean "{stems[near[0]]}"?' if near else ""


def account_for(scenario: Scenario, host: HostName, account: str | None, of: HostName | None = None) -> str:
    """The account a new domain goes to: the one named, that of its parent, or the only one.

    Raises InputError when it cannot be told, or when some account has the name already.
    """
    owners = scenario.owners(host)
    if owners:
        raise InputError(f"{host} is a domain of account {owners[0]} already")
    if "." not in host:
        begins = "an address begins with one, such as a.example/shop"
        raise InputError(f"{quoted(host)} is no host name of the plan; {begins}")
    if account is not None:
        if account not in scenario.summaries:
            raise _no_account(scenario, account)
        return account
    if of is not None:
        return owner_of(scenario, of, None)
    above = next((name for name in host.above() if len(scenario.owners(name)) == 1), None)
    if above is not None:
        return scenario.owners(above)[0]
    if len(scenario.summaries) == 1:
        return next(iter(scenario.summaries))
    raise InputError(f"{host} is below no domain of the plan", Remedy(Action.CHOOSE_ACCOUNT))


def account_of(scenario: Scenario, host: HostName, account: str | None) -> tuple[AccountLayout, bool]:
    """The account that has a host, itself or by a wildcard, or that would get it; and whether it has it."""
    if scenario.owners(host):
        return scenario.layout(owner_of(scenario, host, account)), True
    for name in _wildcard_owners(scenario, host):
        if account in (None, name):
            return scenario.layout(name), True
    return scenario.layout(account_for(scenario, host, account)), False


def new_domain(
    scenario: Scenario,
    layout: AccountLayout,
    host: HostName,
    kind: str | None = None,
    root: Folder | None = None,
    of: HostName | None = None,
    state: State = "planned",
    www: Www | None = None,
) -> Domain:
    """A domain as it would be declared: of the kind that fits and with a root that is free, where nothing is given.

    `www` is what was asked for; without it a name of its own gets what the settings say.
    """
    if kind is None:
        is_below = any(above in layout.account.named for above in host.above())
        kind = "alias" if of is not None else "subdomain" if is_below else "addon"
    if www is None:
        www = usual_www(scenario, host, kind)
    if kind in ("alias", "temporary") and root is None:
        return Domain(host, kind, state=state, of=of, www=www)  # type: ignore[arg-type]
    lies = root if root is not None else free_root(layout, host)
    return Domain(host, kind, lies, state, of=of, www=www)  # type: ignore[arg-type]


def usual_www(scenario: Scenario, host: HostName, kind: str) -> Www | None:
    """The `www` that a new domain is declared with where nothing is asked for: none where somebody has that form."""
    bare, with_www = bare_and_www(host)
    if kind not in OWN_NAMES or host != bare or host[0] == "*" or scenario.owners(with_www):
        return None
    usual = scenario.plan.settings.www
    return usual if usual != "apart" else None


def _wildcard_owners(scenario: Scenario, host: HostName) -> list[str]:
    """The accounts that have a host by a wildcard."""
    return next((owners for above in host.above() if (owners := scenario.owners(f"*.{above}"))), [])
