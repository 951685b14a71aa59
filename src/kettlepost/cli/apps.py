"""`kettlepost apps`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from kettlepost.cli import running
from kettlepost.core.errors import InputError


def apps(
    application: Annotated[str | None, typer.Argument(metavar="ID", help="An application of the catalogue.")] = None,
    folder: Annotated[
        Path | None, typer.Option("--try", metavar="PATH", help="Say what would be recognised in a folder, and why.")
    ] = None,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """List the applications that are recognised, explain one, or try the catalogue on a folder.

    Your own application tables count when a plan folder is at hand.
    """
    from kettlepost.core.names import did_you_mean, quoted
    from kettlepost.core.survey import try_folder
    from kettlepost.render import json, surveys
    from kettlepost.render.screen import Screen

    opened, own = running.open_plan_or_catalogue(plan)
    known = opened.applications
    if folder is not None:
        trial = try_folder(opened, folder)
        if form is running.Format.json:
            sys.stdout.write(json.record_json(trial))
        else:
            surveys.show_trial(Screen(), trial, opened.titles)
    elif application is None:
        listed = sorted(known.values(), key=lambda one: one.id)
        if form is running.Format.json:
            sys.stdout.write(json.records_json({}, "applications", listed))
        else:
            surveys.show_applications(Screen(), listed)
    elif application not in known:
        raise InputError(f"{quoted(application)} is no application of the catalogue{did_you_mean(application, known)}")
    elif form is running.Format.json:
        sys.stdout.write(json.record_json(known[application]))
    else:
        surveys.show_application(Screen(), known[application], application in own)


def register(app: typer.Typer) -> None:
    running.register(app, apps, "apps")
