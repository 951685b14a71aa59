"""`kettlepost domain list` and `kettlepost installs`."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated

import typer

from kettlepost.cli import domains, running

if TYPE_CHECKING:
    import msgspec

AccountOption = Annotated[
    list[str] | None,
    typer.Option("--account", metavar="ACCOUNT", help="Only this account; may be given several times."),
]
SortOption = Annotated[
    str | None, typer.Option("--sort", metavar="COLUMN", help="Sort by this column; -COLUMN turns the order round.")
]
MatchOption = Annotated[
    list[str] | None,
    typer.Option(
        "--match", metavar="COLUMN=TEXT", help="Only rows whose column holds TEXT; may be given several times."
    ),
]


FormatOption = Annotated[running.TableFormat, typer.Option("--format", help="How the register is written.")]


def domain_list(
    account: AccountOption = None,
    match: MatchOption = None,
    sort: SortOption = None,
    plan: running.PlanOption = None,
    form: FormatOption = running.TableFormat.text,
) -> None:
    """List every domain: where it leads, its other names, what stands at it and what answers now."""
    from kettlepost.core.layout import DomainRow, domain_rows

    opened = running.open_plan(plan)
    names = running.known_accounts(opened, account or [])
    layout = running.open_layout(opened)
    rows = [row for name in names for row in domain_rows(layout, layout.accounts[name])]
    _write("domains", DomainRow, rows, match, sort, form)


def installs(
    account: AccountOption = None,
    match: MatchOption = None,
    sort: SortOption = None,
    plan: running.PlanOption = None,
    form: FormatOption = running.TableFormat.text,
) -> None:
    """List every installation: address, folder, version found, database, where it is looked after, findings."""
    from kettlepost.core.layout import InstallRow, install_rows
    from kettlepost.core.rules import check, found_with

    opened = running.open_plan(plan)
    names = running.known_accounts(opened, account or [])
    layout = running.open_layout(opened)
    counts = found_with(check(layout, running.today()).findings)
    rows = [row for name in names for row in install_rows(layout.accounts[name], counts.get(name, {}))]
    _write("installations", InstallRow, rows, match, sort, form)


def _write(
    name: str,
    kind: type[msgspec.Struct],
    rows: Sequence[msgspec.Struct],
    match: list[str] | None,
    sort: str | None,
    form: running.TableFormat,
) -> None:
    """Filter, sort and write the rows of a register."""
    from kettlepost.render import json, tables

    columns = kind.__struct_fields__
    for asked in match or ():
        column, _, text = asked.partition("=")
        _known_column(column, columns)
        rows = [row for row in rows if text.lower() in tables.cell_text(getattr(row, column)).lower()]
    if sort is not None:
        column = sort.removeprefix("-")
        _known_column(column, columns)
        rows = sorted(rows, key=lambda row: getattr(row, column), reverse=sort.startswith("-"))
    if form is running.TableFormat.json:
        sys.stdout.write(json.records_json({}, name, rows))
    elif form is running.TableFormat.csv:
        sys.stdout.write(tables.records_csv(columns, rows))
    elif form is running.TableFormat.markdown:
        sys.stdout.write(tables.records_markdown(columns, rows))
    else:
        from kettlepost.render.screen import Screen

        tables.show_records(Screen(), columns, rows)


def _known_column(column: str, columns: Sequence[str]) -> None:
    from kettlepost.core.errors import InputError
    from kettlepost.core.names import did_you_mean, quoted

    if column not in columns:
        near = did_you_mean(column, columns)
        raise InputError(f"{quoted(column)} is no column{near} (columns: {', '.join(columns)})")


def register(app: typer.Typer) -> None:
    running.register(app, installs, "installs")
    domain = typer.Typer(help="The domains of the plan.", no_args_is_help=True)
    running.register(domain, domain_list, "list")
    domains.register(domain)
    app.add_typer(domain, name="domain")
