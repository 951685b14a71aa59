"""Ways out as they stand, carried out by a robot on grown accounts: what is found then, and what visitors see."""

from __future__ import annotations

import os
import re
import shutil
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import pytest
import rtoml

import control_files
import webservers
import wishes
from conftest import DEMO_SETTINGS, TODAY, Work, lacking
from control_files import World
from kettlepost.core import steps as kinds
from kettlepost.core.checking import check
from kettlepost.core.names import Folder
from kettlepost.core.plan import Change, changed_text
from kettlepost.core.rules import Finding, WayOut
from kettlepost.core.steps import BesideFiles
from kettlepost.core.trying.ways import found_in, moved_along
from kettlepost.demo.grown import Grown, grown
from kettlepost.demo.scaffold import lay_out_tree
from kettlepost.render.sentences import text
from robot import Robot, addresses

FIRST, ACCOUNTS = (int(os.environ.get(f"KETTLEPOST_{name}", usual)) for name, usual in (("SEED", 1), ("ACCOUNTS", 10)))
"""The accounts of the proof; $KETTLEPOST_ACCOUNTS takes more, from $KETTLEPOST_SEED on."""
CASES = rtoml.loads((Path(__file__).parent / "cases.toml").read_text("utf-8"))["case"]
SHOWN = 40
"""So many addresses of an account are opened at most."""


@dataclass
class Trial:
    """What came of one way out."""

    finding: Finding
    way: WayOut
    number: int
    work: Work
    robot: Robot
    stays: bool = False
    brings: list[str] = field(default_factory=list)
    lost: list[str] = field(default_factory=list)
    removed: list[str] = field(default_factory=list)


def trials_of(folder: Path, made: Grown) -> list[Trial]:
    """Every way out of every finding of an account, carried out, each on a copy."""
    work = Work(folder / "before")
    work.account(made.tables, made.name, DEMO_SETTINGS)
    lay_out_tree(work.homes / made.name, made.tree)
    work.survey(made.name)
    findings = check(work.layout(), TODAY).findings
    before = Counter(found.place for found in [*findings, *found_in(work.layout().accounts[made.name])])
    trials = []
    for found in findings:
        for number, way in enumerate(found.ways_out):
            if not way.changes and all(isinstance(step, BesideFiles) for step in way.steps):
                continue  # somebody looks, decides or accepts
            trial = Trial(found, way, number, *followed(folder / f"{len(trials)}", work, made.name, way))
            after = check(trial.work.layout(), TODAY).findings
            known = {place[1:] for place in before}
            known |= {
                *moved_along(known, [way], work.layout().accounts),
                *way.brings,
            }  # what it takes along, and what it says
            trial.stays = any(one.place == found.place and one.title == found.title for one in after)
            trial.brings = [
                f"{one.rule} {one.at}"
                for one in after
                if one.severity != "note"
                and one.place[1:] not in known
                and not way.as_it_is
                and one.rule not in way.expects
            ]
            trials.append(trial)
    opened(folder, made.name, Trial(findings[0], findings[0].ways_out[0], 0, work, robot_for(work)), trials)
    return trials


def robot_for(work: Work) -> Robot:
    return Robot(work.homes, work.plan.parent / "aside", work.layout().accounts.values())


def followed(folder: Path, work: Work, name: str, way: WayOut) -> tuple[Work, Robot]:
    """A copy of everything on which a way out was gone."""
    shutil.copytree(work.plan.parent, folder, symlinks=True)
    copy = Work(folder)
    robot = robot_for(copy)
    robot.carry_out(way.steps)
    path = copy.plan / "accounts" / f"{name}.toml"
    accepted = [
        Change(name, "accept", None, {"finding": step.rule, "at": step.at, "because": "as advised"})
        for step in way.steps
        if isinstance(step, kinds.Accept)
    ]
    path.write_text(changed_text(path.read_text(), [*way.changes, *accepted]))
    copy.survey(name)
    return copy, robot


def opened(folder: Path, name: str, before: Trial, trials: list[Trial]) -> None:
    """Open every address before and after, and keep which of them show something else, though no step says so."""
    worlds = []
    for number, trial in enumerate([before, *trials]):
        roots = {host: str(root) for host, root in trial.robot.roots[name].items() if "*" not in host}
        worlds.append(World(number, hosts=roots, home=trial.work.homes / name))
    asked = list(addresses(worlds[0]))[:SHOWN]
    with control_files.apache(folder, worlds) as ports:
        ask = control_files.Asker(worlds[0], ports)
        shown = {at: page for at in asked if (page := ask(*at))[0] in (200, 401, 403)}
        for world, trial in zip(worlds[1:], trials, strict=True):
            ask = control_files.Asker(world, ports)
            for (host, path), page in shown.items():
                now, names = ask(host, path), [(host, path)]
                if now[0] == 301 and (sent := re.match("https?://([^/]+)/(.*)", now[2])) is not None:
                    names.append((sent[1], unquote(sent[2])))
                    now = ask(*names[-1])
                is_open = page[0] == 401 or (page[0] == 403 and not path.endswith("/") and path)
                if now != page and (page[0] == 200 or (is_open and now[0] == 200)):
                    asks = now[0] == 401 and any(isinstance(one, kinds.MakePasswordFile) for one in trial.way.steps)
                    kept = trial.removed if asks or is_told(trial, names, worlds[0].hosts[host]) else trial.lost
                    kept.append(f"{host}/{path}: {now[0]} {now[2]}")


