"""Other programs' files: read into a plan, and written from one. Each kind is a module of its own."""

from kettlepost.core.exchange.accounts_of import assigned
from kettlepost.core.exchange.apply_import import entered
from kettlepost.core.exchange.column_names import ROLES
from kettlepost.core.exchange.entries import AccountEntry, Differing, NewEntry, NotSeen, PlanEntries
from kettlepost.core.exchange.kinds import KINDS, WRITERS, kind_of, main_file
from kettlepost.core.exchange.observed import (
    KEPT,
    LARGEST,
    ImportLimits,
    ImportRemark,
    Opener,
    OutputFile,
    Reading,
    SeenHost,
    SeenPath,
    SourceSpot,
)
from kettlepost.core.exchange.seen_outside import outside_of

__all__ = [
    "KEPT",
    "KINDS",
    "LARGEST",
    "ROLES",
    "WRITERS",
    "AccountEntry",
    "Differing",
    "ImportLimits",
    "ImportRemark",
    "NewEntry",
    "NotSeen",
    "Opener",
    "OutputFile",
    "PlanEntries",
    "Reading",
    "SeenHost",
    "SeenPath",
    "SourceSpot",
    "assigned",
    "entered",
    "kind_of",
    "main_file",
    "outside_of",
]
