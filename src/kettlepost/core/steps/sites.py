"""The steps of a site's life: a name, an installation by an installer or by hand, its care, its sheet, its end."""

from __future__ import annotations

from typing import ClassVar

from kettlepost.core.messages import Words
from kettlepost.core.names import Folder, HostName
from kettlepost.core.plan import Database
from kettlepost.core.steps.base import BaseStep, DoneWhen, Wait, Who

# -- names


class RegisterName(BaseStep, frozen=True, tag="register-name"):
    """Register a name."""

    who: ClassVar[Who] = Who.REGISTRAR
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    host: HostName


class SettleMail(BaseStep, frozen=True, tag="settle-mail"):
    """Say which mailboxes a name has, as with its name servers its mail moves."""

    who: ClassVar[Who] = Who.CLIENT
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    host: HostName


class SetNameServers(BaseStep, frozen=True, tag="set-name-servers"):
    """Set the name servers of a name, to those of `servers` where they are known."""

    who: ClassVar[Who] = Who.REGISTRAR
    seen: ClassVar[DoneWhen] = DoneWhen.POINTS_HERE
    host: HostName
    servers: tuple[str, ...] = ()


class MakeRecord(BaseStep, frozen=True, tag="make-record"):
    """Make the DNS records of a name, to `records` such as `A 192.0.2.1`, where the host makes none itself."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.POINTS_HERE
    host: HostName
    records: tuple[str, ...] = ()


class RedirectToHttps(BaseStep, frozen=True, tag="redirect-to-https"):
    """Send visitors of a name by http on to https."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    host: HostName


# -- what comes before


class Mend(BaseStep, frozen=True, tag="mend"):
    """See that a finding is gone that stops an installation: its rule, where it is, `why`, and `how`, its way out.

    The steps of that way come before it.
    """

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.NOTHING_STOPS
    rule: str
    at: str
    why: Words
    how: Words = ""


class ClearFolder(BaseStep, frozen=True, tag="clear-folder"):
    """See that nothing is in the way in a folder: what is now, and what must stay with whose it is."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.GONE
    folder: Folder
    in_the_way: tuple[Words, ...] = ()
    stays: tuple[str, ...] = ()


class MakePassword(BaseStep, frozen=True, tag="make-password"):
    """Make a password, which is kept under a title."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.KEPT
    password: str
    purpose: str


class GivePassword(BaseStep, frozen=True, tag="give-password"):
    """Give a database user the password that is kept under a title."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.DATABASE_THERE
    user: str
    password: str


# -- the installation itself


class _SetsUp(BaseStep, frozen=True):
    """What a set-up asks for: the database with its password's title, people, and how it is kept."""

    database: Database | None = None
    server: str = ""
    password: str = ""
    admin: str = ""
    admin_password: str = ""
    contact: str = ""
    also_tell: tuple[str, ...] = ()
    title: str = ""
    language: str = ""
    updates: str = ""
    backups: Words = ""


class InstallApplication(_SetsUp, frozen=True, tag="install-application"):
    """Let the host's installer put an application in place: its fields, in general terms.

    An empty `box` means that whatever stands there is deleted first, and the field left blank.
    """

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    application: str = ""
    release: str = ""
    host: str = ""
    box: str = ""
    address: str = ""
    folder: Folder | None = None
    leave_out: tuple[str, ...] = ()


class UploadFiles(BaseStep, frozen=True, tag="upload-files"):
    """Upload an application's files into a folder; None where no folder is known, as nothing leads there."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    application: str
    folder: Folder | None
    release: str = ""
    checksum: str = ""
    files: int = 0
    leave_out: tuple[str, ...] = ()


class WriteSettings(BaseStep, frozen=True, tag="write-settings"):
    """Write an application's configuration, from a sample where it has one."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    file: str
    sample: str = ""
    settings: tuple[str, ...] = ()
    password: str = ""
    writable: tuple[str, ...] = ()


class SetUp(_SetsUp, frozen=True, tag="set-up"):
    """Run an application's own set-up, which writes the configuration `writes` itself where it can."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    address: str = ""
    writes: str = ""
    writable: tuple[str, ...] = ()


class RemoveLeftovers(BaseStep, frozen=True, tag="remove-leftovers"):
    """Remove what an installer left, and sample content."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.GONE
    remove: tuple[str, ...]


# -- once it is there


