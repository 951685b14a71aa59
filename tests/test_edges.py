"""The edges of the core: limits, first and last ones, what is absent, and what is one too many."""

from __future__ import annotations

import json

import pytest

from conftest import DEMO_SETTINGS, TODAY, Work
from kettlepost.core.checking import check
from kettlepost.core.errors import InputError
from kettlepost.core.layout import addon_host, join
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.placing import Wish, drop_domain, find_domain, find_installation, retire, weigh
from kettlepost.core.placing.batch import LARGEST
from kettlepost.core.rules import found_with
from kettlepost.core.rules.acceptances import matches
from kettlepost.core.steps import LeaveFolder, RemoveHost
from kettlepost.core.survey import (
    LARGEST_SURVEY,
    FoundApplication,
    FoundControl,
    FoundDatabase,
    FoundFolder,
    FoundLink,
    FoundOddity,
    FoundSite,
    Survey,
    compare,
    encode_survey,
    leads_out,
)
from kettlepost.core.survey.observations import _LARGEST
from kettlepost.render.sentences import text
from kettlepost.workspace.plan_folder import PlanFolder, read_plan
from kettlepost.workspace.queries import check as check_folder
from messes import scenario_of, table

BASE = table("domain", name="a.example", kind="primary", root="www")


def installed(address: str, application: str = "barrowshop", **keys: object) -> str:
    return table("installation", application=application, address=address, **keys)


def surveyed(*folders: str, **lists: list[object]) -> Survey:
    there = [FoundFolder(Folder("")), *map(FoundFolder, map(Folder, folders))]
    return Survey(1, "millbrook", "2026-11-23T06:00:00Z", "here", there, **lists)  # type: ignore[arg-type]


def found_in(work: Work, tables: str, rule: str, survey: Survey | None = None, **options: str) -> list[object]:
    work.account(tables, **options)
    layout = join(read_plan(work.plan), {"millbrook": survey} if survey is not None else {})
    return [found for found in check(layout, TODAY).findings if found.rule == rule]


def test_limits_are_what_they_are_said_to_be(work: Work) -> None:
    assert (LARGEST, LARGEST_SURVEY, _LARGEST) == (16 << 20, 512 << 20, 2**63 - 1)
    longest = {"mysql": (64, 32), "mariadb": (64, 32), "postgresql": (63, 63), "sqlite": (255, 63)}
    for server, (name, user) in longest.items():
        for more, faults in ((0, 0), (1, 1)):
            head = f'[account]\nname = "millbrook"\ndatabase_server = "{server}"\n\n'
            for base in ({"name": "n" * (name + more)}, {"name": "n", "user": "u" * (user + more)}):
                tables = head + BASE + installed("a.example/x", state="planned", database=base)
                assert len(found_in(work, tables, "database-name")) == faults, (server, base)


def test_a_survey_stores_nothing_that_is_not_there() -> None:
    folder = Folder("www")
    survey = surveyed(
        "www",
        links=[FoundLink(folder, "x", "y")],
        applications=[FoundApplication(folder, "barrowshop", ["shop.php"], database=FoundDatabase("d"))],
        sites=[FoundSite(folder, "static site", ["index.html"])],
        controls=[FoundControl(folder, ".htaccess")],
        oddities=[FoundOddity(folder, "x", "space in the name")],
    )
    stored = json.loads(encode_survey(survey))
    assert stored["folders"] == [{"folder": ""}, {"folder": "www"}]
    assert set(stored["applications"][0]) == {"folder", "application", "evidence", "database"}
    assert stored["applications"][0]["database"] == {"name": "d"}
    assert set(stored["controls"][0]) == {"folder", "file"}
    assert set(stored["oddities"][0]) == {"folder", "name", "kind"}


def test_what_leads_out_is_counted_by_levels() -> None:
    for target, leads in (("./../x", False), ("../../x", True), ("y/../../x", False), ("y//../../../x", True)):
        assert leads_out(Folder("a"), target) is leads, target


@pytest.mark.parametrize(
    ("pattern", "text", "is_so"),
    [("a*b*c", "a-b-c", True), ("a*b*c", "abc", True), ("a*bc*c", "abc", False), ("a*b*b", "ab", False)],
)
def test_the_middle_of_a_pattern_lies_between_its_ends(pattern: str, text: str, is_so: bool) -> None:
    assert matches(pattern, text) is is_so


