"""`kettlepost weigh`."""

from __future__ import annotations

import sys
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime, subject_options
from kettlepost.render import formats
from kettlepost.render.results import GrantedList, WeighingShown

_LARGEST = 16 * 1024 * 1024


class Prefer(StrEnum):
    """Kinds of place that may be preferred."""

    root = "root"
    subfolder = "subfolder"
    subdomain = "subdomain"
    domain = "domain"


NameOption = Annotated[
    str | None, typer.Option("--name", metavar="NAME", help="The subfolder's or subdomain's name, such as shop.")
]
NewDomainOption = Annotated[
    str | None, typer.Option("--new-domain", metavar="DOMAIN", help="A domain of its own that could be added for it.")
]
PreferOption = Annotated[
    Prefer | None,
    typer.Option("--prefer", help="The kind of place liked best. Default: prefer under settings in kettlepost.toml."),
]
AnyAccountOption = Annotated[bool, typer.Option("--any-account", help="Weigh other accounts that have room, too.")]

OtherDomainsOption = Annotated[
    bool, typer.Option("--other-domains", help="Weigh empty domains of the same client in the account, too.")
]


def weigh(
    application: subject_options.ApplicationArgument = None,
    domain: Annotated[
        str | None, typer.Argument(metavar="DOMAIN", help="The domain it is for.", show_default=False)
    ] = None,
    name: NameOption = None,
    new_domain: NewDomainOption = None,
    prefer: PreferOption = None,
    account: subject_options.AccountOption = None,
    any_account: AnyAccountOption = False,
    other_domains: OtherDomainsOption = False,
    client: Annotated[
        str | None,
        typer.Option("--client", metavar="NAME", help="Instead of a domain: compare the accounts and domains of NAME."),
    ] = None,
    despite: Annotated[
        list[str] | None,
        typer.Option(
            "--despite",
            metavar="RULE",
            help="Lived with for this: what the rule finds weighs nothing.",
        ),
    ] = None,
    because: Annotated[
        str | None,
        typer.Option("--because", metavar="REASON", help="Why that is lived with; 'place --as' writes it down."),
    ] = None,
    why: Annotated[bool, typer.Option("--why", help="Show the comparison in full.")] = False,
    wishes: Annotated[
        Path | None,
        typer.Option(
            "--wishes",
            metavar="FILE",
            help="Instead: a CSV table of wishes (application, domain, name, prefer, new_domain, account), "
            "given places one after the other; - reads it from standard input.",
        ),
    ] = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("WeighingShown", "GrantedList")] = formats.Format.text,
) -> None:
    """Weigh the places where an application could go, best first: what each costs, and what stands in the way.

    Ends with status 1 when every place, or a wish's every place, is stopped by something.
    """
    if wishes is not None:
        if application is not None:
            raise kettlepost.InputError("give either APPLICATION and DOMAIN, or --wishes with a list")
        if despite or because:
            raise kettlepost.InputError("--despite is for one application, not for a list")
        _weigh_list(kettlepost.open_plan(runtime.plan_folder(plan)), wishes, form)
        return
    if application is None or (domain is None) == (client is None):
        raise kettlepost.InputError(
            "name the APPLICATION, and the DOMAIN or the --client that it is for, such as: kettlepost weigh wordpress "
            "DOMAIN"
        )
    edit_options.reason(despite, because)
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    kind = prefer.value if prefer else None
    weighing = kettlepost.weigh(
        opened, application, domain or "", name, kind, new_domain, account, any_account, other_domains, client=client,
        despite=despite or (), because=because,
    )  # fmt: skip
    formats.write(WeighingShown(weighing, why), form)
    if form is formats.Format.text and weighing.places and sys.stdout.isatty():
        runtime.hint("\nnext: kettlepost place --as 1, or another number")
    runtime.say_troubles(opened.troubles.values())
    if weighing.best is None:
        sys.stdout.flush()
        raise typer.Exit(1)


def read_wishes(file: Path) -> tuple[bytes, str]:
    """A list of wishes, and what it is called in errors; `-` is standard input."""
    if str(file) == "-":
        return sys.stdin.buffer.read(_LARGEST + 1), "standard input"
    return kettlepost.read_table(file), str(file)


def _weigh_list(plan: kettlepost.PlanFolder, file: Path, form: formats.Format) -> None:
    table, name = read_wishes(file)
    granted = kettlepost.grant(plan, table, name)
    formats.write(GrantedList(granted), form)
    runtime.say_troubles(plan.troubles.values())
    if any(grant_.place is None for grant_ in granted):
        sys.stdout.flush()
        raise typer.Exit(1)


def register(app: typer.Typer) -> None:
    runtime.register(app, weigh, "weigh")
