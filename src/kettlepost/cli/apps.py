"""`kettlepost apps`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime


def apps(
    application: Annotated[str | None, typer.Argument(metavar="ID", help="An application of the catalogue.")] = None,
    folder: Annotated[
        Path | None, typer.Option("--try", metavar="PATH", help="Say what would be recognised in a folder, and why.")
    ] = None,
    plan: runtime.PlanOption = None,
    form: runtime.FormatOption = runtime.Format.text,
) -> None:
    """List the applications that are recognised, explain one, or try the catalogue on a folder.

    Your own application tables count when a plan folder is at hand.
    """
    from kettlepost.render import json, surveys
    from kettlepost.render.screen import Screen

    at_hand = runtime.plan_at_hand(plan)
    opened = kettlepost.open_plan(at_hand).shared.plan([]) if at_hand else kettlepost.catalogue_alone()
    known = opened.applications
    if folder is not None:
        trial = kettlepost.try_folder(opened, folder)
        if form is runtime.Format.json:
            sys.stdout.write(json.record_json(trial))
        else:
            surveys.show_trial(Screen(), trial, opened.titles)
    elif application is None:
        listed = sorted(known.values(), key=lambda known_one: known_one.id)
        if form is runtime.Format.json:
            sys.stdout.write(json.records_json({}, "applications", listed))
        else:
            surveys.show_applications(Screen(), listed)
    else:
        found = opened.application(application)
        if form is runtime.Format.json:
            sys.stdout.write(json.record_json(found))
        else:
            surveys.show_application(Screen(), found, kettlepost.applications().get(found.id) != found)


def register(app: typer.Typer) -> None:
    runtime.register(app, apps, "apps")
