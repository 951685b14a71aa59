"""The errors a user can cause or meet, in one tree."""

from __future__ import annotations

import os
from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import force_setattr

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


class Fault(Struct, array_like=True, frozen=True):
    """One thing that is wrong with a file: where (line 0 where it is the file as a whole), what, and what is right.

    `key` is the table or key it is about, as `("domain", 2, "kind")`, and `code` a word for its kind.
    What looks like a secret is masked in `text`.
    """

    file: str
    line: int
    key: tuple[str | int, ...]
    code: str
    text: str

    def __post_init__(self) -> None:
        force_setattr(self, "text", masked(self.text))

    def __str__(self) -> str:
        return f"{self.file}:{self.line}: {self.text}" if self.line else f"{self.file}: {self.text}"


class PlanError(InputError):
    """The plan or a table cannot be read; `faults` holds everything that was found wrong, each with its place."""

    def __init__(self, faults: Sequence[Fault]):
        super().__init__("\n".join(map(str, faults)))
        self.faults = list(faults)

    def __reduce__(self) -> tuple[type[PlanError], tuple[list[Fault]]]:
        return PlanError, (self.faults,)


def cause(error: OSError) -> str:
    """The operating system's reason in plain words, without number and path."""
    if isinstance(reason := getattr(error, "reason", None), str):
        return reason.replace("_", " ").lower()  # of TLS, whose numbers are not the system's
    said = os.strerror(error.errno) if error.errno else error.strerror or type(error).__name__
    return said.lower()
