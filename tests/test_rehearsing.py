"""Copies by which a change is rehearsed: apart from what is live in files and data, closed, and without mail."""

from __future__ import annotations

import base64
import http.client
import json
import os
import random
import shlex
import shutil
import subprocess
import time
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import pytest

import webservers
import wishes
from conftest import Work, deployed, lacking
from messes import table
from servers import DatabaseServer, mariadb_server
from test_database_scripts import done
from test_moving import PERMALINKS, SET_UP, release_in
from test_wordpress import RELEASE, configured, php
from wishes import Wisher, tree_of

MAIN = table("domain", name="a.example", kind="primary", root="www", www="apart")
LOGIN = base64.b64encode(b"wren:open-sesame").decode()


def got(port: int, host: str, path: str, login: str = "") -> tuple[int, str]:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    connection.request("GET", path, headers={"Host": host} | ({"Authorization": f"Basic {login}"} if login else {}))
    reply = connection.getresponse()
    return reply.status, reply.read().decode(errors="replace") + (reply.getheader("Location") or "")


class Rehearser(Wisher):
    """Does what the list of a rehearsal says, on a real database server and in real files."""

    server: DatabaseServer
    done_so_far: list[str]

    def listed(self, site: str) -> list[dict[str, Any]]:
        out = self.work.run("work", site, "--format", "json").stdout
        return list(json.loads(out)["steps"]) if out else []

    def asks(self, site: str) -> list[dict[str, Any]]:
        for one in self.listed(site):
            if one["kind"] in ("points", "verify") and one["state"] in ("ready", "waiting"):
                self.run("work", "--done", one["id"], "--yes")
        return self.listed(site)

    def does(self, one: dict[str, Any]) -> None:
        step = one["step"]
        typed = [shlex.split(words.partition(" | ")[0])[1:] for words in one["commands"]]
        self.done_so_far.append(step["do"])
        match step["do"]:
            case "make-database":
                done(self.server, self.run(*typed[0]))
            case "make-password":
                pass
            case "give-password":
                done(self.server, f"alter user `{step['user']}`@localhost identified by 'x2' account unlock")
            case "copy-tables":
                script = self.home.parent / "copy.sh"
                (self.home.parent / "dumps").mkdir()
                script.write_text(self.run(*typed[0]))
                words = ["sh", str(script), str(self.home.parent / "dumps"), *self.server.client[1:]]
                told = subprocess.run(words, capture_output=True, text=True, check=False)
                assert told.returncode == 0, told.stderr + told.stdout
            case "configure":
                self.runs(typed[0], step["database"]["name"])
            case "compare-tables":
                said = self.runs(typed[0], step["target"]["name"], step["database"]["name"], writes="")
                assert "* users" in said, said
            case "merge-tables":
                self.runs(typed[0], step["target"]["name"], step["database"]["name"])
            case "write-settings" if step["settings"][0].startswith("WP_HOME"):
                assert "WP_HOME" not in (self.home / step["file"]).read_text()
            case "write-settings":
                config = self.home / step["file"]
                values = dict(one.split(" = ", 1) for one in step["settings"])
                lines = config.read_text().splitlines()
                for n, line in enumerate(lines):
                    if "DB_PASSWORD" in line and values["DB_USER"] != "pages":
                        lines[n] = "define('DB_PASSWORD', 'x2');"
                    for key, value in values.items():
                        if f"'{key}'" in line and key != "DB_HOST":
                            lines[n] = f"define('{key}', '{value}');"
                        elif f"${key}" in line:
                            lines[n] = f"${key} = '{value}';"
                config.write_text("\n".join(lines))
                self.run("survey", self.name, "--from", str(self.home))
            case "make-password-file":
                words = ["htpasswd", "-bc", step["path"], "wren", "open-sesame"]
                subprocess.run(words, check=True, capture_output=True)
                Path(step["path"]).chmod(0o644)
            case _:
                super().does(one)

    def runs(self, typed: list[str], database: str, live: str = "", writes: str = "--write") -> str:
        """A program for PHP, as the list has it written, on the databases that it is for."""
        at = next(word[2:] for word in self.server.client if word.startswith("-P"))
        env = {"DB_DSN": f"mysql:host=127.0.0.1;port={at};dbname={database}", "DB_USER": "root", "DB_PASSWORD": ""}
        env |= {"LIVE_DSN": f"mysql:host=127.0.0.1;port={at};dbname={live}"} if live != database else {}
        program = self.home.parent / "program.php"
        program.write_text(self.run(*typed))
        words = ["php", str(program), *([writes] if writes else [])]
        told = subprocess.run(words, check=False, capture_output=True, text=True, env=os.environ | env)
        assert told.returncode == 0, told.stderr + told.stdout
        return told.stdout


