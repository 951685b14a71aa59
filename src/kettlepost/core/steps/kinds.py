"""The closed set of steps: one frozen record for each thing that somebody does, with only the fields it has."""

from __future__ import annotations

from typing import ClassVar

from kettlepost.core.messages import Words
from kettlepost.core.names import Folder, HostName
from kettlepost.core.plan import Database
from kettlepost.core.remedies import Remedy
from kettlepost.core.steps.base import BaseStep, DoneWhen, Wait, Who
from kettlepost.core.steps.planning import (
    Accept,
    ChangeRights,
    CompleteEntry,
    Decide,
    EditPlan,
    MakePasswordFile,
    ProbeAgain,
    ProtectFolder,
    ProtectName,
    ReadIn,
    SetIndexOrder,
)
from kettlepost.core.steps.sites import (
    AwaitForgotten,
    BindLicence,
    BringFolder,
    BringRest,
    BringTables,
    ChangeRecords,
    ClearFolder,
    CompareTables,
    CopySheet,
    Discard,
    Forget,
    Freeze,
    GivePassword,
    InstallApplication,
    MakePassword,
    MakeRecord,
    Mend,
    MergeTables,
    RedirectToHttps,
    RegisterName,
    RemoveLeftovers,
    SeeAhead,
    SeePage,
    SendOldOn,
    SetBackups,
    SetNameServers,
    SetTimeToLive,
    SettleMail,
    SetUp,
    SetUpdates,
    StopMail,
    TellSearchEngines,
    UploadFiles,
    WriteSettings,
    WriteSheet,
)  # fmt: skip

# -- at the host and at the registrar


class AddHost(BaseStep, frozen=True, tag="add-host"):
    """Add a host name to the account: a domain's, or one of its other names, of a kind and with a root where told.

    `refuse` is the root that a host may offer and is another's, `of` the domain that it stands for, `also` are the
    names that come with it.
    """

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.HOST_THERE
    host: HostName
    kind: str = ""
    root: Folder | None = None
    refuse: Folder | None = None
    of: HostName | None = None
    also: tuple[str, ...] = ()


class ChangeRoot(BaseStep, frozen=True, tag="change-root"):
    """Let a host name lead to another folder; `remedy` is the command that says that it does."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.HOST_THERE
    host: HostName
    old: Folder
    root: Folder
    remedy: Remedy | None = None


class RemoveHost(BaseStep, frozen=True, tag="remove-host"):
    """Take a host name off the account, and its name server entries where nobody uses them elsewhere.

    Its folder `root` stays, and so do the other names of the account, such as those of `others` that stand for it.
    `gives_to` is the account of the same machine that gets it at once, so that its entries stay.
    """

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.HOST_GONE
    host: HostName
    root: Folder | None = None
    others: tuple[HostName, ...] = ()
    has_mail: bool = False
    gives_to: str = ""


class PointName(BaseStep, frozen=True, tag="point-name"):
    """See that the name servers lead a name to the account."""

    who: ClassVar[Who] = Who.REGISTRAR
    seen: ClassVar[DoneWhen] = DoneWhen.POINTS_HERE
    host: HostName


class AwaitName(BaseStep, frozen=True, tag="await-name"):
    """Wait until a name points here: once it is registered, where that is still to come.

    `is_told_away` says that the plan tells that it does not point here, which is to be taken out then.
    """

    who: ClassVar[Who] = Who.NOBODY
    seen: ClassVar[DoneWhen] = DoneWhen.POINTS_HERE
    host: HostName
    wait: Wait
    is_registered: bool = True
    is_told_away: bool = False


class GetCertificate(BaseStep, frozen=True, tag="get-certificate"):
    """Have a certificate made for a name, and more of them; `is_undeclared` where the plan has no such entry.

    `is_ahead` says that the name does not lead here yet.
    """

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.CERTIFICATE_THERE
    host: HostName
    covers: tuple[str, ...] = ()
    is_undeclared: bool = False
    is_ahead: bool = False


class AwaitCertificate(BaseStep, frozen=True, tag="await-certificate"):
    """Wait until the certificate of a name is there."""

    who: ClassVar[Who] = Who.NOBODY
    seen: ClassVar[DoneWhen] = DoneWhen.CERTIFICATE_THERE
    host: HostName
    wait: Wait


# -- in the account's files; a `file` lies in its `folder`


class MakeFolder(BaseStep, frozen=True, tag="make-folder"):
    """Make a folder."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder


class CopyFolder(BaseStep, frozen=True, tag="copy-folder"):
    """Copy what lies in a folder to another one, but for the folders that others use."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder
    to: Folder
    stays: tuple[Folder, ...] = ()


class MoveFolder(BaseStep, frozen=True, tag="move-folder"):
    """Move a folder with all that lies in it."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder
    to: Folder


