"""A small town on a real Apache: a plan, its machine and its names, and what can be wrong between them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import internet
import webservers
from conftest import Work
from kettlepost.demo.internet.authority import Authority
from kettlepost.demo.internet.name_servers import NameServer, Resolver

MACHINE, OLD, OTHER = "192.0.2.10", "203.0.113.9", "203.0.113.80"
SETTINGS = """
[settings]
resolvers = ["192.0.2.53"]
asking = { at_once = 16, pause = 0.0, seconds = 1.5 }

[[application]]
id = "fern"
all_of = ["fern.js"]
folders = ["desk"]
admin = "desk"
index_files = ["index.html"]
set_up = "begin.html"
shows = { generator = ["Fern"], installer = ["Set Fern up"] }

[[application]]
id = "moss"
all_of = ["moss.js"]
index_files = ["index.html"]
shows = { generator = ["Moss"] }
"""
PLAN = """
[account]
name = "town"
home = "{home}"
ip_addresses = ["192.0.2.10"]

[[domain]]
name = "mill.example"
kind = "primary"
root = "mill"
www = "bare"
https = true

[[domain]]
name = "pond.example"
kind = "addon"
root = "pond"
www = "both"

[[domain]]
name = "fern.example"
kind = "addon"
root = "fern"
www = "apart"

[[domain]]
name = "once.example"
kind = "addon"
redirect_to = "mill.example"
www = "apart"

[[domain]]
name = "shut.example"
kind = "addon"
root = "shut"
protected = true
www = "apart"

[[domain]]
name = "later.example"
kind = "addon"
root = "later"
points_here = false
www = "apart"

[[installation]]
application = "fern"
address = "fern.example"
state = "live"

