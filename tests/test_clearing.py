"""Clearing: what goes and what stays, and that all of it comes back to the byte, wherever it is cut off."""

from __future__ import annotations

import contextlib
import getpass
import hashlib
import json
import os
import random
import re
import shlex
import shutil
import signal
import stat
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from importlib.resources import files
from pathlib import Path
from typing import Any

import pytest
import rtoml
from hypothesis import given
from hypothesis import strategies as st

import webservers
from conftest import Work, lacking, run
from file_servers import NOBODY, PASSWORD, SERVERS, file_server
from kettlepost.core.clearing import Manifest, Measure
from kettlepost.core.errors import InputError, KettlepostError, OutsideError
from kettlepost.core.survey import SET_ASIDE, encode_survey
from kettlepost.demo import lay_out as lay_out_demo
from kettlepost.sources import FileAccess, Refusal, Secrets, Trouble
from kettlepost.sources.file_access import Listed
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.set_aside import move as setting_aside
from kettlepost.workspace.set_aside.listing import finish, put_back, set_asides
from kettlepost.workspace.set_aside.prepare import PreparedClearing, clearing
from kettlepost.workspace.set_aside.store import SetAsideStore
from kettlepost.workspace.surveys import survey
from servers import certificate, ftp_server, sftp_server

WELCOME = "<title>Welcome to nginx!</title><h1>Welcome to nginx!</h1><p>If you see this page, the nginx web server is successfully installed and working. Further configuration is required.</p>"
PAGE = "<h1>Rides</h1><p>We ride on Sundays from ten to four, by the river and back again; tea is served after.</p>"
PLAN = """
[[domain]]
name = "cycles.example"
kind = "primary"
root = "public"
[[domain]]
name = "club.example"
kind = "addon"
root = "public/club"
[[installation]]
application = "barrowshop"
address = "cycles.example"
state = "planned"
"""
TREE = {
    "public/index.html": WELCOME,
    "public/.htaccess": "DirectoryIndex start.html\nRedirect 302 /x https://b.example/\n",
    "public/.DS_Store": "x",
    "public/notes.txt": "call the printer",
    "public/gallery/index.html": PAGE,
    "public/gallery/photos/1.jpg": "jpeg",
    "public/.well-known/acme-challenge/token": "t",
    "public/club/index.html": PAGE,
    "public/old/": "",
    "other/keep.txt": "kept",
}
MADE_UP = rtoml.loads(files("kettlepost").joinpath("demo/trees/applications.toml").read_text("utf-8"))
Picture = dict[bytes, tuple[Any, ...]]


def release(application: str, folder: str = "") -> dict[str, str]:
    """The files of a made-up application, as the demo lays them out."""
    return {f"{folder}/{name}".lstrip("/"): text for name, text in MADE_UP[application].items()}


def picture(folder: Path, without: str = SET_ASIDE) -> Picture:
    """Everything in a folder: kind, mode, times of what is no folder, contents or target; names in whatever bytes."""
    found: Picture = {}
    base = os.fsencode(folder)
    for around, folders, names in os.walk(base):
        if around == base:
            folders[:] = [name for name in folders if name != without.encode()]
        for name in folders + names:
            path = os.path.join(around, name)
            about = os.lstat(path)
            kind = stat.S_IFMT(about.st_mode)
            inside: Any = os.readlink(path) if kind == stat.S_IFLNK else None
            if kind == stat.S_IFREG:
                with open(path, "rb") as file:
                    inside = hashlib.sha256(file.read()).hexdigest()
            when = 0 if kind == stat.S_IFDIR else about.st_mtime_ns
            found[os.path.relpath(path, base)] = (kind, stat.S_IMODE(about.st_mode), when, inside)
    return found


@pytest.fixture
def laid(work: Work) -> Work:
    work.account(PLAN + '[account]\nname = "millbrook"\n' if "[account]" in PLAN else PLAN).there(TREE)
    (work.homes / "millbrook/public/link").symlink_to("../other")
    return work


def prepared(work: Work, measure: str = "blocking", source: str | None = None, **options: Any) -> PreparedClearing:
    plan = PlanFolder(work.plan)
    return clearing(plan, "cycles.example", measure=measure, source=source or str(work.homes / "millbrook"), **options)


def names(selection: Any) -> set[str]:
    return {taken.path for taken in selection.takes}


