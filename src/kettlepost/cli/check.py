"""`kettlepost check`."""

from __future__ import annotations

import datetime
import sys
from enum import StrEnum
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime, subject_options, unattended
from kettlepost.render import formats
from kettlepost.render.remedies import command


class AtLeast(StrEnum):
    """Severities, worst first."""

    stop = "stop"
    risk = "risk"
    note = "note"


def check(
    names: subject_options.AccountsArgument = None,
    account: subject_options.AccountsOption = None,
    only: Annotated[
        list[str] | None, typer.Option("--only", metavar="RULE", help="Only this rule; may be given several times.")
    ] = None,
    skip: Annotated[
        list[str] | None, typer.Option("--skip", metavar="RULE", help="Not this rule; may be given several times.")
    ] = None,
    against: Annotated[
        list[str] | None,
        typer.Option(
            "--against",
            metavar="SOURCE",
            help="Hold the plan against a server's configuration too; may be given several times.",
        ),
    ] = None,
    at_least: Annotated[
        AtLeast, typer.Option("--at-least", help="End with status 1 only for findings at least this bad.")
    ] = AtLeast.note,
    today: Annotated[
        datetime.datetime | None,
        typer.Option(
            "--today",
            formats=["%Y-%m-%d"],
            metavar="DATE",
            help="The day that acceptances are held against, such as 2027-04-01.",
        ),
    ] = None,
    quiet: unattended.QuietOption = False,
    log: unattended.LogOption = None,
    timeout: Annotated[
        float | None, typer.Option("--timeout", metavar="SECONDS", min=0.1, help="How long all of it may take.")
    ] = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("Checked")] = formats.Format.text,
) -> None:
    """Find every collision: parties, where each was written, why it matters, and the ways out."""
    unattended.log_to(log, "check")
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    day = today.date() if today is not None else None
    asked = [*(names or ()), *(account or ())]
    with unattended.within(timeout):
        checked = kettlepost.check(opened, asked or None, only, skip or (), day, against or ())
    if not opened.names:
        raise kettlepost.InputError("the plan has no account yet; begin one with 'kettlepost account add NAME'")
    severities = list(AtLeast)
    is_bad = any(checked.counts[severity.value] for severity in severities[: severities.index(at_least) + 1])
    if is_bad or not quiet:
        formats.write(checked, form)
    runtime.say_troubles(checked.troubles)
    if not quiet:
        _say_surveys(opened, checked)
    counts = ", ".join(f"{checked.counts[severity.value]} {severity.value}" for severity in severities)
    runtime.note(f"check ends: {counts}", is_bad)
    for trouble in checked.troubles:
        runtime.note(trouble, is_wrong=True)
    if is_bad:
        sys.stdout.flush()
        raise typer.Exit(1)


def _say_surveys(plan: kettlepost.PlanFolder, checked: kettlepost.Checked) -> None:
    """What the findings rest on, where that is less than it could be."""
    for names, told in (
        (checked.unsurveyed, "No survey of {}: checked on the plan alone. Take one: {}"),
        (checked.outdated, "The survey of {} was taken before the plan named all of its roots. Take it again: {}"),
    ):
        if names:
            some = ", ".join(names[:3]) + (f" and {len(names) - 3:,} more" if len(names) > 3 else "")
            runtime.hint(told.format(some, command(plan.surveying(names[0]))))
    unsaid, saying = checked.unsaid_www, checked.saying_www
    if saying is not None:
        some = ", ".join(unsaid[:3]) + (f" and {len(unsaid) - 3:,} more" if len(unsaid) > 3 else "")
        goes = "answer" if unsaid[1:] else "answers"
        runtime.hint(
            f"Nobody says whether {some} {goes} with www. Say it, with 'apart' for no, and the name of an account for "
            f"all of its domains:\n{command(saying)}"
        )


def register(app: typer.Typer) -> None:
    runtime.register(app, check, "check")
