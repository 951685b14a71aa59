"""What is written in other languages: each value comes out of its real reader as it went in, and does nothing there."""

from __future__ import annotations

import ast
import contextlib
import csv
import http.client
import io
import os
import re
import shlex
import shutil
import signal
import subprocess
import time
import typing
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import icalendar
import markdown_it
import openpyxl
import pytest
import rtoml
from hypothesis import given, settings
from hypothesis import strategies as st

import webservers
from conftest import PROOF, Work, examples, lacking
from kettlepost.core.databases import Dialect
from kettlepost.core.errors import InputError
from kettlepost.core.quoting import Code, html, markdown, sh, zone
from kettlepost.core.quoting import csv as tables
from kettlepost.core.quoting.sh import Sh
from kettlepost.core.quoting.sql import Sql, comment
from kettlepost.core.remedies import argument
from kettlepost.render.formats import WRITERS, Result
from kettlepost.workspace.exports import export, write_parts
from kettlepost.workspace.plan_folder import PlanFolder
from servers import DatabaseServer, mariadb_server, postgresql_server

SOURCE = Path(__file__).parents[1] / "src/kettlepost"
EVIL = ["$(touch canary)", "`touch canary`", "${HOME}", "$HOME", "$kp", "a;touch canary", "a|touch canary", "a&touch canary", "-n", "--help",
        "-e", "~", "~root", "*", "a b", " lead", "trail ", "'", "''", '"', '"; touch canary; "', "';touch canary;'", "\\", "a\\", "\\n", "a\nb",
        "a\nSQL\ntouch canary\n", "\t", "%", "%s", "%n", "a%25b", "#a", "a#b", "{", "}", "} location / { return 200; }", "[a]", "a]b", "<b>", "</VirtualHost>",
        "=1+1", "@SUM(A1)", "'=1", "+x", "-x", "\u202eb", "caf\u00e9", "\u2603", "!x", "a=b", "(a)", "a?b", "a//b", "|", "a|b", "&amp;", "&lt;", "]]>",
        "\u00a0", "$1", "$uri", "%{HTTP_HOST}", "%1", "a,b", "1e5", "\x7f", "\u2028", "DROP TABLE x; --", "`", "``", "/*", "*/", ":x", "\\x41"]  # fmt: skip
VALUES = st.one_of(
    st.sampled_from(EVIL),
    st.text(st.sampled_from("ab$`'\"\\;&|<>(){}[]*?!#~%=-+@:, \n\t\u00e9./"), max_size=10),
    st.text(max_size=6),
)
LANGUAGES = {"Sh", "Sql", "Nginx", "Apache", "Zone", "Csv", "Markdown", "Html", "Code"}


def is_constant(node: ast.AST) -> bool:
    """Whether a template is one: written there, or a constant of its module."""
    if isinstance(node, ast.IfExp):
        return is_constant(node.body) and is_constant(node.orelse)
    return (isinstance(node, ast.Constant) and isinstance(node.value, str)) or (
        isinstance(node, ast.Name) and node.id.strip("_").isupper()
    )


def test_nothing_but_constants_and_quoted_values_is_written_in_a_language() -> None:
    found = 0
    for path in SOURCE.rglob("*.py"):
        of_languages = "core/quoting" in str(path)
        for node in ast.walk(ast.parse(path.read_text())):
            if not isinstance(node, ast.Call):
                continue
            place = f"{path.name}:{node.lineno}"
            if isinstance(node.func, ast.Name) and node.func.id in LANGUAGES:
                assert of_languages, f"{place}: only core.quoting makes text of a language out of other text"
            elif (
                isinstance(node.func, ast.Attribute)
                and isinstance(node.func.value, ast.Name)
                and node.func.value.id in LANGUAGES
            ):
                found += 1
                if node.func.attr == "of":
                    assert is_constant(node.args[0]), f"{place}: a template that is not constant"
                elif node.func.attr == "joined":
                    assert len(node.args) == 1 or is_constant(node.args[1]), (
                        f"{place}: what stands between is not constant"
                    )
                else:
                    assert node.func.attr.isupper(), place
    assert found > 150


