"""`kettlepost demo`."""

from __future__ import annotations

import contextlib
import importlib.util
import os
import shlex
import subprocess
import sys
import threading
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

import kettlepost
from kettlepost.cli import runtime

if TYPE_CHECKING:
    from kettlepost.demo.scaffold import Demo
    from kettlepost.render.screen import Screen


def demo(
    folder: Annotated[Path, typer.Argument(metavar="FOLDER", help="Where to lay it out; new or empty.")] = Path(
        "kettlepost-demo"
    ),
    full: Annotated[bool, typer.Option("--full", help="Every step, and all that each of them says.")] = False,
    internet: Annotated[
        bool,
        typer.Option("--internet", help="Instead: run the reseller's small internet, for probe, until you end it."),
    ] = False,
) -> None:
    """Lay out a made-up reseller, and go through the work on it: survey, map, where, check, weigh, place, clear."""
    from kettlepost.demo import ACCOUNTS, lay_out
    from kettlepost.render.screen import Screen

    if internet:
        _serve(Screen(), folder)
        return
    laid = lay_out(folder)
    screen = Screen()
    screen.line(
        "Fernhollow Web Care looks after four hosting accounts. Its plan is in ",
        (str(laid.plan), "bold"),
        ", the accounts' folders are in ",
        (str(laid.hosting), "bold"),
        ". Nothing outside this folder is touched.",
    )
    for account in ACCOUNTS:
        words = ("survey", account, "--from", str(laid.home(account)))
        if full or account == ACCOUNTS[0]:
            _step(screen, laid.plan, _SURVEYS[account], words, full)
        else:
            _run([*words, "--plan", str(laid.plan)], capture=True)
    for told, step, part in _STEPS:
        if full or part is not None:
            asked = tuple(_filled(word, laid) for word in step)
            _step(screen, laid.plan, told, asked, full, part or "begin")
    _world(screen, laid, full)
    if full:
        _databases(screen, laid)
    screen.blank()
    plan = shlex.quote(str(laid.plan))
    screen.line("Next: change a file in ", (f"{plan}/accounts", "bold"), " as a way out says, and check again.")


def _world(screen: Screen, laid: Demo, full: bool) -> None:
    """The reseller's small internet: what names, certificates and addresses really show."""
    if not all(importlib.util.find_spec(name) for name in _FOR_PROBE):
        screen.blank()
        screen.line("With pip install 'kettlepost[probe]' it asks the real thing as well: names, certificates, pages.")
        return
    from kettlepost.demo.internet import small_internet

    with small_internet(laid.plan, laid.hosting, laid.plan.parent / "internet") as world:
        told = "And the real thing: a small internet on this machine, and all that is otherwise there than planned."
        _step(screen, laid.plan, told, ("probe", *world.options), full, "begin")
        told = "What was seen counts from then on, with ways out: one of the rules that go by it."
        if full:
            _step(screen, laid.plan, told, ("check", "--only", "name-elsewhere"), full, "begin")
    for seen in (laid.plan / "surveys").glob("*.probe.json"):  # as that small internet is gone, and what it showed
        seen.unlink()


def _serve(screen: Screen, folder: Path) -> None:
    """Run the small internet of a demo, which is laid out where it is not there yet, until somebody ends it."""
    from kettlepost.demo import ACCOUNTS, lay_out
    from kettlepost.demo.scaffold import Demo

    if not all(importlib.util.find_spec(name) for name in _FOR_PROBE):
        raise kettlepost.InputError("a small internet wants further packages; pip install 'kettlepost[probe]'")
    from kettlepost.demo.internet import small_internet

    laid = Demo(folder / "plan", folder / "hosting", folder / "sources")
    if not (laid.plan / "kettlepost.toml").is_file():
        laid = lay_out(folder)
        for account in ACCOUNTS:
            _run(["survey", account, "--from", str(laid.home(account)), "--plan", str(laid.plan)], capture=True)
    try:
        with small_internet(laid.plan, laid.hosting, folder / "internet") as world:
            screen.line("The small internet runs until you end it with Ctrl-C. In another terminal:")
            words = ["kettlepost", "probe", *world.options, "--plan", str(laid.plan)]
            screen.line((shlex.join(words), "bold cyan"))
            sys.stdout.flush()
            threading.Event().wait()
    except KeyboardInterrupt:
        screen.line("The small internet is gone.")
    except OSError as error:
        raise kettlepost.OutsideError(str(error)) from None


