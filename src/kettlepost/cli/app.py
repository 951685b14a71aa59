"""The program: its commands, its version, and how it ends."""

from __future__ import annotations

import contextlib
import gc
import importlib
import os
import signal
import sys
from typing import Annotated, NoReturn

import typer

from kettlepost import __version__

MODULES = {
    "new": "new",
    "account": "accounts",
    "import": "import_",
    "export": "export",
    "survey": "survey",
    "map": "map_",
    "where": "where",
    "weigh": "weigh",
    "place": "place",
    "move": "move",
    "rehearse": "rehearse",
    "retire": "upkeep",
    "adopt": "upkeep",
    "confirm": "upkeep",
    "forget": "upkeep",
    "accept": "upkeep",
    "undo": "upkeep",
    "clear": "clear",
    "putback": "clear",
    "set-asides": "clear",
    "discard": "clear",
    "database": "database",
    "password": "password",
    "work": "work",
    "sheet": "sheet",
    "installs": "registers",
    "domain": "registers",
    "check": "check",
    "probe": "probe",
    "compare": "compare",
    "explain": "explain",
    "apps": "apps",
    "demo": "demo",
}
"""The module of each command, in the order in which they are used."""

app = typer.Typer(
    name="kettlepost",
    help="Shows which address reaches which folder of a hosting account, finds every collision "
    "before it happens, and says what to do instead.",
    epilog="Exit status: 0 all well, 1 findings, 2 the command, plan or input is wrong, "
    "3 something outside failed, or the program itself.",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    context_settings={"help_option_names": ["-h", "--help"]},
)


OUTSIDE_FAILED = 3
"""The exit status where a disk or a server failed, or the program itself."""


def _version(asked: bool) -> None:
    if asked:
        sys.stdout.write(f"kettlepost {__version__}\n")
        raise typer.Exit


@app.callback()
def _program(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Show the version and end.")
    ] = False,
) -> None:
    pass


def _register(asked: str | None) -> None:
    """Put together the command that is asked for, which takes a part of the time that all take; else all."""
    if asked == "--version":
        return
    needed = [MODULES[asked]] if asked in MODULES else dict.fromkeys(MODULES.values())
    for module in needed:
        importlib.import_module(f"kettlepost.cli.{module}").register(app)


def main() -> None:
    """Run the program on the arguments it was called with. No fault of its own ends with 1, which means findings."""
    _see_streams()
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    gc.disable()  # one short command makes no cycles worth collecting, and looking for them doubles its time
    status: object = 0
    try:
        _register(sys.argv[1] if len(sys.argv) > 1 else None)
        app(prog_name="kettlepost")
    except KeyboardInterrupt:
        status = 128 + signal.SIGINT
    except SystemExit as ended:
        status = ended.code
    except Exception as error:
        from kettlepost.cli import runtime

        runtime.tell_fault(error)
        status = OUTSIDE_FAILED
    _leave(status)


def _see_streams() -> None:
    """End where there is nowhere to write to; what else is closed is opened again, so that no file takes its place."""
    if sys.stdin is None:
        os.open(os.devnull, os.O_RDONLY)
        sys.stdin = open(0, closefd=False)  # noqa: SIM115 (it stays open)
    if sys.stdout is None:
        if sys.stderr is not None:
            sys.stderr.write("kettlepost: standard output is closed, so nothing can be shown\n")
            sys.stderr.flush()
        os._exit(OUTSIDE_FAILED)
    if sys.stderr is None:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
        sys.stderr = open(2, "w", closefd=False)  # noqa: SIM115 (it stays open)


def _leave(status: object) -> NoReturn:
    """End at once: taking a large plan apart object by object takes as long as checking it."""
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    os._exit(status if isinstance(status, int) else 0 if status is None else OUTSIDE_FAILED)
