"""A step that is carried out in files, in words: what comes where, what is written, what stayed."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from kettlepost.core.carrying import CarriedItem, FileChange, tops
from kettlepost.core.names import printable
from kettlepost.core.quoting import plain
from kettlepost.core.secrets import masked
from kettlepost.core.survey import SET_ASIDE
from kettlepost.core.words import counted
from kettlepost.render.json import document
from kettlepost.render.results import StepShown, TakenBackShown
from kettlepost.render.screen import Screen
from kettlepost.render.steps import step_words
from kettlepost.render.surveys import size_words

if TYPE_CHECKING:
    from kettlepost.workspace.set_aside.move import Left

_MOST = 12
"""How many places are named one by one."""
_COLUMN = 9
_STYLES = {"+": "green", "-": "red", "@": "cyan"}
_VERBS = {
    FileChange.MAKE: ("makes", "made"), FileChange.COPY: ("copies", "copied"), FileChange.WRITE: ("writes", "written"),
    FileChange.EDIT: ("writes", "written"), FileChange.RENAME: ("moves", "moved"),
}  # fmt: skip


def show_step(screen: Screen, shown: StepShown) -> None:
    """What a step does to files, or what it did."""
    prepared, carried = shown
    items, words = carried.record.items if carried is not None else prepared.items, step_words(prepared.does)
    screen.line((prepared.account, "bold"), (f"  {prepared.id}", "dim"))
    screen.line(f"{words[:1].upper()}{words[1:]}", indent=2)
    screen.blank()
    if prepared.is_again and carried is None:
        _told(screen, ("again", "yellow"), "a run of it broke off; this brings it to its end")
    copied = [item for item in items if item.do is FileChange.COPY]
    if copied:
        _told(screen, _verb(copied[0], shown), f"{_amount(copied)}, as {_places(copied)}")
    for item in items:
        if item.do is not FileChange.COPY:
            _told(screen, _verb(item, shown), _words(item))
            if carried is None:
                _show_difference(screen, item)
    if carried is not None:
        _stayed(screen, carried.left)
        return
    if copied and prepared.goes_through_here:
        _told(screen, "way", "through this machine, as the server cannot copy by itself")
    _named(screen, "leaves", prepared.left_out, "neither file nor folder, so it cannot be copied")
    _named(screen, "mind", prepared.leads_out, "a link that leads elsewhere from its new place")


def _told(screen: Screen, label: str | tuple[str, str], words: str) -> None:
    screen.labelled(label, words, indent=2, column=_COLUMN)


def _verb(item: CarriedItem, shown: StepShown) -> str:
    return _VERBS[item.do][shown.carried is not None]


def _words(item: CarriedItem) -> str:
    if item.do is FileChange.RENAME:
        return f"{printable(item.origin)} to {printable(item.path)}"
    return f"the folder {printable(item.path)}" if item.do is FileChange.MAKE else printable(item.path)


def _stayed(screen: Screen, left: Sequence[Left]) -> None:
    for one in left:
        _told(screen, ("stays", "yellow"), f"{printable(one.path)} ({one.trouble})")


def show_taken_back(screen: Screen, shown: TakenBackShown) -> None:
    taken = shown.taken
    screen.line(f"{shown.number} is taken back")
    if taken.aside is not None and taken.number:
        files = taken.aside.manifest.files if taken.aside.manifest is not None else 0
        _told(screen, "aside", f"{counted(files, 'file')} it had made, in {SET_ASIDE}/{taken.number}")
    _stayed(screen, taken.left)


def step_json(shown: StepShown) -> str:
    prepared, carried = shown
    record = carried.record if carried is not None else prepared.record
    return document({
        "account": record.head.account, "id": record.head.id, "number": record.head.number if carried else "",
        "done": carried is not None, "again": prepared.is_again,
        "through_this_machine": prepared.goes_through_here,
        "changes": [_record(item) for item in record.items],
        "left_out": list(map(printable, prepared.left_out)), "leads_out": list(map(printable, prepared.leads_out)),
        "left": _left(carried.left if carried is not None else ()),
    })  # fmt: skip


def taken_back_json(shown: TakenBackShown) -> str:
    return document({"number": shown.number, "set_aside": shown.taken.number, "left": _left(shown.taken.left)})


def _record(item: CarriedItem) -> dict[str, Any]:
    return {
        "do": item.do.value, "path": printable(item.path), "kind": item.kind, "from": printable(item.origin),
        "bytes": item.size,
    }  # fmt: skip


def _left(left: Sequence[Left]) -> list[dict[str, str]]:
    return [{"path": printable(one.path), "why": str(one.trouble)} for one in left]


def _places(items: Sequence[CarriedItem]) -> str:
    """Where some things come, by what is new there: a folder stands for all that lies in it."""
    paths = [printable(item.path) + ("/" if item.kind == "folder" else "") for item in tops(items)]
    more = f" and {len(paths) - _MOST:,} more" if len(paths) > _MOST else ""
    return ", ".join(paths[:_MOST]) + more


def _amount(items: Sequence[CarriedItem]) -> str:
    files = [item for item in items if item.kind != "folder"]
    return f"{counted(len(files), 'file')}, {size_words(sum(item.size for item in files))}"


def _named(screen: Screen, label: str, paths: Sequence[str], why: str) -> None:
    for path in paths[:_MOST]:
        _told(screen, (label, "yellow"), f"{printable(path)}: {why}")
    if len(paths) > _MOST:
        _told(screen, (label, "yellow"), f"{len(paths) - _MOST:,} more such")


def _show_difference(screen: Screen, item: CarriedItem) -> None:
    """What changes in a file, without secrets."""
    before, after = (_lines(raw) for raw in (item.before, item.after))
    for line in difflib.unified_diff(before, after, n=1, lineterm=""):
        if not line.startswith(("---", "+++")):
            screen.line((plain(line), _STYLES.get(line[:1], "")), indent=2 + _COLUMN)


def _lines(raw: bytes | None) -> list[str]:
    return masked((raw or b"").decode("utf-8", "replace")).splitlines()
