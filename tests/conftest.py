"""A plan folder of one's own, and the installed program run on it."""

from __future__ import annotations

import datetime
import io
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Mapping
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any, NoReturn

import pytest
from hypothesis import HealthCheck, is_hypothesis_test, settings

from kettlepost.core.checking import Checked, check
from kettlepost.core.layout import PlanLayout, join
from kettlepost.core.plan import Plan
from kettlepost.core.survey import Source, Survey, take_survey
from kettlepost.sources import open_source
from kettlepost.workspace.catalogue import applications, recognised
from kettlepost.workspace.plan_folder import PlanFolder, read_plan
from kettlepost.workspace.surveys import store_survey
from program_server import ProgramServer

PROOF = bool(os.environ.get("KETTLEPOST_PROOF"))
"""Whether tests take the time that a proof takes: servers, kills and as many generated cases as are asked for."""
QUICK = bool(os.environ.get("KETTLEPOST_QUICK"))
"""Whether only what needs no process of its own is tested, on few generated cases: for many runs in a row."""
SAME = QUICK or bool(os.environ.get("CI"))
"""Whether generated cases are the same each time, so that what passed before a change does not fail without one."""
settings.register_profile(
    "kettlepost", deadline=None, suppress_health_check=list(HealthCheck), derandomize=SAME,
    max_examples=100 if PROOF else 15 if QUICK else 25,
)  # fmt: skip
settings.load_profile("kettlepost")
# a program that may not keep what it was compiled to takes twice as long to start, some thousand times
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
PROGRAM = Path(sys.executable).with_name("kettlepost")
TODAY = datetime.date(2026, 11, 23)
SURVEYED = "2026-11-23T06:00:00Z"
DEMO_SETTINGS = files("kettlepost").joinpath("demo/plan/kettlepost.toml").read_text("utf-8")
SETTINGS = DEMO_SETTINGS.replace("[settings]\n", '[settings]\nwww = "apart"\n')
"""The same where nothing is said of www, nor asked."""


