"""A work list in words, for whoever does a step: also for people who have never heard of the program."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from typing import Any

import msgspec

from kettlepost.core.errors import InputError
from kettlepost.core.quoting.csv import Csv, table
from kettlepost.core.quoting.markdown import Markdown, code, text
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.words import counted
from kettlepost.core.work import PEOPLE, WorkKind, WorkList, WorkStep
from kettlepost.render import gate
from kettlepost.render.json import WITH_STEPS, document
from kettlepost.render.remedies import command
from kettlepost.render.results import WorkShown
from kettlepost.render.screen import Screen
from kettlepost.render.steps import step_details, step_records, step_words, wait_words

_MARKS = {"done": "[x]", "ready": "[ ]", "waiting": "[~]", "blocked": "[-]"}
_MEANWHILE = 4
_COLUMN = 18
_TITLES = {
    WorkKind.CONFIRM: "write down that {site} is live",
    WorkKind.MOVED: "write down that {site} has moved",
    WorkKind.TAKEN_OVER: "write down that {site} is what was rehearsed",
    WorkKind.ADD: "add {site} to the hosting account",
    WorkKind.POINTS: "wait until {site} leads here everywhere",
    WorkKind.CERTIFICATE: "have a certificate made for {site}",
}
"""What the list says in words of its own, as it has what is filled in beside it."""
_NO_STOP = (
    WorkKind.SEND_ON,
    WorkKind.PASSWORD,
    WorkKind.INSTALL,
    WorkKind.SET_UP,
    WorkKind.READDRESS,
    WorkKind.REDIRECT,
)
"""Steps whose words end in what is to be copied as it stands."""
_ALWAYS = datetime.datetime(2000, 1, 1, tzinfo=datetime.UTC)
"""When each to-do was last changed, so that the same work is the same file."""
_ORDER = {name: n for n, name in enumerate(PEOPLE)}


def title(step: WorkStep) -> str:
    """What is to be done, in a sentence to whoever does it."""
    text = _TITLES[step.kind].format(site=step.site) if step.kind in _TITLES else step_words(step.step)
    stop = "" if step.kind in _NO_STOP else "."
    return f"{text[:1].upper()}{text[1:]}{stop}"


def details(step: WorkStep, is_for_others: bool = False) -> list[tuple[str, str]]:
    """What is filled in, but for what the title says; then how it is done, for those who have the program."""
    told = [one for one in step_details(step.step) if one[0] != "in the plan" or not is_for_others]
    if not is_for_others:
        told += [("command", _command(remedy)) for remedy in step.remedies]
        told += [("way back", command(step.way_back))] if step.way_back is not None else []
    if step.said is not None and (step.said.note or step.said.by):
        told.append(("said", " ".join(filter(None, (step.said.at[:10], step.said.by, step.said.note)))))
    return told


def progress(work: WorkList) -> str:
    """`11 of 19 done, 3 waiting until Thursday, 2 can be done now`."""
    parts = [f"{work.done:,} of {len(work.steps):,} done"]
    waiting, ready = work.waiting, work.ready
    if waiting:
        until = max(step.until for step in waiting)
        parts.append(f"{len(waiting):,} waiting{f' until {_day(until)}' if until else ''}")
    if ready:
        parts.append(f"{len(ready):,} can be done now")
    return ", ".join(parts)


def show_work(screen: Screen, shown: WorkShown) -> None:
    """Account by account, site by site; what is done in a line, what is open with all that is filled in."""
    work = shown.work
    if not work.steps:
        screen.line("Nothing is to be done.")
        return
    if shown.next_only:
        _show_next(screen, work, shown.is_for_others)
        return
    site = ("", "")
    ready = [step.id for step in work.ready]  # among which none is that waits
    for step in work.steps:
        if (step.account, step.site) != site:
            if site[0]:
                screen.blank()
            site = step.account, step.site
            screen.line((step.site, "bold"), (f"  {step.account}", "dim"))
        _show_step(screen, step, ready, shown.is_for_others)
    screen.blank()
    screen.line((progress(work), "bold"))
    if work.span is not None:
        between = f"{_day(work.span.earliest)} and {_day(work.span.latest)}"
        chain = counted(len(work.span.chain), "step")
        screen.line(f"the last of it between {between}; * marks the longest chain, {chain}")
    screen.line(("[x] done   [ ] can be done now   [~] takes time   [-] what it needs comes first", "dim"))


def work_json(shown: WorkShown) -> str:
    work = shown.work
    steps = _next(work) if shown.next_only else work.steps
    return document({
        "steps": [_json(step) for step in steps], "progress": progress(work), "done": work.done,
        "earliest": work.span.earliest if work.span else None, "latest": work.span.latest if work.span else None,
        "longest": list(work.span.chain) if work.span else [],
    }, WITH_STEPS)  # fmt: skip


def work_csv(shown: WorkShown) -> Csv:
    steps = _next(shown.work) if shown.next_only else shown.work.steps
    rows = (
        (step.id, step.state, step.account, step.site, step.who, title(step),
         "; ".join(_pairs(step, shown)), " ".join(step.needs), step.until)
        for step in steps
    )  # fmt: skip
    return table(("id", "state", "account", "site", "who", "what", "details", "needs", "until"), rows)


def work_markdown(shown: WorkShown) -> Markdown:
    """A checklist that pastes into a ticket or a mail."""
    lines = [Markdown.of("# Work"), Markdown.of(""), text(f"{progress(shown.work)}."), Markdown.of("")]
    site = ("", "")
    for step in _next(shown.work) if shown.next_only else shown.work.steps:
        if (step.account, step.site) != site:
            site = step.account, step.site
            head = Markdown.of("## «site» («account»)", site=text(step.site), account=text(step.account))
            lines += [Markdown.of(""), head, Markdown.of("")]
        lines += _step_markdown(step, shown.is_for_others)
    return Markdown.joined([*lines, Markdown.of("")])


def _step_markdown(step: WorkStep, is_for_others: bool) -> Iterator[Markdown]:
    yield Markdown.of(
        "- [«mark»] **«title»** «who», «id»", mark=Markdown.of("x") if step.is_done else Markdown.of(" "),
        title=text(title(step)), who=text(step.who), id=code(step.id),
    )  # fmt: skip
    if step.is_done:
        return
    for name, value in details(step, is_for_others):
        shown = code(value) if name in ("command", "way back") else text(value)
        yield Markdown.of("  - «name»: «value»", name=text(name), value=shown)
    if step.blocked_by:
        yield Markdown.of("  - first: «steps»", steps=Markdown.joined(map(code, step.blocked_by), ", "))


def work_ics(shown: WorkShown) -> str:
    """What is open as to-dos (RFC 5545), due on the day by which it is done as a rule."""
    try:
        from icalendar import Calendar, Todo
    except ImportError:
        raise InputError("a calendar wants one more package", Remedy.of(Action.ADD_EXTRA, "calendar")) from None
    calendar = Calendar()
    calendar.add("prodid", "-//Kettlepost//work//EN")
    calendar.add("version", "2.0")
    steps = _next(shown.work) if shown.next_only else shown.work.steps
    for step in steps:
        if step.is_done:
            continue
        entry = Todo()
        entry.add("uid", f"{step.id}@{step.account}.kettlepost.invalid")
        entry.add(
            "dtstamp", datetime.datetime(2000, 1, 1, tzinfo=datetime.UTC)
        )  # so that the same work is the same file
        entry.add("summary", gate.plain(title(step)))
        told = [
            f"{name}: {value}"
            for name, value in (("for", step.site), ("who", step.who), *details(step, shown.is_for_others))
        ]
        entry.add("description", "\n".join(map(gate.plain, told)))
        if step.until:
            entry.add("due", datetime.date.fromisoformat(step.until))
        entry.add("status", "NEEDS-ACTION")
        calendar.add_component(entry)
    raw: bytes = calendar.to_ical()
    return raw.decode("utf-8")


def _show_step(screen: Screen, step: WorkStep, ready: list[str], is_for_others: bool) -> None:
    state = step.state
    star = "*" if step.is_longest and not step.is_done else " "
    style = "dim" if state == "done" else "bold" if state == "ready" else ""
    screen.labelled(
        (f"{_MARKS[state]}{star}", style), (title(step), style), (f"  {step.who}" if not step.is_wait else "", "dim"),
        (f"  {step.id}", "dim"), indent=2, column=5,
    )  # fmt: skip
    if step.is_contradicted and step.said is not None:
        by = f" by {step.said.by}" if step.said.by else ""
        screen.labelled(
            "but", f"it was said to be done{by} on {step.said.at[:10]}, and is seen not to be", indent=7, column=_COLUMN
        )
    if state == "done":
        if (step.set_aside or step.carried) and step.way_back is not None and not is_for_others:
            screen.labelled(("way back", "dim"), command(step.way_back), indent=7, column=_COLUMN)
        return
    for name, value in details(step, is_for_others):
        screen.labelled((name, "dim"), value, indent=7, column=_COLUMN)
    if step.is_wait and step.wait is not None:
        screen.labelled(("takes", "dim"), wait_words(step.wait), indent=7, column=_COLUMN)
        if state == "waiting" and ready:
            more = len(ready) - _MEANWHILE
            told = ", ".join(ready[:_MEANWHILE]) + (f" and {more:,} more" if more > 0 else "")
            screen.labelled(("meanwhile", "dim"), told, indent=7, column=_COLUMN)
    if step.blocked_by:
        screen.labelled(("first", "dim"), ", ".join(step.blocked_by), indent=7, column=_COLUMN)


def _show_next(screen: Screen, work: WorkList, is_for_others: bool) -> None:
    """What can be done now, by who does it."""
    who = ""
    for step in _next(work):
        if step.who != who:
            if who:
                screen.blank()
            who = step.who
            screen.line((who[:1].upper() + who[1:], "bold"))
        screen.labelled(("[ ]", "bold"), title(step), (f"  {step.site}  {step.id}", "dim"), indent=2, column=5)
        for name, value in details(step, is_for_others):
            screen.labelled((name, "dim"), value, indent=7, column=_COLUMN)
    if not work.ready:
        screen.line("Nothing can be done now.")
    screen.blank()
    screen.line((progress(work), "bold"))


def _pairs(step: WorkStep, shown: WorkShown) -> list[str]:
    return [f"{name}: {value}" for name, value in details(step, shown.is_for_others)]


def _next(work: WorkList) -> list[WorkStep]:
    return sorted(work.ready, key=lambda step: (_ORDER.get(step.who, len(_ORDER)), step.who))


def _command(remedy: Remedy) -> str:
    return f"{command(remedy)} | the database's client" if "--passwords" in remedy.subject else command(remedy)


def _json(step: WorkStep) -> dict[str, Any]:
    plain = {name: getattr(step, name) for name in step.__struct_fields__ if name not in ("step", "remedies")}
    told: dict[str, Any] = msgspec.to_builtins(plain)
    what = step_records([step.step])[0]
    return told | {
        "step": {key: value for key, value in what.items() if key not in ("number", "needs")},
        "title": title(step), "state": step.state, "way_back": command(step.way_back) if step.way_back else None,
        "commands": list(map(_command, step.remedies)),
        "details": [{"item": name, "value": value} for name, value in step_details(step.step)],
        "remedies": [{"do": one.do, "subject": one.subject} for one in step.remedies],
    }  # fmt: skip


def _day(iso: str) -> str:
    """`Thursday 26 November`."""
    day = datetime.date.fromisoformat(iso)
    return f"{_DAYS[day.weekday()]} {day.day} {_MONTHS[day.month - 1]}"


_DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November",
           "December")  # fmt: skip
