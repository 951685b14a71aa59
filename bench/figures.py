"""The figures, each with the reference it is measured against."""

from __future__ import annotations

import contextlib
import math
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import kettlepost
from bench.carrying import carrying
from bench.clearing import clearing
from bench.databases import databases
from bench.growing import SIZES, exponent
from bench.making import WRONG, make_applications, make_crowd, make_hosts, make_listing, make_plan, make_tree, spoil
from bench.probing import probing
from bench.slow import slow_sftp
from bench.timing import PROGRAM
from bench.timing import seconds as _seconds
from bench.work import work
from kettlepost.core.comparing import known_addresses


def startup() -> str:
    """`kettlepost --version` against `python -c 'import typer'`."""
    ours, reference = _alternating([PROGRAM, "--version"], [sys.executable, "-c", "import typer"], times=15)
    return f"{ours / reference:.2f}  (aim: at most 1.25)"


def check() -> str:
    """`kettlepost check` of 5,000 accounts with surveys against a program that only reads and parses the same files."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 5_000, 20, 20, surveyed=True)
        reading = [sys.executable, "-c", _READ, str(plan)]
        ours = reference = math.inf
        for _ in range(3):
            shutil.rmtree(plan / ".kettlepost", ignore_errors=True)
            ours = min(ours, _seconds(_check(plan)))
            reference = min(reference, _seconds(reading))
    return f"{ours / reference:.2f}  ({ours:.1f} s for 100,000 sites; aim: at most 3)"


def findings() -> str:
    """`check` where every site has a finding, against the same plan with none: 40 accounts of 25, and one of 1,000.

    Behind each the exponent with which that of one account grows from 500 sites to 2,000.
    """
    told = []
    for kind in WRONG:
        many, one, more, less = (_spoilt(kind, *size) for size in ((40, 25), (1, 1_000), (1, 2_000), (1, 500)))
        told.append(f"{kind} {many[0]:.1f} and {one[0]:.1f} (^{math.log(more[1] / less[1]) / math.log(4):.2f})")
    return f"{', '.join(told)}  (aim: at most 3, and ^1.1)"


def _spoilt(kind: str, accounts: int, sites: int) -> tuple[float, float]:
    """How many times as long a check takes where every site has a finding, and how many seconds that is."""
    with tempfile.TemporaryDirectory() as folder:
        plans = [make_plan(Path(folder) / name, accounts, sites, sites, surveyed=True) for name in ("clean", "spoilt")]
        spoil(plans[1], kind)
        least = [math.inf, math.inf]
        for _ in range(3):
            for number, plan in enumerate(plans):
                shutil.rmtree(plan / ".kettlepost", ignore_errors=True)
                least[number] = min(least[number], _seconds(_check(plan)))
    return least[1] / least[0], least[1]


def again() -> str:
    """The same check once more after one account changed, against the first."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 5_000, 20, 20, surveyed=True)
        cold = warm = math.inf
        for n in range(3):
            shutil.rmtree(plan / ".kettlepost", ignore_errors=True)
            cold = min(cold, _seconds(_check(plan)))
            with (plan / "accounts" / f"acc{n}.toml").open("a") as file:
                file.write("# changed\n")
            warm = min(warm, _seconds(_check(plan)))
    return f"{warm / cold:.2f}  ({warm:.2f} s after {cold:.1f} s; aim: at most 0.12)"


