"""Which files name an address, in words."""

from __future__ import annotations

from kettlepost.core.names import printable
from kettlepost.core.quoting import plain
from kettlepost.core.words import counted
from kettlepost.render.json import document
from kettlepost.render.results import MentionsShown
from kettlepost.render.screen import Screen

_MOST = 3
"""How many lines of a file are named one by one."""


def show_mentions(screen: Screen, shown: MentionsShown) -> None:
    """File by file, with its lines; then how many were read, and which not."""
    found = shown.found
    name = "names" if len(found.files) == 1 else "name"
    screen.line(
        (found.account, "bold"), f"  {counted(len(found.files), 'file')} {name} {printable(str(found.address))}"
    )
    for file in found.files:
        screen.blank()
        screen.line(printable(file.path), indent=2)
        for mention in file.mentions[:_MOST]:
            screen.labelled((f"line {mention.line}", "dim"), plain(mention.written), indent=4, column=11)
        if len(file.mentions) > _MOST:
            screen.line((f"and {counted(len(file.mentions) - _MOST, 'line')} more", "dim"), indent=4)
    screen.blank()
    out = [f"{number:,} {why}" for number, why in ((found.no_text, "no text"), (found.larger, "above 2 MiB")) if number]
    more = f"; left out: {', '.join(out)}" if out else ""
    screen.line((f"{counted(found.read, 'text')} read{more}", "dim"))
    for path in found.unread[:_MOST]:
        screen.line((f"{printable(path)} could not be read", "yellow"))
    if len(found.unread) > _MOST:
        screen.line((f"and {len(found.unread) - _MOST:,} more could not be read", "yellow"))
    if found.is_cut:
        screen.line(("there is more than is looked for at once: name a folder with --only", "yellow"))


def mentions_json(shown: MentionsShown) -> str:
    found = shown.found
    return document({
        "account": found.account, "address": str(found.address), "read": found.read, "larger": found.larger,
        "no_text": found.no_text, "unread": list(map(printable, found.unread)), "more": found.is_cut,
        "files": [
            {"path": printable(path), "lines": [{"line": one.line, "written": one.written} for one in told]}
            for path, told in found.files
        ],
    })  # fmt: skip
