"""A domain that goes from one account to another: both right in between, nothing left, nothing lost, and back."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import subprocess
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import pytest

import webservers
import wishes
from conftest import DEMO_SETTINGS, Work, deployed, lacking
from control_files import World
from kettlepost.core.names import Address, Folder
from kettlepost.demo.grown import grown
from kettlepost.demo.scaffold import lay_out_tree
from messes import table
from servers import DatabaseServer, mariadb_server, postgresql_server
from test_database_scripts import done
from test_moving import PERMALINKS, SET_UP, release_in
from test_rehearsing import Rehearser, got
from test_wordpress import RELEASE, configured, php
from town import MACHINE, OTHER
from wishes import Wisher, forked, tree_of

HERE, THERE = "192.0.2.10", "198.51.100.20"


def accounts(work: Work, machine: str = THERE, **keys: Any) -> Work:
    """A domain with a nested one of somebody else's, what is installed at it, and an account that has room."""
    for name, ip, tables in (
        ("saltcote", machine, table("domain", name="z.example", kind="primary", root="public")),
        (
            "millbrook", HERE,
            table("domain", name="a.example", kind="addon", root="www", www="both", **keys)
            + table("domain", name="b.example", kind="alias", of="a.example")
            + table("domain", name="choir.example", kind="primary", root="www/choir")
            + table("installation", application="quillmoor", address="a.example/news", contact="o@b.example",
                    database={"name": "pages", "prefix": "qm_", "user": "pages"}),
        ),
    ):  # fmt: skip
        home = work.homes / name
        head = f'[account]\nname = "{name}"\nhome = "{home}"\nsurvey_from = "{home}"\nip_addresses = ["{ip}"]\n'
        work.account(head + tables, name)
    files = {"www/index.html": "Trains", "www/choir/index.html": "Sing", "www/img/a.png": "p"}
    work.there(files | deployed("www/news", "pages", "qm_")).survey()
    return work.there({"public/index.html": "Lights"}, "saltcote")


def states(work: Work) -> list[tuple[str, str, str]]:
    both = work.layout().accounts
    return [
        (name, one.state, str(getattr(one, "name", getattr(one, "address", ""))))
        for name in ("millbrook", "saltcote")
        for one in (*both[name].account.domains, *both[name].account.installations)
        if str(getattr(one, "name", getattr(one, "address", ""))).startswith(("a.example", "b.example"))
    ]


