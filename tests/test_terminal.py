"""What people see: on terminals of any width nothing is cut off, nothing runs over, nothing is hidden."""

from __future__ import annotations

import fcntl
import os
import pty
import re
import struct
import subprocess
import termios
from pathlib import Path

import pytest
from rich.cells import cell_len

from conftest import PROGRAM, Work
from test_source_errors import ftp_that_says

STYLE = re.compile(r"\x1b\[[0-9;]*m")


def on_terminal(
    words: list[str], columns: int, typed: bytes = b"", ends: tuple[int, ...] = (0, 1), **environment: str
) -> str:
    """What the program writes to a terminal of so many columns, where `typed` is waiting."""
    leader, follower = pty.openpty()
    fcntl.ioctl(follower, termios.TIOCSWINSZ, struct.pack("HHHH", 50, columns, 0, 0))
    env = {key: value for key, value in os.environ.items() if key not in ("COLUMNS", "LINES", "NO_COLOR")}
    env |= {"TERM": "xterm-256color", **environment}
    with subprocess.Popen([PROGRAM, *words], stdin=follower, stdout=follower, stderr=follower, env=env) as running:
        os.close(follower)
        os.write(leader, typed)
        written = b""
        while True:
            try:
                piece = os.read(leader, 1 << 16)
            except OSError:
                break  # how the end of a terminal shows
            if not piece:
                break
            written += piece
    os.close(leader)
    assert running.returncode in ((0, 1, 2) if typed else ends), written
    return written.decode().replace("\r\n", "\n")


VIEWS = [
    ["check"],
    ["map"],
    ["map", "--by", "folder", "--every"],
    ["where", "lanternchoir.example"],
    ["survey", "--show", "harrowgate"],
    ["apps"],
    ["installs", "--columns", "address,account,folder,application,version,state,database,contact,written"],
    ["domain", "list", "--columns", "domain,account,kind,state,leads_to,also,now,written"],
    ["explain", "folder-occupied"],
    ["explain"],
]


@pytest.mark.parametrize("columns", [80, 140, *(pytest.param(width, marks=pytest.mark.proof) for width in (60, 100))])
@pytest.mark.parametrize("view", VIEWS, ids=" ".join)
def test_no_line_runs_over_and_no_word_is_lost(demo: tuple[Work, str], view: list[str], columns: int) -> None:
    plan = [] if view[0] == "explain" else ["--plan", str(demo[0].plan)]
    shown = STYLE.sub("", on_terminal([*view, *plan], columns))
    piped = (
        demo[0].run(*view).stdout
        if plan
        else subprocess.run([PROGRAM, *view], capture_output=True, text=True, check=True).stdout
    )
    too_long = [line for line in shown.splitlines() if cell_len(line) > columns]
    assert not too_long
    squeezed = re.sub(r"[\s│├└─]", "", shown)
    heads = {"address", "folder", "plan", "there", "now", "the", "title", "purpose", "known", "PHP", "held", "against"}
    for word in re.findall(r"[\w./:-]{3,}", piped):
        assert word in squeezed or word in heads, word  # a table too wide for its columns loses its heads


def test_colour_only_where_it_is_wanted(demo: tuple[Work, str]) -> None:
    words = ["check", "--plan", str(demo[0].plan)]
    assert "\x1b[1;31m" in on_terminal(words, 100)
    assert "\x1b[" not in on_terminal(words, 100, TERM="dumb")
    assert "\x1b[1;31m" not in on_terminal(words, 100, NO_COLOR="1")


def test_hostile_names_reach_no_terminal(work: Work) -> None:
    evil = "\x1b]0;owned\x07\x1b[2J\u202e\r"
    tables = '[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n[[installation]]\napplication = "barrowshop"\naddress = "a.example"\nstate = "planned"\n'
    work.account(tables).there(
        {f"www/{evil}/{evil}.txt": evil, f"www/{evil}.txt": "x", "www/index.html": f"coming soon {evil}"}
    )
    os.symlink(evil, work.homes / "millbrook" / "www" / "l")
    work.survey()
    plan = ["--plan", str(work.plan)]
    for view in (
        ["check"],
        ["map", "--by", "folder", "--every"],
        ["survey", "--show", "millbrook"],
        ["where", "a.example"],
    ):
        shown = STYLE.sub("", on_terminal([*view, *plan], 100))
        assert shown.replace("\n", "").isprintable(), view
        raw = work.run(*view, "--format", "json").stdout
        assert raw.replace("\n", "").isprintable(), view
    assert "owned" in work.run("map", "--by", "folder", "--every").stdout


