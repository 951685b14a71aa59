"""`kettlepost demo`."""

from __future__ import annotations

import shlex
import subprocess
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from kettlepost.cli import runtime

if TYPE_CHECKING:
    from kettlepost.render.screen import Screen


def demo(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="Where to lay it out; new or empty.")] = Path(
        "kettlepost-demo"
    ),
) -> None:
    """Lay out a made-up reseller and walk through survey, map, where, weigh, place and check on it."""
    from kettlepost.demo import ACCOUNTS, lay_out
    from kettlepost.render.screen import Screen

    laid = lay_out(folder)
    screen = Screen()
    screen.line(
        "Fernhollow Web Care looks after four hosting accounts. Its plan is in ",
        (str(laid.plan), "bold"),
        ", the accounts' folders are in ",
        (str(laid.hosting), "bold"),
        ". Nothing outside this folder is touched.",
    )
    for account in ACCOUNTS:
        told = {
            "millbrook": "First look at what is really there: applications by their own files, placeholder pages.",
            "harrowgate": "The bookings folder holds another application than people think.",
            "pennywharf": "The theatre's folders: a diary that was to be gone, and two index files in one folder.",
            "saltcote": "The museum's folders: one application, one placeholder page.",
        }[account]
        _step(screen, laid.plan, told, "survey", account, "--from", str(laid.home(account)))
    for told, *words in _STEPS:
        _step(screen, laid.plan, told, *words)
    screen.blank()
    plan = shlex.quote(str(laid.plan))
    screen.line("Next: change a file in ", (f"{plan}/accounts", "bold"), " as a way out says, and check again.")


_STEPS = [
    (
        "The workshop's folders in full: sizes, what no address reaches, and what deserves a look.",
        *("survey", "--show", "harrowgate"),
    ),
    ("Every address of the railway society, and the folder it reaches: two domains share www.", "map", "millbrook"),
    (
        "The other way round: seven addresses lead to the choir's folder, five of them by way of the main site.",
        *("map", "millbrook", "--by", "folder"),
    ),
    ("One address in full. The choir did not know that it also answers here.", "where", "lanternchoir.example"),
    ("The new shop's address: a placeholder page answers.", "where", "https://millbrookrail.example/shop/"),
    (
        "The same address once the plan is carried out: the placeholder still wins.",
        *("where", "millbrookrail.example/shop", "--when", "planned"),
    ),
    (
        "Where could a shop for the workshop go? Every place side by side, and which to take.",
        *("weigh", "barrowshop", "harrowgatecycles.example", "--new-domain", "cyclebits.example"),
    ),
    ("What placing it there would write into the plan, checked first.", "place", "--as", "1", "--show"),
    ("Every collision of the railway society, worst first, with ways out.", "check", "--account", "millbrook"),
    (
        "Who gets in and what is let out, in all accounts.",
        *("check", "--only", "second-door", "--only", "private-exposed", "--only", "guessable-admin"),
    ),
    ("The museum is in order.", "check", "--account", "saltcote"),
    ("One rule in full.", "explain", "nested-root"),
    ("What the catalogue knows of one of the workshop's applications.", "apps", "ticketgrove"),
]


def _step(screen: Screen, plan: Path, told: str, *words: str) -> None:
    """Say what to look at, show the command, and run it as a user would."""
    place = [] if words[0] == "explain" else ["--plan", str(plan)]
    screen.blank()
    screen.line((f"# {told}", "bold green"))
    screen.line((f"$ {shlex.join(['kettlepost', *words, *place])}", "bold cyan"))
    sys.stdout.flush()
    # the words are the demo's own, and no shell reads them
    status = subprocess.run([sys.executable, "-m", "kettlepost", *words, *place], check=False).returncode  # noqa: S603
    if status not in (0, 1):
        raise typer.Exit(status)


def register(app: typer.Typer) -> None:
    runtime.register(app, demo, "demo")