class MoveFile(BaseStep, frozen=True, tag="move-file"):
    """Move a file into another folder."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder
    file: str
    to: Folder


class KeepFolder(BaseStep, frozen=True, tag="keep-folder"):
    """Keep a copy of a folder outside the account."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.KEPT
    folder: Folder


class KeepFile(BaseStep, frozen=True, tag="keep-file"):
    """Keep a copy of a file outside the account."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.KEPT
    folder: Folder
    file: str


class KeepOthers(BaseStep, frozen=True, tag="keep-others"):
    """Keep a copy of the other files of a folder, so many of them, and take out what nobody needs."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.LOOKED_AT
    folder: Folder
    count: int


class DeleteFolder(BaseStep, frozen=True, tag="delete-folder"):
    """Remove what lies in a folder, but for what stays; the folder itself goes where nothing does.

    `remedy` is the command that does it, with a way back.
    """

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.GONE
    folder: Folder
    stays: tuple[Folder, ...] = ()
    for_installer: bool = False
    remedy: Remedy | None = None


class SetAsideFolder(BaseStep, frozen=True, tag="set-aside-folder"):
    """Set aside what lies in a folder, but for what stays, with a way back; the folder itself stays, empty.

    `remedy` is the command that does it.
    """

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.GONE
    folder: Folder
    stays: tuple[Folder, ...] = ()
    remedy: Remedy | None = None


class DeleteFile(BaseStep, frozen=True, tag="delete-file"):
    """Remove a file, after a look at it; `is_placeholder` where it is a page that the host left."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.GONE
    folder: Folder
    file: str
    is_placeholder: bool = False
    remedy: Remedy | None = None


class RetireApplication(BaseStep, frozen=True, tag="retire-application"):
    """Move what is installed in a folder elsewhere, or retire it."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.GONE
    folder: Folder
    application: str


class LeaveFolder(BaseStep, frozen=True, tag="leave-folder"):
    """Nothing: so many files stay where they are."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder
    count: int


class WriteFrontFile(BaseStep, frozen=True, tag="write-front-file"):
    """Write the file by which the root starts an application that lies in a subfolder."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder
    file: str
    starts: Folder


class AddLines(BaseStep, frozen=True, tag="add-lines"):
    """Add lines at the end of a control file, or at its beginning; it is made where there is none."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder
    file: str
    lines: tuple[str, ...]
    is_first: bool = False


class CarryLines(BaseStep, frozen=True, tag="carry-lines"):
    """Copy the lines of a control file that say who may see what, or choose PHP, to the beginning of another's.

    They are those from line `first` to line `last`, as far as they are of that kind; the other is that of the folder
    `to`, which is made where there is none.
    """

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder
    file: str
    to: Folder
    first: int
    last: int


class EditLine(BaseStep, frozen=True, tag="edit-line"):
    """Write `new` for a line of a control file, which is counted from 1 and reads `old`; None takes it out."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder
    file: str
    line: int
    old: str
    new: str | None = None


class PutPage(BaseStep, frozen=True, tag="put-page"):
    """Put an index page into a folder, for visitors to see."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    folder: Folder
    file: str


class LookAtFile(BaseStep, frozen=True, tag="look-at-file"):
    """Look at a file that has a say in a folder, and decide what of it stays."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.LOOKED_AT
    folder: Folder
    file: str
    says: Words
    remedy: Remedy | None = None


class LookAtFolder(BaseStep, frozen=True, tag="look-at-folder"):
    """Look what lies in a folder, and decide whose it is."""

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.LOOKED_AT
    folder: Folder


class Configure(BaseStep, frozen=True, tag="configure"):
    """Write the database that an installation works with into its configuration, or the address it answers at.

    With both, the address is written into the tables of that database, before the configuration names it.
    """

    who: ClassVar[Who] = Who.FILES
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    installation: str
    folder: Folder | None
    database: Database | None = None
    address: str = ""


# -- in databases


class MakeDatabase(BaseStep, frozen=True, tag="make-database"):
    """Make a database with its user, who gets rights on it alone; `why_not` is what stands against it.

    A user of whom `has_user` says that it is there gets rights on this database as well, and keeps its password.
    """

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.DATABASE_THERE
    database: Database
    collation: str = ""
    rights: tuple[str, ...] = ()
    why_not: Words = ""
    has_user: bool = False
    remedy: Remedy | None = None


