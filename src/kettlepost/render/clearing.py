"""Clearing in words: what is taken and what stays, what was set aside, and how to do it by hand or by a script."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from rich.cells import cell_len

from kettlepost.core.clearing import (
    Content,
    ContentKind,
    KeepReason,
    KeptEntry,
    Measure,
    Removal,
    RemovalReason,
    Selection,
)
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.survey import SET_ASIDE
from kettlepost.core.words import counted, listed, one
from kettlepost.render.json import document
from kettlepost.render.remedies import sentence
from kettlepost.render.results import ClearingShown, ClearingToDo, DiscardedShown, PutBack, SetAsideList
from kettlepost.render.screen import Screen
from kettlepost.render.sentences import text
from kettlepost.render.surveys import size_words

if TYPE_CHECKING:
    from kettlepost.core.rules.allowances import AllowanceUse
    from kettlepost.workspace.set_aside.listing import SetAside, UnverifiedRecord
    from kettlepost.workspace.set_aside.move import Left, MoveOutcome
    from kettlepost.workspace.set_aside.prepare import PreparedClearing
    from kettlepost.workspace.set_aside.store import SetAsideComparison

_WIDEST = 36
"""How wide a column of paths is at the most."""
_MOST_IN_DOUBT = 200
_MOST = 24
"""How many things that stay only as less was asked for are named one by one."""
_MANY = {ContentKind.PAGE: "pages", ContentKind.MEDIA: "media files", ContentKind.UPLOADS: "documents"}
_MORE = {
    KeepReason.CONTENT: "--everything takes it", KeepReason.SITE: "--everything takes it",
    KeepReason.APPLICATION: "--everything takes it", KeepReason.LEFTOVER: "--leftovers takes it",
}  # fmt: skip
_TAKEN = {
    RemovalReason.PLACEHOLDER: "a page that only holds the place",
    RemovalReason.WELCOME: "came with the server's welcome page",
    RemovalReason.CONTROL: "control file of the last site",
    RemovalReason.FOLDER: "the installer wants to make the folder itself",
    RemovalReason.INSTALLER: "left by an installer",
    RemovalReason.RETIRED: "of what is retired",
    RemovalReason.FOREIGN: "of an application that the plan does not have there",
    RemovalReason.ASIDE: "put aside, half-finished or never set up",
    RemovalReason.STRAY: "left by an editor, a desktop or a server",
    RemovalReason.HIDDEN: "hidden",
    RemovalReason.EMPTY: "an empty folder",
    RemovalReason.CARRIED: "a step that was taken back had made it",
    RemovalReason.OTHER: "nobody else uses it",
}
"""Why something is taken."""
_KEPT = {
    KeepReason.LIVE: "may belong to the live installation around it",
    KeepReason.CHALLENGES: "certificate challenges",
    KeepReason.MAIL: "mail",
    KeepReason.APPLICATION: "an application that the plan does not know",
    KeepReason.SITE: "a site that the plan does not know",
    KeepReason.CONTENT: "may be content",
    KeepReason.LEFTOVER: "left over, and not in the way",
    KeepReason.HARMLESS: "makes no difference to what is to come",
    KeepReason.DEVICE: "neither file nor folder",
}
"""Why something stays, where it is not said with whose it is."""
_WORDS = {
    KeepReason.ROOT: "root of {who}", KeepReason.ALIAS: "{who} leads to it",
    KeepReason.INSTALLATION: "{who} is installed there",
    KeepReason.FRONT: "{who} answers through it", KeepReason.LINKED: "the link {who} leads to it",
    KeepReason.WAY: "a link on the way to the folder of {who}", KeepReason.UNREAD: "could not be looked into: {who}",
    KeepReason.SHUTS: "it keeps visitors from what stays",
    KeepReason.NEEDED: "it keeps visitors out, or chooses PHP",
    KeepReason.DOUBT: "{who}: perhaps a placeholder, look at it",
}  # fmt: skip


def show_clearing(screen: Screen, shown: ClearingShown) -> None:
    """What a clearing takes and what stays, each with why; then what was done."""
    clearing, cleared = shown
    _head(screen, clearing)
    for words in clearing.refused:
        screen.labelled(("nothing", "bold red"), f"is taken: {words}", indent=2, column=8)
    selection = clearing.selection
    if not clearing.refused:
        _takes(screen, clearing, selection)
    _stays(screen, selection, clearing.measure)
    if cleared is not None:
        screen.blank()
        _done(screen, cleared.number, cleared.outcome, cleared.still_count)
    elif selection.takes:
        screen.blank()
        screen.line((f"goes into {SET_ASIDE}/ in the account's home, and can be put back whole", "dim"), indent=2)
        for words in _cannot_be_excluded(clearing):
            screen.line((words, "dim"), indent=2)


def _head(screen: Screen, clearing: PreparedClearing) -> None:
    wanted = f", for {clearing.wanted}" if clearing.wanted else ""
    screen.line((clearing.target.account, "bold"), f"  {clearing.place.folder.shown}{wanted}")


def _takes(screen: Screen, clearing: PreparedClearing, selection: Selection) -> None:
    if not selection.takes:
        screen.line(_nothing(clearing), indent=2)
        return
    size = f"{counted(selection.files, 'file')}, {size_words(selection.bytes)}" if selection.files else "empty folders"
    screen.blank()
    screen.line(("takes", "bold yellow"), f"  {size}", indent=2)
    width = _width(taken.path for taken in selection.takes)
    for taken in selection.takes:
        name = printable(taken.path) + ("/" if taken.kind == "folder" else "")
        screen.labelled(name, (why_words(taken), "dim"), indent=4, column=width)
        for content in taken.content:
            screen.line(("may be content: ", "yellow"), content_words(content, taken), indent=8)


def _width(paths: Iterable[str]) -> int:
    """The column behind some paths."""
    return min(max((cell_len(printable(path)) for path in paths), default=0), _WIDEST) + 3


def _nothing(clearing: PreparedClearing) -> str:
    if clearing.measure is not Measure.BLOCKING:
        return "nothing is taken"
    if clearing.place.planned is None:
        return "nothing is planned there, so nothing is in the way: --leftovers or --everything say how much is to go"
    return "nothing is in the way"


def why_words(taken: Removal) -> str:
    """Why something is taken, and what of it is known."""
    what = printable(taken.what)
    size = f"{counted(taken.files, 'file')}, {size_words(taken.bytes)}" if taken.kind == "folder" else ""
    why = (
        f"{_TAKEN[taken.why]}: {what}"
        if what and taken.why in (RemovalReason.CONTROL, RemovalReason.PLACEHOLDER)
        else _TAKEN[taken.why]
    )
    if what and taken.why not in (RemovalReason.CONTROL, RemovalReason.PLACEHOLDER):
        why = f"{one(what)}, {why}"
    return f"{why} ({size})" if size else why


def content_words(content: Content, taken: Removal) -> str:
    """Something that may be content, by name."""
    place = printable(content.path)
    if content.path == taken.path and not content.what:
        return f"{one(content.kind)}"
    if content.kind in _MANY and (content.count > 1 or content.path == taken.path):
        return f"{counted(content.count, _MANY[content.kind].removesuffix('s'), _MANY[content.kind])} in {place}"
    if content.kind in (ContentKind.SITE, ContentKind.APPLICATION) and content.what:
        return f"{printable(content.what)} in {place}"
    what = f" {printable(content.what)}" if content.what else ""
    return f"{place}, {content.kind}{what}"


def _stays(screen: Screen, selection: Selection, measure: Measure) -> None:
    held = [stays for stays in selection.stays if stays.is_held]
    rest = [stays for stays in selection.stays if not stays.is_held]
    if not selection.stays:
        return
    screen.blank()
    screen.line(("stays", "bold green"), indent=2)
    width = _width(stays.path for stays in (*held, *rest[:_MOST]))
    for stays in (*held, *rest[:_MOST]):
        screen.labelled(printable(stays.path), (stays_words(stays, measure), "dim"), indent=4, column=width)
    if len(rest) > _MOST:
        alike = Counter(one.why for one in rest[_MOST:])
        kinds = ", ".join(f"{number:,} {_KEPT[why]}" for why, number in alike.items())
        screen.line((f"and {len(rest) - _MOST:,} more ({kinds}); --format json has them all", "dim"), indent=4)


def stays_words(stays: KeptEntry, measure: Measure) -> str:
    """Why something stays, and for whom."""
    who, count = printable(text(stays.who)), f" ({counted(stays.count, 'file')})" if stays.count else ""
    words = _WORDS[stays.why].format(who=who) if stays.why in _WORDS else _KEPT[stays.why]
    if who and stays.why not in _WORDS:
        words = one(who)
        words += ", which the plan does not have" if stays.why in (KeepReason.SITE, KeepReason.APPLICATION) else ""
    more = _MORE.get(stays.why, "") if measure is not Measure.EVERYTHING else ""
    return f"{words}{count}" + (f"; {more}" if more else "")


def _cannot_be_excluded(clearing: PreparedClearing) -> Iterable[str]:
    if not clearing.by_handles:
        yield (
            "the server knows paths only: that somebody puts a link in a folder's place in between cannot be excluded; "
            "each thing is looked at before and after"
        )
    if clearing.unkept:
        yield f"the server does not tell {clearing.unkept}, so that cannot be compared"


def _done(screen: Screen, number: str, outcome: MoveOutcome, still: Sequence[AllowanceUse]) -> None:
    manifest = outcome.manifest
    if manifest is not None:
        size = f"{counted(manifest.files, 'file')}, {size_words(manifest.bytes)}"
        screen.line(("set aside", "bold green"), f"  {size} in {SET_ASIDE}/{number}", indent=2)
        if still:
            counts = listed(f"{use.live:,} of {use.allowed:,} {use.name}" for use in still)
            screen.line((f"what is set aside still counts: {counts}", "dim"), indent=2)
    else:
        screen.line(("nothing was moved", "bold"), indent=2)
    _left(screen, outcome.left)


def _left(screen: Screen, left: Sequence[Left]) -> None:
    for each in left:
        screen.line(("left", "bold red"), f"  {printable(each.path)}: {each.trouble}", indent=2)


def show_put_back(screen: Screen, shown: PutBack) -> None:
    """What was put back, or set aside in the end, and what is left."""
    number, outcome, is_back = shown
    what = "put back" if is_back else "set aside"
    screen.line((what, "bold green"), f"  {counted(len(outcome.moved), 'thing')} of {number}" if outcome.moved else
                f"  {number}: nothing was to be moved")  # fmt: skip
    for path in outcome.moved[:_MOST]:
        screen.line(printable(path), indent=4)
    if len(outcome.moved) > _MOST:
        screen.line((f"and {len(outcome.moved) - _MOST:,} more", "dim"), indent=4)
    _left(screen, outcome.left)
    rest = outcome.manifest
    if rest is not None and is_back:
        screen.line((f"still set aside: {counted(rest.files, 'file')}, {size_words(rest.bytes)}", "dim"), indent=2)


def show_discarded(screen: Screen, shown: DiscardedShown) -> None:
    """What is gone for good, and what stayed."""
    number, done = shown
    screen.line(("deleted", "bold"), f"  {counted(done.files, 'file')} of {number}")
    _left(screen, done.left)
    if done.manifest is not None:
        screen.line((f"what stayed lies in {SET_ASIDE}/{number}/files, with its record", "dim"), indent=2)


def doubt_words(doubt: UnverifiedRecord) -> str:
    """What a record in somebody's home wants done that is known from nowhere else."""
    number, folder = doubt.manifest.id, printable(doubt.manifest.head.folder)
    told = [
        f"of {number} this plan has no record of its own; what lies in the home of {doubt.account} says that it was "
        f"taken out of {folder}:",
        *(f"  {printable(path)}" for path in doubt.paths[:_MOST_IN_DOUBT]),
    ]
    if len(doubt.paths) > _MOST_IN_DOUBT:
        told.append(f"  and {len(doubt.paths) - _MOST_IN_DOUBT:,} more, all of them in {folder}")
    return "\n".join(told)


