"""From wish to end: deployed, confirmed, retired, forgotten; what others use stays; accounts come and go."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest

from conftest import TODAY, Work, deployed, lacking
from kettlepost.core.checking import check
from kettlepost.core.layout import join
from kettlepost.core.names import Folder
from kettlepost.core.rules import Finding
from kettlepost.core.rules.moves import own_subdomain
from kettlepost.core.steps import DeleteFolder, DropUser, survey_after
from kettlepost.core.survey import FoundApplication, FoundDatabase, FoundFolder, FoundSite, Survey
from kettlepost.render.sentences import text
from kettlepost.workspace.plan_folder import PlanFolder, read_plan
from kettlepost.workspace.surveys import survey as take
from messes import table

DEBIAN = Path(__file__).parent.parent / "build" / "debian"
BASE = table("domain", name="a.example", kind="primary", root="www")
BASED = {"name": "m_moor", "prefix": "qm3_"}
SOON = "<h1>Coming soon</h1>"
PAGE = "<h1>Trains</h1> <p>Trains run on the first Sunday of the month, from ten to four."


def moor(address: str, **keys: object) -> str:
    return table("installation", **{"application": "quillmoor", "address": address, "database": BASED} | keys)


def rules_at(work: Work, place: str) -> set[str]:
    return {found.rule for found in work.check().findings if found.at == place}


def first_way(work: Work, rule: str) -> str:
    return text(next(found for found in work.check().findings if found.rule == rule).ways_out[0].words)


def test_what_is_in_the_way_of_a_wish_is_work_and_refuses_nothing(work: Work) -> None:
    work.account(BASE).there({"www/index.html": SOON})
    placed = work.run("place", "wordpress", "a.example", "--yes")
    assert placed.returncode == 0, placed.stdout + placed.stderr
    assert "next: look at the placeholder www/index.html, and remove it" in placed.stderr
    checked = work.run("check")
    assert (checked.returncode, "1 stop (1 pending)" in checked.stdout) == (1, True)
    (found,) = (one for one in work.json("check")["findings"] if one["rule"] == "placeholder-wins")
    assert (found["pending"], [step["do"] for step in found["ways_out"][0]["steps"]]) == (
        True, ["keep-file", "delete-file"],
    )  # fmt: skip
    (weighed, *_) = work.json("weigh", "barrowshop", "a.example", "--prefer", "root")["places"]
    assert weighed["address"] != "a.example/"  # where something is planned already is a true stop
    work.account(BASE).there({"www/index.html": PAGE})
    refused = work.run("place", "wordpress", "a.example", "--yes")
    assert (refused.returncode, "folder-occupied" in refused.stderr) == (1, True)


def test_a_front_file_meets_what_lies_at_its_address(work: Work) -> None:
    work.account(BASE + moor("a.example", state="planned", folder="www/moor"))
    for page, rule in ((SOON, "placeholder-wins"), (PAGE, "front-occupied")):
        work.there({"www/index.html": page})
        assert rules_at(work, "www") == {rule}
    (work.homes / "millbrook/www/index.html").unlink()
    work.survey()
    assert rules_at(work, "www") == {"empty-root"}
    answers = work.run("where", "a.example", "--when", "planned").stdout
    assert "Quillmoor (planned there), through index.php, which starts what lies in www/moor" in answers


@pytest.mark.parametrize(
    ("base", "version", "rule"),
    [("m_moor", None, "deployed"), ("m_other", None, "folder-occupied"), ("m_moor", "4.0", "deployed")],
)
def test_a_planned_one_that_is_there_is_known_by_its_database(
    work: Work, base: str, version: str | None, rule: str
) -> None:
    work.account(BASE + moor("a.example", state="planned", version=version)).there(deployed("www", base))
    found = {one.rule: one for one in work.check().findings}
    assert rule in found
    assert not {"folder-occupied", "stale-control-file"} & found.keys() - {rule}
    confirmed = work.run("confirm", "a.example", "--yes")
    if rule == "deployed" and version is None:
        assert found["deployed"].severity == "note"
        one = read_plan(work.plan).accounts[0].installations[0]
        assert (one.state, one.version) == ("live", "5.1")
        assert not rules_at(work, "a.example/") - {"no-contact"}
    else:
        assert (confirmed.returncode, "not as it was planned" in confirmed.stderr) == (2, True)


def test_an_earlier_survey_without_it_tells_what_was_deployed_since(work: Work) -> None:
    work.account(BASE + moor("a.example/moor", state="planned")).there({"www/index.html": PAGE})
    for path, content in deployed("www/moor", "m_else").items():
        place = work.homes / "millbrook" / path
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_text(content)
    for _ in range(2):  # what came goes on having come
        take(PlanFolder(work.plan), "millbrook", str(work.homes / "millbrook"))
    (found,) = (one for one in work.check().findings if one.at == "a.example/moor" and one.rule == "deployed")
    assert (found.severity, "the database is" in text(found.title)) == ("risk", True)


def test_what_is_retired_is_forgotten_once_nothing_of_it_is_left(work: Work) -> None:
    work.account(BASE + moor("a.example/moor")).there(deployed("www/moor") | {"www/index.html": PAGE})
    assert "is live; retire it first" in work.run("forget", "a.example/moor", "--yes").stderr
    assert work.run("retire", "a.example/moor", "--yes").returncode == 0
    left = work.run("forget", "a.example/moor", "--yes")
    assert (left.returncode, "is still in www/moor" in left.stderr) == (2, True)
    shutil.rmtree(work.homes / "millbrook/www/moor")
    work.survey()
    assert rules_at(work, "a.example/moor") == {"entry-can-go"}
    assert work.run("forget", "a.example/moor", "--yes").returncode == 0
    assert not read_plan(work.plan).accounts[0].installations


def seen_at(work: Work, seen: str, **shown: str) -> None:
    """A.example/moor was opened, when and with what the world has of it."""
    page = {"url": "http://a.example/moor/", "at": "192.0.2.10", "seen": seen, "status": 200, **shown}
    (work.plan / "surveys/millbrook.probe.json").write_text(json.dumps({"account": "millbrook", "pages": [page]}))


def test_what_visitors_were_seen_to_get_is_asked_before_it_is_live_or_gone(work: Work) -> None:
    own = '[account]\nname = "millbrook"\nip_addresses = ["192.0.2.10"]\n'
    work.account(own + BASE + moor("a.example/moor", state="planned")).there(deployed("www/moor"))
    seen_at(work, "2020-01-01T00:00:00Z", kind="placeholder", what="nginx")  # before the survey
    early = work.run("confirm", "a.example/moor", "--show")
    assert (early.returncode, "kettlepost probe a.example/moor" in early.stdout + early.stderr) == (0, True)
    for shown in ({"kind": "placeholder", "what": "nginx"}, {"kind": "application", "what": "wordpress"},
                  {"kind": "page", "shows": "www/index.html"}):  # fmt: skip
        seen_at(work, "2999-01-01T00:00:00Z", **shown)
        refused = work.run("confirm", "a.example/moor", "--yes")
        assert (refused.returncode, "http://a.example/moor/ shows" in refused.stderr) == (2, True), refused.stderr
    seen_at(work, "2999-01-01T00:00:00Z", kind="application", what="quillmoor")
    assert work.run("confirm", "a.example/moor", "--yes").returncode == 0
    assert work.run("retire", "a.example/moor", "--yes").returncode == 0
    shutil.rmtree(work.homes / "millbrook/www/moor")
    work.survey()
    still = work.run("forget", "a.example/moor", "--yes")
    assert (still.returncode, "http://a.example/moor/ still shows it" in still.stderr) == (2, True), still.stderr
    seen_at(work, "2999-01-01T00:00:00Z", kind="error")
    assert work.run("forget", "a.example/moor", "--yes").returncode == 0


def test_a_domain_that_moves_says_so_until_it_has(work: Work) -> None:
    inner = table("domain", name="b.example", kind="addon", root="www/b") + moor("b.example")
    work.account(BASE + inner).there(deployed("www/b") | {"www/index.html": PAGE})
    moved = work.json("domain", "root", "b.example", "b", "--yes")
    assert [step["do"] for step in moved["steps"]] == [
        "copy-folder", "change-root", "open-page", "add-lines", "set-aside-folder", "look-again", "confirm",
    ]  # fmt: skip
    assert {one["rule"] for one in moved["adds"]} == {"root-to-move"}
    assert {one["rule"] for one in moved["ends"]} == {"nested-root"}
    assert "did not" not in work.run("confirm", "b.example", "--yes").stderr
    assert read_plan(work.plan).accounts[0].domains[1].root_now == "www/b"
    shutil.move(work.homes / "millbrook/www/b", work.homes / "millbrook/b")
    work.survey()
    assert "has moved" in next(text(one.title) for one in work.check().findings if one.rule == "root-to-move")
    assert work.run("confirm", "b.example", "--yes").returncode == 0
    assert not [one for one in work.check().findings if one.severity != "note"]


def surveyed(*folders: str, **lists: list[object]) -> Survey:
    there = [FoundFolder(Folder("")), *(FoundFolder(Folder(name), files=3) for name in folders)]
    return Survey(1, "millbrook", "2026-11-23T06:00:00Z", "here", there, **lists)  # type: ignore[arg-type]


def old(folder: str, base: FoundDatabase | None = None) -> FoundApplication:
    return FoundApplication(Folder(folder), "quillmoor", ["quill.php"], database=base, condition="copy")


def found_at(work: Work, tables: str, survey: Survey, place: str) -> Finding:
    work.account(tables)
    layout = join(read_plan(work.plan), {"millbrook": survey})
    return next(one for one in check(layout, TODAY).findings if one.at == place and one.rule == "unmapped-site")


@pytest.mark.parametrize(
    ("tables", "base", "gone", "stays"),
    [
        ("", FoundDatabase("m_old", "u_old"), "the database m_old with its user u_old", None),
        (moor("a.example"), FoundDatabase("m_moor", prefix="old_"), "which begin with old_", "m_moor itself"),
        (moor("a.example"), FoundDatabase("m_moor", prefix="qm3_"), None, "all tables in the database m_moor"),
        (moor("a.example"), FoundDatabase("m_moor", prefix="qm"), "but not with qm3_", "m_moor itself"),
        (moor("a.example", database=None), FoundDatabase("m_old"), None, "until it is known which a.example/ uses"),
        ("", FoundDatabase("m_far", host="db.example"), None, "until it is known that nobody else uses it"),
        (table("domain", name="b.example", kind="addon", root="old/b"), None, None, "old/b, the root of b.example"),
        (table("path_alias", address="a.example/m", folder="old/m"), None, None, "to which a.example/m leads"),
        (moor("a.example", folder="old/in"), None, None, "where a.example/ is installed"),
    ],
)
def test_what_others_use_of_a_copy_stays(
    work: Work, tables: str, base: FoundDatabase | None, gone: str | None, stays: str | None
) -> None:
    survey = surveyed("www", "old", "old/b", "old/m", "old/in", applications=[old("old", base)])
    way = found_at(work, BASE + tables, survey, "old").ways_out[0]
    assert text(way.words).startswith("keep a copy of old")
    assert (gone is None) or gone in text(way.words)
    assert ("; what stays: " in text(way.words)) is (stays is not None)
    assert (stays or "") in text(way.words)
    removal = next(step for step in way.steps if isinstance(step, DeleteFolder))
    assert bool(removal.stays) is (stays is not None and stays.startswith(("old/", "to ", "where ")))
    assert any(isinstance(step, DropUser) for step in way.steps) == (gone is not None and "user" in gone)


def test_a_site_and_a_link_into_a_copy_keep_their_part_of_it(work: Work) -> None:
    sites = [FoundSite(Folder("old/page"), "static site", ["index.html"])]
    survey = surveyed("www", "old", "old/page", applications=[old("old")], sites=sites)
    assert "old/page, a static site" in text(found_at(work, BASE, survey, "old").ways_out[0].words)


def test_the_live_site_keeps_its_tables_and_the_rehearsal_gets_its_own(work: Work) -> None:
    head = '[account]\nname = "millbrook"\n\n'
    for tables in (
        moor("staging.a.example") + moor("a.example"),
        moor("a.example/x", state="planned") + moor("a.example"),
    ):
        sub = table("domain", name="staging.a.example", kind="subdomain", root="staging")
        work.account(head + BASE + sub + tables)
        (found,) = (one for one in work.check().findings if one.rule == "same-tables")
        assert found.parties[0].name == "a.example/"
        way = found.ways_out[0]
        assert "a.example/ the" not in text(way.words).replace("staging.a.example/ the", "")
        assert bool(way.steps) is ("staging" in tables), way


def test_adopting_looks_at_all_accounts_and_leaves_copies_out(work: Work) -> None:
    other = table("domain", name="b.example", kind="primary", root="www")
    work.account(BASE + table("domain", name="staging.a.example", kind="subdomain", root="staging"))
    work.there(deployed("www") | deployed("staging", "m_try"))
    work.account(other, "second").there(deployed("www"), "second")
    shown = work.run("adopt", "--show").stdout
    assert shown.count("to adopt: Quillmoor 5.1 in www") == 2
    assert "staging: it looks like a copy or a staging site of a.example/" in shown
    assert work.run("adopt", "--yes").returncode == 0
    taken = work.run("adopt", "millbrook", "--with", "staging", "--yes")
    assert 'staging_of = "a.example"' in taken.stdout
    again = work.run("adopt", "--yes")
    assert (again.returncode, "nothing is left to adopt in second" in again.stdout) == (0, True)


def test_many_that_nobody_wrote_down_are_one_finding(work: Work) -> None:
    work.account(BASE).there({path: text for n in range(5) for path, text in deployed(f"www/s{n}").items()})
    (found,) = (one for one in work.json("check")["findings"] if one["rule"] == "unplanned-application")
    assert found["ways_out"][0]["words"] == "write them down: kettlepost adopt millbrook"
    assert len(found["parties"]) == 5


def test_accounts_are_begun_listed_renamed_and_dropped(work: Work) -> None:
    work.account(BASE).there({"www/index.html": PAGE})
    added = work.run("account", "add", "hill", "--home", "/home/hill", "--client", "Hill Farm", "--yes")
    assert added.returncode == 0, added.stderr
    assert [row["account"] for row in work.json("account", "list")["accounts"]] == ["hill", "millbrook"]
    for words, told in (
        (("account", "add", "hill"), "already"),
        (("account", "add", "x", "--package", "coper"), 'did you mean "copper"'),
        (("account", "drop", "millbrook"), "still holds 1 domain"),
        (("account", "rename", "hill", "millbrook"), "already"),
    ):
        done = work.run(*words, "--yes")
        assert (done.returncode, told in done.stderr) == (2, True), done.stderr
    before = (work.plan / "surveys/millbrook.json").read_bytes()
    assert work.run("account", "rename", "millbrook", "mill", "--yes").returncode == 0
    assert work.run("check", "mill").stderr == ""
    assert work.run("undo", "--yes").returncode == 0
    assert (work.plan / "surveys/millbrook.json").read_bytes() == before
    assert work.run("account", "drop", "hill", "--yes").returncode == 0
    assert work.run("account", "list", "--columns", "account").stdout == "account\nmillbrook\n1 in all\n"


def test_a_finding_is_accepted_by_a_command(work: Work) -> None:
    work.account(BASE + table("domain", name="b.example", kind="addon", root="www/b"))
    for at, told in (("www/c", 'did you mean "www/b"'), ("www/*", "")):
        done = work.run(
            "accept", "nested-root", "--at", at, "--because", "moves in spring", "--until", "2027-01-31", "--yes"
        )
        assert told in done.stderr
        assert done.returncode == (2 if told else 0)
    assert "until = 2027-01-31" in (work.plan / "accounts/millbrook.toml").read_text()
    assert work.run("check", "--today", "2027-01-31").returncode == 0


def test_a_list_of_wishes_is_entered_as_one_change(work: Work) -> None:
    work.account(BASE)
    before = (work.plan / "accounts/millbrook.toml").read_bytes()
    (work.plan / "w.csv").write_text("application,domain\nWordPress,a.example\nBARROWSHOP,a.example\nnone,a.example\n")
    done = work.run("place", "--wishes", str(work.plan / "w.csv"), "--yes")
    assert (done.returncode, "line 4: no place for none" in done.stdout) == (0, True), done.stderr
    assert [one.application for one in read_plan(work.plan).accounts[0].installations] == ["wordpress", "barrowshop"]
    assert work.run("undo", "--yes").returncode == 0
    assert (work.plan / "accounts/millbrook.toml").read_bytes() == before


def test_what_hangs_on_a_domain_is_named_before_it_goes(work: Work) -> None:
    more = table("domain", name="s.a.example", kind="subdomain", root="s")
    more += table("domain", name="c.example", kind="alias", of="a.example") + table("certificate", covers=["a.example"])
    work.account(BASE.replace('root = "www"', 'root = "www"\nmail = true') + more)
    told = work.run("domain", "drop", "a.example", "--show").stdout
    for words in ("its mail, as the plan says", "1 subdomain: s.a.example", "1 alias: c.example", "1 certificate"):
        assert f"hangs on a.example and its name servers: {words}" in told


def test_a_survey_says_when_it_is_of_another_home_and_can_remember_its_own(work: Work) -> None:
    work.account(BASE).there({"www/index.html": PAGE})
    (work.homes / "other").mkdir()
    strange = work.run("survey", "millbrook", "--from", str(work.homes / "other"))
    assert (strange.returncode, "None of the roots of millbrook (www) is there" in strange.stderr) == (0, True)
    own = work.run("survey", "millbrook", "--from", str(work.homes / "millbrook"), "--remember")
    assert "None of the roots" not in own.stderr
    assert read_plan(work.plan).accounts[0].settings.survey_from == str(work.homes / "millbrook")
    assert work.run("survey", "millbrook").returncode == 0


@pytest.mark.proof
@pytest.mark.parametrize("where", ["root", "subfolder", "subdomain"])
@pytest.mark.parametrize(
    "package",
    ["wordpress:wordpress:wordpress", "phpmyadmin:phpmyadmin:phpmyadmin", "roundcube-core:roundcube:roundcube",
     "shaarli:shaarli:shaarli", "cacti:cacti:cacti/site", "postfixadmin:postfixadmin:postfixadmin",
     "tt-rss:ttrss:tt-rss/www", "adminer:adminer:adminer"],
)  # fmt: skip
def test_a_real_application_in_its_place_has_nothing_to_be_found(work: Work, package: str, where: str) -> None:
    name, application, inside = package.split(":")
    source = DEBIAN / name / "usr/share" / inside
    if not source.is_dir():
        lacking("build/debian")
    folder, address = {
        "root": ("www", "a.example"), "subfolder": ("www/app", "a.example/app"), "subdomain": ("app", "app.a.example"),
    }[where]  # fmt: skip
    home = work.homes / "millbrook"
    shutil.copytree(source, home / folder, symlinks=True)
    tables = BASE + (
        table("domain", name="app.a.example", kind="subdomain", root="app") if where == "subdomain" else ""
    )
    keys: dict[str, object] = {"contact": "keeper@a.example"}
    for link in [path for path in (home / folder).rglob("*") if path.is_symlink()]:
        if not link.exists() or not link.resolve().is_relative_to(home):
            link.unlink()  # into what a package keeps elsewhere, whether that is installed here or not
    for config in {"cacti": ["include/config.php"], "ttrss": ["config.php"]}.get(application, []):
        (home / folder / config).write_text("<?php\n")
    if application == "wordpress":
        keys["database"] = {"name": "m_wp", "prefix": "x7_"}
        settings = "<?php define('DB_NAME', 'm_wp'); define('DB_USER', 'm_u'); $table_prefix = 'x7_';"
        (home / folder / "wp-config.php").write_text(settings)
    work.account(tables + table("installation", application=application, address=address, **keys))
    work.there({} if where == "root" else {"www/index.html": PAGE})
    assert [(found.rule, found.title) for found in work.check().findings] == []


def test_a_move_takes_along_what_is_its_own_and_nothing_else(work: Work) -> None:
    inner = table("domain", name="b.example", kind="addon", root="www/b") + moor("b.example")
    other = table("installation", application="barrowshop", address="a.example", folder="www/b/apart")
    work.account(BASE + inner + other).there(deployed("www/b") | {"www/b/apart/shop.php": "", "www/index.html": PAGE})
    moved = work.json("domain", "root", "b.example", "b", "--show")["steps"]
    assert [step["stays"] for step in moved if step["do"].endswith("-folder")] == [["www/b/apart"], ["www/b/apart"]]
    nested = next(one for one in work.check().findings if one.rule == "nested-installation" and one.at == "www/b/apart")
    assert all("www/b/apart, which others use" not in text(way.words) for way in nested.ways_out)
    survey = work.stored()
    layout = join(read_plan(work.plan), {"millbrook": survey}).accounts["millbrook"]
    own = own_subdomain(layout, layout.account.installations[0])  # at its domain's root, which stays
    assert own is not None
    after = survey_after(survey, own.steps)
    assert {found.folder for found in after.applications if found.application == "quillmoor"} == {own.steps[0].root}
    assert {"www/b", "www/b/apart"} <= {found.folder for found in after.folders}


def test_two_that_are_live_in_one_folder_are_not_moved_apart(work: Work) -> None:
    work.account(BASE + moor("a.example") + moor("a.example", application="barrowshop")).there(deployed("www"))
    ways = [way for one in work.check().findings for way in one.ways_out]
    assert not [step for way in ways for step in way.steps if isinstance(step, DeleteFolder) and step.folder == "www"]
