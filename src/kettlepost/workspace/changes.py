"""Changes of the plan as one thing: prepared, checked, shown, committed, undone."""

from __future__ import annotations

import datetime
import difflib
import os
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from kettlepost.core.checking import AccountDiff, compared
from kettlepost.core.comparing import AnswerState, Becomes, compare_answers
from kettlepost.core.errors import InputError
from kettlepost.core.layout import PlanLayout
from kettlepost.core.messages import Hint, Words
from kettlepost.core.names import HOME
from kettlepost.core.placing import Proposal
from kettlepost.core.plan import SETTINGS_FILE, Change, changed_text
from kettlepost.core.rules import AllAccounts, Finding, exactly, find_rule
from kettlepost.core.steps import Step
from kettlepost.core.trying import FindingDifference, Scenario
from kettlepost.workspace import journal
from kettlepost.workspace.check_cache import KnownPlan
from kettlepost.workspace.clock import now, today_or
from kettlepost.workspace.history import enter, events_of
from kettlepost.workspace.journal import Edit
from kettlepost.workspace.plan_folder import PlanFolder

_BOM = b"\xef\xbb\xbf"


class PreparedChange:
    """A change that is worked out and checked, and not written yet.

    `told` is what is to be said of it, `next` what somebody has to do once it is written,
    `difference` what it changes in what a check finds, and `stops` those findings that stand
    against it. `alters` counts what becomes of addresses once all is carried out, where that was asked.
    """

    def __init__(
        self,
        plan: PlanFolder,
        edits: Sequence[Edit],
        told: Sequence[Hint] = (),
        following: Sequence[Step] = (),
        difference: FindingDifference | None = None,
        stops: Sequence[Finding] = (),
        undoing: journal.Undoing | None = None,
        alters: Counter[Becomes] | None = None,
    ):
        self.plan = plan
        self.edits = tuple(edit for edit in edits if edit.before != edit.after)
        self.told = tuple(told)
        self.next = tuple(following)
        self.difference = difference
        self.stops = tuple(stops)
        self.alters = alters or Counter()
        self._undoing = undoing

    @property
    def files(self) -> list[str]:
        """The files that it changes, below the plan folder."""
        return [edit.file for edit in self.edits]

    @property
    def diff(self) -> str:
        """A unified diff of all files, in which a line end that is missing or is another one shows."""
        return "".join(map(_difference, self.edits))

    def difference_of(self, edit: Edit) -> str:
        """The same of one file."""
        return _difference(edit)

    def commit(self, command: str = "", at: str | None = None) -> list[str]:
        """Write the change as a whole and enter it in the journal; gives the files that were written.

        `command` says who did it, `at` when, in ISO 8601 form. Raises InputError when something
        stops it or the plan was changed meanwhile, OutsideError when the disk refuses; nothing is
        changed then.
        """
        if self.stops:
            raise InputError(f"it would bring {', '.join(dict.fromkeys(finding.rule for finding in self.stops))}")
        if self.plan.is_locked:
            written = self._write(command, at)
            self.plan.read_again()
            return written
        with journal.locked(self.plan.path):
            if not self.plan.is_current():
                raise InputError("the plan was changed meanwhile; nothing was written: run this again")
            return self._write(command, at)

    def _write(self, command: str, at: str | None) -> list[str]:
        moment = at or now()
        if self._undoing is not None:
            journal.take_back(self.plan.path, self._undoing)
            enter(self.plan, list(events_of(self.edits, moment, is_undo=True)))
            return self.files
        written = journal.write(self.plan.path, self.edits, command, moment)
        enter(self.plan, list(events_of(self.edits, moment)))
        return written


@contextmanager
def changing(folder: str | os.PathLike[str]) -> Iterator[PlanFolder]:
    """A plan folder to ask and to change, which no other command changes meanwhile.

    After each change that is committed it is read again, so that several can be made in it.

    Raises InputError when it is not to be trusted, OutsideError when another command goes on for long.
    """
    path = Path(folder)
    if not (path / SETTINGS_FILE).is_file():
        PlanFolder(path).read_shared([])  # no lock is made in what is no plan folder
    with journal.locked(path):
        plan = PlanFolder(path)
        plan.is_locked = True
        try:
            yield plan
        finally:
            plan.is_locked = False