def test_each_measure_takes_what_it_says_and_never_what_others_use(laid: Work) -> None:
    home = laid.homes / "millbrook"
    first = prepared(laid)
    assert names(first.selection) == {"public/index.html", "public/.htaccess"}
    second = prepared(laid, "leftovers")
    assert names(second.selection) == names(first.selection) | {"public/.DS_Store", "public/old"}
    whole = prepared(laid, "everything")
    assert names(whole.selection) == names(second.selection) | {"public/notes.txt", "public/gallery", "public/link"}
    told = {(one.path, one.kind.value) for taken in whole.selection.takes for one in taken.content}
    assert ("public/gallery", "site") in told
    assert ("public/gallery/photos", "media") in told
    before = picture(home)
    done = whole.commit(with_digests=True)
    left = {path for path in before if path.startswith(b"public/") and path in picture(home)}
    assert left == {b"public/.well-known", b"public/.well-known/acme-challenge", b"public/club",
                    b"public/.well-known/acme-challenge/token", b"public/club/index.html"}  # fmt: skip
    assert done.outcome.manifest is not None
    assert all(i.sha256 for i in done.outcome.manifest.items if i.kind == "file")
    assert [
        row.held.holds for row in set_asides(PlanFolder(laid.plan), ["millbrook"], source=str(home)) if row.held
    ] == [True]
    put_back(PlanFolder(laid.plan), done.number, source=str(home))
    assert picture(home) == before
    assert not (home / SET_ASIDE).exists()
    assert not list((laid.plan / ".kettlepost/set-aside").iterdir())


@pytest.mark.parametrize(
    ("tables", "tree", "stays"),
    [
        ("", {}, {}),
        ('[[installation]]\napplication = "quillmoor"\naddress = "cycles.example/news"\n',
         release("quillmoor", "public/news"), {"public/news": "INSTALLATION"}),
        ('[[path_alias]]\naddress = "cycles.example/files"\nfolder = "public/store"\n', {"public/store/a.pdf": "x"},
         {"public/store": "ALIAS"}),
        ("", {"public/mail/cur/": "", "public/mail/new/": "", "public/mail/tmp/": ""}, {"public/mail": "MAIL"}),
        ('[[domain]]\nname = "soon.example"\nkind = "addon"\nroot = "public/soon"\nstate = "planned"\n',
         {"public/soon/index.html": PAGE}, {"public/soon": "ROOT"}),
    ],
)  # fmt: skip
def test_what_others_use_stays_whatever_is_asked(
    work: Work, tables: str, tree: dict[str, str], stays: dict[str, str]
) -> None:
    work.account(PLAN + tables).there({**TREE, **tree})
    (work.homes / "millbrook/elsewhere").symlink_to("public/gallery")
    work.survey()
    found = {one.path: one.why.name for one in prepared(work, "everything").selection.stays}
    wanted = {"public/club": "ROOT", "public/.well-known": "CHALLENGES", "public/gallery": "LINKED", **stays}
    assert wanted.items() <= found.items()


def test_what_keeps_visitors_out_stays_as_long_as_anything_does(work: Work) -> None:
    shut = {"public/.htaccess": "AuthType Basic\nAuthName x\nAuthUserFile /x/.htpasswd\nRequire valid-user\n"}
    work.account(PLAN).there({**TREE, **shut})
    for measure in ("blocking", "leftovers", "everything"):
        found = prepared(work, measure).selection
        assert "public/.htaccess" not in names(found)
        assert ("public/.htaccess", "SHUTS") in {(one.path, one.why.name) for one in found.stays}
    alone = PLAN.replace('root = "public/club"', 'root = "club"')
    work.account(alone).survey()
    shutil.rmtree(work.homes / "millbrook/public/club")
    for lines in (shut["public/.htaccess"], "AddHandler application/x-httpd-php .php\n", "# nothing\n"):
        work.there({"public/.htaccess": lines})
        found = prepared(work, "everything").selection
        stays = {(one.path, one.why.name) for one in found.stays}
        assert ("public/.htaccess" in names(found)) == (("public/.htaccess", "NEEDED") not in stays) == ("#" in lines)


def test_of_a_live_installation_only_what_is_known_for_a_leftover_goes(work: Work) -> None:
    tables = PLAN.replace('state = "planned"', 'state = "live"')
    shop = {f"public/{name}": text for name, text in release("barrowshop").items()}
    copy = {f"public/shop-old/{name}": text for name, text in release("barrowshop").items()}
    shop["public/barrow/config.php"] = "<?php const STALL_BASE = 'mill_shop'; const STALL_MARK = 'bs4_';"
    work.account(tables).there({**TREE, **shop, **copy, "public/setup.php": "<?php", "public/uploads/1.jpg": "x"})
    found = names(prepared(work, "everything").selection)
    assert found == {"public/index.html", "public/.DS_Store", "public/setup.php", "public/shop-old"}
    assert names(prepared(work).selection) == {"public/index.html"}


def test_what_is_retired_goes_with_its_database_named(work: Work) -> None:
    tables = PLAN.replace('state = "planned"', 'state = "retired"')
    shop = {f"public/{name}": text for name, text in release("barrowshop").items()}
    config = "<?php const STALL_BASE = 'mill_shop'; const STALL_MARK = 'bs4_';"
    work.account(tables).there({**TREE, **shop, "public/barrow/config.php": config, "public/media/a.jpg": "x"})
    taken = prepared(work, "leftovers").selection
    assert {"public/barrow", "public/media", "public/index.html"} <= names(taken)
    told = {one.kind.name for each in taken.takes for one in each.content}
    assert "MEDIA" in told
    assert "public/club" not in names(taken)


