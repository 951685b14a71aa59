"""Changes of several files as one thing: killed wherever they are, read by nobody else, stopped by nothing odd."""

from __future__ import annotations

import os
import stat
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Work
from kettlepost.core.errors import InputError, OutsideError
from kettlepost.workspace import files, journal
from kettlepost.workspace.journal import Edit, last_change, locked, settle_pending, take_back, write

A, B, C = "accounts/a.toml", "accounts/b.toml", "accounts/c.toml"
State = tuple[bytes | None, bytes | None, bytes | None]
BEGIN: State = (b"a0", None, b"c0")
FIRST: State = (b"a1", None, b"c0")
SECOND: State = (b"a2", b"b2", None)
THIRD: State = (b"a3", b"b3", b"c3")
AT = "2026-11-23T06:00:00Z"


def laid(folder: Path, state: State = BEGIN) -> Path:
    (folder / "accounts").mkdir(parents=True)
    (folder / "kettlepost.toml").touch()
    for file, content in zip((A, B, C), state, strict=True):
        if content is not None:
            (folder / file).write_bytes(content)
    return folder


def there(folder: Path) -> State:
    found = [(folder / file).read_bytes() if (folder / file).exists() else None for file in (A, B, C)]
    return found[0], found[1], found[2]


def change(folder: Path, to: State) -> None:
    with locked(folder):
        edits = [Edit(file, was, now) for file, was, now in zip((A, B, C), there(folder), to, strict=True)]
        write(folder, edits, "by hand", AT)


def undo(folder: Path) -> None:
    with locked(folder):
        take_back(folder, last_change(folder))


def killed(act: Callable[[], None], at: int) -> bool:
    """Let `act` run in a process of its own that ends at once, as if killed, before it changes a name on disk the
    `at`th time; whether it came so far."""
    child = os.fork()
    if child:
        return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 9
    left = at

    def ending(real: Callable[..., None]) -> Callable[..., None]:
        def wrapped(*args: object, **options: object) -> None:
            nonlocal left
            if not left:
                os._exit(9)
            left -= 1
            real(*args, **options)

        return wrapped

    os.replace, os.unlink = ending(os.replace), ending(os.unlink)  # type: ignore[assignment]
    try:
        act()
    finally:
        os._exit(0)


@pytest.mark.proof
@pytest.mark.parametrize("second", ["undo", "change"])
def test_killed_twice_wherever_that_is_nothing_is_lost_and_all_can_be_undone(tmp_path: Path, second: str) -> None:
    for first_at in range(99):
        came_so_far = False
        for second_at in range(99):
            folder = laid(tmp_path / f"{first_at}-{second_at}")
            change(folder, FIRST)
            came_so_far = killed(lambda: change(folder, SECOND), first_at)  # noqa: B023
            if second == "undo":
                goes_on = killed(lambda: undo(folder), second_at)  # noqa: B023
            else:
                goes_on = killed(lambda: change(folder, THIRD), second_at)  # noqa: B023
            settle_pending(folder)
            known = {FIRST, SECOND, BEGIN} if second == "undo" else {FIRST, SECOND, THIRD}
            assert there(folder) in known, (first_at, second_at)
            if not came_so_far and not goes_on:
                assert there(folder) == (FIRST if second == "undo" else THIRD)
            before = there(folder)
            while True:
                try:
                    undo(folder)
                except InputError as nothing:
                    assert "there is nothing to undo" in str(nothing), (first_at, second_at)
                    break
                assert there(folder) != before
                before = there(folder)
            assert there(folder) == BEGIN, (first_at, second_at)
            assert not list((folder / ".kettlepost/journal").glob("*.pending"))
            if not goes_on:
                break
        if not came_so_far:
            break
    assert first_at > 3


def test_a_change_that_a_disk_refuses_half_way_is_put_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = laid(tmp_path / "plan")
    real = journal.write_whole

    def refusing(path: Path, *args: object, **options: object) -> None:
        if path.name == "b.toml":
            raise OutsideError("no room")
        real(path, *args, **options)  # type: ignore[arg-type]

    monkeypatch.setattr(journal, "write_whole", refusing)
    with pytest.raises(OutsideError):
        change(folder, SECOND)
    assert there(folder) == BEGIN
    with pytest.raises(InputError, match="nothing to undo"):
        undo(folder)


def test_what_alters_nothing_is_not_entered(tmp_path: Path) -> None:
    folder = laid(tmp_path / "plan")
    change(folder, BEGIN)
    with pytest.raises(InputError, match="nothing to undo"):
        last_change(folder)


def test_what_killed_runs_left_is_cleared_when_it_is_old_and_ours(tmp_path: Path) -> None:
    folder = laid(tmp_path / "plan")
    for name, age in (
        (".a.toml.abcd_123", 7200),
        (".a.toml.fresh_12", 5),
        (".hidden.toml", 7200),
        ("b.toml.abcd1234", 7200),
    ):
        (folder / "accounts" / name).write_text("x")
        os.utime(folder / "accounts" / name, (time.time() - age,) * 2)
    if os.geteuid() == 0:
        (folder / "accounts/.c.toml.stranger").write_text("x")
        os.utime(folder / "accounts/.c.toml.stranger", (1, 1))
        os.chown(folder / "accounts/.c.toml.stranger", 1234, -1)
    change(folder, FIRST)
    left = {path.name for path in (folder / "accounts").iterdir()}
    assert ".a.toml.abcd_123" not in left
    assert {".a.toml.fresh_12", ".hidden.toml", "b.toml.abcd1234"} <= left
    assert (".c.toml.stranger" in left) == (os.geteuid() == 0)


