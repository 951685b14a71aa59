"""Steps in words, and as they are written for programs."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any, assert_never

import msgspec

from kettlepost.core import steps as kinds
from kettlepost.core.messages import Message
from kettlepost.core.names import Folder, printable
from kettlepost.core.plan import Database
from kettlepost.core.plan.toml_text import as_value
from kettlepost.core.remedies import Action, Remedy, argument
from kettlepost.core.secrets import masked
from kettlepost.core.steps import HOURS, Clearing, Creating, OfThePlan, Question, Step, Wait, Waiting, needs_of
from kettlepost.core.words import counted, listed
from kettlepost.render.remedies import command
from kettlepost.render.sentences import text

_SAID_IN_WORDS = (
    kinds.ChangeRoot | kinds.PointName | kinds.AwaitCertificate | kinds.MakeFolder | kinds.CopyFolder
    | kinds.MoveFolder | kinds.MoveFile | kinds.KeepFolder | kinds.KeepFile | kinds.KeepOthers | kinds.DeleteFile
    | kinds.RetireApplication | kinds.LeaveFolder | kinds.WriteFrontFile | kinds.AddLines | kinds.CarryLines
    | kinds.LookAtFile | kinds.LookAtFolder | kinds.Configure | kinds.CopyTables | kinds.KeepTables | kinds.DropTables
    | kinds.DropUser
    | kinds.OpenPage | kinds.LookAgain | kinds.EditLine | kinds.PutPage | kinds.OfThePlan
    | kinds.WriteDown | kinds.Confirm | kinds.Check | kinds.RegisterName | kinds.RedirectToHttps | kinds.MakePassword
    | kinds.TellSearchEngines | kinds.StopMail | kinds.CompareTables | kinds.Freeze | kinds.MergeTables
    | kinds.SendOldOn | kinds.WriteSheet | kinds.CopySheet | kinds.Forget | kinds.Discard | kinds.SetTimeToLive
    | kinds.BringFolder | kinds.BringTables | kinds.SeeAhead | kinds.AwaitForgotten
)  # fmt: skip
"""Steps of which the words say all."""
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
        case kinds.RemoveHost() if step.gives_to:
            return f"take {step.host} off account {step.account}, to be added to {step.gives_to} at once"
        case kinds.RemoveHost():
            return f"remove {step.host} at the host, and its name server entries where the name is used nowhere else"
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
            | kinds.SetAsideFolder()
            | kinds.DeleteFile()
            | kinds.KeepOthers()
        ):
            return clearing_words(step)
        case kinds.CopyFolder():
            stays = [place for place in step.stays if place != step.to]
            but = f", but for {_places(stays)}" if stays else ""
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
            where = "at the beginning of" if step.is_first else "to"
            return f"add {where} {_file(step.folder, step.file)}{each}: {lines}"
        case kinds.CarryLines():
            where = f"line {step.first}" if step.first == step.last else f"lines {step.first} to {step.last}"
            return (
                f"copy what of {where} of {_file(step.folder, step.file)} asks for a password, keeps visitors out, "
                "lists no folder or chooses PHP (Auth..., Require, Options -Indexes, AddHandler and the like, with the "
                f"sections around it) to the beginning of {_file(step.to, step.file)}"
            )
        case kinds.EditLine():
            line = f"line {step.line} of {_file(step.folder, step.file)}, {printable(step.old)}"
            return f"take out {line}" if step.new is None else f"write {printable(step.new)} for {line}"
        case kinds.PutPage():
            return f"put an index page into {step.folder.shown}"
        case kinds.Configure():
            return _configuring_words(step)
        case kinds.CopyTables():
            return f"copy {_tables(step.database, False)} {_copied_into(step)}"
        case kinds.KeepTables():
            return f"keep a copy of {_tables(step.database, step.is_whole, step.stays)}"
        case kinds.DropTables():
            return f"remove {_tables(step.database, step.is_whole, step.stays)}"
        case kinds.DropUser():
            return f"remove the user {printable(step.user)}"
        case kinds.OpenPage():
            return f"open {step.address}, and see that it shows what it did"
        case kinds.LookAgain():
            return f"look at the account's folders{' and databases' if step.databases else ''} again"
        case kinds.WriteDown():
            return "write down for each who looks after it: admin_user and contact"
        case kinds.Confirm():
            return command(Remedy.of(Action.CONFIRM, step.subject))
        case kinds.Check():
            return f"kettlepost check --account {step.account}"
        case _ if isinstance(step, OfThePlan):
            return _plan_words(step)
        case _:
            return _site_words(step)


def _plan_words(step: OfThePlan) -> str:  # noqa: C901 (a closed set)
    match step:
        case kinds.EditPlan():
            return _edit_words(step)
        case kinds.CompleteEntry():
            return f"write {listed(step.keys)} into {_table(step.account, step.table, step.number)}"
        case kinds.Accept():
            return command(Remedy.of(Action.ACCEPT, step.rule, "--at", step.at))
        case kinds.Decide():
            return _QUESTIONS[step.question].format(listed((printable(text(one)) for one in step.about), _NAMED))
        case kinds.ReadIn():
            return command(Remedy.of(Action.READ_IN, step.source))
        case kinds.ProbeAgain():
            return command(Remedy.of(Action.PROBE, step.host))
        case kinds.ProtectName():
            return f"have the host ask for a password at {step.host}"
        case kinds.ProtectFolder():
            what = f" for {listed(map(printable, step.files), _NAMED)}" if step.files else ""
            return f"ask for a password in a control file in {step.folder.shown} itself{what}"
        case kinds.MakePasswordFile():
            path = printable(argument(step.path))
            return (
                f"make the password file {path}, which is new, with a user for each who is let in: htpasswd -c {path} "
                "NAME for the first, and without -c for all others, as that begins it anew"
            )
        case kinds.SetIndexOrder():
            return f"put {printable(step.first)} before {printable(step.then)} in the server's index order"
        case kinds.ChangeRights():
            gives = f"allow {printable(step.user)} {listed(step.gives)}" if step.gives else ""
            takes = f"take {listed(step.takes)} from {printable(step.user)}" if step.takes else ""
            told = " and ".join(filter(None, (gives, takes))) or f"look what {printable(step.user)} may do"
            return f"{told} in {printable(step.database)}"
        case _:
            assert_never(step)


def _edit_words(step: kinds.EditPlan) -> str:
    """A change of the plan: the keys that are set and those that go, in the entry that has them."""
    entry = _table(step.account, step.table, step.number)
    if step.drop:
        return f"take out {entry}"
    gone = [key for key, value in step.values.items() if value is None]
    values = dict(_flat(step.values)) if step.number is not None else step.values
    sets = ", ".join(f"{key} = {as_value(value)}" for key, value in values.items() if value is not None)
    told = [f"write {printable(masked(sets))}"] if sets else []
    told += [f"take {listed(gone)} out"] if gone else []
    if step.number is None and step.table != "account":
        return f"{' and '.join(told)} as a new {entry}"
    return f"{' and '.join(told)} in {entry}"


def _flat(values: dict[str, Any]) -> Iterator[tuple[str, Any]]:
    """Keys with those inside of what they hold, as the others of that stay: `database.name`."""
    for key, value in values.items():
        if isinstance(value, dict):
            yield from ((f"{key}.{inner}", one) for inner, one in _flat(value))
        else:
            yield key, value


def _table(account: str, table: str, number: int | None) -> str:
    """Which table of an account's file: `the second [[domain]] of accounts/millbrook.toml`, counted from 1."""
    if table == "settings":
        return "[settings] of kettlepost.toml"
    file = f"accounts/{account}.toml"
    if table == "account":
        return f"[account] of {file}"
    return f"[[{table}]] of {file}" if number is None else f"[[{table}]] number {number + 1} of {file}"