def test_nothing_is_taken_where_it_could_be_reached_or_is_anothers(work: Work) -> None:
    shared = PLAN + '[[domain]]\nname = "twin.example"\nkind = "addon"\nroot = "public"\n'
    work.account(shared).there(TREE)
    assert prepared(work).selection.takes == ()
    assert "twin.example" in prepared(work).refused[0]
    at_home = PLAN + '[[domain]]\nname = "all.example"\nkind = "addon"\nroot = ""\n'
    work.account(at_home)
    assert "all.example" in prepared(work).refused[0]
    work.account(PLAN)
    for folder in ("", SET_ASIDE):
        with pytest.raises(InputError):
            clearing(PlanFolder(work.plan), account="millbrook", folder=folder, source=str(work.homes / "millbrook"))


class Dying:
    """Files that are out of reach from the n-th call on, as after a kill or a lost connection; `failing` refuses some."""

    def __init__(self, access: FileAccess, calls: int = 1 << 30, failing: int = 0):
        self._access, self.calls, self.failing, self.renames = access, calls, failing, 0
        self.name, self.by_handles, self.unkept = access.name, access.by_handles, access.unkept
        self.copies_itself, self.blind = access.copies_itself, "-"

    def _call(self) -> None:
        self.calls -= 1
        if self.calls < 0:
            raise OutsideError("the connection is lost")

    def __getattr__(self, name: str) -> Any:
        done = getattr(self._access, name)

        def call(*args: Any) -> Any:
            self._call()
            return done(*args)

        return call

    def list_all(self, folders: Any) -> Iterator[Any]:
        for folder in folders:
            self._call()
            if folder == self.blind:
                yield Listed(folder, (), Trouble(Refusal.REFUSED, "not now"))
                continue
            yield from self._access.list_all([folder])

    def rename_all(self, renames: Any) -> Iterator[Any]:
        for rename in renames:
            self._call()
            self.renames += 1
            if self.failing and self.renames % self.failing == 0:
                yield rename, Trouble(Refusal.REFUSED, "it was told to")
                continue
            yield from self._access.rename_all([rename])
            self._call()

    def copy_all(self, copies: Any) -> Iterator[Any]:
        for one in copies:
            self._call()
            yield from self._access.copy_all([one])

    def close(self) -> None:
        self._access.close()


def cut_off(ready: PreparedClearing, calls: int, back_from: Manifest | None = None) -> bool:
    """Clear, or put back, with files that are lost after so many calls; whether that was before the end."""
    assert ready.access is not None
    dying = Dying(ready.access, calls)
    try:
        if back_from:
            setting_aside.put_back(SetAsideStore(dying), back_from)
        else:
            setting_aside.set_aside(SetAsideStore(dying), ready.manifest())
    except OutsideError:
        return True
    return False


def test_cut_off_at_any_call_it_is_finished_or_taken_back(laid: Work) -> None:
    home = laid.homes / "millbrook"
    before, whole = picture(home), prepared(laid, "everything")
    assert whole.access is not None
    store, calls = SetAsideStore(whole.access), 0
    while True:
        was_cut = cut_off(whole, calls)
        for number in store.ids():
            if calls % 2:
                assert number == whole.number
                setting_aside.finish(store, whole.manifest())
        aside = picture(home)
        if any(home.glob(f"{SET_ASIDE}/*/manifest.jsonl")):
            assert b"public/notes.txt" not in aside
            assert b"public/club/index.html" in aside
            later = prepared(laid, "everything")
            cut_off(later, calls, whole.manifest())
            later.close()
        for number in store.ids():
            assert number == whole.number
            setting_aside.put_back(store, whole.manifest())
        assert picture(home) == before, calls
        assert not [path for path in home.glob(f"{SET_ASIDE}/*") if path.name != "at-work"]
        if not was_cut:
            break
        calls += 1
    assert calls > 30


def test_what_broke_off_is_told_and_stops_the_next_clearing(laid: Work) -> None:
    home, where = laid.homes / "millbrook", ("--from", str(laid.homes / "millbrook"))
    before, ready = picture(home), prepared(laid, "everything")
    assert cut_off(ready, 20)
    shutil.rmtree(home / SET_ASIDE / "at-work", ignore_errors=True)
    refused = laid.run("clear", "cycles.example", "--yes", *where)
    assert refused.returncode == 2
    assert f"--finish {ready.number}" in refused.stderr
    assert "half set aside" in laid.run("set-asides", "millbrook", *where).stdout
    assert laid.run("discard", ready.number, "--yes", "--now", "--account", "millbrook", *where).returncode == 2
    assert laid.run("clear", "--finish", ready.number, "--account", "millbrook", "--yes", *where).returncode == 0
    assert laid.run("discard", ready.number, "--yes", *where).returncode == 2  # kept for thirty days
    refused = laid.run("putback", ready.number, *where)  # of which nothing but the home knows
    assert (refused.returncode, "public/notes.txt" in refused.stderr) == (2, True)
    assert laid.run("putback", ready.number, "--yes", "--replace", *where).returncode == 0
    assert picture(home) == before


