"""Small faults that the core must not have, each seen from outside where that can be."""

from __future__ import annotations

import datetime
import os
import tempfile
from pathlib import Path

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from conftest import DEMO_SETTINGS, TODAY, Work, examples
from kettlepost.core.answering import Answers, Request, answer, answer_words, where, where_folder
from kettlepost.core.checking import check
from kettlepost.core.errors import PlanError
from kettlepost.core.layout.folder_state import FolderState
from kettlepost.core.layout.links import Links
from kettlepost.core.names import Address, Folder
from kettlepost.core.placing import Wish, weigh
from kettlepost.core.rules.ways_out import MANY
from kettlepost.core.survey import FoundFolder, FoundLink, Survey, encode_survey, leads_out
from kettlepost.render.sentences import text
from kettlepost.workspace import check_cache
from kettlepost.workspace.check_cache import Memory, RememberedAccount, check_plan
from kettlepost.workspace.plan_folder import PlanFolder
from messes import HOSTS, PATHS, laid, messes, scenario_of, table

Mess = tuple[dict[str, str], dict[str, Survey]]
PLACES = ["a", "b", "a/b", "a/c", "b/d", "a/b/e"]
TARGETS = [
    "b",
    "../b",
    "a",
    "../a/c",
    "c",
    ".",
    "..",
    "../..",
    "./b/../b/d",
    "/HOME/b",
    "/HOME/a/b",
    "/HOME",
    "/srv",
    "e",
]
BASE = table("domain", name="a.example", kind="primary", root="www")


