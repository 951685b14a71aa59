"""`kettlepost map`."""

from __future__ import annotations

import sys
from enum import StrEnum
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime


class By(StrEnum):
    """Which of the two trees comes first."""

    address = "address"
    folder = "folder"


def map_(
    account: Annotated[
        list[str] | None, typer.Argument(metavar="ACCOUNT", help="Accounts to show; all when none is named.")
    ] = None,
    by: Annotated[By, typer.Option("--by", help="Addresses with their folders, or folders with their addresses.")] = (
        By.address
    ),
    every: Annotated[bool, typer.Option("--every", help="By folder: every folder of the survey.")] = False,
    plan: runtime.PlanOption = None,
    form: runtime.FormatOption = runtime.Format.text,
) -> None:
    """Show which address reaches which folder, either way round."""
    from kettlepost.render import json, text
    from kettlepost.render.screen import Screen

    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    if by is By.address:
        rows = kettlepost.map_addresses(opened, account)
        if form is runtime.Format.json:
            sys.stdout.write(json.addresses_json(rows))
        else:
            text.show_addresses(Screen(), opened.account, rows)
    else:
        tree = kettlepost.map_folders(opened, account, every)
        if form is runtime.Format.json:
            sys.stdout.write(json.folders_json(tree))
        else:
            text.show_folders(Screen(), opened.account, tree)
    runtime.say_troubles(opened.troubles.values())


def register(app: typer.Typer) -> None:
    runtime.register(app, map_, "map")
