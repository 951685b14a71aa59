"""What was read in of other programs' files, for people and for programs."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from kettlepost.core.exchange import KEPT
from kettlepost.core.messages import Message
from kettlepost.core.names import readable
from kettlepost.core.secrets import masked
from kettlepost.core.words import counted
from kettlepost.render.json import document, worded
from kettlepost.render.results import ImportShown
from kettlepost.render.screen import Screen
from kettlepost.render.sentences import text

if TYPE_CHECKING:
    from kettlepost.core.exchange import PlanEntries, SourceSpot
    from kettlepost.workspace.changes import PreparedChange

_STYLES = {"+": "green", "-": "red", "@": "cyan"}


def _show_edits(screen: Screen, change: PreparedChange) -> None:
    """What changes in the files of the plan."""
    edits = (edit for edit in change.edits if edit.before is not None and edit.file.endswith(".toml"))
    lines = [line for edit in edits for line in masked(change.difference_of(edit)).split("\n")[:-1]]
    if lines:
        screen.blank()
    for line in lines:
        style = "bold" if line.startswith(("+++", "---")) else _STYLES.get(line[:1], "")
        screen.line((line, style))


def show_import(screen: Screen, shown: ImportShown) -> None:
    """What is new, what disagrees, what the sources lack, and what was not understood."""
    entry, change = shown.entry, shown.change
    owners = {one.account for one in entry.new}
    read = [counted(entry.hosts, "host")] if entry.hosts or not entry.records else []
    read += [counted(entry.records, "record")] if entry.records else []
    where = f" in {counted(len(owners), 'account')}" if owners else ""
    screen.line(f"{' and '.join(read)} read, {counted(len(entry.new), 'entry', 'entries')} new{where}")
    if entry.guessed:
        screen.line((f"accounts are taken to be the folders below {entry.guessed}; --homes says otherwise", "dim"))
    _show_new(screen, entry)
    if entry.differing:
        screen.blank()
        screen.line((f"plan and source disagree ({len(entry.differing)})", "bold"))
        for one in entry.differing:
            screen.line(f"{readable(one.host)}: {one.key} is {one.planned} in the plan, at {one.place}", indent=2)
            kept = "taken from the source" if one.taken else "left as it is; --take source writes it"
            screen.line(f"{one.seen} in the source, at {one.spot}: {kept}", indent=6)
    if entry.missing:
        screen.blank()
        screen.line((f"in the plan, and not in the sources ({len(entry.missing)})", "bold"))
        for gone in entry.missing:
            kept = f"kept for {text(gone.kept_for)}" if gone.kept_for else "left as it is"
            what = "taken out" if gone.dropped else kept
            screen.line(f"{readable(gone.host)}, at {gone.place}: {what}", indent=2)
    _show_remarks(screen, entry)
    if shown.in_full and not shown.compares:
        _show_edits(screen, change)
    if not entry.differs:
        agree = "nothing of it comes into the plan" if entry.remarks else "plan and sources agree"
        kept = "what was seen is kept beside it" if change.edits else "nothing changes"
        screen.line((f"{agree}; {kept}", "dim"))


def _show_remarks(screen: Screen, entry: PlanEntries) -> None:
    """What was not entered: what nobody understood, then what the plan has no word for, and answers go by."""
    others = [remark for remark in entry.remarks if remark.means != KEPT]
    kept = [remark for remark in entry.remarks if remark.means == KEPT]
    if others:
        screen.blank()
        screen.line((f"not entered, or not understood ({len(others)})", "bold"))
    for remark in others:
        screen.line(f"{remark.spot}: {masked(text(remark.text))}", indent=2)
        screen.line((text(remark.means), "dim"), indent=6)
    if kept:
        screen.blank()
        screen.line((f"not in the plan; what answers goes by it, as the server has it ({len(kept)})", "bold"))
    for remark in kept:
        screen.line(f"{remark.spot}: {masked(text(remark.text))}", indent=2)


def _show_new(screen: Screen, entry: PlanEntries) -> None:
    if not entry.new:
        return
    screen.blank()
    homes = {one.owner.name: one.owner for one in entry.accounts}
    by_account: dict[str, list[Any]] = {}
    for one in entry.new:
        by_account.setdefault(one.account, []).append(one)
    for account, entries in by_account.items():
        owner = homes.get(account)
        told = [f"new, {owner.home}"] if owner is not None and owner.is_new else []
        files = {one.spot.file for one in entries}
        told += [f"from {entries[0].spot.file}"] if len(files) == 1 else []
        screen.line((f"{account} ({'; '.join(told)})" if told else account, "bold"))
        rows = [
            (readable(text(one.host)), text(one.what), text(one.leads_to) or "-", _from(one.spot, len(files)))
            for one in entries
        ]
        screen.columns(("address", "what", "leads to", "from"), rows, indent=2, labelled=True)


def _from(spot: SourceSpot, files: int) -> str:
    """Where something was read; of one file that is named above the line alone."""
    return str(spot) if files > 1 else f"line {spot.line}" if spot.line else "-"


def import_json(shown: ImportShown) -> str:
    """The same as a document."""
    entry = shown.entry
    return document(
        {
            "hosts": entry.hosts,
            "records": entry.records,
            "accounts": [
                {"name": one.owner.name, "home": one.owner.home, "new": one.owner.is_new} for one in entry.accounts
            ],
            "guessed": entry.guessed or None,
            "new": [worded(one._asdict()) | {"spot": str(one.spot)} for one in entry.new],
            "differing": [one._asdict() | {"spot": str(one.spot)} for one in entry.differing],
            "missing": [worded(one._asdict()) for one in entry.missing],
            "remarks": [
                {
                    "place": str(one.spot),
                    "text": masked(text(one.text)),
                    "means": text(one.means),
                    "sentence": one.text.slug if isinstance(one.text, Message) else None,
                }
                for one in entry.remarks
            ],
            "files": shown.change.files,
            "written": shown.done,
        }
    )