def show_set_asides(screen: Screen, shown: SetAsideList) -> None:
    """What was set aside, one after the other."""
    if not shown.rows:
        screen.line("nothing is set aside")
    for row in shown.rows:
        _row(screen, row)


def _row(screen: Screen, row: SetAside) -> None:
    if row.manifest is None and not row.number:
        screen.labelled((row.account, "bold"), f"not looked at: {row.trouble}")
        return
    screen.line((row.number, "bold"), f"  {row.account}", *_of_manifest(row))
    good = row.held is not None and row.held.holds
    screen.line((_state_words(row), "green" if good else "yellow"), indent=4)


def _of_manifest(row: SetAside) -> list[str]:
    manifest = row.manifest
    if manifest is None:
        return []
    head = manifest.head
    size = f"{counted(manifest.files, 'file')}, {size_words(manifest.bytes)}"
    wanted = f", for {printable(head.wanted)}" if head.wanted else ""
    told = f"  {printable(head.folder)}{wanted}  {size}, {printable(head.taken[:10])}"
    if row.is_own:
        return [told]
    seen = f"first seen here {row.seen}" if row.seen is not None else "no record of it is kept here"
    return [told, f"  as the home says; {seen}"]


def _state_words(row: SetAside) -> str:
    if row.state is None:
        return f"not looked at: {row.trouble}" if row.trouble else "as it was written down; not looked at"
    if row.held is None:
        return f"{row.state}{f': {row.trouble}' if row.trouble else ''}{_next(row)}"
    return "whole, as it was set aside" if row.held.holds else _differs(row.held)


