"""One engine for "what if": a change applied to the part of an account that it touches, and the difference it makes."""

from kettlepost.core.trying.change import Addition
from kettlepost.core.trying.difference import FindingDifference, Renamed, difference_of, settled_across
from kettlepost.core.trying.scenario import Scenario, TrialOutcome
from kettlepost.core.trying.ways import with_tried_first, with_tried_first_across

__all__ = [
    "Addition",
    "FindingDifference",
    "Renamed",
    "Scenario",
    "TrialOutcome",
    "difference_of",
    "settled_across",
    "with_tried_first",
    "with_tried_first_across",
]
