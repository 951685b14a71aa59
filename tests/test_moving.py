"""Old addresses that stay good: the lines that keep them, on a real server, and what is found of promises."""

from __future__ import annotations

import http.client
import os
import random
import re
import shlex
import shutil
import subprocess
from contextlib import ExitStack
from itertools import product
from pathlib import Path
from typing import Any
from urllib.parse import quote, unquote

import pytest

import webservers
from conftest import Work, deployed, lacking
from kettlepost.core.moving import KeptHow, address_kept, redirect_lines
from kettlepost.core.moving.promises import old_hosts, old_paths
from kettlepost.core.names import Address
from kettlepost.core.plan import Moved
from kettlepost.core.survey import SET_ASIDE
from messes import table
from servers import mariadb_server
from test_database_scripts import done
from test_wordpress import RELEASE, configured, php
from wishes import Wisher

FIRST, NUMBER = int(os.environ.get("KETTLEPOST_SEED", "300")), int(os.environ.get("KETTLEPOST_MOVES", "80"))
"""The random moves of the proof; `make trials` takes more, and others."""


def random_promise(pick: random.Random, site: webservers.Site) -> str:
    """One old address of a site, that something is at or nothing, and a new one."""
    named = [host for host in site.roots if any(f'name = "{host}"' in one for one in site.tables) and "*" not in host]
    folders = [path.rpartition("/")[0] for path in site.tree]
    host = pick.choice(named)
    inside = [one.removeprefix(site.roots[host]).strip("/") for one in folders if one.startswith(site.roots[host])]
    old = pick.choice([*inside, "old", "old/deep", "new (2)", "page.txt", "a/start.html", "gone.html", "ü.x"])
    new = pick.choice(["", "", "blog", "a", "b/new", "here & there", *inside])
    to = pick.choice([host, host, "elsewhere.test", *named])
    below = "true" if "." not in old and pick.random() < 0.75 else "false"
    if f"{to}/{new}" == f"{host}/{old}":
        new = "other"
    extra = pick.choice(["", "permanent = true\n"])
    return f'[[moved]]\nfrom = "{host}/{old}"\nto = "{to}/{new}"\nbelow = {below}\n{extra}'


def first_reply(port: int, host: str, path: str) -> tuple[int, str]:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    connection.request("GET", path, headers={"Host": host})
    reply = connection.getresponse()
    body = reply.read().decode()
    connection.close()
    goes = (reply.getheader("Location") or "").replace(f":{port}", "")
    return reply.status, goes or (body if reply.status == 200 else "")


@pytest.mark.proof
def test_lines_that_send_on_do_so_on_a_real_server_and_nothing_else(open_folder: Path, tmp_path: Path) -> None:
    if not webservers.installed():
        lacking("apache2")
    sites = [webservers.random_site(FIRST + n, n, controls=True) for n in range(NUMBER)]
    homes = [(site, open_folder / f"home{site.number}") for site in sites]
    work = Work(tmp_path)
    work.homes = open_folder
    wrong, kept, promised = [], 0, 0
    for site, home in homes:
        webservers.lay_out(site, home)
        promise = random_promise(random.Random(FIRST + site.number), site)
        work.account("\n".join([*site.tables, promise]), home.name).survey(home.name)
    layouts = work.layout().accounts
    with webservers.apache(open_folder, homes) as port:
        for site, home in homes:
            layout = layouts[home.name]
            moved = layout.account.moved[0]
            before = {one: first_reply(port, one[0], f"/{quote(one[1], safe='/%')}") for one in site.asked}
            state = address_kept(layout, moved)
            olds = list(product(old_hosts(layout, moved), old_paths(moved)))
            real = [(path, first_reply(port, host, f"{path}?from=old")) for host, path in olds]
            if state.how is not KeptHow.UNKNOWN and (state.how is KeptHow.KEPT) != all(
                leads(moved, *one) for one in real
            ):
                wrong.append(f"seed {FIRST + site.number}: {moved} is {state}, and really {real}")
            found = redirect_lines(layout, moved) if state.how is not KeptHow.KEPT else None
            promised += state.how is not KeptHow.KEPT
            if found is None:
                continue
            kept += 1
            file = home / found.folder / ".htaccess"
            old = file.read_text() if file.exists() else ""
            added = "".join(f"{line}\n" for line in found.lines)
            file.write_text(added + old if found.is_first else f"{old}{added}")
            for host, path in olds:
                reply = first_reply(port, host, f"{path}?from=old")
                if not leads(moved, path, reply):
                    wrong.append(f"seed {FIRST + site.number}: {moved}: {path} gets {reply} by {found}")
            for one, gave in before.items():
                if (
                    not is_old(layout.hosts, moved, one)
                    and first_reply(port, one[0], f"/{quote(one[1], safe='/%')}") != gave
                ):
                    wrong.append(f"seed {FIRST + site.number}: {one} got {gave} before {found}")
    assert not wrong, f"{len(wrong)}:\n" + "\n".join(wrong[:12])
    assert kept > promised * 0.6, (kept, promised)


