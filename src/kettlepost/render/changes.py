"""A change of the plan for people: what it is, the lines, and what its check says."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.secrets import masked
from kettlepost.core.words import counted, listed
from kettlepost.render.comparing import counts_words
from kettlepost.render.remedies import sentence, told
from kettlepost.render.results import ChangeShown
from kettlepost.render.screen import Screen
from kettlepost.render.sentences import text
from kettlepost.render.text import show_finding

if TYPE_CHECKING:
    from kettlepost.core.trying import FindingDifference
    from kettlepost.workspace.changes import PreparedChange

_STYLES = {"+": "green", "-": "red", "@": "cyan"}


def show_change(screen: Screen, shown: ChangeShown) -> None:
    """What is to be said of a change, its unified diff, and the findings it brings and ends, if that was checked."""
    change = shown.change
    for hint in change.told:
        screen.line(told(hint))
    if change.told:
        screen.blank()
    for line in masked(change.diff).split("\n")[:-1]:
        style = "bold" if line.startswith(("+++", "---")) else _STYLES.get(line[:1], "")
        screen.line((line, style))
    if not change.edits:
        screen.line(("nothing changes", "dim"))
    if change.alters:
        screen.blank()
        screen.line(f"addresses, once all that is planned is done: {counts_words(change.alters)}")
    if change.difference is not None:
        _show_findings(screen, change.difference)


def _show_findings(screen: Screen, difference: FindingDifference) -> None:
    if difference.gone:
        screen.blank()
        for found in difference.gone:
            screen.labelled(
                ("ends", "green"), f"{found.severity} {found.rule}: {text(found.title)}", indent=2, column=6
            )
    for found in difference.added:
        show_finding(screen, found)
    if not difference.added:
        screen.blank()
        screen.line(("the check finds nothing new with it", "dim"))


def refusal(change: PreparedChange) -> str:
    """Why a change is not written, and what can be done about it."""
    slugs = list(dict.fromkeys(finding.rule for finding in change.stops))
    bring = f"it would bring {counted(len(change.stops), 'stop')} ({listed(slugs)})"
    return f"nothing was written: {bring}; {sentence(Remedy.of(Action.LIVE_WITH, slugs[0]))}"
