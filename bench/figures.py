"""The figures, each with the reference it is measured against."""

from __future__ import annotations

import math
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import rtoml

from bench.making import make_plan, make_tree

PROGRAM = str(Path(sys.executable).with_name("kettlepost"))


def startup() -> str:
    """`kettlepost --version` against `python -c 'import typer'`."""
    ours, reference = _alternating([PROGRAM, "--version"], [sys.executable, "-c", "import typer"], times=15)
    return f"{ours / reference:.2f}  (aim: at most 1.5)"


def check() -> str:
    """`kettlepost check` of 5,000 accounts against a program that only reads and parses the same files."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 5_000, 20, 20)
        reading = [sys.executable, "-c", _READ, str(plan)]
        ours, reference = _alternating([PROGRAM, "check", "--plan", str(plan)], reading, times=3)
    return f"{ours / reference:.2f}  ({ours:.1f} s for 100,000 sites; aim: at most 4)"


def survey() -> str:
    """`kettlepost survey` of 300,000 files against find(1) printing their sizes and times."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 1, 1, 0)
        tree = make_tree(Path(folder) / "tree", 300_000, 9_000)
        ours, reference = _alternating(
            [PROGRAM, "survey", "acc0", "--from", str(tree), "--plan", str(plan)],
            ["find", str(tree), "-printf", r"%p %s %T@ %y\n"],
            times=5,
        )
    return f"{ours / reference:.2f}  ({ours:.2f} s; aim: at most 2.5)"


def growth() -> str:
    """The exponent with which the time of check grows from 10,000 to 100,000 sites."""
    seconds = []
    for accounts in (500, 5_000):
        with tempfile.TemporaryDirectory() as folder:
            plan = make_plan(Path(folder) / "plan", accounts, 20, 20)
            seconds.append(min(_seconds([PROGRAM, "check", "--plan", str(plan)]) for _ in range(3)))
    return f"{math.log10(seconds[1] / seconds[0]):.2f}  (aim: at most 1.15)"


FIGURES: dict[str, Callable[[], str]] = {"startup": startup, "check": check, "survey": survey, "growth": growth}

_READ = """
import pathlib, sys, rtoml
for path in sorted(pathlib.Path(sys.argv[1]).glob("**/*.toml")):
    rtoml.loads(path.read_text("utf-8"))
"""
assert rtoml  # the reference parses with what the program parses with


def _alternating(ours: list[str], reference: list[str], times: int) -> tuple[float, float]:
    """The least time of each, taken in turns so that a busy moment meets both."""
    pairs = [(_seconds(ours), _seconds(reference)) for _ in range(times)]
    return min(pair[0] for pair in pairs), min(pair[1] for pair in pairs)


def _seconds(command: list[str]) -> float:
    begin = time.perf_counter()
    done = subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    if done.returncode not in (0, 1):
        raise SystemExit(f"{command}: status {done.returncode}")
    return time.perf_counter() - begin
