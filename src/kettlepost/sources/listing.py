"""A listing that somebody made on the host as the source of a survey: names, sizes and times only."""

from __future__ import annotations

import calendar
import re
from collections.abc import Iterator
from itertools import chain
from pathlib import Path
from typing import BinaryIO

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import Listing, Wanted
from kettlepost.sources.grouping import EntryKind, Home, SourceEntry, batched

FIND_FORMAT = r"%y %s %T@ %p\0%l\0"
"""For GNU find: type, size, time and path, then a link's target, each ended by a NUL."""

_LONGEST = Limits().line
_KINDS: dict[str, EntryKind] = {"f": "file", "-": "file", "d": "folder", "l": "link"}
_FIND = re.compile(rb"([a-zA-Z?]) (\d{1,18}) (-?\d{1,18})(?:[.,]\d*)? ", re.DOTALL)
_LS = re.compile(
    r"(?P<kind>[-dlbcpsDCM?])[-rwxsStTlL?]{9}[.+@]?\s+\d+\s+(?:\S+\s+)?(?:\S+\s+)?(?P<size>\d+,\s*\d+|\d+)\s+"
    r"(?:(?P<iso>\d{4}-\d\d-\d\d)\s+(?P<clock>\d\d:\d\d(?::\d\d(?:\.\d+)?)?)(?:\s+[+-]\d{4})?"
    r"|(?P<word>\w+\.?)\s+(?P<day>\d{1,2})\.?,?\s+(?P<when>\d\d:\d\d|\d{4})"
    r"|(?P<day2>\d{1,2})\.?\s+(?P<word2>\w+\.?)\s+(?P<when2>\d\d:\d\d|\d{4}))"
    r" (?P<name>.*)"
)
_TOTAL = re.compile(r"\w+\s+[\d.,]+[KMGT]?")
_MONTHS = {month.lower(): n for n, month in enumerate(calendar.month_abbr) if month}
_AGAIN = Remedy(Action.MAKE_LISTING)


class ListedFolder:
    """The output of GNU `find -printf` with `FIND_FORMAT`, or of `ls -lAR`."""

    contents = False

    def __init__(self, path: Path, home: Home, taken: str, limits: Limits | None = None):
        self._limits = limits
        self.path = path
        self.name = str(path)
        self._home = home
        self._year, self._month = int(taken[:4]), int(taken[5:7])

    def listings(self, wanted: Wanted, below: str = "") -> Iterator[Listing]:  # noqa: ARG002 (all has to be read)
        budget = Budget(self.name, self._limits)
        try:
            with self.path.open("rb") as file:
                head = file.read(_LONGEST)
                file.seek(0)
                if _FIND.match(head) and b"\0" in head:
                    yield from batched(_found(file, self.path, budget), self._home, budget)
                else:
                    yield from _ListReader(self.path, self._home, self._year, self._month, budget).listings(file)
        except OSError as error:
            raise OutsideError(f"{printable(self.path)}: cannot be read ({cause(error)})") from None


def is_listing(head: bytes) -> bool:
    """Whether a file that begins so is a listing of either form."""
    if _FIND.match(head):
        return True
    first = head.decode("utf-8", "replace").lstrip("\n").partition("\n")[0].rstrip("\r")
    return first.endswith(":") or bool(_LS.match(first)) or bool(_TOTAL.fullmatch(first))


def _found(file: BinaryIO, path: Path, budget: Budget) -> Iterator[SourceEntry]:
    """Records of find, which may hold any byte but NUL."""
    number, head = 0, ""
    for n, field in enumerate(_nul_ended(file, path, budget)):
        if n % 2 == 0:
            number, head = n // 2 + 1, field
            continue
        match = _FIND.match(head.encode("utf-8", "surrogateescape"))
        if match is None:
            raise InputError(f"{printable(path)}: entry {number:,} is not as find was told to write it", _AGAIN)
        kind = _KINDS.get(match[1].decode(), "odd")
        name = (
            head[match.end() :]
            if head.isascii()
            else head.encode("utf-8", "surrogateescape")[match.end() :].decode("utf-8", "surrogateescape")
        )
        yield SourceEntry(name, kind, int(match[2]), int(match[3]), field)