def test_dropping_and_retiring_say_what_lies_there_only_where_it_is_known(work: Work) -> None:
    tables = BASE + table("domain", name="b.example", kind="addon", redirect_to="a.example")
    tables += table("domain", name="c.example", kind="addon", root="c") + installed("lost.test/x")
    work.account(tables)
    for survey, kinds in (
        (None, [RemoveHost]),
        (surveyed("c"), [RemoveHost, LeaveFolder]),
        (surveyed("d"), [RemoveHost]),
    ):
        scenario = scenario_of(join(read_plan(work.plan), {"millbrook": survey} if survey is not None else {}))
        steps = drop_domain(*find_domain(scenario, HostName("c.example"), None)).next
        assert [type(step) for step in steps] == kinds
        gone = drop_domain(*find_domain(scenario, HostName("b.example"), None)).next
        assert [type(step) for step in gone] == [RemoveHost]
        layout = scenario.layout("millbrook")
        lost = layout.account.installations[0]
        assert not [
            told for told in retire(layout, lost).told if "lost" in text(told.words) or "file" in text(told.words)
        ]
    with pytest.raises(InputError, match="nothing is installed at"):
        find_installation(scenario, Address.parse("a.example/none"), None)


@pytest.mark.parametrize(
    ("tables", "is_offered"),
    [
        (installed("a.example/My Shop", state="planned"), True),
        (installed("a.example/My Shop", state="planned", folder="www/apart"), False),
        (installed("a.example/My Shop", state="planned") + installed("a.example/my-shop", "quillmoor"), False),
        (table("domain", name="b.example", kind="addon", root="My Root", state="planned"), True),
        (table("domain", name="b.example", kind="addon", root="My Root"), False),  # people use it
        (
            table("domain", name="b.example", kind="addon", root="My Root", state="planned")
            + table("domain", name="c.example", kind="addon", root="my-root"),
            False,
        ),
    ],
)
def test_a_tidy_name_is_written_only_where_it_is_free(work: Work, tables: str, is_offered: bool) -> None:
    (found, *_) = found_in(work, BASE + tables, "untidy-name")
    assert bool(found.ways_out[0].changes) is is_offered  # type: ignore[attr-defined]


def test_tables_are_those_of_the_configuration_of_the_same_application(work: Work) -> None:
    def users(application: str, prefix: str, keys: dict[str, object]) -> list[tuple[str, str, str]]:
        base = FoundDatabase("m_real", prefix=prefix)
        survey = surveyed("www", applications=[FoundApplication(Folder("www"), application, ["x"], database=base)])
        work.account(BASE + installed("a.example", **keys) + installed("lost.test", database={"name": "m_lost"}))
        layout = join(read_plan(work.plan), {"millbrook": survey}).accounts["millbrook"]
        return [(user.name, user.written, user.database[0]) for user in layout.tables.users]

    planned: dict[str, object] = {"database": {"name": "m_plan", "prefix": "p_", "server": "db.example"}}
    lost = ("m_lost", "", "")
    assert users("barrowshop", "r_", planned) == [("m_real", "r_", "db.example"), lost]
    assert users("barrowshop", "", planned) == [("m_real", "p_", "db.example"), lost]
    assert users("barrowshop", "", {}) == [("m_real", "", ""), lost]
    assert users("quillmoor", "r_", planned) == [("m_plan", "p_", "db.example"), lost]
    assert users("barrowshop", "r_", planned | {"state": "planned"})[0] == ("m_plan", "p_", "db.example")
    work.account(installed("lost.test", state="retired", database={"name": "m_lost"}))
    assert not join(read_plan(work.plan), {}).accounts["millbrook"].tables.users


