"""The same survey from every source of the same tree, and a clear end for every bad one."""

from __future__ import annotations

import gzip
import io
import os
import stat
import struct
import subprocess
import tarfile
import tempfile
import time
import zipfile
from importlib.resources import files
from pathlib import Path
from typing import Any

import msgspec
import pytest
import rtoml
import zstandard
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import PROGRAM, Work, examples, taken
from kettlepost.core.errors import KettlepostError, OutsideError
from kettlepost.core.plan import Plan
from kettlepost.core.survey import Survey, Wanted, encode_survey
from kettlepost.demo import lay_out_tree
from kettlepost.render.remedies import error_words
from kettlepost.sources import Secrets, open_source
from kettlepost.sources.grouping import Home
from kettlepost.sources.listing import FIND_FORMAT
from kettlepost.sources.tar import tape_entries
from kettlepost.workspace.plan_folder import read_plan
from servers import certificate, dropping_proxy, free_port, ftp_server, sftp_server

TAKEN = "2026-11-23T06:00:00Z"
TABLES = '[account]\nname = "millbrook"\nhome = "/srv/hosting/millbrook"\n[[domain]]\nname = "a.example"\nkind = "primary"\nroot = "www"\n'
NAME = st.text(st.characters(exclude_characters="/\0\n\r\\", exclude_categories=["Cs"]), min_size=1, max_size=5)
NAMES = st.one_of(
    NAME.filter(lambda name: name not in (".", "..") and not name.endswith(":") and name == name.strip()),
    st.sampled_from(["index.html", ".htaccess", "shop.php", "barrow", "core.php", "x" * 120, ".git", "A", "a"]),
)
CONTENTS = st.sampled_from(
    [b"", b"coming soon", b"<h1>Geese</h1>", b"DirectoryIndex a.php\n", b"BARROW_VERSION = '1'", b"x" * 5000]
)


def survey(plan: Plan, source: str, **options: Any) -> Survey:
    opened = open_source(source, "millbrook", "/srv/hosting/millbrook", TAKEN, **options)
    return taken(plan, "millbrook", opened, TAKEN)


def same(survey: Survey, contents: bool = True) -> bytes:
    """A survey without what depends on the source; without contents, names and sizes only."""
    if contents:
        return encode_survey(msgspec.structs.replace(survey, source=""))
    kept = msgspec.structs.replace(survey, source="", contents=False, controls=[], sites=[], placeholders=[], pages=[])
    for found in kept.applications:
        found.version = found.version_file = ""
        found.database = None
    return encode_survey(kept)


def pack_tar(home: Path, to: Path, form: int = tarfile.PAX_FORMAT, base: str = ".") -> Path:
    with tarfile.open(to, "w:gz" if to.suffix == ".gz" else "w:", format=form) as archive:
        archive.add(home, base)
    return to


def pack_zip(home: Path, to: Path) -> Path:
    with zipfile.ZipFile(to, "w", zipfile.ZIP_DEFLATED) as archive:
        for path in sorted(home.rglob("*")):
            about = path.lstat()
            info = zipfile.ZipInfo(str(path.relative_to(home)) + "/" * path.is_dir(), (1999, 1, 1, 0, 0, 0))
            info.external_attr = about.st_mode << 16
            info.extra = struct.pack("<HHBi", 0x5455, 5, 1, int(about.st_mtime))
            content = os.readlink(path).encode() if path.is_symlink() else b"" if path.is_dir() else path.read_bytes()
            archive.writestr(info, content)
    return to


def listings(home: Path, folder: Path) -> list[str]:
    find, ls = folder / "find.txt", folder / "ls.txt"
    find.write_bytes(
        subprocess.run(["find", ".", "-printf", FIND_FORMAT], cwd=home, check=True, capture_output=True).stdout
    )
    ls.write_bytes(
        subprocess.run(
            ["ls", "-lAR", "--full-time"], cwd=home, check=True, capture_output=True, env={"TZ": "UTC", "LC_ALL": "C"}
        ).stdout
    )
    return [str(find), str(ls)]


@pytest.fixture
def plan(work: Work) -> Plan:
    return read_plan(work.account(TABLES).plan)


@pytest.fixture
def home(tmp_path: Path) -> Path:
    """The workshop of the demo: applications, links, placeholders, leaks."""
    lay_out_tree(
        tmp_path / "home", rtoml.loads(files("kettlepost").joinpath("demo/trees/harrowgate.toml").read_text("utf-8"))
    )
    return tmp_path / "home"


