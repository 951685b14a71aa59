"""A stored survey as people read it: the folders with what is in each, then what deserves a look."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct, field

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.layout.contents import Contents
from kettlepost.core.layout.folder_tree import held_folders, hidden_inside, shown_folders
from kettlepost.core.messages import Words, say
from kettlepost.core.names import Folder, printable
from kettlepost.core.survey import (
    MOST,
    SET_ASIDE,
    FoundApplication,
    FoundControl,
    FoundDatabase,
    LookedAt,
    Survey,
    leads_out,
)


class InventoryRow(Struct):
    """One folder with all that lies in and below it; sizes in bytes, `newest` in seconds since 1970.

    `reached` says whether an address of the plan leads to it; `hidden` counts folders inside
    that have no row of their own.
    """

    folder: Folder
    files: int
    bytes: int
    newest: int
    reached: bool
    holds: list[Words]
    hidden: int = 0


class InventoryRemark(Struct):
    """Something that deserves a look: its kind, where it is, and what about it."""

    kind: str
    at: str
    words: Words = ""


class Inventory(Struct):
    """A whole survey, for showing; `later` are folders that were looked at again after the rest."""

    account: str
    taken: str
    source: str
    contents: bool
    folders: int
    files: int
    bytes: int
    rows: list[InventoryRow] = field(default_factory=list)
    remarks: list[InventoryRemark] = field(default_factory=list)
    later: list[LookedAt] = field(default_factory=list)


def inventory(layout: AccountLayout) -> Inventory | None:
    """What an account's survey found; None when it has none."""
    survey, contents = layout.survey, layout.contents
    if survey is None or contents is None:
        return None
    known = {found.folder for found in survey.folders}
    held = {*held_folders(layout), *(site.folder for site in survey.sites)}
    shown = shown_folders(known, held & known)
    hidden = hidden_inside(known, set(shown))
    rows = [
        InventoryRow(
            folder, *contents.totals(folder), _is_reached(layout, folder), list(_holds(layout, contents, folder)),
            hidden[folder],
        )
        for folder in shown
    ]  # fmt: skip
    remarks = list(_remarks(layout, survey))
    head = (layout.name, survey.taken, survey.source, survey.contents, len(survey.folders), survey.files, survey.bytes)
    return Inventory(*head, rows, remarks, survey.later)


def control_words(control: FoundControl) -> str:
    """What a control file does, with the lines that say so."""
    told = []
    for effect in control.effects:
        if effect.does == "turns rewriting on":
            continue  # what it rewrites is told by itself
        line = f" (line {effect.line})" if effect.line else ""
        told.append(": ".join(filter(None, (effect.does, printable(effect.what)))) + line)
    return ", ".join(told)


def _is_reached(layout: AccountLayout, folder: Folder) -> bool:
    trees = layout.tree("planned"), layout.tree("now")
    return any(above in tree.mounts for above in (folder, *folder.above()) for tree in trees)


def _holds(layout: AccountLayout, contents: Contents, folder: Folder) -> Iterator[Words]:
    if folder == SET_ASIDE:
        yield say("inventory/set-aside")
    for domain in layout.roots.get(folder, ()):
        yield say("inventory/root", domain=domain.name)
    found = contents.applications.get(folder)
    if found is not None:
        yield found.words(layout.title(found.application))
    site = contents.site(folder)
    if site is not None:
        yield f"{site.kind} ({', '.join(map(printable, site.evidence))})"
    for page in contents.placeholders(folder):
        yield f"placeholder {printable(page.file)}"
    for installation in layout.placed.get(folder, ()):
        if found is None or found.application != installation.application:
            yield say("inventory/planned", state=installation.state, application=installation.application)


def _database_words(base: FoundDatabase) -> str:
    told = (("name", base.name), ("user", base.user), ("host", base.host), ("prefix", base.prefix))
    return ", ".join(f"{key} {printable(value)}" for key, value in told if value)


def _application_remarks(layout: AccountLayout, app: FoundApplication) -> Iterator[InventoryRemark]:
    if app.condition:
        missing = f"; lacks {', '.join(map(printable, app.missing))}" if app.missing else ""
        yield InventoryRemark("application", app.folder.shown, app.words(layout.title(app.application)) + missing)
    if app.database is not None and app.database.name:
        yield InventoryRemark("database", app.folder.shown, _database_words(app.database))


def _remarks(layout: AccountLayout, survey: Survey) -> Iterator[InventoryRemark]:
    if not survey.contents:
        yield InventoryRemark("unknown", "(home)", say("inventory/names-only"))
    for found in survey.troubles:
        yield InventoryRemark("not read", found.folder.shown, found.trouble_words)
    for app in survey.applications:
        yield from _application_remarks(layout, app)
    for page in survey.placeholders:
        yield InventoryRemark("placeholder", printable(page.folder.below(page.file)), page.words)
    for control in survey.controls:
        words = control_words(control)
        if words and not control.own:
            yield InventoryRemark("control file", printable(control.folder.below(control.file)), words)
    yield from _name_remarks(survey)
    for link in survey.links:
        if link.own and not leads_out(link.folder, link.target):
            continue
        out = say("inventory/outside") if leads_out(link.folder, link.target) else None
        yield InventoryRemark(
            "link",
            printable(link.folder.below(link.name)),
            say("inventory/leads", target=printable(link.target) or say("inventory/untold"), out=out),
        )


def _name_remarks(survey: Survey) -> Iterator[InventoryRemark]:
    for exposed in survey.exposed:
        yield InventoryRemark("exposed", printable(exposed.folder.below(exposed.name)), exposed.kind)
    if len(survey.exposed) >= MOST:
        yield InventoryRemark("exposed", "(home)", say("inventory/perhaps-more", most=MOST))
    for odd in survey.oddities:
        yield InventoryRemark("name", printable(odd.folder.below(odd.name)), odd.words)
    if len(survey.oddities) >= MOST:
        yield InventoryRemark("name", "(home)", say("inventory/perhaps-more", most=MOST))
