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
from kettlepost.core.rules.checking import Checked, check
from kettlepost.core.rules.finding import SEVERITIES, Finding, Party, Severity, Way, found_with
from kettlepost.core.rules.registry import PRIMARY, Rule, find_rule, rules
from kettlepost.core.rules.remembering import check_folder

__all__ = [
    "PRIMARY",
    "SEVERITIES",
    "Checked",
    "Finding",
    "Party",
    "Rule",
    "Severity",
    "Way",
    "access",
    "addresses",
    "allowances",
    "check",
    "check_folder",
    "contents",
    "databases",
    "exposure",
    "find_rule",
    "found_with",
    "installations",
    "leftovers",
    "paths",
    "roots",
    "rules",
]
