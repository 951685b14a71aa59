"""Places: what each changes is what a full check finds, and what is chosen for it is free and fits."""

from __future__ import annotations

import re
import shlex
from collections import Counter
from collections.abc import Iterable

import pytest
from hypothesis import assume, event, given, settings
from hypothesis import strategies as st

from conftest import DEMO_SETTINGS, TODAY, Work, examples
from kettlepost.core.checking import check
from kettlepost.core.errors import InputError, PlanError
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.placing import Wish, grant, read_wishes, weigh
from kettlepost.core.placing.defaults import with_defaults
from kettlepost.core.plan import Change, Database, Domain, Installation, changed_text, table_of
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules import Finding, Rule, RuleReach, find_rule, rules
from kettlepost.core.steps import DAYS, WriteFrontFile
from kettlepost.core.trying import Addition
from kettlepost.core.trying.scenario import difference_of
from kettlepost.render.sentences import text
from kettlepost.workspace.plan_folder import read_plan
from messes import APPLICATIONS, HOSTS, LOOSE, PATHS, ROOTS, laid, messes, scenario_of, some, table

Mess = tuple[dict[str, str], dict[str, object]]
CHOSEN = {"same-tables", "prefix-overlap", "default-prefix", "database-name", "guessable-admin"}
"""The rules that values which were chosen never break."""


def told(findings: Iterable[Finding]) -> Counter[tuple[str, ...]]:
    return Counter((one.account, one.rule, one.at, one.title) for one in findings)


def written(text: str, addition: Addition) -> str:
    changes = [Change(addition.account, "domain", None, table_of(one)) for one in addition.domains]
    changes += [Change(addition.account, "installation", None, table_of(one)) for one in addition.installations]
    return changed_text(text, changes)


@st.composite
def additions(draw: st.DrawFn) -> tuple[list[Domain], list[Installation]]:
    """A domain, an installation or both, sensible or not."""
    host = draw(some([*HOSTS, "shop.a.example", "new.example", "x.s.a.example", "also.a.example", "elsewhere.test"]))
    root = Folder.parse(draw(some([*ROOTS, "fresh", "www/fresh"])))
    www = None if "*" in host else draw(some([None, None, "both", "bare"]))
    flags = {"https": draw(st.booleans()), "points_here": draw(st.booleans()), "www": www}
    domains = [Domain(HostName(host), draw(some(["addon", "subdomain"])), root, **flags)]
    domains *= draw(st.integers(0, 1))
    if domains and draw(some([True, False, False])):
        return domains, []
    own = [host] if domains and "*" not in host else []
    address = Address.parse(draw(some([*own, *own, *HOSTS[:4], "lost.example"])) + draw(some(PATHS)))
    base = draw(some([None, Database(draw(some(["m_one", "m_two", "m_new"])), draw(some(["wp_", "a_", "z_"])))]))
    folder = draw(some([None, None, "www/apart", "link/x", "www/new"]))
    rehearses = draw(some([None, None, "a.example", "a.example/shop"]))
    return domains, [
        Installation(
            draw(some(APPLICATIONS)),
            address,
            "planned",
            Folder.parse(folder) if folder else None,
            base,
            draw(some([None, "admin"])),
            draw(some([None, "k@b.example", "k@new.example"])),
            Address.parse(rehearses) if rehearses else None,
        )
    ]


@settings(LOOSE, max_examples=examples(100))
@given(messes(), additions())
def test_what_an_addition_changes_is_what_a_full_check_finds(
    work: Work, mess: Mess, drawn: tuple[list[Domain], list[Installation]]
) -> None:
    texts, found = mess
    name = next(iter(texts))
    addition = Addition(name, *drawn)
    try:
        layout = laid(work, texts, found)
        before = check(layout, TODAY).findings
        trial = scenario_of(layout).outcome(addition)
        after = check(laid(work, texts | {name: written(texts[name], addition)}, found), TODAY).findings
    except PlanError:
        assume(False)
    added, ended = told(trial.difference.added), told(trial.difference.ended)
    event(f"{len(added)} added, {len(ended)} ended")
    whole = difference_of(before, after)
    assert added == told(whole.added), f"{drawn}\n{texts}\n{found}"
    assert ended == told(whole.ended), f"{drawn}\n{texts}\n{found}"


