"""`kettlepost database read` and `database list`."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import registers, runtime, source_options, subject_options
from kettlepost.cli.password import phrase, refuse_files
from kettlepost.render import formats
from kettlepost.render.results import CopyShown, DatabasesRead, MergeShown, ReplacementShown, ScriptsShown


def read(
    account: subject_options.AccountArgument = None,
    source: Annotated[
        str | None,
        typer.Option(
            "--from",
            metavar="SOURCE",
            help="mysql://, mariadb:// or postgresql://user@host[:port]/, a dump (.sql, also packed by gzip or "
            "Zstandard), or a listing of tables.",
            show_default=False,
        ),
    ] = None,
    database: Annotated[
        str | None, typer.Option("--database", metavar="NAME", help="Of which database a dump is that does not say so.")
    ] = None,
    credentials: Annotated[
        Path | None,
        typer.Option("--credentials", metavar="FILE", help="A file of the driver's kind: .my.cnf, .pgpass."),
    ] = None,
    certificates: source_options.CertificatesOption = None,
    via: Annotated[
        str | None,
        typer.Option(
            "--via", metavar="sftp://USER@HOST", help="Through an SSH tunnel of that machine.", show_default=False
        ),
    ] = None,
    key: source_options.KeyOption = None,
    known_hosts: source_options.KnownHostsOption = None,
    how_to: Annotated[bool, typer.Option("--how-to", help="Say how to make a listing with one command.")] = False,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("DatabasesRead")] = formats.Format.text,
) -> None:
    """Read which databases and tables there are, how large, and who may do what: no row, no password.

    A password is asked for, or taken from $KETTLEPOST_PASSWORD or --credentials; it is never an argument.
    """
    if how_to:
        from kettlepost.render.databases import HOW_TO

        sys.stdout.write(HOW_TO)
        return
    if account is None or source is None:
        raise kettlepost.InputError(
            "name an ACCOUNT, and where to read with --from; --how-to says how to make a listing"
        )
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    secrets = source_options.secrets(key, known_hosts, certificates)
    seen = kettlepost.read_databases(opened, account, source, secrets, credentials, database or "", via)
    formats.write(DatabasesRead(seen, f"surveys/{account}.databases.json"), form)


def script(
    what: Annotated[
        str | None,
        typer.Argument(metavar="[ADDRESS|ACCOUNT]", help="Default: every account.", show_default=False),
    ] = None,
    account: subject_options.AccountOption = None,
    back: Annotated[
        bool, typer.Option("--back", help="What takes it back, and refuses while tables are in it.")
    ] = False,
    fields: Annotated[
        bool, typer.Option("--fields", help="What to fill in, for hosts where databases are made in a form.")
    ] = False,
    passwords: Annotated[
        bool, typer.Option("--passwords", help="Only the statements that set the passwords that are kept, into a pipe.")
    ] = False,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("ScriptsShown")] = formats.Format.text,
) -> None:
    """Write the SQL that makes what the plan wants and is not there: databases, users, rights.

    No password is in it, and its users cannot log in until --passwords has set theirs.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    if passwords:
        refuse_files(
            "passwords go into a pipe to the server's client alone, never to a file or a terminal: "
            "add | and the client, such as | mariadb",
            terminal_too=True,
        )
        for statement in list(kettlepost.password_statements(opened, what, account, phrase)):
            sys.stdout.write(f"{statement}\n")
        return
    formats.write(ScriptsShown(kettlepost.database_scripts(opened, what, account, back), fields), form)


WhoseArgument = Annotated[
    str, typer.Argument(metavar="ADDRESS", help="Whose tables; with --account also a folder of an application.")
]


def copy(
    whose: WhoseArgument,
    to: Annotated[
        str | None, typer.Option("--to", metavar="DATABASE", help="Where to; default: a free name.", show_default=False)
    ] = None,
    prefix: Annotated[
        str | None,
        typer.Option("--prefix", metavar="PREFIX", help="The new prefix; default: as it is.", show_default=False),
    ] = None,
    rename: Annotated[bool, typer.Option("--rename", help="Rename the tables instead of copying them.")] = False,
    account: subject_options.AccountOption = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("CopyShown")] = formats.Format.text,
) -> None:
    """Write the script that copies the tables of an installation into another database, or under another prefix.

    It first writes a dump, looks whether it is whole, and compares the numbers of rows in the end.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    formats.write(CopyShown(kettlepost.copy_of_tables(opened, whose, to, prefix, rename, account)), form)


def bring(
    whose: Annotated[str, typer.Argument(metavar="ADDRESS", help="What comes from another account with its domain.")],
    account: subject_options.AccountOption = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("CopyShown")] = formats.Format.text,
) -> None:
    """Write the script that brings the tables of an installation from the account from which its domain comes.

    It has two halves, each for where its database server is reached: a dump that is looked at, and rows counted again.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    formats.write(CopyShown(kettlepost.tables_to_bring(opened, whose, account)), form)


def readdress(
    whose: WhoseArgument,
    pairs: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="[OLD=NEW]...",
            help="Which; with schemes where those change as well. Default: of its move.",
        ),
    ] = None,
    account: subject_options.AccountOption = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("ReplacementShown")] = formats.Format.text,
) -> None:
    """Write the program, for the PHP of the host, that replaces an address in the tables of an installation.

    It counts first, changes with --write, keeps what was there, and puts that back; serialised values stay whole.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    formats.write(ReplacementShown(kettlepost.addresses_in_tables(opened, whose, pairs or (), account)), form)


def merge(
    whose: Annotated[str, typer.Argument(metavar="ADDRESS", help="The rehearsal that is to go live.")],
    account: subject_options.AccountOption = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("MergeShown")] = formats.Format.text,
) -> None:
    """Write the program, for the PHP of the host, that compares the tables of what is live with those of its rehearsal,
    and writes what is live keeps into those.

    It tells first what was written since the copy was made, changes with --write, and puts back what was there.
    """
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    formats.write(MergeShown(kettlepost.merge_of_tables(opened, whose, account)), form)


def list_(
    account: subject_options.AccountsOption = None,
    match: registers.MatchOption = None,
    sort: registers.SortOption = None,
    columns: registers.ColumnsOption = None,
    plan: runtime.PlanOption = None,
    form: registers.FormatOption = formats.Format.text,
) -> None:
    """List every database: its size, who uses it, whose the tables in it are, and those of nobody."""
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    registers.show_register("databases", kettlepost.databases(opened, account), match, sort, columns, form)
    runtime.say_troubles(opened.troubles.values())


def register(app: typer.Typer) -> None:
    group = typer.Typer(help="The databases as they are.", no_args_is_help=True)
    runtime.register(group, read, "read")
    runtime.register(group, list_, "list")
    runtime.register(group, script, "script")
    runtime.register(group, copy, "copy")
    runtime.register(group, bring, "bring")
    runtime.register(group, readdress, "readdress")
    runtime.register(group, merge, "merge")
    app.add_typer(group, name="database")
