"""What is read in from other programs' files and written out for them."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import tomllib
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import webservers
from conftest import Work, lacking, run
from kettlepost import open_plan
from kettlepost.core.answering import Request, answer
from kettlepost.core.errors import InputError
from kettlepost.core.exchange import (
    KINDS,
    ImportLimits,
    Opener,
    Reading,
    SeenHost,
    SourceSpot,
    assigned,
    entered,
    kind_of,
)
from kettlepost.core.names import Address, HostName
from kettlepost.render.sentences import text
from kettlepost.workspace.imports import DiskOpener, read_sources

TABLES = tomllib.loads(Path(__file__).with_name("tables.toml").read_text("utf-8"))["table"]
DEBIAN = Path(__file__).parent.parent / "build" / "debian"
SERVER = """
ServerRoot {root}
Define HOMES {root}/srv
<Macro Site $name $folder>
  <VirtualHost *:80>
    ServerName $name
    ServerAlias www.$name
    RewriteEngine On
    RewriteRule ^ https://%{{HTTP_HOST}}%{{REQUEST_URI}} [R=301,L]
  </VirtualHost>
  <VirtualHost *:443>
    ServerName $name
    ServerAlias www.$name
    DocumentRoot ${{HOMES}}/$folder
  </VirtualHost>
</Macro>
IncludeOptional hosts/*.conf
"""


class Disk(Opener):
    """Files by their names, as a test has them."""

    def __init__(self, files: dict[str, str] | None = None):
        self.files, self.intake = files or {}, ImportLimits()

    def read(self, path: str) -> bytes | None:
        return self.files[path].encode() if path in self.files else None

    def matching(self, pattern: str) -> list[str]:
        return [name for name in self.files if name == pattern]


def read(kind: str, text: str, files: dict[str, str] | None = None) -> Reading:
    return KINDS[kind].read([("source", text.encode())], Disk(files), "")


def leads(host: SeenHost) -> str:
    return f"-> {host.sends_to}".rstrip("/") if host.sends_to else f"= {host.of}" if host.of else host.folder or ""


@pytest.mark.parametrize("table", TABLES, ids=lambda table: table["text"].strip().splitlines()[0][:40])
def test_a_table_is_read_as_people_write_it(table: dict[str, object]) -> None:
    text = str(table["text"])
    assert kind_of(text.encode()) == "table"
    assert {str(host.name): leads(host) for host in read("table", text).hosts} == table["hosts"]


def test_rows_that_cannot_be_read_are_told_and_columns_can_be_named(tmp_path: Path) -> None:
    found = read("table", "Host,Docroot\nmill.example,www\nnot a host,www/x\nmill.example,other\n")
    assert [(remark.spot.line, text(remark.text)) for remark in found.remarks] == [
        (3, 'column 1: "not a host" is no host'),
        (4, "mill.example stands twice"),
    ]
    work = Work(tmp_path).account('[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n')
    table = tmp_path / "sites.csv"
    table.write_text("What,Where,Else\nb.example,b,x/y\n")
    done = work.run("import", str(table), "--account", "millbrook", "--column", "root=Else", "--yes", "--full")
    assert 'root = "x/y"' in done.stdout, done.stderr
    assert work.run("import", str(table), "--column", "rot=Else").stderr.count('did you mean "root"?') == 1


def test_a_server_comes_into_an_empty_plan_with_four_commands(tmp_path: Path) -> None:
    for account in ("mill", "choir", "tidewater"):
        sites = [(f"{account}.example", "www"), (f"shop.{account}.example", "www/shop"), (f"{account}.test", "sites/t")]
        for _, folder in sites:
            (tmp_path / f"srv/{account}/{folder}").mkdir(parents=True)
            (tmp_path / f"srv/{account}/{folder}/index.html").write_text("The box office opens at two on weekdays.")
        (tmp_path / "hosts").mkdir(exist_ok=True)
        uses = "".join(f"Use Site {name} {account}/{folder}\n" for name, folder in sites)
        (tmp_path / f"hosts/{account}.conf").write_text(uses)
    (tmp_path / "apache2.conf").write_text(SERVER.format(root=tmp_path))
    plan, hosts = str(tmp_path / "plan"), str(tmp_path / "hosts")
    assert run("new", plan).returncode == 0
    done = run("import", hosts, "--plan", plan, "--yes")
    assert (done.returncode, done.stdout.splitlines()[0]) == (0, "9 hosts read, 9 entries new in 3 accounts"), done
    assert run("survey", "--all", "--plan", plan).returncode == 0
    found = json.loads(run("check", "--plan", plan, "--format", "json").stdout)["findings"]
    assert {one["rule"] for one in found if one["severity"] == "stop"} == set()
    account = tomllib.loads((tmp_path / "plan/accounts/mill.toml").read_text())
    assert [(one["kind"], one["root"], one.get("www")) for one in account["domain"]] == [
        ("primary", "www", "both"), ("subdomain", "www/shop", "both"), ("addon", "sites/t", "both"),
    ]  # fmt: skip
    assert run("import", hosts, "--plan", plan, "--compare").returncode == 0
    text = SERVER.format(root=tmp_path).replace("IncludeOptional", "Use Site new.example mill/new\nIncludeOptional")
    (tmp_path / "apache2.conf").write_text(text)
    moved = tmp_path / "hosts/choir.conf"
    moved.write_text(moved.read_text().replace("choir/www/shop", "choir/shop").partition("Use Site choir.test")[0])
    told = run("import", str(tmp_path / "apache2.conf"), "--plan", plan, "--compare", "--format", "json")
    compared = json.loads(told.stdout)
    assert (told.returncode, [one["host"] for one in compared["new"]]) == (1, ["new.example"])
    assert [(one["host"], one["planned"], one["seen"]) for one in compared["differing"]] == [
        ("shop.choir.example", "www/shop", "shop")
    ]
    assert [(one["host"], one["dropped"]) for one in compared["missing"]] == [("choir.test", False)]
    before = (tmp_path / "plan/accounts/choir.toml").read_text()
    words = ("import", str(tmp_path / "apache2.conf"), "--take", "source", "--prune", "--plan", plan, "--yes")
    assert run(*words).returncode == 0
    after = (tmp_path / "plan/accounts/choir.toml").read_text()
    assert ('root = "shop"' in after, "choir.test" in after) == (True, False)
    assert run("undo", "--yes", "--plan", plan).returncode == 0
    assert (tmp_path / "plan/accounts/choir.toml").read_text() == before


def test_what_is_not_understood_is_told_and_nothing_hangs() -> None:
    loop = {"/a": "Include /b\nDocumentRoot /x\n", "/b": "Include /a\n"}
    assert "includes itself" in text(read("apache", "Include /a\n", loop).remarks[0].text)
    assert "includes itself" in text(read("nginx", "include /a;", {"/a": "include /a;"}).remarks[0].text)
    deep = "<VirtualHost *:80>\n" + "<Directory /x>\n" * 100
    assert text(read("apache", deep).remarks[0].means).startswith("the server refuses to start with it")
    assert read("nginx", "server {" * 1_000).remarks
    macro = "<Macro m>\nUse m\nUse m\n</Macro>\nUse m\n"
    assert "it uses itself" in text(read("apache", macro).remarks[0].text)
    chain = "".join(f"<Macro m{n} $a>\nUse m{n + 1} $a$a\nUse m{n + 1} $a$a\n</Macro>\n" for n in range(40))
    with pytest.raises(InputError, match="nothing was entered"):
        read("apache", chain + "Use m0 x\n")
    assert read("apache", "".join(f"Define a ${{a}}${{a}}{n}\n" for n in range(99))).hosts == []
    with pytest.raises(InputError):
        read("survey", '{"kettlepost":1,"account":"x",\n"folders":[')
    host = "<VirtualHost *:80>\nServerName a.example\nDocumentRoot /srv/a/www\n{}\n</VirtualHost>\n"
    for line in ("AliasMatch ^/x(.*) /srv/x$1", "RewriteEngine On\nRewriteRule ^/a/(.*) /b/$1 [L]",
                 "RedirectMatch ^/x https://b.example/y", "ProxyPass /app http://127.0.0.1:3000/"):  # fmt: skip
        (remark,) = read("apache", host.format(line)).remarks
        assert line.splitlines()[-1].split()[1] in text(remark.text)
    (remark,) = read("nginx", "server { server_name ~^(.+)\\.a\\.example$; root /srv/a; }").remarks[:1]
    assert "stands for many names" in text(remark.text)
    zone = "$ORIGIN a.example.\n$TTL 60\n@ SOA ns1 me 1 1 1 1 1\n@ NS ns1\nns1 A 192.0.2.1\n"
    hostile = zone + "$GENERATE 1-9000000 h$ A 192.0.2.1\n$INCLUDE source\n" + "x" * 70_000 + "\n"
    found = read("zone", hostile)
    assert len(found.remarks) == 3
    assert [(one.host, one.value) for one in found.records if one.kind == "A"] == [("ns1.a.example", "192.0.2.1")]


@pytest.mark.proof
def test_an_import_as_a_whole_has_bounds(tmp_path: Path) -> None:
    """Records, files, names and time are counted over all that the files include and make; then nothing is entered."""
    zone = "$ORIGIN a.example.\n$TTL 60\n@ SOA ns1 me 1 1 1 1 1\n@ NS ns1\n"
    (tmp_path / "a.zone").write_text(zone + "".join(f"$GENERATE 1-10000 h{n}x$ A 192.0.2.1\n" for n in range(60)))
    for name, line in (("apache", "Include {}\n"), ("nginx", "include {};\n")):
        (tmp_path / name).mkdir()
        for n in range(300):  # each includes those that begin otherwise, and those again
            others = f"{tmp_path}/{name}/[!{n % 10}]*"
            (tmp_path / name / f"{n % 10}-{n}.conf").write_text(line.format(others) * 2)
    (tmp_path / "deep.conf").write_text("Include /*/*/*/*\nInclude /*/*/*/*\nInclude /proc/*/*/*/*/*\n")
    doubling = "".join(f"<Macro M{n}>\nUse M{n - 1}\nUse M{n - 1}\n</Macro>\n" for n in range(1, 21))
    (tmp_path / "macros.conf").write_text(f"<Macro M0>\nServerName a.example\n</Macro>\n{doubling}Use M20\n")
    for source, kind in (("a.zone", "zone"), ("apache/0-0.conf", "apache"), ("nginx/0-0.conf", "nginx"),
                         ("deep.conf", "apache"), ("macros.conf", "apache")):  # fmt: skip
        with pytest.raises(InputError, match="nothing was entered"):
            read_sources([str(tmp_path / source)], kind, opener=DiskOpener(0.5))
    assert run("new", str(tmp_path / "plan")).returncode == 0
    words = ("import", str(tmp_path / "a.zone"), "--yes", "--timeout", "5", "--plan", str(tmp_path / "plan"))
    done = run(*words)
    assert (done.returncode, "directives and records" in done.stderr) == (2, True), done.stderr
    assert not list((tmp_path / "plan").glob("accounts/*.toml"))


