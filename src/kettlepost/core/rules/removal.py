"""What goes with an application that is not wanted any more, and what must stay, and for whom."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from kettlepost.core.layout import AccountLayout, FolderState, Hold, HoldKind, OwnTables, holds_in, own_tables
from kettlepost.core.names import Folder, printable
from kettlepost.core.plan import Change, Database, Installation
from kettlepost.core.rules.findings import WayOut
from kettlepost.core.rules.ways_out import clearing_folder
from kettlepost.core.steps import (
    DeleteFile,
    DeleteFolder,
    DropTables,
    DropUser,
    KeepFile,
    KeepFolder,
    KeepTables,
    LookAtFile,
    LookAtFolder,
    Step,
)
from kettlepost.core.survey import FoundApplication
from kettlepost.core.words import listed, one

_UNWANTED = (HoldKind.SITE, HoldKind.APPLICATION, HoldKind.PAGE)
_NAMED = 8
"""So many things that stay are named one by one; the step has them all."""


def removal(
    layout: AccountLayout,
    folder: Folder,
    installation: Installation | None = None,
    found: FoundApplication | None = None,
    begin: str = "",
    then: str = "",
    changes: tuple[Change, ...] = (),
) -> WayOut:
    """Keep a copy of an application and remove what of it nobody else uses.

    `begin` and `then` are put before and behind the words, `changes` is what is written once that is done.
    """
    name = installation.application if installation is not None else found.application if found is not None else ""
    title = layout.title(name)
    number = installation.number if installation is not None else None
    holds = list(holds_in(layout, folder, name, number))
    tables = own_tables(layout, folder, installation, found)
    mixed = [hold.who for hold in holds if hold.place == folder and hold.kind is HoldKind.INSTALLATION]
    if mixed or not folder:
        whose = f"{listed(mixed, 4)} lies there too" if mixed else "all of the account lies there"
        words = (
            f"{begin}leave what is in {folder.shown} as it is: {whose}, and nothing tells the files of {title} apart"
        )
        return WayOut(words, steps=[LookAtFolder(layout.name, folder)])
    copied = [folder.shown, *_tables_words(tables)]
    gone = [
        folder.shown if not holds else f"what is {title}'s in {folder.shown}",
        *_tables_words(tables, with_user=True),
    ]
    stays = [*_holds_words(layout, holds, folder), *_tables_that_stay(tables)]
    removed = ("it" if len(gone) == 1 else "both") if gone == copied else listed(gone)
    words = f"{begin}keep a copy of {listed(copied)}, then remove {removed}{then}"
    if stays:
        words += f"; what stays: {listed(stays, _NAMED)}"
    remedy = clearing_folder(layout, folder, "leftovers") if _does_the_same(layout, holds) else None
    steps = list(_steps(layout, folder, holds, tables))
    front = list(_front_file(layout, folder, installation))
    for step in front:
        if isinstance(step, DeleteFile):
            words += (
                f"; keep a copy of {step.folder.below(step.file).shown}, too, by which it answered, and remove that"
            )
        elif isinstance(step, LookAtFile):
            words += f"; look at {step.folder.below(step.file).shown}: {step.says}"
    return WayOut(words, changes, remedy, [*steps, *front])


def _front_file(layout: AccountLayout, folder: Folder, installation: Installation | None) -> Iterator[Step]:
    """What is done about the file at its address that starts what lies elsewhere, where it starts nothing else."""
    if installation is None or installation.folder is None or layout.contents is None:
        return
    front, name = layout.reach(installation.address), layout.front_file(installation)
    if front is None or front == folder or layout.standing.get(front) or front in layout.contents.applications:
        return
    others = [one for place, one in layout.fronts if place == front and one.number != installation.number]
    if others or FolderState(layout, "now").has(front, name) is not True:
        return
    if layout.contents.site(front) is not None:
        yield LookAtFile(layout.name, front, name, f"if it starts what lies in {folder.shown}, it goes, too")
        return
    yield KeepFile(layout.name, front, name)
    yield DeleteFile(layout.name, front, name)


def what_stays(layout: AccountLayout, folder: Folder, holds: Iterable[Hold], is_unwanted: bool = False) -> list[str]:
    """What others use in a folder that is to be cleared, in words; sites and pages, too, unless nobody wants them."""
    return _holds_words(layout, (hold for hold in holds if not is_unwanted or hold.kind not in _UNWANTED), folder)


def kept_places(layout: AccountLayout, folder: Folder, holds: Iterable[Hold]) -> set[Folder]:
    """The places that others use in a folder of which nobody wants the sites and pages that lie there."""
    places = {hold.place for hold in holds if hold.kind not in _UNWANTED}
    return places | _needed_files(layout, folder, places)


def _needed_files(layout: AccountLayout, folder: Folder, stays: Iterable[Folder]) -> set[Folder]:
    """The control files of a folder that stays by which visitors are kept out of it, or PHP is chosen."""
    if layout.contents is None or folder not in stays:
        return set()
    return {folder.below(name) for name in layout.contents.needed_controls(folder)}


def _does_the_same(layout: AccountLayout, holds: Iterable[Hold]) -> bool:
    """Whether a clearing takes what is to be removed, and nothing more: it takes copies that are put aside, too."""
    contents = layout.contents
    return contents is not None and not any(
        hold.kind is HoldKind.APPLICATION and contents.applications[hold.place].condition for hold in holds
    )


def remaining_words(tables: OwnTables | None) -> list[str]:
    """The tables that are left of an application, and what of its database others use."""
    return [*_tables_words(tables, with_user=True), *_tables_that_stay(tables)]


def _tables_words(tables: OwnTables | None, with_user: bool = False) -> list[str]:
    if tables is None or not tables.is_apart:
        return []
    name = printable(tables.name)
    if tables.is_whole:
        user = printable(tables.user) if with_user and not tables.user_is_shared else ""
        return [f"the database {name}" + (f" with its user {user}" if user else "")]
    apart = f", but not with {listed(map(printable, tables.longer), 4)}" if tables.longer else ""
    return [f"its tables in the database {name}, which begin with {printable(tables.prefix)}{apart}"]


def _tables_that_stay(tables: OwnTables | None) -> Iterator[str]:
    if tables is None or tables.is_whole:
        return
    name = printable(tables.name)
    if tables.unsure:
        yield (
            f"the database {name}, until it is known which {listed(tables.unsure, 4)} {_use(tables.unsure)}, as no "
            "configuration or plan tells"
        )
    elif tables.server:
        yield f"the database {name} on {printable(tables.server)}, until it is known that nobody else uses it"
    elif tables.is_apart:
        yield f"the database {name} itself, which {listed(tables.others, 4)} {_use(tables.others)}"
    else:
        yield f"all tables in the database {name}, as {listed(tables.alike, 4)} {_use(tables.alike)} the same"


def _use(users: tuple[str, ...]) -> str:
    return "uses" if len(users) == 1 else "use"


def _holds_words(layout: AccountLayout, holds: Iterable[Hold], folder: Folder) -> list[str]:
    """Each place that others use, with the first of them."""
    return list({hold.place: _hold_words(layout, hold, folder) for hold in reversed(list(holds))}.values())[::-1]


def _hold_words(layout: AccountLayout, hold: Hold, folder: Folder) -> str:
    place = f"{hold.place.shown} itself" if hold.place == folder else hold.place.shown
    who = printable(hold.who)
    words = {
        HoldKind.ROOT: f"the root of {who}",
        HoldKind.ROOT_NOW: f"the root of {who} today",
        HoldKind.ALIAS: f"to which {who} leads",
        HoldKind.INSTALLATION: f"where {who} is installed",
        HoldKind.APPLICATION: f"which holds {layout.title(hold.who)}",
        HoldKind.SITE: one(who),
        HoldKind.LINK: f"to which the link {who} leads",
        HoldKind.PAGE: "which visitors read",
        HoldKind.FRONT: f"through which {who} answers",
    }
    return f"{place}, {words[hold.kind]}"


def _steps(layout: AccountLayout, folder: Folder, holds: list[Hold], tables: OwnTables | None) -> Iterator[Step]:
    places = {hold.place for hold in holds}
    stays = tuple(sorted(places | _needed_files(layout, folder, places)))
    base = Database(tables.name, tables.prefix, tables.user or None) if tables is not None and tables.is_apart else None
    yield KeepFolder(layout.name, folder)
    if base is not None and tables is not None:
        yield KeepTables(layout.name, base, tables.is_whole)
    yield DeleteFolder(layout.name, folder, stays)
    if base is not None and tables is not None:
        yield DropTables(layout.name, base, tables.is_whole)
        if tables.is_whole and tables.user and not tables.user_is_shared:
            yield DropUser(layout.name, tables.user)
