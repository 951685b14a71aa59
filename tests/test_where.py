"""`where` in all its forms, and what domains, aliases and links make of addresses."""

from __future__ import annotations

import json

import pytest

from conftest import Work
from kettlepost.render.sentences import text
from test_rules import BASE, domain, installation

TABLES = (
    '[account]\nname = "millbrook"\nhome = "/srv/millbrook"\naddon_also = "{label}.{primary}"\n\n'
    + domain("a.example", "www", "primary", 'www = "bare"\nhttps = true')
    + domain("b.example", "sites/b", more='www = "www"')
    + domain("*.a.example", "wild", "subdomain")
    + domain("x.a.example", "ex", "subdomain", "protected = true")
    + '[[domain]]\nname = "c.example"\nkind = "addon"\nredirect_to = "b.example/deep"\n\n'
    + '[[domain]]\nname = "lost.example"\nkind = "alias"\nof = "nobody.example"\n\n'
    + '[[domain]]\nname = "round.example"\nkind = "addon"\nredirect_to = "trip.example"\n\n'
    + '[[domain]]\nname = "trip.example"\nkind = "addon"\nredirect_to = "round.example"\n\n'
    + '[[domain]]\nname = "srv.example"\nkind = "temporary"\npath = "~m"\nof = "a.example"\n\n'
    + '[[path_alias]]\naddress = "a.example/pictures"\nfolder = "media"\n\n'
    + installation("a.example/shop")
    + installation("b.example/old", "quillmoor", "retired")
)
TREE = {
    "www/index.html": "Our own page about geese and ganders.",
    "www/shop/index.html": "Coming soon",
    "sites/b/deep/index.html": "Our own page about the deep blue pond.",
    "sites/b/old/quill.php": "", "sites/b/old/moor/kernel.php": "", "sites/b/old/index.php": "x",
    "wild/a.txt": "x", "media/goose.jpg": "x", "ex/index.html": "Our own page for members of the pond.",
}  # fmt: skip


@pytest.mark.parametrize(
    ("address", "when", "kind", "told"),
    [
        ("a.example", "now", "file", ["its root is www", "http is sent on to https", "index.html, a page of its own"]),
        ("www.a.example/shop", "now", "redirect", ["a redirect to a.example/shop: a placeholder page, index.html"]),
        ("b.example/deep", "now", "redirect", ["a redirect to www.b.example/deep"]),
        ("www.b.example/deep", "now", "file", ["www.b.example is another name of b.example"]),
        ("b.a.example/deep", "now", "file", ["b.a.example is another name of b.example"]),
        ("y.z.a.example", "now", "listing", ["its root is wild"]),
        ("x.a.example", "now", "password", ["the server asks for a password", "its root is ex"]),
        ("c.example/x", "now", "redirect", ["a redirect to b.example/deep/x, in the end to www.b.example/deep/x"]),
        ("round.example", "now", "redirect", ["goes round in circles"]),
        ("lost.example", "now", "nothing", ["it stands for nobody.example, which leads nowhere"]),
        ("srv.example/~m/shop", "now", "placeholder", ["which stands for a.example", "so it leads to www/shop"]),
        ("srv.example/shop", "now", "not ours", ["not one of ours"]),
        ("a.example/pictures/goose.jpg", "now", "file", ["the server maps a.example/pictures to media", "goose.jpg"]),
        ("a.example/shop", "planned", "placeholder", ["Barrowshop (planned there) behind it is not seen"]),
        ("www.b.example/old", "now", "application", ["Quillmoor"]),
        ("www.b.example/old", "planned", "file", ["index.php, a page of its own"]),
    ],
)
def test_where_tells_what_answers_and_why(work: Work, address: str, when: str, kind: str, told: list[str]) -> None:
    work.account(TABLES).there(TREE)
    view = work.json("where", address, "--when", when)
    assert view["answers"] == kind, view
    for words in told:
        assert words in "\n".join([*view["chain"], view["words"]])
    text = work.run("where", address, "--when", when).stdout
    assert view["words"] in text