def open_plan(folder: str | os.PathLike[str]) -> PlanFolder:
    """A plan folder to ask; a change of it that broke off half-way is settled first."""
    journal.settle_pending(Path(folder))
    return PlanFolder(folder)


def prepare(
    plan: PlanFolder,
    make: Callable[[Scenario], Proposal | Sequence[Proposal]],
    despite: Collection[str] = (),
    because: str | None = None,
    may_stop: bool = False,
    tell: Callable[[AccountDiff], list[Words]] | None = None,
    today: datetime.date | None = None,
    wanted: Collection[str] | None = (),
    asked_for: Collection[str] | None = None,
) -> PreparedChange:
    """Work out what `make` proposes and check it; findings of the rules in `despite` are accepted with it.

    Those of `asked_for`, by default all of them, are to be found. `may_stop` is true for what only writes down how it
    is, which nothing stands against. `tell` adds to what is said, from the account before and after; `wanted` are the
    accounts that are asked about for sure. Raises InputError when it cannot be done, PlanError with every fault of
    the plan.
    """
    day = today_or(today)
    rules = {find_rule(slug).slug for slug in despite}
    if rules and not (because or "").strip():
        raise InputError("a rule that is broken wants a reason why that is lived with")
    if because is not None and not rules:
        raise InputError("a reason goes with a rule that is lived with")
    needed = rules if asked_for is None else {find_rule(slug).slug for slug in asked_for}
    known = KnownPlan(plan, wanted)
    made = make(scenario_of(known, day))
    proposals = [made] if isinstance(made, Proposal) else list(made)
    edits: list[Edit] = []
    told: list[Hint] = []
    following: list[Step] = []
    differences: list[FindingDifference] = []
    diffs: list[AccountDiff] = []
    whole = known.whole
    for proposal in proposals:
        edit, found = _checked(plan, known, whole, proposal, rules, because, day, needed)
        whole = found.whole  # what two accounts are to say alike, both of them say in the end
        edits.append(edit)
        told += [*proposal.told, *(map(Hint, tell(found)) if tell is not None else ())]
        following += proposal.next
        differences.append(found.difference)
        diffs.append(found)
    added, ended = _together(differences)
    stops = [finding for finding in added if finding.stops and not may_stop]
    return PreparedChange(plan, edits, told, following, FindingDifference(added, ended), stops, alters=_altered(diffs))


_MOST_ASKED = 2_000
"""Of accounts with more files a change does not tell what becomes of each address; `compare` does."""


def _altered(diffs: Sequence[AccountDiff]) -> Counter[Becomes]:
    """What becomes of the addresses of some accounts by an edit, once what is planned is carried out.

    Where something goes from one of them to another, both are asked together.
    """
    counts: Counter[Becomes] = Counter()
    tables = ("domains", "installations", "path_aliases", "path_rules")
    touched = [
        one for one in diffs
        if any(getattr(one.before.account, name) != getattr(one.after.account, name) for name in tables)
        and (one.before.contents is None or one.before.contents.totals(HOME).files <= _MOST_ASKED)
    ]  # fmt: skip
    goes = any(domain.account_next for one in touched for domain in one.before.account.domains)
    for some in [touched] if goes else [[one] for one in touched]:
        was, then = ({one.name: one for one in both} for both in zip(*((d.before, d.after) for d in some), strict=True))
        before, after = (AnswerState(PlanLayout(some[0].after.plan, one), "planned", "") for one in (was, then))
        counts += compare_answers(before, after).counts
    return counts


def _together(differences: Iterable[FindingDifference]) -> tuple[tuple[Finding, ...], tuple[Finding, ...]]:
    """What comes and what goes by one edit after the other: neither what comes and goes, nor anything twice."""
    added: dict[tuple[object, ...], Finding] = {}
    ended: dict[tuple[object, ...], Finding] = {}
    for difference in differences:
        for found, mine, others in ((difference.ended, ended, added), (difference.added, added, ended)):
            for finding in found:
                key = (*finding.place, finding.title)
                if others.pop(key, None) is None:
                    mine[key] = finding
    return tuple(added.values()), tuple(ended.values())