def added_and_ended(rule: Rule, pair: tuple[AccountLayout, AccountLayout]) -> tuple[Counter[object], Counter[object]]:
    was, now = (Counter((found.at, found.title) for found in rule.found_in(layout)) for layout in pair)
    return now - was, was - now


@settings(LOOSE, max_examples=examples(100))
@given(messes(), additions())
def test_no_rule_looks_further_than_it_says(
    work: Work, mess: Mess, drawn: tuple[list[Domain], list[Installation]]
) -> None:
    texts, found = mess
    addition = Addition(next(iter(texts)), *drawn)
    try:
        scenario = scenario_of(laid(work, texts, found))
    except PlanError:
        assume(False)
    parts = {reach: scenario.part(addition, reach) for reach in {rule.reach for rule in rules()} | {RuleReach.ACCOUNT}}
    for rule in rules():
        if rule.in_account is not None:
            told = added_and_ended(rule, parts[rule.reach])
            assert told == added_and_ended(rule, parts[RuleReach.ACCOUNT]), f"{rule.slug}: {drawn}\n{texts}\n{found}"


@pytest.mark.parametrize("slug", ["nested-installation", "address-twice", "not-pointing", "same-tables"])
def test_a_rule_that_said_less_than_it_looks_at_would_be_seen(work: Work, slug: str) -> None:
    base = {"name": "m_one", "prefix": "a_"}
    work.account(
        table("domain", name="a.example", kind="primary", root="www")
        + table("domain", name="*.b.example", kind="addon", root="b", points_here=False)
        + table("installation", application="quillmoor", address="a.example", folder="www/apart/in")
        + table(
            "installation",
            application="barrowshop",
            address="x.b.example",
            folder="else",
            state="planned",
            database=base,
        )
    )
    scenario = scenario_of(work.layout())
    news = [
        Addition(
            "millbrook", [], [Installation("ticketgrove", Address.parse("a.example/"), folder=Folder("www/apart"))]
        ),
        Addition(
            "millbrook", [], [Installation("ticketgrove", Address.parse("y.b.example/"), "planned", Folder("more"))]
        ),
        Addition(
            "millbrook", [], [Installation("ticketgrove", Address.parse("a.example/t"), database=Database(**base))]
        ),
    ]
    rule = find_rule(slug)
    told = {
        reach: [added_and_ended(rule, scenario.part(new, reach)) for new in news]
        for reach in (RuleReach.NONE, rule.reach, RuleReach.ACCOUNT)
    }
    assert told[RuleReach.NONE] != told[RuleReach.ACCOUNT]
    assert told[rule.reach] == told[RuleReach.ACCOUNT]


@settings(LOOSE, max_examples=examples(60))
@given(messes(), additions(), additions())
def test_what_was_carried_out_is_part_of_what_comes_next(
    work: Work,
    mess: Mess,
    first: tuple[list[Domain], list[Installation]],
    second: tuple[list[Domain], list[Installation]],
) -> None:
    """As it is when wishes are granted one after the other."""
    texts, found = mess
    name = next(iter(texts))
    one, two = Addition(name, *first), Addition(name, *second)
    try:
        scenario = scenario_of(laid(work, texts, found))
        texts = texts | {name: written(texts[name], one)}
        before = check(laid(work, texts, found), TODAY).findings
        laid(work, mess[0], found)  # nothing is on the disk of what is only assumed
        scenario.outcome(one)
        scenario.carry_out(one)
        trial = scenario.outcome(two)
        texts = texts | {name: written(texts[name], two)}
        after = check(laid(work, texts, found), TODAY).findings
    except PlanError:
        assume(False)
    whole = difference_of(before, after)
    assert told(trial.difference.added) == told(whole.added), f"{one}\n{two}\n{mess}"
    assert told(trial.difference.ended) == told(whole.ended), f"{one}\n{two}\n{mess}"