PIECES = ["<VirtualHost *:80>", "</VirtualHost>", "ServerName a.example", "DocumentRoot", "server {", "}", ";", '"', "\\\n",
          "server_name ~x *.;", "location = {", "rewrite", "Use m", "<Macro m $a>", "$ORIGIN a.", "@ IN SOA a b 1 1 1 1 1",
          "$GENERATE 1-3 a$ A 192.0.2.$", "a.example;www", "|", "\t", "-----BEGIN CERTIFICATE-----", "\ud800", "\x00"]  # fmt: skip


@given(st.lists(st.sampled_from(PIECES) | st.text(max_size=8), max_size=20), st.sampled_from(sorted(KINDS)))
def test_whatever_comes_in_ends_in_words(pieces: list[str], kind: str) -> None:
    text = "\n".join(pieces).encode("utf-8", "surrogatepass")
    with suppress(InputError):
        found = KINDS[kind].read([("source", text)], Disk({"m": "Include m"}), "")
        entered(found, [], "mill")


def test_nothing_is_taken_out_that_is_there_or_rested_on(tmp_path: Path) -> None:
    def domain(name: str, more: str = 'kind = "addon"\nroot = "x"') -> str:
        return f'[[domain]]\nname = "{name}"\n{more}\n\n'

    work = Work(tmp_path).account(
        '[account]\nname = "millbrook"\nhome = "/srv/m"\n\n' + domain("a.example", 'kind = "primary"\nroot = "www"')
        + domain("p.example") + domain("i.example", 'kind = "addon"\nroot = "i"\nwww = "both"') + domain("t.example")
        + domain("al.example", 'kind = "alias"\nof = "t.example"') + domain("gone.example")
        + '[[installation]]\napplication = "wordpress"\naddress = "www.i.example"\n'
    )  # fmt: skip
    source = tmp_path / "hosts.conf"
    host = "<VirtualHost *:80>\nServerName {}\n{}\n</VirtualHost>\n"
    text = host.format("a.example", "DocumentRoot /srv/m/www") + host.format(
        "p.example", "ProxyPass / http://127.0.0.1:1/"
    )

    def dropped() -> list[str]:
        told = json.loads(work.run("import", str(source), "--prune", "--show", "--format", "json").stdout)
        return [one["host"] for one in told["missing"] if one["dropped"]]

    source.write_text(text)
    assert dropped() == ["al.example", "gone.example"]
    source.write_text(text + "<VirtualHost *:80>\n")
    assert dropped() == []