def is_told(trial: Trial, names: list[tuple[str, str]], root: str) -> bool:
    """Whether a way says that what lies at an address goes, answers otherwise, or is reached by other names alone then."""
    told = {f"{host.removeprefix('www.')}/{path}".rstrip("/") for host, path in names}
    if told & {one.rstrip("/") for one in trial.way.alters}:
        return True
    if "open to everybody" in text(trial.way.words):  # what asked for a password
        return True
    place = Folder(root).below(names[0][1])
    named: list[Folder] = []
    for step in trial.way.steps:
        if isinstance(step, kinds.KeepFolder):
            named.append(step.folder)
        elif isinstance(step, kinds.KeepFile):
            named.append(step.folder.below(step.file))
            if place == step.folder and names[0][1][-1:] in ("", "/"):  # the page that is shown of it
                return True
        elif isinstance(step, kinds.CopyFolder):
            named += step.stays
        elif isinstance(step, kinds.ChangeRoot) and "it shows nothing until" in text(trial.way.words):
            named.append(step.old)
        elif isinstance(step, kinds.ChangeRoot) and "it shows no more" in text(trial.way.words):
            copied = [one.folder for one in trial.way.steps if isinstance(one, kinds.CopyFolder)]
            named += [step.old] if not any(place == one or place.is_inside(one) for one in copied) else []
    return any(place == folder or place.is_inside(folder) for folder in named)


def test_ways_out_of_a_grown_account_are_followed_to_the_letter(open_folder: Path) -> None:
    hold(open_folder, grown(7))


@pytest.mark.proof
@pytest.mark.parametrize("seed", range(FIRST, FIRST + ACCOUNTS))
def test_ways_out_of_many_are_followed_to_the_letter(open_folder: Path, seed: int) -> None:
    hold(open_folder, grown(seed))


@pytest.mark.parametrize("seed", [5])
def test_a_wish_is_carried_out_and_taken_back(open_folder: Path, seed: int) -> None:
    grant(open_folder, seed)


@pytest.mark.proof
@pytest.mark.parametrize("seed", range(FIRST, FIRST + ACCOUNTS))
def test_wishes_of_many_are_carried_out_and_taken_back(open_folder: Path, seed: int) -> None:
    grant(open_folder, seed)


def grant(folder: Path, seed: int) -> None:
    """By what the work list says, in an order that it allows, a wish comes true, brings nothing unsaid, and goes again."""
    if not webservers.installed() or control_files.php_module() is None:
        lacking("apache2 or its PHP")
    kind, by = wishes.KINDS[seed % 7], ("hand", "host")[seed // 7 % 2]
    troubles = wishes.troubles_of(folder, seed, kind, by)
    assert not troubles, (kind, by)
    assert troubles is not None or seed not in range(1, 11) or seed == 2, "no place for it, where there was one"


@pytest.mark.proof
@pytest.mark.parametrize("case", CASES, ids=lambda case: str(case["name"]))
def test_where_advice_was_wrong_once_it_is_right(open_folder: Path, case: dict[str, Any]) -> None:
    found = hold(open_folder, made_of(case))
    assert case["rule"] in {one.finding.rule for one in found}


def made_of(case: dict[str, Any]) -> Grown:
    made = Grown("case", case["plan"].lstrip())
    made.tree["files"] |= case.get("files", {})
    made.tree["application"] += [
        {"id": name, "folder": folder, "version": "5.2.1"} for folder, name in case.get("applications", {}).items()
    ]
    return made


def hold(folder: Path, made: Grown) -> list[Trial]:
    """Each way ends its finding, brings no stop and no risk but what it says, and no page is lost of which it is silent."""
    if not webservers.installed() or control_files.php_module() is None:
        lacking("apache2 or its PHP")
    found = trials_of(folder, made)
    told = [
        f"{one.finding.rule}, way {one.number} of {text(one.finding.title)}: {text(one.way.words)}\n"
        f"  stays {one.stays}, brings {one.brings}, lost {one.lost[:4]}"
        for one in found
        if one.stays or one.brings or one.lost
    ]
    assert not told, "\n".join(told)
    return found
