"""Real web servers on loopback, and random accounts set up on them the way a host would."""

from __future__ import annotations

import http.client
import os
import random
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

MODULES = Path("/usr/lib/apache2/modules")
INDEX = ["index.html", "index.htm", "index.php"]
NO_PHP = '[web_server.nginx]\nphp = "none"\n'
FILES = [*INDEX, "start.html", "front.php", "page.txt"]
REWRITES = [
    "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . front.php [L]\n",
    "RewriteEngine On\nRewriteRule ^front\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^ front.php [L]\n",
    "RewriteEngine On\nRewriteRule ^ front.php [L]\n",
    "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . /front.php [L]\n",
    "RewriteEngine Off\n",
    "RewriteEngine On\n",
    "FallbackResource /front.php\n",
    "DirectoryIndex start.html index.php\n",
    "DirectoryIndex front.php\n",
]


@dataclass
class Site:
    """One random account: its plan, its files, and what a host would tell its servers."""

    number: int
    tables: list[str] = field(default_factory=list)
    roots: dict[str, str] = field(default_factory=dict)
    sent: dict[str, str] = field(default_factory=dict)
    aliases: dict[str, dict[str, str]] = field(default_factory=dict)
    fallback: dict[str, str] = field(default_factory=dict)
    rules: dict[str, dict[str, str]] = field(default_factory=dict)
    tree: dict[str, str] = field(default_factory=dict)
    links: dict[str, str] = field(default_factory=dict)
    asked: list[tuple[str, str]] = field(default_factory=list)


def random_site(seed: int, number: int, controls: bool) -> Site:
    """An account with hosts, aliases, wildcards, nested roots, links and index files of all kinds."""
    pick = random.Random(seed)
    site = Site(number)
    folders = [""]
    for _ in range(pick.randint(3, 8)):
        above = pick.choice([one for one in folders if one.count("/") < 3])
        folders.append("/".join(filter(None, (above, pick.choice("abcd")))))
    folders = sorted(set(folders))
    for folder in folders:
        for name in pick.sample(FILES, pick.randint(0, 4)):
            path = "/".join(filter(None, (folder, name)))
            site.tree[path] = path
        if folder and controls and pick.random() < 0.35:
            site.tree[f"{folder}/.htaccess"] = "".join(pick.sample(REWRITES, 1))
        site.tree.setdefault(f"{folder}/" if folder else "a/", "")
    for n in range(pick.randint(0, 2)):
        site.links[f"link{n}"] = pick.choice([one for one in folders if one])
    places = [one for one in folders if one] + list(site.links)
    if not controls:
        site.tables.append(f'[account]\nname = "home{number}"\nweb_server = "nginx"\n')
    _random_domains(pick, site, places, controls)
    hosts = [*site.roots, *site.sent, *site.aliases]
    paths = [
        "",
        "nowhere",
        "a/nowhere",
        *FILES,
        "page.txt/",
        "index.php/x",
        "a//page.txt",
        "%61/",
        "a/./page.txt",
        "shut/x",
        "gone/x",
    ]
    for folder in places:
        paths += [folder, *(f"{folder}/{name}" for name in pick.sample([*FILES, "x", "x/y"], 3))]
        paths += [folder.partition("/")[2]] if "/" in folder else []
    for _ in range(16):
        host, path = pick.choice(hosts), pick.choice(paths)
        prefix = pick.choice([*site.aliases.get(host, {}), ""])
        if prefix or host in site.roots or host in site.sent:
            site.asked.append((host.replace("*", pick.choice(["x", "y.z"])), "/".join(filter(None, (prefix, path)))))
    return site


def _server_rules(pick: random.Random, site: Site, hosts: list[str], main: str) -> dict[str, str]:
    """What a server without control files does by itself; gives the keys of the domain that say so."""
    if pick.random() < 0.5:
        for path, does in (("shut", 'does = "denied"'), ("gone", 'does = "redirect"\nto = "other.test/y"')):
            site.tables.append(f'[[path_rule]]\naddress = "{hosts[0]}/{path}"\n{does}\n')
        gone = "rewrite ^/gone(?:/(.*))?$ http://other.test/y/$1 permanent;"
        site.rules |= {key: {"shut": "return 403;", "gone": gone} for key in hosts}
    if f"{main}/front.php" not in site.tree or pick.random() < 0.2:
        return {}
    site.fallback |= dict.fromkeys(hosts, "/front.php")
    return {"fallback": '"/front.php"'}


