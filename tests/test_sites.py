"""Whole accounts with the control files people have, held against a real Apache as it is set up in several ways."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import unquote

import msgspec
import pytest

import control_files
import kettlepost
import webservers
from conftest import Work, lacking
from control_files import SERVER, World
from kettlepost.core.answering import Answers, Request, answer, answer_words, reasons
from kettlepost.core.plan import as_value
from kettlepost.core.secrets import MASK
from kettlepost.core.webserver import Visitor, WebServer
from whole_sites import whole_sites

MOST = int(os.environ.get("KETTLEPOST_ASKED", "32"))
"""So many addresses of each account are asked; $KETTLEPOST_ASKED asks for more."""
TOLD = WebServer("apache", php="module", lists=False, behind_proxy=False, tls="all", index_files=SERVER.index_files)
SET_UP = {
    "told": TOLD,
    "untold": msgspec.structs.replace(TOLD, php=None, lists=None, behind_proxy=None, tls=None),
    "fastcgi": msgspec.structs.replace(TOLD, php="fastcgi", lists=True, modules=("proxy", "proxy_fcgi")),
    "no-php": msgspec.structs.replace(TOLD, php="none", follow_links="owner"),
    "files-alone": msgspec.structs.replace(TOLD, allow_override=("FileInfo",)),
    "no-files": msgspec.structs.replace(TOLD, allow_override=("AuthConfig", "Indexes", "Limit", "Options")),
    "no-control": msgspec.structs.replace(TOLD, allow_override=("None",), lists=True),
    "no-links": msgspec.structs.replace(TOLD, follow_links="never"),
}
"""Web servers as their records say they are, and one of which nothing is told."""


@dataclass
class Held:
    """What was told of many addresses, held against a server."""

    wrong: list[str] = field(default_factory=list)
    asked: int = 0
    depend: int = 0


def test_a_few_whole_sites_get_what_is_told(open_folder: Path) -> None:
    held = _held(list(whole_sites())[3::25], TOLD, open_folder, 30)
    assert held.asked > 200
    assert not held.wrong, "\n".join(held.wrong[:12])


@pytest.mark.proof
@pytest.mark.parametrize("set_up", SET_UP)
def test_whole_sites_get_what_is_told(open_folder: Path, set_up: str) -> None:
    every = 1 if set_up == "told" or "KETTLEPOST_ASKED" in os.environ else 6
    if SET_UP[set_up].php == "fastcgi" and control_files.php_fpm() is None:
        lacking("php-fpm")
    held = _held(list(whole_sites())[::every], SET_UP[set_up], open_folder, MOST)
    assert held.asked > 6_000 / every
    assert held.depend < held.asked * (0.15 if set_up == "untold" else 0.04)
    assert not held.wrong, f"{len(held.wrong)} of {held.asked}:\n" + "\n".join(held.wrong[:12])


def _held(worlds: list[World], server: WebServer, folder: Path, most: int) -> Held:
    if not webservers.installed() or control_files.php_module() is None:
        lacking("apache2 or its PHP")
    held = Held()
    for world in worlds:
        control_files.lay_out(world, folder / f"home{world.number}")
    real = server if server.php is not None else TOLD  # of which then nothing is told
    with control_files.apache(folder, worlds, real) as ports:
        for world in worlds:
            _hold(
                world,
                server,
                {scheme: control_files.Asker(world, ports, scheme) for scheme in ("http", "https")},
                most,
                held,
                folder,
            )
    return held


def _hold(
    world: World, server: WebServer, askers: dict[str, control_files.Asker], most: int, held: Held, folder: Path
) -> None:
    work = Work(folder / f"plan{world.number}")
    domains = "".join(f'[[domain]]\nname = "{host}"\nkind = "{"addon" if n else "primary"}"\nroot = "{root}"\n'
                      for n, (host, root) in enumerate(world.hosts.items()))  # fmt: skip
    keys = msgspec.to_builtins(server)
    told = "".join(f"{key} = {as_value(value)}\n" for key, value in keys.items() if value is not None and key != "kind")
    name = f"home{world.number}"
    head = f'[account]\nname = "{name}"\nhome = "{world.home}"\n'
    work.account(head + domains, name, settings=f"[web_server.apache]\n{told}")
    kettlepost.survey(kettlepost.open_plan(work.plan), name, str(world.home))
    layout = kettlepost.open_plan(work.plan).layout
    answers = Answers(layout, "now")
    step, is_told = max(1, len(world.asked) // most), server.tls is not None
    for number, (host, path) in enumerate(world.asked[::step]):
        if "%2f" in path or "%5c" in path:  # of which nothing is told, as is said when it is asked for
            continue
        scheme = "https" if number % 3 == 2 and is_told else "http"
        request = Request.parse(f"{scheme}://{host}/{path}", visitor=Visitor("127.0.0.1"))
        found = answer(layout, request.address, request=request)
        brief = answers.brief(request)
        assert (brief.answers, brief.status, brief.words) == (found.kind, found.status, answer_words(found)), (
            world.name,
            path,
        )
        held.asked += 1
        held.depend += found.certainty != "certain"
        if found.certainty != "certain":
            continue
        status, body, goes = _browsed(askers, scheme, host, path)
        file = world.home / str(found.file) if found.file is not None else None
        why = ""
        if found.status != status:
            why = f"status {status}"
        elif found.location is not None and MASK not in found.location and unquote(found.location) != unquote(goes):
            why = f"sends to {goes}"
        elif (
            file is not None
            and status == 200
            and body not in (str(found.file), file.read_bytes().decode("utf-8", "replace"))
        ):
            why = f"shows {body[:60]!r}"
        if why:
            held.wrong.append(
                f"{world.name} {scheme}://{host}/{path}: {why}, told {answer_words(found)} ({found.status}): {reasons(found)[-3:]}"
            )


def _browsed(askers: dict[str, control_files.Asker], scheme: str, host: str, path: str) -> tuple[int, str, str]:
    """What a browser gets in the end that follows what stays at the same address, as what is told does."""
    passed = {(scheme, f"/{path}")}
    for _ in range(10):
        status, body, goes = askers[scheme](host, path)
        there = re.match(r"(https?)://([^/?#]*)([^?#]*)(.*)", goes)
        bare, mark, query = path.partition("?")
        same = there is not None and (there[2].lower(), there[4]) == (host, mark + query)
        if (
            not 300 <= status < 400
            or there is None
            or not same
            or unquote(there[3]).rstrip("/") != unquote(f"/{bare}").rstrip("/")
        ):
            break
        scheme, path = there[1], (there[3] + there[4]).removeprefix("/")
        if (scheme, f"/{path}") in passed:
            break
        passed.add((scheme, f"/{path}"))
    return status, body, goes