def leads(moved: Moved, path: str, reply: tuple[int, str]) -> bool:
    """Whether a reply leads to where an old path is to lead, at once, and with what was asked for."""
    rest = unquote(path).removeprefix(f"/{moved.old.path}".rstrip("/")) if moved.below else ""
    place, _, query = reply[1].partition("?")
    wanted = Address(moved.to.host, f"{moved.to.path}/{rest}".strip("/").replace("//", "/"))
    return reply[0] in (301, 302) and query == "from=old" and Address.parse(place) == wanted


def is_old(hosts: object, moved: Moved, asked: tuple[str, str]) -> bool:
    """Whether something that is asked for is the old address, by any name of its domain, or may be below it."""
    mounts = [hosts.mount(Address.parse(one)) for one in (f"{asked[0]}/{asked[1]}", str(moved.old))]  # type: ignore[attr-defined]
    path = Address.parse("/".join(asked)).path
    within = path == moved.old.path or (moved.below and (not moved.old.path or path.startswith(f"{moved.old.path}/")))
    is_same = asked[0] == moved.old.host or (None not in mounts and mounts[0].domain is mounts[1].domain)
    return within and is_same


MOVES = {
    "a.example/new a.example files": "www",
    "a.example/new b.example/shop files": "b/shop",
    "a.example/new a.example front-file": "www/new",
    "a.example/new b.example front-file": "www/new",
    "a.example/new a.example root": "www/new",
    "a.example/new a.example/later/blog files": "www/later/blog",
    "c.example c.example/blog files": "c/blog",
    "c.example a.example/news files": "www/news",
}
"""Moves of what lies in www/new, or at the root of c.example, with where it lies then."""
REWRITES = (
    "RewriteEngine On\nRewriteBase /{0}\nRewriteCond %{{REQUEST_FILENAME}} !-f\nRewriteRule . /{0}index.php [L]\n"
)
HOSTS = "".join(
    table("domain", name=f"{name}.example", kind=kind, root=root, www="both")
    for name, kind, root in (("a", "primary", "www"), ("b", "addon", "b"), ("c", "addon", "c"))
)


@pytest.mark.proof
@pytest.mark.parametrize("move", MOVES)
def test_what_moves_does_so_by_its_work_list_and_its_old_address_leads_to_it(work: Work, move: str) -> None:
    old, new, by = move.split()
    lies = "c" if old == "c.example" else "www/new"
    base = old.partition("/")[2] and "new/"
    entry = table("installation", application="quillmoor", address=old, contact="office@b.example", licensed_to=old)
    work.account(HOSTS + entry)
    beside = {
        "b/page.html": "<p>The choir</p>",
        "www/page.html": "<p>Trains</p>",
        "www/choir/index.html": "<p>Sing</p>",
    }
    work.there(deployed(lies) | beside | {f"{lies}/.htaccess": REWRITES.format(base), f"{lies}/moor/a.css": "a"})
    shown = work.json("move", old, new)
    assert {one["by"]: one["why_not"] for one in shown["ways"]}[by] is None, shown
    refused = work.run("move", old, new, "--by", by)
    assert (refused.returncode, "--yes" in refused.stderr) == (2, True)
    done = work.run("move", old, new, "--by", by, "--yes")
    assert done.returncode == 0, done.stderr
    assert "licence" in {one["kind"] for one in work.json("work", new)["steps"]}
    if by != "root":  # of a root alone no survey tells
        early = work.run("confirm", new, "--yes")
        assert (early.returncode, "not as it was planned" in early.stderr) == (2, True), early.stderr
    if by == "files":
        gone = work.run(
            "clear",
            "--account",
            "millbrook",
            "--folder",
            lies,
            "--everything",
            "--yes",
            "--from",
            work.homes / "millbrook",
        )
        assert (gone.returncode, "answers from" in gone.stderr) == (2, True), gone.stderr
    wisher = Wisher(work, "millbrook", random.Random(move))
    assert wisher.carry_out(str(Address.parse(new))) == []
    home = work.homes / "millbrook"
    assert (home / MOVES[move] / "moor/kernel.php").is_file()
    assert (home / lies / "moor/kernel.php").is_file() == (by != "files")
    assert {path: (home / path).read_text() for path in beside} == beside
    work.survey()
    told = {one["rule"]: one["title"] for one in work.json("check")["findings"]}
    assert not told.keys() & {"old-address-lost", "old-address-hops", "installation-to-move", "control-broken"}, told
    (layout,) = work.layout().accounts.values()
    (moved,) = layout.account.moved
    assert (str(moved.old), str(moved.to)) == (str(Address.parse(old)), str(Address.parse(new)))
    assert address_kept(layout, moved).how is KeptHow.KEPT
    if by != "files":
        return
    back = work.run("move", new, old, "--by", "files", "--yes")  # and where it was promised from it is again
    assert back.returncode == 0, back.stderr
    assert Wisher(work, "millbrook", random.Random(f"{move} back")).carry_out(str(Address.parse(old))) == []
    assert (home / lies / "moor/kernel.php").is_file()
    for path in (
        ("page.html", "choir/index.html") if new == "a.example" else ()
    ):  # pages among its files have moved along
        beside[f"{lies}/{path}"] = beside.pop(f"www/{path}")
    assert {path: (home / path).read_text() for path in beside} == beside
    told = {one["rule"]: one["title"] for one in work.json("check")["findings"]}
    assert not told.keys() & {
        "old-address-lost",
        "old-address-hops",
        "installation-to-move",
        "control-broken",
        "redirect-loop",
    }, told
    (moved,) = work.layout().accounts["millbrook"].account.moved
    assert (str(moved.old), str(moved.to)) == (str(Address.parse(new)), str(Address.parse(old)))


