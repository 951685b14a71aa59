"""The ways by which something comes to another address, side by side."""

from __future__ import annotations

from kettlepost.core.placing.ways import MoveBy, MoveWay
from kettlepost.render.json import document
from kettlepost.render.results import AccountMoveShown, MoveWaysShown
from kettlepost.render.screen import Screen
from kettlepost.render.sentences import text

NAMES = {
    MoveBy.FILES: "moving the files",
    MoveBy.FRONT_FILE: "a front file",
    MoveBy.ROOT: "changing the root",
    MoveBy.DONE: "it has moved",
}


def show_ways(screen: Screen, shown: MoveWaysShown) -> None:
    """What moves, and for each way what is touched and what may break, or why it is none here."""
    found = shown.ways
    lies = f", in {found.lies.shown}," if found.lies is not None else ""
    goes = "is to answer at" if found.replaces is None else "is to take the place of"
    screen.line((f"{found.application} at {found.old}{lies}", "bold"), f" {goes} {found.new}")
    for way in found.ways:
        if found.replaces is not None and way.by is not MoveBy.FILES:
            continue  # of which there is none for a rehearsal
        screen.blank()
        if way.why_not:
            screen.labelled((str(way.by), "dim"), f"no: {text(way.why_not)}", indent=2, column=12)
            continue
        screen.labelled((str(way.by), "bold"), _head(way), indent=2, column=12)
        for one in way.touched:
            screen.labelled("does", text(one), indent=4, column=10)
        for one in way.breaks:
            screen.labelled(("mind", "yellow"), text(one), indent=4, column=10)
        for one in way.looks:
            screen.labelled("look", text(one), indent=4, column=10)
        screen.labelled("down", text(way.down), indent=4, column=10)
        screen.labelled("back", text(way.back), indent=4, column=10)
        if way.stays:
            stays = ", ".join(place.shown for place in way.stays)
            screen.labelled("stays", f"{stays}, as others use it", indent=4, column=10)


def _head(way: MoveWay) -> str:
    lies = f"; its files lie in {way.lies.shown} then" if way.lies is not None else ""
    return f"{NAMES[way.by]}{lies}"


def ways_json(shown: MoveWaysShown) -> str:
    """The same as JSON."""
    found = shown.ways
    return document(
        {
            "account": found.account,
            "application": found.application,
            "from": str(found.old),
            "to": str(found.new),
            "folder": str(found.lies) if found.lies is not None else None,
            "ways": [
                {
                    "by": str(way.by),
                    "why_not": text(way.why_not) or None,
                    "folder": str(way.lies) if way.lies is not None else None,
                    "does": [text(one) for one in way.touched],
                    "mind": [text(one) for one in way.breaks],
                    "look": [text(one) for one in way.looks],
                    "down": text(way.down) or None,
                    "back": text(way.back) or None,
                    "stays": [str(one) for one in way.stays],
                }
                for way in found.ways
            ],
        }
    )


def show_account_move(screen: Screen, shown: AccountMoveShown) -> None:
    """What comes along with a domain, what may break, how long nobody sees it, and how one comes back."""
    found = shown.move
    screen.line((found.host, "bold"), f" of account {found.other} is to come to account {found.account}")
    screen.blank()
    leads = f"with the root {found.root.shown} there" if found.root is not None else "as a name alone"
    screen.labelled((str(MoveBy.FILES), "bold"), leads, indent=2, column=12)
    rows = [("does", found.does), ("mind", found.minds), ("look", found.looks), ("down", [found.down])]
    for label, words in (*rows, ("back", [found.back])):
        for one in words:
            screen.labelled((label, "yellow") if label == "mind" else label, text(one), indent=4, column=10)


def account_move_json(shown: AccountMoveShown) -> str:
    """The same as JSON."""
    found = shown.move
    return document(
        {
            "host": found.host,
            "from_account": found.other,
            "to_account": found.account,
            "root": str(found.root) if found.root is not None else None,
            "one_machine": found.is_same_machine,
            "folders": [
                {"from": str(one.folder), "to": str(one.to), "stays": list(map(str, one.stays))}
                for one in found.folders
            ],
            "installations": [str(one.address) for one in found.sites],
            "does": [text(one) for one in found.does],
            "mind": [text(one) for one in found.minds],
            "look": [text(one) for one in found.looks],
            "down": text(found.down),
            "back": text(found.back),
        }
    )
