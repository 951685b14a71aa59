"""`kettlepost work`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime, subject_options
from kettlepost.render import formats
from kettlepost.render.results import WorkShown


def work(
    asked: Annotated[
        list[str] | None,
        typer.Argument(metavar="[ACCOUNT|ADDRESS|CLIENT]...", help="Default: everything.", show_default=False),
    ] = None,
    account: subject_options.AccountOption = None,
    for_: Annotated[
        str | None, typer.Option("--for", metavar="WHO", help="you, host, registrar, client, or a name from the plan.")
    ] = None,
    next_only: Annotated[bool, typer.Option("--next", help="Only what can be done now, by who.")] = False,
    done: Annotated[
        list[str] | None,
        typer.Option("--done", metavar="ID", help="Say that a step is done, or all of an ADDRESS; may be repeated."),
    ] = None,
    not_done: Annotated[
        list[str] | None,
        typer.Option("--not-done", metavar="ID", help="Take back that it is, or all of an ADDRESS."),
    ] = None,
    by: Annotated[str | None, typer.Option("--by", metavar="WHO", help="With --done: who did it.")] = None,
    note: Annotated[str | None, typer.Option("--note", metavar="TEXT", help="With --done: a remark.")] = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("WorkShown")] = formats.Format.text,
) -> None:
    """List the work from what is to what should be, in order: every value filled in, who does it, what comes first.

    A step is done as it is seen (survey, databases, zone), or as somebody says so with --done.
    """
    if done and not_done:
        raise kettlepost.InputError("--done and --not-done go one after the other")
    ids = list(done or not_done or ())
    if ids:
        _say(plan, ids, by or "", note or "", bool(not_done), yes, show, form)
        return
    if by or note:
        raise kettlepost.InputError("--by and --note go with --done")
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    found = kettlepost.work(opened, asked or (), account)
    if for_ is not None:
        found = kettlepost.who_can(found, for_)
    others = any(step.who in ("the host", "the registrar", "the client") for step in found.steps)
    formats.write(WorkShown(found, next_only, for_ is not None and others), form)
    runtime.say_troubles(opened.troubles.values())


def _say(
    plan: Path | None, ids: list[str], by: str, note: str, takes_back: bool, yes: bool, show: bool, form: formats.Format
) -> None:
    shown = form if form in ("text", "json") else formats.Format.text
    edit_options.propose(
        plan, lambda opened: kettlepost.say_done(opened, ids, by, note, takes_back), yes, show, shown
    )  # fmt: skip


def register(app: typer.Typer) -> None:
    runtime.register(app, work, "work")
