"""The work from what is to what should be: steps, who does them, what they need first, and whether they are done."""

from kettlepost.core.work.context import WorkContext
from kettlepost.core.work.hosts import change_of_root, has_changed_root
from kettlepost.core.work.ordering import steps_of, work_list
from kettlepost.core.work.records import (
    CLIENT,
    HOST,
    NOBODY,
    PEOPLE,
    REGISTRAR,
    YOU,
    DoneMark,
    StoredSetAside,
    WorkKind,
    WorkList,
    WorkSpan,
    WorkStep,
    password_id,
)

__all__ = [
    "CLIENT",
    "HOST",
    "NOBODY",
    "PEOPLE",
    "REGISTRAR",
    "YOU",
    "DoneMark",
    "StoredSetAside",
    "WorkContext",
    "WorkKind",
    "WorkList",
    "WorkSpan",
    "WorkStep",
    "change_of_root",
    "has_changed_root",
    "password_id",
    "steps_of",
    "work_list",
]
