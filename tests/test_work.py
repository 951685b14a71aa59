"""The work list: its order, what is seen and what was said, who does what, and a robot that carries it out."""

from __future__ import annotations

import csv
import datetime
import io
import json
import os
import random
import re
import shlex
import shutil
import subprocess
import urllib.parse
import urllib.request
from pathlib import Path
from typing import Any

import icalendar
import pytest
import python_calamine
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import webservers
from conftest import PHRASE, PROGRAM, SETTINGS, TODAY, Work, deployed, examples, keeping_in, lacking
from kettlepost.core.checking import check
from kettlepost.core.errors import PlanError
from kettlepost.core.layout import PlanLayout, neighbours
from kettlepost.core.names import Folder
from kettlepost.core.plan import Waits
from kettlepost.core.rules import Finding
from kettlepost.core.rules.moves import root_steps
from kettlepost.core.steps import DeleteFolder, DropTables, InstallApplication, UploadFiles
from kettlepost.core.survey import Survey
from kettlepost.core.work import DoneMark, WorkContext, WorkKind, WorkStep, steps_of, work_list
from messes import LOOSE, installations, laid, messes, table
from robot import Robot
from servers import DatabaseServer, mariadb_server, sftp_server
from test_database_scripts import done
from test_wordpress import RELEASE, SET_UP, configured, php, served_by_php

NOW = datetime.datetime(2026, 11, 26, 12, tzinfo=datetime.UTC)
PLAN = """
[account]
name = "millbrook"
database_prefix = "mill_"
client = "Millbrook Model Railway"
[[domain]]
name = "a.example"
kind = "primary"
root = "www"
[[domain]]
name = "b.example"
kind = "addon"
root = "b"
state = "planned"
points_here = false
https = true
[[installation]]
application = "quillmoor"
address = "b.example"
state = "planned"
contact = "office@a.example"
admin_user = "lampkeeper"
title = "The mill"
database = { name = "mill_b", prefix = "qm3_", user = "mill_b" }
"""


def contexts(
    work: Work, texts: dict[str, str], found: dict[str, Survey], said: dict[str, DoneMark]
) -> list[WorkContext]:
    try:
        layouts = laid(work, texts, found)
    except PlanError:
        assume(False)
    findings = check(layouts, TODAY).findings
    return [
        WorkContext(one, [f for f in findings if f.account == name], said, Waits())
        for name, one in layouts.accounts.items()
    ]


REMOVALS = {
    WorkKind.KEEP_FILES,
    WorkKind.REMOVE_FILES,
    WorkKind.KEEP_TABLES,
    WorkKind.REMOVE_TABLES,
    WorkKind.REMOVE_USER,
}


def test_tables_of_a_longer_prefix_stay_with_whoever_has_them(work: Work) -> None:
    shop = table("installation", application="wordpress", address="a.example/shop", state="retired",
                 database={"name": "m_one", "prefix": "a_"})  # fmt: skip
    main = table(
        "installation", application="wordpress", address="a.example", database={"name": "m_one", "prefix": "a_b_"}
    )
    work.account(table("domain", name="a.example", kind="primary", root="www") + shop + main)
    steps = {step["kind"]: step for step in work.json("work", "a.example/shop")["steps"]}
    for kind in ("keep-tables", "tables-off"):
        assert steps[kind]["title"].endswith("that begin with a_, but not with a_b_.")
        assert steps[kind]["step"]["stays"] == ["a_b_"]


def who_uses(context: WorkContext, step: WorkStep) -> list[str]:
    """Who stays, and uses what a step removes."""
    match step.step:
        case DeleteFolder(folder=folder):
            return [str(there) for place, there in context.layout.standing.items() if there and place == folder]
        case DropTables(database=base, stays=stays):
            users = [user for user in context.layout.tables.users if not user.database[0] and user.name == base.name]
            return [user.shown for user in users if user.written.startswith(base.prefix) and user.written not in stays]
        case _:
            return []


def nothing_of_others(context: WorkContext, steps: list[WorkStep]) -> None:
    """What a step removes is used by nobody who stays."""
    for step in (one for one in steps if one.kind in REMOVALS):
        assert not who_uses(context, step), step


