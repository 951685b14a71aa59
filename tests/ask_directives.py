"""Asks a real Apache which directives a control file may hold, which arguments each takes, and whether it has a say.

`python tests/ask_directives.py` writes core/webserver/directives.toml anew. Nothing of it is known by heart: the server
lists its directives (`apache2 -L`, with every module that Debian has), and each is tried with none to five arguments in
a control file of its own: refused where the server's log names that file.
"""

from __future__ import annotations

import http.client
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from itertools import product
from pathlib import Path
from typing import NamedTuple

import rtoml

from webservers import free_port

TABLE = Path(__file__).parents[1] / "src/kettlepost/core/webserver/directives.toml"
MODULE = TABLE.with_name("server_table.py")
AVAILABLE = Path("/etc/apache2/mods-available")
FIRST = [
    "on",
    "off",
    "1",
    "-1",
    "x",
    "none",
    "/x",
    "http://x.example/y",
    "GET",
    ".txt",
    "text/plain",
    "^x",
    "x=y",
    "all",
    "403",
    "x/y",
]
OTHERS = ["x", "1", "on", "/x", "text/plain"]
MANY = 99
UNRULY = ("lua", "session_dbd", "dbd")
"""Modules whose directives take the server down, or make it wait, when they are tried with anything."""
_ENTRY = re.compile(r"^(<?\w+) \((\w+)\.c\)\n\t[^\n]*\n((?:\t[^\n]*\n)+)", re.MULTILINE)


class Known(NamedTuple):
    """A directive as the server lists it: its name, its module, whether a control file may hold it, by which override."""

    name: str
    module: str
    here: bool
    override: str


Gave = tuple[tuple[int, str], ...]
"""The status, and the body or where it sends, of some requests."""


class Trial(NamedTuple):
    """What came of one line: why the server refused the file, empty where it did not, and what it gave for requests."""

    said: str
    gave: Gave
    arguments: tuple[str, ...] = ()

    @property
    def refused(self) -> bool:
        return bool(self.said)


def configuration(folder: Path, port: int, modules: list[str] | None = None) -> Path:
    """A server with every module that is there, or with some, in which control files may say all that they can."""
    loads = dict.fromkeys(
        line.strip()
        for path in sorted(AVAILABLE.glob("*.load"))
        for line in path.read_text().splitlines()
        if line.strip().startswith("LoadModule") and "mpm_" not in line and (modules is None or path.stem in modules)
    )
    lines = [
        f'ServerRoot "{folder}"', "ServerName localhost", f"Listen 127.0.0.1:{port}", f"PidFile {folder}/pid", f"ErrorLog {folder}/log",
        "LoadModule mpm_prefork_module /usr/lib/apache2/modules/mod_mpm_prefork.so", *loads, f'DocumentRoot "{folder}/www"', "KeepAlive On",
        "User nobody", "Group nogroup", "MaxKeepAliveRequests 0", "LogLevel error", "DirectoryIndex index.html", "TypesConfig /etc/mime.types",
        f'<Directory "{folder}/www">', "AllowOverride All", "Options All", "Require all granted", "</Directory>",
    ]  # fmt: skip
    (folder / "conf").write_text("\n".join(lines) + "\n")
    return folder / "conf"


def listed(conf: Path) -> Iterator[Known]:
    """The directives that a server has."""
    told = subprocess.run(["/usr/sbin/apache2", "-f", conf, "-L"], capture_output=True, text=True, check=True).stdout
    for name, module, rest in _ENTRY.findall(told):
        where = " ".join(rest.split())
        override = re.search(r"when AllowOverride (?:includes|isn't) (.+)$", where)
        yield Known(
            name.lstrip("<"), module.removeprefix("mod_"), ".htaccess" in where, override[1] if override else ""
        )


