"""A real WordPress on a real MariaDB, set up with the script's database and the made passwords."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from conftest import PHRASE, Work, keeping_in, lacking
from kettlepost.core.probing import PageJudge, Received
from kettlepost.workspace import catalogue
from servers import free_port, mariadb_server
from test_database_scripts import client, copied, done

RELEASE = Path(__file__).parents[1] / "build/debian/wordpress/usr/share/wordpress"
PLAN = """
[account]
name = "millbrook"
database_server = "mariadb"
[[domain]]
name = "a.example"
kind = "primary"
root = "www"
[[installation]]
application = "wordpress"
address = "a.example"
state = "planned"
admin_user = "lampkeeper"
database = { name = "mill_pages", prefix = "ml7_", user = "mill_pages" }
"""
SET_UP = """
define('WP_INSTALLING', true); $_SERVER['HTTP_HOST'] = 'a.example'; $_SERVER['REQUEST_URI'] = '/';
require 'wp-load.php'; require 'wp-admin/includes/upgrade.php';
wp_install('Mill pages', 'lampkeeper', 'office@a.example', true, '', getenv('ADMIN'));
"""


def php(folder: Path, code: str, **env: str) -> str:
    ran = subprocess.run(
        ["php", "-d", "display_errors=stderr", "-r", code],
        cwd=folder,
        env=os.environ | env,
        capture_output=True,
        text=True,
        check=False,
    )
    assert ran.returncode == 0, ran.stderr[-2000:] + ran.stdout[-2000:]
    return ran.stdout


@contextmanager
def served_by_php(root: Path, port: int = 0, **env: str) -> Iterator[int]:
    """PHP's own server for a folder, as somebody else where root begins it, as applications refuse root."""
    port = port or free_port()
    command = ["php", "-S", f"127.0.0.1:{port}", "-t", str(root)]
    if os.geteuid() == 0 and env:
        command = ["setpriv", "--reuid=www-data", "--regid=www-data", "--clear-groups", *command]
    with subprocess.Popen(command, stderr=subprocess.DEVNULL, env=os.environ | env) as server:
        try:
            for _ in range(100):
                with suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                    break
                time.sleep(0.1)
            yield port
        finally:
            server.terminate()


def answer(root: Path, host: str = "a.example", path: str = "") -> str:
    """What somebody gets who logs in at a.example (without a theme, which Debian packs apart, the front is empty)."""
    with served_by_php(root) as port:
        page = f"http://127.0.0.1:{port}/{path.strip('/')}/wp-login.php".replace("//wp", "/wp")
        with urllib.request.urlopen(urllib.request.Request(page, headers={"Host": host}), timeout=60) as got:
            return str(got.read().decode())


def configured(root: Path, port: str, base: str, prefix: str, password: str, user: str = "mill_pages") -> None:
    (root / "wp-config.php").write_text(
        f"<?php\ndefine('DB_NAME', '{base}');\ndefine('DB_USER', '{user}');\ndefine('DB_PASSWORD', '{password}');\n"
        f"define('DB_HOST', '127.0.0.1:{port}');\ndefine('DB_CHARSET', 'utf8mb4');\ndefine('DB_COLLATE', '');\n$table_prefix = '{prefix}';\n"
        "define('ABSPATH', __DIR__ . '/');\ndefine('WP_HTTP_BLOCK_EXTERNAL', true);\ndefine('DISABLE_WP_CRON', true);\nrequire_once ABSPATH . 'wp-settings.php';\n"
    )


@pytest.mark.proof
def test_wordpress_is_set_up_and_its_tables_are_copied(
    work: Work, open_folder: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    if not RELEASE.is_dir() or shutil.which("php") is None:
        lacking("WordPress or php")
    monkeypatch.setenv("KETTLEPOST_PASSPHRASE", PHRASE)
    work.account(PLAN, settings=keeping_in(tmp_path / "kept.kdbx"))
    root = work.homes / "millbrook/www"
    with mariadb_server(open_folder) as server:
        port = next(word[2:] for word in server.client if word.startswith("-P"))
        done(server, work.run("database", "script", "a.example").stdout)
        words = {}
        for purpose in ("admin", "database"):
            assert work.run("password", "make", "a.example", "--for", purpose).returncode == 0
            words[purpose] = work.run("password", "show", "a.example", "--for", purpose).stdout.strip()
        done(server, work.run("database", "script", "a.example", "--passwords").stdout)
        assert work.run("password", "check", "a.example").returncode == 0
        shutil.copytree(RELEASE, root, ignore_dangling_symlinks=True)
        configured(root, port, "mill_pages", "ml7_", words["database"])
        php(root, SET_UP, ADMIN=words["admin"])
        page = answer(root)
        assert "Mill pages" in page
        judge = PageJudge(catalogue.applications(), catalogue.placeholder_finder())
        found = judge.content(Received("http://a.example/wp-login.php", 200, [], page.encode()))
        assert (found.kind, found.what) == ("application", "wordpress")
        work.survey()
        env = {**os.environ, "KETTLEPOST_PASSWORD": ""}
        assert work.run("database", "read", "millbrook", "--from", server.address, env=env).returncode == 0
        assert work.run("confirm", "a.example", "--yes").returncode == 0
        (row,) = work.json("database", "list")["databases"]
        assert (row["state"], row["used_by"], row["unclaimed"]) == ("in use", "a.example/", 0)
        told = {one["rule"] for one in work.json("check")["findings"]}
        assert not told & {
            "database-missing",
            "database-differs",
            "login-too-wide",
            "login-too-narrow",
            "tables-unclaimed",
            "database-unused",
        }, told
        assert "already" in work.run("database", "script", "a.example").stdout
        # its tables into another database under another prefix, and the site on them: the roles are there
        done(server, "create database mill_try; grant all on mill_try.* to 'mill_pages'@'localhost'")
        made = copied(work, server, tmp_path / "copy", "a.example", "--to", "mill_try", "--prefix", "tr5_")
        assert made.returncode == 0, made.stderr
        configured(root, port, "mill_try", "tr5_", words["database"])
        may = php(
            root,
            "$_SERVER['HTTP_HOST'] = 'a.example'; require 'wp-load.php'; echo user_can(get_user_by('login', 'lampkeeper'), 'manage_options') ? 'may' : 'may not';",
        )
        assert may.endswith("may"), may
        for secret in words.values():
            found = subprocess.run(
                ["grep", "-rlF", secret, str(work.plan), str(tmp_path / "copy"), str(tmp_path / "kept.kdbx")],
                capture_output=True,
                text=True,
                check=False,
            )
            assert found.stdout == ""
        assert client(server, "select 1", "-umill_pages", password=words["database"]).returncode == 0
