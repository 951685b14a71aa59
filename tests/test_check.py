"""`check` as it is run: its formats and options, what it remembers, what it folds, and crowds."""

from __future__ import annotations

import csv
import json
import os
import re
import shutil
from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree

import jsonschema
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import TODAY, Work, examples
from kettlepost.core.plan import Change, changed_text
from kettlepost.workspace import check_cache
from kettlepost.workspace.check_cache import check_plan
from kettlepost.workspace.plan_folder import PlanFolder
from test_rules import BASE, domain, installation

SHARED = BASE + domain("b.example", "www")


def test_sarif_is_valid_against_the_published_schema(demo: tuple[Work, str]) -> None:
    schema = json.loads((Path(__file__).parent / "sarif-schema-2.1.0.json").read_text())
    told = json.loads(demo[0].run("check", "--format", "sarif").stdout)
    jsonschema.validate(told, schema)
    (run,) = told["runs"]
    plain = demo[0].json("check")["findings"]
    assert [one["ruleId"] for one in run["results"]] == [one["rule"] for one in plain]
    for result, found in zip(run["results"], plain, strict=True):
        assert run["tool"]["driver"]["rules"][result["ruleIndex"]]["id"] == found["rule"]
        assert result["level"] == {"stop": "error", "risk": "warning", "note": "note"}[found["severity"]]
        written = [party for party in found["parties"] if party["file"]]
        if written:
            physical = result["locations"][0]["physicalLocation"]
            assert physical["artifactLocation"]["uri"] == written[0]["file"]
            assert physical["region"]["startLine"] == written[0]["line"]
    assert len({one["partialFingerprints"]["finding/v1"] for one in run["results"]}) == len(plain)


def test_every_format_tells_every_finding(demo: tuple[Work, str]) -> None:
    plain = demo[0].json("check")["findings"]
    suites = ElementTree.fromstring(demo[0].run("check", "--format", "junit").stdout)
    assert int(suites.attrib["failures"]) == len(suites.findall(".//failure")) == len(plain)
    assert {suite.attrib["name"] for suite in suites} == {"harrowgate", "millbrook", "pennywharf", "saltcote"}
    assert suites.find(".//testsuite[@name='saltcote']/testcase[@name='nothing to find']") is not None
    rows = list(csv.DictReader(demo[0].run("check", "--format", "csv").stdout.splitlines()))
    assert [(row["rule"], row["at"]) for row in rows] == [(one["rule"], one["at"]) for one in plain]
    assert all(row["way out"] == one["ways_out"][0]["words"] for row, one in zip(rows, plain, strict=True))
    page = demo[0].run("check", "--format", "markdown").stdout
    assert page.count("\n- **") == len(plain)
    assert page.count("\n## ") == 3
    assert page.count("  - [ ] ") == sum(len(one["ways_out"]) for one in plain)


def test_hostile_names_do_no_harm_in_any_format(work: Work) -> None:
    work.account(domain("a.example", "=cmd|x/*_[y](z)<b>`", "primary") + domain("b.example", "=cmd|x/*_[y](z)<b>`"))
    rows = list(csv.reader(work.run("check", "--format", "csv", "--only", "shared-root").stdout.splitlines()))
    assert not [cell for row in rows for cell in row if cell[:1] in "=+@" and cell]
    page = work.run("check", "--format", "markdown", "--only", "shared-root").stdout
    assert "\\*\\_\\[y\\](z)\\<b\\>\\`" in page
    ElementTree.fromstring(work.run("check", "--format", "junit").stdout)
    assert json.loads(work.run("check", "--format", "sarif").stdout)["version"] == "2.1.0"


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--only", "shared-rot"], 'did you mean "shared-root"?'),
        (["--skip", "nonsense"], "is no rule"),
        (["--account", "milbrook"], 'did you mean "millbrook"?'),
        (["--today", "tomorrow"], "--today"),
        (["--format", "yaml"], "--format"),
    ],
)
def test_a_wrong_option_names_the_right_one(work: Work, words: list[str], told: str) -> None:
    done = work.account(SHARED).run("check", *words)
    assert (done.returncode, told in done.stderr) == (2, True)


