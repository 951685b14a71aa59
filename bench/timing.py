"""Timing a command."""

from __future__ import annotations

import resource
import shutil
import subprocess
import sys
import time
from pathlib import Path

PROGRAM = str(Path(sys.executable).with_name("kettlepost"))


def seconds(command: list[str], typed: str = "", fresh: Path | None = None) -> float:
    """How long a command takes; `fresh` is a plan folder that has to remember nothing."""
    if fresh is not None:
        shutil.rmtree(fresh / ".kettlepost", ignore_errors=True)
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    begin = time.perf_counter()
    done = subprocess.run(command, input=typed, text=True, check=False, **quiet)
    if done.returncode not in (0, 1, 2):
        raise SystemExit(f"{command}: status {done.returncode}")
    return time.perf_counter() - begin


def processor_seconds(command: list[str], fresh: Path | None = None) -> float:
    """The processor time a command takes with all it starts: what grows with a plan, whatever else the machine does."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    seconds(command, fresh=fresh)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
