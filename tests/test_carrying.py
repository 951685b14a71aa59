"""Steps that the program carries out in files: whole or not at all, and back to the byte, wherever they are cut off."""

from __future__ import annotations

import contextlib
import getpass
import json
import os
import random
import shutil
import subprocess
import tempfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Work, deployed, examples, run
from file_servers import NOBODY, PASSWORD, SERVERS, file_server
from kettlepost.core.errors import InputError, KettlepostError, OutsideError
from kettlepost.core.names import Folder
from kettlepost.core.secrets import MASK
from kettlepost.core.steps import (
    AddLines,
    BringFolder,
    CarriedOut,
    CarryLines,
    CopyFolder,
    EditLine,
    WriteFrontFile,
    content_after,
)
from kettlepost.core.survey import SET_ASIDE
from kettlepost.demo import lay_out as lay_out_demo
from kettlepost.sources import Secrets
from kettlepost.workspace.carrying import records
from kettlepost.workspace.carrying.prepare import PreparedStep, take_back
from kettlepost.workspace.plan_folder import PlanFolder
from kettlepost.workspace.set_aside.listing import access_to, finish
from messes import table
from servers import sftp_server
from test_clearing import THING, Dying, _killed, _time_of, lay_out, picture

HOSTS = table("domain", name="a.example", kind="primary", root="www", www="both")
LIVE = table("installation", application="quillmoor", address="a.example/new", contact="office@b.example")
OWN, WWW = "millbrook", Folder("www")
STEPS: dict[str, CarriedOut] = {
    "copy": CopyFolder(OWN, Folder("www/new"), WWW, (Folder("www/new/club"),)),
    "copy apart": CopyFolder(OWN, Folder("www/new"), Folder("b/shop/deep")),
    "bring": BringFolder(OWN, "saltcote", Folder("www/new"), Folder("b/new"), (Folder("www/new/club"),)),
    "front": WriteFrontFile(OWN, Folder("www/later"), "index.php", Folder("www/new")),
    "lines": AddLines(OWN, Folder("www/new"), ".htaccess", ("Redirect 302 /x /y",)),
    "new lines": AddLines(OWN, Folder("www/club/in"), ".htaccess", ("Redirect 302 /x /y",)),
}


COPIES = CopyFolder | BringFolder


def ready(
    work: Work, step: CarriedOut, source: str = "", secrets: Secrets | None = None, calls: int | None = None,
    record: Any = None,
) -> PreparedStep:  # fmt: skip
    plan, where = PlanFolder(work.plan), source or str(work.homes / OWN)
    access: Any = access_to(plan, OWN, where, secrets)
    if calls is not None:
        access = Dying(access, calls)
    origin = access_to(plan, OWN, where, secrets) if isinstance(step, BringFolder) else None
    return PreparedStep(plan, OWN, "files-aaaaaaaa", step, access, where, secrets, record, origin)


def carry(work: Work, step: CarriedOut, *where: Any, record: Any = None) -> None:
    with contextlib.closing(ready(work, step, *where, record=record)) as prepared:
        assert not prepared.commit().left


def without_folders(found: dict[bytes, tuple[Any, ...]]) -> dict[bytes, tuple[Any, ...]]:
    return {path: what for path, what in found.items() if what[0] != 0o040000}


