"""The documentation: every example is what the program says, every link leads somewhere, every table is current."""

from __future__ import annotations

import ast
import re
import shlex
import sys
from pathlib import Path

import pytest

from conftest import Work, release, run

ROOT = Path(__file__).parent.parent
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").glob("*.md"))]
_CONSOLE = re.compile(r"^```console\n(.*?)^```$", re.MULTILINE | re.DOTALL)
EXAMPLES = [
    pytest.param(command, output, id=f"{page.stem}: {command}"[:60])
    for page in PAGES
    for block in _CONSOLE.findall(page.read_text("utf-8"))
    for command, output in re.findall(r"^\$ kettlepost (.*)\n((?:(?!\$ ).*\n)*)", block, re.MULTILINE)
]


def test_every_page_about_the_work_has_an_example() -> None:
    told = {example.id.partition(":")[0] for example in EXAMPLES}  # type: ignore[union-attr]
    assert told >= {"README", "answers", "checking", "placing", "survey"}


@pytest.mark.parametrize(("command", "output"), EXAMPLES)
def test_an_example_is_what_the_program_says(demo: tuple[Work, str], command: str, output: str) -> None:
    """A line of three dots stands for any lines, three dots in a line for any text."""
    if command.startswith("place --as"):
        demo[0].run("weigh", "barrowshop", "harrowgatecycles.example", "--new-domain", "cyclebits.example")
    done = run(*shlex.split(command), cwd=demo[0].plan)
    assert done.returncode in (0, 1), done.stderr
    said = "".join(f"{line.rstrip()}\n" for line in (done.stdout + done.stderr).rstrip("\n").split("\n"))
    pattern = "".join(
        r"(?:.*\n)*" if line == "..." else re.escape(line).replace(r"\.\.\.", ".*") + "\n"
        for line in output.rstrip("\n").split("\n")
    )
    assert re.fullmatch(pattern, said), said


def test_every_link_of_the_documentation_leads_somewhere() -> None:
    for page in PAGES:
        text = page.read_text("utf-8")
        for target in re.findall(r"\]\(([^)#\s]+)(?:#[^)]*)?\)", text):
            assert "://" in target or (page.parent / target).exists(), f"{page.name}: {target}"
        for target in re.findall(r"`((?:core|tests|render|workspace|sources|cli)/[\w/]+\.py)`", text):
            assert (ROOT / target).exists() or (ROOT / "src/kettlepost" / target).exists(), f"{page.name}: {target}"


def test_no_two_classes_share_a_name() -> None:
    named: dict[str, list[str]] = {}
    for path in (ROOT / "src").rglob("*.py"):
        for name in re.findall(r"^ *class (\w+)", path.read_text("utf-8"), re.MULTILINE):
            named.setdefault(name, []).append(path.name)
    assert {name: places for name, places in named.items() if len(places) > 1} == {}


def test_an_option_that_commands_share_is_declared_once() -> None:
    found: dict[str, list[str]] = {}
    for path in (ROOT / "src/kettlepost/cli").glob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Call) and ast.unparse(node.func) in ("typer.Option", "typer.Argument"):
                found.setdefault(ast.unparse(node), []).append(f"{path.name}:{node.lineno}")
    assert len(found) > 80
    assert {told: places for told, places in found.items() if len(places) > 1} == {}


def test_the_readme_is_a_door() -> None:
    text = (ROOT / "README.md").read_text("utf-8")
    assert text.count("\n") <= 150
    assert {"make demo", "make test"} <= set(re.findall(r"make \w+", text))


@pytest.mark.parametrize(("page", "maker"), [("findings", "make_findings"), ("plan-keys", "make_reference")])
def test_what_is_made_is_current(page: str, maker: str) -> None:
    sys.path.insert(0, str(ROOT / "docs"))
    module = __import__(maker)
    made = module.findings_page() if page == "findings" else module.reference_page()
    assert (ROOT / "docs" / f"{page}.md").read_text("utf-8") == made, "run: make docs"


def test_the_first_ten_minutes_go_as_they_are_told(tmp_path: Path) -> None:
    readme, plan = ((ROOT / name).read_text("utf-8") for name in ("README.md", "docs/plan.md"))
    work = Work(tmp_path)
    work.plan = tmp_path / "sites"
    assert run("new", str(work.plan)).returncode == 0
    (tables,) = re.findall(r"^```toml\n(.*?)^```$", readme, re.MULTILINE | re.DOTALL)
    (work.plan / "accounts" / "millbrook.toml").write_text(tables)
    (work.homes / "millbrook/www/choir").mkdir(parents=True)
    config = "<?php\ndefine('DB_NAME', 'millb_choir');\n$table_prefix = 'c_';\n"
    work.there(release("wordpress", "www/choir") | {"www/choir/wp-config.php": config})
    assert work.run("survey", "millbrook", "--from", str(work.homes / "millbrook")).returncode == 0
    done = work.run("adopt", "millbrook", "--yes")
    assert (done.returncode, 'address = "lanternchoir.example"' in done.stdout) == (0, True), done.stderr
    assert {found["rule"] for found in work.json("check")["findings"]} >= {"nested-root"}
    (keys,) = re.findall(r"^```toml\n(.*?)^```$", plan, re.MULTILINE | re.DOTALL)
    settings = (work.plan / "kettlepost.toml").read_text() + "\n[package.copper]\naddon_domains = 5\n"
    own = '\n[[application]]\nid = "quillmoor"\nall_of = ["quill.php"]\n'
    work.account(keys, settings=settings + own)
    assert work.run("check").returncode in (0, 1)