def test_lists_go_in_and_out_a_line_each(work: Work) -> None:
    work.account(TABLES).there(TREE)
    asked = "a.example\nhttps://www.b.example/deep/?q\n\nnobody.test\nhttp://a..example\n"
    out = work.run("where", "-", input=asked).stdout.splitlines()
    assert [line.split("\t")[:3] for line in out] == [
        ["a.example", "www", "file"], ["https://www.b.example/deep/?q", "sites/b/deep", "file"],
        ["nobody.test", "-", "not ours"], ["http://a..example", "-", "wrong"],
    ]  # fmt: skip
    lines = work.run("where", "-", "--format", "json", input=asked).stdout.splitlines()
    assert [json.loads(line)["answers"] for line in lines] == ["file", "file", "not ours", "wrong"]
    folders = work.run("where", "--folder", "-", input="www/shop\n/etc\nnone\n").stdout.splitlines()
    assert folders[0].split("\t")[1] == "a.example/shop, srv.example/~m/shop"
    assert [line.split("\t")[2] for line in folders] == ["placeholder", "wrong", "nothing"]


def test_a_folder_tells_its_addresses(work: Work) -> None:
    work.account(TABLES).there(TREE)
    view = work.json("where", "--folder", "sites/b")
    assert view["addresses"] == ["www.b.example/", "b.a.example/"]
    assert "by no address" in work.run("where", "--folder", "elsewhere").stdout
    for words in (
        [],
        ["a.example", "--folder", "www"],
        ["--folder", "../up"],
        ["--folder", "www", "--account", "milbrook"],
    ):
        assert work.run("where", *words).returncode == 2


@pytest.mark.parametrize(
    ("target", "home", "answer"),
    [
        ("sites/rail", "/srv/millbrook", "file"),
        ("/srv/millbrook/sites/rail", "/srv/millbrook", "file"),
        ("/srv/elsewhere", "/srv/millbrook", "unknown"),
        ("www", "/srv/millbrook", "unknown"),
        ("sites/../../up", "/srv/millbrook", "unknown"),
    ],
)
def test_links_are_followed_inside_the_home_and_no_further(work: Work, target: str, home: str, answer: str) -> None:
    work.account(f'[account]\nname = "millbrook"\nhome = "{home}"\n\n' + BASE + domain("b.example", "sites/rail"))
    (work.homes / "millbrook").mkdir(parents=True)
    (work.homes / "millbrook/www").symlink_to(target)
    work.there({"sites/rail/index.html": "Our own page about geese and ganders."})
    assert work.json("where", "a.example")["answers"] == answer
    assert ("shared-root" in work.rules()) == (answer == "file")
    if answer == "file":
        assert work.json("where", "--folder", "sites/rail")["addresses"] == ["a.example/", "b.example/"]
    else:
        assert f"www is a symbolic link to {target}" in work.run("where", "a.example").stdout


def test_a_fallback_has_its_say_where_rewriting_has_none(work: Work) -> None:
    rules = "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . front.php [L]\n"
    tree = {"www/.htaccess": "FallbackResource /front.php\n", "www/front.php": "x", "www/a/page.txt": "x"}
    work.account(domain("a.example", "www", "primary")).there(tree | {"www/a/.htaccess": rules})
    there = {address: work.json("where", f"a.example/{address}") for address in ("gone", "a", "a/gone")}
    assert {address: view["answers"] for address, view in there.items()} == {
        "gone": "file", "a": "listing", "a/gone": "nothing",
    }  # fmt: skip
    assert there["gone"]["answering_file"] == "www/front.php"
    assert "www/.htaccess line 1: FallbackResource /front.php" in there["gone"]["chain"]
    assert "www/a/.htaccess line 4: RewriteRule . front.php [L]" in there["a/gone"]["chain"]
    work.account('[account]\nname = "millbrook"\nweb_server = "nginx"\n\n' + domain("a.example", "www", "primary"))
    assert work.json("where", "a.example/gone")["answers"] == "nothing"  # which obeys no control files


