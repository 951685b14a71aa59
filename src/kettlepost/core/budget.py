"""What may be spent on something read from outside, so that whatever is fed in ends with a clear word."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.names import printable


class Limits(NamedTuple):
    """How much of one thing is read at the most.

    `bytes` are those read, `unpacked` what they unpack to, and never more than `times` what was
    read once that is more than `free`; `entries` are files, folders and links, `depth` the folders
    one inside the other, `line` the bytes of a line or a name, `patience` the seconds without any
    progress.
    """

    bytes: int = 1 << 42
    unpacked: int = 1 << 43
    times: int = 1_200
    free: int = 1 << 30
    entries: int = 50_000_000
    folders: int = 5_000_000
    depth: int = 2_048
    line: int = 1 << 16
    patience: float = 120.0


class Budget:
    """What is left to spend on the thing that `name` names; `clock` gives seconds, to see that it goes on.

    Every method raises InputError, or OutsideError for want of progress, once a limit is met.
    """

    def __init__(self, name: str, limits: Limits | None = None, clock: Callable[[], float] | None = None):
        self.name = printable(name)
        self.limits = limits or Limits()
        self._clock = clock
        self._last = clock() if clock is not None else 0.0
        self._read = self._unpacked = self._entries = self._folders = 0

    def read(self, number: int) -> None:
        """So many bytes were read, which is progress."""
        self._read += number
        if number and self._clock is not None:
            self._last = self._clock()
        if self._read > self.limits.bytes:
            raise self._spent(f"more than {self.limits.bytes:,} bytes", "hand it in in parts")

    def unpack(self, number: int) -> None:
        """So many bytes came out of what was read."""
        self._unpacked += number
        self.wait()
        if self._unpacked > self.limits.unpacked:
            raise self._spent(f"unpacks to more than {self.limits.unpacked:,} bytes", "hand it in in parts")
        if self._unpacked > max(self.limits.free, self.limits.times * self._read):
            raise self._spent(
                f"unpacks to more than {self.limits.times:,} times its size",
                "no home of an account does; pack it again",
            )

    def entry(self, depth: int = 0) -> None:
        """One file, folder or link came, so many folders down."""
        self._entries += 1
        if self._entries > self.limits.entries:
            raise self._spent(f"holds more than {self.limits.entries:,} files and folders", "hand it in in parts")
        if depth > self.limits.depth:
            raise self._spent(f"goes more than {self.limits.depth:,} folders deep", "leave out what does")

    def folder(self) -> None:
        """One folder came that is to be kept in mind."""
        self._folders += 1
        if self._folders > self.limits.folders:
            raise self._spent(f"holds more than {self.limits.folders:,} folders", "hand it in in parts")

    def line(self, length: int) -> None:
        """A line, or a name, of so many bytes came."""
        if length > self.limits.line:
            raise self._spent(f"holds a line of more than {self.limits.line:,} bytes", "no listing or name is so long")

    def wait(self) -> None:
        """Something was waited for: see that there was progress not too long ago."""
        if self._clock is not None and self._clock() - self._last > self.limits.patience:
            raise OutsideError(f"{self.name}: nothing came of it for {self.limits.patience:.0f} seconds; try again")

    def _spent(self, what: str, remedy: str) -> InputError:
        return InputError(f"{self.name}: {what}; {remedy}")
