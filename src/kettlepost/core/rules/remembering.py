"""Checking a plan folder account by account, on several cores, and remembering what came out.

What an account gives by itself depends on its file, its survey, the settings, the day and the
program. All of these go into one digest, and what is remembered counts only under the same
digest. It is kept in the plan folder's `.kettlepost/checked`, which may be deleted at any time.
"""

from __future__ import annotations

import datetime
import hashlib
import os
from collections.abc import Collection, Iterator
from contextlib import suppress
from importlib.resources import files
from pathlib import Path
from typing import NamedTuple

import msgspec

from kettlepost import __version__
from kettlepost.core.errors import InputError, KettlepostError, OutsideError, PlanError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.plan import (
    OWN_FOLDER,
    Shared,
    account_paths,
    own_folder,
    read_account,
    read_bytes,
    read_shared,
    write_whole,
)
from kettlepost.core.rules.checking import Account, Checked, check_account, settle
from kettlepost.core.rules.whole import Whole
from kettlepost.core.survey import decode_survey, survey_bytes, survey_path

ALONE = 40
"""So many accounts are checked before it pays to call others in."""
_SHARE = 50
_LARGEST = 1 << 30


class Kept(NamedTuple):
    """What is remembered of one account: what it was made from, and the record, encoded.

    `stamp` is what the file system said of its two files: times, sizes and numbers.
    """

    digest: bytes
    stamp: tuple[int, ...]
    record: bytes


class Memory(msgspec.Struct, array_like=True):
    """What is remembered of a plan, all under the digest of what accounts share.

    `written` is when that was stored, by the clock of the file system, in nanoseconds.
    """

    base: bytes = b""
    accounts: dict[str, Kept] = msgspec.field(default_factory=dict)
    written: int = 0

    def untouched(self, name: str, stamp: tuple[int, ...]) -> Kept | None:
        """What is remembered of an account whose files nobody has touched since.

        Files that were written while it was stored, or shortly before, may have changed without
        a trace, so their contents are to be looked at.
        """
        kept = self.accounts.get(name)
        return kept if kept is not None and kept.stamp == stamp and max(stamp) < self.written - _SETTLED else None


_SETTLED = 2_000_000_000
_DECODER = msgspec.json.Decoder(Account)


def check_folder(
    folder: Path,
    today: datetime.date,
    only: Collection[str] | None = None,
    asked: Collection[str] | None = None,
    workers: int = 1,
) -> Checked:
    """Check the plan in `folder`: ask every rule, remembering what each account gave.

    `only` are the accounts to keep, `asked` the rules. Raises PlanError with all faults of the
    plan, InputError when a survey is none or `folder` holds no plan, OutsideError when a file
    cannot be read.
    """
    known = known_plan(folder, today, workers)
    checked = settle(known.whole, known.accounts, today, known.layout_of, only, asked)
    looked_at = set(checked.accounts)
    mine = [account for account in known.accounts if account.name in looked_at]
    checked.outdated = [
        account.name for account in mine if _is_old(account, known.fresh[account.summary.file].stamp[0])
    ]
    return checked


class KnownPlan:
    """What checking each account of a plan by itself gives, and any account's layout."""

    def __init__(self, shared: Shared, fresh: dict[str, Kept], accounts: list[Account]):
        self.shared = shared
        self.fresh = fresh
        self.accounts = accounts
        self._records = {account.name: account for account in accounts}
        self.whole = Whole(shared.folder, (account.summary for account in accounts))

    def record(self, name: str) -> Account:
        """What checking an account by itself gave."""
        return self._records[name]

    def layout_of(self, name: str) -> AccountLayout | None:
        """An account's layout; None when its file has gained faults since."""
        path = survey_path(self.shared.folder, name)
        raw = read_bytes(self.shared.folder / "accounts" / f"{name}.toml")
        return _layout(self.shared, raw, f"{name}.toml", survey_bytes(path), path, [])


def known_plan(folder: Path, today: datetime.date, workers: int = 1) -> KnownPlan:
    """Ask of each account in `folder` what needs no other, remembering what came out; errors as for a check."""
    problems: list[str] = []
    shared = read_shared(folder, problems)
    names = [path.name for path in account_paths(folder)]
    base = _base(shared, today)
    memory = _recall(folder, base)
    fresh: dict[str, Kept] = {}
    for name, kept, told in _answers(shared, memory, names, workers):
        problems += told
        if kept is not None:
            fresh[name] = kept
    accounts = [_DECODER.decode(fresh[name].record) for name in names if name in fresh]
    problems += [problem for account in accounts for problem in account.problems]
    if problems:
        raise PlanError(problems)
    if any(memory.accounts.get(name) is not kept for name, kept in fresh.items()) or len(memory.accounts) != len(fresh):
        _remember(folder, Memory(base, fresh))
    return KnownPlan(shared, fresh, accounts)


Answer = tuple[str, Kept | None, list[str]]
_work: tuple[Shared, Memory] | None = None