CHANGING = (
    '[account]\nname = "millbrook"\npackage = "tin"\n\n'
    + BASE
    + domain("new.example", "new", more='state = "planned"')
    + domain("old.example", "old", more='state = "retired"')
    + domain("moving.example", "here", more='root_now = "there"')
    + '[[domain]]\nname = "too.example"\nkind = "alias"\nof = "moving.example"\n\n'
    + '[[domain]]\nname = "gone.example"\nkind = "alias"\nof = "old.example"\n\n'
    + installation("new.example/shop", state="planned")
)
NOW = {
    "www/index.html": "Our own page about geese.", "old/index.html": "Our own page about ganders.",
    "there/index.html": "Our own page about ducks.", "new/index.html": "Our own page about swans.", "here/": "",
}  # fmt: skip


@pytest.mark.parametrize(
    ("address", "now", "planned"),
    [
        ("a.example", ("file", "www"), ("file", "www")),
        ("new.example", ("nothing", None), ("file", "new")),
        ("new.example/shop", ("nothing", None), ("application", "new/shop")),
        ("old.example", ("file", "old"), ("nothing", None)),
        ("moving.example", ("file", "there"), ("empty folder", "here")),
        ("too.example", ("file", "there"), ("empty folder", "here")),
        ("gone.example", ("file", "old"), ("nothing", None)),
        ("nobody.example", ("not ours", None), ("not ours", None)),
    ],
)
def test_now_is_what_is_and_planned_what_will_be(
    work: Work, address: str, now: tuple[str, str | None], planned: tuple[str, str | None]
) -> None:
    work.account(CHANGING).there(NOW)
    for when, expected in (("now", now), ("planned", planned)):
        view = work.json("where", address, "--when", when)
        assert (view["answers"], view["folder"]) == expected, view
        line = work.run("where", "-", "--when", when, input=address).stdout.split("\t")
        assert (line[1], line[2]) == (expected[1] or "-", expected[0])


def test_a_domain_that_is_planned_or_retired_is_counted_held_and_told_as_that(work: Work) -> None:
    work.account(CHANGING).there(NOW)
    assert "planned and not on the account" in work.run("where", "new.example").stdout
    assert "old.example is retired" in work.run("where", "old.example", "--when", "planned").stdout
    assert "only while it is still on the account" in work.run("where", "old.example").stdout
    assert work.json("where", "--folder", "there")["addresses"] == ["moving.example/", "too.example/"]
    assert work.json("where", "--folder", "there", "--when", "planned")["addresses"] == []
    rows = {row["domain"]: row for row in work.json("domain", "list")["domains"]}
    assert [rows[name]["state"] for name in ("a.example", "new.example", "old.example")] == [
        "live",
        "planned",
        "retired",
    ]
    assert (rows["new.example"]["now"], rows["moving.example"]["leads_to"]) == ("nothing yet", "there")
    assert "retired" in work.run("domain", "list").stdout
    told = {row["address"]: row["now"] for row in work.json("map")["accounts"]["millbrook"]}
    assert told["new.example/"] == "nothing yet: the domain is planned"
    assert told["moving.example/"].startswith("index.html")
    assert "old.example/" not in told
    found = work.check().findings
    assert "root-missing" not in {one.rule for one in found if "new" in one.at}  # it comes with the domain
    assert [one.at for one in found if one.rule == "alias-of-nothing"] == ["gone.example"]
    for root in ("there", "old"):  # what still leads there, or did, is nobody else's
        done = work.run("domain", "add", f"{root}.example", "--account", "millbrook", "--show")
        assert f'+root = "{root}"' not in done.stdout
    work.account(
        CHANGING.replace('of = "old.example"', 'of = "a.example"')
        + "".join(domain(f"s{n}.a.example", f"s{n}", "subdomain", 'state = "planned"') for n in range(3))
    )
    over = [text(one.title) for one in work.check().findings if one.rule == "over-allowance"]
    assert any(title.startswith("3 planned subdomains") for title in over), over
    there = installation("old.example", "quillmoor", "live")
    work.account(CHANGING + there)
    (stray,) = [one for one in work.check().findings if one.rule == "stray-host"]
    assert "old.example is retired" in text(stray.title)
    assert "still answers at old.example" in work.run("domain", "drop", "old.example", "--yes").stderr
    work.account(CHANGING + there.replace('"live"', '"retired"'))
    assert "stray-host" not in work.rules()
    assert work.run("domain", "drop", "old.example", "--yes").returncode == 0
    assert 'name = "old.example"' not in (work.plan / "accounts/millbrook.toml").read_text()