def test_only_and_skip_fold_only_what_is_asked(work: Work) -> None:
    tables = SHARED + installation("a.example/x") + installation("b.example/x", "quillmoor")
    work.account(tables)
    whole = [(one["rule"], one["follows"]) for one in work.json("check", "--skip", "no-contact")["findings"]]
    assert [rule for rule, _ in whole] == ["shared-root"]
    assert "end in one folder, www/x" in whole[0][1][0]
    assert "so       barrowshop at a.example/x" in work.run("check").stdout
    assert [one["rule"] for one in work.json("check", "--only", "same-folder")["findings"]] == ["same-folder"]


def test_a_day_given_ends_an_acceptance(work: Work) -> None:
    accept = '[[accept]]\nfinding = "shared-root"\nat = "www"\nbecause = "for now"\nuntil = 2027-01-31\n'
    work.account(SHARED + accept)
    assert work.run("check", "--today", "2027-01-31").returncode == 0
    assert "1 accepted" in work.run("check", "--today", "2027-01-31").stdout
    told = work.json("check", "--today", "2027-02-01")
    assert [one["rule"] for one in told["findings"]] == ["shared-root", "stale-accept"]


def test_a_survey_that_was_not_told_of_a_root_is_said_to_be_old(work: Work) -> None:
    work.account(BASE).there({"www/index.html": "Our own page about geese and ganders."})
    path = work.plan / "accounts/millbrook.toml"
    path.write_text(path.read_text() + "# a word more changes nothing that a survey looks at\n")
    assert work.run("check").stderr == ""
    work.account(BASE + domain("b.example", "b"))
    assert "before the plan named all of its roots" in work.run("check").stderr
    assert work.json("check")["outdated"] == ["millbrook"]
    (work.plan / "surveys/millbrook.json").unlink()
    assert "checked on the plan alone" in work.run("check").stderr


def findings(work: Work, workers: int = 1) -> list[tuple[str, str, str]]:
    found = check_plan(PlanFolder(work.plan), TODAY, None, None, workers).findings
    return [(one.account, one.rule, one.title) for one in found]


def unremembered(work: Work) -> list[tuple[str, str, str]]:
    shutil.rmtree(work.plan / ".kettlepost", ignore_errors=True)
    return findings(work)


STEPS: dict[str, Callable[[Work], object]] = {
    "account": lambda work: work.account(SHARED + installation("b.example/y"), "two"),
    "same size": lambda work: work.account(SHARED.replace('root = "www"', 'root = "wwv"'), "one"),
    "survey": lambda work: work.there({f"www/{'x' * 9}.sql": "rows"}, "one"),
    "no survey": lambda work: (work.plan / "surveys/one.json").unlink(missing_ok=True),
    "settings": lambda work: (work.plan / "kettlepost.toml").open("a").write(f"\n[package.p{os.urandom(4).hex()}]\n"),
    "gone": lambda work: (work.plan / "accounts/two.toml").unlink(missing_ok=True),
    "damaged": lambda work: (work.plan / ".kettlepost/checked").write_bytes(b"\x93\xa1x"),
    "cut": lambda work: os.truncate(work.plan / ".kettlepost/checked", 40),
    "touched": lambda work: os.utime(work.plan / "accounts/one.toml", (1, 1)),
}


@settings(max_examples=examples(12), suppress_health_check=list(HealthCheck), deadline=None)
@given(st.lists(st.sampled_from(sorted(STEPS)), min_size=1, max_size=4))
def test_what_is_remembered_never_differs_from_what_is_so(
    tmp_path_factory: pytest.TempPathFactory, steps: list[str]
) -> None:
    work = Work(tmp_path_factory.mktemp("remembered"))
    work.account(BASE + installation("a.example/x"), "one").account(domain("a.example", "w"), "two").there(
        {"www/i": ""}, "one"
    )
    findings(work)
    for step in steps:
        STEPS[step](work)
        told = findings(work)
        assert told == findings(work), step
        assert told == unremembered(work), step


