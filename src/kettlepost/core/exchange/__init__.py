"""Other programs' files: read into a plan, and written from one. Each kind is a module of its own."""

from kettlepost.core.exchange.entering import AccountEntry, Differing, Entry, NewEntry, NotSeen, entered
from kettlepost.core.exchange.kinds import KINDS, kind_of, main_file
from kettlepost.core.exchange.observed import LARGEST, Opener, Reading, Remark, SeenHost, SeenPath, Spot

__all__ = [
    "KINDS",
    "LARGEST",
    "AccountEntry",
    "Differing",
    "Entry",
    "NewEntry",
    "NotSeen",
    "Opener",
    "Reading",
    "Remark",
    "SeenHost",
    "SeenPath",
    "Spot",
    "entered",
    "kind_of",
    "main_file",
]
