"""Whole configurations of web servers as people have them, on real servers, and what is told of them once read in."""

from __future__ import annotations

import http.client
import os
import re
import socket
import ssl
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from itertools import islice
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import quote

from kettlepost.core.answering import Answers, answer
from kettlepost.core.answering.serving import Request, SurveyedSite, asked_of, reply_of
from kettlepost.core.names import InvalidName
from kettlepost.core.webserver import Reply, Visitor
from kettlepost.workspace.plan_folder import PlanFolder
from webservers import MODULES, _program, _running, free_port

CASES = Path(__file__).with_name("servers")
HOME = "home/site"
TREE = """www/index.html www/index.php www/about.html www/page.php www/news/index.html www/news/first.html www/files/doc.pdf
    www/files/notes.txt www/private/x.html www/private/index.html www/private/open/free.txt www/private/open/index.html
    www/admin/index.php www/admin/style.css www/img/a.jpg www/empty/ www/errors/403.html www/errors/404.html
    www/errors/503.html www/maintenance.html www/.well-known/acme-challenge/token www/.env www/.git/config www/uploads/evil.php
    www/uploads/a.jpg www/app/index.php www/app/page.html www/robots.txt www/favicon.ico www/data/dump.sql www/data/a.bak
    other/index.html other/index.php other/only.html other/about.html static/css/a.css static/js/a.js static/index.html
    media/a.jpg media/index.php public/index.php public/css/a.css public/robots.txt cgi-bin/script.cgi names/one/index.html
    names/two/index.html names/two/about.html public_html/index.html public_html/a.html blog/index.php blog/wp/index.php
    app/public/index.php app/public/a.css app/.env lang/de/index.html lang/en/index.html lang/en/about.html""".split()
PATHS = """/ /index.html /index.php /about.html /about /page.php /page.php/extra /news /news/ /news/first.html /files/ /files/doc.pdf
    /files/notes.txt /private /private/ /private/x.html /private/open/ /private/open/free.txt /admin/ /admin/index.php /admin
    /img/a.jpg /img/none.jpg /empty/ /errors/404.html /.well-known/acme-challenge/token /.well-known/none /.env /.git/config /.htaccess
    /uploads/evil.php /uploads/a.jpg /app /app/ /app/page.html /app/deep/link /robots.txt /favicon.ico /data/dump.sql /data/a.bak
    /nowhere /no/such/page/ /no-such.php /only.html /css/a.css /static/css/a.css /media/a.jpg /?q=1 /about.html?x=1 /a%20b //about.html
    /news//first.html /%61bout.html /index.html/ /index.php/x/y /maintenance.html /old/page /blog/ /blog/post /NEWS/""".split()


class Case(NamedTuple):
    """One configuration: the kind of its server, its text, its hosts, files beside the usual ones, more that is asked."""

    kind: str
    name: str
    text: str
    hosts: list[str]
    files: dict[str, str]
    asked: list[str]


def cases(kind: str) -> Iterator[Case]:
    """The configurations of one kind of server, by a file each kind: a head line, files behind `@@`, then the text."""
    for part in (CASES / f"{kind}.txt").read_text().split("\n++ ")[1:]:
        head, _, rest = part.partition("\n")
        name, *more = (piece.strip() for piece in head.split("|"))
        told = dict(piece.split(":", 1) for piece in more)
        files: dict[str, str] = {}
        while rest.startswith("@@ "):
            path, _, rest = rest[3:].partition("\n")
            content, _, rest = rest.partition("\n@@\n")
            files[path.strip()] = content + "\n"
        yield Case(kind, name, rest, told["hosts"].split(), files, told.get("asked", "").split())


