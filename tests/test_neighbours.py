"""What others who may write to the plan folder put in the place of its files blocks nothing, and nothing is led out of it."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Work

PLAN = """
[account]
name = "millbrook"
database_prefix = "mill_"
[[domain]]
name = "a.example"
kind = "primary"
root = "www"
[[installation]]
application = "quillmoor"
address = "a.example"
state = "live"
database = { name = "mill_a", prefix = "qm_" }
"""
FILES = [
    "kettlepost.toml", "accounts/millbrook.toml", "accounts", "surveys", "surveys/millbrook.json",
    "surveys/millbrook.before.json", "surveys/millbrook.names", "surveys/millbrook.outside.json",
    "surveys/millbrook.databases.json", "work.toml", "history.jsonl", ".kettlepost", ".kettlepost/checked",
    ".kettlepost/hosts", ".kettlepost/weighed", ".kettlepost/journal", ".kettlepost/lock", ".kettlepost/.gitignore",
    "accounts/other.toml",
]  # fmt: skip
"""What a plan folder may hold; the last of them is one more account."""
COMMANDS = [
    "check", "where a.example", "work", "sheet a.example", "survey millbrook --from HOME", "survey millbrook --show",
    "retire a.example --yes", "undo --yes",
]  # fmt: skip


def device(path: Path) -> None:
    os.mknod(path, 0o020666, os.makedev(1, 5))  # which has zeros without end


KINDS: dict[str, Callable[[Path, Path], None]] = {
    "a pipe": lambda path, _: os.mkfifo(path),
    "a device": lambda path, _: device(path),
    "a link to zeros": lambda path, _: path.symlink_to("/dev/zero"),
    "a link to itself": lambda path, _: path.symlink_to(path),
    "a link out": lambda path, outside: path.symlink_to(outside / "file"),
    "a link to a folder": lambda path, outside: path.symlink_to(outside),
    "a folder": lambda path, _: path.mkdir(),
}


@pytest.mark.proof
@pytest.mark.parametrize(
    ("file", "kind"),
    [(file, kind) for n, file in enumerate(FILES) for k, kind in enumerate(KINDS) if not k or n % 7 == k],
)
def test_nothing_in_the_place_of_a_file_blocks_or_leads_out(work: Work, tmp_path: Path, file: str, kind: str) -> None:
    if kind == "a device" and os.geteuid():
        pytest.skip("only root makes devices")
    work.account(PLAN).there({"www/index.html": "<h1>The mill</h1>"})
    for command in ("check", "where a.example", "survey millbrook --from HOME", "retire a.example --yes", "undo --yes"):
        work.run(*command.replace("HOME", str(work.homes / "millbrook")).split())
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "file").write_text("somebody else's\n")
    path = work.plan / file
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path)
    path.unlink(missing_ok=True)
    KINDS[kind](path, outside)
    for command in COMMANDS:
        done = work.run(*command.replace("HOME", str(work.homes / "millbrook")).split(), timeout=20)
        assert (done.returncode in (0, 1, 2, 3), "Traceback" in done.stderr) == (True, False), (command, done.stderr)
    assert (outside / "file").read_text() == "somebody else's\n"
    assert [path.name for path in outside.iterdir()] == ["file"] or kind == "a link to a folder"


@pytest.mark.parametrize("mask", [0o022, 0o002, 0o077, 0o000])
def test_a_team_shares_a_folder_and_nobody_else_gets_at_it(work: Work, mask: int) -> None:
    """What is written has the rights of what it takes the place of, else those that the user's mask grants."""
    old = os.umask(mask)
    try:
        work.account(PLAN).there({"www/index.html": "<h1>The mill</h1>"})
        work.plan.chmod(0o2775 & ~mask | 0o700)
        (work.plan / "accounts/millbrook.toml").chmod(0o640)
        home = str(work.homes / "millbrook")
        for command in (
            "check",
            "where a.example",
            f"survey millbrook --from {home}",
            "retire a.example --yes",
            "check",
        ):
            done = work.run(*command.split())
            assert done.returncode in (0, 1), (command, done.stderr)
        for path in work.plan.rglob("*"):
            rights = path.stat().st_mode & 0o777
            assert not rights & 0o002 or (mask == 0 and ".kettlepost" not in path.parts), (path, oct(rights))
            if path.is_file() and path.name not in ("lock", ".gitignore"):  # which hold nothing of anybody
                held = "millbrook.toml" in path.name or "journal" in path.parts
                assert rights & ~(0o640 if held else 0o666 & ~mask) == 0, (path, oct(rights))
        assert (work.plan / "accounts/millbrook.toml").stat().st_mode & 0o777 == 0o640
        private = [work.plan / ".kettlepost" / name for name in ("checked", "hosts")]
        assert all(path.stat().st_mode & 0o077 == 0 for path in private), private
    finally:
        os.umask(old)


def test_a_plan_folder_that_anybody_may_write_to_is_told_and_nothing_kept_there_is_believed(work: Work) -> None:
    work.account(PLAN).there({"www/index.html": "<h1>The mill</h1>"})
    assert work.run("check").returncode in (0, 1)
    before = (work.plan / "accounts/millbrook.toml").read_bytes()
    work.plan.chmod(0o777)
    refused = work.run("retire", "a.example", "--yes")
    assert (refused.returncode, "chmod o-w" in refused.stderr) == (2, True), refused.stderr
    assert (work.plan / "accounts/millbrook.toml").read_bytes() == before
    assert work.run("check").returncode in (0, 1)
