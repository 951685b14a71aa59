"""Asking the real thing: real web servers and name servers, what is wrong with them, and who is hostile."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import json
import os
import re
import shutil
import time
import urllib.parse
import urllib.request
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import dns.message
import dns.query
import pytest

import hostile_web
import internet
import kettlepost
import webservers
from conftest import PHRASE, Work, lacking
from kettlepost.core.probing import PageJudge, ProbeRow, Received, SeenContent
from kettlepost.core.rules import rules
from kettlepost.core.survey import SeenName, SeenZone
from kettlepost.demo.internet import small_internet
from kettlepost.demo.internet.name_servers import NameServer, Resolver
from kettlepost.render.sentences import text
from kettlepost.sources.internet.names import Lookups
from kettlepost.sources.internet.ways import Ways
from kettlepost.workspace import catalogue
from kettlepost.workspace.password_stores import open_store
from kettlepost.workspace.plan_folder import PlanFolder
from real_applications import APPLICATIONS, NEEDED, Bench
from servers import mariadb_server
from test_limits import MOST, measured
from test_wordpress import served_by_php
from town import FERN, HOSTS, MACHINE, OLD, OTHER, Town, mend, page, served, town

Fault = Callable[[Town], Any]
WELCOME = "<!doctype html><title>Welcome to nginx!</title><h1>Welcome to nginx!</h1><p>If you see this page, the nginx web server is successfully installed and working.</p>"


def _host(name: str, *lines: str) -> Fault:
    return lambda made: made.hosts.__setitem__(name, [line.replace("{home}", str(made.home)) for line in lines])


def _gone(name: str) -> Fault:
    return lambda made: made.hosts.pop(name)


def _leads(host: str, *addresses: str) -> Fault:
    return lambda made: made.names.__setitem__(host, list(addresses))


def _second(change: dict[str, list[str]] | None) -> Fault:
    def plant(made: Town) -> None:
        made.second = dict(made.names) | change if change is not None else {"unheard.example": ["192.0.2.1"]}

    return plant


def _set(**facts: Any) -> Fault:
    return lambda made: [setattr(made, name, value) for name, value in facts.items()]


def _several(*faults: Fault) -> Fault:
    return lambda made: [fault(made) for fault in faults]


def _put(path: str, text: str) -> Fault:
    return lambda made: made.put(path, text)


def _lost(path: str) -> Fault:
    return lambda made: made.there(path).unlink()


def _read_in(root: str) -> Fault:
    plant = _host("pond.example", f'DocumentRoot "{{home}}/{root}"', "ServerAlias www.pond.example")
    return _several(lambda made: made.read_in("pond.example", root), plant)


POND = ('DocumentRoot "{home}/pond"', "ServerAlias www.pond.example")
FAULTS: dict[str, tuple[Fault, str, str, str]] = {
    "host missing": (_gone("pond.example"), "page", "http://pond.example/", "server"),
    "wrong root": (_host("pond.example", 'DocumentRoot "{home}/later"'), "page", "http://pond.example/", "server"),
    "wrong root, told so": (_read_in("later"), "page", "http://pond.example/", "plan"),
    "below it too": (_host("pond.example", 'DocumentRoot "{home}/later"'), "page", "http://pond.example/deep/", "server"),
    "welcome page": (_several(_put("w/index.html", WELCOME), _host("pond.example", 'DocumentRoot "{home}/w"')), "page", "http://pond.example/", "server"),
    "page changed": (_put("pond/index.html", page("Pond in spring")), "page", "http://pond.example/", "survey"),
    "page gone": (_several(_lost("pond/index.html"), _host("pond.example", 'DocumentRoot "{home}/pond"', "<Location />", "Options -Indexes", "</Location>")), "page", "http://pond.example/", "server"),
    "listing": (_lost("pond/index.html"), "page", "http://pond.example/", "survey"),
    "500": (_host("pond.example", *POND, "Redirect 500 /"), "page", "http://pond.example/", "server"),
    "away": (_host("pond.example", *POND, "Redirect 503 /"), "page", "http://pond.example/", "server"),
    "kept out": (_host("pond.example", *POND, "<Location />", "Require all denied", "</Location>"), "page", "http://pond.example/", "server"),
    "let in": (_host("shut.example", 'DocumentRoot "{home}/shut"'), "page", "http://shut.example/", "server"),
    "circle": (_host("pond.example", "Redirect 302 / http://fern.example/", "ServerAlias www.pond.example"), "page", "http://pond.example/", "server"),
    "round and round": (_several(_host("pond.example", "Redirect 302 / http://fern.example/"), _host("fern.example", "Redirect 302 / http://pond.example/")), "page", "http://fern.example/", "server"),
    "old address": (_host("fern.example", "Redirect 301 / http://www.ferns.test/"), "page", "http://fern.example/", "server"),
    "promised": (_host("once.example", 'DocumentRoot "{home}/pond"'), "page", "http://once.example/", "server"),
    "promised to others": (_host("once.example", "Redirect 301 / http://once.test/"), "page", "http://once.example/", "server"),
    "http stays": (_host("mill.example", 'DocumentRoot "{home}/mill"'), "page", "http://mill.example/", "server"),
    "other application": (_put("fern/index.html", page("Moss", "<meta name='generator' content='Moss 2'>")), "page", "http://fern.example/", "survey"),
    "installer": (_put("fern/index.html", FERN.replace("Ferns", "Set Fern up")), "page", "http://fern.example/", "application"),
    "php information": (_put("fern/index.html", "<title>PHP 8.2.7 - phpinfo()</title>" + FERN), "page", "http://fern.example/", "survey"),
    "www sent on": (_several(_host("pond.example", 'DocumentRoot "{home}/pond"'), _host("www.pond.example", "Redirect 301 / http://pond.example/")), "page", "http://www.pond.example/", "plan"),
    "down": (_set(up=False), "page", "http://pond.example/", "server"),
    "no https": (_set(secure=False), "certificate", "mill.example", "certificate"),
    "ended": (_set(days=-2), "certificate", "mill.example", "certificate"),
    "for others": (_set(certified=("others.example",)), "certificate", "mill.example", "certificate"),
    "not trusted": (_set(trusted=False), "certificate", "mill.example", "certificate"),
    "another day": (lambda made: made.plan("[[certificate]]\n", "[[certificate]]\nuntil = 2027-09-09\n"), "certificate", "mill.example", "plan"),
    "old machine": (_leads("pond.example", OLD), "name", "pond.example", "names"),
    "also the old machine": (_leads("pond.example", MACHINE, OLD), "name", "pond.example", "names"),
    "old machine by IPv6": (_several(_leads("pond.example", MACHINE, "2001:db8::9"), lambda made: made.plan('["192.0.2.10"]', '["192.0.2.10", "2001:db8::10"]')), "name", "pond.example", "names"),
    "no www": (lambda made: made.names.pop("www.pond.example"), "name", "www.pond.example", "names"),
    "a wildcard catches": (_several(lambda made: made.names.pop("www.pond.example"), _leads("*.pond.example", OTHER)), "name", "www.pond.example", "names"),
    "an alias to nothing": (_several(lambda made: made.names.pop("www.pond.example"), _set(more={"pond.example": ["www IN CNAME gone.pond.example."]})), "name", "www.pond.example", "names"),
    "half spread": (_second({"pond.example": [OLD]}), "name", "pond.example", "names"),
    "lame": (_second(None), "zone", "pond.example", "names"),
    "no name server": (_set(delegated={"pond.example": ["ns2.nic.example"]}), "name", "pond.example", "names"),
    "not registered": (_set(delegated={"pond.example": []}), "name", "pond.example", "names"),
    "zone names others": (_set(more={"pond.example": ["@ IN NS ns9.nic.example."]}), "zone", "pond.example", "names"),
    "here already": (_leads("later.example", MACHINE), "name", "later.example", "plan"),
    "another zone state": (_second({}), "zone", "fern.example", "names"),
}  # fmt: skip


def _asked(made: Town, *words: str) -> dict[tuple[str, str], dict[str, Any]]:
    with served(made) as options:
        done = made.work.run("probe", *options, *words, "--format", "json")
    assert done.returncode in (0, 1), done.stderr
    rows = [row for account in json.loads(done.stdout)["accounts"] for row in account["asked"]]
    assert done.returncode == any(row["verdict"] == "differs" for row in rows)
    return {(row["about"], row["at"]): row for row in rows}


FIRST, TOWNS = (int(os.environ.get(f"KETTLEPOST_{name}", usual)) for name, usual in (("SEED", 0), ("TOWNS", 1)))
"""The towns in which each fault is planted; `make trials` takes more."""


@pytest.mark.proof
@pytest.mark.parametrize("seed", range(FIRST, FIRST + TOWNS))
@pytest.mark.parametrize("kind", FAULTS)
def test_what_is_wrong_is_found_blamed_on_the_right_side_and_mended_as_told(
    open_folder: Path, kind: str, seed: int
) -> None:
    if not webservers.installed():
        lacking("apache2 or nginx")
    plant, about, at, blame = FAULTS[kind]
    made = town(open_folder, seed)
    plant(made)
    rows = differing(made)
    row = rows.get((about, made.named(at)))
    assert row is not None, rows
    assert row.blame == blame, row
    for _ in range(3):  # what was hidden behind another fault shows once that is gone
        for one in rows.values():
            mend(made, one)
        rows = differing(made)
        if not rows:
            break
    assert not rows


def differing(made: Town) -> dict[tuple[str, str], ProbeRow]:
    """What differs between the town and its plan, as a program is told."""
    with served(made) as options:
        words = {"--connect": list[str](), "--trust": list[str]()}
        for name, value in zip(options[::2], options[1::2], strict=True):
            words[name].append(value)
        trusted = Path(words["--trust"][0]) if words["--trust"] else None
        told = kettlepost.ProbeOptions(words["--connect"], trusted)
        probed = kettlepost.probe(kettlepost.open_plan(made.work.plan), options=told)
    return {(row.about, row.at): row for one in probed.accounts for row in one.rows if row.verdict == "differs"}


def test_nothing_differs_where_nothing_is_wrong(open_folder: Path) -> None:
    if not webservers.installed():
        lacking("apache2 or nginx")
    made = town(open_folder)
    made.names["fern.example"] = [MACHINE, "2001:db8::5"]  # of which the plan says nothing
    rows = _asked(made)
    assert not [row for row in rows.values() if row["verdict"] == "differs"]
    assert {at for (about, at), row in rows.items() if about == "name" and row["verdict"] == "agrees"} == set(HOSTS)
    sure = {at for (about, at), row in rows.items() if about == "page" and row["verdict"] == "agrees"}
    assert sure >= {f"http://{host}/" for host in HOSTS} | {"https://mill.example/", "http://pond.example/deep/"}
    assert rows["certificate", "mill.example"]["verdict"] == "agrees"
    assert rows["page", "http://fern.example/desk"]["verdict"] == "agrees"
    assert [row["notes"] != [] for (about, at), row in rows.items() if (about, at) == ("name", "fern.example")] == [
        True
    ]


ODD_NAMES = {
    "a.circle.example": ["a IN CNAME b.circle.example.", "b IN CNAME c.circle.example.", "c IN CNAME a.circle.example."],
    "a.chain.example": ["a IN CNAME n1.chain.example."] + [f"n{n} IN CNAME n{n + 1}.chain.example." for n in range(1, 40)],
    "crowd.example": [f"@ IN A 198.51.{n // 250}.{n % 250}" for n in range(2000)],
    "wordy.example": ["@ IN A 192.0.2.10", *(f'@ IN TXT "{n:03}{"x" * 240}"' for n in range(240))],
    "inside.example": ["@ IN A 169.254.169.254"],
    "home.example": ["@ IN A 127.0.0.1", "@ IN AAAA ::ffff:10.0.0.1"],
}  # fmt: skip


@pytest.mark.proof
def test_whatever_a_server_sends_is_bounded_and_told(work: Work) -> None:
    kinds, ports = hostile_web.kinds(), dict[str, int]()
    hosts = [f"{name}.example" for name in kinds]
    domains = "".join(
        f'[[domain]]\nname = "{host}"\nkind = "addon"\nroot = "r{n}"\nwww = "apart"\n\n'
        for n, host in enumerate([*hosts, *ODD_NAMES, "mazes.example"])
    )
    settings = '[settings]\nresolvers = ["192.0.2.53"]\nasking = { at_once = 60, pause = 0.0, seconds = 3 }\n'
    work.account(f'[account]\nname = "millbrook"\nip_addresses = ["{MACHINE}"]\n\n{domains}', settings=settings)
    own = internet.zones({key: [MACHINE] for key in hosts})
    for host, lines in ODD_NAMES.items():
        zone = internet.zone_of(host)
        own[zone] = "\n".join([internet.zones({host: []})[zone], *lines, ""])
    delegated = {key: ["ns.nic.example"] for key in own} | {
        "inside.example": ["ns.nic.example", "ns.inside.example"], "mazes.example": ["ns.lazes.example"],
        "lazes.example": ["ns.mazes.example"],
    }  # fmt: skip
    names = {"ns.nic.example": internet.SERVER, "ns.inside.example": "169.254.169.254"}
    servers = {internet.TOP: NameServer({"example": internet.top(delegated, names)}), internet.SERVER: NameServer(own)}
    servers |= {internet.RESOLVER: Resolver(internet.TOP, servers, {})}
    with internet.serving(internet.name_servers(servers), hostile_web.serving(kinds, ports)) as connects:
        more = [f"says-nothing.example:443=127.0.0.1:{ports['says-nothing']}", f"{MACHINE}:443=127.0.0.1:1"]
        options = [word for one in [*connects, *more] for word in ("--connect", one)]
        ended = measured(work, "probe", *options, "--format", "json", within=60)
    assert (ended.status, ended.memory <= MOST) == (1, True), ended
    kept = (work.plan / "surveys/millbrook.probe.json").read_text()
    assert all(line.isprintable() for line in kept.splitlines())
    assert "secret" not in kept
    assert "\\u001b" not in kept
    assert len(kept) < 300_000
    seen = json.loads(kept)
    pages = {one["url"]: one for one in seen["pages"] if one["at"] == MACHINE}
    assert pages.keys() >= {f"http://{host}/" for host in hosts}
    for name in ("metadata", "loopback", "mapped", "another-port", "file", "with-login"):
        assert pages[f"http://{name}.example/"]["kind"] == "redirect", pages[f"http://{name}.example/"]
    for name in ("drips", "says-nothing", "drips-head"):
        assert pages[f"http://{name}.example/"]["trouble"] == "probe/timed-out", pages[f"http://{name}.example/"]
    for name in ("no-http", "binary", "long-header", "long-status", "two-lengths"):
        assert pages[f"http://{name}.example/"].get("trouble"), pages[f"http://{name}.example/"]
    assert pages["http://itself.example/"]["trouble"] == "probe/round"
    assert pages["https://says-nothing.example/"]["trouble"] == "probe/timed-out"
    elsewhere = {one["url"]: one["trouble"] for one in seen["pages"] if one["at"] in ("169.254.169.254", "127.0.0.1")}
    assert elsewhere.keys() >= {"http://inside.example/", "http://home.example/"}
    assert set(elsewhere.values()) == {"probe/not-public"}
    states = {one["host"]: one["state"] for one in seen["names"]}
    assert states["a.circle.example"] == states["a.chain.example"] == "no-address"
    (inside,) = (one for one in seen["zones"] if one["zone"] == "inside.example")
    assert [one.get("trouble") for one in inside["servers"]] == ["probe/not-public", None]


@pytest.mark.proof
def test_what_the_demo_s_world_shows_is_found_by_the_rules(demo: tuple[Work, str], tmp_path: Path) -> None:
    shutil.copytree(demo[0].plan, tmp_path / "plan")
    work = Work(tmp_path)
    with small_internet(work.plan, demo[0].homes, tmp_path / "internet") as world:
        done = work.run("probe", *world.options)
        again = work.run("probe", *world.options, "--quiet")
        planned = work.run("probe", "shop.saltcotelight.example", *world.options, "--format", "json")
    assert (done.returncode, again.returncode) == (1, 1), done.stderr
    assert "differ, " in done.stdout
    (named,) = json.loads(planned.stdout)["accounts"]  # what is planned is held against what is to be, without asking
    front = next(row for row in named["asked"] if row["at"] == "http://shop.saltcotelight.example/")
    assert (named["when"], front["wrong"]) == ("planned", None)
    assert front["to_do"] == "do what 'kettlepost work shop.saltcotelight.example/' lists, and probe again"
    found = {f"{one.rule} {one.at}" for one in work.check().findings if one.rule in OF_THE_WORLD}
    assert found == {
        "admin-unencrypted http://millbrookrail.example/moor/desk",
        "admin-unencrypted http://saltcotelight.example/moor/desk",
        "name-elsewhere penny-wharf.example",
        "name-elsewhere steamfair.example",
        "name-elsewhere wheelclub.example",
        "name-servers-disagree lanternchoir.example",
        "name-servers-disagree saltcotelight.example",
        "other-site-shown http://spokeandsaddle.example/",
        "www-dead www.penny-wharf.example",
        "www-dead www.spokeandsaddle.example",
        "www-dead www.wheelclub.example",
    }


DEBIAN = Path(__file__).parents[1] / "build/debian"
OF_OTHERS = [
    "alpine-doc",
    "bliss-doc",
    "clamav-doc",
    "gsasl-doc",
    "leveldb-doc",
    "libfmt-doc",
    "apache2-data",
    "nginx-common",
]


def shown(
    judge: PageJudge, url: str, opener: urllib.request.OpenerDirector | None = None, data: bytes | None = None
) -> SeenContent:
    with (opener or urllib.request.build_opener(urllib.request.HTTPCookieProcessor())).open(
        url, data, timeout=60
    ) as got:
        return judge.content(Received(got.url, got.status, list(got.headers.items()), got.read()))


@pytest.mark.proof
def test_real_applications_are_known_from_outside_and_nothing_else_is(open_folder: Path) -> None:
    if shutil.which("php") is None or not all(one.is_dir() for one in NEEDED):
        lacking("php or the packages of real applications")
    judge = PageJudge(catalogue.applications(), catalogue.placeholder_finder())
    with mariadb_server(open_folder) as server:
        for name, prepare in APPLICATIONS.items():
            folder, port = open_folder / name, webservers.free_port()
            folder.mkdir()
            folder.chmod(0o777)
            made = prepare(Bench(folder, server, port))
            with served_by_php(made.root, port, **made.env):
                for path, kind in made.pages.items():
                    seen = shown(judge, f"http://127.0.0.1:{port}{path}")
                    assert (seen.kind, seen.what) == (kind, name), path
                if name == "shaarli":
                    seen = set_up_shaarli(judge, f"http://127.0.0.1:{port}")
                    assert (seen.kind, seen.what, seen.is_fresh) == ("application", name, True)
    pages = [one for name in OF_OTHERS for one in sorted((DEBIAN / name).rglob("*.html"))[:200]]
    assert len(pages) > 100
    for one in pages:
        other = judge.content(Received("http://a.example/", 200, [], one.read_bytes()))
        assert other.kind not in ("application", "installer"), (one, other)


def set_up_shaarli(judge: PageJudge, at: str) -> SeenContent:
    """What its front page shows once its installer has been gone through and somebody has logged in."""
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
    own = {"setlogin": "wren", "setpassword": "a long secret", "title": "Links", "language": "en", "continent": "Europe",
           "city": "London", "Save": "Install"}  # fmt: skip
    for path, told in (("install", own), ("login", {"login": "wren", "password": "a long secret"})):
        with opener.open(f"{at}/{path}", timeout=60) as got:
            token = re.findall(r'name="token" value="([0-9a-f]+)"', got.read().decode())[-1]
        shown(judge, f"{at}/{path}", opener, urllib.parse.urlencode(told | {"token": token}).encode())
    return shown(judge, f"{at}/")


OF_THE_WORLD = {
    rule.slug
    for rule in rules()
    if rule.in_account and rule.in_account.__module__.endswith(("seen_names", "shown_pages"))
}


@contextmanager
def named(folder: Path, zones: dict[str, str], forwards: dict[str, int] | None = None) -> Iterator[int]:
    """A real name server on a loopback port: for some zones, or one that asks others for them."""
    folder.mkdir()
    port, lines = webservers.free_port(), list[str]()
    for zone, written in zones.items():
        file = folder / (zone.strip(".") or "root")
        file.write_text(written)
        lines.append(f'zone "{zone}" {{ type primary; file "{file}"; }};')
    for zone, other in (forwards or {}).items():
        lines.append(f'zone "{zone}" {{ type forward; forward only; forwarders {{ 127.0.0.1 port {other}; }}; }};')
    recursion = "yes" if forwards else "no"
    (folder / "named.conf").write_text(
        f'options {{ directory "{folder}"; pid-file none; listen-on port {port} {{ 127.0.0.1; }}; listen-on-v6 {{ none; }};'
        f" recursion {recursion}; dnssec-validation no; allow-query {{ any; }}; session-keyfile none; }};\ncontrols {{ }};\n"
        + "\n".join(lines)
    )
    with webservers._running([NAMED, "-f", "-c", str(folder / "named.conf")], port):
        for zone in zones:  # which it has loaded a little later than it listens
            for _ in range(100):
                reply = dns.query.tcp(dns.message.make_query(zone, "SOA"), "127.0.0.1", 10, port)
                if reply.rcode() == 0 and reply.answer:
                    break
                time.sleep(0.05)
        yield port


NAMED = shutil.which("named", path="/usr/sbin:/usr/local/sbin") or ""


@pytest.mark.proof
def test_a_real_name_server_is_understood(tmp_path: Path) -> None:
    if not NAMED:
        lacking("named")
    more = ["@ IN MX 10 mail.pond.example.", '@ IN TXT "v=spf1 -all"', '@ IN CAA 0 issue "ca.test"', "*.wild IN A 192.0.2.7",
            "shop IN CNAME pond.example.", "away IN CNAME elsewhere.mill.example.", "deep IN NS ns.nic.example."]  # fmt: skip
    own = internet.zones(
        {"pond.example": [MACHINE, "2001:db8::5"], "www.pond.example": [MACHINE], "elsewhere.mill.example": [OLD]}
    )
    own["pond.example"] += "\n".join([*more, ""])
    delegated = {zone: ["ns.nic.example"] for zone in own} | {"pond.example": ["ns.nic.example", "ns2.nic.example"]}
    top = internet.top(delegated, {"ns.nic.example": internet.SERVER, "ns2.nic.example": internet.TOP})
    root = f"$TTL 60\n@ IN SOA {internet.SOA.format(1)}\n@ IN NS a.nic.example.\nexample. IN NS a.nic.example.\n"
    with named(tmp_path / "top", {"example": top}) as one, named(tmp_path / "own", own) as two:
        forwards = {"example": one} | dict.fromkeys(own, two)
        with named(tmp_path / "all", {".": root}, forwards) as three:
            instead = {(internet.TOP, 53): ("127.0.0.1", one), (internet.SERVER, 53): ("127.0.0.1", two),
                       (internet.RESOLVER, 53): ("127.0.0.1", three)}  # fmt: skip
            lookups = Lookups(Ways((), instead), [internet.RESOLVER])

            async def ask() -> tuple[dict[str, SeenName], SeenZone]:
                names = ("pond.example", "www.pond.example", "gone.pond.example", "any.wild.pond.example", "shop.pond.example",
                         "away.pond.example", "never.example")  # fmt: skip
                return {name: await lookups.name(name) for name in names}, await lookups.zone("pond.example")

            seen, zone = asyncio.run(ask())
    assert seen["pond.example"].addresses == (MACHINE, "2001:db8::5")
    assert (seen["www.pond.example"].addresses, seen["www.pond.example"].ttl, seen["www.pond.example"].zone) == (
        (MACHINE,),
        600,
        "pond.example",
    )
    assert (seen["gone.pond.example"].state, seen["never.example"].state) == ("no-such-name", "no-such-name")
    assert seen["any.wild.pond.example"].addresses == ("192.0.2.7",)
    assert (seen["shop.pond.example"].addresses, seen["shop.pond.example"].chain) == (
        (MACHINE, "2001:db8::5"),
        ("pond.example",),
    )
    assert (seen["away.pond.example"].addresses, seen["away.pond.example"].chain) == (
        (OLD,),
        ("elsewhere.mill.example",),
    )
    assert [(one.name, one.trouble) for one in zone.servers] == [
        ("ns.nic.example", None),
        ("ns2.nic.example", "probe/lame"),
    ]
    assert (zone.mail, zone.spf, zone.issuers) == (("10 mail.pond.example",), "v=spf1 -all", ('0 issue "ca.test"',))
    assert not any(one.cached or one.apart for one in seen.values())


@pytest.mark.proof
@pytest.mark.parametrize("server", ["apache", "nginx"])
def test_of_random_plans_nothing_differs_that_is_as_planned(open_folder: Path, server: str, tmp_path: Path) -> None:
    if not webservers.installed():
        lacking("apache2 or nginx")
    first, number = int(os.environ.get("KETTLEPOST_SEED", "7000")), int(os.environ.get("KETTLEPOST_PROBED", "12"))
    sites = [webservers.random_site(first + n, n, server == "apache") for n in range(number)]
    homes, work = [(site, open_folder / f"home{site.number}") for site in sites], Work(tmp_path)
    work.homes = open_folder
    settings = (
        f'{webservers.NO_PHP}[settings]\nresolvers = ["{internet.RESOLVER}"]\nasking = {{ at_once = 8, pause = 0.0 }}\n'
    )
    for site, home in homes:
        webservers.lay_out(site, home)
        own = f'[account]\nip_addresses = ["{MACHINE}"]\n' + (
            f'name = "home{site.number}"\n' if server == "apache" else ""
        )
        tables = "\n".join(site.tables)
        tables = own + tables if server == "apache" else tables.replace("[account]\n", own, 1)
        work.account(tables, f"home{site.number}", settings=settings).survey(f"home{site.number}")
    hosts = {host: [MACHINE] for one in work.layout().accounts.values() for host in one.tree("now").hosts}
    with (
        getattr(webservers, server)(open_folder, homes) as port,
        internet.serving(internet.name_servers(internet.everybody(hosts))) as connects,
    ):
        more = [f"{MACHINE}:80=127.0.0.1:{port}", f"{MACHINE}:443=127.0.0.1:1"]
        probed = kettlepost.probe(kettlepost.open_plan(work.plan), options=kettlepost.ProbeOptions([*connects, *more]))
    rows = [row for account in probed.accounts for row in account.rows]
    assert not [(row.at, text(row.expected), text(row.seen)) for row in rows if row.verdict == "differs"]
    assert sum(row.verdict == "agrees" and row.about == "page" for row in rows) >= 4 * number


@pytest.mark.proof
def test_a_password_goes_to_its_host_and_nowhere_else(open_folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    if not webservers.installed():
        lacking("apache2 or nginx")
    monkeypatch.setenv("KETTLEPOST_PASSPHRASE", PHRASE)
    made = town(open_folder)
    settings = made.work.plan / "kettlepost.toml"
    settings.write_text(
        settings.read_text().replace("[settings]\n", f'[settings]\npasswords_in = "{open_folder}/kept.kdbx"\n', 1)
    )
    with closing(open_store(PlanFolder(made.work.plan), lambda _: PHRASE, writes=True)) as store:
        store.put("wren@shut.example", "a long secret", "wren", "shut.example", "town")
    made.users = "wren:{SHA}" + base64.b64encode(hashlib.sha1(b"a long secret").digest()).decode() + "\n"
    made.hosts["fern.example"] = ["Redirect 302 / http://shut.example/"]
    rows = _asked(made, "--login", "wren@shut.example")
    assert rows["page", "http://shut.example/"]["verdict"] == "agrees"
    assert rows["page", "http://shut.example/"]["seen"].startswith("200, ")
    assert rows["page", "http://fern.example/"]["seen"].startswith("401, ")  # which only leads there
    for path in made.work.plan.rglob("*"):
        assert not path.is_file() or b"a long secret" not in path.read_bytes()
    heads = list[str]()
    elsewhere = {"old": hostile_web.noting(heads)}
    ports = dict[str, int]()
    made.names["shut.example"] = [OLD]  # it goes to the account's machine, and not to where the name leads
    with internet.serving(hostile_web.serving(elsewhere, ports)):
        made.connects, made.folder = [f"{OLD}:80=127.0.0.1:{ports['old']}"], open_folder / "again"
        made.folder.mkdir(mode=0o755)
        rows = _asked(made, "--login", "wren@shut.example")
    assert rows["page", "http://shut.example/"]["seen"].startswith("200, ")
    assert heads
    assert not any("authorization" in head.lower() for head in heads)
    refused = made.work.run("probe", "--login", "wren@fern.example")
    assert (refused.returncode, "no password is kept" in refused.stderr) == (2, True)
    for title in ("wren@elsewhere.test", "wren", "a:b@shut.example"):
        assert made.work.run("probe", "--login", title).returncode == 2


def test_what_was_seen_is_ticked_and_comes_before_the_plan_s_word(work: Work) -> None:
    work.account(
        f'[account]\nname = "millbrook"\nip_addresses = ["{MACHINE}"]\n'
        '[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\nhttps = true\nstate = "planned"\nwww = "apart"\n'
        '[[domain]]\nname = "b.example"\nkind = "addon"\nroot = "b"\npoints_here = false\nwww = "apart"\n'
        '[[installation]]\napplication = "wordpress"\naddress = "b.example"\nstate = "planned"\n'
    )
    when = {"seen": "2026-11-30T00:00:00Z"}
    world = {
        "account": "millbrook",
        "names": [{"host": f"{name}.example", **when, "state": "found", "addresses": [MACHINE], "ttl": 300} for name in "ab"],
        "certificates": [{"host": "a.example", "at": MACHINE, **when, "covers": ["a.example"], "until": "2999-01-01"}],
        "pages": [
            {"url": "http://a.example/", "at": MACHINE, **when, "status": 200, "end": "https://a.example/"},
            {"url": "http://b.example/", "at": MACHINE, **when, "status": 200, "kind": "application", "what": "wordpress"},
        ],
    }  # fmt: skip
    rules_before = work.rules()
    steps = {step["id"].rpartition("-")[0]: step for step in work.json("work", "a.example")["steps"]}
    assert not any(step["state"] == "done" for step in steps.values())
    (work.plan / "surveys").mkdir(exist_ok=True)
    (work.plan / "surveys/millbrook.probe.json").write_text(json.dumps(world))
    steps = {step["id"].rpartition("-")[0]: step for step in work.json("work", "a.example")["steps"]}
    assert {kind for kind, step in steps.items() if step["state"] == "done"} >= {"points", "certificate", "https"}
    verify = [step for step in work.json("work", "b.example")["steps"] if step["id"].startswith("verify-")]
    assert [step["state"] for step in verify] == ["done"]
    assert {"no-certificate", "not-pointing"} <= rules_before
    assert not {"no-certificate", "not-pointing"} & work.rules()
    (row,) = work.json("domain", "list", "--match", "domain=b.example")["domains"]
    assert (row["points_here"], row["seen"]) == (True, f"leads to {MACHINE} (2026-11-30)")
