"""Reading plans: every fault is told with its file, line, and what would be right."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import DEMO_SETTINGS, Work, examples, run
from kettlepost.core.errors import PlanError
from kettlepost.core.plan.source import lines_of
from kettlepost.workspace.files import write_whole
from kettlepost.workspace.plan_folder import read_plan

PRIMARY = '[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n'


@pytest.mark.parametrize(
    ("tables", "told"),
    [
        ('[[domain]]\nname = "a.example"\nkind = "adon"\n', ':6: kind "adon" is not one of primary, addon, subdomain, '
         'alias, temporary; did you mean "addon"?'),
        ('[[domain]]\nname = "a.example"\nkind = "addon"\nrot = "www"\n', ':7: "rot" is no key of [domain]; did you mean "root"?'),
        ('[[domain]]\nkind = "addon"\nroot = "www"\n', ':4: [domain] lacks "name"'),
        ('[domain]\nname = "a.example"\n', "is to be a list of tables, each begun with [[domain]]"),
        ('[[domain]]\nname = 7\nkind = "addon"\nroot = "w"', ":5: name is to be text in quotes, not a number"),
        ('[[domain]]\nname = "a_b"\nkind = "addon"\nroot = "w"', ':5: name: "a_b" is no host name'),
        ('[[domain]]\nname = "a.example"\nkind = "addon"\nroot = "../up"', ":7: root: \"../up\" climbs with '..'"),
        ('[[domain]]\nname = "a.example"\nkind = "addon"', ':6: addon domain a.example lacks "root"'),
        ('[[domain]]\nname = "a.example"\nkind = "alias"\nof = "a.example"', ":7: a.example stands for itself"),
        (PRIMARY + '[[installation]]\napplication = "barowshop"\naddress = "a.example"', 'did you mean "barrowshop"?'),
        (PRIMARY + '[[installation]]\napplication = "barrowshop"\naddress = "a.example"\n'
         'database = {\n  name = "x", prefx = "y" }', ':11: "prefx" is no key of database; did you mean "prefix"?'),
        ('[account]\nname = "millbrook"\npackage = "coper"\n', ':3: package "coper" is not in kettlepost.toml; '
         'did you mean "copper"?'),
        ('[account]\nname = "millbrook"\nweb_server = "apach"\n', ':3: web_server "apach" is neither'),
        ('[account]\nname = "mill"\n', ':2: account "mill" stands in accounts/millbrook.toml'),
        (PRIMARY + '[[accept]]\nfinding = "x"\nat = "y"\nbecause = "z"\nuntil = "soon"', "is to be a date such as"),
        ('[[domain]\nname = "x"', ":4: not TOML"),
        ('[[domain]]\nname = "a.example\x1b[2J"\nkind = "addon"\nroot = "w"', "not TOML"),
    ],
)  # fmt: skip
def test_a_fault_names_line_and_remedy(work: Work, tables: str, told: str) -> None:
    done = work.account(tables).run("check")
    assert (done.returncode, done.stdout) == (2, "")
    assert "accounts/millbrook.toml:" in done.stderr
    assert told in done.stderr
    assert "\x1b" not in done.stderr


@pytest.mark.parametrize(
    ("keys", "told"),
    [
        ('allow_override = ["Al"]', ':2: [allow_override] "Al" is not one of All,'),
        ('allow_override = "All"', ":2: allow_override is to be a list"),
        ('allow_override = ["All", "None"]', ':2: allow_override: "All" and "None" stand alone'),
        ('kind = "nginx"', ":2: web_server.apache is apache"),
        ('php_files = ["php"]', ":2: php_files: \"php\" is to begin with a point"),
        ('index_files = ["a/b"]', ":2: index_files: \"a/b\" is no file name"),
        ('modules = ["proxy"]\nlacks = ["proxy"]', ":3: proxy is among the modules that it has"),
        ('list = true', ':2: "list" is no key of apache; did you mean "lists"?'),
    ],
)  # fmt: skip
def test_a_fault_of_a_web_servers_record_names_line_and_remedy(work: Work, keys: str, told: str) -> None:
    done = work.account(PRIMARY, settings=f"[web_server.apache]\n{keys}\n").run("check")
    assert (done.returncode, f"kettlepost.toml{told}" in done.stderr) == (2, True), done.stderr


def test_all_faults_are_told_at_once_also_those_of_the_settings(work: Work) -> None:
    work.account(PRIMARY.replace("primary", "prim"), settings='[settings]\nindex = ["a"]\n')
    work.account('[[domain]]\nname = ".."\n', name="other", settings="[package.x]\naddon_domains = true\n")
    with pytest.raises(PlanError) as caught:
        read_plan(work.plan)
    assert [problem.file for problem in caught.value.faults] == [
        "kettlepost.toml", "accounts/millbrook.toml", "accounts/other.toml", "accounts/other.toml",
    ]  # fmt: skip


def test_lines_are_those_of_the_tables_whatever_strings_hold() -> None:
    text = 'a = """\n[[domain]]\n"""\n[[domain]] # [x]\nname = \'[[domain]]\'\nalso = [\n  "#",\n]\n[[domain]]\n\n"na me" = {x = 1}\n'
    assert lines_of(text) == {
        ("a",): 1, ("domain", 0): 4, ("domain", 0, "name"): 5, ("domain", 0, "also"): 6,
        ("domain", 1): 9, ("domain", 1, "na me"): 11, ("domain", 1, "na me", "x"): 11,
    }  # fmt: skip


@settings(max_examples=examples(150), suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(
    st.lists(
        st.sampled_from([*"\"'[]{}=#.\n\\,-0aé\x1b", "[[domain]]\n", 'kind = "addon"\n', "name=", "true"]), max_size=25
    )
)
def test_no_text_is_more_than_a_plan_error(work: Work, pieces: list[str]) -> None:
    work.account("", settings=DEMO_SETTINGS)
    (work.plan / "accounts" / "millbrook.toml").write_text("".join(pieces))
    with pytest.raises(PlanError) as caught:
        read_plan(work.plan)
    assert all(
        problem.file == "accounts/millbrook.toml" and str(problem).isprintable() for problem in caught.value.faults
    )


def test_a_new_plan_has_nothing_to_find_and_is_never_overwritten(tmp_path: Path) -> None:
    assert run("new", str(tmp_path / "p"), "--account", "fern", "--client", "Fern").returncode == 0
    done = run("check", cwd=tmp_path / "p" / "accounts")
    assert (done.returncode, done.stdout) == (0, "1 account checked, 1 with nothing to find: 0 stop, 0 risk, 0 note\n")
    before = (tmp_path / "p" / "kettlepost.toml").read_bytes()
    again = run("new", str(tmp_path / "p"))
    assert again.returncode == 2
    assert "is not empty" in again.stderr
    assert (tmp_path / "p" / "kettlepost.toml").read_bytes() == before


def test_a_file_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    path = tmp_path / "a.json"
    write_whole(path, b"old")
    path.chmod(0o640)
    write_whole(path, b"new")
    assert (path.read_bytes(), path.stat().st_mode & 0o777) == (b"new", 0o640)
    assert list(tmp_path.iterdir()) == [path]
