"""The advice of the demo, followed to the letter on a copy of its folders, and what is left then."""

from __future__ import annotations

import http.client
import shutil
from pathlib import Path

import pytest

import webservers
from conftest import TODAY, Work, lacking
from kettlepost.core.plan import changed_text
from kettlepost.core.rules import Finding, WayOut, check
from kettlepost.core.steps import Step, StepKind, SubjectKind
from kettlepost.demo.scaffold import ACCOUNTS, lay_out

ROUNDS = 60
OUTSIDE = {"over-allowance", "root-refused"}
"""Rules whose first way out is a decision about the package, which no folder tells."""
OUTSIDE_AT = {("millbrook", "over-allowance", "databases")}
"""A shop that nobody had written down is a database more than the package allows: that was so before."""
READ = [
    "millbrookrail.example/", "millbrookrail.example/old-shop", "lanternchoir.example/", "timetable.millbrookrail.example/running-days.html",
    "harrowgatecycles.example/", "pedaljournal.example/", "pennywharf.example/", "pennywharf.example/seats",
    "saltcotelight.example/", "bookings.harrowgatecycles.example/", "harrowgatecycles.example/index.html",
]  # fmt: skip
"""What people read today: none of it may be lost."""


def carried_out(home: Path, aside: Path, step: Step) -> None:
    """Do in real folders what a step says; what is done at the host or in a database is no concern of folders."""
    if step.where is None or step.subject.kind not in (SubjectKind.FOLDER, SubjectKind.FILE):
        return
    place = home / step.where / (step.file or "")
    stays = {(home / other).absolute() for other in step.stays}

    def kept(folder: str, names: list[str]) -> list[str]:
        return [name for name in names if (Path(folder) / name).absolute() in stays]

    if step.kind is StepKind.COPY:
        to = aside / f"{len(list(aside.iterdir()))}"
        shutil.copytree(place, to, symlinks=True) if place.is_dir() else shutil.copy(place, to)
    elif step.kind is StepKind.CREATE:
        place.mkdir(parents=True, exist_ok=True)
    elif step.kind is StepKind.TRANSFER:
        to = home / (step.to or "")
        if place.is_dir():
            shutil.copytree(place, to, symlinks=True, ignore=kept, dirs_exist_ok=True)
        else:
            to.mkdir(parents=True, exist_ok=True)
            shutil.copy(place, to)
    elif step.kind is StepKind.REMOVE:
        if place.is_dir():
            removed(place, stays)
        else:
            place.unlink()


def removed(place: Path, stays: set[Path]) -> None:
    """Remove a folder or a file, but for what stays."""
    if place.absolute() in stays and not (place.is_dir() and any(place in other.parents for other in stays)):
        if place.is_dir():
            for inner in place.iterdir():
                removed(inner, stays - {place.absolute()})
        return
    if place.is_dir() and not place.is_symlink():
        for inner in place.iterdir():
            if inner.absolute() in stays and inner.absolute() != place.absolute():
                continue
            removed(inner, stays)
        if not any(place.iterdir()) and place.absolute() not in stays:
            place.rmdir()
    else:
        place.unlink()


def followed(work: Work, aside: Path, found: Finding, way: WayOut) -> None:
    for step in way.steps:
        carried_out(work.homes / step.account, aside, step)
    for name in {change.account for change in way.changes}:
        path = work.plan / "accounts" / f"{name}.toml"
        path.write_text(changed_text(path.read_text(), [change for change in way.changes if change.account == name]))
    if found.rule == "second-door":  # its way out is a line in a control file, which only a person writes
        (work.homes / found.account / found.at / ".htaccess").write_text(
            "AuthType Basic\nAuthName Members\nRequire valid-user\n"
        )
    for name in ACCOUNTS:
        work.survey(name)


def pages(work: Work, folder: Path, when: str) -> dict[str, str]:
    """What a real server answers at each address, with the domains leading where they do at a time."""
    sites = []
    for number, (name, layout) in enumerate(work.layout().accounts.items()):
        hosts = layout.tree("now" if when == "now" else "planned").hosts
        roots = {host: mounts[-1].folder or "" for host, mounts in hosts.items() if mounts[-1].folder is not None}
        sites.append((webservers.Site(number, roots=dict(roots)), work.homes / name))
    with webservers.apache(folder, sites) as port:
        return {address: body(port, address) for address in READ}


def body(port: int, address: str) -> str:
    host, _, path = address.partition("/")
    asking = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    asking.request("GET", f"/{path}", headers={"Host": host})
    answer = asking.getresponse()
    goes = answer.getheader("Location") or ""
    if answer.status == 301 and goes.endswith(f"/{path}/"):  # a folder's address without its slash
        return body(port, address + "/")
    return f"{answer.status} {goes.replace(f':{port}', '')} {answer.read().decode('utf-8', 'replace')}"


def follow_all(folder: Path) -> Work:
    """Follow the first way out of whatever is found in the demo, one after the other, until none is left to follow."""
    work = demo_in(folder)
    aside = folder / "aside"
    aside.mkdir()
    known = {found.place for found in check(work.layout(), TODAY).findings}
    done: set[tuple[str, ...]] = set()
    for _ in range(ROUNDS):
        findings = check(work.layout(), TODAY).findings
        assert not [found for found in findings if found.stops and found.place not in known | OUTSIDE_AT]
        todo = next((found for found in findings if (*found.place, found.title) not in done and is_to_do(found)), None)
        if todo is None:
            return work
        done.add((*todo.place, todo.title))
        followed(work, aside, todo, todo.ways_out[0])
    raise AssertionError(f"following goes on after {ROUNDS} rounds")


def demo_in(folder: Path) -> Work:
    demo = lay_out(folder / "demo")
    work = Work(folder)
    work.plan, work.homes = demo.plan, demo.hosting
    for name in ACCOUNTS:
        work.survey(name)
    return work


def is_to_do(found: Finding) -> bool:
    first = found.ways_out[0]
    return bool(first.changes or first.steps or found.rule == "second-door")


def test_the_first_ways_out_of_the_demo_end_with_no_stop(tmp_path: Path) -> None:
    left = [found for found in check(follow_all(tmp_path).layout(), TODAY).findings if found.severity == "stop"]
    assert {found.rule for found in left} <= OUTSIDE, left


@pytest.mark.proof
def test_every_page_that_people_read_still_answers_what_it_did(open_folder: Path) -> None:
    if not webservers.installed():
        lacking("apache2")
    before = pages(demo_in(open_folder / "before"), server_in(open_folder, "one"), "now")
    after = pages(follow_all(open_folder / "after"), server_in(open_folder, "two"), "planned")
    assert sum(page.startswith("200") for page in before.values()) >= len(READ) - 3, before
    assert after == before


def server_in(folder: Path, name: str) -> Path:
    place = folder / name
    place.mkdir()
    return place
