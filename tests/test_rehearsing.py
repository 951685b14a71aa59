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
from wishes import Wisher

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
                at = next(word[2:] for word in self.server.client if word.startswith("-P"))
                name = step["database"]["name"]
                env = {"DB_DSN": f"mysql:host=127.0.0.1;port={at};dbname={name}", "DB_USER": "root", "DB_PASSWORD": ""}
                program = self.home.parent / "replace.php"
                program.write_text(self.run(*typed[0]))
                subprocess.run(["php", program, "--write"], check=True, capture_output=True, env=os.environ | env)
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
