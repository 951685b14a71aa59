"""What is recognised in files: pages, control files, configurations, leaks, names, applications."""

from __future__ import annotations

import io
from pathlib import Path

import pytest
import rtoml

from conftest import Work, lacking, taken
from kettlepost.core.plan import ConfigMark
from kettlepost.core.survey import Survey
from kettlepost.core.survey.configuration import database_of, sifting
from kettlepost.core.survey.control_files import effects_of
from kettlepost.core.survey.placeholders import PlaceholderFinder
from kettlepost.sources import open_source
from kettlepost.workspace.catalogue import applications, placeholder_marks
from kettlepost.workspace.plan_folder import read_plan
from kettlepost.workspace.surveys import try_folder

PAGES = rtoml.loads((Path(__file__).parent / "pages.toml").read_text("utf-8"))
DEBIAN = Path(__file__).parent.parent / "build" / "debian"
PLAIN = '[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n'


def found(work: Work, tree: dict[str, str]) -> Survey:
    survey = work.account(PLAIN).there(tree).stored()
    assert survey is not None
    return survey


def test_placeholders_are_told_from_short_pages(record_property: pytest.RecordProperty) -> None:
    finder = PlaceholderFinder(placeholder_marks())
    taken = [page for page in PAGES["placeholder"] if finder.judge(page.encode())]
    wrong = [page for page in PAGES["real"] if finder.judge(page.encode())]
    precision, recall = len(taken) / (len(taken) + len(wrong)), len(taken) / len(PAGES["placeholder"])
    record_property("precision", precision)
    record_property("recall", recall)
    print(f"placeholders: precision {precision:.2f}, recall {recall:.2f} on {sum(map(len, PAGES.values()))} pages")
    assert wrong == []
    assert [page for page in PAGES["placeholder"] if page not in taken] == []


@pytest.mark.parametrize(
    ("name", "text", "told"),
    [
        (".htaccess", "RewriteEngine On\nRewriteRule ^index\\.php$ - [L]\nRewriteRule . /index.php [L]", ["rewrites every path 3 /index.php"]),
        (".htaccess", "FallbackResource /front.php", ["falls back to one file 1 /front.php"]),
        (".htaccess", "RewriteBase /a\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule . b.php", ["rewrites every path but files 3 /a/b.php"]),
        (".htaccess", "RewriteEngine off\nRewriteCond %{HTTP_HOST} x\nRewriteRule . b.php", ["rewrites some paths 3 b.php", "turns rewriting off 1 "]),
        (".htaccess", "DirectoryIndex a.php b.html", ["changes the index order 1 a.php b.html"]),
        (".htaccess", "AuthType Basic\nAuthUserFile /x\nRequire valid-user", ["asks for a password 1 "]),
        (".htaccess", "Require all denied", ["denies everyone 1 "]),
        (".htaccess", "<Files secret.txt>\nRequire all denied\n</Files>", []),
        (".htaccess", "<IfModule mod_x.c>\nDeny from all\n</IfModule>", ["denies everyone 2 "]),
        (".htaccess", "RewriteRule ^(.*)$ https://%{HTTP_HOST}/$1 [R=301]", ["redirects to https 1 "]),
        (".htaccess", "RewriteRule ^ https://www.b.example%{REQUEST_URI}", ["redirects to another host 1 www.b.example"]),
        (".htaccess", "Redirect 301 /old /new", ["redirects 1 /new"]),
        (".htaccess", "AddHandler application/x-httpd-php81 .php", ["sets the PHP version 1 8.1"]),
        (".htaccess", 'Header set X-Robots-Tag "noindex, nofollow"', ["shuts out search engines 1 "]),
        (".htaccess", "# Require all denied\nOptions -Indexes", []),
        ("robots.txt", "User-agent: *\nDisallow: / # all", ["shuts out search engines 2 "]),
        ("robots.txt", "User-agent: fetcher\nDisallow: /\nUser-agent: *\nDisallow: /private", []),
        (".user.ini", "; x\nauto_prepend_file = first.php\nmemory_limit = 1G", ["adds a file to every page 2 first.php", "sets PHP's settings 3 "]),
        (".maintenance", "<?php $upgrading = 1;", ["shows a maintenance notice 1 "]),
        ("web.config", "<configuration/>", ["speaks to another web server (IIS) 1 "]),
    ],
)  # fmt: skip
def test_control_files_are_read_for_what_they_do(name: str, text: str, told: list[str]) -> None:
    assert [f"{one.does} {one.line} {one.what}" for one in effects_of(name, text.encode())] == told


