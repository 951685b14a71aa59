"""Editing an account's file: the lock, the difference, and the journal that `undo` goes back by."""

from __future__ import annotations

import difflib
import hashlib
import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import msgspec

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.plan.changing import Change, changed_text
from kettlepost.core.plan.reading import read_bytes
from kettlepost.core.plan.writing import OWN_FOLDER, own_folder, write_whole

PATIENCE = 30.0
"""So many seconds a command waits for another that is changing the same plan."""
KEPT = 200
"""So many changes can be undone, the last first."""
_BOM = b"\xef\xbb\xbf"


class Edit(msgspec.Struct, frozen=True):
    """What a file of the plan held, and what it is to hold; `file` is relative to the plan folder."""

    file: str
    before: bytes
    after: bytes

    @property
    def difference(self) -> str:
        """A unified diff."""
        was, now = (
            raw.decode("utf-8", "replace").replace("\r\n", "\n").splitlines(keepends=True)
            for raw in (self.before, self.after)
        )
        return "".join(difflib.unified_diff(was, now, f"a/{self.file}", f"b/{self.file}"))


class Entry(msgspec.Struct):
    """One change in the journal: the command that made it, when, and what the file held before."""

    command: str
    at: str
    file: str
    before: bytes
    after: str


def edit_account(folder: Path, account: str, changes: Sequence[Change]) -> Edit:
    """What `changes` make of an account's file. Raises InputError where they cannot be carried out."""
    file = f"accounts/{account}.toml"
    before = read_bytes(folder / file)
    mark = _BOM if before.startswith(_BOM) else b""
    text = changed_text(before.removeprefix(_BOM).decode("utf-8"), changes)
    return Edit(file, before, mark + text.encode("utf-8"))


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """Keep other commands from changing the plan meanwhile. Raises OutsideError when one goes on for long."""
    import filelock  # only what writes needs it

    try:
        lock = filelock.FileLock(own_folder(folder) / "lock", timeout=PATIENCE)
        lock.acquire()
    except filelock.Timeout:
        raise OutsideError(
            f"{printable(folder)}: another kettlepost has been changing this plan for {PATIENCE:.0f} seconds; "
            "nothing was changed: wait until it has ended, then run this again"
        ) from None
    except OSError as error:
        raise OutsideError(
            f"{printable(folder / OWN_FOLDER)}: cannot be written ({cause(error)}); nothing was changed: "
            "make room or give yourself the right to write there, then run this again"
        ) from None
    try:
        yield
    finally:
        lock.release()


def carry_out(folder: Path, edit: Edit, command: str, at: str) -> None:
    """Write an edit and enter it in the journal; to be called under the lock.

    `at` is the moment in ISO 8601 form. Raises InputError when the file is no longer what the
    edit began with, OutsideError when the disk refuses; nothing is changed then.
    """
    _may_write(folder, edit.file)
    if read_bytes(folder / edit.file) != edit.before:
        raise InputError(f"{edit.file} was changed meanwhile; nothing was written: run this again")
    journal = own_folder(folder) / "journal"
    numbers = _numbers(journal)
    entry = Entry(command, at, edit.file, edit.before, _digest(edit.after))
    path = _entry_path(journal, numbers[-1] + 1 if numbers else 1)
    write_whole(path, msgspec.json.encode(entry))
    try:
        write_whole((folder / edit.file).resolve(), edit.after)  # where it is a link, that stays
    except OutsideError:
        path.unlink(missing_ok=True)
        raise
    for number in numbers[: -KEPT + 1]:
        _entry_path(journal, number).unlink(missing_ok=True)


class Undoing(msgspec.Struct, frozen=True):
    """The last change of the journal, and the edit that takes it back."""

    entry: Entry
    edit: Edit
    number: int


def last_change(folder: Path) -> Undoing:
    """What `undo` would take back.

    Raises InputError when there is nothing, or when the file was changed since by other means.
    """
    journal = folder / OWN_FOLDER / "journal"
    for number in reversed(_numbers(journal)):
        path = _entry_path(journal, number)
        try:
            entry = msgspec.json.decode(path.read_bytes(), type=Entry)
        except (OSError, msgspec.MsgspecError):
            raise InputError(f"{printable(path)}: damaged; remove it to go back further") from None
        if not _is_account_file(entry.file):
            raise InputError(f"{printable(path)}: damaged; remove it to go back further")
        there = read_bytes(folder / entry.file) if (folder / entry.file).is_file() else b""
        if _digest(there) == entry.after:
            return Undoing(entry, Edit(entry.file, there, entry.before), number)
        if there == entry.before:
            continue  # the program ended before the file was written, or after it was taken back
        raise InputError(
            f"{entry.file} was changed by other means since '{printable(entry.command)}' of {printable(entry.at)}; "
            f"nothing was undone: what it held before is in {printable(path)}"
        )
    raise InputError("there is nothing to undo: no command has changed this plan, or all of it was taken back")


def take_back(folder: Path, undoing: Undoing) -> None:
    """Write what the file held before and strike the change from the journal; to be called under the lock."""
    _may_write(folder, undoing.edit.file)
    if read_bytes(folder / undoing.edit.file) != undoing.edit.before:
        raise InputError(f"{undoing.edit.file} was changed meanwhile; nothing was undone: run this again")
    write_whole((folder / undoing.edit.file).resolve(), undoing.edit.after)
    journal = folder / OWN_FOLDER / "journal"
    for number in _numbers(journal):
        if number >= undoing.number:
            _entry_path(journal, number).unlink(missing_ok=True)


def _may_write(folder: Path, file: str) -> None:
    """Raises OutsideError for a file that may only be read, which renaming another over it would not heed."""
    if not os.access(folder / file, os.W_OK):
        raise OutsideError(
            f"{printable(folder / file)}: cannot be written (it may only be read); nothing was changed: "
            "give yourself the right to write there, then run this again"
        )


def _is_account_file(file: str) -> bool:
    first, slash, name = file.partition("/")
    return first == "accounts" and bool(slash) and "/" not in name and name.endswith(".toml") and name[0] != "."


def _numbers(journal: Path) -> list[int]:
    if not journal.is_dir():
        return []
    return sorted(int(path.stem) for path in journal.glob("*.json") if path.stem.isdecimal())


def _entry_path(journal: Path, number: int) -> Path:
    return journal / f"{number:06}.json"


def _digest(raw: bytes) -> str:
    return hashlib.blake2b(raw, digest_size=20).hexdigest()
