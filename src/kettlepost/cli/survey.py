"""`kettlepost survey`."""

from __future__ import annotations

import getpass
import os
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from kettlepost.cli import running
from kettlepost.core.errors import InputError, KettlepostError, OutsideError

if TYPE_CHECKING:
    from kettlepost.core.plan import Plan
    from kettlepost.core.survey import Secrets, Survey

PASSWORD = "KETTLEPOST_PASSWORD"  # noqa: S105 (the name of an environment variable)
SIDE_BY_SIDE = 4


def survey(
    account: Annotated[str | None, typer.Argument(metavar="ACCOUNT", help="An account of the plan.")] = None,
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
    show: Annotated[
        bool, typer.Option("--show", help="Show the stored survey: folders, sizes, what deserves a look.")
    ] = False,
    diff: Annotated[
        bool, typer.Option("--diff", help="Show what came, went and changed since the survey before.")
    ] = False,
    how_to: Annotated[
        bool, typer.Option("--how-to", help="Say how to make a listing on a host with one command.")
    ] = False,
    inside: Annotated[
        str | None,
        typer.Option("--inside", metavar="FOLDER", help="The folder of an archive or listing that is the home."),
    ] = None,
    key: Annotated[
        Path | None, typer.Option("--key", metavar="FILE", help="SFTP: the private key to log in with.")
    ] = None,
    known_hosts: Annotated[
        Path | None,
        typer.Option("--known-hosts", metavar="FILE", help="SFTP: trusted host keys; default ~/.ssh/known_hosts."),
    ] = None,
    certificates: Annotated[
        Path | None,
        typer.Option("--certificates", metavar="FILE", help="FTPS: trusted certificates (PEM) beside the usual."),
    ] = None,
    plan: running.PlanOption = None,
    form: running.FormatOption = running.Format.text,
) -> None:
    """Look at what is in an account's folders, and store it in surveys/ACCOUNT.json.

    A password is asked for, or taken from $KETTLEPOST_PASSWORD; it is never an argument.
    """
    if how_to:
        from kettlepost.core.survey.sources.listing import HOW_TO

        sys.stdout.write(HOW_TO)
        return
    opened = running.open_plan(plan)
    if every:
        if account is not None or source is not None:
            raise InputError("--all takes every account's own survey_from; leave out ACCOUNT and --from")
        _survey_all(opened, _secrets(key, known_hosts, certificates), form)
        return
    if account is None:
        raise InputError("name an ACCOUNT, or --all")
    (name,) = running.known_accounts(opened, [account])
    if show:
        _show(opened, name, form)
    elif diff:
        _diff(opened, name, form)
    else:
        taken = _take(opened, name, source, inside, _secrets(key, known_hosts, certificates), _Progress())
        _report(opened, taken, form)


def _take(
    plan: Plan,
    name: str,
    source: str | None,
    inside: str | None,
    secrets: Secrets,
    progress: _Progress | None,
) -> Survey:
    """Take a survey and store it; the one before stays when anything goes wrong."""
    from kettlepost.core.survey import open_source, store_survey, take_survey

    account = plan.account(name)
    settings = account.settings if account else None
    written = source or (settings.survey_from if settings else None)
    if not written:
        raise InputError(
            f'say with --from where {name} can be looked at, or write survey_from = "..." in its [account]'
        )
    taken = running.now()
    opened = open_source(written, name, settings.home if settings else None, taken, inside, secrets)
    try:
        found = take_survey(plan, name, opened, taken, progress.seen if progress else None)
    finally:
        if progress:
            progress.clear()
    store_survey(plan, found)
    return found


def _report(plan: Plan, taken: Survey, form: running.Format) -> None:
    if form is running.Format.json:
        from kettlepost.render.json import survey_json

        sys.stdout.write(survey_json(taken))
        return
    from kettlepost.core.names import printable
    from kettlepost.core.survey import survey_path
    from kettlepost.render.screen import Screen
    from kettlepost.render.surveys import show_taken

    show_taken(Screen(), taken, plan.titles, printable(survey_path(plan.folder, taken.account)))