@settings(max_examples=examples(48), deadline=None)
@given(things=st.lists(THING, max_size=12), name=st.sampled_from(list(STEPS)))
def test_any_tree_is_copied_to_the_byte_and_taken_back(open_folder: Path, things: list[Any], name: str) -> None:
    with tempfile.TemporaryDirectory(dir=open_folder) as scratch:
        work = Work(Path(scratch)).account(HOSTS)
        home, step = work.homes / OWN, STEPS[name]
        (home / "www/new/club").mkdir(parents=True)
        for folder in ("www/new", "www/new/club", "www/new/a b"):
            lay_out(os.fsencode(home / folder), things)
        before = picture(home)
        if name == "lines" and before.get(b"www/new/.htaccess", (0o100000,))[0] != 0o100000:
            with pytest.raises(InputError):
                ready(work, step)
            return
        prepared = ready(work, step)
        done = prepared.commit()
        assert not done.left
        after = picture(home)
        if isinstance(step, COPIES):
            stays = [os.fsencode(place) for place in step.stays]
            old, new = os.fsencode(step.folder) + b"/", os.fsencode(step.to) + b"/"
            for path, what in before.items():
                is_in = path.startswith(old) and not any(path == one or path.startswith(one + b"/") for one in stays)
                if is_in and what[0] != 0o010000:  # a pipe is left, and told
                    copied = after[new + path[len(old) :]]
                    assert (copied[0], copied[2:]) == (what[0], what[2:])
                    assert copied[1] == (what[1] if what[0] != 0o100000 else what[1] & 0o777)
            assert sorted(prepared.left_out) == [
                os.fsdecode(path) for path, what in sorted(before.items())
                if what[0] == 0o010000 and path.startswith(old) and not any(path.startswith(one) for one in stays)
            ]  # fmt: skip
        assert {path: what for path, what in after.items() if path in before and path != b"www/new/.htaccess"} == {
            path: what for path, what in before.items() if path != b"www/new/.htaccess"
        }
        [kept] = records.carried(PlanFolder(work.plan))
        taken = take_back(PlanFolder(work.plan), kept.number, str(home))
        assert not taken.left
        again = picture(home)
        again.pop(b"www/new/.htaccess", None) if name == "lines" else None  # its time is that of the last change
        assert again == {path: what for path, what in before.items() if path in again or name != "lines"}
        assert not records.carried(PlanFolder(work.plan))


@pytest.mark.parametrize("every", [False, pytest.param(True, marks=pytest.mark.proof)])
@pytest.mark.parametrize("name", list(STEPS))
def test_cut_off_at_any_call_it_is_brought_to_its_end_or_back(open_folder: Path, name: str, every: bool) -> None:
    with tempfile.TemporaryDirectory(dir=open_folder) as scratch:
        work = Work(Path(scratch)).account(HOSTS)
        home, step = work.homes / OWN, STEPS[name]
        files = {"www/page.html": "p", "www/new/.htaccess": "# own\n", "www/new/club/index.html": "c", "www/new/b/": ""}
        work.there(files | {f"www/new/d{n}/{n}.txt": str(n) for n in range(4)})
        before = {path: what for path, what in picture(home).items() if path != b"www/new/.htaccess"}
        ready(work, step).commit()
        whole = {path: what[3] for path, what in picture(home).items()}
        back(work)
        ends, calls, pick = 0, 0, random.Random(name)
        while not ends:
            prepared = ready(work, step, calls=calls + 60)
            prepared.access.calls = calls  # type: ignore[attr-defined]
            try:
                prepared.commit()
                ends = 1
            except OutsideError as error:
                assert "lost" in str(error), error
            for path in set(before):
                assert picture(home)[path] == before[path], (calls, path)
            broken = records.half_way(PlanFolder(work.plan), OWN)
            if broken is not None and pick.random() < 0.5:
                ready(work, step, record=records.record_of(PlanFolder(work.plan), broken.number)).commit()
                assert {path: what[3] for path, what in picture(home).items()} == whole, calls
            back(work)
            assert {path: what for path, what in picture(home).items() if path != b"www/new/.htaccess"} == before
            assert (home / "www/new/.htaccess").read_text() == "# own\n"
            assert not list(home.glob(f"{SET_ASIDE}/carrying*")), calls
            forget_all(work)
            calls += 1 if every else pick.choice((19, 23, 31))
        assert calls > 20


def forget_all(work: Work) -> None:
    """Let nothing be set aside, so that each round is as long as the first."""
    for place in (work.homes / OWN / SET_ASIDE, work.plan / ".kettlepost/set-aside"):
        shutil.rmtree(place, ignore_errors=True)


def back(work: Work, source: str = "", secrets: Secrets | None = None) -> None:
    for one in records.carried(PlanFolder(work.plan)):
        taken = take_back(PlanFolder(work.plan), one.number, source or str(work.homes / OWN), secrets)
        assert not taken.left


