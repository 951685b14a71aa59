"""What is known of an answer: one record of facts, from which words are made elsewhere."""

from __future__ import annotations

from enum import Enum, auto
from typing import Literal, NamedTuple

from kettlepost.core.layout import Destination, Occupant
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import PathRule
from kettlepost.core.remedies import Remedy
from kettlepost.core.webserver import SourceLine

AnswerKind = Literal[
    "application",
    "placeholder",
    "file",
    "listing",
    "empty folder",
    "nothing",
    "redirect",
    "password",
    "denied",
    "error",
    "unknown",
    "not ours",
]
Certainty = Literal["certain", "depends", "unknown"]


class Detail(Enum):
    """What stands behind an answer, more exactly than its kind says."""

    NOT_SURVEYED = auto()
    NOT_READ = auto()
    NO_SECURE_HOST = auto()
    BEHIND_LINK = auto()
    MAY_COME = auto()
    NAME_NOT_KEPT = auto()
    PASSED_ON = auto()
    NOT_THERE = auto()
    BELOW_A_FILE = auto()
    HANDED_TO_NOTHING = auto()
    GONE = auto()
    LEADS_NOWHERE = auto()
    NOT_YET = auto()
    NOT_ANY_MORE = auto()
    OTHER_FORM_OF_HOST = auto()
    NO_DOMAIN = auto()
    NO_INDEX = auto()
    EMPTY = auto()
    FOUND_BY = auto()
    THROUGH = auto()
    STARTED_FROM = auto()
    ANSWERS_BELOW = auto()
    PLACEHOLDER = auto()
    PAGE_BEFORE = auto()
    OWN_PAGE = auto()
    NOT_LOOKED_INTO = auto()
    PERHAPS_PLACEHOLDER = auto()
    FILE = auto()
    HANDED = auto()
    LED_ELSEWHERE = auto()
    FALLBACK = auto()
    SENT_ON = auto()
    SENT_BY_SERVER = auto()
    PASSWORD = auto()
    DENIED = auto()
    FAILED = auto()


class Shown(NamedTuple):
    """What is shown, or why nothing is.

    `place` is the folder or file it is about, `file` the very file that is shown, `name` a name that is part of it
    (a file's, an account's, another server's), `held` the application that is meant and `base` where that lies, `by`
    the line that handed the path on, `because` how a placeholder is known as one, `number` how many files there are.
    """

    kind: AnswerKind
    detail: Detail
    place: Folder = Folder("")
    file: Folder | None = None
    name: str = ""
    held: Occupant | None = None
    base: Folder = Folder("")
    by: SourceLine | None = None
    because: str = ""
    number: int = 0
    remedy: Remedy | None = None


class Doubt(NamedTuple):
    """On what an answer depends: in words, the line that asks for it, the key that would tell it, and the table of
    that key."""

    on: str
    line: SourceLine | None = None
    key: str = ""
    table: str = ""


class Hop(NamedTuple):
    """A step of a redirect that the hosts themselves make: the address that visitors are sent to, and what it is."""

    target: Address
    onward: Destination | None = None


class Answer(NamedTuple):
    """What a visitor gets for an address, and why.

    `status` is the server's (RFC 9110 section 15), None where it cannot be told. `goes` is the address that visitors
    are sent on to, `location` the same as the server writes it, which `goes_round` comes back to. `behind` is what a
    password keeps back, `lines` are the lines of control files that had a say, `rule` a rule of the server's own.
    `hops` are the hosts' own redirects and `end` is the answer where they end. Of `doubts` there are none where it is
    certain.
    """

    shown: Shown
    host: HostName
    reach: Destination | None = None
    status: int | None = None
    goes: Address | None = None
    location: str | None = None
    goes_round: bool = False
    behind: Shown | None = None
    lines: tuple[SourceLine, ...] = ()
    rule: PathRule | None = None
    hops: tuple[Hop, ...] = ()
    end: Answer | None = None
    doubts: tuple[Doubt, ...] = ()

    @property
    def remedy(self) -> Remedy | None:
        """What would tell more."""
        return self.shown.remedy

    @property
    def kind(self) -> AnswerKind:
        return self.shown.kind

    @property
    def file(self) -> Folder | None:
        """The very file that is shown, or that a password keeps back."""
        return self.behind.file if self.behind is not None else self.shown.file

    @property
    def certainty(self) -> Certainty:
        return "unknown" if self.kind == "unknown" else "depends" if self.doubts else "certain"
