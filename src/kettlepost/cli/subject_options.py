"""What a command is about, as several of them ask for it."""

from __future__ import annotations

from typing import Annotated

import typer

AccountArgument = Annotated[str | None, typer.Argument(metavar="ACCOUNT", help="An account of the plan.")]
AccountOption = Annotated[
    str | None, typer.Option("--account", metavar="ACCOUNT", help="The account, where several have the domain.")
]
AccountsArgument = Annotated[
    list[str] | None, typer.Argument(metavar="[ACCOUNT]...", help="Only these accounts. Default: all.")
]
AccountsOption = Annotated[
    list[str] | None,
    typer.Option("--account", metavar="ACCOUNT", help="Only this account; may be given several times."),
]
ApplicationArgument = Annotated[
    str | None, typer.Argument(metavar="APPLICATION", help="What is to be installed.", show_default=False)
]
