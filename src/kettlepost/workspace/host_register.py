"""Which account declares which host name, remembered so that a question about one host reads one account.

It is kept in the plan folder's `.kettlepost/hosts`, which may be deleted at any time, and counts
of an account only while nobody has touched its file.
"""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Collection
from contextlib import suppress
from pathlib import Path

import msgspec

from kettlepost import __version__
from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.layout import When, mounts_of
from kettlepost.core.plan import Account
from kettlepost.workspace.files import OWN_FOLDER, is_plain, is_trusted, own_folder, read_at_most, write_whole

SETTLED = 2_000_000_000
"""A file written within so many nanoseconds before it was noted may have changed since without a trace."""
_LARGEST = 1 << 30


class RegisteredAccount(msgspec.Struct, array_like=True, frozen=True):
    """The host names of an account, and what the file system said of its file when they were read there."""

    stamp: tuple[int, int, int, int]
    hosts: list[str]


class _Register(msgspec.Struct, array_like=True):
    base: bytes
    accounts: dict[str, RegisteredAccount]


class HostRegister:
    """What is remembered of a plan's host names; `base` is what all of it depends on, `written` when it was stored."""

    def __init__(self, base: bytes, accounts: dict[str, RegisteredAccount], written: int):
        self._base = base
        self._accounts = accounts
        self._written = written
        self._is_new = False

    @classmethod
    def recall(cls, folder: Path, settings: str) -> HostRegister:
        """What is remembered of the plan in `folder`; nothing when that is damaged or may be somebody else's."""
        base = hashlib.blake2b(
            f"{__version__} 1 {settings}".encode("utf-8", "surrogateescape"), digest_size=20
        ).digest()
        path = folder / OWN_FOLDER / "hosts"
        if is_plain(path) and is_trusted(folder):
            with suppress(OSError, msgspec.MsgspecError, ValueError):
                known = path.stat()
                if known.st_uid in (os.geteuid(), 0) and not known.st_mode & 0o022:
                    register = _DECODER.decode(read_at_most(path, _LARGEST, follow=False))
                    if register.base == base:
                        return cls(base, register.accounts, known.st_mtime_ns)
        return cls(base, {}, 0)

    def fresh(self, name: str, stamp: tuple[int, int, int, int]) -> list[str] | None:
        """The host names of an account whose file nobody has touched since; None when that is not sure."""
        noted = self._accounts.get(name)
        is_settled = noted is not None and noted.stamp == stamp and max(stamp[:2]) < self._written - SETTLED
        return noted.hosts if is_settled and noted is not None else None

    def note(self, name: str, stamp: tuple[int, int, int, int], account: Account) -> list[str]:
        """Remember the host names of an account that was just read: those it has, and those it is to have."""
        mounts = (mount for when in _TIMES for mount in mounts_of(account, lambda folder: folder, when))
        hosts = list(dict.fromkeys(str(mount.address.host) for mount in mounts))
        noted = RegisteredAccount(stamp, hosts)
        # one that was noted too soon after it was written is noted once more, now that it counts
        self._is_new |= self._accounts.get(name) != noted or max(stamp[:2]) < time.time_ns() - SETTLED
        self._accounts[name] = noted
        return hosts

    def store(self, folder: Path, names: Collection[str]) -> None:
        """Keep what was noted. A folder that cannot be written to only costs time."""
        if not self._is_new:
            return
        kept = {name: noted for name, noted in self._accounts.items() if name in names}
        with suppress(OSError, OutsideError, InputError):
            raw = msgspec.msgpack.encode(_Register(self._base, kept))
            write_whole(own_folder(folder) / "hosts", raw, mode=0o600)


_TIMES: tuple[When, ...] = ("planned", "now")
_DECODER = msgspec.msgpack.Decoder(_Register)