def _answers(shared: Shared, memory: Memory, names: list[str], workers: int) -> Iterator[Answer]:
    """What each account gives: remembered, or worked out anew."""
    waiting = []
    for name in names:
        known = memory.untouched(name, _stamp(shared.folder, name)) if memory.accounts else None
        if known is not None:
            yield name, known, []
        else:
            waiting.append(name)
    if workers < 2 or len(waiting) <= ALONE or not hasattr(os, "fork"):
        for name in waiting:
            yield _answer(shared, memory, name)
        return
    import multiprocessing  # only large plans are worth the time these take to import
    from concurrent.futures import ProcessPoolExecutor

    global _work
    _work = (shared, memory)  # inherited by what is forked from here on
    shares = [waiting[at : at + _SHARE] for at in range(0, len(waiting), _SHARE)]
    with ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("fork")) as pool:
        for answers in pool.map(_turn, shares):
            for name, kept, told in answers:
                if isinstance(told, KettlepostError):
                    raise told
                yield name, kept, told
    _work = None


def _turn(names: list[str]) -> list[tuple[str, Kept | None, list[str] | KettlepostError]]:
    """What some accounts give; an error travels as a value, as the others are wanted too."""
    assert _work is not None  # noqa: S101 (set before the fork)
    found: list[tuple[str, Kept | None, list[str] | KettlepostError]] = []
    for name in names:
        try:
            found.append(_answer(*_work, name))
        except (InputError, OutsideError) as error:
            found.append((name, None, error))
    return found


def _answer(shared: Shared, memory: Memory, name: str) -> Answer:
    """What one account gives: remembered where nothing it is made from has changed."""
    stamp = _stamp(shared.folder, name)
    raw = read_bytes(shared.folder / "accounts" / name)
    path = survey_path(shared.folder, name.removesuffix(".toml"))
    surveyed = survey_bytes(path)
    digest = hashlib.blake2b(memory.base + len(raw).to_bytes(8, "big") + raw, digest_size=20)
    digest.update(b"\0" if surveyed is None else b"\1" + surveyed)
    known = memory.accounts.get(name)
    if known is not None and known.digest == digest.digest():
        return name, known._replace(stamp=stamp), []
    problems: list[str] = []
    here = _layout(shared, raw, name, surveyed, path, problems)
    if here is None:
        return name, None, problems
    record = check_account(here)
    return name, Kept(digest.digest(), stamp, msgspec.json.encode(record, enc_hook=str)), []


def _stamp(folder: Path, name: str) -> tuple[int, ...]:
    """What the file system says of an account's file and its survey, taken before they are read."""
    place = os.fspath(folder)
    found: list[int] = []
    for path in (f"{place}/accounts/{name}", f"{place}/surveys/{name.removesuffix('.toml')}.json"):
        try:
            known = os.stat(path)
        except OSError:
            found += (0, 0, 0, 0)
        else:
            found += (known.st_mtime_ns, known.st_ctime_ns, known.st_size, known.st_ino)
    return tuple(found)


def _layout(
    shared: Shared, raw: bytes, name: str, surveyed: bytes | None, path: Path, problems: list[str]
) -> AccountLayout | None:
    """One account's layout from what its files hold; None when its plan has faults."""
    account = read_account(shared, raw, name, problems)
    if account is None:
        return None
    survey = decode_survey(surveyed, path, account.name) if surveyed is not None else None
    return AccountLayout(shared.plan([account]), account, survey)


def _base(shared: Shared, today: datetime.date) -> bytes:
    """What every account's answer depends on: the program, its data, the day and the settings."""
    code = hashlib.blake2b(f"{__version__} {today}".encode(), digest_size=20)
    for path in sorted(Path(str(files("kettlepost"))).rglob("*")):
        if path.suffix in (".py", ".toml"):
            known = path.stat()
            code.update(f"{path.name} {known.st_size} {known.st_mtime_ns}".encode())
    code.update(shared.source.text.encode("utf-8", "surrogateescape"))
    return code.digest()


def _recall(folder: Path, base: bytes) -> Memory:
    """What is remembered of a plan under `base`; nothing when that is damaged or somebody else's."""
    path = folder / OWN_FOLDER / "checked"
    with suppress(OSError, msgspec.MsgspecError, ValueError):
        known = path.stat()
        if known.st_size <= _LARGEST and known.st_uid == os.getuid() and not known.st_mode & 0o022:
            memory = msgspec.msgpack.decode(path.read_bytes(), type=Memory)
            if memory.base == base and all(_is_sound(kept.record) for kept in memory.accounts.values()):
                memory.written = known.st_mtime_ns
                return memory
    return Memory(base)


def _is_sound(record: bytes) -> bool:
    """Whether a record is text without control characters, as the program wrote it."""
    return b"\\u00" not in record and record.decode().isprintable()


def _remember(folder: Path, memory: Memory) -> None:
    """Keep what came out. A folder that cannot be written to only costs time."""
    with suppress(OSError, OutsideError):
        place = own_folder(folder)
        write_whole(place / "checked", msgspec.msgpack.encode(memory))
        os.chmod(place / "checked", 0o600)


def _is_old(account: Account, changed: int) -> bool:
    """Whether an account's file was changed, at a time in nanoseconds, after its survey was taken."""
    with suppress(ValueError):
        taken = datetime.datetime.fromisoformat(account.taken) if account.taken else None
        return taken is not None and taken.tzinfo is not None and changed / 1e9 >= taken.timestamp() + 1
    return False
