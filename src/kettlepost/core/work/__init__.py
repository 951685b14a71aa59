"""The work from what is to what should be: steps, who does them, what they need first, and whether they are done."""

from kettlepost.core.work.ground import Ground
from kettlepost.core.work.ordering import steps_of, work_list
from kettlepost.core.work.records import (
    CLIENT,
    HOST,
    NOBODY,
    PEOPLE,
    REGISTRAR,
    YOU,
    Said,
    WorkKind,
    WorkList,
    WorkSpan,
    WorkStep,
    step_id,
)

__all__ = [
    "CLIENT",
    "HOST",
    "NOBODY",
    "PEOPLE",
    "REGISTRAR",
    "YOU",
    "Ground",
    "Said",
    "WorkKind",
    "WorkList",
    "WorkSpan",
    "WorkStep",
    "step_id",
    "steps_of",
    "work_list",
]
