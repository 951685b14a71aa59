"""What is set aside in one home: where it lies, how far it has come, and the records of it.

In the home lies `kettlepost-set-aside/ID/` with `files/`, where each thing has the path that it had below the home,
and `manifest.jsonl`, which says what it was. What is to be done is written there before the first renaming, as
`intent.jsonl`, and what is to be put back as `back.jsonl`: whatever breaks off in between, where each thing lies
tells how far it has come. `at-work` is there as long as somebody is at it.

The home is a customer's, so all of that is a stranger's word: it is read as data that may hold anything, and what the
planner's own copy of a manifest does not have is never acted on without being asked (see `records`).
"""

from __future__ import annotations

import os
import socket
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from enum import StrEnum
from typing import NamedTuple

from msgspec.structs import replace

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.clearing import LARGEST_MANIFEST, FileEntry, Manifest, SetAsideNumber, Tree, decode_manifest
from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import SET_ASIDE
from kettlepost.core.words import age_words
from kettlepost.sources import FileAccess, Refusal, Rename, Trouble
from kettlepost.sources.file_access import made_above

MANIFEST, INTENT, BACK, GONE = "manifest.jsonl", "intent.jsonl", "back.jsonl", "gone.jsonl"
DONE = "done.jsonl"
OWN_MODE = 0o700
"""The permission bits of the folders in which things are set aside."""
_AT_WORK = f"{SET_ASIDE}/at-work"
_LIMITS = Limits(entries=20_000_000, depth=512)


class SetAsideState(StrEnum):
    """How far something that was set aside has come."""

    WHOLE = "set aside"
    BEGUN = "half set aside"
    RETURNING = "half put back"
    GOING = "half deleted"
    NOTHING = "begun, or put back, and nothing is set aside"
    DAMAGED = "without a manifest that can be read"


class SetAsideComparison(NamedTuple):
    """Whether what was set aside is still as its manifest says: what is missing, what is changed, what came since."""

    missing: list[str]
    changed: list[str]
    more: list[str]

    @property
    def holds(self) -> bool:
        return not (self.missing or self.changed or self.more)


def walk(access: FileAccess, top: str) -> Tree:
    """Everything in a folder. What lies on another file system counts as not to be read."""
    budget = Budget(access.name, _LIMITS)
    listed: dict[str, list[FileEntry]] = {}
    troubles: dict[str, str] = {}
    home = access.look(top) if access.by_handles else None
    device = home.identity.partition(":")[0] if home is not None else ""
    waiting = [top]
    while waiting:
        folders, waiting = waiting, []
        for folder, entries, trouble in access.list_all(folders):
            if trouble is not None:
                troubles[folder] = str(trouble)
                continue
            listed[folder] = list(entries)
            for entry in entries:
                budget.entry(entry.path.count("/"))
                if entry.kind != "folder":
                    continue
                if device and entry.identity.partition(":")[0] != device:
                    troubles[entry.path] = str(Refusal.ELSEWHERE)
                else:
                    waiting.append(entry.path)
    return Tree(str(top), listed, troubles)


