"""Wishes carried out on grown accounts by the installed program's own lists: weighed, placed, worked through, taken back."""

from __future__ import annotations

import json
import os
import random
import re
import shlex
import shutil
import sys
import tempfile
from collections.abc import Callable
from contextlib import ExitStack
from importlib.resources import files
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import msgspec
import rtoml

import control_files
import internet
from conftest import DEMO_SETTINGS, TODAY, Work
from control_files import World
from kettlepost.cli import main
from kettlepost.core.checking import check
from kettlepost.core.names import Folder
from kettlepost.core.steps import AddHost, CopyFolder, KeepFolder, Step
from kettlepost.demo.grown import grown
from kettlepost.demo.host import SimulatedHost
from kettlepost.demo.scaffold import lay_out_tree
from robot import addresses
from town import MACHINE

KINDS = ("root", "subfolder", "subdomain", "domain", "retire", "move", "replace")
TREES = rtoml.loads(files("kettlepost").joinpath("demo/trees/applications.toml").read_text("utf-8"))
APPLICATIONS = {
    one["title"]: one
    for one in rtoml.loads(files("kettlepost").joinpath("demo/plan/kettlepost.toml").read_text("utf-8"))["application"]
}
_IN_FILES = frozenset(
    """look-at-file add-host make-folder copy-folder delete-folder set-aside-folder delete-file add-lines edit-line write-front-file clear-folder
    upload-files install-application set-up write-settings remove-leftovers protect-folder look-again""".split()
)
_OUTSIDE = ("points", "certificate", "https", "verify")
"""What the world shows; that is never said to be done."""
SHOWN = 40
"""So many addresses of an account are opened at most."""


def forked(work: Work, *words: str) -> tuple[int, str, str]:
    """What the program gives and says, run in a fork of this process."""
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        child = os.fork()
        if child == 0:  # pragma: no cover
            os.dup2(out.fileno(), 1)
            os.dup2(err.fileno(), 2)
            sys.stdin = os.fdopen(os.open(os.devnull, os.O_RDONLY))
            sys.stdout, sys.stderr = (os.fdopen(number, "w", closefd=False) for number in (1, 2))
            sys.argv = ["kettlepost", *words, "--plan", str(work.plan)]
            code: Any = 99
            try:
                code = main() or 0
            except SystemExit as end:
                code = end.code or 0
            finally:
                sys.stdout.flush()
                sys.stderr.flush()
                os._exit(code if isinstance(code, int) else 98)
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        out.seek(0)
        err.seek(0)
        return code, out.read().decode(), err.read().decode()


