"""A small town on a real Apache: a plan, its machine and its names, and what can be wrong between them."""

from __future__ import annotations

import json
import random
import re
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import internet
import webservers
from conftest import Work
from kettlepost.core.messages import Message
from kettlepost.core.names import HostName
from kettlepost.core.probing import ProbeRow
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
NEAR = '\n[[domain]]\nname = "{}"\nkind = "addon"\nroot = "{}"\nwww = "apart"\n'
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
    called: dict[str, str] = field(default_factory=dict)
    lies: dict[str, str] = field(default_factory=dict)

    @property
    def home(self) -> Path:
        return self.work.homes / "town"

    @property
    def protected(self) -> list[str]:
        """What has a host ask for a password."""
        users = f"AuthUserFile {self.folder}/users"
        return ["<Location />", "AuthType Basic", "AuthName members", users, "Require valid-user", "</Location>"]

    def named(self, text: str) -> str:
        """A text with the names and folders that this town has for those of the plan above."""
        text = re.sub(r"\b([a-z]+)(?=\.example\b)", lambda found: self.called.get(found[1], found[1]), text)
        inside = rf'(?<={re.escape(str(self.home))}/)([a-z]+)(?=["/\s])|(?<=^root = ")([a-z]+)(?="$)'
        return re.sub(inside, lambda found: self.lies.get(found[0], found[0]), text, flags=re.MULTILINE)

    def there(self, path: str) -> Path:
        first, slash, rest = path.partition("/")
        return self.home / f"{self.lies.get(first, first)}{slash}{rest}"

    def put(self, path: str, text: str) -> None:
        self.there(path).parent.mkdir(parents=True, exist_ok=True)
        self.there(path).write_text(text)

    def read_in(self, host: str, root: str) -> None:
        """The server's configuration, read in, has a host lead somewhere."""
        at = self.named(f"{self.home}/{root}/").removeprefix(f"{self.home}/").rstrip("/")
        seen = {"kettlepost": 1, "account": "town", "taken": "2026-11-01T00:00:00Z", "hosts": [[self.named(host), at, "", "x:1"]],
                "records": [], "certificates": []}  # fmt: skip
        (self.work.plan / "surveys/town.outside.json").write_text(json.dumps(seen))

    def plan(self, old: str, new: str) -> None:
        path = self.work.plan / "accounts/town.toml"
        text = path.read_text()
        assert self.named(old) in text
        path.write_text(text.replace(self.named(old), self.named(new), 1))


WORDS = (
    "alder",
    "brook",
    "cinder",
    "dover",
    "ember",
    "fallow",
    "gorse",
    "heron",
    "inkwell",
    "juniper",
    "kestrel",
    "larch",
)


def town(folder: Path, seed: int = 0) -> Town:
    """The town; with a seed it has other names, folders and pages, neighbours, and another order on its server."""
    work, chance = Work(folder), random.Random(seed)
    made = Town(work, folder)
    near = dict[str, str]()
    if seed:
        for own, word in zip(("mill", "pond", "fern", "once", "shut", "later"), chance.sample(WORDS, 6), strict=True):
            made.called[own] = word + chance.choice(("", "mere", "-and-sons", "9"))
            made.lies[own] = chance.choice((word, f"sites/{word}", f"{word}/public", f"web/{word}.example"))
        near = {f"near{n}{chance.choice(WORDS)}.example": f"near/{n}" for n in range(chance.randrange(9))}
    said = chance.choice((SAID, f"{SAID} And more.", SAID * 40))
    work.account(made.named(PLAN.replace("{home}", str(made.home))) + "".join(NEAR.format(*one) for one in near.items()), "town",
                 SETTINGS)  # fmt: skip
    for path, text in TREE.items():
        made.put(path, text.replace(SAID, said))
    for host, root in near.items():
        made.put(f"{root}/index.html", page(f"Near {host}"))
    work.survey("town")
    for host, root in (("pond.example", "pond"), ("fern.example", "fern"), ("later.example", "later")):
        made.hosts[host] = [f'DocumentRoot "{made.home}/{root}"']
    made.hosts["pond.example"].append("ServerAlias www.pond.example")
    made.hosts["fern.example"].append("RedirectMatch 302 ^/desk http://fern.example/sign-in.html")
    made.hosts["shut.example"] = [f'DocumentRoot "{made.home}/shut"', *made.protected]
    made.hosts["once.example"] = ["Redirect 301 / https://mill.example/"]
    made.hosts["mill.example"] = ["Redirect 301 / https://mill.example/"]
    made.hosts["www.mill.example"] = ["Redirect 301 / https://mill.example/"]
    made.hosts["https://mill.example"] = [f'DocumentRoot "{made.home}/mill"']
    made.hosts["https://www.mill.example"] = ["Redirect 301 / https://mill.example/"]
    for host, root in near.items():
        made.hosts[host], made.names[host] = [f'DocumentRoot "{made.home}/{root}"'], [MACHINE]
    if seed:
        made.hosts = dict(chance.sample(list(made.hosts.items()), len(made.hosts)))
    return made


