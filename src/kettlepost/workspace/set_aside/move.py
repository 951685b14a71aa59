"""Setting aside by renaming: whole, with a manifest, to be finished or taken back wherever it breaks off."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from typing import NamedTuple

import msgspec
from msgspec.structs import replace

from kettlepost.core.clearing import FileEntry, Manifest, ManifestItem, SetAsideNumber, Tree, encode_manifest, taken_out
from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.names import InvalidName, printable, unprintable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import SET_ASIDE
from kettlepost.sources import Refusal, Rename, Trouble
from kettlepost.sources.file_access import made_above
from kettlepost.workspace.set_aside.store import (
    BACK,
    GONE,
    INTENT,
    MANIFEST,
    OWN_MODE,
    SetAsideState,
    SetAsideStore,
    place_of,
    walk,
)

Progress = Callable[[int, int], None]
_LONGEST_NAME = 255
"""NAME_MAX of Linux, in bytes."""
_LONGEST_ENDING = 40


class Left(NamedTuple):
    """Something that stayed where it is, and why."""

    path: str
    trouble: Trouble


class MoveOutcome(NamedTuple):
    """What was done: the manifest of what is set aside now, what was moved, and what stayed where it is."""

    manifest: Manifest | None
    moved: list[str]
    left: list[Left]


class Discarded(NamedTuple):
    """What was deleted for good: how many files went, what is left of the manifest, and what stayed, and why."""

    files: int
    manifest: Manifest | None
    left: list[Left]


class _Return(msgspec.Struct):
    path: str
    to: str


def set_aside(store: SetAsideStore, manifest: Manifest, progress: Progress | None = None) -> MoveOutcome:
    """Take everything out of the way that the manifest says, and leave what is not as it was looked at."""
    with store.at_work(manifest.id):
        place = place_of(manifest.id)
        try:
            store.access.make(place, OWN_MODE)
            store.put(f"{place}/{INTENT}", encode_manifest(manifest))
        except Trouble as trouble:
            if trouble.refusal is not Refusal.TAKEN:  # what is there already is another's
                store.tidy(manifest.id)
            raise OutsideError(f"{store.access.name}: {place}: {trouble}; nothing was moved") from None
        outcome = _carry_out(store, manifest, progress)
        if outcome.manifest is manifest:
            store.must_rename(f"{place}/{INTENT}", f"{place}/{MANIFEST}")
        elif outcome.manifest is not None:
            _keep_record(store, outcome.manifest)
        return outcome


def finish(store: SetAsideStore, manifest: Manifest, progress: Progress | None = None) -> MoveOutcome:
    """Bring to its end what broke off, so that all of it is set aside; `manifest` says what that is."""
    number = manifest.id
    with store.at_work(number):
        state = store.state(number)
        if state is SetAsideState.NOTHING:
            store.tidy(number)
            return MoveOutcome(None, [], [])
        if state is SetAsideState.GOING:
            raise _is_going(number)
        if state is SetAsideState.RETURNING:
            left = _again_aside(store, manifest)
            store.remove(f"{place_of(number)}/{BACK}")
            return MoveOutcome(manifest, [], left)
        if state is not SetAsideState.BEGUN:
            return MoveOutcome(manifest, [], [])
        outcome = _carry_out(store, manifest, progress)
        if outcome.manifest is not None:
            _keep_record(store, outcome.manifest)
        return outcome


def put_back(
    store: SetAsideStore,
    manifest: Manifest,
    paths: Sequence[str] = (),
    is_beside: bool = False,
    covering: Collection[str] = (),
) -> MoveOutcome:
    """Put things back where they lay, all or those asked for; `manifest` says what was set aside.

    With `is_beside` what something is in the way of gets another name, and so does what is `covering`. Raises
    InputError where something is in the way else.
    """
    number = manifest.id
    with store.at_work(number):
        state = store.state(number)
        if state is SetAsideState.NOTHING:
            store.tidy(number)
            return MoveOutcome(None, [], [])
        if state is SetAsideState.GOING:
            raise _is_going(number)
        begun = _returns(store, manifest) if state is SetAsideState.RETURNING else []
        wanted = (
            begun if begun and not paths else [*begun, *_wanted(store, manifest, paths, is_beside, begun, covering)]
        )
        if not wanted and state is not SetAsideState.BEGUN:
            raise InputError(f"{number}: nothing of it is there any more")
        return _return(store, manifest, wanted)


def discard(store: SetAsideStore, manifest: Manifest) -> Discarded:
    """Delete for good what was set aside, as far as it is still what `manifest` says; what came since stays.

    What is gone is looked up afterwards. What stays, stays with a record of it. Raises InputError for what broke off
    half-way.
    """
    number = manifest.id
    with store.at_work(number):
        place, state = place_of(number), store.state(number)
        if state in (SetAsideState.BEGUN, SetAsideState.RETURNING):
            raise InputError(
                f"{number} is {state}", Remedy.of(Action.FINISH, number), Remedy.of(Action.PUT_BACK, number)
            )
        tree = _all_of(store, number, "nothing was deleted")
        if state is not SetAsideState.GOING:
            store.put(f"{place}/{GONE}", encode_manifest(manifest))
            for name in (MANIFEST, f"{MANIFEST}.new"):
                store.remove(f"{place}/{name}")
        known = {item.path: item for item in manifest.items}
        troubles: dict[str, Trouble] = {}
        before: set[str] = set()
        for entry in reversed(list(tree.below(f"{place}/files"))):
            path = entry.path[len(place) + 7 :]
            item = known.get(path)
            if entry.kind == "folder":
                store.remove(entry.path, is_folder=True)  # where it is empty
            elif item is None or not item.entry.is_moved(replace(entry, path=path)):
                troubles[path] = Trouble(Refusal.CHANGED, "" if item else "it came since it was set aside")
            else:
                before.add(path)
                try:
                    store.access.remove(entry.path)
                except Trouble as trouble:
                    troubles[path] = trouble
        return _discarded(store, manifest, troubles, before)


def _discarded(
    store: SetAsideStore, manifest: Manifest, troubles: Mapping[str, Trouble], before: set[str]
) -> Discarded:
    """What went, by what is there now; the records are kept for what is not gone."""
    place = place_of(manifest.id)
    tree = _all_of(store, manifest.id, "what of it is deleted is not known; run this again")
    now = {entry.path[len(place) + 7 :]: entry for entry in tree.below(f"{place}/files")}
    still = {path for path, entry in now.items() if entry.kind != "folder"}
    left = [Left(path, troubles.get(path, Trouble(Refusal.REFUSED))) for path in sorted(still)]
    rest = taken_out(manifest, [item.path for item in manifest.items if item.path not in now], _modes(manifest))
    files = len(before - still)
    if not still:
        store.tidy(manifest.id)
        return Discarded(files, None, left)
    store.put(f"{place}/{MANIFEST}", encode_manifest(rest))
    store.remove(f"{place}/{GONE}")
    return Discarded(files, rest, left)


def _all_of(store: SetAsideStore, number: SetAsideNumber, means: str) -> Tree:
    """All that is set aside under a number. Raises OutsideError where not all of it can be looked at."""
    tree = walk(store.access, f"{place_of(number)}/files")
    if tree.troubles and tree.listed:
        raise OutsideError(f"{store.access.name}: not all of {place_of(number)} can be looked at: {means}")
    return tree


def _is_going(number: SetAsideNumber) -> InputError:
    return InputError(f"{number} is being deleted, and cannot be put together again", Remedy.of(Action.DISCARD, number))


def _carry_out(store: SetAsideStore, manifest: Manifest, progress: Progress | None) -> MoveOutcome:
    place, moves = place_of(manifest.id), manifest.moved
    done = set(store.aside(manifest.id, [item.path for item in moves])) if store.was_begun(place) else set()
    half = store.there(item.path for item in moves if item.kind == "folder" and item.path in done)
    todo = [item for item in moves if item.path not in done]
    left = [Left(path, trouble) for path, trouble in _move(store, todo, place, progress, len(moves))]
    # what a file system cannot rename whole is moved file by file; so is what broke off while that was done
    apart = [one for one in left if one.trouble.refusal is Refusal.ELSEWHERE]
    by_files = {one.path for one in apart} | half.keys()
    for item in moves:
        if item.kind == "folder" and item.path in by_files:
            left = [one for one in left if one.path != item.path]
            trouble = move_by_files(store, manifest.below(item.path), "", f"{place}/files/")
            left += [Left(path, trouble) for path in _stayed(store, manifest, item.path)] if trouble is not None else []
    if by_files:
        manifest = _seen_again(store, manifest, by_files)
    stopped = {one.path for one in left}
    moved = [item for item in manifest.moved if item.path not in stopped]
    strayed = _strayed(store, manifest, [item for item in moved if item.kind == "folder"])
    left += strayed
    rest = taken_out(manifest, [one.path for one in left], _modes(manifest)) if left else manifest
    if not rest.items:
        store.tidy(manifest.id)
        return MoveOutcome(None, [], left)
    return MoveOutcome(rest, [item.path for item in moved], left)


def _keep_record(store: SetAsideStore, manifest: Manifest) -> None:
    """Write down in the home what is set aside now, and that nothing is under way any more."""
    place = place_of(manifest.id)
    store.put(f"{place}/{MANIFEST}", encode_manifest(manifest))
    store.remove(f"{place}/{INTENT}")


def move_by_files(store: SetAsideStore, items: Sequence[ManifestItem], source: str, target: str) -> Trouble | None:
    """Move a folder and what is in it where folders cannot be renamed: made again, and its files one by one.

    `items` are the folder and all that it held; `source` and `target` stand before their paths. All of it comes over,
    or all of it is brought back, but for what cannot be; the trouble is that of the first that was refused.
    """
    folders = [item for item in items if item.kind == "folder"]
    others = [item for item in items if item.kind != "folder"]
    store.make_around(target + items[0].path, set())
    for item in folders:
        store.make(target + item.path, item.mode if item.mode >= 0 else 0o755)
    here, there = (store.there(begin + item.path for item in others) for begin in (source, target))
    todo = [item for item in others if source + item.path in here and target + item.path not in there]
    renames = [Rename(source + item.path, target + item.path, here[source + item.path]) for item in todo]
    trouble = None
    for _, refused in store.access.rename_all(renames):
        trouble = trouble or refused
    if trouble is not None:  # also what an earlier run had brought over
        moved = store.there(target + item.path for item in others)
        back = [
            Rename(path, source + path[len(target) :], replace(entry, stamp=0))
            for path, entry in moved.items()
            if path not in there or source + path[len(target) :] not in here
        ]
        list(store.access.rename_all(back))
    for item in reversed(folders):
        emptied = (source if trouble is None else target) + item.path
        store.remove(emptied, is_folder=True)  # which it is only where nothing else came
    return trouble


def _stayed(store: SetAsideStore, manifest: Manifest, folder: str) -> list[str]:
    """What of a folder that could not be moved is not aside: all of it, unless something could not be brought back."""
    files = [item.path for item in manifest.below(folder) if item.kind != "folder"]
    aside = store.aside(manifest.id, files)
    return [path for path in files if path not in aside] if aside else [folder]


def _seen_again(store: SetAsideStore, manifest: Manifest, folders: Collection[str]) -> Manifest:
    """The manifest with what lies in folders that were made again as it is now: it may have become another file."""
    place = f"{place_of(manifest.id)}/files"
    now = {
        entry.path[len(place) + 1 :]: entry
        for folder in folders
        for path in [f"{place}/{folder}"]
        for entry in (*filter(None, [store.access.look(path)]), *walk(store.access, path).below(path))
    }
    items = [
        replace(item, identity=now[item.path].identity) if item.path in now and item.kind == now[item.path].kind
        else item
        for item in manifest.items
    ]  # fmt: skip
    return Manifest(manifest.head, items)


def _move(
    store: SetAsideStore, items: Sequence[ManifestItem], place: str, progress: Progress | None, number: int
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
                store.make_around(to, made)
            yield Rename(item.path, to, item.entry)

    for n, (rename, trouble) in enumerate(store.access.rename_all(renames()), 1):
        if trouble is not None:
            yield rename.path, trouble
        if progress is not None:
            progress(n, number)


def _strayed(store: SetAsideStore, manifest: Manifest, folders: Sequence[ManifestItem]) -> list[Left]:
    """What came into moved folders, or was changed there, after the look: it is put back where it was."""
    if not folders:
        return []
    place = f"{place_of(manifest.id)}/files"
    known = {item.path: item for item in manifest.items}
    strays: list[tuple[str, FileEntry, Refusal]] = []
    for folder in folders:
        for entry in walk(store.access, f"{place}/{folder.path}").below(f"{place}/{folder.path}"):
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
            store.make(above, around.mode if around is not None and around.mode >= 0 else 0o755)
        trouble = store.rename(entry.path, path, entry)
        if trouble is None:
            said = "it came since it was looked at" if refusal is Refusal.TAKEN else ""
            left.append(Left(path, Trouble(Refusal.CHANGED, said)))
    return left


def _wanted(
    store: SetAsideStore,
    manifest: Manifest,
    paths: Sequence[str],
    is_beside: bool,
    begun: Sequence[_Return],
    covering: Collection[str],
) -> Iterator[_Return]:
    """What is to go back, and where to: nothing may be in the way."""
    known = {item.path for item in manifest.items}
    asked = list(dict.fromkeys(paths or [item.path for item in manifest.moved]))
    unknown = [path for path in paths if path not in known]
    if unknown:
        raise InputError(f"{printable(unknown[0])} is not among what {manifest.id} set aside")
    aside, there = store.aside(manifest.id, asked), store.there(asked)
    under_way, in_the_way = {one.path for one in begun}, []
    for path in asked:
        if path in under_way or path not in aside:
            continue
        to = path
        if path in there or (is_beside and path in covering):
            if not is_beside:
                in_the_way.append(path)
                continue
            to = _free_beside(store, path, manifest.id)
        yield _Return(path, to)
    if in_the_way:
        named = ", ".join(map(printable, in_the_way[:8])) + (", ..." if len(in_the_way) > 8 else "")
        raise InputError(
            f"something new is in the way: {named}; nothing was put back: move it away, name what is to be put "
            "back, or give --beside to put it next to that"
        )


def _free_beside(store: SetAsideStore, path: str, number: str) -> str:
    name, n = beside(path, number), 1
    while store.access.look(name) is not None:
        n += 1
        name = beside(path, f"{number}-{n}")
    return name


def _return(store: SetAsideStore, manifest: Manifest, returns: Sequence[_Return]) -> MoveOutcome:
    place = place_of(manifest.id)
    encoded = [_Return(printable(one.path), printable(one.to)) for one in returns]
    if returns:
        store.put(f"{place}/{BACK}", [msgspec.json.encode(encoded) + b"\n"])
    modes, aside = _modes(manifest), store.aside(manifest.id, [one.path for one in returns])
    made: set[str] = set()

    def renames() -> Iterator[Rename]:
        for one in returns:
            if one.path not in aside:
                continue
            store.make_around(one.to, made, modes)
            yield Rename(aside[one.path].path, one.to, aside[one.path])

    left, targets = [], {one.path: one.to for one in returns}
    for rename, trouble in store.access.rename_all(renames()):
        path = rename.path[len(place) + 7 :]
        if trouble is not None and trouble.refusal is Refusal.ELSEWHERE and rename.entry.kind == "folder":
            trouble = _return_by_files(store, manifest, path, targets[path])
        if trouble is not None:
            left.append(Left(path, trouble))
    still = store.aside(manifest.id, [item.path for item in manifest.moved] + list(targets))
    gone = [path for path in (*targets, *(item.path for item in manifest.moved)) if path not in still]
    back = store.there([*targets.values(), *(path for path in gone if path not in targets)])
    left += [
        Left(path, Trouble(Refusal.MISSING)) for path in dict.fromkeys(gone) if targets.get(path, path) not in back
    ]
    rest = taken_out(manifest, gone, modes)
    if rest.items:
        store.put(f"{place}/{MANIFEST}", encode_manifest(rest))
        store.remove(f"{place}/{INTENT}")
        store.remove(f"{place}/{BACK}")
    else:
        store.tidy(manifest.id)
    returned = [to for path, to in targets.items() if path not in still and to in back]
    return MoveOutcome(rest if rest.items else None, returned, left)


def _return_by_files(store: SetAsideStore, manifest: Manifest, path: str, to: str) -> Trouble | None:
    """Bring a folder back, to its place or beside, where folders cannot be renamed."""
    place = f"{place_of(manifest.id)}/files/"
    if to != path:
        return Trouble(Refusal.ELSEWHERE)
    inside = walk(store.access, place + path).below(place + path)
    items = [item for item in manifest.below(path) if item.path == path]
    items += [ManifestItem.of(replace(entry, path=entry.path[len(place) :])) for entry in inside]
    return move_by_files(store, items, place, "")


def _returns(store: SetAsideStore, manifest: Manifest) -> list[_Return]:
    """What was on its way back, as the home says: of that, what the manifest has, to where it may have gone."""
    try:
        found = msgspec.json.decode(store.read_file(f"{place_of(manifest.id)}/{BACK}"), type=list[_Return])
        found = [_Return(unprintable(one.path), unprintable(one.to)) for one in found]
    except (msgspec.MsgspecError, InvalidName, InputError):
        return []
    known = {item.path for item in manifest.items}
    return [one for one in found if one.path in known and is_beside_of(one.to, one.path, manifest.id)]


def _again_aside(store: SetAsideStore, manifest: Manifest) -> list[Left]:
    """Set aside again what had been put back before that broke off."""
    left = []
    for one in _returns(store, manifest):
        there = f"{place_of(manifest.id)}/files/{one.path}"
        now = store.access.look(one.to)
        if now is not None and store.access.look(there) is None:
            trouble = store.rename(one.to, there, now)
            left += [Left(one.path, trouble)] if trouble is not None else []
    return left


def _modes(manifest: Manifest) -> dict[str, int]:
    """The permission bits of the folders in and around what was set aside, by path."""
    own = {item.path: item.mode for item in manifest.items if item.kind == "folder" and item.mode >= 0}
    return {**manifest.head.folders, **own}


def beside(path: str, number: str) -> str:
    """A name next to one that is taken, with the same ending, so that a server shows it as it would the other.

    It is cut short where it would be longer than a file system takes.
    """
    folder, _, name = path.rpartition("/")
    stem, dot, ending = name.rpartition(".")
    if not (dot and stem) or len(ending) > _LONGEST_ENDING:
        stem, dot, ending = name, "", ""
    rest = f".{number}{dot}{ending}"
    while stem and len(os.fsencode(stem + rest)) > _LONGEST_NAME:
        stem = stem[:-1]
    return f"{folder}/{stem}{rest}" if folder else stem + rest


def is_beside_of(to: str, path: str, number: str) -> bool:
    """Whether something that lay at `path` can have been put back to `to`: its place, or one beside it."""
    if to == path:
        return True
    again = re.search(rf"\.{re.escape(number)}(?:-([0-9]{{1,9}}))?(?:\.[^./]*)?$", to)
    return again is not None and to == beside(path, f"{number}-{again[1]}" if again[1] else number)
