"""`kettlepost retire`, `kettlepost adopt` and `kettlepost undo`."""

from __future__ import annotations

from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime
from kettlepost.cli.weigh import AccountOption
from kettlepost.render import formats


def retire(
    address: Annotated[str, typer.Argument(metavar="ADDRESS", help="Where the installation answers.")],
    account: AccountOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Mark an installation as retired, and say what of it remains: files, tables, what it counts for at the host."""
    edit_options.propose(plan, lambda opened: kettlepost.retire(opened, address, account), yes, show, form)


def adopt(
    account: Annotated[str, typer.Argument(metavar="ACCOUNT", help="The account whose survey is looked at.")],
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Enter what the survey found and the plan does not know, as live installations, exactly as it was found.

    What is not in use, or where no address leads, is named and left out.
    """
    edit_options.propose(plan, lambda opened: kettlepost.adopt(opened, account), yes, show, form)


def undo(
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Take back the last change that a command made to the plan; again, the one before it.

    Refuses when the file was changed by other means since.
    """
    edit_options.undo(plan, yes, show, form)


def register(app: typer.Typer) -> None:
    runtime.register(app, retire, "retire")
    runtime.register(app, adopt, "adopt")
    runtime.register(app, undo, "undo")
