"""`python tests/mutants.py`: puts one small fault after the other into the core, and sees whether a test notices.

A fixed sample, drawn by a seed, over the packages that compute what matters most. What came out is
kept in build/mutants, so that a run which was stopped goes on where it was; what stands in
docs/mutants.md changes nothing that anybody could see, and counts as noticed.
"""

from __future__ import annotations

import argparse
import ast
import hashlib
import json
import os
import random
import re
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import SimpleQueue
from typing import NamedTuple

import msgspec
import pytest
from coverage import Coverage
from msgspec import Struct

ROOT = Path(__file__).parent.parent
KEPT = ROOT / "build" / "mutants"
CORE = "src/kettlepost/core"
SEED = 20261125
AIM = 85.0
_LONGEST = 900.0
_LONG = 4.0
"""A test that takes so many seconds is asked only about what no other noticed."""
_OPTIONS = ["-q", "-p", "no:randomly", "-p", "no:cacheprovider", "-p", "no:xdist", "--assert=plain", "-m", "not proof"]
_NEAR = {
    "layout": ("layout", "where", "registers", "told"),
    "rules": ("rules", "check", "ways", "told"),
    "placing": ("placing", "keeping", "ways", "told"),
    "survey": ("survey", "recognising", "registers", "sources", "told"),
}
"""The tests that take processes of their own and are asked about what no other noticed, by package."""
_SWAPPED: dict[type, type] = {
    ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.And: ast.Or, ast.Or: ast.And,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.BitOr: ast.BitAnd, ast.BitAnd: ast.BitOr,
}  # fmt: skip


class Map(Struct):
    """Which tests go through a line of a file, how long each takes, and which take processes of their own."""

    lines: dict[str, dict[str, list[str]]]
    seconds: dict[str, float]
    skipped: list[str]


class Mutant(NamedTuple):
    """One fault: the file, where its text is replaced, and by what; `text` is the line it is in."""

    file: str
    line: int
    start: int
    end: int
    old: str
    new: str
    text: str
    column: int

    @property
    def key(self) -> str:
        """The same as long as its line is, wherever that stands in the file."""
        told = f"{self.file}:{self.text}:{self.column}:{self.old}:{self.new}"
        return hashlib.blake2b(told.encode(), digest_size=6).hexdigest()

    @property
    def shown(self) -> str:
        return f"{self.file}:{self.line}  {self.old!r} -> {self.new!r}"


def changed(node: ast.AST) -> ast.AST | None:
    """A node with one small fault in it."""
    if isinstance(node, ast.Compare) and type(node.ops[0]) in _SWAPPED:
        return ast.Compare(node.left, [_SWAPPED[type(node.ops[0])](), *node.ops[1:]], node.comparators)
    if isinstance(node, ast.BoolOp):
        return ast.BoolOp(_SWAPPED[type(node.op)](), node.values)
    if isinstance(node, ast.BinOp) and type(node.op) in _SWAPPED:
        return ast.BinOp(node.left, _SWAPPED[type(node.op)](), node.right)
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        return node.operand
    if isinstance(node, ast.IfExp):
        return ast.IfExp(ast.UnaryOp(ast.Not(), node.test), node.body, node.orelse)
    if isinstance(node, ast.Constant) and isinstance(node.value, bool):
        return ast.Constant(not node.value)
    if isinstance(node, ast.Constant) and type(node.value) is int:
        return ast.Constant(node.value + 1)
    if isinstance(node, ast.Continue):
        return ast.Break()
    return None


