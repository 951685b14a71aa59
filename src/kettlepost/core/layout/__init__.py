"""Plan and survey joined: the address tree, the folder tree, and the mounts between them."""

from kettlepost.core.layout.account import AccountLayout, AddressTree
from kettlepost.core.layout.answers import Answer, Answers, Brief, answer
from kettlepost.core.layout.claims import Claim
from kettlepost.core.layout.contents import Contents
from kettlepost.core.layout.database_register import DatabaseRow, database_rows, retired_users
from kettlepost.core.layout.dependents import hanging_on
from kettlepost.core.layout.deployments import Aspect, Deployment, Deviation, database_as_found, has_moved
from kettlepost.core.layout.folder_state import FolderState
from kettlepost.core.layout.holdings import Hold, HoldKind, OwnTables, holds_in, own_tables, root_holds
from kettlepost.core.layout.inventory import Inventory, InventoryRow, Remark, control_words, inventory
from kettlepost.core.layout.layout import PlanLayout, Reach, declared_hosts, join
from kettlepost.core.layout.mounts import OWN_NAMES, Hosts, Mount, When, addon_host, bare_and_www, mounts_of, stands_for
from kettlepost.core.layout.neighbours import neighbours
from kettlepost.core.layout.probing import Probe, controlled
from kettlepost.core.layout.registers import AccountRow, DomainRow, InstallRow, account_row, domain_rows, install_rows
from kettlepost.core.layout.served import Certainty, Served, served_at
from kettlepost.core.layout.serving import Request
from kettlepost.core.layout.survey_after import survey_after
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
    "OWN_NAMES",
    "AccountLayout",
    "AccountRow",
    "AddressRow",
    "AddressTree",
    "Answer",
    "Answers",
    "Aspect",
    "Brief",
    "Certainty",
    "Claim",
    "Contents",
    "DatabaseRow",
    "Deployment",
    "Deviation",
    "DomainRow",
    "FolderRow",
    "FolderState",
    "FolderView",
    "Hold",
    "HoldKind",
    "Hosts",
    "InstallRow",
    "Inventory",
    "InventoryRow",
    "Mount",
    "OwnTables",
    "PlanLayout",
    "Probe",
    "Reach",
    "Remark",
    "Request",
    "Served",
    "TableUse",
    "TableUser",
    "When",
    "WhereView",
    "account_row",
    "addon_host",
    "answer",
    "bare_and_www",
    "by_address",
    "by_folder",
    "control_words",
    "controlled",
    "database_as_found",
    "database_rows",
    "declared_hosts",
    "domain_rows",
    "hanging_on",
    "has_moved",
    "holds_in",
    "install_rows",
    "inventory",
    "join",
    "mounts_of",
    "neighbours",
    "own_tables",
    "retired_users",
    "root_holds",
    "served_at",
    "server_key",
    "stands_for",
    "survey_after",
    "where",
    "where_folder",
]
