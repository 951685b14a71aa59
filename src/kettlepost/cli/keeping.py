"""`kettlepost retire`, `kettlepost adopt` and `kettlepost undo`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from kettlepost.cli import changing, running
from kettlepost.cli.weigh import AccountOption

if TYPE_CHECKING:
    from kettlepost.core.placing import Ground, Proposal


def retire(
    address: Annotated[str, typer.Argument(metavar="ADDRESS", help="Where the installation answers.")],
    account: AccountOption = None,
    yes: changing.YesOption = False,
    show: changing.ShowOption = False,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Mark an installation as retired, and say what of it remains: files, tables, what it counts for at the host."""
    from kettlepost.core.placing import find_installation
    from kettlepost.core.placing import retire as retired

    asked = running.parsed_address(address)

    def make(ground: Ground) -> Proposal:
        return retired(*find_installation(ground, asked, account))

    changing.propose(plan, make, yes, show, form, may_stop=True)


def adopt(
    account: Annotated[str, typer.Argument(metavar="ACCOUNT", help="The account whose survey is looked at.")],
    yes: changing.YesOption = False,
    show: changing.ShowOption = False,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Enter what the survey found and the plan does not know, as live installations, exactly as it was found.

    What is not in use, or where no address leads, is named and left out.
    """
    from kettlepost.core.placing import adopt as adopted

    running.named_accounts(running.plan_folder(plan), [account])

    def make(ground: Ground) -> Proposal:
        return adopted(ground.here(account))

    changing.propose(plan, make, yes, show, form, may_stop=True)


def undo(
    yes: changing.YesOption = False,
    show: changing.ShowOption = False,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Take back the last change that a command made to the plan; again, the one before it.

    Refuses when the file was changed by other means since.
    """
    changing.undo(plan, yes, show, form)


def register(app: typer.Typer) -> None:
    running.register(app, retire, "retire")
    running.register(app, adopt, "adopt")
    running.register(app, undo, "undo")