@settings(max_examples=examples(300))
@given(
    st.dictionaries(st.sampled_from(["x", "a/x", "b/x", "a/b/x", "b/d/y"]), st.sampled_from(TARGETS), min_size=1),
    st.lists(st.sampled_from(["x", "y", "a", "b", "c", "d"]), max_size=4),
)
@example({"a/x": "/HOME/b"}, ["a", "x"])
@example({"x": "a", "a/x": "/HOME/b"}, ["x", "x", "d"])
def test_links_lead_where_the_file_system_says(links: dict[str, str], asked: list[str]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        home = Path(os.path.realpath(folder)) / "home"
        for place in PLACES:
            (home / place).mkdir(parents=True, exist_ok=True)
        written = {place: target.replace("/HOME", str(home)) for place, target in links.items()}
        for place, target in written.items():
            (home / place).symlink_to(target)
        known = Links(
            [FoundLink(Folder(place).parent, Folder(place).name, target) for place, target in written.items()],
            str(home),
        )
        real = known.real(Folder("/".join(asked)))
        try:
            said = os.path.realpath(home / "/".join(asked), strict=True)
        except OSError:  # a circle, or something that is not there, of which a survey tells nothing
            return
        there = os.path.relpath(said, home)
        out = there == ".." or there.startswith("../")
        # a way out of the home is none of the account's, wherever it comes back
        assert real is None if out else real in (None, Folder("" if there == "." else there))
        if not out and not any(leads_out(Folder(place).parent, target) for place, target in links.items()):
            assert real is not None


@pytest.mark.parametrize(
    ("folder", "target", "out"),
    [
        ("www", "../x", False), ("www", "..", False), ("www", "../..", True), ("www", "../../www", True),
        ("", "x", False), ("", "..", True), ("www/a", "../../b", False), ("www/a", "x/../../../..", True),
        ("www/a", "./../..", False), ("www", "/www", True), ("www", "a//b/./..", False),
    ],
)  # fmt: skip
def test_a_link_leads_out_of_the_home_or_does_not(folder: str, target: str, out: bool) -> None:
    assert leads_out(Folder(folder), target) == out


def test_what_a_place_ends_counts_for_it(work: Work) -> None:
    work.account(
        BASE
        + table("domain", name="b.example", kind="addon", root="b")
        + table("installation", application="quillmoor", address="a.example")
    ).there({"www/quill.php": "", "www/moor/kernel.php": "", "b/notes.txt": "x"})
    weighing = weigh(scenario_of(work.layout()), Wish("wordpress", "b.example", new_domain="n.test"))
    (root,) = [place for place in weighing.places if place.place.kind == "root"]
    assert "empty-root" in {found.rule for found in root.ends}
    for place in weighing.places:
        counts = [
            sum(found.severity == severity for found in place.adds)
            - sum(found.severity == severity for found in place.ends)
            for severity in ("stop", "risk", "note")
        ]
        assert [*place.points[3:5], place.points[-1]] == counts


def test_a_stamp_of_this_very_second_is_not_trusted() -> None:
    stamp, kept = (5_000_000_000, 7), RememberedAccount(b"d", (5_000_000_000, 7), b"{}")
    for written, trusted in (
        (5_000_000_000, None),
        (6_999_999_999, None),
        (7_000_000_000, None),
        (7_000_000_001, kept),
    ):
        assert Memory(b"", {"m": kept}, written).untouched("m", stamp) is trusted, written
    assert Memory(b"", {"m": kept}, 9_000_000_000).untouched("m", (5_000_000_000, 8)) is None


@pytest.mark.parametrize(
    ("there", "condition"),
    [(2, None), (3, "incomplete"), (4, "")],
)
def test_an_upload_is_half_finished_when_most_of_it_is_there(work: Work, there: int, condition: str | None) -> None:
    marks = ["one.php", "lib/two.php", "lib/three.php", "four.php"]
    own = f'[[application]]\nid = "fernpost"\nall_of = {marks}\n'.replace("'", '"')
    work.account(BASE, settings=own).there({f"www/{mark}": "" for mark in marks[:there]})
    assert [found.condition for found in work.stored().applications] == ([] if condition is None else [condition])


def test_an_empty_root_that_two_domains_share_is_no_place_for_either(work: Work) -> None:
    spare = "".join(table("domain", name=f"{name}.example", kind="addon", root=root) for name, root in
                    (("b", "both"), ("c", "both"), ("d", "alone")))  # fmt: skip
    work.account(BASE + spare).there(
        {"www/index.html": "Our own page about geese and ganders.", "both/": "", "alone/": ""}
    )
    weighing = weigh(scenario_of(work.layout()), Wish("wordpress", "a.example", other_domains=True))
    assert [str(one.place.address) for one in weighing.places if one.place.kind == "empty domain"] == ["d.example/"]


def test_a_temporary_address_is_a_second_door(work: Work) -> None:
    shut = table("domain", name="a.example", kind="primary", root="www", protected=True)
    temporary = table("domain", name="host.test", kind="temporary", path="~m", of="a.example")
    site = table("installation", application="quillmoor", address="a.example")
    work.account(shut + temporary + site)
    (found,) = [found for found in work.check().findings if found.rule == "second-door"]
    assert "host.test/~m" in text(found.title)
    guarded = temporary.replace("\n\n", "\nprotected = true\n\n")
    assert "second-door" not in work.account(shut + guarded + site).rules()


def test_a_stray_host_is_told_wherever_the_files_lie(work: Work) -> None:
    lost = table("installation", application="quillmoor", address="lost.example/x", folder="www/x")
    work.account(BASE + lost)
    assert [found.at for found in work.check().findings if found.rule == "stray-host"] == ["lost.example/x"]
    assert "stray-host" not in work.account(BASE + lost.replace("lost.example", "a.example")).rules()


def test_an_index_file_that_a_survey_does_not_name_is_not_there(work: Work) -> None:
    """Of a large folder only some names are kept, but always those of index files."""
    work.account(BASE)
    names = tuple(f"f{n}.txt" for n in range(40))
    survey = Survey(1, "millbrook", "2026-11-23T06:00:00Z", "here", [
        FoundFolder(Folder("")), FoundFolder(Folder("www"), files=5_000, names=names)])  # fmt: skip
    layout = work.layout().accounts["millbrook"]
    layout.survey = survey  # type: ignore[misc]
    state = FolderState(layout, "now")
    assert [state.has(Folder("www"), name) for name in ("index.html", "index.php", "f3.txt", "other.txt")] == [
        False, False, True, None,
    ]  # fmt: skip


def test_a_path_alias_and_a_fallback_hold_at_their_very_path(work: Work) -> None:
    alias = '[[path_alias]]\naddress = "a.example/media"\nfolder = "pictures"\n'
    work.account(BASE + alias).there(
        {
            "www/front.php": "x", "www/.htaccess": "FallbackResource /front.php\n", "www/index.html": "Our geese.",
            "pictures/index.html": "Our ganders.",
        }
    )  # fmt: skip
    for path, folder in (("media", "pictures"), ("media/x", "pictures/x"), ("mediax", "www/mediax"), ("", "www")):
        assert where(work.layout(), Address.parse(f"a.example/{path}")).folder == folder
    for path, file in (("front.php", "www/front.php"), ("nothing", "www/front.php")):
        assert where(work.layout(), Address.parse(f"a.example/{path}")).answering_file == file


def test_a_folder_is_answered_for_by_the_control_file_above_it(work: Work) -> None:
    tree = {"www/.htaccess": "FallbackResource front.php\n", "www/front.php": "x", "www/a/page.txt": "x"}
    work.account(BASE).there(tree)
    for folder, answers in (("www/gone", "file"), ("www/a/page.txt", "file"), ("www", "file"), ("else", "nothing")):
        layouts = work.layout()
        view = where_folder(layouts, layouts.accounts["millbrook"], Folder(folder))
        assert view.answers == answers, (folder, view)


@pytest.mark.parametrize("number", [MANY, MANY + 1])
def test_roots_inside_one_are_told_one_by_one_until_there_are_many(work: Work, number: int) -> None:
    inner = "".join(table("domain", name=f"s{n}.example", kind="addon", root=f"www/s{n}") for n in range(number))
    work.account(BASE + inner)
    assert sum(found.rule == "nested-root" for found in work.check().findings) == (number if number <= MANY else 1)


def test_another_day_asks_no_account_anew(work: Work, monkeypatch: pytest.MonkeyPatch) -> None:
    accept = '[[accept]]\nfinding = "nested-root"\nat = "www/*"\nbecause = "spring"\nuntil = 2026-12-31\n'
    work.account(BASE + table("domain", name="b.example", kind="addon", root="www/b") + accept)
    asked: list[str] = []
    real = check_cache.check_account
    monkeypatch.setattr(check_cache, "check_account", lambda layout: asked.append(layout.name) or real(layout))
    told = [
        [found.rule for found in check_plan(PlanFolder(work.plan), datetime.date(*day)).findings]
        for day in ((2026, 12, 31), (2027, 1, 1), (2026, 11, 1))
    ]
    assert told == [[], ["nested-root", "stale-accept"], []]
    assert asked == ["millbrook"]


@pytest.mark.parametrize("number", [1, 2])
def test_a_domain_becomes_an_alias_where_it_is_one_that_shares_a_root(work: Work, number: int) -> None:
    work.account(BASE + "".join(table("domain", name=f"b{n}.example", kind="addon", root="www") for n in range(number)))
    (found,) = [found for found in work.check().findings if found.rule == "shared-root"]
    alias = [way for way in found.ways_out if "alias" in text(way.words)]
    told = [dict(change.values or {}) for change in alias[0].changes]
    assert told == [{"kind": "alias", "of": "a.example", "root": None}] * number


def test_accounts_that_are_asked_about_are_checked_whichever_stand_before_them(work: Work) -> None:
    shared = BASE.replace("a.example", "{0}.example") + table("domain", name="c{0}.example", kind="addon", root="www")
    for name in ("one", "two", "three"):
        work.account(shared.replace("{0}", name), name)
    for asked in (["two"], ["three"], ["one", "two"], ["three", "two"]):
        checked = check(work.layout(), TODAY, asked)
        assert sorted(found.account for found in checked.findings) == sorted(asked)


def test_a_survey_is_stored_one_record_a_line() -> None:
    survey = Survey(1, "m", "2026-11-23T06:00:00Z", "here", [FoundFolder(Folder("")), FoundFolder(Folder("www"))])
    lines = encode_survey(survey).decode().split("\n")
    assert lines[1:5] == ['"folders":[', '{"folder":""},', '{"folder":"www"}', "],"]
    assert all(line.endswith(("[],", "[]")) for line in lines[5:-2]), lines


@pytest.mark.parametrize(
    ("file", "text", "told"),
    [
        (".htaccess", "Deny from all", ["denies everyone"]),
        (".htaccess", "Deny from 192.0.2.7", []),
        (".htaccess", "Allow from all", []),
        (".htaccess", "Require all denied", ["denies everyone"]),
        (".htaccess", "Require all granted", []),
        (".htaccess", "Require valid-user", ["asks for a password"]),
        (".htaccess", "Require ip 192.0.2.7", []),
        (".htaccess", "AuthType Basic\nAuthUserFile /x", ["asks for a password"]),
        (".htaccess", "FallbackResource disabled", []),
        (".htaccess", "FallbackResource /a.php", ["falls back to one file /a.php"]),
        (".htaccess", "DirectoryIndex b.php a.php", ["changes the index order b.php a.php"]),
        (".htaccess", 'Header set X-Robots-Tag "noindex"', ["shuts out search engines"]),
        (".htaccess", 'Header set X-Robots-Tag "all"', []),
        (".htaccess", 'Header set X-Other "noindex"', []),
        (".htaccess", "php_value auto_prepend_file x.php", ["adds a file to every page x.php"]),
        (".htaccess", "php_value memory_limit 1M", []),
        (".htaccess", "Redirect / https://b.test/", ["redirects to another host b.test"]),
        (".htaccess", "Redirect 301 /x https://b.test/", ["redirects some paths b.test"]),
        (".htaccess", "Redirect /x /y", ["redirects /y"]),
        (".htaccess", "Redirect /x", []),
        (".htaccess", "RewriteEngine off", ["turns rewriting off"]),
        (".htaccess", "RewriteEngine On", ["turns rewriting on"]),
        (".htaccess", "RewriteEngine On\nRewriteRule . /i.php", ["rewrites every path /i.php"]),
        (".htaccess", "RewriteEngine On\nRewriteBase /b\nRewriteRule . i.php", ["rewrites every path /b/i.php"]),
        (".htaccess", "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule . /i.php",
         ["rewrites every path but files /i.php"]),
        (".htaccess", "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . /i.php",
         ["rewrites some paths /i.php"]),
        (".htaccess", "RewriteEngine On\nRewriteRule ^a$ /i.php", ["rewrites some paths /i.php"]),
        (".htaccess", "RewriteRule . - [F]", ["denies everyone"]),
        (".htaccess", "RewriteRule . - [L]", []),
        (".htaccess", "RewriteRule ^x$ - [F]", []),
        (".htaccess", "RewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI}", ["redirects to https"]),
        (".htaccess", "RewriteRule ^ https://b.test/", ["redirects to another host b.test"]),
        ("robots.txt", "User-agent: *\nDisallow: /", ["shuts out search engines"]),
        ("robots.txt", "User-agent: *\nDisallow: /x", []),
        ("robots.txt", "User-agent: one\nDisallow: /", []),
        ("robots.txt", "User-agent: *\nUser-agent: one\nDisallow: /", ["shuts out search engines"]),
        (".user.ini", "auto_prepend_file = x.php", ["adds a file to every page x.php"]),
        (".user.ini", "; auto_prepend_file = x.php", []),
        (".user.ini", "memory_limit = 1M", ["sets PHP's settings"]),
    ],
)  # fmt: skip
def test_what_a_control_file_does_is_read_line_by_line(work: Work, file: str, text: str, told: list[str]) -> None:
    work.account(BASE).there({f"www/{file}": f"# ours\n{text}\n", "www/index.html": "Our own page about geese."})
    found = [effect for control in work.stored().controls for effect in control.effects]
    assert sorted(f"{effect.does} {effect.what}".strip() for effect in found) == sorted(told)


@pytest.mark.parametrize("others", [6, 7])
def test_so_many_other_accounts_are_weighed_and_no_more(work: Work, others: int) -> None:
    settings = DEMO_SETTINGS + "\n[package.wide]\naddon_domains = 9\n"
    for n in range(others):
        tables = BASE.replace("a.example", f"p{n}.example")
        work.account(f'[account]\nname = "o{n}"\npackage = "wide"\n\n{tables}', f"o{n}", settings)
    work.account(BASE, settings=settings)
    weighing = weigh(scenario_of(work.layout()), Wish("wordpress", "a.example", new_domain="n.test", any_account=True))
    assert sum(place.place.kind == "other account" for place in weighing.places) == min(others, 6)
    assert any(text(told.words).startswith("these are the 6 other accounts") for told in weighing.more) == (others > 6)


@pytest.mark.parametrize(("second", "rule"), [("a.example/x", "address-twice"), ("a.example/y", "same-folder")])
def test_of_two_in_one_place_the_live_one_stays(work: Work, second: str, rule: str) -> None:
    for states in (("planned", "live"), ("live", "planned")):
        tables = "".join(
            table("installation", application=name, address=address, state=state, folder="www/x")
            for name, address, state in zip(("quillmoor", "barrowshop"), ("a.example/x", second), states, strict=True)
        )
        work.account(BASE + tables)
        (found,) = [found for found in work.check().findings if found.rule == rule]
        assert found.parties[0].what.startswith("live"), states
        assert all(change.number == states.index("planned") for change in found.ways_out[0].changes), states


@settings(max_examples=examples(120))
@given(
    messes(),
    st.sampled_from(HOSTS),
    st.sampled_from([*PATHS, "/b/zz.txt", "/link/x", "/link", "/index.html", "/q.txt"]),
)
def test_a_brief_answer_is_the_beginning_of_the_full_one(work: Work, mess: Mess, host: str, path: str) -> None:
    try:
        layouts = laid(work, *mess)
    except PlanError:
        assume(False)
    for when in ("now", "planned"):
        full = answer(layouts, Address.parse(host.replace("*", "any") + path), when)
        answers = Answers(layouts, when)
        for _ in range(2):  # what was told once is told again
            brief = answers.brief(Request.parse(host.replace("*", "any") + path))
            assert brief[1:] == (full.kind, full.status, full.certainty, answer_words(full)), (brief, full)


def test_the_database_server_of_an_account_is_its_own_however_it_is_called(work: Work) -> None:
    settings = DEMO_SETTINGS + "\n[package.one]\ndatabases = 1\n"
    found: dict[str, set[str]] = {}
    for server in ("", "localhost", "LOCALHOST", "127.0.0.1", "db.example"):
        base = {"name": "shared", "prefix": "x_", "server": server}
        for name in ("millbrook", "other"):
            head = f'[account]\nname = "{name}"\npackage = "one"\n\n' + BASE.replace("a.example", f"{name}.example")
            sites = "".join(
                table("installation", application="quillmoor", address=f"{name}.example/{path}", database=used)
                for path, used in (("x", base), ("y", {"name": "shared", "prefix": "y_"}))
            )
            work.account(head + sites, name, settings)
        found[server] = work.rules() & {"same-tables", "over-allowance"}
    own = {server: set() for server in ("", "localhost", "LOCALHOST", "127.0.0.1")}
    assert found == own | {"db.example": {"same-tables", "over-allowance"}}


def test_two_at_one_path_below_a_wildcard_are_at_one_address(work: Work) -> None:
    wild = table("domain", name="*.b.example", kind="addon", root="b")
    two = "".join(
        table("installation", application="barrowshop", address=f"{n}.b.example/shop", state="planned") for n in "xy"
    )
    assert "address-twice" in {found.rule for found in work.account(BASE + wild + two).check().findings}
