"""What is wrong: one module a family, one plain function a rule."""

from kettlepost.core.rules import (
    access,
    addresses,
    allowances,
    care,
    contents,
    control_files,
    databases,
    exposure,
    installations,
    leftovers,
    needs,
    outside,
    paths,
    roots,
    seen_databases,
    transitions,
)
from kettlepost.core.rules.acceptances import exactly
from kettlepost.core.rules.cross_account import AccountSummary, AllAccounts, summarise
from kettlepost.core.rules.evaluation import (
    AccountFindings,
    Checked,
    check,
    check_account,
    known_by_plan,
    settle,
    settled,
)
from kettlepost.core.rules.findings import SEVERITIES, Finding, Party, Severity, WayOut, found_with
from kettlepost.core.rules.gathering import gathered
from kettlepost.core.rules.registry import PRIMARY, Rule, RuleReach, asked_reaches, find_rule, rules
from kettlepost.core.rules.verification import found_across

__all__ = [
    "PRIMARY",
    "SEVERITIES",
    "AccountFindings",
    "AccountSummary",
    "AllAccounts",
    "Checked",
    "Finding",
    "Party",
    "Rule",
    "RuleReach",
    "Severity",
    "WayOut",
    "access",
    "addresses",
    "allowances",
    "asked_reaches",
    "care",
    "check",
    "check_account",
    "contents",
    "control_files",
    "databases",
    "exactly",
    "exposure",
    "find_rule",
    "found_across",
    "found_with",
    "gathered",
    "installations",
    "known_by_plan",
    "leftovers",
    "needs",
    "outside",
    "paths",
    "roots",
    "rules",
    "seen_databases",
    "settle",
    "settled",
    "summarise",
    "transitions",
]
