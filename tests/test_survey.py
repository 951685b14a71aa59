"""Surveys: what is there is seen, whatever it is called and whoever stands in the way."""

from __future__ import annotations

import os
import socket
import tempfile
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import Work
from kettlepost.core.plan import read_plan
from kettlepost.core.survey import LocalFolder, encode_survey, read_survey, store_survey, take_survey

PLAIN = '[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n'
NAMES = st.binary(min_size=1, max_size=12).filter(lambda raw: not {0, 47} & set(raw) and raw not in (b".", b".."))


@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
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
    taken = take_survey(plan, "millbrook", LocalFolder.open(Path(os.fsdecode(home))), "2026-11-23T06:00:00Z")
    assert (taken.files, taken.bytes) == (len(written), sum(written.values()))
    store_survey(plan, taken)
    assert read_survey(plan, "millbrook") == taken
    assert encode_survey(taken).count(b"\n") > len(taken.folders)


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
    survey = read_survey(read_plan(work.plan), "millbrook")
    assert survey is not None
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
        root = os.geteuid() == 0
        os.seteuid(65534 if root else os.geteuid())  # root may read everything
        try:
            taken = take_survey(plan, "millbrook", LocalFolder.open(Path(home)), "2026-11-23T06:00:00Z")
        finally:
            os.seteuid(0 if root else os.geteuid())
    assert [(one.folder, one.trouble) for one in taken.troubles] == [("locked", "permission denied")]
    assert (taken.files, taken.placeholders) == (1, [])


def test_applications_are_known_by_their_files_and_their_version(work: Work) -> None:
    shop = {"shop.php": "", "barrow/core.php": "BARROW_VERSION = '4.2\x1b';"}
    tree = {f"{base}{name}": text for base in ("www/", "www/deep/er/", "") for name, text in shop.items()}
    work.account(PLAIN).there(tree | {"half/shop.php": "", "www/barrow/shop.php": "", "www/barrow/barrow/core.php": ""})
    survey = read_survey(read_plan(work.plan), "millbrook")
    assert survey is not None
    found = [(one.folder, one.application, one.version, one.evidence) for one in survey.applications]
    marks = ["shop.php", "barrow/core.php"]
    assert found == [(base, "barrowshop", "4.2\x1b", marks) for base in ("", "www", "www/deep/er")]
    assert "\x1b" not in work.run("check").stdout + work.run("map", "--by", "folder").stdout


@pytest.mark.parametrize(
    "broken",
    [b"", b"{", b"[1]", b'{"kettlepost":2}', b"\xff\xfe", b"[" * 100_000, b'{"kettlepost":1,"account":"x","taken":"","source"'
     b':"","folders":[{"folder":"../up"}]}', b'{"kettlepost":1,"account":"x","taken":"","source":"","folders":[]}'],
)  # fmt: skip
def test_a_broken_survey_is_named_with_its_remedy(work: Work, broken: bytes) -> None:
    work.account(PLAIN).there({"www/a": ""})
    (work.plan / "surveys" / "millbrook.json").write_bytes(broken)
    done = work.run("check")
    assert done.returncode == 2
    assert "surveys/millbrook.json: " in done.stderr
    assert "take it again" in done.stderr