def test_a_domain_comes_with_its_files_and_data_and_is_retired_where_it_was(work: Work) -> None:
    accounts(work, https=True, mail=True)
    bring = ["move", "a.example", "--to-account", "saltcote", "--by", "files"]
    plans = {name: work.plan / f"accounts/{name}.toml" for name in ("millbrook", "saltcote")}
    texts = {name: path.read_text() for name, path in plans.items()}
    for name, was, is_ in (
        ("saltcote", f'["{THERE}"]', "[]"),  # on which machine that is nobody has said
        ("millbrook", 'application = "quillmoor"', 'application = "quillmoor"\nstate = "retired"'),
        ("millbrook", 'kind = "addon"\nroot = "www"', 'kind = "addon"\nroot = "later"\nroot_now = "www"'),
    ):
        plans[name].write_text(texts[name].replace(was, is_))
        refused = work.run(*bring, "--yes")
        assert refused.returncode == 2, (is_, refused.stdout)
        plans[name].write_text(texts[name])
    for asked in (["b.example"], ["nowhere.example"], ["www.a.example"], ["z.example"]):
        assert work.run("move", *asked, "--to-account", "saltcote").returncode == 2, asked
    shown = work.run("move", "a.example", "--to-account", "saltcote")
    assert "what others have in www stays there: www/choir" in " ".join(shown.stdout.split())
    entered = work.run(*bring, "--yes")
    assert entered.returncode == 0, entered.stderr
    assert "addresses, once" not in entered.stdout  # nobody gets anything else
    told = {(one["rule"], one["severity"]) for one in work.json("check")["findings"]}
    assert ("between-accounts", "note") in told
    assert not [one for one in told if one[1] == "stop"], told
    where = {when: work.json("where", "a.example", "--when", when) for when in ("now", "planned")}
    assert [where[when]["account"] for when in ("now", "planned")] == ["millbrook", "saltcote"]
    assert where["planned"]["certainty"] == "depends"
    written = {name: path.read_text() for name, path in plans.items()}
    for name, was, is_, says in (  # what only one of the two says
        ("millbrook", 'account_next = "saltcote"\n', "", "does not say so"),
        ("millbrook", 'account_next = "saltcote"', 'account_next = "elsewhere"', "none of the plan"),
        ("saltcote", 'account_now = "millbrook"\n', "", "does not say so"),
        ("saltcote", 'address = "a.example/news"', 'address = "z.example/news"', "would be left"),
        ("saltcote", f'["{THERE}"]', "[]", "which machine"),
    ):
        plans[name].write_text(written[name].replace(was, is_))
        stops = [one for one in work.json("check")["findings"] if one["rule"] == "between-accounts"]
        assert any(says in one["title"] and one["severity"] == "stop" for one in stops), (is_, stops)
        plans[name].write_text(written[name])
    plans["saltcote"].write_text(re.sub("database = .*\n", "", written["saltcote"]))
    untold = [one["step"] for one in work.json("work", "a.example")["steps"] if one["step"]["do"] == "complete-entry"]
    assert [one["keys"] for one in untold] == [["database"]]  # else the copy would work with the old tables
    plans["saltcote"].write_text(written["saltcote"])
    assert work.run("account", "rename", "millbrook", "brook", "--yes").returncode == 0
    assert not [one for one in work.json("check")["findings"] if one["severity"] == "stop"]
    assert work.run("undo", "--yes").returncode == 0
    lines = work.run("export", "hosts").stdout.splitlines()
    assert [one for one in lines if one.endswith("\ta.example")] == [f"{THERE}\ta.example"]
    steps = work.json("work", "a.example")["steps"]
    order = [one["step"]["do"] for one in steps]
    wanted = ["clear-folder", "set-time-to-live", "await-forgotten", "get-certificate", "bring-rest", "freeze", "bring-folder",
              "bring-tables", "write-settings", "see-ahead", "change-records", "await-name", "see-page",
              "set-time-to-live"]  # fmt: skip
    assert [one for one in order if one in wanted] == wanted
    assert {one["account"] for one in steps} == {"saltcote"}
    copy = next(one for one in steps if one["step"]["do"] == "bring-folder")
    assert (copy["step"]["stays"], copy["state"]) == (["www/choir"], "blocked")
    records = next(one["step"] for one in steps if one["step"]["do"] == "change-records")
    assert (records["records"], records["names"]) == ([f"A {THERE}"], ["a.example", "www.a.example", "b.example"])
    before = tree_of(work.homes / "millbrook"), tree_of(work.homes / "saltcote")
    numbers = list[str]()
    for _ in range(2):  # and once more, when it was taken back
        for one in work.json("work", "a.example")["steps"][: order.index("bring-folder")]:
            if one["state"] != "done":
                work.run("work", "--done", one["id"], "--yes")
        carried = work.run("work", "--carry-out", copy["id"], "--yes")
        assert carried.returncode == 0, carried.stderr
        numbers.append(carried.stderr.partition("--take-back ")[2].partition("'")[0])
        new = work.homes / "saltcote/a.example"
        new = new if new.exists() else work.homes / "saltcote/a"
        assert {k: v for k, v in tree_of(new).items() if k} == {
            k.removeprefix("www/"): v for k, v in before[0].items() if k.startswith("www/") and "choir" not in k
        }
        if len(numbers) == 1:
            assert work.run("work", "--take-back", numbers[0], "--yes").returncode == 0
            there = tree_of(work.homes / "saltcote")
            assert {k: v for k, v in there.items() if "set-aside" not in k} == before[1]
    assert work.run("confirm", "a.example", "--yes").returncode == 2  # it works with the old tables
    config = new / "news/moor/settings.php"
    config.write_text(config.read_text().replace("'pages'", f"'{base(work)}'"))
    work.survey("saltcote")
    confirmed = work.run("confirm", "a.example", "--yes")
    assert confirmed.returncode == 0, confirmed.stderr
    assert "lost" not in confirmed.stdout.partition("addresses, once")[2].partition("\n")[0], confirmed.stdout
    assert states(work) == [
        ("millbrook", "retired", "a.example"), ("millbrook", "retired", "b.example"),
        ("millbrook", "retired", "a.example/news"), ("saltcote", "live", "a.example"),
        ("saltcote", "live", "b.example"), ("saltcote", "live", "a.example/news"),
    ]  # fmt: skip
    assert [work.json("where", "a.example", "--when", when)["account"] for when in where] == ["saltcote", "saltcote"]
    gone = [one for one in work.json("work", "millbrook")["steps"] if one["site"].startswith("a.example")]
    assert {"keep-folder", "drop-tables", "remove-host", "forget"} <= {one["step"]["do"] for one in gone}
    left = {one["rule"]: one["at"] for one in work.json("check")["findings"]}
    assert left["retired-still-there"] == "www/news"  # and not that nothing is left of it
    assert work.run("work", "--take-back", numbers[1], "--yes").returncode == 2  # it is in use
    assert tree_of(work.homes / "millbrook") == before[0]
    while any(path.read_text() != texts[name] for name, path in plans.items()):
        assert work.run("undo", "--yes").returncode == 0


