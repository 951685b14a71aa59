"""`kettlepost move`."""

from __future__ import annotations

import datetime
import shlex
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import edit_options, runtime, subject_options
from kettlepost.render import formats
from kettlepost.render.results import AccountMoveShown, MoveWaysShown


class By(StrEnum):
    """How something comes to another address."""

    files = "files"
    front_file = "front-file"
    root = "root"
    done = "done"


def move(
    old: Annotated[str, typer.Argument(metavar="ADDRESS", help="Where it answers today.", show_default=False)],
    new: Annotated[
        str | None,
        typer.Argument(metavar="[NEW]", help="Where it is to answer; not with --to-account.", show_default=False),
    ] = None,
    by: Annotated[
        By | None,
        typer.Option(
            help="Enter that it moves by this way; without it the ways are shown. "
            "By done it has moved already, and only its old address is kept good."
        ),
    ] = None,
    permanent: Annotated[
        bool,
        typer.Option("--permanent", help="Tell browsers and search engines that it is for good, which they keep."),
    ] = False,
    until: Annotated[
        datetime.datetime | None,
        typer.Option(formats=["%Y-%m-%d"], metavar="DATE", help="The last day for which the old address is kept."),
    ] = None,
    alone: Annotated[
        bool, typer.Option("--alone", help="With --by done: keep that very address, and nothing below it.")
    ] = False,
    keep_live: Annotated[
        list[str] | None,
        typer.Option(
            "--keep-live",
            metavar="KIND",
            help="Of a rehearsal that takes the place of what is live: which data of that stay; none, all, or kinds of "
            "the application's, one by one.",
        ),
    ] = None,
    to_account: Annotated[
        str | None,
        typer.Option(
            "--to-account",
            metavar="ACCOUNT",
            help="Bring the domain ADDRESS with all that is installed at it to another account; its addresses stay.",
        ),
    ] = None,
    account: subject_options.AccountOption = None,
    despite: edit_options.DespiteOption = None,
    because: edit_options.BecauseOption = None,
    yes: edit_options.YesOption = False,
    show: edit_options.ShowOption = False,
    plan: runtime.PlanOption = None,
    form: edit_options.FormatOption = formats.Format.text,
) -> None:
    """Bring what is installed to another address, with its old address kept good: the ways side by side, or one of
    them entered. What is then to be done is in its work list."""
    edit_options.reason(despite, because)
    if to_account is not None:
        if new is not None or permanent or until is not None or alone or keep_live or by not in (None, By.files):
            raise kettlepost.InputError(
                "with --to-account addresses stay as they are: name a domain, and --by files to enter it"
            )
        _to_account(old, to_account, by is not None, account, despite, because, yes, show, plan, form)
        return
    if new is None:
        raise kettlepost.InputError("name where it is to answer, or with --to-account the account it is to come to")
    if by is None:
        opened = kettlepost.open_plan(runtime.plan_folder(plan))
        found = kettlepost.move_ways(opened, old, new, account, keep_live or ())
        formats.write(MoveWaysShown(found), form)
        if all(way.why_not for way in found.ways):
            return
        entering = shlex.join(["kettlepost", "move", old, new, "--by"])
        if found.replaces is not None:
            says = " ".join(f"--keep-live {one}" for one in keep_live or [f"{'|'.join(found.kinds)}"])
            merging = f"see what was written since: kettlepost database merge {shlex.quote(old)} > merge.php\n"
            runtime.hint(f"\n{merging if len(found.kinds) > 1 else ''}enter it: {entering} files {says}")
            return
        runtime.hint(f"\nenter one of them: {entering} WAY")
        return
    if alone and by is not By.done:
        raise kettlepost.InputError("--alone goes with --by done; what moves takes all below its address along")
    last = until.date() if until is not None else None

    def prepare(opened: kettlepost.PlanFolder) -> kettlepost.PreparedChange:
        return kettlepost.move(
            opened, old, new, by.value, account, permanent, last, not alone, despite or (), because,
            keep_live=keep_live or (),
        )  # fmt: skip

    edit_options.propose(plan, prepare, yes, show, form)


def _to_account(
    domain: str, to: str, is_entered: bool, account: str | None, despite: list[str] | None, because: str | None,
    yes: bool, show: bool, plan: Path | None, form: formats.Format,
) -> None:  # fmt: skip
    if not is_entered:
        found = kettlepost.account_move(kettlepost.open_plan(runtime.plan_folder(plan)), domain, to, account)
        formats.write(AccountMoveShown(found), form)
        entering = shlex.join(["kettlepost", "move", domain, "--to-account", to, "--by", "files"])
        runtime.hint(f"\nenter it in both accounts: {entering}")
        return

    def prepare(opened: kettlepost.PlanFolder) -> kettlepost.PreparedChange:
        return kettlepost.move_to_account(opened, domain, to, account, despite or (), because)

    edit_options.propose(plan, prepare, yes, show, form)


def register(app: typer.Typer) -> None:
    runtime.register(app, move, "move")