def test_what_was_seen_is_held_against_the_plan(tmp_path: Path) -> None:
    work = Work(tmp_path).account(
        '[account]\nname = "millbrook"\nhome = "/srv/mill"\n\n[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n'
    )
    source = tmp_path / "hosts.conf"
    host = "<VirtualHost *:80>\nServerName {}\nDocumentRoot /srv/mill/{}\n</VirtualHost>\n"
    source.write_text(host.format("a.example", "www") + host.format("b.example", "b"))

    def told(*words: str) -> list[tuple[str, str]]:
        found = work.json("check", "--only", "server-differs", *words)["findings"]
        return [(one["at"], one["ways_out"][0]["words"].partition(":")[0]) for one in found]

    assert told("--against", str(source)) == [("b.example", "read it in")]
    assert not (work.plan / "surveys").exists()
    assert work.run("import", str(source), "--yes").returncode == 0
    kept = (work.plan / "surveys/millbrook.outside.json").read_bytes()
    assert told() == []
    source.write_text(host.format("a.example", "public") + host.format("b.example", "b"))
    assert told("--against", str(source)) == [("a.example", 'if the server is right, write root = "public"')]
    assert told() == []
    assert work.run("import", str(source), "--yes").returncode == 0
    assert told() == [("a.example", 'if the server is right, write root = "public"')]
    assert "seen     public (" in work.run("where", "a.example").stdout
    assert work.run("undo", "--yes").returncode == 0
    assert (work.plan / "surveys/millbrook.outside.json").read_bytes() == kept
    file = work.plan / "accounts/millbrook.toml"
    text = file.read_text()
    file.write_text(text.replace('root = "b"\n', 'root = "b"\nstate = "planned"\n'))
    assert told() == [("b.example", 'write state = "live"')]
    file.write_text(text)
    assert work.run("account", "rename", "millbrook", "mill", "--yes").returncode == 0
    assert [path.name for path in (work.plan / "surveys").iterdir()] == ["mill.outside.json"]
    (work.plan / "surveys/mill.outside.json").write_text("{}")
    done = work.run("check")
    assert (done.returncode, "import it again" in done.stderr) == (0, True)


