"""Every way in which a source can fail ends in the word for it, and what is odd but right is read."""

from __future__ import annotations

import bz2
import errno
import gzip
import io
import lzma
import os
import socket
import ssl
import struct
import subprocess
import sys
import tarfile
import zipfile
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, ClassVar

import asyncssh
import pytest

import hostile
from hostile import bad_ftp, bad_sftp, file_attributes, flipped, folder_attributes, header, long_path, tape
from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import InputError, KettlepostError, OutsideError
from kettlepost.core.survey import Listing, Wanted
from kettlepost.sources import Refusal, RemotePlace, Rename, Secrets, Trouble, local_files, open_files, open_source
from kettlepost.sources import folders as python_folders
from kettlepost.sources.database_servers import read_server
from kettlepost.sources.ftp_files import FtpFiles
from kettlepost.sources.local import LocalFolder
from kettlepost.sources.local_files import LocalFiles
from kettlepost.sources.sftp_files import SftpFiles
from kettlepost.sources.tunnel import tunnel
from servers import certificate, free_port, ftp_server
from test_file_servers import as_nobody

ALL = Wanted(frozenset({"index.html"}), lambda *_: lambda file: file.read(100))
PAGE = b"<h1>Geese</h1>"


def found(path: str, secrets: Secrets | None = None, limits: Limits | None = None) -> dict[str, Listing]:
    """What a source gives, a listing for each folder."""
    whole: dict[str, Listing] = {}
    for one in open_source(path, "millbrook", "/srv/hosting/millbrook", secrets=secrets, limits=limits).listings(ALL):
        kept = whole.setdefault(one.folder, Listing(one.folder, trouble=one.trouble))
        kept.names += one.names
        kept.sizes += one.sizes
        kept.links += one.links
        kept.odd += one.odd
        kept.newest = max(kept.newest, one.newest)
        kept.heads.update(one.heads)
    return whole


def packed(tmp_path: Path, name: str, content: bytes) -> dict[str, Listing]:
    (tmp_path / name).write_bytes(content)
    return found(str(tmp_path / name))


# -- archives


def zipped(method: int, kind: int = 0, extra: bytes = b"", flags: int = 0) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        info = zipfile.ZipInfo("www/index.html")
        info.compress_type, info.external_attr, info.extra, info.flag_bits = method, kind << 16, extra, flags
        archive.writestr(info, PAGE)
    return out.getvalue()


def again(whole: bytes, method: int) -> bytes:
    """The same said to be packed by another method."""
    directory = whole.index(b"PK\x01\x02")
    return spoilt(spoilt(whole, 8, bytes([method])), directory + 10, bytes([method]))


