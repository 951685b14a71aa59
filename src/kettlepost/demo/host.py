"""A simulated host: the names that it has on record, and what is done step by step in the folders of its accounts."""

from __future__ import annotations

import random
import shutil
from collections.abc import Iterable
from pathlib import Path
from typing import assert_never

from kettlepost.core import steps as kinds
from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Folder
from kettlepost.core.steps import BesideFiles, Step, content_after, needs_of, written_place


class SimulatedHost:
    """Everybody who has a part in it: whoever reaches the files of the accounts in `homes`, and the host.

    `roots` is what the host has on record, the folder of each name by account; `aside` is where copies are kept.
    """

    def __init__(self, homes: Path, aside: Path, layouts: Iterable[AccountLayout]):
        self.homes, self.aside = homes, aside
        self.roots = {layout.name: host_records(layout) for layout in layouts}
        aside.mkdir(exist_ok=True)

    def carry_out(self, steps: Iterable[Step]) -> None:
        """Do them in one of the orders that their needs allow, the same each time."""
        steps, pick = list(steps), random.Random(1)  # noqa: S311 (an order)
        needs, done = needs_of(steps), set[int]()
        while len(done) < len(steps):
            ready = [n for n in range(len(steps)) if n not in done and done.issuperset(needs[n])]
            done.add(number := pick.choice(ready))
            self.carry_out_one(steps[number])

    def carry_out_one(self, step: Step) -> None:  # noqa: C901 (a closed set)
        """Do what a step says in the folders and on record; nothing for what neither of them shows.

        Raises ValueError for a name that is there already, and for a root that is not.
        """
        home, hosts = self.homes / step.account, self.roots[step.account]
        match step:
            case kinds.AddHost() if step.root is not None:
                if step.host in hosts:
                    raise ValueError(f"{step.host} is there already")
                hosts[step.host] = step.root
                (home / step.root).mkdir(parents=True, exist_ok=True)
            case kinds.ChangeRoot():
                if not (home / step.root).is_dir():
                    raise ValueError(f"there is no {step.root}")
                for host, root in hosts.items():
                    if root == step.old and (host == step.host or host.endswith(f".{step.host}")):
                        hosts[host] = step.root
            case kinds.RemoveHost():
                hosts.pop(step.host, None)
            case kinds.KeepFolder() | kinds.KeepFile():
                place = home / step.folder / (step.file if isinstance(step, kinds.KeepFile) else "")
                to = self.aside / str(len(list(self.aside.iterdir())))
                shutil.copytree(place, to, symlinks=True) if place.is_dir() else shutil.copy(place, to)
            case _ if isinstance(step, BesideFiles):
                return  # nothing that a folder or a name shows
            case kinds.MakeFolder():
                (home / step.folder).mkdir(parents=True, exist_ok=True)
            case kinds.CopyFolder():
                copy(home / step.folder, home / step.to, {(home / place).absolute() for place in step.stays})
            case kinds.MoveFolder():
                (home / step.to).parent.mkdir(parents=True, exist_ok=True)
                shutil.move(home / step.folder, home / step.to)
            case kinds.MoveFile():
                (home / step.to).mkdir(parents=True, exist_ok=True)
                shutil.move(home / step.folder / step.file, home / step.to / step.file)
            case kinds.DeleteFolder() | kinds.SetAsideFolder():
                remove(home / step.folder, {(home / place).absolute() for place in step.stays})
            case kinds.DeleteFile():
                (home / step.folder / step.file).unlink()
            case kinds.WriteFrontFile() | kinds.AddLines() | kinds.CarryLines() | kinds.EditLine():
                file = home / written_place(step)
                carried = (home / step.folder / step.file).read_bytes() if isinstance(step, kinds.CarryLines) else b""
                file.parent.mkdir(parents=True, exist_ok=True)
                file.write_bytes(content_after(step, file.read_bytes() if file.exists() else None, carried))
            case kinds.PutPage():
                (home / step.folder).mkdir(parents=True, exist_ok=True)
                (home / step.folder / step.file).write_text("<!doctype html><title>Welcome</title><p>Welcome.\n")
            case kinds.Configure():
                return  # what an application writes into its own configuration, no test application has
            case _:
                assert_never(step)


def host_records(layout: AccountLayout) -> dict[str, Folder]:
    """The folder to which each name leads today."""
    hosts = layout.tree("now").hosts
    return {host: mounts[-1].folder for host, mounts in hosts.items() if mounts[-1].folder is not None}


def copy(place: Path, to: Path, stays: set[Path]) -> None:
    """Copy what lies in a folder, but for what stays."""

    def kept(folder: str, names: list[str]) -> list[str]:
        return [name for name in names if (Path(folder) / name).absolute() in stays]

    shutil.copytree(place, to, symlinks=True, ignore=kept, dirs_exist_ok=True)


def remove(place: Path, stays: set[Path]) -> None:
    """Remove a folder or a file, but for what stays."""
    if place.absolute() in stays and not (place.is_dir() and any(place in other.parents for other in stays)):
        if place.is_dir():
            for inner in place.iterdir():
                remove(inner, stays - {place.absolute()})
        return
    if place.is_dir() and not place.is_symlink():
        for inner in place.iterdir():
            if inner.absolute() not in stays:
                remove(inner, stays)
        if not any(place.iterdir()) and place.absolute() not in stays:
            place.rmdir()
    else:
        place.unlink()