def test_a_survey_alone_proposes_domains_as_guesses(tmp_path: Path) -> None:
    work = Work(tmp_path).account('[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n')
    page = "The box office opens at two on weekdays."
    work.there({
        "www/index.html": page, "sites/b.example/index.html": page, "c.example/public_html/index.html": page,
        "www/jquery.min.js/index.html": page, "www/v1.2/index.html": page, "notes.old/index.html": page,
        "d/index.php": page, "d/.htaccess": "RewriteEngine On\nRewriteCond %{HTTP_HOST} !^www\\.d\\.example$\nRewriteRule ^ https://www.d.example/ [R]\n",
    })  # fmt: skip
    done = work.run("import", str(work.plan / "surveys/millbrook.json"), "--show", "--format", "json")
    found = {one["host"]: (one["leads_to"], one["what"].partition(": ")[2]) for one in json.loads(done.stdout)["new"]}
    assert found == {
        "b.example": ("sites/b.example", "its folder is called so"),
        "c.example": ("c.example/public_html", "its folder is called so"),
        "d.example": ("d", "its .htaccess asks for it"),
    }


def test_what_holds_for_a_whole_server_is_entered_or_told(tmp_path: Path) -> None:
    (tmp_path / "apache2.conf").write_text(
        f"ServerRoot {tmp_path}\nServerName host1.example\nUserDir public_html\nAlias /stats /usr/share/stats\n"
        "<Directory /srv>\nAllowOverride None\n</Directory>\nInclude a.conf\n"
    )
    host = "<VirtualHost *:80>\nServerName a.example\nDocumentRoot /srv/mill/public_html\nDirectoryIndex go.php\n</VirtualHost>\n"
    (tmp_path / "a.conf").write_text(host)
    plan = str(tmp_path / "plan")
    assert run("new", plan).returncode == 0
    done = run("import", str(tmp_path / "a.conf"), "--account", "mill", "--plan", plan, "--yes", "--format", "json")
    told = " ".join(one["text"] for one in json.loads(done.stdout)["remarks"])
    assert "shows go.php for a folder" in told
    assert run("where", "a.example", "--plan", plan).returncode == 0
    assert '"allowoverride",["None"]' in (tmp_path / "plan/servers/apache.json").read_text()
    account = tomllib.loads((tmp_path / "plan/accounts/mill.toml").read_text())
    assert account["account"]["reserved_paths"] == ["stats"]
    assert account["domain"][1] == {
        "name": "host1.example",
        "kind": "temporary",
        "root": "public_html",
        "path": "~mill",
    }


CANONICAL = {
    "apache": """
<VirtualHost *:80>
  ServerName www.tea.example
  ServerAlias tea.example tea-room.example
  Redirect permanent / https://www.tea.example/
</VirtualHost>
<VirtualHost *:443>
  ServerName tea.example
  ServerAlias www.tea.example
  DocumentRoot /home/tea/public
  SSLCertificateFile /nowhere/tea.pem
  RewriteEngine on
  RewriteCond %{HTTP_HOST} !^www\\. [NC]
  RewriteRule ^ https://www.%{HTTP_HOST}%{REQUEST_URI} [R=301,L]
</VirtualHost>
<VirtualHost *:80>
  ServerName staging.tea.example
  ServerAlias tea-room.example
  DocumentRoot /home/tea/staging
</VirtualHost>
""",
    "nginx": """
server { listen 80; server_name tea.example www.tea.example tea-room.example;
         return 301 https://www.tea.example$request_uri; }
server { listen 443 ssl; server_name tea.example; return 301 https://www.tea.example$request_uri; }
server { listen 443 ssl; server_name www.tea.example; root /home/tea/public; ssl_certificate /nowhere/tea.pem; }
server { listen 80; server_name staging.tea.example tea-room.example; root /home/tea/staging; }
""",
}