_FOR_PROBE = ("aiohttp", "cryptography", "dns")


def _databases(screen: Screen, laid: Demo) -> None:
    """The theatre's databases on a server of the demo's own: read, told apart, made and used."""
    from kettlepost.demo import database_server, name_database, take_package

    if not all(importlib.util.find_spec(name) for name in ("pymysql", "pykeepass")):
        screen.blank()
        screen.line("With pip install 'kettlepost[databases,passwords]' it goes on with a database server.")
        return
    folder = laid.plan.parent
    with database_server.demo_server(folder / "bin") as server:
        screen.blank()
        kind = "a MariaDB" if server.is_real else "a small stand-in, as no MariaDB is installed,"
        screen.line(f"Now with a database server: {kind} on this machine, which is gone when the demo ends.")
        screen.line("The theatre has taken a larger package, bronze, as databases were to run out.")
        take_package(laid, "bronze")
        env = {
            "KETTLEPOST_PLAN": str(laid.plan), "KETTLEPOST_PASSWORD": "", "KETTLEPOST_PASSPHRASE": "the demo's phrase",
            "PATH": os.pathsep.join((server.path, str(Path(sys.executable).parent), os.environ.get("PATH", ""))),
        }  # fmt: skip
        words = {"address": server.address, "options": server.options, "folder": shlex.quote(str(folder))}
        for told, line in _ON_A_SERVER:
            if line == "{rename}":
                name_database(laid, told)
                continue
            _shell(screen, told, line.format(**words), env)


_ON_A_SERVER = [
    ("Read what is there, and no row of it.", "kettlepost database read pennywharf --from {address}"),
    (
        "Tables of nobody, tables of a retired site, and a rehearsal on the live data.",
        "kettlepost check --account pennywharf --only tables-unclaimed --only retired-tables "
        "--only staging-shares-data",
    ),
    ("penny_try", "{rename}"),
    (
        "The rehearsal gets a database of its own: the plan says penny_try now, and this makes it.",
        "kettlepost database script try.pennywharf.example | mariadb {options}",
    ),
    (
        "A copy of the live tables into it, dumped, looked at and counted.",
        "kettlepost database copy pennywharf.example/seats --to penny_try > {folder}/copy.sh "
        "&& mkdir {folder}/dumps && sh {folder}/copy.sh {folder}/dumps {options}",
    ),
    (
        "A password for its user, kept in a KDBX file, and into the server without being shown.",
        "kettlepost password make try.pennywharf.example --for database "
        "&& kettlepost database script try.pennywharf.example --passwords | mariadb {options}",
    ),
    (
        "Read again: the two have tables of their own.",
        "kettlepost database read pennywharf --from {address} && kettlepost database list --account pennywharf "
        "--columns database,state,used_by,prefixes,users",
    ),
]


def _shell(screen: Screen, told: str, line: str, env: dict[str, str]) -> None:
    """Say what is done, show the line, and have the shell run it."""
    screen.blank()
    screen.line((f"# {told}", "bold green"))
    screen.line((f"$ {line}", "bold cyan"))
    sys.stdout.flush()
    done = subprocess.run(["sh", "-c", line], check=False, env=os.environ | env)  # noqa: S603, S607 (the demo's own)
    if done.returncode not in (0, 1):
        raise typer.Exit(done.returncode)


def _filled(word: str, laid: Demo) -> str:
    """A word of a command with the places of this demo in it, and the number under which something was set aside."""
    if word == "{number}":
        return next((path.name for path in (laid.hosting / "harrowgate" / kettlepost.SET_ASIDE).glob("2*")), "NUMBER")
    if word.startswith("{files "):
        steps = kettlepost.work(kettlepost.open_plan(laid.plan), [word[7:-1]]).steps
        return next((one.id for one in steps if one.kind == "files"), "ID")
    if word == "{carried}":
        return max((path.stem for path in (laid.plan / ".kettlepost/carried-out").glob("*.jsonl")), default="NUMBER")
    return word.replace("{sources}", str(laid.sources)).replace("{hosting}", str(laid.hosting))


