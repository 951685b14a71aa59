"""Other programs' files: read into a plan, and written from one. Each kind is a module of its own."""

from kettlepost.core.exchange.accounts_of import assigned
from kettlepost.core.exchange.entering import entered
from kettlepost.core.exchange.entries import AccountEntry, Differing, Entry, NewEntry, NotSeen
from kettlepost.core.exchange.headings import ROLES
from kettlepost.core.exchange.kinds import KINDS, WRITERS, kind_of, main_file
from kettlepost.core.exchange.observed import LARGEST, Intake, Opener, Part, Reading, Remark, SeenHost, SeenPath, Spot
from kettlepost.core.exchange.seen_outside import outside_of

__all__ = [
    "KINDS",
    "LARGEST",
    "ROLES",
    "WRITERS",
    "AccountEntry",
    "Differing",
    "Entry",
    "Intake",
    "NewEntry",
    "NotSeen",
    "Opener",
    "Part",
    "Reading",
    "Remark",
    "SeenHost",
    "SeenPath",
    "Spot",
    "assigned",
    "entered",
    "kind_of",
    "main_file",
    "outside_of",
]
