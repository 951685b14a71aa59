"""Databases as they are: read from real servers, from their own dumps and listings, and held against the plan."""

from __future__ import annotations

import getpass
import io
import json
import os
import shlex
import shutil
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Work
from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import KettlepostError
from kettlepost.core.survey import SeenTable, grouped, read_dump, read_listing
from servers import (
    DatabaseServer,
    certificate,
    dropping_proxy,
    free_port,
    mariadb_server,
    postgresql_server,
    sftp_server,
)

PLAN = """
[account]
name = "millbrook"
database_prefix = "mill_"
[[domain]]
name = "a.example"
kind = "primary"
root = "www"
[[installation]]
application = "quillmoor"
address = "a.example"
database = { name = "mill_pages", prefix = "qm3_" }
[[installation]]
application = "quillmoor"
address = "a.example/old"
state = "retired"
database = { name = "mill_old", prefix = "qm2_" }
"""
MARIADB = r"""
create database mill_pages character set utf8mb4; create database mill_old; create database other_x;
create table mill_pages.qm3_posts (a int primary key, x longtext); create table mill_pages.qm3_users (a int);
create table mill_pages.`od``d "name` (a int); create table mill_old.qm2_posts (a int); create table other_x.o_t (a int);
insert into mill_pages.qm3_posts values (1, 'row-of-somebody;\ncreate table evil (a int);\ninsert into evil'), (2, repeat('x', 300000));
create user 'mill_pages'@'localhost' identified by 'hush-hush-hush'; grant all on mill_pages.* to 'mill_pages'@'localhost';
create user 'wide'@'%' identified by 'hush-hush-hush'; grant select on *.* to 'wide'@'%'; grant select on mill_old.* to 'wide'@'%';
"""
POSTGRESQL = (
    "create role mill_pages login password 'hush-hush-hush'", "create database mill_pages owner mill_pages",
    "create database mill_old", "create database other_x",
)  # fmt: skip
POSTGRESQL_TABLES = (
    "create table qm3_posts (a int, x text)", "create table qm3_users (a int)", 'create table "od""d ""name" (a int)',
    "insert into qm3_posts values (1, E'row-of-somebody;\\n\\\\.\\ncreate table evil (a int);')",
)  # fmt: skip


def read(work: Work, source: str, *more: str, password: str = "") -> subprocess.CompletedProcess[str]:
    return work.run(
        "database", "read", "millbrook", "--from", source, *more, env={**os.environ, "KETTLEPOST_PASSWORD": password}
    )


def seen(work: Work) -> dict[str, set[str]]:
    """The databases that are kept, with the names of their tables."""
    raw = (work.plan / "surveys/millbrook.databases.json").read_text()
    assert not any(secret in raw for secret in ("row-of-somebody", "hush-hush", "evil"))
    return {
        base["name"]: {name for group in base.get("tables", ()) for name in group["names"]}
        for base in json.loads(raw)["databases"]
    }


def asked(server: DatabaseServer, *statements: str, base: str = "") -> str:
    if server.client[0] == "psql":
        words = [*server.client, *(["-d", base] if base else []), *(word for one in statements for word in ("-c", one))]
        return subprocess.run(words, check=True, capture_output=True, text=True).stdout
    return subprocess.run(
        [*server.client, "--batch"], input="".join(statements), check=True, capture_output=True, text=True
    ).stdout


@pytest.fixture
def work_of(work: Work) -> Work:
    return work.account(PLAN).there({"www/quill.php": "", "www/moor/kernel.php": "", "www/index.php": ""})


def test_mariadb_its_dumps_and_listings_tell_the_same(work_of: Work, open_folder: Path, tmp_path: Path) -> None:
    with mariadb_server(open_folder) as server:
        asked(server, MARIADB)
        done = read(work_of, server.address)
        assert done.returncode == 0, done.stderr
        live = seen(work_of)
        assert live == {"mill_old": {"qm2_posts"}, "mill_pages": {"qm3_posts", "qm3_users", 'od`d "name'}}
        kept = json.loads((work_of.plan / "surveys/millbrook.databases.json").read_text())
        assert (kept["server"], kept["is_whole"]) == ("mariadb", True)
        rights = {login["name"]: (set(login["databases"]), login.get("everywhere", [])) for login in kept["logins"]}
        assert rights == {"mill_pages": ({"mill_pages"}, []), "wide": ({"mill_old"}, ["SELECT"])}
        denied = read(work_of, server.address, password="wrong")
        assert (denied.returncode, "denied" in denied.stderr.lower(), seen(work_of)) == (3, True, live)
        how_to = work_of.run("database", "read", "--how-to").stdout
        command = shlex.split(how_to.partition("MySQL, MariaDB")[2].partition("> tables.txt")[0])
        listing = subprocess.run([*server.client, *command[1:]], check=True, capture_output=True).stdout
        dump = subprocess.run(
            ["mariadb-dump", *server.client[1:], "--databases", "mill_pages", "mill_old"],
            check=True,
            capture_output=True,
        ).stdout
    for name, raw in (("tables.txt", listing), ("dump.sql", dump), ("dump.sql.gz", __import__("gzip").compress(dump)),
                      ("dump.sql.zst", __import__("zstandard").compress(dump))):  # fmt: skip
        (tmp_path / name).write_bytes(raw)
        (work_of.plan / "surveys/millbrook.databases.json").unlink()
        done = read(work_of, str(tmp_path / name))
        assert (done.returncode, seen(work_of)) == (0, live), (name, done.stderr)
    sizes = {base["database"]: base["bytes"] for base in work_of.json("database", "list")["databases"]}
    assert sizes["mill_pages"] > 300_000
    refused = read(work_of, f"mysql://root@127.0.0.1:{free_port()}/")
    assert (refused.returncode, "refused" in refused.stderr) == (3, True)


