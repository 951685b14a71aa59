"""The steps of whoever keeps the plan: what is written into it, decided, read in."""

from __future__ import annotations

from enum import StrEnum
from typing import Any, ClassVar

from msgspec import field

from kettlepost.core.messages import Words
from kettlepost.core.names import Folder, HostName
from kettlepost.core.steps.base import BaseStep, DoneWhen, Who


class EditPlan(BaseStep, frozen=True, tag="edit-plan"):
    """Set keys of a table of the account's file, None for a key to take out; a new table without `number`.

    `drop` takes the table out whole.
    """

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.WRITTEN
    table: str
    number: int | None = None
    values: dict[str, Any] = field(default_factory=dict)
    drop: bool = False


class CompleteEntry(BaseStep, frozen=True, tag="complete-entry"):
    """Write keys of a table whose values only a person knows; `number` is the table's place among its kind."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.WRITTEN
    table: str
    number: int | None
    keys: tuple[str, ...]


class Accept(BaseStep, frozen=True, tag="accept"):
    """Write down that what a rule finds at a place is lived with."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.WRITTEN
    rule: str
    at: str


class Question(StrEnum):
    """What a person has to decide: its slug."""

    WHOSE = "whose"
    WHICH_IS_THERE = "which-is-there"
    WHICH_IS_WANTED = "which-is-wanted"
    IS_NEEDED = "is-it-needed"
    WHAT_LETS_IN = "what-lets-in"
    WHICH_NAME = "which-name-answers"
    WHERE_ELSE = "where-else"
    WHAT_GOES = "what-goes"
    WHAT_IS_RIGHT = "what-is-right"


class Decide(BaseStep, frozen=True, tag="decide"):
    """Look at some things, by their names, and decide about them."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.LOOKED_AT
    question: Question
    about: tuple[Words, ...]


class ReadIn(BaseStep, frozen=True, tag="read-in"):
    """Read in what a server has, from `source`."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    source: str


class ProbeAgain(BaseStep, frozen=True, tag="probe-again"):
    """Ask the world again what a host shows, once the rest is done."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    host: HostName


class ProtectName(BaseStep, frozen=True, tag="protect-name"):
    """Let the host ask for a password at a name."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    host: HostName


class ProtectFolder(BaseStep, frozen=True, tag="protect-folder"):
    """Ask for a password in a control file of a folder itself; for some of its `files` alone where they are named."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder
    files: tuple[str, ...] = ()


class MakePasswordFile(BaseStep, frozen=True, tag="make-password-file"):
    """Make the file at a `path` of the host's machine that has the users of a password prompt, each with a password."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    path: str


class SetIndexOrder(BaseStep, frozen=True, tag="set-index-order"):
    """Let the server show the index file `first` before `then`, everywhere."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    first: str
    then: str


class ChangeRights(BaseStep, frozen=True, tag="change-rights"):
    """Give a database user rights in a database, or take some back."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    user: str
    database: str
    gives: tuple[str, ...] = ()
    takes: tuple[str, ...] = ()