class Wisher:
    """Somebody who does what the work list says, in any order that it allows, and knows nothing else."""

    def __init__(self, work: Work, name: str, pick: random.Random):
        self.work, self.name, self.pick = work, name, pick
        self.home = work.homes / name
        self.host = SimulatedHost(work.homes, work.plan.parent / "aside", work.layout().accounts.values())
        self.hosts = self.host.roots[name]
        self.kept: list[Folder] = []
        self.also: dict[str, Folder] = {}
        self.left: list[Folder] = []
        self.closed = self.guarded = self.tried = ""

    def run(self, *words: str) -> str:
        code, out, err = forked(self.work, *words)
        assert code == 0, f"{' '.join(words)}: {code}\n{out[-400:]}\n{err[-400:]}"
        return out

    def listed(self, site: str) -> list[dict[str, Any]]:
        """The list for a site; nothing once the plan knows none there."""
        _, out, _ = forked(self.work, "work", site, "--format", "json")
        names = {site, site.partition("/")[0]}  # and nothing below it
        return [one for one in json.loads(out)["steps"] if one["site"] in names] if out else []

    def carry_out(self, site: str) -> list[str]:
        """Do what is listed, and say so of what nothing shows; gives what is left to do."""
        listed = self.listed(site)
        while ready := [one for one in listed if one["state"] in ("ready", "waiting")]:
            chosen = self.pick.choice(ready)
            self.does(chosen)
            if chosen["step"]["do"] in _IN_FILES:
                self.run("survey", self.name, "--from", str(self.home))
            listed = self.listed(site)
            is_outside = chosen["kind"] in _OUTSIDE
            if is_outside:
                listed = self.asks(site)
            after = {one["id"]: one for one in listed}.get(chosen["id"])
            is_closed = chosen["kind"] == "verify" and chosen["site"] == self.closed  # and asks for a password
            is_seen = after is None or after["state"] == "done"
            is_told = is_outside and not self.is_unsure(chosen)
            assert not is_told or is_seen != is_closed, f"not seen outside: {chosen['title']}"
            if after is not None and after["state"] != "done":
                assert after["seen"] is None or self.is_unsure(chosen), f"seen not to be done: {chosen['title']}"
                self.run("work", "--done", chosen["id"], "--by", "a robot", "--yes")
                listed = self.listed(site)
        return [one["title"] for one in listed if one["state"] != "done"]

    def is_unsure(self, _one: dict[str, Any]) -> bool:
        """Whether nobody can tell from outside if what is there is what it is to be."""
        return False

    def asks(self, site: str) -> list[dict[str, Any]]:
        """Open the site on a real server to which name servers lead its names, as `probe` does; gives the list then."""
        hosts = {host: str(root) for host, root in (self.also | self.hosts).items() if "*" not in host}
        with tempfile.TemporaryDirectory() as place, ExitStack() as running:
            Path(place).chmod(0o755)
            ports = running.enter_context(control_files.apache(Path(place), [World(0, hosts=hosts, home=self.home)]))
            world = internet.everybody({host: [MACHINE] for host in hosts})
            connects = running.enter_context(internet.serving(internet.name_servers(world)))
            connects += [
                f"{MACHINE}:{port}={World(0).ip}:{there}" for port, there in ((80, ports.http), (443, ports.https))
            ]
            code, _, err = forked(self.work, "probe", site, *(word for one in connects for word in ("--connect", one)))
        assert code in (0, 1), err
        return self.listed(site)

    def does(self, one: dict[str, Any]) -> None:
        step, home, site = one["step"], self.home, one["site"]
        typed = next((words for words in one["commands"] if "work --carry-out" in words), "")
        if typed and self.pick.random() < 0.6:  # as often as not the program does it itself
            self.run(*shlex.split(typed)[1:], "--from", str(home), "--yes")
            self.left += map(Folder, step.get("stays", ()))
            return
        match step["do"]:
            case "clear-folder":
                self.run("clear", site, "--from", str(home), "--yes")
            case "upload-files":
                self.put(step["application"], step["folder"])
            case "install-application":  # of its own folder an installer knows what is typed into the box, and no more
                folder = f"{self.hosts[step['host']]}/{step.get('box', '')}".rstrip("/")
                self.put(step["application"], folder)
                self.set_up(folder, step)
            case "set-up" if "writes" in step:
                self.set_up(next(iter(self.put_in)), step)
            case "set-aside-folder":
                self.run(*shlex.split(step["remedy"])[1:], "--from", str(home), "--yes")
            case "protect-folder":
                with (home / step["folder"] / ".htaccess").open("a") as file:
                    file.write(f"\nAuthType Basic\nAuthName x\nAuthUserFile {home}/.htpasswd-x\nRequire valid-user\n")
            case "write-settings":
                file = home / step["file"]
                file.parent.mkdir(exist_ok=True)
                lines = dict(re.findall(r"^\$(\w+) = '([^']*)';$", file.read_text() if file.exists() else "", re.M))
                lines |= dict(one.split(" = ", 1) for one in step["settings"])
                file.write_text("<?php\n" + "".join(f"${key} = '{value}';\n" for key, value in lines.items()))
            case "remove-leftovers":
                self.run("clear", site, "--leftovers", "--from", str(home), "--yes")
            case "confirm" | "forget" as word:
                self.run(word, step["subject"], "--yes")
            case "look-at-file" if "came along" in step["says"]:
                file = home / step["folder"] / step["file"]
                asks = ("AuthType", "AuthName", "AuthUserFile", "Require valid-user")
                lines = file.read_text().split("\n")
                file.write_text("\n".join(line for line in lines if not line.startswith(asks)))
            case "look-at-file":
                file = home / step["folder"] / step["file"]
                starts = step["says"].partition("lies in ")[2].partition(",")[0]
                file.unlink() if f"{home / starts}/" in file.read_text() else None
            case "mend":
                raise AssertionError(f"stopped once it was placed: {step['why']}")
            case _ if "wait" not in step:  # what the host does, or anybody in the files, as it is told to programs
                plain = {key: value for key, value in step.items() if key != "remedy"}
                record = msgspec.convert(plain, Step, dec_hook=lambda kind, value: kind(value))
                self.host.carry_out_one(record)
                if isinstance(record, AddHost):
                    self.also |= {host: record.root for host in record.also if record.root is not None}
                if isinstance(record, KeepFolder):
                    self.kept.append(record.folder)
                if isinstance(record, CopyFolder):
                    self.left += record.stays

    def put(self, title: str, folder: str) -> None:
        self.put_in = {folder: title}
        for name, text in TREES[APPLICATIONS[title]["id"]].items():
            (self.home / folder / name).parent.mkdir(parents=True, exist_ok=True)
            page = f'?><meta name="generator" content="{title}">' if name == "index.php" else ""
            (self.home / folder / name).write_text(text.replace("@VERSION@", "5.2.1") + page)

    def set_up(self, folder: str, step: dict[str, Any]) -> None:
        """What an application's own set-up writes."""
        mark, base = APPLICATIONS[self.put_in[folder]].get("config"), step.get("database")
        if mark and base:
            values = {
                mark.get("host"): "localhost",
                **{mark.get(key): base.get(key, "") for key in ("name", "user", "prefix")},
            }
            lines = "".join(f"${key} = '{value}';\n" for key, value in values.items() if key)
            (self.home / folder / mark["file"]).write_text(f"<?php\n{lines}")


