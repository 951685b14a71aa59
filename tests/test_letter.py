"""The advice of the demo, followed to the letter on a copy of its folders, and what is left then."""

from __future__ import annotations

import http.client
import random
from pathlib import Path

import pytest

import webservers
from conftest import TODAY, Work, lacking
from kettlepost.core.checking import check
from kettlepost.core.plan import changed_text
from kettlepost.core.rules import Finding, WayOut
from kettlepost.core.steps import BesideFiles, needs_of, survey_after
from kettlepost.core.trying.ways import moved_along
from kettlepost.demo.scaffold import ACCOUNTS, lay_out
from robot import Robot

ROUNDS = 90
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


def followed(work: Work, robot: Robot, found: Finding, way: WayOut) -> None:
    robot.carry_out(way.steps)
    for name in {change.account for change in way.changes}:
        path = work.plan / "accounts" / f"{name}.toml"
        path.write_text(changed_text(path.read_text(), [change for change in way.changes if change.account == name]))
    if found.rule == "second-door":  # its way out is a line in a control file, which only a person writes
        (work.homes / found.account / found.at / ".htaccess").write_text(
            "AuthType Basic\nAuthName Members\nRequire valid-user\n"
        )
    for name in ACCOUNTS:
        work.survey(name)


def pages(robot: Robot, folder: Path) -> dict[str, str]:
    """What a real server answers at each address, with the names leading where the host has them on record."""
    with webservers.apache(folder, robot.sites()) as port:
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


def robot_for(work: Work, folder: Path) -> Robot:
    return Robot(work.homes, folder / "aside", work.layout().accounts.values())


def follow_all(folder: Path) -> tuple[Work, Robot]:
    """Follow the first way out of whatever is found in the demo, one after the other, until none is left to follow."""
    work = demo_in(folder)
    robot = robot_for(work, folder)
    known = {found.place for found in check(work.layout(), TODAY).findings}
    done: set[tuple[str, ...]] = set()
    for _ in range(ROUNDS):
        findings = check(work.layout(), TODAY).findings
        assert not [found for found in findings if found.stops and found.place not in known | OUTSIDE_AT]
        todo = next((found for found in findings if (*found.place, found.title) not in done and is_to_do(found)), None)
        if todo is None:
            return work, robot
        done.add((*todo.place, todo.title))
        layouts = work.layout().accounts
        along = moved_along({place[1:] for place in known}, todo.ways_out[:1], layouts)
        known |= {(todo.account, *place) for place in list(along)}
        followed(work, robot, todo, todo.ways_out[0])
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
    works = any(not isinstance(step, BesideFiles) for step in first.steps)
    return bool(first.changes or works or found.rule == "second-door")


@pytest.mark.proof
def test_the_first_ways_out_of_the_demo_end_with_no_stop(tmp_path: Path) -> None:
    left = [found for found in check(follow_all(tmp_path)[0].layout(), TODAY).findings if found.severity == "stop"]
    assert {found.rule for found in left} <= OUTSIDE, left


def test_every_order_that_the_needs_allow_ends_in_the_same_folders(tmp_path: Path) -> None:
    layouts, pick = demo_in(tmp_path).layout(), random.Random(1)
    ways = [way for found in check(layouts, TODAY).findings for way in found.ways_out if len(way.steps) > 1]
    assert len(ways) > 12
    for way in ways:
        survey = layouts.accounts[way.steps[0].account].survey
        needs, done = needs_of(way.steps), list[int]()
        while len(done) < len(way.steps):
            left = [n for n in range(len(way.steps)) if n not in done and set(needs[n]) <= {*done}]
            done.append(pick.choice(left))
        assert survey is not None
        assert survey_after(survey, [way.steps[n] for n in done]) == survey_after(survey, way.steps), way


@pytest.mark.proof
def test_every_page_that_people_read_still_answers_what_it_did(open_folder: Path) -> None:
    if not webservers.installed():
        lacking("apache2")
    before = pages(robot_for(demo_in(open_folder / "before"), open_folder), server_in(open_folder, "one"))
    after = pages(follow_all(open_folder / "after")[1], server_in(open_folder, "two"))
    assert sum(page.startswith("200") for page in before.values()) >= len(READ) - 3, before
    assert after == before


def server_in(folder: Path, name: str) -> Path:
    place = folder / name
    place.mkdir()
    return place