EVIL = "\x1b]0;owned\x07\x1b[2J\u202e\r\x9b31m".encode()
REPLIES: list[tuple[dict[str, bytes], int]] = [
    ({"USER": b"530 no %s\r\n"}, 3), ({"PASS": b"530-no %s\r\n%s\r\n530 %s\r\n"}, 3), ({"MLSD": b"550 none %s\r\n"}, 2),
    ({"PASV": b"%s\r\n"}, 3), ({"MLSD /d": b"550 closed %s\r\n"}, 0), ({"MLSD /d": b"421 %s\r\n"}, 3),
]  # fmt: skip
"""What a server says in reply to a command, and how a survey of it ends."""


@pytest.mark.parametrize(("replies", "status"), REPLIES)
def test_what_servers_say_reaches_no_terminal(
    work: Work, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, replies: dict[str, bytes], status: int
) -> None:
    work.account('[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "d"\n').there({"d/x": ""})
    evil = {command: reply.replace(b"%s", EVIL) for command, reply in replies.items()}
    named = b"type=dir; d\r\ntype=dir; %s\r\ntype=OS.unix=slink:%s; %s\r\n".replace(b"%s", EVIL.replace(b"\r", b""))
    words, log = ["survey", "millbrook", "--plan", str(work.plan), "--silence", "3"], tmp_path / "log"
    with ftp_that_says(monkeypatch, data=named, **evil) as address:
        words += ["--from", address, "--log", str(log)]
        shown = on_terminal(words, 100, ends=(status,), KETTLEPOST_PASSWORD="x")
    assert STYLE.sub("", shown).replace("\n", "").replace("\x1b[2K", "").replace("\x1b[1A", "").isprintable(), shown
    assert log.read_text().replace("\n", "").isprintable()
    assert "owned" in shown or "PASV" in replies or not status
    for view in (["survey", "--show", "millbrook"], ["check"], ["map", "--by", "folder", "--every"]):
        seen = STYLE.sub("", on_terminal([*view, "--plan", str(work.plan)], 100))
        assert seen.replace("\n", "").isprintable(), seen


def test_an_error_is_one_message_on_standard_error(work: Work, tmp_path: Path) -> None:
    work.account("x = \n")
    shown = work.run("check")
    assert shown.stdout == ""
    assert shown.stderr.startswith("kettlepost: accounts/millbrook.toml:4: ")
    (work.plan / "accounts" / "millbrook.toml").chmod(0)
    if os.geteuid() != 0:  # who may read everything
        denied = work.run("check")
        assert (denied.returncode, "permission denied" in denied.stderr) == (3, True)
    (work.plan / "accounts" / "millbrook.toml").chmod(0o600)
    (tmp_path / "plan" / "kettlepost.toml").write_bytes(b"\xff\xfe")
    assert "kettlepost.toml:1: not UTF-8" in work.run("check").stderr


@pytest.mark.parametrize("columns", [80, 100, 140])
@pytest.mark.parametrize("view", [["installs"], ["domain", "list"], ["account", "list"]], ids=" ".join)
def test_a_register_is_an_entry_a_line_and_says_what_found_no_room(
    demo: tuple[Work, str], view: list[str], columns: int
) -> None:
    shown = STYLE.sub("", on_terminal([*view, "--plan", str(demo[0].plan)], columns)).splitlines()
    name = {"installs": "installations", "domain": "domains", "account": "accounts"}[view[0]]
    rows = demo[0].json(*view)[name]
    keys = [str(next(iter(row[key] for key in ("address", "domain", "account") if key in row))) for row in rows]
    assert all(sum(line.startswith(f"{key} ") for line in shown) == keys.count(key) for key in keys)
    heads = set(re.split(r"  +", shown[0]))
    told = " ".join(shown[-4:])
    empty = {column for column in rows[0] if not any(row[column] for row in rows)}
    left = {column.replace("_", " ") for column in rows[0].keys() - empty} - heads
    assert all(column in told for column in left - {"state"}), (left, told)
    assert all(cell_len(line) <= columns for line in shown)
