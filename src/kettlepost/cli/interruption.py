"""Ctrl-C and SIGTERM end the program within two seconds, whatever it waits for."""

from __future__ import annotations

import os
import signal
import socket
import threading
import time
from types import FrameType

_PATIENCE = 1.5
"""How many seconds the program has to end by itself, with its files in order."""
_WORDS = b"kettlepost: ended; nothing was left half-written\n"
_watched: list[socket.socket] = []


class Terminated(KeyboardInterrupt):
    """The program was asked to end by SIGTERM."""


class TimedOut(KeyboardInterrupt):
    """It took longer than it was given. No error of the program's, as those are lived with in places."""


def listen() -> None:
    """Let SIGTERM end the program as Ctrl-C does: what is half done is given up, and it says so."""
    if threading.current_thread() is threading.main_thread() and signal.getsignal(signal.SIGTERM) is signal.SIG_DFL:
        signal.signal(signal.SIGTERM, _end)


def watch() -> None:
    """See that the program ends even where it waits in a call that no signal interrupts, such as for a name server."""
    if _watched or threading.current_thread() is not threading.main_thread():
        return
    ours, theirs = socket.socketpair()
    theirs.setblocking(False)
    signal.set_wakeup_fd(theirs.fileno(), warn_on_full_buffer=False)
    _watched.extend((ours, theirs))
    threading.Thread(target=_wait, args=(ours,), daemon=True).start()


def _wait(signals: socket.socket) -> None:
    while True:
        number = signals.recv(1)
        if number and number[0] in (signal.SIGINT, signal.SIGTERM):
            time.sleep(_PATIENCE)
            os.write(2, _WORDS)
            os._exit(128 + number[0])


def _end(_number: int, _frame: FrameType | None) -> None:
    raise Terminated
