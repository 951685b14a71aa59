"""What was set aside, in the hands of a stranger: records that lie, disks that refuse, and what has become live since."""

from __future__ import annotations

import contextlib
import datetime
import getpass
import json
import os
import re
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import PROOF, Work
from kettlepost.core.clearing import SetAsideNumber, decode_manifest, encode_manifest
from kettlepost.core.errors import InputError, KettlepostError, OutsideError
from kettlepost.core.survey import SET_ASIDE
from kettlepost.sources import FileAccess, Refusal, Rename, Secrets, Trouble, open_files
from kettlepost.sources.local_files import LocalFiles
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.set_aside import move as setting_aside
from kettlepost.workspace.set_aside.listing import discard, discardable, finish, put_back
from kettlepost.workspace.set_aside.records import copy_of
from kettlepost.workspace.set_aside.store import SetAsideStore
from refusing import Refusing
from servers import certificate, ftp_server, sftp_server
from test_clearing import PLAN, TREE, WELCOME, picture, prepared

HOSTILE = ["../../victim/www/index.html", "/etc/passwd", "", ".", "..", "public/../../victim/www/x", "public//x", "./public/x",
           "public/", "kettlepost-set-aside/20260101-000000/files/x", "other/keep.txt", "a\0b", "\\x2e\\x2e/victim/www/x",
           "public\\x2f..\\x2f..\\x2fvictim\\x2fwww\\x2fx", "publicity/x", "x" * 5000]  # fmt: skip
NUMBER = SetAsideNumber("20261101-120000")


@pytest.fixture
def laid(work: Work) -> Work:
    work.account(PLAN).there(TREE)
    victim = work.homes / "victim/www"
    victim.mkdir(parents=True)
    (victim / "index.html").write_text("the neighbour's")
    return work


def files_of(work: Work, secrets: Secrets | None = None, source: str = "") -> FileAccess:
    access = open_files(_place(work, source, secrets), secrets or Secrets(lambda _: None), "2026-11-29T00:00:00Z")
    assert access is not None
    return access


def _place(work: Work, source: str, secrets: Secrets | None) -> Any:
    from kettlepost.workspace.surveys import source_of

    return source_of(PlanFolder(work.plan), "millbrook", source or str(work.homes / "millbrook"), secrets=secrets)


def outside(work: Work) -> Any:
    """Everything that a record in the customer's home must never lead to."""
    home = work.homes / "millbrook"
    return (
        picture(work.homes / "victim"),
        picture(home / "other"),
        picture(work.plan, ".kettlepost"),
        (home / "public/club/index.html").read_text(),
    )


def plant(
    work: Work, head: dict[str, Any], items: list[dict[str, Any]], record: str, back: list[Any] | None = None
) -> Path:
    """A record as a customer could write it, and things for it to be of."""
    place = work.homes / "millbrook" / SET_ASIDE / NUMBER
    shutil.rmtree(place, ignore_errors=True)
    (place / "files/public").mkdir(parents=True)
    (place / "files/public/index.html").write_text("aside")
    lines = [json.dumps(head), *map(json.dumps, items), json.dumps({"end": len(items)})]
    (place / record).write_text("\n".join(lines) + "\n")
    if back is not None:
        (place / "back.jsonl").write_text(json.dumps(back) + "\n")
    return place


NAMES = st.one_of(st.sampled_from([*HOSTILE, "public/index.html", "public/gallery/x", "public"]), st.text(max_size=12))
HEADS = st.fixed_dictionaries({
    "kettlepost": st.just(1), "set_aside": st.sampled_from([NUMBER, NUMBER, *HOSTILE[:4], "20261101-120001"]),
    "account": st.sampled_from(["millbrook", "../victim"]), "folder": st.sampled_from(["public", "public", *HOSTILE]),
    "measure": st.just("blocking"), "taken": st.sampled_from(["2026-11-01T12:00:00Z", "0001-01-01", "9999-99-99"]),
    "source": st.just("x"), "folders": st.dictionaries(NAMES, st.sampled_from([0o755, 0o777, 0o4777, -1, 10**9]), max_size=2),
})  # fmt: skip
ITEMS = st.lists(st.fixed_dictionaries({
    "path": NAMES, "kind": st.sampled_from(["file", "folder", "link"]), "why": st.sampled_from(["placeholder", ""])}), max_size=3)  # fmt: skip
BACKS = st.one_of(st.none(), st.lists(st.fixed_dictionaries({"path": NAMES, "to": NAMES}), max_size=3))


