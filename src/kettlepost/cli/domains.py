"""`kettlepost domain add`, `drop` and `root`."""

from __future__ import annotations

from enum import StrEnum
from typing import TYPE_CHECKING, Annotated

import typer

from kettlepost.cli import changing, running
from kettlepost.cli.weigh import AccountOption

if TYPE_CHECKING:
    from kettlepost.core.placing import Compared, Ground, Proposal

NameArgument = Annotated[str, typer.Argument(metavar="NAME", help="The domain's host name.")]


class Kind(StrEnum):
    """Kinds of domain."""

    primary = "primary"
    addon = "addon"
    subdomain = "subdomain"
    alias = "alias"
    temporary = "temporary"


def domain_add(
    name: NameArgument,
    kind: Annotated[
        Kind | None, typer.Option(help="Default: subdomain below a domain of the account, alias with --of, else addon.")
    ] = None,
    root: Annotated[
        str | None, typer.Option(metavar="FOLDER", help="The folder it leads to. Default: one that is free.")
    ] = None,
    of: Annotated[str | None, typer.Option(metavar="DOMAIN", help="The domain it is another name of.")] = None,
    account: AccountOption = None,
    despite: changing.DespiteOption = None,
    because: changing.BecauseOption = None,
    yes: changing.YesOption = False,
    show: changing.ShowOption = False,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Declare a domain. The root offered is never one that is taken, or inside another, unless --root asks for it."""
    from kettlepost.core.placing import account_for, add_domain, new_domain

    host, target = running.parsed_host(name), running.parsed_host(of) if of is not None else None
    folder = running.parsed_folder(root) if root is not None else None

    def make(ground: Ground) -> Proposal:
        here = ground.here(account_for(ground, host, account, target))
        return add_domain(here, new_domain(here, host, kind.value if kind else None, folder, target))

    changing.propose(plan, make, yes, show, form, despite, because)


def domain_drop(
    name: NameArgument,
    account: AccountOption = None,
    despite: changing.DespiteOption = None,
    because: changing.BecauseOption = None,
    yes: changing.YesOption = False,
    show: changing.ShowOption = False,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Take a domain out of the plan. Refuses while installations answer there, and names them."""
    from kettlepost.core.placing import drop_domain, find_domain

    host = running.parsed_host(name)

    def make(ground: Ground) -> Proposal:
        return drop_domain(*find_domain(ground, host, account))

    changing.propose(plan, make, yes, show, form, despite, because)


def domain_root(
    name: NameArgument,
    folder: Annotated[str, typer.Argument(metavar="FOLDER", help="The folder it is to lead to.")],
    account: AccountOption = None,
    despite: changing.DespiteOption = None,
    because: changing.BecauseOption = None,
    yes: changing.YesOption = False,
    show: changing.ShowOption = False,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Give a domain another root, and show which addresses then lead to another folder."""
    from kettlepost.core.placing import changed_meanings, find_domain, move_root

    host, root = running.parsed_host(name), running.parsed_folder(folder)

    def make(ground: Ground) -> Proposal:
        return move_root(*find_domain(ground, host, account), root)

    def tell(found: Compared) -> list[str]:
        return changed_meanings(found.before, found.after)

    changing.propose(plan, make, yes, show, form, despite, because, tell)


def register(domain: typer.Typer) -> None:
    running.register(domain, domain_add, "add")
    running.register(domain, domain_drop, "drop")
    running.register(domain, domain_root, "root")
