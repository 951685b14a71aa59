"""Requests carried through control files: as a real Apache answers them, and as the survey keeps them."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import control_files
import webservers
from conftest import Work, examples, lacking
from kettlepost.core.webserver import (
    Reply,
    ServerRequest,
    compile_control,
    kept_lines,
    read_directives,
    reply_to,
    text_of,
)
from kettlepost.core.webserver.server_table import AWAY
from messes import table
from whole_sites import whole_sites

ROOT = Path(__file__).parent.parent
METHODS = ("POST", "HEAD", "PUT", "OPTIONS", "DELETE")
WORLDS = 90
SEEDS = (1, 30_000)
"""Seeds of first worlds; $CONFORMANCE_SEED looks elsewhere."""


@pytest.mark.proof
@pytest.mark.parametrize("first", [int(os.environ["CONFORMANCE_SEED"])] if "CONFORMANCE_SEED" in os.environ else SEEDS)
def test_a_request_gets_what_a_real_server_gives(open_folder: Path, first: int) -> None:
    if not webservers.installed() or control_files.php_module() is None:
        lacking("apache2 or its PHP")
    worlds = [control_files.random_world(first + number, number) for number in range(WORLDS)]
    wrong, asked, depend = _compared(worlds, open_folder)
    assert asked >= 2_000
    assert depend <= asked * 0.03
    assert not wrong, f"seeds from {first}: {len(wrong)} of {asked}:\n" + "\n".join(wrong[:12])


@pytest.mark.proof
def test_control_files_of_real_packages_do_what_is_told_of_them(open_folder: Path) -> None:
    packages = sorted(path for path in (ROOT / "build/debian").glob("*") if path.is_dir())
    worlds = control_files.package_worlds(packages)
    found = sum(path.endswith("/.htaccess") for world in worlds for path in world.tree)
    if not webservers.installed() or control_files.php_module() is None or found < 80:
        lacking("apache2, its PHP, or the packages that ship control files")
    wrong, asked, depend = _compared(worlds, open_folder)
    assert asked >= 2_000
    assert depend <= asked * 0.03
    assert not wrong, f"{len(wrong)} of {asked}:\n" + "\n".join(wrong[:12])


def _compared(
    worlds: list[control_files.World], folder: Path, methods: Sequence[str] = METHODS
) -> tuple[list[str], int, int]:
    """What is told wrongly of what a server answers, how much was asked, and how often it depends on something."""
    wrong, asked, depend = [], 0, 0
    for world in worlds:
        control_files.lay_out(world, folder / f"home{world.number}")
    with control_files.apache(folder, worlds) as ports:
        for world in worlds:
            ask, disk = control_files.Asker(world, ports), control_files.Disk(world.home)
            for number, (host, path) in enumerate(world.asked):
                method = methods[number // 6 % len(methods)] if number % 6 == 5 and methods else "GET"
                reply = reply_to(disk, control_files.asked_of(world, host, path, method))
                really = ask(host, path, method)
                asked += 1
                depend += bool(reply.doubts)
                why = (
                    None if reply.doubts or not really[0] else control_files.differs(reply, really, world.home, method)
                )
                if why is not None:
                    wrong.append(f"world {world.number}: {method} {host}/{path}: {why}; {reply.lines}")
    return wrong, asked, depend


def test_a_name_of_a_password_prompt_is_missing_only_where_a_survey_would_have_kept_it() -> None:
    asks = "AuthType Basic\nRequire valid-user\n"
    assert text_of(kept_lines(asks)).rstrip() == asks.rstrip()
    assert "AuthName" in text_of(["1 AuthType Basic", "2 Require valid-user"])  # as it was kept before
    assert "Members" not in str(kept_lines(f"AuthName Members\n{asks}"))


@settings(max_examples=examples(60), deadline=None)
@given(st.integers(0, 100_000))
def test_what_is_kept_of_a_control_file_says_the_same(tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    world = control_files.random_world(seed, 0)
    control_files.lay_out(world, tmp_path_factory.mktemp("kept") / "home")
    for one, other, asked in _both(world, world.asked):
        assert (one.status, one.file, one.location, bool(one.doubts)) == (
            other.status, other.file, other.location, bool(other.doubts),
        ), (world.tree, asked)  # fmt: skip


def test_what_is_kept_of_whole_sites_says_the_same_or_less(tmp_path: Path) -> None:
    for world in list(whole_sites())[::2]:
        control_files.lay_out(world, tmp_path / f"home{world.number}")
        for one, other, asked in _both(world, world.asked[:: max(1, len(world.asked) // 8)]):
            assert other.doubts or (one.status, one.file) == (other.status, other.file), (world.name, asked)


def _both(world: control_files.World, asked: list[tuple[str, str]]) -> Iterator[tuple[Reply, Reply, ServerRequest]]:
    """What requests get by the control files as they are, and by what is kept of them."""
    disk, kept = control_files.Disk(world.home), control_files.Disk(world.home)

    def kept_control(folder: str) -> object:
        place = world.home / folder / ".htaccess"
        text = text_of(kept_lines(place.read_bytes().decode())) if place.is_file() else ""
        return compile_control(folder, text, control_files.SERVER) if place.is_file() else None

    kept.control = kept_control  # type: ignore[assignment]
    for host, path in asked:
        request = control_files.asked_of(world, host, path)
        yield reply_to(disk, request), reply_to(kept, request), request


def test_nothing_secret_is_kept() -> None:
    text = (
        'Header set Authorization "Basic c2VjcmV0"\nSetEnv DB_PASSWORD secret\nAuthUserFile /home/x/secret\n'
        "php_value session.save_path secret\nStrangeDirective secret\nRewriteEngine On\n# secret\n"
        'SetEnvIf X-Key "^secret$" in=secret ok=1\nSetEnvIfNoCase Host ^www in\n'
    )
    assert kept_lines(text) == [
        "4 php_value session.save_path ***", "5 StrangeDirective", "6 RewriteEngine On",
        '8 SetEnvIf X-Key "***" in=*** ok=1', '9 SetEnvIfNoCase Host "^www" in',
    ]  # fmt: skip
    assert kept_lines(text, is_whole=False) == ["0 NotKept"]
    for name in AWAY:  # which a control file may not hold
        assert "sesame" not in str(kept_lines(f"{name} engine sesame\n{name} sesame\n")), name
    conditions = (
        "RewriteCond %{HTTP:X-Key} !=secret [NC]\nRewriteCond %{HTTP:X-Key} ^$\nRewriteCond %{HTTP:Accept} webp\n"
        "RewriteRule ^ - [E=PASSWORD:secret,L]\n<If \"%{HTTP:X-Key} == 'secret'\">\n"
        'Require expr "%{HTTP:X-Key} =~ /secret/"\n</If>\n'
    )
    assert kept_lines(conditions) == [
        "1 RewriteCond %{HTTP:X-Key} !=*** [NC]", "2 RewriteCond %{HTTP:X-Key} ^$", "3 RewriteCond %{HTTP:Accept} webp",
        "4 RewriteRule ^ - [E=PASSWORD:***,L]", "5 <If \"%{HTTP:X-Key} == '***'\">",
        '6 Require expr "%{HTTP:X-Key} =~ m#***#"', "7 </If>",
    ]  # fmt: skip


@settings(max_examples=examples(200), deadline=None)
@given(st.text(st.sampled_from("<>/\"'\\\n\r \tRewriteRule^$()[]*+?{}%#.IfModule ") | st.characters(), max_size=200))
def test_whatever_a_control_file_holds_is_read_to_its_end(text: str) -> None:
    read_directives(text)
    compile_control("www", text)
    assert [line.partition(" ")[2] for line in kept_lines(text)] == [
        line.partition(" ")[2] for line in kept_lines(text_of(kept_lines(text)))
    ]


def test_a_pattern_of_somebody_else_never_hangs(tmp_path: Path) -> None:
    (tmp_path / ".htaccess").write_text(
        "RewriteEngine On\nRewriteRule ^(a+)+(a+)+(a+)+b$ /x [L]\nRewriteRule ^(\\w+\\s?)+\\W$ /y\n"
    )
    reply = reply_to(control_files.Disk(tmp_path), ServerRequest("a.example", "/" + "a" * 240 + "c", ""))
    assert reply.status == 404
    assert {on.slug for _, on in reply.doubts} <= {"doubt/pattern-not-run"}


CONTROLS = {
    "www/.htaccess": "Redirect 301 /moved https://elsewhere.test/new\nRewriteEngine On\n"
    "RewriteCond %{HTTP_USER_AGENT} Firefox\nRewriteRule ^seen$ /page.txt [L]\n<Files shut.txt>\nRequire all denied\n</Files>\n",
    "www/in/.htaccess": "AuthType Basic\nAuthName x\nRequire valid-user\n",
    "www/off/.htaccess": "RewriteEngine On\nRewriteRule ^ front.php [L]\n",
    "www/bad/.htaccess": "<Files x>\n",
    "www/round/.htaccess": "RewriteEngine On\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301]\n",
    "www/safe/.htaccess": "RewriteEngine On\nRewriteCond %{HTTPS} off\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301]\n",
}


@pytest.mark.parametrize(
    ("address", "kind", "words"),
    [
        ("moved/x", "redirect", "a redirect to https://elsewhere.test/new/x (301)"),
        ("shut.txt", "denied", "denied (403)"),
        ("round/x", "redirect", "a redirect to https://a.example/round/x (301), which goes round in circles"),
        ("safe/index.html", "file", "the file index.html"),
        ("safe", "file", "index.html, a page of its own"),
        ("in", "password", "asks for a password; behind it index.html, a page of its own"),
        ("off/x", "nothing", "nothing: www/off/.htaccess sends the path to what does not exist"),
        ("bad/page.txt", "error", "an error (500)"),
        ("page.txt", "file", "the file page.txt"),
        ("page.txt/x", "nothing", "nothing: www/page.txt/x does not exist"),
        ("seen", "nothing", "it depends on what the visitor's browser says (www/.htaccess line 3)"),
    ],
)
def test_where_says_what_control_files_make_of_an_address(work: Work, address: str, kind: str, words: str) -> None:
    secure = table("certificate", covers=["a.example"])
    work.account(table("domain", name="a.example", kind="primary", root="www") + secure)
    page = "<h1>Geese</h1> Our own page about geese and ganders, and when they are to be seen."
    files = ("page.txt", "shut.txt", "in/index.html", "bad/page.txt", "off/index.html", "safe/index.html")
    work.there(CONTROLS | {f"www/{name}": page for name in files})
    view = work.json("where", f"a.example/{address}")
    assert (view["answers"], words in view["words"]) == (kind, True), view
    assert bool(view["depends"]) == (address == "seen")
    listed = work.run("where", "-", input=f"a.example/{address}\n").stdout
    assert kind in listed


def test_a_host_in_its_other_form_and_one_behind_the_servers_password_are_told(work: Work) -> None:
    shut = table("domain", name="b.example", kind="addon", root="b", protected=True)
    work.account(table("domain", name="a.example", kind="primary", root="www") + shut).there({"b/page.txt": "x"})
    other = work.run("where", "www.a.example").stdout
    assert "a.example is, and nobody declares www.a.example (kettlepost domain www both a.example)" in other
    for name, words in (("page.txt", "the file page.txt"), ("gone", "nothing: b/gone does not exist")):
        view = work.json("where", f"b.example/{name}")
        assert (view["answers"], view["words"]) == ("password", f"asks for a password; behind it {words}")
        assert work.run("where", "-", input=f"b.example/{name}\n").stdout.split()[2] == "password"
