"""A robot that carries out steps as they stand, on the simulated host, and what a real server shows of it then."""

from __future__ import annotations

from pathlib import Path

import webservers
from control_files import World
from kettlepost.demo.host import SimulatedHost


class Robot(SimulatedHost):
    """Everybody who has a part in it, with a real web server on the host."""

    def sites(self) -> list[tuple[webservers.Site, Path]]:
        """Every account as its host would tell a web server."""
        return [
            (webservers.Site(number, roots=dict(roots)), self.homes / name)
            for number, (name, roots) in enumerate(self.roots.items())
        ]


def addresses(world: World) -> list[tuple[str, str]]:
    """What people may open: the roots of all names first, then pages and folders below them."""
    found = [(host, "") for host in world.hosts]
    for host, root in world.hosts.items():
        base = world.home / root
        for place in sorted(base.rglob("*")) if base.is_dir() else ():
            path = place.relative_to(base).as_posix()
            if place.suffix == ".html" or (place.is_dir() and (place / "index.php").exists()):
                found.append((host, path + ("/" if place.is_dir() else "")))
    return list(dict.fromkeys(found))
