"""Where a new installation could go, and what each choice would bring."""

from kettlepost.core.placing.comparing import Compared, compared
from kettlepost.core.placing.ground import Difference, Ground, Trial
from kettlepost.core.placing.keeping import (
    Proposal,
    add_domain,
    adopt,
    changed_meanings,
    drop_domain,
    find_domain,
    find_installation,
    move_root,
    placed,
    retire,
)
from kettlepost.core.placing.owning import account_for, new_domain
from kettlepost.core.placing.places import Place, Wish, known_application, refurnished, spelled_out
from kettlepost.core.placing.touching import Addition
from kettlepost.core.placing.weighing import CRITERIA, Weighed, Weighing, weigh, weigh_one
from kettlepost.core.placing.wishing import LARGEST, Granted, WishLine, grant, read_wishes

__all__ = [
    "CRITERIA",
    "LARGEST",
    "Addition",
    "Compared",
    "Difference",
    "Granted",
    "Ground",
    "Place",
    "Proposal",
    "Trial",
    "Weighed",
    "Weighing",
    "Wish",
    "WishLine",
    "account_for",
    "add_domain",
    "adopt",
    "changed_meanings",
    "compared",
    "drop_domain",
    "find_domain",
    "find_installation",
    "grant",
    "known_application",
    "move_root",
    "new_domain",
    "placed",
    "read_wishes",
    "refurnished",
    "retire",
    "spelled_out",
    "weigh",
    "weigh_one",
]
