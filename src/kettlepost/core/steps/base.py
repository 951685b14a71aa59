"""What all steps have: who can do them, how one sees that they are done, how long they take."""

from __future__ import annotations

from enum import StrEnum
from typing import ClassVar, NamedTuple

from msgspec import Struct


class Wait(NamedTuple):
    """How long something takes, in seconds: at least, and at most as a rule."""

    least: int
    most: int


MINUTES = Wait(60, 50 * 60)
HOURS = Wait(60, 12 * 3600)
DAYS = Wait(3600, 2 * 86400)


class Who(StrEnum):
    """Where a step is done, and so who can do it: its slug."""

    HOST = "host"
    """whoever manages the account at the host"""
    REGISTRAR = "registrar"
    """whoever manages the domain's registration and name servers"""
    CLIENT = "client"
    """whose site it is"""
    FILES = "files"
    """whoever can reach the account's files"""
    PLAN = "plan"
    """whoever keeps the plan"""
    NOBODY = "nobody"
    """nobody: it takes time"""


class DoneWhen(StrEnum):
    """How one sees that a step is done: its slug."""

    HOST_THERE = "host-there"
    """the host name leads to the folder"""
    HOST_GONE = "host-gone"
    """the host name leads nowhere any more"""
    POINTS_HERE = "points-here"
    """the name servers lead the name here"""
    CERTIFICATE_THERE = "certificate-there"
    """a browser opens the name by https without a warning"""
    THERE = "there"
    """the next survey shows it"""
    GONE = "gone"
    """the next survey does not show it any more"""
    DATABASE_THERE = "database-there"
    """the user can log in to the database, and finds the tables there"""
    KEPT = "kept"
    """the copy can be read"""
    WRITTEN = "written"
    """the plan says it"""
    SAID = "said"
    """somebody says so: nothing shows it"""
    NOTHING_STOPS = "nothing-stops"
    """the check finds nothing that stops"""
    LOOKED_AT = "looked-at"
    """somebody has decided what of it stays"""
    SHOWS_THE_SAME = "shows-the-same"
    """the page shows what it did"""


class BaseStep(Struct, frozen=True, omit_defaults=True, tag_field="do"):
    """What all steps have: the account in which they are done, who can do them, and how one sees that they are done."""

    who: ClassVar[Who]
    seen: ClassVar[DoneWhen]
    account: str