@pytest.mark.parametrize(
    ("text", "name", "prefix"),
    [
        ("define( 'N', 'shop' );\n$P = 'bs_';\ndefine('N', 'later');", "shop", "bs_"),
        ("define(\"N\", \"shop\"); $x['P']='a_';", "shop", "a_"),
        ("'N' => 'shop', 'password' => 'never', 'P' => 'bs_'", "shop", "bs_"),
        ("N=shop\nP=\nPASSWORD=never", "shop", ""),
        ("public $N = 'shop';\npublic $password = 'never';", "shop", ""),
        ("// $N = 'comment';\n$N='shop'; # x", "shop", ""),
        ("[database]\nN = \"shop\"\nP = bs_", "shop", "bs_"),
        ("NN='x'; N_='y';", None, None),
    ],
)  # fmt: skip
def test_configurations_give_their_database_and_no_password(text: str, name: str | None, prefix: str | None) -> None:
    mark = ConfigMark(file="c.php", name="N", prefix="P", user="password")
    sifted = sifting([mark])(io.BytesIO(text.encode()))
    assert b"never" not in sifted
    database = database_of(mark, sifted)
    assert (database and database.name, database and database.prefix) == (name, prefix)


def test_what_should_not_be_there_is_found_under_roots_only(work: Work) -> None:
    names = [
        "dump.sql.gz",
        "site.tar.gz",
        "id_rsa",
        "wp-config.php.bak",
        ".env",
        "error_log",
        "x.log.1",
        "config.inc.php~",
    ]
    tree = {
        f"{root}/{name}": "x" for root in ("www/a", "private") for name in [*names, "page.php", "sql.html", "log.txt"]
    }
    survey = found(work, tree | {"www/.git/HEAD": "", "www/.git/x.sql": "", "www/mail/new/1": ""})
    told = {one.folder.below(one.name): one.kind for one in survey.exposed}
    assert told == {
        "www/.git": "repository", "www/mail": "mail folder", "www/a/dump.sql.gz": "database dump", "www/a/site.tar.gz": "archive",
        "www/a/id_rsa": "private key", "www/a/wp-config.php.bak": "configuration backup", "www/a/.env": "configuration backup",
        "www/a/error_log": "log", "www/a/x.log.1": "log", "www/a/config.inc.php~": "configuration backup",
    }  # fmt: skip


def test_names_that_make_trouble_are_told(work: Work) -> None:
    survey = found(
        work,
        {
            "www/Shop/": "",
            "www/shop/": "",
            "www/a b/": "",
            "www/cafe\u0301/x": "",
            "www/caf\u00e9/x": "",
            "www/x\x07": "",
            "www/A.txt": "",
            "www/a.TXT": "",
        },
    )
    told = sorted((one.folder.below(one.name), one.kind) for one in survey.oddities)
    assert told == [
        ("www/Shop", "capitals in the name"), ("www/a b", "space in the name"), ("www/a.TXT", "differs by case only"),
        ("www/cafe\u0301", "letters beyond ASCII in the name"), ("www/caf\u00e9", "differs by Unicode form only"),
        ("www/caf\u00e9", "letters beyond ASCII in the name"), ("www/shop", "differs by case only"), ("www/x\x07", "unprintable name"),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("tree", "kind"),
    [
        (
            {"www/index.php": "<?php run();", "www/.htaccess": "RewriteRule . index.php"},
            "front-controller PHP application",
        ),
        ({"www/index.php": "<?php echo 1;"}, "PHP pages"),
        ({"www/index.html": "<h1>Geese</h1>", "www/sub/index.html": "<h1>Ganders</h1>"}, "static site"),
        (
            {"www/index.html": '<meta name="generator" content="Hugo 0.120"><h1>Geese</h1>'},
            "output of a static site generator",
        ),
        ({"www/package.json": "{}", "www/server.js": ""}, "Node application"),
        ({"www/passenger_wsgi.py": "", "www/requirements.txt": ""}, "Python application"),
        ({"www/index.cgi": "#!/bin/sh"}, "CGI scripts"),
        ({"www/index.html": "coming soon"}, None),
        ({"www/readme.txt": "x"}, None),
    ],
)
def test_sites_that_no_entry_knows_are_told_by_kind(work: Work, tree: dict[str, str], kind: str | None) -> None:
    assert [one.kind for one in found(work, tree).sites] == ([kind] if kind else [])