def test_a_refused_renaming_stops_that_file_only(laid: Work) -> None:
    home = laid.homes / "millbrook"
    for n in range(40):
        (home / f"public/page{n}.txt").write_text(str(n))
    before, whole = picture(home), prepared(laid, "everything")
    assert whole.access is not None
    number = len(whole.selection.takes)
    done = setting_aside.set_aside(SetAsideStore(Dying(whole.access, failing=3)), whole.manifest())
    assert 10 <= len(done.left) < number
    assert len(done.moved) + len(done.left) == number
    for one in done.left:
        assert os.fsencode(one.path) in picture(home)
    setting_aside.put_back(SetAsideStore(whole.access), whole.manifest())
    assert picture(home) == before


def test_what_changes_or_comes_in_between_stays_and_is_told(laid: Work) -> None:
    home = laid.homes / "millbrook"
    whole = prepared(laid, "everything")
    (home / "public/notes.txt").write_text("call the printer on Monday")
    (home / "public/gallery/new.txt").write_text("came")
    (home / "public/gallery/photos/1.jpg").write_text("another")
    (home / "public/extra.txt").write_text("came")
    done = whole.commit()
    assert {one.path for one in done.outcome.left} == {
        "public/notes.txt", "public/gallery/new.txt", "public/gallery/photos/1.jpg"}  # fmt: skip
    for path, text in {
        "notes.txt": "Monday",
        "gallery/new.txt": "came",
        "gallery/photos/1.jpg": "another",
        "extra.txt": "came",
    }.items():
        assert text in (home / "public" / path).read_text()
    put_back(PlanFolder(laid.plan), done.number, source=str(home))
    assert (home / "public/gallery/index.html").read_text() == PAGE


def test_single_paths_come_back_and_nothing_new_is_written_over(laid: Work) -> None:
    home = laid.homes / "millbrook"
    before = picture(home)
    done, plan, where = prepared(laid, "everything").commit(), PlanFolder(laid.plan), str(home)
    put_back(plan, done.number, ["public/gallery/photos/1.jpg"], source=where)
    assert (home / "public/gallery/photos/1.jpg").read_text() == "jpeg"
    (home / "public/index.html").write_text("new")
    with pytest.raises(InputError, match=r"public/index\.html"):
        put_back(plan, done.number, source=where)
    put_back(plan, done.number, is_beside=True, source=where, replaces=True)
    beside = home / f"public/index.{done.number}.html"
    assert (beside.read_text(), (home / "public/index.html").read_text()) == (WELCOME, "new")
    os.replace(beside, home / "public/index.html")
    assert picture(home) == before


ODD = st.one_of(
    st.binary(min_size=1, max_size=6).filter(lambda raw: not {0, 47} & set(raw) and raw not in (b".", b"..")),
    st.sampled_from(
        [b"index.html", b".htaccess", b"a", b"b", b"caf\xc3\xa9", b"\xff\xfe", b"with space", b"-n", b"x" * 200]
    ),
)
THING = st.tuples(
    st.lists(ODD, min_size=1, max_size=4), st.sampled_from(["file", "file", "file", "folder", "link", "fifo"]),
    st.binary(max_size=20), st.sampled_from([0o644, 0o600, 0o755, 0o444, 0o4711]), st.integers(0, 4 * 10**18),
)  # fmt: skip


def lay_out(base: bytes, things: list[Any]) -> None:
    for parts, kind, content, mode, when in things:
        path = os.path.join(base, *parts)
        with contextlib.suppress(OSError):
            os.makedirs(os.path.dirname(path), exist_ok=True)
            if kind == "folder":
                os.mkdir(path, mode | 0o700)
            elif kind == "link":
                os.symlink(content.replace(b"\0", b"x") or b"x", path)
            elif kind == "fifo":
                os.mkfifo(path)
            else:
                with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode), "wb") as file:
                    file.write(content)
                os.chmod(path, mode)
                os.utime(path, ns=(when, when))


