"""Two states held against each other: what becomes of addresses, and that it is what a visitor is told of each."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
from pathlib import Path
from xml.etree import ElementTree

import pytest

import kettlepost
from conftest import DEMO_SETTINGS, Work, deployed
from kettlepost.core.answering import Answers, Request
from kettlepost.core.comparing import AnswerState, compare_answers, differences, known_addresses
from kettlepost.demo.grown import grown
from kettlepost.demo.scaffold import lay_out_tree
from messes import table

PAGE = (
    "<h1>Trains</h1> <p>Trains run on the first Sunday of the month, from ten to four, and at other times by request."
)
BASE = table("domain", name="a.example", kind="primary", root="www") + table(
    "domain", name="b.example", kind="addon", root="b"
)
TREE = deployed("www/moor") | {"www/index.html": PAGE, "b/index.html": f"{PAGE} Here, too.", "b/old/index.html": PAGE}


def moor(**keys: object) -> str:
    own = {"application": "quillmoor", "address": "a.example/moor", "database": {"name": "m_moor", "prefix": "qm3_"}}
    return table("installation", **own | keys)


def compared(work: Work, *words: str) -> dict[str, tuple[str, str, str]]:
    """What becomes of each address and why, and where visitors end up."""
    found = work.run("compare", *words, "--format", "json")
    told = json.loads(found.stdout)
    assert found.returncode == bool(told["differences"]), found.stderr
    assert sum(told["counts"].values()) == len(told["differences"])
    return {one["address"]: (one["becomes"], one["because"], one["end"] or "") for one in told["differences"]}


def test_what_becomes_of_each_address_is_told_and_why(work: Work) -> None:
    more = table("domain", name="c.example", kind="addon", root="c", state="planned")
    shop = table("installation", application="barrowshop", address="b.example/old", state="planned")
    old = table("domain", name="old.example", kind="addon", root="o") + table(
        "domain", name="notes.example", kind="addon", root="www/moor/notes"
    )
    tree = TREE | {
        "www/moor/notes/index.html": f"{PAGE} Of others.",
        "o/.htaccess": "Redirect 301 / http://a.example/moor/\n",
    }
    work.account(BASE + more + old + shop + moor(state="retired")).there(tree)
    told = compared(work)
    assert told["a.example/moor/"] == ("lost", "retired", "")
    assert told["a.example/moor/index.php"][0] == "lost"
    assert told["old.example/"] == ("lost", "retired", "a.example/moor")  # which leads there as before
    assert "a.example/moor/notes/index.html" not in told  # which others use, and stays
    files = [url for url in told if re.fullmatch(r"a\.example/moor/[^/]+", url)]
    assert files == sorted(files) != []  # in the same order each time
    assert "b.example/old/" not in told  # where a page goes on hiding what is to come
    assert told["b.example/old/till.php"] == ("new", "installed", "")
    assert not any(url.startswith(("a.example/index", "b.example/index")) for url in told)
    assert not compared(work, "now", "now")
    assert compared(work, "--https")["a.example/moor/"][0] == "lost"
    assert "a.example/moor/" in compared(work, "planned", "now")


def test_what_nobody_looked_at_is_not_called_the_same(work: Work) -> None:
    work.account(BASE)
    told = work.run("compare")
    assert (told.returncode, "nobody has surveyed millbrook" in told.stdout) == (0, True)
    (work.plan / "accounts/millbrook.toml").unlink()
    assert (work.run("compare").returncode, "no account yet" in work.run("compare").stderr) == (2, True)


def test_what_the_last_survey_shows_otherwise_is_told_by_address(work: Work) -> None:
    work.account(BASE + moor()).there(TREE | {"www/gone.pdf": "%PDF"})
    assert work.run("compare", "before").returncode == 2  # there is none before
    work.run("survey", "millbrook", "--from", str(work.homes / "millbrook"))
    gone = next(path for path in sorted(TREE) if path.startswith("www/moor/") and path.endswith("index.php"))
    (work.homes / "millbrook" / gone).unlink()
    (work.homes / "millbrook/www/new.html").write_text("<p>New</p>")
    (work.homes / "millbrook/www/gone.pdf").unlink()
    work.run("survey", "millbrook", "--from", str(work.homes / "millbrook"))
    told = compared(work, "before")
    assert told[f"a.example/{gone.removeprefix('www/')}"][0] == "lost"
    assert told["a.example/new.html"][0] == "new"
    assert compared(work, "now", "before")["a.example/new.html"][0] == "lost"
    assert not compared(work, "before", "before")
    assert told["a.example/gone.pdf"][0] == "lost"
    assert "not kept" not in work.run("compare", "before").stderr
    shutil.rmtree(work.plan / ".kettlepost/before")
    assert "a.example/gone.pdf" not in compared(work, "before")
    assert "not kept" in work.run("compare", "before").stderr  # what files were called


def test_earlier_states_come_from_git_and_other_folders(work: Work, tmp_path: Path) -> None:
    work.account(BASE + moor() + table("domain", name="d.example", kind="addon", root="www")).there(TREE)

    def git(*words: str) -> None:
        own = ["-c", "user.name=a", "-c", "user.email=a@a.example", "-c", "commit.gpgsign=false"]
        subprocess.run(["git", "-C", str(work.plan), *own, *words], check=True, capture_output=True)

    git("init", "-q")
    git("add", "-A")
    git("commit", "-qm", "as it was")
    shutil.copytree(work.plan, tmp_path / "copy")
    assert work.run("account", "rename", "millbrook", "brook", "--yes").returncode == 0
    assert not compared(work, "HEAD")  # of the same name and folders, whatever the account is called
    assert work.run("undo", "--yes").returncode == 0
    path = work.plan / "accounts/millbrook.toml"
    path.write_text(
        path.read_text()
        .replace('root = "b"', 'redirect_to = "a.example/moor"')
        .replace('kind = "addon"\nroot = "www"', 'kind = "addon"\nroot = "b"')
    )
    for before in ("HEAD", str(tmp_path / "copy")):
        told = compared(work, before)
        assert told["b.example/old/"] == ("lost", "sent", "a.example/moor/old")
        assert told["b.example/"] == ("elsewhere", "sent", "a.example/moor")
        assert told["d.example/moor/"] == ("lost", "root", "")
        assert told["d.example/index.html"][:2] == ("other", "root")
        assert told["d.example/old/"][0] == "new"
        assert not any(url.startswith("a.example/") for url in told)
    for wrong, says in (
        ("nothing-like-it", "no state"),
        ("$(id)", "no state"),
        ("HEAD:accounts", "no state"),
        ("plannd", "did you mean"),
    ):
        refused = work.run("compare", wrong)
        assert (refused.returncode, says in refused.stderr) == (2, True), refused.stderr
    text = work.run("compare", "HEAD", env={"COLUMNS": "80"})
    assert (text.returncode, "lost" in text.stdout, "because  it leads to another folder" in text.stdout) == (
        1,
        True,
        True,
    )
    root = ElementTree.fromstring(work.run("compare", "HEAD", "--format", "junit").stdout)
    assert int(root.attrib["failures"]) == len(root.findall(".//failure")) > 0
    assert work.run("compare", "HEAD", "--format", "csv").stdout.startswith("account,address,becomes")


@pytest.mark.parametrize("seed", [3, 8])
def test_of_grown_accounts_it_differs_where_visitors_are_told_something_else(work: Work, seed: int) -> None:
    made = grown(seed)
    work.account(made.tables, made.name, DEMO_SETTINGS)
    lay_out_tree(work.homes / made.name, made.tree)
    work.survey(made.name)
    layouts = work.layout()
    found = compare_answers(AnswerState(layouts, "now", "now"), AnswerState(layouts, "planned", "planned"))
    moving = {domain.name for domain in found.moving}
    told = {one.url for one in found.differences}
    now, planned = Answers(layouts, "now"), Answers(layouts, "planned")
    layout = layouts.accounts[made.name]
    known = {url for when in ("now", "planned") for url in known_addresses(layout, when)}
    assert told <= known
    for url in known:
        request = Request.parse(url)
        if request.address.host.removeprefix("www.") in moving:
            continue
        before, after = now.brief(request), planned.brief(request)
        if before == after:
            assert url not in told, url
        elif before.answers != after.answers and {before.answers, after.answers} <= {"file", "application", "nothing"}:
            assert url in told, (url, before, after)


def test_a_program_compares_as_well_and_keeps_no_more_than_it_should(
    work: Work, monkeypatch: pytest.MonkeyPatch
) -> None:
    work.account(BASE + moor(state="retired")).there(TREE)
    whole = kettlepost.compare(kettlepost.open_plan(work.plan), accounts=["millbrook"])
    assert {one.becomes.value for one in whole.differences} == {"lost"}
    monkeypatch.setattr(differences, "MOST_KEPT", 2)
    found = kettlepost.compare(kettlepost.open_plan(work.plan))
    assert ([one.url for one in found.differences], found.counts) == (
        [one.url for one in whole.differences[:2]],
        whole.counts,
    )
    monkeypatch.setattr(differences, "MOST", 3)
    assert (kettlepost.compare(kettlepost.open_plan(work.plan)).cut, found.cut) == (["millbrook"], [])