def base(work: Work) -> str:
    """The database that it is to have."""
    [own] = [one for one in work.layout().accounts["saltcote"].account.installations if one.database is not None]
    assert own.database is not None
    return own.database.name


def test_on_one_machine_the_host_gives_the_name_over_once_all_lies_there(work: Work) -> None:
    accounts(work, HERE, https=True)
    assert work.run("move", "a.example", "--to-account", "saltcote", "--by", "files", "--yes").returncode == 0
    order = [one["step"]["do"] for one in work.json("work", "a.example")["steps"]]
    wanted = ["freeze", "bring-folder", "bring-tables", "write-settings"] + ["remove-host"] * 2
    wanted += ["add-host"] * 2 + ["get-certificate"]
    assert [one for one in order if one in wanted] == wanted
    assert {"change-records", "set-time-to-live", "see-ahead"}.isdisjoint(order)


class Bringer(Rehearser):
    """Does what the list of a domain says that comes from another account, on two real database servers."""

    other: DatabaseServer
    looked: list[tuple[str, str]]

    def listed(self, site: str) -> list[dict[str, Any]]:
        return [one for one in super().listed(site) if one["account"] == self.name]

    def does(self, one: dict[str, Any]) -> None:
        step = one["step"]
        match step["do"]:
            case "bring-tables":
                script, dumps = self.home.parent / "bring.sh", self.home.parent / "dumps"
                dumps.mkdir()
                script.write_text(self.run(*one["commands"][0].split()[1:]))
                for half, server in (("out", self.other), ("in", self.server)):
                    words = ["sh", str(script), half, str(dumps), *server.client[1:]]
                    told = subprocess.run(words, capture_output=True, text=True, check=False)
                    assert told.returncode == 0, told.stderr + told.stdout
                again = subprocess.run(words, capture_output=True, text=True, check=False)
                assert (again.returncode, "already" in again.stderr) == (1, True), again.stderr
            case "bring-folder":
                self.run("work", "--carry-out", one["id"], "--yes")
            case "see-ahead":
                self.looked.append((step["address"], step["line"]))
            case "write-settings":
                super().does(one)  # but for where the server of the test is reached
                ports = [
                    next(word[2:] for word in server.client if word.startswith("-P"))
                    for server in (self.other, self.server)
                ]
                config = self.home / step["file"]
                config.write_text(config.read_text().replace(f":{ports[0]}'", f":{ports[1]}'"))
            case "freeze" | "set-time-to-live" | "await-forgotten" | "bring-rest" | "change-records" | "await-name":
                pass
            case _:
                super().does(one)


