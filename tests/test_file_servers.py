"""What real file servers say of a home is what lies there, and what they refuse is told and changes nothing."""

from __future__ import annotations

import getpass
import os
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path

import msgspec
import pytest

from conftest import Work
from file_servers import NOBODY, PASSWORD, SERVERS, Site, file_server
from kettlepost.core.clearing import FileEntry
from kettlepost.core.names import Folder
from kettlepost.core.plan import Plan
from kettlepost.core.survey import FoundLink, Survey
from kettlepost.sources import FileAccess, Refusal, Rename, Secrets, Trouble, open_files, open_source
from kettlepost.workspace.plan_folder import read_plan
from kettlepost.workspace.surveys import store_survey
from servers import ftp_server, sftp_server
from test_sources import TABLES, TAKEN, survey

PAGE = "<title>The railway</title><h1>Millbrook</h1><p>Trains run on Sundays, and tea is served.</p>"
TREE = {
    "www/index.html": PAGE, "www/.htaccess": "Redirect /old /new\n", "www/with space/a b.txt": "1", "www/ leading/ x": "2",
    "www/trailing /x ": "3", "www/\xfc\xf1\xed/\xe4.html": "4", "www/latin\udce4/x\udcff.txt": "5", "www/-dash/-f": "6",
    "www/*star/?q[1].txt": "7", "www/a -> b/c -> d": "8", 'www/q"uote/"x"': "9", "www/back\\slash/y\\n": "10",
    "www/;semi;/=x;y": "11", "www/.hidden/.f": "12", "www/..dots/..x": "13", "www/...": "14", "www/total 0": "15",
    "www/drwxr-xr-x 2 a a 4096 Jan  1 2026 fake": "16", "www/%2e/x": "17", "www/~tilde/x": "18", "www/#hash/x": "19",
    "www/blog/wp-config.php": "<?php define('DB_NAME', 'shop'); $table_prefix = 'wp_';", "www/blog/wp-load.php": "",
    "www/blog/wp-includes/version.php": "<?php\n$wp_version = '6.4.2';\n", "www/closed/x": "20", "www/noread/x": "21",
}  # fmt: skip
LINKS = {"www/link.html": "index.html", "www/odd": "/srv/x y", "www/self": ".", "www/up": "..", "public": "www"}


LACKS = {"ProFTPD": ("odd", "self", "up")}
"""The links of which a server does not tell, or not where they lead to."""


@pytest.fixture
def home() -> Iterator[Path]:
    """A home with names that are hard to tell, folders that are closed, and links that lead in circles."""
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        place.chmod(0o755)
        for name, text in TREE.items():
            (place / name).parent.mkdir(parents=True, exist_ok=True)
            (place / name).write_text(text)
        (place / "www/empty").mkdir()
        (place / "www/odd").symlink_to(LINKS["www/odd"])
        for name, target in LINKS.items():
            if not (place / name).is_symlink():
                (place / name).symlink_to(target)
        if not os.geteuid():
            subprocess.run(["chown", "-hR", f"{NOBODY}:{NOBODY}", str(place)], check=True)
        os.chown(place, os.geteuid(), -1)  # as one of the servers wants it
        (place / "www/closed").chmod(0)
        (place / "www/noread").chmod(0o311)
        yield place
        for name in ("closed", "noread"):
            (place / "www" / name).chmod(0o755)


@contextmanager
def as_nobody() -> Iterator[None]:
    """With the rights of the user to whom the home belongs."""
    if os.geteuid():
        yield
        return
    os.setegid(NOBODY)
    os.seteuid(NOBODY)
    try:
        yield
    finally:
        os.seteuid(0)
        os.setegid(0)


def known(plan: Plan, source: str, secrets: Secrets | None = None) -> Survey:
    return survey(plan, source, secrets=secrets)


def facts(found: Survey, lacks: frozenset[str] = frozenset()) -> dict[str, object]:
    """What is there, without the words of a server and without times, of which some tell no seconds."""
    return {
        "folders": [(one.folder, one.files, one.bytes, one.names, bool(one.trouble)) for one in found.folders],
        "links": [(one.folder, one.name, one.target) for one in found.links if one.name not in lacks],
        "applications": found.applications, "controls": found.controls, "sites": found.sites,
    }  # fmt: skip


@pytest.mark.proof
@pytest.mark.parametrize("name", SERVERS)
def test_a_survey_over_a_real_server_is_the_one_of_the_folder(work: Work, home: Path, name: str) -> None:
    plan = read_plan(work.account(TABLES).plan)
    with as_nobody():
        local = known(plan, str(home))
    lacks = frozenset(LACKS.get(name, ()))
    with file_server(name, home) as site:
        found = known(plan, site.address, secrets(site))
    assert facts(found, lacks) == facts(local, lacks)


def secrets(site: Site) -> Secrets:
    return Secrets(lambda _: PASSWORD, None, site.known_hosts, site.certificate)


@pytest.mark.parametrize("machine_readable", [True, False])
def test_links_are_links_where_a_server_takes_them_for_what_they_lead_to(
    work: Work, home: Path, machine_readable: bool
) -> None:
    plan = read_plan(work.account(TABLES).plan)
    for name in ("closed", "noread"):
        (home / "www" / name).chmod(0o755)
    (home / "www/latin\udce4/x\udcff.txt").unlink()
    (home / "www/latin\udce4").rmdir()  # which this server cannot name
    with ftp_server(home, machine_readable=machine_readable) as port:
        found = known(plan, f"ftp://webkeeper@127.0.0.1:{port}/", Secrets(lambda _: "points"))
    lacks = frozenset({"odd"} if machine_readable else ())
    assert facts(found) == facts(known(plan, str(home)), lacks)


