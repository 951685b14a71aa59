"""`kettlepost where`."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator
from enum import StrEnum
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime


class When(StrEnum):
    """Which time is asked about."""

    now = "now"
    planned = "planned"


def where(
    address: Annotated[
        str | None,
        typer.Argument(
            metavar="[ADDRESS]", help="Host and path, with or without https://; - reads one a line.", show_default=False
        ),
    ] = None,
    when: Annotated[When, typer.Option("--when", help="What answers now, or once the plan is carried out.")] = When.now,
    folder: Annotated[
        str | None,
        typer.Option(
            "--folder", metavar="FOLDER", help="Instead: every address that reaches this folder; - reads one a line."
        ),
    ] = None,
    account: Annotated[
        str | None, typer.Option("--account", metavar="ACCOUNT", help="The account that --folder lies in.")
    ] = None,
    plan: runtime.PlanOption = None,
    form: runtime.FormatOption = runtime.Format.text,
) -> None:
    """Say where an address leads, what answers there and why, or which addresses reach a folder.

    Lists come from standard input, one a line, and go out one a line.
    """
    if (address is None) == (folder is None):
        raise kettlepost.InputError("name an ADDRESS, or a folder with --folder; - reads a list from standard input")
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    if folder == "-":
        _write_lines(kettlepost.where_each_folder(opened, _lines(), account, when.value), form)
    elif address == "-":
        _write_lines(kettlepost.where_each(opened, _lines(), when.value), form)
    elif folder is not None:
        _show(kettlepost.where_folder(opened, folder, account, when.value), form)
    else:
        _show(kettlepost.where(opened, address or "", when.value), form)
    runtime.say_troubles(opened.troubles.values())


def _show(view: kettlepost.WhereView | kettlepost.FolderView, form: runtime.Format) -> None:
    if form is runtime.Format.json:
        from kettlepost.render.json import view_json

        sys.stdout.write(view_json(view))
        return
    from kettlepost.render.screen import Screen
    from kettlepost.render.text import show_where

    show_where(Screen(), view)


def _lines() -> Iterator[str]:
    return (stripped for line in sys.stdin if (stripped := line.strip()))


def _write_lines(rows: Iterable[tuple[str, str, str, str]], form: runtime.Format) -> None:
    """Rows as they come, one a line: separated by tabs, or as JSON."""
    from kettlepost.render.gate import plain

    write = sys.stdout.write
    if form is runtime.Format.text:
        for row in rows:
            line = "\t".join(row)
            write((line if line.replace("\t", "").isprintable() else "\t".join(map(plain, row))) + "\n")
        return
    from kettlepost.render.json import line_json

    for asked, leads, kind, words in rows:
        write(line_json({"asked": asked, "leads_to": leads, "answers": kind, "words": words}))


def register(app: typer.Typer) -> None:
    runtime.register(app, where, "where")