@given(things=st.lists(THING, max_size=12), measure=st.sampled_from(list(Measure)), data=st.data())
def test_any_tree_comes_back_to_the_byte(
    open_folder: Path, things: list[Any], measure: Measure, data: st.DataObject
) -> None:
    with tempfile.TemporaryDirectory(dir=open_folder) as scratch:
        work = Work(Path(scratch)).account(PLAN)
        home = work.homes / "millbrook"
        (home / "public/club").mkdir(parents=True)
        lay_out(os.fsencode(home / "public"), things)
        lay_out(os.fsencode(home / "public/club"), things[:3])
        lay_out(os.fsencode(home / "beside"), things[:4])
        before = picture(home)
        ready = prepared(work, measure.value)
        done = ready.commit(with_digests=data.draw(st.booleans()))
        after = picture(home)
        assert not done.outcome.left
        for path, what in before.items():  # what others have, and everything outside, is untouched
            if not path.startswith(b"public/") or path.startswith(b"public/club"):
                assert after[path] == what
        taken = {os.fsencode(taken.path) for taken in ready.selection.takes}
        gone = before.keys() - after.keys()
        assert gone == {path for path in before if any(path == top or path.startswith(top + b"/") for top in taken)}
        if done.outcome.manifest is not None:
            rows = list(set_asides(PlanFolder(work.plan), ["millbrook"], with_digests=True, source=str(home)))
            assert [row.held is not None and row.held.holds for row in rows] == [True]
            put_back(PlanFolder(work.plan), done.number, source=str(home))
        assert picture(home) == before
        assert not (home / SET_ASIDE).exists()


RELEASES = [release("barrowshop"), release("quillmoor"), {"index.html": PAGE}, {"index.html": WELCOME}, {"a.txt": "x"},
            {"pages/index.html": PAGE, "x.sql": "INSERT"}, {".htaccess": "Deny from all\n"}, {}]  # fmt: skip
PLACES = [
    "public",
    "public/club",
    "public/old",
    "public/news",
    "public/news/old",
    "shop",
    "shop-old",
    "backup/shop",
    "beside",
]


@given(
    st.lists(st.tuples(st.sampled_from(PLACES), st.sampled_from(RELEASES)), max_size=7),
    st.lists(st.tuples(st.sampled_from(PLACES), st.sampled_from(RELEASES), st.booleans()), min_size=1, max_size=3),
    st.sampled_from([*PLACES, "public/club/sub", "backup"]),
)
def test_a_part_that_is_looked_at_again_makes_the_whole(open_folder: Path, first: Any, then: Any, only: str) -> None:
    with tempfile.TemporaryDirectory(dir=open_folder) as scratch:
        work = Work(Path(scratch)).account(PLAN)
        home = work.homes / "millbrook"
        home.mkdir(parents=True)
        for place, files in first:
            for name, text in files.items():
                (home / place / name).parent.mkdir(parents=True, exist_ok=True)
                (home / place / name).write_text(text)
        (home / only).mkdir(parents=True, exist_ok=True)
        survey(PlanFolder(work.plan), "millbrook", str(home), taken="2026-11-20T00:00:00Z")
        for place, files, goes in then:
            if not (place == only or place.startswith(f"{only}/")):
                continue
            if goes:
                shutil.rmtree(home / place, ignore_errors=True)
                continue
            for name, text in files.items():
                (home / place / name).parent.mkdir(parents=True, exist_ok=True)
                (home / place / name).write_text(text)
        part = survey(PlanFolder(work.plan), "millbrook", str(home), taken="2026-11-21T00:00:00Z", only=only)
        kept = PlanFolder(work.plan).file_names("millbrook")
        whole = survey(PlanFolder(work.plan), "millbrook", str(home), taken="2026-11-21T00:00:00Z")

        def bare(one: Any) -> bytes:
            one.later, one.names, one.taken, one.came = [], "", "", []
            return encode_survey(one)

        assert kept is not None
        assert part.names == kept.digest
        after = PlanFolder(work.plan).file_names("millbrook")
        assert after is not None
        assert all(kept.of(f.folder) == after.of(f.folder) for f in whole.folders)
        assert bare(part) == bare(whole)


def there_and_back(
    work: Work,
    source: str,
    secrets: Secrets,
    kept: Callable[[Picture], Any] = lambda found: found,
    left: list[str] | None = None,
) -> None:
    """Set everything of a home aside that may be, over a server, and put it back."""
    home = work.homes / "millbrook"
    before = picture(home)
    ready = prepared(work, "everything", source, secrets=secrets)
    assert "public/notes.txt" in names(ready.selection)
    assert not ready.by_handles
    assert ready.unkept
    done = ready.commit(with_digests=True)
    assert [one.path for one in done.outcome.left] == (left or [])
    assert b"public/notes.txt" not in picture(home)
    [row] = set_asides(PlanFolder(work.plan), ["millbrook"], True, True, source, secrets)
    assert row.held is not None
    assert row.held.holds
    put_back(PlanFolder(work.plan), done.number, source=source, secrets=secrets)
    assert kept(picture(home)) == kept(before)


