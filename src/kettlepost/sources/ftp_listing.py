"""What an FTP server's listings say: facts (RFC 3659 section 7), or lines as people are shown them."""

from __future__ import annotations

import calendar
import re
import time
from collections.abc import Callable, Iterator
from ftplib import FTP
from typing import cast

from kettlepost.sources.grouping import NO_NAMES, EntryKind, SourceEntry
from kettlepost.sources.listing import ls_entry

_KINDS: dict[str, EntryKind] = {"dir": "folder", "file": "file", "link": "link"}
_MODE = re.compile(r"[0-7]{1,6}")
_LINK = re.compile(r"OS\.unix=(?:slink|symlink)(?::(.*))?", re.IGNORECASE | re.DOTALL)
_NUMBER = re.compile(r"[0-9]{1,19}")
_UNREAD = re.compile(r"fail|unable|denied|(?:not|n't) (?:open|read|list)", re.IGNORECASE)
"""What servers say at the end of a listing that they could not make, as if it were one."""


class FtpListing:
    """The lines that a server sent of one folder. What lies in it is read off them as often as it is asked for."""

    def __init__(self, lines: list[str]):
        self._lines = lines

    def __iter__(self) -> Iterator[SourceEntry]:
        for name, facts in FTP.mlsd(cast("FTP", _Sent(self._lines))):  # noqa: S321
            if (entry := told(name, facts)) is not None:
                yield entry


class LongListing(FtpListing):
    """The same of `LIST`; `year` and `month` are those of the listing, `reply` is what the server said at its end."""

    def __init__(self, lines: list[str], reply: str, year: int, month: int):
        super().__init__(lines)
        self._reply, self._year, self._month = reply, year, month

    def __iter__(self) -> Iterator[SourceEntry]:
        return (entry for entry in self._entries() if entry.path not in NO_NAMES and "/" not in entry.path)

    @property
    def has_itself(self) -> bool:
        """Whether the folder is listed in itself."""
        return any(entry.path == "." for entry in self._entries())

    def is_none(self, has_itself: bool) -> bool:
        """Whether nothing is listed because the folder could not be read; `has_itself` where the server lists
        every folder in itself, the empty ones, too."""
        if next(self._entries(), None) is not None:
            return False
        return has_itself or _UNREAD.search("\n".join((self._reply, *self._lines))) is not None

    def _entries(self) -> Iterator[SourceEntry]:
        for line in self._lines:
            if (entry := ls_entry(unwired(line), self._year, self._month)) is not None:
                yield entry


class _Sent:
    """A session that was sent some lines, for the library to read them."""

    def __init__(self, lines: list[str]):
        self._lines = lines

    def retrlines(self, _command: str, callback: Callable[[str], object]) -> None:
        for line in self._lines:
            callback(line)


def told(raw: str, facts: dict[str, str]) -> SourceEntry | None:
    """What the facts of one thing say; None where it is no thing in the folder."""
    name, kind, target = unwired(raw), facts.get("type", ""), ""
    link = _LINK.fullmatch(kind)
    if link:
        kind, target = "link", unwired(link[1] or "")
    kind = kind.lower()
    if kind in ("cdir", "pdir") or name in NO_NAMES or "/" in name:
        return None
    size, mode = facts.get("size", ""), facts.get("unix.mode", "")
    return SourceEntry(
        name, _KINDS.get(kind, "odd"), int(size) if _NUMBER.fullmatch(size) else 0, _changed(facts.get("modify", "")),
        target, mode=int(mode, 8) & 0o7777 if _MODE.fullmatch(mode) else -1, unique=facts.get("unique", "").lower(),
    )  # fmt: skip


def _changed(stamp: str) -> int:
    """`YYYYMMDDHHMMSS` in UTC (RFC 3659 section 2.3) as seconds since 1970; 0 for anything else."""
    try:
        return calendar.timegm(time.strptime(stamp[:14], "%Y%m%d%H%M%S"))
    except ValueError:
        return 0


def wired(name: str) -> str:
    """A name as the session's encoding (Latin-1) carries its bytes unchanged."""
    return name.encode("utf-8", "surrogateescape").decode("latin-1")


def unwired(raw: str) -> str:
    """A name as it came over the wire, as it is."""
    return raw.encode("latin-1").decode("utf-8", "surrogateescape")