[[certificate]]
covers = ["mill.example", "www.mill.example"]
"""
HTML = "<!doctype html><html lang='en'><head><title>{0}</title>{1}</head><body><h1>{0}</h1><p>{2}</p></body></html>"
SAID = " ".join(f"Of {one} there is much to say, and here it is said." for one in ("mills", "ponds", "ferns", "stones"))


def page(title: str, head: str = "") -> str:
    return HTML.format(title, head, f"{title}. {SAID}")


FERN = page("Ferns", "<meta name='generator' content='Fern 3'>")
TREE = {
    "mill/index.html": page("Mill"), "pond/index.html": page("Pond"), "pond/deep/index.html": page("Deep"),
    "fern/index.html": FERN + "<!--# changes -->", "fern/fern.js": "x", "fern/desk/index.html": FERN, "fern/sign-in.html": FERN, "shut/index.html": page("Shut"), "later/index.html": page("Later"),
}  # fmt: skip
HOSTS = ("mill.example", "www.mill.example", "pond.example", "www.pond.example", "fern.example", "once.example",
         "shut.example", "later.example")  # fmt: skip


@dataclass
class Town:
    """What can be changed before it is served: names, hosts as lines of Apache, certificates, files, the plan."""

    work: Work
    folder: Path
    names: dict[str, list[str]] = field(
        default_factory=lambda: {key: [MACHINE] for key in HOSTS} | {"later.example": [OLD]}
    )
    second: dict[str, list[str]] | None = None
    more: dict[str, list[str]] = field(default_factory=dict)
    delegated: dict[str, list[str]] = field(default_factory=dict)
    remembers: dict[str, list[str]] = field(default_factory=dict)
    hosts: dict[str, list[str]] = field(default_factory=dict)
    certified: tuple[str, ...] = ("mill.example", "www.mill.example")
    days: int = 60
    trusted: bool = True
    secure: bool = True
    up: bool = True
    users: str = ""
    connects: list[str] = field(default_factory=list)

    @property
    def home(self) -> Path:
        return self.work.homes / "town"

    def put(self, path: str, text: str) -> None:
        (self.home / path).parent.mkdir(parents=True, exist_ok=True)
        (self.home / path).write_text(text)

    def plan(self, old: str, new: str) -> None:
        path = self.work.plan / "accounts/town.toml"
        text = path.read_text()
        assert old in text
        path.write_text(text.replace(old, new, 1))


def town(folder: Path) -> Town:
    work = Work(folder)
    work.account(PLAN.replace("{home}", str(work.homes / "town")), "town", SETTINGS)
    work.there(dict(TREE.items()), "town")
    made = Town(work, folder)
    for host, root in (("pond.example", "pond"), ("fern.example", "fern"), ("later.example", "later")):
        made.hosts[host] = [f'DocumentRoot "{made.home}/{root}"']
    made.hosts["pond.example"].append("ServerAlias www.pond.example")
    made.hosts["fern.example"].append("RedirectMatch 302 ^/desk http://fern.example/sign-in.html")
    made.hosts["shut.example"] = [f'DocumentRoot "{made.home}/shut"', "<Location />", "AuthType Basic", "AuthName members",
                                  f"AuthUserFile {folder}/users", "Require valid-user", "</Location>"]  # fmt: skip
    made.hosts["once.example"] = ["Redirect 301 / https://mill.example/"]
    made.hosts["mill.example"] = ["Redirect 301 / https://mill.example/"]
    made.hosts["www.mill.example"] = ["Redirect 301 / https://mill.example/"]
    made.hosts["https://mill.example"] = [f'DocumentRoot "{made.home}/mill"']
    made.hosts["https://www.mill.example"] = ["Redirect 301 / https://mill.example/"]
    return made


@contextmanager
def served(made: Town) -> Iterator[list[str]]:
    """The town on its servers; gives the options of `probe` that lead there."""
    folder = made.folder
    own = internet.zones(made.names, serial=2)
    for zone, lines in made.more.items():
        own[zone] = "\n".join([own.get(zone, ""), *lines, ""])
    servers: dict[str, Any] = {internet.SERVER: NameServer(own)}
    names = {"ns.nic.example": internet.SERVER, "ns2.nic.example": "192.0.2.56"}
    delegated = {zone: ["ns.nic.example"] for zone in own} | made.delegated
    if made.second is not None:
        servers["192.0.2.56"] = NameServer(internet.zones(made.second))
        delegated = {zone: ["ns.nic.example", "ns2.nic.example"] for zone in own} | made.delegated
    delegated = {zone: some for zone, some in delegated.items() if some}
    servers[internet.TOP] = NameServer({"example": internet.top(delegated, names)})
    servers[internet.RESOLVER] = Resolver(internet.TOP, servers, made.remembers)
    (folder / "ca").mkdir()
    authority = Authority(folder / "ca")
    pem = authority.issue(made.certified, made.days)
    ports = webservers.free_port(), webservers.free_port()
    lines = [*webservers._apache_head(folder, ports[0]), f"Listen 127.0.0.1:{ports[1]}", "DirectoryIndex index.html",
             f"LoadModule autoindex_module {webservers.MODULES}/mod_autoindex.so", "AddType text/html .html",
             f"<Directory {made.home}>", "Options Indexes FollowSymLinks", "Require all granted", "AllowOverride All",
             "</Directory>"]  # fmt: skip
    for name, own_lines in made.hosts.items():
        is_secure, host = name.startswith("https://"), name.removeprefix("https://")
        if is_secure and not made.secure:
            continue
        lines += [f"<VirtualHost *:{ports[is_secure]}>", f"ServerName {host}", *own_lines]
        lines += ["SSLEngine on", f"SSLCertificateFile {pem}"] if is_secure else []
        lines.append("</VirtualHost>")
    (folder / "httpd.conf").write_text("\n".join(lines) + "\n")
    (folder / "users").write_text(made.users)
    with ExitStack() as stack:
        connects = stack.enter_context(internet.serving(internet.name_servers(servers)))
        command = [str(webservers._program("apache2")), "-X", "-f", str(folder / "httpd.conf")]
        if made.up:
            stack.enter_context(webservers._running(command, ports[0]))
        connects += [
            f"{address}:{port}=127.0.0.1:{there}"
            for address in (MACHINE, OLD)
            for port, there in zip((80, 443), ports if made.up and address == MACHINE else (1, 1), strict=True)
        ]
        connects += made.connects
        trust = ["--trust", str(authority.path)] if made.trusted else []
        yield [*(word for one in connects for word in ("--connect", one)), *trust]


Fault = Callable[[Town], object]
