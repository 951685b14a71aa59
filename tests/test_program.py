"""The installed program: results, streams and exit status, as a user meets them."""

from __future__ import annotations

import contextlib
import json
import os
import re
import shlex
import signal
import subprocess
import time
from pathlib import Path

import pytest

from conftest import PROGRAM, Work, run
from kettlepost.cli.app import MODULES

PLAIN = '[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n'


def test_the_demo_walks_through_every_step(demo: tuple[Work, str]) -> None:
    laid, said = demo
    for command in (
        "survey millbrook",
        "map millbrook",
        "where lanternchoir.example",
        "check",
        "weigh barrowshop",
        "adopt millbrook",
    ):
        assert f"$ kettlepost {command}" in said
    assert "1 account checked, 1 with nothing to find: 0 stop, 0 risk, 0 note" in said
    assert run("demo", str(laid.plan.parent)).returncode == 2  # what is there is left alone


def test_check_tells_the_same_in_text_and_json(demo: tuple[Work, str]) -> None:
    done = demo[0].run("check", "--format", "json")
    told = json.loads(done.stdout)
    assert (done.returncode, told["kettlepost"], told["counts"]) == (1, 2, {"note": 10, "risk": 25, "stop": 19})
    text = demo[0].run("check").stdout
    for found in told["findings"]:
        assert all(
            words in text for words in (found["title"], found["why"], *(way["words"] for way in found["ways_out"]))
        )
        assert all(f"{p['file']}:{p['line']}" in text if p["file"] else p["found"] in text for p in found["parties"])
    assert "\x1b" not in text
    assert len(demo[0].json("check", "--account", "harrowgate")["findings"]) == 15
    assert len(demo[0].json("check", "--only", "shared-root")["findings"]) == 1
    assert len(demo[0].json("check", "--skip", "shared-root")["findings"]) == 53
    assert 'did you mean "shared-root"?' in demo[0].run("check", "--only", "shared-rot").stderr
    assert demo[0].run("check", "--account", "saltcote").returncode == 0


@pytest.mark.parametrize(
    ("address", "answers", "words"),
    [
        ("https://MillbrookRail.example/", "application", "Quillmoor 5.2.1, through index.php"),
        ("millbrookrail.example/shop/", "placeholder", "a placeholder page, index.html"),
        (
            "www.millbrookrail.example/choir/programme.html",
            "password",
            "asks for a password; behind it the file programme.html",
        ),
        ("lanternchoir.example/scores", "password", "asks for a password; behind it an empty folder"),
        ("srv7.fernhollow.example/~millbrook/old-shop", "application", "Barrowshop 3.9.0"),
        ("millbrookrail.example/nowhere", "application", "Quillmoor 5.2.1, through index.php"),
        ("timetable.millbrookrail.example", "file", "running-days.html, a page of its own"),
        ("srv7.fernhollow.example/~other", "not ours", "not one of ours"),
        ("milbrookrail.example", "not ours", "not one of ours"),
    ],
)
def test_where_says_what_answers(demo: tuple[Work, str], address: str, answers: str, words: str) -> None:
    told = demo[0].json("where", address)
    assert (told["answers"], words in told["words"]) == (answers, True), told
    if answers != "not ours":
        assert told["account"] == "millbrook"
    elif address == "milbrookrail.example":
        assert "millbrookrail.example" in told["nearest"]


def test_where_tells_every_other_address_of_the_folder(demo: tuple[Work, str]) -> None:
    assert demo[0].json("where", "lanternchoir.example")["also"] == [
        "www.lanternchoir.example/", "choir.millbrookrail.example/",
        "millbrookrail.example/choir", "www.millbrookrail.example/choir",
        "steamfair.example/choir", "www.steamfair.example/choir",
        "millbrook-rail.example/choir", "www.millbrook-rail.example/choir", "srv7.fernhollow.example/~millbrook/choir",
    ]  # fmt: skip


def test_map_shows_both_trees_and_cuts_nothing_off(work: Work) -> None:
    many = "".join(
        f'[[domain]]\nname = "s{n}.{"long-" * 12}x.example"\nkind = "addon"\nroot = "sites/s{n}"\n' for n in range(300)
    )
    work.account(many).there({"sites/s7/index.html": "Our own page about geese.", "sites/s8/a/b/c/": ""})
    text = work.run("map").stdout
    assert len(text.splitlines()) == 302
    assert all(f"  sites/s{n} " in text for n in range(300))
    by_folder = {row["folder"]: row for row in work.json("map", "--by", "folder")["accounts"]["millbrook"]}
    assert by_folder["sites/s7"]["addresses"] == [f"s7.{'long-' * 12}x.example/"]
    assert by_folder["sites/s8"]["hidden"] == 3
    assert "sites/s8/a/b/c" in {
        row["folder"] for row in work.json("map", "--by", "folder", "--every")["accounts"]["millbrook"]
    }
    assert [row["folder"] for row in work.json("map")["accounts"]["millbrook"]][:2] == ["sites/s0", "sites/s1"]


def test_check_stays_readable_with_many_accounts(work: Work) -> None:
    for n in range(120):
        second = f'[[domain]]\nname = "b{n}.example"\nkind = "addon"\nroot = "www"\n' if n % 2 else ""
        work.account(PLAIN.replace("a.example", f"a{n}.example") + second, name=f"acc{n:03}")
    done = work.run("check")
    assert done.stdout.splitlines()[-1] == "120 accounts checked, 60 with nothing to find: 60 stop, 0 risk, 0 note"
    assert len(done.stderr.splitlines()) == 1
    assert "acc000, acc001, acc002 and 117 more" in done.stderr


