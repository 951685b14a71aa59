"""`kettlepost retire`, `kettlepost adopt` and `kettlepost undo`."""

from __future__ import annotations

from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import changing, running
from kettlepost.cli.weigh import AccountOption


def retire(
    address: Annotated[str, typer.Argument(metavar="ADDRESS", help="Where the installation answers.")],
    account: AccountOption = None,
    yes: changing.YesOption = False,
    show: changing.ShowOption = False,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Mark an installation as retired, and say what of it remains: files, tables, what it counts for at the host."""
    changing.propose(plan, lambda opened: kettlepost.retire(opened, address, account), yes, show, form)


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
    changing.propose(plan, lambda opened: kettlepost.adopt(opened, account), yes, show, form)


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
