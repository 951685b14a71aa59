"""Work in a process of its own, where what others wrote can neither fill the memory nor go on for ever, and what it
falls over it takes along alone."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Sequence
from typing import NamedTuple

from kettlepost.core.errors import OutsideError

REFUSED = 3
"""The status of a process that ended with words of its own."""
_PR_SET_PDEATHSIG = 1
_SIGKILL = 9


class Ended(NamedTuple):
    """How it ended: what it wrote, and whether that is why it ended and not what was asked for."""

    written: bytes
    is_refused: bool


def run_bounded(module: str, words: Sequence[str], given: bytes, memory: int, seconds: float) -> Ended:
    """Run a module of this program, which is to begin with `limit_memory`, with `given` as its input.

    `memory` is in MB. Raises OutsideError, which does not name what was read, where it took too much.
    """
    command = [sys.executable, "-P", "-m", module, str(memory), *words]
    try:
        done = subprocess.run(command, input=given, capture_output=True, timeout=seconds, check=False)  # noqa: S603
    except subprocess.TimeoutExpired:
        raise OutsideError(f"takes more than {seconds:g} seconds") from None
    if done.returncode not in (0, REFUSED):
        raise OutsideError(f"damaged, or wants more than {memory} MB of memory")
    return Ended(done.stdout, done.returncode == REFUSED)


def limit_memory() -> list[str]:
    """Take no more memory from now on than the first word of the command says, where the system can see to that.

    Gives the other words.
    """
    if sys.platform == "linux":
        import ctypes
        import resource

        with open("/proc/self/statm", encoding="ascii") as file:
            now = int(file.read().split()[0]) * resource.getpagesize()
        resource.setrlimit(resource.RLIMIT_AS, (now + (int(sys.argv[1]) << 20),) * 2)
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, _SIGKILL)  # what asked for it may be killed
    return sys.argv[2:]


def refuse(words: str) -> None:
    """End with words of its own."""
    sys.stdout.write(words)
    sys.stdout.flush()
    sys.exit(REFUSED)