@pytest.mark.proof
def test_sftp_and_ftps_do_the_same(laid: Work, tmp_path: Path) -> None:
    home = laid.homes / "millbrook"
    (home / "public/caf\xe9 \u2603.txt").write_text("odd")
    with sftp_server(tmp_path) as login:
        secrets = Secrets(lambda _: None, login.key, login.known_hosts)
        there_and_back(laid, f"sftp://{getpass.getuser()}@127.0.0.1:{login.port}{home}", secrets)
    trusted = certificate(tmp_path, "localhost")
    with ftp_server(home, trusted, may="elradfmwMT") as port:
        there_and_back(
            laid, f"ftps://webkeeper@localhost:{port}/", Secrets(lambda _: "points", certificates=trusted)
        )  # fmt: skip


@pytest.mark.proof
@pytest.mark.parametrize("name", SERVERS)
def test_other_servers_do_the_same(laid: Work, name: str) -> None:
    home = laid.homes / "millbrook"
    (home / "public/caf\xe9 \u2603.txt").write_text("odd")
    subprocess.run(["chown", "-hR", str(NOBODY), str(home)], check=True)
    for above in home.parents:
        above.chmod(above.stat().st_mode | 0o555)
    # the one tells links for what they lead to, the other brings none back that leads nowhere
    left = ["public/link"] if name in ("ProFTPD by SFTP", "vsftpd") else []
    with file_server(name, laid.homes) as site:
        secrets = Secrets(lambda _: PASSWORD, None, site.known_hosts, site.certificate)
        there_and_back(laid, f"{site.address}millbrook", secrets, left=left)


@pytest.mark.proof
@pytest.mark.parametrize("remote", [False, True])
def test_killed_at_any_moment_nothing_is_lost(laid: Work, tmp_path: Path, remote: bool) -> None:
    home = laid.homes / "millbrook"
    for n in range(60):
        (home / f"public/page{n}.txt").write_text(str(n))
    with sftp_server(tmp_path) if remote else contextlib.nullcontext() as login:
        source, secrets = str(home), Secrets(lambda _: None)
        if login is not None:
            source = f"sftp://{getpass.getuser()}@127.0.0.1:{login.port}{home}"
            secrets = Secrets(lambda _: None, login.key, login.known_hosts)
        killing = Killing(laid, source, secrets)
        while killing.killed < (90 if remote else 150):
            killing.round()


class Killing:
    """Clearings and what puts them back, each killed at some moment and brought to an end afterwards."""

    def __init__(self, work: Work, source: str, secrets: Secrets):
        self.work, self.source, self.secrets, self.killed = work, source, secrets, 0
        self.home = work.homes / "millbrook"
        self.before, self.pick = picture(self.home), random.Random(20261126)
        self.took = _time_of(self.set_aside)

    def set_aside(self) -> None:
        with contextlib.suppress(KettlepostError):
            prepared(self.work, "everything", self.source, secrets=self.secrets).commit()

    def back(self) -> None:
        for number in self.ids():
            put_back(PlanFolder(self.work.plan), number, (), False, "millbrook", self.source, self.secrets)

    def ids(self) -> list[str]:
        return sorted(path.name for path in self.home.glob(f"{SET_ASIDE}/2*"))

    def round(self) -> None:
        if not self.ids():
            self.killed += _killed(self.set_aside, self.pick.uniform(0.3, 1.1) * self.took)
        if self.ids() and self.pick.random() < 0.5:
            self.killed += _killed(self.back, self.pick.uniform(0.1, 1.0) * self.took)
        self.see_that_all_is_there()
        for number in self.ids() if self.pick.random() < 0.4 else ():
            with contextlib.suppress(InputError):
                finish(PlanFolder(self.work.plan), number, "millbrook", self.source, self.secrets)
        if self.pick.random() < 0.7:
            self.back()
            assert picture(self.home) == self.before

    def see_that_all_is_there(self) -> None:
        """Each file is where it was, or set aside: never both, and never neither."""
        there = picture(self.home)
        kept = {path: what for one in self.home.glob(f"{SET_ASIDE}/*/files") for path, what in picture(one).items()}
        for path, what in self.before.items():
            if stat.S_ISREG(what[0]):
                assert (there.get(path) == what) != (kept.get(path) == what), path


def _time_of(child: Callable[[], None]) -> float:
    begun = time.monotonic()
    process = _begun(child)
    os.waitpid(process, 0)
    return time.monotonic() - begun


def _begun(child: Callable[[], None]) -> int:
    process = os.fork()
    if not process:
        try:
            child()
        finally:
            os._exit(0)
    return process


def _killed(child: Callable[[], None], after: float) -> bool:
    """Whether a child had to be killed after so many seconds."""
    process = _begun(child)
    time.sleep(after)
    os.kill(process, signal.SIGKILL)
    return os.WIFSIGNALED(os.waitpid(process, 0)[1])


