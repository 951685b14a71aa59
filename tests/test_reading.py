"""What a command reads: no file of a plan twice, of other accounts as little as may be; the core reads nothing."""

from __future__ import annotations

import os
import subprocess
import sys
import textwrap
import time
from collections import Counter
from pathlib import Path

import pytest

import kettlepost
from conftest import Work, run
from test_rules import domain, installation

HOOK = """
import os, sys
def _told(event, args):
    if event == "open" and isinstance(args[0], (str, bytes)):
        place = os.fsdecode(args[0])
        if place.startswith({plan!r}) and not (args[2] or 0) & (os.O_WRONLY | os.O_RDWR) and not os.path.isdir(place):
            with_log(os.path.relpath(place, {plan!r}) + "\\n")
def with_log(line, log=os.open({log!r}, os.O_WRONLY | os.O_APPEND | os.O_CREAT)):
    os.write(log, line.encode())
sys.addaudithook(_told)
"""


def opened(work: Work, *words: str, typed: str = "") -> Counter[str]:
    """How often each file of the plan is opened for reading while a command runs, by all of its processes."""
    log = work.plan.parent / "opened.log"
    log.write_text("")
    hook = work.plan.parent / "hook"
    hook.mkdir(exist_ok=True)
    (hook / "sitecustomize.py").write_text(HOOK.format(plan=f"{work.plan}/", log=str(log)))
    paths = os.pathsep.join(filter(None, (str(hook), os.environ.get("PYTHONPATH"))))
    done = work.run(*words, env={**os.environ, "PYTHONPATH": paths}, input=typed)
    assert done.returncode in (0, 1), done.stderr
    return Counter(log.read_text().split("\n")[:-1])


def of_others(files: Counter[str], *mine: str) -> list[str]:
    own = {
        f"{folder}/{name}.{ending}" for name in mine for folder, ending in (("accounts", "toml"), ("surveys", "json"))
    }
    return [file for file in files if file.startswith(("accounts/", "surveys/")) and file not in own]


@pytest.fixture
def plan(work: Work) -> Work:
    """A plan of 200 accounts, some of them with surveys, and hosts in common between two."""
    for n in range(200):
        work.account(domain(f"s{n}.example", "www", "primary") + installation(f"s{n}.example/x"), f"acc{n:03}")
    work.account(domain("s7.example", "www", "primary") + domain("s8.example", "other"), "acc007")
    work.there({"www/shop/shop.php": "", "www/shop/barrow/core.php": "", "www/shop/barrow/config.php": ""}, "acc007")
    work.account(domain("*.s5.example", "wild", "subdomain") + domain("t.s5.example", "t", "primary"), "acc011")
    for n in (5, 7, 8, 11):
        work.there({"www/index.html": "Our own page about geese.", "www/x/shop.php": "x"}, f"acc{n:03}")
    return work


COMMANDS = [
    "check", "check --account acc005", "map", "map acc005", "map acc005 --by folder", "where s5.example", "where s5.example",
    "where --folder www --account acc005", "domain list", "domain list --account acc005", "installs --account acc005",
    "installs", "survey --show acc005", "weigh wordpress s5.example", "weigh wordpress s5.example --any-account",
    "place --as 2 --yes", "place wordpress s9.example/blog --show", "domain add new.example --account acc005 --yes",
    "domain root new.example fresh --yes", "domain drop new.example --yes", "retire s5.example/x --yes", "undo --yes",
    "adopt acc007 --yes", "survey acc005 --from HOME", "survey --diff acc005", "apps", "check",
]  # fmt: skip


ALONE = [
    "map acc005", "map acc005 --by folder", "where s5.example", "where --folder www --account acc005",
    "domain list --account acc005", "survey --show acc005",
]  # fmt: skip


def test_no_file_of_a_plan_is_opened_twice_but_for_what_is_written(plan: Work) -> None:
    for words in COMMANDS:
        files = opened(plan, *words.replace("HOME", str(plan.homes / "acc005")).split())
        writes = "--yes" in words
        often = {file: n for file, n in files.items() if n > 1 + (writes and file.startswith("accounts/"))}
        assert not often, words
        assert len([file for file, n in files.items() if n > 1]) <= 1, words


