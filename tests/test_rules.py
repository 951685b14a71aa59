"""Rules: each docstring's examples are true, and the ways out hold."""

from __future__ import annotations

import re
import sys
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import Work
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.rules import Rule, rules

_THERE = re.compile(r'# (there|link): (\S+)(?: = "(.*)")?')


def example(rule: Rule, word: str) -> str:
    """The lines of an example, which stand indented between its word and the next section."""
    after = rule.text.partition(f"\n{word}:\n")[2]
    return "\n".join(re.match(r"(?:\n|    .*\n)+", after)[0].split("\n    "))  # type: ignore[index]


@pytest.mark.parametrize("rule", rules(), ids=lambda rule: rule.slug)
def test_the_bad_example_is_found_and_the_good_one_is_not(work: Work, rule: Rule) -> None:
    for word in ("Bad", "Good"):
        tables = example(rule, word)
        assert "[[domain]]" in tables
        tree = {path: (kind, text or "x") for kind, path, text in _THERE.findall(tables)}
        work.account(tables)
        for path, (kind, target) in tree.items():
            if kind == "link":
                (work.homes / "millbrook").mkdir(parents=True, exist_ok=True)
                (work.homes / "millbrook" / path).symlink_to(target)
        if tree:
            work.there({path: text for path, (kind, text) in tree.items() if kind == "there"})
        assert (rule.slug in work.rules()) == (word == "Bad"), word
        for path in tree:
            (work.homes / "millbrook" / path).unlink()
    assert "\nWays out:\n\n- " in rule.text


def test_the_page_of_findings_is_current() -> None:
    docs = Path(__file__).parent.parent / "docs"
    sys.path.insert(0, str(docs))
    from make_findings import findings_page

    assert (docs / "findings.md").read_text("utf-8") == findings_page(), "run: make docs"


PLANTED = {
    "harrowgate": [
        "domain-twice steamfair.example",
        "stray-host harrowgatecycle.example/parts",
        "plan-and-survey-differ bookings",
        "private-exposed public/.git",
        "private-exposed public/error_log",
        "private-exposed public/members.sql.gz",
        "unmapped-site journal-old",
        "unplanned-application public/new-bookings",
        "shared-database harrow_journal",
    ],
    "millbrook": [
        "address-twice millbrookrail.example/shop",
        "folder-occupied timetable",
        "placeholder-wins www/shop",
        "shared-root www",
        "nested-installation www/shop",
        "nested-root www/choir",
        "stale-control-file timetable",
        "unplanned-application www/old-shop",
        "near-allowance databases",
    ],
    "pennywharf": [
        "alias-of-nothing penny-wharf.example",
        "database-name pennywharf.example/post",
        "folder-exists try",
        "over-allowance databases",
        "over-allowance installations",
        "reserved-path pennywharf.example/post",
        "root-refused marionette.example/",
        "root-refused try.pennywharf.example/",
        "second-door www/members",
        "staging-shares-data try.pennywharf.example/",
        "case-twin www/seats",
        "contact-not-reached marionette.example/",
        "guessable-admin pennywharf.example/seats",
        "index-contest www",
        "licence-bound pennywharf.example/seats",
        "nested-root www/members",
        "no-certificate pennywharf.example",
        "not-pointing marionette.example",
        "retired-still-there www/diary",
        "staging-open try.pennywharf.example/",
        "near-allowance addon_domains",
        "near-allowance subdomains",
        "no-contact pennywharf.example/post",
        "stale-accept www",
        "untidy-name Marionette Shop",
    ],
}


def test_exactly_the_planted_mistakes_of_the_demo_are_found(demo: tuple[Work, str]) -> None:
    found: dict[str, list[str]] = {}
    for one in demo[0].check().findings:
        found.setdefault(one.account, []).append(f"{one.rule} {one.at}")
    assert found == PLANTED
    told = {line.partition(" ")[0] for there in found.values() for line in there}
    families = {
        (rule.in_account or rule.across).__module__: rule.slug for rule in rules() if rule.in_account or rule.across
    }
    assert all(
        any(rule.slug in told for rule in rules() if rule.in_account and rule.in_account.__module__ == family)
        or family.endswith("addresses")
        for family in families
    )


def domain(name: str, root: str, kind: str = "addon", more: str = "") -> str:
    return f'[[domain]]\nname = "{name}"\nkind = "{kind}"\nroot = "{root}"\n{more}\n'


def installation(address: str, application: str = "barrowshop", state: str = "planned", more: str = "") -> str:
    return f'[[installation]]\napplication = "{application}"\naddress = "{address}"\nstate = "{state}"\n{more}\n'


BASE = domain("a.example", "www", "primary")