def _next(row: SetAside) -> str:
    from kettlepost.workspace.set_aside.store import SetAsideState

    ways = {
        SetAsideState.BEGUN: [Action.FINISH, Action.PUT_BACK],
        SetAsideState.RETURNING: [Action.FINISH, Action.PUT_BACK],
        SetAsideState.GOING: [Action.DISCARD],
    }
    return "".join(f"; {sentence(Remedy.of(do, row.number))}" for do in ways.get(row.state or SetAsideState.WHOLE, ()))


def _differs(held: SetAsideComparison) -> str:
    told = [
        f"{len(paths):,} {what} ({listed(map(printable, paths), 3)})"
        for what, paths in (("missing", held.missing), ("changed", held.changed), ("came since", held.more))
        if paths
    ]
    return f"not as it was set aside: {', '.join(told)}"


def clearing_json(shown: ClearingShown) -> str:
    clearing, cleared = shown
    selection = clearing.selection
    record = {
        "account": clearing.target.account,
        "folder": printable(clearing.place.folder),
        "address": clearing.target.address,
        "for": clearing.wanted,
        "measure": clearing.measure.value,
        "refused": clearing.refused,
        "takes": [_taken_record(taken) for taken in selection.takes],
        "stays": [
            {
                "path": printable(one.path),
                "why": one.why.name.lower(),
                "who": printable(text(one.who)),
                "files": one.count,
            }
            for one in selection.stays
        ],
        "files": selection.files,
        "bytes": selection.bytes,
        "by_handles": clearing.by_handles,
        "done": cleared is not None,
        "number": cleared.number if cleared is not None and cleared.outcome.manifest is not None else "",
        "left": _left_records(cleared.outcome.left) if cleared is not None else [],
    }
    return document(record)


