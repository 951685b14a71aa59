"""States of a plan folder held against each other: as it is and is to be, as it was, another folder."""

from __future__ import annotations

import io
import re
import shutil
import subprocess
import tarfile
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path

from kettlepost.core.comparing import AnswersCompared, AnswerState, compare_answers
from kettlepost.core.errors import InputError, OutsideError
from kettlepost.core.layout import When
from kettlepost.core.names import did_you_mean, quoted
from kettlepost.core.survey import LARGEST_NAMES, FileNames
from kettlepost.workspace.files import read_at_most
from kettlepost.workspace.plan_folder import PlanFolder, names_file, names_file_before, survey_file

_TIMES: tuple[When, ...] = ("now", "planned")
_BEFORE = "before"
_PATIENCE = 60
_LARGEST = 1024 * 1024 * 1024
"""So many bytes of an earlier state are read at most."""
_FOLDERS = ("accounts", "surveys", "servers")


def compare(
    plan: PlanFolder, before: str = "now", after: str | None = None, accounts: Sequence[str] | None = None,
    is_secure: bool = False,
) -> AnswersCompared:  # fmt: skip
    """Which answers change between two states, of some accounts or of all; `is_secure` asks by https.

    A state is "now", "planned", "before", which is now as the survey before the last one showed it, a revision of the
    plan folder in git, or the path of another plan folder, the last two with `:planned` behind them for what was to be
    then. Without `after` that is what is planned, or, where `before` is
    something else than "now", what is now. Raises InputError for what is no state, and OutsideError where git fails.
    """
    if not plan.names:
        raise InputError("the plan has no account yet, so there is nothing to compare")
    names = plan.known_names(list(accounts)) if accounts else None
    with ExitStack() as opened:
        one = opened.enter_context(_state(plan, before))
        other = opened.enter_context(_state(plan, after or ("planned" if before == "now" else "now")))
        found = compare_answers(one, other, names, "https" if is_secure else "http")
        for name in found.clients if _BEFORE in (one.name, other.name) else ():
            accounts_of = [state.layouts.accounts.get(name) for state in (one, other)]
            if any(layout is not None and layout.file_names is None for layout in accounts_of):
                found.unnamed.append(name)
        return found


@contextmanager
def _state(plan: PlanFolder, written: str) -> Iterator[AnswerState]:
    if written in _TIMES:
        yield AnswerState(plan.layout, "now" if written == "now" else "planned", written)
        return
    if written == _BEFORE and not (Path(written) / "kettlepost.toml").is_file():
        with tempfile.TemporaryDirectory() as folder:
            _lay_out_before(plan, Path(folder))
            yield AnswerState(PlanFolder(Path(folder)).layout, "now", written)
        return
    base, colon, time = written.rpartition(":")
    is_timed = bool(colon) and time in _TIMES
    place, when = (base, time) if is_timed else (written, "now")
    moment: When = "planned" if when == "planned" else "now"
    if (Path(place) / "kettlepost.toml").is_file():
        yield AnswerState(PlanFolder(Path(place)).layout, moment, written)
        return
    with tempfile.TemporaryDirectory() as folder:
        _lay_out(plan.path, place, Path(folder))
        yield AnswerState(PlanFolder(Path(folder)).layout, moment, written)


def _lay_out_before(plan: PlanFolder, folder: Path) -> None:
    """Write the plan folder as it is into an empty one, with the surveys that were there before the last ones."""
    earlier = {name for name in plan.names if (plan.path / survey_file(name, before=True)).is_file()}
    if not earlier:
        raise InputError("no account was surveyed twice, so nothing tells how it was before")
    try:
        shutil.copy(plan.path / "kettlepost.toml", folder)
        for part in filter(lambda part: (plan.path / part).is_dir(), _FOLDERS):
            shutil.copytree(plan.path / part, folder / part)
        for name in earlier:
            shutil.copy(plan.path / survey_file(name, before=True), folder / survey_file(name))
            (folder / names_file(name)).unlink(missing_ok=True)  # which are those of the last survey
            if _are_of(plan, name):
                shutil.copy(plan.path / names_file_before(name), folder / names_file(name))
    except OSError as error:
        raise OutsideError(f"the surveys cannot be read: {error}") from None


def _are_of(plan: PlanFolder, name: str) -> bool:
    """Whether the names of files that were kept are those of the survey before the last."""
    kept, survey = plan.path / names_file_before(name), plan.read_survey(name, before=True)
    try:
        return survey is not None and FileNames(read_at_most(kept, LARGEST_NAMES)).digest == survey.names
    except (InputError, OSError):
        return False


def _lay_out(plan: Path, revision: str, folder: Path) -> None:
    """Write a plan folder as it was at a revision of git into an empty folder."""
    if shutil.which("git") is None:
        raise OutsideError("git is not there, which knows earlier states of the plan folder")
    if not re.fullmatch(r"[A-Za-z0-9_@^~./{}+-]{1,200}", revision) or revision.startswith("-"):
        raise InputError(_no_state(revision))
    prefix = _git(plan, "rev-parse", "--show-prefix")
    if prefix is None:
        raise InputError(f"{plan} is under no version control of git, so {quoted(revision)} is no state of it")
    commit = _git(plan, "rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}")
    if commit is None:
        raise InputError(_no_state(revision))
    tree = f"{commit.decode().strip()}:{prefix.decode('utf-8', 'surrogateescape').strip().rstrip('/')}"
    kept = _git(plan, "archive", "--format=tar", tree)
    if kept is None:
        raise InputError(f"there was no plan folder at {quoted(revision)}")
    if len(kept) > _LARGEST:
        raise OutsideError(f"the plan folder at {quoted(revision)} is too large")
    with tarfile.open(fileobj=io.BytesIO(kept)) as archive:
        for entry in archive:
            first = entry.name.partition("/")[0]
            if entry.isfile() and (entry.name == "kettlepost.toml" or first in _FOLDERS):
                archive.extract(entry, folder, filter="data")
    if not (folder / "kettlepost.toml").is_file():
        raise InputError(f"there was no plan folder at {quoted(revision)}")


def _git(plan: Path, *words: str) -> bytes | None:
    """What git writes; None where it refuses."""
    command = ["git", "-C", str(plan), *words]
    try:
        done = subprocess.run(command, capture_output=True, timeout=_PATIENCE, check=False)  # noqa: S603
    except subprocess.TimeoutExpired:
        raise OutsideError(f"git takes more than {_PATIENCE} seconds") from None
    return done.stdout if done.returncode == 0 else None


def _no_state(written: str) -> str:
    near = did_you_mean(written, [*_TIMES, _BEFORE])
    return f"{quoted(written)} is no state: say now, planned, before, a revision of git, or another plan folder{near}"