@pytest.mark.parametrize("seconds", [pytest.param(1.5), pytest.param(15, marks=pytest.mark.proof)])
def test_a_neighbour_who_swaps_a_folder_for_a_link_gains_nothing(work: Work, seconds: float) -> None:
    tables = PLAN.replace('root = "public/club"', 'root = "public/deep/club"')
    work.account(tables).there(
        {"public/deep/club/index.html": PAGE, "public/deep/a.txt": "a", "other/a.txt": "private", "other/b.txt": "b"}
    )
    home = work.homes / "millbrook"
    swapper = f"""
import os
while True:
    os.rename({str(home / "public/deep")!r}, {str(home / "away")!r})
    os.symlink({str(home / "other")!r}, {str(home / "public/deep")!r})
    os.unlink({str(home / "public/deep")!r})
    os.rename({str(home / "away")!r}, {str(home / "public/deep")!r})
"""
    outside, until, done = picture(home / "other"), time.monotonic() + seconds, 0
    with subprocess.Popen([sys.executable, "-c", swapper]) as neighbour:
        try:
            while time.monotonic() < until:
                with contextlib.suppress(KettlepostError):
                    done += prepared(work, "everything").commit().outcome.manifest is not None
                for row in list(set_asides(PlanFolder(work.plan), ["millbrook"], source=str(home))):
                    with contextlib.suppress(KettlepostError):
                        put_back(PlanFolder(work.plan), row.number, account="millbrook", source=str(home))
                assert picture(home / "other") == outside
        finally:
            neighbour.kill()
    assert picture(home / "other") == outside


def test_a_full_disk_moves_nothing_or_all_that_it_says(work: Work, tmp_path: Path) -> None:
    small = tmp_path / "small"
    small.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=256k", "tmpfs", str(small)], check=False).returncode:
        lacking("the right to mount a file system")
    try:
        work.account(PLAN)
        work.homes = small
        work.there({path: text for path, text in TREE.items() if path != "public/.well-known/acme-challenge/token"})
        home = small / "millbrook"
        (home / "filler").write_bytes(b"")
        for room in range(0, 60_000, 4096):
            before = picture(home)
            with open(home / "filler", "wb", buffering=0) as file, contextlib.suppress(OSError):
                while file.write(b"x" * 4096):
                    pass
            os.truncate(home / "filler", max((home / "filler").stat().st_size - room, 0))
            with contextlib.suppress(OutsideError):
                prepared(work, "everything").commit()
            os.truncate(home / "filler", 0)
            for row in list(set_asides(PlanFolder(work.plan), ["millbrook"], source=str(home))):
                assert row.state is not None
                put_back(PlanFolder(work.plan), row.number, account="millbrook", source=str(home))
            now = picture(home)
            before.pop(b"filler"), now.pop(b"filler")
            assert now == before, room
    finally:
        subprocess.run(["umount", "-l", str(small)], check=True)


def test_two_at_once_on_one_folder(laid: Work) -> None:
    first, second = prepared(laid, "everything"), prepared(laid, "everything")
    before = picture(laid.homes / "millbrook")
    assert second.access is not None
    with pytest.raises(InputError, match="another"):
        _both(first, second)
    [row] = set_asides(PlanFolder(laid.plan), ["millbrook"], source=str(laid.homes / "millbrook"))
    put_back(PlanFolder(laid.plan), row.number, source=str(laid.homes / "millbrook"))
    assert picture(laid.homes / "millbrook") == before


def _both(first: PreparedClearing, second: PreparedClearing) -> None:
    asked: list[Any] = []
    first.commit(progress=lambda *_: asked or asked.append(second.commit()))


def test_a_real_server_shows_that_it_is_gone_and_what_stayed(open_folder: Path) -> None:
    if not webservers.installed():
        lacking("apache2 or nginx")
    laid = lay_out_demo(open_folder / "demo")
    home, where = laid.home("harrowgate"), ("--from", str(laid.home("harrowgate")), "--plan", str(laid.plan))
    for path in (open_folder / "demo", laid.hosting, home, home / "spoke"):
        path.chmod(0o755)
    site = webservers.Site(0)
    site.roots = {"spokeandsaddle.example": "spoke", "wheelclub.example": "spoke/club"}
    outside = {path: what for path, what in picture(home).items() if not path.startswith(b"spoke")}

    def shown() -> list[str]:
        asked = (("spokeandsaddle.example", ""), ("spokeandsaddle.example", "goods/x"), ("spokeandsaddle.example", "gallery/"),
                 ("wheelclub.example", ""))  # fmt: skip
        return [" ".join(webservers.ask(port, host, path)) for host, path in asked]

    (open_folder / "server").mkdir()
    with webservers.apache(open_folder / "server", [(site, home)]) as port:
        before = shown()
        done = run("clear", "spokeandsaddle.example", "--yes", "--format", "json", *where)
        assert done.returncode == 0, done.stderr
        after = shown()
        assert "Welcome to nginx" in before[0]
        assert before[1] == "nothing 302"
        assert after[:2] == ["nothing 404", "nothing 404"]
        assert after[2:] == before[2:]
        found = {one["rule"] for one in json.loads(run("check", "--account", "harrowgate", "--format", "json", *where[2:]).stdout)["findings"] if one["at"] == "spoke"}  # fmt: skip
        assert found == {"folder-occupied"}
        assert {path: what for path, what in picture(home).items() if not path.startswith(b"spoke")} == outside
        assert run("putback", json.loads(done.stdout)["number"], *where).returncode == 0
        assert shown() == before