def check_memory() -> str:
    """The memory that check of the same plan takes, all its processes together, against what its files hold."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 5_000, 20, 20, surveyed=True)
        size = sum(path.stat().st_size for path in plan.rglob("*.*")) / 1e6
        peak = _peak_of_all_mb(_check(plan))
    return f"{peak / size:.1f}  ({peak:.0f} MB for {size:.0f} MB; aim: at most 1,000 MB)"


def crowds() -> str:
    """20,000 domains that share a root, 20,000 in one, and 2,000 each in the next, against 20,000 in order."""
    seconds = {}
    for how in ("clean", "shared", "nested", "chain"):
        with tempfile.TemporaryDirectory() as folder:
            plan = make_crowd(Path(folder) / "plan", 2_000 if how == "chain" else 20_000, how)
            seconds[how] = math.inf
            for _ in range(3):
                shutil.rmtree(plan / ".kettlepost", ignore_errors=True)
                seconds[how] = min(seconds[how], _seconds(_check(plan)))
    told = ", ".join(f"{seconds[how] / seconds['clean']:.2f} {how}" for how in ("shared", "nested", "chain"))
    return f"{told}  ({seconds['clean']:.2f} s in order; aim: at most 2)"


def where() -> str:
    """100,000 addresses on standard input of `kettlepost where` against one of each account: what is added."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 500, 20, 20, surveyed=True)
        many = [f"https://site{n % 20}.acc{n % 500}.example/part{n % 20}/page{n}" for n in range(100_000)]
        command = [PROGRAM, "where", "-", "--plan", str(plan)]
        one = min(_seconds(command, "\n".join(many[:500])) for _ in range(3))
        all_of_them = min(_seconds(command, "\n".join(many)) for _ in range(3))
    return f"{all_of_them / one:.2f}  ({all_of_them - one:.1f} s after loading; aim: at most 3 s)"


def compared() -> str:
    """`compare` of all addresses that are known against `where` with the same; in each account something is planned."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 15, 20, 20, surveyed=True)
        for path in (plan / "accounts").iterdir():
            path.write_text(path.read_text().replace('state = "live"', 'state = "planned"', 1))
        opened = kettlepost.open_plan(plan)
        known = {url for one in opened.layout.accounts.values() for url in known_addresses(one, "planned")}
        theirs = min(_seconds([PROGRAM, "where", "-", "--plan", str(plan)], "\n".join(sorted(known))) for _ in range(2))
        ours = min(_seconds([PROGRAM, "compare", "--plan", str(plan)]) for _ in range(2))
    return f"{ours / theirs:.2f}  ({ours:.1f} s for {len(known):,} addresses; aim: at most 2.2)"


def controlled() -> str:
    """The same 100,000 addresses, and a check, where every folder has a control file of ten rules, against none."""
    seconds = {}
    for controls in ("", "folders", "roots"):
        with tempfile.TemporaryDirectory() as folder:
            plan = make_plan(Path(folder) / "plan", 500, 20, 20, surveyed=True, controls=controls)
            many = "\n".join(f"https://site{n % 20}.acc{n % 500}.example/part{n % 20}/page{n}" for n in range(100_000))
            command = [PROGRAM, "where", "-", "--plan", str(plan)]
            seconds["where", controls] = min(_seconds(command, many) for _ in range(2)) if controls != "roots" else 0
            seconds["check", controls] = math.inf
            for _ in range(2):
                shutil.rmtree(plan / ".kettlepost", ignore_errors=True)
                seconds["check", controls] = min(seconds["check", controls], _seconds(_check(plan)))
    asked = seconds["where", "folders"] / seconds["where", ""]
    checked = seconds["check", "roots"] / seconds["check", ""]
    return f"{asked:.1f} asked, {checked:.2f} checked  (aim: at most 2 and 1.5)"


def names() -> str:
    """The names of 300,000 files on disk, and the first answer with them against the one without."""
    with _large_tree() as (plan, tree):
        subprocess.run(_survey(plan, tree), check=True, capture_output=True)
        kept = plan / "surveys" / "acc0.names"
        size = kept.stat().st_size / 1e6
        command = [PROGRAM, "where", "site0.acc0.example/no-such-file", "--plan", str(plan)]
        ours = min(_seconds(command) for _ in range(5))
        kept.unlink()
        without = min(_seconds(command) for _ in range(5))
    return f"{ours / without:.2f} first answer, {size:.1f} MB  (aim: at most 1.5 and 6 MB)"


def survey() -> str:
    """`kettlepost survey` of 300,000 files against find(1) printing their sizes and times."""
    with _large_tree() as (plan, tree):
        ours, reference = _alternating(_survey(plan, tree), ["find", str(tree), "-printf", r"%p %s %T@ %y\n"], times=7)
    return f"{ours / reference:.2f}  ({ours:.2f} s; aim: at most 1.3)"


def tape() -> str:
    """`kettlepost survey` of the same tree in a tar archive against tar(1) listing it."""
    with _large_tree() as (plan, tree):
        packed = tree.with_suffix(".tar")
        subprocess.run(["tar", "-C", str(tree), "-cf", str(packed), "."], check=True)
        ours, reference = _alternating(_survey(plan, packed), ["tar", "-tvf", str(packed)], times=7)
    return f"{ours / reference:.2f}  ({ours:.2f} s; aim: at most 1.5)"


def sites() -> str:
    """`kettlepost survey` of 50 applications' folders against find(1)."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 1, 1, 0)
        tree = make_applications(Path(folder) / "tree", 50)
        ours, reference = _alternating(_survey(plan, tree), ["find", str(tree), "-printf", r"%p %s %T@ %y\n"], times=7)
    return f"{ours / reference:.2f}  ({ours:.2f} s)"