def troubles_of(folder: Path, seed: int, kind: str, by: str) -> list[str] | None:
    """What went wrong with a wish on an account; None where the program says that there is no such place."""
    made = grown(seed)
    own = f'[account]\nip_addresses = ["{MACHINE}"]\ndeploy_by = "{by}"\n'
    tables = made.tables.replace("[account]\n", own, 1).replace('"tin"', '"copper"', 1)
    own += f'home = "{folder / "work/homes" / made.name}"\n' if kind in ("rehearse", "golive") and seed % 3 else ""
    work = Work(folder / "work").account(tables, made.name, DEMO_SETTINGS)
    lay_out_tree(work.homes / made.name, made.tree)
    work.survey(made.name)
    shutil.copytree(work.homes, folder / "before", symlinks=True)
    wisher = Wisher(work, made.name, random.Random(seed))
    before, files_before, hosts = found(work), tree_of(wisher.home), dict(wisher.hosts)
    begun = WISHES[kind](wisher, seed, tables)
    if begun is None:
        return None
    site, told = begun
    try:
        left = wisher.carry_out(site)
        troubles = [f"left: {one}" for one in left]
    except AssertionError as error:
        return [str(error)]
    told += " admin-unencrypted"  # which only shows once somebody has looked from outside
    troubles += [f"brings {rule} {at}" for rule, at in found(work) - before if rule not in told]
    worlds = [
        World(number, hosts={host: str(root) for host, root in roots.items() if "*" not in host}, home=home)
        for number, (roots, home) in enumerate([(hosts, folder / "before" / made.name), (wisher.hosts, wisher.home)])
    ]

    def is_told(host: str, path: str) -> bool:
        """Whether an address is one of the site's own, or one of what is kept, or stays while its name moves."""
        place = Folder(str(hosts[host])).below(path)
        named = [*wisher.kept, *(wisher.left if host.removeprefix("www.") == site else ())]
        is_kept = any(place == one or place.is_inside(one) for one in named)
        return is_kept or (kind != "move" and f"{host}/{path}".removeprefix("www.").startswith(site.rstrip("/")))

    troubles += lost(folder, worlds, is_told)
    if kind == "golive" and not (wisher.home / wisher.tried).exists():
        troubles.append("what was tried out is not live")
    if kind in ("retire", "move", "replace", "golive"):
        return troubles
    try:
        wisher.run("retire", site, "--yes")
        troubles += [f"left of taking back: {one}" for one in wisher.carry_out(site)]
        aside = wisher.home / "kettlepost-set-aside"
        for one in sorted(aside.iterdir(), reverse=True) if aside.is_dir() else ():
            wisher.run("putback", one.name, "--from", str(wisher.home), "--yes")
    except AssertionError as error:
        troubles.append(f"taking back: {error}")
    now = tree_of(wisher.home)
    if kind == "rehearse":  # whose lines that ask for a password whoever comes next finds and clears
        now.pop(f"{wisher.guarded}/.htaccess", None)
    return [
        *troubles,
        *(f"not as before: {path}" for path in now.keys() | files_before if now.get(path) != files_before.get(path)),
    ]


