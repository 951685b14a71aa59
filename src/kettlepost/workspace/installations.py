"""The installations that somebody means by an account, an address, or nothing."""

from __future__ import annotations

from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import HostName, did_you_mean
from kettlepost.core.plan import Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.paths import canonical
from kettlepost.core.words import listed
from kettlepost.workspace.plan_edits import address_of
from kettlepost.workspace.plan_folder import PlanFolder

Asked = tuple[AccountLayout, list[Installation]]


def installations_of(plan: PlanFolder, what: str | None, account: str | None = None) -> list[Asked]:
    """The installations of each account that is asked for: all where nothing is named, one's by its name, or the
    one at an address. Raises InputError that names the nearest."""
    if what is None or (what in plan.names and account is None):
        names = plan.known_names([what] if what else [account] if account else None)
        return [(layout, layout.account.installations) for layout in map(plan.layout_of, names)]
    layout, installation = installation_at(plan, what, account)
    return [(layout, [installation])]


def installation_at(plan: PlanFolder, written: str, account: str | None = None) -> tuple[AccountLayout, Installation]:
    """The installation at an address; one that is retired where no other is. Raises InputError."""
    asked = address_of(written)
    names = plan.known_names([account]) if account is not None else list(plan.layout.hosts.get(asked.host, ()))
    is_known = bool(names)
    names = names or _mentioning(plan, asked.host)  # an installation may be written at a host that is no domain
    found: list[tuple[AccountLayout, Installation]] = []
    all_: list[str] = []
    for layout in map(plan.layout_of, names):
        key = canonical(layout, asked)
        all_ += [str(one.address) for one in layout.account.installations]
        found += [(layout, one) for one in layout.account.installations if canonical(layout, one.address) == key]
    active = [one for one in found if one[1].state != "retired"] or found
    active = [one for one in active if not _goes(*one)] or active
    if not active and not is_known:
        raise InputError(f"{asked.host} is no domain of the plan", Remedy(Action.LIST_DOMAINS))
    if not active:
        raise InputError(f"nothing is installed at {asked}{did_you_mean(str(asked), all_)}")
    if len(active) > 1:
        places = listed(f"{one.application} ({layout.account.place(one)})" for layout, one in active)
        several = len({layout.name for layout, _ in active}) > 1
        raise InputError(
            f"{len(active)} installations are at {asked}: {places}",
            *([Remedy(Action.CHOOSE_ACCOUNT)] if several else []),
        )
    return active[0]


def _goes(layout: AccountLayout, installation: Installation) -> bool:
    """Whether an installation goes to another account with its domain, where it is to be from then on."""
    mount = layout.hosts.mount(installation.address)
    return mount is not None and mount.domain.account_next is not None


def _mentioning(plan: PlanFolder, host: HostName) -> list[str]:
    """The accounts in whose files a host name stands."""
    forms = {host.encode(), host.words.encode()}
    texts = ((name, plan.raw(f"accounts/{name}.toml") or b"") for name in plan.names)
    return [name for name, raw in texts if any(form in raw.lower() for form in forms)]