def test_a_question_about_one_account_reads_no_survey_and_no_needless_file_of_another(plan: Work) -> None:
    time.sleep(2.2)  # what was written just before it was remembered may have changed without a trace
    plan.run("where", "s1.example")
    for words in ALONE:
        files = opened(plan, *words.split())
        assert of_others(files, "acc005") == [], words
        assert files["surveys/acc005.json"] == 1, words
    for _ in range(2):  # with nothing remembered of the others, and once they were checked
        files = opened(plan, "weigh", "wordpress", "s5.example")
        assert [file for file in of_others(files, "acc005") if file.startswith("surveys/")] == []
        plan.run("check")
    files = opened(plan, "weigh", "wordpress", "s5.example")
    assert of_others(files, "acc005", "acc011") == []  # the one with names below that host is told with its lines
    files = opened(plan, "place", "--as", "1", "--show")  # what two others have in common is told with its lines
    assert of_others(files, "acc005", "acc007", "acc008", "acc011") == []
    broken = plan.plan / "surveys/acc008.json"
    broken.write_text("{")
    assert "acc008" not in plan.run("where", "s5.example").stderr
    (plan.plan / "accounts/acc009.toml").write_text("[[domain]\n")
    for words in ("map acc005", "survey --show acc005", "domain list --account acc005"):
        assert plan.run(*words.split()).returncode == 0
    assert "accounts/acc009.toml:1" in plan.run("where", "s5.example").stderr  # it may well have that host


def test_what_is_remembered_of_host_names_never_differs_from_what_is_so(plan: Work) -> None:
    assert plan.json("where", "s5.example")["account"] == "acc005"
    plan.account(domain("moved.example", "www", "primary"), "acc005")
    assert plan.json("where", "s5.example")["answers"] == "not ours"
    assert plan.json("where", "moved.example")["account"] == "acc005"
    plan.account(domain("*.wild.example", "www", "primary"), "acc006")
    (plan.plan / "accounts/acc007.toml").unlink()
    assert plan.json("where", "x.wild.example")["account"] == "acc006"
    assert plan.json("where", "s7.example")["answers"] == "not ours"
    assert plan.json("where", "s8.example")["account"] == "acc008"
    for damaged in (b"", b"\x93\xa1x", b"x" * 999):
        (plan.plan / ".kettlepost/hosts").write_bytes(damaged)
        assert plan.json("where", "s9.example")["account"] == "acc009"


PURE = """
import builtins, datetime, os, socket, subprocess, sys, time
import rtoml, msgspec
from kettlepost.core.answering import Answers, Request, by_address, by_folder, domain_rows, install_rows
from kettlepost.core.layout import AccountLayout, PlanLayout
from kettlepost.core.answering import where, where_folder
from kettlepost.core.layout import inventory, join
from kettlepost.core import checking, placing, survey, trying
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import Change, changed_account, changed_text, read_account, read_shared
import encodings.idna, csv, idna, rapidfuzz.fuzz, rapidfuzz.process, rapidfuzz.utils, regex, unicodedata
from kettlepost.workspace import catalogue
regex.compile("x")

texts, surveys, settings = eval(sys.stdin.read())
applications, marks = catalogue.applications(), catalogue.placeholder_finder()
HostName.parse("m\\u00fcnzen.example"), placing.did_you_mean if hasattr(placing, "did_you_mean") else None

class Clock(datetime.datetime):
    @classmethod
    def now(cls, tz=None):
        raise AssertionError("the clock was looked at")
    utcnow = today = now

def forbidden(*args, **kwargs):
    raise AssertionError("the clock was looked at")

def hook(event, args):
    if event in ("import", "compile", "exec", "marshal.loads", "sys._getframe", "object.__getattr__", "object.__setattr__"):
        return
    if event == "open" and str(args[0]).endswith((".py", ".pyc", ".so")):
        return
    if event.startswith(("open", "os.", "socket.", "subprocess.", "shutil.", "tempfile.", "glob.", "pathlib.")):
        raise AssertionError(f"{event} {args}")

before = datetime.datetime
datetime.datetime = Clock
for name in ("time", "time_ns", "monotonic", "perf_counter", "localtime", "gmtime"):
    setattr(time, name, forbidden)
for name in ("stat", "lstat", "getcwd"):
    setattr(os, name, forbidden) if name != "stat" and name != "lstat" and name != "getcwd" else None
sys.addaudithook(hook)

problems = []
shared = read_shared(settings, applications, problems)
accounts = [read_account(shared, text, f"{name}.toml", problems) for name, text in texts.items()]
assert not problems, problems
plan = shared.plan(accounts)
found = {name: survey.decode_survey(raw, name, name) for name, raw in surveys.items()}
today = datetime.date(2026, 11, 23)
layout = join(plan, found)
assert checking.check(layout, today).findings
for here in layout.accounts.values():
    rows = [*by_address(layout, here), *by_folder(layout, here), *domain_rows(layout, here), *install_rows(here, {})]
    assert rows and inventory(here)
    for host in here.hosts:
        for when in ("now", "planned"):
            assert where(layout, Address(HostName(host), "a/b"), when).words
            assert Answers(layout, when).brief(Request(Address(HostName(host))))
    assert where_folder(layout, here, Folder("www"))
    assert survey.decode_survey(survey.encode_survey(here.survey), here.name, here.name) == here.survey
    assert survey.compare(here.survey, here.survey) == []
known = {here.name: checking.check_account(here) for here in layout.accounts.values()}
sources = {one.source.name: one.source for one in accounts}
scenario = trying.Scenario(plan, [one.summary for one in known.values()], today, known.__getitem__,
                        known.__getitem__, layout.accounts.__getitem__, sources.__getitem__)
for host in [next(iter(here.hosts)) for here in layout.accounts.values()]:
    weighing = placing.weigh(scenario, placing.Wish("wordpress", host, new_domain="new.test", any_account=True))
    assert weighing.places
    change = placing.placed(scenario, weighing.places[0].place)
    text = texts[change.account].decode()
    assert changed_text(text, change.changes) != text
table = b"application,domain\\nwordpress," + host.encode() + b"\\n"
assert list(placing.grant(scenario, placing.read_wishes(table, "w.csv")))
class Memory:
    name, contents = "memory", True
    def listings(self, wanted, below=""):
        yield survey.Listing("www", ["index.html", ".htaccess"], [9, 9], heads={"index.html": b"coming soon", ".htaccess": b"Deny from all"})
taken = survey.take_survey(survey.Recognisable(applications, marks, ["index.html"]), "m", accounts[0], Memory(), "2026-11-23T06:00:00Z")
assert taken.placeholders and taken.controls
print("pure")
"""


