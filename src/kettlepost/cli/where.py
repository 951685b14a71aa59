"""`kettlepost where`."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from kettlepost.cli import running


def where(
    address: Annotated[str, typer.Argument(metavar="ADDRESS", help="Host and path, with or without https://.")],
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Say where one address leads, what answers there now, and what else leads to the same folder."""
    from kettlepost.core.errors import InputError
    from kettlepost.core.layout import where as look
    from kettlepost.core.names import Address, InvalidName

    try:
        asked = Address.parse(address)
    except InvalidName as error:
        raise InputError(str(error)) from None
    view = look(running.open_layout(running.open_plan(plan)), asked)
    if form is running.Format.json:
        from kettlepost.render.json import where_json

        sys.stdout.write(where_json(view))
        return
    from kettlepost.render.screen import Screen
    from kettlepost.render.text import show_where

    show_where(Screen(), view)


def register(app: typer.Typer) -> None:
    running.register(app, where, "where")
