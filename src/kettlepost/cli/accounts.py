"""`kettlepost account add`, `list`, `rename` and `drop`."""

from __future__ import annotations

from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime
from kettlepost.cli.registers import ColumnsOption, FormatOption, MatchOption, SortOption, show_register
from kettlepost.render import formats

NameArgument = Annotated[str, typer.Argument(metavar="NAME", help="The account.")]
HomeOption = Annotated[str | None, typer.Option(metavar="PATH", help="Its home on the host, such as /home/millbrook.")]
ClientOption = Annotated[str | None, typer.Option(metavar="NAME", help="Whose it is.")]
PackageOption = Annotated[str | None, typer.Option(metavar="NAME", help="Its package, as kettlepost.toml names it.")]
FromOption = Annotated[
    str | None, typer.Option("--survey-from", metavar="SOURCE", help="Where its folders are looked at.")
]
PrefixOption = Annotated[
    str | None, typer.Option("--database-prefix", metavar="TEXT", help="What its databases' names begin with.")
]


def account_add(
    name: NameArgument,
    home: HomeOption = None,
    client: ClientOption = None,
    package: PackageOption = None,
    survey_from: FromOption = None,
    database_prefix: PrefixOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Begin the file of an account."""

    def prepare(opened: kettlepost.PlanFolder) -> kettlepost.PreparedChange:
        return kettlepost.add_account(opened, name, home, client, package, survey_from, database_prefix)

    edit_options.propose(plan, prepare, yes, show, form)


def account_list(
    match: MatchOption = None,
    sort: SortOption = None,
    columns: ColumnsOption = None,
    plan: runtime.PlanOption = None,
    form: FormatOption = formats.Format.text,
) -> None:
    """List every account: whose it is, what it holds, what its package leaves, when it was surveyed."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    show_register("accounts", kettlepost.accounts(opened), match, sort, columns, form)
    runtime.say_troubles(opened.troubles.values())


def account_rename(
    name: NameArgument,
    new: Annotated[str, typer.Argument(metavar="NEW", help="What it is to be called.")],
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Give an account another name, in the plan and in its surveys."""
    edit_options.propose(plan, lambda opened: kettlepost.rename_account(opened, name, new), yes, show, form)


def account_drop(
    name: NameArgument,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Take an account out of the plan. Refuses while anything is in it."""
    edit_options.propose(plan, lambda opened: kettlepost.drop_account(opened, name), yes, show, form)


def register(app: typer.Typer) -> None:
    account = typer.Typer(help="The accounts of the plan.", no_args_is_help=True)
    runtime.register(account, account_add, "add")
    runtime.register(account, account_list, "list")
    runtime.register(account, account_rename, "rename")
    runtime.register(account, account_drop, "drop")
    app.add_typer(account, name="account")
