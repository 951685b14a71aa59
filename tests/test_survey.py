"""Surveys: what is there is seen, whatever it is called and whoever stands in the way."""

from __future__ import annotations

import os
import socket
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import PROOF, Work, examples, taken
from kettlepost.core.survey import encode_survey
from kettlepost.sources import LocalFolder
from kettlepost.workspace.plan_folder import read_plan
from kettlepost.workspace.surveys import store_survey

PLAIN = '[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n'
NAMES = st.binary(min_size=1, max_size=12).filter(lambda raw: not {0, 47} & set(raw) and raw not in (b".", b".."))


@settings(max_examples=examples(40), suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(st.lists(st.tuples(st.lists(NAMES, min_size=1, max_size=3), st.binary(max_size=30)), max_size=8))
def test_every_file_is_counted_whatever_its_name(work: Work, files: list[tuple[list[bytes], bytes]]) -> None:
    home = tempfile.mkdtemp(dir=work.plan.parent).encode()
    written: dict[bytes, int] = {}
    for parts, content in files:
        path = b"/".join([home, *parts])
        try:
            os.makedirs(os.path.dirname(path), exist_ok=True)
            with open(path, "wb") as file:
                file.write(content)
            written[path] = len(content)
        except OSError:
            continue  # a file stands where a folder is wanted
    plan = read_plan(work.account(PLAIN).plan)
    seen = taken(plan, "millbrook", LocalFolder.open(Path(os.fsdecode(home))))
    assert (seen.files, seen.bytes) == (len(written), sum(written.values()))
    store_survey(work.plan, seen)
    assert work.stored() == seen
    assert encode_survey(seen).count(b"\n") > len(seen.folders)


def test_links_sockets_and_locked_folders_do_no_harm(work: Work, tmp_path: Path) -> None:
    home = work.homes / "millbrook"
    (home / "www").mkdir(parents=True)
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside" / "secret.txt").write_text("never counted")
    (home / "www" / "out").symlink_to(tmp_path / "outside")
    (home / "www" / "loop").symlink_to(home)
    os.mkfifo(home / "www" / "index.html")
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(str(home / "s"))
    work.account(PLAIN).survey()
    survey = work.stored()
    assert (survey.files, sum(folder.odd for folder in survey.folders)) == (0, 2)
    assert [(link.folder, link.name) for link in survey.links] == [("www", "loop"), ("www", "out")]


def test_an_unreadable_folder_is_reported_and_the_rest_is_seen(work: Work) -> None:
    plan = read_plan(work.account(PLAIN).plan)
    with tempfile.TemporaryDirectory() as home:
        for name in ("locked", "www"):
            (Path(home) / name).mkdir()
            (Path(home) / name / "index.html").write_text("coming soon")
        (Path(home) / "www" / "index.html").chmod(0)
        (Path(home) / "locked").chmod(0)
        Path(home).chmod(0o755)
        taken(plan, "millbrook", LocalFolder.open(Path(home) / "www"))  # the catalogue is read while that is allowed
        root = os.geteuid() == 0
        os.seteuid(65534 if root else os.geteuid())  # root may read everything
        try:
            seen = taken(plan, "millbrook", LocalFolder.open(Path(home)))
        finally:
            os.seteuid(0 if root else os.geteuid())
    assert [(one.folder, one.trouble) for one in seen.troubles] == [("locked", "permission denied")]
    assert (seen.files, seen.placeholders) == (1, [])


def test_applications_are_known_by_their_files_and_their_version(work: Work) -> None:
    shop = {"shop.php": "", "barrow/core.php": "BARROW_VERSION = '4.2\x1b';"}
    tree = {f"{base}{name}": text for base in ("www/", "www/deep/er/", "") for name, text in shop.items()}
    work.account(PLAIN).there(tree | {"half/shop.php": "", "www/barrow/shop.php": "", "www/barrow/barrow/core.php": ""})
    survey = work.stored()
    found = [(one.folder, one.application, one.version, one.evidence) for one in survey.applications]
    marks = ["shop.php", "barrow/core.php"]
    assert found == [(base, "barrowshop", "4.2\x1b", marks) for base in ("", "www", "www/deep/er")]
    assert "\x1b" not in work.run("check").stdout + work.run("map", "--by", "folder").stdout


@pytest.mark.deeper
@pytest.mark.parametrize(
    "broken",
    [b"", b"{", b"[1]", b'{"kettlepost":2}', b"\xff\xfe", b"[" * 100_000, b'{"kettlepost":1,"account":"x","taken":"","source"'
     b':"","folders":[{"folder":"../up"}]}', b'{"kettlepost":1,"account":"x","taken":"","source":"","folders":[]}'],
)  # fmt: skip
def test_a_broken_survey_is_told_and_counts_as_none(work: Work, broken: bytes) -> None:
    work.account(PLAIN).there({"www/a": ""})
    work.account(PLAIN.replace("a.example", "b.example"), "other").there(
        {"www/dump.sql": "", "www/index.html": "Geese."}, "other"
    )
    (work.plan / "surveys" / "millbrook.json").write_bytes(broken)
    commands = (["check"], ["check"], ["map"], ["domain", "list"], ["installs"], ["where", "a.example"])
    for words in commands if PROOF or broken == b"{" else commands[:2]:
        done = work.run(*words)
        assert done.returncode in (0, 1)
        assert "surveys/millbrook.json: " in done.stderr, words
        assert "counted as not surveyed" in done.stderr
    told = work.json("check")
    assert (told["unsurveyed"], len(told["troubles"])) == (["millbrook"], 1)
    assert {one["account"] for one in told["findings"]} == {"other"}  # the others go on
    assert work.json("where", "a.example")["answers"] == "unknown"
    done = work.run("domain", "add", "c.example", "--account", "millbrook", "--yes")
    assert (done.returncode, "counted as not surveyed" in done.stderr) == (0, True)
    for words in (["survey", "--show", "millbrook"], ["adopt", "millbrook"]):
        done = work.run(*words)
        assert (done.returncode, "take it again: kettlepost survey millbrook" in done.stderr) == (2, True)


def test_what_no_plan_can_name_is_counted_and_the_rest_is_seen(work: Work) -> None:
    """Folders so deep that their path from the home is longer than a file system takes at once."""
    home = work.homes / "millbrook"
    (home / "www").mkdir(parents=True)
    (home / "www/index.html").write_text("Our own page about geese and ganders.")
    handle = os.open(home / "www", os.O_RDONLY)
    for _ in range(22):
        os.mkdir("d" * 250, dir_fd=handle)
        below = os.open("d" * 250, os.O_RDONLY, dir_fd=handle)
        os.close(handle)
        handle = below
        os.close(os.open("page.html", os.O_CREAT | os.O_WRONLY, dir_fd=handle))
    os.close(handle)
    listing = work.plan.parent / "listing.txt"
    path = "/".join(["./www", *["d" * 250] * 22])
    with listing.open("w") as out:
        for end in range(len("./www"), len(path) + 1, 251):
            out.write(f"d 1 1 {path[:end]}\0\0f 1 1 {path[:end]}/page.html\0\0")
    work.account(PLAIN)
    for source, told in ((home, "with too long a path"), (listing, "files and folders below it with too long a path")):
        done = work.run("survey", "millbrook", "--from", str(source))
        assert done.returncode == 0, done.stderr
        assert told in done.stdout
        assert work.run("check").returncode in (0, 1)
        assert told in work.run("survey", "--show", "millbrook").stdout
        assert work.json("where", "a.example")["folder"] == "www"
        (deepest,) = work.stored().troubles
        assert (deepest.folder.depth, deepest.unnamed) in ((17, 1), (17, 12))
