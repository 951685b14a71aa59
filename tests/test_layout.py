"""The layout against answers worked out the slow way, and records through storing and comparing."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import TODAY, Work, examples
from kettlepost.core.answering import by_folder
from kettlepost.core.checking import check
from kettlepost.core.errors import PlanError
from kettlepost.core.layout import Contents, inventory, join
from kettlepost.core.names import Folder, HostName
from kettlepost.core.rules.ways_out import free_root, is_free
from kettlepost.core.survey import (
    FoundApplication,
    FoundControl,
    FoundDatabase,
    FoundExposed,
    FoundFolder,
    FoundLink,
    FoundOddity,
    FoundPlaceholder,
    FoundSite,
    Survey,
    compare,
)
from kettlepost.core.survey.records import Effect
from kettlepost.render.sentences import text
from kettlepost.workspace.plan_folder import read_plan
from kettlepost.workspace.surveys import store_survey

LOOSE = settings(max_examples=examples(60), suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
SEGMENT = st.sampled_from(["www", "a", "b", "a-b", "a b", "shop", "0", "~x"])
FOLDERS = st.lists(SEGMENT, max_size=4).map(lambda parts: Folder("/".join(parts)))
RAW = st.binary(min_size=1, max_size=9).map(lambda raw: raw.replace(b"\0", b"\1").decode("utf-8", "surrogateescape"))
NAME = RAW.map(lambda name: name.replace("/", "|")).filter(lambda name: name not in (".", ".."))
PLACE = st.lists(NAME, max_size=3).map(lambda parts: Folder("/".join(parts)))


def survey_of(folders: dict[Folder, int], **found: list[object]) -> Survey:
    """A survey of folders with so many files of ten bytes each; those above them are there too."""
    whole = {above: 0 for folder in folders for above in folder.above()} | {Folder(""): 0} | folders
    records = [FoundFolder(folder, files=n, bytes=10 * n, newest=n) for folder, n in whole.items()]
    return Survey(
        1, "millbrook", "2026-11-23T06:00:00Z", "here", sorted(records, key=lambda one: one.folder.tree_key), **found
    )  # type: ignore[arg-type]


TREES = st.dictionaries(FOLDERS, st.integers(0, 5), max_size=12).map(survey_of)


@LOOSE
@given(TREES, FOLDERS)
def test_contents_answer_as_a_full_look_would(survey: Survey, asked: Folder) -> None:
    contents = Contents(survey)
    inside = [found for found in survey.folders if found.folder.is_inside(asked)]
    whole = inside + [found for found in survey.folders if found.folder == asked]
    assert sorted(contents.inside(asked)) == sorted(found.folder for found in inside)
    assert contents.totals(asked) == (
        sum(f.files for f in whole),
        sum(f.bytes for f in whole),
        max((f.newest for f in whole), default=0),
    )
    assert sorted(contents.children(asked)) == sorted(f.folder for f in inside if f.folder.parent == asked)


@LOOSE
@given(TREES, st.lists(FOLDERS.filter(bool), max_size=5))
def test_a_free_root_is_free_by_every_account(work: Work, survey: Survey, roots: list[Folder]) -> None:
    tables = "".join(
        f'[[domain]]\nname = "x{n}.example"\nkind = "addon"\nroot = "{root}"\n' for n, root in enumerate(roots)
    )
    plan = read_plan(work.account(tables).plan)
    here = join(plan, {"millbrook": survey}).accounts["millbrook"]
    offered = free_root(here, HostName("shop.example"))
    assert is_free(here, offered)
    assert not [root for root in roots if root == offered or root.is_inside(offered) or offered.is_inside(root)]
    assert not [
        found
        for found in survey.folders
        if found.files and (found.folder == offered or found.folder.is_inside(offered))
    ]


@LOOSE
@given(TREES, st.lists(FOLDERS, max_size=4))
def test_trees_and_inventories_leave_no_folder_out(work: Work, survey: Survey, roots: list[Folder]) -> None:
    tables = "".join(
        f'[[domain]]\nname = "x{n}.example"\nkind = "addon"\nroot = "{root}"\n' for n, root in enumerate(roots)
    )
    layout = join(read_plan(work.account(tables).plan), {"millbrook": survey})
    here = layout.accounts["millbrook"]
    for every in (False, True):
        rows = by_folder(layout, here, every)
        shown = {row.folder for row in rows}
        assert len(rows) == len(shown)
        assert {*roots} <= shown
        assert sum(row.hidden for row in rows) == len({found.folder for found in survey.folders} - shown)
    view = inventory(here)
    assert view is not None
    assert view.rows[0].files == survey.files
    assert len(view.rows) + sum(row.hidden for row in view.rows) == len(survey.folders)
    assert check(layout, TODAY).unsurveyed == []


@LOOSE
@given(PLACE, NAME, st.text(max_size=8), RAW)
def test_whatever_names_hold_a_survey_is_read_back_as_it_was(
    work: Work, place: Folder, name: str, words: str, target: str
) -> None:
    plan = read_plan(work.account("").plan)
    words = words.encode("utf-8", "replace").decode()
    survey = survey_of(
        {place: 1},
        applications=[
            FoundApplication(
                place, "barrowshop", [name], words, name, "copy", [name], FoundDatabase(words, words, name, name)
            )
        ],
        sites=[FoundSite(place, "static site", [name])],
        placeholders=[FoundPlaceholder(place, name, "empty", words)],
        controls=[FoundControl(place, name, [Effect("redirects", 3, words)])],
        exposed=[FoundExposed(place, name, "log")],
        oddities=[FoundOddity(place, name, "differs by case only", name)],
        links=[FoundLink(place, name, target)],
    )
    survey.folders[-1].names = survey.folders[-1].index = (name,)
    path = store_survey(work.plan, survey)
    assert work.stored() == survey
    assert all(line.isprintable() for line in path.read_text("utf-8").split("\n"))
    layout = join(plan, {"millbrook": survey})
    view = inventory(layout.accounts["millbrook"])
    assert view is not None
    assert all((remark.at + text(remark.words)).isprintable() for remark in view.remarks)


@LOOSE
@given(TREES, TREES)
def test_a_comparison_tells_every_difference_and_no_other(before: Survey, after: Survey) -> None:
    assert compare(before, before) == []
    there = {found.folder: found for found in before.folders}
    now = {found.folder: found for found in after.folders}
    told = compare(before, after)
    assert bool(told) == (there != now)
    opposite = {"came": "went", "went": "came", "changed": "changed"}
    assert sorted((opposite[one.change], one.at) for one in told) == sorted(
        (one.change, one.at) for one in compare(after, before)
    )
    for one in told:
        folder = Folder("" if one.at == "(home)" else one.at)
        assert (one.change == "came") == (folder in now and folder not in there)
        assert one.change == "changed" or (folder.parent in there and folder.parent in now)


@pytest.mark.parametrize(
    ("entry", "told"),
    [
        ('id = "Bad Id"', 'id "Bad Id" is to be lower-case'),
        ('id = "a"\n[[application]]\nid = "a"', 'id "a" is taken by the entry at line 1'),
        ('id = "a"\nall_of = ["/etc/passwd"]', 'all_of: "/etc/passwd" is to be a path below'),
        ('id = "a"\nfolders = ["../up"]', 'folders: "../up" is to be a path below'),
        ('id = "a"\nconfig = { file = "../../secret" }', 'config: "../../secret" is to be a path below'),
        ('id = "a"\nfront_file = "../up.php"', 'front_file: "../up.php" is to be a path below'),
        ('id = "a"\nstops_mail = { file = "/up.php", lines = [] }', 'stops_mail: "/up.php" is to be a path below'),
        ('id = "a"\nversion = { file = "v", pattern = "[0-9" }', "is no regular expression"),
        ('id = "a"\nversion = { file = "v", pattern = "[0-9]+" }', "has no group"),
        ('id = "a"\nmarker = ["x"]', '"marker" is no key of [application]'),
        ('id = "a"\n[settings]\nindex_files = []', "index_files is empty"),
        ('id = "a"\n[settings]\nindex_files = ["a/b"]', '"a/b" is no file name'),
        ('id = "a"\n[package.x]\ndatabases = "4"', "databases is to be a whole number, not the text"),
    ],
)
def test_a_wrong_entry_of_the_settings_is_told(work: Work, entry: str, told: str) -> None:
    work.account("", settings=f"[[application]]\n{entry}\n")
    with pytest.raises(PlanError) as caught:
        read_plan(work.plan)
    assert told in str(caught.value)
    assert all(problem.file == "kettlepost.toml" for problem in caught.value.faults)


def test_a_plan_folder_is_found_upwards_by_name_and_by_environment(work: Work, tmp_path: Path) -> None:
    from conftest import run

    work.account("")
    below = work.plan / "accounts" / "deep"
    below.mkdir()
    assert run("check", cwd=below).returncode == 0
    assert run("check", cwd=tmp_path, env={"KETTLEPOST_PLAN": str(work.plan), "PATH": ""}).returncode == 0
    lost = run("check", cwd=tmp_path, env={"PATH": ""})
    assert (lost.returncode, "kettlepost new FOLDER" in lost.stderr) == (2, True)