@settings(LOOSE, max_examples=examples(60))
@given(messes(), some(APPLICATIONS), some(HOSTS[:3]), some([None, "root", "subfolder", "subdomain", "domain"]))
def test_places_are_in_order_and_the_values_chosen_for_them_break_no_rule(
    work: Work, mess: Mess, application: str, host: str, prefer: str | None
) -> None:
    texts, found = mess
    try:
        layout = laid(work, texts, found)
        weighing = weigh(scenario_of(layout), Wish(application, host, prefer=prefer, new_domain="own.test"))
    except (PlanError, InputError):
        assume(False)
    assert weighing.places
    assert [one.number for one in weighing.places] == list(range(1, len(weighing.places) + 1))
    points = [list(one.points) for one in weighing.places]
    assert points == sorted(points)
    for one in weighing.places:
        assert bool(one.points[0]) == any(new.stops for new in one.adds)
        here, new = layout.accounts[one.place.account], one.place.installation
        known = told(check(layout, TODAY).findings)
        mine = [f for f in one.adds if f.rule in CHOSEN and told([f]) - known and str(new.address) in text(f.title)]
        assert not [f for f in mine if f.rule != "same-tables"], (mine, new)
        base = new.database
        assert base is None or base.name.startswith(here.account.settings.database_prefix)
        assert base is None or max(len(base.name), len(base.user or "")) <= 32
        assert one.place.addition.domains == [] or not here.is_held(one.place.folder)
    best = weighing.best
    assert best is None or best is weighing.places[0]


@settings(LOOSE, max_examples=examples(40))
@given(st.lists(some(PATHS), min_size=1, max_size=4, unique=True), some(["mysql", "postgresql", "sqlite"]))
def test_installations_furnished_one_after_the_other_share_nothing(work: Work, paths: list[str], server: str) -> None:
    head = f'[account]\nname = "one"\ndatabase_prefix = "one_"\ndatabase_server = "{server}"\n\n'
    texts = {"one": head + table("domain", name="a.example", kind="primary", root="www")}
    for path in paths:
        layout = laid(work, texts, {})
        here = layout.accounts["one"]
        one = with_defaults(here, layout.plan.applications["wordpress"], Address.parse(f"a.example{path}"))
        texts["one"] = written(texts["one"], Addition("one", [], [one]))
    found = {f.rule for f in check(laid(work, texts, {}), TODAY).findings}
    assert not found & (CHOSEN | {"shared-database"}), texts


SITES = table("domain", name="a.example", kind="primary", root="www") + table(
    "installation", application="quillmoor", address="a.example", database={"name": "a", "prefix": "a_"}
)