def _nul_ended(file: BinaryIO, path: Path, budget: Budget) -> Iterator[str]:
    rest = b""
    while piece := file.read(1 << 20):
        budget.read(len(piece))
        *whole, rest = (rest + piece).split(b"\0")
        budget.line(max(map(len, (*whole, rest))))
        for field in whole:
            yield field.decode("utf-8", "surrogateescape")
    if rest.strip(b"\n"):
        raise InputError(f"{printable(path)}: cut off within an entry", _AGAIN)


def ls_entry(line: str, year: int, month: int) -> SourceEntry | None:
    """One line of `ls -l`, or None when it is none; its path is the name alone.

    `year` and `month` are those of the listing, for times that leave out the year. The host's
    clock is taken as UTC; a month whose name is unknown makes the time 0.
    """
    found = _LS.fullmatch(line)
    if found is None:
        return None
    kind = _KINDS.get(found["kind"], "odd")
    name, target = found["name"], ""
    if kind == "link":
        name, _, target = name.partition(" -> ")
    size = int(found["size"]) if found["size"].isdecimal() else 0
    return SourceEntry(name, kind, size, _changed(found, year, month), target)


def _changed(found: re.Match[str], this_year: int, this_month: int) -> int:
    if found["iso"]:
        year, month, day = map(int, found["iso"].split("-"))
        hour, minute, *second = found["clock"].split(":")
        return _seconds(year, month, day, int(hour), int(minute), int(second[0][:2]) if second else 0)
    month = _MONTHS.get((found["word"] or found["word2"]).rstrip(".").lower()[:3], 0)
    if not month:
        return 0
    day, when = int(found["day"] or found["day2"]), found["when"] or found["when2"]
    if ":" not in when:
        return _seconds(int(when), month, day, 0, 0, 0)
    return _seconds(this_year - (month > this_month), month, day, int(when[:2]), int(when[3:]), 0)


class _ListReader:
    """Reads `ls -lAR`: a head line for each folder, then its entries. A name with a line end cannot be told."""

    def __init__(self, path: Path, home: Home, year: int, month: int, budget: Budget):
        self._budget = budget
        self._path = path
        self._home = home
        self._year = year
        self._month = month
        self._expected: dict[str, str] = {}

    def listings(self, file: BinaryIO) -> Iterator[Listing]:
        yield from batched(self._entries(file), self._home, self._budget)
        for raw in self._expected.values():
            folder = self._home.relative(raw)
            if folder:
                yield Listing(folder, trouble="not in the listing: unreadable on the host, or the listing is cut off")

    def _entries(self, file: BinaryIO) -> Iterator[SourceEntry]:
        folder, fresh, any_line = "", True, False
        longest = self._budget.limits.line
        lines = iter(lambda: file.readline(longest + 2), b"")
        for number, raw in enumerate(chain(lines, [b"\n"]), 1):
            self._budget.read(len(raw))
            self._budget.line(len(raw))
            line = raw.decode("utf-8", "surrogateescape").rstrip("\n").rstrip("\r")
            if not raw.endswith(b"\n") and not _LS.fullmatch(line):
                raise self._wrong(number, line, "the listing is cut off")
            if not line:
                fresh = True
            elif (entry := ls_entry(line, self._year, self._month)) is not None:
                any_line, fresh = True, False
                path = f"{folder}/{entry.path}" if folder and folder != "." else entry.path
                if entry.kind == "folder":
                    self._budget.folder()
                    self._expected[_plain(path)] = path
                else:
                    yield entry._replace(path=path)
            elif fresh and line.endswith(":") and line != ":":
                folder, fresh, any_line = line[:-1], False, True
                self._expected.pop(_plain(folder), None)
                yield SourceEntry(folder, "folder")
            elif not (_TOTAL.fullmatch(line) or line.startswith("ls: ")):
                raise self._wrong(number, line, "no line of 'ls -lAR'")
        if not any_line:
            raise InputError(f"{printable(self._path)}: holds no entry", _AGAIN)

    def _wrong(self, number: int, line: str, why: str) -> InputError:
        shown = printable(line[:60])
        return InputError(f'{printable(self._path)}:{number}: {why} ("{shown}")', _AGAIN)


def _plain(folder: str) -> str:
    return folder.removeprefix("./").strip("/")


def _seconds(*when: int) -> int:
    try:
        return calendar.timegm((*when, 0, 0, 0))
    except (ValueError, OverflowError):
        return 0
