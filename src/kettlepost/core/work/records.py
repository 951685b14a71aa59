"""The records of a work list: one step each, who does it, what it needs first, and whether it is done."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import NamedTuple

from msgspec import Struct, field

from kettlepost.core.names import Address, Folder, printable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.steps import Step, Wait, step_id
from kettlepost.core.steps.ids import MOVE_ROOT as HOST_LEADS

YOU, HOST, REGISTRAR, CLIENT, NOBODY = "you", "the host", "the registrar", "the client", "nobody"
"""Who does a step, where nobody is named for it; what takes time alone nobody does."""
PEOPLE = (YOU, HOST, REGISTRAR, CLIENT)


class WorkKind(StrEnum):
    """What is done. The value begins the step's id."""

    MEND = "mend"
    MAIL = "mail"
    REGISTER = "register"
    NAME_SERVERS = "nameservers"
    ADD = "add"
    RECORD = "record"
    POINTS = "points"
    CERTIFICATE = "certificate"
    HTTPS = "https"
    MAKE_FOLDER = "new-folder"
    COPY_FILES = "files"
    CARRY = "carry"
    MOVE_ROOT = HOST_LEADS
    LOOK = "look"
    SEND_ON = "send-on"
    CLEAR_OLD = "old-files"
    MOVED = "moved"
    FOLDER = "folder"
    CLEAR = "clear"
    PASSWORD = "password"  # noqa: S105 (a kind of step)
    DATABASE = "database"
    UNLOCK = "login"
    INSTALL = "install"
    UPLOAD = "upload"
    CONFIGURE = "configure"
    SET_UP = "setup"
    FRONT = "front-file"
    READDRESS = "readdress"
    LEFTOVERS = "leftovers"
    ENGINES = "engines"
    SURVEY = "survey"
    CONFIRM = "confirm"
    VERIFY = "verify"
    LICENCE = "licence"
    REDIRECT = "redirect"
    UPDATES = "updates"
    COPIES = "copies"
    REMOVE_HOST = "host-off"
    KEEP_FILES = "keep-files"
    REMOVE_FILES = "files-off"
    LOOK_AT_FRONT = "look-front"
    KEEP_FRONT = "keep-front"
    REMOVE_FRONT = "front-off"
    KEEP_TABLES = "keep-tables"
    REMOVE_TABLES = "tables-off"
    REMOVE_USER = "user-off"
    FORGET = "forget"
    DISCARD = "discard"
    SHEET = "sheet"
    SECOND_COPY = "copy"
    PROTECT = "protect"
    NO_MAIL = "no-mail"
    COPY_TABLES = "tables"
    MEANWHILE = "meanwhile"
    FREEZE = "freeze"
    MERGE_TABLES = "merge"
    TAKEN_OVER = "taken-over"
    REST = "rest"
    SHORT_LIVED = "time-to-live"
    FORGOTTEN = "forgotten"


class DoneMark(Struct, omit_defaults=True, frozen=True, forbid_unknown_fields=True):
    """That somebody said a step is done: by whom, when (ISO 8601, UTC), and what they noted."""

    id: str
    at: str
    by: str = ""
    note: str = ""


class StoredSetAside(NamedTuple):
    """What was set aside of a folder on a day (ISO 8601): its number, and whether it has been kept long enough."""

    number: str
    folder: Folder
    day: str
    is_due: bool


class WorkStep(Struct):
    """One thing somebody does.

    `site` is the address or host that it is for, `needs` are the ids of what comes first, `wait` is how long it takes.
    `seen` is whether it shows that it is done, None where nothing tells, and `looked` when that was looked at (ISO
    8601, UTC), empty where the plan tells it; `said` is what somebody said. `remedies` do it, or help, with the
    program; `set_aside` is the number of what was set aside by it, `carried` that of its record where the program
    carried it out, and `is_carried` whether it came to its end. `blocked_by` names the ids that are still to be
    done first, `step` is what is done, `until` is the day on which it is done at the latest as a rule, in ISO 8601
    form.
    """

    id: str
    kind: WorkKind
    account: str
    site: str
    who: str
    step: Step
    needs: list[str] = field(default_factory=list)
    wait: Wait | None = None
    seen: bool | None = None
    looked: str = ""
    said: DoneMark | None = None
    remedies: list[Remedy] = field(default_factory=list)
    set_aside: str = ""
    carried: str = ""
    is_carried: bool = False
    blocked_by: list[str] = field(default_factory=list)
    until: str = ""
    is_longest: bool = False

    @property
    def is_done(self) -> bool:
        """Whether it is: as it is seen, else as somebody said, or as the program did it where no look tells.

        What was said after a look counts until the next.
        """
        is_done_here = self.is_carried and self.seen is None
        return (
            self.seen is True or is_done_here or (self.said is not None and (self.seen is None or self.is_said_since))
        )

    @property
    def way_back(self) -> Remedy | None:
        """What takes it back with the program, where that did it."""
        does = {remedy.do for remedy in self.remedies}
        if self.carried:
            return Remedy.of(Action.TAKE_BACK, self.carried)
        if Action.CLEAR in does:
            return Remedy.of(Action.PUT_BACK, self.set_aside or "NUMBER")
        return Remedy(Action.UNDO) if does & {Action.CONFIRM, Action.FORGET} else None

    @property
    def is_said_since(self) -> bool:
        """Whether somebody said that it is done after it was looked at."""
        return self.said is not None and "" < self.looked < self.said.at

    @property
    def is_contradicted(self) -> bool:
        """Whether somebody said that it is done, and a look after that showed that it is not."""
        return self.seen is False and self.said is not None and not self.is_said_since

    @property
    def is_wait(self) -> bool:
        return self.who == NOBODY

    @property
    def state(self) -> str:
        """`done`, `ready` to be done now, `waiting` for time to pass, or `blocked` by what comes first."""
        if self.is_done:
            return "done"
        if self.blocked_by:
            return "blocked"
        return "waiting" if self.is_wait else "ready"


def password_id(account: str, address: Address, purpose: str) -> str:
    """What the step is called by which a password of an installation is made; `purpose` is what it is for."""
    more = "" if purpose == "database" else f" {purpose}"
    return step_id(WorkKind.PASSWORD, account, f"{printable(str(address))}{more}")


class WorkSpan(NamedTuple):
    """From when to when a list ends, in ISO 8601 form, and the ids of its longest chain."""

    earliest: str
    latest: str
    chain: Sequence[str]


class WorkList(Struct):
    """Steps in an order in which they can be done, and when the last is done as a rule."""

    steps: list[WorkStep]
    span: WorkSpan | None = None

    @property
    def done(self) -> int:
        return sum(step.is_done for step in self.steps)

    @property
    def ready(self) -> list[WorkStep]:
        return [step for step in self.steps if step.state == "ready"]

    @property
    def waiting(self) -> list[WorkStep]:
        return [step for step in self.steps if step.state == "waiting"]
