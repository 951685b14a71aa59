"""`kettlepost probe`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime, subject_options, unattended
from kettlepost.cli.where import When
from kettlepost.render import formats
from kettlepost.render.results import ProbeShown


def probe(
    asked: Annotated[
        list[str] | None,
        typer.Argument(metavar="[ADDRESS|DOMAIN|ACCOUNT|CLIENT]...", help="Default: everything.", show_default=False),
    ] = None,
    when: Annotated[
        When | None,
        typer.Option(
            "--when",
            help="Held against what is live now, or what is to be. Default: now, and planned for what is named and is "
            "not live yet.",
            show_default=False,
        ),
    ] = None,
    full: Annotated[bool, typer.Option("--full", help="Show what agrees and what cannot be told, too.")] = False,
    account: subject_options.AccountOption = None,
    connect: Annotated[
        list[str] | None,
        typer.Option(
            "--connect",
            metavar="HOST:PORT=ADDRESS:PORT",
            help="Go to this address instead; or a FILE that has one a line. May be given several times.",
        ),
    ] = None,
    trust: Annotated[
        Path | None,
        typer.Option("--trust", metavar="FILE", help="Trust these authorities of certificates too (PEM)."),
    ] = None,
    login: Annotated[
        list[str] | None,
        typer.Option(
            "--login",
            metavar="USER@HOST",
            help="Give this host a password that is kept under this title; may be given several times.",
        ),
    ] = None,
    quiet: unattended.QuietOption = False,
    log: unattended.LogOption = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("ProbeShown")] = formats.Format.text,
) -> None:
    """Ask the real thing: what names lead to, certificates, and what each address shows, held against the plan.

    Only hosts of the plan are asked, and nothing is changed there. What is seen is kept in surveys/ACCOUNT.probe.json;
    shown is what differs, and what is otherwise than the last time.
    """
    unattended.log_to(log, "probe")
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    if not opened.names:
        raise kettlepost.InputError("the plan has no account yet; begin one with 'kettlepost account add NAME'")
    logins = kettlepost.host_logins(opened, login, _phrase) if login else None
    options = kettlepost.ProbeOptions(connect or (), trust, logins)
    progress = _Progress() if sys.stderr.isatty() else None
    try:
        probed = kettlepost.probe(
            opened, asked or (), account, when.value if when is not None else None, options, progress
        )
    finally:
        if progress is not None:
            progress.clear()
    shown = ProbeShown(probed, full)
    differs = any(row.verdict == "differs" for one in probed.accounts for row in one.rows)
    if differs or not quiet or any(row.changed for one in probed.accounts for row in one.rows):
        formats.write(shown, form)
    runtime.say_troubles(opened.troubles.values())
    if probed.is_cut:
        runtime.hint("kettlepost: the time was over before all of it was asked (all_seconds under [settings.asking])")
    runtime.note(f"probe ends: {'something differs' if differs else 'nothing differs'}", differs)
    if differs:
        sys.stdout.flush()
        raise typer.Exit(1)


def _phrase(asked: str) -> str | None:
    from kettlepost.cli.password import phrase

    return phrase(asked)


class _Progress:
    """How many hosts were asked, on a line of its own that is written over."""

    def __call__(self, done: int, hosts: int) -> None:
        sys.stderr.write(f"\r{done:,} of {hosts:,} hosts asked")
        sys.stderr.flush()

    def clear(self) -> None:
        sys.stderr.write("\r\x1b[K")
        sys.stderr.flush()


def register(app: typer.Typer) -> None:
    runtime.register(app, probe, "probe")