def ends_as_planned(context: WorkContext, order: list[WorkStep]) -> None:
    """Done step by step, by what each says alone: what is planned lies where its address leads, what is live stays."""
    contents, layout = context.contents, context.layout
    there = {place.shown: one.application for place, one in contents.applications.items()} if contents else {}
    before, mended = dict(there), {step.site for step in order if step.kind is WorkKind.MEND}
    for step in order:
        titles = {layout.title(one.application): one.application for one in context.account.installations}
        match step.step:
            case UploadFiles(folder=folder, application=title) | InstallApplication(folder=folder, application=title):
                if folder is not None:
                    there[folder.shown] = titles[title]
            case DeleteFolder(folder=folder) if step.kind is WorkKind.REMOVE_FILES:
                there.pop(folder.shown, None)
    wanted = [one for one in context.account.installations if one.state == "planned" and str(one.address) not in mended]
    for one in wanted:
        folder = layout.reach(one.address) if one.folder is None else one.folder
        assert folder is None or there.get(folder.shown) == one.application, (one, there)
    deployed = {folder for folder, name in there.items() if before.get(folder) != name}
    for place, standing in layout.standing.items():
        if any(one.state == "live" for one in standing) and place.shown in before and place.shown not in deployed:
            assert there.get(place.shown) == before[place.shown], (place, standing)


def in_order(steps: list[WorkStep]) -> None:
    before: set[str] = set()
    for step in steps:
        assert before.issuperset(step.needs), step
        before.add(step.id)


@settings(LOOSE, max_examples=examples(120))
@given(messes(), st.randoms(use_true_random=False))
def test_no_step_comes_before_what_it_needs_and_any_order_ends_it(
    work: Work, mess: tuple[dict[str, str], dict[str, Survey]], pick: random.Random
) -> None:
    for context in contexts(work, *mess, {}):
        steps = steps_of(context)
        ids = [step.id for step in steps]
        assert len(set(ids)) == len(ids)
        listed = work_list(steps, NOW)
        in_order(listed.steps)
        nothing_of_others(context, listed.steps)
        assert sorted(ids) == sorted(step.id for step in listed.steps)
        # whatever is ready next is done, in any order: it ends with everything done, and never stands still
        said: dict[str, DoneMark] = {}
        order = [step for step in listed.steps if step.is_done]
        while open_ := [step for step in listed.steps if step.id not in said and not step.is_done]:
            ready = [
                step
                for step in open_
                if all(need in said or need not in {one.id for one in open_} for need in step.needs)
            ]
            assert ready, open_
            chosen = pick.choice(ready)
            assert chosen.state in ("ready", "waiting") or any(need in said for need in chosen.needs)
            said[chosen.id] = DoneMark(chosen.id, "2026-11-26T12:00:00Z")
            order.append(chosen)
        ends_as_planned(context, order)
        again = work_list(steps_of(WorkContext(context.layout, context.findings, said, Waits())), NOW)
        left = [step for step in again.steps if not step.is_done]
        assert all(step.is_contradicted for step in left), left  # what is seen not to be done is not done by saying so
        for step in again.steps:
            assert not (step.is_done and step.is_contradicted)


@settings(LOOSE, max_examples=examples(60))
@given(messes(), installations())
def test_a_step_keeps_its_name_as_long_as_it_means_the_same(
    work: Work, mess: tuple[dict[str, str], dict[str, Survey]], more: str
) -> None:
    texts, found = mess
    before = {step.id: step for context in contexts(work, texts, found, {}) for step in steps_of(context)}
    name = min(texts)
    with_more = contexts(work, {**texts, name: texts[name] + more}, found, {})
    after = {step.id: step for context in with_more for step in steps_of(context)}
    assert all(before[own].kind is after[own].kind for own in before.keys() & after.keys())
    gone = [step for own, step in before.items() if own not in after]
    for step in gone:
        if step.kind in REMOVALS:  # a newcomer may use it, or it is not known what that uses
            assert 'state = "retired"' not in more, step
        else:
            assert step.kind in (WorkKind.MEND, WorkKind.FOLDER, WorkKind.SURVEY, WorkKind.FORGET), step


def steps(work: Work, *words: str) -> dict[str, Any]:
    return {step["kind"]: step for step in work.json("work", *words)["steps"]}