def test_postgresql_and_its_dumps_tell_the_same(work_of: Work, open_folder: Path, tmp_path: Path) -> None:
    with postgresql_server(open_folder) as server:
        asked(server, *POSTGRESQL)
        asked(server, *POSTGRESQL_TABLES, base="mill_pages")
        asked(server, "create table qm2_posts (a int)", base="mill_old")
        done = read(work_of, server.address)
        assert done.returncode == 0, done.stderr
        live = seen(work_of)
        assert live == {"mill_old": {"qm2_posts"}, "mill_pages": {"qm3_posts", "qm3_users", 'od"d "name'}}
        dump = subprocess.run(
            ["pg_dump", "-C", *server.client[2:], "mill_pages"], check=True, capture_output=True
        ).stdout
    (tmp_path / "dump.sql").write_bytes(dump)
    done = read(work_of, str(tmp_path / "dump.sql"))
    assert (done.returncode, seen(work_of)) == (0, live), done.stderr


def test_the_register_and_the_rules_tell_whose_tables_they_are(work_of: Work, tmp_path: Path) -> None:
    (tmp_path / "tables.txt").write_text(
        "database\ttable\tbytes\tnewest\nmill_pages\tqm3_posts\t100\t2026-01-02 03:04:05\nmill_pages\twp_posts\t7\t\n"
        "mill_old\tqm2_posts\t5\t\nmill_lost\twp_users\t3\t\nother\tx_y\t1\t\n"
    )
    assert read(work_of, str(tmp_path / "tables.txt")).returncode == 0
    rows = {row["database"]: row for row in work_of.json("database", "list")["databases"]}
    assert {name: row["state"] for name, row in rows.items()} == {
        "mill_pages": "in use", "mill_old": "unused", "mill_lost": "unused"}  # fmt: skip
    assert (rows["mill_pages"]["used_by"], rows["mill_pages"]["unclaimed"], rows["mill_pages"]["bytes"]) == (
        "a.example/",
        1,
        107,
    )
    told = {(one["rule"], one["at"]) for one in work_of.json("check")["findings"]}
    assert told >= {
        ("tables-unclaimed", "mill_pages"),
        ("database-unused", "mill_lost"),
        ("retired-tables", "a.example/old"),
    }
    (tmp_path / "none.txt").write_text("database\ttable\nmill_lost\twp_users\n")
    assert read(work_of, str(tmp_path / "none.txt")).returncode == 0
    told = {(one["rule"], one["at"]) for one in work_of.json("check")["findings"]}
    assert ("database-missing", "a.example/") not in told  # a listing may be of a part
    assert ("retired-tables", "a.example/old") not in told
    for wrong in ("/etc/passwd", str(tmp_path), "nothere.sql", "oracle://x@y/", "mysql://root:pw@127.0.0.1/"):
        refused = read(work_of, wrong)
        assert (refused.returncode, "Traceback" in refused.stderr, ":pw@" in refused.stderr) == (2, False, False), (
            refused.stderr
        )


@pytest.mark.proof
def test_what_a_user_is_not_shown_is_not_called_missing(work_of: Work, open_folder: Path) -> None:
    with mariadb_server(open_folder) as server:
        asked(
            server,
            MARIADB.replace("mill_pages.*", r"`mill\_pages`.*")
            + "create user 'names'@'localhost'; grant show databases on *.* to 'names'@'localhost';",
        )
        place = server.address.partition("@")[2]
        for user, password, bases in (("mill_pages", "hush-hush-hush", {"mill_pages"}), ("names", "", set())):
            done = read(work_of, f"mysql://{user}@{place}", password=password)
            assert done.returncode == 0, done.stderr
            assert set(seen(work_of)) == bases
            told = {one["rule"] for one in work_of.json("check")["findings"]}
            assert not told & {"database-missing", "login-too-narrow"}, (user, told)
        before = (work_of.plan / "surveys/millbrook.databases.json").read_bytes()
        nobody = read(work_of, f"mysql://stranger@{place}")
        assert (nobody.returncode, "denied" in nobody.stderr.lower()) == (3, True), nobody.stderr
        port = int(place.strip("/").rpartition(":")[2])
        for after in (20, 90, 400):
            with dropping_proxy(port, after) as dropping:
                broken = read(work_of, f"mysql://root@127.0.0.1:{dropping}/")
            assert (broken.returncode, broken.stdout) == (3, ""), (after, broken.stderr)
        assert (work_of.plan / "surveys/millbrook.databases.json").read_bytes() == before


