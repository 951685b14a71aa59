"""Places side by side: as text for people, and as records for programs and spreadsheets."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

import msgspec
from msgspec import Struct

from kettlepost.core.names import printable
from kettlepost.core.placing import CRITERIA, Granted, Weighed, Weighing
from kettlepost.core.rules import Finding
from kettlepost.render.json import document, finding_record, records_json
from kettlepost.render.screen import STYLES, Screen, Span
from kettlepost.render.tables import records_csv, records_markdown, show_records

_LABEL = 9


class PlaceRow(Struct):
    """One place as a row of a table."""

    number: int
    place: str
    account: str
    address: str
    folder: str
    there: str
    now: str
    after: str
    stop: int
    risk: int
    note: int
    adds: str
    ends: str
    clear: str
    create: str
    wait: str
    takes: str
    shares: str
    leaving: str
    because: str


class GrantedRow(Struct):
    """What becomes of one wish, as a row of a table."""

    line: int
    application: str
    domain: str
    place: str
    account: str
    address: str
    folder: str
    risks: int
    because: str


def show_weighing(screen: Screen, weighing: Weighing, title: str, why: bool) -> None:
    """Every place in full, then the comparison, the order with its reasons, and what to do."""
    for one in weighing.places:
        show_place(screen, one)
        screen.blank()
    screen.line((f"{title} for {weighing.domain}", "bold"), f", account {weighing.account}")
    rows = [_brief(one) for one in weighing.places]
    heads = ("", "place", "address", "folder", "stop", "risk", "steps", "waits", "shares")
    screen.columns(heads, rows, indent=2, labelled=True)
    for more in weighing.more:
        screen.line((more, "dim"), indent=2)
    if why:
        _show_steps(screen, weighing.places)
    screen.blank()
    for one in weighing.places:
        if one.because:
            screen.labelled((f"{one.number}", "dim"), one.because, indent=2, column=3)
    screen.blank()
    screen.line((weighing.advice, "bold"))


def show_place(screen: Screen, one: Weighed) -> None:
    """One place with everything that speaks for it and against it."""
    place = one.place
    head: list[Span] = [(str(place.address), "bold"), f" in {place.folder.shown}, account {place.account}"]
    screen.labelled((f"{one.number}", "bold"), *head, indent=2, column=3)
    lines: list[tuple[str, Sequence[str | Finding]]] = [
        ("there", [one.there]),
        ("now", [one.now]),
        ("after", [one.after]),
        ("adds", one.adds or ["nothing to find"]),
        ("ends", one.ends),
        ("clear", one.clear),
        ("create", one.create),
        ("wait for", one.wait),
        ("takes", [", ".join(use.words for use in one.uses)]),
        ("shares", one.shares or ["nothing with others"]),
        ("leaving", [one.leaving]),
    ]
    for label, told in lines:
        for n, words in enumerate(told):
            spans: list[Span] = [words] if isinstance(words, str) else list(_finding(words, label == "adds"))
            screen.labelled((label if n == 0 else "", "dim"), *spans, indent=5, column=_LABEL)


def weighing_json(weighing: Weighing) -> str:
    wish = {key: value for key, value in msgspec.structs.asdict(weighing.wish).items() if value is not None}
    head = {
        "wish": wish,
        "account": weighing.account,
        "domain": weighing.domain,
        "advice": weighing.advice,
        "more": weighing.more,
        "places": [_record(one) for one in weighing.places],
    }
    return document(head)


def weighing_csv(weighing: Weighing) -> str:
    return records_csv(PlaceRow.__struct_fields__, [_row(one) for one in weighing.places])


def weighing_markdown(weighing: Weighing) -> str:
    return records_markdown(PlaceRow.__struct_fields__, [_row(one) for one in weighing.places])


def granted_rows(granted: Sequence[Granted]) -> list[GrantedRow]:
    return [_granted_row(one) for one in granted]


def granted_json(granted: Sequence[Granted]) -> str:
    return records_json({}, "wishes", granted_rows(granted))


def show_granted(screen: Screen, granted: Sequence[Granted]) -> None:
    """Where each wish goes, then those without a place."""
    rows = granted_rows(granted)
    placed = [row for row in rows if row.place]
    columns = ("line", "application", "domain", "place", "account", "address", "folder", "risks")
    if placed:
        show_records(screen, columns, placed, counts=False)
    for row in rows:
        if not row.place:
            screen.labelled(
                ("no place", STYLES["stop"]), f"line {row.line}: {row.application} for {row.domain}: {row.because}",
                column=_LABEL,
            )  # fmt: skip
    screen.line((f"{len(rows):,} {'wish' if len(rows) == 1 else 'wishes'}: {len(placed):,} with a place, "
                 f"{len(rows) - len(placed):,} without", "bold"))  # fmt: skip


def _granted_row(one: Granted) -> GrantedRow:
    wish, best = one.wish, one.place
    asked = (one.line, printable(wish.application), printable(wish.domain))
    if best is None:
        return GrantedRow(*asked, "", printable(wish.account or ""), "", "", 0, one.because)
    place = best.place
    risks = sum(found.severity == "risk" for found in best.adds)
    return GrantedRow(*asked, place.kind, place.account, str(place.address), place.folder.shown, risks, one.because)


def _brief(one: Weighed) -> tuple[str, ...]:
    place = one.place
    counts = _counts(one)
    numbers = (counts["stop"], counts["risk"], one.steps)
    told = [str(number) if number else "-" for number in numbers]
    shares = str(len(one.shares)) if one.shares else "-"
    kind = f"on {place.account}" if place.kind == "other account" else place.kind
    return str(one.number), kind, str(place.address), place.folder.shown, *told, one.waits or "-", shares


def _counts(one: Weighed) -> Counter[str]:
    return Counter(found.severity for found in one.adds)


def _finding(found: Finding, is_new: bool) -> tuple[Span, ...]:
    style = STYLES[found.severity] if is_new else "green"
    return (found.severity, style), f" {found.rule}: {found.title}"


def _show_steps(screen: Screen, places: Sequence[Weighed]) -> None:
    """The comparison in full: the points of each step, the smaller number before the larger."""
    screen.blank()
    screen.line("Compared step by step: the first difference decides, and the smaller number comes first.")
    rows = [(*_brief(one)[:2], *map(str, one.points)) for one in places]
    screen.columns(("", "place", *CRITERIA), rows, indent=2)


def _told(findings: Sequence[Finding]) -> str:
    return "; ".join(f"{found.severity} {found.rule}: {found.title}" for found in findings)


def _row(one: Weighed) -> PlaceRow:
    place, counts = one.place, _counts(one)
    return PlaceRow(
        one.number, place.kind, place.account, str(place.address), place.folder.shown, one.there, one.now, one.after,
        counts["stop"], counts["risk"], counts["note"], _told(one.adds), _told(one.ends), "; ".join(one.clear),
        "; ".join(one.create), "; ".join(one.wait), "; ".join(use.words for use in one.uses), "; ".join(one.shares),
        one.leaving, one.because,
    )  # fmt: skip


def _record(one: Weighed) -> dict[str, Any]:
    place = one.place
    plain: dict[str, Any] = msgspec.structs.asdict(one)
    plain |= {key: [finding_record(found) for found in getattr(one, key)] for key in ("adds", "ends")}
    plain["points"] = dict(zip(CRITERIA, one.points, strict=True))
    plain["uses"] = list(map(msgspec.structs.asdict, one.uses))
    return plain | {
        "place": place.kind,
        "account": place.account,
        "address": str(place.address),
        "folder": place.folder.shown,
        "tables": msgspec.to_builtins(place.addition, enc_hook=str),
    }
