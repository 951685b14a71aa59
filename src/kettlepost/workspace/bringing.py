"""Bringing a domain from one account to another, with all that is installed at it."""

from __future__ import annotations

from collections.abc import Collection

from kettlepost.core import placing
from kettlepost.core.placing import AccountMove, Proposal
from kettlepost.core.trying import Scenario
from kettlepost.workspace.changes import PreparedChange, prepare, scenario_of
from kettlepost.workspace.check_cache import KnownPlan
from kettlepost.workspace.clock import today_or
from kettlepost.workspace.plan_edits import host_of
from kettlepost.workspace.plan_folder import PlanFolder


def account_move(plan: PlanFolder, domain: str, to: str, account: str | None = None) -> AccountMove:
    """What it takes to bring a domain to the account `to`, with all that is installed at it.

    Raises InputError for what is not live, or is on its way already, and where it is not known what would come along.
    """
    host = host_of(domain)
    return placing.account_move(scenario_of(KnownPlan(plan, ()), today_or(None)), host, to, account)


def move_to_account(
    plan: PlanFolder, domain: str, to: str, account: str | None = None, despite: Collection[str] = (),
    because: str | None = None,
) -> PreparedChange:  # fmt: skip
    """Enter in both accounts that a domain comes to the account `to`; nothing of it is done. Raises InputError."""
    host = host_of(domain)

    def make(scenario: Scenario) -> list[Proposal]:
        return placing.move_to_account(scenario, placing.account_move(scenario, host, to, account))

    return prepare(plan, make, despite, because)
