"""The work of letting what was rehearsed take the place of what is live, with the data that each of them keeps."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from kettlepost.core.answering import Requests
from kettlepost.core.layout import AccountLayout, FolderState
from kettlepost.core.messages import say
from kettlepost.core.moving import web_address
from kettlepost.core.names import Folder
from kettlepost.core.plan import ALL_DATA, OTHER_DATA, Application, Change, Database, Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.exposure import is_shut
from kettlepost.core.rules.paths import canonical
from kettlepost.core.rules.rehearsing import guard_lines
from kettlepost.core.rules.relocation import stays_in, written_anew
from kettlepost.core.rules.ways_out import setting
from kettlepost.core.steps import (
    CompareTables,
    Configure,
    Confirm,
    CopyFolder,
    EditLine,
    Freeze,
    LookAgain,
    LookAtFile,
    MergeTables,
    OpenPage,
    SetAsideFolder,
    Step,
    StopMail,
    TellSearchEngines,
    WriteSettings,
    survey_after,
)
from kettlepost.core.survey import KEEPING_OUT, FoundApplication

Replacing = SetAsideFolder | CopyFolder | EditLine | LookAtFile
"""What brings the files of a rehearsal to the place of what is live."""
TakingOver = (
    CompareTables | Freeze | MergeTables | Configure | Replacing | WriteSettings | StopMail | OpenPage
    | TellSearchEngines | LookAgain | Confirm
)  # fmt: skip
"""What is done until a rehearsal has taken the place of what is live."""


MERGED = ("mysql", "mariadb")
"""The servers for which there is a program that compares and merges tables."""


class GoingLive(Struct, frozen=True):
    """A rehearsal that takes the place of what it rehearses: its files, and its data but for what that keeps.

    `folder` is where its files lie and `to` where they are to, `old` and `new` are the tables of the two; of what is
    live `kept` and `stays` stay where they are: folders with data that it keeps, and what others have there. `left` is
    what is not copied: those, and what a rehearsal alone has.
    """

    rehearsal: Installation
    live: Installation
    folder: Folder
    to: Folder
    old: Database
    new: Database
    kept: tuple[Folder, ...]
    stays: tuple[Folder, ...]
    left: tuple[Folder, ...]

    @property
    def keeps(self) -> list[str]:
        """The kinds of data that what is live keeps."""
        return self.rehearsal.live_keeps


def going_live(layout: AccountLayout, installation: Installation) -> GoingLive | None:
    """What is to be done with a rehearsal that is to go live, or with what it takes the place of.

    None where it is neither, and where nothing is known of where the files or tables of both are.
    """
    for one in layout.to_go_live if installation.state == "live" else ():
        live = rehearsed_by(layout, one) if one.state == "live" else None
        if live is not None and installation.number in (one.number, live.number):
            return taking_its_place(layout, one, live)
    return None


def as_rehearsed(layout: AccountLayout, rehearsal: Installation) -> GoingLive | None:
    """The same of a rehearsal of which nobody has said that it is to go live."""
    live = rehearsed_by(layout, rehearsal) if rehearsal.state == "live" else None
    return taking_its_place(layout, rehearsal, live) if live is not None else None


def taking_its_place(layout: AccountLayout, rehearsal: Installation, live: Installation) -> GoingLive | None:
    """The same of one that may, or may not be meant to."""
    folder, to = layout.lies_now(rehearsal), layout.lies_now(live)
    old, new = live.database, rehearsal.database
    if not folder or not to or folder == to or old is None or new is None:
        return None
    known = layout.application(rehearsal)
    kept = tuple(kept_folders(known, rehearsal.live_keeps))
    others = {one for one in stays_in(layout, live, to, folder) if one != to}
    apart = set(stays_in(layout, rehearsal, folder, to))
    apart |= {folder.below(one) for one in kept}
    apart |= {place for one in others if _is_there(layout, place := folder.below(one.relative_to(to)))}
    if known.stops_mail is not None:
        apart.add(folder.below(known.stops_mail.file))
    return GoingLive(
        rehearsal, live, folder, to, old, new, tuple(to.below(one) for one in kept), tuple(sorted(others)),
        tuple(sorted(apart)),
    )  # fmt: skip


def _is_there(layout: AccountLayout, place: Folder) -> bool:
    """Whether a file or folder may lie at a place, as far as anybody looked."""
    contents = layout.contents
    if contents is None or contents.exists(place):
        return True
    return FolderState(layout, "now").has(place.parent, place.name) is not False


def rehearsed_by(layout: AccountLayout, rehearsal: Installation) -> Installation | None:
    """What is live and is rehearsed by an installation: the same application, at the address that it names."""
    if rehearsal.staging_of is None:
        return None
    spot = canonical(layout, rehearsal.staging_of)
    return next(
        (
            one for one in layout.account.installations
            if one.state == "live" and one.number != rehearsal.number and one.application == rehearsal.application
            and canonical(layout, one.address) == spot and not one.is_moving
        ),
        None,
    )  # fmt: skip


def kinds_of(application: Application) -> list[str]:
    """The kinds of data that can be kept one by one, with what no kind names."""
    return [*(one.name for one in application.data), OTHER_DATA] if application.data else []


def kept_folders(application: Application, keeps: list[str]) -> Iterator[str]:
    """The folders of the kinds of data that are kept."""
    for one in application.data:
        if one.name in keeps or ALL_DATA in keeps:
            yield from one.folders


def has_gone_live(layout: AccountLayout, going: GoingLive) -> bool | None:
    """Whether what lies where visitors are led works with the tables of the rehearsal; None where nobody sees that."""
    found = layout.contents.applications.get(going.to) if layout.contents is not None else None
    if layout.contents is None:
        return None
    if found is None or found.application != going.live.application:
        return False
    return names_tables(layout, found, going.new)


def names_tables(layout: AccountLayout, found: FoundApplication, base: Database) -> bool | None:
    """Whether the configuration of an application names the tables of a database; None where it does not tell."""
    real, known = found.database, layout.plan.applications.get(found.application)
    if real is None or not real.name:
        return None
    if real.name != base.name:
        return False
    mark = known.config if known is not None else None
    if mark is not None and mark.prefix is not None:
        return real.prefix == base.prefix
    others = {one.prefix for one in _of_database(layout, base) if one.prefix != base.prefix}
    return None if others else True  # it may be those of anybody who uses the database, too


def _of_database(layout: AccountLayout, base: Database) -> list[Database]:
    """What the plan says of a database, for each installation that has it."""
    written = (one.database for one in layout.account.installations)
    return [one for one in written if one is not None and (one.server, one.name) == (base.server, base.name)]


def is_set_aside(layout: AccountLayout, installation: Installation) -> bool:
    """Whether something live is away already, as its rehearsal takes its place, and that is not there yet."""
    going = going_live(layout, installation)
    contents = layout.contents
    if going is None or contents is None or going.live.number != installation.number:
        return False
    return going.to not in contents.applications and going.folder in contents.applications


def taking_over(layout: AccountLayout, going: GoingLive) -> list[TakingOver]:
    """The whole work, in its order: the data, the files, the look, the plan that says so.

    The tables of the rehearsal are brought to how they are to be, with the live address in them, before any file is
    touched; the files of what is live are set aside, and so is the way back.
    """
    live, here = going.live.address, str(going.rehearsal.address).rstrip("/")
    steps: list[TakingOver] = [CompareTables(layout.name, going.old, going.new)]
    if going.keeps:
        steps.append(Freeze(layout.name, str(live)))
        steps.append(MergeTables(layout.name, going.old, going.new, tuple(going.keeps)))
    steps.append(Configure(layout.name, here, going.folder, going.new, web_address(layout, live)))
    steps += replacing_files(layout, going)
    mark = layout.application(going.live).config
    if mark is not None and mark.address:  # which may be written there, or not
        says = f"{mark.address} = {web_address(layout, live)}"
        steps.append(WriteSettings(layout.name, going.to.below(mark.file).shown, "", (says,), "", ()))
    if layout.application(going.live).stops_mail is None:  # else the file that does is not copied
        steps.append(StopMail(layout.name, str(live), is_live=True))
    steps.append(OpenPage(layout.name, str(live)))
    if going.live.indexing:
        steps.append(TellSearchEngines(layout.name, lets_in=True))
    return [*steps, LookAgain(layout.name, layout.databases is not None), Confirm(layout.name, str(live))]


def replacing_files(layout: AccountLayout, going: GoingLive) -> list[Replacing]:
    """What is live is set aside, the files of the rehearsal come to its place, and let in whoever was let in there."""
    here = str(going.live.address).rstrip("/")
    clears = Remedy.of(Action.CLEAR, here, "--everything")
    if layout.reach(going.live.address) != going.to:
        clears = Remedy.of(Action.CLEAR, "--account", layout.name, "--folder", going.to.shown, "--everything")
    stays = {going.to, *going.stays, *going.kept}
    steps: list[Replacing] = [
        SetAsideFolder(layout.name, going.to, tuple(sorted(stays)), clears),
        CopyFolder(layout.name, going.folder, going.to, going.left),
        *_opened(layout, going),
    ]
    return [*steps, *_keeping_shut(layout, going, [one for one in steps if not isinstance(one, LookAtFile)])]


def _opened(layout: AccountLayout, going: GoingLive) -> Iterator[EditLine]:
    """The lines of the control file that comes along which keep visitors out, or name the path of the rehearsal."""
    guard = guard_lines(layout, going.folder)
    moved = replace(going.rehearsal, address=going.live.address, address_now=going.rehearsal.address)
    for number, line in guard:
        yield EditLine(layout.name, going.to, ".htaccess", number, line, "#")
    numbers = {number for number, _ in guard}
    yield from (
        one for one in written_anew(layout, moved, going.folder, going.to) if one.line not in numbers
    )  # fmt: skip


def _keeping_shut(layout: AccountLayout, going: GoingLive, steps: Sequence[Step]) -> Iterator[LookAtFile]:
    """That whatever else keeps visitors out of a rehearsal goes, where it would keep them out of what is live."""
    if layout.survey is None:
        return
    says = say("going-live/shut", address=going.live.address)
    looks = LookAtFile(layout.name, going.to, ".htaccess", says)
    if has_gone_live(layout, going):  # what it read before is gone by now
        mine, copied = (_lines(layout, folder) for folder in (going.folder, going.to))
        if mine == copied and _keeps_out(layout, going.to) and not guard_lines(layout, going.folder):
            yield looks
        return
    after = survey_after(layout.survey, steps)
    settled = layout.changed(layout.account, survey=replace(after, names=layout.survey.names))
    is_new = _keeps_out(settled, going.to) and not _keeps_out(layout, going.to)
    was_shut = is_shut(Requests(layout), going.live.address)
    if is_new or (not was_shut and is_shut(Requests(settled), going.live.address)):
        yield looks


def _lines(layout: AccountLayout, folder: Folder) -> list[str]:
    control = layout.contents.htaccess(folder) if layout.contents is not None else None
    return control.lines if control is not None else []


def _keeps_out(layout: AccountLayout, folder: Folder) -> bool:
    """Whether the control file of a folder has lines that keep visitors out."""
    controls = layout.contents.controls(folder) if layout.contents is not None else ()
    return any(effect.does in KEEPING_OUT for one in controls for effect in one.effects)


def gone_live(layout: AccountLayout, going: GoingLive) -> tuple[Change, ...]:
    """What is written once it has taken the place: it works with the tables of the rehearsal, and that is retired with
    the tables that were in use before."""
    found = layout.contents.applications.get(going.to) if layout.contents is not None else None
    version = found.version if found is not None and found.version else going.live.version
    mine, theirs = _written(going.new, going.rehearsal, going.old), _written(going.old, going.live, going.new)
    return (
        setting(layout, going.live, database=mine, version=version),
        setting(layout, going.rehearsal, state="retired", database=theirs, goes_live=None, live_keeps=None),
    )


def _written(base: Database, whose: Installation, instead_of: Database) -> dict[str, Any]:
    """A database as it is written for another installation, in the place of one: its password is kept where it was."""
    entry = instead_of.entry if base.name == instead_of.name else whose.database_entry
    return {
        "name": base.name, "prefix": base.prefix or None, "user": base.user, "server": base.server or None,
        "entry": entry,
    }  # fmt: skip
