"""`kettlepost domain add`, `drop`, `root` and `www`."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime, subject_options
from kettlepost.render import formats

NameArgument = Annotated[str, typer.Argument(metavar="NAME", help="The domain's host name.")]


class NewDomainKind(StrEnum):
    """Kinds of domain."""

    primary = "primary"
    addon = "addon"
    subdomain = "subdomain"
    alias = "alias"
    temporary = "temporary"


class WwwForm(StrEnum):
    """Which of a bare name and the one with www answers."""

    both = "both"
    bare = "bare"
    www = "www"
    apart = "apart"


WwwOption = Annotated[
    WwwForm | None,
    typer.Option(
        help="Which answers, the bare name or the one with www; with apart it stands for its own name alone. "
        "Default: what [settings] www says."
    ),
]


def domain_add(
    name: NameArgument,
    kind: Annotated[
        NewDomainKind | None,
        typer.Option(help="Default: subdomain below a domain of the account, alias with --of, else addon."),
    ] = None,
    root: Annotated[
        str | None, typer.Option(metavar="FOLDER", help="The folder it leads to. Default: one that is free.")
    ] = None,
    of: Annotated[str | None, typer.Option(metavar="DOMAIN", help="The domain it is another name of.")] = None,
    account: subject_options.AccountOption = None,
    www: WwwOption = None,
    live: Annotated[
        bool, typer.Option("--live", help="It is on the account already: what is wrong there refuses nothing.")
    ] = False,
    despite: edit_options.DespiteOption = None,
    because: edit_options.BecauseOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Declare a domain that is to be added. The root offered is never one that is taken, or inside another,
    unless --root asks for it."""
    edit_options.reason(despite, because)
    if kind is NewDomainKind.alias and of is None:
        raise kettlepost.InputError("an alias is another name of a domain: name that with --of DOMAIN")

    def prepare(opened: kettlepost.PlanFolder) -> kettlepost.PreparedChange:
        declared = kind.value if kind else None
        shown = www.value if www else None
        return kettlepost.add_domain(opened, name, declared, root, of, account, live, despite or (), because, shown)

    edit_options.propose(plan, prepare, yes, show, form)


def domain_drop(
    name: NameArgument,
    account: subject_options.AccountOption = None,
    despite: edit_options.DespiteOption = None,
    because: edit_options.BecauseOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Take a domain out of the plan. Refuses while installations answer there, and names them."""
    edit_options.reason(despite, because)

    def prepare(opened: kettlepost.PlanFolder) -> kettlepost.PreparedChange:
        return kettlepost.drop_domain(opened, name, account, despite or (), because)

    edit_options.propose(plan, prepare, yes, show, form)


def domain_root(
    name: NameArgument,
    folder: Annotated[str, typer.Argument(metavar="FOLDER", help="The folder it is to lead to.")],
    account: subject_options.AccountOption = None,
    despite: edit_options.DespiteOption = None,
    because: edit_options.BecauseOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Give a domain another root, and show which addresses then lead to another folder."""
    edit_options.reason(despite, because)

    def prepare(opened: kettlepost.PlanFolder) -> kettlepost.PreparedChange:
        return kettlepost.move_root(opened, name, folder, account, despite or (), because)

    edit_options.propose(plan, prepare, yes, show, form)


def domain_www(
    which: Annotated[WwwForm, typer.Argument(metavar="FORM", help="Which of them answers.", show_default=False)],
    names: Annotated[
        list[str],
        typer.Argument(metavar="NAME...", help="Domains; an account is all of its domains that do not say yet."),
    ],
    account: subject_options.AccountOption = None,
    despite: edit_options.DespiteOption = None,
    because: edit_options.BecauseOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Say whether domains answer with www before them: both, the bare name, the one with www, or each for itself."""
    edit_options.reason(despite, because)

    def prepare(opened: kettlepost.PlanFolder) -> kettlepost.PreparedChange:
        return kettlepost.set_www(opened, which.value, names, account, despite or (), because)

    edit_options.propose(plan, prepare, yes, show, form)


def register(domain: typer.Typer) -> None:
    runtime.register(domain, domain_add, "add")
    runtime.register(domain, domain_drop, "drop")
    runtime.register(domain, domain_root, "root")
    runtime.register(domain, domain_www, "www")
