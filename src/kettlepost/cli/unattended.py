"""What commands share that run from a timer: silence where all is well, a log, and an end in time."""

from __future__ import annotations

import os
import signal
import stat
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import interruption, runtime

USUAL = kettlepost.Limits()
QuietOption = Annotated[bool, typer.Option("--quiet", help="Write nothing where all is well.")]
LogOption = Annotated[
    Path | None,
    typer.Option("--log", metavar="FILE", help="Add to this file what was done, and what failed and why."),
]
SilenceOption = Annotated[
    float, typer.Option("--silence", metavar="SECONDS", min=0.1, help="How long a source may make no progress.")
]
MemoryOption = Annotated[
    int, typer.Option("--memory", metavar="MB", min=1, help="How much memory folders and links may fill.")
]


def log_to(path: Path | None, command: str) -> None:
    """Add what comes to a log, from the words of the command on. Raises OutsideError, InputError."""
    if path is None:
        return
    import logging

    from kettlepost.render import gate

    try:
        handle = os.open(
            path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, 0o600
        )
    except OSError as error:
        raise kettlepost.OutsideError(f"{path}: cannot be written ({(error.strerror or '').lower()})") from None
    if not stat.S_ISREG(os.fstat(handle).st_mode):
        os.close(handle)
        raise kettlepost.InputError(f"{path}: is no plain file, so no log is written to it")
    logger = logging.getLogger("kettlepost")
    logger.setLevel(logging.INFO)
    logger.propagate = False
    writer = logging.StreamHandler(os.fdopen(handle, "a", encoding="utf-8", errors="backslashreplace"))
    form = logging.Formatter("%(asctime)s %(levelname)s %(process)d %(message)s", "%Y-%m-%dT%H:%M:%S%z")
    writer.setFormatter(form)
    logger.addHandler(writer)

    def note(words: str, is_wrong: bool) -> None:
        for line in words.splitlines():
            logger.log(logging.ERROR if is_wrong else logging.INFO, "%s", gate.message(line))

    runtime.noted = note
    note(f"{command} begins", False)


@contextmanager
def within(seconds: float | None) -> Iterator[None]:
    """End what the block does after so many seconds. Raises TimedOut."""
    if seconds is None or threading.current_thread() is not threading.main_thread():
        yield
        return

    def end(_number: int, _frame: FrameType | None) -> None:
        raise interruption.TimedOut(f"it took more than {seconds:g} seconds; give it more with --timeout")

    before = signal.signal(signal.SIGALRM, end)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)
