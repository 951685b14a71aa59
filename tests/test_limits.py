"""Nothing that is fed in, and no server, fills memory, never ends, or costs the survey that was there."""

from __future__ import annotations

import io
import os
import signal
import socket
import subprocess
import time
import zipfile
from collections.abc import Iterable
from pathlib import Path
from typing import Any, NamedTuple

import pytest
import xlsxwriter

from conftest import PROGRAM, Work
from hostile import FTP, MYSQL, PACKED, SFTP, bad_ftp, bad_mysql, bad_sftp
from kettlepost.core.errors import OutsideError
from kettlepost.sources import RemotePlace, Secrets, database_servers
from test_rules import BASE

PYTHON = Path(PROGRAM).with_name("python")
LAUNCHER = """
import os, sys
child = os.fork()
if not child:
    os.dup2(1, 2)
    os.execv(sys.argv[1], sys.argv[1:])
_, status, used = os.wait4(child, 0)
print("\\n%d" % used.ru_maxrss, flush=True)
os._exit(os.waitstatus_to_exitcode(status))
"""
"""As what a process is said to have used begins with what the one had that began it, that one is to be small."""
MOST = 200
"""So many MB of memory at the most, whatever is fed in."""


class Ended(NamedTuple):
    status: int
    memory: int
    told: str


