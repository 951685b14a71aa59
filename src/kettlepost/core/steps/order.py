"""The order of steps: what each needs first."""

from __future__ import annotations

from collections.abc import Sequence
from typing import assert_never

from kettlepost.core.names import Folder
from kettlepost.core.steps import kinds, planning, sites
from kettlepost.core.steps.kinds import Deletion, Step


def needs_of(steps: Sequence[Step]) -> list[tuple[int, ...]]:
    """For each step of a list the places of those before it that it needs, without what they need themselves.

    What takes something away for good comes behind all that stands before it for its account, back to where something
    else was taken away: there another piece of work begins.
    """
    needs: list[tuple[int, ...]] = []
    implied: list[frozenset[int]] = []
    begin = 0
    for number, step in enumerate(steps):
        before = steps[number - 1] if number else None
        if isinstance(before, Deletion) and not isinstance(step, Deletion) and not _is_cleared(before, step):
            begin = number
        own: list[int] = []
        held: frozenset[int] = frozenset()
        for first in range(number - 1, -1 if isinstance(step, _LAST) else begin - 1, -1):
            if first not in held and _is_needed(step, steps[first]):
                own.append(first)
                held |= implied[first] | {first}
        needs.append(tuple(reversed(own)))
        implied.append(held)
    return needs


_LAST = (
    planning.EditPlan
    | planning.Accept
    | planning.ReadIn
    | planning.ProbeAgain
    | kinds.LookAgain
    | kinds.WriteDown
    | kinds.Confirm
    | sites.Forget
    | kinds.Check
)
_OF_NAMES = kinds.AddHost | kinds.PointName | kinds.AwaitName | kinds.GetCertificate
_FREE = (
    kinds.MakeFolder | kinds.KeepFolder | kinds.KeepFile | kinds.KeepOthers | kinds.RetireApplication
    | kinds.LeaveFolder | kinds.LookAtFile | kinds.LookAtFolder | kinds.MakeDatabase | kinds.KeepTables
    | planning.Decide | planning.CompleteEntry | planning.ProtectName | planning.ProtectFolder
    | planning.MakePasswordFile
    | planning.SetIndexOrder
    | kinds.PutPage
    | kinds.OfSites
)  # fmt: skip
"""What needs nothing first."""


def _is_needed(step: Step, first: Step) -> bool:  # noqa: C901 (a closed set)
    """Whether `first`, which stands before `step`, is to be done before it."""
    if isinstance(step, sites.Forget):
        return step.account == first.account
    if step.account != first.account or isinstance(step, _FREE):
        return False
    match step:
        case (
            kinds.DeleteFolder()
            | kinds.SetAsideFolder()
            | kinds.DeleteFile()
            | kinds.DropTables()
            | kinds.DropUser()
            | kinds.RemoveHost()
        ):
            return True
        case (
            planning.EditPlan()
            | planning.Accept()
            | planning.ReadIn()
            | planning.ProbeAgain()
            | kinds.LookAgain()
            | kinds.WriteDown()
            | kinds.Confirm()
            | kinds.Check()
        ):
            return True
        case kinds.OpenPage():
            return not isinstance(first, Deletion)
        case kinds.AddHost():
            return isinstance(first, kinds.AddHost) and step.host.endswith(f".{first.host}")
        case kinds.PointName():
            return isinstance(first, kinds.AddHost) and first.host == step.host
        case kinds.AwaitName():
            return isinstance(first, kinds.AddHost | kinds.PointName) and first.host == step.host
        case kinds.GetCertificate() | kinds.AwaitCertificate():
            return isinstance(first, _OF_NAMES) and first.host == step.host
        case kinds.ChangeRoot():
            return isinstance(first, planning.EditPlan) or any(
                place == step.root or place.is_inside(step.root) for place in _filled(first)
            )
        case kinds.CopyFolder() | kinds.MoveFolder() | kinds.MoveFile():
            if isinstance(first, kinds.SetAsideFolder):
                return step.to == first.folder
            return isinstance(first, kinds.MakeFolder) and (step.to == first.folder or step.to.is_inside(first.folder))
        case kinds.CarryLines():
            return step.to in _filled(first)
        case kinds.WriteFrontFile():
            return isinstance(first, kinds.MakeFolder) and first.folder == step.folder
        case kinds.EditLine():
            return _is_of_file(first, step.folder, step.file) or step.folder in _filled(first)
        case kinds.AddLines():
            makes = isinstance(first, kinds.MakeFolder) and first.folder == step.folder
            follows = kinds.ChangeRoot | kinds.Configure | kinds.OpenPage | planning.MakePasswordFile
            is_there = makes or _is_cleared(first, step)
            return is_there or isinstance(first, follows) or _is_of_file(first, step.folder, step.file)
        case kinds.Configure():
            has_data = (
                isinstance(first, kinds.CopyTables | kinds.MakeDatabase | sites.MergeTables)
                and step.database is not None
            )
            is_led = isinstance(first, kinds.Configure) and bool(first.address) and not step.address
            return has_data or is_led or (step.folder is not None and step.folder in _filled(first))
        case planning.ChangeRights():
            return isinstance(first, kinds.MakeDatabase | planning.Decide)
        case kinds.CopyTables():
            return isinstance(first, kinds.MakeDatabase) and first.database.name == step.target.name
        case _:
            assert_never(step)


def _is_cleared(first: Step, step: Step) -> bool:
    """Whether a step writes into the very folder that was emptied before."""
    return isinstance(first, kinds.SetAsideFolder) and isinstance(step, kinds.AddLines) and first.folder == step.folder


def _is_of_file(step: Step, folder: Folder, file: str) -> bool:
    """Whether a step keeps a copy of a file, looks at it or writes into it: what changes it comes behind that."""
    if isinstance(step, kinds.CarryLines):
        return (step.to, step.file) == (folder, file)
    if isinstance(step, kinds.KeepFile | kinds.EditLine | kinds.AddLines | kinds.LookAtFile | kinds.WriteFrontFile):
        return (step.folder, step.file) == (folder, file)
    return isinstance(step, kinds.KeepFolder) and (folder == step.folder or folder.is_inside(step.folder))


def _filled(step: Step) -> tuple[Folder, ...]:
    """The folder in which a step puts something, where it does."""
    if isinstance(step, kinds.CopyFolder | kinds.MoveFolder | kinds.MoveFile | kinds.CarryLines):
        return (step.to,)
    return (step.folder,) if isinstance(step, kinds.MakeFolder) else ()
