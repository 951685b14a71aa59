"""Findings, maps and surveys as text for people."""

from __future__ import annotations

import itertools

from kettlepost.core.answering import FolderView, WhereView
from kettlepost.core.checking import Checked
from kettlepost.core.names import printable, readable
from kettlepost.core.rules import SEVERITIES, Finding, Rule, WayOut
from kettlepost.core.words import counted, listed
from kettlepost.render.address_map import in_pairs
from kettlepost.render.headers import show_account_head, show_head
from kettlepost.render.remedies import command, with_commands
from kettlepost.render.results import FolderMap, RuleList
from kettlepost.render.screen import STYLES, Screen, Span
from kettlepost.render.sentences import text
from kettlepost.render.tree import branches

_LABEL = 9
_TREE = 24
_PARTIES = 12
"""How many parties to a finding are named before the others are only counted."""


def show_check(screen: Screen, checked: Checked) -> None:
    """Findings by account, worst first, and a line that counts them."""
    for name, group in itertools.groupby(checked.findings, key=lambda found: found.account):
        show_head(screen, name, checked.about[name])
        for found in group:
            show_finding(screen, found)
        screen.blank()
    quiet = len(set(checked.accounts) - {found.account for found in checked.findings})
    accounts = f"{counted(len(checked.accounts), 'account')} checked"
    clean = f", {quiet:,} with nothing to find" if quiet else ""
    pending = sum(found.pending for found in checked.findings)
    counts = ", ".join(f"{checked.counts[severity]:,} {severity}" for severity in SEVERITIES)
    counts = counts.replace(" stop", f" stop ({pending:,} pending)", 1) if pending else counts
    accepted = f"; {checked.accepted:,} accepted" if checked.accepted else ""
    screen.line((f"{accounts}{clean}: {counts}{accepted}", "bold"))


def show_finding(screen: Screen, found: Finding) -> None:
    """One finding in full."""
    screen.blank()
    severity = found.severity or "stop"
    screen.labelled((severity, STYLES[severity]), (text(found.title), "bold"), indent=2, column=6)
    screen.labelled(("rule", "dim"), f"{found.rule}, at {found.at}", indent=8, column=_LABEL)
    if found.pending:
        screen.labelled(("pending", "dim"), "to do before deploying", indent=8, column=_LABEL)
    screen.labelled(("why", "dim"), text(found.why), indent=8, column=_LABEL)
    for n, follows in enumerate(found.follows):
        screen.labelled(("so" if n == 0 else "", "dim"), text(follows), indent=8, column=_LABEL)
    shown = found.parties if len(found.parties) <= _PARTIES + 1 else found.parties[:_PARTIES]
    for n, party in enumerate(shown):
        label = ("parties" if len(found.parties) > 1 else "party") if n == 0 else ""
        where = (f"  {text(party.where)}", "dim")
        screen.labelled((label, "dim"), f"{party.what} {party.name}", where, indent=8, column=_LABEL)
    if len(shown) < len(found.parties):
        screen.labelled(
            "", f"and {len(found.parties) - len(shown):,} more, all in --format json", indent=8, column=_LABEL
        )
    for n, way in enumerate(found.ways_out):
        screen.labelled(("way out" if n == 0 else "or", "dim"), (way_words(way), "green"), indent=8, column=_LABEL)


def way_words(way: WayOut) -> str:
    """A way out, the risks that it brings, and behind all that the command that goes with it."""
    brought = [f"{rule} at {printable(at)}" for rule, at in way.brings]
    told = [f"{listed(brought, 4)} will be found"] if brought else []
    stops = [f"{rule} at {printable(at)}" for rule, at in way.stops]
    told += [f"{listed(stops, 4)} will stop it"] if stops else []
    told += ["this is found all the same"] if way.stays else []
    told += [f"{listed(map(printable, way.alters), 4)} will answer otherwise"] if way.alters else []
    words = text(way.words) + (f" (then {' and '.join(told)})" if told else "")
    return f"{words}: {command(way.remedy)}" if way.remedy is not None else words