def test_every_kind_of_place_is_weighed_and_what_it_costs_is_said(work: Work) -> None:
    empty = table("domain", name="spare.example", kind="addon", root="spare", points_here=False)
    work.account(SITES + empty).there(
        {
            "www/quill.php": "",
            "www/moor/kernel.php": "",
            ".htaccess": "AddHandler application/x-httpd-php82 .php\n",
            "spare/": "",
        }
    )
    work.account('[account]\nname = "other"\npackage = "copper"\n', "other")
    none = DEMO_SETTINGS + "\n[package.none]\naddon_domains = 0\n"
    work.account('[account]\nname = "full"\npackage = "none"\n', "full", none)
    wish = Wish("wordpress", "a.example", "blog", new_domain="blog.test", any_account=True, other_domains=True)
    weighing = weigh(scenario_of(work.layout()), wish)
    by_kind = {one.place.kind: one for one in weighing.places}
    assert {kind: (str(one.place.address), str(one.place.folder)) for kind, one in by_kind.items()} == {
        "root": ("a.example/", "www"),
        "subfolder": ("a.example/blog", "www/blog"),
        "front file": ("a.example/", "www/blog"),
        "subdomain": ("blog.a.example/", "blog"),
        "domain": ("blog.test/", "blog"),
        "empty domain": ("spare.example/", "spare"),
        "other account": ("blog.test/", "blog"),
    }
    assert by_kind["other account"].place.account == "other"
    assert weighing.places[-1].place.kind in ("root", "front file")
    assert {f.rule for f in by_kind["root"].adds} >= {"address-twice", "folder-occupied"}
    assert any("Quillmoor" in str(step) for step in by_kind["root"].clear)
    assert text(by_kind["root"].now).startswith("Quillmoor")
    assert text(by_kind["subfolder"].after).startswith("WordPress")
    assert any("control file .htaccess" in text(words) for words in by_kind["subfolder"].shares)
    assert tuple(map(text, by_kind["domain"].shares)) == ("the control file .htaccess",)
    assert [(step.host, step.wait) for step in by_kind["empty domain"].wait] == [("spare.example", DAYS)]
    assert WriteFrontFile("millbrook", Folder("www"), "index.php", Folder("www/blog")) in by_kind["front file"].create
    assert by_kind["other account"].uses[0].words == "1 of 5 add-on domains"
    there = table("domain", name="blog.a.example", kind="subdomain", root="blog")
    work.account(
        SITES + there + table("installation", application="wordpress", address="blog.a.example"), settings=none
    )
    taken = {
        one.place.kind: one for one in weigh(scenario_of(work.layout()), Wish("wordpress", "a.example", "blog")).places
    }
    assert {f.rule for f in taken["subdomain"].stops} == {"address-twice"}
    preferred = weigh(scenario_of(work.layout()), Wish("wordpress", "a.example", prefer="subfolder"))
    assert preferred.places[0].place.kind == "subdomain"  # the subfolder lies inside of what is live
    asked = ("weigh", "wordpress", "a.example", "--prefer", "subfolder")
    asks_for = next(one for one in work.json(*asked)["more"] if "--despite" in one)
    words = shlex.split(re.search(r"--despite [^;)]*", asks_for)[0])
    assert work.run(*asked, *words[:2]).returncode == 2  # without a reason
    despite = work.json(*asked, *words)["places"][0]
    assert (despite["place"], [one["rule"] for one in despite["lives_with"]]) == ("subfolder", words[1:2])
    assert work.run("place", "--as", "1", "--yes").returncode == 0
    entered = next(one for one in read_plan(work.plan).accounts if one.name == "millbrook")
    assert [(one.finding, one.because) for one in entered.accepts] == [(words[1], words[3])]
    assert str(entered.installations[-1].address) == despite["address"]
    work.account(SITES + table("domain", name="c.example", kind="addon", root="c"), settings=none)
    preferred = weigh(scenario_of(work.layout()), Wish("wordpress", "c.example", prefer="subfolder"))
    assert preferred.places[0].place.kind == "subfolder"


def test_what_is_not_known_or_left_out_is_said(work: Work) -> None:
    names = [f"spare{n}.example" for n in range(8)]
    work.account(SITES + "".join(table("domain", name=name, kind="addon", root=name[:6]) for name in names))
    unknown = weigh(scenario_of(work.layout()), Wish("wordpress", "a.example"))
    assert [text(one.words) for one in unknown.more] == [
        "what lies in the folders is unknown, as millbrook was not surveyed yet"
    ]
    assert unknown.more[0].remedies == (Remedy.of(Action.TAKE_SURVEY, "millbrook"),)
    assert {text(one.there) for one in unknown.places} == {"unknown: not surveyed yet"}
    work.there({"www/index.html": "A page of its own, with quite a few words about trains."})
    weighing = weigh(scenario_of(work.layout()), Wish("wordpress", "a.example", any_account=True, other_domains=True))
    assert [one.place.kind for one in weighing.places].count("empty domain") == 6
    assert [text(one.words) for one in weighing.more] == [
        "there are 2 more empty domains in millbrook; to weigh one, name it",
        "no other account has room for a domain and an installation more",
    ]


