"""`kettlepost apps`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime
from kettlepost.render import formats
from kettlepost.render.results import Catalogue, CatalogueEntry, Recognition


def apps(
    application: Annotated[str | None, typer.Argument(metavar="ID", help="An application of the catalogue.")] = None,
    folder: Annotated[
        Path | None, typer.Option("--try", metavar="PATH", help="Say what would be recognised in a folder, and why.")
    ] = None,
    plan: runtime.PlanOption = None,
    form: Annotated[
        formats.Format, runtime.format_option("Recognition", "Catalogue", "CatalogueEntry")
    ] = formats.Format.text,
) -> None:
    """List the applications that are recognised, explain one, or try the catalogue on a folder.

    Your own application tables count when a plan folder is at hand.
    """
    at_hand = runtime.plan_at_hand(plan)
    opened = kettlepost.open_plan(at_hand).shared.plan([]) if at_hand else kettlepost.catalogue_alone()
    if folder is not None:
        formats.write(Recognition(kettlepost.try_folder(opened, folder), opened.titles), form)
    elif application is None:
        known = opened.applications.values()
        formats.write(Catalogue(sorted(known, key=lambda entry: entry.id)), form)
    else:
        found = opened.application(application)
        formats.write(CatalogueEntry(found, kettlepost.applications().get(found.id) != found), form)


def register(app: typer.Typer) -> None:
    runtime.register(app, apps, "apps")