@pytest.mark.parametrize(
    ("words", "status", "told"),
    [
        (["survey", "millbrok", "--from", "."], 2, 'did you mean "millbrook"?'),
        (["survey", "millbrook", "--from", "nowhere"], 2, "nowhere is no folder"),
        (["survey", "millbrook", "--from", "a\x1b]0;b"], 2, "\\x1b"),
        (["where", "a.example:8080"], 2, "without port"),
        (["explain", "shared-rot"], 2, 'did you mean "shared-root"?'),
        (["check", "--account", "other"], 2, "is no account"),
        (["check", "--plan", "/nowhere"], 2, "kettlepost new FOLDER"),
        (["survey", "millbrook", "--from", "/dev/null"], 2, "is no folder"),
    ],
)
def test_what_a_user_gets_wrong_is_told_with_the_remedy(work: Work, words: list[str], status: int, told: str) -> None:
    work.account(PLAIN)
    done = run(*words, cwd=work.plan)
    assert (done.returncode, done.stdout) == (status, ""), done.stderr
    assert told in done.stderr
    assert "\x1b" not in done.stderr


def test_a_survey_that_cannot_be_stored_leaves_the_old_one(work: Work) -> None:
    work.account(PLAIN).there({"www/a": ""})
    stored = work.plan / "surveys" / "millbrook.json"
    before = stored.read_bytes()
    done = work.run("survey", "millbrook", "--from", str(work.homes / "millbrook"), preexec_fn=_no_room)
    assert (done.returncode, stored.read_bytes()) == (3, before), done.stderr
    assert "and is as it was" in done.stderr
    assert list(stored.parent.iterdir()) == [stored]


def _no_room() -> None:
    import resource

    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (64, 64))


def _has_open(pid: int, folder: Path) -> bool:
    """Whether a process has a folder below this one open: it has begun to look at it."""
    for handle in Path(f"/proc/{pid}/fd").glob("*"):
        with contextlib.suppress(OSError):
            if str(folder) in os.readlink(handle):
                return True
    return False


def test_an_interrupted_survey_leaves_the_old_one(work: Work) -> None:
    work.account(PLAIN).there({"www/a": ""})
    for n in range(20_000):
        (work.homes / "millbrook" / f"d{n}").mkdir()
    stored = work.plan / "surveys" / "millbrook.json"
    before = stored.read_bytes()
    words = ["survey", "millbrook", "--from", str(work.homes / "millbrook"), "--plan", str(work.plan)]
    with subprocess.Popen([PROGRAM, *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as running:
        while running.poll() is None and not _has_open(running.pid, work.homes):
            time.sleep(0.002)
        running.send_signal(signal.SIGINT)
        _, told = running.communicate(timeout=60)
    assert "Traceback" not in told
    assert running.returncode in (0, 130)
    if running.returncode:
        assert stored.read_bytes() == before


def test_a_closed_pipe_and_a_poor_terminal_are_no_trouble(demo: tuple[Work, str]) -> None:
    command = shlex.join([str(PROGRAM), "check", "--plan", str(demo[0].plan)])
    done = subprocess.run(f"{command} | head -1", shell=True, capture_output=True, text=True, check=True)
    assert (done.stdout[:10], done.stderr) == ("harrowgate", "")
    poor = {**os.environ, "PYTHONIOENCODING": "ascii", "TERM": "dumb"}
    assert "(home)" in demo[0].run("map", "--by", "folder", env=poor).stdout


def test_help_and_version() -> None:
    assert run("--version").stdout.startswith("kettlepost ")
    said = run("--help").stdout
    listed = set(re.findall(r"^\W+([a-z-]+)  ", said.partition("Commands")[2], re.MULTILINE))
    assert listed == set(MODULES), listed ^ set(MODULES)
    for name in ("undo", "domain", "installs"):  # a command is put together alone when it is asked for
        assert f"kettlepost {name} [OPTIONS]" in run(name, "--help").stdout
    assert "Did you mean 'survey'?" in run("survye").stderr
    assert "--install-completion" in said


def test_the_demo_tells_its_story_in_a_few_short_steps(demo: tuple[Work, str]) -> None:
    steps = re.split(r"^# ", demo[1].partition("\nNext: ")[0], flags=re.MULTILINE)[1:]
    assert 10 <= len(steps) <= 13
    assert all(len(step.strip().splitlines()) <= 2 + 15 for step in steps)
    words = [step.splitlines()[1].split()[2] for step in steps]
    work_in_order = [words.index(one) for one in ("survey", "map", "where", "check", "weigh", "place")]
    assert work_in_order == sorted(work_in_order)


@pytest.mark.proof
def test_the_demo_tells_all_of_it_with_full(demo: tuple[Work, str], tmp_path: Path) -> None:
    full = run("demo", str(tmp_path / "full"), "--full")
    assert full.returncode == 0, full.stderr
    assert "which --full shows" in demo[1]
    assert "which --full shows" not in full.stdout
    assert len(full.stdout.splitlines()) > 2 * len(demo[1].splitlines())
