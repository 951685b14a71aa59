"""`kettlepost map`."""

from __future__ import annotations

import sys
from enum import StrEnum
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import running


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
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Show which address reaches which folder, either way round."""
    from kettlepost.render import json, text
    from kettlepost.render.screen import Screen

    opened = kettlepost.open_plan(running.plan_folder(plan))
    if by is By.address:
        rows = kettlepost.map_addresses(opened, account)
        if form is running.Format.json:
            sys.stdout.write(json.addresses_json(rows))
        else:
            text.show_addresses(Screen(), opened.account, rows)
    else:
        tree = kettlepost.map_folders(opened, account, every)
        if form is running.Format.json:
            sys.stdout.write(json.folders_json(tree))
        else:
            text.show_folders(Screen(), opened.account, tree)
    running.say_troubles(opened.troubles.values())


def register(app: typer.Typer) -> None:
    running.register(app, map_, "map")