def test_wishes_get_places_that_do_not_collide(work: Work) -> None:
    work.account(SITES + table("domain", name="b.example", kind="addon", root="b"))
    rows = ["application,domain,prefer"] + ["wordpress,a.example,subfolder"] * 3 + ["wordpress,b.example,root"] * 2
    scenario = scenario_of(work.layout())
    granted = list(grant(scenario, read_wishes("\n".join([*rows, "wordpres,a.example,", ""]).encode(), "w.csv")))
    placed = [one.place.place for one in granted if one.place]
    assert len({place.address for place in placed}) == len({place.folder for place in placed}) == 5
    assert len({place.installation.database.name for place in placed if place.installation.database}) == 5
    assert "did you mean" in str(granted[-1].error)
    assert granted[-1].place is None
    text = (work.plan / "accounts/millbrook.toml").read_text()
    for place in placed:
        text = written(text, place.addition)
    (work.plan / "accounts/millbrook.toml").write_text(text)
    assert not [one for one in work.check().findings if one.severity == "stop"]


@pytest.mark.parametrize(
    ("raw", "read"),
    [
        (b"\xef\xbb\xbfapplication;domain;name\r\nwordpress;a.example;\r\n", [(2, "wordpress", "a.example", None)]),
        (b'domain,Application,New Domain\n"a.example","wiki"\n\n,,\n', [(2, "wiki", "a.example", None)]),
        (b"application\tdomain\tname\nx\ty.example\tz\n", [(2, "x", "y.example", "z")]),
        (
            b'application,domain\nx,"y\n.example"\nz,a.example\n',
            [(2, "x", "y\n.example", None), (4, "z", "a.example", None)],
        ),
    ],
)
def test_tables_of_wishes_are_read_as_spreadsheets_write_them(raw: bytes, read: list[tuple[object, ...]]) -> None:
    found = read_wishes(raw, "w.csv")
    assert [(one.line, one.wish.application, one.wish.domain, one.wish.name) for one in found] == read


@pytest.mark.parametrize(
    ("raw", "fault"),
    [
        (b"", "w.csv:1: the head lacks application and domain"),
        (b"application\nx\n", "w.csv:1: the head lacks domain"),
        (b"application,domain,domain\n", 'w.csv:1: column 3: "domain" is there twice'),
        (b"application,domian\n", 'w.csv:1: column 2: "domian" is no column; did you mean "domain"'),
        (b"application,domain\nx\n", "w.csv:2: domain is empty"),
        (b"application,domain\nx,y,z\n", 'w.csv:2: column 3: "z" stands under no head'),
        (b"application,domain,prefer\nx,y,rot\n", 'w.csv:2: prefer: "rot" is none of'),
        (b'application,domain\n"x,y\n', "w.csv:2: no table"),
        (b"application,domain\nx,\xff\n", "w.csv:2: not UTF-8"),
    ],
)
def test_a_wrong_table_of_wishes_is_refused_by_row_and_column(raw: bytes, fault: str) -> None:
    with pytest.raises(InputError, match=re.escape(fault)):
        read_wishes(raw, "w.csv")


