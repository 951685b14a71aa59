"""What a real server says of directives and lines, and what is told of them: the table, and single lines as people write them."""

from __future__ import annotations

import os
import random
import zlib
from pathlib import Path

import pytest
import rtoml

import ask_directives
import control_files
import webservers
from conftest import lacking
from kettlepost.core.webserver import compile_control, kept_lines, reply_to, text_of
from kettlepost.core.webserver.server_table import HERE
from test_webserver import _compared

LINES = Path(__file__).with_name("lines.txt").read_text().splitlines()
VALUES = ("zzz", "on", "/x", '"a b"', "5", "none", "x=1", "-1", "text/html", "default")
PLAIN = {"page.txt": "", "index.html": "", "x.php": ""}
REFUSED = ["Options -Indexes All", "Options Indexes -FollowSymLinks", "Order allow, deny", "Deny all", "Require all deny", "AuthName two words",
           "ErrorDocument 404 not found", "ErrorDocument 418 /x", "Redirect 404 /x http://x.example/", "DeflateCompressionLevel 5",
           "php_admin_value a b", "Deny from 300.1.1.1", "DirectorySlash x", "LimitRequestBody x", "AddType text/plain", "DocumentRoot /x",
           "RewriteEngine On\nRewriteRule ^x /y [L, R=301]", "RewriteEngine On\nRewriteRule ^x - [R=418]"]  # fmt: skip
TAKEN = ["Options All -Indexes", "Options None -Indexes", 'AuthName "two words"', "ErrorDocument 404 /x", "Redirect gone", "Deny from 127.",
         "Header always set X-Frame-Options DENY", "AddType text/plain .x .y", "FileETag MTime Size", "LimitRequestBody 5"]  # fmt: skip


SECTIONS = ('<RequireAll>\nRequire all granted\n%s\n</RequireAll>', "<RequireAny>\n%s\n</RequireAny>", "<RequireNone>\n%s\n</RequireNone>",
            "<Limit GET>\n%s\n</Limit>", "<Limit POST>\n%s\n</Limit>", "<LimitExcept POST>\n%s\n</LimitExcept>", '<If "true">\n%s\n</If>',
            '<If "false">\n%s\n</If>\n<Else>\n%s\n</Else>', "<Files page.txt>\n%s\n</Files>", '<FilesMatch "\\.txt$">\n%s\n</FilesMatch>',
            "<IfModule mod_none.c>\n%s\n</IfModule>", "<IfModule mod_rewrite.c>\n%s\n</IfModule>", "<IfModule mod_alias.c>\n%s",
            "<IfModule !mod_none.c>\n%s\n</IfModule>", "<IfVersion < 2>\n%s\n</IfVersion>", "<IfVersion >= 2.4>\n%s\n</IfVersion>")  # fmt: skip


def put_together(draw: random.Random) -> str:
    """A control file of up to three of the lines, some within sections, and those within others."""
    found = []
    for _ in range(draw.randint(1, 3)):
        line = draw.choice(LINES)
        while draw.random() < 0.35:
            line = draw.choice(SECTIONS).replace("%s", line)
        found.append(line)
    return "\n".join(found)


def worlds(files: list[str]) -> list[control_files.World]:
    """Each control file in a folder of its own."""
    found = []
    for number, line in enumerate(files):
        world = control_files.World(number, {f"www/t/{name}": text for name, text in PLAIN.items()})
        world.tree["www/t/.htaccess"] = line.replace("\\n", "\n") + "\n"
        world.hosts = {f"l{number}.example": "www"}
        world.asked = [(f"l{number}.example", f"t/{path}") for path in ("page.txt", "", "none", "x.php/more")]
        found.append(world)
    return found


@pytest.mark.parametrize("line", REFUSED)
def test_a_line_that_a_server_refuses_is_a_fault(line: str) -> None:
    assert compile_control("www", line + "\n").fault is not None


@pytest.mark.parametrize("line", TAKEN)
def test_a_line_that_a_server_takes_is_none(line: str) -> None:
    assert compile_control("www", line + "\n").fault is None


def test_what_a_survey_keeps_of_a_line_is_refused_as_the_line_is() -> None:
    more = ["Action x /y", "AuthDigestDomain /x", 'SetEnvIf X-Key "^secret$" in=secret', "SSLRequire true",
            "RedirectRelative On", "php_value a b", "php_flag display_errors off", "php_flag", "php_flag a",
            "php_flag a b c", "php_flag engine", "SessionMaxAge 5", "LuaHookFixups /x y"]  # fmt: skip
    values = [
        f"{one['name']} {' '.join([VALUES[n]] * (n % 3 + 1))}" for one in HERE.values() for n in range(len(VALUES))
    ]
    for line in (*LINES, *more, *values[::3]):
        text = line.replace("\\n", "\n") + "\n"
        whole, kept = (compile_control("www", one).fault for one in (text, text_of(kept_lines(text))))
        assert (whole is None) == (kept is None), (line, whole, kept)


