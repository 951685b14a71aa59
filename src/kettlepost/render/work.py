"""A work list in words, for whoever does a step: also for people who have never heard of the program."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from typing import Any

import msgspec

from kettlepost.core.errors import InputError
from kettlepost.core.quoting.csv import Csv, table
from kettlepost.core.quoting.markdown import Markdown, code, text
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.words import counted
from kettlepost.core.work import PEOPLE, Item, WorkKind, WorkList, WorkStep
from kettlepost.render import gate
from kettlepost.render.json import WITH_STEPS, document
from kettlepost.render.remedies import command
from kettlepost.render.results import WorkShown
from kettlepost.render.screen import Screen
from kettlepost.render.steps import step_records, step_words, wait_words

_MARKS = {"done": "[x]", "ready": "[ ]", "waiting": "[~]", "blocked": "[-]"}
_MEANWHILE = 4
_COLUMN = 18
_TITLES = {
    WorkKind.MEND: "{mended}.",
    WorkKind.MAIL: "Say which mailboxes {site} has, and where its mail is to go.",
    WorkKind.REGISTER: "Register {site}.",
    WorkKind.NAME_SERVERS: "Set the name servers of {site}.",
    WorkKind.ADD: "Add {site} to the hosting account.",
    WorkKind.RECORD: "Make the DNS record of {site}.",
    WorkKind.POINTS: "Wait until {site} leads here everywhere.",
    WorkKind.CERTIFICATE: "Have a certificate made for {site}.",
    WorkKind.HTTPS: "Send visitors of http://{site}/ on to https.",
    WorkKind.MAKE_FOLDER: "{advice}.",
    WorkKind.COPY_FILES: "{advice}.",
    WorkKind.MOVE_ROOT: "{advice}.",
    WorkKind.LOOK: "{advice}.",
    WorkKind.SEND_ON: "{advice}",
    WorkKind.CLEAR_OLD: "{advice}.",
    WorkKind.MOVED: "Write down that {site} has moved.",
    WorkKind.FOLDER: "Create the folder {folder}.",
    WorkKind.CLEAR: "See that nothing is in the way in the folder {folder}.",
    WorkKind.PASSWORD: "Make the password that is kept as: {password}",
    WorkKind.DATABASE: "Make the database {database}, its user and its rights.",
    WorkKind.UNLOCK: "Give the database user {user} its password.",
    WorkKind.INSTALL: "Install {application} with the host's installer, so that it answers at {address}",
    WorkKind.UPLOAD: "Upload {application} into the folder {folder}.",
    WorkKind.CONFIGURE: "Write its configuration, {file}.",
    WorkKind.SET_UP: "Set it up at {open}",
    WorkKind.LEFTOVERS: "Remove what its installer left, and sample content.",
    WorkKind.ENGINES: "Search engines: {note}.",
    WorkKind.SURVEY: "Look at the account's folders again.",
    WorkKind.CONFIRM: "Write down that {site} is live.",
    WorkKind.VERIFY: "Open {open} and look.",
    WorkKind.LICENCE: "Bind its licence to {site}.",
    WorkKind.REDIRECT: "Send the old address {open} on to {address}",
    WorkKind.UPDATES: "Set what updates it, and see that it does.",
    WorkKind.COPIES: "Set its backups, and see that one can be read.",
    WorkKind.REMOVE_HOST: "Take {site} off the hosting account.",
    WorkKind.REMOVE_FILES: "Remove its files in {folder}, with a copy kept.",
    WorkKind.REMOVE_TABLES: "Remove its tables in {database}, with a dump kept.",
    WorkKind.FORGET: "Take the entry of {site} out of the plan.",
    WorkKind.SHEET: "Write the sheet of {site}.",
    WorkKind.SECOND_COPY: "Put its sheet in the second place, {folder}.",
}
_BLANKS = {
    "folder": Item.FOLDER, "password": Item.PASSWORD, "database": Item.DATABASE, "user": Item.USER,
    "application": Item.APPLICATION, "address": Item.ADDRESS, "file": Item.FILE, "open": Item.OPEN, "note": Item.NOTE,
}  # fmt: skip
_ALWAYS = datetime.datetime(2000, 1, 1, tzinfo=datetime.UTC)
"""When each to-do was last changed, so that the same work is the same file."""
_ORDER = {name: n for n, name in enumerate(PEOPLE)}


def title(step: WorkStep) -> str:
    """What is to be done, in a sentence to whoever does it."""
    values = {name: (step.of(item) or [""])[0] for name, item in _BLANKS.items()}
    values["mended"] = (step.of(Item.NOTE) or step.of(Item.WHY) or [""])[0]
    advice = step_words(step.step) if step.step is not None else ""
    text = _TITLES[step.kind].format(site=step.site, advice=advice, **values)
    return text[:1].upper() + text[1:]


def details(step: WorkStep, is_for_others: bool = False) -> list[tuple[str, str]]:
    """What is filled in, but for what the title says; then how it is done, for those who have the program."""
    said = {item for name, item in _BLANKS.items() if f"{{{name}}}" in _TITLES[step.kind]}
    if step.kind is WorkKind.MEND and step.of(Item.NOTE):
        said.add(Item.NOTE)
    told = [(str(one.item), one.value) for one in step.details if one.item not in said]
    told = [one for one in told if one[0] != Item.PLAN or not is_for_others]
    if not is_for_others:
        told += [("command", _command(remedy)) for remedy in step.remedies]
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
    ready = [step.id for step in work.ready]
    for step in work.steps:
        if (step.account, step.site) != site:
            if site[0]:
                screen.blank()
            site = step.account, step.site
            screen.line((step.site, "bold"), (f"  {step.account}", "dim"))
        _show_step(screen, step, [own for own in ready if own != step.id], shown.is_for_others)
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
        shown = code(value) if name == "command" else text(value)
        yield Markdown.of("  - «name»: «value»", name=text(name), value=shown)
    if step.blocked_by:
        yield Markdown.of("  - first: «steps»", steps=Markdown.joined(map(code, step.blocked_by), ", "))


def work_ics(shown: WorkShown) -> str:
    """What is open as to-dos (RFC 5545), due on the day by which it is done as a rule."""
    try:
        from icalendar import Calendar, Todo
    except ImportError:
        raise InputError("a calendar wants one more package", Remedy.of(Do.ADD_EXTRA, "calendar")) from None
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
    advice = step_records([step.step])[0] if step.step is not None else None
    told: dict[str, Any] = msgspec.to_builtins(msgspec.structs.replace(step, step=None))
    return told | {
        "step": {key: value for key, value in advice.items() if key not in ("number", "needs")} if advice else None,
        "title": title(step), "state": step.state, "commands": list(map(_command, step.remedies)),
        "details": [{"item": one.item, "value": one.value} for one in step.details],
        "remedies": [{"do": one.do, "subject": one.subject} for one in step.remedies],
    }  # fmt: skip


def _day(iso: str) -> str:
    """`Thursday 26 November`."""
    day = datetime.date.fromisoformat(iso)
    return f"{_DAYS[day.weekday()]} {day.day} {_MONTHS[day.month - 1]}"


_DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_MONTHS = ("January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November",
           "December")  # fmt: skip
