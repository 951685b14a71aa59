"""What every command shares: its plan folder, its output, and how errors end it."""

from __future__ import annotations

import functools
import os
import signal
import sys
import threading
import traceback
from collections.abc import Callable, Iterable
from contextlib import suppress
from pathlib import Path
from typing import Annotated, Any, NoReturn

import typer

import kettlepost
from kettlepost.cli import interruption
from kettlepost.render import formats

ENVIRONMENT = "KETTLEPOST_PLAN"
LOG_VARIABLE = "KETTLEPOST_LOG"
noted: Callable[[str, bool], None] | None = None
"""What writes the log, where there is one: words, and whether something is wrong."""
PlanOption = Annotated[
    Path | None,
    typer.Option(
        "--plan",
        metavar="FOLDER",
        help=f"The plan folder. Default: ${ENVIRONMENT}, else the nearest folder upwards with a kettlepost.toml.",
        show_default=False,
    ),
]


def format_option(*results: formats.Result) -> Any:
    """The option --format of a command that gives such results: what can be written of all of them."""
    names = formats.formats_of(*results)

    def parse(name: str) -> formats.Format:
        if name not in names:
            raise typer.BadParameter(f"{name!r} is not one of {', '.join(map(repr, names))}.")
        return formats.Format(name)

    return typer.Option(
        "--format",
        parser=parse,
        metavar=f"<{'|'.join(names)}>",
        autocompletion=lambda: names,
        help="How the result is written.",
    )


def register(app: typer.Typer, command: Callable[..., None], name: str) -> None:
    """Add a command whose errors end in one message and the right exit status, never in a traceback."""

    @functools.wraps(command)
    def guarded(*args: Any, **kwargs: Any) -> None:
        try:
            interruption.listen()
            log_where_asked(name)
            command(*args, **kwargs)
            sys.stdout.flush()
        except kettlepost.KettlepostError as error:
            from kettlepost.render.remedies import error_words

            end(error_words(error), 3 if isinstance(error, kettlepost.OutsideError) else 2)
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            raise typer.Exit(128 + signal.SIGPIPE) from None
        except interruption.TimedOut as error:
            end(str(error), 3)
        except KeyboardInterrupt as error:
            end_interrupted(error)
        except (EOFError, typer.Abort):
            end("the input ended before there was an answer", 2)
        except OSError as error:
            place = f"{error.filename}: " if error.filename else ""
            end(f"{place}{(error.strerror or str(error)).lower()}", 3)
        except MemoryError:
            end("out of memory; give --account, or divide the plan", 3)
        except Exception as error:
            end_at_fault(error)

    app.command(name)(guarded)


def end_at_fault(error: Exception) -> NoReturn:
    """End where the program itself is wrong; words for how it was called are left to who has them."""
    if type(error).__module__.partition(".")[0] in ("typer", "click"):
        raise error
    tell_fault(error)
    raise typer.Exit(3) from None


def end_interrupted(error: KeyboardInterrupt) -> NoReturn:
    """End as somebody asked, with the status of the signal by which they did."""
    asked = signal.SIGTERM if isinstance(error, interruption.Terminated) else signal.SIGINT
    words = "interrupted" if asked == signal.SIGINT else "ended"
    end(f"{words}; nothing was left half-written", 128 + asked)


def end(message: str, status: int) -> NoReturn:
    """Say on standard error why the command ends, and end it."""
    from kettlepost.render import gate

    for line in message.splitlines():
        sys.stderr.write(f"kettlepost: {gate.message(line)}\n")
    note(f"ends with {status}: {message}", is_wrong=True)
    if any(not one.daemon for one in threading.enumerate() if one is not threading.main_thread()):
        # those wait for a server, or for who was at work, and nobody waits for them
        with suppress(OSError):
            sys.stdout.flush()
            sys.stderr.flush()
        os._exit(status)
    raise typer.Exit(status)


def log_where_asked(command: str) -> None:
    """Write a log where the environment names a file, also in commands that have no option for it."""
    path = os.environ.get(LOG_VARIABLE)
    if path and noted is None:
        from kettlepost.cli import unattended

        unattended.log_to(Path(path), command)


def tell_fault(error: Exception) -> None:
    """Say in one line what is wrong in the program itself; where it is goes into the log, if there is one."""
    from kettlepost.render import gate

    frames = traceback.extract_tb(error.__traceback__)
    own = next((one for one in reversed(frames) if "kettlepost" in one.filename), frames[-1] if frames else None)
    place = f" ({Path(own.filename).name} line {own.lineno})" if own is not None else ""
    words = " ".join(f"{type(error).__name__}: {error}".split())[:300]
    more = "its log has more" if noted is not None else f"{LOG_VARIABLE}=FILE before the command writes more into FILE"
    told = f"kettlepost: a fault of the program itself, {words}{place}; {more}, and SECURITY.md says whom to tell"
    sys.stderr.write(f"{gate.message(told)}\n")
    note("".join(traceback.format_exception(error)), is_wrong=True)


def note(message: str, is_wrong: bool = False) -> None:
    """Something for the log, where one is written."""
    if noted is not None:
        noted(message, is_wrong)


def hint(message: str) -> None:
    """Something good to know that is no result; a terminal wraps it, but for lines in which a command stands whole."""
    from kettlepost.render import gate

    told = gate.message(message)
    if not sys.stderr.isatty():
        sys.stderr.write(told + "\n")
        return
    from kettlepost.render.screen import Screen

    screen = Screen(sys.stderr)
    for line in told.splitlines():
        if "kettlepost " in line:
            sys.stderr.write(line + "\n")
        else:
            screen.line(line)


def say_troubles(troubles: Iterable[str]) -> None:
    """What was seen of accounts and could not be read, and as what that counts."""
    for trouble in troubles:
        hint(f"kettlepost: {trouble}")


def plan_folder(given: Path | None) -> Path:
    """The plan folder that was asked for, or the nearest. Raises InputError when there is none."""
    found = plan_at_hand(given)
    if found is None:
        raise kettlepost.InputError(
            "no plan folder here: neither this folder nor one above holds a kettlepost.toml; "
            "go into one, name one with --plan, or start one with 'kettlepost new FOLDER'"
        )
    return found


def plan_at_hand(given: Path | None) -> Path | None:
    """The plan folder that was asked for, or the nearest; None when there is none."""
    if given is not None:
        return given
    named = os.environ.get(ENVIRONMENT)
    if named:
        return Path(named)
    current = Path.cwd()
    return next((folder for folder in (current, *current.parents) if (folder / "kettlepost.toml").is_file()), None)