class Server:
    """A server that is asked one thing after another, and begun again where it broke off."""

    def __init__(self, folder: Path, modules: list[str] | None = None):
        self.folder, self._port = folder, free_port()
        self.conf = configuration(folder, self._port, modules)
        self._process: subprocess.Popen[bytes] | None = None

    def __enter__(self) -> Server:
        self._begin()
        return self

    def __exit__(self, *_: object) -> None:
        self._end()

    def get(self, path: str) -> tuple[int, str, str]:
        """The status, where it sends, and the first of what it gives; 0 where it gives nothing at all."""
        for _ in range(2):  # as a connection that was idle for long is closed
            try:
                self._connection.request("GET", path)
                reply = self._connection.getresponse()
                return reply.status, reply.getheader("Location") or "", reply.read(2000).decode("latin-1")
            except (OSError, http.client.HTTPException):
                self._end()
                self._begin()
        return 0, "", ""

    def tried(self, lines: Iterable[str]) -> Iterator[Trial]:
        """Of each line, in a control file of its own, whether the server refuses it, and what it gives then."""
        for number, line in enumerate(lines):
            place = self.folder / f"www/t{number}"
            place.mkdir(parents=True)
            for name, text in (("page.txt", "page"), ("index.html", "index"), ("x.php", "<?php echo 1+1;")):
                (place / name).write_text(text)
            (place / ".htaccess").write_text(f"{line}\n")
            before, gave = (self.folder / "log").stat().st_size, []
            for path in ("page.txt", "", "none", "x.php/y"):
                status, goes, body = self.get(f"/t{number}/{path}")
                gave.append((status, body if status == 200 and len(body) < 20 else goes.replace(f"/t{number}/", "/t/")))
                if gave[0][0] == 500:
                    break
            with (self.folder / "log").open("rb") as log:
                log.seek(before)
                said = re.search(rf"/t{number}/\.htaccess:(?: |\d+: )(.*)", log.read().decode("latin-1"))
            shutil.rmtree(place)
            yield Trial(said[1] or "refused" if said and gave[0][0] == 500 else "", tuple(gave))

    def _begin(self) -> None:
        command = ["/usr/sbin/apache2", "-f", str(self.conf), "-X"]
        self._process = subprocess.Popen(command, stderr=subprocess.DEVNULL, start_new_session=True)
        for _ in range(200):
            try:
                self._connection = http.client.HTTPConnection("127.0.0.1", self._port, timeout=30)
                self._connection.connect()
                return
            except OSError:
                time.sleep(0.05)
        raise AssertionError(f"apache2 did not come up: {(self.folder / 'log').read_text()[-500:]}")

    def _end(self) -> None:
        if self._process is not None:
            self._connection.close()
            self._process.kill()
            self._process.wait()


def arguments() -> list[tuple[str, ...]]:
    """None to five arguments of many kinds."""
    found: list[tuple[str, ...]] = [
        (),
        *((one,) for one in FIRST),
        *product(FIRST, OTHERS),
        *product(FIRST, OTHERS[:2], OTHERS[:3]),
    ]
    return [*found, *((one, "x", "1", "x") for one in FIRST), *((one, "x", "1", "x", "x") for one in FIRST[:8])]


_COUNTS = {
    "takes no arguments": (0, 0), "takes one argument": (1, 1), "takes two arguments": (2, 2), "takes three arguments": (3, 3),
    "takes 1-2 arguments": (1, 2), "takes one, two or three arguments": (1, 3), "takes one or three arguments": (1, 3),
    "takes two or three arguments": (2, 3), "requires at least one argument": (1, MANY), "requires at least two arguments": (2, MANY),
}  # fmt: skip
"""What the server says of a wrong number of arguments, and which numbers are right."""


def told(name: str, said: list[str], trials: list[Trial], plain: Gave) -> dict[str, object]:
    """What the server says of a directive, in words and by what it does."""
    entry: dict[str, object] = {}
    for words in said:
        if words.startswith(f"{name} must be On or Off"):
            entry["flag"] = True
        for ending, (least, most) in _COUNTS.items():
            if words.startswith(f"{name} {ending}"):
                entry |= {"least": least, "most": most}
    alone = {trial.arguments[0] for trial in trials if len(trial.arguments) == 1 and not trial.refused}
    if entry.get("most") == 1 and alone and alone <= {"1", "-1", "403"}:
        entry["number"] = True
    if any(trial.gave != plain for trial in trials if not trial.refused):
        entry["says"] = True
    return entry


