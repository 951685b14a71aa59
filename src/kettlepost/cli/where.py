"""`kettlepost where`."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from enum import StrEnum
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime
from kettlepost.render import formats
from kettlepost.render.results import AnswerLines


class When(StrEnum):
    """Which time is asked about."""

    now = "now"
    planned = "planned"


class Scheme(StrEnum):
    """How an address is asked for."""

    http = "http"
    https = "https"


class Method(StrEnum):
    """What a request wants done (RFC 9110 section 9)."""

    get = "GET"
    head = "HEAD"
    post = "POST"
    put = "PUT"
    delete = "DELETE"
    options = "OPTIONS"


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
    visitor: Annotated[
        str | None, typer.Option("--visitor", metavar="IP", help="Who asks, where that matters: their IP address.")
    ] = None,
    scheme: Annotated[Scheme | None, typer.Option("--scheme", help="How it is asked for.", show_default=False)] = None,
    method: Annotated[Method, typer.Option("--method", help="The method of the request.")] = Method.get,
    plan: runtime.PlanOption = None,
    form: Annotated[
        formats.Format, runtime.format_option("WhereView", "FolderView", "AnswerLines")
    ] = formats.Format.text,
) -> None:
    """Say where an address leads, what answers there and why, or which addresses reach a folder.

    Lists come from standard input, one a line, and go out one a line: what was asked, the folder, what
    answers, the status, how sure that is, and the words.
    """
    if (address is None) == (folder is None):
        raise kettlepost.InputError("name an ADDRESS, or a folder with --folder; - reads a list from standard input")
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    manner = kettlepost.RequestOptions(when.value, visitor, method.value, scheme.value if scheme is not None else None)
    if folder == "-":
        formats.write(AnswerLines(kettlepost.where_each_folder(opened, _lines(), account, when.value)), form)
    elif address == "-":
        formats.write(AnswerLines(kettlepost.where_each(opened, _lines(), manner=manner)), form)
    elif folder is not None:
        formats.write(kettlepost.where_folder(opened, folder, account, when.value), form)
    else:
        formats.write(kettlepost.where(opened, address or "", manner=manner), form)
    runtime.say_troubles(opened.troubles.values())


def _lines() -> Iterator[str]:
    return (stripped for line in sys.stdin if (stripped := line.strip()))


def register(app: typer.Typer) -> None:
    runtime.register(app, where, "where")