def test_only_what_changed_is_asked_again(work: Work, monkeypatch: pytest.MonkeyPatch) -> None:
    for n in range(50):
        work.account(domain(f"s{n}.example", "www", "primary"), f"acc{n}")
    whole = findings(work, workers=2)
    for path in (work.plan / "accounts").iterdir():
        os.utime(path, ns=(10**18, 10**18))
    asked: list[str] = []
    real = check_cache.check_account
    monkeypatch.setattr(check_cache, "check_account", lambda here: (asked.append(here.name), real(here))[1])
    assert findings(work) == whole
    assert asked == []  # files that were only touched hold what they held
    work.account(domain("s7.example", "new", "primary"), "acc7")
    findings(work)
    assert asked == ["acc7"]
    os.chmod(work.plan / ".kettlepost/checked", 0o666)
    findings(work)
    assert len(asked) == 51  # what anybody could have written is not believed


def test_a_folder_that_cannot_be_written_to_only_costs_time(work: Work) -> None:
    work.account(SHARED)
    (work.plan / ".kettlepost").write_text("in the way")
    assert "both lead to www" in work.run("check").stdout
    assert (work.plan / ".kettlepost").read_text() == "in the way"


@pytest.mark.parametrize(("many", "at"), [("www", "www"), ("www/s{n}", "www")])
def test_a_crowd_is_one_finding_with_all_its_parties(work: Work, many: str, at: str) -> None:
    work.account(BASE + "".join(domain(f"s{n}.example", many.format(n=n)) for n in range(60)))
    (found,) = work.json("check")["findings"]
    assert (found["at"], len(found["parties"])) == (at, 61)
    changed = changed_text(
        (work.plan / "accounts/millbrook.toml").read_text(),
        [Change(**change) for change in found["ways_out"][0]["changes"]],
    )
    roots = re.findall(r'root = "(.+)"', changed)
    assert len(set(roots)) == 61
    (work.plan / "accounts/millbrook.toml").write_text(changed)
    (still,) = work.json("check")["findings"]
    assert (still["rule"], len(still["parties"])) == ("root-to-move", 60)


def test_changes_keep_comments_and_order() -> None:
    text = '# ours\n[account]\nname = "a"  # short\n\n[[domain]]\nname = "x.example"\nroot = "www"   # keep me\n# last\n[[domain]]\nname = "y.example"\n'
    changed = changed_text(
        text,
        [
            Change("a", "domain", 0, {"root": "new", "kind": "addon"}),
            Change("a", "domain", 1, drop=True),
            Change("a", "installation", None, {"application": "q", "database": {"name": "d"}}),
            Change("a", "account", None, {"package": "tin"}),
        ],
    )
    assert changed.startswith(
        '# ours\n[account]\nname = "a"  # short\npackage = "tin"\n\n[[domain]]\nname = "x.example"\n'
    )
    assert 'root = "new"   # keep me\nkind = "addon"\n# last\n' in changed
    assert "y.example" not in changed
    assert changed.endswith('[[installation]]\napplication = "q"\ndatabase = { name = "d" }\n')
    assert changed_text(changed, [Change("a", "domain", 0, drop=True)]).count("[[domain]]") == 0


def test_among_many_accounts_every_fault_is_told_at_once(work: Work) -> None:
    for n in range(60):
        work.account(domain(f"s{n}.example", "www", "primary"), f"acc{n}")
    assert work.run("check").returncode == 0
    for n in (3, 41):
        path = work.plan / f"accounts/acc{n}.toml"
        path.write_text(path.read_text().replace("kind", "knd"))
    done = work.run("check")
    assert done.returncode == 2
    assert all(f'accounts/acc{n}.toml:6: "knd" is no key' in done.stderr for n in (3, 41))
    work.account(domain("s3.example", "www", "primary"), "acc3").account(domain("s41.example", "www"), "acc41")
    assert work.run("check").returncode == 0
    (work.plan / "surveys").mkdir()
    (work.plan / "surveys/acc7.json").write_text("{}")
    done = work.run("check")
    assert (done.returncode, "surveys/acc7.json: not a survey" in done.stderr) == (0, True)
    assert "60 accounts checked" in done.stdout
    assert "acc7" in work.json("check")["unsurveyed"]
    (work.plan / "surveys/acc7.json").unlink()
    whole = work.json("check")
    assert (len(whole["accounts"]), whole["accounts"][:3]) == (60, ["acc0", "acc1", "acc10"])
    assert work.json("check", "--account", "acc9")["accounts"] == ["acc9"]
