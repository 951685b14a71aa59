"""`kettlepost new`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime
from kettlepost.cli.accounts import ClientOption, FromOption, HomeOption, PackageOption, PrefixOption


def new(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="A folder that is new or empty.")],
    account: Annotated[
        str | None, typer.Option("--account", metavar="NAME", help="Begin the file of an account, too.")
    ] = None,
    home: HomeOption = None,
    client: ClientOption = None,
    package: PackageOption = None,
    survey_from: FromOption = None,
    database_prefix: PrefixOption = None,
) -> None:
    """Start a plan folder: a commented kettlepost.toml, and the file of a first account."""
    from kettlepost.render.screen import Screen

    given = (home, client, package, survey_from, database_prefix)
    if account is None and any(value is not None for value in given):
        raise kettlepost.InputError("--home, --client, --package and the like go with --account NAME")
    screen = Screen()
    if account is None:
        written = kettlepost.start_plan(folder)
    else:
        written = kettlepost.start_with_account(folder, account, *given)
    for path in written:
        screen.line(f"wrote {path}")
    first = "" if account is not None else "begin an account with 'kettlepost account add NAME', "
    name = account or "NAME"
    runtime.hint("Next: read in what a server or a table has with 'kettlepost import SOURCE', such as /etc/apache2;")
    runtime.hint(
        f"or {first}put its domains into accounts/{name}.toml. Then survey its folders with "
        f"'kettlepost survey {name} --from PATH', and run 'kettlepost check'."
    )


def register(app: typer.Typer) -> None:
    runtime.register(app, new, "new")
