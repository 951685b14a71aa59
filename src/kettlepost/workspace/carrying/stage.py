"""Where a step makes what is new, out of every visitor's sight, before it comes to its place by renaming."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from kettlepost.core.carrying import CarriedItem
from kettlepost.core.clearing import FileEntry, SetAsideNumber
from kettlepost.core.errors import OutsideError
from kettlepost.core.names import printable
from kettlepost.core.survey import SET_ASIDE
from kettlepost.sources import FileAccess, Refusal, Rename, Trouble
from kettlepost.sources.file_access import OLD
from kettlepost.workspace.set_aside.move import Progress
from kettlepost.workspace.set_aside.store import SetAsideStore, walk

OWNERS = 0o700
"""What a folder lets its owner do as long as something is still to come into it, or it is still to be renamed."""
_ROUNDS = 3
"""How often what is changed while it is copied is copied again."""
_FILE_MODE, _FOLDER_MODE = 0o644, 0o755


class Stage:
    """A folder beside what is set aside, with all that one step makes, at the paths that it is to have.

    `origin` are the files of another account, where what is copied comes from there.
    """

    def __init__(self, store: SetAsideStore, number: SetAsideNumber, origin: FileAccess | None = None):
        self._store = store
        self._origin = origin
        self._place = f"{SET_ASIDE}/carrying-{number}"
        self._made = {SET_ASIDE}

    def at(self, item: CarriedItem) -> str:
        """Where an item is made."""
        return f"{self._place}/{item.path}"

    def write(self, item: CarriedItem, content: bytes) -> None:
        """Make a file."""
        self._store.make_around(self.at(item), self._made)
        self._store.access.write(self.at(item), [content])
        self._store.access.set_mode(self.at(item), item.mode if item.mode >= 0 else _FILE_MODE)

    def copy(
        self,
        items: Iterable[CarriedItem],
        again: Callable[[], Iterable[CarriedItem]],
        progress: Progress | None = None,
    ) -> list[CarriedItem]:
        """Copy everything, and what `again` says to have been changed meanwhile once more; gives what was copied.

        Raises OutsideError where something cannot be copied, or is changed all the time.
        """
        wanted = {item.path: item for item in items}
        copied: dict[str, CarriedItem] = {}
        for _ in range(_ROUNDS):
            self._take_out(copied, wanted)
            todo = [item for path, item in wanted.items() if path not in copied]
            if not todo:
                break
            self._copy_some(todo, copied, progress, len(wanted))
            wanted = {item.path: item for item in again()}
        restless = [path for path, item in wanted.items() if path not in copied or _is_changed(copied[path], item)]
        if restless:
            raise OutsideError(
                f"{printable(restless[0])}: what it is a copy of is changed all the time; nothing was done"
            )
        self._take_out(copied, wanted)
        for item in reversed([*copied.values()]):  # once nothing more comes into it
            if item.kind == "folder":
                mode = item.mode if item.mode >= 0 else _FOLDER_MODE
                self._store.access.set_mode(self.at(item), mode | OWNERS)
        return [copied[path] for path in wanted]

    def _take_out(self, copied: dict[str, CarriedItem], wanted: Mapping[str, CarriedItem]) -> None:
        """Without what is gone or was changed where it comes from."""
        stale = [item for path, item in copied.items() if path not in wanted or _is_changed(item, wanted[path])]
        for item in reversed(stale):
            self._store.remove(self.at(item), is_folder=item.kind == "folder")
            self._made.discard(self.at(item))
            del copied[item.path]

    def _copy_some(
        self, todo: Sequence[CarriedItem], copied: dict[str, CarriedItem], progress: Progress | None, number: int
    ) -> None:
        for item in todo:
            is_folder = item.kind == "folder"
            self._store.make_around(f"{self.at(item)}/" if is_folder else self.at(item), self._made)
            if is_folder:
                copied[item.path] = item
        files = {item.origin: item for item in todo if item.kind != "folder"}
        copies = (Rename(item.origin, self.at(item), origin_of(item)) for item in files.values())
        done = self._store.access.copy_all(copies) if self._origin is None else self._bring_all(self._origin, copies)
        for n, (one, trouble) in enumerate(done, 1):
            if trouble is None:
                copied[files[one.path].path] = files[one.path]
            elif trouble.refusal in (Refusal.CHANGED, Refusal.MISSING):
                self._store.remove(one.to)
            else:
                words = f"{printable(one.path)}: cannot be copied ({trouble}); nothing was done"
                raise OutsideError(f"{self._store.access.name}: {words}")
            if progress is not None:
                progress(n, number)

    def _bring_all(self, origin: FileAccess, copies: Iterable[Rename]) -> Iterator[tuple[Rename, Trouble | None]]:
        """Copy each through this machine, if it is what it was when it was looked at, and after it, too."""
        for one in copies:
            try:
                content = _no_more_than(origin.read(one.path), one.entry.size) if one.entry.kind == "file" else ()
                self._store.access.bring(one.entry, one.to, content)
                now = origin.look(one.path)
                is_same = now is not None and one.entry.is_still(now)
                made = self._store.access.look(one.to)
                is_whole = made is not None and (one.entry.kind == "link" or made.size == one.entry.size)
                yield one, None if is_same and is_whole else Trouble(Refusal.CHANGED)
            except Trouble as trouble:
                yield one, trouble

    def clear(self, items: Iterable[CarriedItem]) -> None:
        """Take away what has not come to its place; what somebody else put there stays."""
        own = {self.at(item) + end for item in items for end in ("", OLD)}  # the record holds what an old one does
        for entry in reversed(list(walk(self._store.access, self._place).below(self._place))):
            if entry.kind == "folder" or entry.path in own:
                self._store.remove(entry.path, is_folder=entry.kind == "folder")
        self._store.remove(self._place, is_folder=True)
        self._made = {SET_ASIDE}


def _no_more_than(content: Iterable[bytes], size: int) -> Iterator[bytes]:
    """What is in a file as long as it is no longer than it was. Raises Trouble where it grows."""
    for piece in content:
        size -= len(piece)
        if size < 0:
            raise Trouble(Refusal.CHANGED)
        yield piece


def origin_of(item: CarriedItem) -> FileEntry:
    """What lies where an item comes from, as it was looked at."""
    return FileEntry(item.origin, item.kind, item.size, item.changed, item.mode, item.target, item.identity)


def _is_changed(was: CarriedItem, now: CarriedItem) -> bool:
    if was.kind != now.kind:
        return True
    return was.kind != "folder" and not origin_of(was).is_still(origin_of(now))
