"""What every command shares: its plan folder, its output, and how errors end it."""

from __future__ import annotations

import datetime
import functools
import os
import signal
import sys
from collections.abc import Callable, Sequence
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NoReturn, TypeVar

import typer

from kettlepost.core.errors import InputError, OutsideError

if TYPE_CHECKING:
    from kettlepost.core.layout import Layout
    from kettlepost.core.names import Address, Folder, HostName
    from kettlepost.core.placing import Ground
    from kettlepost.core.plan import Plan
    from kettlepost.core.rules import KnownPlan

ENVIRONMENT = "KETTLEPOST_PLAN"
Parsed = TypeVar("Parsed")
PlanOption = Annotated[
    Path | None,
    typer.Option(
        "--plan",
        metavar="FOLDER",
        help=f"The plan folder. Default: ${ENVIRONMENT}, else the nearest folder upwards with a kettlepost.toml.",
        show_default=False,
    ),
]


class TableFormat(StrEnum):
    """How what may go into a spreadsheet is written."""

    text = "text"
    json = "json"
    csv = "csv"
    markdown = "markdown"


class Format(StrEnum):
    """How results are written."""

    text = "text"
    json = "json"


FormatOption = Annotated[Format, typer.Option("--format", help="How the result is written.")]


def register(app: typer.Typer, command: Callable[..., None], name: str) -> None:
    """Add a command whose errors end in one message and the right exit status, never in a traceback."""

    @functools.wraps(command)
    def guarded(*args: Any, **kwargs: Any) -> None:
        try:
            command(*args, **kwargs)
            sys.stdout.flush()
        except InputError as error:
            end(str(error), 2)
        except OutsideError as error:
            end(str(error), 3)
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            raise typer.Exit(128 + signal.SIGPIPE) from None
        except KeyboardInterrupt:
            end("interrupted; nothing was left half-written", 128 + signal.SIGINT)
        except OSError as error:
            place = f"{error.filename}: " if error.filename else ""
            end(f"{place}{(error.strerror or str(error)).lower()}", 3)
        except MemoryError:
            end("out of memory; give --account, or divide the plan", 3)

    app.command(name)(guarded)


def end(message: str, status: int) -> NoReturn:
    """Say on standard error why the command ends, and end it."""
    from kettlepost.core.names import printable

    for line in message.splitlines():
        sys.stderr.write(f"kettlepost: {printable(line)}\n")
    raise typer.Exit(status)


def hint(message: str) -> None:
    """Something good to know that is no result."""
    sys.stderr.write(message + "\n")


def plan_folder(given: Path | None) -> Path:
    """The plan folder that was asked for, or the nearest. Raises InputError when there is none."""
    if given is not None:
        return given
    named = os.environ.get(ENVIRONMENT)
    if named:
        return Path(named)
    here = Path.cwd()
    for folder in (here, *here.parents):
        if (folder / "kettlepost.toml").is_file():
            return folder
    raise InputError(
        "no plan folder here: neither this folder nor one above holds a kettlepost.toml; "
        "go into one, name one with --plan, or start one with 'kettlepost new FOLDER'"
    )


def open_plan(given: Path | None) -> Plan:
    from kettlepost.core.plan import read_plan

    return read_plan(plan_folder(given))


def open_plan_or_catalogue(given: Path | None) -> tuple[Plan, set[str]]:
    """The plan at hand, or one with nothing but the catalogue; and the ids that come from the plan."""
    from kettlepost.core.plan import empty_plan, read_catalogue

    if given is None and not os.environ.get(ENVIRONMENT):
        try:
            given = plan_folder(None)
        except InputError:
            return empty_plan(), set()
    plan, built_in = open_plan(given), read_catalogue()
    return plan, {known.id for known in plan.applications.values() if built_in.get(known.id) != known}


def open_known(given: Path | None) -> tuple[Ground, KnownPlan]:
    """The plan at hand as ground to build on, and what checking its accounts gives."""
    from kettlepost.core.placing import Ground
    from kettlepost.core.rules import known_plan

    day = today()
    known = known_plan(plan_folder(given), day, os.cpu_count() or 1)
    return Ground(known.shared.plan([]), known.accounts, day, known.layout_of), known


def open_layout(plan: Plan) -> Layout:
    """The plan joined with every survey it has."""
    from kettlepost.core.layout import join
    from kettlepost.core.survey import read_surveys

    return join(plan, read_surveys(plan, [account.name for account in plan.accounts]))


def known_accounts(plan: Plan, names: Sequence[str]) -> list[str]:
    """`names`, each an account of the plan; all accounts when none is named. Raises InputError."""
    known = [account.name for account in plan.accounts]
    return [_known_account(plan.folder, known, name) for name in names] or known


def _known_account(folder: Path, known: list[str], name: str) -> str:
    from kettlepost.core.names import did_you_mean, quoted

    if name in known:
        return name
    raise InputError(
        f"{quoted(name)} is no account of {folder}{did_you_mean(name, known)} "
        f"(accounts are the files in {folder / 'accounts'})"
    )


def named_accounts(folder: Path, names: Sequence[str]) -> list[str]:
    """`names`, each an account of the plan in `folder`. Raises InputError."""
    from kettlepost.core.plan import account_paths

    known = [path.stem for path in account_paths(folder)]
    return [_known_account(folder, known, name) for name in names]


def parsed_folder(written: str) -> Folder:
    from kettlepost.core.names import Folder

    return _parsed(Folder.parse, written)


def parsed_host(written: str) -> HostName:
    from kettlepost.core.names import HostName

    return _parsed(HostName.parse, written)


def parsed_address(written: str) -> Address:
    from kettlepost.core.names import Address

    return _parsed(Address.parse, written)


def _parsed(parse: Callable[[str], Parsed], written: str) -> Parsed:
    """A name as it was given. Raises InputError when it is none."""
    from kettlepost.core.names import InvalidName

    try:
        return parse(written)
    except InvalidName as error:
        raise InputError(str(error)) from None


def today() -> datetime.date:
    return datetime.datetime.now(tz=datetime.UTC).date()


def now() -> str:
    """This moment in UTC, ISO 8601, to the second."""
    return datetime.datetime.now(tz=datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