def test_a_rehearsal_is_closed_before_it_is_led_to_and_has_tables_of_its_own_before_it_works(work: Work) -> None:
    choir = table("domain", name="choir.example", kind="addon", root="www/choir", www="apart")
    live = table("installation", application="quillmoor", address="a.example", contact="office@b.example",
                 database={"name": "pages", "prefix": "qm_", "user": "pages"})  # fmt: skip
    work.account('[account]\nname = "millbrook"\nhome = "/srv/m"\n' + MAIN + choir + live)
    assert "not surveyed" in work.run("rehearse", "a.example", "--yes").stderr
    work.there(deployed("www", "pages", "qm_") | deployed("www/shop", "shop", "qs_"))
    work.there({"www/choir/index.html": "Sing", "www/.htaccess": "Require all granted\n"}).survey()
    shown = work.run("rehearse", "a.example", "--yes")
    assert shown.returncode == 0, shown.stderr
    assert "next:" not in shown.stderr  # what is done first is in the list alone
    steps = work.json("work", "staging.a.example")["steps"]
    at = {one["kind"]: n for n, one in enumerate(steps)}
    does = [one["step"]["do"] for one in steps]
    assert at["files"] < at["protect"] < at["add"] < at["verify"]
    assert at["tables"] < at["readdress"] < at["configure"] < at["verify"]
    assert "upload-files" not in does
    copy, closed = steps[at["files"]], [one for one in steps if one["kind"] == "protect"]
    assert copy["step"]["stays"] == ["www/choir", "www/shop"]  # whose copy would work with the live data
    assert [one["step"]["do"] for one in closed] == [
        "protect-folder"
    ]  # beside that line a password would be for nothing
    assert closed[0]["id"] in steps[at["no-mail"]]["blocked_by"]
    assert steps[at["no-mail"]]["id"] in steps[at["add"]]["blocked_by"]
    assert copy["blocked_by"] == []
    refused = work.run("move", "staging.a.example", "a.example", "--by", "files")
    assert refused.returncode == 2, refused.stdout
    for asked in (
        ["a.example/gone"],
        ["a.example", "a.example"],
        ["a.example", "--database", "pages"],
        ["choir.example"],
    ):
        assert work.run("rehearse", *asked, "--yes").returncode == 2, asked
    work.run("undo", "--yes")
    its_own = 'AuthType Basic\nAuthName "www"\nAuthUserFile "/srv/m/.htpasswd-www"\nRequire valid-user\n'
    (work.homes / "millbrook/www/.htaccess").write_text(its_own)
    work.survey()
    work.run("rehearse", "a.example", "--yes")
    shutil.copytree(work.homes / "millbrook/www", work.homes / "millbrook/staging")
    work.survey()
    users = [one["step"]["path"] for one in work.json("work", "staging.a.example")["steps"] if "path" in one["step"]]
    assert users == ["/srv/m/.htpasswd-staging"]  # and not the file with the users of what is live
    shutil.rmtree(work.homes / "millbrook/staging")
    work.run("undo", "--yes")
    (work.homes / "millbrook/www/.htaccess").unlink()
    work.survey()
    beside = work.run("rehearse", "a.example", "a.example/try", "--table-prefix", "try_", "--yes")
    assert beside.returncode == 0, beside.stderr
    steps = work.json("work", "a.example/try")["steps"]
    assert not {"make-database", "give-password", "make-password"} & {one["step"]["do"] for one in steps[:-1]}
    lines = next(one["step"] for one in steps if one["step"]["do"] == "add-lines")
    assert lines["lines"][-2:] == ['AuthUserFile "/srv/m/.htpasswd-www-try"', "Require valid-user"]
    plan = work.plan / "accounts/millbrook.toml"
    plan.write_text(plan.read_text().replace('prefix = "try_"', 'prefix = "qm_"'))
    assert work.run("database", "readdress", "a.example/try").returncode == 2  # of what is live nothing is replaced
    listed = work.json("work", "a.example/try")["steps"]
    assert {one["kind"] for one in listed}.isdisjoint({"tables", "readdress"})
    assert any(one["kind"] == "mend" for one in listed)