def _taken_record(taken: Removal) -> dict[str, Any]:
    return {
        "path": printable(taken.path),
        "kind": taken.kind,
        "why": taken.why.name.lower(),
        "what": printable(taken.what),
        "files": taken.files,
        "bytes": taken.bytes,
        "content": [
            {"path": printable(one.path), "kind": one.kind.value, "count": one.count, "what": printable(one.what)}
            for one in taken.content
        ],
    }


def _left_records(left: Sequence[Left]) -> list[dict[str, str]]:
    return [{"path": printable(one.path), "why": str(one.trouble)} for one in left]


def put_back_json(shown: PutBack) -> str:
    number, outcome, is_back = shown
    return document(
        {
            "number": number,
            "put_back" if is_back else "set_aside": list(map(printable, outcome.moved)),
            "left": _left_records(outcome.left),
            "still_set_aside": outcome.manifest.files if outcome.manifest is not None else 0,
        }
    )


def set_asides_json(shown: SetAsideList) -> str:
    return document({"set_asides": list(map(_row_record, shown.rows))})


def _row_record(row: SetAside) -> dict[str, Any]:
    manifest, held = row.manifest, row.held
    return {
        "number": row.number,
        "account": row.account,
        "folder": printable(manifest.head.folder) if manifest is not None else "",
        "for": manifest.head.wanted if manifest is not None else "",
        "taken": manifest.head.taken if manifest is not None else "",
        "files": manifest.files if manifest is not None else 0,
        "bytes": manifest.bytes if manifest is not None else 0,
        "state": row.state.name.lower() if row.state is not None else "unknown",
        "holds": held.holds if held is not None else None,
        "missing": list(map(printable, held.missing)) if held is not None else [],
        "changed": list(map(printable, held.changed)) if held is not None else [],
        "came_since": list(map(printable, held.more)) if held is not None else [],
        "trouble": row.trouble,
    }