def backslashes() -> bytes:
    """As some pack on Windows."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name in ("www\\", "www\\index.html"):
            info = zipfile.ZipInfo("x")
            info.filename, info.create_system = name, 0
            archive.writestr(info, b"" if name.endswith("\\") else PAGE)
    return out.getvalue()


def unmarked() -> bytes:
    """A member in LZMA that ends without saying so, as packers that know its size write it."""
    whole, packer = bytearray(zipped(zipfile.ZIP_LZMA)), lzma.LZMACompressor(lzma.FORMAT_ALONE)
    alone = packer.compress(PAGE) + packer.flush()
    data = bytes([9, 4, 5, 0]) + alone[:5] + alone[13:-6]  # without the mark, and what the packer adds to end it
    begin = 30 + len("www/index.html")
    old = struct.unpack("<I", whole[18:22])[0]
    directory = whole.index(b"PK\x01\x02")
    for at in (18, directory + 20):
        whole[at : at + 4] = struct.pack("<I", len(data))
    end = whole.index(b"PK\x05\x06")
    whole[end + 16 : end + 20] = struct.pack("<I", directory - old + len(data))
    return bytes(whole[:begin] + data + whole[begin + old :])


def spoilt(content: bytes, at: int, by: bytes) -> bytes:
    return content[:at] + by + content[at + len(by) :]


def pax(record: bytes) -> bytes:
    length = len(record) + 3
    whole = b"%d %s\n" % (length + (length + 1 > 9), record) if length + 1 > 9 else b"%d %s\n" % (length, record)
    return tape((b"x", b"x", len(whole), whole), (b"www/index.html", b"0", len(PAGE), PAGE))


HOME = tape((b"www/index.html", b"0", len(PAGE), PAGE))
LAST = HOME[:1024] + header(b"www/b", b"0", 2_000_000)
ODD: dict[str, tuple[Callable[[], bytes], str]] = {
    "two streams.tar.xz": (lambda: lzma.compress(HOME[:700]) + bytes(70_000) + lzma.compress(HOME[700:]), ""),
    "unmarked.zip": (unmarked, ""),
    "windows.zip": (backslashes, ""),
    "times.zip": (lambda: zipped(0, extra=struct.pack("<HHIHHBi", 0x7875, 4, 0, 0x5455, 5, 1, 86_400)), ""),
    "unnamed.tar": (lambda: HOME[:1024] + tape((b"x", b"L", 5, b"www/a")), ""),
    "large.tar.gz": (lambda: gzip.compress(tape((b"www.zip", b"0", 3_000_000, b"x" * 3_000_000))[:-1024] + HOME), ""),
    "old.tar": (lambda: tape((b"www/", b"0", 0, b""), (b"www/index.html", b"0", len(PAGE), PAGE)), ""),
    "damaged.tar.bz2": (lambda: flipped(bz2.compress(HOME), 60), "damaged"),
    "damaged.tar.xz": (lambda: flipped(lzma.compress(HOME), 60), "damaged"),
    "moved.zip": (lambda: spoilt(zipped(zipfile.ZIP_BZIP2), 0, b"PK\3\5"), "not where the directory says"),
    "unsaid.zip": (lambda: spoilt(zipped(zipfile.ZIP_LZMA), 30 + 14 + 2, b"\6"), "does not say how it is packed"),
    "settings.zip": (lambda: spoilt(zipped(zipfile.ZIP_LZMA), 30 + 14 + 4, b"\xff"), "damaged"),
    "way.zip": (lambda: again(zipped(zipfile.ZIP_DEFLATED), 98), "packed in a way that is not read here"),
    "short.tar": (lambda: HOME[:1024] + HOME[:300], "ends within a header"),
    "long.tar": (lambda: tape((b"x", b"L", 1 << 30, b"")), "absurdly long"),
    "cut name.tar": (lambda: header(b"x", b"L", 60_000) + b"www/", "ends within a file"),
    "cut file.tar": (lambda: LAST + bytes(1_500_000), "ends within a file"),
    "words.tar": (lambda: tape((b"www/a", b"0", b"many bytes!\0", b"")), "no number where one belongs"),
    "pax size.tar": (lambda: pax(b"size=many"), "no number where one belongs"),
    "pax time.tar": (lambda: pax(b"mtime=noon"), "no time where one belongs"),
    "pax.tar": (lambda: pax(b"nothing"), "extended header is damaged"),
}


@pytest.mark.parametrize("name", ODD)
def test_what_is_odd_is_read_and_what_is_damaged_told(tmp_path: Path, name: str) -> None:
    content, told = ODD[name]
    if told:
        with pytest.raises(InputError, match=told):
            packed(tmp_path, name, content())
    else:
        there = packed(tmp_path, name, content())["www"]
        assert (there.names, there.heads) == (["index.html"], {"index.html": PAGE})
        assert there.newest == 86_400 or name != "times.zip"


def test_other_things_in_archives(tmp_path: Path) -> None:
    assert packed(tmp_path, "pipe.zip", zipped(0, kind=0o010644))["www"].odd == 1
    many = tape(*[(b"www/f%05d" % n, b"0", 0, b"") for n in range(21_000)])
    for name, content in (("home.tar", many), ("mixed.tar", many[:-1024] + tape(*long_path(b"www/" + b"n" * 120)))):
        assert len(packed(tmp_path, name, content)["www"].names) == 21_000 + (name == "mixed.tar")
    above = tape(
        (b"srv/hosting/millbrook/www/a", b"0", 0, b""), (b"srv/", b"5", 0, b""), (b"srv/hosting", b"5", 0, b"")
    )
    assert packed(tmp_path, "above.tar", above)["www"].names == ["a"]
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=tarfile.GNU_FORMAT) as archive:
        link = tarfile.TarInfo("www/link")
        link.type, link.linkname = tarfile.SYMTYPE, "t/" * 100 + "t"
        archive.addfile(link)
    assert packed(tmp_path, "links.tar", out.getvalue())["www"].links == [("link", link.linkname)]
    (tmp_path / "ls.txt").write_text("./www:\n-rw-r--r-- 1 a a 5 2026-13-01 10:00 index.html\n")
    assert found(str(tmp_path / "ls.txt"))["www"].newest == 0


@pytest.mark.parametrize("form", ["gnu", "pax", "oldgnu", "posix"])
def test_files_with_holes_are_listed_as_they_are(tmp_path: Path, form: str) -> None:
    home = tmp_path / "home/www"
    home.mkdir(parents=True)
    with (home / "disk.img").open("wb") as file:
        for n in range(9):
            file.seek(n * 400_000)
            file.write(b"x" * 5000)
    subprocess.run(
        ["tar", "--sparse", f"--format={form}", "-C", str(home.parent), "-cf", str(tmp_path / "h.tar"), "."], check=True
    )
    there = found(str(tmp_path / "h.tar"))["www"]
    assert (there.names, there.sizes) == (["disk.img"], [8 * 400_000 + 5000])


# -- folders


def test_folders_and_files_that_cannot_be_read(tmp_path: Path) -> None:
    for path, told in (("x" * 300, "cannot be read"), ("a\0b", "holds a NUL"), ("/proc/self/mem", "cannot be read")):
        with pytest.raises(KettlepostError, match=told):
            open_source(str(tmp_path / path) if path[0] != "/" else path)
    (tmp_path / "gone").mkdir()
    folder = LocalFolder.open(tmp_path / "gone")
    (tmp_path / "gone").rmdir()
    with pytest.raises(OutsideError, match="cannot be read"):
        list(folder.listings(ALL))
    with pytest.raises(OutsideError, match="cannot be read"):
        open_files(folder)
    with pytest.raises(OutsideError, match="the disk failed"):  # a file of which no system gives the beginning
        list(LocalFiles(Path(f"/proc/{os.getpid()}")).read("mem"))
    with pytest.raises(Trouble, match="name too long"):
        LocalFiles(tmp_path).look("x" * 300)
    (tmp_path / "closed").mkdir(mode=0)
    for above in (tmp_path, *tmp_path.parents):
        above.chmod(above.stat().st_mode | 0o555) if os.geteuid() == above.stat().st_uid else None
    with as_nobody(), pytest.raises(OutsideError, match="give yourself the right"):
        LocalFolder.open(tmp_path / "closed")
    (tmp_path / "list.txt").write_text("./www:\n")
    listing = open_source(str(tmp_path / "list.txt"))
    assert open_files(listing) is None
    (tmp_path / "list.txt").unlink()
    with pytest.raises(OutsideError, match="cannot be read"):
        list(listing.listings(ALL))


def test_files_that_came_in_between(tmp_path: Path) -> None:
    for n in range(700):
        (tmp_path / f"d{n}").mkdir()
    (tmp_path / "a").write_text("1")
    os.mkfifo(tmp_path / "pipe")
    files = open_files(open_source(str(tmp_path)))
    assert files is not None
    was = files.look("a")
    assert was is not None
    for n in range(700):  # more than are held open
        files.make(f"d{n}/x")
    for path, refusal in (("pipe", Refusal.CHANGED), ("d1", Refusal.CHANGED), ("none", Refusal.MISSING)):
        with pytest.raises(Trouble) as raised:
            list(files.read(path))
        assert raised.value.refusal is refusal
    [(_, trouble)] = files.rename_all([Rename("a", "none/a", was)])
    assert trouble is not None
    [(_, trouble)] = files.rename_all([Rename("none/a", "b", was)])
    assert trouble is not None
    (tmp_path / "a").write_text("22")
    [(_, trouble)] = files.rename_all([Rename("a", "b", was)])
    assert trouble is not None
    assert trouble.refusal is Refusal.CHANGED
    (tmp_path / "link").symlink_to("a")
    link = files.look("link")
    assert link is not None
    (tmp_path / "link").unlink()
    (tmp_path / "link").symlink_to("b")
    [(_, trouble)] = files.rename_all([Rename("link", "other", link)])
    assert trouble is not None
    assert (trouble.refusal, (tmp_path / "a").read_text()) == (Refusal.CHANGED, "22")
    files.close()


def test_what_is_swapped_while_it_is_renamed_comes_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    real = python_folders.rename_new

    def swapping(around: int, name: Any, to: int, new: Any) -> None:
        real(around, name, to, new)
        os.unlink(new, dir_fd=to)
        os.symlink("elsewhere", new, dir_fd=to)

    for module in (local_files, python_folders):
        monkeypatch.setattr(module, "rename_new", swapping)
    (tmp_path / "link").symlink_to("a")
    files = LocalFiles(tmp_path)
    link = files.look("link")
    assert link is not None
    [(_, trouble)] = files.rename_all([Rename("link", "aside", link)])
    assert trouble is not None
    assert (trouble.refusal, os.listdir(tmp_path)) == (Refusal.CHANGED, ["link"])
    (tmp_path / "file").write_text("x")
    about, handle = (tmp_path / "file").stat(), os.open(tmp_path, python_folders.FOLDER)
    seen = (b"file", b"aside", about.st_dev, about.st_ino, 1, about.st_mtime_ns, 0, True)
    assert python_folders.rename_all(handle, handle, [seen]) == [python_folders.CHANGED_AFTER]
    os.close(handle)
    assert sorted(os.listdir(tmp_path)) == ["file", "link"]


def test_without_the_compiled_module_all_is_the_same(tmp_path: Path) -> None:
    (tmp_path / "www").mkdir()
    (tmp_path / "www/a").write_text("x")
    program = (
        "import sys; sys.modules['kettlepost.sources._folders'] = None\n"
        "from kettlepost.sources import Rename, open_files, open_source\n"
        "from kettlepost.core.survey import Wanted\n"
        "source = open_source(sys.argv[1]); files = open_files(source)\n"
        "print([one.names for one in source.listings(Wanted(frozenset(), None))])\n"
        "print([trouble for _, trouble in files.rename_all([Rename('www/a', 'www/b', files.look('www/a'))])])\n"
    )
    done = subprocess.run([sys.executable, "-c", program, tmp_path], capture_output=True, text=True, check=True)
    assert done.stdout.split("\n")[:2] == ["[[], ['a']]", "[None]"]
    assert os.listdir(tmp_path / "www") == ["b"]


@pytest.fixture(params=["compiled", "python", "old"])
def renaming(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Any:
    """Both ways to rename, and that of a system that has no request for it."""
    if request.param == "compiled":
        return pytest.importorskip("kettlepost.sources._folders").rename_all
    if request.param == "old":
        monkeypatch.setattr(python_folders, "_RENAME", None)
    return python_folders.rename_all


def test_renaming_takes_the_place_of_nothing(tmp_path: Path, renaming: Any) -> None:
    (tmp_path / "from").mkdir()
    (tmp_path / "to").mkdir()
    items = []
    for name in ("a", "taken", "gone", "changed", "folder", "other"):
        path = tmp_path / "from" / name
        path.mkdir() if name == "folder" else path.write_text(name)
        about = path.stat()
        raw = name.encode()
        number = about.st_ino + (name == "other")
        items.append(
            (raw, raw, about.st_dev, number, about.st_size, about.st_mtime_ns, about.st_ctime_ns, name != "folder")
        )
    (tmp_path / "to/taken").write_text("there")
    (tmp_path / "from/gone").unlink()
    (tmp_path / "from/changed").write_text("changed!")
    handles = [os.open(tmp_path / name, python_folders.FOLDER) for name in ("from", "to")]
    told = renaming(*handles, items)
    assert told == [0, errno.EEXIST, errno.ENOENT, python_folders.CHANGED_BEFORE, 0, python_folders.CHANGED_BEFORE]
    assert sorted(os.listdir(tmp_path / "to")) == ["a", "folder", "taken"]
    assert (tmp_path / "to/taken").read_text() == "there"
    for handle in handles:
        os.close(handle)


# -- addresses and packages


@pytest.mark.parametrize(
    ("written", "told"),
    [
        ("sftp://host/x", "is to be sftp://user@host/path"), ("ftp://@host/", "is to be"), ("ftp://a@/x", "is to be"),
        ("ftp://a/b@host/", "is to be"), ("sftp://a@host:0/", "no port"), ("sftp://a@host:99999/", "no port"),
        ("sftp://a@host:x/", "no port"), ("ftp://a@host/a%00b", "a NUL or a line end"), ("ftp://a@host/a%0Ab", "a line end"),
        ("http://a@host/", "is no source"), ("sftp://a:b@host/", "does not belong into the address"),
    ],
)  # fmt: skip
def test_addresses_that_are_none(written: str, told: str) -> None:
    with pytest.raises(InputError, match=told):
        open_source(written)


@pytest.mark.parametrize(
    ("package", "source"),
    [("asyncssh", "a survey"), ("asyncssh", "files"), ("asyncssh", "a tunnel"), ("zstandard", "an archive"),
     ("pymysql", "mysql"), ("psycopg", "postgresql")],
)  # fmt: skip
def test_a_package_that_is_not_there_is_named(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, package: str, source: str
) -> None:
    monkeypatch.setitem(sys.modules, package, None)
    (tmp_path / "home.tar.zst").write_bytes(b"\x28\xb5\x2f\xfd")
    secrets, place, base = (
        Secrets(lambda _: None),
        RemotePlace.parse("sftp://a@host/"),
        RemotePlace.parse("mysql://a@host/"),
    )
    opened: dict[str, Callable[[], object]] = {
        "a survey": lambda: found("sftp://a@host/"), "files": lambda: SftpFiles(place, secrets),
        "an archive": lambda: found(str(tmp_path / "home.tar.zst")), "a tunnel": lambda: tunnel(place, base, secrets).__enter__(),
        "mysql": lambda: read_server(base, secrets),
        "postgresql": lambda: read_server(RemotePlace.parse("postgresql://a@host/"), secrets),
    }  # fmt: skip
    with pytest.raises(InputError, match="one more package"):
        opened[source]()


def test_database_servers_that_cannot_be_asked(tmp_path: Path) -> None:
    (tmp_path / "pass").write_text("")
    (tmp_path / "none.pem").write_text("hello")
    secrets, port = Secrets(lambda _: "x"), free_port()
    base = RemotePlace.parse(f"postgresql://a@127.0.0.1:{port}/")
    for place, more in (
        (base, {"credentials": tmp_path / "pass"}), (base, {"near": port}), (RemotePlace.parse("postgresql://a@db.invalid/"), {}),
    ):  # fmt: skip
        with pytest.raises(OutsideError, match=str(place)):
            read_server(place, secrets, **more)  # type: ignore[arg-type]
    with pytest.raises(InputError, match="no certificates that can be read"):
        read_server(RemotePlace.parse("mysql://a@db.invalid/"), secrets._replace(certificates=tmp_path / "none.pem"))


def test_a_budget_without_a_clock_and_one_that_is_out_of_time() -> None:
    Budget("x").wait()
    now = iter(range(0, 100_000, 20))
    budget = Budget("x", Limits(), lambda: next(now))
    with pytest.raises(OutsideError, match="more than 14,400 seconds"):
        deque((budget.go_on() for _ in range(2000)), maxlen=0)


# -- servers


class Told(hostile.BadFtp):
    """An FTP server that gives other answers to some commands, and other data."""

    answers: ClassVar[dict[str, bytes]] = {}
    trusted: ClassVar[Path | None] = None
    ends = b"226 done\r\n"
    data_sent = b"type=file;size=14; index.html\r\ntype=dir; d\r\n"

    def _answer(self, connection: socket.socket, verb: str, words: bytes) -> None:
        said = self.answers.get(f"{verb} {words.decode()}", self.answers.get(verb))
        if said is not None and verb in ("MLSD", "LIST", "RETR", "STOR"):
            self.data.accept()[0].close()
        if verb == "RETR" and said is None:
            connection.sendall(b"150 here it comes\r\n")
            with self.data.accept()[0] as data:
                data.sendall(PAGE)
            connection.sendall(self.ends)
        elif said is None:
            super()._answer(connection, verb, words)
        elif said:
            connection.sendall(said)
            if verb == "AUTH" and self.trusted is not None:
                context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
                context.load_cert_chain(self.trusted)
                context.wrap_socket(connection, server_side=True).recv(100)
        else:
            connection.shutdown(socket.SHUT_RDWR)

    def _send(self, data: socket.socket, folder: str) -> None:
        data.sendall(self.data_sent if folder in ("/", "-a") else b"")


@contextmanager
def ftp_that_says(monkeypatch: pytest.MonkeyPatch, data: bytes = b"", **answers: bytes) -> Iterator[str]:
    kind = type("Says", (Told,), {"answers": {key.replace("_", " "): value for key, value in answers.items()}})
    if data:
        kind.data_sent = data  # type: ignore[attr-defined]
    monkeypatch.setattr(hostile, "BadFtp", kind)
    with bad_ftp("told") as address:
        yield address


ANSWERS: list[tuple[dict[str, bytes], type[Exception] | None, str]] = [
    ({"USER": b""}, OutsideError, "broke off"),
    ({"PASS": b"530 no\r\n"}, OutsideError, "check user and password"),
    ({"MLSD": b"550 none for you\r\n"}, InputError, "cannot list / .550 none for you"),
    ({"MLSD /d": b"550 Closed\r\n"}, None, "550 closed"),
    ({"MLSD /d": b"450 Busy\r\n"}, None, "450 busy"),
    ({"MLSD /d": b"421 good night\r\n"}, OutsideError, "good night"),
    ({"MLSD /d": b"425 no way\r\n"}, OutsideError, "no way"),
    ({"LIST": b"550 not so\r\n"}, None, ""),
    ({"LIST": b"421 good night\r\n"}, OutsideError, "good night"),
    ({"RETR": b"550 secret\r\n"}, None, ""),
    ({"RETR": b"450 busy\r\n"}, None, ""),
    ({"RETR": b"421 good night\r\n"}, OutsideError, "good night"),
    ({"MLSD": b"500 what?\r\n", "LIST": b"226 at once\r\n"}, OutsideError, "nothing came of it"),
    ({"TYPE": b"bla\r\n"}, OutsideError, "broke off"),
]


@pytest.mark.parametrize(("answers", "error", "told"), ANSWERS)
def test_what_an_ftp_server_answers_is_told(
    monkeypatch: pytest.MonkeyPatch, answers: dict[str, bytes], error: type[Exception] | None, told: str
) -> None:
    patience = Limits(patience=2)
    with ftp_that_says(monkeypatch, **answers) as address:
        if error is not None:
            with pytest.raises(error, match=told):
                found(address, Secrets(lambda _: "x"), patience)
            return
        there = found(address, Secrets(lambda _: "x"), patience)
    assert (there[""].names, set(there)) == (["index.html"], {"", "d"})
    assert there["d"].trouble == told
    assert ("index.html" in there[""].heads) == ("RETR" not in answers)


def test_ftp_in_other_ways(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    with ftp_that_says(monkeypatch, data=b"type=file;size=14; index.html\r\ntype=dir; unended") as address:
        assert set(found(address, Secrets(lambda _: "x"))) == {"", "unended"}
    many = b"".join(b"type=file;size=1; f%d\r\n" % n for n in range(21_000))
    with ftp_that_says(monkeypatch, data=many) as address:
        assert len(found(address, Secrets(lambda _: "x"))[""].names) == 21_000
    monkeypatch.setattr(Told, "ends", b"426 you did not want all of it\r\n")
    with ftp_that_says(monkeypatch) as address:
        assert found(address, Secrets(lambda _: "x"))[""].heads == {"index.html": PAGE}
    trusted = certificate(tmp_path, "127.0.0.1")
    monkeypatch.setattr(Told, "trusted", trusted)
    with (
        ftp_that_says(monkeypatch, AUTH=b"234 go on\r\n230 in already\r\n") as address,
        pytest.raises(OutsideError, match="went on without TLS"),
    ):
        found(address.replace("ftp:", "ftps:"), Secrets(lambda _: "x", certificates=trusted))
    with bad_ftp("") as address, pytest.raises(InputError, match="line end cannot be sent"):
        found(address, Secrets(lambda _: "a\nb"))
    with pytest.raises(OutsideError, match="connection refused; check host and port"):
        found(f"ftp://a@127.0.0.1:{free_port()}/")
    (tmp_path / "none.pem").write_text("hello")
    with pytest.raises(InputError, match="no certificates that can be read"):
        found("ftps://a@127.0.0.1/", Secrets(lambda _: "x", certificates=tmp_path / "none.pem"))


def test_a_part_of_what_an_ftp_server_has(monkeypatch: pytest.MonkeyPatch) -> None:
    def part(address: str, below: str) -> set[str]:
        source = open_source(address, secrets=Secrets(lambda _: "x"), limits=Limits(patience=2))
        return {one.folder for one in source.listings(ALL, below)}

    with ftp_that_says(monkeypatch) as address:
        assert (part(address, "d"), part(address, "none")) == ({"d"}, set())
    refused = dict.fromkeys(("MLSD /", "MLSD /home"), b"550 not this\r\n")
    with ftp_that_says(monkeypatch, **refused) as address:
        with pytest.raises(InputError, match="cannot list /"):
            part(address, "d")
        assert part(f"{address}home", "d/x") == {"d/x"}
    with (
        ftp_that_says(monkeypatch, **{"MLSD /": b"421 good night\r\n"}) as address,
        pytest.raises(OutsideError, match="good night"),
    ):
        part(address, "d")


def test_ftp_files_that_a_server_does_not_do_as_it_says(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    done = dict.fromkeys(("RNTO", "SITE", "DELE", "RMD", "MKD"), b"250 done\r\n")
    with ftp_that_says(monkeypatch, STOR=b"550 full\r\n", RNFR=b"350 and now\r\n", **done) as address:
        files = FtpFiles(RemotePlace.parse(address), Secrets(lambda _: "x"), "2026-11-26")
        page = files.look("index.html")
        assert page is not None
        [(_, trouble)] = files.rename_all([Rename("index.html", "other.html", page)])
        assert trouble is not None
        assert trouble.refusal is Refusal.CHANGED  # it said that it was done
        for what, refusal in (
            (lambda: files.remove("a\nb"), Refusal.NAMED),
            (lambda: files.write("note", [b"x"]), Refusal.REFUSED),
            (lambda: files.make("d"), Refusal.TAKEN),
            (lambda: list(files.read("d")), Refusal.CHANGED),
        ):
            with pytest.raises(Trouble) as raised:
                what()  # type: ignore[no-untyped-call]
            assert raised.value.refusal is refusal
        files.close()
    with ftp_that_says(monkeypatch, STOR=b"150 go on\r\n226 done\r\n", LIST=b"550 no\r\n", **done) as address:
        files = FtpFiles(RemotePlace.parse(address), Secrets(lambda _: "x"), "2026-11-26")
        with pytest.raises(Trouble, match="not written whole"):
            files.write("note", [b"x"])
    with ftp_that_says(monkeypatch, MLSD=b"421 good night\r\n") as address:
        files = FtpFiles(RemotePlace.parse(address), Secrets(lambda _: "x"), "2026-11-26")
        with pytest.raises(OutsideError, match="good night"):
            files.look("index.html")
    (tmp_path / "a").write_text("x")
    (tmp_path / "d").mkdir()
    with ftp_server(tmp_path) as port:  # where nobody may change anything
        files = FtpFiles(
            RemotePlace.parse(f"ftp://webkeeper@127.0.0.1:{port}/"), Secrets(lambda _: "points"), "2026-11-26"
        )
        was = files.look("a")
        assert was is not None
        renames = [Rename("a", "b", was), Rename("a", "none/b", was), Rename("a", "d/b", was)]
        assert None not in [trouble for _, trouble in files.rename_all(renames)]
        assert (tmp_path / "a").read_text() == "x"
        files.close()


class Says(hostile.BadSftp):
    """An SFTP server that refuses, or says what is none."""

    async def scandir(self, path: bytes) -> Any:
        if self.behaviour == "no listing" and path.strip(b"/"):
            raise asyncssh.SFTPFailure("not this one")
        for n in range(9_000 if self.behaviour == "many" else 1):
            yield asyncssh.SFTPName(b"index.html" if not n else b"f%d" % n, attrs=file_attributes(14))
        yield asyncssh.SFTPName(b"link", attrs=asyncssh.SFTPAttrs(permissions=0o120777))
        if not path.strip(b"/"):
            yield asyncssh.SFTPName(b"d", attrs=folder_attributes())
        if self.behaviour == "cut off":
            self.connection.abort()
        if self.behaviour == "hung up":
            self.channel.close()

    def readlink(self, _: bytes) -> bytes:
        if self.behaviour == "hung up at a link":
            self.channel.close()
        if self.behaviour == "no links":
            raise asyncssh.SFTPOpUnsupported("no links here")
        return b"/a/circle" if self.behaviour == "circles" else b"t" * (5_000 if self.behaviour == "long links" else 5)

    def stat(self, path: bytes) -> asyncssh.SFTPAttrs:
        if path == b"/a/circle":
            raise asyncssh.SFTPFailure("too many links")
        return file_attributes()

    def lstat(self, path: bytes) -> asyncssh.SFTPAttrs:
        if self.behaviour == "no looks" and path.strip(b"/"):
            raise asyncssh.SFTPPermissionDenied("no")
        if self.behaviour == "hung up at a look":
            self.channel.close()
        if path.strip(b"/") not in (b"d", b"index.html", b""):
            raise asyncssh.SFTPNoSuchFile("none")
        return folder_attributes() if path.endswith(b"d") else file_attributes(14)

    async def open(self, *_: object) -> object:  # type: ignore[override]
        if self.behaviour == "cut off in a file":
            self.connection.abort()
        if self.behaviour == "hung up at a file":
            self.channel.close()
        raise asyncssh.SFTPPermissionDenied("not for you")

    made: ClassVar[list[object]] = []

    def mkdir(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        self.made += [path, attrs.permissions]

    def lsetstat(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        self.made += [path, attrs.permissions]

    def rename(self, *_: bytes) -> None:
        if self.behaviour == "refused":
            raise asyncssh.SFTPFailure("no")


@contextmanager
def sftp_that(behaviour: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Iterator[tuple[str, Secrets]]:
    monkeypatch.setattr(hostile, "BadSftp", Says)
    with bad_sftp(behaviour, tmp_path / "server") as port:
        yield f"sftp://keeper@127.0.0.1:{port}/", Secrets(lambda _: None, None, tmp_path / "server/known")


@pytest.mark.parametrize(
    "behaviour",
    [
        "",
        "no listing",
        "many",
        "no links",
        "circles",
        "long links",
        "cut off",
        "cut off in a file",
        "hung up",
        "hung up at a link",
        "hung up at a file",
    ],
)
def test_what_an_sftp_server_refuses_is_told(behaviour: str, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    with sftp_that(behaviour, monkeypatch, tmp_path) as (address, secrets):
        if behaviour.startswith(("cut off", "hung up")):
            with pytest.raises(OutsideError):
                found(address, secrets)
            return
        there = found(address, secrets)
    assert set(there) == {"", "d"}
    assert len(there[""].names) == (9_000 if behaviour == "many" else 1)
    assert there["d"].trouble == ("not this one" if behaviour == "no listing" else "")
    told = {"circles": "/a/circle", "no links": "", "long links": ""}.get(behaviour, "ttttt")
    assert there[""].links == [("link", told)]


def test_sftp_in_other_ways(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    (tmp_path / "key").write_text("no key")
    with sftp_that("", monkeypatch, tmp_path) as (address, secrets):
        with pytest.raises(InputError, match="cannot be used"):
            found(address, secrets._replace(key=tmp_path / "key"))
        with pytest.raises(OutsideError, match="known_hosts"):
            SftpFiles(RemotePlace.parse(address), secrets._replace(known_hosts=tmp_path / "key"))
    for behaviour, refusal in (("refused", Refusal.REFUSED), ("", Refusal.CHANGED)):
        with sftp_that(behaviour, monkeypatch, tmp_path) as (address, secrets):
            files = SftpFiles(RemotePlace.parse(address), secrets)
            was = files.look("index.html")
            assert was is not None
            [(_, trouble)] = files.rename_all([Rename("index.html", "other", was)])
            assert trouble is not None
            assert trouble.refusal is refusal
            files.close()
    with sftp_that("", monkeypatch, tmp_path) as (address, secrets):  # which does not say with what mode it made it
        files = SftpFiles(RemotePlace.parse(address), secrets)
        files.make("new", 0o700)
        assert Says.made == [b"/new", 0o700, b"/new", 0o700]
        files.close()
    with sftp_that("hung up at a look", monkeypatch, tmp_path) as (address, secrets), pytest.raises(OutsideError):
        SftpFiles(RemotePlace.parse(address), secrets).look("index.html")
    with sftp_that("no looks", monkeypatch, tmp_path) as (address, secrets):
        files = SftpFiles(RemotePlace.parse(address), secrets)
        with pytest.raises(Trouble):
            files.look("index.html")
        [(_, trouble)] = files.rename_all([Rename("index.html", "other", was)])
        assert trouble is not None
        source = open_source(address, secrets=secrets)
        assert {one.folder for one in source.listings(ALL, "d")} == {"d"}  # where none may be looked at, it is tried
        files.close()