def _random_domains(pick: random.Random, site: Site, places: list[str], controls: bool) -> None:
    end = f"p{site.number}.example"

    def declare(name: str, kind: str, **keys: str) -> None:
        site.tables.append(
            f'[[domain]]\nname = "{name}"\nkind = "{kind}"\n' + "".join(f"{k} = {v}\n" for k, v in keys.items())
        )

    main = pick.choice(places)
    also = [f"also{n}.{end}" for n in range(pick.randint(0, 2))]
    more = {} if controls else _server_rules(pick, site, [end, *also], main)
    declare(end, "primary", root=f'"{main}"', also=str(also).replace("'", '"'), **more)
    site.roots |= dict.fromkeys([end, *also], main)
    for n in range(pick.randint(1, 3)):
        name, root, www = f"d{n}.example.{end}", pick.choice(places), pick.choice(["both", "bare", "www", "apart"])
        declare(name, "addon", root=f'"{root}"', www=f'"{www}"')
        shown = {"both": [name, f"www.{name}"], "www": [f"www.{name}"]}.get(www, [name])
        site.roots |= dict.fromkeys(shown, root)
        if www in ("bare", "www"):
            site.sent[f"www.{name}" if www == "bare" else name] = shown[0]
    if pick.random() < 0.5:
        root = pick.choice(places)
        declare(f"*.wild.{end}", "subdomain", root=f'"{root}"')
        site.roots[f"*.wild.{end}"] = root
        if pick.random() < 0.5:
            root = pick.choice(places)
            declare(f"x.wild.{end}", "subdomain", root=f'"{root}"')
            site.roots[f"x.wild.{end}"] = root
    if pick.random() < 0.5:
        declare(f"alias.{end}", "alias", of=f'"{end}"')
        site.roots[f"alias.{end}"] = main
    if pick.random() < 0.5:
        declare(f"gone.{end}", "addon", redirect_to=f'"{end}/a"')
        site.sent[f"gone.{end}"] = f"{end}/a"
    if pick.random() < 0.5:
        declare(f"temp.{end}", "temporary", path='"~m"', of=f'"{end}"')
        site.aliases[f"temp.{end}"] = {"~m": main}
    for name in pick.sample(["b", "mapped/deep"], pick.randint(0, 2)):
        folder = pick.choice(places)
        site.tables.append(f'[[path_alias]]\naddress = "{end}/{name}"\nfolder = "{folder}"\n')
        for host in [end, *also, *([f"alias.{end}"] if f"alias.{end}" in site.roots else [])]:
            site.aliases.setdefault(host, {})[name] = folder  # in the host's section, where all its names share it


def lay_out(site: Site, home: Path) -> None:
    for path, text in site.tree.items():
        place = home / path
        place.parent.mkdir(parents=True, exist_ok=True)
        place.mkdir(exist_ok=True) if path.endswith("/") else place.write_text(text)
    for link, target in site.links.items():
        (home / link).symlink_to(target)


@contextmanager
def apache(folder: Path, sites: list[tuple[Site, Path]]) -> Iterator[int]:
    """The Apache HTTP Server with a virtual host for each name, explicit ones before wildcards."""
    port = free_port()
    lines = [*_apache_head(folder, port), f"DirectoryIndex {' '.join(INDEX)}"]
    (folder / "none").mkdir()
    for site, home in sites:
        lines += [
            f"<Directory {home}>",
            "AllowOverride All",
            "Options FollowSymLinks",
            "Require all granted",
            "</Directory>",
        ]
        hosts = sorted({*site.roots, *site.sent, *site.aliases}, key=lambda host: host.startswith("*"))
        for host in hosts:
            named = [f"ServerName {host}"] if "*" not in host else ["ServerName x", f"ServerAlias {host}"]
            root = home / site.roots[host] if host in site.roots else folder / "none"
            lines += [f"<VirtualHost *:{port}>", *named, f'DocumentRoot "{root}"']
            for prefix, there in sorted(site.aliases.get(host, {}).items(), reverse=True):
                lines.append(f'Alias "/{prefix}" "{home / there}"')
            lines += [f"Redirect 301 / http://{site.sent[host]}/"] if host in site.sent else []
            lines.append("</VirtualHost>")
    (folder / "httpd.conf").write_text("\n".join(lines) + "\n")
    with _running([str(_program("apache2")), "-X", "-f", str(folder / "httpd.conf")], port):
        yield port


def _apache_head(folder: Path, port: int) -> list[str]:
    """What stands before the hosts: modules, and PHP where it is installed."""
    php = next(iter(sorted(MODULES.glob("libphp*.so"), reverse=True)), None)
    names = ["mpm_prefork", "authn_core", "authn_file", "authz_core", "authz_user", "auth_basic", "dir", "alias"]
    names += ["rewrite", "mime", "ssl", "socache_shmcb"]
    lines = [f"LoadModule {name}_module {MODULES}/mod_{name}.so" for name in names]
    if php is not None:  # which takes what stands behind a script's name
        lines += [
            f"LoadModule php_module {php}",
            '<FilesMatch "\\.php$">',
            "SetHandler application/x-httpd-php",
            "</FilesMatch>",
        ]
    lines += [
        f"ServerRoot {folder}",
        f"PidFile {folder}/pid",
        f"Listen 127.0.0.1:{port}",
        f"ErrorLog {folder}/error.log",
    ]
    lines += ["ServerName localhost", "TypesConfig /dev/null"]
    lines += ["User nobody", "Group nogroup"] if os.getuid() == 0 else []
    return lines


def _nginx_head(folder: Path) -> list[str]:
    user = "user nobody nogroup;" if os.getuid() == 0 else ""
    kinds = ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    temporary = "".join(f"{kind}_temp_path {folder}/{kind};" for kind in kinds)
    return [
        f"daemon off; pid {folder}/pid; error_log {folder}/error.log; {user}\nevents {{}}\nhttp {{ access_log off; "
        f"server_names_hash_max_size 8192; server_names_hash_bucket_size 128; absolute_redirect on; {temporary}"
    ]


