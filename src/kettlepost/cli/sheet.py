"""`kettlepost sheet`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

import kettlepost
from kettlepost.cli import runtime, source_options, subject_options
from kettlepost.render import formats
from kettlepost.render.results import SheetsShown


def sheet(
    asked: Annotated[
        str | None, typer.Argument(metavar="[ADDRESS|DOMAIN]", help="One site, or all at a domain.", show_default=False)
    ] = None,
    client: Annotated[str | None, typer.Option("--client", metavar="NAME", help="Of all sites of a client.")] = None,
    all_: Annotated[bool, typer.Option("--all", help="Of everything that is not retired.")] = False,
    into: Annotated[
        Path | None, typer.Option("--into", metavar="FOLDER", help="Write a page for each, where it changed.")
    ] = None,
    for_: Annotated[
        str | None, typer.Option("--for", metavar="client", help="In plain words, without what is internal.")
    ] = None,
    key: source_options.KeyOption = None,
    known_hosts: source_options.KnownHostsOption = None,
    account: subject_options.AccountOption = None,
    plan: runtime.PlanOption = None,
    form: Annotated[formats.Format, runtime.format_option("SheetsShown")] = formats.Format.text,
) -> None:
    """Write the sheet of a site: addresses, folder, database, versions, updates, backups, people, what is open.

    No password is on it, only the title under which one is kept. With --all and --into they are written into the
    second place of the settings (records_in) as well, and read back.
    """
    if (asked is not None) + (client is not None) + all_ != 1:
        raise kettlepost.InputError("name an ADDRESS or a domain, or give --client NAME or --all")
    if for_ not in (None, "client"):
        raise kettlepost.InputError("--for takes client")
    opened = kettlepost.open_plan(runtime.plan_folder(plan))
    found = kettlepost.sheets(opened, asked, client, account)
    if for_ is not None:
        found = [one.for_client() for one in found]
    runtime.say_troubles(opened.troubles.values())
    if into is None:
        formats.write(SheetsShown(found), form)
        return
    from kettlepost.render.sheet import page

    pages: dict[str, str] = {}
    for one in found:
        pages[kettlepost.sheet_file(one, list(pages))] = page(one)
    done = kettlepost.write_sheets(pages.items(), into, all_)
    for name in done.changed:
        runtime.hint(f"written: {name}")
    for name in done.gone:
        runtime.hint(f"gone: {name}, whose site is not there any more")
    runtime.hint(f"{len(done.changed):,} written, {done.same:,} as they were, {len(done.gone):,} gone, in {into}")
    if all_ and kettlepost.second_place(opened) is not None:
        copied = kettlepost.copy_sheets(opened, pages, source_options.secrets(key, known_hosts, None))
        runtime.hint(
            f"{len(copied.changed):,} written into the second place and read back, {copied.same:,} as they were"
        )


def register(app: typer.Typer) -> None:
    runtime.register(app, sheet, "sheet")
