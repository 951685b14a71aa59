"""The accounts of a plan: listed, added, renamed, dropped."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec

from kettlepost.core.answering import AccountRow, account_row
from kettlepost.core.errors import Fault, InputError, PlanError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import Hint
from kettlepost.core.names import did_you_mean, printable, quoted
from kettlepost.core.plan import Change, as_value, changed_text, read_account
from kettlepost.core.rules.allowances import uses_of
from kettlepost.core.survey import (
    LARGEST_DATABASES,
    LARGEST_NAMES,
    LARGEST_OUTSIDE,
    LARGEST_SURVEY,
    encode_databases,
    encode_outside,
    encode_survey,
)
from kettlepost.core.words import counted
from kettlepost.workspace.changes import PreparedChange, edit_account
from kettlepost.workspace.journal import Edit
from kettlepost.workspace.plan_folder import PlanFolder, databases_file, names_file, outside_file, survey_file
from kettlepost.workspace.scaffold import start_plan

_EXAMPLE = """
# Each domain: where it leads, and what it is to the host.
#
# [[domain]]
# name = "millbrookrail.example"
# kind = "primary"                # primary | addon | subdomain | alias | temporary
# root = "www"                    # relative to the account's home

# Each installation; 'kettlepost weigh' and 'kettlepost place' write them.
#
# [[installation]]
# application = "wordpress"
# address = "millbrookrail.example/news"
# state = "planned"               # live | planned | retired
"""


def accounts(plan: PlanFolder) -> list[AccountRow]:
    """Every account, with what it holds and what its package leaves."""
    return [account_row(layout, _used(layout)) for layout in map(plan.layout_of, plan.names)]


def _used(layout: AccountLayout) -> dict[str, str]:
    """What is used of each allowance, and of how many where the package limits it."""
    account = layout.account
    kinds = [domain.kind for domain in account.domains if domain.state != "retired"]
    standing = [entry for entry in account.installations if entry.state != "retired"]
    numbers = {
        "addon_domains": kinds.count("addon"),
        "subdomains": kinds.count("subdomain"),
        "databases": len({entry.database.name for entry in standing if entry.database is not None}),
        "installations": len(standing),
    }
    uses = {use.key: f"{use.total:,} of {use.allowed:,}" for use in uses_of(layout)}
    return {key: uses.get(key, f"{number:,}") for key, number in numbers.items()}


def add_account(
    plan: PlanFolder,
    name: str,
    home: str | None = None,
    client: str | None = None,
    package: str | None = None,
    survey_from: str | None = None,
    database_prefix: str | None = None,
) -> PreparedChange:
    """Begin the file of an account. Raises InputError when there is one already, PlanError for what it cannot hold."""
    if name in plan.names:
        raise InputError(f"there is an account {quoted(name)} already, in accounts/{name}.toml")
    packages = plan.shared.plan([]).packages
    if package is not None and package not in packages:
        known = f" (packages: {', '.join(packages)})" if packages else "; write [package.NAME] into kettlepost.toml"
        raise InputError(f"{quoted(package)} is no package{did_you_mean(package, packages)}{known}")
    values = {
        "name": name, "home": home, "client": client, "package": package, "survey_from": survey_from,
        "database_prefix": database_prefix,
    }  # fmt: skip
    lines = [f"{key} = {as_value(value)}" for key, value in values.items() if value is not None]
    text = "[account]\n" + "\n".join(lines) + "\n" + _EXAMPLE
    faults: list[Fault] = []
    if read_account(plan.shared, text.encode(), f"{name}.toml", faults) is None:
        raise PlanError(faults)
    edit = Edit(f"accounts/{name}.toml", None, text.encode())
    return PreparedChange(plan, [edit], [Hint(f"account {name}, in accounts/{name}.toml")])


def start_with_account(folder: Path, name: str, *given: str | None) -> list[Path]:
    """Start a plan folder with the file of an account, as a whole or not at all; `given` is as for `add_account`.

    Returns the files written. Raises InputError, PlanError and OutsideError as both do.
    """
    was_there = folder.is_dir()
    written = start_plan(folder)
    try:
        change = add_account(PlanFolder(folder), name, *given)
    except (InputError, PlanError):
        for path in written:
            path.unlink()
        (folder / "accounts").rmdir()
        if not was_there:
            folder.rmdir()
        raise
    return [*written, *(folder / file for file in change.commit(f"kettlepost new --account {name}"))]


def rename_account(plan: PlanFolder, name: str, new: str) -> PreparedChange:
    """Give an account another name: its file, what is written in it, and its surveys. Raises InputError, PlanError."""
    plan.known_names([name])
    if new in plan.names:
        raise InputError(f"there is an account {quoted(new)} already, in accounts/{new}.toml")
    raw = plan.raw(f"accounts/{name}.toml") or b""
    text = changed_text(raw.decode("utf-8"), [Change(name, "account", 0, {"name": new})])
    faults: list[Fault] = []
    if read_account(plan.shared, text.encode(), f"{new}.toml", faults) is None:
        raise PlanError(faults)
    edits = [Edit(f"accounts/{name}.toml", raw, None), Edit(f"accounts/{new}.toml", None, text.encode())]
    edits += _naming_it(plan, name, new)
    for before in (False, True):
        was = plan.raw(survey_file(name, before=before), LARGEST_SURVEY)
        survey = plan.read_survey(name, before=before) if was is not None else None
        if was is not None and survey is not None:
            moved = encode_survey(msgspec.structs.replace(survey, account=new))
            edits += [
                Edit(survey_file(name, before=before), was, None),
                Edit(survey_file(new, before=before), None, moved),
            ]
    outside = plan.outside(name)
    if outside is not None:
        was = plan.raw(outside_file(name), LARGEST_OUTSIDE)
        moved = encode_outside(msgspec.structs.replace(outside, account=new))
        edits += [Edit(outside_file(name), was, None), Edit(outside_file(new), None, moved)]
    seen = plan.databases(name)
    if seen is not None:
        was = plan.raw(databases_file(name), LARGEST_DATABASES)
        moved = encode_databases(msgspec.structs.replace(seen, account=new))
        edits += [Edit(databases_file(name), was, None), Edit(databases_file(new), None, moved)]
    names = plan.raw(names_file(name), LARGEST_NAMES)
    if names is not None:
        edits += [Edit(names_file(name), names, None), Edit(names_file(new), None, names)]
    return PreparedChange(plan, edits, [Hint(f"account {name} is called {new}")])


def _naming_it(plan: PlanFolder, name: str, new: str) -> Iterator[Edit]:
    """The files of accounts between which and this one domains are on their way, with its new name."""
    named = {domain.account_now or domain.account_next for domain in plan.account(name).domains}
    for other in sorted(one for one in named if one is not None and one in plan.names):
        changes = [
            Change(other, "domain", domain.number, {key: new})
            for domain in plan.account(other).domains
            for key in ("account_now", "account_next")
            if getattr(domain, key) == name
        ]
        if changes:
            yield edit_account(plan, other, changes)


def remember_source(plan: PlanFolder, name: str, source: str) -> PreparedChange:
    """Write down where an account is surveyed from."""
    plan.known_names([name])
    edit = edit_account(plan, name, [Change(name, "account", 0, {"survey_from": source})])
    return PreparedChange(plan, [edit], [Hint(f"{name} is surveyed from {source}")])


def drop_account(plan: PlanFolder, name: str) -> PreparedChange:
    """Take an account out. Raises InputError while anything is in it."""
    plan.known_names([name])
    account = plan.account(name)
    held = [
        counted(len(tables), what)
        for tables, what in (
            (account.domains, "domain"), (account.installations, "installation"), (account.path_aliases, "path alias"),
        )
        if tables
    ]  # fmt: skip
    if held:
        raise InputError(f"{printable(name)} still holds {' and '.join(held)}; drop or retire and forget them first")
    raw = plan.raw(f"accounts/{name}.toml")
    edits = [Edit(f"accounts/{name}.toml", raw, None)]
    for file in (
        survey_file(name),
        survey_file(name, before=True),
        names_file(name),
        outside_file(name),
        databases_file(name),
    ):
        was = plan.raw(file, LARGEST_SURVEY)
        if was is not None:
            edits.append(Edit(file, was, None))
    return PreparedChange(plan, edits, [Hint(f"account {name} is taken out, with its surveys")])