def test_what_is_done_goes_by_the_list_and_nothing_is_written_over(work: Work) -> None:
    work.account(HOSTS + LIVE).there(deployed("www/new") | {"www/page.html": "p", "www/new/club/": ""}).survey()
    home, where = work.homes / OWN, ("--from", str(work.homes / OWN))
    assert work.run("move", "a.example/new", "a.example", "--by", "files", "--yes").returncode == 0
    steps = {one["step"]["do"]: one for one in work.json("work", "a.example")["steps"]}
    copy, lines = steps["copy-folder"]["id"], steps["add-lines"]["id"]
    assert steps["copy-folder"]["commands"] == [f"kettlepost work --carry-out {copy}"]
    early = work.run("work", "--carry-out", lines, "--yes", *where)
    assert (early.returncode, "comes behind" in early.stderr) == (2, True), early.stderr
    wrong = work.run("work", "--carry-out", f"{copy[:-1]}-", *where)
    assert (wrong.returncode, copy in wrong.stderr) == (2, True), wrong.stderr
    words = steps["open-page"]["id"]
    assert work.run("work", "--carry-out", words, *where).returncode == 2
    (home / "www/index.php").write_text("another")
    taken = work.run("work", "--carry-out", copy, "--yes", *where)
    assert (taken.returncode, "www/index.php: something is there already" in taken.stderr) == (2, True), taken.stderr
    (home / "www/index.php").unlink()
    before = picture(home)
    asked = work.run("work", "--carry-out", copy, *where)
    assert (asked.returncode, "as www/" in asked.stdout, picture(home) == before) == (2, True, True), asked.stdout
    told = work.json("work", "--carry-out", copy, "--yes", *where)
    assert (told["done"], told["left"]) == (True, [])
    done = {one["id"]: one for one in work.json("work", "a.example")["steps"]}[copy]
    assert (done["state"], done["way_back"]) == ("done", f"kettlepost work --take-back {told['number']}")
    assert work.run("survey", "--all", "--mentions", "a.example").returncode == 2
    assert work.run("work", "--carry-out", copy, *where).returncode == 2  # it is done already
    (home / "www/moor/own.txt").write_text("came since")
    (home / "www/moor/kernel.php").write_text("<?php // changed since")
    again = work.run("work", "--take-back", told["number"], "--yes", *where, "--format", "json")
    assert again.returncode == 3
    assert {one["path"] for one in json.loads(again.stdout)["left"]} == {"www/moor/own.txt", "www/moor/kernel.php"}
    assert (home / "www/moor/own.txt").read_text() == "came since"
    assert "changed since" in (home / "www/moor/kernel.php").read_text()
    assert not (home / "www/quill.php").exists()


def test_what_broke_off_goes_on_whatever_the_list_says_and_takes_nothing_of_others(work: Work) -> None:
    work.account(HOSTS + LIVE).there(deployed("www/new") | {"www/page.html": "p", "www/new/zz.txt": "z"}).survey()
    home, where = work.homes / OWN, ("--from", str(work.homes / OWN))
    assert work.run("move", "a.example/new", "a.example", "--by", "files", "--yes").returncode == 0
    copy = next(one for one in work.json("work", "a.example")["steps"] if one["kind"] == "files")
    assert work.run("work", "--carry-out", copy["id"], "--yes", *where).returncode == 0
    plan = PlanFolder(work.plan)
    [kept] = records.carried(plan)
    record = records.record_of(plan, kept.number)
    record.head.is_done = False  # as a run leaves it that was killed before its last file
    for item in record.items:
        if item.origin:
            about = (home / item.origin).lstat()
            item.size, item.changed = about.st_size if item.kind == "file" else 0, about.st_mtime_ns
            item.identity = f"{about.st_dev:x}:{about.st_ino:x}"
    records.keep(plan, record)
    (home / "www/zz.txt").unlink()
    assert {one["id"]: one for one in work.json("work", "a.example")["steps"]}[copy["id"]]["state"] == "done"
    refused = work.run("clear", "--account", OWN, "--folder", "www/new", "--everything", "--yes", *where)
    assert (refused.returncode, f"work --carry-out {copy['id']}" in refused.stderr) == (2, True), refused.stderr
    (home / "www/zz.txt").write_text("another's")
    taken = work.run("work", "--carry-out", copy["id"], "--yes", *where)
    assert (taken.returncode, (home / "www/zz.txt").read_text()) == (3, "another's"), taken.stderr
    (home / "www/zz.txt").rename(home / "kept.txt")
    assert work.run("work", "--carry-out", copy["id"], "--yes", *where).returncode == 0
    assert (home / "www/zz.txt").read_text() == "z"
    record.head.is_done = False
    records.keep(plan, record)
    (home / "kept.txt").replace(home / "www/zz.txt")
    assert work.run("work", "--take-back", kept.number, "--yes", *where).returncode == 0
    assert (home / "www/zz.txt").read_text() == "another's"
    assert not (home / "www/quill.php").exists()


