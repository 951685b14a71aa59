"""`kettlepost explain`."""

from __future__ import annotations

from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime


def explain(
    rule: Annotated[str | None, typer.Argument(metavar="RULE", help="A rule such as shared-root.")] = None,
) -> None:
    """Explain a rule: what goes wrong, a bad and a good example, the ways out. Without RULE, list them."""
    from kettlepost.render.screen import Screen
    from kettlepost.render.text import show_rule, show_rules

    if rule is None:
        show_rules(Screen(), kettlepost.rules())
    else:
        show_rule(Screen(), kettlepost.find_rule(rule))


def register(app: typer.Typer) -> None:
    runtime.register(app, explain, "explain")
