"""`kettlepost survey`."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime, source_options, subject_options, unattended
from kettlepost.render import formats
from kettlepost.render.results import MentionsShown, SurveyComparisonShown, SurveysTaken, SurveyStored, SurveyTaken


def survey(
    account: subject_options.AccountArgument = None,
    source: Annotated[
        str | None,
        typer.Option(
            "--from",
            metavar="SOURCE",
            help="The account's home: a folder, an archive (.tar, .tar.gz/.bz2/.xz/.zst, .zip), a listing, or "
            "sftp://, ftp:// or ftps://user@host/path. Default: survey_from in the plan.",
            show_default=False,
        ),
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="Survey every account with survey_from, side by side.")] = False,
    only: Annotated[
        str | None,
        typer.Option("--only", metavar="FOLDER", help="Look at this folder and all in it again; the rest stays known."),
    ] = None,
    show: Annotated[
        bool, typer.Option("--show", help="Show the stored survey: folders, sizes, what deserves a look.")
    ] = False,
    diff: Annotated[
        bool, typer.Option("--diff", help="Show what came, went and changed since the survey before.")
    ] = False,
    mentions: Annotated[
        str | None,
        typer.Option(
            "--mentions",
            metavar="ADDRESS",
            help="Read the texts there instead: which files name ADDRESS, or a /PATH of the machine.",
        ),
    ] = None,
    how_to: Annotated[
        bool, typer.Option("--how-to", help="Say how to make a listing on a host with one command.")
    ] = False,
    inside: Annotated[
        str | None,
        typer.Option("--inside", metavar="FOLDER", help="The folder of an archive or listing that is the home."),
    ] = None,
    remember: Annotated[
        bool, typer.Option("--remember", help="Write the source into the plan as the account's survey_from.")
    ] = False,
    quiet: unattended.QuietOption = False,
    log: unattended.LogOption = None,
    timeout: Annotated[
        float, typer.Option("--timeout", metavar="SECONDS", min=0.1, help="How long each account may take.")
    ] = unattended.USUAL.total,
    silence: unattended.SilenceOption = unattended.USUAL.patience,
    memory: unattended.MemoryOption = unattended.USUAL.memory >> 20,
    key: source_options.KeyOption = None,
    known_hosts: source_options.KnownHostsOption = None,
    certificates: source_options.CertificatesOption = None,
    plan: runtime.PlanOption = None,
    form: Annotated[
        formats.Format, runtime.format_option("SurveyTaken", "SurveyStored", "SurveyComparisonShown", "MentionsShown")
    ] = formats.Format.text,
) -> None:
    """Look at what is in an account's folders, and store it in surveys/ACCOUNT.json.

    A password is asked for, or taken from $KETTLEPOST_PASSWORD; it is never an argument.
    """
    if how_to:
        _say_how()
        return
    unattended.log_to(log, "survey")
    limits = kettlepost.Limits(patience=silence, total=timeout, memory=memory << 20)
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    if every:
        if any(one is not None for one in (account, source, only, mentions)):
            raise kettlepost.InputError(
                "--all takes every account's own survey_from, and all of it; leave out ACCOUNT, --from, --only and "
                "--mentions"
            )
        _survey_all(opened, source_options.secrets(key, known_hosts, certificates), form, limits, quiet)
        return
    if account is None:
        raise kettlepost.InputError("name an ACCOUNT, or --all")
    secrets = source_options.secrets(key, known_hosts, certificates)
    if mentions is not None:
        _mentions(opened, account, mentions, only or "", source, secrets, form)
    elif show:
        _show(opened, account, form)
    elif diff:
        _diff(opened, account, form)
    else:
        _take(opened, account, source, inside, secrets, only, limits, remember, form, quiet)


def _say_how() -> None:
    from kettlepost.render.surveys import HOW_TO

    sys.stdout.write(HOW_TO)


def _take(
    opened: kettlepost.PlanFolder, account: str, source: str | None, inside: str | None, secrets: kettlepost.Secrets,
    only: str | None, limits: kettlepost.Limits, remember: bool, form: formats.Format, quiet: bool,
) -> None:  # fmt: skip
    """Look, store, and say what was found."""
    progress = source_options.Progress("surveying: {} files in {} folders")
    try:
        taken = kettlepost.survey(
            opened, account, source, inside, secrets, progress.seen, only=only or "", limits=limits
        )
    finally:
        progress.clear()
    runtime.note(f"{account} is surveyed")
    _report(opened, taken, form, quiet)
    if only is not None and not any(found.folder == only.strip("/") for found in taken.folders):
        runtime.hint(f"{only} is not there")
    if remember and source is not None:
        change = kettlepost.remember_source(kettlepost.open_plan(opened.path), account, source)
        if change.commit(f"kettlepost survey {account} --from {source} --remember"):
            runtime.hint(f"survey_from is written to accounts/{account}.toml")


def _mentions(
    plan: kettlepost.PlanFolder, account: str, address: str, only: str, source: str | None,
    secrets: kettlepost.Secrets, form: formats.Format,
) -> None:  # fmt: skip
    progress = source_options.Progress("reading: {} of {} files")
    try:
        found = kettlepost.mentions(plan, account, address, only, source, secrets, progress.seen)
    finally:
        progress.clear()
    formats.write(MentionsShown(found), form)


def _report(plan: kettlepost.PlanFolder, taken: kettlepost.Survey, form: formats.Format, quiet: bool = False) -> None:
    stored = plan.path / "surveys" / f"{taken.account}.json"
    if not quiet:
        formats.write(SurveyTaken(taken, plan.shared.plan([]).titles, str(stored)), form)
    if taken.roots and not taken.roots_there:
        roots = ", ".join(root.shown for root in taken.roots[:4]) + (", ..." if len(taken.roots) > 4 else "")
        sys.stdout.flush()
        runtime.hint(
            f"None of the roots of {taken.account} ({roots}) is there: is that the home of another account, or a "
            "folder above or below its home?"
        )


def _survey_all(
    plan: kettlepost.PlanFolder, secrets: kettlepost.Secrets, form: formats.Format, limits: kettlepost.Limits,
    quiet: bool,
) -> None:  # fmt: skip
    """Survey side by side, report each as it ends, and go on when one fails."""
    failed: list[kettlepost.KettlepostError] = []
    taken: list[kettlepost.Survey] = []
    for name, found in kettlepost.survey_all(plan, secrets, limits):
        if isinstance(found, kettlepost.KettlepostError):
            from kettlepost.render.remedies import error_words

            failed.append(found)
            for line in error_words(found).splitlines():
                runtime.hint(f"kettlepost: {name}: {line}")
                runtime.note(f"{name}: {line}", is_wrong=True)
            continue
        taken.append(found)
        runtime.note(f"{name} is surveyed")
        if quiet or form is formats.Format.text:
            _report(plan, found, form, quiet)
    if not quiet and form is not formats.Format.text:
        formats.write(SurveysTaken(taken), form)
    asked = len(taken) + len(failed)
    left = len(plan.names) - asked
    without = f"; {left} without survey_from" if left else ""
    summary = f"{len(taken)} of {asked} accounts surveyed{without}"
    runtime.note(summary, bool(failed))
    if not quiet:
        runtime.hint(summary)
    if failed:
        raise typer.Exit(3 if any(isinstance(error, kettlepost.OutsideError) for error in failed) else 2)


def _show(plan: kettlepost.PlanFolder, name: str, form: formats.Format) -> None:
    inventory = kettlepost.stored_survey(plan, name)
    formats.write(SurveyStored(plan.account(name), inventory), form)


def _diff(plan: kettlepost.PlanFolder, name: str, form: formats.Format) -> None:
    before, after, found = kettlepost.survey_difference(plan, name)
    formats.write(SurveyComparisonShown(name, before, after, found), form)


def register(app: typer.Typer) -> None:
    runtime.register(app, survey, "survey")