@pytest.mark.proof
def test_a_real_wordpress_comes_to_another_host_and_readers_see_no_difference(work: Work, open_folder: Path) -> None:
    if not RELEASE.is_dir() or not webservers.installed():
        lacking("WordPress or apache2")
    work.homes = open_folder / "homes"
    entry = table("installation", application="wordpress", address="a.example", contact="office@a.example",
                  database={"name": "pages", "prefix": "ml7_", "user": "pages"})  # fmt: skip
    domains = table("domain", name="a.example", kind="primary", root="www", www="apart")
    domains += table("domain", name="choir.example", kind="addon", root="www/choir", www="apart")
    for name, ip, tables in (
        ("millbrook", HERE, domains + entry),
        ("saltcote", THERE, table("domain", name="z.example", kind="primary", root="public", www="apart")),
    ):
        home = work.homes / name
        head = f'[account]\nname = "{name}"\nhome = "{home}"\nsurvey_from = "{home}"\nip_addresses = ["{ip}"]\n'
        work.account(f'{head}database_server = "mariadb"\n{tables}', name)
    old, new = work.homes / "millbrook", work.homes / "saltcote"
    release_in(old / "www")
    work.there({"public/index.html": "Lights"}, "saltcote").there({"www/choir/index.html": "<p>Sing</p>"})
    (old / "www/.htaccess").write_text(PERMALINKS.replace("/new/", "/"))
    there = webservers.Site(0, roots={"a.example": "www", "choir.example": "www/choir"})
    with ExitStack() as running:
        servers = []
        for name in ("one", "two"):
            (open_folder / name).mkdir()
            servers.append(running.enter_context(mariadb_server(open_folder / name)))
        ports = [next(word[2:] for word in server.client if word.startswith("-P")) for server in servers]
        grant = "grant all on pages.* to pages@localhost"
        made = f"create database pages; create user pages@localhost identified by 'x1'; {grant}"
        done(servers[0], f"{made}; use pages; create table mlk_others (a int); insert into mlk_others values (1)")
        configured(old / "www", ports[0], "pages", "ml7_", "x1", "pages")
        php(old / "www", SET_UP.replace("/new", ""))
        work.survey()
        before = tree_of(old)
        entered = work.run("move", "a.example", "--to-account", "saltcote", "--by", "files", "--yes")
        assert entered.returncode == 0, entered.stderr
        root = next(one.root for one in work.layout().accounts["saltcote"].account.domains if one.name == "a.example")
        here = webservers.Site(1, roots={"z.example": "public", "a.example": str(root)})
        (new / str(root)).mkdir(exist_ok=True)
        webs = []
        for number, (site, home) in enumerate(((there, old), (here, new))):
            (open_folder / f"web{number}").mkdir()
            webs.append(running.enter_context(webservers.apache(open_folder / f"web{number}", [(site, home)])))
        bringer = Bringer(work, "saltcote", random.Random(1))
        bringer.server, bringer.other, bringer.done_so_far, bringer.looked = servers[1], servers[0], [], []
        paths = ("/hello-trains/", "/wp-login.php", "/wp-content/themes/mini/style.css", "/", "/feed/")
        was = [got(webs[0], "a.example", path) for path in paths]
        assert {status for status, _ in was} == {200}
        left = bringer.carry_out("a.example")
        assert left == [], left
        assert bringer.looked == [("http://a.example/", f"{THERE} a.example")]
        config = (new / str(root) / "wp-config.php").read_text()
        assert "'x1'" not in config
        assert [got(webs[1], "a.example", path) for path in paths] == was
        assert [got(webs[0], "a.example", path) for path in paths] == was  # which stays as it is until it is removed
        assert got(webs[1], "z.example", "/") == (200, "Lights")
        assert not (new / str(root) / "choir").exists()
        assert tree_of(old) == before
        assert "mlk_others" not in done(servers[1], f"show tables in {base(work)}")
        told = {(one["rule"], one["severity"]) for one in work.json("check")["findings"]}
        assert not [one for one in told if one[1] == "stop"], told
        gone = [one["step"] for one in work.json("work", "millbrook")["steps"]]
        dropped = [(one["database"]["prefix"], one["is_whole"]) for one in gone if one["do"] == "drop-tables"]
        assert dropped == [("ml7_", True)]
        assert Address.parse("a.example") in [
            one.address for one in work.layout().accounts["saltcote"].account.installations if one.state == "live"
        ]


