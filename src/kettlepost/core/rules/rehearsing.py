"""The work of copying what is live to where a change of it is rehearsed."""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from kettlepost.core.answering import Requests
from kettlepost.core.layout import AccountLayout, FolderState, TableUser, server_key
from kettlepost.core.names import HOME, Address, Folder, unprintable
from kettlepost.core.plan import Database, Installation
from kettlepost.core.rules.exposure import is_shut
from kettlepost.core.rules.moves import carried
from kettlepost.core.rules.paths import canonical
from kettlepost.core.rules.protection import asking_for_users, protecting, users_file
from kettlepost.core.rules.relocation import stays_in, written_anew
from kettlepost.core.rules.ways_out import numbered
from kettlepost.core.steps import (
    AddLines,
    BesideFiles,
    CarryLines,
    CopyFolder,
    EditLine,
    LookAtFile,
    MakeFolder,
    MakePasswordFile,
    ProtectFolder,
    Step,
    StopMail,
)
from kettlepost.core.steps import survey_after as surveyed_after

Copying = CopyFolder | EditLine | CarryLines | LookAtFile
"""What brings the files of what is live to where it is rehearsed, as they are to be there."""
Guarding = AddLines | MakePasswordFile | ProtectFolder
"""What keeps everybody out who is not let in."""


class Rehearsed(Struct, frozen=True):
    """What is live and is rehearsed: its files, and by which address its control file goes, if it is another.

    `stays` is what others have among its files, which is not copied; `tables` are those that it works with.
    """

    live: Installation
    folder: Folder
    address: Address
    stays: tuple[Folder, ...]
    tables: TableUser | None

    def shares_tables(self, base: Database | None) -> bool:
        """Whether those are the very tables that a copy is to have."""
        return (
            base is not None
            and self.tables is not None
            and (
                (server_key(base.server), base.name.lower(), base.prefix.lower())
                == (self.tables.database[0], self.tables.name.lower(), self.tables.written.lower())
            )
        )


def rehearsed_from(layout: AccountLayout, installation: Installation) -> Rehearsed | None:
    """What a rehearsal is a copy of: the same application, live in its account, in a folder of its own.

    None where it is none, and has to be installed afresh.
    """
    own = installation.staging_of
    if own is None or installation.state == "retired":
        return None
    spot = canonical(layout, own)
    for live in layout.account.installations:
        is_it = live.state == "live" and live.number != installation.number
        if is_it and live.application == installation.application and canonical(layout, live.address) == spot:
            return original(layout, live, layout.folder_of(installation))
    return None


def original(layout: AccountLayout, live: Installation, to: Folder | None) -> Rehearsed | None:
    """What is live as it is copied; None where it is not known where its files lie, or that is where they are to go."""
    lies = layout.lies_now(live)
    if lies is None or not lies or to is None or lies == to:
        return None
    today = live.address_now or live.address
    led = layout.tree("now").reach(today) == lies
    address = today if led else next(iter(layout.addresses_of(lies)), today)
    tables = next(
        (one for one in layout.tables.users if one.installation is not None and one.installation.number == live.number),
        None,
    )
    inside = map(Folder, layout.contents.applications if layout.contents is not None else ())
    apart = {one for one in inside if one.is_inside(lies)}  # which would work with the data that it has here
    stays = tuple(sorted({*stays_in(layout, live, lies, to), *apart}))
    return Rehearsed(live, lies, address, stays, tables)


def copying_files(layout: AccountLayout, installation: Installation, of: Rehearsed, to: Folder) -> list[Copying]:
    """The copy of its files, and what their control file is to say where they are then."""
    moved = replace(of.live, address=installation.address, address_now=of.address)
    return [
        CopyFolder(layout.name, of.folder, to, of.stays),
        *written_anew(layout, moved, of.folder, to),
        *carried(layout, of.folder, to),
    ]


def guarding(layout: AccountLayout, installation: Installation, copies: list[Copying], to: Folder) -> list[Guarding]:
    """What asks visitors of a rehearsal for a password, before anybody is led there.

    The lines come before the file with the users, as nobody is let in while that is not there. Lines are told only
    where they hold beside those that are copied; else it is said in words.
    """
    kept = _guarded(layout, to)
    if kept is not None:
        return kept
    steps = [one for one in protecting(layout, to) if not isinstance(one, MakeFolder)]
    lines = [one for one in steps if isinstance(one, AddLines)]
    is_copied = layout.contents is not None and to in layout.contents.applications
    if not lines or not _holds(layout, installation, [*([] if is_copied else copies), *lines]):
        return [ProtectFolder(layout.name, to)]
    return [*lines, *(one for one in steps if isinstance(one, MakePasswordFile))]


def stopping_mail(layout: AccountLayout, installation: Installation, to: Folder) -> AddLines | StopMail:
    """What keeps a rehearsal from writing to those whose addresses are in the data that it was given."""
    known = layout.application(installation)
    if known.stops_mail is None:
        return StopMail(layout.name, str(installation.address))
    folder, _, file = known.stops_mail.file.rpartition("/")
    return AddLines(layout.name, to.below(folder), file, tuple(known.stops_mail.lines))


_BEGIN = "AuthUserFile "


def _guarded(layout: AccountLayout, to: Folder) -> list[Guarding] | None:
    """The same as it was written, once it is seen: its file with the users has that very name."""
    lines = tuple(line for _, line in guard_lines(layout, to))
    if not lines:
        return None
    path = next(line for line in lines if line.startswith(_BEGIN)).removeprefix(_BEGIN).strip('"')
    return [AddLines(layout.name, to, ".htaccess", lines), MakePasswordFile(layout.name, path)]


def guard_lines(layout: AccountLayout, folder: Folder) -> list[tuple[int, str]]:
    """The lines by which a rehearsal asks for a password, with their numbers; none where they are not seen.

    A survey keeps what asks for a password, and neither its name nor where its users are: so that they are known by
    their order at the end of the file, and by the file with the users, of which there is to be one in the home.
    """
    control, home = (
        layout.contents.htaccess(folder) if layout.contents is not None else None,
        layout.account.settings.home,
    )
    numbered_lines = [one.partition(" ")[::2] for one in control.lines] if control is not None else []
    lines = {int(number): unprintable(line) for number, line in numbered_lines if number.isdigit()}
    state, users = FolderState(layout, "now"), list[str]()
    for name in numbered((users_file(folder),)):
        if not state.has(HOME, name):
            break
        users.append(name)
    at = max((number for number, line in lines.items() if line == "AuthType Basic"), default=0)
    is_whole = lines.get(at + 1, "").startswith("AuthName") and lines.get(at + 3) == "Require valid-user"
    if home is None or len(users) != 1 or not at or not is_whole or max(lines) != at + 3:
        return []
    path = f"{home.rstrip('/')}/{users[0]}"
    return list(enumerate(asking_for_users(layout, folder, path), at))


def _holds(layout: AccountLayout, installation: Installation, steps: list[Copying | AddLines]) -> bool:
    """Whether nobody sees a rehearsal who has no password, once all of it is done."""
    if layout.survey is None:
        return False  # nobody has read what is copied along
    files: list[Step] = [one for one in steps if not isinstance(one, BesideFiles)]
    after = surveyed_after(layout.survey, files)
    account = layout.account
    requests = Requests(layout.changed(account, survey=replace(after, names=layout.survey.names)))
    return is_shut(requests, installation.address)