@given(head=HEADS, items=ITEMS, back=BACKS, record=st.sampled_from(["manifest.jsonl", "intent.jsonl", "gone.jsonl"]),
       own=st.booleans(), what=st.sampled_from(["put back", "finish", "discard"]), asked=st.lists(NAMES, max_size=1))  # fmt: skip
def test_no_record_of_a_strangers_leads_out_of_the_folder_that_was_cleared(
    open_folder: Path, head: Any, items: Any, back: Any, record: str, own: bool, what: str, asked: list[str]
) -> None:
    with tempfile.TemporaryDirectory(dir=open_folder) as scratch:
        work = Work(Path(scratch)).account(PLAN).there(TREE)
        (work.homes / "victim/www").mkdir(parents=True)
        (work.homes / "victim/www/index.html").write_text("the neighbour's")
        plant(work, head, items, record, back)
        if own:  # what the planner knows of it themselves is another thing
            told = {**head, "set_aside": NUMBER, "account": "millbrook", "folder": "public", "folders": {}}
            kept = work.plan / ".kettlepost/set-aside"
            kept.mkdir(parents=True)
            item = {"path": "public/index.html", "kind": "file", "why": "placeholder"}
            (kept / f"{NUMBER}.jsonl").write_text("\n".join(map(json.dumps, (told, item, {"end": 1}))) + "\n")
        before, inside = outside(work), picture(work.homes / "millbrook")
        plan, where = PlanFolder(work.plan), str(work.homes / "millbrook")
        with contextlib.suppress(KettlepostError):
            if what == "put back":
                put_back(plan, NUMBER, asked, False, "millbrook", where, replaces=True, allow=lambda _: None)
            elif what == "finish":
                finish(plan, NUMBER, "millbrook", where, allow=lambda _: None)
            else:
                discard(plan, NUMBER, "millbrook", where)
        after = outside(work)
        assert after[:2] == before[:2]
        assert after[3] == before[3]
        changed = {path for path, seen in picture(work.homes / "millbrook").items() if inside.get(path) != seen}
        assert all(path.startswith(b"public") for path in changed), changed
        assert not any(stat_of(work, path) & 0o022 for path in changed if path not in inside), "for anybody to write to"
        if own and what != "discard":  # nothing that the copy does not have
            assert changed <= {b"public/index.html"} | (
                {b"public/index." + NUMBER.encode() + b".html"} if back else set()
            )


def stat_of(work: Work, path: bytes) -> int:
    return os.lstat(os.path.join(os.fsencode(work.homes / "millbrook"), path)).st_mode & 0o777


@contextlib.contextmanager
def over_each(work: Work, folder: Path) -> Iterator[list[FileAccess]]:
    """The files of an account by each way that there is."""
    home = work.homes / "millbrook"
    trusted = certificate(folder, "localhost")
    with sftp_server(folder) as login, ftp_server(home, trusted, may="elradfmwMT") as port:
        by_key = Secrets(lambda _: None, login.key, login.known_hosts)
        yield [
            LocalFiles(home),
            files_of(work, by_key, f"sftp://{getpass.getuser()}@127.0.0.1:{login.port}{home}"),
            files_of(work, Secrets(lambda _: "points", certificates=trusted), f"ftps://webkeeper@localhost:{port}/"),
        ]


def test_whoever_asks_no_path_leads_anywhere_but_down_from_the_home(laid: Work, tmp_path: Path) -> None:
    before = outside(laid), picture(laid.homes / "millbrook")
    (laid.homes / "millbrook/way").symlink_to("../victim/www")
    bad = [path for path in HOSTILE if "\\" not in path and not path.startswith(("other", "kettle", "publicity"))]
    bad += ["way/index.html", "way/new.txt"]
    with over_each(laid, tmp_path) as each:
        for access in each:
            there = access.look("public/index.html")
            assert there is not None
            for path in bad:
                for did in (access.look, access.read, access.make, access.remove, access.remove_folder):
                    with contextlib.suppress(OutsideError):
                        assert path == "" or not list(did(path) or ()), (access.name, path)
                with contextlib.suppress(OutsideError):
                    access.write(path, [b"x"])
                for source, to in ((path, "public/moved"), ("public/index.html", path)):
                    if path:
                        [(_, trouble)] = access.rename_all([Rename(source, to, there)])
                        assert trouble is not None, (access.name, source, to)
                if path and path != "." and not path.endswith("new.txt"):
                    assert [one.entries for one in access.list_all([path])] == [()], (access.name, path)
            access.close()
    (laid.homes / "millbrook/way").unlink()
    assert (outside(laid), picture(laid.homes / "millbrook")) == before


