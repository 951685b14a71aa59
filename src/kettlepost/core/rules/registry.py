"""The list of rules. A rule is a generator of findings under a decorator.

Its docstring is its page: the first line says what is wrong, the rest what follows, the
smallest bad and good example, and the ways out. Examples leave out `PRIMARY`, the domain that
every account has, where they say nothing else of it.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, field
from enum import Flag, auto
from functools import cache
from typing import Any

from msgspec.structs import replace

from kettlepost.core.errors import InputError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import did_you_mean, quoted
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.consequences import Causes, Follows
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


class RuleReach(Flag):
    """Which other records of an account a rule holds a record against.

    Any rule knows of a record what answers at its hosts, above and below them, what holds its very
    folder, and what lies there and above. What it looks at beyond that it has to declare: by it is
    found what has to be asked again when something is added. A rule that declares less than it
    looks at tells of a part of an account other than of the whole; a test holds each against that.
    """

    NONE = 0
    HOST = auto()
    """Installations at the same place, however that is spelled, at its domain, and at the hosts that it names."""
    FOLDER = auto()
    """Those that hold a folder around its own or inside, or one of nearly its name, and all that lies there."""
    SIBLINGS = auto()
    """All in folders around its own that hold an installation, or that a survey did not find."""
    DATABASE = auto()
    """Those that use its database."""
    ACCOUNT = auto()
    """All, as they are counted."""


@dataclass
class Rule:
    """A way in which things go wrong: its slugs, how bad it may be, and the functions that find it.

    `in_account` looks at one account alone, `across` at what all accounts tell of themselves, each
    as far as `reach` and `reach_across` say. `former` are slugs it had before, which people may have
    written down. `follows` names the rules of whose findings one of its own may be a consequence.
    """

    slug: str
    severities: tuple[Severity, ...]
    text: str
    former: tuple[str, ...] = ()
    follows: Mapping[str, Follows] = field(default_factory=dict)
    in_account: AccountFinder | None = None
    reach: RuleReach = RuleReach.NONE
    across: PlanFinder | None = None
    reach_across: RuleReach = RuleReach.NONE

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

    def found_in(self, layout: AccountLayout, with_ways: bool = True) -> list[Finding]:
        """What it finds in an account; ways that are worked out late only `with_ways`."""
        if self.in_account is None:
            return []
        return [self.marked(found, layout.name, with_ways) for found in self.in_account(layout)]

    def found_across(self, whole: AllAccounts) -> list[Finding]:
        return [self.marked(found) for found in self.across(whole)] if self.across is not None else []

    def marked(self, found: Finding, account: str = "", with_ways: bool = True) -> Finding:
        severity = found.severity or self.severity
        if severity not in self.severities:
            raise ValueError(f"rule {self.slug} declares {', '.join(self.severities)}, and found a {severity}")
        ways = tuple(found.ways_out) if with_ways else ()
        return replace(found, rule=self.slug, severity=severity, account=found.account or account, ways_out=ways)


_RULES: dict[str, Rule] = {}


def account_rule(
    slug: str,
    *severities: Severity,
    reaches: RuleReach,
    follows: Mapping[str, Follows] | None = None,
    former: tuple[str, ...] = (),
) -> Callable[[AccountFinder], AccountFinder]:
    """Register a rule that looks at one account at a time.

    The first of its severities is that of findings which do not say; the others are those a
    finding may have. The rest is as `Rule` tells it.
    """

    def register(find: AccountFinder) -> AccountFinder:
        rule = _register(find, slug, severities, follows, former)
        rule.in_account, rule.reach = find, reaches
        return find

    return register


def plan_rule(
    slug: str,
    *severities: Severity,
    reaches: RuleReach,
    follows: Mapping[str, Follows] | None = None,
    former: tuple[str, ...] = (),
) -> Callable[[PlanFinder], PlanFinder]:
    """Register a rule that looks across accounts; all else is as for `account_rule`."""

    def register(find: PlanFinder) -> PlanFinder:
        rule = _register(find, slug, severities, follows, former)
        rule.across, rule.reach_across = find, reaches
        return find

    return register


def across(slug: str, reaches: RuleReach) -> Callable[[PlanFinder], PlanFinder]:
    """Register the part of an account's rule that looks across accounts."""

    def register(find: PlanFinder) -> PlanFinder:
        _RULES[slug].across, _RULES[slug].reach_across = find, reaches
        return find

    return register


