"""The closed set of steps: one frozen record for each thing that somebody does, with only the fields it has."""

from __future__ import annotations

from enum import StrEnum
from typing import ClassVar, NamedTuple

from msgspec import Struct

from kettlepost.core.names import Folder, HostName
from kettlepost.core.plan import Database
from kettlepost.core.remedies import Remedy


class Wait(NamedTuple):
    """How long something takes, in seconds: at least, and at most as a rule."""

    least: int
    most: int


MINUTES = Wait(60, 50 * 60)
HOURS = Wait(60, 12 * 3600)
DAYS = Wait(3600, 2 * 86400)


class Who(StrEnum):
    """Where a step is done, and so who can do it: its slug."""

    HOST = "host"
    """whoever manages the account at the host"""
    REGISTRAR = "registrar"
    """whoever manages the domain's registration and name servers"""
    FILES = "files"
    """whoever can reach the account's files"""
    PLAN = "plan"
    """whoever keeps the plan"""
    NOBODY = "nobody"
    """nobody: it takes time"""


class Sign(StrEnum):
    """How one sees that a step is done: its slug."""

    HOST_THERE = "host-there"
    """the host name leads to the folder"""
    HOST_GONE = "host-gone"
    """the host name leads nowhere any more"""
    POINTS_HERE = "points-here"
    """the name servers lead the name here"""
    CERTIFICATE_THERE = "certificate-there"
    """a browser opens the name by https without a warning"""
    THERE = "there"
    """the next survey shows it"""
    GONE = "gone"
    """the next survey does not show it any more"""
    DATABASE_THERE = "database-there"
    """the user can log in to the database, and finds the tables there"""
    KEPT = "kept"
    """the copy can be read"""
    WRITTEN = "written"
    """the plan says it"""
    NOTHING_STOPS = "nothing-stops"
    """the check finds nothing that stops"""
    LOOKED_AT = "looked-at"
    """somebody has decided what of it stays"""
    SHOWS_THE_SAME = "shows-the-same"
    """the page shows what it did"""


class _Step(Struct, frozen=True, omit_defaults=True, tag_field="do"):
    """What all steps have: the account in which they are done, who can do them, and how one sees that they are done."""

    who: ClassVar[Who]
    seen: ClassVar[Sign]
    account: str


# -- at the host and at the registrar


class AddHost(_Step, frozen=True, tag="add-host"):
    """Add a host name to the account: a domain's, or one of its other names, of a kind and with a root where told."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[Sign] = Sign.HOST_THERE
    host: HostName
    kind: str = ""
    root: Folder | None = None


class ChangeRoot(_Step, frozen=True, tag="change-root"):
    """Let a host name lead to another folder."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[Sign] = Sign.HOST_THERE
    host: HostName
    old: Folder
    root: Folder


class RemoveHost(_Step, frozen=True, tag="remove-host"):
    """Take a host name off the account, and its name server entries."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[Sign] = Sign.HOST_GONE
    host: HostName
    root: Folder | None = None


class PointName(_Step, frozen=True, tag="point-name"):
    """See that the name servers lead a name to the account."""

    who: ClassVar[Who] = Who.REGISTRAR
    seen: ClassVar[Sign] = Sign.POINTS_HERE
    host: HostName


class AwaitName(_Step, frozen=True, tag="await-name"):
    """Wait until a name points here: once it is registered, where that is still to come."""

    who: ClassVar[Who] = Who.NOBODY
    seen: ClassVar[Sign] = Sign.POINTS_HERE
    host: HostName
    wait: Wait
    is_registered: bool = True


class GetCertificate(_Step, frozen=True, tag="get-certificate"):
    """Have a certificate made for a name."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[Sign] = Sign.CERTIFICATE_THERE
    host: HostName


class AwaitCertificate(_Step, frozen=True, tag="await-certificate"):
    """Wait until the certificate of a name is there."""

    who: ClassVar[Who] = Who.NOBODY
    seen: ClassVar[Sign] = Sign.CERTIFICATE_THERE
    host: HostName
    wait: Wait


# -- in the account's files; a `file` lies in its `folder`


class MakeFolder(_Step, frozen=True, tag="make-folder"):
    """Make a folder."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.THERE
    folder: Folder


class CopyFolder(_Step, frozen=True, tag="copy-folder"):
    """Copy what lies in a folder to another one, but for the folders that others use."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.THERE
    folder: Folder
    to: Folder
    stays: tuple[Folder, ...] = ()


class MoveFolder(_Step, frozen=True, tag="move-folder"):
    """Move a folder with all that lies in it."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.THERE
    folder: Folder
    to: Folder


class MoveFile(_Step, frozen=True, tag="move-file"):
    """Move a file into another folder."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.THERE
    folder: Folder
    file: str
    to: Folder


class KeepFolder(_Step, frozen=True, tag="keep-folder"):
    """Keep a copy of a folder outside the account."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.KEPT
    folder: Folder


class KeepFile(_Step, frozen=True, tag="keep-file"):
    """Keep a copy of a file outside the account."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.KEPT
    folder: Folder
    file: str


class KeepOthers(_Step, frozen=True, tag="keep-others"):
    """Keep a copy of the other files of a folder, so many of them, and take out what nobody needs."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.LOOKED_AT
    folder: Folder
    count: int


class DeleteFolder(_Step, frozen=True, tag="delete-folder"):
    """Remove what lies in a folder, but for what stays; the folder itself goes where nothing does.

    `remedy` is the command that does it, with a way back.
    """

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.GONE
    folder: Folder
    stays: tuple[Folder, ...] = ()
    for_installer: bool = False
    remedy: Remedy | None = None


class DeleteFile(_Step, frozen=True, tag="delete-file"):
    """Remove a file, after a look at it; `is_placeholder` where it is a page that the host left."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.GONE
    folder: Folder
    file: str
    is_placeholder: bool = False
    remedy: Remedy | None = None


