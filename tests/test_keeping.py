"""Keeping the plan by command: what is written is what was shown, nothing is lost, and undo goes back to the byte."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import shutil
import signal
import subprocess
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from conftest import PROGRAM, Work
from kettlepost.core.errors import InputError, OutsideError
from kettlepost.workspace import journal
from kettlepost.workspace.journal import Edit, locked, write
from kettlepost.workspace.plan_folder import read_plan
from test_terminal import STYLE, on_terminal

PLAN = """\
# Ours.
[account]
name = "millbrook"
package = "copper"
database_prefix = "millb_"

[[domain]]
name = "millbrookrail.example"
kind = "primary"
root = "www"                 # the first

# What is installed.

[[installation]]
application = "quillmoor"
address = "millbrookrail.example"
database = { name = "millb_pages", prefix = "qm3_" }
admin_user = "signalbox"
contact = "webkeeper@elsewhere.test"
"""
QUILLMOOR = {
    "www/quill.php": "",
    "www/index.php": "x",
    "www/moor/kernel.php": "",
    "www/moor/release.txt": "Quillmoor 5.1\n",
}


@pytest.fixture
def kept(work: Work) -> Work:
    return work.account(PLAN).there(QUILLMOOR)


def text(work: Work, account: str = "millbrook") -> str:
    return (work.plan / f"accounts/{account}.toml").read_text()


def test_what_was_weighed_is_placed_checked_and_undone_to_the_byte(demo: tuple[Work, str], tmp_path: Path) -> None:
    shutil.copytree(demo[0].plan, tmp_path / "copy")
    work = Work(tmp_path / "copy")
    work.plan = tmp_path / "copy"
    before = text(work, "harrowgate")
    known = {
        (one["rule"], one["at"], one["title"]) for one in work.json("check", "--account", "harrowgate")["findings"]
    }
    weighed = work.json("weigh", "barrowshop", "harrowgatecycles.example", "--new-domain", "bits.example")
    first = weighed["places"][0]
    assert weighed["advice"].startswith(f"Take 1, {first['address']}")
    assert (first["points"]["stopped"], weighed["places"][-1]["points"]["stopped"]) == (0, 1)
    shown = work.run("place", "--as", "1", "--show")
    assert (shown.returncode, text(work, "harrowgate")) == (0, before)
    refused = work.run("place", "--as", "1", stdin=subprocess.DEVNULL)
    assert (refused.returncode, text(work, "harrowgate")) == (2, before)
    assert "give --yes" in refused.stderr
    placed = work.run("place", "--as", "1", "--yes")
    assert placed.returncode == 0, placed.stderr
    assert placed.stdout == shown.stdout == refused.stdout
    after = text(work, "harrowgate")
    assert f'address = "{first["address"].removesuffix("/")}"' in after
    assert [line for line in before.splitlines() if line not in after.splitlines()] == []
    found = {
        (one["rule"], one["at"], one["title"]) for one in work.json("check", "--account", "harrowgate")["findings"]
    }
    assert found - known == {(one["rule"], one["at"], one["title"]) for one in first["adds"]}
    assert "weigh it again" in work.run("place", "--as", "1", "--yes").stderr
    assert work.run("undo", "--yes").returncode == 0
    assert text(work, "harrowgate") == before
    assert work.run("undo", "--yes").returncode == 2


def test_a_stop_refuses_a_place_unless_it_is_accepted_with_a_reason(kept: Work) -> None:
    refused = kept.run("place", "barrowshop", "millbrookrail.example", "--yes")
    assert (refused.returncode, text(kept)) == (1, PLAN)
    assert "address-twice" in refused.stdout
    assert "nothing was written: it would bring 2 stops" in refused.stderr
    words = ["place", "wordpress", "millbrookrail.example/moor/wiki", "--yes"]
    refused = kept.run(*words)
    assert (refused.returncode, text(kept)) == (1, PLAN)
    assert "--because" in kept.run(*words, "--despite", "path-shadowed").stderr
    assert "brings no finding of same-tables" in kept.run(*words, "--despite", "same-tables", "--because", "x").stderr
    done = kept.run(*words, "--despite", "path-shadowed", "--because", 'it "moves" soon', "--admin", "tillkeeper")
    assert done.returncode == 0, done.stdout + done.stderr
    account = read_plan(kept.plan).accounts[0]
    assert [(one.finding, one.because) for one in account.accepts] == [("path-shadowed", 'it "moves" soon')]
    assert account.installations[1].admin_user == "tillkeeper"
    assert "path-shadowed" not in kept.rules()


def test_values_that_are_given_are_taken_as_they_are(kept: Work) -> None:
    done = kept.run(
        "place", "wordpress", "news.millbrookrail.example/today", "--root", "papers", "--database", "millb_n",
        "--database-user", "millb_u", "--table-prefix", "n4_", "--contact", "ink@elsewhere.test", "--state", "live", "--yes",
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    account = read_plan(kept.plan).accounts[0]
    domain, one = account.domains[1], account.installations[1]
    assert (domain.name, domain.kind, domain.root) == ("news.millbrookrail.example", "subdomain", "papers")
    assert one.database is not None
    assert (one.database.name, one.database.user, one.database.prefix) == ("millb_n", "millb_u", "n4_")
    assert (str(one.address), one.state, one.contact) == (
        "news.millbrookrail.example/today",
        "live",
        "ink@elsewhere.test",
    )
    assert text(kept).index("papers") < text(kept).index("# What is installed.")


@pytest.mark.parametrize(
    ("words", "told"),
    [
        ("weigh wordpres millbrookrail.example", 'did you mean "wordpress"'),
        ("weigh wordpress milbrookrail.example", 'did you mean "millbrookrail.example"'),
        ("weigh wordpress millbrook", "millbrook is an account of the plan, no domain; name one of its domains, such as"),
        ("weigh wordpress other.example --account millbrook", "other.example is a domain of account other, not of"),
        ("weigh wordpress millbrookrail.example --new-domain other.example", "is a domain of account other already"),
        ("weigh wordpress millbrookrail.example --name ..", 'name ".." is empty'),
        ("weigh wordpress", "name the APPLICATION, and the DOMAIN or the --client"),
        ("place --as 1", "nothing was weighed here yet"),
        ("place wordpress millbrookrail.example --any-account", "kettlepost weigh wordpress millbrookrail.example with"),
        ("place wordpress www/shop --account millbrook", "an address begins with one, such as a.example/shop"),
        ("domain add x.test --kind alias --account millbrook", "name that with --of DOMAIN"),
        ("domain add x.test --account nosuch", "begin it: kettlepost account add nosuch"),
        ("domain add x.test --account milbrook", 'did you mean "millbrook"?'),
        ("where --folder nowhere/at/all", "no account has a folder"),
        ("place wordpress millbrookrail.example --as 9", "there is no place 9: there are 4"),
        ("place wordpress elsewhere.test/x", "name the account with --account"),
        ("place wordpress millbrookrail.example/x --root y", "leads to a folder already"),
        ("place wordpress millbrookrail.example/x --folder ../y", "climbs"),
        ("domain add other.example --account millbrook", "is a domain of account other already"),
        ("domain add x.test --of millbrookrail.exampl", 'did you mean "millbrookrail.example"'),
        ("domain add x.test --account milbrook", 'did you mean "millbrook"'),
        ("domain drop millbrookrail.example", "quillmoor at millbrookrail.example/ (accounts/millbrook.toml:14) still answers"),
        ("domain root millbrookrail.example www", "leads to www already"),
        ("retire millbrookrail.example/new", "nothing is installed at millbrookrail.example/new"),
        ("adopt other", "was not surveyed yet"),
        ("undo", "there is nothing to undo"),
    ],
)  # fmt: skip
def test_what_cannot_be_done_says_what_would_be_right(kept: Work, words: str, told: str) -> None:
    kept.account('[[domain]]\nname = "other.example"\nkind = "primary"\nroot = "www"\n', "other")
    done = kept.run(*words.split())
    assert done.returncode == 2, done.stdout
    assert told in done.stderr
    assert text(kept) == PLAN


def test_domains_are_added_moved_and_dropped(kept: Work) -> None:
    added = kept.run("domain", "add", "choir.example", "--account", "millbrook", "--yes")
    assert added.returncode == 0, added.stderr
    assert "if the host allows no folder but inside www, take www/choir: then" in added.stdout
    assert '[[domain]]\nname = "choir.example"\nkind = "addon"\nroot = "choir"\n' in text(kept)
    nested = kept.run("domain", "add", "fair.millbrookrail.example", "--root", "www/fair", "--yes")
    assert nested.returncode == 0
    assert "nested-root" in nested.stdout
    taken = kept.run("domain", "add", "new.test", "--account", "millbrook", "--root", "www", "--yes")
    assert (taken.returncode, "shared-root" in taken.stdout, "new.test" in text(kept)) == (1, True, False)
    moved = kept.json("domain", "root", "fair.millbrookrail.example", "fair", "--yes")
    assert moved["next"] == ["add fair.millbrookrail.example at the host with the folder fair"]
    assert '+root = "fair"' in moved["difference"]
    assert moved["told"] == ["fair.millbrookrail.example/: www/fair -> fair"]
    assert "nested-root" in {one["rule"] for one in moved["ends"]}
    assert kept.run("domain", "add", "rail.test", "--of", "choir.example", "--yes").returncode == 0
    stopped = kept.run("domain", "drop", "choir.example", "--yes")
    assert (stopped.returncode, "alias-of-nothing" in stopped.stdout) == (1, True)
    for name in ("rail.test", "choir.example", "fair.millbrookrail.example"):
        assert kept.run("domain", "drop", name, "--yes").returncode == 0
    assert text(kept) == PLAN
    for _ in range(7):
        assert kept.run("undo", "--yes").returncode == 0
    assert (text(kept), kept.run("undo", "--yes").returncode) == (PLAN, 2)


def test_retiring_says_what_remains_and_adopting_writes_what_was_found(kept: Work) -> None:
    retired = kept.run("retire", "https://millbrookrail.example/", "--yes")
    assert retired.returncode == 0, retired.stderr
    for remains in ("4 files in www", "remains: the database millb_pages", "1 of 6 installations now"):
        assert remains in retired.stdout
    assert 'state = "retired"' in text(kept)
    assert "is retired already" in kept.run("retire", "millbrookrail.example").stderr
    settings = "<?php $ink_name = 'millb_old'; $ink_user = 'millb_u';\n$ink_prefix = 'q9_';\n"
    kept.account(PLAN.partition("# What")[0]).there(QUILLMOOR | {"www/moor/settings.php": settings})
    kept.there({"lost/shop.php": "", "lost/barrow/core.php": "", "lost/barrow/config.php": "<?php"})
    adopted = kept.run("adopt", "millbrook", "--yes")
    assert adopted.returncode == 0, adopted.stderr
    assert "left out: Barrowshop in lost: no address leads there" in adopted.stdout
    one = read_plan(kept.plan).accounts[0].installations[0]
    assert (one.application, str(one.address), one.state, one.version) == (
        "quillmoor", "millbrookrail.example/", "live", "5.1",
    )  # fmt: skip
    assert one.database is not None
    assert (one.database.name, one.database.prefix, one.database.user) == ("millb_old", "q9_", "millb_u")
    assert not {"unplanned-application", "database-differs"} & {f.rule for f in kept.check().findings if f.at == "www"}


def test_undo_refuses_when_the_file_was_changed_by_other_means(kept: Work) -> None:
    kept.run("domain", "add", "a.test", "--account", "millbrook", "--yes")
    path = kept.plan / "accounts/millbrook.toml"
    path.write_text(text(kept) + "# mine\n")
    refused = kept.run("undo", "--yes")
    assert (refused.returncode, text(kept).endswith("# mine\n")) == (2, True)
    assert "changed by other means since 'kettlepost domain add a.test" in refused.stderr
    path.write_text(PLAN)  # as if the program had ended before it wrote
    assert "there is nothing to undo" in kept.run("undo", "--yes").stderr
    (kept.plan / ".kettlepost/journal/000009.json").write_text("{")
    assert "damaged" in kept.run("undo").stderr


def test_a_plan_with_errors_is_not_edited(kept: Work) -> None:
    kept.account("[[domain]]\nname = \n", "other")
    for words in (["domain", "add", "x.test", "--account", "millbrook", "--yes"], ["weigh", "wordpress", "x.test"]):
        done = kept.run(*words)
        assert (done.returncode, text(kept)) == (2, PLAN)
        assert "accounts/other.toml" in done.stderr


def test_many_at_once_lose_nothing(kept: Work) -> None:
    with ThreadPoolExecutor(6) as pool:
        done = list(pool.map(lambda n: kept.run("domain", "add", f"s{n}.millbrookrail.example", "--yes"), range(6)))
    assert [one.returncode for one in done] == [0] * 6, [one.stderr for one in done]
    names = [str(domain.name) for domain in read_plan(kept.plan).accounts[0].domains]
    assert sorted(names[1:]) == [f"s{n}.millbrookrail.example" for n in range(6)]
    for _ in range(6):
        assert kept.run("undo", "--yes").returncode == 0
    assert text(kept) == PLAN


def test_a_plan_that_is_being_changed_by_another_is_waited_for(kept: Work) -> None:
    import filelock

    kept.run("check")
    lock = filelock.FileLock(kept.plan / ".kettlepost/lock")
    with lock, subprocess.Popen(
        [PROGRAM, "domain", "add", "a.test", "--account", "millbrook", "--yes", "--plan", kept.plan],
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    ) as waiting:  # fmt: skip
        time.sleep(1.5)
        assert waiting.poll() is None
        assert text(kept) == PLAN
        lock.release()
        assert waiting.wait(30) == 0
    assert "a.test" in text(kept)


def test_nobody_is_waited_for_without_end(kept: Work, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(journal, "PATIENCE", 0.2)
    with (
        locked(kept.plan),
        pytest.raises(OutsideError, match="another kettlepost has been changing this plan") as told,
        locked(kept.plan),
    ):
        raise AssertionError("two at once")
    assert "nothing was changed: wait until it has ended" in str(told.value)
    with locked(kept.plan):  # and it is free again
        pass


def test_only_the_last_changes_are_kept_for_undoing(kept: Work, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(journal, "KEPT", 3)
    for number in range(6):
        before = (kept.plan / "accounts/millbrook.toml").read_bytes()
        edit = Edit("accounts/millbrook.toml", before, before + f"# {number}\n".encode())
        write(kept.plan, [edit], "by hand", "2026-11-23T06:00:00Z")
    with pytest.raises(InputError, match="was changed meanwhile"):
        write(kept.plan, [edit], "by hand", "2026-11-23T06:00:00Z")
    for number in (5, 4, 3):
        assert text(kept).endswith(f"# {number}\n")
        assert kept.run("undo", "--yes").returncode == 0
    assert (text(kept).endswith("# 2\n"), kept.run("undo", "--yes").returncode) == (True, 2)


@pytest.mark.proof
def test_whenever_it_is_killed_the_file_is_the_old_or_the_new_one_and_undo_goes_back(kept: Work) -> None:
    words = [PROGRAM, "domain", "add", "a.test", "--account", "millbrook", "--yes", "--plan", kept.plan]
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    begin = time.monotonic()
    assert subprocess.run(words, check=False, **quiet).returncode == 0
    whole, new = time.monotonic() - begin, text(kept)
    assert kept.run("undo", "--yes").returncode == 0
    chance = random.Random(5)
    for _ in range(30):
        with subprocess.Popen(words, **quiet) as running:
            time.sleep(chance.uniform(0.3, 1.05) * whole)
            running.send_signal(signal.SIGKILL)
        there = text(kept)
        assert there in (PLAN, new)
        if there == new:
            undone = kept.run("undo", "--yes")
            assert (undone.returncode, text(kept)) == (0, PLAN), undone.stderr
    assert kept.run("undo", "--yes").returncode == 2
    assert kept.run("check").returncode == 0


def test_a_full_disk_changes_nothing_and_says_so(kept: Work, tmp_path: Path) -> None:
    place = tmp_path / "small"
    place.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=128k,mode=755", "none", place], check=False).returncode:
        pytest.skip("a small file system wants the right to mount one")
    try:
        subprocess.run(["cp", "-r", f"{kept.plan}/.", place], check=True)
        with pytest.raises(OSError, match="No space"):
            (place / "filler").write_bytes(b"x" * 200_000)
        small = Work(tmp_path)
        small.plan = place
        done = small.run("domain", "add", "a.test", "--account", "millbrook", "--yes")
        assert (done.returncode, text(small)) == (3, PLAN)
        assert "no space left on device" in done.stderr
        (place / "filler").unlink()
        assert small.run("domain", "add", "a.test", "--account", "millbrook", "--yes").returncode == 0
        assert small.run("undo", "--yes").returncode == 0
        assert text(small) == PLAN
        assert not [path for path in (place / "accounts").iterdir() if path.name.startswith(".")]
    finally:
        subprocess.run(["umount", place], check=True)


def test_a_file_that_may_only_be_read_is_weighed_and_not_changed(kept: Work) -> None:
    path = kept.plan / "accounts/millbrook.toml"
    path.chmod(0o444)
    fixed = subprocess.run(["chattr", "+i", path], check=False, capture_output=True).returncode == 0
    try:
        if os.geteuid() == 0 and not fixed:
            pytest.skip("the one who runs this may write everywhere")
        assert kept.run("weigh", "wordpress", "millbrookrail.example").returncode == 0
        done = kept.run("domain", "add", "a.test", "--account", "millbrook", "--yes")
        assert (done.returncode, text(kept)) == (3, PLAN)
        assert "accounts/millbrook.toml: cannot be written" in done.stderr
        assert "nothing was changed" in done.stderr
    finally:
        subprocess.run(["chattr", "-i", path], check=False, capture_output=True)
    assert "there is nothing to undo" in kept.run("undo", "--yes").stderr


def test_the_comparison_in_every_format_and_at_every_width(demo: tuple[Work, str], tmp_path: Path) -> None:
    work = demo[0]
    words = ["weigh", "barrowshop", "harrowgatecycles.example", "--new-domain", "bits.example"]
    places = work.json(*words)["places"]
    rows = list(csv.DictReader(io.StringIO(work.run(*words, "--format", "csv").stdout)))
    assert [(row["address"], row["folder"], int(row["stop"])) for row in rows] == [
        (one["address"], one["folder"], one["points"]["stops"]) for one in places
    ]
    markdown = work.run(*words, "--format", "markdown").stdout.splitlines()
    assert len(markdown) == len(places) + 2
    assert len({line.replace("\\|", "").count("|") for line in markdown}) == 1
    for columns in (60, 100, 140):
        shown = STYLE.sub("", on_terminal([*words, "--why", "--plan", str(work.plan)], columns))
        lines = shown.splitlines()
        assert max(map(len, lines)) <= columns
        flat = " ".join(shown.split())
        assert all(one["address"] in flat.replace(" ", "") or one["address"] in flat for one in places)
        if columns >= 100:
            head = next(line for line in lines if line.split()[:2] == ["place", "address"])
            body = lines[lines.index(head) + 1 : lines.index(head) + 1 + len(places)]
            for line, one in zip(body, places, strict=True):
                assert line.index(one["address"]) == head.index("address")
                assert line.index(one["folder"], head.index("folder")) == head.index("folder")
    table = tmp_path / "w.csv"
    table.write_text("application,domain\nbarrowshop,saltcotelight.example\nx,saltcotelight.example\n")
    done = work.run("weigh", "--wishes", str(table), "--format", "json")
    assert done.returncode == 1
    assert [bool(one["place"]) for one in json.loads(done.stdout)["wishes"]] == [True, False]
    assert "standard input:1: the head lacks" in work.run("weigh", "--wishes", "-", input="x\n").stderr


def test_asked_at_a_terminal_only_yes_writes(kept: Work) -> None:
    words = ["domain", "add", "a.test", "--account", "millbrook", "--plan", str(kept.plan)]
    assert "nothing was written" in on_terminal(words, 100, typed=b"n\n")
    assert text(kept) == PLAN
    assert "'kettlepost undo' takes it back" in on_terminal(words, 100, typed=b"y\n")
    assert "a.test" in text(kept)
    assert "as it was before" in on_terminal(["undo", "--plan", str(kept.plan)], 100, typed=b"y\n")
    assert text(kept) == PLAN


@pytest.mark.parametrize("style", ["mark", "ends", "link", "inline", "parts"])
def test_a_file_stays_as_its_owner_writes_it(kept: Work, tmp_path: Path, style: str) -> None:
    path = kept.plan / "accounts/millbrook.toml"
    raw = PLAN.encode()
    if style == "mark":
        raw = b"\xef\xbb\xbf" + raw
    elif style == "ends":
        raw = raw.replace(b"\n", b"\r\n")
    elif style == "link":
        path.rename(tmp_path / "elsewhere.toml")
        path.symlink_to(tmp_path / "elsewhere.toml")
    elif style == "inline":
        raw = b'domain = [\n  { name = "a.example", kind = "primary", root = "www" },  # one\n]\n[account]\nname = "millbrook"\n'
    else:
        raw = raw.replace(b'database = { name = "millb_pages", prefix = "qm3_" }\n', b"").rstrip()
        raw += b'\n[installation.database]\nname = "millb_pages"   # old\n# the end'
    path.write_bytes(raw)
    done = kept.run("domain", "add", "b.test", "--account", "millbrook", "--yes")
    assert done.returncode == 0, done.stderr
    assert [str(domain.name) for domain in read_plan(kept.plan).accounts[0].domains][1:] == ["b.test"]
    after = path.read_bytes()
    assert after.startswith(b"\xef\xbb\xbf") == (style == "mark")
    assert (b"\n" in after.replace(b"\r\n", b"")) == (style != "ends")
    for line in raw.splitlines():
        assert line in after, after.decode()
    assert path.is_symlink() == (style == "link")
    assert kept.run("undo", "--yes").returncode == 0
    assert path.read_bytes() == raw


def test_a_place_of_a_weighing_takes_what_is_given_with_its_number(kept: Work) -> None:
    settings = kept.plan / "kettlepost.toml"
    settings.write_text(settings.read_text().replace("[settings]", '[settings]\nprefer = "subdomain"'))
    words = ["wordpress", "millbrookrail.example", "--name", "blog"]
    places = kept.json("weigh", *words)["places"]
    assert [one["place"] for one in places][:2] == ["subdomain", "subfolder"]
    done = kept.run("place", *words, "--as", "1", "--root", "papers/blog", "--admin", "inkpot", "--yes")
    assert done.returncode == 0, done.stderr
    account = read_plan(kept.plan).accounts[0]
    assert (str(account.domains[1].name), account.domains[1].root) == ("blog.millbrookrail.example", "papers/blog")
    assert account.installations[1].admin_user == "inkpot"
    settings.write_text(settings.read_text().replace('"subdomain"', '"subdomian"'))
    assert "kettlepost.toml:4" in kept.run("weigh", *words).stderr


def test_a_journal_of_somebody_else_writes_nowhere_else(kept: Work, tmp_path: Path) -> None:
    (tmp_path / "victim.toml").write_text("mine")
    journal = kept.plan / ".kettlepost/journal"
    journal.mkdir(parents=True)
    for file in ("../victim.toml", "accounts/../../victim.toml", "/etc/x.toml", "kettlepost.toml"):
        entry = {"command": "\x1b[31mx", "at": "2026", "file": file, "before": "eA==", "after": "0"}
        (journal / "000001.json").write_text(json.dumps(entry))
        undone = kept.run("undo", "--yes")
        assert (undone.returncode, (tmp_path / "victim.toml").read_text()) == (2, "mine")
        assert "\x1b" not in undone.stderr
    (journal / "000001.json").write_text(json.dumps(entry | {"file": "accounts/millbrook.toml"}))
    told = kept.run("undo", "--yes").stderr
    assert "changed by other means" in told
    assert "\x1b" not in told


def test_hostile_words_do_no_harm_in_a_comparison(kept: Work) -> None:
    table = 'application,domain,name\n"\x1b[2J",millbrookrail.example,\nwordpress,"x\x07.example",\n=1+1,"<b>",\n'
    for form in ("text", "csv", "markdown", "json"):
        done = kept.run("weigh", "--wishes", "-", "--format", form, input=table)
        assert done.returncode == 1, done.stderr
        assert done.stdout.replace("\n", "").replace("\r", "").isprintable()
        if form == "csv":
            assert "'=1+1" in done.stdout
    for name in ("../x", "a b", "%2e%2e", "\x1b[2J", "x" * 300, "Ünïcode"):
        done = kept.run("weigh", "wordpress", "millbrookrail.example", "--name", name)
        assert done.returncode in (0, 1, 2), done.stderr
        assert done.stdout.replace("\n", "").isprintable()
        assert "\x1b" not in done.stderr