def memory() -> str:
    """The memory a survey of 3,000,000 listed files takes, against an interpreter that only starts."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 1, 1, 0)
        listing = make_listing(Path(folder) / "listing.txt", 3_000_000, 90_000)
        ours = _peak_mb(_survey(plan, listing))
        reference = _peak_mb([sys.executable, "-c", ""])
    return f"{ours / reference:.1f}  ({ours:.0f} MB; aim: at most 150 MB)"


def stored() -> str:
    """Loading the stored survey of 300,000 files against parsing it as plain JSON, and its size."""
    with _large_tree() as (plan, tree):
        subprocess.run(_survey(plan, tree), check=True, stdout=subprocess.DEVNULL)
        file = plan / "surveys" / "acc0.json"
        ours = min(float(_output([sys.executable, "-c", _LOAD, str(plan)])) for _ in range(3))
        reference = min(float(_output([sys.executable, "-c", _PARSE, str(file)])) for _ in range(3))
        size = file.stat().st_size / 1e6
    return f"{ours / reference:.2f}  ({ours:.3f} s, {size:.1f} MB; aim: at most 0.2 s and 5 MB)"


def sftp() -> str:
    """A survey of 2,000 folders over SFTP with 20 ms of delay against the round trips it would take one by one."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 1, 1, 0)
        tree = make_tree(Path(folder) / "tree", 6_000, 2_000)
        with slow_sftp(Path(folder), 0.020) as (address, options):
            begin = time.perf_counter()
            command = [PROGRAM, "survey", "acc0", "--from", f"{address}{tree}", "--plan", str(plan), *options]
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
            ours = time.perf_counter() - begin
    one_by_one = 2_000 * 4 * 0.020
    return f"{ours / one_by_one:.2f}  ({ours:.1f} s; aim: at most 20 s)"


def imports() -> str:
    """Reading a configuration of 20,000 hosts against the server testing it, its growth, and its memory."""
    told = []
    for kind, tested, aim in (("apache", ["apache2", "-t", "-f"], 4), ("nginx", ["nginx", "-t", "-c"], 8)):
        seconds = {}
        for number in (5_000, 20_000):
            with tempfile.TemporaryDirectory() as folder:
                hosts = make_hosts(Path(folder), kind, number)
                program = shutil.which(tested[0], path=f"{os.environ.get('PATH', '')}:/usr/sbin")
                reference = [program or tested[0], *tested[1:], f"{folder}/server.conf"]
                reading = [sys.executable, "-c", _READ_HOSTS, kind, str(hosts)]
                ours, theirs = _alternating(reading, reference, times=3)
                seconds[number] = ours, theirs, _peak_mb(reading)
        ours, theirs, memory = seconds[20_000]
        exponent = math.log(ours / seconds[5_000][0], 4)
        told.append(f"{kind} {ours / theirs:.1f} (aim: at most {aim}; exponent {exponent:.2f}, {memory:.0f} MB)")
    return ", ".join(told)


