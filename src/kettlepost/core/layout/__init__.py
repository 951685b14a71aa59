"""Plan and survey joined: the address tree, the folder tree, and the mounts between them."""

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.layout.answering import Answer, answer
from kettlepost.core.layout.claims import Claim
from kettlepost.core.layout.contents import Contents
from kettlepost.core.layout.inventory import Inventory, InventoryRow, Remark, inventory
from kettlepost.core.layout.joining import Layout, Reach, join
from kettlepost.core.layout.mounts import Mount
from kettlepost.core.layout.viewing import AddressRow, FolderRow, WhereView, by_address, by_folder, where

__all__ = [
    "AccountLayout",
    "AddressRow",
    "Answer",
    "Claim",
    "Contents",
    "FolderRow",
    "Inventory",
    "InventoryRow",
    "Layout",
    "Mount",
    "Reach",
    "Remark",
    "WhereView",
    "answer",
    "by_address",
    "by_folder",
    "inventory",
    "join",
    "where",
]