@contextmanager
def served(made: Town) -> Iterator[list[str]]:
    """The town on its servers; gives the options of `probe` that lead there."""
    folder, named = made.folder, made.named
    own = internet.zones({named(host): some for host, some in made.names.items()}, serial=2)
    for zone, lines in made.more.items():
        own[named(zone)] = "\n".join([own.get(named(zone), ""), *map(named, lines), ""])
    servers: dict[str, Any] = {internet.SERVER: NameServer(own)}
    names = {"ns.nic.example": internet.SERVER, "ns2.nic.example": "192.0.2.56"}
    other = {named(zone): some for zone, some in made.delegated.items()}
    delegated = {zone: ["ns.nic.example"] for zone in own} | other
    if made.second is not None:
        servers["192.0.2.56"] = NameServer(internet.zones({named(host): some for host, some in made.second.items()}))
        delegated = {zone: ["ns.nic.example", "ns2.nic.example"] for zone in own} | other
    delegated = {zone: some for zone, some in delegated.items() if some}
    servers[internet.TOP] = NameServer({"example": internet.top(delegated, names)})
    servers[internet.RESOLVER] = Resolver(
        internet.TOP, servers, {named(host): some for host, some in made.remembers.items()}
    )
    (folder / "ca").mkdir(exist_ok=True)
    authority = Authority(folder / "ca")
    pem = authority.issue([*map(named, made.certified)], made.days)
    ports = webservers.free_port(), webservers.free_port()
    lines = [*webservers._apache_head(folder, ports[0]), f"Listen 127.0.0.1:{ports[1]}", "DirectoryIndex index.html",
             f"LoadModule autoindex_module {webservers.MODULES}/mod_autoindex.so", "AddType text/html .html",
             f"<Directory {made.home}>", "Options Indexes FollowSymLinks", "Require all granted", "AllowOverride All",
             "</Directory>"]  # fmt: skip
    for name, own_lines in made.hosts.items():
        is_secure, host = name.startswith("https://"), name.removeprefix("https://")
        if is_secure and not made.secure:
            continue
        lines += [f"<VirtualHost *:{ports[is_secure]}>", f"ServerName {named(host)}", *map(named, own_lines)]
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


def mend(made: Town, row: ProbeRow) -> None:
    """Do what a row says is to be done, to the letter, whoever it falls to."""
    assert isinstance(row.mend, Message), row
    what, facts = row.mend.slug.rpartition("/")[2], row.mend.facts
    host = row.at.partition("://")[2].partition("/")[0] or row.at
    key = next((key for key in made.hosts if made.named(key) == host), host)
    lines = made.hosts.get(key, [])
    mounts = made.work.layout().accounts["town"].tree("now").hosts.serving(HostName(host))
    folder = mounts[-1].folder if mounts else None
    rooted = [f'DocumentRoot "{made.home}/{folder}"'] if folder is not None else []
    kept = [line for line in lines if line.startswith(("DocumentRoot", "ServerAlias"))]
    match what:
        case "record" | "some-record":
            made.names = {name: led for name, led in made.names.items() if made.named(name) != host}
            made.names[host], made.more = [MACHINE], {}
        case "spreading" | "zone" | "no-server" | "not-registered":
            made.second, made.delegated, made.more = None, {}, {}
        case "certificate":
            made.certified = tuple({*made.certified, host})
            made.days, made.trusted, made.secure = 60, True, True
        case "until":
            made.work.plan.joinpath("accounts/town.toml").write_text(
                re.sub(
                    "until = .*", f"until = {facts['until']}", made.work.plan.joinpath("accounts/town.toml").read_text()
                )
            )
        case "points-here":
            made.plan("points_here = false\n", "")
        case "redirect" | "secure":
            made.hosts[key] = [f"Redirect 301 / {facts.get('url') or f'https://{host}/'}"]
        case "leaves":
            gone = [line for line in lines if "Redirect" not in line or str(facts["end"]) not in made.named(line)]
            made.hosts[key] = gone if any("DocumentRoot" in line for line in gone) else [*gone, *rooted]
        case "keep-out":
            made.hosts[key] = [*kept, *made.protected]
        case "maintenance" | "error" | "kept-out" | "round" | "root" | "host" | "placeholder":
            aliases = [line for line in kept if line.startswith("ServerAlias")]
            made.hosts[key] = [*rooted, *aliases]
        case "no-reply":
            made.up = True
        case "plan-root":
            text = made.work.plan.joinpath("accounts/town.toml").read_text()
            said = re.sub(
                rf'(name = "{re.escape(host)}"\nkind = "addon"\nroot = )"[^"]*"', rf'\1"{facts["root"]}"', text
            )
            assert f'root = "{facts["root"]}"' in said
            made.work.plan.joinpath("accounts/town.toml").write_text(said)
        case "installer":
            made.put("fern/index.html", FERN)
        case "phpinfo":
            made.there("fern/index.html").unlink()
        case "www":
            assert row.remedy is not None
            done = made.work.run("domain", "www", *row.remedy.subject.split(), "--yes")
            assert done.returncode == 0, done.stderr
        case "survey" | "not-there":
            pass
        case _:
            raise AssertionError(f"nobody knows how that is done: {what}")
    if what in ("survey", "not-there", "phpinfo", "installer", "placeholder"):
        made.work.survey("town")