def test_what_is_seen_counts_more_than_what_was_said(work: Work) -> None:
    work.account(PLAN).there({"www/index.html": "x"})
    found = steps(work)
    assert {
        "register",
        "mail",
        "nameservers",
        "add",
        "points",
        "certificate",
        "https",
        "database",
        "upload",
        "setup",
        "confirm",
        "sheet",
    } <= set(found)
    assert (found["register"]["who"], found["mail"]["who"], found["add"]["who"], found["points"]["who"]) == (
        "the registrar",
        "the client",
        "the host",
        "nobody",
    )
    assert found["add"]["state"] == "ready"
    assert {one["item"]: one["value"] for one in found["add"]["details"]} == {
        "kind": "add-on domain",
        "root": "b",
        "root to refuse": "www",
    }
    assert set(found["nameservers"]["blocked_by"]) == {found[kind]["id"] for kind in ("register", "mail", "add")}
    for kind in ("register", "add", "mail"):
        assert (
            work.run("work", "--done", found[kind]["id"], "--by", "Ada", "--note", "=1+1 'q'", "--yes").returncode == 0
        )
    assert steps(work)["nameservers"]["state"] == "ready"
    taken = work.run("work", "--not-done", found["mail"]["id"], "--yes")
    assert (taken.returncode, steps(work)["nameservers"]["state"]) == (0, "blocked"), taken.stderr
    assert work.run("undo", "--yes").returncode == 0
    assert steps(work)["nameservers"]["state"] == "ready"
    assert work.run("work", "--done", steps(work)["nameservers"]["id"], "--yes").returncode == 0
    told = work.run("work", "--next")
    assert (told.returncode, "waiting until" in told.stdout) == (0, True), told.stdout
    # said to be done, and seen not to be
    early = work.run("work", "--done", found["confirm"]["id"], "--yes")
    assert "seen not to be done" in early.stdout, early.stdout
    assert "and is seen not to be" in work.run("work").stdout
    whole = work.run("work", "--done", f"http://{found['sheet']['site'].upper()}", "--show")
    own = [one for one in found.values() if one["site"] == found["sheet"]["site"] and one["state"] != "done"]
    assert {one["id"] for one in own if one["seen"] is not False} <= set(
        re.findall(r'"([a-z-]+-[a-z2-7]{8})"', whole.stdout)
    ), whole.stderr
    near = work.run("work", "--done", found["add"]["id"][:-1], "--yes")
    assert (near.returncode, found["add"]["id"] in near.stderr) == (2, True), near.stderr
    # a look shows what was done before it, and what was said after it counts until the next
    work.survey()
    assert steps(work)["upload"]["state"] == "blocked"
    for kind in ("upload", "login", "points"):
        assert work.run("work", "--done", found[kind]["id"], "--yes").returncode == 0
    assert (steps(work)["upload"]["state"], found["upload"]["id"] in steps(work)["setup"]["blocked_by"]) == (
        "done",
        False,
    )
    work.survey(moment="2099-01-01T00:00:00Z")
    assert steps(work)["upload"]["state"] != "done"
    # the plan says that it is there
    path = work.plan / "accounts/millbrook.toml"
    path.write_text(path.read_text().replace("points_here = false", "points_here = true"))
    assert steps(work)["points"]["state"] == "done"


def test_what_is_confirmed_leaves_open_what_is_open(work: Work, tmp_path: Path) -> None:
    kept = keeping_in(tmp_path / "kept.kdbx").replace("[settings]\n", "[settings]\nkeep_days = 0\n")
    base = {"name": "m_moor", "prefix": "qm3_", "user": "m_u"}
    site = table("installation", application="quillmoor", address="b.example", state="planned", database=base)
    host = table("domain", name="b.example", kind="addon", root="b", state="planned")
    work.account(table("domain", name="a.example", kind="primary", root="www") + host + site, settings=kept)
    work.there(
        {"b/old.html": "x", "b/.htaccess": "Redirect /x http://a.example/", "b/index.html": "<h1>Coming soon</h1>"}
    )
    phrase = os.environ | {"KETTLEPOST_PASSPHRASE": PHRASE}
    for purpose in ("admin", "database"):
        assert work.run("password", "make", "b.example", "--for", purpose, env=phrase).returncode == 0
    listed = work.json("work")["steps"]
    assert [one["state"] for one in listed if one["kind"] == "password"] == ["done", "done"]
    cleared = work.run("clear", "b.example", "--from", work.homes / "millbrook", "--yes")
    assert cleared.returncode == 0, cleared.stderr
    (gone,) = [one for one in work.json("work")["steps"] if one["kind"] == "discard"]
    assert work.run(*shlex.split(gone["commands"][0])[1:], "--from", work.homes / "millbrook", "--yes").returncode == 0
    assert "discard" not in steps(work)
    work.there(deployed("b"))
    assert work.run("confirm", "b.example", "--yes").returncode == 0
    left = {one["kind"]: one["id"] for one in work.json("work")["steps"] if one["state"] != "done"}
    assert left.keys() == {"verify", "engines", "updates", "copies", "sheet", "points"}, left
    assert work.run("undo", "--yes").returncode == 0
    assert "confirm" in {one["kind"] for one in work.json("work")["steps"] if one["state"] != "done"}
    assert work.run("confirm", "b.example", "--yes").returncode == 0
    done = (word for own in left.values() for word in ("--done", own))
    assert work.run("work", *done, "--yes").returncode == 0
    assert work.json("work")["steps"] == []
    assert work.run("retire", "b.example", "--yes").returncode == 0
    shutil.rmtree(work.homes / "millbrook/b")
    work.survey()
    retired = steps(work)  # the look shows that the files are gone, and nothing shows that of the tables
    assert (retired["survey"]["state"], retired["forget"]["state"]) == ("done", "blocked")
    assert retired["user-off"]["id"] in retired["forget"]["blocked_by"]


