"""A change of the plan for people: what it is, the lines, and what its check says."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from kettlepost.core.names import printable
from kettlepost.core.plan import Edit
from kettlepost.render.screen import Screen
from kettlepost.render.text import show_finding

if TYPE_CHECKING:
    from kettlepost.core.placing import Difference

_STYLES = {"+": "green", "-": "red", "@": "cyan"}


def show_change(screen: Screen, edit: Edit, told: Sequence[str], difference: Difference | None) -> None:
    """What is to be said of a change, its unified diff, and the findings it brings and ends, if that was checked."""
    for words in told:
        screen.line(words)
    if told:
        screen.blank()
    for line in edit.difference.splitlines():
        style = "bold" if line.startswith(("+++", "---")) else _STYLES.get(line[:1], "")
        screen.line((printable(line), style))
    if difference is None:
        return
    if difference.gone:
        screen.blank()
        for found in difference.gone:
            screen.labelled(("ends", "green"), f"{found.severity} {found.rule}: {found.title}", indent=2, column=6)
    for found in difference.added:
        show_finding(screen, found)
    if not difference.added:
        screen.blank()
        screen.line(("the check finds nothing new with it", "dim"))
