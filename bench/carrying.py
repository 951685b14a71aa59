"""How long it takes to copy a folder as a step does, whole and with a way back, against `cp -a` of the same."""

from __future__ import annotations

import os
import statistics
import subprocess
import tempfile
import time
from pathlib import Path

from kettlepost.core.carrying import CarriedHead, CarriedItem, CarriedRecord, FileChange, copied_items, encode_record
from kettlepost.core.names import Folder
from kettlepost.core.steps import CopyFolder
from kettlepost.sources.local_files import LocalFiles
from kettlepost.workspace.carrying.run import carry_out
from kettlepost.workspace.set_aside.store import SetAsideStore, walk

SMALL, LARGE = 10_000, 1 << 30
_RUNS = 6


def carrying() -> str:
    """Copying 10,000 files of 2 kB, and one of 1 GiB; runs in turns, as disks differ from run to run."""
    small, large = (_ratio(kind) for kind in ("small", "large"))
    return f"{small:.2f}  (10,000 small files, aim: at most 2; 1 GiB {large:.2f}, aim: at most 1.1)"


def _ratio(kind: str) -> float:
    """Each of the two goes first as often as the other: a disk takes what comes first faster."""
    took: dict[bool, list[float]] = {True: [], False: []}
    for run in range(_RUNS):
        with tempfile.TemporaryDirectory() as folder:
            home = Path(folder)
            _lay_out(home / "www/new", kind)
            for is_own in (run % 2 == 0, run % 2 == 1):
                os.sync()
                begin = time.perf_counter()
                if is_own:
                    _carried(home)
                else:
                    subprocess.run(["cp", "-a", home / "www/new", home / "copy"], check=True)
                took[is_own].append(time.perf_counter() - begin)
    return statistics.fmean(took[True]) / statistics.fmean(took[False])


def _lay_out(place: Path, kind: str) -> None:
    place.mkdir(parents=True)
    if kind == "large":
        with (place / "large.bin").open("wb") as file:
            for _ in range(LARGE >> 20):
                file.write(os.urandom(1 << 20))
        return
    for n in range(SMALL):
        (place / f"d{n % 100}").mkdir(exist_ok=True)
        (place / f"d{n % 100}/{n}.txt").write_bytes(os.urandom(2_000))


def _carried(home: Path) -> None:
    access = LocalFiles(home)
    step = CopyFolder("mill", Folder("www/new"), Folder("b"))

    def items() -> list[CarriedItem]:
        own = CarriedItem(FileChange.COPY, "b", "folder", "www/new", mode=0o755)
        return [own, *copied_items(walk(access, step.folder), step.folder, step.to, (), ())]

    head = CarriedHead(1, "20261202-000000", "mill", "files-aaaaaaaa", step, "", "")
    record = CarriedRecord(head, items())
    carry_out(SetAsideStore(access), record, items, lambda told: b"".join(encode_record(told)) and None)
    access.close()