def test_in_a_clone_what_the_home_says_is_shown_and_asked_for(laid: Work) -> None:
    home, where = laid.homes / "millbrook", ("--from", str(laid.homes / "millbrook"))
    before = picture(home)
    done = prepared(laid, "leftovers").commit()
    shutil.rmtree(laid.plan / ".kettlepost")
    refused = laid.run("putback", done.number, "--account", "millbrook", *where)
    assert refused.returncode == 2
    for path in ("public/index.html", "public/.DS_Store"):
        assert f"  {path}\n" in refused.stderr
    assert "nothing was moved: give --yes" in refused.stderr
    listed = laid.run("set-asides", "millbrook", *where).stdout
    assert f"as the home says; first seen here {datetime.datetime.now(tz=datetime.UTC).date()}" in " ".join(
        listed.split()
    )
    assert laid.run("putback", done.number, "--yes", "--replace", "--account", "millbrook", *where).returncode == 0
    assert picture(home) == before
    assert (
        copy_of(PlanFolder(laid.plan), SetAsideNumber(done.number)) is None
    )  # a stranger's word never becomes our own


def aged(work: Work, number: str, **head: Any) -> None:
    """What the home says of something that was set aside, with another head."""
    path = work.homes / "millbrook" / SET_ASIDE / number / "manifest.jsonl"
    first, *rest = path.read_text().splitlines()
    path.write_text("\n".join([json.dumps({**json.loads(first), **head}), *rest]) + "\n")


def test_no_word_of_the_home_makes_it_older_than_it_is(laid: Work) -> None:
    where, today = (
        ("--from", str(laid.homes / "millbrook"), "--account", "millbrook"),
        datetime.datetime.now(tz=datetime.UTC).date(),
    )

    def refusal(number: str) -> str:
        with pytest.raises(InputError) as told:
            discardable(PlanFolder(laid.plan), number, "millbrook", where[1], None, today)
        return str(told.value)

    done = prepared(laid).commit()
    aged(laid, done.number, taken="2001-01-01T00:00:00Z")
    assert "is kept until" in refusal(done.number)  # by our own copy
    shutil.rmtree(laid.plan / ".kettlepost")
    for when in ("2001-01-01T00:00:00Z", "99999-01-01", "never", "9999-12-31"):
        aged(laid, done.number, taken=when)
        assert f"(first seen here on {today})" in refusal(done.number)
    kept = laid.plan / ".kettlepost/set-aside/first-seen.json"
    kept.write_text(json.dumps({"millbrook": {done.number: "2026-01-01"}}))
    assert laid.run("discard", done.number, "--yes", *where).returncode == 0
    assert not (laid.homes / "millbrook" / SET_ASIDE).exists()

    own = prepared(laid, "everything").commit()
    copy = laid.plan / f".kettlepost/set-aside/{own.number}.jsonl"
    for when, words in (("never", "is no moment"), ("2999-01-01T00:00:00Z", "still to come")):
        copy.write_text(re.sub(r'"taken":"[^"]*"', f'"taken":"{when}"', copy.read_text()))
        assert words in refusal(own.number)
    (laid.homes / "millbrook" / SET_ASIDE / own.number / "manifest.jsonl").write_text("damaged")
    copy.unlink()
    told = laid.run("discard", own.number, "--yes", "--now", *where)
    assert (told.returncode, "nothing of it is deleted" in told.stderr) == (2, True)
    assert (laid.homes / "millbrook" / SET_ASIDE / own.number / "files/public/notes.txt").exists()


class Stubborn(LocalFiles):
    """Files of which some cannot be removed, and in which folders may not be renamed."""

    stays: tuple[str, ...] = ()
    renames_folders = True

    def remove(self, path: str) -> None:
        if path.endswith(self.stays or ("\0",)):
            raise Trouble(Refusal.REFUSED, "operation not permitted")
        super().remove(path)

    def rename_all(self, renames: Any) -> Iterator[Any]:
        for rename in renames:
            if rename.entry.kind == "folder" and not self.renames_folders:
                yield rename, Trouble(Refusal.ELSEWHERE)
            elif self.stays and rename.path.endswith(self.stays):
                yield rename, Trouble(Refusal.REFUSED)
            else:
                yield from super().rename_all([rename])