_QUESTIONS = {
    Question.WHOSE: "find out whose {} is",
    Question.WHICH_IS_THERE: "find out which of {} is really there",
    Question.WHICH_IS_WANTED: "look at {}, and decide which is wanted",
    Question.IS_NEEDED: "find out whether anybody needs {}",
    Question.WHAT_LETS_IN: "see who is let in at {}",
    Question.WHICH_NAME: "see which name of {} the host answers at, and whether by https",
    Question.WHERE_ELSE: "find another place for {}",
    Question.WHAT_GOES: "decide what can go of {}",
    Question.WHAT_IS_RIGHT: "find out which is right about {}",
}


def _site_words(step: kinds.OfSites) -> str:  # noqa: C901 (a closed set)
    match step:
        case kinds.RegisterName():
            return f"register {step.host}"
        case kinds.SettleMail():
            return f"say which mailboxes {step.host} has, and where its mail is to go"
        case kinds.SetNameServers():
            return f"set the name servers of {step.host}"
        case kinds.MakeRecord():
            return f"make the DNS record of {step.host}"
        case kinds.RedirectToHttps():
            return f"send visitors of http://{step.host}/ on to https"
        case kinds.Mend():
            return f"see that it stops no more: {text(step.why)}"
        case kinds.ClearFolder():
            return f"see that nothing is in the way in the folder {step.folder.shown}"
        case kinds.MakePassword():
            return f"make the password that is kept as: {step.password}"
        case kinds.GivePassword():
            return f"give the database user {step.user} its password"
        case kinds.InstallApplication():
            return f"install {step.application} with the host's installer, so that it answers at {step.address}"
        case kinds.UploadFiles():
            where = "once its address leads to a folder"
            where = f"into the folder {step.folder.shown}" if step.folder is not None else where
            return f"upload {step.application} {where}"
        case kinds.WriteSettings():
            return f"write its configuration, {step.file}"
        case kinds.SetUp():
            return f"set it up at {step.address}"
        case kinds.RemoveLeftovers():
            return "remove what its installer left, and sample content"
        case kinds.SeePage():
            return f"open {step.address} and look"
        case kinds.BindLicence():
            return f"bind its licence to {step.address}"
        case kinds.TellSearchEngines():
            how = "let search engines in" if step.lets_in else "keep search engines out, as the plan says"
            return f"search engines: {how}"
        case kinds.CompareTables():
            return f"see what was written into {_tables(step.database, False)} since they were copied"
        case kinds.Freeze():
            return f"see that nobody writes at {step.address} from now on: it would be lost"
        case kinds.SetTimeToLive() if step.seconds is None:
            return f"set the time to live of the DNS records of {listed(step.names)} back to what it was"
        case kinds.SetTimeToLive():
            return f"lower the time to live of the DNS records of {listed(step.names)} to {step.seconds} seconds"
        case kinds.AwaitForgotten():
            return f"wait until nobody keeps the records of {step.host} for as long as before: {wait_words(step.wait)}"
        case kinds.ChangeRecords():
            return f"change the DNS records of {listed(step.names)}, so that they lead to account {step.account}"
        case kinds.BringFolder():
            but = f", but for {_places(step.stays)}" if step.stays else ""
            return f"copy what lies in {step.folder.shown} of account {step.other} to {step.to.shown}{but}"
        case kinds.BringTables():
            target = f"the database {printable(step.target.name)}"
            return f"copy {_tables(step.database, False)} of account {step.other} into {target}"
        case kinds.BringRest():
            mail = "its mailboxes and forwardings with their mail, " if step.has_mail else ""
            return (
                f"see what else of account {step.other} belongs to {step.host}, and make it in {step.account}: {mail}"
                "cron lines, the version and settings of PHP"
            )
        case kinds.SeeAhead():
            return (
                f"open {step.address} from a machine whose hosts file has the line {step.line}, and see that it shows "
                "what it does today"
            )
        case kinds.MergeTables():
            what = "all data" if "all" in step.kinds else listed(map(printable, step.kinds))
            return f"write what {_tables(step.database, False)} hold by now, {what}, {_merged_into(step)}"
        case kinds.StopMail() if step.is_live:
            return f"let {step.address} send mail again, where that was stopped while it was tried out"
        case kinds.StopMail():
            return f"let {step.address} send no mail, by its own settings or at the host"
        case kinds.SendOldOn():
            return f"send the old address {step.old} on to {step.address}"
        case kinds.SetUpdates():
            return "set what updates it, and see that it does"
        case kinds.SetBackups():
            return "set its backups, and see that one can be read"
        case kinds.WriteSheet():
            return f"write the sheet of {step.address}"
        case kinds.CopySheet():
            return f"put its sheet in the second place, {step.to}"
        case kinds.Discard():
            return f"delete for good what was set aside of {step.folder.shown} on {step.day}"
        case kinds.Forget():
            return f"take the entry of {step.subject} out of the plan"
        case _:
            assert_never(step)


