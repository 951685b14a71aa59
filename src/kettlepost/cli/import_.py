"""`kettlepost import`."""

from __future__ import annotations

import sys
from contextlib import nullcontext
from enum import StrEnum
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime
from kettlepost.render import formats
from kettlepost.render.results import ImportShown


class Precedence(StrEnum):
    """Whose word is taken where plan and source disagree."""

    source = "source"
    plan = "plan"


def import_(
    sources: Annotated[
        list[str],
        typer.Argument(
            metavar="SOURCE...", help="Files or folders, such as /etc/apache2 or /etc/nginx; - is standard input."
        ),
    ],
    kind: Annotated[
        str | None,
        typer.Option(
            metavar="KIND",
            help="Their kind: apache, nginx, table, zone, certificate or survey. Default: as they look.",
        ),
    ] = None,
    column: Annotated[
        list[str] | None,
        typer.Option(
            metavar="WHAT=HEADING", help="Of a table: what a column holds, such as root=Ordner; several times."
        ),
    ] = None,
    account: Annotated[str | None, typer.Option(metavar="NAME", help="The account that all of it belongs to.")] = None,
    homes: Annotated[
        str | None, typer.Option(metavar="PATTERN", help="Where homes lie, such as '/srv/hosting/{account}'.")
    ] = None,
    take: Annotated[
        Precedence, typer.Option(help="Whose word is written where plan and source disagree.")
    ] = Precedence.plan,
    prune: Annotated[
        bool, typer.Option("--prune", help="Take out live domains that the sources do not have; each is named.")
    ] = False,
    compare: Annotated[
        bool, typer.Option("--compare", help="Only compare; end with status 1 where plan and sources differ.")
    ] = False,
    full: Annotated[
        bool, typer.Option("--full", help="Show as well what changes in the files of the plan, line by line.")
    ] = False,
    timeout: Annotated[
        float, typer.Option("--timeout", metavar="SECONDS", min=0.1, help="How long reading all of it may take.")
    ] = 120.0,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("ImportShown")] = formats.Format.text,
) -> None:
    """Read in what is there: configurations of Apache and nginx, tables, zones, certificates, surveys.

    What is new is entered as live. Where plan and source disagree both are told, and the plan is left as it is. What
    else a server's configuration says is kept in servers/, and answers go by it.
    """
    folder = runtime.plan_folder(plan)
    writes = yes and not show and not compare
    with kettlepost.changing(folder) if writes else nullcontext(kettlepost.open_plan(folder)) as opened:
        found = kettlepost.import_sources(
            opened, sources, kind, account, homes, take is Precedence.source, prune, _columns(column), timeout
        )
        if writes:
            found.change.commit(edit_options.command())
        formats.write(ImportShown(found.entry, found.change, writes, compare, full), form)
    if compare:
        if found.entry.differs:
            sys.stdout.flush()
            raise typer.Exit(1)
        return
    if show or not found.change.edits:
        return
    if not writes:
        edit_options.ask("write this into the plan?")
        found.change.commit(edit_options.command())
    names = [one.owner.name for one in found.entry.accounts]
    if names:
        runtime.hint(f"Next: 'kettlepost survey {'--all' if len(names) > 1 else names[0]}', then 'kettlepost check'.")


def _columns(written: list[str] | None) -> dict[str, str]:
    """The columns of a table as they were given."""
    pairs = [one.partition("=") for one in written or ()]
    wrong = next((what for what, sign, heading in pairs if not sign or not heading), None)
    if wrong is not None:
        raise kettlepost.InputError(f"--column {wrong}: write it such as --column root=Ordner")
    return {what.strip(): heading.strip() for what, _, heading in pairs}


def register(app: typer.Typer) -> None:
    runtime.register(app, import_, "import")