def test_every_format_that_is_a_language_is_written_by_it() -> None:
    assert set(typing.get_args(Result)) == {*WRITERS}
    for result, writers in WRITERS.items():
        for form, writer in writers.written.items():
            if form in ("csv", "markdown", "html"):
                gives = typing.get_type_hints(writer())["return"]
                assert issubclass(gives, Code), f"{result} as {form} gives {gives}"


def test_a_value_of_another_language_is_refused() -> None:
    for value in ("x", Sql.of("x"), None):
        with pytest.raises(TypeError):
            Sh.of("echo \u00abvalue\u00bb", value=value)  # type: ignore[arg-type]
        with pytest.raises(TypeError):
            Sh.joined([Sh.of("x"), value])  # type: ignore[list-item]
    assert Sh.of("\u00aba\u00bb", a=sh.word("\u00abb\u00bb") if False else 1) == "1"


def quoted_or_refused(quote: Any, *values: Any) -> Any:
    with contextlib.suppress(InputError):
        return quote(*values)
    return None


@settings(max_examples=examples(60))
@given(st.lists(VALUES, min_size=1, max_size=25))
def test_shells_give_back_what_was_quoted_and_run_none_of_it(
    tmp_path_factory: pytest.TempPathFactory, values: list[str]
) -> None:
    folder = tmp_path_factory.mktemp("sh")
    script, wanted = [], []
    for value in values:
        for quote, shown in ((sh.word, value), (sh.raw, value), (sh.said, None), (argument, value)):
            word = quoted_or_refused(quote, value)
            if word is not None and "\0" not in value and not any("\ud800" <= sign <= "\udfff" for sign in value):
                script.append(f"printf '%s\\0' {word}")
                wanted.append(shown if shown is not None else sh.ascii_of(sh.printable(value)))
        if "\0" not in value and not any("\ud800" <= sign < "\udc80" or "\udcff" < sign <= "\udfff" for sign in value):
            script.append(f"v=$(printf {sh.format_of(value)}_); printf '%s\\0' \"${{v%_}}\"")
            wanted.append(value)
        script.append(f"# {sh.comment(value)}")
        body = (
            Sql.of("SELECT \u00abvalue\u00bb", value=Dialect("mysql").text(value)) if "\0" not in value else Sql.of("")
        )
        document = quoted_or_refused(sh.here_document, body)
        if document is not None:
            script.append(f"cat {document}\nprintf '\\0'")
            wanted.append(f"{body}\n")
    (folder / "script").write_bytes("\n".join([*script, ""]).encode("utf-8", "surrogateescape"))
    raw = [value.encode("utf-8", "surrogateescape") for value in wanted]
    for shell in (["dash"], ["bash", "--posix"], ["busybox", "sh"]):
        if shutil.which(shell[0]) is None:
            lacking(shell[0])
        done = subprocess.run([*shell, "script"], cwd=folder, capture_output=True, check=False)
        assert (done.returncode, done.stderr) == (0, b""), done.stderr
        assert done.stdout.split(b"\0")[:-1] == raw, shell
    assert sorted(os.listdir(folder)) == ["script"]
    for value in values:
        if value.isprintable():
            assert shlex.split(argument(value)) == [value]


@pytest.mark.proof
def test_a_clearing_script_moves_the_strangest_folder_and_nothing_else(work: Work) -> None:
    names = [name for name in EVIL if "/" not in name and "\0" not in name]
    for name in ("$(touch canary)", "-n", "a\nb", "caf\u00e9 'x'")[: None if PROOF else 1]:
        root = name.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\\\x0a")
        work.account(
            f'[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "{root}"\n[[installation]]\napplication = "wordpress"\naddress = "a.example"\nstate = "planned"\n'
        )
        shutil.rmtree(work.homes, ignore_errors=True)
        work.there(
            {f"{name}/{other}": "x" for other in names}
            | {f"{name}/deep{n}/{other}": "y" for n, other in enumerate(names)}
        )
        home = work.homes / "millbrook"
        before = set(home.rglob("*"))
        assert work.run("survey", "millbrook", "--from", str(home)).returncode == 0
        done = work.run("clear", "a.example", "--script", "--everything")
        assert done.returncode == 0, done.stderr
        for shell in ("dash", "bash"):
            for way in ([], ["back"]):
                ran = subprocess.run(
                    [shell, "-s", *way], input=done.stdout, text=True, cwd=home, capture_output=True, check=False
                )
                assert ran.returncode == 0, (name, ran.stderr)
                assert not list(home.glob("**/canary"))
                if not way:
                    assert not [path for path in (home / name).iterdir() if path.name in names]
            assert set(home.rglob("*")) == before


