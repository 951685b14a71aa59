"""`kettlepost password make`, `show`, `check` and `titles`."""

from __future__ import annotations

import getpass
import os
import stat
import sys
from enum import StrEnum
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime, subject_options
from kettlepost.render import formats
from kettlepost.render.results import PasswordsChecked, PasswordTitles


class Purpose(StrEnum):
    """What a password is for."""

    admin = "admin"
    database = "database"


AddressArgument = Annotated[str, typer.Argument(metavar="ADDRESS", help="Where the application answers.")]
WhatArgument = Annotated[
    str | None, typer.Argument(metavar="[ADDRESS|ACCOUNT]", help="Default: everything.", show_default=False)
]
ForOption = Annotated[
    Purpose, typer.Option("--for", help="The administrator's of the application, or the database user's.")
]


def make(
    address: AddressArgument,
    purpose: ForOption = Purpose.admin,
    again: Annotated[bool, typer.Option("--again", help="Another one, where there is one already.")] = False,
    account: subject_options.AccountOption = None,
    plan: runtime.PlanOption = None,
) -> None:
    """Make a long random password, and keep it where the settings say (passwords_in).

    Where nothing is set it is shown once, on a terminal only, and kept nowhere.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    made = kettlepost.make_password(opened, address, purpose.value, account, phrase, again, sys.stdout.isatty())
    if made.kept:
        runtime.hint(f"kept in {made.kept} as {made.entry.title}, for the user {made.entry.user or '-'}")
        if made.told:
            runtime.hint(f"kettlepost: {made.told}")
        return
    sys.stdout.write(f"{made.password}\n")
    runtime.hint("shown once, and kept nowhere: passwords_in in the settings would say where")


def show(
    address: AddressArgument,
    purpose: ForOption = Purpose.admin,
    account: subject_options.AccountOption = None,
    plan: runtime.PlanOption = None,
) -> None:
    """Show a password that is kept, on a terminal or through a pipe."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    refuse_files("a password is shown on a terminal, or handed on through a pipe, and not written to a file")
    sys.stdout.write(f"{kettlepost.kept_password(opened, address, purpose.value, account, phrase)}\n")


def check(
    what: WhatArgument = None,
    account: subject_options.AccountOption = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("PasswordsChecked")] = formats.Format.text,
) -> None:
    """Look whether there is a password for each thing that wants one, and whether it can be guessed."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    states = kettlepost.check_passwords(opened, what, account, phrase)
    formats.write(PasswordsChecked(states), form)
    if any(state.state != "kept" for state in states):
        raise typer.Exit(1)


def titles(
    what: WhatArgument = None,
    account: subject_options.AccountOption = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("PasswordTitles")] = formats.Format.text,
) -> None:
    """List the entries under which passwords are kept; nothing is opened."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    formats.write(PasswordTitles(kettlepost.password_titles(opened, what, account)), form)


def phrase(asked: str) -> str | None:
    """The pass phrase of a file: from the environment, else asked for, twice where it is a new one."""
    from kettlepost.render.remedies import PHRASE_VARIABLE

    given = os.environ.get(PHRASE_VARIABLE)
    if given is not None or not sys.stdin.isatty():
        return given
    first = getpass.getpass(f"{asked}: ", stream=sys.stderr)
    if asked.startswith("New") and getpass.getpass("The same again: ", stream=sys.stderr) != first:
        raise kettlepost.InputError("the two are not the same; nothing was written")
    return first


def refuse_files(why: str, terminal_too: bool = False) -> None:
    """Raises InputError where standard output is a file, or where asked, a terminal."""
    mode = os.fstat(sys.stdout.fileno()).st_mode
    if stat.S_ISFIFO(mode) or stat.S_ISSOCK(mode) or (sys.stdout.isatty() and not terminal_too):
        return
    raise kettlepost.InputError(why)


def register(app: typer.Typer) -> None:
    group = typer.Typer(help="The passwords of applications and databases.", no_args_is_help=True)
    runtime.register(group, make, "make")
    runtime.register(group, show, "show")
    runtime.register(group, check, "check")
    runtime.register(group, titles, "titles")
    app.add_typer(group, name="password")