def test_what_a_survey_keeps_of_a_line_does_what_the_line_does(tmp_path: Path) -> None:
    one = worlds([""])[0]
    control_files.lay_out(one, tmp_path / "home")
    for line in LINES:
        text = line.replace("\\n", "\n") + "\n"
        for host, path in one.asked:
            replies = []
            for said in (text, text_of(kept_lines(text))):
                control = compile_control("www/t", said, control_files.SERVER)
                disk = control_files.Disk(one.home)
                disk.control = lambda folder, control=control: control if folder == "www/t" else None  # type: ignore[assignment,misc]
                replies.append(reply_to(disk, control_files.asked_of(one, host, path)))
            whole, kept = replies
            assert kept.doubts or not whole.doubts, (line, path)
            assert kept.doubts or (whole.status, whole.file) == (kept.status, kept.file), (line, path)


def test_the_module_is_the_table() -> None:
    from kettlepost.core.webserver import server_table

    kept = rtoml.loads(ask_directives.TABLE.read_text())
    assert {name.lower(): {"name": name} | entry for name, entry in kept["here"].items()} == server_table.HERE
    assert {name.lower() for names in kept["away"].values() for name in names} == server_table.AWAY
    assert set(kept["status"]["known"]) == server_table.STATUS


@pytest.mark.proof
def test_of_single_lines_is_told_what_a_real_server_does(open_folder: Path) -> None:
    if not webservers.installed() or control_files.php_module() is None:
        lacking("apache2 or its PHP")
    wrong, asked, depend = _compared(worlds(LINES), open_folder)
    assert asked > 800
    assert depend <= asked * 0.12
    assert not wrong, f"{len(wrong)} of {asked}:\n" + "\n".join(
        f"{one}: {LINES[int(one.split(':')[0].split()[1])]}" for one in wrong[:20]
    )


@pytest.mark.proof
def test_of_lines_put_together_is_told_what_a_real_server_does(open_folder: Path) -> None:
    """Some of the lines beside one another and within sections: what one makes of the other."""
    if not webservers.installed() or control_files.php_module() is None:
        lacking("apache2 or its PHP")
    draw = random.Random(int(os.environ.get("CONFORMANCE_SEED", 1)))
    files = [put_together(draw) for _ in range(600)]
    wrong, asked, _ = _compared(worlds(files), open_folder)
    assert not wrong, f"{len(wrong)} of {asked}:\n" + "\n".join(
        f"{one}: {files[int(one.split(':')[0].split()[1])]}" for one in wrong[:20]
    )


@pytest.mark.proof
def test_each_directive_is_taken_with_what_a_real_server_takes(open_folder: Path) -> None:
    """Every directive of usual modules with one to three of ten values, each in a folder of its own."""
    if not webservers.installed() or control_files.php_module() is None:
        lacking("apache2 or its PHP")
    usual = [one for one in HERE.values() if one["module"] == "core" or one["module"] in control_files.SERVER.has]
    lines = [f"{one['name']} {' '.join([value] * n)}" for one in usual for value in VALUES for n in (1, 2, 3)]
    assert len(lines) > 4_000
    found = []
    for number in range(300):
        mine = dict(enumerate(lines[number::300]))
        tree = {f"www/{n}/page.txt": "" for n in mine} | {f"www/{n}/.htaccess": f"{line}\n" for n, line in mine.items()}
        asked = [("site.example", f"{n}/page.txt") for n in mine]
        found.append(control_files.World(number, tree, hosts={"site.example": "www"}, asked=asked))
    wrong, _, depend = _compared(found, open_folder, ())
    assert depend <= len(lines) * 0.1
    assert not wrong, f"{len(wrong)} of {len(lines)}:\n" + "\n".join(wrong[:12])


@pytest.mark.proof
def test_the_table_is_what_the_server_says() -> None:
    """A sixth of it, always the same, is made again; all of it by tests/ask_directives.py."""
    if not webservers.installed() or not ask_directives.AVAILABLE.is_dir():
        lacking("apache2")
    here, away = ask_directives.table(lambda name: zlib.crc32(name.encode()) % 6 == 0)
    kept = rtoml.loads(ask_directives.TABLE.read_text())
    assert len(here) > 30
    for name, entry in here.items():
        assert kept["here"][name] == entry, name
    for module, names in away.items():
        assert set(names) <= set(kept["away"][module])
