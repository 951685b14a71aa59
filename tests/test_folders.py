"""Folders of this machine are listed alike by the compiled module and without it."""

from __future__ import annotations

import importlib
import os
import shutil
import signal
import sysconfig
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


def test_both_list_the_same(compiled: ModuleType, tree: Path) -> None:
    paths = [tree, *(path for path in sorted(tree.rglob("*")) if path.is_dir()), tree / "gone", tree / "a1/out"]
    asked = [os.fsencode(path) for path in [*paths, tree / "a0/b0/index.html", tree / ("x" * 5000)]]
    listed = told(compiled.finish(compiled.start(asked)))
    assert listed == told(folders.finish(folders.start(asked)))
    assert [one[0] != 0 for one in listed[-4:]] == [True] * 4
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


def test_a_file_that_fails_while_it_is_read_speaks_for_nothing() -> None:
    wanted = Wanted(frozenset(["mem"]), lambda *_: lambda file: file.read(1))  # memory at 0, which is never there
    home = next(iter(LocalFolder.open(Path("/proc/self")).listings(wanted)))
    assert "mem" in home.names
    assert home.heads == {}


def test_the_compiled_module_refuses_what_is_no_job_and_no_path(compiled: ModuleType, tree: Path) -> None:
    job = compiled.start([os.fsencode(tree)])
    compiled.finish(job)
    with pytest.raises(ValueError, match="finished before"):
        compiled.finish(job)
    for wrong in ("a", folders.start([b"a"]), None):
        with pytest.raises(ValueError, match="PyCapsule"):
            compiled.finish(wrong)
    for wrong, error in ((["a"], TypeError), ([b"a\0b"], ValueError), (1, TypeError), ([b"a", None], TypeError)):
        with pytest.raises(error):
            compiled.start(wrong)
    for _ in range(200):
        compiled.start([os.fsencode(tree / f"a{n}") for n in range(3)])  # left alone, and cleared away with its thread
    assert len(os.listdir("/proc/self/task")) < 50
    assert compiled.finish(compiled.start([])) == []


def test_waiting_for_the_compiled_module_ends_with_a_signal(compiled: ModuleType, tree: Path) -> None:
    before = signal.signal(signal.SIGALRM, signal.default_int_handler)
    job = compiled.start([os.fsencode(tree / "a2")] * 100_000)  # minutes of work
    signal.setitimer(signal.ITIMER_REAL, 0.1)
    try:
        with pytest.raises(KeyboardInterrupt):
            compiled.finish(job)
    finally:
        signal.signal(signal.SIGALRM, before)
    with pytest.raises(ValueError, match="finished before"):
        compiled.finish(job)