def install(place: str) -> Callable[[Wisher, int, str], tuple[str, str] | None]:
    """The wish for an application at some kind of place, the first that is weighed."""

    def begin(wisher: Wisher, seed: int, tables: str) -> tuple[str, str] | None:
        asked = [wisher.pick.choice(["quillmoor", "barrowshop", "ticketgrove"]), f"old{seed}.example"]
        asked += ["--prefer", place, "--name", "wish"]
        asked += ["--new-domain", f"wished{seed}.test"] if place == "domain" else []
        _, told, _ = forked(wisher.work, "weigh", *asked, "--format", "json")
        if forked(wisher.work, "place", *asked, "--as", "1", "--yes")[0] != 0:
            return None
        plan = (wisher.work.plan / "accounts" / f"{wisher.name}.toml").read_text()
        old, new = (re.findall('address = "([^"]+)"', text) for text in (tables, plan))
        (site,) = {one for one in new if new.count(one) > old.count(one)}
        return site if "/" in site else f"{site}/", json.dumps(json.loads(told)["places"][0])

    return begin


def retire(wisher: Wisher, _seed: int, _tables: str) -> tuple[str, str] | None:
    """The wish that something live goes."""
    account = wisher.work.layout().accounts[wisher.name].account
    live = [str(one.address) for one in account.installations if one.state == "live"]
    site = wisher.pick.choice(live) if live else ""
    if not site or forked(wisher.work, "retire", site, "--yes")[0] != 0:
        return None
    return site, "empty-root"  # as it is asked for


def move(wisher: Wisher, _seed: int, _tables: str) -> tuple[str, str] | None:
    """The wish that a domain leads to another root."""
    account = wisher.work.layout().accounts[wisher.name].account
    host = wisher.pick.choice(
        [one.name for one in account.domains if one.root is not None and one.kind != "primary"] or [""]
    )
    at = str(account.named[host].root) if host else ""
    along = " ".join(
        rule for rule, place in found(wisher.work) if Folder(place.partition(":")[0]).is_inside(at) or place == at
    )  # which moves along
    code, out, _ = forked(wisher.work, "domain", "root", host or "none", "moved-there", "--yes")
    return (str(host), along + out) if code == 0 else None


def replace(wisher: Wisher, seed: int, tables: str) -> tuple[str, str] | None:
    """The wish that another application comes where something live was."""
    begun = retire(wisher, seed, tables)
    if begun is None or wisher.carry_out(begun[0]):
        return None
    code, out, _ = forked(wisher.work, "place", wisher.pick.choice(["quillmoor", "barrowshop"]), begun[0], "--yes")
    return (begun[0], f"empty-root {out}") if code == 0 else None


