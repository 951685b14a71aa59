"""Places side by side: as text for people, and as records for programs and spreadsheets."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Any

import msgspec
from msgspec import Struct

from kettlepost.core.names import printable, readable
from kettlepost.core.placing import CRITERIA, AccountRoom, Granted, Weighed, Weighing
from kettlepost.core.quoting.csv import Csv
from kettlepost.core.quoting.markdown import Markdown
from kettlepost.core.rules import Finding
from kettlepost.core.words import counted, listed
from kettlepost.render.json import WITH_STEPS, document, finding_record, register_json
from kettlepost.render.remedies import error_words, told
from kettlepost.render.results import GrantedList, Register, WeighingShown
from kettlepost.render.screen import STYLES, Screen, Span
from kettlepost.render.sentences import text
from kettlepost.render.steps import clearing_words, commands_of, step_records, thing_words, unit
from kettlepost.render.tables import register_csv, register_markdown, show_records

_LABEL = 9
_IN_FULL = 3
"""How many of a client's accounts are shown in full where nobody asks for more."""


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


def show_weighing(screen: Screen, shown: WeighingShown) -> None:
    """Every place in full, then the comparison, the order with its reasons, and what to do."""
    weighing, why = shown
    for weighed in weighing.places if why or not weighing.rooms else weighing.places[:_IN_FULL]:
        show_place(screen, weighed)
        screen.blank()
    where = f", account {weighing.account}" if weighing.account else ", whose accounts hold now:"
    screen.line((f"{weighing.application.shown} for {printable(readable(weighing.domain))}", "bold"), where)
    if weighing.rooms:
        _show_rooms(screen, weighing.rooms)
    rows = [_brief(weighed, bool(weighing.rooms)) for weighed in weighing.places]
    heads = ("", "place", "address", "folder", "stop", "risk", "steps", "waits", "shares")
    screen.columns(heads, rows, indent=2, labelled=True)
    for more in weighing.more:
        screen.line((told(more), "dim"), indent=2)
    if why:
        _show_steps(screen, weighing.places)
    screen.blank()
    for weighed in weighing.places:
        screen.labelled((f"{weighed.number}", "dim"), because(weighing, weighed), indent=2, column=3)
    screen.blank()
    screen.line((advice(weighing), "bold"))


def _show_rooms(screen: Screen, rooms: Sequence[AccountRoom]) -> None:
    """What each account holds of what its package allows."""
    names = list(dict.fromkeys(use.name for room in rooms for use in room.uses))
    has_price = any(room.price is not None for room in rooms)
    rows = []
    for room in rooms:
        uses = {use.name: f"{use.after:,} of {use.allowed:,}" for use in room.uses if use.allowed is not None}
        price = [f"{room.price:g}" if room.price is not None else "-"] if has_price else []
        rows.append(
            (room.account, room.package or "-", *price, f"{room.sites:,}", *(uses.get(name, "-") for name in names))
        )
    heads = ("account", "package", *(("price",) if has_price else ()), "sites", *names)
    screen.columns(heads, rows, indent=2)
    screen.blank()


def show_place(screen: Screen, weighed: Weighed) -> None:
    """One place with everything that speaks for it and against it."""
    place = weighed.place
    head: list[Span] = [(readable(str(place.address)), "bold"), f" in {place.folder.shown}, account {place.account}"]
    screen.labelled((f"{weighed.number}", "bold"), *head, indent=2, column=3)
    lines: list[tuple[str, Sequence[str | Finding]]] = [
        ("there", [text(weighed.there)]),
        ("now", [text(weighed.now)]),
        ("after", [text(weighed.after)]),
        ("adds", weighed.adds or ["nothing to find"]),
        ("despite", weighed.lives_with),
        ("ends", weighed.ends),
        ("clear", [*map(clearing_words, weighed.clear), *_with(weighed)]),
        ("create", list(map(thing_words, weighed.create))),
        ("wait for", list(map(thing_words, weighed.wait))),
        ("takes", [", ".join(use.words for use in weighed.uses)]),
        ("shares", list(map(text, weighed.shares)) or ["nothing with others"]),
        ("leaving", [leaving(weighed)]),
    ]
    for label, shown in lines:
        for n, words in enumerate(shown):
            spans: list[Span] = [words] if isinstance(words, str) else list(_finding(words, label != "ends"))
            screen.labelled((label if n == 0 else "", "dim"), *spans, indent=5, column=_LABEL)


def _with(weighed: Weighed) -> list[str]:
    """What clears a place once it is taken."""
    return [f"once it is placed: {words}, with a way back" for words in commands_of(weighed.clear)]