def mutants_of(file: str) -> Iterator[Mutant]:
    """Every fault that may be put into a file: none in annotations, decorators, documentation and texts."""
    raw = (ROOT / file).read_bytes()
    begins = [0]
    for line in raw.split(b"\n"):
        begins.append(begins[-1] + len(line) + 1)

    def walk(node: ast.AST) -> Iterator[ast.AST]:
        for name, value in ast.iter_fields(node):
            if name in ("annotation", "returns", "decorator_list", "type_params") or isinstance(node, ast.JoinedStr):
                continue
            for child in value if isinstance(value, list) else [value]:
                if isinstance(child, ast.AST):
                    yield child
                    yield from walk(child)

    for node in walk(ast.parse(raw)):
        other = changed(node)
        if other is not None and hasattr(node, "lineno"):
            start = begins[node.lineno - 1] + node.col_offset
            end = begins[(node.end_lineno or 0) - 1] + (node.end_col_offset or 0)
            new = ast.unparse(ast.fix_missing_locations(other))
            new = new if isinstance(node, ast.Continue | ast.Constant) else f"({new})"
            text = raw[begins[node.lineno - 1] : begins[node.lineno]].decode().strip()
            yield Mutant(file, node.lineno, start, end, raw[start:end].decode(), new, text, node.col_offset)


def sample(number: int) -> list[Mutant]:
    """The faults to try, in an order that a seed fixes."""
    found = [
        mutant
        for package in _NEAR
        for path in sorted((ROOT / CORE / package).glob("*.py"))
        for mutant in mutants_of(str(path.relative_to(ROOT)))
    ]
    return random.Random(SEED).sample(found, min(number, len(found)))


class Reached:
    """A pytest plugin that keeps which lines of the core each test goes through, and how long it takes."""

    def __init__(self, place: Path):
        self.coverage = Coverage(data_file=None, include=[f"{place / CORE}/*"])
        self.seconds: dict[str, float] = {}
        self.skipped: list[str] = []

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_protocol(self, item: pytest.Item) -> Iterator[None]:
        self.coverage.switch_context(item.nodeid)
        return (yield)

    def pytest_runtest_logreport(self, report: pytest.TestReport) -> None:
        self.seconds[report.nodeid] = self.seconds.get(report.nodeid, 0.0) + report.duration
        if report.skipped:
            self.skipped.append(report.nodeid)

    def lines(self, place: Path) -> dict[str, dict[int, list[str]]]:
        data = self.coverage.get_data()
        return {
            str(Path(file).relative_to(place)): {
                line: [name for name in names if name] for line, names in data.contexts_by_lineno(file).items()
            }
            for file in data.measured_files()
        }


def mapped(place: Path) -> None:
    """Write which tests go through which lines into a file beside the copies."""
    reached = Reached(place)
    reached.coverage.start()
    files = [str(path) for path in sorted((place / "tests").glob("test_*.py"))]
    status = pytest.main([*_OPTIONS, *files], plugins=[reached])
    reached.coverage.stop()
    if status:
        sys.exit(1)
    told = {"lines": reached.lines(place), "seconds": reached.seconds, "skipped": reached.skipped}
    (KEPT / "map.json").write_text(json.dumps(told))


