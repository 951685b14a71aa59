"""Real applications as packages bring them, set up as far as their pages want, and served by PHP's own server."""

from __future__ import annotations

import json
import re
import shutil
import sqlite3
import subprocess
from collections.abc import Callable, Mapping
from contextlib import closing
from pathlib import Path
from types import MappingProxyType
from typing import NamedTuple

from servers import DatabaseServer
from test_database_scripts import done

UNPACKED = Path(__file__).parents[1] / "build/debian"
INSTALLED = Path("/usr/share")


class Served(NamedTuple):
    """The folder that is served, its pages with what each is, and the environment of PHP."""

    root: Path
    pages: dict[str, str]
    env: Mapping[str, str] = MappingProxyType({"LANG": "C.UTF-8"})


class Bench(NamedTuple):
    """What an application may use: a folder of its own, a database server, and the port that it is served at."""

    folder: Path
    server: DatabaseServer
    port: int

    @property
    def database_port(self) -> str:
        return next(word[2:] for word in self.server.client if word.startswith("-P"))

    def copy(self, installed: str) -> Path:
        """A copy of what a package installed, whose files may be changed."""
        there = self.folder / "copy"
        subprocess.run(["cp", "-rL", INSTALLED / installed, there], check=False, stderr=subprocess.DEVNULL)
        return there

    def database(self, name: str, *scripts: Path) -> None:
        """A database with what some scripts make in it."""
        done(self.server, f"create database {name} character set utf8mb4; create user {name}@localhost identified by 'x';"
                          f" grant all on {name}.* to {name}@localhost")  # fmt: skip
        for script in scripts:
            done(self.server, script.read_text("utf-8", "replace"), name)


def _unpacked(folder: str, pages: dict[str, str]) -> Callable[[Bench], Served]:
    return lambda _: Served(UNPACKED / folder, pages)


def _installed(folder: str, pages: dict[str, str]) -> Callable[[Bench], Served]:
    return lambda _: Served(INSTALLED / folder, pages)


def _roundcube(bench: Bench) -> Served:
    copy = bench.copy("roundcube")
    begins = copy / "program/include/iniset.php"
    begins.write_text(begins.read_text().replace("/var/lib/roundcube/", f"{copy}/"))
    (copy / "config").mkdir()
    shutil.copyfile("/etc/roundcube/defaults.inc.php", copy / "config/defaults.inc.php")
    base = bench.folder / "mail.db"
    with closing(sqlite3.connect(base)) as made:
        made.executescript((copy / "SQL/sqlite.initial.sql").read_text())
    base.chmod(0o666)
    for name in ("logs", "temp"):
        (copy / name).mkdir()
        (copy / name).chmod(0o777)
    (copy / "config/config.inc.php").write_text(
        f"<?php\n$config = ['db_dsnw' => 'sqlite:///{base}?mode=0666', 'des_key' => 'rcmail-!24ByteDESkey*Str', 'plugins' => []];\n"
    )
    return Served(copy, {"/": "application"})


def _shaarli(bench: Bench) -> Served:
    copy = bench.copy("shaarli")
    for one in [*(copy / "application").rglob("*.php"), *copy.glob("*.php")]:
        one.write_text(re.sub("/(var/lib|var/cache|usr/share)/shaarli", str(copy), one.read_text()))
    for name in ("cache", "data", "pagecache", "tmp"):
        shutil.rmtree(copy / name, ignore_errors=True)
        (copy / name).mkdir()
        (copy / name).chmod(0o777)
    return Served(copy, {"/": "installer"})


def _ttrss(bench: Bench) -> Served:
    copy = bench.copy("tt-rss")
    bench.database("reader", copy / "schema/ttrss_schema_mysql.sql")
    own = bench.folder / "state"
    for name in ("lock", "cache/images", "cache/upload", "cache/export", "cache/feeds", "cache/simplepie"):
        (own / name).mkdir(parents=True)
    for one in [own, *own.rglob("*"), copy / "www/feed-icons"]:
        one.chmod(0o777)
    config = (UNPACKED / "tt-rss/etc/tt-rss/config.php").read_text()
    config = config.replace("include_once('/etc/tt-rss/database.php');",
                            f"$dbtype='mysql'; $dbserver='127.0.0.1'; $dbport='{bench.database_port}';"
                            " $dbuser='reader'; $dbname='reader'; $dbpass='x';")  # fmt: skip
    config = config.replace("%SELF_URL_PATH", f"http://127.0.0.1:{bench.port}/")
    for name in ("LOCK_DIRECTORY", "CACHE_DIR"):
        config = "\n".join(
            f"define('{name}', '{own}/{'lock' if name[0] == 'L' else 'cache'}');"
            if f"define('{name}'" in line
            else line
            for line in config.split("\n")
        )
    (copy / "www/config.php").write_text(config)
    return Served(copy / "www", {"/": "application"})


