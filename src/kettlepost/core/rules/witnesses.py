"""What was seen in the world as a party to findings, and asking it again."""

from __future__ import annotations

from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import Words, say
from kettlepost.core.names import HostName
from kettlepost.core.rules.findings import Party
from kettlepost.core.steps import (
    ProbeAgain,
)
from kettlepost.core.survey import SeenPage, host_of


def asking_again(layout: AccountLayout, seen: SeenPage) -> ProbeAgain:
    return ProbeAgain(layout.name, HostName(host_of(seen.url)))


def witness(name: str, seen: Words, moment: str) -> Party:
    """What was seen, as a party to a finding, and when."""
    return Party(
        "seen", name, found=say("world/seen", seen=say("world/what", seen=seen) if seen else None, day=moment[:10])
    )
