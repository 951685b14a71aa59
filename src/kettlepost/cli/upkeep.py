"""`kettlepost retire`, `adopt`, `confirm`, `forget`, `accept` and `undo`."""

from __future__ import annotations

import datetime
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime, subject_options
from kettlepost.render import formats


def retire(
    address: Annotated[str, typer.Argument(metavar="ADDRESS", help="Where the installation answers.")],
    account: subject_options.AccountOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Mark an installation as retired, and say what of it remains: files, tables, what it counts for at the host."""
    edit_options.propose(plan, lambda opened: kettlepost.retire(opened, address, account), yes, show, form)


def adopt(
    accounts: Annotated[
        list[str] | None, typer.Argument(metavar="[ACCOUNT]...", help="Whose surveys are looked at. Default: all.")
    ] = None,
    wanted: Annotated[
        list[str] | None,
        typer.Option("--with", metavar="FOLDER", help="Enter what looks like a copy or a staging site there, too."),
    ] = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Enter what the survey found and the plan does not know, as live installations, exactly as it was found.

    What was deployed as planned becomes live. What is not in use, looks like a copy or a staging site, or
    where no address leads, is named and left out.
    """
    edit_options.propose(plan, lambda opened: kettlepost.adopt(opened, accounts or (), wanted or ()), yes, show, form)


def confirm(
    what: Annotated[str, typer.Argument(metavar="WHAT", help="An address, a domain, or an account.")],
    account: subject_options.AccountOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Make what is planned live as the survey found it: installations, domains, and roots that have moved.

    Refuses where what was found differs from the plan, and names it; of an account it confirms what is clear.
    """
    edit_options.propose(plan, lambda opened: kettlepost.confirm(opened, what, account), yes, show, form)


def forget(
    what: Annotated[str, typer.Argument(metavar="WHAT", help="The address or domain of what is retired.")],
    account: subject_options.AccountOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Take the entry of a retired installation or domain out. Refuses while anything of it is left."""
    edit_options.propose(plan, lambda opened: kettlepost.forget(opened, what, account), yes, show, form)


def accept(
    rule: Annotated[str, typer.Argument(metavar="RULE", help="The rule whose finding is lived with.")],
    at: Annotated[str, typer.Option("--at", metavar="PLACE", help="Where it is found; * stands for any text.")],
    because: Annotated[str, typer.Option("--because", metavar="TEXT", help="Why it is lived with.")],
    until: Annotated[
        datetime.datetime | None,
        typer.Option("--until", metavar="DATE", formats=["%Y-%m-%d"], help="The last day on which it is: 2027-03-31."),
    ] = None,
    account: subject_options.AccountOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Write down that a finding is looked at and lived with."""
    day = until.date() if until is not None else None
    edit_options.propose(
        plan, lambda opened: kettlepost.accept(opened, rule, at, because, day, account), yes, show, form
    )


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
    runtime.register(app, confirm, "confirm")
    runtime.register(app, forget, "forget")
    runtime.register(app, accept, "accept")
    runtime.register(app, undo, "undo")
