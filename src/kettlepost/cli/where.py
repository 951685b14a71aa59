"""`kettlepost where`."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator
from enum import StrEnum
from typing import TYPE_CHECKING, Annotated

import typer

from kettlepost.cli import running

if TYPE_CHECKING:
    from kettlepost.core.layout import AccountLayout, FolderView, Layout, WhereView


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
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Say where an address leads, what answers there and why, or which addresses reach a folder.

    Lists come from standard input, one a line, and go out one a line.
    """
    from kettlepost.core.errors import InputError

    if (address is None) == (folder is None):
        raise InputError("name an ADDRESS, or a folder with --folder; - reads a list from standard input")
    opened = running.open_plan(plan)
    if folder is not None:
        from kettlepost.core.layout import where_folder

        here = _account(running.open_layout(opened), account)
        if folder == "-":
            _write_lines(_folder_lines(here, when), form)
            return
        layout, place = here[0], running.parsed_folder(folder)
        view = where_folder(layout, here[1], place, when.value)
        _show(view, form)
        return
    layout = running.open_layout(opened)
    if address == "-":
        _write_lines(_address_lines(layout, when), form)
        return
    from kettlepost.core.layout import where as look

    asked = running.parsed_address(address or "")
    _show(look(layout, asked, when.value), form)


def _show(view: WhereView | FolderView, form: running.Format) -> None:
    if form is running.Format.json:
        from kettlepost.render.json import record_json

        sys.stdout.write(record_json(view))
        return
    from kettlepost.render.screen import Screen
    from kettlepost.render.text import show_where

    show_where(Screen(), view)


def _address_lines(layout: Layout, when: When) -> Iterator[tuple[str, str, str, str]]:
    """The addresses of standard input, each with its folder and what answers."""
    from kettlepost.core.layout import Answers
    from kettlepost.core.names import Address, InvalidName

    answers = Answers(layout, when.value)
    for line in _lines():
        try:
            address = Address.parse(line)
        except InvalidName as error:
            yield line, "-", "wrong", str(error)
            continue
        yield (line, *answers.brief(address))


def _folder_lines(here: tuple[Layout, AccountLayout], when: When) -> Iterator[tuple[str, str, str, str]]:
    from kettlepost.core.errors import InputError
    from kettlepost.core.layout import where_folder

    for line in _lines():
        try:
            view = where_folder(*here, running.parsed_folder(line), when.value)
        except InputError as error:
            yield line, "-", "wrong", str(error)
            continue
        yield line, ", ".join(view.addresses) or "-", view.answers, view.words


def _lines() -> Iterator[str]:
    return (stripped for line in sys.stdin if (stripped := line.strip()))


def _write_lines(rows: Iterable[tuple[str, str, str, str]], form: running.Format) -> None:
    """Rows as they come, one a line: separated by tabs, or as JSON."""
    from kettlepost.core.names import printable

    write = sys.stdout.write
    if form is running.Format.text:
        for row in rows:
            line = "\t".join(row)
            write((line if line.replace("\t", "").isprintable() else "\t".join(map(printable, row))) + "\n")
        return
    from kettlepost.render.json import line_json

    for asked, leads, kind, words in rows:
        write(line_json({"asked": asked, "leads_to": leads, "answers": kind, "words": words}))


def _account(layout: Layout, name: str | None) -> tuple[Layout, AccountLayout]:
    from kettlepost.core.errors import InputError

    names = list(layout.accounts)
    if name is None and len(names) != 1:
        raise InputError(
            f"name the account that the folder lies in with --account: {', '.join(names[:6]) or 'none yet'}"
        )
    if name is not None:
        running.known_accounts(layout.plan, [name])
    return layout, layout.accounts[name or names[0]]


def register(app: typer.Typer) -> None:
    running.register(app, where, "where")