@settings(max_examples=examples(25), suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(st.lists(st.tuples(st.lists(NAMES, min_size=1, max_size=4), CONTENTS), max_size=8), st.lists(NAMES, max_size=2))
def test_local_tar_zip_and_listing_agree(plan: Plan, tree: list[tuple[list[str], bytes]], links: list[str]) -> None:
    with tempfile.TemporaryDirectory() as scratch:
        home = Path(scratch) / "home"
        home.mkdir()
        for parts, content in tree:
            path = home.joinpath(*parts)
            try:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(content)
            except OSError:
                continue  # a file stands where a folder is wanted, or the name is too long
        for name in links:
            if not os.path.lexists(home / name):
                (home / name).symlink_to("www")
        local = survey(plan, str(home))
        for form in (tarfile.GNU_FORMAT, tarfile.PAX_FORMAT):
            assert same(survey(plan, str(pack_tar(home, Path(scratch) / "h.tar", form)))) == same(local)
        assert same(survey(plan, str(pack_zip(home, Path(scratch) / "h.zip")))) == same(local)
        for listing in listings(home, Path(scratch)):
            assert same(survey(plan, listing), contents=False) == same(local, contents=False), listing


def test_every_packing_of_an_archive_is_read(plan: Plan, home: Path, tmp_path: Path) -> None:
    local = same(survey(plan, str(home)))
    plain = pack_tar(home, tmp_path / "h.tar", base="hosting/millbrook").read_bytes()
    for ending, pack in {
        ".tar.gz": gzip.compress, ".tar.bz2": __import__("bz2").compress, ".tar.xz": __import__("lzma").compress,
        ".tar.zst": zstandard.ZstdCompressor().compress, ".tgz": gzip.compress, ".tar": bytes,
    }.items():  # fmt: skip
        packed = tmp_path / f"home{ending}"
        packed.write_bytes(pack(plain))
        assert same(survey(plan, str(packed))) == local, ending
    subprocess.run(["tar", "-C", str(home.parent), "--sort=name", "-cf", str(tmp_path / "g.tar"), "home"], check=True)
    assert same(survey(plan, str(tmp_path / "g.tar"), inside="home")) == local


def test_sftp_gives_the_same_and_wants_a_known_host(plan: Plan, home: Path, tmp_path: Path, work: Work) -> None:
    with sftp_server(tmp_path) as login:
        address = f"sftp://root@127.0.0.1:{login.port}{home}"
        if os.geteuid() != 0:
            address = address.replace("root", os.environ["USER"])
        good = Secrets(lambda _: None, login.key, login.known_hosts)
        assert same(survey(plan, address, secrets=good)) == same(survey(plan, str(home)))
        nobody = tmp_path / "nobody"
        nobody.write_text("")
        done = work.run("survey", "millbrook", "--from", address, "--known-hosts", str(nobody), "--key", str(login.key))
        assert (done.returncode, "compare the fingerprint" in done.stderr) == (3, True), done.stderr
        words = ["survey", "millbrook", "--from", address, "--known-hosts", str(login.known_hosts)]
        other = tmp_path / "other"
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(other)], check=True)
        done = work.run(*words, "--key", str(other))
        assert (done.returncode, "refused the login" in done.stderr) == (3, True), done.stderr
        done = work.run(*words[:3], f"{address}/nowhere", *words[4:], "--key", str(login.key))
        assert (done.returncode, "cannot list" in done.stderr) == (2, True), done.stderr
        assert work.run(*words, "--key", str(login.key)).returncode == 0


@pytest.mark.parametrize("after", [3_000, 12_000])
def test_a_connection_that_drops_half_way_changes_nothing(work: Work, tmp_path: Path, after: int) -> None:
    work.account(TABLES).there({f"d{n}/{'long-name' * 9}": "" for n in range(300)})
    before = (work.plan / "surveys" / "millbrook.json").read_bytes()
    with sftp_server(tmp_path) as login, dropping_proxy(login.port, after) as port:
        login.known_hosts.write_text(login.known_hosts.read_text().replace(str(login.port), str(port)))
        address = f"sftp://{os.environ.get('USER', 'root')}@127.0.0.1:{port}{work.homes}/millbrook"
        done = work.run(
            "survey", "millbrook", "--from", address, "--known-hosts", str(login.known_hosts), "--key", str(login.key)
        )
    assert (done.returncode, done.stdout) == (3, ""), done.stderr
    assert done.stderr.startswith(f"kettlepost: {address}: ")
    assert (work.plan / "surveys" / "millbrook.json").read_bytes() == before


