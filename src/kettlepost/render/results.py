"""What commands hand over to be shown: each a result with what is to be said beside it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from msgspec import Struct

    from kettlepost.core.answering import AddressRow, FolderRow
    from kettlepost.core.comparing import AnswersCompared
    from kettlepost.core.databases import AddressReplacement, PasswordEntry, TableCopy, TableMerge
    from kettlepost.core.exchange import PlanEntries
    from kettlepost.core.layout import Inventory
    from kettlepost.core.placing import AccountMove, Granted, MoveWays, Weighing
    from kettlepost.core.plan import Account, Application
    from kettlepost.core.rules import Rule
    from kettlepost.core.survey import RecognitionTrial, SeenDatabases, Survey, SurveyDifference
    from kettlepost.core.work import WorkList
    from kettlepost.core.work.sheet import SiteSheet
    from kettlepost.workspace.carrying.prepare import PreparedStep, TakenBack
    from kettlepost.workspace.carrying.run import Carried
    from kettlepost.workspace.changes import PreparedChange
    from kettlepost.workspace.database_scripts import ServerScript
    from kettlepost.workspace.mentions import AddressMentions
    from kettlepost.workspace.passwords import PasswordState
    from kettlepost.workspace.probing import Probed
    from kettlepost.workspace.queries import AnswerRow
    from kettlepost.workspace.set_aside.listing import SetAside
    from kettlepost.workspace.set_aside.move import Discarded, MoveOutcome
    from kettlepost.workspace.set_aside.prepare import Cleared, PreparedClearing


class AddressMap(NamedTuple):
    """The addresses of some accounts with their folders."""

    account_of: Callable[[str], Account]
    accounts: dict[str, list[AddressRow]]


class ClearingShown(NamedTuple):
    """What a clearing takes and what stays, and what was done, None where it was only shown."""

    clearing: PreparedClearing
    cleared: Cleared | None


class ClearingToDo(NamedTuple):
    """The same as work for somebody's hands; `taken` is when the account was surveyed."""

    clearing: PreparedClearing
    taken: str


class StepShown(NamedTuple):
    """What a step does to the files of an account, and what was done, None where it was only shown."""

    prepared: PreparedStep
    carried: Carried | None


class TakenBackShown(NamedTuple):
    """What was taken back of a step that was carried out under a number."""

    number: str
    taken: TakenBack


class MentionsShown(NamedTuple):
    """Which files name an address."""

    found: AddressMentions


class PutBack(NamedTuple):
    """What was put back, or where `is_back` is false set aside in the end, of what was set aside under a number."""

    number: str
    outcome: MoveOutcome
    is_back: bool = True


class DiscardedShown(NamedTuple):
    """What was deleted for good of what was set aside under a number, and what stayed."""

    number: str
    discarded: Discarded


class SetAsideList(NamedTuple):
    """All that is set aside."""

    rows: Sequence[SetAside]


class ScriptsShown(NamedTuple):
    """What database servers are to make or take back; with `fields` as what to fill into a host's form."""

    scripts: list[ServerScript]
    fields: bool = False


class CopyShown(NamedTuple):
    """How tables get other names."""

    copy: TableCopy


class MergeShown(NamedTuple):
    """What a program is to compare and merge."""

    merge: TableMerge


class ReplacementShown(NamedTuple):
    """What is replaced in tables."""

    replacement: AddressReplacement


class PasswordTitles(NamedTuple):
    """The entries that keep passwords."""

    entries: list[PasswordEntry]


class PasswordsChecked(NamedTuple):
    """Which passwords are kept, and how good they are."""

    states: list[PasswordState]


class DatabasesRead(NamedTuple):
    """What was just read of an account's databases, and the file it went into."""

    seen: SeenDatabases
    stored: str


class FolderMap(NamedTuple):
    """The folders of some accounts with their addresses."""

    account_of: Callable[[str], Account]
    accounts: dict[str, list[FolderRow]]


class AnswerLines(NamedTuple):
    """Answers to a list of addresses or folders, one a line as they come."""

    rows: Iterable[AnswerRow]


class Catalogue(NamedTuple):
    """All applications that are recognised."""

    applications: Sequence[Application]


class CatalogueEntry(NamedTuple):
    """One of them; `own` for one that the user wrote."""

    application: Application
    own: bool


class ChangeShown(NamedTuple):
    """A change of the plan, and whether it is written."""

    change: PreparedChange
    done: bool


class GrantedList(NamedTuple):
    """Wishes with their places."""

    granted: Sequence[Granted]


class ImportShown(NamedTuple):
    """What sources bring into the plan, and whether it is written; with `compares` they are only compared.

    `in_full` shows what changes in the files as well.
    """

    entry: PlanEntries
    change: PreparedChange
    done: bool
    compares: bool = False
    in_full: bool = False


class Recognition(NamedTuple):
    """What a folder is taken for; `titles` are applications' names for people."""

    trial: RecognitionTrial
    titles: dict[str, str]


class Register(NamedTuple):
    """The rows of a register that were chosen, by its columns; `is_chosen` says that these were named."""

    name: str
    columns: Sequence[str]
    rows: Sequence[Struct]
    is_chosen: bool = False


class RuleList(NamedTuple):
    """All rules, worst first."""

    rules: Sequence[Rule]


class SurveyComparisonShown(NamedTuple):
    """What came, went and changed between two surveys of an account."""

    account: str
    before: str
    after: str
    differences: Sequence[SurveyDifference]


class SurveyStored(NamedTuple):
    """A stored survey, looked at in full."""

    account: Account
    inventory: Inventory


class SurveyTaken(NamedTuple):
    """A survey that was just taken, and the file it went into."""

    survey: Survey
    titles: dict[str, str]
    stored: str


class SurveysTaken(NamedTuple):
    """Several surveys that were just taken."""

    surveys: Sequence[Survey]


class WeighingShown(NamedTuple):
    """Places for one wish; with `why` the comparison in full."""

    weighing: Weighing
    why: bool


class ProbeShown(NamedTuple):
    """What was asked of the world; with `full` what agrees and what cannot be told as well."""

    probed: Probed
    full: bool = False


class ComparisonShown(NamedTuple):
    """Which addresses answer otherwise in another state; with `full` each of them by its name."""

    compared: AnswersCompared
    full: bool = False


class MoveWaysShown(NamedTuple):
    """The ways by which something comes to another address."""

    ways: MoveWays


class AccountMoveShown(NamedTuple):
    """What it takes to bring a domain to another account."""

    move: AccountMove


class WorkShown(NamedTuple):
    """A work list; with `next_only` just what can be done now, by who; `is_for_others` who have not the program."""

    work: WorkList
    next_only: bool
    is_for_others: bool = False


class SheetsShown(NamedTuple):
    """The sheets of sites."""

    sheets: list[SiteSheet]
