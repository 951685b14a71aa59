"""Whatever stands in a plan, its settings or a survey: a clear error, or an answer."""

from __future__ import annotations

import datetime
import json
import resource
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from conftest import DEMO_SETTINGS, TODAY, Work, examples
from kettlepost.core.answering import by_address, by_folder, where
from kettlepost.core.checking import check
from kettlepost.core.errors import KettlepostError
from kettlepost.core.layout import inventory
from kettlepost.core.names import Address, Folder, HostName, InvalidName
from kettlepost.workspace.check_cache import check_plan
from kettlepost.workspace.plan_folder import PlanFolder
from test_rules import BASE, domain, installation

LOOSE = settings(max_examples=examples(120), suppress_health_check=list(HealthCheck), deadline=None)
WHOLE = (
    '[account]\nname = "millbrook"\nhome = "/srv/m"\npackage = "copper"\naddon_also = "{label}.{primary}"\n'
    + 'reserved_paths = ["post"]\ndatabase_server = "postgresql"\n\n'
    + BASE
    + domain(
        "b.example",
        "www/b",
        more='state = "live"\nroot_now = "b"\nwww = "both"\nhttps = true\npoints_here = false\nprotected = true\nalso = ["c.example"]',
    )
    + '[[domain]]\nname = "t.example"\nkind = "temporary"\npath = "~m"\nof = "a.example"\n\n'
    + '[[path_alias]]\naddress = "a.example/media"\nfolder = "media"\n\n[[certificate]]\ncovers = ["*.a.example"]\n\n'
    + installation(
        "a.example/x",
        more='database = { name = "d", prefix = "p_", user = "u", server = "s" }\nstaging_of = "a.example"',
    )
    + '[[accept]]\nfinding = "nested-root"\nat = "www/b"\nbecause = "x"\nuntil = 2027-01-01\n'
)
SURVEY = json.dumps(
    {
        "kettlepost": 1, "account": "millbrook", "taken": "2026-11-23T06:00:00Z", "source": "here",
        "folders": [{"folder": ""}, {"folder": "www", "files": 2, "names": ["a", "index.php"], "index": ["index.php"]}],
        "applications": [{"folder": "www", "application": "barrowshop", "evidence": ["shop.php"], "database": {"name": "d"}}],
        "placeholders": [{"folder": "www", "file": "index.html", "kind": "empty", "because": "x"}],
        "controls": [{"folder": "www", "file": ".htaccess", "effects": [{"does": "rewrites every path", "line": 1, "what": "/x"}]}],
        "exposed": [{"folder": "www", "name": "x.sql", "kind": "database dump"}],
        "oddities": [{"folder": "www", "name": "X", "kind": "capitals in the name"}],
        "links": [{"folder": "", "name": "l", "target": "../../.."}],
    },
    indent=1,
)  # fmt: skip
PIECES = [
    "\0",
    "\x1b[2J",
    "é",
    "'" * 3,
    '"""',
    "[[",
    "]]",
    "{",
    "}",
    "=",
    "..",
    "/",
    "\\",
    "9" * 30,
    "nan",
    "-",
    "\n",
    "1e999",
    "\ud800",
]


@st.composite
def spoiled(draw: st.DrawFn, text: str) -> bytes:
    """A file with some of it gone, doubled, moved, or something else in its place."""
    raw = text
    for _ in range(draw(st.integers(1, 4))):
        at, length = draw(st.integers(0, len(raw))), draw(st.integers(0, 30))
        piece = draw(st.one_of(st.sampled_from(PIECES), st.text(max_size=6), st.just(raw[at : at + length] * 2)))
        raw = raw[:at] + piece + raw[at + length :]
    data = raw.encode("utf-8", "surrogatepass")
    return data[: draw(st.integers(0, len(data)))] if draw(st.booleans()) and draw(st.booleans()) else data


@pytest.fixture(autouse=True)
def little_memory() -> Iterator[None]:
    """Nothing here may take memory out of proportion."""
    before = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (6 << 30, before[1]))
    yield
    resource.setrlimit(resource.RLIMIT_AS, before)


def everything(work: Work) -> None:
    """Ask all there is to ask; only errors with a message may come of it."""
    try:
        found = check_plan(PlanFolder(work.plan), TODAY).findings
        layout = work.layout()
    except KettlepostError as error:
        assert str(error)
        return
    assert sorted((one.rule, one.at) for one in check(layout, TODAY).findings) == sorted(
        (one.rule, one.at) for one in found
    )
    for name, here in layout.accounts.items():
        rows = [*by_address(layout, here), *by_folder(layout, here)]
        assert rows or not here.account.domains
        for mount in [mount for there in here.hosts.values() for mount in there]:
            for when in ("now", "planned"):
                where(layout, mount.address.below("x/y"), when)  # type: ignore[arg-type]
        assert (inventory(here) is None) == (layout.accounts[name].survey is None)


@LOOSE
@given(spoiled(WHOLE))
@example(b"\xff\xfe")
@example(b"[account]\nname = 'millbrook'\n" + b"a" * 100_000 + b" = 1")
@example(b"x = " + b"[" * 5_000)
def test_no_plan_ends_in_anything_but_an_error_or_an_answer(work: Work, raw: bytes) -> None:
    work.account(WHOLE)
    (work.plan / "accounts/millbrook.toml").write_bytes(raw)
    everything(work)


@LOOSE
@given(spoiled(DEMO_SETTINGS))
def test_no_settings_end_in_anything_but_an_error_or_an_answer(work: Work, raw: bytes) -> None:
    work.account(WHOLE)
    (work.plan / "kettlepost.toml").write_bytes(raw)
    everything(work)


@pytest.mark.proof
@LOOSE
@given(spoiled(SURVEY))
@example(b"[" * 100_000)
@example(SURVEY.replace('"www"', '"' + "a/" * 2_000 + '"').encode())
def test_no_survey_ends_in_anything_but_an_error_or_an_answer(work: Work, raw: bytes) -> None:
    work.account(WHOLE)
    (work.plan / "surveys").mkdir(exist_ok=True)
    (work.plan / "surveys/millbrook.json").write_bytes(raw)
    everything(work)


@LOOSE
@given(st.binary(max_size=300))
def test_no_cache_ends_in_anything_but_the_same_answer(work: Work, raw: bytes) -> None:
    work.account(WHOLE)
    (work.plan / ".kettlepost").mkdir(exist_ok=True)
    (work.plan / ".kettlepost/checked").write_bytes(raw)
    assert check_plan(PlanFolder(work.plan), datetime.date(2026, 11, 23)).findings


@LOOSE
@given(st.text(max_size=60))
def test_names_are_parsed_or_refused_and_stay_as_they_are(text: str) -> None:
    for kind in (HostName, Folder, Address):
        try:
            parsed = kind.parse(text)
        except InvalidName as error:
            assert str(error).isprintable()
            continue
        assert kind.parse(str(parsed) if kind is not Folder else parsed.shown if parsed else "") == parsed  # type: ignore[attr-defined]


@pytest.mark.proof
@pytest.mark.parametrize(("program", "number"), [("mutate_inputs.py", 20_000), ("kill_runs.py", 40)])
def test_neither_spoilt_inputs_nor_kills_do_harm(program: str, number: int) -> None:
    """A part of what `tests/mutate_inputs.py` and `tests/kill_runs.py` try where more time is given to them."""
    words = [
        sys.executable,
        str(Path(__file__).with_name(program)),
        str(number),
        str(datetime.date.today().toordinal()),
    ]
    done = subprocess.run(words, capture_output=True, text=True, check=False, timeout=900)
    assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-3000:]