@pytest.mark.parametrize(
    ("mode", "seen"), [(0o600, 0o600), (0o640, 0o640), (0o644, 0o644), (0o664, 0o644), (0o660, 0o640)]
)
def test_the_journal_is_read_by_nobody_who_may_not_read_the_account(tmp_path: Path, mode: int, seen: int) -> None:
    folder = laid(tmp_path / "plan")
    (folder / A).chmod(mode)
    change(folder, (b"a1", None, b"c0"))
    (entry,) = (folder / ".kettlepost/journal").glob("*.json")
    assert stat.S_IMODE(entry.stat().st_mode) == seen
    assert entry.stat().st_gid == (folder / A).stat().st_gid
    assert stat.S_IMODE((folder / A).stat().st_mode) == mode
    if os.geteuid() == 0:  # an account's file of a group that the journal's folder is not of
        os.chown(folder / A, -1, 4321)
        change(folder, (b"a2", None, b"c0"))
        newest = max((folder / ".kettlepost/journal").glob("*.json"))
        assert (newest.stat().st_gid, (folder / A).stat().st_gid) == (4321, 4321)


def test_only_a_plan_folder_of_ones_own_or_of_a_group_is_changed(work: Work) -> None:
    work.account('[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n')
    words = ["domain", "add", "b.test", "--account", "millbrook", "--yes"]
    own = work.plan / ".kettlepost"
    for mode in (0o777, 0o1777):
        work.plan.chmod(mode)
        done = work.run(*words)
        assert (done.returncode, "chmod o-w" in done.stderr, own.exists()) == (2, True, False)
        assert work.run("check").returncode == 0  # looking does no harm, and believes nothing
        assert not own.exists()
    work.plan.chmod(0o2775)
    assert work.run(*words, umask=0o002).returncode == 0
    assert work.run("check", umask=0o002).returncode == 0
    assert stat.S_IMODE((own / "lock").stat().st_mode) & 0o660 == 0o660
    if os.geteuid() == 0:
        os.chown(own, 1234, -1)  # a colleague's, as its group is that of the plan folder
        assert work.run("undo", "--yes").returncode == 0
        os.chown(own, 1234, 4321)
        done = work.run(*words)
        assert (done.returncode, "a stranger's" in done.stderr) == (2, True)
        assert work.run("where", "a.example").returncode == 0
    subprocess.run(["mv", own, work.plan.parent / "kept"], check=True)
    own.symlink_to(work.plan.parent / "kept")
    done = work.run(*words)
    assert (done.returncode, "is no folder of its own" in done.stderr) == (2, True)
    assert work.run("undo").returncode == 2
    assert work.run("check").returncode == 0


@pytest.mark.parametrize(
    "name", ["checked", "hosts", "weighed", "lock", ".gitignore", "journal", "journal/000001.json"]
)
def test_nothing_odd_in_what_is_ours_makes_a_command_wait(work: Work, name: str) -> None:
    work.account('[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n')
    own = work.plan / ".kettlepost"
    (own / "journal").mkdir(parents=True)
    if name == "journal":
        (own / name).rmdir()
    os.mkfifo(own / name)
    for words in (
        ["check"], ["where", "a.example"], ["weigh", "wordpress", "a.example"], ["place", "--as", "1", "--yes"],
        ["domain", "add", "b.test", "--account", "millbrook", "--yes"], ["undo", "--yes"],
    ):  # fmt: skip
        assert work.run(*words, timeout=60).returncode in (0, 1, 2, 3)
    os.mkfifo(work.plan / "accounts/odd.toml")
    done = work.run("check", timeout=60)
    assert (done.returncode, "accounts/odd.toml: cannot be read (it is no plain file)" in done.stderr) == (3, True)


def test_a_difference_shows_what_happens_to_bytes(work: Work) -> None:
    tables = '[account]\nname = "millbrook"\r\n[[domain]]\nname = "a.example"\nkind = "primary"\nstate = "planned"\nroot = "www"'
    work.account(tables)
    path = work.plan / "accounts/millbrook.toml"
    path.write_bytes(tables.encode())
    told = work.json("domain", "root", "a.example", "new", "--yes")["difference"]
    assert told[3:] == [
        ' name = "millbrook"\\x0d', " [[domain]]", ' name = "a.example"', ' kind = "primary"', ' state = "planned"',
        '-root = "www"', "\\ No newline at end of file", '+root = "new"', "\\ No newline at end of file",
    ][-len(told[3:]) :]  # fmt: skip
    assert path.read_bytes() == tables.replace('"www"', '"new"').encode()
    assert "the plan says that already" not in work.run("undo", "--yes").stderr
    assert path.read_bytes() == tables.encode()


def test_an_entry_of_an_earlier_version_is_taken_back(tmp_path: Path) -> None:
    import base64
    import hashlib
    import json

    folder = laid(tmp_path / "plan", FIRST)
    place = folder / ".kettlepost/journal"
    place.mkdir(parents=True)
    digest = hashlib.blake2b(b"a1", digest_size=20).hexdigest()
    former = {
        "command": "kettlepost x",
        "at": AT,
        "file": A,
        "before": base64.b64encode(b"a0").decode(),
        "after": digest,
    }
    (place / "000007.json").write_text(json.dumps(former))
    undo(folder)
    assert there(folder) == BEGIN
    assert files.OLD > 60