def step_details(step: Step) -> list[tuple[str, str]]:
    """What is filled in for a step, beside what its words say: each with what it is called."""
    return [(name, text) for name, value in _details(step) for text in [_value(value)] if text]


def _details(step: Step) -> list[tuple[str, object]]:  # noqa: C901 (a closed set)
    if isinstance(step, _SAID_IN_WORDS):
        return []
    match step:
        case kinds.AddHost():
            return [("kind", _KINDS.get(step.kind, step.kind)), ("root", step.root), ("root to refuse", step.refuse),
                    ("stands for", step.of), ("with it", step.also)]  # fmt: skip
        case kinds.RemoveHost():
            root = f"the folder {step.root.shown} and what is in it" if step.root is not None else ""
            records = "its DNS records" + ("" if step.gives_to else ", where the name is in use elsewhere")
            mail = "mail for it is received here: see to the mailboxes first" if step.has_mail else ""
            return [("must stay", "; ".join(filter(None, [root, *step.others, records]))), ("note", mail)]
        case kinds.AwaitName():
            return [("in the plan", _POINTED if step.is_told_away else "")]
        case kinds.GetCertificate():
            return [("covers", step.covers), ("note", _AHEAD if step.is_ahead else ""),
                    ("in the plan", _CERTIFIED if step.is_undeclared else "")]  # fmt: skip
        case kinds.MakeDatabase():
            return [("collation", step.collation), ("rights", step.rights), ("why", text(step.why_not))]
        case kinds.DeleteFolder() | kinds.SetAsideFolder() | kinds.ClearFolder():
            way = step.in_the_way if isinstance(step, kinds.ClearFolder) else ()
            return [*(("in the way", text(one)) for one in way), ("must stay", step.stays)]
        case kinds.SetNameServers():
            return [("record", f"NS {', '.join(step.servers)}" if step.servers else "")]
        case kinds.MakeRecord():
            return [("record", step.records or "as the host names it, where it makes none itself")]
        case kinds.BringRest():
            files = [f"{one.shown} of account {step.other}" for one in step.files]
            root = step.root.shown if step.root is not None else ""
            says = f"what {listed(files, _NAMED)} says holds in it, too: write it at the beginning of {root}/.htaccess"
            zone = (
                f"where the host of {step.other} keeps its DNS zone, that goes with the name: keep it elsewhere first"
            )
            return [("note", zone), ("note", says if files else "")]
        case kinds.ChangeRecords():
            return [("record", step.records), ("note", _ALL_ADDRESSES)]
        case kinds.SettleMail():
            return [("why", "with the name servers its mail moves, too")]
        case kinds.Mend():
            return [("way out", text(step.how))]
        case kinds.GivePassword():
            return [("password", step.password)]
        case kinds.InstallApplication():
            return [("release", step.release), ("domain", step.host),
                    ("folder box", step.box or "leave it blank: whatever stands there is deleted first"),
                    ("folder", step.folder), *_asked_for(step), ("leave out", step.leave_out),
                    *_care(step)]  # fmt: skip
        case kinds.UploadFiles():
            return [("release", step.release or "look up which is the newest"),
                    ("checksum", step.checksum or "look it up where the release is offered, and compare"),
                    ("files to expect", f"{step.files:,}" if step.files else ""),
                    ("leave out", step.leave_out)]  # fmt: skip
        case kinds.WriteSettings():
            return [("note", f"a copy of {step.sample}" if step.sample else ""),
                    *(("setting", one) for one in step.settings), ("password", step.password),
                    ("must be writable", step.writable)]  # fmt: skip
        case kinds.SetUp():
            own = f"its own set-up writes {step.writes}, or that is written from these values where it has none"
            return [("note", own if step.writes else ""), ("must be writable", step.writable), *_asked_for(step),
                    *_care(step)]  # fmt: skip
        case kinds.RemoveLeftovers():
            return [("remove", step.remove)]
        case kinds.SeePage():
            return [("must show", f"{text(step.shows)}, and no page of the host"), ("also at", step.others)]
        case kinds.BindLicence():
            return [("note", f"it is bound to {step.bound_to}")]
        case kinds.SetUpdates():
            return [("updates", step.updates)]
        case kinds.SetBackups():
            return [("backups", text(step.backups))]
        case _:
            assert_never(step)