def _checked(
    plan: PlanFolder, known: KnownPlan, whole: AllAccounts, proposal: Proposal, rules: set[str], because: str | None,
    day: datetime.date, needed: set[str],
) -> tuple[Edit, AccountDiff]:  # fmt: skip
    """The edit of one account's file, with what is lived with accepted in it, and what it changes."""
    layout = plan.layout_of(proposal.account)
    record, changes = known.record(proposal.account), list[Change](proposal.changes)
    edit = edit_account(plan, proposal.account, changes)
    found = compared(plan.shared, whole, record, known.by_plan, layout, edit.after or b"", day)
    if rules:
        lived_with = [
            finding
            for finding in found.difference.added
            if finding.account == proposal.account and finding.rule in rules
        ]
        absent = needed - {finding.rule for finding in lived_with}
        if absent:
            raise InputError(f"this change brings no finding of {min(absent)}; leave it out")
        for finding in lived_with:
            values = {"finding": finding.rule, "at": exactly(finding.at), "because": because}
            changes.append(Change(proposal.account, "accept", None, values))
        edit = edit_account(plan, proposal.account, changes)
        found = compared(plan.shared, whole, record, known.by_plan, layout, edit.after or b"", day)
    return edit, found


def undo(plan: PlanFolder) -> PreparedChange:
    """Take back the last change that a command made, once it is committed.

    Raises InputError when there is none, or when a file was changed by other means since.
    """
    plan.read_shared([])  # what is no plan folder says so; what is faulty may be taken back
    undoing = journal.last_change(plan.path)
    told = Hint(f"takes back '{undoing.entry.command}' of {undoing.entry.at}")
    return PreparedChange(plan, undoing.edits, [told], undoing=undoing)


def edit_account(plan: PlanFolder, account: str, changes: Sequence[Change]) -> Edit:
    """What `changes` make of an account's file. Raises InputError where they cannot be carried out."""
    file = f"accounts/{account}.toml"
    before = plan.raw(file) or b""
    mark = _BOM if before.startswith(_BOM) else b""
    text = changed_text(before.removeprefix(_BOM).decode("utf-8"), changes)
    return Edit(file, before, mark + text.encode("utf-8"))


def scenario_of(known: KnownPlan, today: datetime.date) -> Scenario:
    """A plan to try things out on."""
    folder = known.folder
    return Scenario(
        folder.shared.plan([]), known.summaries, today, known.record, known.by_plan, folder.layout_of, folder.source
    )


_MOST_COMPARED = 5_000
"""How many lines of what was seen are compared one by one."""


def _difference(edit: Edit) -> str:
    """A unified diff of one file. Line ends are shown where they are not all alike before and after."""
    was, now_ = (_lines(raw) for raw in (edit.before, edit.after))
    if all(line.endswith("\r\n") for line in (*was[:-1], *now_[:-1])):
        was, now_ = ([line.replace("\r\n", "\n") for line in lines] for lines in (was, now_))
    begin = "/dev/null" if edit.before is None else f"a/{edit.file}"
    end = "/dev/null" if edit.after is None else f"b/{edit.file}"
    if not edit.file.endswith(".toml") and max(len(was), len(now_)) > _MOST_COMPARED:
        return f"--- {begin}\n+++ {end}\n@@ {len(was):,} lines before, {len(now_):,} lines now @@\n"
    told = []
    for line in difflib.unified_diff(was, now_, begin, end):
        told.append(line if line.endswith("\n") else f"{line}\n\\ No newline at end of file\n")
    return "".join(told)


def _lines(raw: bytes | None) -> list[str]:
    text = (raw or b"").decode("utf-8", "replace")
    lines = text.split("\n")
    return [f"{line}\n" for line in lines[:-1]] + ([lines[-1]] if lines[-1] else [])
