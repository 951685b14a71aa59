"""What comes into a plan, as facts: what is new, what disagrees, what is missing."""

from __future__ import annotations

from typing import NamedTuple

from msgspec import Struct, field

from kettlepost.core.exchange.accounts_of import Owner
from kettlepost.core.exchange.observed import ImportRemark, SeenHost, SourceSpot
from kettlepost.core.messages import Words
from kettlepost.core.plan import Change


class Differing(NamedTuple):
    """What plan and source say otherwise: both, and where each says it; `taken` where the source's is written."""

    account: str
    host: str
    key: str
    planned: str
    place: str
    seen: str
    spot: SourceSpot
    taken: bool


class NotSeen(NamedTuple):
    """A live domain of the plan that the source does not have; `dropped` where it is taken out."""

    account: str
    host: str
    place: str
    dropped: bool
    kept_for: Words = ""


class NewEntry(NamedTuple):
    """Something of a source that the plan did not know."""

    account: str
    host: Words
    what: Words
    leads_to: Words
    spot: SourceSpot


class AccountEntry(Struct):
    """What comes into one account's file."""

    owner: Owner
    server: str = ""
    changes: list[Change] = field(default_factory=list)


class PlanEntries(Struct):
    """What comes into a plan, and what is to be said of it."""

    accounts: list[AccountEntry] = field(default_factory=list)
    new: list[NewEntry] = field(default_factory=list)
    differing: list[Differing] = field(default_factory=list)
    missing: list[NotSeen] = field(default_factory=list)
    remarks: list[ImportRemark] = field(default_factory=list)
    guessed: str = ""
    hosts: int = 0
    records: int = 0
    assigned: dict[Owner, list[SeenHost]] = field(default_factory=dict)

    @property
    def differs(self) -> bool:
        """Whether plan and source are not the same."""
        return bool(self.new or self.differing or self.missing)

    def account(self, owner: Owner) -> AccountEntry:
        """What comes into the file of an account, to be added to."""
        there = next((one for one in self.accounts if one.owner.name == owner.name), None)
        if there is None:
            there = AccountEntry(owner)
            self.accounts.append(there)
        return there