NAMES_IT = [
    "see http://a.example/new/page", "//www.A.example/new", "a.example/new.", '"https:\\/\\/a.example\\/new\\/x"',
    "u=https%3A%2F%2Fa.example%2Fnew", '<a href="/new/x">', "RewriteBase /new/", "url(/new)", "a.example:8080/new?x",
]  # fmt: skip
DOES_NOT = [
    "a.example/newsletter", "http://a.example/", "x@a.example/new", "ba.example/new", "a.example/new-x", "/newsletter",
    "b.example/new", "a.example/new.css", "www/new", "a.example/other/new",
]  # fmt: skip


def test_files_that_name_an_old_address_are_told_with_their_lines(work: Work) -> None:
    work.account(HOSTS)
    work.there({"www/yes.txt": "\n".join(NAMES_IT), "www/no.txt": "\n".join(DOES_NOT), "b/bin": b"\0a.example/new"})
    work.there({f"{SET_ASIDE}/20261126-143005/files/x": "a.example/new", "www/host.txt": "a.example\n//a.example\n"})
    where = ("--from", str(work.homes / "millbrook"))
    told = work.json("survey", "millbrook", "--mentions", "a.example/new", *where)
    assert [(one["path"], [line["line"] for line in one["lines"]]) for one in told["files"]] == [
        ("www/yes.txt", list(range(1, len(NAMES_IT) + 1)))
    ]
    told = work.json("survey", "millbrook", "--mentions", "a.example", "--only", "www", *where)
    assert {one["path"]: len(one["lines"]) for one in told["files"]} == {
        "www/host.txt": 1, "www/yes.txt": 4, "www/no.txt": 1,
    }  # fmt: skip


MINI = {
    "style.css": "/*\nTheme Name: Mini\n*/ body { color: green }",
    "index.php": "<?php wp_head(); while (have_posts()) { the_post(); the_title('<h1>', '</h1>'); the_content(); }",
}
SET_UP = """
define('WP_INSTALLING', true); $_SERVER['HTTP_HOST'] = 'a.example'; $_SERVER['REQUEST_URI'] = '/new/';
require 'wp-load.php'; require 'wp-admin/includes/upgrade.php';
wp_install('Trains', 'lampkeeper', 'office@a.example', true, '', 'x9-Lamp-keeper');
update_option('siteurl', 'http://a.example/new'); update_option('home', 'http://a.example/new');
update_option('permalink_structure', '/%postname%/'); switch_theme('mini');
wp_insert_post(['post_title' => 'Hello trains', 'post_name' => 'hello-trains', 'post_status' => 'publish', 'post_author' => 1,
  'post_content' => '<img src="http://a.example/new/wp-content/uploads/a.png">']);
flush_rewrite_rules(false);
"""
PERMALINKS = (
    "# BEGIN WordPress\n<IfModule mod_rewrite.c>\nRewriteEngine On\nRewriteBase /new/\nRewriteRule ^index\\.php$ - [L]\n"
    "RewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . /new/index.php [L]\n</IfModule>\n# END WordPress\n"
)