_MOST = 15
"""How many lines of a step are shown, with its own two."""
_SURVEYS = {
    "millbrook": "First look at what is really there: applications by their own files, placeholder pages.",
    "harrowgate": "The bookings folder holds another application than people think.",
    "pennywharf": "The theatre's folders: a diary that was to be gone, and two index files in one folder.",
    "saltcote": "The museum's folders: one application, one placeholder page.",
}
_MUSEUM = ("--from", "{hosting}/saltcote", "--yes")
_STEPS: list[tuple[str, tuple[str, ...], str | None]] = [
    (
        "The workshop's folders in full: sizes, what no address reaches, and what deserves a look.",
        ("survey", "--show", "harrowgate"),
        None,
    ),
    (
        "Every address of the railway society, and the folder it reaches: two domains share www.",
        ("map", "millbrook"),
        "begin",
    ),
    (
        "The other way round: ten addresses lead to the choir's folder, most of them by way of the main site.",
        ("map", "millbrook", "--by", "folder"),
        None,
    ),
    (
        "One address in full. The choir did not know that it answers at all of these.",
        ("where", "lanternchoir.example"),
        "begin",
    ),
    ("An address that a control file sends elsewhere.", ("where", "harrowgatecycles.example/fair/stall"), None),
    (
        "The theatre's planned shop would never answer: a line in a folder above takes its address.",
        ("where", "pennywharf.example/post", "--when", "planned"),
        "begin",
    ),
    (
        "What hangs on how the server is set up is said, with the key that would tell it.",
        ("where", "try.pennywharf.example"),
        None,
    ),
    ("The new shop's address: a placeholder page answers.", ("where", "https://millbrookrail.example/shop/"), None),
    (
        "The same address once the plan is carried out: the placeholder still wins.",
        ("where", "millbrookrail.example/shop", "--when", "planned"),
        None,
    ),
    (
        "What all that is planned changes for the theatre's visitors, address by address.",
        ("compare", "--account", "pennywharf"),
        None,
    ),
    (
        "Its ticket shop is to come to the root: by which ways, and what each would bring.",
        ("move", "pennywharf.example/seats", "pennywharf.example"),
        None,
    ),
    (
        "So what is wrong there? One rule of many, with ways out that take from nobody what they use.",
        ("check", "--account", "millbrook", "--only", "shared-root"),
        "begin",
    ),
    (
        "Following the first of them: what it would write, and what is to be done at the host.",
        ("domain", "root", "steamfair.example", "steamfair", "--account", "millbrook", "--show"),
        None,
    ),
    (
        "Where could a shop for the workshop go? Every place side by side, and which to take.",
        ("weigh", "barrowshop", "harrowgatecycles.example", "--new-domain", "cyclebits.example"),
        "end",
    ),
    ("What placing it there would write into the plan, checked first.", ("place", "--as", "1", "--show"), "begin"),
    (
        "Every collision of the railway society, worst first, with ways out.",
        ("check", "--account", "millbrook"),
        "begin",
    ),
    (
        "Who gets in and what is let out, in all accounts.",
        ("check", "--only", "second-door", "--only", "private-exposed", "--only", "guessable-admin"),
        None,
    ),
    (
        "The workshop's new shop goes into a folder that is not empty: what is in the way, and what stays for whom.",
        ("clear", "spokeandsaddle.example", "--from", "{hosting}/harrowgate", "--show"),
        "begin",
    ),
    (
        "Out of the way with it, whole: nothing is deleted.",
        ("clear", "spokeandsaddle.example", "--from", "{hosting}/harrowgate", "--yes"),
        None,
    ),
    (
        "It is set aside in the account's home, outside every root, and its manifest says what it was.",
        ("set-asides", "harrowgate", "--from", "{hosting}/harrowgate"),
        None,
    ),
    (
        "And back again, to the byte.",
        ("putback", "{number}", "--account", "harrowgate", "--from", "{hosting}/harrowgate"),
        None,
    ),
    ("What was found and is written down nowhere yet.", ("adopt", "millbrook", "--show"), "begin"),
    ("The registers: what each account holds and has left.", ("account", "list"), None),
    (
        "The theatre's databases: whose the tables are, and tables of a site that nobody remembers.",
        ("database", "list", "--account", "pennywharf"),
        None,
    ),
    (
        "The museum's new shop, from wish to sheet: who does what, in which order, with every value filled in.",
        ("work", "saltcote"),
        "begin",
    ),
    ("What can be done now, over all accounts, and by whom.", ("work", "--next"), None),
    ("The same for one of them, who has never heard of this program.", ("work", "--for", "registrar"), None),
    ("All that belongs to one site, on a page.", ("sheet", "pennywharf.example/seats"), None),
    ("One rule in full.", ("explain", "nested-root"), None),
    ("What the catalogue knows of one of the workshop's applications.", ("apps", "ticketgrove"), None),
    (
        "A change of the museum's pages is to be tried on a copy first: its own address, files and data.",
        ("rehearse", "saltcotelight.example", "--yes"),
        None,
    ),
    (
        "The copy is made by the program.",
        ("work", "--carry-out", "{files staging.saltcotelight.example}", *_MUSEUM),
        None,
    ),
    (
        "It is closed before a name leads there, and works with data of its own.",
        ("work", "staging.saltcotelight.example"),
        None,
    ),
    ("Taken back.", ("work", "--take-back", "{carried}", *_MUSEUM), None),
    ("And out of the plan again.", ("undo", "--yes"), None),
    (
        "The pages move into a folder, so that something else can have the root.",
        ("move", "saltcotelight.example", "saltcotelight.example/pages", "--by", "files", "--yes"),
        None,
    ),
    (
        "Their copy, which leaves the old ones as they are.",
        ("work", "--carry-out", "{files saltcotelight.example/pages}", *_MUSEUM),
        None,
    ),
    ("And back, to the byte.", ("work", "--take-back", "{carried}", *_MUSEUM), None),
    ("The museum stays as it is.", ("undo", "--yes"), None),
    ("The museum is in order.", ("check", "--account", "saltcote"), "begin"),
    (
        "The web server's own configuration, read in: what is new, what it says otherwise, what it does beside.",
        ("import", "{sources}/hosting.conf", "--show"),
        None,
    ),
    (
        "A customer's table, as it came by mail.",
        ("import", "{sources}/tollhouse.csv", "--account", "saltcote", "--show"),
        None,
    ),
    ("A zone: which names point to the machine.", ("import", "{sources}/saltcotelight.example.zone", "--show"), None),
    ("The museum's hosts for the web server.", ("export", "apache", "saltcote"), None),
]