def within(slug: str, reaches: RuleReach) -> Callable[[AccountFinder], AccountFinder]:
    """Register the part of a rule across accounts that looks at one account at a time."""

    def register(find: AccountFinder) -> AccountFinder:
        _RULES[slug].in_account, _RULES[slug].reach = find, reaches
        return find

    return register


def page_only(slug: str, *severities: Severity) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Register a rule that is asked once all others have answered."""

    def register(find: Callable[..., Any]) -> Callable[..., Any]:
        _register(find, slug, severities)
        return find

    return register


@cache  # every module of rules is imported before anybody asks
def rules() -> list[Rule]:
    """Every rule, worst first, then by slug."""
    return sorted(_RULES.values(), key=lambda rule: (SEVERITIES.index(rule.severity), rule.slug))


@cache
def slugs() -> dict[str, str]:
    """The slug of the rule that each slug, a former one too, means."""
    former = {old: rule.slug for rule in _RULES.values() for old in rule.former}
    return former | {slug: slug for slug in _RULES}


@cache
def causes() -> Causes:
    """Which rules' findings may follow from which: causes that follow from nothing first, the worst first."""
    order = sorted(rules(), key=lambda rule: _depth(rule.slug))
    found = {
        rule.slug: {other.slug: other.follows[rule.slug] for other in order if rule.slug in other.follows}
        for rule in order
    }
    return {slug: followers for slug, followers in found.items() if followers}


@cache
def asked_reaches() -> dict[str, RuleReach]:
    """How far each account rule has to be asked: as far as it reaches, and as those do that it is told together with.

    Whether a finding is told of by itself or as what follows from another shows only where both are found.
    """
    found = {rule.slug: rule.reach for rule in rules() if rule.in_account is not None}
    pairs = [(rule.slug, cause) for rule in rules() for cause in rule.follows]
    for _ in found:  # each round carries a reach one consequence further
        before = dict(found)
        for one, other in pairs:
            found[one] = found[other] = found[one] | found[other]
        if found == before:
            break
    return found


def account_rules(about: Collection[str] | None = None) -> list[Rule]:
    """The rules that look at one account; with `about` only those, and those that may find a stop or a risk."""
    own = _own_rules()
    return own if about is None else [r for r in own if r.slug in about or {"stop", "risk"} & {*r.severities}]


@cache
def _own_rules() -> list[Rule]:
    return [rule for rule in rules() if rule.in_account is not None]


def plan_rules(about: Collection[str] | None = None) -> list[Rule]:
    """The rules that look across accounts; with `about` only those, and those that may stop something."""
    asked = rules() if about is None else [rule for rule in rules() if rule.slug in about or "stop" in rule.severities]
    return [rule for rule in asked if rule.across is not None]


def found_in(layout: AccountLayout, with_ways: bool = True, about: Collection[str] | None = None) -> list[Finding]:
    """What `account_rules` find in one account by itself; ways that are worked out late only `with_ways`."""
    name = layout.name
    return [
        rule.marked(found, name, with_ways)
        for rule in account_rules(about)
        for found in rule.in_account(layout)  # type: ignore[misc]  # which is there, as `account_rules` asked
    ]


def found_across(whole: AllAccounts, about: Collection[str] | None = None) -> list[Finding]:
    """What `plan_rules` find across accounts."""
    return [found for rule in plan_rules(about) for found in rule.found_across(whole)]


def _depth(slug: str) -> int:
    """How many findings may stand between one of this rule and its first cause."""
    return max((1 + _depth(cause) for cause in _RULES[slug].follows), default=0)


def find_rule(slug: str) -> Rule:
    """The rule called `slug`, or called so before. Raises InputError that names the nearest."""
    if slug not in slugs():
        raise InputError(f"{quoted(slug)} is no rule{did_you_mean(slug, _RULES)}", Remedy(Action.LIST_RULES))
    return _RULES[slugs()[slug]]


def _register(
    find: Callable[..., Any],
    slug: str,
    severities: tuple[Severity, ...],
    follows: Mapping[str, Follows] | None = None,
    former: tuple[str, ...] = (),
) -> Rule:
    rule = _RULES[slug] = Rule(slug, severities, inspect.getdoc(find) or "", former, follows or {})
    return rule
