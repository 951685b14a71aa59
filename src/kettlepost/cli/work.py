"""`kettlepost work`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime, source_options, subject_options
from kettlepost.cli.clear import TakeOverOption
from kettlepost.render import formats
from kettlepost.render.results import StepShown, TakenBackShown, WorkShown


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
    carry_out: Annotated[
        str | None,
        typer.Option("--carry-out", metavar="ID", help="Do a step in the account's files; shown first, can go back."),
    ] = None,
    take_back: Annotated[
        str | None, typer.Option("--take-back", metavar="NUMBER", help="Put back how it was before such a step.")
    ] = None,
    take_over: TakeOverOption = False,
    source: source_options.FilesOption = None,
    other: Annotated[
        str | None,
        typer.Option("--other-from", metavar="SOURCE", help="Where the files of the account lie that it comes from."),
    ] = None,
    key: source_options.KeyOption = None,
    known_hosts: source_options.KnownHostsOption = None,
    certificates: source_options.CertificatesOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("WorkShown")] = formats.Format.text,
) -> None:
    """List the work from what is to what should be, in order: every value filled in, who does it, what comes first.

    A step is done as it is seen (survey, databases, zone), or as somebody says so with --done.

    Steps in files alone, such as a copy or lines of a control file, are done by --carry-out.
    """
    if sum(bool(one) for one in (done, not_done, carry_out, take_back)) > 1:
        raise kettlepost.InputError("--done, --not-done, --carry-out and --take-back go one after the other")
    if carry_out is not None or take_back is not None:
        secrets = source_options.secrets(key, known_hosts, certificates)
        form = form if form in ("text", "json") else formats.Format.text
        if carry_out is not None:
            _carry_out(plan, carry_out, source, other, secrets, take_over, yes, show, form)
        else:
            _take_back(plan, take_back or "", source, secrets, take_over, yes, form)
        return
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


def _carry_out(
    plan: Path | None, own: str, source: str | None, other: str | None, secrets: kettlepost.Secrets, take_over: bool,
    yes: bool, show: bool, form: formats.Format,
) -> None:  # fmt: skip
    """Show what a step does to files, ask, do it, and say what was done."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    progress = source_options.Progress("copying: {} of {}")
    prepared = kettlepost.prepare_step(opened, own, source, secrets, other)
    try:
        if not yes or show:
            formats.write(StepShown(prepared, None), form)
            sys.stdout.flush()
            if show:
                return
            edit_options.ask("do this?", "done")
        carried = prepared.commit(progress.seen, take_over)
    finally:
        progress.clear()
        prepared.close()
    formats.write(StepShown(prepared, carried), form)
    sys.stdout.flush()
    runtime.hint(f"\n'kettlepost work --take-back {carried.record.number}' takes it back")
    if carried.left:
        raise typer.Exit(3)


def _take_back(
    plan: Path | None, number: str, source: str | None, secrets: kettlepost.Secrets, take_over: bool, yes: bool,
    form: formats.Format,
) -> None:  # fmt: skip
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    if not yes:
        edit_options.ask("set aside what that step made, and put back what it changed?", "changed", shows=False)
    taken = kettlepost.take_back(opened, number, source, secrets, take_over)
    formats.write(TakenBackShown(number, taken), form)
    if taken.left:
        raise typer.Exit(3)


def _say(
    plan: Path | None, ids: list[str], by: str, note: str, takes_back: bool, yes: bool, show: bool, form: formats.Format
) -> None:
    shown = form if form in ("text", "json") else formats.Format.text
    edit_options.propose(
        plan, lambda opened: kettlepost.say_done(opened, ids, by, note, takes_back), yes, show, shown
    )  # fmt: skip


def register(app: typer.Typer) -> None:
    runtime.register(app, work, "work")
