"""The line that stands above what is told of an account."""

from __future__ import annotations

from collections.abc import Sequence

from kettlepost.core.names import printable
from kettlepost.core.plan import Account
from kettlepost.render.screen import Screen


def show_account_head(screen: Screen, account: Account) -> None:
    show_head(screen, account.name, [account.settings.client, account.settings.home])


def show_head(screen: Screen, name: str, about: Sequence[str | None]) -> None:
    screen.line((name, "bold"), "  " + "  ".join(printable(part) for part in about if part))