class Carrier(Wisher):
    """Does what the list of a domain says that comes from another account, in its files."""

    stays: list[Folder]
    around: list[str]

    def is_unsure(self, one: dict[str, Any]) -> bool:
        return bool(one["kind"] == "verify")  # as what is there was nobody's page before, either

    def listed(self, site: str) -> list[dict[str, Any]]:
        out = forked(self.work, "work", site, "--format", "json")[1]
        return [one for one in json.loads(out)["steps"] if one["account"] == self.name] if out else []

    def does(self, one: dict[str, Any]) -> None:
        step = one["step"]
        if step["do"] == "bring-folder":
            where = ("--from", str(self.home), "--other-from", str(self.work.homes / step["other"]))
            self.run("work", "--carry-out", one["id"], "--yes", *where)
            self.stays += map(Folder, step.get("stays", ()))
            control = self.home / step["to"] / ".htaccess"
            own = control.read_text() if control.exists() else ""
            control.write_text("\n".join([*self.around, own])) if self.around else None
        elif step["do"] == "bring-rest":
            self.around = [(self.work.homes / step["other"] / one).read_text() for one in step.get("files", ())]
        elif step["do"] not in (
            "bring-tables",
            "freeze",
            "set-time-to-live",
            "bring-rest",
            "change-records",
            "see-ahead",
        ):
            super().does(one)


def brought(folder: Path, seed: int) -> list[str] | None:
    """What went wrong with bringing a domain of a grown account to a new one; None where none can be brought."""
    made, pick = grown(seed), random.Random(seed)
    work = Work(folder / "work")
    home, new = work.homes / made.name, work.homes / "newhost"
    machine = MACHINE if seed % 3 == 0 else OTHER  # which is that of the new one, too
    head = f'[account]\nip_addresses = ["{machine}"]\nsurvey_from = "{home}"\n'
    work.account(made.tables.replace("[account]\n", head, 1), made.name, DEMO_SETTINGS)
    own = f'[account]\nname = "newhost"\nip_addresses = ["{MACHINE}"]\nsurvey_from = "{new}"\n'
    work.account(own + table("domain", name="z.test", kind="primary", root="public"), "newhost", DEMO_SETTINGS)
    lay_out_tree(home, made.tree)
    work.survey(made.name).there({"public/index.html": "<p>The new host</p>"}, "newhost")
    before, files = wishes.found(work), tree_of(home)
    account = work.layout().accounts[made.name].account
    hosts = [
        str(one.name) for one in account.domains if one.kind not in ("alias", "temporary") and one.root is not None
    ]
    pick.shuffle(hosts)
    told, host = "", ""
    for one in hosts:
        code, out, err = forked(work, "move", one, "--to-account", "newhost", "--by", "files", "--yes")
        assert code in (0, 2), err
        if code == 0:
            told, host = out, one
            break
    if not host:
        return None
    layouts = work.layout()
    domain, there = (layouts.accounts[name].account.named[host] for name in ("newhost", made.name))
    carrier = Carrier(work, "newhost", pick)
    carrier.stays, carrier.around = [], []
    try:
        troubles = [f"left: {one}" for one in carrier.carry_out(host)]
    except AssertionError as error:
        return [str(error)]
    if tree_of(home) != files:
        troubles.append("not as it was where it was")
    expected = f"{told} orphan-subdomain retired-still-there admin-unencrypted empty-root"
    expected += " control-broken index-contest" if carrier.around else ""  # as it was around it
    troubles += [f"brings {rule} {at}" for rule, at in wishes.found(work) - before if rule not in expected]
    worlds = [
        World(number, hosts={host: str(root)}, home=at)
        for number, (root, at) in enumerate(((there.root, home), (domain.root, new)))
    ]

    def is_told(_host: str, path: str) -> bool:
        place = Folder(str(there.root)).below(path)
        return any(place == one or place.is_inside(one) for one in carrier.stays)

    shutil.copytree(home, folder / "before", symlinks=True)
    worlds[0].home = folder / "before"
    remover = Carrier(work, made.name, pick)
    remover.stays = carrier.stays
    try:
        troubles += [f"left where it was: {one}" for one in remover.carry_out(host)]
    except AssertionError as error:
        troubles.append(f"where it was: {error}")
    root, now = f"{there.root}/", tree_of(home)
    troubles += [
        f"gone where it was: {path}" for path in files
        if path not in now and not (path.startswith(root) and not is_told("", path.removeprefix(root)))
    ]  # fmt: skip
    return troubles + wishes.lost(folder, worlds, is_told)


@pytest.mark.proof
@pytest.mark.parametrize("seed", range(1, 1 + int(os.environ.get("KETTLEPOST_BROUGHT", "4"))))
def test_of_a_grown_account_any_domain_comes_to_a_new_one(open_folder: Path, seed: int) -> None:
    if not webservers.installed():
        lacking("apache2")
    troubles = brought(open_folder, seed)
    assert not troubles, troubles


