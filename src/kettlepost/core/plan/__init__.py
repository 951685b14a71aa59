"""What should be: the plan folder's records, reading and writing them, and where each was written."""

from kettlepost.core.plan.reading import empty_plan, read_catalogue, read_plan
from kettlepost.core.plan.records import (
    Accept,
    Account,
    Application,
    ConfigMark,
    Database,
    Domain,
    Installation,
    Package,
    Plan,
    Settings,
    VersionMark,
)
from kettlepost.core.plan.source import Place
from kettlepost.core.plan.starting import start_plan
from kettlepost.core.plan.writing import write_whole

__all__ = [
    "Accept",
    "Account",
    "Application",
    "ConfigMark",
    "Database",
    "Domain",
    "Installation",
    "Package",
    "Place",
    "Plan",
    "Settings",
    "VersionMark",
    "empty_plan",
    "read_catalogue",
    "read_plan",
    "start_plan",
    "write_whole",
]
