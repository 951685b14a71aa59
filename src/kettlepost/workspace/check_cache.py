"""What each account of a plan gives by itself, worked out on several cores, and remembered.

It depends on the account's file, its survey, the settings and the program. All of these go into
one digest, and what is remembered counts only under the same digest. It is kept in the plan
folder's `.kettlepost/checked`, which may be deleted at any time.
"""

from __future__ import annotations

import dataclasses
import datetime
import hashlib
import os
import time
from collections.abc import Collection, Iterable, Iterator
from contextlib import suppress
from functools import cached_property
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from kettlepost import __version__
from kettlepost.core.checking import Checked, check_account, known_by_plan, settle
from kettlepost.core.errors import Fault, InputError, KettlepostError, OutsideError, PlanError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Folder, HostName, printable
from kettlepost.core.rules import AccountFindings, AccountSummary, AllAccounts
from kettlepost.core.survey import LARGEST_SURVEY, encode_databases, encode_outside, encode_world
from kettlepost.workspace.files import OWN_FOLDER, is_plain, is_trusted, own_folder, read_at_most, write_whole
from kettlepost.workspace.plan_folder import (
    PlanFolder,
    databases_file,
    names_file,
    outside_file,
    probe_file,
    survey_file,
)

if TYPE_CHECKING:
    from concurrent.futures import ProcessPoolExecutor

ALONE = 40
"""Above how many accounts other processes are called in at once."""
_SOON = 0.2
"""After how many seconds they are called in as well, where accounts take long for what is wrong in them."""
_SHARE = 50
_LARGEST = 1 << 30
_SETTLED = 2_000_000_000
_CONTROLS = bytes((*range(32), 127))


class RememberedAccount(msgspec.Struct, array_like=True, frozen=True):
    """What is remembered of one account: what it was made from, and the record, encoded.

    `stamp` is what the file system said of its two files: times, sizes and numbers. `trouble` says
    why its survey could not be read.
    """

    digest: bytes
    stamp: tuple[int, ...]
    record: bytes
    trouble: str = ""


class Memory(msgspec.Struct, array_like=True):
    """What is remembered of a plan, all under the digest of what accounts share.

    `written` is when that was stored, by the clock of the file system, in nanoseconds.
    """

    base: bytes = b""
    accounts: dict[str, RememberedAccount] = msgspec.field(default_factory=dict)
    written: int = 0

    def untouched(self, name: str, stamp: tuple[int, ...]) -> RememberedAccount | None:
        """What is remembered of an account whose files nobody has touched since.

        Files that were written while it was stored, or shortly before, may have changed without
        a trace, so their contents are to be looked at.
        """
        kept = self.accounts.get(name)
        return kept if kept is not None and kept.stamp == stamp and max(stamp) < self.written - _SETTLED else None


def _written(value: object) -> str:
    """A name of a file system may hold what is no text; any other is text already."""
    return printable(value) if isinstance(value, Folder) else str(value)


def _stored(kind: type[Any], value: Any) -> Any:
    if kind not in (Folder, HostName) or type(value) is not str:
        raise TypeError("expected a folder or a host name")
    return Folder.stored(value) if kind is Folder else HostName(value)


_DECODER = msgspec.json.Decoder(AccountFindings, dec_hook=_stored)