@pytest.mark.proof
@pytest.mark.parametrize("kind", ["mariadb", "postgresql"])
def test_tables_come_from_one_server_to_another_by_whoever_may_no_more_than_that(
    work: Work, open_folder: Path, kind: str
) -> None:
    accounts(work)
    more = table("installation", application="quillmoor", address="choir.example", contact="o@b.example",
                 database={"name": "pages", "prefix": "qm_x_", "user": "pages"})  # fmt: skip
    for name, tables in (("millbrook", more), ("saltcote", "")):
        plan = work.plan / f"accounts/{name}.toml"
        own = f'name = "{name}"\ndatabase_server = "{kind}"\n'
        plan.write_text(plan.read_text().replace(f'name = "{name}"\n', own, 1) + tables)
    work.there(deployed("www/choir", "pages", "qm_x_")).survey()
    assert work.run("move", "a.example", "--to-account", "saltcote", "--by", "files", "--yes").returncode == 0
    script = work.run("database", "bring", "a.example/news")
    assert script.returncode == 0, script.stderr
    (open_folder / "bring.sh").write_text(script.stdout)
    rows = "".join(f"insert into qm_post values ({n}, 'Caf\u00e9 -- COLLATE=no_such'); " for n in range(3))
    with ExitStack() as running:
        servers, serve = [], mariadb_server if kind == "mariadb" else postgresql_server
        for name in ("one", "two"):
            (open_folder / name).mkdir(mode=0o755)
            servers.append(running.enter_context(serve(open_folder / name)))
        old, new = servers
        into = ["-d", "pages"] if kind == "postgresql" else ["pages"]
        done(old, "create database pages")
        made = "create table qm_post (id int primary key, text varchar(99)); create table qm_x_seat (a int); "
        made = made.replace("99))", "99)) collate utf8mb4_unicode_ci") if kind == "mariadb" else made
        done(old, made + rows + "create table qm_empty (a int)", *into)
        if kind == "mariadb":
            who = "create user 'gone'@'localhost'; create definer='gone'@'localhost' trigger qm_t before insert on qm_post"
            done(old, f"{who} for each row set new.text = 'new'", *into)
            done(
                new,
                f"create database {base(work)}; create user pen@localhost; grant all on {base(work)}.* to pen@localhost",
            )
        else:
            done(new, f"create database {base(work)}")

        def half(which: str, folder: str, *options: str) -> subprocess.CompletedProcess[str]:
            (open_folder / folder).mkdir(exist_ok=True)
            words = ["sh", str(open_folder / "bring.sh"), which, str(open_folder / folder), *options]
            return subprocess.run(words, capture_output=True, text=True, check=False)

        there, here = ([word for word in server.client[1:] if word != "-q"] for server in servers)
        if kind == "mariadb":
            here = [word.replace("-uroot", "-upen") for word in here]
        assert half("in", "work", *here).returncode == 2  # nothing is there yet
        out = half("out", "work", *there)
        assert out.returncode == 0, out.stderr
        assert half("out", "work", *there).returncode == 2  # which keeps the first dump
        if kind == "mariadb":
            dump = open_folder / "work/dump.sql"
            text = dump.read_text()
            dump.write_text(text.replace("COLLATE=utf8", "COLLATE=zz_utf8"))
            strange = half("in", "work", *here)
            assert (strange.returncode, "zz_utf8mb4_unicode_ci" in strange.stderr) == (1, True), strange.stderr
            dump.write_text(text)
        came = half("in", "work", *here)
        assert came.returncode == 0, came.stderr + came.stdout
        asked = "select id, text from qm_post order by id"
        target = ["-d", base(work)] if kind == "postgresql" else [base(work)]
        assert done(old, asked, *into) == done(new, asked, *target)
        listed = "select count(*) from information_schema.tables where table_name like 'qm%'"
        assert done(new, listed, *target).strip() == "2"
        again = half("in", "work", *here)
        assert (again.returncode, "already" in again.stderr) == (1, True), again.stderr
        done(new, "delete from qm_post where id = 2; drop table qm_empty", *target)
        assert done(old, asked, *into).count("\n") == 3