def weighing_json(shown: WeighingShown) -> str:
    weighing = shown.weighing
    wish = {key: value for key, value in msgspec.structs.asdict(weighing.wish).items() if value is not None}
    head = {
        "wish": wish,
        "account": weighing.account,
        "domain": weighing.domain,
        "advice": advice(weighing),
        "more": list(map(told, weighing.more)),
        "rooms": list(map(msgspec.to_builtins, weighing.rooms)),
        "places": [_record(weighing, weighed) for weighed in weighing.places],
    }
    return document(head, WITH_STEPS)


def weighing_csv(shown: WeighingShown) -> Csv:
    return register_csv(_places(shown.weighing))


def weighing_markdown(shown: WeighingShown) -> Markdown:
    return register_markdown(_places(shown.weighing))


def _places(weighing: Weighing) -> Register:
    return Register("places", PlaceRow.__struct_fields__, [_row(weighing, weighed) for weighed in weighing.places])


def granted_json(shown: GrantedList) -> str:
    return register_json(_wishes(shown))


def granted_csv(shown: GrantedList) -> Csv:
    return register_csv(_wishes(shown))


def granted_markdown(shown: GrantedList) -> Markdown:
    return register_markdown(_wishes(shown))


def _wishes(shown: GrantedList) -> Register:
    return Register("wishes", GrantedRow.__struct_fields__, list(map(_granted_row, shown.granted)))


def show_granted(screen: Screen, shown: GrantedList) -> None:
    """Where each wish goes, then those without a place."""
    rows = list(map(_granted_row, shown.granted))
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


def _granted_row(granted: Granted) -> GrantedRow:
    wish, best = granted.wish, granted.place
    asked = (granted.line, printable(wish.application), printable(wish.domain))
    if best is None or granted.weighing is None:
        why = (
            error_words(granted.error)
            if granted.error is not None
            else advice(granted.weighing)
            if granted.weighing
            else ""
        )
        return GrantedRow(*asked, "", printable(wish.account or ""), "", "", 0, why)
    place = best.place
    risks = sum(found.severity == "risk" for found in best.adds)
    return GrantedRow(
        *asked,
        place.kind,
        place.account,
        str(place.address),
        place.folder.shown,
        risks,
        because(granted.weighing, best),
    )


def _brief(weighed: Weighed, many: bool = False) -> tuple[str, ...]:
    place = weighed.place
    counts = _counts(weighed)
    numbers = (counts["stop"], counts["risk"], weighed.effort)
    told_ = [str(number) if number else "-" for number in numbers]
    shares = str(len(weighed.shares)) if weighed.shares else "-"
    kind = f"on {place.account}" if place.kind == "other account" or many else place.kind
    return (
        str(weighed.number),
        kind,
        readable(str(place.address)),
        place.folder.shown,
        *told_,
        waits(weighed) or "-",
        shares,
    )


def _counts(weighed: Weighed) -> Counter[str]:
    return Counter("pending" if found.pending else str(found.severity) for found in weighed.adds)


def _finding(found: Finding, is_new: bool) -> tuple[Span, ...]:
    severity = found.severity or "stop"
    style = STYLES[severity] if is_new else "green"
    if found.pending and is_new:
        return ("to do", style), f" {found.rule}: {text(found.title)}"
    return (severity, style), f" {found.rule}: {text(found.title)}"


def _show_steps(screen: Screen, places: Sequence[Weighed]) -> None:
    """The comparison in full: the points of each step, the smaller number before the larger."""
    screen.blank()
    screen.line("Compared step by step: the first difference decides, and the smaller number comes first.")
    rows = [(*_brief(weighed)[:2], *map(str, weighed.points)) for weighed in places]
    screen.columns(("", "place", *CRITERIA), rows, indent=2)


def _told(findings: Sequence[Finding]) -> str:
    return "; ".join(f"{found.severity} {found.rule}: {text(found.title)}" for found in findings)


def _row(weighing: Weighing, weighed: Weighed) -> PlaceRow:
    place, counts = weighed.place, _counts(weighed)
    return PlaceRow(
        weighed.number, place.kind, place.account, str(place.address), place.folder.shown, text(weighed.there),
        text(weighed.now), text(weighed.after),
        counts["stop"], counts["risk"], counts["note"], _told(weighed.adds), _told(weighed.ends),
        "; ".join(map(clearing_words, weighed.clear)),
        "; ".join(map(thing_words, weighed.create)), "; ".join(map(thing_words, weighed.wait)),
        "; ".join(use.words for use in weighed.uses), "; ".join(map(text, weighed.shares)), leaving(weighed),
        because(weighing, weighed),
    )  # fmt: skip