def test_each_gets_their_own_list_in_every_format(work: Work) -> None:
    work.account(PLAN).there({"www/index.html": "x"})
    rows = list(csv.DictReader(io.StringIO(work.run("work", "--format", "csv").stdout)))
    whole = work.json("work")
    assert [row["id"] for row in rows] == [step["id"] for step in whole["steps"]]
    calendar = icalendar.Calendar.from_ical(work.run("work", "--format", "ics").stdout)
    assert len(list(calendar.walk("VTODO"))) == sum(step["state"] != "done" for step in whole["steps"])
    markdown = work.run("work", "--format", "markdown").stdout
    assert markdown.count("- [ ] ") + markdown.count("- [x] ") == len(rows)
    for who, words in (("client", "mailboxes"), ("registrar", "Register b.example"), ("the host", "Add b.example")):
        told = work.run("work", "--for", who).stdout
        assert (words in told, "kettlepost" in told) == (True, False), told
    assert work.run("work", "--for", "nobody-known").returncode == 2
    for asked in ("millbrook", "b.example", "b.example/", "millbrook model railway"):
        assert work.run("work", asked).returncode == 0, asked
    for wrong in ("nope", "nope.example", "b.example/none"):
        assert work.run("work", wrong).returncode == 2, wrong
    host = json.loads(
        (work.account(PLAN.replace('name = "millbrook"', 'name = "millbrook"\ndeploy_by = "host"', 1)))
        .run("work", "--format", "json")
        .stdout
    )
    (install,) = [step for step in host["steps"] if step["kind"] == "install"]
    told = install["step"]
    assert (told["host"], told.get("box", ""), told["address"], told["title"]) == (
        "b.example",
        "",
        "https://b.example/",
        "The mill",
    )
    assert ("folder box", "leave it blank: whatever stands there is deleted first") in [
        (one["item"], one["value"]) for one in install["details"]
    ]
    assert not [step for step in host["steps"] if step["kind"] in ("upload", "configure")]


ROOMS = RELEASE.parents[3] / "hoteldruid/usr/share/hoteldruid"
WELCOME = "<html><head><title>Apache2 Debian Default Page: It works</title></head><body>It works!</body></html>"
ROBOT = """
[account]
name = "millbrook"
database_server = "mariadb"
deploy_by = "hand"
[[domain]]
name = "a.example"
kind = "primary"
root = "www"
[[domain]]
name = "s.a.example"
kind = "subdomain"
root = "sub"
state = "planned"
[[installation]]
application = "wordpress"
address = "a.example/news"
state = "planned"
admin_user = "lampkeeper"
contact = "office@a.example"
title = "Mill news"
language = "en"
database = { name = "mill_news", prefix = "mn7_", user = "mill_news" }
[[installation]]
application = "hoteldruid"
address = "s.a.example"
state = "planned"
admin_user = "wheelwright"
contact = "office@a.example"
database = { name = "mill_rooms", prefix = "ms7_", user = "mill_rooms" }
[[installation]]
application = "wordpress"
address = "a.example/press"
state = "planned"
deploy_by = "host"
admin_user = "printer"
contact = "office@a.example"
title = "Mill press"
language = "en"
database = { name = "mill_press", prefix = "mp7_", user = "mill_press" }
"""


