"""A disk that refuses one call that writes, whichever: the program run in a child, with that call told to fail."""

from __future__ import annotations

import builtins
import errno
import os
import signal
import sys
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

_WRITING = (
    "rename",
    "replace",
    "mkdir",
    "unlink",
    "remove",
    "rmdir",
    "link",
    "symlink",
    "fsync",
    "fchmod",
    "write",
    "ftruncate",
)
_OPEN = os.open
_FOR_WRITING = os.O_WRONLY | os.O_RDWR | os.O_CREAT


class Refusing:
    """`run` gives status, standard error, and whether there were as many calls that the last one was refused."""

    def __init__(self, call: int):
        self.left = call

    def run(self, words: Sequence[str]) -> tuple[int, str, bool]:
        with tempfile.TemporaryDirectory() as scratch:
            said, refused = Path(scratch, "stderr"), Path(scratch, "refused")
            child = os.fork()
            if not child:
                status = 99
                try:
                    status = self._child(words, said, refused)
                finally:
                    os._exit(status)
            status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
            return status, said.read_text(errors="replace"), refused.exists()

    def _child(self, words: Sequence[str], said: Path, refused: Path) -> int:
        from kettlepost.cli import main
        from kettlepost.sources import folders, local_files

        signal.alarm(60)
        self._mark = os.open(refused.parent, os.O_RDONLY)
        null = os.open(os.devnull, os.O_RDWR)
        os.dup2(null, 0)
        os.dup2(null, 1)
        os.dup2(os.open(said, os.O_WRONLY | os.O_CREAT), 2)
        sys.stdin, sys.stdout = (os.fdopen(n, mode, closefd=False) for n, mode in ((0, "r"), (1, "w")))
        sys.stderr = os.fdopen(2, "w", buffering=1, closefd=False)
        sys.argv = ["kettlepost", *words]
        folders._RENAME = None
        local_files.rename_all = folders.rename_all
        for name in _WRITING:
            setattr(os, name, self._refusing(getattr(os, name)))
        real_builtin = builtins.open

        def opened(path: Any, flags: int, *args: Any, **options: Any) -> int:
            self._see(bool(flags & _FOR_WRITING))
            return _OPEN(path, flags, *args, **options)

        def opened_by_name(file: Any, mode: str = "r", *args: Any, **options: Any) -> Any:
            self._see(not isinstance(file, int) and any(letter in mode for letter in "wax+"))
            return real_builtin(file, mode, *args, **options)

        os.open, builtins.open = opened, opened_by_name
        try:
            main()
        except SystemExit as end:
            return int(end.code or 0) if isinstance(end.code, int | None) else 1
        return 0

    def _see(self, writes: bool) -> None:
        if writes:
            self.left -= 1
            if self.left == -1:
                os.close(_OPEN("refused", os.O_WRONLY | os.O_CREAT, dir_fd=self._mark))
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    def _refusing(self, call: Callable[..., Any]) -> Callable[..., Any]:
        def refused(*args: Any, **options: Any) -> Any:
            self._see(not (call.__name__ == "write" and args and args[0] in (1, 2)))
            return call(*args, **options)

        return refused
