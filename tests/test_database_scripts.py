"""Databases made by the scripts, on real servers: what they make, allow, refuse and take back, and copies of tables."""

from __future__ import annotations

import base64
import contextlib
import json
import os
import shlex
import shutil
import sqlite3
import subprocess
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
import sqlglot
from hypothesis import given
from hypothesis import strategies as st
from pykeepass import PyKeePass

import kettlepost
from conftest import PHRASE, PROGRAM, PROOF, SETTINGS, Work, deployed, keeping_in, lacking
from kettlepost.core.databases import Dialect, new_password, scram_verifier
from kettlepost.core.databases.passwords import CAPITALS, DIGITS, LETTERS
from kettlepost.demo import database_server, lay_out, name_database
from kettlepost.demo.grown import table
from servers import DatabaseServer, mariadb_server, postgresql_server

ODD = [
    "plain",
    "o'd",
    "b`q",
    'd"q',
    "sp ace",
    "ünï_x",
    "a%b_c",
    "back\\slash",
    "semi;colon",
    "-- dash",
    "x" * 63,
    "q = 'r'",
    "$kp$ :a",
]
"""Names that a server takes, and a client may stumble over."""


def toml(value: str) -> str:
    return json.dumps(value)


def planned(names: list[str], server: str, longest: int = 32) -> str:
    tables = [
        f'[account]\nname = "millbrook"\ndatabase_server = "{server}"\n[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n'
    ]
    for n, name in enumerate(names):
        base = f'{{ name = {toml(name)}, prefix = "q{n}_", user = {toml("u" + name[: longest - 1])} }}'
        tables.append(
            f'[[installation]]\napplication = "quillmoor"\naddress = "a.example/s{n}"\nstate = "planned"\ndatabase = {base}\n'
        )
    return "".join(tables)


def client(
    server: DatabaseServer, text: str, *more: str, password: str | None = None
) -> subprocess.CompletedProcess[str]:
    words = [*server.client, *more]
    env = dict(os.environ)
    if server.client[0] == "mariadb":
        words += ["--default-character-set=utf8mb4", "--batch", "--skip-column-names"]
        env |= {"MYSQL_PWD": password} if password else {}
    else:
        words += ["-tA", "-v", "ON_ERROR_STOP=1"]
        env |= {"PGPASSWORD": password} if password else {}
    return subprocess.run(words, input=text, capture_output=True, text=True, check=False, env=env)


def done(server: DatabaseServer, text: str, *more: str, password: str | None = None) -> str:
    ran = client(server, text, *more, password=password)
    assert ran.returncode == 0, (ran.stderr, text)
    return ran.stdout