@pytest.mark.parametrize("kind", CANONICAL)
def test_names_that_are_sent_on_to_another_of_their_host_are_no_names_of_it(kind: str, tmp_path: Path) -> None:
    (tmp_path / "sites.conf").write_text(CANONICAL[kind], "utf-8")
    (tmp_path / "plan").mkdir()
    (tmp_path / "plan" / "kettlepost.toml").write_text("", "utf-8")
    said = run("import", "sites.conf", "--plan", "plan", "--yes", cwd=tmp_path)
    assert said.returncode == 0, said.stderr
    told = tomllib.loads((tmp_path / "plan" / "accounts" / "tea.toml").read_text("utf-8"))["domain"]
    assert {one.pop("name"): one for one in told} == {
        "tea.example": {"kind": "primary", "root": "public", "www": "www", "https": True},
        "tea-room.example": {"kind": "addon", "redirect_to": "www.tea.example"},
        "staging.tea.example": {"kind": "subdomain", "root": "staging"},
    }
    assert "tea-room.example leads to /home/tea/staging as well" in said.stdout, "the first that has a name keeps it"
    assert "/nowhere/tea.pem cannot be opened here" in said.stdout
    checked = run("check", "--plan", "plan", "--only", "no-certificate", cwd=tmp_path)
    assert (checked.returncode, "no-certificate" in checked.stdout) == (0, False)  # what it covers is not known
    again = run("import", "sites.conf", "--plan", "plan", "--compare", cwd=tmp_path)
    assert again.returncode == 0, again.stdout


def test_zones_say_what_points_here(tmp_path: Path) -> None:
    work = Work(tmp_path).account(
        '[account]\nname = "millbrook"\nip_addresses = ["192.0.2.7"]\n\n[[domain]]\nname = "a.example"\n'
        'kind = "primary"\nroot = "www"\n\n[[domain]]\nname = "b.a.example"\nkind = "subdomain"\nroot = "b"\n'
        '\n[[domain]]\nname = "c.a.example"\nkind = "subdomain"\nroot = "c"\npoints_here = false\n'
    )
    settings = work.plan / "kettlepost.toml"
    zone = tmp_path / "a.example.zone"
    head = "$TTL 300\n@ IN SOA ns1.a.example. me.a.example. (1 1 1 1 1)\n@ NS ns1\nns1 A 192.0.2.1\n@ A 192.0.2.7\n"
    zone.write_text(head + "b CNAME elsewhere\nelsewhere A 203.0.113.9\nc A 192.0.2.7\nx A 192.0.2.7\n@ MX 5 c\n")
    done = work.run("import", str(zone), "--yes")
    text = (work.plan / "accounts/millbrook.toml").read_text()
    assert 'root = "b"\npoints_here = false' in text, done.stderr
    assert 'root = "www"\nmail = true' in text
    assert "points_here is false in the plan" in done.stdout
    assert "x.a.example points to the machine of millbrook" in done.stdout
    settings.write_text(settings.read_text().replace("[settings]\n", '[settings]\nproxies = ["203.0.113.0/24"]\n'))
    assert "b.a.example points to a proxy, 203.0.113.9" in work.run("import", str(zone), "--compare").stdout
    settings.write_text(settings.read_text().replace("203.0.113.0/24", "nowhere"))
    assert work.run("check").stderr.count('"nowhere" is no network') == 1


def test_certificates_say_until_when_they_hold(tmp_path: Path) -> None:
    if shutil.which("openssl") is None:
        lacking("openssl")
    file = tmp_path / "a.pem"
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", tmp_path / "key", "-out", file, "-days",
         "10", "-subj", "/CN=a.example", "-addext", "subjectAltName=DNS:a.example,DNS:*.a.example"],
        check=True, capture_output=True,
    )  # fmt: skip
    work = Work(tmp_path).account('[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\nhttps = true\n')
    assert work.run("import", str(file), "--yes").returncode == 0
    (certificate,) = tomllib.loads((work.plan / "accounts/millbrook.toml").read_text())["certificate"]
    assert certificate["covers"] == ["a.example", "*.a.example"]
    until = certificate["until"]

    def told(days: int) -> list[str]:
        day = str(until.fromordinal(until.toordinal() + days))
        return [one["severity"] for one in work.json("check", "--only", "certificate-ends", "--today", day)["findings"]]

    assert (told(-30), told(-5), told(1)) == ([], ["risk"], ["stop"])
    assert work.run("import", str(file), "--compare").returncode == 0


def exported_work(
    folder: Path, homes: Path, server: str, first: int, number: int
) -> tuple[Work, list[webservers.Site]]:
    """Random accounts laid out, with a plan that was exported for a server into `sites`."""
    work = Work(folder)
    work.homes = homes
    sites = [webservers.random_site(first + n, n, server == "apache") for n in range(number)]
    for site in sites:
        webservers.lay_out(site, homes / f"home{site.number}")
        work.account("\n".join(site.tables), f"home{site.number}", settings="").survey(f"home{site.number}")
    return work, sites


