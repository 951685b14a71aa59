"""Checking a plan folder account by account, on several cores, and remembering what came out.

What an account gives by itself depends on its file, its survey, the settings, the day and the
program. All of these go into one digest, and what is remembered counts only under the same
digest. It is kept in the plan folder's `.kettlepost/`, which may be deleted at any time.
"""

from __future__ import annotations

import datetime
import hashlib
import os
from collections.abc import Callable, Collection, Iterator
from contextlib import suppress
from importlib.resources import files
from pathlib import Path
from typing import NamedTuple

import msgspec

from kettlepost import __version__
from kettlepost.core.errors import InputError, KettlepostError, OutsideError, PlanError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.plan import Shared, account_paths, read_account, read_bytes, read_shared, write_whole
from kettlepost.core.rules.checking import Account, Checked, check_account, settle
from kettlepost.core.rules.whole import Whole
from kettlepost.core.survey import decode_survey, survey_bytes, survey_path

ALONE = 40
"""So many accounts are checked before it pays to call others in."""
_SHARE = 50
_FOLDER = ".kettlepost"
_LARGEST = 1 << 30


class Kept(NamedTuple):
    """What is remembered of one account: the digest of what it was made from, and the record, encoded."""

    digest: bytes
    record: bytes


Memory = dict[str, Kept]
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
    problems: list[str] = []
    shared = read_shared(folder, problems)
    names = [path.name for path in account_paths(folder)]
    memory = _recall(folder)
    base = _base(shared, today)
    fresh: Memory = {}
    accounts: list[Account] = []
    for name, kept, told in _answers(shared, base, memory, names, workers):
        problems += told
        if kept is not None:
            fresh[name] = kept
            accounts.append(_DECODER.decode(kept.record))
    problems += [problem for account in accounts for problem in account.problems]
    if problems:
        raise PlanError(problems)
    if any(memory.get(name) is not kept for name, kept in fresh.items()) or len(memory) != len(fresh):
        _remember(folder, fresh)
    whole = Whole(folder, (account.summary for account in accounts))

    def layout_of(name: str) -> AccountLayout | None:
        path = survey_path(folder, name)
        raw = read_bytes(folder / "accounts" / f"{name}.toml")
        return _layout(shared, raw, f"{name}.toml", survey_bytes(path), path, [])

    checked = settle(whole, accounts, today, layout_of, only, asked)
    checked.outdated = [
        one.name for one in accounts if one.taken and one.name in checked.accounts and _is_old(folder, one)
    ]
    return checked


def _answers(
    shared: Shared, base: bytes, memory: Memory, names: list[str], workers: int
) -> Iterator[tuple[str, Kept | None, list[str]]]:
    """What each account gives, in order: remembered, or worked out anew."""
    if workers < 2 or len(names) <= ALONE or not hasattr(os, "fork"):
        for name in names:
            yield _answer(shared, base, memory, name)
        return
    import multiprocessing  # only large plans are worth the time these take to import
    from concurrent.futures import ProcessPoolExecutor

    global _work
    _work = (lambda name: _answer(shared, base, memory, name), memory)  # inherited by what is forked from here on
    shares = [names[at : at + _SHARE] for at in range(0, len(names), _SHARE)]
    with ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("fork")) as pool:
        for share, answers in zip(shares, pool.map(_turn, shares), strict=True):
            for name, (kept, told) in zip(share, answers, strict=True):
                if isinstance(told, KettlepostError):
                    raise told
                yield name, kept if kept is not None or told else memory[name], told
    _work = None


Answer = tuple[str, Kept | None, list[str]]
_work: tuple[Callable[[str], Answer], Memory] | None = None


def _turn(names: list[str]) -> list[tuple[Kept | None, list[str] | KettlepostError]]:
    """What some accounts give; nothing for what is remembered already, which need not travel."""
    assert _work is not None  # noqa: S101 (set before the fork)
    answer, memory = _work
    found: list[tuple[Kept | None, list[str] | KettlepostError]] = []
    for name in names:
        try:
            _, kept, told = answer(name)
        except (InputError, OutsideError) as error:
            found.append((None, error))
        else:
            found.append((None if kept is not None and kept is memory.get(name) else kept, told))
    return found


def _answer(shared: Shared, base: bytes, memory: Memory, name: str) -> Answer:
    """What one account gives: remembered where nothing it is made from has changed."""
    raw = read_bytes(shared.folder / "accounts" / name)
    path = survey_path(shared.folder, name.removesuffix(".toml"))
    surveyed = survey_bytes(path)
    digest = hashlib.blake2b(base + len(raw).to_bytes(8, "big") + raw, digest_size=20)
    digest.update(b"\0" if surveyed is None else b"\1")
    digest.update(surveyed or b"")
    known = memory.get(name)
    if known is not None and known.digest == digest.digest():
        return name, known, []
    problems: list[str] = []
    here = _layout(shared, raw, name, surveyed, path, problems)
    if here is None:
        return name, None, problems
    record = check_account(here)
    return name, Kept(digest.digest(), msgspec.json.encode(record, enc_hook=str)), []


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


def _recall(folder: Path) -> Memory:
    """What is remembered of a plan; nothing when that is damaged or somebody else's."""
    path = folder / _FOLDER / "checked"
    with suppress(OSError, msgspec.MsgspecError, ValueError):
        known = path.stat()
        if known.st_size > _LARGEST or known.st_uid != os.getuid() or known.st_mode & 0o022:
            return {}
        memory = msgspec.msgpack.decode(path.read_bytes(), type=Memory)
        return {name: kept for name, kept in memory.items() if _is_sound(kept.record)}
    return {}


def _is_sound(record: bytes) -> bool:
    """Whether a record is text without control characters, as the program wrote it."""
    return b"\\u00" not in record and record.decode().isprintable()


def _remember(folder: Path, memory: Memory) -> None:
    """Keep what came out. A folder that cannot be written to only costs time."""
    with suppress(OSError, OutsideError):
        place = folder / _FOLDER
        place.mkdir(exist_ok=True)
        if not (place / ".gitignore").exists():
            write_whole(place / ".gitignore", b"*\n")
        write_whole(place / "checked", msgspec.msgpack.encode(memory))
        os.chmod(place / "checked", 0o600)


def _is_old(folder: Path, account: Account) -> bool:
    """Whether an account's file has changed since its survey was taken."""
    with suppress(OSError, ValueError):
        taken = datetime.datetime.fromisoformat(account.taken.replace("Z", "+00:00"))
        if taken.tzinfo is not None:
            return (folder / "accounts" / account.summary.file).stat().st_mtime >= taken.timestamp() + 1
    return False