def test_names_and_contacts_are_judged_by_what_is_usual(work: Work) -> None:
    guessed = {"kettle": True, "example": False, "tillkeeper": False}
    for name, is_so in guessed.items():
        tables = BASE + table("domain", name="kettle.a.example", kind="subdomain", root="k")
        tables += installed("kettle.a.example", admin_user=name)
        assert bool(found_in(work, tables, "guessable-admin")) is is_so, name
    (bare,) = found_in(work, BASE + installed("a.example/x", state="planned"), "no-contact")
    assert not bare.ways_out[0].changes  # type: ignore[attr-defined]
    others = "".join(installed(f"a.example/{n}", contact=f"{who}@b.test") for n, who in enumerate("xyy"))
    (known,) = found_in(work, BASE + others + installed("a.example/n", state="planned"), "no-contact")
    assert "y@b.test" in text(known.ways_out[0].words)  # type: ignore[attr-defined]


def test_ways_out_of_addresses_come_in_the_order_of_likelihood(work: Work) -> None:
    loop = "".join(
        table("domain", name=f"{name}.example", kind="addon", redirect_to=f"{to}.example")
        for name, to in ("xy", "yz", "zx")
    )
    (circle,) = found_in(work, BASE + loop, "redirect-loop")
    assert circle.ways_out[0].changes  # type: ignore[attr-defined]
    assert "let one of" in text(circle.ways_out[-1].words)  # type: ignore[attr-defined]
    taken_there = installed("a.example/shop") + installed("aa.example/shop", "quillmoor")
    (stray,) = found_in(work, BASE + taken_there, "stray-host")
    assert "declare it" in text(stray.ways_out[0].words)  # type: ignore[attr-defined]
    (free,) = found_in(work, BASE + installed("aa.example/shop"), "stray-host")
    assert "is meant" in text(free.ways_out[0].words)  # type: ignore[attr-defined]
    assert len(free.parties) == 1  # type: ignore[attr-defined]


def test_what_concerns_two_accounts_is_told_with_either(work: Work) -> None:
    work.account(BASE, "one").account(BASE.replace("www", "web"), "two").account(
        table("domain", name="c.example", kind="primary", root="www"), "three"
    )
    for names, seen in ((["one"], 1), (["two"], 1), (["three"], 0), (None, 1)):
        checked = check_folder(PlanFolder(work.plan), names, today=TODAY)
        assert sum(found.rule == "domain-twice" for found in checked.findings) == seen, names
        assert {found.account for found in checked.findings} <= set(checked.about)


def test_findings_are_counted_for_each_installation(work: Work) -> None:
    work.account(BASE + installed("a.example/x", admin_user="admin", state="planned") + installed("a.example/y"))
    findings = check(join(read_plan(work.plan), {}), TODAY).findings
    counts = found_with(findings)["millbrook"]
    assert counts[0] == sum(any(record.number == 0 for record in found.records) for found in findings)
    assert counts[0] > 1


def test_more_addresses_are_counted(work: Work) -> None:
    alias = table("domain", name="b.example", kind="alias", of="a.example")
    work.account(BASE + alias).there({"www/dump.sql": "rows", "www/index.html": "<p>Trains run on Sundays, from ten."})
    (found,) = (one for one in work.check().findings if one.rule == "private-exposed")
    assert text(found.why).endswith("and 1 more address")


def test_a_difference_of_surveys_counts_each_file_once() -> None:
    before, after = surveyed("a"), surveyed("a", "new", "new/x", "new/y")
    after.folders[2].files, after.folders[3].files, after.folders[4].files = 1, 2, 3
    after.controls = [FoundControl(Folder("a"), ".htaccess"), FoundControl(Folder("a"), "php.ini")]
    before.controls = [FoundControl(Folder("a"), ".htaccess"), FoundControl(Folder("a"), ".user.ini")]
    told = {(one.change, one.kind, one.at, one.words) for one in compare(before, after)}
    assert ("came", "folder", "new", "6 files") in told
    assert {(change, at) for change, kind, at, _ in told if kind == "control file"} == {("came", "a"), ("went", "a")}


def test_the_best_place_is_the_first_that_is_not_stopped(work: Work) -> None:
    work.account('[account]\nname = "millbrook"\npackage = "tin"\n\n' + BASE)
    weighing = weigh(scenario_of(work.layout()), Wish("barrowshop", "a.example"))
    assert weighing.best is weighing.places[0]
    assert {use.after for use in weighing.best.uses} == {1}


