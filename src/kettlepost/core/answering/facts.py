"""What is known of an answer: one record of facts, from which words are made elsewhere."""

from __future__ import annotations

from enum import Enum
from typing import Literal, NamedTuple, Self

from kettlepost.core.layout import Destination, Occupant
from kettlepost.core.messages import Words
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
    """What stands behind an answer, more exactly than its kind says; its value is the slug of its sentence.

    `facts` are the names of what that speaks of.
    """

    facts: tuple[str, ...]

    def __new__(cls, slug: str, facts: str = "") -> Self:
        made = object.__new__(cls)
        made._value_ = slug
        made.facts = tuple(facts.split())
        return made

    NOT_SURVEYED = "answer/not-surveyed", "name"
    NOT_READ = "answer/not-read", "place name under"
    NO_SECURE_HOST = "answer/no-secure-host", "host"
    BEHIND_LINK = "answer/behind-link", "place leads"
    MAY_COME = "answer/may-come", "name"
    NAME_NOT_KEPT = "answer/name-not-kept", "number place under"
    PASSED_ON = "answer/passed-on", "name"
    NOT_THERE = "answer/not-there", "place page_or_under"
    BELOW_A_FILE = "answer/below-a-file", "place page"
    HANDED_TO_NOTHING = "answer/handed-to-nothing", "by"
    GONE = "answer/gone", "place page"
    LEADS_NOWHERE = "answer/leads-nowhere", "name"
    NOT_YET = "answer/not-yet", "host name"
    NOT_ANY_MORE = "answer/not-any-more", "host name"
    OTHER_FORM_OF_HOST = "answer/other-form-of-host", "name host"
    NO_DOMAIN = "answer/no-domain", "host"
    NO_INDEX = "answer/no-index", "instead"
    EMPTY = "answer/empty"
    FOUND_BY = "answer/found-by", "who found_by"
    THROUGH = "answer/through", "who name"
    STARTED_FROM = "answer/started-from", "name"
    ANSWERS_BELOW = "answer/answers-below", "who"
    PLACEHOLDER = "answer/placeholder", "name behind"
    PAGE_BEFORE = "answer/page-before", "name behind"
    OWN_PAGE = "answer/own-page", "name"
    NOT_LOOKED_INTO = "answer/not-looked-into", "name"
    PERHAPS_PLACEHOLDER = "answer/perhaps-placeholder", "name"
    FILE = "answer/file", "name"
    HANDED = "answer/handed", "name sent"
    LED_ELSEWHERE = "answer/led-elsewhere", "name place"
    FALLBACK = "answer/fallback", "name"
    SENT_ON = "answer/sent-on", "name"
    SENT_BY_SERVER = "answer/sent-by-server", "name number"
    PASSWORD = "answer/password", "page"
    DENIED = "answer/denied", "number page"
    FAILED = "answer/failed", "number page"


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
    name: Words = ""
    held: Occupant | None = None
    base: Folder = Folder("")
    by: SourceLine | None = None
    because: str = ""
    number: int = 0
    remedy: Remedy | None = None


class Doubt(NamedTuple):
    """On what an answer depends, the line that asks for it, the key that would tell it, and the table of
    that key."""

    on: Words
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