def _cacti(bench: Bench) -> Served:
    copy = bench.copy("cacti")
    bench.database("graphs", copy / "conf_templates/cacti.sql")
    told = (copy / "site/include/cacti_version").read_text().strip()
    done(bench.server, f"update graphs.version set cacti = '{told}'")
    (copy / "site/include/config.php").write_text(
        f"<?php $database_type='mysql'; $database_default='graphs'; $database_hostname='127.0.0.1'; $database_username='graphs';"
        f" $database_password='x'; $database_port='{bench.database_port}'; $database_ssl=false; $poller_id=1; $url_path='/';\n"
    )
    return Served(copy / "site", {"/": "application"})


def _simplesaml(bench: Bench) -> Served:
    config = bench.folder / "config"
    shutil.copytree("/etc/simplesamlphp", config)
    text = (config / "config.php").read_text().replace("'simplesamlphp/'", f"'http://127.0.0.1:{bench.port}/'")
    text = text.replace("'session.cookie.secure' => true", "'session.cookie.secure' => false")
    (config / "config.php").write_text(text)
    return Served(INSTALLED / "simplesamlphp/www", {"/": "application"}, {"SIMPLESAMLPHP_CONFIG_DIR": f"{config}/"})


def _horde(bench: Bench) -> Served:
    copy = bench.copy("horde")
    base = {"phptype": "mysqli", "hostspec": "127.0.0.1", "port": bench.database_port, "username": "horde",
            "password": "x", "database": "horde", "charset": "utf-8"}  # fmt: skip
    bench.database("horde")
    dist = (copy / "config/conf.php.dist").read_text()
    (copy / "config/conf.php").write_text(
        f"{dist}\n$conf['sql'] = json_decode('{json.dumps(base)}', true); $conf['auth']['driver'] = 'sql';"
        " $conf['auth']['params'] = ['driverconfig' => 'horde'];\n"
        "$conf['prefs']['driver'] = 'Session'; $conf['use_ssl'] = 0; $conf['cookie']['domain'] = '';\n"
    )
    return Served(copy, {"/login.php": "application"})


APPLICATIONS: dict[str, Callable[[Bench], Served]] = {
    "adminer": _unpacked("adminer/usr/share/adminer", {"/adminer/": "application"}),
    "hoteldruid": _unpacked("hoteldruid/usr/share/hoteldruid", {"/inizio.php": "application"}),
    "ldapaccountmanager": _unpacked("ldap-account-manager/usr/share/ldap-account-manager", {"/templates/login.php": "application"}),
    "postfixadmin": _unpacked("postfixadmin/usr/share/postfixadmin/public", {"/": "application"}),
    "zabbix": _unpacked("zabbix-frontend-php/usr/share/zabbix", {"/": "installer"}),
    "phpmyadmin": _installed("phpmyadmin", {"/": "application"}),
    "phpldapadmin": _installed("phpldapadmin/htdocs", {"/": "application"}),
    "phpliteadmin": _installed("phpliteadmin", {"/phpliteadmin.php": "application"}),
    "phpsysinfo": _installed("phpsysinfo", {"/": "application", "/index.php?disp=static": "application", "/index.php?disp=bootstrap": "application"}),
    "roundcube": _roundcube,
    "shaarli": _shaarli,
    "ttrss": _ttrss,
    "cacti": _cacti,
    "simplesamlphp": _simplesaml,
    "horde": _horde,
}  # fmt: skip
"""By the id of the catalogue; WordPress has a test of its own."""
NEEDED = [
    UNPACKED / "adminer",
    *(INSTALLED / name for name in ("phpmyadmin", "cacti/site", "horde", "shaarli", "roundcube")),
]