def test_what_was_rehearsed_takes_the_place_of_what_is_live_with_a_way_back_to_the_byte(work: Work) -> None:
    home = work.homes / "millbrook"
    live = table("installation", application="quillmoor", address="a.example", contact="office@b.example",
                 database={"name": "pages", "prefix": "qm_", "user": "pages"})  # fmt: skip
    work.account(f'[account]\nname = "millbrook"\nhome = "{home}"\nsurvey_from = "{home}"\n' + MAIN + live)
    work.there(deployed("www", "pages", "qm_") | {"www/shop/index.html": "Shop", "www/post.txt": "written by a guest"})
    choir = table("domain", name="choir.example", kind="addon", root="www/shop", www="apart")
    (work.plan / "accounts/millbrook.toml").open("a").write(choir)
    work.survey()
    assert work.run("rehearse", "a.example", "--yes").returncode == 0
    asked = ["move", "staging.a.example", "a.example"]
    assert work.run(*asked, "--by", "files", "--keep-live", "none", "--yes").returncode == 2  # it is not there yet
    tried = deployed("staging", "staging", "qm_") | {"staging/quill.php": "<?php // tried out"}
    work.there(tried | {"staging/.htaccess": "Options -Indexes\n"})
    (home / ".htpasswd-staging").write_text("wren:x\n")
    guard = f'AuthType Basic\nAuthName "staging"\nAuthUserFile "{home}/.htpasswd-staging"\nRequire valid-user\n'
    (home / "staging/.htaccess").open("a").write(guard)
    plan = work.plan / "accounts/millbrook.toml"
    work.survey()
    added = plan.read_text().replace(
        'kind = "subdomain"\nroot = "staging"\nstate = "planned"', 'kind = "subdomain"\nroot = "staging"'
    )
    plan.write_text(added)
    assert work.run("confirm", "staging.a.example", "--yes").returncode == 0  # and not all of its own list is done
    before, text = tree_of(home), plan.read_text()
    shown = work.run(*asked)
    assert "--keep-live none|all" in shown.stderr, shown.stdout + shown.stderr
    assert work.run(*asked, "--by", "files", "--yes").returncode == 2  # nobody has said whose data are lost
    assert work.run(*asked, "--by", "files", "--keep-live", "letters", "--yes").returncode == 2
    assert work.run("clear", "a.example", "--everything", "--yes").returncode != 0 or tree_of(home) == before
    assert work.run(*asked, "--by", "files", "--keep-live", "all", "--yes").returncode == 0
    assert work.run("move", "staging.a.example", "choir.example", "--by", "files", "--yes").returncode == 2
    assert work.run("retire", "staging.a.example", "--yes").returncode == 0
    assert "goes_live" not in plan.read_text()
    assert work.run("undo", "--yes").returncode == 0
    entered = plan.read_text()
    for wrong, says in (('"all"', '"letters"'), ("goes_live = true\n", "")):
        plan.write_text(entered.replace(wrong, says))
        assert "live_keeps" in work.run("check").stderr
    plan.write_text(entered)
    steps = work.json("work", "a.example")["steps"]
    does = [one["step"]["do"] for one in steps]
    order = ["compare-tables", "freeze", "merge-tables", "configure", "set-aside-folder", "copy-folder", "edit-line"]
    assert [one for one in dict.fromkeys(does) if one in order] == order
    assert [one["step"]["stays"] for one in steps if one["step"]["do"] == "set-aside-folder"] == [["www", "www/shop"]]
    assert work.run("confirm", "a.example", "--yes").returncode == 2
    for one in steps[: does.index("set-aside-folder")]:
        work.run("work", "--done", one["id"], "--yes")
    cleared = work.run("clear", "a.example", "--everything", "--yes")
    assert cleared.returncode == 0, cleared.stderr
    aside = next((home / "kettlepost-set-aside").iterdir()).name
    assert (home / "www/shop/index.html").read_text() == "Shop"
    assert not (home / "www/post.txt").exists()
    away = {one["rule"]: one["why"] for one in work.json("check")["findings"]}
    assert "set aside already" in away["rehearsal-to-go-live"]
    assert "plan-and-survey-differ" not in away
    numbers = list[str]()
    for one in work.json("work", "a.example")["steps"]:
        if one["step"]["do"] in ("copy-folder", "edit-line"):
            carried = work.run("work", "--carry-out", one["id"], "--yes")
            assert carried.returncode == 0, carried.stderr
            numbers.append(carried.stderr.partition("--take-back ")[2].partition("'")[0])
    assert (home / "www/.htaccess").read_text() == "Options -Indexes\n" + "#\n" * 4
    assert (home / "www/quill.php").read_text() == "<?php // tried out"
    told = {one["rule"] for one in work.json("check")["findings"]}
    assert "rehearsal-to-go-live" in told
    assert told.isdisjoint({"staging-shares-data", "database-differs", "shared-database"})
    assert work.run("clear", "a.example", "--everything", "--yes").returncode != 0 or (home / "www/quill.php").exists()
    assert work.run("confirm", "a.example", "--yes").returncode == 0
    account = work.layout().accounts["millbrook"].account
    state = [(one.state, one.database.name if one.database else "") for one in account.installations]
    assert state == [("live", "staging"), ("retired", "pages")]
    dropped = [one["step"] for one in work.json("work", "staging.a.example")["steps"]]
    assert [one["database"]["name"] for one in dropped if one["do"] == "drop-tables"] == ["pages"]
    assert work.run("work", "--take-back", numbers[0], "--yes").returncode == 2  # it is in use
    assert work.run("undo", "--yes").returncode == 0
    for number in reversed(numbers):
        taken = work.run("work", "--take-back", number, "--yes")
        assert taken.returncode == 0, taken.stderr
    put = work.run("putback", aside, "--yes")
    assert put.returncode == 0, put.stdout + put.stderr
    assert {k: v for k, v in tree_of(home).items() if "set-aside" not in k} == before
    while plan.read_text() != text:
        assert work.run("undo", "--yes").returncode == 0
    for pause in (0, 1.1):  # what was said of another time is not said of this one
        time.sleep(pause)
        assert work.run(*asked, "--by", "files", "--keep-live", "all", "--yes").returncode == 0
        listed = work.json("work", "a.example")["steps"]
        assert listed[0]["state"] == "ready", listed[0]
        work.run("work", "--done", listed[0]["id"], "--yes")
        assert work.json("work", "a.example")["steps"][0]["state"] == "done"
        plan.write_text(text)