def test_a_copy_is_seen_at_once_and_never_short_of_what_could_not_be_looked_at_again(work: Work) -> None:
    other = table("domain", name="b.example", kind="addon", root="shop", www="both")
    work.account(HOSTS + other + LIVE).there(deployed("www/new") | {"www/page.html": "p"}).survey()
    home, where = work.homes / OWN, ("--from", str(work.homes / OWN))
    with contextlib.closing(ready(work, CopyFolder(OWN, Folder("www/new"), Folder("b")), calls=1 << 20)) as prepared:
        prepared.access.blind = "www/new/moor"  # type: ignore[attr-defined]
        with pytest.raises(OutsideError, match="cannot be read"):
            prepared.commit()
    assert not (home / "b").exists()
    assert not records.carried(PlanFolder(work.plan))
    assert work.run("move", "a.example/new", "b.example", "--by", "files", "--yes").returncode == 0
    copy = next(one for one in work.json("work", "b.example")["steps"] if one["kind"] == "files")
    number = work.json("work", "--carry-out", copy["id"], "--yes", *where)["number"]
    state = {one["id"]: one["state"] for one in work.json("work", "b.example")["steps"]}
    assert ((home / "shop/quill.php").exists(), state[copy["id"]]) == (True, "done")
    assert work.run("work", "--take-back", number, "--yes", *where).returncode == 0
    state = {one["id"]: one["state"] for one in work.json("work", "b.example")["steps"]}
    assert ((home / "shop").exists(), state[copy["id"]]) == (False, "ready")


@pytest.mark.parametrize("goes_on", [True, False])
def test_a_file_that_was_being_put_over_comes_back_or_to_its_end(work: Work, goes_on: bool) -> None:
    work.account(HOSTS).there({"www/new/.htaccess": "# own\n"})
    file, step = work.homes / OWN / "www/new/.htaccess", STEPS["lines"]
    carry(work, step)
    [kept] = records.carried(PlanFolder(work.plan))
    record = records.record_of(PlanFolder(work.plan), kept.number)
    record.head.is_done = False
    records.keep(PlanFolder(work.plan), record)
    written = file.read_text()
    file.unlink()  # as a server leaves it that lets no file take another's place, and is lost in between
    if goes_on:
        carry(work, step, record=record)
        assert file.read_text() == written
    back(work)
    assert file.read_text() == "# own\n"


def test_a_step_of_a_way_out_keeps_its_name_and_hands_it_to_no_other(tmp_path: Path) -> None:
    lay_out_demo(tmp_path)
    home, plan = tmp_path / "hosting/pennywharf", ("--plan", str(tmp_path / "plan"))
    where = ("--from", str(home), *plan)
    assert run("survey", "pennywharf", *where).returncode == 0

    def mending() -> dict[str, str]:
        steps = json.loads(run("work", "pennywharf.example/post", "--format", "json", *plan).stdout)["steps"]
        return {one["step"]["do"]: one["id"] for one in steps if one["kind"] == "mend"}

    before = mending()
    made = run("work", "--carry-out", before["make-folder"], "--yes", "--format", "json", *where)
    after = mending()
    assert "make-folder" not in after
    assert after["add-lines"] == before["add-lines"] != before["make-folder"]
    assert run("work", "--carry-out", after["add-lines"], "--yes", *where).returncode == 0
    assert "RewriteEngine Off" in (home / "www/post/.htaccess").read_text()
    left = run("work", "--take-back", json.loads(made.stdout)["number"], "--yes", *where)
    assert (left.returncode, (home / "www/post/.htaccess").exists()) == (3, True)  # which came since, so both stay


