"""Two states of a plan held against each other: which addresses answer otherwise, and how."""

from kettlepost.core.comparing.addresses import known_addresses
from kettlepost.core.comparing.differences import (
    AddressDifference,
    AnswersCompared,
    AnswerState,
    Because,
    Becomes,
    DifferenceGroup,
    compare_answers,
    grouped,
)

__all__ = [
    "AddressDifference",
    "AnswerState",
    "AnswersCompared",
    "Because",
    "Becomes",
    "DifferenceGroup",
    "compare_answers",
    "grouped",
    "known_addresses",
]
