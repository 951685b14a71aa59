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
from kettlepost.core.rules.checking import Checked, Known, check, check_account, known_by_plan, settle, settled
from kettlepost.core.rules.finding import SEVERITIES, Finding, Party, Severity, Way, found_with
from kettlepost.core.rules.registry import PRIMARY, Rule, find_rule, rules
from kettlepost.core.rules.trying import found_across
from kettlepost.core.rules.whole import Summary, Whole, summarise

__all__ = [
    "PRIMARY",
    "SEVERITIES",
    "Checked",
    "Finding",
    "Known",
    "Party",
    "Rule",
    "Severity",
    "Summary",
    "Way",
    "Whole",
    "access",
    "addresses",
    "allowances",
    "check",
    "check_account",
    "contents",
    "databases",
    "exposure",
    "find_rule",
    "found_across",
    "found_with",
    "installations",
    "known_by_plan",
    "leftovers",
    "paths",
    "roots",
    "rules",
    "settle",
    "settled",
    "summarise",
]