def release_in(root: Path) -> None:
    """A WordPress that is still to be set up, with a small theme."""
    shutil.copytree(RELEASE, root, ignore_dangling_symlinks=True)
    for name, text in MINI.items():
        (root / "wp-content/themes/mini").mkdir(parents=True, exist_ok=True)
        (root / "wp-content/themes/mini" / name).write_text(text)


class Webmaster(Wisher):
    """The same for a real WordPress, which is told its new address in its tables, or as its settings page does."""

    dsn = ""

    def does(self, one: dict[str, Any]) -> None:
        if one["step"]["do"] == "configure":
            address, folder = one["step"]["address"], one["step"]["folder"]
            start = "$_SERVER['HTTP_HOST'] = 'a.example'; require 'wp-load.php'; "
            if one["commands"]:  # in all its tables, by the program that the list names
                program = self.home.parent / "replace.php"
                program.write_text(self.run(*shlex.split(one["commands"][0])[1:]))
                env = os.environ | {"DB_DSN": self.dsn, "DB_USER": "pages", "DB_PASSWORD": "x1"}
                told = subprocess.run(["php", program, "--write"], capture_output=True, text=True, check=True, env=env)
                assert "posts.post_content  3 changed" in told.stdout, told.stdout
                start += "if (get_option('siteurl') !== 'http://a.example') exit(9); "
            php(self.home / folder, f"{start} update_option('home', '{address}'); flush_rewrite_rules(false);")
        else:
            super().does(one)


@pytest.mark.proof
@pytest.mark.parametrize("by", ["files", "front-file", "root"])
def test_a_real_wordpress_moves_from_a_subfolder_to_the_root(work: Work, open_folder: Path, by: str) -> None:
    if not RELEASE.is_dir() or not webservers.installed():
        lacking("WordPress or apache2")
    work.homes = open_folder / "homes"
    home = work.homes / "millbrook"
    entry = table("installation", application="wordpress", address="a.example/new", contact="office@b.example",
                  database={"name": "pages", "prefix": "ml7_", "user": "pages"})  # fmt: skip
    work.account('[account]\nname = "millbrook"\ndatabase_server = "mariadb"\n' + HOSTS + entry)
    root = home / "www/new"
    beside = {"www/choir/index.html": "<p>Sing</p>", "b/index.html": "<p>Choir</p>", "c/index.html": "<p>c</p>"}
    work.there(beside)
    release_in(root)
    (root / "wp-content/uploads").mkdir(exist_ok=True)
    (root / "wp-content/uploads/a.png").write_text("png")
    (root / ".htaccess").write_text(PERMALINKS)
    site = webservers.Site(0, roots={"a.example": "www", "b.example": "b"})
    pages = ["", "hello-trains/", "feed/", "wp-json/wp/v2/posts"]
    own = ["wp-login.php", "wp-content/themes/mini/style.css", "wp-content/uploads/a.png"]
    with mariadb_server(open_folder) as server, ExitStack() as running:
        done(
            server,
            "create database pages; create user pages@localhost identified by 'x1'; grant all on pages.* to pages@localhost",
        )
        at = next(word[2:] for word in server.client if word.startswith("-P"))
        configured(root, at, "pages", "ml7_", "x1", "pages")
        php(root, SET_UP)
        (open_folder / "web").mkdir()
        port = running.enter_context(webservers.apache(open_folder / "web", [(site, home)]))

        def got(path: str) -> tuple[int, str]:
            return first_reply(port, "a.example", f"/{path}")

        before = {path: got(f"new/{path}") for path in [*pages, *own]}
        assert {reply[0] for reply in before.values()} == {200}, before
        assert "<h1>Hello trains</h1>" in before["hello-trains/"][1]
        assert "<item>" in before["feed/"][1]
        work.survey()
        moved = work.run("move", "a.example/new", "a.example", "--by", by, "--yes")
        assert moved.returncode == 0, moved.stderr
        master = Webmaster(work, "millbrook", random.Random(by))
        master.dsn = f"mysql:host=127.0.0.1;port={at};dbname=pages"
        assert master.carry_out("a.example/") == []
        is_whole = by != "front-file"  # and nothing stays at the old address
        if by == "root":
            (open_folder / "led").mkdir()
            led = webservers.Site(0, roots={"a.example": "www/new", "b.example": "b"})
            port = running.enter_context(webservers.apache(open_folder / "led", [(led, home)]))
        after = {path: got(path) for path in [*pages, *(own if is_whole else ())]}
        assert {reply[0] for reply in after.values()} == {200}, after
        assert "<h1>Hello trains</h1>" in after["hello-trains/"][1]
        assert "a.example/hello-trains" in after["feed/"][1]
        assert ('src="http://a.example/wp-content/' in after["hello-trains/"][1]) == is_whole
        guids = [re.findall("<guid[^>]*>([^<]*)", one["feed/"][1]) for one in (before, after)]
        assert guids[0] == guids[1]  # by which readers of feeds know what they have seen
        assert len(guids[0]) > 1
        for path in [*pages, *(own if is_whole else ())]:
            assert got(f"new/{path}") == (302, f"http://a.example/{path}"), (path, got(f"new/{path}"))
        assert is_whole or {got(f"new/{path}")[0] for path in own} == {200}
        assert {path: (home / path).read_text() for path in beside} == beside
        told = {one["rule"] for one in work.json("check")["findings"]}
        assert not told & {"old-address-lost", "old-address-hops", "installation-to-move", "control-broken"}, told