def _record(weighing: Weighing, weighed: Weighed) -> dict[str, Any]:
    place = weighed.place
    plain: dict[str, Any] = msgspec.structs.asdict(weighed)
    plain |= {key: [finding_record(found) for found in getattr(weighed, key)] for key in ("adds", "lives_with", "ends")}
    plain |= {
        "there": text(weighed.there),
        "now": text(weighed.now),
        "after": text(weighed.after),
        "shares": list(map(text, weighed.shares)),
    }
    plain["points"] = dict(zip(CRITERIA, weighed.points, strict=True))
    plain["uses"] = list(map(msgspec.structs.asdict, weighed.uses))
    return plain | {
        "clear": list(map(clearing_words, weighed.clear)),
        "create": list(map(thing_words, weighed.create)),
        "wait": list(map(thing_words, weighed.wait)),
        "steps": step_records(weighed.steps),
        "leaving": leaving(weighed),
        "because": because(weighing, weighed),
        "place": place.kind,
        "account": place.account,
        "address": str(place.address),
        "folder": place.folder.shown,
        "tables": msgspec.to_builtins(place.addition, enc_hook=str),
    }


_LEAVING = {
    "root": "the domain has to lead elsewhere, and all that lies below its root moves or stays behind",
    "subfolder": "every address below it changes: redirects, stored links and the licence have to follow",
    "front file": "the front file and the folder's own addresses both have to be found and changed",
}


def leaving(weighed: Weighed) -> str:
    """What leaving a place again costs."""
    return _LEAVING.get(
        weighed.place.kind, "its host name takes it along: point that elsewhere, and its addresses stay"
    )


def waits(weighed: Weighed) -> str:
    """The longest wait: minutes, hours, days, or nothing."""
    return unit(weighed.longest.most) if weighed.longest is not None else ""


def effort(weighed: Weighed) -> str:
    return counted(weighed.effort, "step") + (
        f" and {waits(weighed)} of waiting" if weighed.longest is not None else ""
    )


def because(weighing: Weighing, weighed: Weighed) -> str:
    """Why a place has its number."""
    if weighed.number == 1:
        return f"first: {_profile(weighed)}"
    better = weighing.places[weighed.number - 2]
    return f"behind {better.number}: {_why(better, weighed)}"


def advice(weighing: Weighing) -> str:
    """Which place to take, and what to do first."""
    if not weighing.places:
        return f"There is no place for {weighing.application.shown} at {weighing.domain}."
    first = weighing.places[0]
    where = f"{readable(str(first.place.address))} in {first.place.folder.shown}"
    if first.place.account != weighing.account:
        where += f" of account {first.place.account}"
    if first.stops:
        mended = listed(dict.fromkeys(f"{finding.rule} at {finding.at}" for finding in first.stops), 4)
        return f"No place is free of stops. Nearest is {where}, once this is mended: {mended}."
    risks = [finding for finding in first.adds if finding.severity == "risk"]
    but = f", knowing of {listed(dict.fromkeys(finding.rule for finding in risks), 4)}" if risks else ""
    steps = [*map(clearing_words, first.clear), *map(thing_words, first.create)]
    todo = f" First: {steps[0]}{f', and {len(steps) - 1:,} more' if len(steps) > 1 else ''}." if steps else ""
    return f"Take 1, {where}{but}.{todo}"


def _why(better: Weighed, worse: Weighed) -> str:
    """The first step of the comparison at which two places differ, in words."""
    step = better.step_before(worse)
    if step is None:
        return "they are alike, and the simpler kind of place comes first"
    few, many = better.points[step], worse.points[step]
    b, w = better.number, worse.number
    if step == 0:
        return (
            f"nothing new stops {b}, and {w} is stopped by {listed(dict.fromkeys(found.rule for found in worse.stops))}"
        )
    words = [
        "",
        f"{b} lies in nothing live, {w} inside of a live application",
        f"{b} is of the kind you prefer",
        f"{b} adds {counted(few, 'stop')}, {w} adds {many:,}",
        f"{b} {_change(few)}, {w} {_change(many)}",
        f"{b} takes {effort(better)}, {w} takes {effort(worse)}",
        f"{better.place.account} has more room than {worse.place.account}",
        f"{b} is easier to leave later",
        f"{b} shares less with others on the account",
        f"the package of {better.place.account} costs less",
        f"{b} adds fewer notes",
    ]
    return words[step]


def _profile(weighed: Weighed) -> str:
    """What the first place has to be compared by, in short."""
    counts = [(_counts(weighed)[severity], severity) for severity in ("stop", "risk")]
    adds = " and ".join(counted(number, severity) if number else f"no {severity}" for number, severity in counts)
    shares = (
        f"shares {counted(len(weighed.shares), 'thing')} with others"
        if weighed.shares
        else "shares nothing with others"
    )
    return f"adds {adds}, takes {effort(weighed)}, {shares}"


def _change(risks: int) -> str:
    if not risks:
        return "adds no risk"
    return f"{'adds' if risks > 0 else 'ends'} {counted(abs(risks), 'risk')}"