class KnownPlan:
    """What checking each account of a plan by itself gives: of some at once, of the others when it is asked for.

    `wanted` are the accounts that are asked about, all where it is None. Of every other account
    only what its plan says is looked at, unless what it gave is remembered and fresh. `among` are the
    accounts that are regarded at all, where that is not every one; nothing is remembered of so few.
    """

    def __init__(
        self,
        folder: PlanFolder,
        wanted: Collection[str] | None = None,
        workers: int = 1,
        among: Collection[str] | None = None,
    ):
        self.folder = folder
        self.names = folder.names if among is None else [name for name in folder.names if name in among]
        self._faults: list[Fault] = []
        shared = folder.read_shared(self._faults)
        self._is_trial = folder.against is not None or among is not None  # of which nothing is remembered
        self._memory = Memory() if self._is_trial else _recall(folder.path, _base(shared.source.text))
        self._stamps = {name: self._stamp(name) for name in self.names}
        self._kept: dict[str, RememberedAccount] = {}
        self._records: dict[str, AccountFindings] = {}
        self._wanted = set(self.names if wanted is None else wanted)
        self._read(workers)
        if self._faults:
            raise PlanError(self._faults)
        if self._is_new and not self._is_trial:
            _remember(folder.path, Memory(self._memory.base, self._memory.accounts | self._kept), self._stamps)

    @property
    def _is_new(self) -> bool:
        kept, known = self._kept, self._memory.accounts
        return any(known.get(name) is not now for name, now in kept.items()) or bool(known.keys() - self._stamps.keys())

    def _read(self, workers: int) -> None:
        """Look at what is wanted, and at what others say of themselves; faults are gathered."""
        waiting = []
        for name, stamp in self._stamps.items():
            kept = self._memory.untouched(name, stamp) if self._memory.accounts else None
            if kept is not None:
                self._take(name, kept)
            elif name in self._wanted:
                waiting.append(name)
            else:
                self.folder.read_account(name, self._faults)
        for name, answer, told in self._answers(waiting, workers):
            self._faults += told
            if answer is not None:
                self._take(name, answer)
        for name in self.names:
            if name in self._kept:
                self._faults += self.record(name).faults

    def _take(self, name: str, kept: RememberedAccount) -> None:
        self._kept[name] = kept
        if kept.trouble and name in self._wanted:
            self.folder.troubles[name] = kept.trouble

    def record(self, name: str) -> AccountFindings:
        """What checking an account by itself gives."""
        known = self._records.get(name)
        if known is None:
            kept = self._kept.get(name)
            known = _DECODER.decode(kept.record) if kept is not None else check_account(self.folder.layout_of(name))
            self._records[name] = known
        return known

    def by_plan(self, name: str) -> AccountFindings:
        """The same as far as an account's plan tells, where nobody has asked more of it."""
        if name in self._kept or name in self._records:
            return self.record(name)
        layout = self.folder.layout_of(name)
        return known_by_plan(AccountLayout(layout.plan, layout.account, None))

    def summary(self, name: str) -> AccountSummary:
        """What an account tells of itself: by its plan alone, where nobody has asked more of it."""
        return self.by_plan(name).summary

    @property
    def summaries(self) -> Iterable[AccountSummary]:
        return (self.summary(name) for name in self.names)

    @cached_property
    def whole(self) -> AllAccounts:
        """All accounts in summary."""
        return AllAccounts(self.summaries, self.folder.source)

    def is_outdated(self, name: str) -> bool:
        """Whether an account has roots that its survey was not told of."""
        return bool(self.record(name).new_roots)

    def _stamp(self, name: str) -> tuple[int, ...]:
        """What the file system says of an account's file and its survey, taken before they are read."""
        return (
            *self.folder.stamp(f"accounts/{name}.toml"),
            *self.folder.stamp(survey_file(name)),
            *self.folder.stamp(names_file(name)),
            *self.folder.stamp(outside_file(name)),
            *self.folder.stamp(probe_file(name)),
            *self.folder.stamp(databases_file(name)),
            *self.folder.servers_stamp,
        )

    def _answers(self, waiting: list[str], workers: int) -> Iterator[Answer]:
        """What accounts give, of which nothing fresh is remembered."""
        may_share = workers > 1 and hasattr(os, "fork")
        begun = time.perf_counter()
        for at, name in enumerate(waiting):
            takes_long = time.perf_counter() - begun > _SOON and len(waiting) - at > workers
            if may_share and (len(waiting) > ALONE or takes_long):
                yield from self._shared_answers(waiting[at:], workers)
                return
            yield self._answer(name)

    def _shared_answers(self, waiting: list[str], workers: int) -> Iterator[Answer]:
        """The same from several processes."""
        import multiprocessing  # only large plans are worth the time these take to import
        from concurrent.futures import ProcessPoolExecutor

        global _at_work
        _at_work = self  # inherited by what is forked from here on
        share = min(_SHARE, -(-len(waiting) // (workers * 4)))
        shares = (self._read_for(waiting[at : at + share]) for at in range(0, len(waiting), share))
        pool = ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("fork"))
        try:
            for answers in pool.map(_turn, shares):
                for name, kept, told in answers:
                    if isinstance(told, KettlepostError):
                        raise told
                    yield name, kept, told
            pool.shutdown()
        except (KeyboardInterrupt, KettlepostError):
            _give_up(pool)
            raise
        finally:
            _at_work = None

    def _read_for(self, names: list[str]) -> Share:
        """Some accounts with what their files hold, read while others are at work on those before.

        They are read here, so that no file is opened again where lines of it are wanted later.
        """
        for name in names:
            self.folder.raw(f"accounts/{name}.toml")
            with suppress(OutsideError):
                self.folder.raw(survey_file(name), LARGEST_SURVEY)
        return names, self.folder.read_of(
            [file for name in names for file in (f"accounts/{name}.toml", survey_file(name))]
        )

    def _answer(self, name: str) -> Answer:
        """What one account gives: remembered where nothing it is made from has changed."""
        raw = self.folder.raw(f"accounts/{name}.toml") or b""
        digest = hashlib.blake2b(self._memory.base + len(raw).to_bytes(8, "big") + raw, digest_size=20)
        trouble = ""
        try:
            surveyed = self.folder.raw(survey_file(name), LARGEST_SURVEY)
        except OutsideError as error:
            surveyed, trouble = None, str(error)
        digest.update(b"\0" + trouble.encode() if surveyed is None else b"\1" + surveyed)
        changed, _, size, _ = self.folder.stamp(names_file(name))
        digest.update(b"%d %d" % (changed, size))
        digest.update(repr(self.folder.servers_stamp).encode())
        outside = self.folder.outside(name)
        digest.update(encode_outside(outside) if outside is not None else b"")
        world = self.folder.world(name)
        digest.update(encode_world(world) if world is not None else b"")
        seen = self.folder.databases(name)
        digest.update(encode_databases(seen) if seen is not None else b"")
        known = self._memory.accounts.get(name)
        if known is not None and known.digest == digest.digest():
            return name, msgspec.structs.replace(known, stamp=self._stamps[name]), []
        faults: list[Fault] = []
        layout = self.folder.passing_layout(name, faults)
        if layout is None:
            return name, None, faults
        record = check_account(layout)
        raw_record = msgspec.json.encode(record, enc_hook=_written)
        return (
            name,
            RememberedAccount(digest.digest(), self._stamps[name], raw_record, self.folder.troubles.get(name, "")),
            [],
        )


def _give_up(pool: ProcessPoolExecutor) -> None:
    """End those who are at work at once, and wait for none: whoever is interrupted waits for nobody's share."""
    import multiprocessing
    import threading

    threading.excepthook = lambda _: None  # the pool's own thread has a word to say on futures that nobody waits for
    pool.shutdown(wait=False, cancel_futures=True)
    for child in multiprocessing.active_children():
        child.kill()


Answer = tuple[str, RememberedAccount | None, list[Fault]]
Share = tuple[list[str], dict[str, bytes | None]]
_at_work: KnownPlan | None = None


def check_plan(
    folder: PlanFolder,
    today: datetime.date,
    only: Collection[str] | None = None,
    asked: Collection[str] | None = None,
    workers: int = 1,
    among: Collection[str] | None = None,
) -> Checked:
    """Check a plan: ask every rule, remembering what each account gave.

    `only` are the accounts to keep, `asked` the rules, `among` the accounts regarded at all. Raises
    PlanError with all faults of the plan, InputError when it is none, OutsideError when a file cannot be read.
    """
    known = KnownPlan(folder, only, workers, among)
    names = known.names if only is None else [name for name in known.names if name in set(only)]
    checked = settle(known.whole, known.record, names, today, folder.layout_of, asked, known.by_plan)
    outdated = [name for name in names if known.is_outdated(name)]
    troubles = [folder.troubles[name] for name in names if name in folder.troubles]
    return dataclasses.replace(checked, outdated=outdated, troubles=troubles)


def _turn(share: Share) -> list[tuple[str, RememberedAccount | None, list[Fault] | KettlepostError]]:
    """What some accounts give; an error travels as a value, as the others are wanted too."""
    assert _at_work is not None  # noqa: S101 (set before the fork)
    names, files = share
    _at_work.folder.take(files)
    found: list[tuple[str, RememberedAccount | None, list[Fault] | KettlepostError]] = []
    for name in names:
        try:
            found.append(_at_work._answer(name))
        except (InputError, OutsideError) as error:
            found.append((name, None, error))
    return found


def _base(settings: str) -> bytes:
    """What every account's answer depends on: the program, its data and the settings."""
    code = hashlib.blake2b(__version__.encode(), digest_size=20)
    for path in sorted(Path(str(files("kettlepost"))).rglob("*")):
        if path.suffix in (".py", ".toml"):
            known = path.stat()
            code.update(f"{path.name} {known.st_size} {known.st_mtime_ns}".encode())
    code.update(settings.encode("utf-8", "surrogateescape"))
    return code.digest()


def _recall(folder: Path, base: bytes) -> Memory:
    """What is remembered of a plan under `base`; nothing when that is damaged or somebody else's."""
    path = folder / OWN_FOLDER / "checked"
    if is_plain(path) and is_trusted(folder):
        with suppress(OSError, msgspec.MsgspecError, ValueError):
            known = path.stat()
            if known.st_uid == os.geteuid() and not known.st_mode & 0o022:
                memory = msgspec.msgpack.decode(read_at_most(path, _LARGEST, follow=False), type=Memory)
                if memory.base == base and all(_is_sound(kept.record) for kept in memory.accounts.values()):
                    memory.written = known.st_mtime_ns
                    return memory
    return Memory(base)


def _is_sound(record: bytes) -> bool:
    """Whether a record is text without control characters, as the program wrote it."""
    if b"\\u00" in record:
        return False
    return len(record.translate(None, _CONTROLS)) == len(record) if record.isascii() else record.decode().isprintable()


def _remember(folder: Path, memory: Memory, names: Collection[str]) -> None:
    """Keep what came out. A folder that cannot be written to only costs time."""
    memory.accounts = {name: kept for name, kept in memory.accounts.items() if name in names}
    with suppress(OSError, OutsideError, InputError):
        write_whole(own_folder(folder) / "checked", msgspec.msgpack.encode(memory), mode=0o600)