@contextmanager
def server(modules: list[str] | None = None) -> Iterator[Server]:
    """A server in a folder of its own."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        folder.chmod(0o755)
        (folder / "www").mkdir()
        (folder / "log").touch()
        with Server(folder, modules) as begun:
            yield begun


def table(wanted: Callable[[str], bool] = lambda _: True) -> tuple[dict[str, dict[str, object]], dict[str, list[str]]]:
    """What the server knows: the directives that a control file may hold, and those that it may not, by module."""
    here: dict[str, dict[str, object]] = {}
    away: dict[str, list[str]] = {}
    with server() as asked:
        [plain] = [trial.gave for trial in asked.tried(["# nothing"])]
        for known in dict.fromkeys(listed(asked.conf)):
            if not wanted(known.name.lower()):
                continue
            if not known.here:
                away.setdefault(known.module, []).append(known.name)
                continue
            counted = list(asked.tried(" ".join((known.name, *["x"] * number)) for number in (0, 1, 2, 3, 5)))
            cases = [] if known.module in UNRULY else arguments()
            outcome = asked.tried(" ".join((known.name, *case)) for case in cases)
            trials = [one._replace(arguments=case) for case, one in zip(cases, outcome, strict=True)]
            entry = told(known.name, [one.said for one in counted], trials, plain)
            here[known.name] = {"module": known.module, "override": known.override, **entry}
            sys.stderr.write(f"\r{len(here)} {known.name:<40}")
    return here, away


def statuses() -> list[int]:
    """The status numbers that the server has: those it takes in a control file."""
    with server() as asked:
        numbers = range(90, 620)
        trials = asked.tried(f"ErrorDocument {number} /x" for number in numbers)
        return [number for number, trial in zip(numbers, trials, strict=True) if not trial.refused]


def written(here: dict[str, dict[str, object]], away: dict[str, list[str]], numbers: list[int]) -> str:
    """The table as text, a directive a line."""

    def value(of: object) -> str:
        return str(of).lower() if isinstance(of, bool) else str(of) if isinstance(of, int) else f'"{of}"'

    lines = [
        "# What a real Apache 2.4 says of its directives; written by tests/ask_directives.py, and never by hand.",
        "# least, most: how many arguments it takes; flag: On or Off alone; number: a whole number alone; says: seen to",
        "# change what is given for a file, a folder or what is not there. Where the numbers are missing, it reads its line itself.",
        "", "[status]", f"known = {numbers}  # the others are refused, or an error of the server's", "",
        "[here]  # in a control file, where AllowOverride lets it",
    ]  # fmt: skip
    for name, entry in sorted(here.items(), key=lambda pair: pair[0].lower()):
        lines.append(f"{name} = {{ {', '.join(f'{key} = {value(one)}' for key, one in entry.items())} }}")
    lines += ["", "[away]  # refused there, by module"]
    lines += [f"{module} = [{', '.join(map(value, sorted(names)))}]" for module, names in sorted(away.items())]
    return "\n".join(lines) + "\n"


def as_code(text: str) -> str:
    """The table again as a module, as the core reads no files."""
    known = rtoml.loads(text)
    lines = [
        '"""directives.toml as a module, as the core reads no files; written with it by tests/ask_directives.py."""', "",
        "# ruff: noqa: E501", "# fmt: off", "from __future__ import annotations", "", f"STATUS = frozenset({known['status']['known']!r})",
        f'AWAY = frozenset("{" ".join(name.lower() for names in known["away"].values() for name in names)}".split())',
        "HERE: dict[str, dict[str, str | int | bool]] = {",
        *(f'    "{name.lower()}": {({"name": name} | entry)!r},' for name, entry in known["here"].items()), "}", "",
    ]  # fmt: skip
    return "\n".join(lines)


if __name__ == "__main__":
    if sys.argv[1:] != ["code"]:
        TABLE.write_text(written(*table(), statuses()))
    MODULE.write_text(as_code(TABLE.read_text()))
