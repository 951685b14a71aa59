"""`kettlepost compare`."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime
from kettlepost.render import formats
from kettlepost.render.results import ComparisonShown


def compare(
    before: Annotated[
        str,
        typer.Argument(
            metavar="[FROM]",
            help="now, planned, before (by the survey before the last), a revision of git, or a plan folder.",
        ),
    ] = "now",
    after: Annotated[
        str | None,
        typer.Argument(
            metavar="[TO]", help="The same. Default: planned, or now where FROM is something else.", show_default=False
        ),
    ] = None,
    account: Annotated[
        list[str] | None,
        typer.Option("--account", metavar="ACCOUNT", help="This account alone; several times for more."),
    ] = None,
    https: Annotated[bool, typer.Option("--https", help="Ask every address by https.")] = False,
    full: Annotated[bool, typer.Option("--full", help="Name every address.")] = False,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("ComparisonShown")] = formats.Format.text,
) -> None:
    """Show which addresses answer otherwise in another state: as it is planned, as it was, in another plan folder.

    Every address that is known of is asked: hosts, surveyed folders and files, installations. A revision or a folder
    may have :planned behind it, for what was to be then. Ends with status 1 where anything differs.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    found = kettlepost.compare(opened, before, after, account, https)
    formats.write(ComparisonShown(found, full), form)
    runtime.say_troubles(opened.troubles.values())
    if found.unnamed:
        runtime.hint(
            "What all files were called before the last survey is not kept: of those that are gone only pages are told."
        )
    if found.counts.total():
        sys.stdout.flush()
        raise typer.Exit(1)


def register(app: typer.Typer) -> None:
    runtime.register(app, compare, "compare")