class SeePage(BaseStep, frozen=True, tag="see-page"):
    """Open an address, and see that it shows what it is to show; `others` are its other addresses."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    address: str
    shows: Words
    others: tuple[str, ...] = ()


class BindLicence(BaseStep, frozen=True, tag="bind-licence"):
    """Bind a licence to an address that it is not bound to yet."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    address: str
    bound_to: str


class TellSearchEngines(BaseStep, frozen=True, tag="tell-search-engines"):
    """Let search engines in, or keep them out of what is a rehearsal."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    lets_in: bool


class StopMail(BaseStep, frozen=True, tag="stop-mail"):
    """Keep what is only tried out from sending mail to those whose addresses are in its data; or let it, once it is
    `live`."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    address: str
    is_live: bool = False


class CompareTables(BaseStep, frozen=True, tag="compare-tables"):
    """See what was written into the tables of what is live since they were copied, before a copy replaces them."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    database: Database
    target: Database


class Freeze(BaseStep, frozen=True, tag="freeze"):
    """See that nobody writes at an address until what takes its place is there, as it would be lost."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    address: str


class SetTimeToLive(BaseStep, frozen=True, tag="set-time-to-live"):
    """Let others keep what a name leads to for so many seconds only; None puts back what it was."""

    who: ClassVar[Who] = Who.REGISTRAR
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    host: HostName
    names: tuple[str, ...] = ()
    seconds: int | None = None


class AwaitForgotten(BaseStep, frozen=True, tag="await-forgotten"):
    """Wait until nobody keeps what a name leads to for as long as before."""

    who: ClassVar[Who] = Who.NOBODY
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    host: HostName
    wait: Wait


class ChangeRecords(BaseStep, frozen=True, tag="change-records"):
    """Lead names to another machine: these are all their records of addresses then, and all other records stay."""

    who: ClassVar[Who] = Who.REGISTRAR
    seen: ClassVar[DoneWhen] = DoneWhen.POINTS_HERE
    host: HostName
    names: tuple[str, ...] = ()
    records: tuple[str, ...] = ()


class BringFolder(BaseStep, frozen=True, tag="bring-folder"):
    """Copy what lies in a folder of another account to one of this account, but for what stays there."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    other: str
    folder: Folder
    to: Folder
    stays: tuple[Folder, ...] = ()


class BringTables(BaseStep, frozen=True, tag="bring-tables"):
    """Copy the tables with one prefix from a database of another account into one of this account."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.DATABASE_THERE
    other: str
    database: Database
    target: Database


class BringRest(BaseStep, frozen=True, tag="bring-rest"):
    """See what else of another account belongs to a host, and make it here: cron lines, PHP, mailboxes.

    `files` are the control files of the other account around what comes, which hold in it there.
    """

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.LOOKED_AT
    other: str
    host: HostName
    has_mail: bool = False
    root: Folder | None = None
    files: tuple[Folder, ...] = ()


class SeeAhead(BaseStep, frozen=True, tag="see-ahead"):
    """Open an address on a machine that its name does not lead to yet, by a line of one's own hosts file."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.SHOWS_THE_SAME
    address: str
    line: str


class MergeTables(BaseStep, frozen=True, tag="merge-tables"):
    """Write the rows of some kinds of data into the same tables of a copy, in the place of what those hold."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    database: Database
    target: Database
    kinds: tuple[str, ...]


class SendOldOn(BaseStep, frozen=True, tag="send-old-on"):
    """Send visitors of an old address on to a new one."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    old: str
    address: str


class SetUpdates(BaseStep, frozen=True, tag="set-updates"):
    """Set what updates an installation, and see that it does."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    updates: str = ""


class SetBackups(BaseStep, frozen=True, tag="set-backups"):
    """Set an installation's backups, and see that one can be read."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    backups: Words = ""


class WriteSheet(BaseStep, frozen=True, tag="write-sheet"):
    """Write the sheet of a site."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    address: str


class CopySheet(BaseStep, frozen=True, tag="copy-sheet"):
    """Put a sheet in the second place where records are kept."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.SAID
    address: str
    to: str


class Discard(BaseStep, frozen=True, tag="discard"):
    """Delete for good what was set aside of a folder on a day, in ISO 8601 form, as it has been kept long enough."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.GONE
    number: str
    folder: Folder
    day: str


class Forget(BaseStep, frozen=True, tag="forget"):
    """Take the entry of what is gone out of the plan."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.WRITTEN
    subject: str