NUMBER = int(os.environ.get("KETTLEPOST_REHEARSALS", "5"))


@pytest.mark.proof
@pytest.mark.parametrize("seed", range(13, 13 + NUMBER))
def test_of_a_grown_account_anything_live_is_rehearsed_and_nothing_else_changes(open_folder: Path, seed: int) -> None:
    if not webservers.installed():
        lacking("apache2")
    troubles = wishes.troubles_of(open_folder, seed, "rehearse", ("hand", "host")[seed % 2])
    assert not troubles, troubles
    assert troubles is not None or seed not in (14, 16), "nothing to rehearse, where there was something"


@pytest.mark.proof
@pytest.mark.parametrize("seed", range(18, 18 + (NUMBER + 1) // 2))
def test_what_was_tried_out_takes_the_place_of_what_is_live_and_nobody_else_notices(
    open_folder: Path, seed: int
) -> None:
    if not webservers.installed():
        lacking("apache2")
    troubles = wishes.troubles_of(open_folder, seed, "golive", ("hand", "host")[seed % 2])
    assert not troubles, troubles
    assert troubles is not None or seed > 20, "nothing that goes live, where something did"


@pytest.mark.proof
@pytest.mark.parametrize("beside", [False, True])
def test_a_real_wordpress_is_rehearsed_apart_from_what_is_live(work: Work, open_folder: Path, beside: bool) -> None:
    if not RELEASE.is_dir() or not webservers.installed():
        lacking("WordPress or apache2")
    work.homes = open_folder / "homes"
    home = work.homes / "millbrook"
    root = home / "www"
    entry = table("installation", application="wordpress", address="a.example", contact="office@a.example",
                  database={"name": "pages", "prefix": "ml7_", "user": "pages"})  # fmt: skip
    head = f'[account]\nname = "millbrook"\ndatabase_server = "mariadb"\nhome = "{home}"\n'
    work.account(head + MAIN + table("domain", name="choir.example", kind="addon", root="www/choir") + entry)
    release_in(root)
    work.there({"www/choir/index.html": "<p>Sing</p>"})
    (root / ".htaccess").write_text(PERMALINKS.replace("/new/", "/"))
    site = webservers.Site(0, roots={"a.example": "www", "choir.example": "www/choir", "staging.a.example": "staging"})
    with mariadb_server(open_folder) as server, ExitStack() as running:
        done(
            server,
            "create database pages; create user pages@localhost identified by 'x1'; grant all on pages.* to pages@localhost",
        )
        at = next(word[2:] for word in server.client if word.startswith("-P"))
        configured(root, at, "pages", "ml7_", "x1", "pages")
        php(root, SET_UP.replace("/new", ""))
        (home / "staging").mkdir()
        (open_folder / "web").mkdir()
        port = running.enter_context(webservers.apache(open_folder / "web", [(site, home)]))
        (home / "staging").rmdir()

        def data() -> str:
            tables = [f"pages.{one}" for one in done(server, "show tables in pages like 'ml7%'").split()[1:]]
            return done(server, f"checksum table {', '.join(sorted(tables))}")

        before, was = got(port, "a.example", "/hello-trains/"), data()
        assert before[0] == 200, before
        files = {path: path.read_bytes() for path in root.rglob("*") if path.is_file()}
        work.survey()
        asked = ["rehearse", "a.example", "--yes", *(["--table-prefix", "try_"] if beside else [])]
        entered = work.run(*asked)
        assert entered.returncode == 0, entered.stderr
        rehearser = Rehearser(work, "millbrook", random.Random(beside))
        rehearser.server, rehearser.done_so_far = server, []
        assert rehearser.carry_out("staging.a.example/") == []
        assert ("make-database" in rehearser.done_so_far) != beside
        for path in ("/hello-trains/", "/wp-login.php", "/wp-content/themes/mini/style.css", "/"):
            assert got(port, "staging.a.example", path)[0] == 401
            assert got(port, "staging.a.example", path, LOGIN)[0] == 200
        page = got(port, "staging.a.example", "/hello-trains/", LOGIN)[1]
        assert "<h1>Hello trains</h1>" in page
        assert "//a.example" not in page
        assert not (home / "staging/choir").exists()
        start = "$_SERVER['HTTP_HOST'] = 'staging.a.example'; require 'wp-load.php'; "
        mail = php(home / "staging", f"{start} echo (new ReflectionFunction('wp_mail'))->getFileName();")
        assert mail.endswith("no-mail.php")
        php(home / "staging", f"{start} update_option('blogname', 'Tried out');")
        assert (before, was) == (got(port, "a.example", "/hello-trains/"), data())
        assert {path: path.read_bytes() for path in root.rglob("*") if path.is_file()} == files
        told = {(one["rule"], one["severity"]) for one in work.json("check")["findings"]}
        assert not [one for one in told if one[1] != "note" and one[0] not in ("not-pointing", "nested-root")], told
        goes_live(rehearser, port, home)


def goes_live(rehearser: Rehearser, port: int, home: Path) -> None:
    """What was tried out takes the place of what is live, which keeps its people, and nobody else notices."""
    work, root = rehearser.work, home / "www"
    on_live = "$_SERVER['HTTP_HOST'] = 'a.example'; require 'wp-load.php'; "
    php(
        root,
        f"{on_live} wp_insert_user(['user_login' => 'owl', 'user_pass' => 'hoot', 'user_email' => 'owl@a.example']);",
    )
    (root / "wp-content/uploads").mkdir(exist_ok=True)
    (root / "wp-content/uploads/late.txt").write_text("uploaded meanwhile")
    work.survey()
    refused = work.run("move", "staging.a.example", "a.example", "--by", "files", "--yes")
    assert refused.returncode == 2
    assert "--keep-live none|all|content|people|settings|other" in refused.stderr
    asked = ["move", "staging.a.example", "a.example", "--by", "files", "--keep-live", "people", "--yes"]
    entered = work.run(*asked)
    assert entered.returncode == 0, entered.stderr
    rehearser.done_so_far = []
    rehearser.closed = ""
    left = rehearser.carry_out("a.example/")
    assert left == [], left
    assert "merge-tables" in rehearser.done_so_far
    for path in ("/hello-trains/", "/wp-login.php", "/wp-content/themes/mini/style.css", "/"):
        assert got(port, "a.example", path)[0] == 200, (path, got(port, "a.example", path))
    page = got(port, "a.example", "/hello-trains/")[1]
    assert "<h1>Hello trains</h1>" in page
    assert "staging" not in page
    assert "Tried out" in php(root, f"{on_live} echo get_option('blogname');")
    assert php(root, f"{on_live} echo get_user_by('login', 'owl')->user_email;") == "owl@a.example"
    assert (
        php(root, f"{on_live} wp_set_current_user(1); echo current_user_can('manage_options') ? 'may' : 'not';")
        == "may"
    )
    assert not php(root, f"{on_live} echo (new ReflectionFunction('wp_mail'))->getFileName();").endswith("no-mail.php")
    assert (root / "choir/index.html").read_text() == "<p>Sing</p>"
    told = {(one["rule"], one["severity"]) for one in work.json("check")["findings"]}
    others = ("not-pointing", "nested-root", "retired-still-there")
    assert not [one for one in told if one[1] != "note" and one[0] not in others], told
    dropped = [one["step"] for one in rehearser.listed("staging.a.example/") if one["step"]["do"] == "drop-tables"]
    assert [(one["database"]["name"], one["database"]["prefix"]) for one in dropped] == [("pages", "ml7_")]
    assert rehearser.carry_out("staging.a.example/") == []
    assert got(port, "a.example", "/hello-trains/")[0] == 200