class SetAsideStore:
    """What is set aside in one home; `takes_over` allows to go on where another machine's run may have broken off."""

    def __init__(self, access: FileAccess, takes_over: bool = False):
        self.access = access
        self._takes_over = takes_over

    def ids(self) -> list[SetAsideNumber]:
        """What is there, the oldest first; what has no such number is nothing that was set aside."""
        there = self.entries(SET_ASIDE)
        names = sorted(entry.name for entry in there if entry.kind == "folder")
        return [SetAsideNumber(name) for name in names if SetAsideNumber.is_one(name)]

    def state(self, number: SetAsideNumber) -> SetAsideState:
        names = {entry.name for entry in self.entries(place_of(number))}
        if DONE in names and not self._holds_files(number):  # whose word that is, is not known
            return SetAsideState.NOTHING
        if GONE in names:
            return SetAsideState.GOING
        if BACK in names:
            return SetAsideState.RETURNING
        if INTENT in names:
            return SetAsideState.BEGUN
        if MANIFEST in names or f"{MANIFEST}.new" in names:
            return SetAsideState.WHOLE
        return SetAsideState.DAMAGED if "files" in names else SetAsideState.NOTHING

    def _holds_files(self, number: SetAsideNumber) -> bool:
        """Whether anything but empty folders is set aside, or not all of it can be looked at."""
        place = f"{place_of(number)}/files"
        tree = walk(self.access, place)
        return bool(tree.troubles and tree.listed) or any(entry.kind != "folder" for entry in tree.below(place))

    def half_way(self) -> dict[SetAsideNumber, SetAsideState]:
        """What broke off half-way."""
        states = {number: self.state(number) for number in self.ids()}
        return {number: state for number, state in states.items() if state is not SetAsideState.WHOLE}

    def manifest(self, number: SetAsideNumber) -> Manifest:
        """What the home says of it, which may be anything. Raises InputError where it is damaged or not there."""
        names = {entry.name for entry in self.entries(place_of(number))}
        for name in (MANIFEST, f"{MANIFEST}.new", INTENT, GONE):
            if name in names:
                path = f"{place_of(number)}/{name}"
                return decode_manifest(self.read_file(path), path, number)
        raise InputError(f"{number}: is not set aside in {self.access.name}")

    def look_at(self, manifest: Manifest, digests: Mapping[str, str] | None = None) -> SetAsideComparison:
        """Whether what is set aside is as its manifest says; `digests` are those of files that were read again."""
        place = f"{place_of(manifest.id)}/files"
        tree = walk(self.access, place)
        there = {entry.path[len(place) + 1 :]: entry for entry in tree.below(place)}
        around = {above for item in manifest.items for above in made_above(item.path)}
        around.update(made_above(f"{manifest.head.folder}/"))
        missing, changed = [], []
        known = set()
        for item in manifest.items:
            known.add(item.path)
            now = there.get(item.path)
            if now is None:
                missing.append(item.path)
            elif not replace(item.entry, mode=-1).is_moved(replace(now, path=item.path)) or (
                digests is not None and item.sha256 and digests.get(item.path, item.sha256) != item.sha256
            ):
                changed.append(item.path)
        more = [path for path in there if path not in known and path not in around]
        return SetAsideComparison(missing, changed, more)

    def was_begun(self, place: str) -> bool:
        return any(entry.name == "files" for entry in self.entries(place))

    def aside(self, number: SetAsideNumber, paths: Iterable[str]) -> dict[str, FileEntry]:
        """Of some paths those whose things are set aside, with what is there. Raises Trouble where nothing tells."""
        place = f"{place_of(number)}/files/"
        found = self.there((place + path for path in paths), must=True)
        return {path[len(place) :]: entry for path, entry in found.items()}

    def there(self, paths: Iterable[str], must: bool = False) -> dict[str, FileEntry]:
        """What is at some paths, of each folder around them asked once. Where each `must` be read, raises Trouble."""
        wanted = set(paths)
        folders = sorted({path.rpartition("/")[0] for path in wanted})
        found: dict[str, FileEntry] = {}
        for listed in self.access.list_all(folders):
            if must and listed.trouble is not None and listed.trouble.refusal is not Refusal.MISSING:
                raise listed.trouble
            found.update((entry.path, entry) for entry in listed.entries if entry.path in wanted)
        return found

    def make_around(self, path: str, made: set[str], modes: Mapping[str, int] | None = None) -> None:
        """Make the folders around a path that are not among those known to be there."""
        if path.rpartition("/")[0] in made:
            return
        for above in made_above(path):
            if above not in made:
                self.make(above, (modes or {}).get(above, 0o755 if modes is not None else OWN_MODE))
                made.add(above)

    def tidy(self, number: SetAsideNumber) -> None:
        """Remove the empty folders and the records of something of which nothing is set aside any more.

        That it is so is marked first, so that whatever breaks off here is known for done.
        """
        place = place_of(number)
        names = {entry.name for entry in self.entries(place)}
        record = next((name for name in (INTENT, MANIFEST, f"{MANIFEST}.new") if name in names), None)
        if record is not None and DONE not in names:
            self.must_rename(f"{place}/{record}", f"{place}/{DONE}")
        for entry in reversed(list(walk(self.access, place).below(place))):
            if entry.kind == "folder":
                self.remove(entry.path, is_folder=True)
        there = self.entries(place)
        if not any(entry.name == "files" for entry in there):
            for entry in sorted(there, key=lambda one: one.name == DONE):
                if entry.name.startswith((MANIFEST, INTENT, BACK, GONE, DONE)):
                    self.remove(entry.path)
            self.remove(place, is_folder=True)

    @contextmanager
    def at_work(self, number: SetAsideNumber) -> Iterator[None]:
        """Keep others from clearing in the same home meanwhile."""
        self.make(SET_ASIDE, OWN_MODE, must=True)
        try:
            self.access.make(_AT_WORK, OWN_MODE)
        except Trouble as trouble:
            if trouble.refusal is not Refusal.TAKEN:
                raise OutsideError(f"{self.access.name}: {SET_ASIDE}: {trouble}") from None
            self._take_over()
        try:
            with suppress(Trouble):
                self.access.write(f"{_AT_WORK}/{'.'.join(map(str, _own_run()))}", [number.encode() + b"\n"])
            yield
        except Trouble as trouble:
            raise OutsideError(f"{self.access.name}: {SET_ASIDE}: {trouble}") from None
        finally:
            with suppress(Trouble, OutsideError):
                self._leave()

    def _take_over(self) -> None:
        """Go on where a run on this machine was killed. Raises InputError where one is at it, or may be."""
        for entry in self.entries(_AT_WORK):
            run = _run_of(entry.name)
            began = f", begun {age_words((time.time_ns() - entry.changed) // 10**9)}" if entry.changed > 0 else ""
            if run is None or run.machine != _machine():
                if not self._takes_over:
                    who = f"a run on {printable(run.machine)}" if run is not None else "somebody"
                    raise InputError(
                        f"{self.access.name}: {who} is at work there{began}, or broke off: "
                        f"{printable(entry.path)} says so", Remedy(Action.TAKE_OVER)
                    )  # fmt: skip
            elif run != _own_run() and _is_running(run):
                raise InputError(
                    f"{self.access.name}: another run (process {run.process}{began}) is clearing there: "
                    f"{printable(entry.path)} says so; wait for it"
                )
            try:
                self.access.remove(entry.path)
            except Trouble as trouble:
                words = f"{printable(entry.path)}: cannot be removed ({trouble})"
                raise OutsideError(f"{self.access.name}: {words}") from None

    def _leave(self) -> None:
        for entry in self.entries(_AT_WORK):
            self.remove(entry.path)
        self.remove(_AT_WORK, is_folder=True)
        self.remove(SET_ASIDE, is_folder=True)  # which it is only where nothing is set aside

    def entries(self, folder: str) -> Sequence[FileEntry]:
        for listed in self.access.list_all([folder]):
            if listed.trouble is None:
                return listed.entries
            if listed.trouble.refusal is not Refusal.MISSING and self.access.look(folder) is not None:
                raise OutsideError(f"{self.access.name}: {printable(folder)}: {listed.trouble}")
        return ()

    def read_file(self, path: str) -> bytes:
        parts, size = [], 0
        try:
            for piece in self.access.read(path):
                parts.append(piece)
                size += len(piece)
                if size > LARGEST_MANIFEST:
                    raise InputError(f"{printable(path)}: larger than {LARGEST_MANIFEST >> 20} MiB, so no manifest")
        except Trouble as trouble:
            raise OutsideError(f"{self.access.name}: {printable(path)}: {trouble}") from None
        return b"".join(parts)

    def put(self, path: str, content: Iterable[bytes]) -> None:
        """Write a file so that it is there whole or not at all."""
        with suppress(Trouble):
            self.access.remove(f"{path}.part")
        self.access.write(f"{path}.part", content)
        if self.access.look(path) is not None:
            self.remove(f"{path}.new")
            self.must_rename(f"{path}.part", f"{path}.new")
            self.access.remove(path)
            self.must_rename(f"{path}.new", path)
        else:
            self.must_rename(f"{path}.part", path)

    def must_rename(self, path: str, to: str) -> None:
        trouble = self.rename(path, to)
        if trouble is not None:
            raise trouble

    def rename(self, path: str, to: str, entry: FileEntry | None = None) -> Trouble | None:
        entry = entry or self.access.look(path)
        if entry is None:
            return Trouble(Refusal.MISSING)
        return next(trouble for _, trouble in self.access.rename_all([Rename(path, to, entry)]))

    def make(self, folder: str, mode: int = OWN_MODE, must: bool = False) -> None:
        try:
            self.access.make(folder, mode)
        except Trouble as trouble:
            there = self.access.look(folder) if trouble.refusal is Refusal.TAKEN else None
            if must and (there is None or there.kind != "folder"):
                raise OutsideError(f"{self.access.name}: {printable(folder)} cannot be made ({trouble})") from None

    def remove(self, path: str, is_folder: bool = False) -> None:
        with suppress(Trouble):
            self.access.remove_folder(path) if is_folder else self.access.remove(path)