@contextmanager
def nginx(folder: Path, sites: list[tuple[Site, Path]]) -> Iterator[int]:
    """nginx with a server block for each name; it knows no control files."""
    port = free_port()
    servers = []
    for site, home in sites:
        for host in {*site.roots, *site.sent, *site.aliases}:
            lines = [f"listen 127.0.0.1:{port};", f"server_name {host};", f"index {' '.join(INDEX)};"]
            lines.append(f"root {home / site.roots[host]};" if host in site.roots else f"root {folder}/none;")
            lines += [f"location ^~ /{path} {{ {does} }}" for path, does in site.rules.get(host, {}).items()]
            if host in site.fallback:
                lines.append(f"location / {{ try_files $uri $uri/ {site.fallback[host]}; }}")
            for prefix, there in site.aliases.get(host, {}).items():
                lines.append(f"location = /{prefix} {{ return 301 http://$host/{prefix}/; }}")
                lines.append(f"location ^~ /{prefix}/ {{ alias {home / there}/; }}")
            if host in site.sent:
                lines.append(f"location / {{ return 301 http://{site.sent[host]}$request_uri; }}")
            servers.append("server {\n" + "\n".join(lines) + "\n}")
    text = "\n".join([*_nginx_head(folder), *servers, "}"]) + "\n"
    (folder / "nginx.conf").write_text(text)
    with _running([str(_program("nginx")), "-e", str(folder / "error.log"), "-c", str(folder / "nginx.conf")], port):
        yield port


@contextmanager
def exported(server: str, folder: Path, port: int) -> Iterator[None]:
    """A server that serves what was exported into `sites` of a folder, once it passed the server's own test."""
    lines = _apache_head(folder, port) if server == "apache" else _nginx_head(folder)
    last = f"IncludeOptional {folder}/sites/*.conf" if server == "apache" else f"include {folder}/sites/*.conf; }}"
    (folder / "server.conf").write_text("\n".join([*lines, last]) + "\n")
    command = (
        [str(_program("apache2")), "-f"]
        if server == "apache"
        else [str(_program("nginx")), "-e", str(folder / "e"), "-c"]
    )
    command.append(str(folder / "server.conf"))
    tried = subprocess.run([*command, "-t"], capture_output=True, text=True, check=False)
    assert tried.returncode == 0, tried.stderr
    with _running([*command, "-X"] if server == "apache" else command, port):
        yield


def dumped(server: str, folder: Path) -> str:
    """What the server itself says of the hosts that were exported."""
    words = (
        ["apache2", "-D", "DUMP_VHOSTS", "-f"] if server == "apache" else ["nginx", "-T", "-e", str(folder / "e"), "-c"]
    )
    command = [str(_program(words[0])), *words[1:], str(folder / "server.conf")]
    return subprocess.run(command, capture_output=True, text=True, check=True).stdout


def ask(port: int, host: str, path: str) -> tuple[str, str]:
    """What a server answers: `("file", its path)`, `("redirect", address)` or `("nothing", status)`."""
    for _ in range(4):
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
        connection.request("GET", f"/{path}", headers={"Host": host})
        reply = connection.getresponse()
        body = reply.read().decode()
        connection.close()
        goes = (reply.getheader("Location") or "").replace(f":{port}", "")
        if reply.status == 301 and goes.endswith(f"//{host}/{path}/"):
            path += "/"  # a folder's address without its slash
            continue
        if reply.status == 301:
            return "redirect", goes.removeprefix("http://").rstrip("/")
        return ("file", body) if reply.status == 200 else ("nothing", str(reply.status))
    return "nothing", "too many redirects"


def installed() -> bool:
    return bool(_program("nginx") and _program("apache2") and MODULES.is_dir())


def _program(name: str) -> str | None:
    return shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/local/sbin")


_PORTS = iter(random.SystemRandom().sample(range(12_000, 32_000), 20_000))
"""Ports below those that the system gives to whoever asks for any, each given once by a process."""


def free_port() -> int:
    """A port of this machine at which nothing listens."""
    for port in _PORTS:
        with socket.socket() as free, suppress(OSError):
            free.bind(("127.0.0.1", port))
            return port
    raise AssertionError("no port is free")


@contextmanager
def _running(command: list[str], port: int, ip: str = "127.0.0.1") -> Iterator[None]:
    # in a session of its own, as Apache ends its whole process group with it
    with subprocess.Popen(
        command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    ) as server:
        try:
            for _ in range(200):
                with socket.socket() as knock:
                    if knock.connect_ex((ip, port)) == 0:
                        break
                assert server.poll() is None, f"{command[0]} ended with {server.returncode}"
                time.sleep(0.05)
            yield
        finally:
            server.terminate()
            try:
                server.wait(20)
            except subprocess.TimeoutExpired:  # which a single process in the middle of a request may not hear
                os.killpg(server.pid, signal.SIGKILL)