@pytest.fixture
def keeping(work: Work, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Work:
    """A plan whose passwords are kept in a KDBX file."""
    monkeypatch.setenv("KETTLEPOST_PASSPHRASE", PHRASE)
    work.settings = keeping_in(tmp_path / "kept.kdbx")  # type: ignore[attr-defined]
    return work


def kept_passwords(work: Work, number: int) -> list[str]:
    words = []
    for n in range(number):
        made = work.run("password", "make", f"a.example/s{n}", "--for", "database")
        assert made.returncode == 0, made.stderr
        shown = work.run("password", "show", f"a.example/s{n}", "--for", "database")
        words.append(shown.stdout.strip())
    return words


def tables_of(server: DatabaseServer, base: str) -> str:
    return done(server, f"select table_name from information_schema.tables where table_schema = '{base}' order by 1;")


@pytest.mark.deeper
def test_mariadb_runs_the_scripts_twice_and_back(keeping: Work, open_folder: Path) -> None:
    names = [*ODD, "y" * 64] if PROOF else ODD[:9]
    keeping.account(planned(names, "mysql"), settings=keeping.settings)  # type: ignore[attr-defined]
    with mariadb_server(open_folder) as server:
        done(server, "create database neighbour; create database `aXb_c`; create table neighbour.t (a int);")
        script = keeping.run("database", "script", "millbrook").stdout
        assert "ACCOUNT LOCK" in script
        for _ in range(2):
            done(server, script)
        for n, name in enumerate(names):
            locked = client(server, "select 1;", f"-uu{name[:31]}")
            assert "locked" in locked.stderr, (n, locked.stderr)
        words = kept_passwords(keeping, len(names))
        set_them = keeping.run("database", "script", "millbrook", "--passwords")
        assert set_them.returncode == 0, set_them.stderr
        done(server, set_them.stdout)
        done(server, script)  # a second run locks nobody out
        for name, word in zip(names, words, strict=True):
            user = f"-uu{name[:31]}"
            base = "`" + name.replace("`", "``") + "`"
            done(
                server,
                f"create table {base}.q_t (a int primary key); alter table {base}.q_t add b int; insert into {base}.q_t values (1, 2); "
                f"create index i on {base}.q_t (b); select * from {base}.q_t;",
                user,
                password=word,
            )
            for wrong in (
                "select * from neighbour.t;",
                "create database more;",
                "create table `aXb_c`.t (a int);",
                "select * from mysql.user;",
                f"grant select on {base}.* to root@localhost;",
            ):
                refused = client(server, wrong, user, password=word)
                assert "denied" in refused.stderr, (name, wrong, refused.stderr)
        back = keeping.run("database", "script", "millbrook", "--back").stdout
        refused = client(server, back)
        assert (refused.returncode != 0, "refused" in refused.stderr, "plain" in refused.stderr) == (
            True,
            True,
            True,
        ), refused.stderr
        assert "plain" in done(server, "show databases;")
        for name in names:
            base = "`" + name.replace("`", "``") + "`"
            done(server, f"drop table {base}.q_t;")
        for _ in range(2):
            done(server, back)
        left = done(server, "show databases;").split("\n")
        assert "neighbour" in left
        assert "aXb_c" in left
        assert not set(names) & set(left)
        assert done(server, "select count(*) from mysql.user where user like 'u%';").strip() == "0"


@pytest.mark.proof
@pytest.mark.deeper
def test_postgresql_runs_the_scripts_twice_and_back(keeping: Work, open_folder: Path) -> None:
    names = [*ODD, "%50"] if PROOF else ODD[:9]
    keeping.account(planned(names, "postgresql", 63), settings=keeping.settings)  # type: ignore[attr-defined]
    with postgresql_server(open_folder) as server:
        done(server, "create database neighbour;")
        done(server, "create table t (a int)", "-d", "neighbour")
        script = keeping.run("database", "script", "millbrook").stdout
        for _ in range(2):
            done(server, script)
        assert done(server, "select count(*) from pg_roles where rolname like 'u%' and not rolcanlogin").strip() == str(
            len(names)
        )
        words = kept_passwords(keeping, len(names))
        set_them = keeping.run("database", "script", "millbrook", "--passwords").stdout
        assert not any(word in set_them for word in words)
        done(server, set_them)
        done(server, script)
        told = done(server, "select rolname || chr(9) || rolpassword from pg_authid where rolname like 'u%'")
        kept = dict(line.split("\t") for line in told.splitlines())
        for name, word in zip(names, words, strict=True):
            verifier = kept[f"u{name[:62]}"]
            salt = base64.b64decode(verifier.split(":")[1].split("$")[0])
            assert scram_verifier(word, salt) == verifier
            user, base = (
                ("-U", f"u{name[:62]}"),
                ("-d", "dbname='" + name.replace("\\", "\\\\").replace("'", "\\'") + "'"),
            )
            done(
                server,
                "create table q_t (a serial primary key); insert into q_t default values; select * from q_t; alter table q_t add b int",
                *user,
                *base,
            )
            assert "denied" in client(server, "select * from t", *user, "-d", "neighbour").stderr
            for wrong in ("create database more", "create role more", "create schema more"):
                assert client(server, wrong, *user, *base).returncode != 0, wrong
        other = client(server, "select 1", "-U", f"u{names[0]}", "-d", names[4])
        assert "denied" in other.stderr, other
        back = keeping.run("database", "script", "millbrook", "--back").stdout
        refused = client(server, back)
        assert (refused.returncode != 0, "refused: tables are in" in refused.stderr) == (True, True), refused.stderr
        for name in names:
            done(server, "drop table q_t", "-d", "dbname='" + name.replace("\\", "\\\\").replace("'", "\\'") + "'")
        for _ in range(2):
            done(server, back)
        left = done(server, "select datname from pg_database").split("\n")
        assert ("neighbour" in left, set(names) & set(left)) == (True, set())
        assert done(server, "select count(*) from pg_roles where rolname like 'u%'").strip() == "0"


SHARED = """
[account]
name = "millbrook"
database_server = "%s"
[[domain]]
name = "a.example"
kind = "primary"
root = "www"
[[installation]]
application = "wordpress"
address = "a.example/one"
database = { name = "mill_pages", prefix = "wp_" }
[[installation]]
application = "quillmoor"
address = "a.example/two"
database = { name = "mill_pages", prefix = "wp_2_" }
"""
TABLES = [
    "create table wp_options (id int primary key, option_name varchar(64), v text)", "create table wp_usermeta (a int, meta_key varchar(64))",
    "insert into wp_options values (0, 'wp_user_roles', 'x'), (1, 'wp_page_for_privacy_policy', 'y'), (2, 'siteurl', E'o''d \\n CREATE TABLE z')",
    "insert into wp_usermeta values (1, 'wp_capabilities'), (1, 'nickname')", "create table wp_2_posts (a int)", "create table other (a int)",
]  # fmt: skip


def copied(work: Work, server: DatabaseServer, folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    folder.mkdir()
    script = work.run("database", "copy", *words)
    assert script.returncode == 0, script.stderr
    (folder / "script").write_text(script.stdout)
    dumps = folder / "dumps"
    dumps.mkdir()
    return subprocess.run(["sh", str(folder / "script"), str(dumps), *[word for word in server.client[1:] if word != "-q"]],
                          capture_output=True, text=True, check=False)  # fmt: skip


def test_tables_of_mariadb_are_copied_and_renamed(work: Work, open_folder: Path, tmp_path: Path) -> None:
    work.account(SHARED % "mysql")
    with mariadb_server(open_folder) as server:
        done(server, "create database mill_pages; use mill_pages; " + "; ".join(TABLES).replace("E'", "'") + ";"
             "alter table wp_options add g varchar(9) as (left(v, 3)) stored, add column `b``q` blob; update wp_options set `b``q` = unhex('00ff27');")  # fmt: skip
        absent = copied(work, server, tmp_path / "a", "a.example/one", "--to", "mill_new", "--prefix", "nw_")
        assert (absent.returncode, "make it first" in absent.stderr) == (1, True), absent.stderr
        done(server, "create database mill_new")
        made = copied(work, server, tmp_path / "b", "a.example/one", "--to", "mill_new", "--prefix", "nw_")
        assert made.returncode == 0, (made.stderr, made.stdout)
        assert tables_of(server, "mill_new").split() == ["nw_options", "nw_usermeta"]
        keys = done(
            server,
            "select option_name from mill_new.nw_options order by id; select meta_key from mill_new.nw_usermeta order by 1;",
        )
        assert keys.split() == ["nw_user_roles", "wp_page_for_privacy_policy", "siteurl", "nickname", "nw_capabilities"]
        same = "select hex(`b``q`), g, v from %s order by id;"
        assert done(server, same % "mill_new.nw_options") == done(server, same % "mill_pages.wp_options")
        again = copied(work, server, tmp_path / "c", "a.example/one", "--to", "mill_new", "--prefix", "nw_")
        assert (again.returncode, "there is a table nw_options already" in again.stderr) == (1, True), again.stderr
        beside = copied(work, server, tmp_path / "d", "a.example/one", "--prefix", "px_")
        assert beside.returncode == 0, (beside.stderr, beside.stdout)
        assert tables_of(server, "mill_pages").split() == [
            "other",
            "px_options",
            "px_usermeta",
            "wp_2_posts",
            "wp_options",
            "wp_usermeta",
        ]
        assert done(server, same % "mill_pages.px_options") == done(server, same % "mill_pages.wp_options")
        renamed = copied(work, server, tmp_path / "e", "a.example/one", "--prefix", "zz_", "--rename")
        assert renamed.returncode == 0, (renamed.stderr, renamed.stdout)
        assert tables_of(server, "mill_pages").split() == [
            "other",
            "px_options",
            "px_usermeta",
            "wp_2_posts",
            "zz_options",
            "zz_usermeta",
        ]
        done(server, "create view mill_pages.wp_2_seen as select * from mill_pages.other; create table mill_pages.wp_2_b (a int primary key);"
             "create table mill_pages.wp_2_c (a int, foreign key (a) references mill_pages.wp_2_b (a));")  # fmt: skip
        odd = copied(work, server, tmp_path / "f", "a.example/two", "--prefix", "yy_")
        assert (odd.returncode, "wp_2_seen" in odd.stderr, "foreign key" in odd.stderr) == (1, True, True), odd.stderr
        wrong = copied(
            work, DatabaseServer("", [*server.client, "-pwrong"]), tmp_path / "g", "a.example/two", "--to", "mill_new"
        )
        assert (wrong.returncode != 0, "wp_2_posts" in tables_of(server, "mill_new")) == (True, False)
    for refused in (("--to", "mill_pages"), ("--prefix", "wp_"), ("--prefix", "wp_x"), ("--to", "x" * 65)):
        assert work.run("database", "copy", "a.example/one", *refused).returncode == 2, refused


@pytest.mark.proof
def test_tables_of_postgresql_are_copied_and_renamed(work: Work, open_folder: Path, tmp_path: Path) -> None:
    work.account(SHARED % "postgresql")
    with postgresql_server(open_folder) as server:
        done(server, "create database mill_pages")
        done(
            server,
            "; ".join(TABLES)
            + "; create table wp_s (a serial primary key, b text); insert into wp_s (b) values ('x'), ('y')",
            "-d",
            "mill_pages",
        )
        absent = copied(work, server, tmp_path / "a", "a.example/one", "--to", "mill_new", "--prefix", "nw_")
        assert (absent.returncode, "make it first" in absent.stderr) == (1, True), absent.stderr
        done(server, "create database mill_new")
        made = copied(work, server, tmp_path / "b", "a.example/one", "--to", "mill_new", "--prefix", "nw_")
        assert made.returncode == 0, (made.stderr, made.stdout)
        names = "select relname from pg_class where relkind = 'r' and relnamespace = 'public'::regnamespace order by 1"
        assert done(server, names, "-d", "mill_new").split() == ["nw_options", "nw_s", "nw_usermeta"]
        assert done(server, "insert into nw_s (b) values ('z') returning a", "-d", "mill_new").strip() == "3"
        assert "nw_user_roles" in done(server, "select option_name from nw_options", "-d", "mill_new")
        renamed = copied(work, server, tmp_path / "c", "a.example/one", "--prefix", "zz_", "--rename")
        assert renamed.returncode == 0, (renamed.stderr, renamed.stdout)
        assert done(server, names, "-d", "mill_pages").split() == [
            "other",
            "wp_2_posts",
            "zz_options",
            "zz_s",
            "zz_usermeta",
        ]


@given(
    st.sampled_from(["mysql", "mariadb", "postgresql"]),
    st.text(st.characters(codec="utf-8"), min_size=1, max_size=20),
)
def test_every_name_comes_back_out_of_the_statements(kind: str, name: str) -> None:
    """Read by a parser of somebody else's: what a name holds is never taken for more than a name."""
    dialect = Dialect(kind)
    if dialect.name_fault(name):
        return
    asked = "postgres" if kind == "postgresql" else "mysql"
    (statement,) = sqlglot.parse(f"SELECT * FROM {dialect.name(name)}", dialect=asked)
    assert statement is not None
    assert statement.find(sqlglot.exp.Table).name == name  # type: ignore[union-attr]


def test_the_scripts_of_mysql_are_sql(work: Work) -> None:
    """Where no server is to be had: each statement is one that a parser of the dialect knows."""
    work.account(planned(["mill_pages", "o'd"], "mysql"))
    shown = work.json("database", "script", "millbrook")["servers"][0]
    assert (shown["server"], len(shown["databases"])) == ("mysql", 2)
    for base in shown["databases"]:
        for statement in base["statements"]:  # of users and grants it knows the tokens alone
            assert len(sqlglot.parse(statement, dialect="mysql")) == 1, statement
    script = (
        work.account(SHARED % "mysql").run("database", "copy", "a.example/one", "--to", "o'd", "--prefix", "b`q").stdout
    )
    asked = [line for line in script.splitlines() if line.startswith("SELECT ")]
    assert [type(sqlglot.parse_one(one, dialect="mysql")).__name__ for one in asked] == ["Select"] * len(asked)
    work.account(planned(["mill_pages", "o'd"], "mysql"))
    assert "utf8mb4_unicode_ci" in shown["databases"][0]["statements"][0]
    fields = work.run("database", "script", "--fields", "millbrook").stdout
    assert "as kept under: a.example/s0 (database mill_pages)" in fields


@given(st.integers(8, 80), st.randoms())
def test_a_password_has_every_kind_of_character_and_no_trouble(longest: int, random: Any) -> None:
    made = new_password(longest, random.choice, random.shuffle)
    assert len(made) == min(24, longest)
    assert (made[0].isalnum(), made[-1].isalnum(), shlex.quote(made) == made) == (True, True, True)
    assert all(any(char in kind for char in made) for kind in (LETTERS, CAPITALS, DIGITS, "-_."))


@pytest.mark.proof
def test_passwords_are_kept_where_the_settings_say_and_nowhere_else(
    work: Work, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    plan = planned(["mill_pages"], "mysql")
    work.account(plan)
    for words in (("make", "a.example/s0"), ("show", "a.example/s0"), ("check",)):
        refused = work.run("password", *words)
        assert (refused.returncode, "passwords_in" in refused.stderr, refused.stdout) == (2, True, ""), words
    for inside in ("kept.kdbx", f"{work.plan}/x/kept.kdbx", "../plan/kept.kdbx"):
        work.account(plan, settings=SETTINGS.replace("[settings]\n", f'[settings]\npasswords_in = "{inside}"\n'))
        refused = work.run("password", "make", "a.example/s0", env=os.environ | {"KETTLEPOST_PASSPHRASE": "x"})
        assert (refused.returncode, "plan folder" in refused.stderr) == (2, True), refused.stderr
    kept = tmp_path / "kept.kdbx"
    work.account(plan, settings=SETTINGS.replace("[settings]\n", f'[settings]\npasswords_in = "{kept}"\n'))
    assert work.run("password", "make", "a.example/s0").returncode == 2  # nobody to ask for a pass phrase
    monkeypatch.setenv("KETTLEPOST_PASSPHRASE", "a phrase of four words")
    assert work.run("password", "make", "a.example/s0").returncode == 0
    assert kept.stat().st_mode & 0o777 == 0o600
    states = {one["purpose"]: one["state"] for one in work.json("password", "check")["passwords"]}
    assert states == {"admin": "kept", "database": "missing"}
    again = work.run("password", "make", "a.example/s0")
    assert (again.returncode, "--again" in again.stderr) == (2, True)
    first = work.run("password", "show", "a.example/s0").stdout.strip()
    assert work.run("password", "make", "a.example/s0", "--again").returncode == 0
    second = work.run("password", "show", "a.example/s0").stdout.strip()
    assert first != second
    with (tmp_path / "out").open("w") as file:  # never into a file
        for words in (["password", "show", "a.example/s0"], ["database", "script", "--passwords"]):
            ran = subprocess.run(
                [PROGRAM, *words, "--plan", str(work.plan)], stdout=file, stderr=subprocess.PIPE, check=False
            )
            assert ran.returncode == 2
    # as people type one, in the program they have
    opened = PyKeePass(str(kept), password="a phrase of four words")
    assert [one.password for one in opened.entries[0].history] == [first]
    opened.entries[0].password = "millbrook2026"
    opened.save()
    checked = work.run("password", "check", "a.example/s0")
    assert (checked.returncode, "guessable" in checked.stdout) == (1, True)
    for wrong, words in (("another", "pass phrase"), ("a phrase of four words", "damaged")):
        monkeypatch.setenv("KETTLEPOST_PASSPHRASE", wrong)
        if words == "damaged":
            kept.write_bytes(kept.read_bytes()[:200])
        refused = work.run("password", "show", "a.example/s0")
        assert (refused.returncode, words in refused.stderr) == (3, True), refused.stderr
    for word in (first, second):
        assert subprocess.run(["grep", "-rqF", word, str(tmp_path)], check=False).returncode == 1


def test_a_user_of_several_gets_one_password_and_none_of_what_is_live(keeping: Work) -> None:
    keeping.account(planned(["mill", "mill"], "mysql").replace("umill", "both"), settings=keeping.settings)  # type: ignore[attr-defined]
    kept_passwords(keeping, 2)
    refused = keeping.run("database", "script", "--passwords")
    assert (refused.returncode, "the same entry" in refused.stderr, refused.stdout) == (2, True, ""), refused.stderr
    path = keeping.plan / "accounts/millbrook.toml"
    text = path.read_text()
    path.write_text(text.replace('user = "both"', 'user = "both", entry = "mill of both"'))
    assert keeping.run("password", "make", "a.example/s1", "--for", "database").returncode == 0
    assert keeping.run("database", "script", "--passwords").returncode == 0
    path.write_text(text.replace('state = "planned"', 'state = "live"', 1))
    refused = keeping.run("database", "script", "--passwords")
    assert (refused.returncode, "logs in by the user" in refused.stderr, refused.stdout) == (2, True, ""), (
        refused.stderr
    )


def test_the_user_of_a_live_site_is_not_stood_in_front_of(work: Work, open_folder: Path) -> None:
    """One from any host goes on logging in: a second one of its name from localhost alone would be asked first."""
    work.account(planned(["mill"], "mysql").replace('"planned"', '"live"'))
    unread = work.run("database", "script", "a.example/s0").stdout
    assert ("left out" in unread, "CREATE USER" in unread) == (True, False), unread
    with mariadb_server(open_folder) as server:
        done(
            server,
            "create user 'umill'@'%' identified by 'x'; create database old; grant select on old.* to 'umill'@'%';",
        )
        env = os.environ | {"KETTLEPOST_PASSWORD": ""}
        assert work.run("database", "read", "millbrook", "--from", server.address, env=env).returncode == 0
        done(server, work.run("database", "script", "a.example/s0").stdout)
        done(server, "create table mill.t (a int)", "-uumill", password="x")


def test_the_keyring_keeps_passwords_too(work: Work, tmp_path: Path) -> None:
    (tmp_path / "own_ring.py").write_text(
        "import json, pathlib\nfrom keyring.backend import KeyringBackend\nFILE = pathlib.Path(__file__).with_suffix('.json')\n"
        "class Ring(KeyringBackend):\n    priority = 1\n"
        "    def _all(self): return json.loads(FILE.read_text()) if FILE.exists() else {}\n"
        "    def get_password(self, service, name): return self._all().get(service + '/' + name)\n"
        "    def set_password(self, service, name, word): FILE.write_text(json.dumps(self._all() | {service + '/' + name: word}))\n"
    )
    env = os.environ | {"PYTHON_KEYRING_BACKEND": "own_ring.Ring", "PYTHONPATH": str(tmp_path)}
    work.account(
        planned(["mill_pages"], "mysql"),
        settings=SETTINGS.replace("[settings]\n", '[settings]\npasswords_in = "keyring"\n'),
    )
    assert work.run("password", "make", "a.example/s0", env=env).returncode == 0
    shown = work.run("password", "show", "a.example/s0", env=env).stdout.strip()
    assert json.loads((tmp_path / "own_ring.json").read_text()) == {"kettlepost/a.example/s0 (admin)": shown}
    none = work.run(
        "password", "show", "a.example/s0", env=os.environ | {"PYTHON_KEYRING_BACKEND": "keyring.backends.fail.Keyring"}
    )
    assert (none.returncode, "keyring" in none.stderr) == (3, True), none.stderr


@pytest.mark.proof
def test_the_demo_does_with_a_stand_in_what_it_does_with_a_server(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    @contextlib.contextmanager
    def none() -> Iterator[None]:
        yield None

    demo = lay_out(tmp_path / "demo")
    work = Work(tmp_path / "demo")
    assert work.run("survey", "pennywharf", "--from", str(demo.home("pennywharf"))).returncode == 0
    monkeypatch.setattr(database_server, "_real_server", none)
    monkeypatch.setenv("KETTLEPOST_PASSWORD", "")
    monkeypatch.setenv("KETTLEPOST_PASSPHRASE", "the demo's phrase")
    with database_server.demo_server(tmp_path / "bin") as server:
        assert not server.is_real
        monkeypatch.setenv("PATH", f"{server.path}:{os.environ['PATH']}")

        def shell(line: str, text: str = "") -> str:
            ran = subprocess.run(["sh", "-c", line], input=text, capture_output=True, text=True, check=False)
            assert ran.returncode == 0, (line, ran.stderr)
            return ran.stdout

        def read() -> dict[str, Any]:
            ran = work.run("database", "read", "pennywharf", "--from", server.address)
            assert ran.returncode == 0, ran.stderr
            return {
                row["database"]: row for row in work.json("database", "list", "--account", "pennywharf")["databases"]
            }

        assert {name: (row["tables"], row["unclaimed"]) for name, row in read().items() if row["tables"]} == {
            "penny_seats": (19, 11),
            "penny_diary": (6, 0),
        }
        name_database(demo, "penny_try")
        script = work.run("database", "script", "try.pennywharf.example").stdout
        for _ in range(2):
            shell(f"mariadb {server.options}", script)
        (tmp_path / "copy.sh").write_text(
            work.run("database", "copy", "pennywharf.example/seats", "--to", "penny_try").stdout
        )
        (tmp_path / "dumps").mkdir()
        assert "8 tables with the same rows" in shell(f"sh {tmp_path}/copy.sh {tmp_path}/dumps {server.options}")
        assert work.run("password", "make", "try.pennywharf.example", "--for", "database").returncode == 0
        shell(
            f"mariadb {server.options}", work.run("database", "script", "try.pennywharf.example", "--passwords").stdout
        )
        row = read()["penny_try"]
        assert (row["tables"], row["users"]) == (8, "penny_try")
        assert shell(f"mariadb {server.options}", "SELECT COUNT(*) FROM `penny_try`.`tg4_bookings`") == "40\n"
        back = work.run("database", "script", "try.pennywharf.example", "--back").stdout
        refused = subprocess.run(
            ["sh", "-c", f"mariadb {server.options}"], input=back, capture_output=True, text=True, check=False
        )
        assert (refused.returncode, "refused, tables" in refused.stderr) == (1, True), refused.stderr


TWO = '[account]\nname = "millbrook"\ndatabase_server = "mariadb"\ndatabase_prefix = "mill_"\n\n' + table(
    "domain", name="a.example", kind="primary", root="www"
)


def live(address: str, **more: object) -> str:
    base = {"name": "mill_pages", "prefix": "qm3_", "user": "m_u"}
    return table("installation", application="quillmoor", address=address, state="live", database=base, **more)


class Host:
    """Whoever carries steps on data out, on a real server, by what their records say."""

    def __init__(self, work: Work, server: DatabaseServer, folder: Path):
        self.work, self.server, self.folder = work, server, folder

    def read(self) -> None:
        env = os.environ | {"KETTLEPOST_PASSWORD": ""}
        assert self.work.run("database", "read", "millbrook", "--from", self.server.address, env=env).returncode == 0

    def found(self) -> set[tuple[str, str]]:
        return {(one["rule"], one["at"]) for one in self.work.json("check")["findings"] if one["severity"] != "note"}

    def carry_out(self, step: dict[str, Any]) -> None:
        base, plan = step.get("database"), self.work.plan / "accounts/millbrook.toml"
        match step["do"]:
            case "make-database":
                assert step["has_user"]  # of whom a live site has the password
                rights = f"grant all on {base['name']}.* to '{base['user']}'@'%'"
                done(self.server, f"create database {base['name']}; {rights};")
            case "copy-tables":
                words = step["remedy"].split()[3:]
                assert copied(self.work, self.server, self.folder / "copy", *words).returncode == 0
            case "configure" if step.get("address"):
                address = f"http://{step['address']}/x"
                done(self.server, f"update {base['name']}.{base['prefix']}pages set body = '{address}';")
            case "configure":
                self.work.there(deployed(step["folder"], base["name"], base["prefix"]))
            case "edit-plan":
                before, again, after = plan.read_text().rpartition('name = "mill_pages"')
                assert (bool(again), step["values"]) == (True, {"database": {"name": "mill_try"}})
                plan.write_text(f'{before}name = "mill_try"{after}')
            case "keep-tables":
                assert done(
                    self.server,
                    f"select table_name from information_schema.tables where table_schema = '{base['name']}';",
                )
            case "drop-tables" if step["is_whole"]:
                done(self.server, f"drop database {base['name']};")
            case "drop-tables":
                names = [
                    name for name in tables_of(self.server, base["name"]).split() if name.startswith(base["prefix"])
                ]
                done(self.server, f"use {base['name']}; " + " ".join(f"drop table {name};" for name in names))
            case "change-rights":
                whom = f"on {step['database']}.* {{}} '{step['user']}'@'%';"
                for verb, rights, side in (("grant", step.get("gives"), "to"), ("revoke", step.get("takes"), "from")):
                    if rights:
                        done(self.server, f"{verb} {', '.join(rights)} {whom.format(side)}")
            case "look-again":
                assert step["databases"]
                self.work.survey()
                self.read()
            case _:
                raise AssertionError(step)


LIVE = (
    "create database mill_pages; create table mill_pages.qm3_pages (id int primary key, body text);"
    "insert into mill_pages.qm3_pages values (1, 'http://a.example/x'); create user 'm_u'@'%' identified by 'as it was';"
)
RIGHTS = "grant all on mill_pages.* to 'm_u'@'%';"
OLD = table(
    "installation",
    application="quillmoor",
    address="a.example/old",
    state="retired",
    database={"name": "mill_old", "prefix": "qm3_"},
)
DATA = [
    ("staging-shares-data", live("a.example/try", staging_of="a.example"), RIGHTS, 0),
    ("same-tables", live("a.example/try"), RIGHTS, 0),
    ("tables-unclaimed", "", RIGHTS + "create table mill_pages.wp_x (i int); create table mill_pages.wp_y (i int);", 1),
    ("database-unused", "", RIGHTS + "create database mill_forgotten; create table mill_forgotten.a (i int);", 1),
    ("retired-tables", OLD, RIGHTS + "create database mill_old; create table mill_old.qm3_pages (i int);", 0),
    ("login-too-wide", "", RIGHTS + "create database mill_shop; grant all on mill_shop.* to 'm_u'@'%';", 0),
    ("login-too-narrow", "", "grant select, insert, update, delete on mill_pages.* to 'm_u'@'%';", 0),
]


@pytest.mark.proof
@pytest.mark.parametrize(("rule", "more", "there", "number"), DATA, ids=lambda one: str(one)[:20])
def test_steps_on_data_do_what_they_say(
    keeping: Work, open_folder: Path, tmp_path: Path, rule: str, more: str, there: str, number: int
) -> None:
    """Each step of a way is done as it says, on a real server: the finding is gone then, and the live site is as it was."""
    keeping.account(TWO + live("a.example") + more, settings=keeping.settings)  # type: ignore[attr-defined]
    keeping.there(
        deployed("www", "mill_pages") | (deployed("www/try", "mill_pages") if "a.example/try" in more else {})
    )
    with mariadb_server(open_folder) as server:
        done(server, LIVE + there)
        host = Host(keeping, server, tmp_path)
        host.read()
        known, (found,) = host.found(), [one for one in keeping.json("check")["findings"] if one["rule"] == rule]
        way = found["ways_out"][number]
        for step in way["steps"]:
            host.carry_out(step)
        assert host.found() - known == {(one["rule"], one["at"]) for one in way["brings"]}, way
        assert not [one for one in keeping.json("check")["findings"] if one["rule"] == rule]
        body = "select body from %s.qm3_pages"
        assert done(server, body % "mill_pages", "-um_u", password="as it was").strip() == "http://a.example/x"
        if "a.example/try" in more:
            told = done(server, body % "mill_try", "-um_u", password="as it was").strip()
            assert told == ("http://a.example/try/x" if "staging_of" in more else "http://a.example/x")


REPLACING = Path(kettlepost.__file__).parent / "programs/replace_addresses.php"


def test_addresses_are_replaced_inside_values_as_php_reads_them() -> None:
    if shutil.which("php") is None:
        lacking("php")
    seed = os.environ.get("KETTLEPOST_SEED", "1")
    ran = subprocess.run(
        ["php", "-d", "error_reporting=E_ALL & ~E_DEPRECATED", Path(__file__).with_name("replacing.php"), REPLACING, "10000", seed],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    told = json.loads(ran.stdout)
    assert told["wrong"] == 0, ran.stderr[:3000]
    assert min(told["changed"], told["odd"], told["left"]) > 500, told


def test_what_is_replaced_in_tables_is_counted_first_and_comes_back_to_the_byte(work: Work, tmp_path: Path) -> None:
    if shutil.which("php") is None:
        lacking("php")
    base = {"name": "pages", "prefix": "wp_"}
    work.account(
        table("domain", name="a.example", kind="primary", root="www", www="both")
        + table(
            "installation", application="wordpress", address="a.example", address_now="a.example/new", database=base
        )
        + table("installation", application="wordpress", address="a.example/b", database=base | {"prefix": "wp_b_"})
    )
    told = work.json("database", "readdress", "a.example")
    assert told["addresses"] == [["a.example/new", "a.example"], ["www.a.example/new", "a.example"]]
    assert (told["keeps"], told["stays"]) == (["posts.guid"], ["wp_b_"])
    refused = work.run("database", "readdress", "a.example/b")
    assert (refused.returncode, "OLD=NEW" in refused.stderr) == (2, True)
    program, file = tmp_path / "replace.php", tmp_path / "pages.sqlite"
    program.write_text(work.run("database", "readdress", "a.example").stdout)
    widget = 's:5:"title";s:31:"see http://www.a.example/new/x ";'
    rows = {
        "wp_options": [
            ("siteurl", "http://a.example/new"),
            ("widget", f"a:1:{{{widget}}}"),
            ("broken", 'a:1:{s:9:"http://a.example/new";}'),
        ],
        "wp_posts": [
            ("http://a.example/new/?p=1", "<a href='https://a.example/new/page'> a.example/newsletter"),
            ("x", "a:hover{background:url(http://a.example/new/a.png)}"),
        ],
        "wp_b_options": [("siteurl", "http://a.example/new")],
    }
    with closing(sqlite3.connect(file)) as pages, pages:
        for name, there in rows.items():
            columns = "guid, content" if name == "wp_posts" else "name, value"
            pages.execute(
                f"create table {name} (id integer primary key, {', '.join(f'{one} text' for one in columns.split(', '))})"
            )
            pages.executemany(f"insert into {name} ({columns}) values (?, ?)", there)

    def everything() -> list[str]:
        with closing(sqlite3.connect(file)) as pages:
            return list(pages.iterdump())

    def ran(*words: str) -> str:
        env = os.environ | {"DB_DSN": f"sqlite:{file}"}
        done = subprocess.run(["php", program, *words], capture_output=True, text=True, check=False, env=env)
        assert done.returncode == 0, done.stderr + done.stdout
        return done.stdout

    before = everything()
    counted = ran()
    assert "wp_options.value  2 to change, 1 left as they are" in counted
    assert ("4 values to change" in counted, everything() == before) == (True, True), counted
    assert "4 values changed" in ran("--write")
    after = "\n".join(everything())
    assert 's:5:"title";s:27:"see http://a.example/x ";' in after.replace("s:23", "s:27")
    assert ("'http://a.example')" in after, "https://a.example/page" in after) == (True, True), after
    assert ("a.example/newsletter" in after, "http://a.example/new/?p=1" in after) == (True, True), after
    assert "0 values to change" in ran()
    (kept,) = tmp_path.glob("replaced-*.jsonl")
    assert (kept.stat().st_mode & 0o777, "4 values are" in ran("--back", str(kept))) == (0o600, True)
    assert everything() == before


def test_data_of_what_is_live_come_into_its_rehearsal_by_kinds_and_back(work: Work, tmp_path: Path) -> None:
    if shutil.which("php") is None:
        lacking("php")
    live = {"name": "pages", "prefix": "wp_"}
    work.account(
        '[account]\nname = "millbrook"\n'
        + table("domain", name="a.example", kind="primary", root="www")
        + table("domain", name="try.a.example", kind="subdomain", root="try")
        + table("installation", application="wordpress", address="a.example", database=live)
        + table("installation", application="wordpress", address="a.example/b", database=live | {"prefix": "wp_b_"})
        + table("installation", application="wordpress", address="try.a.example", staging_of="a.example",
                database=live | {"prefix": "try_"}, goes_live=True, live_keeps=["people", "other"])
    )  # fmt: skip
    told = work.json("database", "merge", "try.a.example")
    assert (told["keeps"], told["live"]["prefix"], told["rehearsal"]["prefix"]) == (["people", "other"], "wp_", "try_")
    assert work.run("database", "merge", "a.example").stdout == work.run("database", "merge", "try.a.example").stdout
    program, file = tmp_path / "merge.php", tmp_path / "pages.sqlite"
    program.write_text(work.run("database", "merge", "try.a.example").stdout)
    columns = "id integer primary key, name text, at datetime"
    with closing(sqlite3.connect(file)) as pages, pages:
        for begin in ("wp_", "try_"):
            for name in ("users", "usermeta", "posts"):
                more = ", added text default 'x'" if (begin, name) == ("try_", "users") else ""
                if name == "usermeta":
                    pages.execute(f"create table {begin}usermeta (id integer primary key, meta_key text, value text)")
                    pages.execute(f"insert into {begin}usermeta values (1, '{begin}capabilities', 'v')")
                else:
                    pages.execute(f"create table {begin}{name} ({columns}{more})")
                    pages.execute(f"insert into {begin}{name} (id, name, at) values (1, '{begin}', '2026-11-01')")
        pages.execute("insert into wp_users values (2, 'late', '2026-12-01 10:00:00')")
        pages.execute('create table "wp_shop ""orders" (id integer, what text)')
        pages.executemany('insert into "wp_shop ""orders" values (?, ?)', [(n, f"order {n}") for n in range(250)])
        pages.execute("create table wp_b_posts (id integer)")

    def everything() -> list[str]:
        with closing(sqlite3.connect(file)) as pages:
            return [line for line in pages.iterdump() if 'try_shop ""orders' not in line]

    def ran(*words: str) -> tuple[int, str]:
        env = os.environ | {"DB_DSN": f"sqlite:{file}"}
        done = subprocess.run(["php", program, *words], capture_output=True, text=True, check=False, env=env)
        return done.returncode, done.stdout + done.stderr

    before = everything()
    code, said = ran()
    assert code == 0, said
    assert "* users\n    live       2 rows, highest key 2, newest date 2026-12-01 10:00:00" in said
    assert "\n  posts\n" in said
    assert 'shop "orders\n    live       250 rows\n    rehearsal  not there' in said
    assert everything() == before
    code, said = ran("--write")
    assert code == 0, said
    with closing(sqlite3.connect(file)) as pages:
        assert pages.execute("select name, added from try_users").fetchall() == [("wp_", "x"), ("late", "x")]
        assert pages.execute("select * from try_usermeta").fetchall() == [(1, "try_capabilities", "v")]
        assert pages.execute("select name from try_posts").fetchall() == [("try_",)]
        assert pages.execute('select count(*) from "try_shop ""orders"').fetchone() == (250,)
    assert ran("--back", "none.jsonl")[0] == 1
    code, said = ran("--back", next(one.name for one in tmp_path.glob("merged-*.jsonl")))
    assert (code, everything()) == (0, before), said
    with closing(sqlite3.connect(file)) as pages, pages:
        pages.execute("alter table wp_users add column lost text")
    before = everything()
    code, said = ran("--write")
    assert (code, everything()) == (1, before), said
    assert "no column lost" in said