def test_what_cannot_be_deleted_and_what_came_since_stays_with_its_record(laid: Work) -> None:
    home = laid.homes / "millbrook"
    ready = prepared(laid, "everything")
    done = ready.commit()
    place = home / SET_ASIDE / done.number / "files/public"
    (place / "gallery/came.txt").write_text("a customer's")
    (place / "notes.txt").write_text("written since")
    manifest = copy_of(PlanFolder(laid.plan), SetAsideNumber(done.number))
    assert manifest is not None
    files = Stubborn(home)
    files.stays = ("1.jpg",)
    gone = setting_aside.discard(SetAsideStore(files), manifest)
    assert gone.files == manifest.files - 2
    assert {one.path for one in gone.left} == {
        "public/gallery/came.txt",
        "public/gallery/photos/1.jpg",
        "public/notes.txt",
    }
    assert gone.manifest is not None
    assert {item.path for item in gone.manifest.items if item.kind == "file"} == {
        "public/gallery/photos/1.jpg",
        "public/notes.txt",
    }
    back = setting_aside.put_back(SetAsideStore(files), gone.manifest)
    assert sorted(back.moved) == ["public/gallery/photos", "public/notes.txt"]
    assert (home / "public/gallery/photos/1.jpg").read_text() == "jpeg"
    assert (place / "gallery/came.txt").read_text() == "a customer's"


@pytest.mark.proof
def test_discard_says_what_is_gone_and_ends_with_three_where_something_stays(laid: Work) -> None:
    where = ("--from", str(laid.homes / "millbrook"))
    done = prepared(laid, "everything").commit()
    (laid.homes / "millbrook" / SET_ASIDE / done.number / "files/public/came.txt").write_text("x")
    told = laid.run("discard", done.number, "--yes", "--now", *where)
    assert (told.returncode, "public/came.txt: it was changed" in told.stdout) == (3, True), told.stdout + told.stderr
    assert copy_of(PlanFolder(laid.plan), SetAsideNumber(done.number)) is not None
    assert "came since (public/came.txt)" in " ".join(laid.run("set-asides", *where).stdout.split())
    (laid.homes / "millbrook" / SET_ASIDE / done.number / "files/public/came.txt").unlink()
    assert laid.run("discard", done.number, "--yes", "--now", *where).returncode == 0
    assert not (laid.homes / "millbrook" / SET_ASIDE).exists()


@pytest.mark.proof
def test_what_has_become_live_keeps_what_it_has(laid: Work) -> None:
    home, where = laid.homes / "millbrook", ("--from", str(laid.homes / "millbrook"))
    done = prepared(laid).commit()
    from test_clearing import release

    for name, text in release("barrowshop").items():
        (home / "public" / name).parent.mkdir(parents=True, exist_ok=True)
        (home / "public" / name).write_text(text)
    assert laid.run("survey", "millbrook", *where).returncode == 0
    refused = laid.run("putback", done.number, *where)
    assert (refused.returncode, "would come between visitors and" in refused.stderr) == (2, True), refused.stderr
    assert not (home / "public/index.html").exists()
    assert laid.run("putback", done.number, "--beside", *where).returncode == 0
    assert (home / f"public/index.{done.number}.html").read_text() == WELCOME
    assert not (home / "public/index.html").exists()
    os.replace(home / f"public/index.{done.number}.html", home / "public/index.html")
    again = prepared(laid).commit()
    assert laid.run("putback", again.number, "--replace", *where).returncode == 0
    assert (home / "public/index.html").read_text() == WELCOME


def test_second_names_of_a_file_and_long_names_come_back(laid: Work) -> None:
    home, long = laid.homes / "millbrook", "n" * 246 + ".txt"
    os.link(home / "public/notes.txt", home / "public/again.txt")
    (home / "public" / long).write_text("long")
    before = picture(home)
    done = prepared(laid, "everything").commit()
    assert done.outcome.left == []
    put_back(PlanFolder(laid.plan), done.number, source=str(home))
    assert picture(home) == before
    done = prepared(laid, "everything").commit()
    (home / "public" / long).write_text("new")
    (home / "public" / ("\u00e9" * 127)).write_text("other")
    back = put_back(PlanFolder(laid.plan), done.number, is_beside=True, source=str(home), replaces=True)
    [beside] = [path for path in back.moved if "nnn" in path]
    assert (back.left, (home / beside).read_text(), (home / "public" / long).read_text()) == ([], "long", "new")