class CopyTables(BaseStep, frozen=True, tag="copy-tables"):
    """Copy the tables with one prefix into another database, or under another prefix."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.DATABASE_THERE
    database: Database
    target: Database
    remedy: Remedy | None = None


class KeepTables(BaseStep, frozen=True, tag="keep-tables"):
    """Keep a dump of a database, or of its tables with one prefix.

    `stays` are longer prefixes, those of others, whose tables are none of them.
    """

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.KEPT
    database: Database
    is_whole: bool
    stays: tuple[str, ...] = ()


class DropTables(BaseStep, frozen=True, tag="drop-tables"):
    """Drop a database, or its tables with one prefix.

    `stays` are longer prefixes, those of others, whose tables are none of them.
    """

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.GONE
    database: Database
    is_whole: bool
    stays: tuple[str, ...] = ()


class DropUser(BaseStep, frozen=True, tag="drop-user"):
    """Drop the user of a database."""

    who: ClassVar[Who] = Who.HOST
    seen: ClassVar[DoneWhen] = DoneWhen.GONE
    user: str


# -- by whoever keeps the plan


class OpenPage(BaseStep, frozen=True, tag="open-page"):
    """Open an address, as it is written, and see that it shows what it did."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.SHOWS_THE_SAME
    address: str


class LookAgain(BaseStep, frozen=True, tag="look-again"):
    """Look again at the account's folders once the rest is done, and at its databases where `databases` says so."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.THERE
    databases: bool = False


class WriteDown(BaseStep, frozen=True, tag="write-down"):
    """Write down in the plan who looks after what was entered."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.WRITTEN


class Confirm(BaseStep, frozen=True, tag="confirm"):
    """Write into the plan that something has come as it was planned, once a survey shows it."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.WRITTEN
    subject: str


class Check(BaseStep, frozen=True, tag="check"):
    """Check the account."""

    who: ClassVar[Who] = Who.PLAN
    seen: ClassVar[DoneWhen] = DoneWhen.NOTHING_STOPS


OfSites = (
    RegisterName | SettleMail | SetNameServers | MakeRecord | RedirectToHttps | Forget | Mend | ClearFolder
    | MakePassword | GivePassword | InstallApplication | UploadFiles | WriteSettings | SetUp | RemoveLeftovers
    | SeePage | BindLicence | TellSearchEngines | StopMail | SendOldOn | SetUpdates | SetBackups | WriteSheet
    | CopySheet | Discard | CompareTables | Freeze | MergeTables | SetTimeToLive | ChangeRecords | BringFolder
    | BringTables | BringRest | SeeAhead | AwaitForgotten
)  # fmt: skip
"""What is done for a site from its name to its sheet, beside what advice has as well."""
OfThePlan = (
    EditPlan
    | CompleteEntry
    | Accept
    | Decide
    | ReadIn
    | ProbeAgain
    | ProtectName
    | ProtectFolder
    | MakePasswordFile
    | SetIndexOrder
    | ChangeRights
)
"""What is written into the plan, decided, or set at the host without a trace in folders and names."""
Step = (
    AddHost | ChangeRoot | RemoveHost | PointName | AwaitName | GetCertificate | AwaitCertificate
    | MakeFolder | CopyFolder | MoveFolder | MoveFile | KeepFolder | KeepFile | KeepOthers | DeleteFolder | DeleteFile
    | SetAsideFolder | RetireApplication | LeaveFolder | WriteFrontFile | AddLines | CarryLines | EditLine | PutPage
    | LookAtFile | LookAtFolder
    | Configure | MakeDatabase | CopyTables | KeepTables | DropTables | DropUser
    | OpenPage | LookAgain | WriteDown | Confirm | Check
    | OfSites | OfThePlan
)  # fmt: skip
"""All that is ever advised; whoever tells them apart ends in `assert_never`."""
Deletion = DeleteFolder | SetAsideFolder | DeleteFile | DropTables | DropUser | RemoveHost
"""What takes something away."""
Clearing = RetireApplication | LookAtFile | DeleteFolder | SetAsideFolder | DeleteFile | KeepOthers
"""What is done about what is in the way of something new."""
Creating = AddHost | MakeFolder | MakeDatabase | WriteFrontFile | GetCertificate
"""What something new needs."""
Waiting = AwaitName | AwaitCertificate
"""What only takes time."""
Moving = (
    MakeFolder | LookAtFolder | CopyFolder | CarryLines | LookAtFile | ChangeRoot | OpenPage | AddLines | SetAsideFolder
    | LookAgain | ReadIn | Confirm
)  # fmt: skip
"""What moves a domain to another root."""
Relocating = Moving | WriteFrontFile | EditLine | Configure | BindLicence | SendOldOn
"""What moves an installation to another address or folder."""
OnDatabases = MakeDatabase | CopyTables | DropTables | DropUser
"""What changes databases."""
BesideFiles = (
    AddHost | ChangeRoot | RemoveHost | PointName | AwaitName | GetCertificate | AwaitCertificate
    | KeepFolder | KeepFile | KeepOthers | RetireApplication | LeaveFolder | LookAtFile | LookAtFolder
    | MakeDatabase | CopyTables | KeepTables | DropTables | DropUser | OpenPage | LookAgain | WriteDown | Confirm
    | Check | OfSites | OfThePlan
)  # fmt: skip
"""What changes nothing in the files of an account that a survey would show, or of which nothing tells what."""