def test_what_lay_there_all_along_is_no_copy_of_what_is_to_move(work: Work) -> None:
    entry = table("installation", application="quillmoor", address="a.example/new", contact="office@b.example")
    work.account(HOSTS + entry).there(deployed("www") | deployed("www/new"))
    refused = work.run("move", "a.example/new", "a.example", "--by", "files", "--yes")
    assert (refused.returncode, "folder-occupied" in refused.stderr) == (1, True), refused.stderr
    lived_with = ("--despite", "folder-occupied", "--because", "tried")
    assert work.run("move", "a.example/new", "a.example", "--by", "files", "--yes", *lived_with).returncode == 0
    place = (
        "--account",
        "millbrook",
        "--folder",
        "www/new",
        "--everything",
        "--yes",
        "--from",
        work.homes / "millbrook",
    )
    gone = work.run("clear", *place)
    assert (gone.returncode, "answers from www/new until it was seen in www" in gone.stderr) == (2, True), gone.stderr


def test_promises_shorten_and_end_where_a_site_moves_on(work: Work) -> None:
    work.account(HOSTS).there({"www/index.html": "<p>Trains</p>", "www/third/index.html": "<p>Tickets</p>"})

    def says(*words: str) -> list[tuple[str, str]]:
        done = work.run("move", *words, "--by", "done", "--yes")
        assert done.returncode == 0, done.stderr
        return [(str(one.old), str(one.to)) for one in work.layout().accounts["millbrook"].account.moved]

    assert says("a.example/first", "a.example/second") == [("a.example/first", "a.example/second")]
    chain = [("a.example/first", "a.example/third"), ("a.example/second", "a.example/third")]
    assert says("a.example/second", "a.example/third") == chain
    assert says("a.example/third", "a.example/first") == [
        ("a.example/second", "a.example/first"), ("a.example/third", "a.example/first"),
    ]  # fmt: skip
    over = work.run("move", "a.example/x", "a.example/y", "--by", "done", "--until", "2020-01-01", "--yes")
    assert (over.returncode, "is over" in over.stderr) == (2, True)


def test_each_way_says_where_it_can_be_looked_at_before_visitors_do(work: Work) -> None:
    away = table("domain", name="b.example", kind="addon", root="b", points_here=False, www="apart")
    temporary = table("domain", name="t.host.test", kind="temporary", root="b")
    own = '[account]\nname = "millbrook"\nip_addresses = ["192.0.2.7"]\n'
    main = table("domain", name="a.example", kind="primary", root="www", www="apart")
    live = table("installation", application="quillmoor", address="a.example/new")
    work.account(own + main + away + temporary + live)
    work.there(deployed("www/new"))
    ways = {one["by"]: one for one in work.json("move", "a.example/new", "b.example")["ways"]}
    assert "t.host.test" in ways["files"]["look"][0]
    assert "192.0.2.7 b.example" in ways["root"]["look"][-1]
    assert all(one["down"] and one["back"] for one in ways.values())
    ways = {one["by"]: one for one in work.json("move", "a.example/new", "a.example")["ways"]}
    assert ways["files"]["look"] == []  # which visitors see at once
    assert "take-back" in ways["files"]["back"]
    work.account(own + main + table("domain", name="t.host.test", kind="temporary", root="www") + live)
    (same,) = (one for one in work.json("move", "a.example/new", "t.host.test/new")["ways"] if one["by"] == "files")
    assert "take-back" not in same["back"]  # as nothing is copied
