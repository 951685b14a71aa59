"""Answers that hang on every name of an account's files, on who asks and how, and on the server's own rules."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import control_files
from conftest import Work, examples, run
from kettlepost import open_plan, survey
from kettlepost.core.answering import Answers, Detail, Request, Shown, answer, answer_words, shown_words
from kettlepost.core.errors import InputError
from kettlepost.core.names import HostName
from kettlepost.core.survey import FileNames, NamesWriter
from kettlepost.render.sentences import text
from messes import table

NAMES = st.text(st.characters(exclude_characters="/"), min_size=1, max_size=12) | st.binary(min_size=1, max_size=8).map(
    lambda raw: raw.replace(b"/", b"_").decode("utf-8", "surrogateescape")
)
FRONT = "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^ index.php [L]\n"


def listed(work: Work, *asked: str, options: tuple[str, ...] = ()) -> list[tuple[str, str, str]]:
    """The kind, the status and the certainty of each answer of a list; one by one they are the same."""
    rows = [line.split("\t") for line in work.run("where", "-", *options, input="\n".join(asked)).stdout.splitlines()]
    for row, address in zip(rows, asked, strict=True):
        view = work.json("where", address, *options)
        assert [view["answers"], str(view["status"] or "-"), view["certainty"], view["words"]] == row[2:]
    return [(row[2], row[3], row[4]) for row in rows]


def surveyed(work: Work, tree: dict[str, str]) -> None:
    """Lay files out, and survey them as a user does, with all their names."""
    done = work.there(tree).run("survey", "millbrook", "--from", str(work.homes / "millbrook"))
    assert done.returncode == 0, done.stderr


@settings(max_examples=examples(200))
@given(st.dictionaries(st.sampled_from(["", "www", "www/a", "www/b c"]), st.dictionaries(NAMES, st.booleans())))
def test_the_names_that_were_kept_are_those_that_were_there(tree: dict[str, dict[str, bool]]) -> None:
    pieces: list[bytes] = []
    writer = NamesWriter(pieces.append)
    for folder, names in tree.items():
        writer.add(folder, list(names), [0 if is_empty else 7 for is_empty in names.values()])
    digest, raw = writer.close(), b"".join(pieces)
    kept = FileNames(raw)
    assert kept.digest == digest
    for folder, names in tree.items():
        for name, is_empty in names.items():
            if "\0" not in name and name.isprintable():
                assert (kept.has(folder, name), kept.is_empty(folder, name)) == (True, is_empty)
                assert kept.begins(folder, name[:1])
        assert not kept.has(folder, "no such name")
        assert not kept.has(f"{folder}/x", "a")
    for cut in range(0, len(raw) - 1, 7):
        with pytest.raises(InputError):
            FileNames(raw[:cut])


def test_a_file_among_many_is_known_while_the_names_are_those_of_the_survey(work: Work) -> None:
    work.account(table("domain", name="a.example", kind="primary", root="www"))
    tree = {f"www/page-{n:03}.php": "x" for n in range(40)} | {"www/index.php": "x", "www/.htaccess": FRONT}
    surveyed(work, tree)
    asked = ("a.example/page-033.php", "a.example/page-099.php", "a.example/2024/hello")
    sure = [("file", "200", "certain")] * 3
    assert listed(work, *asked) == sure
    assert work.json("where", asked[0])["answering_file"] == "www/page-033.php"
    assert work.json("where", asked[1])["answering_file"] == "www/index.php"
    names = work.plan / "surveys/millbrook.names"
    kept = names.read_bytes()
    surveyed(work, {"www/page-099.php": "x"})
    assert work.json("where", asked[1])["answering_file"] == "www/page-099.php"
    for other in (kept, kept[:-9], b"", None):  # those of the survey before, damaged ones, none
        names.unlink() if other is None else names.write_bytes(other)
        view = work.json("where", asked[1])
        assert (view["certainty"], view["remedy"]) == ("depends", "kettlepost survey millbrook --from PATH")
        assert listed(work, asked[2])[0][2] == "depends"
    assert work.run("check").returncode in (0, 1)


def test_names_go_with_their_account_and_stay_out_of_version_control(work: Work, tmp_path: Path) -> None:
    assert run("new", str(tmp_path / "fresh"), "--account", "one").returncode == 0
    assert "surveys/*.names" in (tmp_path / "fresh/.gitignore").read_text().split()
    work.account(table("domain", name="a.example", kind="primary", root="www"))
    surveyed(work, {f"www/page-{n}.html": "x" for n in range(9)})
    assert work.run("account", "rename", "millbrook", "weir", "--yes").returncode == 0
    assert sorted(path.name for path in (work.plan / "surveys").glob("*.names")) == ["weir.names"]
    assert listed(work, "a.example/page-8.html") == [("file", "200", "certain")]
    assert work.run("undo", "--yes").returncode == 0
    assert sorted(path.name for path in (work.plan / "surveys").glob("*.names")) == ["millbrook.names"]


def test_a_control_file_that_nobody_could_read_leaves_everything_open(work: Work) -> None:
    work.account(table("domain", name="a.example", kind="primary", root="www"))
    home = work.homes / "millbrook/www"
    home.mkdir(parents=True)
    (home / "index.html").write_text("geese")
    (home / ".htaccess").write_text("Require all denied\n")
    listing = work.homes / "listing.txt"
    listing.write_text("".join(f"f {path.stat().st_size} 0 www/{path.name}\n" for path in home.iterdir()))
    found = "\n".join(f"./www/{path.name}" for path in home.iterdir())
    listing.write_text(f".\n./www\n{found}\n")
    if work.run("survey", "millbrook", "--from", str(listing)).returncode == 0:
        assert listed(work, "a.example/index.html")[0][2] == "depends"
        assert "what it says, as that was not read" in work.json("where", "a.example")["words"]


@pytest.mark.parametrize(
    ("control", "asked", "options", "told"),
    [
        ("Require ip 203.0.113.0/24\n", "page.txt", (), ("denied", "403", "certain")),
        ("Require ip 203.0.113.0/24\n", "page.txt", ("--visitor", "203.0.113.9"), ("file", "200", "certain")),
        ("<Limit POST>\nRequire all denied\n</Limit>\n", "page.txt", ("--method", "POST"), ("denied", "403", "certain")),
        ("<Limit POST>\nRequire all denied\n</Limit>\n", "page.txt", (), ("file", "200", "certain")),
        ("RewriteEngine On\nRewriteCond %{HTTPS} on\nRewriteRule ^ - [F]\n", "page.txt", ("--scheme", "https"), ("denied", "403", "depends")),
        ("RewriteEngine On\nRewriteCond %{HTTPS} on\nRewriteRule ^ - [F]\n", "page.txt", (), ("file", "200", "certain")),
        ("RewriteEngine On\nRewriteCond %{QUERY_STRING} old=(\\d+)\nRewriteRule ^ /page.txt? [R=301]\n", "?old=3", (), ("redirect", "301", "certain")),
        ("", "page.txt/", (), ("nothing", "404", "certain")),
        ("", "index.php/x/y", (), ("file", "200", "certain")),
        ("", ".htaccess", (), ("denied", "403", "certain")),
        ("RewriteEngine On\nRewriteCond %{HTTP:Authorization} ^(.*)\nRewriteRule .* - [E=auth:%1]\n", "page.txt", (), ("file", "200", "certain")),
        ("<IfModule LiteSpeed>\nRewriteEngine On\nRewriteRule .* - [E=noabort:1]\n</IfModule>\n", "page.txt", (), ("file", "200", "certain")),
        ("<IfModule LiteSpeed>\nRewriteEngine On\nRewriteRule ^page /index.php\n</IfModule>\n", "page.txt", (), ("file", "200", "depends")),
        ("StrangeDirective x\n", "page.txt", (), ("file", "200", "depends")),
    ],
)  # fmt: skip
def test_how_it_is_asked_for_and_by_whom_counts(
    work: Work, control: str, asked: str, options: tuple[str, ...], told: tuple[str, str, str]
) -> None:
    work.account(table("domain", name="a.example", kind="primary", root="www"))
    tree = {"www/page.txt": "geese", "www/index.php": "<?php echo 1;"}
    work.there(tree | ({"www/.htaccess": control or "Header set X y\n"}))
    assert listed(work, f"a.example/{asked}", options=options) == [told]


ON_HTTPS = "RewriteEngine On\nRewriteCond %{HTTPS} off\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]\n"


@pytest.mark.parametrize(
    ("control", "asked", "told", "untold", "keys"),
    [
        ("", "a.example/in/", "lists = true", ("listing", "403", "depends"), ("listing", "200", "certain")),
        ("", "a.example/in/", "lists = false", ("listing", "403", "depends"), ("listing", "403", "certain")),
        ("", "https://a.example/page.txt", 'tls = "all"', ("file", "200", "depends"), ("file", "200", "certain")),
        ("", "https://a.example/page.txt", 'tls = "none"', ("file", "200", "depends"), ("unknown", "-", "unknown")),
        (ON_HTTPS, "a.example/page.txt", 'tls = "certificate"', ("file", "200", "certain"), ("redirect", "301", "certain")),
        ("php_value a b\n", "a.example/page.txt", 'php = "module"', ("file", "200", "depends"), ("file", "200", "certain")),
        ("php_value a b\n", "a.example/page.txt", 'php = "fastcgi"', ("file", "200", "depends"), ("error", "500", "certain")),
        ("RewriteEngine On\nRewriteRule ^page http://b.example/ [P]\n", "a.example/page.txt", 'lacks = ["proxy"]',
         ("denied", "403", "depends"), ("denied", "403", "certain")),
        ("Require all denied\n", "a.example/page.txt", 'allow_override = ["None"]', ("denied", "403", "certain"),
         ("file", "200", "certain")),
        ("Require all denied\n", "a.example/page.txt", 'allow_override = ["FileInfo"]', ("denied", "403", "certain"),
         ("error", "500", "certain")),
        ("RewriteEngine On\nRewriteCond %{HTTP:X-Forwarded-Proto} https\nRewriteRule ^ - [F]\n", "a.example/page.txt",
         "behind_proxy = false", ("file", "200", "depends"), ("file", "200", "certain")),
        ("", "a.example/", 'index_files = ["page.txt"]', ("placeholder", "200", "certain"), ("file", "200", "certain")),
    ],
)  # fmt: skip
def test_what_is_told_of_a_server_decides_and_is_named_where_nobody_did(
    work: Work, control: str, asked: str, told: str, untold: tuple[str, str, str], keys: tuple[str, str, str]
) -> None:
    work.account(table("domain", name="a.example", kind="primary", root="www"))
    work.there({"www/page.txt": "geese", "www/index.php": "<?php", "www/in/x.txt": "x", "www/.htaccess": control})
    assert listed(work, asked) == [untold]
    key = told.partition(" ")[0]
    if untold[2] == "depends":
        assert f"{'modules' if key == 'lacks' else key} of [web_server.apache]" in work.json("where", asked)["words"]
    settings = work.plan / "kettlepost.toml"
    settings.write_text(f"{settings.read_text()}\n[web_server.apache]\n{told}\n")
    assert listed(work, asked) == [keys]
    ours = '[account]\nname = "millbrook"\nweb_server = "ours"\n\n' + table(
        "domain", name="a.example", kind="primary", root="www"
    )
    work.account(ours, settings=f"[web_server.ours]\n{told}\n")
    assert listed(work, asked) == [keys]


def test_what_is_alike_is_told_of_each_host_by_itself(work: Work) -> None:
    hosts = table("domain", name="a.example", kind="primary", root="www") + table(
        "domain", name="b.example", kind="addon", root="b"
    )
    work.account(hosts + table("certificate", covers=["a.example"])).there(
        {"www/page.html": "geese", "b/page.html": "ducks"}
    )
    asked = [
        f"{scheme}{host}/{path}"
        for path in ("none.html", "nor.html")
        for scheme in ("", "https://")
        for host in ("a.example", "b.example")
    ]
    nothing, depends = ("nothing", "404", "certain"), ("nothing", "404", "depends")
    assert listed(work, *asked) == [nothing, nothing, nothing, depends] * 2


def test_what_hangs_on_where_a_home_lies_is_said_where_nobody_told(work: Work) -> None:
    domain = table("domain", name="a.example", kind="primary", root="www")
    rule = "RewriteEngine On\nRewriteCond %{DOCUMENT_ROOT} ^/home\nRewriteRule ^page - [F]\n"
    away = "RewriteEngine On\nRewriteRule ^moved %{DOCUMENT_ROOT}/page.txt [R=301,L]\n"
    work.account(domain).there({"www/page.txt": "geese", "www/.htaccess": rule, "www/away/.htaccess": away})
    assert listed(work, "a.example/page.txt", "a.example/away/moved") == [
        ("denied", "403", "depends"),
        ("redirect", "301", "depends"),
    ]
    assert "(home of [account])" in work.json("where", "a.example/page.txt")["words"]
    work.account(f'[account]\nname = "millbrook"\nhome = "/srv/millbrook"\n{domain}')
    assert listed(work, "a.example/page.txt", "a.example/away/moved") == [
        ("file", "200", "certain"),
        ("redirect", "301", "certain"),
    ]


def test_every_detail_of_an_answer_has_words() -> None:
    told = [shown_words(Shown("nothing", detail), HostName("a.example"), None) for detail in Detail]
    assert len(set(told)) > 30


def test_what_is_no_visitor_is_said(work: Work) -> None:
    work.account(table("domain", name="a.example", kind="primary", root="www"))
    done = work.run("where", "a.example", "--visitor", "somebody")
    assert (done.returncode, "such as 203.0.113.9" in done.stderr) == (2, True)


RULES = (
    table("path_rule", address="a.example/inside", does="password")
    + table("path_rule", address="a.example/shut", does="denied")
    + table("path_rule", address="www.a.example/old", does="redirect", to="b.example/new")
    + table("path_rule", address="a.example/app", does="fallback", to="/app/front.php")
)


def test_a_server_without_control_files_does_what_the_plan_says(work: Work) -> None:
    host = table("domain", name="a.example", kind="primary", root="www", also=["www.a.example"], fallback="/index.php")
    work.account(f'[account]\nname = "millbrook"\nweb_server = "nginx"\n\n{host}{RULES}')
    work.there({"www/index.php": "x", "www/page.txt": "x", "www/app/front.php": "x", "www/inside/a.txt": "x",
                "www/.htaccess": "Require all denied\n"})  # fmt: skip
    assert listed(work, *(f"www.a.example/{path}" for path in (
        "page.txt", "nowhere", "app/nowhere", "inside/a.txt", "shut/x", "old/x", "page.txt/", "app", ".htaccess"))) == [
        ("file", "200", "certain"), ("file", "200", "certain"), ("file", "200", "certain"), ("password", "401", "certain"),
        ("denied", "403", "certain"), ("redirect", "301", "certain"), ("file", "200", "certain"), ("listing", "403", "certain"),
        ("file", "200", "certain"),
    ]  # fmt: skip
    assert work.json("where", "a.example/app/nowhere")["answering_file"] == "www/app/front.php"
    assert work.json("where", "a.example/old/x")["sent_to"] == "b.example/new/x"


@pytest.mark.parametrize(
    ("control", "is_found"),
    [
        ("Require all denied\n", True),
        ("Require ip 203.0.113.0/24\n", False),
        ("Order deny,allow\nAllow from 192.0.2\nDeny from all\n", False),
        ("AuthType Basic\nAuthName x\nRequire valid-user\n", False),
    ],
)
def test_what_is_kept_for_some_on_purpose_is_no_address_that_is_taken(work: Work, control: str, is_found: bool) -> None:
    shop = table("installation", application="wordpress", address="a.example/shop", state="planned")
    work.account(table("domain", name="a.example", kind="primary", root="www") + shop)
    work.there({"www/index.html": "geese", "www/.htaccess": control})
    found = [found for found in work.check().findings if found.rule == "address-swallowed"]
    assert bool(found) == is_found
    assert all("if it is to be open to everybody, write" in text(one.ways_out[0].words) for one in found)


def test_a_rule_of_the_server_keeps_a_second_door_shut(work: Work) -> None:
    tables = table("domain", name="a.example", kind="primary", root="www")
    tables += table("domain", name="m.a.example", kind="subdomain", root="www/m", protected=True)
    work.account(tables).there({"www/m/index.html": "geese"})
    assert "second-door" in work.rules()
    work.account(tables + table("path_rule", address="a.example/m", does="password"))
    assert "second-door" not in work.rules()


@pytest.mark.parametrize(
    ("tables", "words"),
    [
        (table("domain", name="a.example", kind="primary", root="www", fallback="/i.php"), "fallback is for other web servers"),
        (table("domain", name="a.example", kind="primary", root="www") + table("path_rule", address="b.example", does="denied"), "b.example is no domain of this account"),
        (table("domain", name="a.example", kind="primary", root="www") + table("path_rule", address="a.example", does="redirect"), 'a redirect wants "to"'),
        (table("domain", name="a.example", kind="primary", root="www") + table("path_rule", address="a.example", does="denied", to="/x"), "take it out"),
    ],
)  # fmt: skip
def test_a_rule_that_cannot_be_is_a_fault(work: Work, tables: str, words: str) -> None:
    done = work.account(tables).run("check")
    assert (done.returncode, words in done.stderr) == (2, True), done.stderr


def test_redirects_of_host_and_control_file_that_go_in_circles_are_found(work: Work) -> None:
    host = table("domain", name="a.example", kind="primary", root="www", www="bare", https=True)
    away = "RewriteEngine On\nRewriteCond %{HTTP_HOST} !^www\\.\nRewriteRule ^ https://www.%{HTTP_HOST}%{REQUEST_URI} [R=301,L]\n"
    back = "RewriteEngine On\nRewriteCond %{HTTPS} on\nRewriteRule ^ http://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]\n"
    for control in (away, back):
        work.account(host).there({"www/index.html": "geese", "www/.htaccess": control})
        (found,) = [found for found in work.check().findings if found.rule == "redirect-loop"]
        assert "www/.htaccess" in text(found.why)
        assert found.account == "millbrook"
    work.there(
        {"www/.htaccess": away.replace("!^www", "^www").replace("https://www.%{HTTP_HOST}", "https://a.example")}
    )
    assert "redirect-loop" not in work.rules()


@settings(max_examples=examples(60), deadline=None)
@given(st.integers(0, 100_000))
def test_what_is_told_of_many_names_at_once_is_what_is_told_of_each(
    tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    work = Work(tmp_path_factory.mktemp("many"))
    world = control_files.random_world(seed, 0)
    control_files.lay_out(world, work.homes / "millbrook")
    work.account("".join(table("domain", name=host, kind="primary" if host == "w0.example" else "addon", root=root)
                         for host, root in world.hosts.items()))  # fmt: skip
    plan = open_plan(work.plan)
    survey(plan, "millbrook", str(work.homes / "millbrook"))
    layouts = open_plan(work.plan).layout
    answers = Answers(layouts, "now")
    names = ["nix", "old", "front", "abc.txt", "x.html", "zz.php", ".htx", "b-1", "A", "läden", "index.htm"]
    asked = [
        f"{host}/{folder}{name}" for host, _ in world.asked[:2] for folder in ("", "a/", "a/c/", "b/") for name in names
    ]
    for written in [*asked, *(f"{host}/{path}" for host, path in world.asked)]:
        request = Request.parse(written)
        full = answer(layouts, request.address, "now", request)
        assert answers.brief(request)[1:] == (full.kind, full.status, full.certainty, answer_words(full)), written


def test_lists_have_the_same_in_json(work: Work) -> None:
    work.account(table("domain", name="a.example", kind="primary", root="www")).there({"www/index.html": "geese"})
    (line,) = work.run("where", "-", "--format", "json", input="a.example\n").stdout.splitlines()
    told = json.loads(line)
    assert (told["asked"], told["leads_to"], told["status"], told["certainty"]) == ("a.example", "www", 200, "certain")
    shutil.rmtree(work.plan / "surveys")
    (line,) = work.run("where", "-", "--format", "json", input="a.example\n").stdout.splitlines()
    assert (json.loads(line)["status"], json.loads(line)["certainty"]) == (None, "unknown")
