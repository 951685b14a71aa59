"""What is wrong: one module a family, one plain function a rule."""

from kettlepost.core.rules import (
    access,
    addresses,
    allowances,
    contents,
    databases,
    exposure,
    installations,
    leftovers,
    paths,
    roots,
)
from kettlepost.core.rules.checking import Account as Known
from kettlepost.core.rules.checking import Checked, check, check_account, settled
from kettlepost.core.rules.finding import SEVERITIES, Finding, Party, Severity, Way, found_with
from kettlepost.core.rules.registry import PRIMARY, Rule, find_rule, rules
from kettlepost.core.rules.remembering import KnownPlan, check_folder, known_plan
from kettlepost.core.rules.trying import found_across
from kettlepost.core.rules.whole import Whole, summarise

__all__ = [
    "PRIMARY",
    "SEVERITIES",
    "Checked",
    "Finding",
    "Known",
    "KnownPlan",
    "Party",
    "Rule",
    "Severity",
    "Way",
    "Whole",
    "access",
    "addresses",
    "allowances",
    "check",
    "check_account",
    "check_folder",
    "contents",
    "databases",
    "exposure",
    "find_rule",
    "found_across",
    "found_with",
    "installations",
    "known_plan",
    "leftovers",
    "paths",
    "roots",
    "rules",
    "settled",
    "summarise",
]
