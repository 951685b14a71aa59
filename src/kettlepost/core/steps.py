"""Steps: one thing somebody does, as facts. An interface puts them into words."""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple

from msgspec import Struct

from kettlepost.core.names import Folder
from kettlepost.core.plan import Database
from kettlepost.core.remedies import Remedy


class StepKind(StrEnum):
    """What is done with the subject."""

    ADD = "add"
    CREATE = "create"
    POINT = "point"
    WAIT = "wait"
    REMOVE = "remove"
    MOVE = "move or retire"
    LOOK = "look at"
    COPY = "keep a copy of"
    TRANSFER = "copy into"
    CHANGE = "change"
    LEAVE = "leave"
    SURVEY = "survey"
    WRITE_DOWN = "write down"
    CHECK = "check"


class SubjectKind(StrEnum):
    """What a step is about."""

    FOLDER = "folder"
    FILE = "file"
    HOST = "host"
    DNS_RECORD = "DNS record"
    REGISTRATION = "registration"
    CERTIFICATE = "certificate"
    DATABASE = "database"
    TABLES = "tables"
    USER = "user"
    ADDRESS = "address"
    INSTALLATION = "installation"
    ACCOUNT = "account"


class Who(StrEnum):
    """Where a step is done, and so who can do it."""

    HOST = "whoever manages the account at the host"
    REGISTRAR = "whoever manages the domain's registration and name servers"
    FILES = "whoever can reach the account's files"
    PLAN = "whoever keeps the plan"
    NOBODY = "nobody: it takes time"


class Sign(StrEnum):
    """How one sees that a step is done."""

    HOST_THERE = "the host name leads to the folder"
    HOST_GONE = "the host name leads nowhere any more"
    POINTS_HERE = "the name servers lead the name here"
    CERTIFICATE_THERE = "a browser opens the name by https without a warning"
    THERE = "the next survey shows it"
    GONE = "the next survey does not show it any more"
    DATABASE_THERE = "the user can log in to the database"
    WRITTEN = "the plan says it"
    NOTHING_STOPS = "the check finds nothing that stops"
    LOOKED_AT = "somebody has decided what of it stays"


class Subject(NamedTuple):
    """What a step is about: its kind and its name, a path below the account's home for folders and files."""

    kind: SubjectKind
    name: str


class Wait(NamedTuple):
    """How long something takes, in seconds: at least, and at most as a rule."""

    least: int
    most: int


MINUTES = Wait(60, 50 * 60)
HOURS = Wait(60, 12 * 3600)
DAYS = Wait(3600, 2 * 86400)


class Step(Struct, frozen=True, omit_defaults=True):
    """One thing that somebody does.

    `account` is the one it is done in and `where` the folder it concerns, such as the root of a
    host; `needs` are what has to be done first, `wait` is how long it takes and `seen` how one
    sees that it is done. `what` says in words what the subject is, `count` how many there are.
    `file` is the name of the file in `where` that it is about. `to` is the folder that a copy goes
    into, `stays` what lies in the subject and is not
    touched. `database` tells which tables are meant, those with its prefix, and `target` where their
    copies go. `remedy` is how it is done with the program, where it is.
    """

    kind: StepKind
    subject: Subject
    account: str
    who: Who
    seen: Sign
    where: Folder | None = None
    needs: tuple[Subject, ...] = ()
    wait: Wait | None = None
    what: str = ""
    count: int = 0
    database: Database | None = None
    target: Database | None = None
    file: Folder | None = None
    to: Folder | None = None
    stays: tuple[Folder, ...] = ()
    remedy: Remedy | None = None

    @property
    def clears(self) -> bool:
        """Whether it takes something out of the way."""
        return self.kind in (StepKind.REMOVE, StepKind.MOVE, StepKind.LOOK, StepKind.COPY)

    @property
    def creates(self) -> bool:
        return self.kind in (StepKind.ADD, StepKind.CREATE)