class ListFollower:
    """Somebody who does what a list says, and knows nothing else."""

    def __init__(self, work: Work, server: DatabaseServer, home: Path):
        self.work, self.server, self.home = work, server, home
        self.roots = {"a.example": "www"}

    @property
    def port(self) -> str:
        return next(word[2:] for word in self.server.client if word.startswith("-P"))

    def ran(self, *words: str) -> str:
        result = self.work.run(*words)
        assert result.returncode == 0, (words, result.stderr, result.stdout)
        return result.stdout

    def does(self, step: dict[str, Any]) -> None:
        way = getattr(self, step["kind"], None)
        if way is not None:
            way(step["site"], step["step"])
        self.ran("survey", "millbrook", "--from", str(self.home))
        after = {one["id"]: one for one in self.work.json("work")["steps"]}.get(step["id"])
        if after is not None and after["state"] != "done":
            assert after["seen"] is None, ("seen not to be done", after)
            self.ran("work", "--done", step["id"], "--by", "a robot", "--yes")

    def add(self, site: str, told: dict[str, Any]) -> None:
        self.roots[site] = told["root"]
        (self.home / told["root"]).mkdir(exist_ok=True)

    def folder(self, _: str, told: dict[str, Any]) -> None:
        (self.home / told["folder"]).mkdir()

    def clear(self, site: str, _: dict[str, Any]) -> None:
        self.ran("clear", site, "--from", str(self.home), "--yes")

    def database(self, site: str, _: dict[str, Any]) -> None:
        done(self.server, self.ran("database", "script", site))
        self.ran("database", "read", "millbrook", "--from", self.server.address)

    def password(self, site: str, told: dict[str, Any]) -> None:
        self.ran("password", "make", site, "--for", "database" if told["purpose"] == "database" else "admin")

    def login(self, site: str, _: dict[str, Any]) -> None:
        done(self.server, self.ran("database", "script", site, "--passwords"))

    def upload(self, _: str, told: dict[str, Any]) -> None:
        folder, title = self.home / told["folder"], told["application"]
        release = {"WordPress": RELEASE, "HotelDruid": ROOMS}[title]
        shutil.copytree(release, folder, ignore_dangling_symlinks=True, dirs_exist_ok=True)
        if release is RELEASE:
            (folder / "wp-config.php").unlink()  # which a release from its own people has not
            return
        (folder / "dati").mkdir()  # and there this lies inside, not where Debian puts it
        kept = (folder / "costanti.php").read_text().replace("/var/lib/hoteldruid/data", "./dati")
        (folder / "costanti.php").write_text(kept.replace("/etc/hoteldruid/database.php", ""))
        asks = (folder / "includes/costanti.php").read_text().replace('DEFAULTS\',"AUTO"', 'DEFAULTS\',"NO"')
        (folder / "includes/costanti.php").write_text(asks)

    def install(self, site: str, told: dict[str, Any]) -> None:
        """As a host's installer does: of its own folder it knows what is typed into the box, and no more."""
        host, box = told["host"], told["box"]
        assert told["address"] == f"http://{host}/{box}"
        folder = f"{self.roots[host]}/{box}"
        self.upload(site, {**told, "folder": folder})
        names = {"DB_NAME": "name", "DB_USER": "user", "table_prefix": "prefix"}
        values = [f"{key} = {told['database'][field]}" for key, field in names.items()]
        self.configure(site, {"settings": values, "file": f"{folder}/wp-config.php"})
        self.setup(site, {**told, "address": f"{told['address']}/wp-admin/install.php"})

    def configure(self, site: str, told: dict[str, Any]) -> None:
        values = dict(one.split(" = ") for one in told["settings"])
        secret = self.ran("password", "show", site, "--for", "database").strip()
        root = self.home / Path(told["file"]).parent
        configured(root, self.port, values["DB_NAME"], values["table_prefix"], secret, values["DB_USER"])

    def rooms(self, site: str, told: dict[str, Any]) -> None:
        """The form at its own set-up, filled in with what the list says."""
        secret = self.ran("password", "show", site, "--for", "database").strip()
        host, _, path = told["address"].partition("://")[2].partition("/")
        for place in told["writable"]:
            (self.home / self.roots[host] / place).chmod(0o777)
        with served_by_php(self.home / self.roots[host]) as port:
            fields = {
                "lingua": "en", "tipo_db": "mysql", "database_phprdb": told["database"]["name"], "database_esistente": "SI",
                "host_phprdb": "127.0.0.1", "port_phprdb": self.port, "user_phprdb": told["database"]["user"],
                "password_phprdb": secret, "carica_estensione": "NO", "tempdatabase": "",
                "prefisso_tab": told["database"]["prefix"], "nomeappartamenti": "units", "numappartamenti": "2",
                "numletti": "0", "creabase": "1",
            }  # fmt: skip
            form = urllib.parse.urlencode(fields).encode()
            asked = urllib.request.Request(f"http://127.0.0.1:{port}/{path}", form, {"Host": host})
            page = urllib.request.urlopen(asked, timeout=120).read().decode()
        assert (self.home / self.roots[host] / "dati/dati_connessione.php").exists(), page[-2000:]
        for file in (self.home / self.roots[host] / "dati").iterdir():
            file.chmod(0o666)  # as here one user set it up and another one serves it

    def setup(self, site: str, told: dict[str, Any]) -> None:
        if told["address"].endswith("creadb.php"):
            self.rooms(site, told)
            return
        host, _, path = told["address"].partition("://")[2].partition("/wp-admin")[0].partition("/")
        code = SET_UP.replace(
            "'a.example'; $_SERVER['REQUEST_URI'] = '/'", f"'{host}'; $_SERVER['REQUEST_URI'] = '/{path}/'"
        )
        code = code.replace("Mill pages", told["title"]).replace("'lampkeeper'", f"'{told['admin']}'")
        php(
            self.home / self.roots[host] / path,
            code,
            ADMIN=self.ran("password", "show", site, "--for", "admin").strip(),
        )

    def leftovers(self, site: str, _: dict[str, Any]) -> None:
        self.ran("clear", site, "--leftovers", "--from", str(self.home), "--yes")

    def verify(self, _: str, told: dict[str, Any]) -> None:
        host, _, path = told["address"].partition("://")[2].partition("/")
        page = f"{path.strip('/')}/wp-login.php".lstrip("/") if path else "inizio.php"
        assert told["shows"] in self.opened(host, page)

    def opened(self, host: str, path: str) -> str:
        """What Apache with PHP shows there, with each host leading to the root that it was added with."""
        folder = self.home.parent / f"server-{len(list(self.home.parent.iterdir()))}"
        folder.mkdir(mode=0o755)
        with webservers.apache(folder, [(webservers.Site(0, roots=dict(self.roots)), self.home)]) as port:
            kind, body = webservers.ask(port, host, path)
            assert kind == "file", (kind, body, (folder / "error.log").read_text()[-2000:])
            return body

    def confirm(self, site: str, _: dict[str, Any]) -> None:
        self.ran("confirm", site, "--yes")