class RetireApplication(_Step, frozen=True, tag="retire-application"):
    """Move what is installed in a folder elsewhere, or retire it."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.GONE
    folder: Folder
    application: str


class LeaveFolder(_Step, frozen=True, tag="leave-folder"):
    """Nothing: so many files stay where they are."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.THERE
    folder: Folder
    count: int


class WriteFrontFile(_Step, frozen=True, tag="write-front-file"):
    """Write the file by which the root starts an application that lies in a subfolder."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.THERE
    folder: Folder
    file: str
    starts: Folder


class AddLines(_Step, frozen=True, tag="add-lines"):
    """Add lines at the end of a control file, which is made where there is none."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.THERE
    folder: Folder
    file: str
    lines: tuple[str, ...]


class LookAtFile(_Step, frozen=True, tag="look-at-file"):
    """Look at a file that has a say in a folder, and decide what of it stays."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.LOOKED_AT
    folder: Folder
    file: str
    says: str
    remedy: Remedy | None = None


class LookAtFolder(_Step, frozen=True, tag="look-at-folder"):
    """Look what lies in a folder, and decide whose it is."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.LOOKED_AT
    folder: Folder


class Configure(_Step, frozen=True, tag="configure"):
    """Write the database that an installation works with into its configuration, or the address it answers at."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[Sign] = Sign.THERE
    installation: str
    folder: Folder | None
    database: Database | None = None
    address: str = ""


# -- in databases


class MakeDatabase(_Step, frozen=True, tag="make-database"):
    """Make a database with its user, who gets rights on it alone."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[Sign] = Sign.DATABASE_THERE
    database: Database
    remedy: Remedy | None = None


class CopyTables(_Step, frozen=True, tag="copy-tables"):
    """Copy the tables with one prefix into another database, or under another prefix."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[Sign] = Sign.DATABASE_THERE
    database: Database
    target: Database
    remedy: Remedy | None = None


class KeepTables(_Step, frozen=True, tag="keep-tables"):
    """Keep a dump of a database, or of its tables with one prefix."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[Sign] = Sign.KEPT
    database: Database
    is_whole: bool


class DropTables(_Step, frozen=True, tag="drop-tables"):
    """Drop a database, or its tables with one prefix."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[Sign] = Sign.GONE
    database: Database
    is_whole: bool


class DropUser(_Step, frozen=True, tag="drop-user"):
    """Drop the user of a database."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[Sign] = Sign.GONE
    user: str


# -- by whoever keeps the plan


class OpenPage(_Step, frozen=True, tag="open-page"):
    """Open an address, as it is written, and see that it shows what it did."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[Sign] = Sign.SHOWS_THE_SAME
    address: str


class LookAgain(_Step, frozen=True, tag="look-again"):
    """Take the survey again once the rest is done."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[Sign] = Sign.THERE


class WriteDown(_Step, frozen=True, tag="write-down"):
    """Write down in the plan who looks after what was entered."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[Sign] = Sign.WRITTEN


class Confirm(_Step, frozen=True, tag="confirm"):
    """Write into the plan that something has come as it was planned, once a survey shows it."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[Sign] = Sign.WRITTEN
    subject: str


class Check(_Step, frozen=True, tag="check"):
    """Check the account."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[Sign] = Sign.NOTHING_STOPS


Step = (
    AddHost | ChangeRoot | RemoveHost | PointName | AwaitName | GetCertificate | AwaitCertificate
    | MakeFolder | CopyFolder | MoveFolder | MoveFile | KeepFolder | KeepFile | KeepOthers | DeleteFolder | DeleteFile
    | RetireApplication | LeaveFolder | WriteFrontFile | AddLines | LookAtFile | LookAtFolder | Configure
    | MakeDatabase | CopyTables | KeepTables | DropTables | DropUser
    | OpenPage | LookAgain | WriteDown | Confirm | Check
)  # fmt: skip
"""All that is ever advised; whoever tells them apart ends in `assert_never`."""
Deletion = DeleteFolder | DeleteFile | DropTables | DropUser | RemoveHost
"""What takes something away for good."""
Clearing = RetireApplication | LookAtFile | DeleteFolder | DeleteFile | KeepOthers
"""What is done about what is in the way of something new."""
Creating = AddHost | MakeFolder | MakeDatabase | WriteFrontFile | GetCertificate
"""What something new needs."""
Waiting = AwaitName | AwaitCertificate
"""What only takes time."""
Moving = (
    MakeFolder | LookAtFolder | CopyFolder | ChangeRoot | OpenPage | AddLines | DeleteFolder | LookAgain | Confirm
)  # fmt: skip
"""What moves a domain to another root."""
BesideFiles = (
    AddHost | ChangeRoot | RemoveHost | PointName | AwaitName | GetCertificate | AwaitCertificate
    | KeepFolder | KeepFile | KeepOthers | RetireApplication | LeaveFolder | LookAtFile | LookAtFolder
    | MakeDatabase | CopyTables | KeepTables | DropTables | DropUser | OpenPage | LookAgain | WriteDown | Confirm
    | Check
)  # fmt: skip
"""What changes nothing in the files of an account that a survey would show, or of which nothing tells what."""
