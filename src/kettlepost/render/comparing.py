"""Which addresses answer otherwise in another state, as text, JSON, CSV and JUnit XML."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any
from xml.etree import ElementTree

from kettlepost.core.answering import Answer, answer_words
from kettlepost.core.comparing import AddressDifference, Because, Becomes, DifferenceGroup, grouped
from kettlepost.core.messages import Words
from kettlepost.core.names import printable, readable
from kettlepost.core.quoting.csv import Csv, table
from kettlepost.core.words import counted, listed
from kettlepost.render import gate
from kettlepost.render.headers import show_head
from kettlepost.render.json import document
from kettlepost.render.results import ComparisonShown
from kettlepost.render.screen import Screen
from kettlepost.render.sentences import text

_STYLES = {Becomes.LOST: "bold red", Becomes.ELSEWHERE: "red", Becomes.OTHER: "yellow", Becomes.NEW: "green"}
_LABEL = 9
_MOST = 3
_WORDS = {
    Becomes.LOST: ("lost", "lost"), Becomes.ELSEWHERE: ("leads elsewhere", "lead elsewhere"),
    Becomes.OTHER: ("shows something else", "show something else"), Becomes.SHUT: ("is shut", "are shut"),
    Becomes.UNSURE: ("depends", "depend"), Becomes.OPENED: ("is open", "are open"),
    Becomes.SENT_ON: ("is sent on", "are sent on"), Becomes.NEW: ("is new", "are new"),
}  # fmt: skip
_REASONS = {
    Because.HOST_GONE: "its host goes", Because.HOST_NEW: "its host comes", Because.ROOT: "it leads to another folder",
    Because.SENT: "visitors are sent on", Because.INSTALLED: "something is installed there",
    Because.RETIRED: "what was there is retired", Because.MOVED: "what was there moves elsewhere",
    Because.FILES: "files or settings differ",
}  # fmt: skip
_COLUMNS = (
    "account",
    "address",
    "becomes",
    "because",
    "before",
    "status before",
    "after",
    "status after",
    "end",
    "sure",
)


def show_comparison(screen: Screen, shown: ComparisonShown) -> None:
    """What becomes of addresses, host by host, the worst first, and a line that counts them."""
    found, account = shown.compared, ""
    for group in grouped(found.differences):
        if group.account != account:
            if account:
                screen.blank()
            account = group.account
            show_head(screen, account, [found.clients.get(account)])
        _show_group(screen, group, shown.full)
    if found.differences:
        screen.blank()
    for domain in found.moving:
        old, new = (folder.shown if folder is not None else "" for folder in (domain.root_now, domain.root))
        goes = f"it moves from {old} to {new}" if domain.account_now is None else f"it comes from {domain.account_now}"
        words = f"{readable(domain.name)} is not compared: {goes} with what lies there"
        screen.line((words, "dim"))
    if found.unsurveyed:
        names = listed(found.unsurveyed, _MOST)
        screen.line((f"nobody has surveyed {names} in both states: little can be told of what is shown", "yellow"))
    for name in found.cut:
        screen.line((f"of {name} not all addresses were compared, as there are too many", "yellow"))
    if (left := sum(found.counts.values()) - len(found.differences)) > 0:
        screen.line((f"{left:,} more of them are only counted; ask about fewer accounts", "yellow"))
    screen.line((_counts(shown), "bold"))


def _show_group(screen: Screen, group: DifferenceGroup, full: bool) -> None:
    screen.blank()
    number = len(group.differences)
    hosts = listed(map(readable, group.hosts), _MOST)
    where = _shown(group.differences[0]) if number == 1 else f"{hosts}, {counted(number, 'address', 'addresses')}"
    screen.labelled((_WORDS[group.becomes][0], _STYLES.get(group.becomes, "")), (where, "bold"), indent=2, column=24)
    lines = [("because", _REASONS[group.because])]
    lines += [("at", path) for path in _paths(group, full)] if number > 1 else []
    lines += [("was", words) for words in _said(group.differences, 0)]
    lines += [("is then", words) for words in _said(group.differences, 1)] if not _is_lost(group) else []
    ends = list(dict.fromkeys(printable(each.end) for each in group.differences if each.end))
    lines += [("leads to", listed(ends, _MOST))] if ends else []
    before = ""
    for label, words in lines:
        screen.labelled((label if label != before else "", "dim"), words, indent=4, column=_LABEL)
        before = label


def _is_lost(group: DifferenceGroup) -> bool:
    """Whether what comes then is no more than that it is gone."""
    return group.becomes is Becomes.LOST and group.because is Because.RETIRED


def _paths(group: DifferenceGroup, full: bool) -> list[str]:
    if full:
        return [_shown(one) for one in group.differences]
    return [listed(dict.fromkeys(f"/{_shown(one).partition('/')[2]}" for one in group.differences), _MOST)]


def _shown(one: AddressDifference) -> str:
    host, slash, path = printable(one.url).partition("/")
    return f"{readable(host)}{slash}{path}"


def _said(differences: Sequence[AddressDifference], at: int) -> list[str]:
    """The first answer of each kind, and how many others of it there are."""
    kinds: dict[tuple[str, str], tuple[Words, int]] = {}
    for one in differences:
        found, words = (one.before, one.after)[at], one.words[at]
        known = found.shown.held.application if found.shown.held is not None else None
        key = found.kind, known.id if known is not None else ""
        first, others = kinds.get(key, (words, 0))
        kinds[key] = first, others + (words != first)
    return [
        f"{text(first)}, and {others:,} more like it" if others else text(first) for first, others in kinds.values()
    ]


def _counts(shown: ComparisonShown) -> str:
    found = shown.compared
    between = f"{found.before} and {found.after}"
    told = counts_words(found.counts) or "nothing differs"
    return f"{counted(found.asked, 'address', 'addresses')} compared between {between}: {told}"


def counts_words(each: Mapping[Becomes, int]) -> str:
    """What becomes of how many addresses, worst first; nothing where of none."""
    return ", ".join(f"{each[one]:,} {_WORDS[one][each[one] != 1]}" for one in Becomes if each.get(one))


def comparison_json(shown: ComparisonShown) -> str:
    """All of it, address by address."""
    found = shown.compared
    each = found.counts
    return document(
        {
            "before": found.before,
            "after": found.after,
            "asked": found.asked,
            "counts": {becomes.value: each[becomes] for becomes in Becomes},
            "not_compared": [str(domain.name) for domain in found.moving],
            "cut": found.cut,
            "unsurveyed": found.unsurveyed,
            "left_out": sum(each.values()) - len(found.differences),
            "differences": [
                {"account": one.account, "address": one.url, "becomes": one.becomes.value, "because": one.because.value,
                 "before": _answer(one.before), "after": _answer(one.after), "end": one.end or None,
                 "is_sure": one.is_sure}
                for one in found.differences
            ],
        }
    )  # fmt: skip


def _answer(found: Answer) -> dict[str, Any]:
    return {
        "answers": found.kind,
        "status": found.status,
        "certainty": found.certainty,
        "words": text(answer_words(found)),
    }


def comparison_csv(shown: ComparisonShown) -> Csv:
    """One line an address."""
    return table(_COLUMNS, _cells(shown.compared.differences))


def _cells(differences: Sequence[AddressDifference]) -> Iterator[tuple[str, ...]]:
    for one in differences:
        before, after = one.before, one.after
        yield (one.account, one.url, one.becomes.value, one.because.value, text(one.words[0]), _status(before),
               text(one.words[1]), _status(after), one.end, "yes" if one.is_sure else "no")  # fmt: skip


def _status(found: Answer) -> str:
    return str(found.status) if found.status is not None else ""


def comparison_junit(shown: ComparisonShown) -> str:
    """One suite an account and a case for each host and what becomes of it; where nothing differs, one that passed."""
    groups = grouped(shown.compared.differences)
    top = ElementTree.Element("testsuites", name="kettlepost compare", tests=str(len(groups) or 1),
                              failures=str(len(groups)))  # fmt: skip
    for name in dict.fromkeys(group.account for group in groups):
        own = [group for group in groups if group.account == name]
        suite = ElementTree.SubElement(
            top, "testsuite", name=gate.plain(name), tests=str(len(own)), failures=str(len(own))
        )
        for group in own:
            title = gate.plain(f"{listed(group.hosts, _MOST)}: {_REASONS[group.because]}")
            kind = gate.plain(f"{name}.{group.becomes.value}")
            case = ElementTree.SubElement(suite, "testcase", classname=kind, name=title)
            lines = [f"{one.url}: {text(one.words[0])} -> {text(one.words[1])}" for one in group.differences]
            told = ElementTree.SubElement(
                case, "failure", message=gate.plain(f"{len(lines)} {_WORDS[group.becomes][len(lines) != 1]}")
            )
            told.text = gate.plain("\n".join(lines))
    if not groups:
        suite = ElementTree.SubElement(top, "testsuite", name="kettlepost compare", tests="1", failures="0")
        ElementTree.SubElement(suite, "testcase", classname="compare", name="nothing differs")
    ElementTree.indent(top)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(top, encoding="unicode") + "\n"