def statements(dialect: Dialect, values: list[str]) -> tuple[list[str], list[str]]:
    """What asks a server for texts and names as it understands them, and what it is to say."""
    asked, wanted = [], []
    for value in values:
        text = quoted_or_refused(dialect.text, value)
        if not value or text is None:
            continue
        asked.append(
            f"SELECT encode(convert_to({text}, 'UTF8'), 'hex');"
            if dialect.is_postgresql
            else f"SELECT LOWER(HEX({text}));"
        )
        wanted.append(value.encode().hex())
        if not dialect.name_fault(value) and value.strip() == value:  # as an alias of MySQL loses those
            name = dialect.name(value)
            asked.append(f"SELECT x.{name} FROM (SELECT 1 AS {name}) x;")
            wanted.append("1")
        asked.append(f"-- {comment(value)}")
    return asked, wanted


@pytest.mark.parametrize("kind", ["mariadb", "postgresql"])
def test_database_servers_give_back_what_was_quoted(open_folder: Path, kind: str) -> None:
    dialect = Dialect(kind)

    def holds(server: DatabaseServer) -> None:
        head = (
            ["SET client_encoding = 'UTF8';"]
            if dialect.is_postgresql
            else ["SET NAMES utf8mb4;", "SET SESSION sql_mode = 'NO_BACKSLASH_ESCAPES';"]
        )
        more = (
            ["-tA", "-v", "ON_ERROR_STOP=1"]
            if dialect.is_postgresql
            else ["--batch", "-N", "--default-character-set=utf8mb4"]
        )

        @settings(max_examples=examples(40))
        @given(st.lists(VALUES, min_size=1, max_size=40))
        def ask(values: list[str]) -> None:
            asked, wanted = statements(dialect, values)
            done = subprocess.run(
                [*server.client, *more],
                input="\n".join([*head, *asked, ""]),
                capture_output=True,
                text=True,
                check=False,
            )
            assert done.returncode == 0, done.stderr
            assert done.stdout.split() == wanted

        ask()

    with (mariadb_server if kind == "mariadb" else postgresql_server)(open_folder) as server:
        holds(server)


@settings(max_examples=examples(300))
@given(st.lists(st.lists(VALUES, min_size=3, max_size=3), min_size=1, max_size=5))
def test_tables_and_pages_hold_their_cells_and_no_more(rows: list[list[str]]) -> None:
    shown = [[tables.plain(cell) for cell in row] for row in rows]
    back = list(csv.reader(io.StringIO(tables.table(["a", "b", "c"], rows), newline="")))
    assert [[tables.unmarked(cell) for cell in row] for row in back] == [["a", "b", "c"], *shown]
    assert not any(cell.lstrip()[:1] in {*"=+-@"} for row in back for cell in row)
    page = markdown_it.MarkdownIt("commonmark").enable("table").parse(markdown.table(["a", "b", "c"], rows))
    cells = [token for token in page if token.type == "inline"]
    assert len(cells) == 3 * (len(rows) + 1)
    assert {child.type for cell in cells for child in cell.children or ()} <= {"text", "text_special"}
    for row, line in zip(shown, markdown.table(["a", "b", "c"], rows).splitlines()[2:], strict=True):
        assert [markdown.unescaped(cell) for cell in markdown.cells(line)] == [cell.strip() for cell in row]
    from html.parser import HTMLParser

    class Seen(HTMLParser):
        tags, texts = 0, ""

        def handle_starttag(self, tag: str, attrs: Any) -> None:
            self.tags += tag == "p"
            assert attrs == [("title", shown[0][0])]

        def handle_data(self, data: str) -> None:
            self.texts += data

    seen = Seen()
    seen.feed(html.Html.of('<p title="\u00abword\u00bb">\u00abword\u00bb</p>', word=html.text(rows[0][0])))
    seen.close()
    assert (seen.tags, seen.texts) == (1, shown[0][0])


