"""`kettlepost map`."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime
from kettlepost.render import formats
from kettlepost.render.results import AddressMap, FolderMap


class Grouping(StrEnum):
    """Which of the two trees comes first."""

    address = "address"
    folder = "folder"


def map_(
    account: Annotated[
        list[str] | None, typer.Argument(metavar="ACCOUNT", help="Accounts to show; all when none is named.")
    ] = None,
    by: Annotated[
        Grouping, typer.Option("--by", help="Addresses with their folders, or folders with their addresses.")
    ] = (Grouping.address),
    every: Annotated[bool, typer.Option("--every", help="By folder: every folder of the survey.")] = False,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("AddressMap", "FolderMap")] = formats.Format.text,
) -> None:
    """Show which address reaches which folder, either way round."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    if by is Grouping.address:
        formats.write(AddressMap(opened.account, kettlepost.map_addresses(opened, account)), form)
    else:
        formats.write(FolderMap(opened.account, kettlepost.map_folders(opened, account, every)), form)
    runtime.say_troubles(opened.troubles.values())


def register(app: typer.Typer) -> None:
    runtime.register(app, map_, "map")
