"""`kettlepost check`."""

from __future__ import annotations

import sys
from enum import StrEnum
from typing import Annotated

import typer

from kettlepost.cli import running


class AtLeast(StrEnum):
    """Severities, worst first."""

    stop = "stop"
    risk = "risk"
    note = "note"


def check(
    account: Annotated[
        list[str] | None,
        typer.Option("--account", metavar="ACCOUNT", help="Only this account; may be given several times."),
    ] = None,
    at_least: Annotated[
        AtLeast, typer.Option("--at-least", help="End with status 1 only for findings at least this bad.")
    ] = AtLeast.note,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Find every collision: parties, where each was written, why it matters, and the ways out."""
    from kettlepost.core.rules import SEVERITIES
    from kettlepost.core.rules import check as ask

    opened = running.open_plan(plan)
    only = running.known_accounts(opened, account) if account else None
    checked = ask(running.open_layout(opened), running.today(), only)
    if form is running.Format.json:
        from kettlepost.render.json import check_json

        sys.stdout.write(check_json(checked))
    else:
        from kettlepost.render.screen import Screen
        from kettlepost.render.text import show_check

        show_check(Screen(), opened, checked)
    if checked.unsurveyed:
        _say_unsurveyed(checked.unsurveyed)
    bad = SEVERITIES[: SEVERITIES.index(at_least.value) + 1]
    if any(checked.counts[severity] for severity in bad):
        sys.stdout.flush()
        raise typer.Exit(1)


def _say_unsurveyed(names: list[str]) -> None:
    some = ", ".join(names[:3]) + (f" and {len(names) - 3:,} more" if len(names) > 3 else "")
    running.hint(f"No survey of {some}: checked on the plan alone. Take one: kettlepost survey {names[0]} --from PATH")


def register(app: typer.Typer) -> None:
    running.register(app, check, "check")