@pytest.mark.parametrize(
    ("tables", "tree", "rule"),
    [
        (BASE + domain("b.example", "www", more='redirect_to = "a.example"'), {}, "shared-root"),
        (BASE + domain("a.example", "www"), {}, "shared-root"),  # one domain written twice is not two
        (BASE + '[[domain]]\nname = "s.example"\nkind = "temporary"\npath = "~m"\nof = "a.example"\n', {}, "shared-root"),
        (BASE + domain("b.example", "www2"), {}, "nested-root"),
        (BASE + installation("a.example/x") + installation("a.example/x", state="retired"), {}, "same-folder"),
        (BASE + installation("a.example/x") + installation("a.example/xy"), {}, "nested-installation"),
        (BASE + installation("a.example/x"), {"www/x/index.html": "", "www/x/y/": "", "www/x/.well-known/a": ""}, "folder-occupied"),
        (BASE + installation("a.example", "quillmoor") + domain("b.example", "www/b"), {"www/b/i.txt": "x"}, "folder-occupied"),
        (BASE + installation("a.example"), {"www/index.php": "coming soon", "www/home.html": "coming soon"}, "placeholder-wins"),
        (BASE + installation("a.example", state="live"), {"www/index.html": "coming soon"}, "placeholder-wins"),
        (BASE + installation("a.example"), {"www/shop.php": "", "www/barrow/core.php": ""}, "unplanned-application"),
        (BASE + installation("a.example", state="retired"), {"www/": ""}, "plan-and-survey-differ"),
    ],
)  # fmt: skip
def test_what_is_fine_is_left_alone(work: Work, tables: str, tree: dict[str, str], rule: str) -> None:
    work.account(tables).there(tree)
    assert rule not in work.rules()


@pytest.mark.parametrize(
    ("tables", "tree", "rule", "told"),
    [
        (BASE + domain("b.example", "www/b", more='also = ["c.example"]'), {}, "nested-root", "a.example/b;"),
        (domain("a.example", ".", "primary") + domain("b.example", "b"), {}, "root-is-home", "give a.example the folder a, which"),
        (BASE + domain("b.example", "www"), {"b/x.txt": "taken"}, "shared-root", "the folder b.example, which is free"),
        (BASE + domain("b.example", "s/b") + domain("c.example", "s/c") + domain("d.example", "www"), {}, "shared-root", "s/d"),
        (BASE + installation("a.example"), {"www/shop.php": "", "www/barrow/core.php": ""}, "folder-occupied", 'state = "live"'),
        (BASE + installation("a.example"), {f"www/f{n:03}": "" for n in range(200)}, "folder-occupied",
         "f000, f001, f002, f003 and 196 more (200 files in all)"),
        (BASE + installation("a.example/x", state="live"), {"www/y/shop.php": "", "www/y/barrow/core.php": ""},
         "plan-and-survey-differ", 'it was found in www/y: write address = "a.example/y"'),
        (BASE + installation("a.example", state="live"), {"www/index.html": "it works!"}, "plan-and-survey-differ",
         "only a placeholder page"),
        (BASE + '[[domain]]\nname = "s.example"\nkind = "temporary"\npath = "~m"\nof = "a.example"\n'
         + installation("s.example/other"), {}, "stray-host", "leads to folders only below s.example/~m"),
        ("", {"old/shop.php": "", "old/barrow/core.php": ""}, "unmapped-site", "which no address reaches"),
        (BASE + domain("b.example", "b", more='also = ["A.example"]'), {}, "domain-twice", "another name of b.example"),
    ],
)  # fmt: skip
def test_findings_name_what_is_really_there(
    work: Work, tables: str, tree: dict[str, str], rule: str, told: str
) -> None:
    work.account(tables).there(tree)
    (found,) = [one for one in work.check().findings if one.rule == rule]
    parties = [f"{party.what} {party.name} {party.where}" for party in found.parties]
    assert told in "\n".join([found.title, found.why, *parties, *(way.words for way in found.ways_out)])
    assert all(re.fullmatch(r"accounts/millbrook\.toml:\d+", p.where) for p in found.parties if p.file)


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(
    st.lists(st.tuples(st.sampled_from("abcde"), st.sampled_from(["www", "www/a", "w", "w/a/b", ""])), max_size=6),
    st.sampled_from(["", "a", "a/b", "b", "~m/a"]),
)
def test_addresses_of_a_folder_are_those_that_reach_it(work: Work, hosts: list[tuple[str, str]], path: str) -> None:
    temporary = '[[domain]]\nname = "t.example"\nkind = "temporary"\npath = "~m"\nroot = "www"\n'
    work.account("".join(domain(f"{host}.example", root) for host, root in hosts) + temporary)
    layout = work.layout()
    here = layout.accounts["millbrook"]
    for host in [*"abcde", "t"]:
        address = Address(HostName(f"{host}.example"), path)
        reach = layout.reach(address)
        if reach is not None and reach.folder is not None:
            assert address in here.addresses_of(reach.folder)
    for folder in map(Folder, ["", "www", "www/a", "www/~m", "w/a/b/c"]):
        for found in here.addresses_of(folder):
            reach = layout.reach(found)
            assert reach is not None
            assert reach.folder == folder


def test_an_accepted_finding_is_counted_and_not_shown_until_its_date(work: Work) -> None:
    accept = '[[accept]]\nfinding = "nested-root"\nat = "www/b"\nbecause = "spring"\n'
    for until, shown in (
        ("", []),
        ("until = 2027-04-01\n", []),
        ("until = 2026-11-22\n", ["nested-root", "stale-accept"]),
    ):
        checked = work.account(BASE + domain("b.example", "www/b") + accept + until).check()
        assert ([found.rule for found in checked.findings], checked.accepted) == (shown, not shown)
    done = work.account(BASE + accept.replace("nested-root", "nested-rot")).run("check")
    assert (done.returncode, 'did you mean "nested-root"?' in done.stderr) == (2, True)