def configured() -> str:
    """100,000 addresses of 2,000 hosts under the server's configuration against the same by the plan alone.

    Behind it the exponent with which the time for locations of one host of nginx grows from 1,000 to 4,000.
    """
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        hosts = make_hosts(place, "apache", 2_000)
        hosts.write_text(hosts.read_text().replace("/srv/", f"{folder}/homes/"))
        for number in range(2_000):
            root = place / "homes" / f"account{number // 20}" / f"site{number}"
            (root / "part").mkdir(parents=True)
            (root / "index.html").write_text("here")
        plan = _read_in(place / "plan", place / "server.conf", f"{folder}/homes/{{account}}")
        pages = ("", "part/", "index.html", "none/page", "old/page")
        many = "\n".join(f"site{n % 2_000}.example/{pages[n % 5]}{n if n % 5 > 2 else ''}" for n in range(100_000))
        command = [PROGRAM, "where", "-", "--plan", str(plan)]
        under = min(_seconds(command, many) for _ in range(3))
        shutil.rmtree(plan / "servers")
        alone = min(_seconds(command, many) for _ in range(3))
    few, most = (_with_locations(number) for number in (1_000, 4_000))
    return f"{under / alone:.2f}, locations ^{math.log(most / few, 4):.2f}  (aim: at most 1.3, and ^1.0)"


def _with_locations(number: int) -> float:
    """How long 4,000 addresses take of one host that has so many locations, beside what any call takes."""
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        (place / "homes/one/www").mkdir(parents=True)
        locations = "".join(f"location /p{n}/ {{ return 301 https://new.example/{n}; }}\n" for n in range(number))
        text = f"server {{ server_name a.example; root {folder}/homes/one/www;\n{locations}}}\n"
        (place / "a.conf").write_text(text)
        plan = _read_in(place / "plan", place / "a.conf", f"{folder}/homes/{{account}}")
        asked = "\n".join(f"a.example/p{n % number}/x{n}" for n in range(4_000))
        command = [PROGRAM, "where", "-", "--plan", str(plan)]
        return min(_seconds(command, asked) for _ in range(3)) - min(_seconds(command, "") for _ in range(3))


def _read_in(plan: Path, source: Path, homes: str) -> Path:
    """A plan into which a server's configuration was read, with its accounts surveyed."""
    for words in (["new", str(plan)], ["import", str(source), "--homes", homes, "--yes", "--plan", str(plan)],
                  ["survey", "--all", "--plan", str(plan)]):  # fmt: skip
        subprocess.run([PROGRAM, *words], check=True, capture_output=True)
    return plan


def growth() -> str:
    """The exponent with which the time of check grows from 10,000 to 200,000 installations."""
    seconds = []
    for accounts in (500, 10_000):
        with tempfile.TemporaryDirectory() as folder:
            plan = make_plan(Path(folder) / "plan", accounts, 20, 20)
            best = math.inf
            for _ in range(3):
                shutil.rmtree(plan / ".kettlepost", ignore_errors=True)
                best = min(best, _seconds(_check(plan)))
            seconds.append(best)
    return f"{math.log(seconds[1] / seconds[0], 20):.2f}  ({seconds[1]:.1f} s; aim: at most 1.08)"


def weigh() -> str:
    """`kettlepost weigh` in an account of 1,000 domains and 1,000 installations against one check of it."""
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 1, 1_000, 1_000, surveyed=True)
        asked = [PROGRAM, "weigh", "wordpress", "site5.acc0.example", "--new-domain", "new.example"]
        ours = reference = math.inf
        for _ in range(7):
            for command in (_check(plan), [*asked, "--plan", str(plan)]):
                shutil.rmtree(plan / ".kettlepost", ignore_errors=True)
                seconds = _seconds(command)
                ours, reference = (
                    (ours, min(reference, seconds)) if command[1] == "check" else (min(ours, seconds), reference)
                )
    return f"{ours / reference:.2f}  ({ours:.2f} s; aim: at most 2)"


def wishes() -> str:
    """How `kettlepost weigh --wishes` on 100,000 sites grows from 50 wishes to 500: 1.0 is linear."""
    seconds = []
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 5_000, 20, 20, surveyed=True)
        _seconds(_check(plan))  # from here on accounts are remembered, so that the wishes are what is measured
        for number in (0, 50, 500):
            table = Path(folder) / f"{number}.csv"
            rows = [f"wordpress,site{n % 20}.acc{n * 7 % 5_000}.example" for n in range(number)]
            table.write_text("\n".join(["application,domain", *rows]) + "\n")
            command = [PROGRAM, "weigh", "--wishes", str(table), "--plan", str(plan)]
            seconds.append(min(_seconds(command) for _ in range(3)))
    few, many = seconds[1] - seconds[0], seconds[2] - seconds[0]
    return (
        f"{math.log(many / few, 10):.2f}  ({seconds[2]:.1f} s for 500, {seconds[0]:.1f} s for none; aim: at most 1.05)"
    )