def mounts(work: Work, homes: Path) -> dict[str, tuple[str | None, str | None]]:
    plan = open_plan(work.plan)
    return {
        str(mount.address): (f"{homes}/{name}/{mount.way}" if mount.way is not None else None,
                             str(mount.goes) if mount.goes is not None else None)
        for name in plan.names for several in plan.layout_of(name).tree("planned").hosts.values() for mount in several
    }  # fmt: skip


def write_out(work: Work, homes: Path, server: str, port: int) -> None:
    export = f'{webservers.NO_PHP}[export]\nlisten = "127.0.0.1:{port}"\nhome = "{homes}/{{account}}"\n'
    (work.plan / "kettlepost.toml").write_text(export)
    done = work.run("export", server, "--to", f"{homes / 'sites'}/")
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize("server", ["apache", "nginx"])
def test_what_is_written_out_comes_in_as_the_same_mounts(open_folder: Path, server: str, tmp_path: Path) -> None:
    work, _ = exported_work(tmp_path, open_folder, server, 700, 8)
    write_out(work, open_folder, server, 8080)
    again = Work(tmp_path / "again")
    assert run("new", str(again.plan)).returncode == 0
    words = ("import", str(open_folder / "sites"), "--homes", f"{open_folder}/{{account}}")
    done = again.run(*words, "--yes")
    assert (done.returncode, "not entered" in done.stdout) == (0, False), done
    assert mounts(again, open_folder) == mounts(work, open_folder)
    assert again.run(*words, "--compare").returncode == 0
    for words in (("--only", "server-differs"), ("--only", "server-differs", "--against", str(open_folder / "sites"))):
        assert again.json("check", *words)["findings"] == []


@pytest.mark.proof
@pytest.mark.parametrize("first", [1, 5_000])
@pytest.mark.parametrize("server", ["apache", "nginx"])
def test_a_real_server_answers_as_the_plan_says(open_folder: Path, server: str, first: int, tmp_path: Path) -> None:
    if not webservers.installed():
        lacking("apache2 or nginx")
    work, sites = exported_work(tmp_path, open_folder, server, first, 50)
    port = webservers.free_port()
    write_out(work, open_folder, server, port)
    layout, wrong, asked = work.layout(), [], 0
    with webservers.exported(server, open_folder, port):
        told = webservers.dumped(server, open_folder)
        for site in sites:
            assert all(host.removeprefix("*") in told for host in (*site.roots, *site.sent))
            for host, path in site.asked:
                asked += 1
                request = Request.parse(f"{host}/{path}")
                predicted, really = answer(layout, request.address, request=request), webservers.ask(port, host, path)
                if really[0] == "redirect":
                    really = ("redirect", str(Address.parse(really[1])).rstrip("/"))
                said = (
                    ("redirect", str(predicted.goes).rstrip("/")) if predicted.goes else ("file", str(predicted.file))
                )
                if (said if predicted.goes or predicted.file else ("nothing",))[: 1 + (really[0] != "nothing")] != (
                    really if really[0] != "nothing" else ("nothing",)
                ):
                    wrong.append(f"seed {first + site.number}: {host}/{path}: {really}, not {said}")
    assert asked > 700
    assert not wrong, "\n".join(wrong[:10])


HOSTS = """
[[domain]]
name = "a.example"
kind = "primary"
root = "w w"
www = "bare"

[[domain]]
name = "p.example"
kind = "addon"
root = '"p'
protected = true

[[domain]]
name = "s.example"
kind = "addon"
root = "semi;colon"
www = "www"
https = true

[[domain]]
name = "g.example"
kind = "addon"
redirect_to = "a.example/x y"

[[path_alias]]
address = "a.example/m n"
folder = "it's"

[[path_rule]]
address = "a.example/secret"
does = "password"

[[path_rule]]
address = "a.example/shut"
does = "denied"

[[path_rule]]
address = "a.example/old stuff"
does = "redirect"
to = "https://c.test/new"
"""


