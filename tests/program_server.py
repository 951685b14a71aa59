"""The program, loaded once: each run of it is a fork, with its own arguments, folder, environment and files.

What it does is what the installed program does, from its entry point to its exit status; only the interpreter's start is
left out, which takes longer than most commands. Tests of the start itself, of terminals, signals and limits start the
installed program.
"""

from __future__ import annotations

import contextlib
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

_LOADED = (
    "kettlepost.cli.app", "kettlepost.workspace.queries", "kettlepost.workspace.plan_edits", "kettlepost.workspace.work",
    "kettlepost.workspace.check_cache", "kettlepost.workspace.surveys", "kettlepost.core.placing", "kettlepost.core.work",
    "kettlepost.core.checking", "kettlepost.core.exchange", "kettlepost.render.text", "kettlepost.render.json",
    "kettlepost.sources", "asyncio", "rich.console",
)  # fmt: skip
_START = ("LANG", "LC_", "PYTHON", "TERM", "COLUMNS")
"""How the names of variables begin that an interpreter reads as it starts."""


class ProgramServer:
    """The loaded program as a process of its own, for one test worker."""

    def __init__(self, program: Path):
        self._program = program
        self._own, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._env = dict(os.environ)
        self._lock = threading.Lock()
        self._process = subprocess.Popen(
            [sys.executable, __file__, str(theirs.fileno())], pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL
        )
        theirs.close()

    def can_run(self, options: dict[str, Any]) -> bool:
        """Whether a run with such options differs from others in nothing that an interpreter reads as it starts."""
        env = options.get("env") or os.environ
        names = {name for name in {*env, *self._env} if name.startswith(_START)}
        return options.keys() <= {"input", "cwd", "env", "timeout"} and all(
            env.get(name) == self._env.get(name) for name in names
        )

    def run(self, words: list[str], **options: Any) -> subprocess.CompletedProcess[str]:
        """Run the program on some words. Raises TimeoutExpired as `subprocess.run` does."""
        asked = {
            "words": [str(self._program), *words],
            "cwd": str(options.get("cwd") or Path.cwd()),
            "umask": _umask(),
            "env": {name: str(value) for name, value in (options.get("env") or os.environ).items()},
        }
        given, out, err = os.pipe(), os.pipe(), os.pipe()
        answer, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with answer, theirs, tempfile.TemporaryFile() as told, ThreadPoolExecutor(3) as pool:
            told.write(json.dumps(asked).encode())
            told.seek(0)
            with self._lock:
                fds = [theirs.fileno(), told.fileno(), given[0], out[1], err[1]]
                socket.send_fds(self._own, [b"run"], fds)
            theirs.close()
            for fd in (given[0], out[1], err[1]):
                os.close(fd)
            pool.submit(_write, given[1], options.get("input", "").encode())
            texts = [pool.submit(_read, pipe[0]) for pipe in (out, err)]
            pid = int(answer.recv(64))
            answer.settimeout(options.get("timeout"))
            try:
                status = int(answer.recv(64))
            except TimeoutError:
                os.kill(pid, signal.SIGKILL)
                raise subprocess.TimeoutExpired([self._program, *words], options["timeout"]) from None
            shown = (text.result().decode(errors="replace").replace("\r\n", "\n") for text in texts)
            return subprocess.CompletedProcess([self._program, *words], status, *shown)


def _write(fd: int, text: bytes) -> None:
    with contextlib.suppress(BrokenPipeError), open(fd, "wb") as pipe:
        pipe.write(text)


def _read(fd: int) -> bytes:
    with open(fd, "rb") as pipe:
        return pipe.read()


def _umask() -> int:
    mask = os.umask(0o22)
    os.umask(mask)
    return mask


def _serve(number: int) -> None:
    """Fork for each run that is asked for; returns in what has to go on as the program."""
    asked = socket.socket(fileno=number)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    for name in _LOADED:
        __import__(name)
    while True:
        word, fds, *_ = socket.recv_fds(asked, 16, 5)
        if not word:
            sys.exit(0)
        if os.fork():
            for fd in fds:
                os.close(fd)
            continue
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        answer, told, *files = fds
        pid = os.fork()
        if not pid:
            asked.close()
            os.close(answer)
            _become(json.loads(os.read(told, 1 << 24)), files)
            os.close(told)
            return
        for fd in files:
            os.close(fd)
        with socket.socket(fileno=answer) as back:
            back.send(str(pid).encode())
            back.send(str(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])).encode())
        os._exit(0)


def _become(asked: dict[str, Any], files: list[int]) -> None:
    for number, fd in enumerate(files):
        os.dup2(fd, number)
        os.close(fd)
    # as an interpreter opens them for such files as these
    kept = {"encoding": sys.stdout.encoding, "closefd": False}
    sys.stdin = open(0, errors=sys.stdin.errors, **kept)  # noqa: SIM115
    sys.stdout = open(1, "w", errors=sys.stdout.errors, **kept)  # noqa: SIM115
    sys.stderr = open(2, "w", buffering=1, errors="backslashreplace", **kept)  # noqa: SIM115
    os.environ.clear()
    os.environ.update(asked["env"])
    os.umask(asked["umask"])
    os.chdir(asked["cwd"])
    sys.argv[:] = asked["words"]


if __name__ == "__main__":
    _serve(int(sys.argv[1]))
    from kettlepost.cli import main

    main()
