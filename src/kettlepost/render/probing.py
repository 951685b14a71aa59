"""What was asked of the world, held against plan and surveys, as text, JSON, CSV, JUnit XML and Markdown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any
from xml.etree import ElementTree

from kettlepost.core.names import printable, readable
from kettlepost.core.probing import ProbeRow, ProbeVerdict, counted_verdicts
from kettlepost.core.quoting.csv import Csv, table
from kettlepost.core.quoting.markdown import Markdown, code
from kettlepost.core.quoting.markdown import text as markdown_text
from kettlepost.core.words import counted, listed
from kettlepost.render import gate
from kettlepost.render.headers import show_head
from kettlepost.render.json import document
from kettlepost.render.remedies import command
from kettlepost.render.results import ProbeShown
from kettlepost.render.screen import Screen
from kettlepost.render.sentences import text

_STYLES = {ProbeVerdict.DIFFERS: "bold red", ProbeVerdict.AGREES: "green", ProbeVerdict.UNKNOWN: "dim"}
_LABEL = 10
_MOST_AT = 4
_MOST_SAID = 3
_COLUMNS = ("account", "about", "at", "machine", "verdict", "expected", "seen", "wrong", "evidence", "to do", "changed")


def show_probe(screen: Screen, shown: ProbeShown) -> None:
    """What differs or has changed, account by account, and a line that counts the rest."""
    for one in shown.probed.accounts:
        rows = [row for row in one.rows if shown.full or _is_told(row)]
        if not rows and one.is_whole:
            continue
        taken = one.taken.replace("T", " ").replace("Z", " UTC")
        taken += ", held against what is to be" if one.when == "planned" else ""
        show_head(screen, one.name, [one.client, taken if one.is_whole else f"{taken}, broken off"])
        for alike in _grouped(rows):
            _show_row(screen, alike[0], alike)
        screen.blank()
    screen.line((_counts(shown), "bold"))


def _grouped(rows: Sequence[ProbeRow]) -> list[list[ProbeRow]]:
    """Rows of the same kind of which the same is to be said, together, where the first of them stands."""
    groups: dict[tuple[str, ...], list[ProbeRow]] = {}
    for row in rows:
        same: tuple[str, ...] = (row.about, row.machine, row.verdict.value, text(row.changed))
        if row.verdict is ProbeVerdict.DIFFERS:
            same += row.blame.value if row.blame else "", text(row.mend), "" if row.about == "page" else text(row.seen)
            same += () if row.mend else ("; ".join(map(text, row.because)),)
        else:
            same += text(row.seen), "; ".join(map(text, (*row.because, *row.notes)))
        groups.setdefault(same, []).append(row)
    return list(groups.values())


def _is_told(row: ProbeRow) -> bool:
    return row.verdict is ProbeVerdict.DIFFERS or bool(row.changed)


def _show_row(screen: Screen, row: ProbeRow, alike: Sequence[ProbeRow]) -> None:
    machine = f" on {row.machine}" if row.machine else ""
    if row.verdict is not ProbeVerdict.DIFFERS:
        label = "agrees" if row.verdict is ProbeVerdict.AGREES else "untold"
        told = dict.fromkeys([text(row.seen), *map(text, row.because), text(row.changed), *map(text, row.notes)])
        words = "; ".join(filter(None, told))
        screen.labelled((label, _STYLES[row.verdict]), (_at(alike), "bold"), (machine, "dim"), f"  {words}", indent=2,
                        column=9)  # fmt: skip
        return
    screen.blank()
    screen.labelled(
        (row.verdict.value, _STYLES[row.verdict]), (_at(alike), "bold"), (machine, "dim"), indent=2, column=9
    )
    lines = [
        ("expected" if n == 0 else "", one) for n, one in enumerate(_distinct([text(one.expected) for one in alike]))
    ]
    lines += [("seen" if n == 0 else "", one) for n, one in enumerate(_distinct([text(one.seen) for one in alike]))]
    because = _distinct([text(why) for one in alike for why in one.because])
    lines += [("because" if n == 0 else "", one) for n, one in enumerate(because) if one != text(row.seen)]
    if row.blame is not None:
        lines.append(("wrong", f"the {row.blame.value}, most likely"))
    mend = text(row.mend)
    if row.remedy is not None:
        mend = f"{mend}: {command(row.remedy)}" if mend else command(row.remedy)
    lines += [("to do", mend), ("changed", text(row.changed))]
    notes = _distinct([text(note) for one in alike for note in one.notes])
    lines += [("also" if n == 0 else "", one) for n, one in enumerate(notes)]
    for label, words in lines:
        if words:
            screen.labelled((label, "dim"), (words, "green" if label == "to do" else ""), indent=11, column=_LABEL)


def _distinct(words: Sequence[str]) -> list[str]:
    """Each of several once, and of many the first few."""
    each = list(dict.fromkeys(words))
    return each if len(each) <= _MOST_SAID else [*each[:_MOST_SAID], f"and {len(each) - _MOST_SAID:,} more"]


def _at(rows: Sequence[ProbeRow]) -> str:
    """What was asked, as people write it: pages by their addresses, http and https of one together."""
    about = rows[0].about
    if about != "page":
        noun = about if len(rows) == 1 else f"{about}s"
        return f"{noun} {listed([readable(row.at) for row in rows], _MOST_AT)}"
    schemes: dict[str, list[str]] = {}
    for row in rows:
        scheme, _, rest = row.at.partition("://")
        schemes.setdefault(rest, []).append(scheme)
    told = [f"{'http(s)' if len(by) > 1 else by[0]}://{rest}" for rest, by in schemes.items()]
    return listed(map(printable, told), _MOST_AT)


def _counts(shown: ProbeShown) -> str:
    rows = [row for one in shown.probed.accounts for row in one.rows]
    counts = counted_verdicts(rows)
    kinds = {about: sum(row.about == about for row in rows) for about in ("name", "zone", "certificate", "page")}
    asked = ", ".join(counted(number, about) for about, number in kinds.items() if number)
    told = f"{counts[ProbeVerdict.DIFFERS]:,} differ, {counts[ProbeVerdict.AGREES]:,} agree"
    told += f", {counts[ProbeVerdict.UNKNOWN]:,} cannot be told" if counts[ProbeVerdict.UNKNOWN] else ""
    changed = sum(bool(row.changed) for row in rows)
    told += f"; {changed:,} changed since the last time" if changed else ""
    return f"{counted(len(shown.probed.accounts), 'account')} asked ({asked or 'nothing'}): {told}"


def probe_json(shown: ProbeShown) -> str:
    """All of it, whatever is shown to people."""
    probed = shown.probed
    rows = [row for one in probed.accounts for row in one.rows]
    return document(
        {
            "is_cut": probed.is_cut,
            "counts": {verdict.value: number for verdict, number in counted_verdicts(rows).items()},
            "accounts": [
                {"name": one.name, "client": one.client, "taken": one.taken, "is_whole": one.is_whole, "when": one.when,
                 "asked": list(map(_record, one.rows))}
                for one in probed.accounts
            ],
        }
    )  # fmt: skip


def _record(row: ProbeRow) -> dict[str, Any]:
    return {
        "about": row.about,
        "at": row.at,
        "machine": row.machine or None,
        "verdict": row.verdict.value,
        "expected": text(row.expected),
        "seen": text(row.seen),
        "wrong": row.blame.value if row.blame is not None else None,
        "evidence": list(map(text, row.because)),
        "to_do": text(row.mend) or None,
        "command": command(row.remedy) if row.remedy is not None else None,
        "changed": text(row.changed) or None,
        "notes": list(map(text, row.notes)),
    }


def _cells(shown: ProbeShown) -> Iterator[tuple[str, ...]]:
    for one in shown.probed.accounts:
        for row in one.rows:
            if shown.full or _is_told(row):
                yield (
                    one.name, row.about, row.at, row.machine, row.verdict.value, text(row.expected), text(row.seen),
                    row.blame.value if row.blame is not None else "", "; ".join(map(text, row.because)),
                    text(row.mend), text(row.changed),
                )  # fmt: skip


def probe_csv(shown: ProbeShown) -> Csv:
    """One row a thing that was asked, under a head."""
    return table(_COLUMNS, _cells(shown))


def probe_markdown(shown: ProbeShown) -> Markdown:
    """A section an account, and in it a list item for each thing that differs."""
    lines = [Markdown.of("# Plan and world"), Markdown.of(""), markdown_text(_counts(shown)), Markdown.of("")]
    for one in shown.probed.accounts:
        rows = [row for row in one.rows if shown.full or _is_told(row)]
        if rows:
            lines += [Markdown.of("## «account»", account=markdown_text(one.name)), Markdown.of("")]
        for row in rows:
            lines.append(
                Markdown.of("- **«verdict»** «about» «at»: «seen»", verdict=markdown_text(row.verdict.value),
                            about=markdown_text(row.about), at=code(row.at), seen=markdown_text(text(row.seen)))
            )  # fmt: skip
            told = [("expected", row.expected), *(("because", why) for why in row.because), ("to do", row.mend)]
            lines += [
                Markdown.of("  - «label»: «words»", label=markdown_text(label), words=markdown_text(text(words)))
                for label, words in [*told, ("changed", row.changed)] if text(words)
            ]  # fmt: skip
        lines += [Markdown.of("")] if rows else []
    return Markdown.joined(lines)


def probe_junit(shown: ProbeShown) -> str:
    """A suite an account, a case for each thing that was asked; what cannot be told is skipped."""
    top = ElementTree.Element("testsuites", name="kettlepost probe")
    for one in shown.probed.accounts:
        counts = counted_verdicts(one.rows)
        suite = ElementTree.SubElement(
            top, "testsuite", name=gate.plain(one.name), tests=str(len(one.rows)),
            failures=str(counts[ProbeVerdict.DIFFERS]), skipped=str(counts[ProbeVerdict.UNKNOWN]),
        )  # fmt: skip
        for row in one.rows:
            at = f"{row.about} {row.at}" + (f" on {row.machine}" if row.machine else "")
            case = ElementTree.SubElement(suite, "testcase", classname=f"{one.name}.{row.about}", name=gate.plain(at))
            if row.verdict is ProbeVerdict.DIFFERS:
                failure = ElementTree.SubElement(case, "failure", message=gate.plain(text(row.seen)))
                lines = [f"expected: {text(row.expected)}", *map(text, row.because), text(row.mend)]
                failure.text = "\n".join(gate.plain(line) for line in lines if line)
            elif row.verdict is ProbeVerdict.UNKNOWN:
                ElementTree.SubElement(case, "skipped")
    ElementTree.indent(top)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(top, encoding="unicode") + "\n"