def place_of(number: SetAsideNumber) -> str:
    """The folder below the home in which something lies under its number."""
    return f"{SET_ASIDE}/{number}"


def _machine() -> str:
    return "".join(letter if letter.isalnum() or letter in "-_" else "-" for letter in socket.gethostname())[:60] or "-"


class _Run(NamedTuple):
    """Who is at work: the machine, the number of the process, and when that began, 0 where that was not to be had."""

    machine: str
    process: int
    start: int


def _own_run() -> _Run:
    return _Run(_machine(), os.getpid(), max(_start_of(os.getpid()), 0))


def _run_of(name: str) -> _Run | None:
    """The run that a file in `at-work` is called by; None where somebody else called it so."""
    machine, *numbers = name.split(".")
    if len(numbers) not in (1, 2) or not all(number.isdecimal() and len(number) < 20 for number in numbers):
        return None
    return _Run(machine, int(numbers[0]), int(numbers[1]) if numbers[1:] else 0)


def _is_running(run: _Run) -> bool:
    """Whether a run on this machine goes on; a process that began at another time has only got its number."""
    start = _start_of(run.process)
    return bool(start) and (start == -1 or not run.start or start == run.start)


def _start_of(process: int) -> int:
    """When a process that runs began, in ticks since this machine did; 0 where none runs, -1 where that is not told."""
    try:
        os.kill(process, 0)
    except (ProcessLookupError, OverflowError):
        return 0
    except PermissionError:
        pass
    try:
        with open(f"/proc/{process}/stat", "rb") as file:
            return int(file.read(4096).rpartition(b")")[2].split()[19])
    except (OSError, ValueError, IndexError):
        return -1