@pytest.mark.proof
def test_who_is_at_work_is_told_and_taken_over_only_when_that_is_said(laid: Work) -> None:
    where = ("--from", str(laid.homes / "millbrook"))
    at_work = laid.homes / "millbrook" / SET_ASIDE / "at-work"
    me = "".join(letter if letter.isalnum() or letter in "-_" else "-" for letter in socket.gethostname())[:60]

    def run_with(name: str, *words: str) -> subprocess.CompletedProcess[str]:
        at_work.mkdir(parents=True, exist_ok=True)
        (at_work / name).write_text("x")
        os.utime(at_work / name, (1_700_000_000, 1_700_000_000))
        return laid.run("clear", "cycles.example", "--yes", *where, *words)

    other = run_with("their-machine.12.34")
    assert other.returncode == 2
    for words in ("their-machine", "days ago", f"{SET_ASIDE}/at-work/their-machine.12.34", "--take-over"):
        assert words in " ".join(other.stderr.split()), other.stderr
    shutil.rmtree(at_work)
    mine = run_with(f"{me}.{os.getpid()}.{_ticks(os.getpid())}")
    assert (mine.returncode, f"process {os.getpid()}" in mine.stderr) == (2, True), mine.stderr
    shutil.rmtree(at_work)
    # its number belongs to another process by now
    assert run_with(f"{me}.{os.getpid()}.{_ticks(os.getpid()) - 1}").returncode == 0
    assert not at_work.exists()
    (laid.homes / "millbrook/public/index.html").write_text(WELCOME)
    assert run_with("their-machine.12.34", "--take-over").returncode == 0
    assert not at_work.exists()


def _ticks(process: int) -> int:
    return int(Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[19])


@pytest.mark.parametrize("real", [False, pytest.param(True, marks=pytest.mark.proof)])
def test_where_no_folder_can_be_renamed_all_of_it_is_moved_or_nothing(laid: Work, tmp_path: Path, real: bool) -> None:
    home = laid.homes / "millbrook"
    (home / "public/gallery/photos/2.jpg").write_text("two")
    (home / "public/gallery/empty").mkdir(mode=0o700)
    before = picture(home)
    with overlay(home, tmp_path) if real else contextlib.nullcontext():
        whole = prepared(laid, "everything")
        files = LocalFiles(home) if real else Stubborn(home)
        if isinstance(files, Stubborn):
            files.renames_folders = False
            files.stays = ("photos/2.jpg",)
            half = setting_aside.set_aside(SetAsideStore(files), whole.manifest())
            assert {one.path for one in half.left} == {"public/gallery"}
            assert picture(home / "public/gallery") == {
                path.removeprefix(b"public/gallery/"): seen for path, seen in before.items() if path.startswith(b"public/gallery/")
            }  # fmt: skip
            assert half.manifest is not None
            setting_aside.put_back(SetAsideStore(files), half.manifest)
            assert picture(home) == before
            files.stays = ()
        done = setting_aside.set_aside(SetAsideStore(files), whole.manifest())
        assert done.left == []
        assert "public/gallery" in {item.path for item in done.manifest.moved} if done.manifest else False
        assert not (home / "public/gallery").exists()
        assert done.manifest is not None
        assert SetAsideStore(files).look_at(done.manifest).holds
        assert setting_aside.put_back(SetAsideStore(files), done.manifest).left == []
        assert picture(home) == before
        assert not (home / SET_ASIDE).exists()


@contextlib.contextmanager
def overlay(home: Path, scratch: Path) -> Iterator[None]:
    """The home on a file system of layers, as containers have it: what lies in the lower one cannot be renamed whole."""
    upper, work = scratch / "upper", scratch / "layers"
    upper.mkdir()
    work.mkdir()
    options = f"lowerdir={home},upperdir={upper},workdir={work}"
    if subprocess.run(
        ["mount", "-t", "overlay", "overlay", "-o", options, home], capture_output=True, check=False
    ).returncode:
        pytest.skip("no file system of layers may be mounted here")
    try:
        yield
    finally:
        subprocess.run(["umount", "-l", home], check=True)