def packaged(packages: Path) -> Iterator[Case]:
    """The configurations of Apache that packages ship, with the package's files in an account's home."""
    for conf in sorted(packages.rglob("*.conf")):
        if "apache" not in str(conf) or "<VirtualHost" in (raw := conf.read_text(errors="replace")):
            continue
        package = packages / conf.relative_to(packages).parts[0]
        text = re.sub(r"(?<![\w.@])/(usr|var|etc)/", r"@HOME@/\1/", raw)
        text = re.sub(r"(?m)^\s*(?:ErrorLog|CustomLog|LogLevel|Include|Passenger|Rails).*$", "", text)
        text = f"<VirtualHost *:@80@>\nServerName site.example\nDocumentRoot @HOME@/www\n{text}\n</VirtualHost>\n"
        there = [path for path in sorted(package.rglob("*")) if path.is_file() and not path.is_symlink()]
        names = {
            str(path.relative_to(package)): path for path in there if not re.search("/(doc|man|locale)/", str(path))
        }
        files = {
            name: path.read_text(errors="replace") if path.name == ".htaccess" else f"{name}\n"
            for name, path in islice(names.items(), 500)
        }
        asked = ["/", "/nothing"]
        for alias, target in re.findall(r'(?mi)^\s*(?:Script)?Alias\s+"?(/\S*?)"?\s+"?@HOME@/(\S+?)"?\s*$', text):
            begin, target = alias.rstrip("/"), target.rstrip("/")
            inner = [name[len(target) :] for name in files if name.startswith(f"{target}/")]
            some = inner[:: max(1, len(inner) // 40)]
            asked += [begin, f"{begin}/", f"{begin}/none", f"{begin}/no/such.php", f"{begin}/index.php/x"]
            asked += [f"{begin}{name}" for name in some] + [f"{begin}{name.rpartition('/')[0]}/" for name in some[::4]]
        yield Case("apache", str(conf.relative_to(packages)), text, ["site.example"], files, list(map(quote, asked)))


def lay_out(case: Case, machine: Path) -> None:
    """The folders of a machine with the account that a configuration is about."""
    for path in TREE:
        _write(machine / HOME / path, f"{path}\n", path.endswith("/"))
    for path in ("elsewhere/x.html", "elsewhere/index.html", "default/index.html", "default/x.html"):
        _write(machine / path, f"{path}\n", False)
    for path, text in case.files.items():
        _write(machine / path.removeprefix("M/") if path.startswith("M/") else machine / HOME / path, text, False)
    (machine / "users").write_text("anna:{SHA}W6ph5Mm5Pz8GgiULbPgzG37mj9g=\n")


def _write(place: Path, text: str, is_folder: bool) -> None:
    (place if is_folder else place.parent).mkdir(parents=True, exist_ok=True)
    if not is_folder:
        place.write_text(text)


def text_of(case: Case, machine: Path, ports: tuple[int, int], certificate: Path) -> str:
    """The configuration as it is on a machine, with the ports at which the server is to listen."""
    named = {
        "@HOME@": str(machine / HOME), "@M@": str(machine), "@80@": str(ports[0]), "@443@": str(ports[1]),
        "@CERT@": str(certificate), "@USERS@": str(machine / "users"), "@FPM@": str(machine / "fpm.sock"),
    }  # fmt: skip
    head = APACHE_HEAD if case.kind == "apache" else ""
    text = head + case.text if "@WHOLE@" not in case.text else case.text.replace("@WHOLE@\n", "")
    if case.kind == "nginx":
        text = NGINX_HEAD.replace("@SERVERS@", case.text)
    named |= {"@RUN@": str(machine), "@MODULES@": str(MODULES), "@AS@": _as_user(case.kind)}
    named["@PHP@"] = str(next(iter(sorted(MODULES.glob("libphp*.so"), reverse=True)), ""))
    for name, value in named.items():
        text = text.replace(name, value)
    return text


def _as_user(kind: str) -> str:
    if os.getuid() != 0:
        return ""
    return "User nobody\nGroup nogroup" if kind == "apache" else "user nobody nogroup;"


APACHE_HEAD = (
    """ServerRoot @RUN@
PidFile @RUN@/pid
ErrorLog @RUN@/error.log
ServerName localhost
TypesConfig /dev/null
@AS@
LoadModule mpm_prefork_module @MODULES@/mod_mpm_prefork.so
"""
    + "".join(
        f"LoadModule {name}_module @MODULES@/mod_{name}.so\n"
        for name in """authn_core authn_file authz_core authz_host authz_user auth_basic access_compat dir alias autoindex rewrite mime
    setenvif env headers expires deflate filter negotiation ssl socache_shmcb status macro vhost_alias userdir proxy proxy_http
    proxy_fcgi cgi""".split()
    )
    + """LoadModule php_module @PHP@
Listen 127.0.0.1:@80@
Listen 127.0.0.1:@443@ https
<Directory />
    Options FollowSymLinks
    AllowOverride None
    Require all denied
</Directory>
<Directory @M@/>
    Options Indexes FollowSymLinks
    AllowOverride None
    Require all granted
</Directory>
<FilesMatch ".+\\.ph(?:ar|p|tml)$">
    SetHandler application/x-httpd-php
</FilesMatch>
<FilesMatch "^\\.ht">
    Require all denied
</FilesMatch>
<IfModule mod_dir.c>
    DirectoryIndex index.html index.cgi index.pl index.php index.xhtml index.htm
</IfModule>
"""
)
NGINX_HEAD = """daemon off;
pid @RUN@/pid;
error_log @RUN@/error.log;
@AS@
events {}
http {
    access_log off;
    default_type text/plain;
    client_body_temp_path @RUN@/t1; proxy_temp_path @RUN@/t2; fastcgi_temp_path @RUN@/t3; uwsgi_temp_path @RUN@/t4;
    scgi_temp_path @RUN@/t5;
@SERVERS@
}
"""


def _command(case: Case, machine: Path) -> list[str]:
    """What starts the server."""
    file = machine / f"{case.kind}.conf"
    if case.kind == "apache":
        return [str(_program("apache2")), "-f", str(file)]
    return [str(_program("nginx")), "-e", str(machine / "e"), "-c", str(file)]


def is_taken(case: Case, machine: Path, certificate: Path) -> bool:
    """Whether the server's own test finds nothing wrong with a configuration."""
    (machine / f"{case.kind}.conf").write_text(text_of(case, machine, (free_port(), free_port()), certificate))
    return subprocess.run([*_command(case, machine), "-t"], capture_output=True, check=False).returncode == 0


@contextmanager
def served(case: Case, machine: Path, certificate: Path) -> Iterator[tuple[int, int]]:
    """The real server with a configuration, once it passed its own test."""
    ports = free_port(), free_port()
    file = machine / f"{case.kind}.conf"
    file.write_text(text_of(case, machine, ports, certificate))
    command = _command(case, machine)
    with ExitStack() as stack:
        if "@FPM@" in case.text:
            stack.enter_context(_fpm(machine))
        stack.enter_context(_running([*command, "-DFOREGROUND"] if case.kind == "apache" else command, ports[0]))
        yield ports


@contextmanager
def _fpm(machine: Path) -> Iterator[None]:
    """PHP behind a web server, as packages set it up."""
    program = next(iter(sorted(Path("/usr/sbin").glob("php-fpm*"), reverse=True)))
    user = "user = nobody\ngroup = nogroup\nlisten.owner = nobody\nlisten.group = nogroup\n" if os.getuid() == 0 else ""
    text = f"[global]\nerror_log = {machine}/fpm.log\n[www]\n{user}listen = {machine}/fpm.sock\npm = ondemand\npm.max_children = 2\n"
    (machine / "fpm.conf").write_text(text)
    with subprocess.Popen([str(program), "-F", "-y", str(machine / "fpm.conf")], stderr=subprocess.DEVNULL) as process:
        try:
            for _ in range(200):
                with socket.socket(socket.AF_UNIX) as knock:
                    if (machine / "fpm.sock").exists() and knock.connect_ex(str(machine / "fpm.sock")) == 0:
                        break
                assert process.poll() is None
                time.sleep(0.05)
            yield
        finally:
            process.terminate()


class Real(NamedTuple):
    """What a server gave: its status, what stood in the content, where a browser is sent."""

    status: int
    body: str
    location: str | None


class Asker:
    """Asks a real server over both schemes, a connection each."""

    def __init__(self, ports: tuple[int, int], method: str = "GET"):
        self._ports, self._method = ports, method
        self._context = ssl.create_default_context()
        self._context.check_hostname, self._context.verify_mode = False, ssl.CERT_NONE
        self._open: dict[tuple[str, str], http.client.HTTPConnection] = {}

    def __call__(self, scheme: str, host: str, path: str) -> Real | None:
        """What is given; None where nothing answers."""
        for _ in range(2):
            connection = self._open.get((scheme, host)) or self._connect(scheme, host)
            if connection is None:
                return None
            try:
                connection.putrequest(self._method, path, skip_host=True)
                connection.putheader("Host", host)
                if self._method == "POST":
                    connection.putheader("Content-Length", "0")
                connection.endheaders()
                reply = connection.getresponse()
                body = reply.read().decode("utf-8", "replace")
            except (http.client.HTTPException, OSError):
                self._open.pop((scheme, host), None)
                connection.close()
                continue
            location = reply.getheader("Location")
            if location is not None and location.startswith("/"):
                location = f"{scheme}://{host}{location}"
            for port in self._ports:
                location = location.replace(f":{port}", "") if location else location
            if reply.getheader("Connection") == "close":
                connection.close()
                self._open.pop((scheme, host), None)
            return Real(reply.status, body, location or None)
        return Real(444, "", None)

    def _connect(self, scheme: str, host: str) -> http.client.HTTPConnection | None:
        port = self._ports[scheme == "https"]
        if scheme == "http":
            self._open[scheme, host] = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
            return self._open[scheme, host]
        try:
            raw = socket.create_connection(("127.0.0.1", port), timeout=20)
            secure = self._context.wrap_socket(raw, server_hostname=host)
        except (OSError, ssl.SSLError):
            return None
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
        connection.sock = secure
        self._open[scheme, host] = connection
        return connection


def plan_of(case: Case, machine: Path, run: Callable[..., Any], certificate: Path) -> Path:
    """A plan into which the configuration was read, and the account surveyed, by the program as people type it."""
    file, plan = machine / "asked" / f"{case.kind}.conf", machine / "plan"
    file.parent.mkdir()
    file.write_text(text_of(case, machine, (80, 443), certificate))
    for command in (["new", str(plan)], ["import", str(file), "--yes", "--homes", f"{machine}/home/{{account}}"],
                    ["survey", "--all"]):  # fmt: skip
        more = [] if command[0] == "new" else ["--plan", str(plan)]
        done = run(*command, *more, cwd=machine)
        assert done.returncode == 0, f"{case.name}: {command}: {done.stdout}{done.stderr}"
    return plan


def told(plan: PlanFolder, scheme: str, host: str, path: str, method: str = "GET") -> Reply | str:
    """The first reply that is told; a word where none is."""
    layouts = plan.layout
    try:
        request = Request.parse(f"{scheme}://{host}{path}", scheme, Visitor("127.0.0.1", method))
    except InvalidName:
        return "no address"
    reach = layouts.reach(request.address, "now")
    if reach is None:
        return "not ours"
    state = layouts.folder_state(reach.mount.account.name, "now")
    raw = request._replace(path=path.partition("?")[0])
    asked = asked_of(state, reach.mount, raw, path.partition("?")[0], scheme)
    return reply_of(state, SurveyedSite(state), reach.mount, asked)


class Many:
    """What is told of many addresses at once, held against what is told of each."""

    def __init__(self, plan: PlanFolder):
        self._layout = plan.layout
        self._answers = Answers(self._layout, "now")

    def differs(self, scheme: str, host: str, path: str) -> str | None:
        """In what an address is told of otherwise among many; None where it is not."""
        request = Request.parse(f"{scheme}://{host}{path}", scheme)
        brief, alone = self._answers.brief(request), answer(self._layout, request.address, "now", request)
        one, other = (brief.answers, brief.status, brief.certainty), (alone.kind, alone.status, alone.certainty)
        return None if one == other else f"{one} among many for {other}"


def differs(reply: Reply, real: Real) -> str | None:
    """In what a reply is not what a server gave; None where it is."""
    if reply.status != real.status:
        return f"{reply.status} for {real.status} ({real.location or real.body[:40]!r})"
    if reply.location is not None or real.location is not None:
        return None if reply.location == real.location else f"to {reply.location} for {real.location}"
    if reply.folder is not None and reply.status == 200:
        return None if "Index of" in real.body else f"a list for {real.body[:40]!r}"
    if reply.file is not None and (real.status == 200 or reply.file.endswith(".html")):
        got = real.body.strip()
        return None if got == reply.file or not re.fullmatch(r"[\w./-]+", got) else f"{reply.file} for {got!r}"
    return None