def test_a_server_is_reached_through_a_tunnel(work_of: Work, open_folder: Path, tmp_path: Path) -> None:
    with mariadb_server(open_folder) as server, sftp_server(tmp_path) as login:
        asked(server, MARIADB)
        via = f"sftp://{getpass.getuser()}@127.0.0.1:{login.port}"
        known = ("--key", str(login.key), "--known-hosts", str(login.known_hosts))
        far = server.address.replace("127.0.0.1", "localhost")
        done = read(work_of, far, "--via", via, *known)
        assert (done.returncode, set(seen(work_of))) == (0, {"mill_old", "mill_pages"}), done.stderr
        for more, words in (
            ((via, "--key", str(login.key)), "known_hosts"),
            (("ftp://x@y",), "sftp://"),
            ((via.replace("sftp://", "sftp://x:pw@"), *known), "password"),
        ):
            refused = read(work_of, far, "--via", *more)
            assert (refused.returncode in (2, 3), words in refused.stderr, ":pw@" in refused.stderr) == (
                True,
                True,
                False,
            ), refused.stderr


@pytest.mark.proof
def test_a_server_elsewhere_has_to_prove_who_it_is(work_of: Work, open_folder: Path, tmp_path: Path) -> None:
    """By an address of this machine that is none of those which are trusted without."""
    ours, theirs = certificate(tmp_path, "127.0.0.2"), tmp_path / "theirs"
    theirs.mkdir()
    other = certificate(theirs, "127.0.0.2")
    for path in (tmp_path / "key", tmp_path / "cert"):
        shutil.copy(path, open_folder / path.name)
        (open_folder / path.name).chmod(0o644)
    with mariadb_server(open_folder, f"--ssl-cert={open_folder}/cert", f"--ssl-key={open_folder}/key") as server:
        asked(server, MARIADB)
        port = int(server.address.strip("/").rpartition(":")[2])
        for more, right in (
            (("--certificates", str(ours)), True),
            ((), False),
            (("--certificates", str(other)), False),
        ):
            with dropping_proxy(port, 1 << 30, "127.0.0.2") as far:
                done = read(work_of, f"mysql://root@127.0.0.2:{far}/", *more)
            assert (done.returncode, "certificate" in done.stderr.lower()) == ((0, False) if right else (3, True)), (
                done.stderr
            )


@pytest.mark.proof
def test_a_server_that_never_answers_is_left(monkeypatch: pytest.MonkeyPatch) -> None:
    import socket

    from kettlepost.sources import RemotePlace, Secrets, database_servers

    monkeypatch.setattr(database_servers, "_PATIENCE", 1)
    with socket.create_server(("127.0.0.1", 0)) as silent:
        for scheme in ("mysql", "postgresql"):
            begun = time.monotonic()
            with pytest.raises(KettlepostError):
                database_servers.read_server(
                    RemotePlace.parse(f"{scheme}://x@127.0.0.1:{silent.getsockname()[1]}/"), Secrets(lambda _: "x")
                )
            assert time.monotonic() - begun < 30


@given(st.lists(st.sampled_from([
    b"CREATE TABLE `a_b` (\n", b"CREATE TABLE public.\"x y\" (", b"USE `d`;\n", b"INSERT INTO `a_b` VALUES (1,'", b"');\n", b"COPY a_b (x) FROM stdin;\n",
    b"\\.\n", b"-- PostgreSQL database dump\n", b"-- Host: h    Database: d\n", b"\xff\x00", b"database\ttable\tbytes\n", b"| a | b |\n", b"d\tt\t5\n", b"x" * 70_000,
]) | st.binary(max_size=30), max_size=12))  # fmt: skip
def test_whatever_a_dump_or_listing_holds_is_read_to_its_end(pieces: list[bytes]) -> None:
    for reader in (read_dump, read_listing):
        found: Any = []
        try:
            found = list(reader(io.BufferedReader(io.BytesIO(b"".join(pieces))), Budget("x", Limits(entries=50))))  # type: ignore[arg-type]
        except KettlepostError:
            continue
        for base, groups in grouped(found, ["a_", "a_b"]).items():
            assert sum(group.number for group in groups) == sum(one.database == base for one in found)


def test_tables_belong_to_the_longest_prefix_that_is_known() -> None:
    tables = [SeenTable("d", name, 1) for name in ("wp_posts", "wp_2_posts", "wp_shop_cart", "news", "_x")]
    (groups,) = grouped(tables, ["wp_", "wp_shop_"]).values()
    assert {group.prefix: group.number for group in groups} == {"wp_": 2, "wp_shop_": 1, "": 2}
