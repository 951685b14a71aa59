"""How long it takes to set many files aside, against the same renamings in a plain loop."""

from __future__ import annotations

import gc
import os
import shutil
import tempfile
import time
from pathlib import Path

from bench.timing import PROGRAM, seconds

FILES = 100_000
_PLAN = """[account]
name = "mill"
[[domain]]
name = "mill.example"
kind = "primary"
root = "www"
"""


def clearing() -> str:
    """Setting 100,000 files aside, one by one, against a plain loop that renames them; and the whole command."""
    ours = whole = reference = float("inf")
    for _ in range(3):
        with tempfile.TemporaryDirectory() as folder:
            home = _laid_out(Path(folder))
            reference = min(reference, _plain_loop(home))
        with tempfile.TemporaryDirectory() as folder:
            home = _laid_out(Path(folder))
            ours = min(ours, _set_aside(Path(folder) / "plan", home))
        with tempfile.TemporaryDirectory() as folder:
            home = _laid_out(Path(folder))
            words = ["clear", "mill.example", "--everything", "--yes", "--from", str(home)]
            whole = min(whole, seconds([PROGRAM, *words, "--plan", str(Path(folder) / "plan")]))
    told = f"the whole command, with looking before and after, {whole / reference:.2f}"
    return f"{ours / reference:.2f}  ({reference:.2f} s for the loop; {told}; aim: at most 1.5)"


def _laid_out(folder: Path) -> Path:
    """A home with a folder of many files, and a plan of it."""
    (folder / "plan/accounts").mkdir(parents=True)
    (folder / "plan/kettlepost.toml").write_text("")
    (folder / "plan/accounts/mill.toml").write_text(_PLAN)
    www = folder / "home/www"
    www.mkdir(parents=True)
    for n in range(FILES):
        os.close(os.open(www / f"page{n:06}.txt", os.O_WRONLY | os.O_CREAT, 0o644))
    return folder / "home"


def _plain_loop(home: Path) -> float:
    to = home / "aside"
    to.mkdir()
    names = os.listdir(home / "www")
    begin = time.perf_counter()
    for name in names:
        os.rename(f"{home}/www/{name}", f"{to}/{name}")
    spent = time.perf_counter() - begin
    shutil.rmtree(to)
    return spent


def _set_aside(plan: Path, home: Path) -> float:
    from kettlepost.workspace.plan_folder import PlanFolder
    from kettlepost.workspace.set_aside.move import set_aside
    from kettlepost.workspace.set_aside.prepare import clearing as prepare
    from kettlepost.workspace.set_aside.store import SetAsideStore

    ready = prepare(PlanFolder(plan), "mill.example", measure="everything", source=str(home))
    manifest = ready.manifest()
    assert ready.access is not None
    gc.disable()  # as the program does
    begin = time.perf_counter()
    set_aside(SetAsideStore(ready.access), manifest)
    spent = time.perf_counter() - begin
    gc.enable()
    ready.close()
    return spent
