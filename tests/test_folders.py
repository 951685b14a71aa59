"""Folders of this machine are listed alike by the compiled module and without it."""

from __future__ import annotations

import importlib
import os
import shutil
import signal
import subprocess
import sys
import sysconfig
import time
from collections.abc import Iterator
from pathlib import Path
from types import ModuleType

import pytest

from conftest import lacking
from kettlepost.core.survey import Wanted
from kettlepost.sources import LocalFolder, folders, local

LARGE = 2 * local.SHARE


@pytest.fixture
def compiled() -> ModuleType:
    """There wherever a compiler and Python's headers were there at the installation."""
    if not shutil.which("cc") or not (Path(sysconfig.get_path("include")) / "Python.h").is_file():
        lacking("a C compiler")
    return importlib.import_module("kettlepost.sources._folders")


@pytest.fixture
def tree(tmp_path: Path) -> Path:
    home = tmp_path / "home"
    for n in range(LARGE):
        (home / f"a{n % 3}" / f"b{n}").mkdir(parents=True)
        (home / f"a{n % 3}" / f"b{n}" / "index.html").write_text("x" * n)
    os.utime(home / "a0/b0/index.html", (-5, -5))
    os.utime(home / "a1/b1/index.html", ns=(9 * 10**18, 9 * 10**18 + 999_999_999))
    (home / "a1" / os.fsdecode(b"not \xff utf-8\n")).write_text("")
    (home / "a1/away").symlink_to("../" + "long/" * 600)
    (home / "a1/out").symlink_to(tmp_path)
    os.mkfifo(home / "a2/pipe")
    for n in range(3_000):
        (home / f"a2/file{n}").touch()
    return home


def told(listed: list[folders.Listed]) -> list[list[object]]:
    """Without the order in which a file system gives names, sizes with the names they belong to."""
    return [
        [error, sorted(zip(names, sizes, strict=True)), newest, sorted(inside), sorted(links), odd]
        for error, names, sizes, newest, inside, links, odd in listed
    ]


@pytest.fixture
def home(tree: Path) -> Iterator[int]:
    handle = os.open(tree, folders.FOLDER)
    yield handle
    os.close(handle)


def test_both_list_the_same(compiled: ModuleType, tree: Path, home: int) -> None:
    paths = ["", *(str(path.relative_to(tree)) for path in sorted(tree.rglob("*")) if path.is_dir()), "gone", "a1/out"]
    asked = list(map(os.fsencode, [*paths, "a1/out/home", "a0/b0/index.html", "a0/b0/index.html/x", "x" * 5000]))
    listed = told(compiled.finish(compiled.start(home, asked)))
    assert listed == told(folders.finish(folders.start(home, asked)))
    assert [one[0] != 0 for one in listed[-6:]] == [True] * 6
    assert sum(one[5] for one in listed) == 1  # the pipe


def test_a_large_tree_is_walked_to_its_end_by_both(
    compiled: ModuleType, tree: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    wanted = Wanted(frozenset(["index.html"]), lambda *asked: (lambda file: file.read(3)) if asked[2] else None)
    seen = []
    for module in (compiled, folders):
        monkeypatch.setattr(local, "start", module.start)
        monkeypatch.setattr(local, "finish", module.finish)
        found = LocalFolder.open(tree).listings(wanted)
        seen.append({(one.folder, len(one.names), sum(one.sizes), one.newest, *one.heads.values()) for one in found})
    assert seen[0] == seen[1]
    assert len(seen[0]) == LARGE + 4
    assert sum(one[1] for one in seen[0]) == LARGE + 3_001
    assert ("a1/b1", 1, 1, 9 * 10**9, b"x") in seen[0]


_SWAPS = """
import os, sys
inside, aside, outside = sys.argv[1:]
while True:
    for n in range(3):
        os.rename(f"{inside}/a{n}", aside)
        os.symlink(outside, f"{inside}/a{n}")
        os.unlink(f"{inside}/a{n}")
        os.rename(aside, f"{inside}/a{n}")
"""


@pytest.mark.deeper
@pytest.mark.parametrize("which", ["compiled", "plain"])
def test_a_link_that_somebody_puts_there_meanwhile_leads_nowhere(
    which: str, tree: Path, tmp_path: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A neighbour swaps folders for links to what is not theirs, as fast as it goes; nothing outside is seen."""
    module = request.getfixturevalue("compiled") if which == "compiled" else folders
    monkeypatch.setattr(local, "start", module.start)
    monkeypatch.setattr(local, "finish", module.finish)
    for n in range(LARGE):
        (tmp_path / "outside" / f"b{n}" / "deeper").mkdir(parents=True)
        (tmp_path / "outside" / f"b{n}" / "index.html").write_text("outside")
    wanted = Wanted(frozenset(["index.html"]), lambda *_: lambda file: file.read(7))
    names = [str(tree), str(tmp_path / "aside"), str(tmp_path / "outside")]
    swapping = subprocess.Popen([sys.executable, "-c", _SWAPS, *names])
    walks, found, ends = 0, set(), time.monotonic() + (10 if os.environ.get("KETTLEPOST_PROOF") else 2)
    try:
        while time.monotonic() < ends:
            for one in LocalFolder.open(tree).listings(wanted):
                found |= {one.folder} if "deeper" in one.folder else set()
                found |= {f"{one.folder}/{name}" for name, head in one.heads.items() if head == b"outside"}
            walks += 1
    finally:
        swapping.kill()
        swapping.wait()
    assert walks > 3
    assert found == set()


def test_a_file_that_fails_while_it_is_read_speaks_for_nothing() -> None:
    wanted = Wanted(frozenset(["mem"]), lambda *_: lambda file: file.read(1))  # memory at 0, which is never there
    home = next(iter(LocalFolder.open(Path("/proc/self")).listings(wanted)))
    assert "mem" in home.names
    assert home.heads == {}


def test_the_compiled_module_refuses_what_is_no_job_and_no_path(compiled: ModuleType, home: int) -> None:
    job = compiled.start(home, [b""])
    compiled.finish(job)
    with pytest.raises(ValueError, match="finished before"):
        compiled.finish(job)
    for wrong in ("a", folders.start(home, [b"a"]), None):
        with pytest.raises(ValueError, match="PyCapsule"):
            compiled.finish(wrong)
    for wrong, error in ((["a"], TypeError), ([b"a\0b"], ValueError), (1, TypeError), ([b"a", None], TypeError)):
        with pytest.raises(error):
            compiled.start(home, wrong)
    with pytest.raises(OSError, match="Bad file"):
        compiled.start(987654, [b""])
    handles, threads = len(os.listdir("/proc/self/fd")), len(os.listdir("/proc/self/task"))
    for _ in range(200):
        compiled.start(home, [b"a0", b"a1/b1", b"a2"])  # left alone, and cleared away with its thread
    assert len(os.listdir("/proc/self/task")) < threads + 50
    assert compiled.finish(compiled.start(home, [])) == []
    assert len(os.listdir("/proc/self/fd")) <= handles


def test_waiting_for_the_compiled_module_ends_with_a_signal(compiled: ModuleType, home: int) -> None:
    before = signal.signal(signal.SIGALRM, signal.default_int_handler)
    job = compiled.start(home, [b"a2"] * 100_000)  # minutes of work
    signal.setitimer(signal.ITIMER_REAL, 0.1)
    try:
        with pytest.raises(KeyboardInterrupt):
            compiled.finish(job)
    finally:
        signal.signal(signal.SIGALRM, before)
    with pytest.raises(ValueError, match="finished before"):
        compiled.finish(job)
