"""What every command that changes the plan shares: show the difference, check it, ask, write."""

from __future__ import annotations

import sys
from collections.abc import Callable
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from kettlepost.cli import running

if TYPE_CHECKING:
    from kettlepost.core.placing import Compared, Difference, Ground, Proposal
    from kettlepost.core.plan import Change, Edit
    from kettlepost.core.rules import Finding

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
Make = Callable[["Ground"], "Proposal"]


def propose(
    given: Path | None,
    make: Make,
    yes: bool,
    show: bool,
    form: running.Format,
    despite: list[str] | None = None,
    because: str | None = None,
    tell: Callable[[Compared], list[str]] | None = None,
    may_stop: bool = False,
) -> None:
    """Show what `make` proposes, and write it on `yes` or once it was asked; refuse what a new stop stands against.

    `tell` adds to what is said of it, from the account before and after; `may_stop` is true for
    what only writes down how it is, which is written whatever the check says of it.
    """
    from kettlepost.core.errors import InputError
    from kettlepost.core.plan import carry_out, locked
    from kettlepost.core.rules import find_rule

    folder = running.plan_folder(given)
    rules = {find_rule(slug).slug for slug in despite or ()}
    if rules and not (because or "").strip():
        raise InputError('--despite wants --because "...", the reason why it is lived with')
    if because is not None and not rules:
        raise InputError("--because goes with --despite RULE, the rule that is lived with")
    with locked(folder) if yes and not show else nullcontext():
        proposal, edit, found = _made(folder, make, rules, because)
        told = [*proposal.told, *(tell(found) if tell is not None else ())]
        stops = [one for one in found.difference.added if one.severity == "stop" and not may_stop]
        is_to_be_written = yes and not show and not stops
        if is_to_be_written:
            carry_out(folder, edit, _command(), running.now())
        _write(form, told, proposal.next, edit, found.difference, is_to_be_written)
    if stops:
        sys.stdout.flush()
        running.hint(f"\nnothing was written: {_refusal(stops)}")
        raise typer.Exit(1)
    if show:
        return
    if not is_to_be_written:
        _ask("write this into the plan?")
        with locked(folder):
            again = _made(folder, make, rules, because)[1]
            if again != edit:
                raise InputError("the plan was changed meanwhile; nothing was written: run this again")
            carry_out(folder, edit, _command(), running.now())
    running.hint(f"\nwritten to {edit.file}; 'kettlepost undo' takes it back")
    for step in proposal.next:
        running.hint(f"next: {step}")


def undo(given: Path | None, yes: bool, show: bool, form: running.Format) -> None:
    """Take the last change back, once it was shown."""
    from kettlepost.core.plan import last_change, locked, take_back

    folder = running.plan_folder(given)
    with locked(folder) if yes and not show else nullcontext():
        undoing = last_change(folder)
        if yes and not show:
            take_back(folder, undoing)
        words = [f"takes back '{undoing.entry.command}' of {undoing.entry.at}"]
        _write(form, words, [], undoing.edit, None, yes and not show)
    if show:
        return
    if not yes:
        _ask("take this back?")
        with locked(folder):
            take_back(folder, undoing)
    running.hint(f"{undoing.edit.file} is as it was before")


def _made(folder: Path, make: Make, rules: set[str], because: str | None) -> tuple[Proposal, Edit, Compared]:
    """A proposal, the edit it comes to, and what that changes; the findings of `rules` are accepted in it."""
    from kettlepost.core.errors import InputError
    from kettlepost.core.placing import compared
    from kettlepost.core.plan import Change, edit_account

    ground, known = running.open_known(folder)
    proposal = make(ground)
    changes: list[Change] = list(proposal.changes)
    edit = edit_account(folder, proposal.account, changes)
    found = compared(known, proposal.account, edit, running.today())
    if rules:
        mine = [one for one in found.difference.added if one.account == proposal.account]
        lived_with = [one for one in mine if one.rule in rules]
        absent = rules - {one.rule for one in lived_with}
        if absent:
            raise InputError(f"--despite {min(absent)}: this change brings no such finding; leave it out")
        for one in lived_with:
            values = {"finding": one.rule, "at": one.at, "because": because}
            changes.append(Change(proposal.account, "accept", None, values))
        edit = edit_account(folder, proposal.account, changes)
        found = compared(known, proposal.account, edit, running.today())
    return proposal, edit, found


def _write(
    form: running.Format, told: list[str], following: list[str], edit: Edit, difference: Difference | None, done: bool
) -> None:
    if form is running.Format.json:
        from kettlepost.render.json import change_json

        sys.stdout.write(change_json(edit, told, following, difference, done))
    else:
        from kettlepost.render.changes import show_change
        from kettlepost.render.screen import Screen

        show_change(Screen(), edit, told, difference)
    sys.stdout.flush()


def _refusal(stops: list[Finding]) -> str:
    from kettlepost.core.words import counted, listed

    slugs = list(dict.fromkeys(one.rule for one in stops))
    return (
        f"it would bring {counted(len(stops), 'stop')} ({listed(slugs)}); take a way out, or if it is lived with: "
        f'--despite {slugs[0]} --because "..."'
    )


def _ask(question: str) -> None:
    """Ask at the prompt; without one nothing is written. Raises InputError for anything but yes."""
    from kettlepost.core.errors import InputError

    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise InputError("nothing was written: give --yes to write without asking, or --show only to look")
    if not typer.confirm(f"\n{question}", default=False):
        raise InputError("nothing was written")


def _command() -> str:
    """The command as it was given, for the journal."""
    import shlex

    return shlex.join(["kettlepost", *sys.argv[1:]])
