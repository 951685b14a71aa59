"""Writing a change of the plan as one thing, and taking it back: the lock, and the journal `undo` goes back by.

A change is entered in the journal as pending, then its files are written one by one, then the
entry stands. Taking it back makes the entry pending again, writes the files as they were, and
strikes it. Whenever the program is killed in between, the next command that may write finds the
pending entry and settles it: where every file is as the change left it the entry stands, else all
of them are put back as they were.
"""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import NamedTuple

import msgspec

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.secrets import masked
from kettlepost.workspace.files import (
    OWN_FOLDER,
    NotWritten,
    clear_temporary,
    own_folder,
    read_at_most,
    refuse_strangers,
    remove,
    write_whole,
)

PATIENCE = 30.0
"""How many seconds a command waits for another that is changing the same plan."""
KEPT = 200
"""How many changes can be undone."""
_LARGEST = 256 * 1024 * 1024


class Edit(msgspec.Struct, frozen=True):
    """What a file of the plan holds, and what it is to hold, None where it is not there.

    `file` is relative to the plan folder. A file that gets another name is one that goes and one
    that comes.
    """

    file: str
    before: bytes | None
    after: bytes | None


class WrittenFile(msgspec.Struct, frozen=True):
    """One file of an entry: what it held before, and a digest of what it was left with; None where it is not there."""

    file: str
    before: bytes | None
    after: str | None


class JournalEntry(msgspec.Struct, frozen=True):
    """One change in the journal: the command that made it, when, and the files it changed."""

    command: str
    at: str
    files: list[WrittenFile]


class _Former(msgspec.Struct, frozen=True):
    """An entry as versions before this one wrote it: of one file, which was there before."""

    command: str
    at: str
    file: str
    before: bytes
    after: str


class Undoing(msgspec.Struct, frozen=True):
    """The last change of the journal, and the edits that take it back."""

    entry: JournalEntry
    edits: tuple[Edit, ...]
    number: int


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """Keep other commands from changing the plan meanwhile, and settle what one that was killed has left.

    Raises InputError where the folder is not to be trusted, OutsideError when another goes on for long.
    """
    import filelock  # only what writes needs it

    lock_file = folder / OWN_FOLDER / "lock"
    try:
        own_folder(folder)
        if os.path.lexists(lock_file) and not stat.S_ISREG(os.lstat(lock_file).st_mode):
            raise InputError(f"{printable(lock_file)}: is no plain file; remove it, then run this again")
        lock = filelock.FileLock(lock_file, timeout=PATIENCE, mode=_lock_mode(folder))
        lock.acquire()
    except filelock.Timeout:
        raise OutsideError(
            f"{printable(folder)}: another kettlepost has been changing this plan for {PATIENCE:.0f} seconds; "
            "nothing was changed: wait until it has ended, then run this again"
        ) from None
    except OSError as error:
        raise NotWritten(folder / OWN_FOLDER, error).with_nothing_changed() from None
    except NotWritten as error:
        raise error.with_nothing_changed() from None
    try:
        journal = folder / OWN_FOLDER / "journal"
        clear_temporary(
            (folder, folder / "accounts", folder / "surveys", folder / "servers", folder / OWN_FOLDER, journal)
        )
        _settle(folder)
        yield
    finally:
        lock.release()


def settle_pending(folder: Path) -> None:
    """Settle a change that broke off, before the plan is read.

    Raises OutsideError where that cannot be done and the plan is half as it was.
    """
    journal = _Journal(folder)
    if not journal.pending():
        return
    try:
        with locked(folder):
            pass
    except (InputError, OutsideError) as error:
        for number in journal.pending():
            if _state(folder, journal.read(number, pending=True)) is None:
                raise OutsideError(
                    f"{error}; a change of this plan broke off half-way, and cannot be settled"
                ) from None


