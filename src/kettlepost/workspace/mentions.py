"""Which files of an account name an address: looked for at the host, within bounds."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

from kettlepost.core.clearing import FileEntry
from kettlepost.core.moving import Mention, Mentioned
from kettlepost.core.names import HOME, Address, Folder
from kettlepost.core.survey import SET_ASIDE, is_in
from kettlepost.sources import FileAccess, Secrets, Trouble
from kettlepost.workspace.plan_edits import address_of, folder_of
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.set_aside.listing import access_to
from kettlepost.workspace.set_aside.store import walk

LARGEST = 2 << 20
"""Of larger files nobody has written the links by hand."""
_ALL_TOGETHER = 1 << 30
_MOST = 20_000
_NOT_TEXT = b"\0"
_BEGINNING = 8192


class FileMentions(NamedTuple):
    """The lines of one file that name an address."""

    path: str
    mentions: Sequence[Mention]


class AddressMentions(NamedTuple):
    """Which files name an address: of so many that were read, with how many were larger, and which not to be read.

    `is_cut` is true where there was more than is looked for.
    """

    account: str
    address: Address
    files: list[FileMentions]
    read: int
    larger: int
    unread: list[str]
    is_cut: bool


def mentions(
    plan: PlanFolder,
    account: str,
    address: str,
    only: str = "",
    source: str | None = None,
    secrets: Secrets | None = None,
    progress: Callable[[int, int], None] | None = None,
) -> AddressMentions:
    """Read the texts among an account's files, or those of a folder, and tell which of them name an address.

    Nothing of what they hold is kept but how the address is written. Raises InputError where the files are not at hand,
    OutsideError where they cannot be reached.
    """
    name, asked = plan.known_names([account])[0], address_of(address)
    folder = folder_of(only, plan) if only else HOME
    access = access_to(plan, name, source, secrets)
    try:
        return _found(access, name, asked, folder, progress)
    finally:
        access.close()


def _found(
    access: FileAccess, name: str, asked: Address, folder: Folder, progress: Callable[[int, int], None] | None
) -> AddressMentions:
    tree, searched = walk(access, folder), Mentioned(asked)
    files: list[FileMentions] = []
    unread, larger, read, size, lines = [*tree.troubles], 0, 0, 0, 0
    plain = [entry for entry in tree.below(folder) if entry.kind == "file" and not is_in(entry.path, SET_ASIDE)]
    for number, entry in enumerate(plain, 1):
        if progress is not None:
            progress(number, len(plain))
        if entry.size > LARGEST:
            larger += 1
            continue
        if size > _ALL_TOGETHER or lines > _MOST:
            return AddressMentions(name, asked, files, read, larger, sorted(unread), True)
        try:
            raw = _text(access, entry)
        except Trouble:
            unread.append(entry.path)
            continue
        size, read = size + len(raw), read + 1
        told = list(searched.within(raw.decode("utf-8", "replace"))) if raw else []
        lines += len(told)
        if told:
            files.append(FileMentions(entry.path, told))
    return AddressMentions(name, asked, files, read, larger, sorted(unread), False)


def _text(access: FileAccess, entry: FileEntry) -> bytes:
    """What is in a file; nothing where that is no text."""
    parts: list[bytes] = []
    size = 0
    for piece in access.read(entry.path):
        if (not parts and _NOT_TEXT in piece[:_BEGINNING]) or size > LARGEST:
            return b""
        parts.append(piece)
        size += len(piece)
    return b"".join(parts)
