"""What every command that changes the plan shares: show the change, ask, write."""

from __future__ import annotations

import sys
from collections.abc import Callable
from contextlib import nullcontext
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime
from kettlepost.render import formats
from kettlepost.render.results import ChangeShown

_FEW_FILES = 8
"""How many files are named of those that were changed back."""
YesOption = Annotated[bool, typer.Option("--yes", "-y", help="Write without asking.")]
ShowOption = Annotated[bool, typer.Option("--show", help="Only show what would change.")]
DespiteOption = Annotated[
    list[str] | None,
    typer.Option(
        "--despite", metavar="RULE", help="Write although this rule is broken by it; may be given several times."
    ),
]
BecauseOption = Annotated[
    str | None, typer.Option("--because", metavar="REASON", help="Why that is lived with; written as an accept table.")
]
FormatOption = Annotated[formats.Format, runtime.format_option("ChangeShown")]
Prepare = Callable[["kettlepost.PlanFolder"], "kettlepost.PreparedChange"]


def propose(given: Path | None, prepare: Prepare, yes: bool, show: bool, form: formats.Format) -> None:
    """Show what `prepare` gives, and write it on `yes` or once it was asked; refuse what something stops."""
    folder = runtime.plan_folder(given)
    writes = yes and not show
    with kettlepost.changing(folder) if writes else nullcontext(kettlepost.open_plan(folder)) as plan:
        change = prepare(plan)
        troubles = list(plan.troubles.values())
        is_written = writes and not change.stops
        if is_written:
            change.commit(command())
        _write(change, is_written, form)
    runtime.say_troubles(troubles)
    if change.stops:
        from kettlepost.render.changes import refusal

        sys.stdout.flush()
        runtime.hint(f"\n{refusal(change)}")
        raise typer.Exit(1)
    if show:
        return
    if not is_written:
        if change.edits:
            ask("write this into the plan?")
        change.commit(command())
    _say_done(change)


def undo(given: Path | None, yes: bool, show: bool, form: formats.Format) -> None:
    """Take the last change back, once it was shown."""
    folder = runtime.plan_folder(given)
    writes = yes and not show
    with kettlepost.changing(folder) if writes else nullcontext(kettlepost.open_plan(folder)) as plan:
        change = kettlepost.undo(plan)
        if writes:
            change.commit()
        _write(change, writes, form)
    if show:
        return
    if not yes:
        ask("take this back?")
        change.commit()
    was = "is as it was" if len(change.files) == 1 else "are as they were"
    more = len(change.files) - _FEW_FILES
    files = [*change.files[:_FEW_FILES], f"and {more:,} more"] if more > 1 else change.files
    runtime.hint(f"{', '.join(files)} {was} before")


def reason(despite: list[str] | None, because: str | None) -> None:
    """See that rules that are broken come with a reason, and the other way round."""
    if despite and not (because or "").strip():
        raise kettlepost.InputError('--despite wants --because "...", the reason why it is lived with')
    if because is not None and not despite:
        raise kettlepost.InputError("--because goes with --despite RULE, the rule that is lived with")


def _say_done(change: kettlepost.PreparedChange) -> None:
    from kettlepost.render.steps import commands_of, step_words

    if change.files:
        runtime.hint(f"\nwritten to {', '.join(change.files)}; 'kettlepost undo' takes it back")
    else:
        runtime.hint("\nnothing was written: the plan says that already")
    for step in change.next:
        then = "; then say so: " if step.seen == "host-there" else ": "
        does = "".join(f"{then}{words}" for words in commands_of([step]))
        runtime.hint(f"next: {step_words(step)}{does}")


def _write(change: kettlepost.PreparedChange, done: bool, form: formats.Format) -> None:
    formats.write(ChangeShown(change, done), form)
    sys.stdout.flush()


def ask(question: str, done: str = "written", shows: bool = True) -> None:
    """Ask at the prompt; without one nothing is `done`. Raises InputError for anything but yes.

    `shows` is whether the command has --show.
    """
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        look = ", or --show only to look" if shows else ""
        raise kettlepost.InputError(f"nothing was {done}: give --yes to do it without asking{look}")
    try:
        is_wanted = typer.confirm(f"\n{question}", default=False)
    except typer.Abort:
        is_wanted = False
    if not is_wanted:
        raise kettlepost.InputError(f"nothing was {done}")


def command() -> str:
    """The command as it was given, for the journal."""
    import shlex

    return shlex.join(["kettlepost", *sys.argv[1:]])