def test_the_core_touches_no_disk_no_network_no_process_and_no_clock(demo: tuple[Work, str]) -> None:
    folder = demo[0].plan
    texts = {path.stem: path.read_bytes() for path in sorted((folder / "accounts").glob("*.toml"))}
    surveys = {name: (folder / f"surveys/{name}.json").read_bytes() for name in texts}
    given = repr((texts, surveys, (folder / "kettlepost.toml").read_bytes()))
    done = subprocess.run([sys.executable, "-c", PURE], input=given, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout) == (0, "pure\n"), done.stderr[-3000:]


def test_the_page_for_programs_holds(demo: tuple[Work, str], tmp_path: Path) -> None:
    """The lines of docs/python.md, run on a copy of the demo's plan."""
    page = (Path(__file__).parents[1] / "docs/python.md").read_text()
    code = textwrap.dedent(page.partition("```python\n")[2].partition("```")[0])
    assert 15 <= len(code.strip().splitlines()) <= 30
    subprocess.run(["cp", "-r", demo[0].plan, tmp_path / "fernhollow"], check=True)
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=False)
    said = page.partition("```text\n")[2].partition("```")[0]
    assert (done.returncode, done.stdout) == (0, said), done.stderr


def test_several_changes_are_made_while_nobody_else_changes_the_plan(plan: Work) -> None:
    with kettlepost.changing(plan.plan) as opened_plan:
        for name in ("one.test", "two.test"):
            kettlepost.add_domain(opened_plan, name, account="acc005").commit("in one go")
        assert kettlepost.where(opened_plan, "two.test").account == "acc005"
        with pytest.raises(kettlepost.InputError, match=r"two\.test is a domain of account acc005 already"):
            kettlepost.add_domain(opened_plan, "two.test", account="acc006")
    late = kettlepost.add_domain(kettlepost.open_plan(plan.plan), "three.test", account="acc005")
    plan.run("domain", "add", "four.test", "--account", "acc009", "--yes")
    with pytest.raises(kettlepost.InputError, match="was changed meanwhile"):
        late.commit()
    for _ in range(3):
        assert plan.run("undo", "--yes").returncode == 0
    assert plan.run("undo").returncode == 2


def test_nothing_is_imported_before_it_is_used() -> None:
    code = (
        "import sys, kettlepost; print([m for m in sys.modules if m.startswith('kettlepost.')], kettlepost.__version__)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.startswith("[] ")
    code = (
        "import kettlepost; missing = [n for n in kettlepost.__all__ if getattr(kettlepost, n) is None]; print(missing)"
    )
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout == "[]\n"
    assert run("--version").returncode == 0


def test_a_look_at_an_account_leaves_nothing_in_memory(demo: tuple[Work, str]) -> None:
    """No record refers back to what refers to it, as the program runs without a collector of such circles."""
    code = (
        "import gc, sys, kettlepost; from kettlepost.core.checking import check_account; gc.disable()\n"
        "plan = kettlepost.open_plan(sys.argv[1])\n"
        "look = lambda name: check_account(plan.passing_layout(name, []))\n"
        "look('millbrook'); gc.collect(); look('millbrook'), look('harrowgate'); print(gc.collect())"
    )
    done = subprocess.run([sys.executable, "-c", code, demo[0].plan], capture_output=True, text=True, check=False)
    assert done.stdout == "0\n", done.stderr
