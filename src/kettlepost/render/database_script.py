"""Scripts for database servers: SQL for the server's own client, fields for a host's form, copies of tables."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from kettlepost.core.databases import (
    Dialect,
    WantedDatabase,
    making_statements,
    session_statements,
    taking_back_statements,
)
from kettlepost.core.errors import InputError
from kettlepost.core.names import printable
from kettlepost.core.quoting import plain
from kettlepost.core.quoting.sh import Sh, said
from kettlepost.core.quoting.sql import Sql, comment
from kettlepost.core.words import listed
from kettlepost.render.bring_script import bring_script
from kettlepost.render.copy_script import copy_script
from kettlepost.render.json import document
from kettlepost.render.results import CopyShown, ScriptsShown
from kettlepost.render.screen import Screen
from kettlepost.render.sentences import text
from kettlepost.workspace.database_scripts import ServerScript

_CLIENTS = {
    "mysql": "mysql --default-character-set=utf8mb4", "mariadb": "mariadb --default-character-set=utf8mb4",
    "postgresql": "psql --no-psqlrc --quiet",
}  # fmt: skip


def show_scripts(screen: Screen, shown: ScriptsShown) -> None:
    """The statements, with what whoever runs them is to know as comments; or the fields of a form."""
    for line in map(plain, _fields(shown.scripts)) if shown.fields else _sql(shown.scripts):
        screen.raw(f"{line}\n")


def scripts_json(shown: ScriptsShown) -> str:
    return document({"servers": [_server(script) for script in shown.scripts]})


def show_copy(screen: Screen, shown: CopyShown) -> None:
    screen.raw(_script(shown))


def copy_json(shown: CopyShown) -> str:
    told = msgspec.to_builtins(shown.copy)
    told["dialect"] = shown.copy.dialect.kind
    return document(told | {"script": _script(shown)})


def _script(shown: CopyShown) -> Sh:
    return bring_script(shown.copy) if shown.copy.other else copy_script(shown.copy)


def _sql(scripts: list[ServerScript]) -> Iterator[Sql]:
    kinds = {script.dialect.kind == "postgresql" for script in scripts}
    if len(kinds) > 1:
        names = listed(f"{script.account} ({script.dialect.kind})" for script in scripts)
        raise InputError(f"the accounts have different servers: {names}; ask for one account at a time")
    for n, script in enumerate(scripts):
        yield from _of_account(script, begins=n == 0)
    if not scripts:
        yield from _said("Nothing is wanted of any database server.")


def _said(*lines: str) -> Iterator[Sql]:
    """Comments, a line each."""
    return (Sql.of("-- «words»", words=comment(line)) for line in lines)


def _of_account(script: ServerScript, begins: bool) -> Iterator[Sql]:
    dialect = script.dialect
    made = [one for one in script.wanted if (not one.why_not if script.is_back else one.is_made)]
    version = ".".join(map(str, dialect.version))
    server = f"{dialect.kind} {version}".strip()
    if begins:
        yield from _said(
            f"Databases {'to be taken back' if script.is_back else 'as the plan wants them'}. It can be run twice,",
            "and stops at the first error. No password is in it. Run it as somebody who may make databases:",
            f"  {_CLIENTS[dialect.kind]} < FILE",
        )
        if not script.is_back:
            whose = str(made[0].installation.address) if len(made) == 1 else script.account
            yield from _said(
                "Its users cannot log in until they have a password:",
                f"  kettlepost database script {said(whose)} --passwords | {_CLIENTS[dialect.kind]}",
            )
        yield Sql.of("")
        yield from session_statements(dialect)
    yield Sql.of("")
    yield from _said(f"Account {script.account}, {server}{'' if version else ', version not known'}")
    for wanted in script.wanted:
        yield Sql.of("")
        yield from _said(*_told(script, wanted))
        if wanted in made:
            made_by = taking_back_statements if script.is_back else making_statements
            yield from made_by(dialect, wanted)
    if not made:
        yield from _said("Nothing is to be done.")


def _told(script: ServerScript, wanted: WantedDatabase) -> Iterator[str]:
    installation = wanted.installation
    yield f"{installation.application} at {installation.address}"
    if wanted.why_not:
        yield f"left out: {text(wanted.why_not)}"
        return
    if script.is_back:
        kept = [("database", wanted.name, wanted.base_of), ("user", wanted.user, wanted.login_of)]
        for what, name, others in kept:
            if others:
                yield f"the {what} {name} stays: {listed(others, 4)} uses it"
        return
    if not wanted.is_made:
        yield f"there already: the database {wanted.name} and its user {wanted.user}"
        return
    there = [what for what, is_there in (("database", wanted.is_there), ("user", wanted.has_user)) if is_there]
    yield from (f"its {what} is there already, and stays as it is" for what in there)
    yield from map(text, wanted.told)
    yield f"its password: {script.titles[installation.number]}"


def _fields(scripts: list[ServerScript]) -> Iterator[str]:
    """What goes into which field of a host's form, in general terms."""
    for script in scripts:
        for wanted in script.wanted:
            yield f"{printable(wanted.installation.application)} at {wanted.installation.address}, {script.account}"
            if wanted.why_not:
                yield f"  left out: {printable(text(wanted.why_not))}"
            elif script.is_back:
                yield from _fields_back(wanted)
            else:
                yield from (f"  {label:<16}{value}" for label, value in _labelled(script, wanted))
            yield ""
    if not scripts:
        yield "Nothing is wanted of any database server."


