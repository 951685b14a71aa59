"""Steps in words."""

from __future__ import annotations

from collections.abc import Iterable

from kettlepost.core.names import printable
from kettlepost.core.steps import HOURS, Step, StepKind, SubjectKind, Wait
from kettlepost.core.words import counted, listed
from kettlepost.render.remedies import command

_DOMAINS = {"addon": "add-on domain"}
_UNITS = ((3_600, "minutes"), (86_400, "hours"))


def unit(seconds: int) -> str:
    """The unit in which people count a time."""
    return next((name for most, name in _UNITS if seconds < most), "days")


def wait_words(wait: Wait) -> str:
    """`minutes`, `minutes to hours`."""
    least, most = unit(wait.least), unit(wait.most)
    return least if least == most else f"{least} to {most}"


def step_words(step: Step) -> str:
    """A step as a person is told to do it."""
    kind = step.kind
    if kind is StepKind.CREATE or (kind is StepKind.ADD and step.subject.kind is not SubjectKind.HOST):
        return f"create the {thing_words(step)}"
    if kind is StepKind.WAIT:
        return f"wait for {thing_words(step)}"
    if step.clears:
        return clearing_words(step)
    return _other_words(step)


def thing_words(step: Step) -> str:
    """What a step creates or waits for."""
    name = step.subject.name
    if step.kind is StepKind.WAIT:
        return _awaited(step)
    if step.subject.kind is SubjectKind.HOST:
        root = step.where.shown if step.where is not None else ""
        return f"{_DOMAINS.get(step.what, step.what)} {name} with the root {root}"
    if step.subject.kind is SubjectKind.DATABASE and step.database is not None:
        base = step.database
        return f"database {name}, user {base.user or name}, table prefix {base.prefix}"
    if step.subject.kind is SubjectKind.FILE:
        return f"{step.what} {name} that starts what is in {step.where.shown if step.where is not None else ''}"
    if step.subject.kind is SubjectKind.CERTIFICATE:
        return f"certificate for {name}"
    return f"{step.subject.kind} {name}"


def commands_of(steps: Iterable[Step]) -> list[str]:
    """What does some steps with the program, each command once."""
    return list(dict.fromkeys(command(step.remedy) for step in steps if step.remedy is not None))


def clearing_words(step: Step) -> str:
    """What a step takes out of the way."""
    name, where = step.subject.name, step.where.shown if step.where is not None else ""
    if step.kind is StepKind.MOVE:
        return f"move or retire {name} in {where}"
    if step.kind is StepKind.LOOK:
        return f"look at {name}: {step.what}"
    if step.kind is StepKind.COPY and step.count:
        return f"keep a copy of {counted(step.count, 'other file')} in {name}, then remove what is not needed"
    if step.kind is StepKind.COPY:
        return f"keep a copy of {_data_words(step)}"
    if step.subject.kind is SubjectKind.FOLDER and step.stays:
        return f"remove what lies in {name}, but for {listed((place.shown for place in step.stays), 8)}"
    if step.subject.kind in (SubjectKind.FOLDER, SubjectKind.DATABASE, SubjectKind.TABLES, SubjectKind.USER):
        return f"remove {_data_words(step)}" + (f", {step.what}" if step.what else "")
    if step.subject.kind is SubjectKind.HOST:
        return f"remove {name} at the host, and its name server entries"
    return f"look at {step.what} {name}, and remove it" if step.what else f"remove {name}"


def _data_words(step: Step) -> str:
    """The folder, database, tables or user that a step is about."""
    name = printable(step.subject.name)
    if step.subject.kind is SubjectKind.TABLES and step.database is not None:
        return f"the tables in the database {name} that begin with {printable(step.database.prefix)}"
    return f"the {step.subject.kind} {name}"


def _awaited(step: Step) -> str:
    name, how_long = step.subject.name, wait_words(step.wait) if step.wait is not None else ""
    if step.subject.kind is SubjectKind.CERTIFICATE:
        return f"the certificate, once the name points here: {how_long}"
    kinds = {subject.kind for subject in step.needs}
    if SubjectKind.REGISTRATION in kinds:
        return f"{name} to be registered and to point here: {how_long}"
    if SubjectKind.HOST in kinds and step.wait == HOURS:
        return f"name servers to know {name}: {how_long}"
    return f"{name} to point here: {how_long}"


def _other_words(step: Step) -> str:
    name, where = step.subject.name, step.where
    if step.kind is StepKind.ADD:
        return f"add {name} at the host" + (f" with the folder {where.shown}" if where is not None else "")
    if step.kind is StepKind.POINT:
        return f"see that the name servers lead {name} here"
    if step.kind is StepKind.CHANGE:
        return f"change the folder of {name} at the host to {where.shown if where is not None else ''}"
    if step.kind is StepKind.LEAVE:
        return f"what lies in {name} stays there: {counted(step.count, 'file')}"
    if step.kind is StepKind.SURVEY:
        return "take the survey again once that is done"
    if step.kind is StepKind.WRITE_DOWN:
        return f"write down for each who looks after it: {step.what}"
    return f"kettlepost check --account {name}"
