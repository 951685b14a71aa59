"""Plan and survey joined: the address tree, the folder tree, and the mounts between them."""

from kettlepost.core.layout.account import AccountLayout, AddressTree, ServerHosts
from kettlepost.core.layout.claims import Claim
from kettlepost.core.layout.contents import Contents
from kettlepost.core.layout.database_register import DatabaseRow, database_rows, retired_users
from kettlepost.core.layout.dependents import CERTIFICATES, GONE_ALONG, dependents_of
from kettlepost.core.layout.deployments import (
    Aspect,
    Deployment,
    Deviation,
    database_as_found,
    files_left,
    has_moved,
    has_relocated,
    lay_there_before,
)
from kettlepost.core.layout.folder_state import HTACCESS, FolderState, Occupant, Standing
from kettlepost.core.layout.folder_tree import held_folders, hidden_inside, shown_folders
from kettlepost.core.layout.holdings import Hold, HoldKind, OwnTables, holds_in, own_tables, root_holds
from kettlepost.core.layout.inventory import Inventory, InventoryRemark, InventoryRow, control_words, inventory
from kettlepost.core.layout.layout import Destination, PlanLayout, declared_hosts, join
from kettlepost.core.layout.mounts import (
    OWN_NAMES,
    Hosts,
    Mount,
    When,
    addon_host,
    bare_and_www,
    covering,
    mounts_of,
    stands_for,
)
from kettlepost.core.layout.neighbours import neighbours
from kettlepost.core.layout.tables import LOCAL_HOSTS, TableUse, TableUser, server_key

__all__ = [
    "CERTIFICATES",
    "GONE_ALONG",
    "HTACCESS",
    "LOCAL_HOSTS",
    "OWN_NAMES",
    "AccountLayout",
    "AddressTree",
    "Aspect",
    "Claim",
    "Contents",
    "DatabaseRow",
    "Deployment",
    "Destination",
    "Deviation",
    "FolderState",
    "Hold",
    "HoldKind",
    "Hosts",
    "Inventory",
    "InventoryRemark",
    "InventoryRow",
    "Mount",
    "Occupant",
    "OwnTables",
    "PlanLayout",
    "ServerHosts",
    "Standing",
    "TableUse",
    "TableUser",
    "When",
    "addon_host",
    "bare_and_www",
    "control_words",
    "covering",
    "database_as_found",
    "database_rows",
    "declared_hosts",
    "dependents_of",
    "files_left",
    "has_moved",
    "has_relocated",
    "held_folders",
    "hidden_inside",
    "holds_in",
    "inventory",
    "join",
    "lay_there_before",
    "mounts_of",
    "neighbours",
    "own_tables",
    "retired_users",
    "root_holds",
    "server_key",
    "shown_folders",
    "stands_for",
]
