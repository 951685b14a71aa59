"""`kettlepost database read` and `database list`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import registers, runtime, source_options
from kettlepost.render import formats
from kettlepost.render.results import DatabasesRead


def read(
    account: Annotated[str | None, typer.Argument(metavar="ACCOUNT", help="An account of the plan.")] = None,
    source: Annotated[
        str | None,
        typer.Option(
            "--from",
            metavar="SOURCE",
            help="mysql://, mariadb:// or postgresql://user@host[:port]/, a dump (.sql, also packed by gzip or "
            "Zstandard), or a listing of tables.",
            show_default=False,
        ),
    ] = None,
    database: Annotated[
        str | None, typer.Option("--database", metavar="NAME", help="Of which database a dump is that does not say so.")
    ] = None,
    credentials: Annotated[
        Path | None,
        typer.Option("--credentials", metavar="FILE", help="A file of the driver's kind: .my.cnf, .pgpass."),
    ] = None,
    certificates: source_options.CertificatesOption = None,
    how_to: Annotated[bool, typer.Option("--how-to", help="Say how to make a listing with one command.")] = False,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("DatabasesRead")] = formats.Format.text,
) -> None:
    """Read which databases and tables there are, how large, and who may do what: no row, no password.

    A password is asked for, or taken from $KETTLEPOST_PASSWORD or --credentials; it is never an argument.
    """
    if how_to:
        from kettlepost.render.databases import HOW_TO

        sys.stdout.write(HOW_TO)
        return
    if account is None or source is None:
        raise kettlepost.InputError(
            "name an ACCOUNT, and where to read with --from; --how-to says how to make a listing"
        )
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    secrets = source_options.secrets(None, None, certificates)
    seen = kettlepost.read_databases(opened, account, source, secrets, credentials, database or "")
    formats.write(DatabasesRead(seen, f"surveys/{account}.databases.json"), form)


def list_(
    account: registers.AccountOption = None,
    match: registers.MatchOption = None,
    sort: registers.SortOption = None,
    columns: registers.ColumnsOption = None,
    plan: runtime.PlanOption = None,
    form: registers.FormatOption = formats.Format.text,
) -> None:
    """List every database: its size, who uses it, whose the tables in it are, and those of nobody."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    registers.show_register("databases", kettlepost.databases(opened, account), match, sort, columns, form)
    runtime.say_troubles(opened.troubles.values())


def register(app: typer.Typer) -> None:
    group = typer.Typer(help="The databases as they are.", no_args_is_help=True)
    runtime.register(group, read, "read")
    runtime.register(group, list_, "list")
    app.add_typer(group, name="database")