def write(folder: Path, edits: Sequence[Edit], command: str, at: str) -> list[str]:
    """Write edits as one change and enter it in the journal; to be called under the lock.

    `at` is the moment in ISO 8601 form. Gives the files that were written: none where nothing
    differs, and then nothing is entered either. Raises InputError when a file is no longer what
    its edit began with, OutsideError when the disk refuses; nothing is changed then.
    """
    edits = [edit for edit in edits if edit.before != edit.after]
    if not edits:
        return []
    for edit in edits:
        _may_write(folder, edit)
        if _content(folder, edit.file) != edit.before:
            raise InputError(f"{edit.file} was changed meanwhile; nothing was written: run this again")
    journal = _Journal(folder)
    numbers = journal.numbers()
    number = numbers[-1] + 1 if numbers else 1
    files = [WrittenFile(edit.file, edit.before, _digest(edit.after)) for edit in edits]
    entry = JournalEntry(masked(command), at, files)
    try:
        journal.write(number, entry)
    except NotWritten as error:
        with suppress(OSError):
            journal.strike(number, pending=True)
        raise error.with_nothing_changed() from None
    try:
        for edit in edits:
            _put(folder, edit.file, edit.after)
    except OutsideError as error:
        _put_back(folder, entry)
        with suppress(OSError):  # what is not changed is settled as that
            journal.strike(number, pending=True)
        raise (error.with_nothing_changed() if isinstance(error, NotWritten) else error) from None
    with suppress(OSError):  # what is written whole is settled as that
        journal.stand(number)
        for old in numbers[: -KEPT + 1]:
            journal.strike(old)
    return [edit.file for edit in edits]


def last_change(folder: Path) -> Undoing:
    """What `undo` would take back.

    Raises InputError when there is nothing, or when a file was changed since by other means.
    """
    refuse_strangers(folder)
    journal = _Journal(folder)
    for number in reversed(journal.numbers()):
        entry = journal.read(number)
        there = {written.file: _content(folder, written.file) for written in entry.files}
        states = [_is_after(written, there[written.file]) for written in entry.files]
        if all(states):
            return Undoing(
                entry, tuple(Edit(written.file, there[written.file], written.before) for written in entry.files), number
            )
        if all(there[written.file] == written.before for written in entry.files):
            continue  # it was taken back by other means
        changed = next(written.file for written, state in zip(entry.files, states, strict=True) if not state)
        raise InputError(
            f"{changed} was changed by other means since '{printable(entry.command)}' of {printable(entry.at)}; "
            f"nothing was undone: what it held before is in {printable(journal.path(number))}"
        )
    raise InputError("there is nothing to undo: no command has changed this plan, or all of it was taken back")


def take_back(folder: Path, undoing: Undoing) -> None:
    """Let the files be as they were before, and strike the change; to be called under the lock."""
    for edit in undoing.edits:
        _may_write(folder, edit)
        if _content(folder, edit.file) != edit.before:
            raise InputError(f"{edit.file} was changed meanwhile; nothing was undone: run this again")
    journal = _Journal(folder)
    for number in reversed(journal.numbers()):  # the newest first, so that none is left that nothing leads back to
        if number > undoing.number:
            journal.strike(number)
    journal.unsettle(undoing.number)
    for edit in reversed(undoing.edits):
        _put(folder, edit.file, edit.after)
    with suppress(OSError):
        journal.strike(undoing.number, pending=True)


class _Journal:
    """The entries of a plan folder, by number."""

    def __init__(self, folder: Path):
        self._folder = folder
        self._place = folder / OWN_FOLDER / "journal"

    def path(self, number: int, pending: bool = False) -> Path:
        return self._place / f"{number:06}.{'pending' if pending else 'json'}"

    def numbers(self) -> list[int]:
        return self._listed(".json")

    def pending(self) -> list[int]:
        return self._listed(".pending")

    def _listed(self, ending: str) -> list[int]:
        try:
            names = [] if self._place.is_symlink() else os.listdir(self._place)
        except OSError:
            return []
        stems = [name.removesuffix(ending) for name in names if name.endswith(ending)]
        return sorted(int(stem) for stem in stems if stem.isascii() and stem.isdecimal())

    def read(self, number: int, pending: bool = False) -> JournalEntry:
        """Raises InputError when the entry is damaged."""
        path = self.path(number, pending)
        try:
            raw = read_at_most(path, _LARGEST, follow=False)
            try:
                entry = msgspec.json.decode(raw, type=JournalEntry)
            except msgspec.ValidationError:
                former = msgspec.json.decode(raw, type=_Former)
                entry = JournalEntry(former.command, former.at, [WrittenFile(former.file, former.before, former.after)])
        except (OSError, msgspec.MsgspecError):
            raise InputError(f"{printable(path)}: damaged; remove it to go back further") from None
        if not entry.files or not all(_is_of_plan(written.file) for written in entry.files):
            raise InputError(f"{printable(path)}: damaged; remove it to go back further")
        return entry

    def write(self, number: int, entry: JournalEntry) -> None:
        """Enter a change as pending, readable by nobody who may not read the files it was made in."""
        if self._place.is_symlink():
            raise InputError(f"{printable(self._place)}: is a symbolic link; remove it, then run this again")
        mode, group = _rights(self._folder, [written.file for written in entry.files])
        write_whole(self.path(number, pending=True), msgspec.json.encode(entry), mode=mode, group=group)

    def stand(self, number: int) -> None:
        os.replace(self.path(number, pending=True), self.path(number))

    def unsettle(self, number: int) -> None:
        os.replace(self.path(number), self.path(number, pending=True))

    def strike(self, number: int, pending: bool = False) -> None:
        self.path(number, pending).unlink(missing_ok=True)


