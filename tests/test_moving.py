"""Old addresses that stay good: the lines that keep them, on a real server, and what is found of promises."""

from __future__ import annotations

import http.client
import os
import random
from pathlib import Path
from urllib.parse import quote, unquote

import pytest

import webservers
from conftest import Work, lacking
from kettlepost.core.moving import KeptHow, address_kept, redirect_lines
from kettlepost.core.moving.promises import old_paths
from kettlepost.core.names import Address
from kettlepost.core.plan import Moved

FIRST, NUMBER = int(os.environ.get("KETTLEPOST_SEED", "300")), int(os.environ.get("KETTLEPOST_MOVES", "80"))
"""The random moves of the proof; `make trials` takes more, and others."""


def random_promise(pick: random.Random, site: webservers.Site) -> str:
    """One old address of a site, that something is at or nothing, and a new one."""
    named = [host for host in site.roots if any(f'name = "{host}"' in one for one in site.tables) and "*" not in host]
    folders = [path.rpartition("/")[0] for path in site.tree]
    host = pick.choice(named)
    inside = [one.removeprefix(site.roots[host]).strip("/") for one in folders if one.startswith(site.roots[host])]
    old = pick.choice([*inside, "old", "old/deep", "new (2)", "page.txt", "a/start.html", "gone.html", "ü.x"])
    new = pick.choice(["", "", "blog", "a", "b/new", "here & there", *inside])
    to = pick.choice([host, host, "elsewhere.test", *named])
    below = "true" if "." not in old and pick.random() < 0.75 else "false"
    if f"{to}/{new}" == f"{host}/{old}":
        new = "other"
    extra = pick.choice(["", "permanent = true\n"])
    return f'[[moved]]\nfrom = "{host}/{old}"\nto = "{to}/{new}"\nbelow = {below}\n{extra}'


def first_reply(port: int, host: str, path: str) -> tuple[int, str]:
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    connection.request("GET", path, headers={"Host": host})
    reply = connection.getresponse()
    body = reply.read().decode()
    connection.close()
    goes = (reply.getheader("Location") or "").replace(f":{port}", "")
    return reply.status, goes or (body if reply.status == 200 else "")


@pytest.mark.proof
def test_lines_that_send_on_do_so_on_a_real_server_and_nothing_else(open_folder: Path, tmp_path: Path) -> None:
    if not webservers.installed():
        lacking("apache2")
    sites = [webservers.random_site(FIRST + n, n, controls=True) for n in range(NUMBER)]
    homes = [(site, open_folder / f"home{site.number}") for site in sites]
    work = Work(tmp_path)
    work.homes = open_folder
    wrong, kept, promised = [], 0, 0
    for site, home in homes:
        webservers.lay_out(site, home)
        promise = random_promise(random.Random(FIRST + site.number), site)
        work.account("\n".join([*site.tables, promise]), home.name).survey(home.name)
    layouts = work.layout().accounts
    with webservers.apache(open_folder, homes) as port:
        for site, home in homes:
            layout = layouts[home.name]
            moved = layout.account.moved[0]
            before = {one: first_reply(port, one[0], f"/{quote(one[1], safe='/%')}") for one in site.asked}
            state = address_kept(layout, moved)
            real = [first_reply(port, str(moved.old.host), f"{path}?from=old") for path in old_paths(moved)]
            if state.how is not KeptHow.UNKNOWN and (state.how is KeptHow.KEPT) != all(
                leads(moved, path, reply) for path, reply in zip(old_paths(moved), real, strict=True)
            ):
                wrong.append(f"seed {FIRST + site.number}: {moved} is {state}, and really {real}")
            found = redirect_lines(layout, moved) if state.how is not KeptHow.KEPT else None
            promised += state.how is not KeptHow.KEPT
            if found is None:
                continue
            kept += 1
            file = home / found.folder / ".htaccess"
            old = file.read_text() if file.exists() else ""
            added = "".join(f"{line}\n" for line in found.lines)
            file.write_text(added + old if found.is_first else f"{old}{added}")
            for path in old_paths(moved):
                reply = first_reply(port, str(moved.old.host), f"{path}?from=old")
                if not leads(moved, path, reply):
                    wrong.append(f"seed {FIRST + site.number}: {moved}: {path} gets {reply} by {found}")
            for one, gave in before.items():
                if (
                    not is_old(layout.hosts, moved, one)
                    and first_reply(port, one[0], f"/{quote(one[1], safe='/%')}") != gave
                ):
                    wrong.append(f"seed {FIRST + site.number}: {one} got {gave} before {found}")
    assert not wrong, f"{len(wrong)}:\n" + "\n".join(wrong[:12])
    assert kept > promised * 0.6, (kept, promised)


def leads(moved: Moved, path: str, reply: tuple[int, str]) -> bool:
    """Whether a reply leads to where an old path is to lead, at once, and with what was asked for."""
    rest = unquote(path).removeprefix(f"/{moved.old.path}".rstrip("/")) if moved.below else ""
    place, _, query = reply[1].partition("?")
    wanted = Address(moved.to.host, f"{moved.to.path}/{rest}".strip("/").replace("//", "/"))
    return reply[0] in (301, 302) and query == "from=old" and Address.parse(place) == wanted


def is_old(hosts: object, moved: Moved, asked: tuple[str, str]) -> bool:
    """Whether something that is asked for is the old address, by any name of its domain, or may be below it."""
    mounts = [hosts.mount(Address.parse(one)) for one in (f"{asked[0]}/{asked[1]}", str(moved.old))]  # type: ignore[attr-defined]
    path = Address.parse("/".join(asked)).path
    within = path == moved.old.path or (moved.below and (not moved.old.path or path.startswith(f"{moved.old.path}/")))
    is_same = asked[0] == moved.old.host or (None not in mounts and mounts[0].domain is mounts[1].domain)
    return within and is_same