@pytest.mark.proof
@pytest.mark.parametrize("server", ["apache", "nginx"])
def test_passwords_https_and_odd_names_go_out_and_come_in(open_folder: Path, server: str, tmp_path: Path) -> None:
    if not webservers.installed():
        lacking("apache2 or nginx")
    work = Work(tmp_path)
    work.homes = open_folder
    for folder in ("w w", "w w/secret", '"p', "semi;colon", "it's", "w w/shut"):
        (open_folder / "m" / folder).mkdir(parents=True)
        (open_folder / "m" / folder / "index.html").write_text(folder)
    work.account(f'[account]\nname = "m"\nweb_server = "{server}"\n{HOSTS}', "m", settings="").survey("m")
    port = webservers.free_port()
    write_out(work, open_folder, server, port)
    asked = ("a.example/", "www.a.example/z", "p.example/", "a.example/secret", "a.example/secret/x", "a.example/shut/",
             "a.example/shutters", "a.example/old%20stuff/q", "a.example/m%20n/", "g.example/k")  # fmt: skip
    layout, wrong = work.layout(), []
    with webservers.exported(server, open_folder, port):
        for address in asked:
            request = Request.parse(address)
            predicted, really = (
                answer(layout, request.address, request=request),
                webservers.ask(port, *address.split("/", 1)),
            )
            said = {"redirect": f"{predicted.goes}", "file": f"{predicted.file}".rpartition("/")[0]}.get(really[0])
            goes = really[1].removeprefix("https://")
            if (said or str(predicted.status)) != goes:
                wrong.append((address, really, said, predicted.status))
        assert webservers.ask(port, "s.example", "x") == ("redirect", "https://s.example/x")
    assert not wrong
    again = Work(tmp_path / "again")
    assert run("new", str(again.plan)).returncode == 0
    done = again.run("import", str(open_folder / "sites"), "--homes", f"{open_folder}/{{account}}", "--yes")
    told = done.stdout.partition("not understood")[2].splitlines()
    assert all("s.example" in line for line in told if ".conf:" in line)  # without a certificate only sent on to https
    assert mounts(again, open_folder) == {k: v for k, v in mounts(work, open_folder).items() if "s.example" not in k}
    read_in = tomllib.loads((again.plan / "accounts/m.toml").read_text())
    assert {(one["address"], one["does"]) for one in read_in["path_rule"]} == {
        ("a.example/secret", "password"), ("a.example/shut", "denied"), ("a.example/old%20stuff", "redirect"),
    }  # fmt: skip
    assert [one["name"] for one in read_in["domain"] if one.get("protected")] == ["p.example"]


def test_a_plan_is_written_for_name_servers_hosts_and_tables(tmp_path: Path) -> None:
    tables = (
        '[account]\nname = "millbrook"\nip_addresses = ["192.0.2.7", "2001:db8::7"]\n\n[[domain]]\nname = "a.example"\n'
        'kind = "primary"\nroot = "www"\nwww = "both"\n\n[[domain]]\nname = "münzen.example"\nkind = "addon"\nroot = "m"\n'
        '\n[[domain]]\nname = "*.a.example"\nkind = "subdomain"\nroot = "all"\nstate = "planned"\n'
    )
    work = Work(tmp_path).account(tables, settings='[export]\nname_servers = ["ns1.a.example", "ns2.host.test"]\n')
    assert work.run("export", "hosts", "--when", "now").stdout.count("192.0.2.7\t") == 3
    assert work.run("export", "zone", "--to", f"{tmp_path / 'zones'}/").returncode == 0
    if shutil.which("named-checkzone") is None:
        lacking("named-checkzone")
    for name in ("a.example", "xn--mnzen-kva.example"):
        done = subprocess.run(
            ["named-checkzone", name, tmp_path / f"zones/{name}.zone"], capture_output=True, text=True, check=False
        )
        assert done.returncode == 0, done.stdout
    for kind, file in (("table", "t.csv"), ("markdown", "t.md"), ("table", "t.xlsx")):
        assert work.run("export", kind, "--to", str(tmp_path / file)).returncode == 0
        again = Work(tmp_path / file.replace(".", "-"))
        assert run("new", str(again.plan)).returncode == 0
        assert again.run("account", "add", "millbrook", "--home", "/srv/millbrook", "--yes").returncode == 0
        assert again.run("import", str(tmp_path / file), "--yes").returncode == 0
        assert mounts(again, tmp_path) == mounts(work, tmp_path)


_MATTERS = {
    "apache": r"^\s*(ServerName|ServerAlias|DocumentRoot|Alias|AliasMatch|ScriptAlias|Redirect\w*|RewriteRule|ProxyPass\w*)\s+(\S+)",
    "nginx": r"^\s*(server_name|alias|proxy_pass|return|rewrite)\s+([^\s;]+)",
}


@pytest.mark.proof
def test_configurations_as_packages_ship_them_are_read_or_told() -> None:
    """Whatever matters in them is in what was read, or in a remark; nothing is dropped in silence."""
    places = [DEBIAN, Path("/etc/apache2"), Path("/etc/nginx")]
    files = [file for place in places for file in sorted(place.rglob("*")) if re.search("apache|nginx", str(file))]
    count = 0
    for file in files:
        if (
            not file.is_file()
            or file.stat().st_size > 200_000
            or file.suffix in (".php", ".js", ".gz", ".png", ".html")
        ):
            continue
        kind = kind_of(file.read_bytes())
        if kind not in _MATTERS or not re.search(r"\.conf|sites-|snippets|examples", str(file)):
            continue
        count += 1
        found = KINDS[kind].read([(str(file), file.read_bytes())], Disk(), "/etc")
        lines = {remark.spot.line for remark in found.remarks} | {path.spot.line for path in found.reserved}
        lines |= {path.spot.line for host in found.hosts for path in host.paths} | {
            host.spot.line for host in found.hosts
        }
        words = " ".join(
            f"{host.name} {host.folder} {host.names} {host.sends_to} {host.elsewhere}" for host in found.hosts
        )
        text = file.read_text("utf-8", "replace")
        for match in re.finditer(_MATTERS[kind], text, re.MULTILINE | re.IGNORECASE):
            line = text.count("\n", 0, match.start(1)) + 1
            inside = any(begin <= line <= end for begin, end in _told_blocks(text, lines))
            assert line in lines or match[2].strip('"') in words or inside or _is_off(text, match.start()), (
                file,
                match[0],
            )
    assert count >= 40


