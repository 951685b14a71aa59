"""Where a new installation could go, and what each choice would bring."""

from kettlepost.core.placing.batch import LARGEST, Granted, WishLine, grant, read_wishes
from kettlepost.core.placing.bringing import AccountMove, account_move, move_to_account, with_the_other_end
from kettlepost.core.placing.candidates import Placement, Wish, known_application, placement_at, with_values
from kettlepost.core.placing.lifecycle import confirm, forget
from kettlepost.core.placing.ownership import account_for, new_domain
from kettlepost.core.placing.proposals import (
    Proposal,
    add_domain,
    adopt,
    as_named,
    changed_meanings,
    drop_domain,
    find_domain,
    find_installation,
    granted,
    move_root,
    placed,
    retire,
    set_www,
    without_www,
)
from kettlepost.core.placing.rehearsing import rehearse
from kettlepost.core.placing.relocating import keep_address, move, move_ways
from kettlepost.core.placing.replacing import NO_DATA
from kettlepost.core.placing.ways import MoveBy, MoveWay, MoveWays, Promise
from kettlepost.core.placing.weighing import CRITERIA, AccountRoom, Weighed, Weighing, weigh, weigh_one

__all__ = [
    "CRITERIA",
    "LARGEST",
    "NO_DATA",
    "AccountMove",
    "AccountRoom",
    "Granted",
    "MoveBy",
    "MoveWay",
    "MoveWays",
    "Placement",
    "Promise",
    "Proposal",
    "Weighed",
    "Weighing",
    "Wish",
    "WishLine",
    "account_for",
    "account_move",
    "add_domain",
    "adopt",
    "as_named",
    "changed_meanings",
    "confirm",
    "drop_domain",
    "find_domain",
    "find_installation",
    "forget",
    "grant",
    "granted",
    "keep_address",
    "known_application",
    "move",
    "move_root",
    "move_to_account",
    "move_ways",
    "new_domain",
    "placed",
    "placement_at",
    "read_wishes",
    "rehearse",
    "retire",
    "set_www",
    "weigh",
    "weigh_one",
    "with_the_other_end",
    "with_values",
    "without_www",
]