def large() -> str:
    """The exponents with which time grows in plans that are large in one way each: 1.0 is linear."""
    return ", ".join(f"{make.__name__} {exponent(make)}" for make in SIZES) + "  (aim: at most 1.15 each)"


FIGURES: dict[str, Callable[[], str]] = {
    figure.__name__: figure
    for figure in (
        startup,
        check,
        findings,
        again,
        check_memory,
        crowds,
        growth,
        large,
        weigh,
        wishes,
        where,
        compared,
        controlled,
        names,
        imports,
        configured,
        survey,
        sites,
        tape,
        stored,
        memory,
        sftp,
        clearing,
        carrying,
        databases,
        probing,
        work,
    )
}

_READ = """
import pathlib, sys, rtoml, msgspec
for path in sorted(pathlib.Path(sys.argv[1]).glob("**/*.toml")):
    rtoml.loads(path.read_text("utf-8"))
for path in sorted(pathlib.Path(sys.argv[1]).glob("**/*.json")):
    msgspec.json.decode(path.read_bytes())
"""
_READ_HOSTS = """
import gc, sys
gc.disable()  # as the program does
from kettlepost.core.exchange import KINDS
from kettlepost.workspace.imports import DiskOpener
raw = open(sys.argv[2], "rb").read()
assert KINDS[sys.argv[1]].read([(sys.argv[2], raw)], DiskOpener(), "/").hosts
"""
_LOAD = """
import pathlib, sys, time
from kettlepost.workspace.plan_folder import PlanFolder
plan = PlanFolder(sys.argv[1])
begin = time.perf_counter()
plan.read_survey("acc0")
print(time.perf_counter() - begin)
"""
_PARSE = """
import json, pathlib, sys, time
begin = time.perf_counter()
json.loads(pathlib.Path(sys.argv[1]).read_bytes())
print(time.perf_counter() - begin)
"""


@contextlib.contextmanager
def _large_tree() -> Iterator[tuple[Path, Path]]:
    with tempfile.TemporaryDirectory() as folder:
        plan = make_plan(Path(folder) / "plan", 1, 1, 0)
        yield plan, make_tree(Path(folder) / "tree", 300_000, 9_000)


def _check(plan: Path) -> list[str]:
    return [PROGRAM, "check", "--plan", str(plan)]


def _peak_of_all_mb(command: list[str]) -> float:
    """The most memory a command and its children held at once, in MB, each shared page counted once."""
    peak = 0.0
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True) as ran:
        while ran.poll() is None:
            held = 0
            for status in Path("/proc").glob("[0-9]*/smaps_rollup"):
                with contextlib.suppress(OSError):
                    if os.getpgid(int(status.parent.name)) == ran.pid:
                        held += int(status.read_text().partition("Pss:")[2].split()[0])
            peak = max(peak, held / 1000)
            time.sleep(0.1)
    return peak


def _survey(plan: Path, source: Path) -> list[str]:
    return [PROGRAM, "survey", "acc0", "--from", str(source), "--plan", str(plan)]


def _peak_mb(command: list[str]) -> float:
    """The most memory a command held at once, in MB, by wait4(2)."""
    with subprocess.Popen(command, stdout=subprocess.DEVNULL) as running:
        _, status, usage = os.wait4(running.pid, 0)
        running.returncode = os.waitstatus_to_exitcode(status)
    if running.returncode:
        raise SystemExit(f"{command}: status {running.returncode}")
    return usage.ru_maxrss / 1000


def _output(command: list[str]) -> str:
    return subprocess.run(command, check=True, capture_output=True, text=True).stdout


def _alternating(ours: list[str], reference: list[str], times: int) -> tuple[float, float]:
    """The least time of each, taken in turns so that a busy moment meets both."""
    pairs = [(_seconds(ours), _seconds(reference)) for _ in range(times)]
    return min(pair[0] for pair in pairs), min(pair[1] for pair in pairs)
