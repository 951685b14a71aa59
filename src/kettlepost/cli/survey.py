"""`kettlepost survey`."""

from __future__ import annotations

import sys
import time
from typing import Annotated

import typer

from kettlepost.cli import running


def survey(
    account: Annotated[str, typer.Argument(metavar="ACCOUNT", help="An account of the plan.")],
    source: Annotated[
        str, typer.Option("--from", metavar="PATH", help="The account's home folder, as this machine reaches it.")
    ],
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Look at what is in an account's folders, and store it in surveys/ACCOUNT.json."""
    from kettlepost.core.names import printable
    from kettlepost.core.survey import open_source, store_survey, take_survey

    opened = running.open_plan(plan)
    (name,) = running.known_accounts(opened, [account])
    progress = Progress()
    try:
        taken = take_survey(opened, name, open_source(source), running.now(), progress.seen)
    finally:
        progress.clear()
    path = store_survey(opened, taken)
    if form is running.Format.json:
        from kettlepost.render.json import survey_json

        sys.stdout.write(survey_json(taken))
        return
    from kettlepost.render.screen import Screen
    from kettlepost.render.text import show_survey

    titles = {known.id: known.shown for known in opened.applications.values()}
    show_survey(Screen(), taken, titles, printable(path))


class Progress:
    """Says on a terminal how far a long survey has come, a few times a second."""

    def __init__(self) -> None:
        self._shows = sys.stderr.isatty()
        self._next = time.monotonic() + 0.7
        self._shown = False

    def seen(self, files: int, folders: int) -> None:
        if self._shows and time.monotonic() >= self._next:
            self._next = time.monotonic() + 0.2
            self._shown = True
            sys.stderr.write(f"\r\x1b[Ksurveying: {files:,} files in {folders:,} folders")
            sys.stderr.flush()

    def clear(self) -> None:
        if self._shown:
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()


def register(app: typer.Typer) -> None:
    running.register(app, survey, "survey")