def test_no_copy_is_taken_back_that_is_the_last_or_answers(work: Work) -> None:
    work.account(HOSTS + LIVE).there(deployed("www/new") | {"www/page.html": "p"}).survey()
    home, where = work.homes / OWN, ("--from", str(work.homes / OWN))
    assert work.run("move", "a.example/new", "a.example/blog", "--by", "files", "--yes").returncode == 0
    copy = next(one["id"] for one in work.json("work", "a.example/blog")["steps"] if one["kind"] == "files")
    number = work.json("work", "--carry-out", copy, "--yes", *where)["number"]
    (home / "www/new").rename(home / "elsewhere")
    refused = work.run("work", "--take-back", number, "--yes", *where)
    assert (refused.returncode, "put that back first" in refused.stderr) == (2, True), refused.stderr
    (home / "elsewhere").rename(home / "www/new")
    (home / "www/.htaccess").write_text("Require valid-user\n")
    carry(work, CarryLines(OWN, WWW, ".htaccess", Folder("www/blog"), 1, 1))
    lines = next(one.number for one in records.carried(PlanFolder(work.plan)) if one.number != number)
    written = work.plan / "accounts/millbrook.toml"
    written.write_text(written.read_text().replace('address_now = "a.example/new"\n', ""))
    for one in (number, lines):
        refused = work.run("work", "--take-back", one, "--yes", *where)
        assert (refused.returncode, "answers with what it made" in refused.stderr) == (2, True), refused.stderr
    assert (home / "www/blog/quill.php").exists()


def test_no_copied_root_is_taken_back_that_a_name_leads_to(work: Work) -> None:
    work.account(HOSTS + table("domain", name="b.example", kind="addon", root="www/b"))
    work.there({"www/index.html": "<p>The railway</p>", "www/b/index.html": "<p>The choir</p>"}).survey()
    where = ("--from", str(work.homes / OWN))
    assert work.run("domain", "root", "b.example", "b", "--yes").returncode == 0
    copy = next(one["id"] for one in work.json("work", "b.example")["steps"] if one["kind"] == "files")
    number = work.json("work", "--carry-out", copy, "--yes", *where)["number"]
    written = work.plan / "accounts/millbrook.toml"
    written.write_text(written.read_text().replace('root_now = "www/b"\n', ""))
    refused = work.run("work", "--take-back", number, "--yes", *where)
    assert (refused.returncode, "leads to b by now" in refused.stderr) == (2, True), refused.stderr


def test_a_file_keeps_its_line_ends_and_what_nobody_has_read() -> None:
    place = Folder("www")
    add = AddLines(OWN, place, ".htaccess", ("A 1", "B 2"))
    assert content_after(add, None) == b"A 1\nB 2\n"
    assert content_after(add, b"X\r\nY") == b"X\r\nY\r\nA 1\r\nB 2\r\n"
    first = AddLines(OWN, place, ".htaccess", ("A",), is_first=True)
    assert content_after(first, b"\xef\xbb\xbfX\n") == b"\xef\xbb\xbfA\nX\n"
    text = b"# \xff\r\nRewriteRule ^a \\\r\n /new/a [L]\r\nRewriteBase /new/\r\n"
    edit = EditLine(OWN, place, ".htaccess", 4, "RewriteBase /new/", "RewriteBase /")
    assert content_after(edit, text) == text.replace(b"RewriteBase /new/", b"RewriteBase /")
    longer = EditLine(OWN, place, ".htaccess", 2, "RewriteRule ^a  /new/a [L]", None)
    assert content_after(longer, text.replace(b"\r", b"")) == b"# \xff\nRewriteBase /new/\n"
    for old in ("RewriteBase /", f"SetEnv X {MASK}"):
        with pytest.raises(InputError):
            content_after(EditLine(OWN, place, ".htaccess", 4, old, "x"), text)
    carry = CarryLines(OWN, place, ".htaccess", Folder("www/a"), 1, 9)
    assert content_after(carry, b"X\n", b"DirectoryIndex a\r\nAuthType Basic\r\nRequire valid-user\r\n") == (
        b"AuthType Basic\nRequire valid-user\nX\n"
    )
    front = WriteFrontFile(OWN, Folder("b"), "index.php", Folder("www/it's"))
    assert content_after(front, None) == b"<?php\nrequire __DIR__ . '/../www/it\\'s/index.php';\n"