def measured(work: Work, *words: str, within: float = 120) -> Ended:
    """Run the program as its users do; memory in MB, all that it wrote."""
    command = [PYTHON, "-I", "-S", "-c", LAUNCHER, PROGRAM, *words, "--plan", str(work.plan)]
    done = subprocess.run(
        command, stdin=subprocess.DEVNULL, capture_output=True, check=False, timeout=within,
        env=os.environ | {"KETTLEPOST_PASSWORD": "canary-of-a-password"},
    )  # fmt: skip
    told, _, memory = done.stdout.decode().rstrip("\n").rpartition("\n")
    return Ended(done.returncode, int(memory) // 1024, told)


@pytest.fixture
def before(work: Work) -> bytes:
    """A survey that is there before; whatever comes, it stays."""
    work.account(BASE).there({"www/index.html": "<h1>The railway</h1>"})
    assert work.run("survey", "millbrook", "--from", str(work.homes / "millbrook")).returncode == 0
    return (work.plan / "surveys/millbrook.json").read_bytes()


LONG = {"folders.tar.gz", "links.tar.gz", "names.tar.gz", "bomb.tar.xz", "bomb.tar.bz2", "crowd.zip",
        "depth without end", "entries without end", "data that drip", "lzma.zip", "window.zip", "link.zip",
        "bzip2.zip", "folders without end", "silence in the data", "silence in a file"}  # fmt: skip
"""What takes its time to make, or to be refused."""


def shorter_first(names: Iterable[str]) -> list[Any]:
    """The cases of a test, those that take long as parts of the proof."""
    return [pytest.param(name, marks=[pytest.mark.proof] if name in LONG else []) for name in names]


@pytest.mark.parametrize("name", shorter_first(PACKED))
def test_what_is_packed_with_malice_ends_in_bounded_memory(
    work: Work, before: bytes, tmp_path: Path, name: str
) -> None:
    made, status, words = PACKED[name]
    (tmp_path / name).write_bytes(made())
    ended = measured(work, "survey", "millbrook", "--from", str(tmp_path / name))
    assert (ended.status, words in ended.told, ended.memory <= MOST) == (status, True, True), ended
    assert "Traceback" not in ended.told
    assert status == 0 or (work.plan / "surveys/millbrook.json").read_bytes() == before


@pytest.mark.parametrize("behaviour", shorter_first(FTP))
def test_no_ftp_server_keeps_a_survey_waiting(work: Work, before: bytes, behaviour: str) -> None:
    if behaviour.endswith(("for a port", "port too large")) and not has_newer_addresses():
        pytest.skip("this machine has no address of IPv6")
    with bad_ftp(behaviour) as address:
        ended = measured(work, "survey", "millbrook", "--from", address, *patience(FTP[behaviour]), "--memory", "60")
    hold(ended, work, before, FTP[behaviour])
    if behaviour == "names that are none":
        links = work.json("survey", "millbrook", "--show")
        assert ("/srv/x" in str(links), "803U1" in str(links)) == (True, False)


@pytest.mark.parametrize("behaviour", shorter_first(SFTP))
def test_no_sftp_server_keeps_a_survey_waiting(work: Work, before: bytes, tmp_path: Path, behaviour: str) -> None:
    with bad_sftp(behaviour, tmp_path / "server") as port:
        address = f"sftp://keeper@127.0.0.1:{port}/"
        known = ("--known-hosts", str(tmp_path / "server/known"), *patience(SFTP[behaviour]), "--memory", "20")
        ended = measured(work, "survey", "millbrook", "--from", address, *known)
    hold(ended, work, before, SFTP[behaviour])


def has_newer_addresses() -> bool:
    try:
        socket.create_server(("::1", 0), family=socket.AF_INET6).close()
    except OSError:
        return False
    return True


def patience(words: str) -> tuple[str, str]:
    """Only a server that is silent is waited for as briefly: any other may be kept from its words by a busy machine."""
    return ("--silence", "2" if words == "nothing came of it" else "60")


def hold(ended: Ended, work: Work, before: bytes, words: str) -> None:
    assert (ended.status, words in ended.told) == (3 if words else 0, True), ended
    assert ended.memory <= MOST, ended
    assert ("Traceback" in ended.told, "canary" in ended.told) == (False, False), ended
    assert not words or (work.plan / "surveys/millbrook.json").read_bytes() == before


def test_many_accounts_go_on_without_the_one_that_hangs(work: Work, tmp_path: Path) -> None:
    work.account(BASE).there({"www/index.html": "x"})
    with bad_ftp("silence in the data") as address:
        for name, source in (("hangs", address), ("well", str(work.homes / "millbrook"))):
            work.account(
                f'[account]\nname = "{name}"\nsurvey_from = "{source}"\n'
                + BASE.replace("a.example", f"{name}.example"),
                name,
            )
        (work.plan / "accounts/millbrook.toml").unlink(missing_ok=True)
        log = tmp_path / "log"
        ended = measured(work, "survey", "--all", "--silence", "1", "--quiet", "--log", str(log))
    assert (ended.status, ended.told.startswith("kettlepost: hangs: "), len(ended.told.splitlines())) == (3, True, 1)
    assert (work.plan / "surveys/well.json").exists()
    lines = log.read_text()
    assert ("well is surveyed" in lines, "ERROR" in lines, "canary" in lines) == (True, True, False), lines
    assert os.stat(log).st_mode & 0o777 == 0o600
    quiet = measured(work, "check", "--at-least", "stop", "--quiet", "--log", str(log), "--timeout", "60")
    assert (quiet.status, quiet.told) == (0, "")
    os.mkfifo(tmp_path / "pipe")
    assert measured(work, "check", "--log", str(tmp_path / "pipe"), within=20).status in (2, 3)


def heard() -> None:
    """Let a program hear Ctrl-C, which is ignored by what a script has begun in the background."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
@pytest.mark.parametrize("every", [False, pytest.param(True, marks=pytest.mark.proof)])
def test_signals_end_it_within_two_seconds_whatever_a_server_does(
    work: Work, before: bytes, number: signal.Signals, every: bool
) -> None:
    with bad_ftp("silence in the data") as address:
        work.account(f'[account]\nname = "millbrook"\nsurvey_from = "{address}"\n' + BASE)
        words = ["--all"] if every else ["millbrook"]
        process = subprocess.Popen(
            [PROGRAM, "survey", *words, "--plan", str(work.plan)], stdin=subprocess.DEVNULL, stderr=subprocess.PIPE,
            env=os.environ | {"KETTLEPOST_PASSWORD": "x"}, preexec_fn=heard,
        )  # fmt: skip
        time.sleep(3)
        assert process.poll() is None
        process.send_signal(number)
        _, told = process.communicate(timeout=20)  # two seconds, and what a busy machine takes
    assert (process.returncode, b"nothing was left half-written" in told) == (128 + number, True), told
    assert (work.plan / "surveys/millbrook.json").read_bytes() == before
    assert not [path for path in (work.plan / "surveys").iterdir() if path.name.startswith(".")] or every


def test_a_name_server_that_never_answers_does_not_keep_it(work: Work) -> None:
    """Where the system waits in a call that no signal interrupts: here a lock that somebody else holds."""
    work.account(BASE)
    with socket.create_server(("127.0.0.1", 0)) as mute:
        mute.listen()
        program = (
            "import socket, sys, time\n"
            "from kettlepost.cli import interruption\n"
            "interruption.watch()\n"
            "import ctypes; print('ready', flush=True)\n"
            "ctypes.CDLL(None).poll.restype = None\n"
            "[ctypes.CDLL(None).poll(None, 0, 600_000) for _ in range(9)]\n"
        )
        process = subprocess.Popen(
            [PYTHON, "-c", program], stdout=subprocess.PIPE, stderr=subprocess.PIPE, preexec_fn=heard
        )
        assert process.stdout is not None
        assert process.stdout.readline() == b"ready\n"
        process.send_signal(signal.SIGINT)
        process.communicate(timeout=20)
    assert process.returncode in (-2, 130), process.returncode


SHEET = (
    '<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><sheetData>%s</sheetData></worksheet>'
)
FAR = '<row r="1"><c r="A1"><v>1</v></c></row><row r="%d"><c r="XFD%d"><v>1</v></c></row>'


@pytest.mark.parametrize(
    ("sheet", "status", "words"),
    [
        (FAR % (1_048_576, 1_048_576), 3, "damaged, or wants more"),  # what reads it falls over
        (FAR % (20_000, 20_000), 3, "wants more than 160 MB of memory; save it as CSV"),
        ('<row r="1"><c r="C1" t="inlineStr"><is><t>a.example</t></is></c></row>', 0, "nothing changes"),
        ("<row", 2, "no spreadsheet that can be read"),
    ],
)
def test_a_spreadsheet_takes_no_more_than_it_may(
    work: Work, tmp_path: Path, sheet: str, status: int, words: str
) -> None:
    work.account(BASE)
    plain = io.BytesIO()
    with xlsxwriter.Workbook(plain, {"in_memory": True}) as book:
        book.add_worksheet()
    with zipfile.ZipFile(plain) as old, zipfile.ZipFile(tmp_path / "t.xlsx", "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            new.writestr(name, SHEET % sheet if name.endswith("sheet1.xml") else old.read(name))
    ended = measured(work, "import", str(tmp_path / "t.xlsx"))
    assert (ended.status, words in ended.told, ended.memory <= MOST) == (status, True, True), ended
    assert ("Traceback" in ended.told, "panic" in ended.told) == (False, False), ended


def test_more_names_than_anybody_has_are_not_entered(work: Work, tmp_path: Path) -> None:
    names = " ".join(f"h{n}.example" for n in range(100_001))
    (tmp_path / "x.conf").write_text(
        f"<VirtualHost *:80>\nServerName a.example\nServerAlias {names}\nDocumentRoot /srv/x\n</VirtualHost>\n"
    )
    ended = measured(work.account(BASE), "import", str(tmp_path / "x.conf"))
    assert (ended.status, "more than 100,000 host names" in ended.told, ended.memory <= MOST) == (2, True, True), ended


@pytest.mark.proof
@pytest.mark.parametrize("behaviour", [name for name in MYSQL if "without end" in name])
def test_no_database_server_fills_the_memory(work: Work, behaviour: str) -> None:
    with bad_mysql(behaviour) as address:
        ended = measured(work.account(BASE), "database", "read", "millbrook", "--from", address)
    assert (ended.status, MYSQL[behaviour] in ended.told, ended.memory <= MOST) == (3, True, True), ended
    assert ("Traceback" in ended.told, "canary" in ended.told) == (False, False), ended


@pytest.mark.parametrize("behaviour", shorter_first(name for name in MYSQL if "without end" not in name))
def test_no_database_server_keeps_it_waiting(monkeypatch: pytest.MonkeyPatch, behaviour: str) -> None:
    monkeypatch.setattr(database_servers, "_PATIENCE", 1)
    monkeypatch.setattr(database_servers, "_SECONDS", 8)
    with bad_mysql(behaviour) as address, pytest.raises(OutsideError, match=MYSQL[behaviour]):
        database_servers.read_server(RemotePlace.parse(address), Secrets(lambda _: "x"))