def _settle(folder: Path) -> None:
    """Let a change that broke off stand where all of it is there, and put everything back where it is not."""
    journal = _Journal(folder)
    for number in reversed(journal.pending()):
        try:
            entry = journal.read(number, pending=True)
        except InputError:
            journal.strike(number, pending=True)  # it broke off before anything was written
            continue
        state = _state(folder, entry)
        if state == "after":
            journal.stand(number)
        elif state == "before":
            journal.strike(number, pending=True)
        elif any(
            not _is_after(written, content) and content != written.before for written, content in _there(folder, entry)
        ):
            journal.stand(number)  # somebody has changed a file since: it is for them, and undo says so
        else:
            _put_back(folder, entry)
            journal.strike(number, pending=True)


def _there(folder: Path, entry: JournalEntry) -> list[tuple[WrittenFile, bytes | None]]:
    return [(written, _content(folder, written.file)) for written in entry.files]


def _state(folder: Path, entry: JournalEntry) -> str | None:
    """Whether all files of an entry are as they were "before" it or "after" it; None for neither."""
    there = _there(folder, entry)
    if all(_is_after(written, content) for written, content in there):
        return "after"
    return "before" if all(content == written.before for written, content in there) else None


def _is_after(written: WrittenFile, content: bytes | None) -> bool:
    """Whether a file is as its entry left it."""
    return _digest(content) == written.after


def _put_back(folder: Path, entry: JournalEntry) -> None:
    for written in reversed(entry.files):
        if _content(folder, written.file) != written.before:
            _put(folder, written.file, written.before)


def _put(folder: Path, file: str, content: bytes | None) -> None:
    if content is None:
        remove(folder / file)
    else:
        write_whole((folder / file).resolve(), content)  # where it is a link, that stays


def _content(folder: Path, file: str) -> bytes | None:
    try:
        return read_at_most(folder / file, _LARGEST)
    except (FileNotFoundError, NotADirectoryError):
        return None
    except OSError as error:
        raise OutsideError(f"{printable(folder / file)}: cannot be read ({cause(error)})") from None


def _may_write(folder: Path, edit: Edit) -> None:
    """Raises OutsideError for a file that may only be read, which renaming another over it would not heed."""
    if not _is_of_plan(edit.file):
        raise InputError(f"{printable(edit.file)} is no file of a plan")
    path = folder / edit.file
    if edit.before is not None and not os.access(path, os.W_OK):
        raise OutsideError(
            f"{printable(path)}: cannot be written (it may only be read); nothing was changed: "
            "give yourself the right to write there, then run this again"
        )


def _is_of_plan(file: str) -> bool:
    """Whether a change may cover a file: the settings, what was said to be done, an account, or a survey."""
    first, slash, name = file.partition("/")
    if not slash:
        return file in ("kettlepost.toml", "work.toml")
    plain = bool(name) and "/" not in name and "\0" not in name and name[0] != "."
    return plain and ((first == "accounts" and name.endswith(".toml")) or first in ("surveys", "servers"))


class _Rights(NamedTuple):
    mode: int
    group: int


def _rights(folder: Path, files: Sequence[str]) -> _Rights:
    """Who may read an entry: only those who may read each of the files, as they are or are to be."""
    mode, groups = 0o777, set[int]()
    for file in files:
        path = folder / file
        try:
            about = os.stat(path if path.exists() else path.parent)
        except OSError:
            return _Rights(0o600, -1)
        mode &= about.st_mode | 0o600
        groups.add(about.st_gid)
    if len(groups) == 1:
        return _Rights(mode & 0o644, groups.pop())
    return _Rights(mode & 0o644 if mode & 0o004 else 0o600, -1)


def _lock_mode(folder: Path) -> int:
    """A plan that a group keeps together has a lock that each of them may take."""
    return 0o664 if os.stat(folder).st_mode & stat.S_IWGRP else 0o644


def _digest(raw: bytes | None) -> str | None:
    return hashlib.blake2b(raw, digest_size=20).hexdigest() if raw is not None else None