@settings(max_examples=examples(60))
@given(names=st.lists(VALUES, max_size=3), contact=VALUES, addresses=st.lists(VALUES, max_size=2))
def test_a_zone_is_one_or_is_refused(
    tmp_path_factory: pytest.TempPathFactory, names: list[str], contact: str, addresses: list[str]
) -> None:
    folder = tmp_path_factory.mktemp("zone")
    lines = [zone.Zone.of("$ORIGIN a.example."), zone.Zone.of("$TTL 60"),
             zone.Zone.of("@ IN SOA ns.b.example. \u00abmail\u00bb (1 2 3 4 5)", mail=quoted_or_refused(zone.mailbox, f"{contact}@a.example") or zone.mailbox("x@a.example")),
             zone.Zone.of("@ IN NS ns.b.example.")]  # fmt: skip
    lines += [
        zone.Zone.of("@ IN NS \u00abname\u00bb.", name=name)
        for one in names
        if (name := quoted_or_refused(zone.name, one)) is not None
    ]
    for one in ("192.0.2.1", "2001:db8::1", *addresses):
        address = quoted_or_refused(zone.address, one)
        if address is not None:
            lines.append(
                zone.Zone.of("@ IN \u00abkind\u00bb \u00abaddress\u00bb", kind=zone.record_of(one), address=address)
            )
    (folder / "zone").write_text(zone.Zone.joined([*lines, zone.Zone.of("")]))
    program = shutil.which("named-checkzone", path=f"{os.environ['PATH']}:/usr/sbin") or lacking("named-checkzone")
    done = subprocess.run(
        [program, "-i", "none", "a.example", folder / "zone"], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout


@pytest.mark.proof
def test_a_table_goes_out_and_comes_in_whatever_its_cells_begin_with(work: Work, tmp_path: Path) -> None:
    work.account('[account]\nname = "millbrook"\nclient = "=cmd()"\n[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "@www"\n[[domain]]\nname = "b.example"\nkind = "addon"\nroot = "\'=x"\n'
                 '[[domain]]\nname = "c.example"\nkind = "addon"\nroot = "a|b_c*"\n')  # fmt: skip
    for kind, name in (("table", "t.csv"), ("markdown", "t.md"), ("table", "t.xlsx")):
        assert work.run("export", kind, "--to", str(tmp_path / name)).returncode == 0
        again = Work(tmp_path / name.replace(".", "-"))
        again.account('[account]\nname = "millbrook"\n')
        done = again.run("import", str(tmp_path / name), "--account", "millbrook", "--yes")
        assert done.returncode == 0, done.stderr + done.stdout
        kept = rtoml.loads((again.plan / "accounts/millbrook.toml").read_text())
        assert [domain["root"] for domain in kept["domain"]] == ["@www", "'=x", "a|b_c*"], name
    cells = [
        str(cell.value)
        for row in openpyxl.load_workbook(tmp_path / "t.xlsx").active
        for cell in row
        if cell.value is not None
    ]
    assert "'=x" in cells
    assert all(
        cell.data_type == "s"
        for row in openpyxl.load_workbook(tmp_path / "t.xlsx").active
        for cell in row
        if cell.value is not None
    )


def test_a_calendar_holds_no_more_than_its_entries(work: Work) -> None:
    site = "b.example\r\nBEGIN:VALARM\nDESCRIPTION:x; \\n,y"
    work.account('[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n[[installation]]\napplication = "wordpress"\naddress = "a.example"\nstate = "planned"\n'
                 f'contact = {rtoml.dumps({"x": site})[4:].strip()}\n').there({"www/": ""})  # fmt: skip
    calendar = icalendar.Calendar.from_ical(work.run("work", "--format", "ics").stdout)
    assert {part.name for part in calendar.walk()} == {"VCALENDAR", "VTODO"}
    assert len(calendar.walk("VTODO")) > 3


# -- web servers

RULES = [
    "password",
    "denied",
    "redirect",
    "fallback",
    "alias",
    "password below denied",
    "alias below password",
    "fallback below password",
    "none",
    "protected",
]
WORDS = [
    word
    for word in EVIL
    if "\n" not in word and "\0" not in word and word.isprintable() and "/" not in word and word.strip() == word
]


@contextlib.contextmanager
def php(folder: Path) -> Iterator[Path]:
    program = shutil.which("php-cgi") or lacking("php-cgi")
    place = folder / "php.sock"
    with subprocess.Popen([program, "-b", str(place)], stderr=subprocess.DEVNULL, start_new_session=True) as running:
        for _ in range(100):
            if place.exists():
                break
            time.sleep(0.05)
        place.chmod(0o777)
        try:
            yield place
        finally:
            os.killpg(running.pid, signal.SIGTERM)


def got(port: int, host: str, path: str, login: bool = False) -> tuple[int, str]:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    connection.putrequest("GET", path, skip_host=True)
    connection.putheader("Host", host)
    if login:
        connection.putheader("Authorization", "Basic dTpw")  # u:p
    connection.endheaders()
    reply = connection.getresponse()
    body = reply.read().decode("utf-8", "replace")
    connection.close()
    return reply.status, body


def world_with_php(work: Work, homes: Path) -> None:
    """A host for each kind of rule, with a script that holds a secret below it."""
    domains, rules, tree = [], [], {}
    for n, kind in enumerate(RULES):
        host = f"h{n}.example"
        domains.append(
            f'[[domain]]\nname = "{host}"\nkind = "{"addon" if n else "primary"}"\nroot = "r{n}"\n'
            + ("protected = true\n" if kind == "protected" else "")
        )
        for place in (f"r{n}/docs", f"r{n}/docs/in", f"r{n}", f"a{n}"):
            tree[f"{place}/config.php"] = "<?php /* hush-hush */ echo 'ran'; ?>"
        tree[f"r{n}/there.html"] = "there"
        for one in kind.split(" below "):
            path = "docs/in" if "below" in kind and one == kind.split(" below ")[0] else "docs"
            if one == "alias":
                rules.append(f'[[path_alias]]\naddress = "{host}/{path}"\nfolder = "a{n}"\n')
            elif one not in ("none", "protected"):
                to = {"redirect": 'to = "other.example"\n', "fallback": 'to = "/there.html"\n'}.get(one, "")
                rules.append(f'[[path_rule]]\naddress = "{host}/{path}"\ndoes = "{one}"\n{to}')
    rules.append('[[path_rule]]\naddress = "h8.example/config.php"\ndoes = "password"\n')
    work.homes = homes
    work.account('[account]\nname = "m"\nweb_server = "nginx"\n' + "\n".join(domains + rules), "m").there(tree, "m")


def test_no_server_hands_out_the_source_of_php(work: Work, open_folder: Path) -> None:
    world_with_php(work, open_folder)
    (open_folder / "users").write_text("u:{PLAIN}p\n")
    port = webservers.free_port()
    with php(open_folder) as place:
        told = f'php = "unix:{place}"\n'
        (work.plan / "kettlepost.toml").write_text(
            f'[export]\nlisten = "127.0.0.1:{port}"\nhome = "{open_folder}/{{account}}"\nusers = "{open_folder}/users"\n{told}'
        )
        done = work.run("export", "nginx", "--to", f"{open_folder}/sites/")
        assert done.returncode == 0, done.stderr
        (open_folder / "fastcgi_params").write_text(Path("/etc/nginx/fastcgi_params").read_text())
        seen = {}
        with webservers.exported("nginx", open_folder, port):
            for n, kind in enumerate(RULES):
                for path in (
                    "/config.php",
                    "/docs/config.php",
                    "/docs/in/config.php",
                    "/docs/in/none.php",
                    "/docs/config.php/x",
                ):
                    for login in (False, True):
                        status, body = got(port, f"h{n}.example", path, login)
                        assert "hush-hush" not in body, (kind, path, login)
                        seen[kind, path, login] = (status, body if body == "ran" else "")
    ran = (200, "ran")
    for kind in ("password", "fallback", "alias", "protected", "fallback below password"):
        assert seen[kind, "/docs/config.php", True] == ran, (kind, seen[kind, "/docs/config.php", True])
    for kind in ("password", "protected", "fallback below password", "alias below password"):
        for path in ("/docs/config.php", "/docs/in/config.php"):
            assert seen[kind, path, False][0] == 401, (kind, path)
    assert seen["alias below password", "/docs/in/config.php", True] == ran
    assert seen["none", "/config.php", False][0] == 401
    assert seen["none", "/config.php", True] == ran
    assert seen["redirect", "/docs/config.php", True][0] == 301
    for path in ("/docs/config.php", "/docs/in/config.php"):
        assert seen["denied", path, True][0] == 403
        assert seen["password below denied", path, True][0] == 403


@pytest.mark.parametrize("server", ["nginx", "apache"])
def test_servers_take_whatever_a_plan_holds_for_what_it_is(work: Work, open_folder: Path, server: str) -> None:
    """Each value in each field by itself: refused in words, or taken by the server, and then it serves the right page."""
    work.homes, port = open_folder, webservers.free_port()
    hosts, refused = [], 0
    (open_folder / "users").write_text("")
    for n, value in enumerate(WORDS):
        host, name = f"v{n}.example", f"m{n}"
        there = f"r {value}"
        toml = rtoml.dumps({
            "account": {"name": name},
            "domain": [{"name": host, "kind": "primary", "root": there}],
            "path_alias": [{"address": f"{host}/alias", "folder": f"x {value}"}],
            "path_rule": [{"address": address_of(host, value), "does": "denied"}, {"address": f"{host}/gone", "does": "redirect", "to": f"o.example/{value}"}],
        })  # fmt: skip
        work.account(toml, name)
        (work.plan / "kettlepost.toml").write_text(
            f'[export]\nlisten = "127.0.0.1:{port}"\nhome = "{open_folder}/{{account}}"\nusers = "{open_folder}/users"\n'
        )
        try:
            write_parts(export(PlanFolder(work.plan), server, [name]), f"{open_folder}/sites/")
        except InputError:
            refused += 1
            continue
        finally:
            (work.plan / f"accounts/{name}.toml").unlink()
        for place, text in ((there, "page"), (f"x {value}", "alias"), (f"{there}/shut {value}", "shut")):
            (open_folder / name / place).mkdir(parents=True)
            (open_folder / name / place / "index.html").write_text(f"{text} {n}")
        hosts.append((n, host, value))
    assert len(hosts) > 25
    assert refused < 25
    with webservers.exported(server, open_folder, port):
        for n, host, value in hosts:
            assert got(port, host, "/index.html") == (200, f"page {n}"), (host, value)
            assert got(port, host, "/alias/index.html") == (200, f"alias {n}"), (host, value)
            assert got(port, host, f"/{quoted_path('shut ' + value)}/index.html")[0] == 403, (host, value)
            assert got(port, host, "/gone/x")[0] == 301, (host, value)
            assert got(port, host, "/other")[0] == 404, (host, value)


def quoted_path(text: str) -> str:
    from urllib.parse import quote

    return quote(text, safe="")


def address_of(host: str, value: str) -> str:
    return f"{host}/{quoted_path('shut ' + value)}"


@pytest.mark.parametrize("key", ["listen", "listen_secure", "certificate", "key", "users", "php", "home", "lines"])
@pytest.mark.parametrize("server", ["nginx", "apache"])
def test_what_is_said_of_the_machine_ends_no_host(work: Work, key: str, server: str) -> None:
    work.account(
        '[account]\nname = "m"\n[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\nhttps = true\nprotected = true\n',
        "m",
    )
    for value in ["x; }\nserver {", "x\n</VirtualHost>", "</VirtualHost>", "x\\", 'x" y', "a { b", "${PATH}", "$uri"]:
        said = {
            "listen": "80",
            "listen_secure": "443",
            "certificate": "/c",
            "key": "/k",
            "users": "/u",
            "php": "unix:/p",
            "home": "/h",
            key: value,
        }
        if key == "lines":
            said["lines"] = [value]
        (work.plan / "kettlepost.toml").write_text(rtoml.dumps({"export": said}))
        try:
            [part] = export(PlanFolder(work.plan), server)
        except InputError:
            continue
        begin, end = ("server {", "}") if server == "nginx" else ("<VirtualHost ", "</VirtualHost>")
        rows = part.text.splitlines()
        assert sum(row.startswith(begin) for row in rows) == sum(row == end for row in rows) == 2, part.text
        assert not re.search(r"\\$", part.text, re.MULTILINE)