def test_copies_half_uploads_and_what_was_never_set_up_are_told_apart(work: Work) -> None:
    shop = {"shop.php": "", "barrow/core.php": "BARROW_VERSION = '4.2'"}
    config = {"barrow/config.php": "$till_name = 'x';\n$till_password = 'never';"}
    tree = {
        f"www/{base}/{name}": text
        for base, more in (("a", config), ("a-old", config), ("b", {}))
        for name, text in (shop | more).items()
    }
    tree |= {"www/e/index.php": "", "www/e/data/": "", "www/f/upload.php": "", "www/f/process.php": ""}  # common names
    survey = found(work, tree | {"www/c/grove.php": "", "www/c/tickets/engine.php": "grove 3", "www/d/grove.php": ""})
    told = [(one.folder, one.application, one.condition, one.version) for one in survey.applications]
    assert told == [
        ("www/a", "barrowshop", "", "4.2"), ("www/a-old", "barrowshop", "copy", "4.2"),
        ("www/b", "barrowshop", "not set up", "4.2"), ("www/c", "ticketgrove", "incomplete", "3"),
    ]  # fmt: skip
    assert survey.applications[3].missing == ["tickets/seats.php"]
    assert "never" not in (work.plan / "surveys" / "millbrook.json").read_text()


@pytest.mark.parametrize("known", applications().values(), ids=lambda known: known.id)
def test_every_entry_of_the_catalogue_is_told_from_all_others(work: Work, known: object) -> None:
    """Files laid out as an entry asks are known as that one, and as no other."""
    assert known is not None
    application = applications()[known.id]  # type: ignore[attr-defined]
    marks = [*application.all_of, *application.any_of[:1], *application.index_files]
    tree = {f"www/x/{path}": "<?php run();" for path in marks}
    if application.config:
        tree[f"www/x/{application.config.file}"] = f"${application.config.name} = 'millb_x';"
    (one,) = found(work, tree).applications
    assert (one.application, one.folder, one.condition) == (application.id, "www/x", "")
    if application.config and application.config.name:
        assert one.database is not None
        assert one.database.name == "millb_x"
    trial = try_folder(read_plan(work.plan), work.homes / "millbrook/www/x")
    assert (trial.applications[0].application, trial.rivals[0].application) == (application.id, application.id)


def test_real_releases_are_known_with_version_and_evidence(work: Work) -> None:
    """The files of Debian's packages, unpacked by .ci/run into build/debian."""
    if not DEBIAN.is_dir():
        lacking("build/debian")
    plan = read_plan(work.account(PLAIN).plan)
    survey = taken(plan, "millbrook", open_source(str(DEBIAN)))
    told = {one.application: (one.folder, one.version[:2]) for one in survey.applications}
    assert told["wordpress"] == ("wordpress/usr/share/wordpress", "6.")
    assert told["phpmyadmin"] == ("phpmyadmin/usr/share/phpmyadmin", "5.")
    known = {"wordpress", "phpmyadmin", "roundcube", "shaarli", "adminer", "cacti", "postfixadmin", "ttrss"}
    assert set(told) == known
    assert (told["adminer"][1], told["cacti"][1]) == ("4.", "1.")
    pages = {page.kind: str(page.folder).split("/")[0] for page in survey.placeholders}
    servers = {"apache": "apache2-data", "nginx": "nginx-common", "lighttpd": "lighttpd", "caddy": "caddy"}
    assert servers.items() <= pages.items()


def test_apps_lists_explains_and_tries(work: Work) -> None:
    work.account(PLAIN, settings='[[application]]\nid = "wordpress"\ntitle = "Our own"\nall_of = ["own.php"]\n')
    assert {one["id"]: one["title"] for one in work.json("apps")["applications"]}["wordpress"] == "Our own"
    assert len(work.json("apps")["applications"]) >= 40
    assert "Our own  wordpress, from kettlepost.toml" in work.run("apps", "wordpress").stdout
    assert 'did you mean "wordpress"?' in work.run("apps", "wordpres").stderr
    work.there({"x/own.php": "", "x/wiki/doku.php": "", "x/wiki/inc/init.php": "", "x/wiki/lib/exe/fetch.php": ""})
    said = work.run("apps", "--try", str(work.homes / "millbrook/x")).stdout
    assert "is Our own" in said
    assert "wiki is DokuWiki (never set up)" in said
    assert work.run("apps", "--try", "/nowhere").returncode == 2
