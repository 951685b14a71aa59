"""What should be: the plan folder's records, reading and writing them, and where each was written."""

from kettlepost.core.plan.changing import Change, changed_text, table_of
from kettlepost.core.plan.reading import (
    Shared,
    account_paths,
    changed_account,
    empty_plan,
    read_account,
    read_bytes,
    read_catalogue,
    read_plan,
    read_shared,
    read_source,
)
from kettlepost.core.plan.records import (
    Accept,
    Account,
    Application,
    Certificate,
    ConfigMark,
    Database,
    Domain,
    Installation,
    Package,
    PathAlias,
    Plan,
    Record,
    Settings,
    VersionMark,
)
from kettlepost.core.plan.source import Place, SourceFile
from kettlepost.core.plan.starting import start_plan
from kettlepost.core.plan.writing import write_whole

__all__ = [
    "Accept",
    "Account",
    "Application",
    "Certificate",
    "Change",
    "ConfigMark",
    "Database",
    "Domain",
    "Installation",
    "Package",
    "PathAlias",
    "Place",
    "Plan",
    "Record",
    "Settings",
    "Shared",
    "SourceFile",
    "VersionMark",
    "account_paths",
    "changed_account",
    "changed_text",
    "empty_plan",
    "read_account",
    "read_bytes",
    "read_catalogue",
    "read_plan",
    "read_shared",
    "read_source",
    "start_plan",
    "table_of",
    "write_whole",
]