@settings(LOOSE, max_examples=examples(120))
@given(st.data())
def test_changes_leave_every_other_line_as_it_was(data: st.DataObject) -> None:
    """A key or table more or less is all that differs, in whatever style the file is written."""
    count = data.draw(st.integers(1, 4))
    comment = data.draw(some(["", "# ours\n", "\n# a heading\n# in two lines\n\n"]))
    tables = [f'[[domain]]\nname = "d{n}.example"   # {n}\nroot = "r{n}"\n{comment}' for n in range(count)]
    tables.append('[[installation]]\naddress = "d0.example"\ndatabase = { name = "n" }  # base\n' + comment)
    text = '# top\n[account]\nname = "a"\n\n' + "".join(tables)
    end = data.draw(some(["\n", "\r\n"]))
    text = text.replace("\n", end)
    number = data.draw(st.integers(0, count - 1))
    change, gone, come = data.draw(
        some([
            (Change("a", "domain", number, {"root": "new"}), [f'root = "r{number}"'], ['root = "new"']),
            (Change("a", "domain", number, {"https": True}), [], ["https = true"]),
            (Change("a", "domain", number, {"root": None}), [f'root = "r{number}"'], []),
            (Change("a", "domain", None, {"name": "z.example"}), [], ["", "[[domain]]", 'name = "z.example"']),
            (Change("a", "accept", None, {"at": "x"}), [], ["", "[[accept]]", 'at = "x"']),
            (Change("a", "installation", 0, {"database": {"prefix": "p"}}),
             ['database = { name = "n" }  # base'], ['database = { name = "n" , prefix = "p"}  # base']),
        ])
    )  # fmt: skip
    changed = changed_text(text, [change])
    assert ("\r\n" in changed) == (end == "\r\n")
    assert changed.count("\n") == changed.count(end)
    was, now = Counter(text.split(end)), Counter(changed.split(end))
    assert sorted((was - now).elements()) == gone
    if change.table != "installation":
        assert sorted((now - was).elements()) in (sorted(come), sorted(come[1:]))
    order = [line for line in text.split(end) if line in set(now) and line]
    assert [line for line in changed.split(end) if line in set(order)][: len(order)] or not order


def test_a_client_without_a_domain_gets_all_of_their_accounts_compared(work: Work) -> None:
    packages = (
        "\n[package.big]\ndatabases = 20\ninstallations = 20\nprice = 9\n[package.small]\ndatabases = 4\nprice = 2.5\n"
    )

    def account(name: str, whose: str, package: str, sites: int, hosts: list[str], **keys: object) -> None:
        head = f'[account]\nname = "{name}"\nclient = "{whose}"\npackage = "{package}"\n\n'
        domains = [table("domain", name=host, kind="addon", root=host.partition(".")[0], **keys) for host in hosts]
        there = [
            table("installation", application="wordpress", address=f"{hosts[0]}/s{n}", database={"name": f"{name}{n}"})
            for n in range(sites)
        ]
        work.account(head + "".join(domains + there), name, DEMO_SETTINGS + packages)

    account("full", "Hill Farm", "small", 4, ["hill.example"])
    account("near", "Hill Farm", "small", 2, ["dale.example"], www="both")
    account("wide", "Hill Farm", "big", 2, ["vale.example", "glen.example"])
    account("mixed", "Somebody", "big", 0, ["own.example"], client="hill farm")
    for n in range(8):
        account(f"zother{n}", "Somebody", "big", n, [f"z{n}.example"])
    told = work.json("weigh", "drupal", "--client", "HILL FARM")
    best = [(one["account"], one["address"], one["points"]["stopped"]) for one in told["places"]]
    assert best[:2] == [("mixed", "own.example/", 0), ("wide", "glen.example/", 0)]
    assert [account for account, _, _ in best[2:]] == ["near", "full"]
    assert best[3][2] == 1
    rooms = {room["account"]: (room["price"], room["sites"]) for room in told["rooms"]}
    assert rooms == {"full": (2.5, 4), "near": (2.5, 2), "wide": (9, 2), "mixed": (9, 0)}
    assert work.run("place", "--as", "2", "--yes").returncode == 0
    assert "glen.example" in (work.plan / "accounts/wide.toml").read_text().partition("drupal")[2]
    others = work.json("weigh", "drupal", "--client", "hill farm", "--new-domain", "new.example", "--any-account")
    assert others["places"][0]["account"] == "mixed"
    assert [one for one in others["more"] if "most room" in one] == [
        "these are the 6 other accounts with most room; 2 more have some"
    ]
    wrong = work.run("weigh", "drupal", "--client", "Hill")
    assert (wrong.returncode, wrong.stderr.strip()[-28:]) == (2, '"; did you mean "Hill Farm"?')
    strange = work.run("weigh", "drupal", "--client", "Xyz").stderr.strip()
    assert strange == 'kettlepost: nobody in the plan is the client "Xyz"; clients are Hill Farm and Somebody'
    assert work.run("weigh", "drupal", "hill.example", "--client", "Hill Farm").returncode == 2
