"""The list of rules. A rule is a generator of findings under a decorator.

Its docstring is its page: the first line says what is wrong, the rest what follows, the
smallest bad and good example, and the ways out. Examples leave out `PRIMARY`, the domain that
every account has, where they say nothing else of it.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cache
from typing import Any

from msgspec.structs import replace

from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import did_you_mean, quoted
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.rules.cross_account import AllAccounts
from kettlepost.core.rules.findings import SEVERITIES, Finding, Severity

PRIMARY = """\
[[domain]]
name = "millbrookrail.example"
kind = "primary"
root = "www"
"""

AccountFinder = Callable[[AccountLayout], Iterator[Finding]]
PlanFinder = Callable[[AllAccounts], Iterator[Finding]]


@dataclass
class Rule:
    """A way in which things go wrong: its slug, how bad it may be, and the functions that find it.

    `in_account` looks at one account alone, `across` at what all accounts tell of themselves.
    `counts` is true for a rule that counts all records of an account, wherever they are.
    """

    slug: str
    severities: tuple[Severity, ...]
    text: str
    in_account: AccountFinder | None = None
    across: PlanFinder | None = None
    counts: bool = False

    @property
    def severity(self) -> Severity:
        """How bad it is where a finding does not say."""
        return self.severities[0]

    @property
    def summary(self) -> str:
        return self.text.partition("\n")[0].rstrip(".")

    @property
    def leaves_out(self) -> bool:
        """Whether an example leaves out the domain that every account has."""
        return self.text.count('kind = "primary"') < 2

    def found_in(self, layout: AccountLayout) -> Iterator[Finding]:
        return self._marked(self.in_account(layout), layout.name) if self.in_account is not None else iter(())

    def found_across(self, whole: AllAccounts) -> Iterator[Finding]:
        return self._marked(self.across(whole)) if self.across is not None else iter(())

    def _marked(self, findings: Iterator[Finding], account: str = "") -> Iterator[Finding]:
        for found in findings:
            severity = found.severity or self.severity
            if severity not in self.severities:
                raise ValueError(f"rule {self.slug} declares {', '.join(self.severities)}, and found a {severity}")
            yield replace(found, rule=self.slug, severity=severity, account=found.account or account)


_RULES: dict[str, Rule] = {}


def account_rule(*severities: Severity, counts: bool = False) -> Callable[[AccountFinder], AccountFinder]:
    """Register a rule that looks at one account at a time.

    The first of its severities is that of findings which do not say; the others are those a finding may have.
    """

    def register(find: AccountFinder) -> AccountFinder:
        rule = _rule(find, severities)
        rule.in_account, rule.counts = find, counts
        return find

    return register


def plan_rule(*severities: Severity) -> Callable[[PlanFinder], PlanFinder]:
    """Register a rule that looks across accounts; its severities are as for `account_rule`."""

    def register(find: PlanFinder) -> PlanFinder:
        _rule(find, severities).across = find
        return find

    return register


def across(slug: str) -> Callable[[PlanFinder], PlanFinder]:
    """Register the part of an account's rule that looks across accounts."""

    def register(find: PlanFinder) -> PlanFinder:
        _RULES[slug].across = find
        return find

    return register


def page_only(*severities: Severity) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Register a rule that is asked once all others have answered."""

    def register(find: Callable[..., Any]) -> Callable[..., Any]:
        _rule(find, severities)
        return find

    return register


@cache  # every module of rules is imported before anybody asks
def rules() -> list[Rule]:
    """Every rule, worst first, then by slug."""
    return sorted(_RULES.values(), key=lambda rule: (SEVERITIES.index(rule.severity), rule.slug))


def find_rule(slug: str) -> Rule:
    """The rule called `slug`. Raises InputError that names the nearest."""
    if slug not in _RULES:
        raise InputError(f"{quoted(slug)} is no rule{did_you_mean(slug, _RULES)}", Remedy(Do.LIST_RULES))
    return _RULES[slug]


def _rule(find: Callable[..., Any], severities: tuple[Severity, ...]) -> Rule:
    slug = find.__name__.replace("_", "-")
    rule = _RULES[slug] = Rule(slug, severities, inspect.getdoc(find) or "")
    return rule
