"""Setting aside in an account's home, by renaming: whole, with a manifest, so that it can be finished or taken back.

In the home lies `kettlepost-set-aside/ID/` with `files/`, where each thing has the path that it had below the home,
and `manifest.jsonl`, which says what it was. What is to be done is written there before the first renaming, as
`intent.jsonl`, and what is to be put back as `back.jsonl`: whatever breaks off in between, where each thing lies
tells how far it has come. `at-work` is there as long as somebody is at it.
"""

from __future__ import annotations

import os
import socket
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from enum import StrEnum
from typing import NamedTuple

import msgspec
from msgspec.structs import replace

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.clearing import (
    LARGEST_MANIFEST,
    Entry,
    Item,
    Manifest,
    Tree,
    decode_manifest,
    encode_manifest,
    is_plain,
    taken_out,
)
from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.names import InvalidName, printable, unprintable
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.survey import SET_ASIDE
from kettlepost.sources import FileAccess, Refusal, Rename, Trouble
from kettlepost.sources.file_access import made_above

MANIFEST, INTENT, BACK, GONE = "manifest.jsonl", "intent.jsonl", "back.jsonl", "gone.jsonl"
_AT_WORK = f"{SET_ASIDE}/at-work"
_LIMITS = Limits(entries=20_000_000, depth=512)
_OWN_MODE = 0o700
Progress = Callable[[int, int], None]


class State(StrEnum):
    """How far something that was set aside has come."""

    WHOLE = "set aside"
    BEGUN = "half set aside"
    RETURNING = "half put back"
    GOING = "half deleted"
    NOTHING = "begun, and nothing was moved"
    DAMAGED = "without a manifest that can be read"


class Left(NamedTuple):
    """Something that stayed where it is, and why."""

    path: str
    trouble: Trouble


class Outcome(NamedTuple):
    """What was done: the manifest of what is set aside now, what was moved, and what stayed where it is."""

    manifest: Manifest | None
    moved: list[str]
    left: list[Left]


class Held(NamedTuple):
    """Whether what was set aside is still as its manifest says: what is missing, what is changed, what came since."""

    missing: list[str]
    changed: list[str]
    more: list[str]

    @property
    def holds(self) -> bool:
        return not (self.missing or self.changed or self.more)


class _Return(msgspec.Struct):
    path: str
    to: str


def walk(access: FileAccess, top: str) -> Tree:
    """Everything in a folder. What lies on another file system counts as not to be read."""
    budget = Budget(access.name, _LIMITS)
    listed: dict[str, list[Entry]] = {}
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
    return Tree(top, listed, troubles)


def beside(path: str, number: str) -> str:
    """A name next to one that is taken, with the same ending, so that a server shows it as it would the other."""
    folder, _, name = path.rpartition("/")
    stem, dot, ending = name.rpartition(".")
    new = f"{stem}.{number}.{ending}" if dot and stem else f"{name}.{number}"
    return f"{folder}/{new}" if folder else new


