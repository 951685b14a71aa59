"""Steps in words, and as they are written for programs."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, assert_never

import msgspec

from kettlepost.core import steps as kinds
from kettlepost.core.names import Folder, printable
from kettlepost.core.plan import Database
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.steps import HOURS, Clearing, Creating, Step, Wait, Waiting, needs_of
from kettlepost.core.words import counted, listed
from kettlepost.render.remedies import command

_DOMAINS = {"addon": "add-on domain"}
_UNITS = ((3_600, "minutes"), (86_400, "hours"))
_NAMED = 8


def unit(seconds: int) -> str:
    """The unit in which people count a time."""
    return next((name for most, name in _UNITS if seconds < most), "days")


def wait_words(wait: Wait) -> str:
    """`minutes`, `minutes to hours`."""
    least, most = unit(wait.least), unit(wait.most)
    return least if least == most else f"{least} to {most}"


def step_words(step: Step) -> str:  # noqa: C901 (a closed set)
    """A step as a person is told to do it."""
    match step:
        case kinds.AddHost():
            return f"add {step.host} at the host" + (f" with the folder {step.root.shown}" if step.root else "")
        case kinds.ChangeRoot():
            return f"change the folder of {step.host} at the host from {step.old.shown} to {step.root.shown}"
        case kinds.RemoveHost():
            return f"remove {step.host} at the host, and its name server entries"
        case kinds.PointName():
            return f"see that the name servers lead {step.host} here"
        case kinds.MakeFolder() | kinds.MakeDatabase() | kinds.WriteFrontFile() | kinds.GetCertificate():
            return f"create the {thing_words(step)}"
        case kinds.AwaitName() | kinds.AwaitCertificate():
            return f"wait for {thing_words(step)}"
        case (
            kinds.RetireApplication()
            | kinds.LookAtFile()
            | kinds.DeleteFolder()
            | kinds.DeleteFile()
            | kinds.KeepOthers()
        ):
            return clearing_words(step)
        case kinds.CopyFolder():
            but = f", but for {_places(step.stays)}, which others use" if step.stays else ""
            return f"copy what lies in {step.folder.shown} to {step.to.shown}{but}"
        case kinds.MoveFolder():
            return f"move the folder {step.folder.shown} to {step.to.shown}"
        case kinds.MoveFile():
            return f"move {_file(step.folder, step.file)} to {step.to.shown}"
        case kinds.KeepFolder():
            return f"keep a copy of the folder {step.folder.shown}"
        case kinds.KeepFile():
            return f"keep a copy of {_file(step.folder, step.file)}"
        case kinds.LeaveFolder():
            return f"what lies in {step.folder.shown} stays there: {counted(step.count, 'file')}"
        case kinds.LookAtFolder():
            return f"look what lies in {step.folder.shown}, and decide whose it is"
        case kinds.AddLines():
            each = ", each as a line of its own" if len(step.lines) > 1 else ""
            lines = "; then ".join(map(printable, step.lines))
            return f"add to {_file(step.folder, step.file)}{each}: {lines}"
        case kinds.Configure():
            return _configuring_words(step)
        case kinds.CopyTables():
            return f"copy {_tables(step.database, False)} {_copied_into(step)}"
        case kinds.KeepTables():
            return f"keep a copy of {_tables(step.database, step.is_whole)}"
        case kinds.DropTables():
            return f"remove {_tables(step.database, step.is_whole)}"
        case kinds.DropUser():
            return f"remove the user {printable(step.user)}"
        case kinds.OpenPage():
            return f"open {step.address}, and see that it shows what it did"
        case kinds.LookAgain():
            return "take the survey again once that is done"
        case kinds.WriteDown():
            return "write down for each who looks after it: admin_user and contact"
        case kinds.Confirm():
            return command(Remedy.of(Do.CONFIRM, step.subject))
        case kinds.Check():
            return f"kettlepost check --account {step.account}"
        case _:
            assert_never(step)


def thing_words(step: Creating | Waiting) -> str:
    """What a step creates or waits for."""
    match step:
        case kinds.AddHost():
            root = step.root.shown if step.root is not None else ""
            return f"{_DOMAINS.get(step.kind, step.kind)} {step.host} with the root {root}"
        case kinds.MakeFolder():
            return f"folder {step.folder.shown}"
        case kinds.MakeDatabase():
            base = step.database
            return f"database {base.name}, user {base.user or base.name}, table prefix {base.prefix}"
        case kinds.WriteFrontFile():
            return f"front file {_file(step.folder, step.file)} that starts what is in {step.starts.shown}"
        case kinds.GetCertificate():
            return f"certificate for {step.host}"
        case kinds.AwaitName():
            how_long = wait_words(step.wait)
            if not step.is_registered:
                return f"{step.host} to be registered and to point here: {how_long}"
            if step.wait == HOURS:
                return f"name servers to know {step.host}: {how_long}"
            return f"{step.host} to point here: {how_long}"
        case kinds.AwaitCertificate():
            return f"the certificate, once the name points here: {wait_words(step.wait)}"
        case _:
            assert_never(step)


def clearing_words(step: Clearing) -> str:
    """What a step takes out of the way."""
    match step:
        case kinds.RetireApplication():
            return f"move or retire {step.application} in {step.folder.shown}"
        case kinds.LookAtFile():
            return f"look at {_file(step.folder, step.file)}: {step.says}"
        case kinds.KeepOthers():
            others = counted(step.count, "other file")
            return f"keep a copy of {others} in {step.folder.shown}, then remove what is not needed"
        case kinds.DeleteFolder():
            why = ", which the installer wants to make itself" if step.for_installer else ""
            what = f"what lies in {step.folder.shown}, but for {_places(step.stays)}" if step.stays else ""
            return f"remove {what or f'the folder {step.folder.shown}'}{why}"
        case kinds.DeleteFile():
            name = _file(step.folder, step.file)
            return f"look at the placeholder {name}, and remove it" if step.is_placeholder else f"remove {name}"
        case _:
            assert_never(step)


def commands_of(steps: Iterable[Step]) -> list[str]:
    """What does some steps with the program, each command once."""
    remedies = (getattr(step, "remedy", None) for step in steps)
    return list(dict.fromkeys(command(remedy) for remedy in remedies if remedy is not None))


def step_records(steps: Sequence[Step]) -> list[dict[str, Any]]:
    """Steps as they are written for programs: slugs, waits in seconds, and the numbers of what each needs first."""
    records = []
    for number, (step, needs) in enumerate(zip(steps, needs_of(steps), strict=True), 1):
        plain: dict[str, Any] = msgspec.to_builtins(step, enc_hook=printable)
        if isinstance(step, Waiting):
            plain["wait"] = {"least": step.wait.least, "most": step.wait.most}
        if plain.get("remedy") is not None:
            plain["remedy"] = commands_of([step])[0]
        who = {"who": str(step.who), "seen": str(step.seen), "needs": [need + 1 for need in needs]}
        records.append(plain | {"number": number} | who | {"words": step_words(step)})
    return records


def _configuring_words(step: kinds.Configure) -> str:
    where = f" in {step.folder.shown}" if step.folder is not None else ""
    if step.address:
        return f"change the settings of {step.installation}{where} to {step.address}"
    base = step.database
    told = f"the database {printable(base.name)}, table prefix {printable(base.prefix)}" if base is not None else ""
    return f"name {told} in the configuration of {step.installation}{where}"


def _copied_into(step: kinds.CopyTables) -> str:
    target = step.target
    if target.name != step.database.name:
        return f"into the database {printable(target.name)}"
    return f"as tables that begin with {printable(target.prefix)}"


def _tables(base: Database, is_whole: bool) -> str:
    """A database, or its tables with one prefix."""
    name = printable(base.name)
    if is_whole or not base.prefix:
        return f"the database {name}" if is_whole else f"the tables in the database {name}"
    return f"the tables in the database {name} that begin with {printable(base.prefix)}"


def _places(folders: Iterable[Folder]) -> str:
    return listed((place.shown for place in folders), _NAMED)


def _file(folder: Folder, name: str) -> str:
    return printable(folder.below(name)) if folder else printable(name)
