"""`kettlepost export`."""

from __future__ import annotations

import sys
from enum import StrEnum
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime, subject_options


class ExportKind(StrEnum):
    """What a plan is written as."""

    apache = "apache"
    nginx = "nginx"
    hosts = "hosts"
    zone = "zone"
    table = "table"
    markdown = "markdown"


class Moment(StrEnum):
    """As it is today, or once the plan is carried out."""

    now = "now"
    planned = "planned"


def export(
    kind: Annotated[ExportKind, typer.Argument(metavar="KIND", help="apache, nginx, hosts, zone, table or markdown.")],
    names: subject_options.AccountsArgument = None,
    when: Annotated[Moment, typer.Option(help="What is live, or what is planned as well.")] = Moment.planned,
    to: Annotated[
        str | None,
        typer.Option(
            "--to", metavar="PATH", help="A file, or a folder/; .xlsx for a spreadsheet. Default: standard output."
        ),
    ] = None,
    plan: runtime.PlanOption = None,
) -> None:
    """Write the plan for another program: what a web server, a name server or a spreadsheet reads.

    What of the machine goes into it is said by the table export of kettlepost.toml.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    parts = kettlepost.export(opened, kind.value, names, when.value)
    if kind is ExportKind.nginx and not kettlepost.runs_php(opened):
        runtime.hint(
            "who runs PHP is not told ([export] php): with this, files that end in .php are handed out as they are"
        )
    if to is None:
        from kettlepost.render import gate

        comment = ";" if kind is ExportKind.zone else "#"
        for part in parts:
            if len(parts) > 1:
                sys.stdout.write(f"{comment} {gate.message(part.name)}\n")
            sys.stdout.flush()
            text = part.text if part.text.endswith("\n") else f"{part.text}\n"
            sys.stdout.buffer.write(text.encode("utf-8", "surrogateescape"))
        return
    for path in kettlepost.write_parts(parts, to):
        runtime.hint(f"wrote {path}")


def register(app: typer.Typer) -> None:
    runtime.register(app, export, "export")
