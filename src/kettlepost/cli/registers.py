"""`kettlepost domain list` and `kettlepost installs`."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated

import typer

import kettlepost
from kettlepost.cli import domains, runtime, subject_options
from kettlepost.render import formats
from kettlepost.render.results import Register

if TYPE_CHECKING:
    import msgspec

SortOption = Annotated[
    str | None, typer.Option("--sort", metavar="COLUMN", help="Sort by this column; -COLUMN turns the order round.")
]
MatchOption = Annotated[
    list[str] | None,
    typer.Option(
        "--match", metavar="COLUMN=TEXT", help="Only rows whose column holds TEXT; may be given several times."
    ),
]


FormatOption = Annotated[formats.Format, runtime.format_option("Register")]


ColumnsOption = Annotated[
    str | None, typer.Option("--columns", metavar="A,B,...", help="Only these columns, in this order.")
]


def domain_list(
    account: subject_options.AccountsOption = None,
    match: MatchOption = None,
    sort: SortOption = None,
    columns: ColumnsOption = None,
    plan: runtime.PlanOption = None,
    form: FormatOption = formats.Format.text,
) -> None:
    """List every domain: where it leads, its other names, what stands at it and what answers now."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    show_register("domains", kettlepost.domains(opened, account), match, sort, columns, form)
    runtime.say_troubles(opened.troubles.values())


def installs(
    names: subject_options.AccountsArgument = None,
    account: subject_options.AccountsOption = None,
    match: MatchOption = None,
    sort: SortOption = None,
    columns: ColumnsOption = None,
    plan: runtime.PlanOption = None,
    form: FormatOption = formats.Format.text,
) -> None:
    """List every installation: address, folder, version found, database, where it is looked after, findings."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    asked = [*(names or ()), *(account or ())]
    show_register("installations", kettlepost.installations(opened, asked or None), match, sort, columns, form)
    runtime.say_troubles(opened.troubles.values())


def show_register(
    name: str,
    rows: Sequence[msgspec.Struct],
    match: list[str] | None,
    sort: str | None,
    columns: str | None,
    form: formats.Format,
) -> None:
    """Filter, sort and write the rows of a register."""
    known = kettlepost.REGISTERS[name]
    rows = kettlepost.chosen(rows, known, match or (), sort)
    shown = kettlepost.chosen_columns(known, columns)
    formats.write(Register(name, shown, rows, is_chosen=columns is not None), form)


def register(app: typer.Typer) -> None:
    runtime.register(app, installs, "installs")
    domain = typer.Typer(help="The domains of the plan.", no_args_is_help=True)
    runtime.register(domain, domain_list, "list")
    domains.register(domain)
    app.add_typer(domain, name="domain")
