"""What may be spent on something read from outside, so that whatever is fed in ends with a clear word."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from kettlepost.core.errors import OutsideError
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy


class Limits(NamedTuple):
    """How much of one thing is read at the most.

    `bytes` are those read, `unpacked` what they unpack to, and never more than `times` what was
    read once that is more than `free`; `entries` are files, folders and links, `depth` the folders
    one inside the other, `line` the bytes of a line or a name, `memory` the bytes that what is kept
    of folders and links may fill, `window` those of what a packer looks back to, `patience` the seconds
    without any progress, and `total` the seconds that all of it may take.
    """

    bytes: int = 1 << 42
    unpacked: int = 1 << 43
    times: int = 1_200
    free: int = 1 << 30
    entries: int = 50_000_000
    folders: int = 5_000_000
    depth: int = 256
    line: int = 1 << 16
    memory: int = 150 << 20
    window: int = 128 << 20
    patience: float = 30.0
    total: float = 4 * 3600.0


class Budget:
    """What is left to spend on the thing that `name` names; `clock` gives seconds, to see that it goes on.

    Every method raises OutsideError once a limit is met.
    """

    def __init__(self, name: str, limits: Limits | None = None, clock: Callable[[], float] | None = None):
        self.name = printable(name)
        self.limits = limits or Limits()
        self._clock = clock
        self._begun = self._last = clock() if clock is not None else 0.0
        self._read = self._unpacked = self._entries = self._folders = self._kept = self._held = 0

    def read(self, number: int) -> None:
        """Count bytes that were read, which is progress."""
        self._read += number
        if number and self._clock is not None:
            self._last = self._clock()
        if self._read > self.limits.bytes:
            raise self._spent(f"more than {self.limits.bytes:,} bytes", "hand it in in parts")

    def unpack(self, number: int) -> None:
        """Count bytes that came out of what was read."""
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

    def keep(self, number: int) -> None:
        """Count bytes that are kept in mind from now on."""
        self._kept += number
        if self._kept + self._held > self.limits.memory:
            raise self._spent(
                f"its folders and links fill more than {self.limits.memory >> 20:,} MB of memory",
                "no usual account does",
                Remedy(Action.GIVE_MEMORY),
            )

    def hold(self, number: int) -> None:
        """Count bytes that are kept in mind until they are let go."""
        self._held += number
        self.keep(0)

    def let_go(self, number: int | None = None) -> None:
        """Let go of bytes that were held: of all of them, where no number is given."""
        self._held -= self._held if number is None else number

    def listing(self, folder: str, files: int, links: Sequence[tuple[str, str]]) -> None:
        """A folder was listed, of which names of files are not kept in mind."""
        self._entries += files
        self.entry(folder.count("/") + 1 if folder else 0)
        self.keep(_OF_A_FOLDER + len(folder) + sum(_OF_A_LINK + len(name) + len(to) for name, to in links))
        if self._clock is not None:
            self.go_on()

    def go_on(self) -> None:
        """Something came, which is progress."""
        if self._clock is not None:
            self._last = self._clock()
            self._ends_in_time()

    def line(self, length: int) -> None:
        """A line, or a name, of so many bytes came."""
        if length > self.limits.line:
            raise self._spent(f"holds a line of more than {self.limits.line:,} bytes", "no listing or name is so long")

    def wait(self) -> None:
        """Something was waited for: see that there was progress not too long ago."""
        if self._clock is None:
            return
        if self._clock() - self._last > self.limits.patience:
            raise self.silence()
        self._ends_in_time()

    def silence(self) -> OutsideError:
        """What is said of something that makes no progress."""
        return OutsideError(
            f"{self.name}: nothing came of it for {self.limits.patience:g} seconds; try again", Remedy(Action.GIVE_TIME)
        )

    def _ends_in_time(self) -> None:
        if self._last - self._begun > self.limits.total:
            raise self._spent(
                f"takes more than {self.limits.total:,.0f} seconds",
                "look at a part of it, or give it more with --timeout",
            )

    def _spent(self, what: str, words: str, *remedies: Remedy) -> OutsideError:
        return OutsideError(f"{self.name}: {what}; {words}", *remedies)


_OF_A_FOLDER, _OF_A_LINK = 400, 560
"""How many bytes a survey keeps of each, but for their names; measured."""
