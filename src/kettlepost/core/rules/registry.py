"""The list of rules. A rule is a generator of findings under one of two decorators.

Its docstring is its page: the first line says what is wrong, the rest what follows, the
smallest bad and good example, and the ways out.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Literal

from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout, Layout
from kettlepost.core.names import did_you_mean, quoted
from kettlepost.core.rules.finding import SEVERITIES, Finding, Severity

AccountFinder = Callable[[Layout, AccountLayout], Iterator[Finding]]
PlanFinder = Callable[[Layout], Iterator[Finding]]


@dataclass(frozen=True)
class Rule:
    """A way in which things go wrong: its slug, how bad it is, and the function that finds it."""

    slug: str
    severity: Severity
    scope: Literal["account", "plan"]
    find: Callable[..., Iterator[Finding]]

    @property
    def text(self) -> str:
        return inspect.getdoc(self.find) or ""

    @property
    def summary(self) -> str:
        return self.text.partition("\n")[0].rstrip(".")

    def findings(self, layout: Layout, account: AccountLayout | None = None) -> Iterator[Finding]:
        for found in self.find(layout) if account is None else self.find(layout, account):
            found.rule, found.severity = self.slug, self.severity
            yield found


_RULES: dict[str, Rule] = {}


def account_rule(severity: Severity) -> Callable[[AccountFinder], AccountFinder]:
    """Register a rule that looks at one account at a time."""
    return _registering(severity, "account")


def plan_rule(severity: Severity) -> Callable[[PlanFinder], PlanFinder]:
    """Register a rule that looks at the whole plan at once."""
    return _registering(severity, "plan")


def rules() -> list[Rule]:
    """Every rule, worst first, then by slug."""
    return sorted(_RULES.values(), key=lambda rule: (SEVERITIES.index(rule.severity), rule.slug))


def find_rule(slug: str) -> Rule:
    """The rule called `slug`. Raises InputError that names the nearest."""
    if slug not in _RULES:
        raise InputError(f"{quoted(slug)} is no rule{did_you_mean(slug, _RULES)} ('kettlepost explain' lists them)")
    return _RULES[slug]


def _registering(severity: Severity, scope: Literal["account", "plan"]) -> Callable[[Any], Any]:
    def register(find: Any) -> Any:
        slug = find.__name__.replace("_", "-")
        _RULES[slug] = Rule(slug, severity, scope, find)
        return find

    return register