@pytest.mark.parametrize("machine_readable", [True, False])
def test_ftp_gives_the_same(plan: Plan, home: Path, machine_readable: bool) -> None:
    with ftp_server(home, machine_readable=machine_readable) as port:
        found = survey(plan, f"ftp://webkeeper@127.0.0.1:{port}/", secrets=Secrets(lambda _: "points"))
        local = survey(plan, str(home))
        for one in (found, local):  # this server follows links, and its times are those of the machine
            one.links = []
            for folder in one.folders:
                folder.newest = 0
        there = {folder.folder for folder in local.folders}
        assert {folder.folder for folder in found.folders} >= there
        found.folders = [folder for folder in found.folders if folder.folder in there]
        assert found.applications == local.applications
        assert found.controls == local.controls
        with pytest.raises(OutsideError, match="check user and password"):
            survey(plan, f"ftp://webkeeper@127.0.0.1:{port}/", secrets=Secrets(lambda _: "wrong"))


def test_ftps_verifies_the_certificate(plan: Plan, home: Path, tmp_path: Path) -> None:
    trusted = certificate(tmp_path, "localhost")
    with ftp_server(home, trusted) as port:
        good = Secrets(lambda _: "points", certificates=tmp_path / "cert")
        assert survey(plan, f"ftps://webkeeper@localhost:{port}/", secrets=good).files == survey(plan, str(home)).files
        with pytest.raises(KettlepostError, match="holds no certificates"):
            survey(
                plan,
                f"ftps://webkeeper@localhost:{port}/",
                secrets=Secrets(lambda _: "points", certificates=home / "fair/index.html"),
            )
        for host, secrets in (("localhost", Secrets(lambda _: "points")), ("127.0.0.1", good)):
            with pytest.raises(OutsideError, match="certificate is not trusted"):
                survey(plan, f"ftps://webkeeper@{host}:{port}/", secrets=secrets)


def test_a_password_comes_from_the_environment_and_never_from_the_address(work: Work, home: Path) -> None:
    work.account(TABLES)
    with ftp_server(home) as port:
        address = f"ftp://webkeeper@127.0.0.1:{port}/"
        words = ["survey", "millbrook", "--from", address]
        done = work.run(*words, env={**os.environ, "KETTLEPOST_PASSWORD": "points"})
        assert done.returncode == 0, done.stderr
        before = (work.plan / "surveys" / "millbrook.json").read_bytes()
        assert work.run(*words, stdin=subprocess.DEVNULL).returncode == 3
        done = work.run(*words[:3], address.replace("@", ":points@"))
        assert (done.returncode, "points@" in done.stderr) == (2, False)
        assert (work.plan / "surveys" / "millbrook.json").read_bytes() == before
    assert "connection refused" in work.run(*words[:3], f"sftp://a@127.0.0.1:{free_port()}/").stderr


def archive_of(**members: bytes) -> bytes:
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w") as archive:
        for name, content in members.items():
            info = tarfile.TarInfo(name.replace("_", "/"))
            info.size = len(content)
            archive.addfile(info, io.BytesIO(content))
    return raw.getvalue()