def over_a_server(work: Work, source: str, secrets: Secrets, home: Path, links: bool) -> None:
    """Every kind of step over a server, and back."""
    for name in ("copy", "bring", "front", "lines"):
        step = STEPS[name]
        before = without_folders(picture(home))
        if isinstance(step, COPIES) and not links:
            with pytest.raises(OutsideError, match="link"):
                carry(work, step, source, secrets)
            assert without_folders(picture(home)) == before
            assert not records.carried(PlanFolder(work.plan))
            (home / "www/new/link").unlink()
            before = without_folders(picture(home))
        carry(work, step, source, secrets)
        after = without_folders(picture(home))
        for path, what in before.items() if isinstance(step, COPIES) else ():
            new = os.fsencode(step.to) + path.removeprefix(b"www/new")
            if path.startswith(b"www/new/") and not path.startswith(b"www/new/club/"):
                assert after[new][3] == what[3], (name, path)
        back(work, source, secrets)
        if not links and isinstance(step, COPIES):
            (home / "www/new/link").symlink_to("a.txt")
        assert {path: what[3] for path, what in without_folders(picture(home)).items() if b"link" not in path} == {
            path: what[3] for path, what in before.items() if b"link" not in path
        }, name


def many(work: Work, number: int = 12) -> Path:
    work.account(HOSTS).there(
        {f"www/new/d{n}/caf\xe9 {n}.txt": "x" * n for n in range(number)}
        | {"www/new/a.txt": "a", "www/new/.htaccess": "# own\n", "www/new/club/c.html": "c", "www/p.html": "p"}
    )
    home = work.homes / OWN
    (home / "www/new/big.bin").write_bytes(random.Random(1).randbytes(3_000_000))
    (home / "www/new/link").symlink_to("a.txt")
    return home


@pytest.mark.proof
@pytest.mark.parametrize("name", ["OpenSSH", *(name for name in SERVERS if name != "Pure-FTPd")])
def test_over_servers_it_is_the_same(work: Work, tmp_path: Path, name: str) -> None:
    home = many(work, 2)
    if name == "OpenSSH":
        with sftp_server(tmp_path) as login:
            secrets = Secrets(lambda _: None, login.key, login.known_hosts)
            over_a_server(work, f"sftp://{getpass.getuser()}@127.0.0.1:{login.port}{home}", secrets, home, links=True)
        return
    if name == "ProFTPD by SFTP":
        (home / "www/new/link").unlink()  # which it tells for what it leads to
    subprocess.run(["chown", "-hR", str(NOBODY), str(home)], check=True)
    for above in home.parents:
        above.chmod(above.stat().st_mode | 0o555)
    with file_server(name, work.homes) as site:
        secrets = Secrets(lambda _: PASSWORD, None, site.known_hosts, site.certificate)
        over_a_server(work, f"{site.address}{OWN}", secrets, home, links="SFTP" in name)


@pytest.mark.proof
@pytest.mark.parametrize("remote", [False, True])
def test_killed_at_any_moment_each_file_is_in_one_of_two_places(work: Work, tmp_path: Path, remote: bool) -> None:
    home, pick = many(work), random.Random(20261202)
    for n in range(80):
        (home / f"www/new/page{n}.txt").write_text(str(n))
    before = without_folders(picture(home))
    with sftp_server(tmp_path) if remote else contextlib.nullcontext() as login:
        source, secrets = str(home), Secrets(lambda _: None)
        if login is not None:
            source = f"sftp://{getpass.getuser()}@127.0.0.1:{login.port}{home}"
            secrets = Secrets(lambda _: None, login.key, login.known_hosts)

        def do() -> None:
            for one in records.carried(PlanFolder(work.plan)):
                carry(work, step, source, secrets, record=records.record_of(PlanFolder(work.plan), one.number))
                return
            carry(work, step, source, secrets)

        killed, step = 0, STEPS["copy"]
        took = _time_of(do)
        back(work, source, secrets)
        for _ in range(12 if remote else 40):
            step = pick.choice([STEPS["copy"], STEPS["bring"], STEPS["new lines"]])
            killed += _killed(do, pick.uniform(0.2, 1.1) * took)
            if pick.random() < 0.4:
                with contextlib.suppress(KettlepostError):
                    do()
            if pick.random() < 0.3:
                killed += _killed(lambda: back(work, source, secrets), pick.uniform(0.1, 1.0) * took)
            there = without_folders(picture(home))
            assert {path: what for path, what in there.items() if path in before} == before
            for number in [path.name for path in home.glob(f"{SET_ASIDE}/2*")]:
                with contextlib.suppress(InputError):
                    finish(PlanFolder(work.plan), number, OWN, source, secrets)
            back(work, source, secrets)
            assert without_folders(picture(home)) == before
            forget_all(work)
    assert killed > (3 if remote else 18)  # a busy machine ends before some of the kills
