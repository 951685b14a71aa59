"""`kettlepost explain`."""

from __future__ import annotations

from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime
from kettlepost.render import formats
from kettlepost.render.results import RuleList


def explain(
    rule: Annotated[str | None, typer.Argument(metavar="RULE", help="A rule such as shared-root.")] = None,
    form: Annotated[formats.Format, runtime.format_option("Rule", "RuleList")] = formats.Format.text,
) -> None:
    """Explain a rule: what goes wrong, a bad and a good example, the ways out. Without RULE, list them."""
    formats.write(RuleList(kettlepost.rules()) if rule is None else kettlepost.find_rule(rule), form)


def register(app: typer.Typer) -> None:
    runtime.register(app, explain, "explain")
