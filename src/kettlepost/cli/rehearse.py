"""`kettlepost rehearse`."""

from __future__ import annotations

from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime, subject_options
from kettlepost.cli.domains import WwwOption
from kettlepost.cli.place import RootOption
from kettlepost.render import formats


def rehearse(
    address: Annotated[str, typer.Argument(metavar="ADDRESS", help="What is live there.", show_default=False)],
    at: Annotated[
        str | None,
        typer.Argument(metavar="AT", help="Where the copy is to answer. Default: a subdomain.", show_default=False),
    ] = None,
    root: RootOption = None,
    www: WwwOption = None,
    database: Annotated[
        str | None, typer.Option(metavar="NAME", help="The database of the copy. Default: a new one, if there is room.")
    ] = None,
    table_prefix: Annotated[
        str | None,
        typer.Option(metavar="TEXT", help="Its table prefix; without --database, in the database that is live."),
    ] = None,
    account: subject_options.AccountOption = None,
    despite: edit_options.DespiteOption = None,
    because: edit_options.BecauseOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Enter a copy of what is live, with files and data of its own, to try a change on: closed to all who have no
    password, and without mail. What is then to be done is in its work list."""
    edit_options.reason(despite, because)

    def prepare(opened: kettlepost.PlanFolder) -> kettlepost.PreparedChange:
        return kettlepost.rehearse(
            opened, address, at, account, root, www.value if www else None, database, table_prefix, despite or (),
            because,
        )  # fmt: skip

    edit_options.propose(plan, prepare, yes, show, form)


def register(app: typer.Typer) -> None:
    runtime.register(app, rehearse, "rehearse")