def test_the_advice_of_the_check_is_followed_to_the_letter(tmp_path: Path) -> None:
    laid = lay_out_demo(tmp_path / "demo")
    plan, names_ = ("--plan", str(laid.plan)), ("millbrook", "harrowgate", "pennywharf", "saltcote")
    for name in names_:
        run("survey", name, "--from", str(laid.home(name)), "--remember", *plan)

    def found() -> dict[tuple[str, str], Any]:
        told = json.loads(run("check", "--format", "json", *plan).stdout)["findings"]
        return {(one["rule"], one["at"]): one for one in told}

    first, followed = found(), 0
    for key, one in first.items():
        for way in one["ways_out"]:
            command = re.search(r": kettlepost (clear .*)$", way["words"])
            if command is None:
                continue
            pictures = {name: picture(laid.home(name)) for name in names_}
            done = run(*shlex.split(command[1]), "--yes", "--format", "json", *plan)
            assert done.returncode == 0, (command[1], done.stderr)
            told, after = json.loads(done.stdout), found()
            assert key not in after, command[1]
            known = {told for other in first.values() for told in (other["title"], *other["follows"])}
            assert {other["title"] for other in after.values() if other["severity"] == "stop"} <= known, command[1]
            for row in set_asides(PlanFolder(laid.plan)):
                put_back(PlanFolder(laid.plan), row.number)
            assert {name: picture(laid.home(name)) for name in names_} == pictures, told
            followed += 1
    assert followed >= 6


def test_the_script_does_the_same_and_back(laid: Work, tmp_path: Path) -> None:
    home, odd = laid.homes / "millbrook", os.fsdecode(b"public/\xff \xc3\xa9'$(touch x)\n-n")
    (home / odd).write_text("odd")
    before = picture(home)
    laid.survey()
    listed = laid.run("clear", "cycles.example", "--list").stdout
    assert "Move public/.htaccess into kettlepost-set-aside/" in listed
    assert "To put it back" in listed
    done = laid.run("clear", "cycles.example", "--everything", "--script", "--from", str(home))
    assert done.returncode == 0, done.stderr
    (tmp_path / "clear.sh").write_text(done.stdout)

    def sh(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            ["sh", str(tmp_path / "clear.sh"), *words], cwd=home, capture_output=True, text=True, check=False
        )

    assert sh().returncode == 0
    aside = picture(home)
    taken = names(prepared(laid, "everything").selection)
    assert (taken, os.fsencode(odd) in aside, b"public/club/index.html" in aside) == (set(), False, True)
    (home / "public/index.html").write_text("new")
    blocked = sh("back")
    assert (blocked.returncode, "public/index.html: something is there already" in blocked.stderr) == (1, True)
    (home / "public/index.html").unlink()
    assert sh("back").returncode == 0
    assert picture(home) == before
    (home / "public/notes.txt").write_text("longer than it was")
    changed = sh()
    assert (changed.returncode, "another size" in changed.stderr, (home / "public/notes.txt").exists()) == (
        1,
        True,
        True,
    )


def test_a_packed_copy_is_fetched_and_compared(laid: Work, tmp_path: Path) -> None:
    copy = tmp_path / "copy.tar.zst"
    ready = prepared(laid, "everything")
    taken = names(ready.selection)
    ready.commit(copy_to=copy)
    assert stat.S_IMODE(copy.stat().st_mode) == 0o600
    laid.account(PLAN).survey()
    unpacked = subprocess.run([sys.executable, "-c", "import sys, tarfile, zstandard; t = tarfile.open(fileobj=zstandard.ZstdDecompressor().stream_reader(open(sys.argv[1], 'rb')), mode='r|'); print(sorted(m.name for m in t))", str(copy)], capture_output=True, text=True, check=True).stdout  # fmt: skip
    assert all(path in unpacked for path in taken)
    (laid.homes / "millbrook/public/more.txt").write_text("more")
    with pytest.raises(InputError, match="there already"):
        prepared(laid, "everything").commit(copy_to=copy)
    assert (laid.homes / "millbrook/public/more.txt").exists()