def _asked_for(step: kinds.InstallApplication | kinds.SetUp) -> Iterator[tuple[str, object]]:
    if step.database is not None:
        yield "database", step.database.name
        yield "database user", step.database.user
        yield "table prefix", step.database.prefix
        yield "database server", step.server
        yield "password", step.password
    who = step.admin or "a name that nobody guesses"
    yield "administrator", f"{who}, password as kept under: {step.admin_password}"
    yield "contact", step.contact
    yield "also told", step.also_tell
    yield "title", step.title
    yield "language", step.language


def _care(step: kinds.InstallApplication | kinds.SetUp) -> list[tuple[str, object]]:
    return [("updates", step.updates), ("backups", text(step.backups))]


def _value(value: object) -> str:
    if isinstance(value, tuple):
        return ", ".join(map(_value, value))
    shown = value.shown if isinstance(value, Folder) else "" if value is None else str(value)
    return printable(masked(shown))


_KINDS = {"addon": "add-on domain", "primary": "primary domain", "temporary": "temporary address"}
_AHEAD = (
    "its name does not lead here yet: by a record that proves whose it is (a DNS challenge), or bring the one along "
    "that it has, with its key"
)
_ALL_ADDRESSES = (
    "no other A or AAAA records of these names stay; all others do, those of mail among them; where an MX record names "
    "one of these, its mail goes along"
)
_POINTED = "once it does: points_here = true in its entry"
_CERTIFIED = "once it is there: [[certificate]]"