def _step(screen: Screen, plan: Path, told: str, words: tuple[str, ...], full: bool, part: str = "begin") -> None:
    """Say what to look at, show the command, and run it as a user would; in brief only one end of what it says."""
    place = [] if words[0] == "explain" else ["--plan", str(plan)]
    screen.blank()
    screen.line((f"# {told}", "bold green"))
    screen.line((f"$ {shlex.join(['kettlepost', *words, *place])}", "bold cyan"))
    sys.stdout.flush()
    lines = _run([*words, *place], capture=not full)
    if len(lines) > _MOST:
        left = len(lines) - _MOST + 1
        rest = f"... {left:,} more lines, which --full shows\n"
        lines = [rest, *lines[left:]] if part == "end" else [*lines[: _MOST - 1], rest]
    sys.stdout.write("".join(lines))
    sys.stdout.flush()


def _run(words: Sequence[str], capture: bool) -> list[str]:
    """Run the program; gives the lines it says, if they are to be captured, as a terminal would have them."""
    command = [sys.executable, "-m", "kettlepost", *words]
    if not capture:
        done = subprocess.run(command, check=False)  # noqa: S603 (the words are the demo's own, and no shell reads them)
        said = b""
    elif sys.stdout.isatty():
        done, said = _on_terminal(command)
    else:
        done = subprocess.run(command, check=False, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)  # noqa: S603
        said = done.stdout
    if done.returncode == 2 and not capture:
        return []  # for want of a package, as it has said
    if done.returncode not in (0, 1):
        sys.stderr.write(said.decode(errors="replace"))
        raise typer.Exit(done.returncode)
    text = said.decode(errors="replace").replace("\r\n", "\n").strip("\n")
    return [f"{line}\n" for line in text.split("\n")] if text else []


def _on_terminal(command: list[str]) -> tuple[subprocess.CompletedProcess[bytes], bytes]:
    """Run a command with a terminal of the same size to write to, and read what it writes."""
    import fcntl
    import pty
    import termios

    reader, writer = pty.openpty()
    size = fcntl.ioctl(sys.stdout.fileno(), termios.TIOCGWINSZ, b"\0" * 8)
    fcntl.ioctl(writer, termios.TIOCSWINSZ, size)
    said = bytearray()
    with subprocess.Popen(command, stdout=writer, stderr=subprocess.STDOUT) as process:  # noqa: S603
        os.close(writer)
        with contextlib.suppress(OSError):  # how a terminal says that nobody writes to it any more
            while piece := os.read(reader, 65536):
                said += piece
    os.close(reader)
    return subprocess.CompletedProcess(command, process.returncode), bytes(said)


def register(app: typer.Typer) -> None:
    runtime.register(app, demo, "demo")
