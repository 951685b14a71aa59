"""What a command is about: accounts, addresses, domains and clients as somebody names them."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

from kettlepost.core.errors import InputError
from kettlepost.core.names import Address, InvalidName, did_you_mean, quoted
from kettlepost.core.plan import Domain, Installation
from kettlepost.workspace.installations import installation_at
from kettlepost.workspace.plan_folder import PlanFolder


def asked_about(
    plan: PlanFolder, asked: Sequence[str], account: str | None
) -> dict[str, list[Domain | Installation] | None]:
    """The accounts that are asked about, and of each the domains and installations, None for all of them.

    Each of `asked` is an account, an address, a domain or a client. Raises InputError for what is none of them.
    """
    if not asked:
        return dict.fromkeys(plan.known_names([account] if account else None))
    found: dict[str, list[Domain | Installation] | None] = {}
    for one in asked:
        if one in plan.names and account is None:
            found[one] = None
            continue
        try:
            name, records = _at(plan, one, account)
        except InputError:
            clients = _of_client(plan, one)  # for which every account is read
            if not clients:
                raise
            found |= dict.fromkeys(clients)
            continue
        have = found.setdefault(name, [])
        if have is not None:
            have += records
    return found


def with_former(
    plan: PlanFolder, asked: Sequence[str], found: dict[str, list[Domain | Installation] | None]
) -> dict[str, list[Domain | Installation] | None]:
    """The same with what is retired of it in other accounts, from which a domain has gone to the one that is meant."""
    for one in asked:
        with suppress(InvalidName):
            address = Address.parse(one.strip())
            for name in plan.layout.hosts.get(address.host, ()):
                account = plan.account(name)
                domain = account.declared(address.host)
                if name in found or domain is None or domain.state != "retired":
                    continue
                gone = [one for one in account.installations if one.state == "retired"]
                there = [one for one in gone if one.address.host == address.host]
                records: list[Domain | Installation] = (
                    [domain, *there] if not address.path else [one for one in there if one.address == address]
                )
                if records:
                    found[name] = records
    return found


def _is_left(domain: Domain) -> bool:
    """Whether a domain goes to another account, or is to go."""
    return domain.state == "retired" or domain.account_next is not None


def _of_client(plan: PlanFolder, name: str) -> list[str]:
    """The accounts of a client, in any letter case."""
    wanted = name.casefold()
    return [one for one in plan.names if (plan.account(one).settings.client or "").casefold() == wanted]


def _at(plan: PlanFolder, written: str, account: str | None) -> tuple[str, list[Domain | Installation]]:
    """The installation at an address, or the domain of that name with all that is installed there."""
    try:
        layout, installation = installation_at(plan, written, account)
    except InvalidName as error:
        raise InputError(f"{quoted(written)} is no account, client or address: {error}") from None
    except InputError as none:
        host = written.strip().lower().rstrip("/")
        names = plan.known_names([account]) if account is not None else plan.layout.hosts.get(host, ())
        having = [(name, plan.layout_of(name)) for name in names]
        declared = [(name, layout, layout.account.declared(host)) for name, layout in having]  # type: ignore[arg-type]
        for name, layout, domain in sorted(declared, key=lambda one: one[2] is not None and _is_left(one[2])):
            if domain is not None:
                there = [one for one in layout.account.installations if one.address.host == host]
                return name, [domain, *there]
        if "/" not in written and "." not in written:
            near = did_you_mean(written, plan.names)
            raise InputError(f"{quoted(written)} is no account, client or address{near}") from None
        raise none from None
    domain = layout.account.named.get(installation.address.host)
    return layout.name, [installation, *([domain] if domain is not None else [])]