def thing_words(step: Creating | Waiting) -> str:  # noqa: C901 (a closed set)
    """What a step creates or waits for."""
    match step:
        case kinds.AddHost():
            root = step.root.shown if step.root is not None else ""
            return f"{_DOMAINS.get(step.kind, step.kind)} {step.host} with the root {root}"
        case kinds.MakeFolder():
            return f"folder {step.folder.shown}"
        case kinds.MakeDatabase():
            base = step.database
            if step.has_user:
                user = f"with rights for the user {printable(base.user or '')}, whose password stays as it is"
                return f"database {base.name}, {user}; table prefix {base.prefix}"
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
            return f"look at {_file(step.folder, step.file)}: {text(step.says)}"
        case kinds.KeepOthers():
            others = counted(step.count, "other file")
            return f"keep a copy of {others} in {step.folder.shown}, then remove what is not needed"
        case kinds.DeleteFolder() | kinds.SetAsideFolder():
            for_installer = isinstance(step, kinds.DeleteFolder) and step.for_installer
            why = ", which the installer wants to make itself" if for_installer else ""
            places = [place for place in step.stays if place != step.folder]
            what = f"what lies in {step.folder.shown}" if step.stays else ""
            what += f", but for {_places(places)}" if places else ""
            does = "remove" if isinstance(step, kinds.DeleteFolder) else "set aside"
            return f"{does} {what or f'the folder {step.folder.shown}'}{why}"
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
        plain: dict[str, Any] = _masked(msgspec.to_builtins(step, enc_hook=printable) | dict(_said(step)))
        if isinstance(step, Waiting):
            plain["wait"] = {"least": step.wait.least, "most": step.wait.most}
        if plain.get("remedy") is not None:
            plain["remedy"] = commands_of([step])[0]
        who = {"who": str(step.who), "seen": str(step.seen), "needs": [need + 1 for need in needs]}
        records.append(plain | {"number": number} | who | {"words": step_words(step)})
    return records


def _said(step: Step) -> Iterator[tuple[str, Any]]:
    """The fields of a step that are messages, or have some among them, in words."""
    for name, value in msgspec.structs.asdict(step).items():
        if isinstance(value, Message):
            yield name, text(value)
        elif isinstance(value, tuple) and any(isinstance(one, Message) for one in value):
            yield name, [text(one) for one in value]


def _masked(plain: Any) -> Any:
    """The same without secrets, in whatever it holds."""
    if isinstance(plain, dict):
        return {key: _masked(value) for key, value in plain.items()}
    if isinstance(plain, list | tuple):
        return [_masked(value) for value in plain]
    return masked(plain) if isinstance(plain, str) else plain


def _configuring_words(step: kinds.Configure) -> str:
    where = f" in {step.folder.shown}" if step.folder is not None else ""
    base = step.database
    told = f"the database {printable(base.name)}, table prefix {printable(base.prefix)}" if base is not None else ""
    if step.address and told:
        return f"write the address {step.address} into the copied tables of {step.installation}: {told}"
    if step.address:
        return f"change the settings of {step.installation}{where} to {step.address}"
    return f"name {told} in the configuration of {step.installation}{where}"


def _copied_into(step: kinds.CopyTables) -> str:
    target = step.target
    if target.name != step.database.name:
        return f"into the database {printable(target.name)}"
    return f"as tables that begin with {printable(target.prefix)}"


def _merged_into(step: kinds.MergeTables) -> str:
    same = step.target.name == step.database.name
    begin = f" that begin with {printable(step.target.prefix)}" if step.target.prefix else ""
    return f"into those{begin}" if same else f"into the same of the database {printable(step.target.name)}"


def _tables(base: Database, is_whole: bool, but: Iterable[str] = ()) -> str:
    """A database, or its tables with one prefix, without those of longer ones."""
    name = printable(base.name)
    if is_whole or not base.prefix:
        return f"the database {name}" if is_whole else f"the tables in the database {name}"
    apart = ", but not with ".join(["", *map(printable, but)])
    return f"the tables in the database {name} that begin with {printable(base.prefix)}{apart}"


def _places(folders: Iterable[Folder]) -> str:
    return listed((place.shown for place in folders), _NAMED)


def _file(folder: Folder, name: str) -> str:
    return printable(folder.below(name)) if folder else printable(name)
