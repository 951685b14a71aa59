"""`kettlepost new`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime


def new(folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="A folder that is new or empty.")]) -> None:
    """Start a plan folder: a commented kettlepost.toml and one example account."""
    from kettlepost.render.screen import Screen

    screen = Screen()
    for path in kettlepost.start_plan(folder):
        screen.line(f"wrote {path}")
    runtime.hint(
        "Next: put your account into accounts/, survey its folders with "
        "'kettlepost survey ACCOUNT --from PATH', then run 'kettlepost check'."
    )


def register(app: typer.Typer) -> None:
    runtime.register(app, new, "new")
