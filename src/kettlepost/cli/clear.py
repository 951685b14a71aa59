"""`kettlepost clear`, `putback`, `set-asides` and `discard`."""

from __future__ import annotations

import datetime
import sys
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime, source_options, subject_options
from kettlepost.render import formats
from kettlepost.render.results import ClearingShown, ClearingToDo, DiscardedShown, PutBack, SetAsideList

TakeOverOption = Annotated[
    bool, typer.Option("--take-over", help="Go on although a run on another machine may still be at work there.")
]
NumberArgument = Annotated[str, typer.Argument(metavar="NUMBER", help="As 'kettlepost set-asides' lists it.")]


def clear(
    address: Annotated[
        str | None, typer.Argument(metavar="ADDRESS", help="Whose folder is to be cleared.", show_default=False)
    ] = None,
    account: subject_options.AccountOption = None,
    folder: Annotated[
        str | None, typer.Option("--folder", metavar="FOLDER", help="Instead of ADDRESS: a folder of --account.")
    ] = None,
    leftovers: Annotated[
        bool, typer.Option("--leftovers", help="Also what is left of old applications, editors, hidden files.")
    ] = False,
    everything: Annotated[bool, typer.Option("--everything", help="All that nobody else uses.")] = False,
    show: Annotated[bool, typer.Option("--show", help="Only show what would be taken, and what stays.")] = False,
    as_list: Annotated[
        bool, typer.Option("--list", help="Write what to move by hand, and back, by the survey that is stored.")
    ] = False,
    as_script: Annotated[
        bool, typer.Option("--script", help="The same as a shell script with the same checks.")
    ] = False,
    digests: Annotated[bool, typer.Option("--hash", help="Read each file, and note its SHA-256.")] = False,
    copy_here: Annotated[
        Path | None, typer.Option("--copy-here", metavar="FILE.tar.zst", help="First fetch a verified copy.")
    ] = None,
    unfinished: Annotated[
        str | None, typer.Option("--finish", metavar="NUMBER", help="Set all of it aside where that broke off.")
    ] = None,
    take_over: TakeOverOption = False,
    source: source_options.FilesOption = None,
    key: source_options.KeyOption = None,
    known_hosts: source_options.KnownHostsOption = None,
    certificates: source_options.CertificatesOption = None,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Set aside without asking.")] = False,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("ClearingShown", "ClearingToDo")] = formats.Format.text,
) -> None:
    """Take out of a folder what is in the way of what is planned there: shown first, set aside whole, nothing deleted.

    The folder is looked at anew. What others use stays. 'kettlepost putback' puts all of it back.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    secrets = source_options.secrets(key, known_hosts, certificates)
    progress = source_options.Progress("setting aside: {} of {}")
    if unfinished is not None:
        if show or as_list or as_script:
            raise kettlepost.InputError("--finish goes on with what was begun: without --show, --list and --script")
        try:
            allow = _allowed(yes, progress)
            outcome = kettlepost.finish(opened, unfinished, account, source, secrets, progress.seen, take_over, allow)
        finally:
            progress.clear()
        _tell(PutBack(unfinished, outcome, False), form)
        return
    if leftovers and everything:
        raise kettlepost.InputError("--everything takes what --leftovers does; give one of them")
    measure = "everything" if everything else "leftovers" if leftovers else "blocking"
    by_hand = as_list or as_script
    clearing = kettlepost.clearing(opened, address, account, folder, measure, source, secrets, look=not by_hand)
    if as_script:
        from kettlepost.render.clearing_script import clearing_script

        sys.stdout.writelines(clearing_script(clearing))
        return
    if as_list:
        formats.write(ClearingToDo(clearing, clearing.surveyed), form)
        return
    _clear(clearing, yes and not show, show, digests, copy_here, take_over, progress, form)


def _clear(
    clearing: kettlepost.PreparedClearing,
    yes: bool,
    show: bool,
    digests: bool,
    copy_here: Path | None,
    take_over: bool,
    progress: source_options.Progress,
    form: formats.Format,
) -> None:
    """Show what a clearing takes, ask, set aside, and say what was done."""
    try:
        if not yes:
            formats.write(ClearingShown(clearing, None), form)
            sys.stdout.flush()
            if show or not clearing.selection.takes:
                raise typer.Exit(1 if clearing.refused else 0)
            edit_options.ask("set this aside?", "moved")
        cleared = None
        if clearing.selection.takes:
            cleared = clearing.commit(digests, copy_here, progress.seen, takes_over=take_over)
    finally:
        progress.clear()
        clearing.close()
    formats.write(ClearingShown(clearing, cleared), form)
    sys.stdout.flush()
    if cleared is not None and cleared.outcome.manifest is not None:
        runtime.hint(f"\n'kettlepost putback {cleared.number}' puts it back")
    if clearing.refused:
        raise typer.Exit(1)
    if cleared is not None and cleared.outcome.left:
        raise typer.Exit(3)


def putback(
    number: NumberArgument,
    paths: Annotated[
        list[str] | None,
        typer.Argument(metavar="[PATH]...", help="Single files or folders, from the home. Default: all."),
    ] = None,
    beside: Annotated[
        bool, typer.Option("--beside", help="Put it next to what is new in its place, under a name of its own.")
    ] = False,
    replace: Annotated[
        bool, typer.Option("--replace", help="Also what wins, once it is back, over what is in use there now.")
    ] = False,
    account: subject_options.AccountOption = None,
    take_over: TakeOverOption = False,
    source: source_options.FilesOption = None,
    key: source_options.KeyOption = None,
    known_hosts: source_options.KnownHostsOption = None,
    certificates: source_options.CertificatesOption = None,
    yes: Annotated[
        bool, typer.Option("--yes", "-y", help="Without asking, also where only the account's home says what it is.")
    ] = False,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("PutBack")] = formats.Format.text,
) -> None:
    """Put back what was set aside, where it lay and as it was; refuses where something new is in the way.

    Nothing is ever written over. Of a clearing that broke off half-way it takes back what was moved.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    secrets = source_options.secrets(key, known_hosts, certificates)
    outcome = kettlepost.put_back(
        opened, number, paths or (), beside, account, source, secrets, replace, take_over, _allowed(yes)
    )
    _tell(PutBack(number, outcome), form)