def show_to_do(screen: Screen, shown: ClearingToDo) -> None:
    """The same as a list for somebody with a file manager: what to move where, and back."""
    clearing = shown.clearing
    _head(screen, clearing)
    for words in clearing.refused:
        screen.labelled(("nothing", "bold red"), f"is to be moved: {words}", indent=2, column=8)
    place = f"{SET_ASIDE}/{clearing.number}/files"
    takes = clearing.selection.takes
    if not takes:
        if not clearing.refused:
            screen.line(_nothing(clearing), indent=2)
    else:
        screen.line(f"as surveyed {shown.taken}: look first whether each is still what it says here", indent=2)
        screen.blank()
        screen.line(("To take away", "bold"), indent=2)
        screen.line(
            f"1. In the account's home, beside {clearing.place.folder.split('/')[0]}, make the folder {place}; show "
            "hidden files in the file manager.",
            indent=4,
        )
        for n, taken in enumerate(takes, 2):
            kind = "the folder " if taken.kind == "folder" else ""
            where = "/".join([place, *taken.path.split("/")[:-1]])
            words = f"{n}. Move {kind}{printable(taken.path)} into {printable(where)}"
            screen.line(words, (f"  {why_words(taken)}", "dim"), indent=4)
            for content in taken.content:
                screen.line(("may be content: ", "yellow"), content_words(content, taken), indent=8)
        screen.blank()
        screen.line(("To put it back", "bold"), indent=2)
        for n, taken in enumerate(takes, 1):
            to = printable(taken.path.rpartition("/")[0]) or "the home"
            screen.line(f"{n}. Move {printable(f'{place}/{taken.path}')} into {to}, unless something new is there.",
                        indent=4)  # fmt: skip
    _stays(screen, clearing.selection, clearing.measure)


def to_do_json(shown: ClearingToDo) -> str:
    return clearing_json(ClearingShown(shown.clearing, None))