@pytest.mark.parametrize(
    ("more", "told"),
    [
        ('root = "w"\nstate = "lve"', 'state "lve" is not one of live, planned, retired; did you mean "live"?'),
        ('root = "w"\nroot_now = "w"', "leads to w already; take root_now out"),
        ('root = "w"\nroot_now = "v"\nstate = "planned"', "root_now goes with a live domain that has a root"),
        ('redirect_to = "a.example"\nroot_now = "v"', "root_now goes with a live domain that has a root"),
    ],
)
def test_a_state_that_cannot_be_is_told(work: Work, more: str, told: str) -> None:
    done = work.account(BASE + f'[[domain]]\nname = "b.example"\nkind = "addon"\n{more}\n').run("check")
    assert (done.returncode, told in done.stderr) == (2, True), done.stderr


def test_a_domain_is_added_as_planned_unless_it_is_there(work: Work) -> None:
    work.account(BASE)
    done = work.run("domain", "add", "b.test", "--account", "millbrook", "--yes")
    assert "next: add b.test at the host with the folder b" in done.stderr
    assert work.run("domain", "add", "c.test", "--account", "millbrook", "--live", "--yes").returncode == 0
    text = (work.plan / "accounts/millbrook.toml").read_text()
    assert 'name = "b.test"\nkind = "addon"\nroot = "b"\nstate = "planned"' in text
    assert text.rstrip().endswith('name = "c.test"\nkind = "addon"\nroot = "c"')
    steps = work.json("place", "wordpress", "b.test", "--show")["steps"]
    assert [one["do"] for one in steps[:2]] == ["add-host", "make-database"]
    weighed = work.json("weigh", "wordpress", "a.example", "--new-domain", "n.test")["places"]
    waits = {one["place"]: [step for step in one["steps"] if step["do"].startswith("await-")] for one in weighed}
    (wait,) = waits["domain"]
    assert (wait["do"], wait["host"], wait["is_registered"]) == ("await-name", "n.test", False)
    (added,) = (
        step for one in weighed if one["place"] == "domain" for step in one["steps"] if step["do"] == "add-host"
    )
    assert wait["needs"] == [added["number"]]
    assert wait["wait"] == {"least": 3600, "most": 172800}
    assert all(
        step["who"] and step["seen"] and step["account"] == "millbrook" for one in weighed for step in one["steps"]
    )


@pytest.mark.parametrize("more", ['root = "old"\nstate = "retired"', 'root = "new"\nroot_now = "old"'])
def test_what_a_domain_still_shows_today_is_never_said_to_be_reached_by_nobody(work: Work, more: str) -> None:
    work.account(BASE + f'[[domain]]\nname = "b.example"\nkind = "addon"\n{more}\n')
    work.there({"old/shop.php": "", "old/barrow/core.php": "", "old/dump.sql": "", "www/index.html": "Geese."})
    assert "unmapped-site" not in work.rules()
    assert any(
        "b.example/dump.sql" in text(one.title) for one in work.check().findings if one.rule == "private-exposed"
    )
    assert "no address" not in work.run("survey", "--show", "millbrook").stdout.partition("old")[2].partition("\n")[0]