def _told_blocks(text: str, lines: set[int]) -> list[tuple[int, int]]:
    """Sections of which a remark says that they are left out."""
    rows = text.split("\n")
    return [
        (line, next((n for n in range(line, len(rows)) if re.match(r"</VirtualHost|\}", rows[n])), len(rows)) + 1)
        for line in lines
        if 0 < line <= len(rows) and re.match(r"\s*<VirtualHost|\s*(?:server|location)\b", rows[line - 1])
    ]


def _is_off(text: str, at: int) -> bool:
    """Whether a line stands in a section for what is not there, or is a rewriting rule in a folder's section."""
    before = text[:at]
    return before.count("<Directory") > before.count("</Directory") or before.count("<If") > before.count("</If")


def test_a_table_that_says_nothing_of_www_takes_none_away(work: Work, tmp_path: Path) -> None:
    both = '[[domain]]\nname = "{}.example"\nkind = "{}"\nroot = "{}"\nwww = "both"\n'
    work.account(both.format("tea", "primary", "www") + both.format("pot", "addon", "pot"))
    (tmp_path / "t.csv").write_text(
        "Domaine;Dossier;Type\ntea.example;www;Domaine principale\nwww.pot.example;pot;domaine\n"
    )
    before = (work.plan / "accounts/millbrook.toml").read_text()
    done = work.run("import", str(tmp_path / "t.csv"), "--account", "millbrook", "--take", "source", "--yes")
    assert (done.returncode, "disagree" in done.stdout) == (0, False), done.stdout
    assert (work.plan / "accounts/millbrook.toml").read_text() == before


HOST = "<VirtualHost *:80>\nServerName {name}\nDocumentRoot {root}\n{more}\n</VirtualHost>\n"


@pytest.mark.parametrize(
    ("hosts", "homes"),
    [
        ({"/home/anna/a/public": "", "/home/anna/b/public": ""}, {"anna": "/home/anna"}),
        ({"/home/anna": ""}, {"anna": "/home/anna"}),
        ({"/home/anna/www": "", "/home2/bert/www": ""}, {"anna": "/home/anna", "bert": "/home2/bert"}),
        ({"/home/sites/anna/www": "", "/home/sites/bert/www": ""}, {"anna": "/home/sites/anna", "bert": "/home/sites/bert"}),
        ({"/var/www/a.example/htdocs": "", "/var/www/b.example/htdocs": ""}, {"www": "/var/www"}),
        ({"/var/www/html": "", "/var/www/html/blog": ""}, {"www": "/var/www"}),
        ({f"/srv/anna/{n}": 'SetHandler "proxy:unix:/run/php/php8.2-anna.sock|fcgi://x"' for n in "ab"}, {"anna": "/srv/anna"}),
        ({"/home/anna": "ProxyPass / http://127.0.0.1:9/\nRedirect / http://b.example/"}, {"anna": "/home/anna"}),
        ({f"/srv/web/{n}": "SuexecUserGroup anna anna" for n in "ab"}, {"anna": "/srv/web"}),
    ],
)  # fmt: skip
def test_whose_a_host_is_is_seen_where_nobody_says(hosts: dict[str, str], homes: dict[str, str], work: Work) -> None:
    text = "".join(
        HOST.format(name=f"h{n}.example", root=root, more=more) for n, (root, more) in enumerate(hosts.items())
    )
    (work.plan.parent / "server.conf").write_text(text)
    run("new", str(work.plan))
    assert work.run("import", str(work.plan.parent / "server.conf"), "--yes").returncode == 0
    plan = open_plan(work.plan)
    assert {name: plan.layout_of(name).account.settings.home for name in plan.names} == homes


def test_hosts_are_of_the_user_whose_files_they_are_where_nothing_else_tells(tmp_path: Path) -> None:
    places = (
        ("a.example", "/srv/c3/web1", "kp3"),
        ("b.example", "/srv/c3/web2", "kp3"),
        ("c.example", "/srv/c4/x", ""),
    )
    hosts = [SeenHost(HostName(name), SourceSpot("a.conf", n), place) for n, (name, place, _) in enumerate(places)]
    for host, (_, _, user) in zip(hosts, places, strict=True):
        host.file_owner = (user, "/srv/c3") if user else None
    told = {
        owner.name: (owner.home, [str(one.name) for one in its]) for owner, its in assigned(hosts, []).hosts.items()
    }
    assert told == {"kp3": ("/srv/c3", ["a.example", "b.example"]), "c4": ("/srv/c4", ["c.example"])}
    assert DiskOpener().owner(str(tmp_path)) is None  # who asks says nothing
    assert DiskOpener().owner("/") is None
