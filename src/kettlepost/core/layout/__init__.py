"""Plan and survey joined: the address tree, the folder tree, and the mounts between them."""

from kettlepost.core.layout.account import AccountLayout, AddressTree
from kettlepost.core.layout.answers import Answer, Answers, Served, answer, served_at
from kettlepost.core.layout.claims import Claim
from kettlepost.core.layout.contents import Contents
from kettlepost.core.layout.folder_state import FolderState, effects_on, index_order
from kettlepost.core.layout.inventory import Inventory, InventoryRow, Remark, control_words, inventory
from kettlepost.core.layout.layout import PlanLayout, Reach, declared_hosts, join
from kettlepost.core.layout.mounts import Hosts, Mount, When, addon_host, bare_and_www, mounts_of, stands_for
from kettlepost.core.layout.registers import DomainRow, InstallRow, domain_rows, install_rows
from kettlepost.core.layout.tables import LOCAL_HOSTS, TableUse, TableUser, server_key
from kettlepost.core.layout.views import (
    AddressRow,
    FolderRow,
    FolderView,
    WhereView,
    by_address,
    by_folder,
    where,
    where_folder,
)

__all__ = [
    "LOCAL_HOSTS",
    "AccountLayout",
    "AddressRow",
    "AddressTree",
    "Answer",
    "Answers",
    "Claim",
    "Contents",
    "DomainRow",
    "FolderRow",
    "FolderState",
    "FolderView",
    "Hosts",
    "InstallRow",
    "Inventory",
    "InventoryRow",
    "Mount",
    "PlanLayout",
    "Reach",
    "Remark",
    "Served",
    "TableUse",
    "TableUser",
    "When",
    "WhereView",
    "addon_host",
    "answer",
    "bare_and_www",
    "by_address",
    "by_folder",
    "control_words",
    "declared_hosts",
    "domain_rows",
    "effects_on",
    "index_order",
    "install_rows",
    "inventory",
    "join",
    "mounts_of",
    "served_at",
    "server_key",
    "stands_for",
    "where",
    "where_folder",
]