def set_asides(
    accounts: Annotated[
        list[str] | None, typer.Argument(metavar="[ACCOUNT]...", help="Default: all of which something is known.")
    ] = None,
    known: Annotated[bool, typer.Option("--known", help="Only what was written down; no host is looked at.")] = False,
    digests: Annotated[bool, typer.Option("--hash", help="Read files whose SHA-256 was noted, and compare.")] = False,
    source: source_options.FilesOption = None,
    key: source_options.KeyOption = None,
    known_hosts: source_options.KnownHostsOption = None,
    certificates: source_options.CertificatesOption = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("SetAsideList")] = formats.Format.text,
) -> None:
    """List what was set aside: where, when, for what, how large, and whether it is still as it was."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    secrets = source_options.secrets(key, known_hosts, certificates)
    rows = list(kettlepost.set_asides(opened, accounts or (), not known, digests, source, secrets))
    formats.write(SetAsideList(rows), form)
    if any(row.trouble for row in rows):
        raise typer.Exit(3)


def discard(
    number: NumberArgument,
    now: Annotated[bool, typer.Option("--now", help="Also before keep_days have passed.")] = False,
    account: subject_options.AccountOption = None,
    take_over: TakeOverOption = False,
    source: source_options.FilesOption = None,
    key: source_options.KeyOption = None,
    known_hosts: source_options.KnownHostsOption = None,
    certificates: source_options.CertificatesOption = None,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Delete without asking.")] = False,
    plan: runtime.PlanOption = None,
) -> None:
    """Delete for good what was set aside, once keep_days of the settings have passed.

    What came into its folder since, or was changed there, is kept, and told.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    secrets = source_options.secrets(key, known_hosts, certificates)
    today = datetime.datetime.now(tz=datetime.UTC).date()
    row = kettlepost.discardable(opened, number, account, source, secrets, today, now)
    formats.write(SetAsideList([row]), formats.Format.text)
    sys.stdout.flush()
    if not yes:
        edit_options.ask("delete this for good?", "deleted", shows=False)
    done = kettlepost.discard(opened, number, account, source, secrets, take_over)
    formats.write(DiscardedShown(number, done), formats.Format.text)
    if done.left:
        raise typer.Exit(3)


def _allowed(yes: bool, progress: source_options.Progress | None = None) -> kettlepost.Allow:
    """Show what a record in a customer's home wants done of which there is no copy here, and ask."""

    def allow(doubt: kettlepost.UnverifiedRecord) -> None:
        if progress is not None:
            progress.clear()
        from kettlepost.render.clearing import doubt_words

        runtime.hint(doubt_words(doubt))
        if not yes:
            edit_options.ask("do that?", "moved", shows=False)

    return allow


def _tell(shown: PutBack, form: formats.Format) -> None:
    formats.write(shown, form)
    if shown.outcome.left:
        raise typer.Exit(3)


def register(app: typer.Typer) -> None:
    runtime.register(app, clear, "clear")
    runtime.register(app, putback, "putback")
    runtime.register(app, set_asides, "set-asides")
    runtime.register(app, discard, "discard")
