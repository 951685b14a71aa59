"""The ways by which an installation comes to another address, as they are held side by side."""

from __future__ import annotations

import datetime
from enum import StrEnum

from msgspec import Struct

from kettlepost.core.messages import Words
from kettlepost.core.names import Address, Folder
from kettlepost.core.plan import Change, Installation


class MoveBy(StrEnum):
    """How something comes to another address."""

    FILES = "files"
    FRONT_FILE = "front-file"
    ROOT = "root"
    DONE = "done"


class MoveWay(Struct, frozen=True):
    """One way: what is touched, what may break, how one comes back; or `why_not`, where it is none here.

    `lies` is where the files lie then, `stays` what others have in the folder that is left, which stays there. `looks`
    is where it can be looked at before visitors see it, `down` for how long nobody sees it.
    """

    by: MoveBy
    why_not: Words = ""
    lies: Folder | None = None
    touched: tuple[Words, ...] = ()
    breaks: tuple[Words, ...] = ()
    stays: tuple[Folder, ...] = ()
    changes: tuple[Change, ...] = ()
    looks: tuple[Words, ...] = ()
    down: Words = ""
    back: Words = ""


class Promise(Struct, frozen=True):
    """How an old address is kept: for how long, and whether browsers are told that it is for good."""

    is_permanent: bool = False
    until: datetime.date | None = None
    since: datetime.date | None = None


class MoveWays(Struct, frozen=True):
    """An installation that is to move, its addresses before and after, and the ways.

    `replaces` is what is live there, where it is a rehearsal of that; `kinds` are those of its data that may be kept.
    """

    account: str
    application: str
    old: Address
    new: Address
    lies: Folder | None
    ways: tuple[MoveWay, ...]
    replaces: Installation | None = None
    kinds: tuple[str, ...] = ()

    def way(self, by: MoveBy) -> MoveWay:
        """One of them; its `why_not` says where it is none here."""
        return next(one for one in self.ways if one.by is by)