def test_a_number_is_all_that_a_number_may_be(laid: Work) -> None:
    done = laid.run("putback", HOSTILE[0], "--account", "millbrook", "--yes")
    assert (done.returncode, "is no number" in done.stderr) == (2, True), done.stderr
    for number in (*HOSTILE, "2026", "20261101-120000/..", "20261101-1200000", "\u0662\u06600261101-120000"):
        for did in (put_back, finish, discard):
            with pytest.raises(InputError, match="is no number"):
                did(PlanFolder(laid.plan), number, account="millbrook")
    ready = prepared(laid)
    raw = b"".join(encode_manifest(ready.manifest()))
    assert decode_manifest(raw, "x", ready.number).id == ready.number
    with pytest.raises(InputError, match="is of"):
        decode_manifest(raw, "x", NUMBER)


CLAIMS = re.compile(r"nothing (?:was|is) (?:changed|moved|written|put back|deleted|entered|undone)")
OF_HOMES = ("moved", "put back", "deleted")
"""What is claimed of the files of accounts alone."""
COMMANDS = {
    "domain": ("domain", "add", "new.test", "--account", "millbrook", "--yes"),
    "undo": ("undo", "--yes"),
    "survey": ("survey", "millbrook", "--from", "{home}"),
    "accept": ("accept", "placeholder-left", "--because", "it is known", "--yes", "--at", "public"),
    "account": ("account", "add", "other", "--yes"),
    "clear": ("clear", "cycles.example", "--everything", "--yes", "--from", "{home}"),
    "putback": ("putback", "{number}", "--yes", "--from", "{home}", "--account", "millbrook"),
    "putback in a clone": ("putback", "{number}", "--yes", "--replace", "--from", "{home}", "--account", "millbrook"),
    "discard": ("discard", "{number}", "--now", "--yes", "--from", "{home}", "--account", "millbrook"),
    "discard in a clone": ("discard", "{number}", "--now", "--yes", "--from", "{home}", "--account", "millbrook"),
    "export": ("export", "table", "--to", "{out}/table.csv"),
    "sheet": ("sheet", "--all", "--into", "{out}"),
}  # fmt: skip


@pytest.mark.parametrize("name", [
    name if name == "discard in a clone" else pytest.param(name, marks=pytest.mark.proof) for name in COMMANDS
])  # fmt: skip
@pytest.mark.deeper
def test_nothing_is_said_to_be_as_it_was_that_is_not(laid: Work, tmp_path: Path, name: str) -> None:
    """Each call that writes is refused in turn, as by a full disk; in the proof each, else some of them."""
    words, number = COMMANDS[name], ""
    if name == "undo":
        assert laid.run(*COMMANDS["domain"]).returncode == 0
    for call in range(0, 400, 2 if PROOF else 9):
        world = tmp_path / f"world{call}"
        shutil.copytree(tmp_path / "plan", world / "plan", symlinks=True)
        subprocess.run(["cp", "-a", tmp_path / "homes", world / "homes"], check=True)
        (world / "out").mkdir()
        if name.startswith(("putback", "discard")):
            number = prepared(Work(world), "everything").commit().number
            if name.endswith("clone"):
                shutil.rmtree(world / "plan/.kettlepost")
        filled = [word.format(home=world / "homes/millbrook", number=number, out=world / "out") for word in words]
        before = told_of(world)
        status, error, was_refused = Refusing(call).run([*filled, "--plan", str(world / "plan")])
        assert "Traceback" not in error, (call, error)
        assert status in (0, 1, 2, 3), (call, status, error)
        for claim in CLAIMS.findall(error):
            begin = b"homes" if claim.endswith(OF_HOMES) else b""
            now = told_of(world)
            for path in now.keys() | before.keys():
                assert not path.startswith(begin) or now.get(path) == before.get(path), (call, error, path)
        for path in re.findall(r"kettlepost: (/\S+): cannot be written \([^)]*\) and is as it was", error):
            kept = os.path.relpath(path, world).encode()
            assert told_of(world).get(kept) == before.get(kept), (call, error)
        shutil.rmtree(world)
        if not was_refused:
            assert status in (0, 1), error
            return
    raise AssertionError("there was no end of calls")


def told_of(world: Path) -> dict[bytes, Any]:
    """All that a user would call changed: not the lock, nor what the program keeps of what it has worked out."""
    caches = re.compile(
        rb"plan/\.kettlepost(/(\.gitignore|lock|hosts|checked|weighed|clearing-.*|set-aside|journal|set-aside/first-seen\.json))?"
    )
    seen = picture(world, "")
    return {
        path: what[:2] + what[3:]
        for path, what in seen.items()
        if not caches.fullmatch(path) and not path.endswith(b"at-work")
    }
