"""What goes with an application that is not wanted any more, and what must stay, and for whom."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from kettlepost.core.layout import (
    AccountLayout,
    Contents,
    FolderState,
    Hold,
    HoldKind,
    OwnTables,
    holds_in,
    own_tables,
)
from kettlepost.core.messages import Words, joined, say, series
from kettlepost.core.names import Folder, printable
from kettlepost.core.plan import Change, Database, Domain, Installation
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
    LookAgain,
    LookAtFile,
    LookAtFolder,
    Step,
)
from kettlepost.core.survey import FoundApplication
from kettlepost.core.words import one

_ITS_OWN = (HoldKind.SITE, HoldKind.PAGE)
"""What of a root goes with a domain that goes, whoever else is led into it."""
_UNWANTED = (HoldKind.SITE, HoldKind.APPLICATION, HoldKind.PAGE)
_NAMED = 8
"""How many things that stay are named one by one; the step has them all."""


def removal(
    layout: AccountLayout,
    folder: Folder,
    installation: Installation | None = None,
    found: FoundApplication | None = None,
    begin: Words = "",
    then: Words = "",
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
    mixed = _mixed(folder, holds)
    if mixed or not folder:
        whose = say("removal/lies-too", mixed=mixed) if mixed else say("removal/all-account-lies")
        words = say("removal/leave-nothing-tells", begin=begin, folder=folder.shown, whose=whose, title=title)
        return WayOut(words, steps=[LookAtFolder(layout.name, folder)])
    copied = [folder.shown, *_tables_words(tables)]
    gone = [
        folder.shown if not holds else say("removal/what-is-its-own", title=title, folder=folder.shown),
        *_tables_words(tables, with_user=True),
    ]
    stays = [*_holds_words(layout, holds, folder), *_tables_that_stay(tables)]
    removed = ("it" if len(gone) == 1 else "both") if gone == copied else series(gone)
    words = say("removal/keep-copy-remove", begin=begin, copied=copied, removed=removed, then=then)
    if stays:
        words += say("removal/stays", stays=stays)
    remedy = clearing_folder(layout, folder, "leftovers") if _does_the_same(layout, holds) else None
    steps = list(_steps(layout, folder, holds, tables))
    front = list(_front_file(layout, folder, installation))
    for step in front:
        if isinstance(step, DeleteFile):
            words += say("removal/keep-copy-too", folder=step.folder.below(step.file).shown)
        elif isinstance(step, LookAtFile):
            words += say("removal/look", folder=step.folder.below(step.file).shown, says=step.says)
    looks: list[Step] = []
    if layout.databases is not None and any(isinstance(step, DropTables) for step in steps):
        words += say("removal/read-again") if remedy is None else ""  # behind the words stands the clearing's command
        looks = [LookAgain(layout.name, databases=True)]
    return WayOut(words, changes, remedy, [*steps, *front, *looks])


def mixed_with(layout: AccountLayout, folder: Folder, installation: Installation) -> list[Words]:
    """The other installations that lie in the very folder of one, so that nothing tells its files apart from theirs."""
    return _mixed(folder, holds_in(layout, folder, installation.application, installation.number))


def _mixed(folder: Folder, holds: Iterable[Hold]) -> list[Words]:
    return [hold.who for hold in holds if hold.place == folder and hold.kind is HoldKind.INSTALLATION]


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
        yield LookAtFile(layout.name, front, name, say("front-file/goes-too", folder=folder.shown))
        return
    yield KeepFile(layout.name, front, name)
    yield DeleteFile(layout.name, front, name)


class LeftBehind(NamedTuple):
    """What lies in the root of a domain that is to go: so many files, beside what others use in it."""

    root: Folder
    files: int
    stays: tuple[Folder, ...]


def left_by(layout: AccountLayout, domain: Domain) -> LeftBehind | None:
    """What a retired domain leaves; None where others are led to its root, it has none, or nobody looked."""
    contents, root = layout.contents, layout.real(domain.root) if domain.root is not None else None
    if contents is None or not root or root in layout.mounts or layout.standing.get(root):
        return None
    holds = [hold for hold in holds_in(layout, root) if hold.kind not in _ITS_OWN]
    if any(hold.place == root and hold.kind is HoldKind.LINK for hold in holds):
        return None  # others have it by a link
    stays = {hold.place for hold in holds if hold.place != root}
    outermost = [one for one in stays if not any(one.is_inside(other) for other in stays)]
    kept = sum(files_at(contents, place) for place in outermost)
    kept += len([name for name in contents.needed_controls(root) if root.below(name) not in stays])
    return LeftBehind(root, contents.totals(root).files - kept, tuple(sorted(stays)))


def files_at(contents: Contents, place: Folder) -> int:
    """How many files a folder holds, or whether a file is there."""
    if contents.exists(place):
        return contents.totals(place).files
    around = contents.folders.get(place.parent)
    return int(around is not None and place.name in (*around.names, *around.index))


def what_stays(layout: AccountLayout, folder: Folder, holds: Iterable[Hold], is_unwanted: bool = False) -> list[Words]:
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


def remaining_words(tables: OwnTables | None) -> list[Words]:
    """The tables that are left of an application, and what of its database others use."""
    return [*_tables_words(tables, with_user=True), *_tables_that_stay(tables)]


def _tables_words(tables: OwnTables | None, with_user: bool = False) -> list[Words]:
    if tables is None or not tables.is_apart:
        return []
    name = printable(tables.name)
    if tables.is_whole:
        user = printable(tables.user) if with_user and not tables.user_is_shared else ""
        return [say("tables-words/database", name=name) + (say("tables-words/user", user=user) if user else "")]
    apart = say("tables-words/but", longer=map(printable, tables.longer)) if tables.longer else ""
    return [say("tables-words/tables-database-begin", name=name, prefix=printable(tables.prefix), apart=apart)]


def _tables_that_stay(tables: OwnTables | None) -> Iterator[Words]:
    if tables is None or tables.is_whole:
        return
    name = printable(tables.name)
    if tables.unsure:
        yield (say("tables-that-stay/until-whose", name=name, unsure=tables.unsure, use=_use(tables.unsure)))
    elif tables.server:
        yield say("tables-that-stay/until-nobody-else", name=name, server=printable(tables.server))
    elif tables.is_apart:
        yield say("tables-that-stay/database-itself", name=name, others=tables.others, use=_use(tables.others))
    else:
        yield say("tables-that-stay/all-tables-database", name=name, alike=tables.alike, use=_use(tables.alike))


def _use(users: tuple[str, ...]) -> str:
    return "uses" if len(users) == 1 else "use"


def _holds_words(layout: AccountLayout, holds: Iterable[Hold], folder: Folder) -> list[Words]:
    """Each place that others use, with the first of them."""
    return list({hold.place: _hold_words(layout, hold, folder) for hold in reversed(list(holds))}.values())[::-1]


def _hold_words(layout: AccountLayout, hold: Hold, folder: Folder) -> Words:
    place = say("hold-words/itself", place=hold.place.shown) if hold.place == folder else hold.place.shown
    who = printable(hold.who)
    words: dict[HoldKind, Words] = {
        HoldKind.ROOT: say("hold-words/root", who=who),
        HoldKind.ROOT_NOW: say("hold-words/root-today", who=who),
        HoldKind.ALIAS: say("hold-words/leads", who=who),
        HoldKind.INSTALLATION: say("hold-words/where-installed", who=who),
        HoldKind.APPLICATION: say("hold-words/holds", title=layout.title(hold.who)),
        HoldKind.SITE: one(who),
        HoldKind.LINK: say("hold-words/link-leads", who=who),
        HoldKind.PAGE: say("hold-words/visitors-read"),
        HoldKind.FRONT: say("hold-words/through-answers", who=who),
    }
    return joined(place, ", ", words[hold.kind])


def _steps(layout: AccountLayout, folder: Folder, holds: list[Hold], tables: OwnTables | None) -> Iterator[Step]:
    places = {hold.place for hold in holds}
    stays = tuple(sorted(places | _needed_files(layout, folder, places)))
    base = Database(tables.name, tables.prefix, tables.user or None) if tables is not None and tables.is_apart else None
    yield KeepFolder(layout.name, folder)
    if base is not None and tables is not None:
        yield KeepTables(layout.name, base, tables.is_whole, tables.longer)
    yield DeleteFolder(layout.name, folder, stays)
    if base is not None and tables is not None:
        yield DropTables(layout.name, base, tables.is_whole, tables.longer)
        if tables.is_whole and tables.user and not tables.user_is_shared:
            yield DropUser(layout.name, tables.user)