def zip_of(name: str, content: bytes, flags: int = 0) -> bytes:
    raw = io.BytesIO()
    with zipfile.ZipFile(raw, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(name, content)
    whole = bytearray(raw.getvalue())
    at = whole.rindex(b"PK\x01\x02") + 8
    whole[at] |= flags
    return bytes(whole)


GOOD = archive_of(a=b"x" * 2000, b=b"y")


@pytest.mark.parametrize(
    ("name", "content", "told"),
    [
        ("a.tar", GOOD[:1500], "cut off"),
        ("a.tar", GOOD[: -1024 * 9], "cut off"),
        ("a.tar", b"", "cut off"),
        ("a.tar", b"<html>" * 500, "not a tar archive"),
        ("a.tar", GOOD[:3] + b"!" + GOOD[4:], "not a tar archive"),
        ("a.tar.gz", gzip.compress(GOOD, mtime=0)[:-30], "cut off"),
        ("a.tar.gz", gzip.compress(GOOD, mtime=0)[:20] + bytes(60), "damaged"),
        ("a.tar.xz", __import__("lzma").compress(GOOD)[:-40], "cut off"),
        ("a.tar.bz2", __import__("bz2").compress(GOOD)[:-20], "cut off"),
        ("a.tar.zst", zstandard.ZstdCompressor().compress(GOOD)[:-20] + bytes(20), "damaged"),
        ("a.tar", archive_of(**{"/etc/passwd": b"x"}), "is absolute"),
        ("a.tar", archive_of(**{"www/../../up": b"x"}), "climbs"),
        ("a.zip", zip_of("/etc/passwd", b"x"), "is absolute"),
        ("a.zip", zip_of("../up", b"x"), "climbs"),
        ("a.zip", zip_of("index.html", b"x", flags=1), "encrypted"),
        ("a.zip", zip_of("a", b"x")[:-10], "damaged"),
        ("l.txt", b"f 1 1 ./a\0\0f 1 1 ./b", "cut off"),
        ("l.txt", b"f 1 1 ./a\0\0what is this\0\0", "entry 2 is not as find"),
        ("l.txt", b"f 1 1 ../up\0\0", "climbs"),
        ("l.txt", b"total 4\n-rw-r--r-- 1 a a 5 Jan  1 2026 x\nneither this nor that\n", ":3: no line of 'ls -lAR'"),
        ("l.txt", b"total 4\n-rw-r--r-- 1 a a 5 Jan  1 20", "cut off"),
        ("l.txt", b"total 0\n", "holds no entry"),
        ("l.txt", b"hello\n", "neither a folder, an archive"),
    ],
    ids=lambda value: "raw" if isinstance(value, bytes) else None,  # some hold the time of day
)
def test_a_bad_archive_or_listing_is_told_and_changes_nothing(
    work: Work, tmp_path: Path, name: str, content: bytes, told: str
) -> None:
    work.account(TABLES).there({"www/a": ""})
    before = (work.plan / "surveys" / "millbrook.json").read_bytes()
    (tmp_path / name).write_bytes(content)
    done = work.run("survey", "millbrook", "--from", str(tmp_path / name))
    assert (done.returncode, told in done.stderr) == (2, True), done.stderr
    assert (work.plan / "surveys" / "millbrook.json").read_bytes() == before


def test_a_bomb_is_not_unpacked(plan: Plan, tmp_path: Path) -> None:
    """What it holds is spoilt, so that unpacking any of it would fail."""
    bomb = bytearray(zip_of("www/index.html", bytes(300 << 20)))
    bomb[50:250] = bytes(200)
    (tmp_path / "b.zip").write_bytes(bomb)
    assert survey(plan, str(tmp_path / "b.zip")).bytes == 300 << 20


def test_listings_of_other_hosts_are_read(plan: Plan, tmp_path: Path) -> None:
    (tmp_path / "l").write_text(
        ".:\ninsgesamt 8\ndrwxr-xr-x 2 web  users 4096  3. Mär 2024 www\n-rw-r--r--+ 1 web users 1.234 x\n".replace(
            " 1.234 x", "  7 Nov 20 06:05 a b"
        )
        + "lrwxrwxrwx 1 web users 3 Dec 24 18:00 l -> www\ncrw-rw-rw- 1 root root 1, 3 Jan 1 2026 null\n\n./www:\ntotal 4\n"
        "-rw-r--r-- 1 web users 5 2026-11-22 11:30 index.html\ndrwx------ 2 web users 4096 2026-11-22 11:30 locked\n"
    )
    found = survey(plan, str(tmp_path / "l"))
    top, www, locked = found.folders
    assert (top.names, top.newest, top.odd, top.bytes) == (("a b",), 1795154700, 1, 7)
    assert (www.index, www.newest, locked.trouble[:18]) == (("index.html",), 1795347000, "not in the listing")
    assert [(link.name, link.target) for link in found.links] == [("l", "www")]
    assert found.placeholders == []
    assert not found.contents


@settings(max_examples=examples(150), suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(st.integers(0, len(GOOD) - 1), st.binary(min_size=1, max_size=4), st.sampled_from(["a.tar", "a.zip", "l.txt"]))
def test_damage_anywhere_is_a_message_or_harmless(plan: Plan, at: int, damage: bytes, name: str) -> None:
    good = {"a.tar": GOOD, "a.zip": zip_of("index.html", b"x" * 100), "l.txt": b"f 1 1 ./a\0\0d 1 1 ./b\0\0" * 9}[name]
    at %= len(good)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name
        path.write_bytes(good[:at] + damage + good[at + len(damage) :])
        told = ""
        try:
            survey(plan, str(path))
        except KettlepostError as error:
            told = str(error)
        assert told.isprintable()


def test_every_account_is_surveyed_side_by_side_and_one_failure_stops_none(
    work: Work, home: Path, tmp_path: Path
) -> None:
    packed = pack_tar(home, tmp_path / "h.tar.gz")
    for name, source in (("one", home), ("two", packed), ("three", tmp_path / "nowhere"), ("four", None)):
        line = f'survey_from = "{source}"\n' if source else ""
        work.account(f'[account]\nname = "{name}"\n{line}', name=name)
    done = work.run("survey", "--all")
    assert done.returncode == 2
    assert "2 of 3 accounts surveyed; 1 without survey_from" in done.stderr
    assert "three: " in done.stderr
    assert sorted(path.name for path in (work.plan / "surveys").glob("*.json")) == ["one.json", "two.json"]
    assert [one["account"] for one in work.json("survey", "--all")["surveys"]] == ["one", "two"]
    (work.plan / "accounts/four.toml").write_text("[[domain]\n")  # and a file with faults stops none either
    done = work.run("survey", "--all")
    assert (done.returncode, "four: accounts/four.toml:1: not TOML" in done.stderr) == (2, True)
    assert "2 of 4 accounts surveyed" in done.stderr


def test_a_survey_that_found_very_much_tells_some_of_each_kind_and_counts_the_rest(work: Work) -> None:
    work.account(TABLES)
    work.there({f"www/s{n}/index.html": "" for n in range(65)})
    said = work.run("survey", "millbrook", "--from", str(work.homes / "millbrook")).stdout
    assert said.count("the file is empty") == 20
    assert "45 more placeholders" in said
    assert len(said.splitlines()) < 30
    assert len(work.json("survey", "millbrook", "--from", str(work.homes / "millbrook"))["placeholders"]) == 65


def test_show_diff_and_how_to(work: Work) -> None:
    work.account(TABLES).there({"www/a.txt": "x", "www/old/x": "", "loose/y": "12"})
    assert work.run("survey", "--diff", "millbrook").returncode == 2
    (work.homes / "millbrook/www/a.txt").write_text("longer")
    (work.homes / "millbrook/www/old/x").unlink()
    (work.homes / "millbrook/www/old").rmdir()
    work.there(
        {"www/shop/shop.php": "", "www/shop/barrow/core.php": "", "www/dump.sql": "", "www/index.html": "coming soon"}
    )
    told = {
        (one["change"], one["kind"], one["at"]): one["words"]
        for one in work.json("survey", "--diff", "millbrook")["differences"]
    }
    assert told == {
        ("came", "application", "www/shop"): "barrowshop not set up", ("came", "exposed", "www"): "dump.sql database dump",
        ("came", "placeholder", "www"): "index.html, coming-soon", ("came", "folder", "www/shop"): "2 files",
        ("went", "folder", "www/old"): "1 file", ("changed", "folder", "www"): "1 files, now 3; 1 bytes, now 17",
    }  # fmt: skip
    shown = work.run("survey", "--show", "millbrook").stdout
    for line in (
        "no address",
        "root of a.example",
        "Barrowshop (never set up)",
        "exposed       www/dump.sql  database dump",
    ):
        assert line in shown
    assert FIND_FORMAT in work.run("survey", "--how-to").stdout
    assert stat.S_IMODE((work.plan / "surveys/millbrook.before.json").stat().st_mode) & 0o600


@settings(max_examples=examples(40), suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(
    st.lists(
        st.tuples(
            st.lists(NAMES, min_size=1, max_size=5).map("/".join),
            st.sampled_from(
                [
                    tarfile.REGTYPE,
                    tarfile.AREGTYPE,
                    tarfile.SYMTYPE,
                    tarfile.LNKTYPE,
                    tarfile.DIRTYPE,
                    tarfile.FIFOTYPE,
                    tarfile.CONTTYPE,
                ]
            ),
            st.integers(0, 3000),
            st.integers(0, 2**33),
        ),
        max_size=12,
        unique_by=lambda one: one[0],
    ),
    st.sampled_from([tarfile.GNU_FORMAT, tarfile.PAX_FORMAT, tarfile.USTAR_FORMAT]),
    st.booleans(),
)
def test_tapes_are_read_as_the_standard_library_reads_them(
    tmp_path: Path, members: list[tuple[str, bytes, int, int]], form: int, packed: bool
) -> None:
    """Names of every length, every kind of member, times beyond octal: each as tarfile sees it."""
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w", format=form) as archive:
        for name, kind, size, changed in members:
            info = tarfile.TarInfo(name)
            info.type, info.mtime = kind, changed
            info.linkname = "some/where" if kind in (tarfile.SYMTYPE, tarfile.LNKTYPE) else ""
            info.size = size if kind in (tarfile.REGTYPE, tarfile.AREGTYPE, tarfile.CONTTYPE) else 0
            try:
                archive.addfile(info, io.BytesIO(bytes(info.size)))
            except (ValueError, UnicodeEncodeError):
                continue  # more than this form of archive can hold
    raw.seek(0)
    with tarfile.open(fileobj=raw) as archive:
        expected = [
            (one.name, one.isreg(), one.issym(), one.isdir(), one.size, int(one.mtime), one.linkname) for one in archive
        ]
    path = tmp_path / "t.tar"
    path.write_bytes(gzip.compress(raw.getvalue()) if packed else raw.getvalue())
    home = Home("t.tar", None, "", ".")
    with gzip.open(path) if packed else path.open("rb") as stream:
        found = list(
            tape_entries(
                stream, home, Wanted(frozenset(("index.html", ".htaccess")), lambda *_: lambda file: file.read(99))
            )
        )
    flat = []
    for entry in found:
        run = entry.files
        if run is None:
            flat.append((entry.path.rstrip("/"), entry.kind, entry.size, entry.changed, entry.target))
            continue
        times = [one[5] for one in expected[len(flat) : len(flat) + len(run.names)]]
        assert run.newest == max(times)
        for name, size, moment in zip(run.names, run.sizes, times, strict=True):
            flat.append((f"{entry.path}/{name}" if entry.path else name, entry.kind, size, moment, entry.target))
    assert len(flat) == len(expected)
    for (name, kind, size, changed, target), (theirs, plain, link, folder, length, time_, linkname) in zip(
        flat, expected, strict=True
    ):
        assert name == theirs
        assert kind == (
            "link"
            if link
            else "folder"
            if folder
            else "files"
            if plain and kind == "files"
            else "file"
            if plain or kind == "file"
            else "odd"
        )
        if plain:
            assert (size, changed) == (length, time_)
        if link:
            assert target == linkname


@pytest.mark.parametrize(
    ("paths", "inside", "places"),
    [
        (["./www/a", "./x"], None, ["www/a", "x"]),
        (["millbrook/www", "millbrook"], None, ["www", ""]),
        (["srv/hosting/millbrook/www"], None, ["www"]),
        (["srv", "srv/hosting", "srv/hosting/millbrook", "srv/hosting/millbrook/a"], None, [None, None, "", "a"]),
        (["backup/home/www", "backup/home/./a//b"], "backup/home", ["www", "a/b"]),
        (["millbrook/www"], ".", ["millbrook/www"]),
    ],
)
def test_the_home_is_found_in_an_archive_however_it_was_packed(
    paths: list[str], inside: str | None, places: list[str | None]
) -> None:
    home = Home("a.tar", "/srv/hosting/millbrook", "millbrook", inside)
    assert [home.relative(path) for path in paths] == places


def test_what_lies_outside_the_home_is_refused() -> None:
    home = Home("a.tar", "/srv/hosting/millbrook", "millbrook", None)
    assert home.relative("millbrook/www") == "www"
    with pytest.raises(KettlepostError, match="lies outside") as told:
        home.relative("elsewhere/www")
    assert "--inside FOLDER" in error_words(told.value)


@pytest.mark.proof
def test_a_survey_killed_at_any_moment_leaves_the_old_or_the_new_whole(work: Work) -> None:
    work.account(TABLES).there({f"www/d{n}/f{k}.php": "x" * n for n in range(40) for k in range(20)})
    stored = work.plan / "surveys" / "millbrook.json"
    words = [str(PROGRAM), "survey", "millbrook", "--from", str(work.homes / "millbrook"), "--plan", str(work.plan)]
    for n in range(12):
        with subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as running:
            time.sleep(0.25 + n * 0.03)
            running.kill()
        assert msgspec.json.decode(stored.read_bytes())["account"] == "millbrook"
        assert work.run("check").returncode in (0, 1)
