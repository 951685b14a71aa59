"""`kettlepost place`."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime, subject_options
from kettlepost.cli.domains import WwwOption
from kettlepost.cli.weigh import (
    AnyAccountOption,
    NameOption,
    NewDomainOption,
    OtherDomainsOption,
    PreferOption,
    read_wishes,
)
from kettlepost.render import formats

RootOption = Annotated[
    str | None, typer.Option(metavar="FOLDER", help="The root of a new domain. Default: one that is free.")
]


class PlacedAs(StrEnum):
    """States that an installation may be entered in."""

    planned = "planned"
    live = "live"


def place(
    application: subject_options.ApplicationArgument = None,
    address: Annotated[
        str | None,
        typer.Argument(
            metavar="ADDRESS", help="Where it is to answer; with --as the domain it is for.", show_default=False
        ),
    ] = None,
    number: Annotated[
        int | None,
        typer.Option(
            "--as",
            metavar="N",
            min=1,
            help="The place with this number in 'kettlepost weigh'; alone, in the last one.",
        ),
    ] = None,
    folder: Annotated[
        str | None, typer.Option(metavar="FOLDER", help="Where its files go, if not where the address leads.")
    ] = None,
    root: RootOption = None,
    www: WwwOption = None,
    state: Annotated[PlacedAs, typer.Option(help="What it is entered as.")] = PlacedAs.planned,
    database: Annotated[str | None, typer.Option(metavar="NAME", help="The database. Default: a free name.")] = None,
    database_user: Annotated[str | None, typer.Option(metavar="NAME", help="Its user. Default: a free name.")] = None,
    table_prefix: Annotated[str | None, typer.Option(metavar="TEXT", help="Default: one that overlaps none.")] = None,
    admin: Annotated[
        str | None, typer.Option(metavar="NAME", help="The administrator. Default: a name nobody guesses.")
    ] = None,
    contact: Annotated[
        str | None, typer.Option(metavar="ADDRESS", help="Who looks after it. Default: the account's usual contact.")
    ] = None,
    name: NameOption = None,
    new_domain: NewDomainOption = None,
    prefer: PreferOption = None,
    account: subject_options.AccountOption = None,
    any_account: AnyAccountOption = False,
    other_domains: OtherDomainsOption = False,
    wishes: Annotated[
        Path | None,
        typer.Option("--wishes", metavar="FILE", help="Instead: enter what weigh --wishes finds for a CSV table."),
    ] = None,
    despite: edit_options.DespiteOption = None,
    because: edit_options.BecauseOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Enter an installation into the plan, with the domain, database and names it needs, once it is checked.

    Shows what would change, and writes on --yes or once it has asked. A new finding that stops
    ends it with status 1, and nothing is written.
    """
    edit_options.reason(despite, because)
    if wishes is not None:
        if application is not None or number is not None:
            raise kettlepost.InputError("give either an installation, or --wishes with a list")
        table, called = read_wishes(wishes)
        edit_options.propose(plan, lambda opened: kettlepost.place_wishes(opened, table, called), yes, show, form)
        return
    if number is None and (name or new_domain or prefer or any_account or other_domains):
        raise kettlepost.InputError(
            "--name, --new-domain, --prefer, --other-domains and --any-account are for weighing; weigh first: "
            f"kettlepost weigh {application or 'APPLICATION'} {address or 'DOMAIN'} with them, then kettlepost place "
            "--as N"
        )
    if number is None and (application is None or address is None):
        raise kettlepost.InputError("name the APPLICATION and the ADDRESS, or give --as N after 'kettlepost weigh'")
    wish = None
    if application is not None and address is not None:
        kind = prefer.value if prefer else None
        wish = kettlepost.Wish(application, address, name, kind, new_domain, account, any_account, other_domains)

    def prepare(opened: kettlepost.PlanFolder) -> kettlepost.PreparedChange:
        return kettlepost.place(
            opened, application, address, number, root, folder, despite or (), because, wish,
            www=www.value if www else None, state=state.value, database_name=database, database_user=database_user,
            table_prefix=table_prefix, admin_user=admin, contact=contact,
        )  # fmt: skip

    edit_options.propose(plan, prepare, yes, show, form)


def register(app: typer.Typer) -> None:
    runtime.register(app, place, "place")
