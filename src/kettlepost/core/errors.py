"""The errors a user can cause or meet, in one tree."""

from __future__ import annotations

import os
from collections.abc import Sequence

from kettlepost.core.remedies import Remedy
from kettlepost.core.secrets import masked


class KettlepostError(Exception):
    """Anything that ends a command with a message instead of a result.

    The message says what is wrong; `remedies` are what can be done with the program about it,
    which whoever shows the error puts into words. What looks like a secret is masked in it.
    """

    def __init__(self, message: str, *remedies: Remedy):
        super().__init__(masked(message))
        self.remedies = remedies


class InputError(KettlepostError):
    """The command, the plan or another input is wrong; the message says what would be right."""


class OutsideError(KettlepostError):
    """Something outside failed (a disk, a server); trying again may help."""


class PlanError(InputError):
    """The plan cannot be read; `problems` holds every fault that was found, each with its place."""

    def __init__(self, problems: Sequence[str]):
        super().__init__("\n".join(problems))
        self.problems = list(map(masked, problems))

    def __reduce__(self) -> tuple[type[PlanError], tuple[list[str]]]:
        return PlanError, (self.problems,)


def cause(error: OSError) -> str:
    """The operating system's reason in plain words, without number and path."""
    if isinstance(reason := getattr(error, "reason", None), str):
        return reason.replace("_", " ").lower()  # of TLS, whose numbers are not the system's
    said = os.strerror(error.errno) if error.errno else error.strerror or type(error).__name__
    return said.lower()
