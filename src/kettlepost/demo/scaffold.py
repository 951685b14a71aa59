"""Laying out the made-up reseller as real files."""

from __future__ import annotations

import os
from importlib.resources import files
from pathlib import Path
from typing import Any, NamedTuple

import rtoml

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable

ACCOUNTS = ("millbrook", "harrowgate", "pennywharf", "saltcote")
_CHANGED = 1_790_000_000
"""Every file's last change, in seconds since 1970, so that two demos are alike."""


class Demo(NamedTuple):
    """Where the demo was laid out: the plan folder, each account's home below `hosting`, and files to read in."""

    plan: Path
    hosting: Path
    sources: Path

    def home(self, account: str) -> Path:
        return self.hosting / account


def lay_out(folder: Path) -> Demo:
    """Write the plan and the accounts' folders below `folder`, which is new or empty.

    Raises InputError when something is there, OutsideError when the disk refuses.
    """
    demo = Demo(folder / "plan", folder / "hosting", folder / "sources")
    data = files("kettlepost").joinpath("demo")
    try:
        if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
            raise InputError(f"{printable(folder)} is not empty; name a folder that is new or empty")
        _write(demo.plan, "kettlepost.toml", data.joinpath("plan/kettlepost.toml").read_text("utf-8"))
        for account in ACCOUNTS:
            name = f"accounts/{account}.toml"
            _write(demo.plan, name, data.joinpath(f"plan/{name}").read_text("utf-8"))
            lay_out_tree(demo.home(account), rtoml.loads(data.joinpath(f"trees/{account}.toml").read_text("utf-8")))
        for name in ("harrowgate.outside.json", "pennywharf.databases.json"):
            _write(demo.plan, f"surveys/{name}", data.joinpath(f"trees/{name}").read_text("utf-8"))
        for name, text in rtoml.loads(data.joinpath("trees/sources.toml").read_text("utf-8"))["files"].items():
            _write(demo.sources, name, text.lstrip("\n"))
    except OSError as error:
        raise OutsideError(f"{printable(folder)}: cannot be written ({cause(error)})") from None
    return demo


def take_package(demo: Demo, name: str) -> None:
    """The theatre takes another package, in which there is room."""
    path = demo.plan / "accounts/pennywharf.toml"
    path.write_text(path.read_text("utf-8").replace('package = "tin"', f'package = "{name}"', 1), "utf-8")


def name_database(demo: Demo, name: str) -> None:
    """Give the theatre's rehearsal a database of its own, as a way out says, and say where passwords are kept."""
    path = demo.plan / "accounts/pennywharf.toml"
    before, address, after = path.read_text("utf-8").partition('address = "try.pennywharf.example"')
    own = f'{{ name = "{name}", prefix = "tg4_", user = "{name}" }}'
    path.write_text(before + address + after.replace('{ name = "penny_seats", prefix = "tg4_" }', own, 1), "utf-8")
    settings = demo.plan / "kettlepost.toml"
    text = settings.read_text("utf-8")
    settings.write_text(text.replace("[settings]\n", '[settings]\npasswords_in = "../passwords.kdbx"\n', 1), "utf-8")


def lay_out_tree(home: Path, tree: dict[str, Any]) -> None:
    """Write one account's folders: whole made-up applications, then single files and empty folders."""
    known = rtoml.loads(files("kettlepost").joinpath("demo/trees/applications.toml").read_text("utf-8"))
    for application in tree.get("application", ()):
        for name, text in known[application["id"]].items():
            _write(home / application["folder"], name, text.replace("@VERSION@", application["version"]))
    for name, text in tree.get("files", {}).items():
        _write(home, name, text)
    for name, target in tree.get("links", {}).items():
        (home / name).parent.mkdir(parents=True, exist_ok=True)
        (home / name).symlink_to(target)
    for name in tree.get("folders", ()):
        (home / name).mkdir(parents=True, exist_ok=True)


def _write(folder: Path, name: str, text: str) -> None:
    path = folder / name
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text, "utf-8")
    os.utime(path, (_CHANGED, _CHANGED))