def _survey_all(plan: Plan, secrets: Secrets, form: running.Format) -> None:
    """Survey side by side, report each as it ends, and go on when one fails."""
    from concurrent.futures import ThreadPoolExecutor, as_completed

    names = [account.name for account in plan.accounts if account.settings.survey_from]
    if not names:
        raise InputError('no account has a survey_from; write survey_from = "..." into an [account]')
    failed: list[KettlepostError] = []
    taken: list[Survey] = []
    with ThreadPoolExecutor(SIDE_BY_SIDE) as pool:
        begun = {pool.submit(_take, plan, name, None, None, secrets, None): name for name in names}
        for future in as_completed(begun):
            try:
                taken.append(future.result())
                if form is running.Format.text:
                    _report(plan, taken[-1], form)
            except KettlepostError as error:
                failed.append(error)
                for line in str(error).splitlines():
                    running.hint(f"kettlepost: {begun[future]}: {line}")
    if form is running.Format.json:
        from kettlepost.render.json import surveys_json

        sys.stdout.write(surveys_json(taken))
    left = len(plan.accounts) - len(names)
    without = f"; {left} without survey_from" if left else ""
    running.hint(f"{len(names) - len(failed)} of {len(names)} accounts surveyed{without}")
    if failed:
        raise typer.Exit(3 if any(isinstance(error, OutsideError) for error in failed) else 2)


def _show(plan: Plan, name: str, form: running.Format) -> None:
    from kettlepost.core.layout import inventory, join
    from kettlepost.core.survey import read_surveys

    layout = join(plan, read_surveys(plan, [name]))
    view = inventory(layout, layout.accounts[name])
    if view is None:
        raise InputError(f"{name} was not surveyed yet: kettlepost survey {name} --from SOURCE")
    if form is running.Format.json:
        from kettlepost.render.json import record_json

        sys.stdout.write(record_json(view))
        return
    from kettlepost.render.screen import Screen
    from kettlepost.render.surveys import show_inventory

    show_inventory(Screen(), plan, view)


def _diff(plan: Plan, name: str, form: running.Format) -> None:
    from kettlepost.core.survey import compare, read_survey

    before, after = read_survey(plan, name, before=True), read_survey(plan, name)
    if before is None or after is None:
        raise InputError(f"{name} was not surveyed twice yet, so there is nothing to compare")
    found = compare(before, after)
    if form is running.Format.json:
        from kettlepost.render.json import records_json

        sys.stdout.write(records_json({"account": name, "from": before.taken, "to": after.taken}, "differences", found))
        return
    from kettlepost.render.screen import Screen
    from kettlepost.render.surveys import show_differences

    show_differences(Screen(), name, before.taken, after.taken, found)


def _secrets(key: Path | None, known_hosts: Path | None, certificates: Path | None) -> Secrets:
    from kettlepost.core.survey import Secrets

    return Secrets(_asking(), key, known_hosts, certificates)


def _asking() -> Callable[[str], str | None]:
    """Gives the password from the environment, else asks for it once for each login."""
    lock, known = threading.Lock(), dict[str, str]()

    def password(who: str) -> str | None:
        given = os.environ.get(PASSWORD)
        if given is not None:
            return given
        with lock:
            if who not in known and sys.stdin.isatty():
                known[who] = getpass.getpass(f"Password of {who}: ", stream=sys.stderr)
            return known.get(who)

    return password


class _Progress:
    """Says on a terminal how far a long survey has come, a few times a second."""

    def __init__(self) -> None:
        self._shows = sys.stderr.isatty()
        self._next = time.monotonic() + 0.7
        self._shown = False

    def seen(self, files: int, folders: int) -> None:
        if self._shows and time.monotonic() >= self._next:
            self._next = time.monotonic() + 0.2
            self._shown = True
            sys.stderr.write(f"\r\x1b[Ksurveying: {files:,} files in {folders:,} folders")
            sys.stderr.flush()

    def clear(self) -> None:
        if self._shown:
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()


def register(app: typer.Typer) -> None:
    running.register(app, survey, "survey")