@pytest.mark.proof
def test_a_robot_carries_the_list_out_to_the_letter(
    work: Work, open_folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Three real sites, two by hand and one by a host's installer, on real web and database servers, from nothing but what the list's JSON says."""
    if not RELEASE.is_dir() or shutil.which("php") is None or not webservers.installed():
        lacking("WordPress, php or apache2")
    monkeypatch.setenv("KETTLEPOST_PASSPHRASE", PHRASE)
    monkeypatch.setenv("KETTLEPOST_PASSWORD", "")
    work.homes = open_folder / "homes"
    work.account(ROBOT, settings=keeping_in(tmp_path / "kept.kdbx"))
    home = work.homes / "millbrook"
    work.there({"www/index.html": "<h1>The railway</h1>", "www/news/index.html": WELCOME})
    with mariadb_server(open_folder) as server:
        robot = ListFollower(work, server, home)
        for _ in range(90):
            found = work.json("work")["steps"]
            todo = next((step for step in found if step["state"] in ("ready", "waiting")), None)
            if todo is None:
                break
            robot.does(todo)
            after = {step["id"]: step["state"] for step in work.json("work")["steps"]}
            assert after.get(todo["id"], "done") == "done", todo
        assert not [step for step in work.json("work")["steps"] if step["state"] != "done"]
        robot.database("a.example/news", {})  # which reads what is there now
        bad = {one["rule"] for one in work.json("check")["findings"] if one["severity"] != "note"}
        assert not bad, bad
        assert robot.opened("a.example", "") == "<h1>The railway</h1>"
        for site, words in (("a.example/press", ("Mill press", "mp7_")), ("s.a.example", ("HotelDruid", "mill_rooms"))):
            assert all(word in work.run("sheet", site).stdout for word in words)
        sheet = work.run("sheet", "a.example/news").stdout
        assert all(words in sheet for words in ("Mill news", "mill_news", "mn7_", "live", "confirmed")), sheet


def test_sheets_tell_all_but_passwords_and_are_written_where_they_changed(work: Work, tmp_path: Path) -> None:
    second = tmp_path / "second"
    second.mkdir()
    own = SETTINGS.replace("[settings]\n", f'[settings]\nrecords_in = "{second}"\n')
    evil = PLAN.replace('title = "The mill"', 'title = "<script>alert(1)</script>"\nlanguage = "en\\u001b[31m"')
    work.account(evil, settings=own).there({"www/index.html": "x"})
    shown = work.run("sheet", "b.example").stdout
    assert all(
        words in shown for words in ("mill_b", "qm3_", "lampkeeper", "kept as b.example/ (admin)", "office@a.example")
    )
    page = work.run("sheet", "b.example", "--format", "html").stdout
    assert ("<script" in page, "&lt;script" in page, "\x1b" in page + shown) == (False, True, False)
    client = work.run("sheet", "b.example", "--for", "client").stdout
    assert ("qm3_" in client, "kept as" in client, "https://b.example/" in client) == (False, False, True)
    pages = tmp_path / "pages"
    first = work.run("sheet", "--all", "--into", str(pages))
    assert first.returncode == 0, first.stderr
    assert (
        [path.name for path in sorted(pages.iterdir())]
        == ["b.example.html"]
        == [path.name for path in second.iterdir()]
    )
    assert (second / "b.example.html").read_bytes() == (pages / "b.example.html").read_bytes()
    again = work.run("sheet", "--all", "--into", str(pages)).stderr
    assert ("0 written, 1 as they were" in again, "1 as they were" in again.splitlines()[-1]) == (True, True)
    # what happened to it is on it, whoever did it, and so is that it was taken back
    done = work.run("retire", "b.example", "--yes", env=os.environ | {"KETTLEPOST_USER": "Ada"})
    assert done.returncode == 0, done.stderr
    assert work.run("undo", "--yes").returncode == 0
    lines = [json.loads(line) for line in (work.plan / "history.jsonl").read_text().splitlines()]
    assert [lines[0][key] for key in ("event", "site", "by")] == ["retired", "b.example", "Ada"]
    assert lines[1]["event"] == "taken back"
    assert "retired by Ada" in work.run("sheet", "b.example").stdout
    assert "1 written" in work.run("sheet", "--all", "--into", str(pages)).stderr
    # only what was written as a sheet is ever replaced or removed
    (pages / "mine.html").write_text("<p>mine")
    (work.plan / "accounts/millbrook.toml").write_text(PLAN.partition("[[installation]]")[0])
    gone = work.run("sheet", "--all", "--into", str(pages))
    assert ("gone: b.example.html" in gone.stderr, [path.name for path in pages.iterdir()]) == (True, ["mine.html"])
    work.account(PLAN, settings=own)
    (pages / "b.example.html").write_text("<p>somebody's")
    refused = work.run("sheet", "--all", "--into", str(pages))
    assert (refused.returncode, (pages / "b.example.html").read_text()) == (2, "<p>somebody's"), refused.stderr
    book = subprocess.run(
        [PROGRAM, "installs", "--format", "xlsx", "--plan", str(work.plan)], capture_output=True, check=True
    ).stdout
    (rows,) = [python_calamine.CalamineWorkbook.from_filelike(io.BytesIO(book)).get_sheet_by_index(0).to_python()]
    assert rows[1][0] == "b.example/"


def test_the_second_place_may_be_behind_a_login(work: Work, tmp_path: Path) -> None:
    second = tmp_path / "second"
    second.mkdir()
    with sftp_server(tmp_path) as login:
        there = f'[settings]\nrecords_in = "sftp://root@127.0.0.1:{login.port}{second}"\n'
        work.account(PLAN, settings=SETTINGS.replace("[settings]\n", there)).there({"www/index.html": "x"})
        words = ("sheet", "--all", "--into", str(tmp_path / "pages"))
        for told in ("1 written into the second place and read back", "0 written into the second place"):
            done = work.run(*words, "--key", str(login.key), "--known-hosts", str(login.known_hosts))
            assert (done.returncode, told in done.stderr) == (0, True), done.stderr
    assert (second / "b.example.html").read_bytes() == (tmp_path / "pages/b.example.html").read_bytes()


def test_what_is_no_plain_file_blocks_nothing(work: Work, tmp_path: Path) -> None:
    work.account(PLAN).there({"www/index.html": "x"})
    os.mkfifo(work.plan / "history.jsonl")
    done = work.run("retire", "b.example", "--yes", timeout=20)
    assert (done.returncode, "the change is written" in done.stderr) == (3, True), done.stderr
    assert 'state = "retired"' in (work.plan / "accounts/millbrook.toml").read_text()
    (work.plan / "history.jsonl").unlink()
    (work.plan / "history.jsonl").symlink_to(tmp_path / "elsewhere")
    assert work.run("undo", "--yes", timeout=20).returncode == 3
    assert not (tmp_path / "elsewhere").exists()
    os.mkfifo(work.plan / "work.toml")
    assert work.run("work", timeout=20).returncode == 3
    (work.plan / "work.toml").unlink()
    for text in ("done = 3", "[[done]]\nid = 3", "\x00", "[[done]]\nid = 'x'\nat = 'y'\npassword = 'z'"):
        (work.plan / "work.toml").write_text(text)
        refused = work.run("work", timeout=20)
        assert (refused.returncode, "work.toml" in refused.stderr) == (2, True), (text, refused.stderr)


@settings(LOOSE, max_examples=examples(120))
@given(messes(), messes())
def test_what_stands_against_one_account_is_told_by_its_neighbours_alone(
    work: Work, mess: tuple[dict[str, str], dict[str, Survey]], more: tuple[dict[str, str], dict[str, Survey]]
) -> None:
    beside = {
        f"beside-{name}": text.replace(f'name = "{name}"', f'name = "beside-{name}"') for name, text in more[0].items()
    }
    try:
        layouts = laid(work, mess[0] | beside, mess[1])
        findings = check(layouts, TODAY).findings
    except PlanError:
        assume(False)
    for name in mess[0]:
        near = neighbours(layouts.hosts, layouts.accounts.__getitem__, [name])
        if near is None:
            continue
        few = PlanLayout(layouts.plan, {one: layout for one, layout in layouts.accounts.items() if one in near})
        whole, alone = (
            [(told.rule, told.at, told.severity, told.title) for told in of if is_of(told, name)]
            for of in (findings, check(few, TODAY).findings)
        )
        assert alone == whole


def is_of(told: Finding, account: str) -> bool:
    return told.account == account or (
        account in told.also_at and told.severity == "stop" and told.rule != "stray-host"
    )


def test_a_root_that_moves_is_the_same_steps_in_the_list_as_behind_the_command(work: Work) -> None:
    inner = table("domain", name="b.example", kind="addon", root="www/b")
    work.account(table("domain", name="a.example", kind="primary", root="www") + inner)
    work.there({"www/index.html": "<p>The railway</p>", "www/b/index.html": "<p>The choir</p>"})
    (way, *_) = (
        way
        for found in work.json("check", "--only", "nested-root")["findings"]
        for way in found["ways_out"]
        if way["steps"]
    )
    advised = {step["do"]: step for step in way["steps"]}
    assert [*advised] == ["copy-folder", "edit-plan", "change-root", "open-page", "add-lines", "set-aside-folder"]
    done = work.run("domain", "root", "b.example", "b", "--yes")
    told = done.stdout + done.stderr
    listed = work.json("work", "b.example")["steps"]
    assert [one["kind"] for one in listed] == ["files", "root", "look", "send-on", "old-files", "survey", "moved"]
    assert [one["state"] for one in listed] == ["ready"] + ["blocked"] * 6
    for one in listed[:5]:
        says_so = "; then say so: " if one["kind"] == "root" else ": "
        commands = [does for does in one["commands"] if "--carry-out" not in does]  # which is for who has the list
        assert f"next: {says_so.join([one['step']['words'], *commands])}\n" in told
        assert one["title"].lower().rstrip(".") == one["step"]["words"].lower()
    robot = Robot(work.homes, work.homes / "aside", work.layout().accounts.values())
    layout = work.layout().accounts["millbrook"]
    *steps, last = root_steps(layout, layout.account.domains[1], Folder("b"))
    robot.carry_out(steps)
    refused = work.run(*shlex.split(listed[4]["commands"][0])[1:], "--from", work.homes / "millbrook", "--yes")
    says = f"kettlepost work --done {listed[1]['id']}"
    assert advised["change-root"]["remedy"] == says
    # else a folder went that visitors are still led to
    assert (refused.returncode, says in refused.stderr, says in told) == (2, True, True), refused.stderr
    assert work.run("work", "--done", listed[1]["id"], "--yes").returncode == 0
    aside = work.run(*shlex.split(listed[4]["commands"][0])[1:], "--from", work.homes / "millbrook", "--yes")
    assert aside.returncode == 0, aside.stderr
    assert not (work.homes / "millbrook" / last.folder).exists()
    gone = next(one for one in work.json("work", "b.example")["steps"] if one["kind"] == "old-files")
    number = work.json("set-asides", "--known")["set_asides"][0]["number"]
    assert (gone["state"], gone["way_back"]) == ("done", f"kettlepost putback {number}"), gone
    work.survey()
    assert work.run("confirm", "b.example", "--yes").returncode == 0
    assert work.json("work", "b.example")["steps"] == []
    assert (work.homes / "millbrook/b/index.html").read_text() == "<p>The choir</p>"
    assert "a redirect to http://b.example (301)" in work.json("where", "a.example/b")["words"]
    assert not {found.rule for found in work.check().findings} & {"nested-root", "root-to-move"}


def test_a_root_never_covers_what_lies_there_and_may_go_down_in_its_own_folder(work: Work) -> None:
    inner = table("domain", name="b.example", kind="addon", root="www/b")
    work.account(table("domain", name="a.example", kind="primary", root="www") + inner)
    work.there({"www/b/index.html": "<p>The choir</p>", "www/b/public/index.html": "x", "shop/index.html": "<p>y</p>"})
    covers = work.run("domain", "root", "b.example", "shop", "--yes")
    assert (covers.returncode, "shop is not empty" in covers.stderr) == (2, True), covers.stderr
    down = work.json("domain", "root", "b.example", "www/b/public", "--show")["steps"]
    assert [step["do"] for step in down] == ["change-root", "look-again", "confirm"]
    into = work.json("domain", "root", "b.example", "www/b/new", "--show")["steps"]
    assert [step["stays"] for step in into if step["do"].endswith("-folder")] == [["www/b/new"]] * 2
    work.account(table("domain", name="a.example", kind="primary", root="www"))
    work.there(deployed("www") | {"www/new/": ""})
    assert "copied into itself" in work.run("domain", "root", "a.example", "www/new", "--yes").stderr
    live = table("installation", application="quillmoor", address="a.example")
    work.account(table("domain", name="a.example", kind="primary", root="new", root_now="www") + live)
    planned = work.json("where", "a.example", "--when", "planned")
    assert (planned["certainty"], "has been copied to new" in planned["words"]) == ("depends", True), planned