def _fields_back(wanted: WantedDatabase) -> Iterator[str]:
    if not wanted.base_of:
        yield f"  delete the database {printable(wanted.name)}, once no tables are in it"
    if not wanted.login_of:
        yield f"  delete the user {printable(wanted.user)}, once it may do nothing elsewhere"


def _labelled(script: ServerScript, wanted: WantedDatabase) -> Iterator[tuple[str, str]]:
    there = "; there already" if wanted.is_there else ""
    yield "database", f"{_typed(wanted.name, script.prefix)}{there}"
    if not script.dialect.is_postgresql:
        yield "collation", f"{wanted.collation}, where the form asks"
    yield "user", f"{_typed(wanted.user, script.prefix)}{'; there already' if wanted.has_user else ''}"
    yield "password", f"as kept under: {printable(script.titles[wanted.installation.number])}"
    if script.dialect.is_postgresql:
        yield "rights", "to connect, and to create in the schema public, of this database alone"
    else:
        yield "may come from", printable(wanted.host)
        yield "rights", f"{', '.join(wanted.rights)}; of this database alone"
    yield from (("note", text(told)) for told in wanted.told)


def _typed(name: str, prefix: str) -> str:
    """A name, and what is left of it to type where the form itself puts the account's prefix in front."""
    shown = printable(name)
    rest = name[len(prefix) :]
    if not prefix or not name.startswith(prefix) or not rest:
        return shown
    return f"{shown} (type {printable(rest)} where the form shows {printable(prefix)} in front)"


def _server(script: ServerScript) -> dict[str, object]:
    dialect = script.dialect
    made_by = taking_back_statements if script.is_back else making_statements
    return {
        "account": script.account, "server": dialect.kind, "version": ".".join(map(str, dialect.version)),
        "begin": list(session_statements(dialect)),
        "databases": [_json(script, dialect, wanted, list(made_by(dialect, wanted)) if _is_done(script, wanted) else [])
                      for wanted in script.wanted],
    }  # fmt: skip


def _is_done(script: ServerScript, wanted: WantedDatabase) -> bool:
    return not wanted.why_not if script.is_back else wanted.is_made


def _json(script: ServerScript, dialect: Dialect, wanted: WantedDatabase, statements: list[str]) -> dict[str, object]:
    return {
        "address": printable(str(wanted.installation.address)), "application": wanted.installation.application,
        "database": wanted.name, "user": wanted.user, "host": "" if dialect.is_postgresql else wanted.host,
        "collation": "" if dialect.is_postgresql else wanted.collation,
        "rights": [] if dialect.is_postgresql else list(wanted.rights),
        "database_is_there": wanted.is_there, "user_is_there": wanted.has_user, "left_out": text(wanted.why_not),
        "told": list(map(text, wanted.told)), "password_entry": script.titles[wanted.installation.number],
        "statements": statements,
    }  # fmt: skip