def examples(number: int) -> int:
    """How many generated cases a test tries: so many for a proof, a quarter of them else."""
    return number if PROOF else max(number // (10 if QUICK else 4), 12)


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """A proof leaves out what `make test` has done: it has what is marked for it, and what then tries more cases."""
    left = [item for item in items if PROOF and not _is_deeper(item)]
    if len(left) < len(items):
        config.hook.pytest_deselected(items=left)
        items[:] = [item for item in items if not PROOF or _is_deeper(item)]


def _is_deeper(item: pytest.Item) -> bool:
    is_marked = any(item.get_closest_marker(name) for name in ("proof", "deeper"))
    return is_marked or is_hypothesis_test(getattr(item, "obj", None))


def lacking(what: str) -> NoReturn:
    """Skip a test for want of something; where everything is to be there, fail it."""
    if os.environ.get("CI"):
        pytest.fail(f"{what} is missing: .ci/run installs it")
    pytest.skip(f"{what} is missing")


class Work:
    """A plan folder and the homes of its accounts, in a temporary folder."""

    def __init__(self, folder: Path):
        self.plan = folder / "plan"
        self.homes = folder / "homes"

    def account(self, tables: str, name: str = "millbrook", settings: str = SETTINGS) -> Work:
        (self.plan / "accounts").mkdir(parents=True, exist_ok=True)
        (self.plan / "kettlepost.toml").write_text(settings)
        head = "" if "[account]" in tables else f'[account]\nname = "{name}"\n\n'
        (self.plan / "accounts" / f"{name}.toml").write_text(head + tables)
        return self

    def there(self, tree: Mapping[str, str | bytes], name: str = "millbrook") -> Work:
        """Lay files out in an account's home (a name that ends in `/` is a folder) and survey it."""
        home = self.homes / name
        home.mkdir(parents=True, exist_ok=True)
        for path, content in tree.items():
            (home / path).parent.mkdir(parents=True, exist_ok=True)
            if path.endswith("/"):
                (home / path).mkdir(exist_ok=True)
            else:
                (home / path).write_bytes(content if isinstance(content, bytes) else content.encode())
        return self.survey(name)

    def survey(self, name: str = "millbrook", moment: str = SURVEYED) -> Work:
        plan = read_plan(self.plan)
        store_survey(self.plan, taken(plan, name, open_source(str(self.homes / name)), moment))
        return self

    def stored(self, name: str = "millbrook") -> Survey:
        """The survey of an account as it lies on disk."""
        survey = PlanFolder(self.plan).read_survey(name)
        assert survey is not None
        return survey

    def layout(self) -> PlanLayout:
        folder = PlanFolder(self.plan)
        surveys = {name: survey for name in folder.names if (survey := folder.survey(name)) is not None}
        outside = {name: seen for name in folder.names if (seen := folder.outside(name)) is not None}
        bases = {name: seen for name in folder.names if (seen := folder.databases(name)) is not None}
        world = {name: seen for name in folder.names if (seen := folder.world(name)) is not None}
        return join(folder.plan(), surveys, outside, bases, world)

    def check(self) -> Checked:
        return check(self.layout(), TODAY)

    def rules(self) -> set[str]:
        return {found.rule for found in self.check().findings}

    def run(self, *words: str, **options: Any) -> subprocess.CompletedProcess[str]:
        return run(*words, "--plan", str(self.plan), **options)

    def json(self, *words: str) -> Any:
        return json.loads(self.run(*words, "--format", "json").stdout)


def taken(plan: Plan, name: str, source: Source, moment: str = SURVEYED) -> Survey:
    """A survey of what a source gives, for an account of a plan."""
    return take_survey(recognised(plan), name, plan.account(name), source, moment)


PHRASE = "a phrase of four words"


@cache
def _empty_keeper() -> bytes:
    """A KDBX file under PHRASE whose key takes a moment, and not the second that keeps guessers away."""
    from pykeepass import create_database

    whole, light = create_database(io.BytesIO(), password=PHRASE), io.BytesIO()
    derivation = whole.kdbx.header.value.dynamic_header.kdf_parameters.data.dict
    derivation["I"].value, derivation["M"].value = 1, 1 << 20
    whole.save(light)
    return light.getvalue()


def keeping_in(path: Path) -> str:
    """Settings by which passwords are kept in a file, which is begun there."""
    path.write_bytes(_empty_keeper())
    path.chmod(0o600)
    return SETTINGS.replace("[settings]\n", f'[settings]\npasswords_in = "{path}"\n')


def release(application: str, folder: str = "") -> dict[str, str]:
    """Files by which an application of the catalogue is known as whole."""
    known = applications()[application]
    marks = (*known.all_of, *known.parts, *known.any_of[:1])
    return {f"{folder}/{path}".lstrip("/"): "" for path in marks}


def deployed(folder: str, base: str = "m_moor", prefix: str = "qm3_", version: str = "5.1") -> dict[str, str]:
    return {
        f"{folder}/quill.php": "", f"{folder}/index.php": "<?php require 'quill.php';", f"{folder}/moor/kernel.php": "",
        f"{folder}/moor/release.txt": f"Quillmoor {version}\n",
        f"{folder}/moor/settings.php": f"<?php $ink_name = '{base}'; $ink_user = 'm_u'; $ink_prefix = '{prefix}';",
    }  # fmt: skip


def run(*words: str, **options: Any) -> subprocess.CompletedProcess[str]:
    """Run the installed program; no output of it is ever a traceback."""
    if QUICK:
        pytest.skip("takes a process of its own")
    if loaded_program().can_run(options):
        done = loaded_program().run(list(map(str, words)), **options)
    else:
        done = subprocess.run(
            [PROGRAM, *words], capture_output=True, text=True, errors="replace", check=False, **options
        )
    assert "Traceback" not in done.stderr, done.stderr
    return done


@cache
def loaded_program() -> ProgramServer:
    return ProgramServer(PROGRAM)


@pytest.fixture
def work(tmp_path: Path) -> Work:
    return Work(tmp_path)


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> tuple[Work, str]:
    """The demo as the command lays it out, and what it said."""
    folder = tmp_path_factory.mktemp("demo") / "fernhollow"
    done = run("demo", str(folder))
    assert done.returncode == 0, done.stderr
    laid = Work(folder)
    laid.homes = folder / "hosting"
    return laid, done.stdout


@pytest.fixture
def open_folder() -> Iterator[Path]:
    """A folder that servers may read which give up being root."""
    folder = Path(tempfile.mkdtemp())
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder)