def test_a_link_without_a_target_leads_nobody_knows_where(work: Work) -> None:
    work.account(TABLES).there({"www/index.html": PAGE})
    found = work.stored()
    found.links = [FoundLink(Folder("www"), "there", "")]
    store_survey(work.plan, found)
    answer = work.run("where", "a.example/there/x.html").stdout
    assert ("unknown" in answer, "whose target was not told" in answer) == (True, True), answer
    shown = work.run("survey", "millbrook", "--show").stdout
    assert "leads to what was not told" in shown, shown


# -- the files behind them


def expect(refusal: Refusal, what: Callable[[], object]) -> None:
    with pytest.raises(Trouble) as raised:
        what()
    assert raised.value.refusal is refusal, raised.value


def told(files: FileAccess, *renames: Rename) -> list[Refusal | None]:
    """How each was refused, in their order."""
    found = {(one.path, one.to): trouble for one, trouble in files.rename_all(renames)}
    return [
        trouble.refusal if trouble is not None else None
        for trouble in map(found.__getitem__, [one[:2] for one in renames])
    ]


def look(files: FileAccess, path: str) -> FileEntry:
    found = files.look(path)
    assert found is not None
    return found


def handled(files: FileAccess, home: Path, reads_all: bool, link_ends: Refusal | None) -> None:
    """Everything that clearing asks of the files of an account, and how it is refused."""
    assert (files.look("www/none"), files.look("www/none/x")) == (None, None)
    around = {entry.path: entry for entry in next(iter(files.list_all(["www"]))).entries}
    link, page = around["www/link.html"], around["www/index.html"]
    assert (link.kind, page.kind, page.size) == ("link", "file", len(PAGE))
    assert link.target in ("index.html", "/www/index.html")
    assert b"".join(files.read("www/index.html")).decode() == PAGE
    expect(Refusal.MISSING, lambda: list(files.read("www/none")))
    listed = {one.folder: one for one in files.list_all(["www/empty", "www/closed", "www/with space"])}
    assert [entry.path for entry in listed["www/with space"].entries] == ["www/with space/a b.txt"]
    assert (list(listed["www/empty"].entries), listed["www/empty"].trouble) == ([], None)
    assert (listed["www/closed"].trouble is None) == reads_all
    if not reads_all:
        with pytest.raises(Trouble):
            files.look("www/closed/x")
    files.make("www/aside")
    expect(Refusal.TAKEN, lambda: files.make("www/aside"))
    files.write("www/aside/note", [b"x" * 70_000, b"y"])
    expect(Refusal.TAKEN, lambda: files.write("www/aside/note", [b"z"]))
    assert look(files, "www/aside/note").size == 70_001
    gone = msgspec.structs.replace(page, path="www/gone")
    other = look(files, "www/total 0")
    (home / "www/total 0").write_text("longer than it was")
    assert told(
        files,
        Rename("www/link.html", "www/aside/link.html", link),
        Rename("www/gone", "www/aside/gone", gone),
        Rename("www/total 0", "www/aside/total 0", other),
        Rename("www/index.html", "www/aside/note", page),
        Rename("www/index.html", "www/aside/index.html", page),
    ) == [link_ends, Refusal.MISSING, Refusal.CHANGED, Refusal.TAKEN, None]
    assert os.readlink(home / ("www/link.html" if link_ends else "www/aside/link.html")) == "index.html"
    assert told(files, Rename("www/aside/note", "www/nowhere/note", look(files, "www/aside/note"))) != [None]
    assert (home / "www/aside/note").read_bytes() == b"x" * 70_000 + b"y"
    assert told(files, Rename("www/aside/index.html", "www/index.html", look(files, "www/aside/index.html"))) == [None]
    assert (home / "www/index.html").read_text() == PAGE
    with pytest.raises(Trouble):
        files.remove_folder("www/with space")
    files.remove("www/aside/note")
    if link_ends is None:
        expect(Refusal.CHANGED, lambda: list(files.read("www/aside/link.html")))
        files.remove("www/aside/link.html")
    files.remove_folder("www/aside")
    assert not (home / "www/aside").exists()
    files.close()
    files.close()


@pytest.mark.parametrize("name", ["", "OpenSSH", *(pytest.param(name, marks=pytest.mark.proof) for name in SERVERS)])
def test_what_servers_refuse_is_told_and_changes_nothing(home: Path, tmp_path: Path, name: str) -> None:
    plain = nullcontext(Site(str(home)))
    with plain if not name else file_server(name, home) if name in SERVERS else openssh(home, tmp_path) as site:
        with_key = (
            Secrets(lambda _: None, tmp_path / "ssh/user", site.known_hosts) if name == "OpenSSH" else secrets(site)
        )
        files = open_files(open_source(site.address, secrets=with_key), with_key, TAKEN)
        assert files is not None
        handled(files, home, not os.geteuid() and name not in SERVERS, LINK_ENDS.get(name))


LINK_ENDS = {"ProFTPD by SFTP": Refusal.CHANGED, "vsftpd": Refusal.REFUSED}
"""How a link stays where it is: the one tells it for what it leads to, the other brings none back that leads nowhere."""


@contextmanager
def openssh(home: Path, tmp_path: Path) -> Iterator[Site]:
    with sftp_server(tmp_path) as login:
        yield Site(f"sftp://{getpass.getuser()}@127.0.0.1:{login.port}{home}", known_hosts=login.known_hosts)