def show_folders(screen: Screen, shown: FolderMap) -> None:
    """The folders of some accounts as a tree, with the addresses that reach them."""
    for n, (name, rows) in enumerate(shown.accounts.items()):
        if n:
            screen.blank()
        show_account_head(screen, shown.account_of(name))
        for row, branch in zip(rows, branches(rows), strict=True):
            label = printable(row.folder.name) if row.folder else "(home)"
            arrows = ", ".join(in_pairs(row.addresses))
            told = [part for part in (*row.claims, text(row.there)) if part]
            told += [f"{counted(row.hidden, 'more folder')} inside"] if row.hidden else []
            below = branch.replace("├─", "│ ").replace("└─", "  ")
            label_span: Span = (branch + label, "bold" if arrows else "")
            if arrows:
                screen.labelled(label_span, ("<- ", "dim"), (arrows, "cyan"), indent=2, column=_TREE, below=below)
                label_span = below or " "
            if told or not arrows:
                screen.labelled(label_span, "; ".join(told), indent=2, column=_TREE, below=below)


def show_where(screen: Screen, view: WhereView | FolderView) -> None:
    """One address or one folder in full."""
    lines: list[tuple[str, str | None]]
    if isinstance(view, FolderView):
        screen.line((view.folder, "bold"), f" of {view.account}")
        lines = [("reached" if n == 0 else "", address) for n, address in enumerate(in_pairs(view.addresses))]
        lines = lines or [("reached", "by no address of the plan")]
        also: list[str] = []
    else:
        own = readable(view.address)
        screen.line((view.asked or own, "bold"), f" ({view.address})" if own != view.address else "")
        lines = [
            ("account", f"{view.account}, {printable(view.client)}" if view.client else view.account),
            ("domain", f"{readable(view.domain)} ({text(view.declared)})" if view.domain and view.declared else None),
            ("root", view.root),
            ("seen", view.seen),
            ("folder", view.folder),
        ]
        lines += [("because" if n == 0 else "", text(step)) for n, step in enumerate(view.chain[:-1])]
        also = in_pairs(view.also)
    answers = with_commands(text(view.words), [view.remedy] if view.remedy is not None else [])
    lines.append(("answers" if view.when == "now" else "planned", answers))
    if view.status is not None:
        lines.append(("status", f"{view.status}, {view.certainty}"))
    lines += [("also at" if n == 0 else "", other) for n, other in enumerate(also)]
    lines += [("held by" if n == 0 else "", text(claim)) for n, claim in enumerate(view.claims)]
    if isinstance(view, WhereView):
        lines += [("nearest" if n == 0 else "", host) for n, host in enumerate(map(readable, view.nearest))]
    for label, words in lines:
        if words is not None:
            style = "bold" if label in ("answers", "planned") else ""
            screen.labelled((label, "dim"), (words, style), indent=2, column=_LABEL)


def show_rules(screen: Screen, shown: RuleList) -> None:
    """All rules, one a line."""
    for rule in shown.rules:
        screen.labelled((rule.severity, STYLES[rule.severity]), (f"{rule.slug:<24}", "bold"), rule.summary, column=6)


def show_rule(screen: Screen, rule: Rule) -> None:
    """One rule in full: its page."""
    screen.line((rule.slug, "bold"), " ", (f"({rule.severity})", STYLES[rule.severity]))
    for part in rule.text.split("\n\n"):
        screen.blank()
        if part.startswith(("    ", "- ")):
            for line in part.splitlines():
                screen.line((line, "cyan" if part.startswith("    ") else ""))
        else:
            screen.line(" ".join(part.split()))
    if rule.leaves_out:
        screen.blank()
        screen.line(("Examples leave out the first domain, millbrookrail.example with the root www.", "dim"))
