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
import shutil
import subprocess
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import SimpleQueue
from typing import NamedTuple

ROOT = Path(__file__).parent.parent
KEPT = ROOT / "build" / "mutants"
CORE = "src/kettlepost/core"
SEED = 20261125
AIM = 85.0
_LONGEST = 400
_FIRST = {
    "layout": ["told", "core", "layout", "where"],
    "rules": ["told", "core", "rules", "check"],
    "placing": ["told", "placing", "core"],
    "survey": ["core", "survey", "recognising", "told", "layout"],
}
"""The tests that are most likely to notice, by package; all others come after."""
_REST = "told core layout where rules placing ways check recognising survey registers keeping fuzz".split()
_SWAPPED: dict[type, type] = {
    ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.And: ast.Or, ast.Or: ast.And,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.BitOr: ast.BitAnd, ast.BitAnd: ast.BitOr,
}  # fmt: skip


class Mutant(NamedTuple):
    """One fault: the file, where its text is replaced, and by what."""

    file: str
    line: int
    start: int
    end: int
    old: str
    new: str

    @property
    def key(self) -> str:
        told = f"{self.file}:{self.old}:{self.new}:{self.start}"
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
            yield Mutant(file, node.lineno, start, end, raw[start:end].decode(), new)


def sample(number: int) -> list[Mutant]:
    """The faults to try, in an order that a seed fixes."""
    found = [
        mutant
        for package in _FIRST
        for path in sorted((ROOT / CORE / package).glob("*.py"))
        for mutant in mutants_of(str(path.relative_to(ROOT)))
    ]
    return random.Random(SEED).sample(found, min(number, len(found)))


def is_noticed(mutant: Mutant, place: Path, only_quick: bool) -> bool:
    """Whether a test fails, or none ends, with a fault in place."""
    package = mutant.file.split("/")[3]
    names = list(dict.fromkeys([*_FIRST[package], *_REST]))
    target = place / mutant.file
    raw = target.read_bytes()
    target.write_bytes(raw[: mutant.start] + mutant.new.encode() + raw[mutant.end :])
    tests = [str(place / "tests" / f"test_{name}.py") for name in names]
    options = ["-x", "-q", "-p", "no:randomly", "-p", "no:cacheprovider", "-m", "not proof"]
    environment = {**os.environ, "PYTHONPATH": str(place / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    try:
        for quick in ({"KETTLEPOST_QUICK": "1"}, {})[: 1 if only_quick else 2]:  # what takes processes is asked last
            ran = subprocess.run(
                [sys.executable, "-m", "pytest", *options, *tests], cwd=place, env=environment | quick,
                capture_output=True, timeout=_LONGEST, check=False,
            )  # fmt: skip
            if ran.returncode != 0:
                return True
        return False
    except subprocess.TimeoutExpired:
        return True
    finally:
        target.write_bytes(raw)


def main() -> int:
    """Try the sample, and say what nobody noticed; status 1 when that is too much."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--number", type=int, default=600)
    parser.add_argument("--workers", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--quick", action="store_true", help="ask no test that takes processes of its own")
    given = parser.parse_args()
    KEPT.mkdir(parents=True, exist_ok=True)
    log = KEPT / "noticed.jsonl"
    known = dict(json.loads(line) for line in log.read_text().splitlines()) if log.exists() else {}
    places: SimpleQueue[Path] = SimpleQueue()
    for n in range(given.workers):
        place = KEPT / f"copy{n}"
        shutil.rmtree(place, ignore_errors=True)
        for name in ("src", "tests", "docs"):
            shutil.copytree(ROOT / name, place / name, ignore=shutil.ignore_patterns("__pycache__"))
        for name in ("pyproject.toml", "README.md"):
            shutil.copy(ROOT / name, place / name)
        (place / "build").mkdir(exist_ok=True)
        if (ROOT / "build" / "debian").is_dir():
            (place / "build" / "debian").symlink_to(ROOT / "build" / "debian")
        places.put(place)

    def tried(mutant: Mutant) -> tuple[Mutant, bool]:
        if mutant.key not in known:
            place = places.get()
            try:
                known[mutant.key] = is_noticed(mutant, place, given.quick)
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
