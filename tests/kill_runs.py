"""Real runs of the program, killed at any moment: `python tests/kill_runs.py NUMBER [SEED]`, and what was lost.

Place, adopt, domain add, retire, survey, undo: whenever one is killed, every file is the one before or the one that the
run writes, and what comes next works.
"""

from __future__ import annotations

import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

PROGRAM = Path(sys.executable).with_name("kettlepost")
HEAD = '# kept by hand, and so it stays\n[account]\nname = "millbrook"\ndatabase_prefix = "mill_"\n'
DOMAIN = '[[domain]]\nname = "a.example"  # the first\nkind = "primary"\nroot = "www"\n'
LIVE = '[[installation]]\napplication = "wordpress"\naddress = "a.example/site0"\nstate = "live"\n'
COMMANDS = {
    "place": ["place", "wordpress", "a.example/new", "--yes"],
    "adopt": ["adopt", "millbrook", "--yes"],
    "domain add": ["domain", "add", "b.example", "--account", "millbrook", "--yes"],
    "retire": ["retire", "a.example/site0", "--yes"],
    "survey": ["survey", "millbrook", "--from", "HOME"],
    "undo": ["undo", "--yes"],
}


class Kept:
    """A plan folder with a home beside it, and how it was at the beginning."""

    def __init__(self, folder: Path):
        self.plan, self.home, self.first = folder / "plan", folder / "home", folder / "first"
        (self.plan / "accounts").mkdir(parents=True)
        (self.plan / "kettlepost.toml").write_text("[settings]\n")
        (self.plan / "accounts/millbrook.toml").write_text(HEAD + DOMAIN + LIVE)
        for n in range(40):
            (self.home / f"www/site{n}/wp-includes").mkdir(parents=True)
            (self.home / f"www/site{n}/wp-includes/version.php").write_text("<?php $wp_version = '6.1';")
            for name in ("wp-login.php", "wp-settings.php", "wp-load.php", "index.php"):
                (self.home / f"www/site{n}" / name).write_text("<?php")
        done = self.run(*COMMANDS["survey"])
        assert done.returncode == 0, done.stderr
        shutil.copytree(self.plan, self.first, symlinks=True)

    def words(self, *words: str) -> list[str]:
        return [str(PROGRAM), *(word.replace("HOME", str(self.home)) for word in words), "--plan", str(self.plan)]

    def run(self, *words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(self.words(*words), capture_output=True, text=True, check=False, timeout=120)

    def back(self) -> None:
        shutil.rmtree(self.plan)
        shutil.copytree(self.first, self.plan, symlinks=True)

    def files(self) -> dict[str, bytes]:
        """The files that people and other commands read, but for those that are written half and nobody's yet."""
        folders = (self.plan / "accounts", self.plan / "surveys")
        found = [path for folder in folders for path in folder.iterdir() if not path.name.startswith(".")]
        return {str(path.relative_to(self.plan)): told(path) for path in found}


def told(path: Path) -> bytes:
    """What a file holds, without the moment at which it was made."""
    lines = path.read_bytes().split(b"\n")
    return b"\n".join(line for line in lines if b'"taken"' not in line and b'"names"' not in line[:12])


def killed(
    kept: Kept, name: str, pick: random.Random, whole: float, old: dict[str, bytes], new: dict[str, bytes]
) -> str:
    """What is wrong after one kill; empty where nothing is."""
    with subprocess.Popen(kept.words(*COMMANDS[name]), stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
        time.sleep(pick.uniform(0.6, 1.25) * whole)
        process.send_signal(signal.SIGKILL)
    there = kept.files()
    for file in {*old, *new} - {"surveys/millbrook.before.json"}:
        if there.get(file) not in (old.get(file), new.get(file)):
            return f"{file} is neither the old nor the new one"
    for words in (("where", "a.example"), *([("survey", "millbrook", "--show")] if name == "survey" else ())):
        done = kept.run(*words)
        if done.returncode or "Traceback" in done.stderr:
            return f"{' '.join(words)} ends with {done.returncode}: {done.stderr[-300:]}"
    if pick.random() < 0.3 and name not in ("survey", "undo") and there != old:
        done = kept.run("undo", "--yes")
        if done.returncode or kept.files()["accounts/millbrook.toml"] != old["accounts/millbrook.toml"]:
            return f"undo ends with {done.returncode}: {done.stderr[-300:]}"
    return ""


def main() -> None:
    number, seed = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1
    pick, wrong, amid = random.Random(seed), Counter[str](), Counter[str]()
    with tempfile.TemporaryDirectory() as folder:
        kept = Kept(Path(folder))
        states = {}
        for name, words in COMMANDS.items():
            kept.back()
            if name == "undo":
                kept.run(*COMMANDS["retire"])
            old = kept.files()
            begin = time.monotonic()
            done = kept.run(*words)
            assert done.returncode in (0, 1), (name, done.stderr, done.stdout)
            states[name] = time.monotonic() - begin, old, kept.files()
        for n in range(number):
            name = list(COMMANDS)[n % len(COMMANDS)]
            kept.back()
            if name == "undo":
                kept.run(*COMMANDS["retire"])
            what = killed(kept, name, pick, *states[name])
            amid[name] += kept.files() != states[name][1]
            if what:
                wrong[f"{name}: {what}"] += 1
                print(f"{name}: {what}", flush=True)
    print(f"{number:,} kills: {sum(wrong.values())} wrong; so often something was written: {dict(amid)}")
    sys.exit(bool(wrong))


if __name__ == "__main__":
    main()
