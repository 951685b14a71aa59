"""The line that stands above what is told of an account."""

from __future__ import annotations

from kettlepost.core.names import printable
from kettlepost.core.plan import Plan
from kettlepost.render.screen import Screen


def show_account_head(screen: Screen, plan: Plan, name: str) -> None:
    account = plan.account(name)
    about = [account.settings.client, account.settings.home] if account else []
    screen.line((name, "bold"), "  " + "  ".join(printable(part) for part in about if part))