class Shelf:
    """What is set aside in one home."""

    def __init__(self, access: FileAccess):
        self.access = access

    def ids(self) -> list[str]:
        """What is there, the oldest first."""
        there = self._entries(SET_ASIDE)
        return sorted(entry.name for entry in there if entry.kind == "folder" and entry.path != _AT_WORK)

    def state(self, number: str) -> State:
        names = {entry.name for entry in self._entries(_place(number))}
        if GONE in names:
            return State.GOING
        if BACK in names:
            return State.RETURNING
        if INTENT in names:
            return State.BEGUN
        if MANIFEST in names or f"{MANIFEST}.new" in names:
            return State.WHOLE
        return State.DAMAGED if "files" in names else State.NOTHING

    def half_way(self) -> dict[str, State]:
        """What broke off half-way."""
        states = {number: self.state(number) for number in self.ids()}
        return {number: state for number, state in states.items() if state is not State.WHOLE}

    def manifest(self, number: str) -> Manifest:
        """Raises InputError where it is damaged or not there."""
        names = {entry.name for entry in self._entries(_place(number))}
        for name in (MANIFEST, f"{MANIFEST}.new", INTENT, GONE):
            if name in names:
                return decode_manifest(self._read(f"{_place(number)}/{name}"), f"{_place(number)}/{name}")
        raise InputError(f"{printable(number)}: is not set aside in {self.access.name}")

    def restore(self, manifest: Manifest) -> None:
        """Write the manifest anew, from a copy, where it is lost and what it speaks of is there."""
        with self._at_work(manifest.id):
            self._put(f"{_place(manifest.id)}/{MANIFEST}", encode_manifest(manifest))

    def set_aside(self, manifest: Manifest, progress: Progress | None = None) -> Outcome:
        """Take everything out of the way that the manifest says, and leave what is not as it was looked at."""
        with self._at_work(manifest.id):
            place = _place(manifest.id)
            self.access.make(place, _OWN_MODE)
            try:
                self._put(f"{place}/{INTENT}", encode_manifest(manifest))
            except Trouble as trouble:
                self._tidy(manifest.id)
                raise OutsideError(f"{self.access.name}: {trouble}; nothing was moved") from None
            return self._carry_out(manifest, progress)

    def finish(self, number: str, progress: Progress | None = None) -> Outcome:
        """Bring to its end what broke off, so that all of it is set aside."""
        with self._at_work(number):
            state = self.state(number)
            if state is State.NOTHING:
                self._tidy(number)
                return Outcome(None, [], [])
            if state is State.GOING:
                raise InputError(
                    f"{number} is being deleted, and cannot be put together again", Remedy(Do.DISCARD, number)
                )
            manifest = self.manifest(number)
            if state is State.RETURNING:
                left = self._again_aside(number)
                self._remove(f"{_place(number)}/{BACK}")
                return Outcome(manifest, [], left)
            return self._carry_out(manifest, progress) if state is State.BEGUN else Outcome(manifest, [], [])

    def put_back(self, number: str, paths: Sequence[str] = (), is_beside: bool = False) -> Outcome:
        """Put things back where they lay, all or those asked for. Raises InputError where something is in the way."""
        with self._at_work(number):
            state = self.state(number)
            if state is State.NOTHING:
                self._tidy(number)
                return Outcome(None, [], [])
            if state is State.GOING:
                raise InputError(
                    f"{number} is being deleted, and cannot be put together again", Remedy(Do.DISCARD, number)
                )
            manifest = self.manifest(number)
            begun = self._returns(number) if state is State.RETURNING else []
            wanted = begun if begun and not paths else [*begun, *self._wanted(manifest, paths, is_beside, begun)]
            if not wanted and state is not State.BEGUN:
                raise InputError(f"{number}: nothing of it is there any more")
            return self._return(manifest, wanted)

    def discard(self, number: str) -> int:
        """Delete for good what was set aside; gives how many files went."""
        with self._at_work(number):
            place, state = _place(number), self.state(number)
            if state in (State.BEGUN, State.RETURNING):
                raise InputError(f"{number} is {state}", Remedy(Do.FINISH, number), Remedy(Do.PUT_BACK, number))
            if state is State.WHOLE:
                if self.access.look(f"{place}/{MANIFEST}") is None:
                    self._must_rename(f"{place}/{MANIFEST}.new", f"{place}/{MANIFEST}")
                self._must_rename(f"{place}/{MANIFEST}", f"{place}/{GONE}")
            return self._take_away(number)

    def look_at(self, manifest: Manifest, digests: Mapping[str, str] | None = None) -> Held:
        """Whether what is set aside is as its manifest says; `digests` are those of files that were read again."""
        place = f"{_place(manifest.id)}/files"
        tree = walk(self.access, place)
        there = {entry.path[len(place) + 1 :]: entry for entry in tree.below(place)}
        around = {above for item in manifest.items for above in made_above(item.path)}
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
        return Held(missing, changed, more)

    def _carry_out(self, manifest: Manifest, progress: Progress | None) -> Outcome:
        place, moves = _place(manifest.id), manifest.moved
        done = set(self._aside(manifest.id, [item.path for item in moves])) if self._was_begun(place) else set()
        todo = [item for item in moves if item.path not in done]
        left = [Left(path, trouble) for path, trouble in self._move(todo, place, progress, len(moves))]
        stopped = {one.path for one in left}
        moved = [item for item in moves if item.path not in stopped]
        strayed = self._strayed(manifest, [item for item in moved if item.kind == "folder"])
        left += strayed
        rest = taken_out(manifest, [one.path for one in left], _modes(manifest)) if left else manifest
        if not rest.items:
            self._tidy(manifest.id)
            return Outcome(None, [], left)
        if left:
            self._put(f"{place}/{MANIFEST}", encode_manifest(rest))
            self._remove(f"{place}/{INTENT}")
        else:
            self._must_rename(f"{place}/{INTENT}", f"{place}/{MANIFEST}")
        return Outcome(rest, [item.path for item in moved], left)

    def _was_begun(self, place: str) -> bool:
        return any(entry.name == "files" for entry in self._entries(place))

    def _aside(self, number: str, paths: Iterable[str]) -> dict[str, Entry]:
        """Of some paths those whose things are set aside, with what is there."""
        place = f"{_place(number)}/files/"
        return {path[len(place) :]: entry for path, entry in self._there(place + path for path in paths).items()}

    def _there(self, paths: Iterable[str]) -> dict[str, Entry]:
        """What is at some paths, of each folder around them asked once."""
        wanted = set(paths)
        folders = sorted({path.rpartition("/")[0] for path in wanted})
        listed = (entry for one in self.access.list_all(folders) for entry in one.entries)
        return {entry.path: entry for entry in listed if entry.path in wanted}

    def _move(
        self, items: Sequence[Item], place: str, progress: Progress | None, number: int
    ) -> Iterator[tuple[str, Trouble]]:
        """Move things into their place; gives the paths of those that stayed, with why."""
        begin = f"{place}/files/"
        made: set[str] = {SET_ASIDE, place}

        def renames() -> Iterator[Rename]:
            around = ""
            for item in items:
                to = begin + item.path
                if to.rpartition("/")[0] != around:
                    around = to.rpartition("/")[0]
                    self._make_around(to, made)
                yield Rename(item.path, to, item.entry)

        for n, (rename, trouble) in enumerate(self.access.rename_all(renames()), 1):
            if trouble is not None:
                yield rename.path, trouble
            if progress is not None:
                progress(n, number)

    def _make_around(self, path: str, made: set[str], modes: Mapping[str, int] | None = None) -> None:
        """Make the folders around a path that are not among those known to be there."""
        for above in made_above(path):
            if above not in made:
                self._make(above, (modes or {}).get(above, 0o755 if modes is not None else _OWN_MODE))
                made.add(above)

    def _strayed(self, manifest: Manifest, folders: Sequence[Item]) -> list[Left]:
        """What came into moved folders, or was changed there, after the look: it is put back where it was."""
        if not folders:
            return []
        place = f"{_place(manifest.id)}/files"
        known = {item.path: item for item in manifest.items}
        strays: list[tuple[str, Entry, Refusal]] = []
        for folder in folders:
            for entry in walk(self.access, f"{place}/{folder.path}").below(f"{place}/{folder.path}"):
                path = entry.path[len(place) + 1 :]
                item = known.get(path)
                if item is None and not any(path.startswith(f"{stray}/") for stray, _, _ in strays):
                    strays.append((path, entry, Refusal.TAKEN))
                elif item is not None and not item.entry.is_moved(replace(entry, path=path)):
                    strays.append((path, entry, Refusal.CHANGED))
        left: list[Left] = []
        for path, entry, refusal in strays:
            for above in made_above(path):
                around = known.get(above)
                self._make(above, around.mode if around is not None and around.mode >= 0 else 0o755)
            trouble = self._rename(entry.path, path, entry)
            if trouble is None:
                said = "it came since it was looked at" if refusal is Refusal.TAKEN else ""
                left.append(Left(path, Trouble(Refusal.CHANGED, said)))
        return left

    def _wanted(
        self, manifest: Manifest, paths: Sequence[str], is_beside: bool, begun: Sequence[_Return]
    ) -> Iterator[_Return]:
        """What is to go back, and where to: nothing may be in the way."""
        known = {item.path for item in manifest.items}
        asked = list(dict.fromkeys(paths or [item.path for item in manifest.moved]))
        aside, there = self._aside(manifest.id, [path for path in asked if is_plain(path)]), self._there(asked)
        unknown = [path for path in paths if path not in known]
        if unknown:
            raise InputError(f"{printable(unknown[0])} is not among what {manifest.id} set aside")
        under_way, in_the_way = {one.path for one in begun}, []
        for path in asked:
            if path in under_way or path not in aside:
                continue
            to = path
            if path in there:
                if not is_beside:
                    in_the_way.append(path)
                    continue
                to = self._free_beside(path, manifest.id)
            yield _Return(path, to)
        if in_the_way:
            named = ", ".join(map(printable, in_the_way[:8])) + (", ..." if len(in_the_way) > 8 else "")
            raise InputError(
                f"something new is in the way: {named}; nothing was put back: move it away, name what is to be put "
                "back, or give --beside to put it next to that"
            )

    def _free_beside(self, path: str, number: str) -> str:
        name, n = beside(path, number), 1
        while self.access.look(name) is not None:
            n += 1
            name = beside(path, f"{number}-{n}")
        return name

    def _return(self, manifest: Manifest, returns: Sequence[_Return]) -> Outcome:
        place = _place(manifest.id)
        encoded = [_Return(printable(one.path), printable(one.to)) for one in returns]
        if returns:
            self._put(f"{place}/{BACK}", [msgspec.json.encode(encoded) + b"\n"])
        modes, aside = _modes(manifest), self._aside(manifest.id, [one.path for one in returns])
        gone = [one.path for one in returns if one.path not in aside]
        made: set[str] = set()

        def renames() -> Iterator[Rename]:
            for one in returns:
                if one.path not in aside:
                    continue
                self._make_around(one.to, made, modes)
                yield Rename(aside[one.path].path, one.to, aside[one.path])

        left = []
        for rename, trouble in self.access.rename_all(renames()):
            path = rename.path[len(place) + 7 :]
            left.append(Left(path, trouble)) if trouble is not None else gone.append(path)
        if any(entry.name == INTENT for entry in self._entries(place)):
            still = self._aside(manifest.id, [item.path for item in manifest.moved])
            gone += [item.path for item in manifest.moved if item.path not in still]
        rest = taken_out(manifest, gone, modes)
        if rest.items:
            self._put(f"{place}/{MANIFEST}", encode_manifest(rest))
            self._remove(f"{place}/{INTENT}")
            self._remove(f"{place}/{BACK}")
        else:
            self._tidy(manifest.id)
        return Outcome(rest if rest.items else None, [one.to for one in returns if one.path in set(gone)], left)

    def _returns(self, number: str) -> list[_Return]:
        raw = self._read(f"{_place(number)}/{BACK}")
        try:
            found = msgspec.json.decode(raw, type=list[_Return])
            found = [_Return(unprintable(one.path), unprintable(one.to)) for one in found]
        except (msgspec.MsgspecError, InvalidName):
            raise InputError(f"{_place(number)}/{BACK}: damaged; look at it, and at what lies where") from None
        if not all(is_plain(one.path) and is_plain(one.to) for one in found):
            raise InputError(f"{_place(number)}/{BACK}: holds a path that leads out of the home")
        return found

    def _again_aside(self, number: str) -> list[Left]:
        """Set aside again what had been put back before that broke off."""
        left = []
        for one in self._returns(number):
            there = f"{_place(number)}/files/{one.path}"
            now = self.access.look(one.to)
            if now is not None and self.access.look(there) is None:
                trouble = self._rename(one.to, there, now)
                left += [Left(one.path, trouble)] if trouble is not None else []
        return left

    def _tidy(self, number: str) -> None:
        """Remove the empty folders and the records of something of which nothing is set aside any more."""
        place = _place(number)
        for entry in reversed(list(walk(self.access, place).below(place))):
            if entry.kind == "folder":
                self._remove(entry.path, is_folder=True)
        if not any(entry.name == "files" for entry in self._entries(place)):
            for entry in self._entries(place):
                if entry.name.startswith((MANIFEST, INTENT, BACK, GONE)):
                    self._remove(entry.path)
            self._remove(place, is_folder=True)

    def _take_away(self, number: str) -> int:
        """Delete what is set aside, and its records last; gives how many files that was."""
        place, files = _place(number), 0
        tree = walk(self.access, place)
        for entry in reversed(list(tree.below(place))):
            if entry.name != GONE or "/files/" in entry.path:
                files += entry.kind != "folder" and "/files/" in entry.path
                self._remove(entry.path, entry.kind == "folder")
        self._remove(f"{place}/{GONE}")
        self._remove(place, is_folder=True)
        return files

    @contextmanager
    def _at_work(self, number: str) -> Iterator[None]:
        """Keep others from clearing in the same home meanwhile."""
        self._make(SET_ASIDE, _OWN_MODE, must=True)
        try:
            self.access.make(_AT_WORK, _OWN_MODE)
        except Trouble as trouble:
            if trouble.refusal is not Refusal.TAKEN:
                raise OutsideError(f"{self.access.name}: {SET_ASIDE}: {trouble}; nothing was moved") from None
            self._take_over()
        try:
            with suppress(Trouble):
                self.access.write(f"{_AT_WORK}/{_whose()}", [number.encode() + b"\n"])
            yield
        except Trouble as trouble:
            raise OutsideError(f"{self.access.name}: {SET_ASIDE}: {trouble}") from None
        finally:
            with suppress(Trouble, OutsideError):
                self._leave()

    def _take_over(self) -> None:
        """Go on where a run on this machine was killed. Raises InputError where one is at it, or may be."""
        for entry in self._entries(_AT_WORK):
            machine, _, process = entry.name.rpartition(".")
            if machine != _machine():
                raise InputError(
                    f"{self.access.name}: a run on {printable(machine)} is at work there, or broke off: once it is not "
                    f"running, go on from there, or remove {printable(entry.path)}, then run this again"
                )
            if process.isdecimal() and int(process) != os.getpid() and _runs(int(process)):
                raise InputError(f"{self.access.name}: another run (process {process}) is clearing there; wait for it")
            self._remove(entry.path)

    def _leave(self) -> None:
        for entry in self._entries(_AT_WORK):
            self._remove(entry.path)
        self._remove(_AT_WORK, is_folder=True)
        self._remove(SET_ASIDE, is_folder=True)  # which it is only where nothing is set aside

    def _entries(self, folder: str) -> Sequence[Entry]:
        for listed in self.access.list_all([folder]):
            if listed.trouble is None:
                return listed.entries
            if listed.trouble.refusal is not Refusal.MISSING and self.access.look(folder) is not None:
                raise OutsideError(f"{self.access.name}: {printable(folder)}: {listed.trouble}")
        return ()

    def _read(self, path: str) -> bytes:
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

    def _put(self, path: str, content: Iterable[bytes]) -> None:
        """Write a file so that it is there whole or not at all."""
        with suppress(Trouble):
            self.access.remove(f"{path}.part")
        self.access.write(f"{path}.part", content)
        if self.access.look(path) is not None:
            self._remove(f"{path}.new")
            self._must_rename(f"{path}.part", f"{path}.new")
            self.access.remove(path)
            self._must_rename(f"{path}.new", path)
        else:
            self._must_rename(f"{path}.part", path)

    def _must_rename(self, path: str, to: str) -> None:
        trouble = self._rename(path, to)
        if trouble is not None:
            raise trouble

    def _rename(self, path: str, to: str, entry: Entry | None = None) -> Trouble | None:
        entry = entry or self.access.look(path)
        if entry is None:
            return Trouble(Refusal.MISSING)
        return next(trouble for _, trouble in self.access.rename_all([Rename(path, to, entry)]))

    def _make(self, folder: str, mode: int = _OWN_MODE, must: bool = False) -> None:
        try:
            self.access.make(folder, mode)
        except Trouble as trouble:
            there = self.access.look(folder) if trouble.refusal is Refusal.TAKEN else None
            if must and (there is None or there.kind != "folder"):
                raise OutsideError(
                    f"{self.access.name}: {printable(folder)} cannot be made ({trouble}); nothing was moved"
                ) from None

    def _remove(self, path: str, is_folder: bool = False) -> None:
        with suppress(Trouble):
            self.access.remove_folder(path) if is_folder else self.access.remove(path)


def _modes(manifest: Manifest) -> dict[str, int]:
    """The permission bits of the folders in and around what was set aside, by path."""
    own = {item.path: item.mode for item in manifest.items if item.kind == "folder" and item.mode >= 0}
    return {**manifest.head.folders, **own}


def _place(number: str) -> str:
    return f"{SET_ASIDE}/{number}"


def _machine() -> str:
    return "".join(letter if letter.isalnum() or letter in "-_" else "-" for letter in socket.gethostname())[:60] or "-"


def _whose() -> str:
    return f"{_machine()}.{os.getpid()}"


def _runs(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