def rehearse(wisher: Wisher, seed: int, _tables: str) -> tuple[str, str] | None:
    """The wish to try a change on a copy of something live, at a subdomain or in a folder below it."""
    account = wisher.work.layout().accounts[wisher.name].account
    live = [one.address for one in account.installations if one.state == "live"]
    if not live:
        return None
    of = wisher.pick.choice(live)
    at = wisher.pick.choice([[], [], [str(of.below("try")).rstrip("/")], [f"wished{seed}.test"]])
    code, out, _ = forked(wisher.work, "rehearse", str(of), *at, "--yes")
    if code != 0:
        return None
    layout = wisher.work.layout().accounts[wisher.name]
    entered = layout.account.installations[-1]
    wisher.closed, wisher.guarded = str(entered.address), str(layout.folder_of(entered))
    return wisher.closed, out


def golive(wisher: Wisher, _seed: int, _tables: str) -> tuple[str, str] | None:
    """The wish that what was tried out on a copy takes the place of what is live, whose configuration is as planned."""
    layout = wisher.work.layout().accounts[wisher.name]
    by_id = {one["id"]: one["title"] for one in APPLICATIONS.values() if one.get("config")}
    live = [one for one in layout.account.installations if one.state == "live" and one.database is not None]
    live = [one for one in live if one.application in by_id and layout.lies_now(one) in layout.contents.applications]
    if not live:
        return None
    of = wisher.pick.choice(live)
    folder, base = str(layout.lies_now(of)), msgspec.to_builtins(of.database)
    wisher.put_in = {folder: by_id[of.application]}
    wisher.set_up(folder, {"database": base | {"user": base.get("user") or base["name"]}})
    wisher.run("survey", wisher.name, "--from", str(wisher.home))
    if forked(wisher.work, "rehearse", str(of.address), "--yes")[0] != 0:
        return None
    layout = wisher.work.layout().accounts[wisher.name]
    copy = layout.account.installations[-1]
    wisher.closed, wisher.guarded = str(copy.address), str(layout.folder_of(copy))
    assert wisher.carry_out(wisher.closed) == []
    (wisher.home / wisher.guarded / "tried.txt").write_text("tried out")
    keeps = wisher.pick.choice(["none", "all"])
    words = ["move", str(copy.address), str(of.address), "--by", "files", "--keep-live", keeps, "--yes"]
    code, out, err = forked(wisher.work, *words)
    wisher.closed, wisher.tried = "", f"{folder}/tried.txt"
    assert code == 0 or "others have files" in err or "write its lines there first" in err, err
    return (str(of.address), out) if code == 0 else None


WISHES = {
    **{kind: install(kind) for kind in KINDS[:4]}, "retire": retire, "move": move, "replace": replace,
    "rehearse": rehearse, "golive": golive,
}  # fmt: skip


def found(work: Work) -> set[tuple[str, str]]:
    """What stops or is a risk."""
    return {(one.rule, one.at) for one in check(work.layout(), TODAY).findings if one.severity != "note"}


def tree_of(home: Path) -> dict[str, bytes]:
    return {
        str(one.relative_to(home)): one.read_bytes()
        for one in home.rglob("*")
        if one.is_file() and not one.is_symlink()
    }


def lost(folder: Path, worlds: list[World], is_told: Callable[[str, str], bool]) -> list[str]:
    """The addresses that people opened before and that show something else now, though nobody said so."""
    asked = list(addresses(worlds[0]))[:SHOWN]
    (folder / "server").mkdir(mode=0o755)
    with control_files.apache(folder / "server", worlds) as ports:
        before, after = ([shown(control_files.Asker(world, ports), *at) for at in asked] for world in worlds)
    return [
        f"lost {host}/{path}: {now[0]} {now[2]}"
        for (host, path), was, now in zip(asked, before, after, strict=True)
        if was[0] == 200 and now != was and not is_told(host, path)
    ]


def shown(ask: control_files.Asker, host: str, path: str) -> tuple[int, str, str]:
    """What an address shows, or the one to which it sends visitors for good."""
    page = ask(host, path)
    sent = re.match("https?://([^/]+)/(.*)", page[2]) if page[0] == 301 else None
    return ask(sent[1], unquote(sent[2])) if sent is not None else page
