"""Setting aside by renaming: whole, with a manifest, to be finished or taken back wherever it breaks off."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

import msgspec
from msgspec.structs import replace

from kettlepost.core.clearing import Entry, Item, Manifest, encode_manifest, is_plain, taken_out
from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.names import InvalidName, printable, unprintable
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.survey import SET_ASIDE
from kettlepost.sources import Refusal, Rename, Trouble
from kettlepost.sources.file_access import made_above
from kettlepost.workspace.shelf import BACK, GONE, INTENT, MANIFEST, OWN_MODE, Shelf, State, place_of, walk

Progress = Callable[[int, int], None]


class Left(NamedTuple):
    """Something that stayed where it is, and why."""

    path: str
    trouble: Trouble


class Outcome(NamedTuple):
    """What was done: the manifest of what is set aside now, what was moved, and what stayed where it is."""

    manifest: Manifest | None
    moved: list[str]
    left: list[Left]


class _Return(msgspec.Struct):
    path: str
    to: str


def set_aside(shelf: Shelf, manifest: Manifest, progress: Progress | None = None) -> Outcome:
    """Take everything out of the way that the manifest says, and leave what is not as it was looked at."""
    with shelf.at_work(manifest.id):
        place = place_of(manifest.id)
        shelf.access.make(place, OWN_MODE)
        try:
            shelf.put(f"{place}/{INTENT}", encode_manifest(manifest))
        except Trouble as trouble:
            shelf.tidy(manifest.id)
            raise OutsideError(f"{shelf.access.name}: {trouble}; nothing was moved") from None
        return _carry_out(shelf, manifest, progress)


def finish(shelf: Shelf, number: str, progress: Progress | None = None) -> Outcome:
    """Bring to its end what broke off, so that all of it is set aside."""
    with shelf.at_work(number):
        state = shelf.state(number)
        if state is State.NOTHING:
            shelf.tidy(number)
            return Outcome(None, [], [])
        if state is State.GOING:
            raise InputError(f"{number} is being deleted, and cannot be put together again", Remedy(Do.DISCARD, number))
        manifest = shelf.manifest(number)
        if state is State.RETURNING:
            left = _again_aside(shelf, number)
            shelf.remove(f"{place_of(number)}/{BACK}")
            return Outcome(manifest, [], left)
        return _carry_out(shelf, manifest, progress) if state is State.BEGUN else Outcome(manifest, [], [])


def put_back(shelf: Shelf, number: str, paths: Sequence[str] = (), is_beside: bool = False) -> Outcome:
    """Put things back where they lay, all or those asked for. Raises InputError where something is in the way."""
    with shelf.at_work(number):
        state = shelf.state(number)
        if state is State.NOTHING:
            shelf.tidy(number)
            return Outcome(None, [], [])
        if state is State.GOING:
            raise InputError(f"{number} is being deleted, and cannot be put together again", Remedy(Do.DISCARD, number))
        manifest = shelf.manifest(number)
        begun = _returns(shelf, number) if state is State.RETURNING else []
        wanted = begun if begun and not paths else [*begun, *_wanted(shelf, manifest, paths, is_beside, begun)]
        if not wanted and state is not State.BEGUN:
            raise InputError(f"{number}: nothing of it is there any more")
        return _return(shelf, manifest, wanted)


def discard(shelf: Shelf, number: str) -> int:
    """Delete for good what was set aside; gives how many files went."""
    with shelf.at_work(number):
        place, state = place_of(number), shelf.state(number)
        if state in (State.BEGUN, State.RETURNING):
            raise InputError(f"{number} is {state}", Remedy(Do.FINISH, number), Remedy(Do.PUT_BACK, number))
        if state is State.WHOLE:
            if shelf.access.look(f"{place}/{MANIFEST}") is None:
                shelf.must_rename(f"{place}/{MANIFEST}.new", f"{place}/{MANIFEST}")
            shelf.must_rename(f"{place}/{MANIFEST}", f"{place}/{GONE}")
        return shelf.take_away(number)


def _carry_out(shelf: Shelf, manifest: Manifest, progress: Progress | None) -> Outcome:
    place, moves = place_of(manifest.id), manifest.moved
    done = set(shelf.aside(manifest.id, [item.path for item in moves])) if shelf.was_begun(place) else set()
    todo = [item for item in moves if item.path not in done]
    left = [Left(path, trouble) for path, trouble in _move(shelf, todo, place, progress, len(moves))]
    stopped = {one.path for one in left}
    moved = [item for item in moves if item.path not in stopped]
    strayed = _strayed(shelf, manifest, [item for item in moved if item.kind == "folder"])
    left += strayed
    rest = taken_out(manifest, [one.path for one in left], _modes(manifest)) if left else manifest
    if not rest.items:
        shelf.tidy(manifest.id)
        return Outcome(None, [], left)
    if left:
        shelf.put(f"{place}/{MANIFEST}", encode_manifest(rest))
        shelf.remove(f"{place}/{INTENT}")
    else:
        shelf.must_rename(f"{place}/{INTENT}", f"{place}/{MANIFEST}")
    return Outcome(rest, [item.path for item in moved], left)


def _move(
    shelf: Shelf, items: Sequence[Item], place: str, progress: Progress | None, number: int
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
                shelf.make_around(to, made)
            yield Rename(item.path, to, item.entry)

    for n, (rename, trouble) in enumerate(shelf.access.rename_all(renames()), 1):
        if trouble is not None:
            yield rename.path, trouble
        if progress is not None:
            progress(n, number)


def _strayed(shelf: Shelf, manifest: Manifest, folders: Sequence[Item]) -> list[Left]:
    """What came into moved folders, or was changed there, after the look: it is put back where it was."""
    if not folders:
        return []
    place = f"{place_of(manifest.id)}/files"
    known = {item.path: item for item in manifest.items}
    strays: list[tuple[str, Entry, Refusal]] = []
    for folder in folders:
        for entry in walk(shelf.access, f"{place}/{folder.path}").below(f"{place}/{folder.path}"):
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
            shelf.make(above, around.mode if around is not None and around.mode >= 0 else 0o755)
        trouble = shelf.rename(entry.path, path, entry)
        if trouble is None:
            said = "it came since it was looked at" if refusal is Refusal.TAKEN else ""
            left.append(Left(path, Trouble(Refusal.CHANGED, said)))
    return left


def _wanted(
    shelf: Shelf, manifest: Manifest, paths: Sequence[str], is_beside: bool, begun: Sequence[_Return]
) -> Iterator[_Return]:
    """What is to go back, and where to: nothing may be in the way."""
    known = {item.path for item in manifest.items}
    asked = list(dict.fromkeys(paths or [item.path for item in manifest.moved]))
    aside, there = shelf.aside(manifest.id, [path for path in asked if is_plain(path)]), shelf.there(asked)
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
            to = _free_beside(shelf, path, manifest.id)
        yield _Return(path, to)
    if in_the_way:
        named = ", ".join(map(printable, in_the_way[:8])) + (", ..." if len(in_the_way) > 8 else "")
        raise InputError(
            f"something new is in the way: {named}; nothing was put back: move it away, name what is to be put "
            "back, or give --beside to put it next to that"
        )


def _free_beside(shelf: Shelf, path: str, number: str) -> str:
    name, n = beside(path, number), 1
    while shelf.access.look(name) is not None:
        n += 1
        name = beside(path, f"{number}-{n}")
    return name


def _return(shelf: Shelf, manifest: Manifest, returns: Sequence[_Return]) -> Outcome:
    place = place_of(manifest.id)
    encoded = [_Return(printable(one.path), printable(one.to)) for one in returns]
    if returns:
        shelf.put(f"{place}/{BACK}", [msgspec.json.encode(encoded) + b"\n"])
    modes, aside = _modes(manifest), shelf.aside(manifest.id, [one.path for one in returns])
    gone = [one.path for one in returns if one.path not in aside]
    made: set[str] = set()

    def renames() -> Iterator[Rename]:
        for one in returns:
            if one.path not in aside:
                continue
            shelf.make_around(one.to, made, modes)
            yield Rename(aside[one.path].path, one.to, aside[one.path])

    left = []
    for rename, trouble in shelf.access.rename_all(renames()):
        path = rename.path[len(place) + 7 :]
        left.append(Left(path, trouble)) if trouble is not None else gone.append(path)
    if any(entry.name == INTENT for entry in shelf.entries(place)):
        still = shelf.aside(manifest.id, [item.path for item in manifest.moved])
        gone += [item.path for item in manifest.moved if item.path not in still]
    rest = taken_out(manifest, gone, modes)
    if rest.items:
        shelf.put(f"{place}/{MANIFEST}", encode_manifest(rest))
        shelf.remove(f"{place}/{INTENT}")
        shelf.remove(f"{place}/{BACK}")
    else:
        shelf.tidy(manifest.id)
    return Outcome(rest if rest.items else None, [one.to for one in returns if one.path in set(gone)], left)


def _returns(shelf: Shelf, number: str) -> list[_Return]:
    raw = shelf.read_file(f"{place_of(number)}/{BACK}")
    try:
        found = msgspec.json.decode(raw, type=list[_Return])
        found = [_Return(unprintable(one.path), unprintable(one.to)) for one in found]
    except (msgspec.MsgspecError, InvalidName):
        raise InputError(f"{place_of(number)}/{BACK}: damaged; look at it, and at what lies where") from None
    if not all(is_plain(one.path) and is_plain(one.to) for one in found):
        raise InputError(f"{place_of(number)}/{BACK}: holds a path that leads out of the home")
    return found


def _again_aside(shelf: Shelf, number: str) -> list[Left]:
    """Set aside again what had been put back before that broke off."""
    left = []
    for one in _returns(shelf, number):
        there = f"{place_of(number)}/files/{one.path}"
        now = shelf.access.look(one.to)
        if now is not None and shelf.access.look(there) is None:
            trouble = shelf.rename(one.to, there, now)
            left += [Left(one.path, trouble)] if trouble is not None else []
    return left


def _modes(manifest: Manifest) -> dict[str, int]:
    """The permission bits of the folders in and around what was set aside, by path."""
    own = {item.path: item.mode for item in manifest.items if item.kind == "folder" and item.mode >= 0}
    return {**manifest.head.folders, **own}


def beside(path: str, number: str) -> str:
    """A name next to one that is taken, with the same ending, so that a server shows it as it would the other."""
    folder, _, name = path.rpartition("/")
    stem, dot, ending = name.rpartition(".")
    new = f"{stem}.{number}.{ending}" if dot and stem else f"{name}.{number}"
    return f"{folder}/{new}" if folder else new
