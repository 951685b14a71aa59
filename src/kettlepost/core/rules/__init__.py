"""What is wrong: one module a family, one plain function a rule."""

from kettlepost.core.rules import addresses, contents, installations, roots
from kettlepost.core.rules.checking import Checked, check
from kettlepost.core.rules.finding import SEVERITIES, Finding, Party, Severity
from kettlepost.core.rules.registry import Rule, find_rule, rules

__all__ = [
    "SEVERITIES",
    "Checked",
    "Finding",
    "Party",
    "Rule",
    "Severity",
    "addresses",
    "check",
    "contents",
    "find_rule",
    "installations",
    "roots",
    "rules",
]
