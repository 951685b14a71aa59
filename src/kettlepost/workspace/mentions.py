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
    """Which files name an address: of so many texts that were read.

    So many others were `larger` or `no_text`, and those of `unread` could not be read. `is_cut` is true where there was
    more than is looked for.
    """

    account: str
    address: Address | str
    files: list[FileMentions]
    read: int
    larger: int
    no_text: int
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
    """Read the texts among an account's files, or those of a folder, and tell which of them name an address or a path.

    Nothing of what they hold is kept but how the address is written. Raises InputError where the files are not at hand,
    OutsideError where they cannot be reached.
    """
    name = plan.known_names([account])[0]
    asked = address.rstrip("/") if address.startswith("/") and address.strip("/") else address_of(address)
    folder = folder_of(only, plan) if only else HOME
    access = access_to(plan, name, source, secrets)
    try:
        return _found(access, name, asked, folder, progress)
    finally:
        access.close()


def _found(
    access: FileAccess, name: str, asked: Address | str, folder: Folder, progress: Callable[[int, int], None] | None
) -> AddressMentions:
    tree, searched = walk(access, folder), Mentioned(asked)
    files: list[FileMentions] = []
    unread = [*tree.troubles]
    larger = no_text = read = size = lines = 0
    plain = [entry for entry in tree.below(folder) if entry.kind == "file" and not is_in(entry.path, SET_ASIDE)]
    is_cut = False
    for number, entry in enumerate(plain, 1):
        if progress is not None:
            progress(number, len(plain))
        is_cut = size > _ALL_TOGETHER or lines > _MOST
        if is_cut:
            break
        if entry.size > LARGEST:
            larger += 1
            continue
        try:
            raw = _text(access, entry)
        except Trouble:
            unread.append(entry.path)
            continue
        if raw is None:
            no_text += 1
            continue
        size, read = size + len(raw), read + 1
        told = list(searched.within(raw.decode("utf-8", "replace")))
        lines += len(told)
        if told:
            files.append(FileMentions(entry.path, told))
    return AddressMentions(name, asked, files, read, larger, no_text, sorted(unread), is_cut)


def _text(access: FileAccess, entry: FileEntry) -> bytes | None:
    """What is in a file; None where that is no text, or has grown."""
    parts: list[bytes] = []
    size = 0
    for piece in access.read(entry.path):
        if (not parts and _NOT_TEXT in piece[:_BEGINNING]) or size > LARGEST:
            return None
        parts.append(piece)
        size += len(piece)
    return b"".join(parts)