def run_in(place: Path, arguments: list[str], longest: float = _LONGEST, **more: str) -> tuple[int, list[str]]:
    """The status of a Python process in a copy, and the tests that failed; 1 where it does not end in so many seconds."""
    environment = {**os.environ, "PYTHONPATH": str(place / "src"), "PYTHONDONTWRITEBYTECODE": "1", **more}
    try:
        ran = subprocess.run(
            [sys.executable, *arguments], cwd=place, env=environment, capture_output=True, text=True, errors="replace",
            timeout=longest, check=False,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return 1, []
    return ran.returncode, re.findall(r"^FAILED (\S+)", ran.stdout, re.MULTILINE)


def is_noticed(mutant: Mutant, place: Path, known: Map, noticing: Counter[str], only_quick: bool) -> bool:
    """Whether a test fails, or none ends, with a fault in place.

    First those are asked that noticed most so far for the time they take, last those that take long
    or processes of their own.
    """
    target = place / mutant.file
    raw = target.read_bytes()
    last = mutant.line + mutant.old.count("\n")
    lines = known.lines.get(mutant.file, {})
    names = {name for line in range(mutant.line, last + 1) for name in lines.get(str(line), ())}
    names = names or known.seconds.keys() - known.skipped
    ordered = sorted(names - set(known.skipped), key=lambda name: (known.seconds[name] + 0.1) / (noticing[name] + 0.2))
    quick = [name for name in ordered if known.seconds[name] < _LONG] or ordered
    package = mutant.file.split("/")[3]
    slow = sorted(
        (name for name in known.skipped if name.split("test_")[1].startswith(_NEAR[package])), key=noticing.__getitem__
    )[::-1]
    longest = 20 + 3 * sum(known.seconds[name] for name in quick)
    target.write_bytes(raw[: mutant.start] + mutant.new.encode() + raw[mutant.end :])
    try:
        status, failed = run_in(place, ["-m", "pytest", *_OPTIONS, "-x", *quick], longest, KETTLEPOST_QUICK="1")
        if not status and not only_quick:
            long = [name for name in ordered if name not in quick]
            status, failed = run_in(place, ["-m", "pytest", *_OPTIONS, "-x", *slow, *long])
        noticing.update(failed)
        return bool(status)
    finally:
        target.write_bytes(raw)


def main() -> int:
    """Try the sample, and say what nobody noticed; status 1 when that is too much."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--number", type=int, default=600)
    parser.add_argument("--workers", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--quick", action="store_true", help="ask no test that takes processes of its own")
    parser.add_argument("--map", type=Path, help=argparse.SUPPRESS)
    given = parser.parse_args()
    if given.map is not None:
        mapped(given.map)
        return 0
    KEPT.mkdir(parents=True, exist_ok=True)
    log = KEPT / "noticed.jsonl"
    known = dict(json.loads(line) for line in log.read_text().splitlines()) if log.exists() else {}
    places: SimpleQueue[Path] = SimpleQueue()
    for n in range(given.workers):
        place = KEPT / f"copy{n}"
        shutil.rmtree(place, ignore_errors=True)
        for name in ("src", "tests", "docs", "bench"):
            shutil.copytree(ROOT / name, place / name, ignore=shutil.ignore_patterns("__pycache__"))
        for path in (ROOT / "pyproject.toml", ROOT / "Makefile", *ROOT.glob("*.md")):
            shutil.copy(path, place)
        (place / "build").mkdir(exist_ok=True)
        if (ROOT / "build" / "debian").is_dir():
            (place / "build" / "debian").symlink_to(ROOT / "build" / "debian")
        run_in(place, ["-m", "compileall", "-q", "--invalidation-mode", "checked-hash", "src", "tests"])
        places.put(place)
    if not (KEPT / "map.json").exists() and run_in(place, [__file__, "--map", str(place)], KETTLEPOST_QUICK="1")[0]:
        sys.exit("a test fails where no fault was put: see to that first")
    noticing: Counter[str] = Counter()
    lines = msgspec.json.decode((KEPT / "map.json").read_bytes(), type=Map)

    def tried(mutant: Mutant) -> tuple[Mutant, bool]:
        if mutant.key not in known:
            place = places.get()
            try:
                known[mutant.key] = is_noticed(mutant, place, lines, noticing, given.quick)
            finally:
                places.put(place)
            if known[mutant.key] or not given.quick:  # what only few were asked about is not settled
                with log.open("a") as out:
                    out.write(json.dumps([mutant.key, known[mutant.key]]) + "\n")
        return mutant, known[mutant.key]

    pages = (ROOT / "docs" / "mutants.md").read_text("utf-8")
    noticed = total = 0
    with ThreadPoolExecutor(given.workers) as pool:
        for mutant, seen in pool.map(tried, sample(given.number)):
            total += 1
            is_equivalent = mutant.key in pages
            noticed += seen or is_equivalent
            if not seen:
                told = "equivalent" if is_equivalent else "unnoticed "
                print(f"{told} {mutant.key}  {mutant.shown}", flush=True)
    share = 100 * noticed / max(total, 1)
    print(f"{noticed} of {total} noticed: {share:.1f} %  (aim: at least {AIM:.0f} %)")
    return int(share < AIM)


if __name__ == "__main__":
    sys.exit(main())