def test_only_addon_domains_get_a_second_host(work: Work) -> None:
    head = '[account]\nname = "millbrook"\naddon_also = "{label}.{primary}"\n\n'
    tables = BASE + table("domain", name="b.example", kind="addon", root="b")
    tables += table("domain", name="c.a.example", kind="subdomain", root="c")
    account = work.account(head + tables).layout().accounts["millbrook"]
    assert set(account.hosts) == {"a.example", "b.example", "b.a.example", "c.a.example"}
    assert addon_host(account.account, account.account.domains[1]) == "b.a.example"
    assert set(work.account(tables).layout().accounts["millbrook"].hosts) == {"a.example", "b.example", "c.a.example"}


def test_domains_that_are_planned_are_listed_with_their_other_names(work: Work) -> None:
    tables = BASE + table("domain", name="b.example", kind="addon", root="b", state="planned", also=["bb.example"])
    tables += table("domain", name="c.example", kind="addon", root="c", state="retired", also=["cc.example"])
    layout = work.account(tables).layout()
    account = layout.accounts["millbrook"]
    assert [host in account.tree("now").hosts for host in ("bb.example", "cc.example")] == [False, True]
    assert [host in account.tree("planned").hosts for host in ("bb.example", "cc.example")] == [True, False]


def test_space_is_counted_in_megabytes_that_are_begun(work: Work) -> None:
    settings = DEMO_SETTINGS + "\n[package.small]\ndisk_mb = 1\n"
    head = '[account]\nname = "millbrook"\npackage = "small"\n\n'
    for size, found in ((1_000_000, 0), (1_000_001, 1)):
        survey = surveyed("www")
        survey.folders[1].bytes, survey.folders[1].files = size, 1
        assert len(found_in(work, head + BASE, "over-allowance", survey, settings=settings)) == found, size


def test_a_root_with_mail_in_it_is_told_where_to_put_the_mail(work: Work) -> None:
    survey = surveyed("www", "www/mail")
    (found,) = found_in(work, BASE, "root-is-home", survey)
    assert text(found.ways_out[0].words).startswith("move")  # type: ignore[attr-defined]
    (home,) = found_in(work, table("domain", name="a.example", kind="primary", root="."), "root-is-home", surveyed())
    assert not [told for told in home.follows if "inside" in text(told)]  # type: ignore[attr-defined]


def test_of_many_places_where_an_application_was_found_three_are_named(work: Work) -> None:
    homes = [f"www/s{n}" for n in range(5)]
    apps = [FoundApplication(Folder(home), "barrowshop", ["shop.php"]) for home in homes]
    survey = surveyed("www", "www/shop", *homes, applications=apps)
    survey.folders[2].files, survey.folders[2].names = 1, ("x.txt",)
    (found,) = found_in(work, BASE + installed("a.example/shop"), "plan-and-survey-differ", survey)
    assert sum("it was found in" in text(way.words) for way in found.ways_out) == 3  # type: ignore[attr-defined]


def test_every_folder_with_a_stale_file_is_told(work: Work) -> None:
    work.account(BASE + installed("a.example/x", state="planned") + installed("a.example/y", state="planned"))
    work.there({"www/x/": "", "www/y/.htaccess": "DirectoryIndex start.html"})
    assert [found.at for found in work.check().findings if found.rule == "stale-control-file"] == ["www/y"]
    live = "".join(installed(f"a.example/{n}") for n in "xyz")
    shop = {f"www/{n}/{path}": "<?php" for n in "yz" for path in ("shop.php", "barrow/core.php", "barrow/config.php")}
    work.account(BASE + live).there(shop | {"www/z/setup.php": "", "www/y/.htaccess": "# nothing"})
    assert [found.at for found in work.check().findings if found.rule == "installer-left"] == ["www/z"]


def test_an_order_without_the_application_leaves_its_placeholder_out(work: Work) -> None:
    soon = "<title>Coming soon</title><p>Coming soon"
    shop = {f"www/{path}": "<?php" for path in ("shop.php", "index.php", "barrow/core.php", "barrow/config.php")}
    work.account(BASE + installed("a.example"))
    work.there(shop | {"www/.htaccess": "DirectoryIndex index.php index.html", "www/index.html": soon})
    assert [found.rule for found in work.check().findings if found.at == "www"] == ["placeholder-left"]
