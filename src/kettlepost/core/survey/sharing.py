"""Walking a large local folder with several processes.

Half of the time of a walk goes into the interpreter, which runs one thread at a time, so the
work is shared out among processes. Each takes a few folders, walks what lies below them for a
while, and hands back what it noticed and the folders it did not come to.
"""

from __future__ import annotations

import os
import signal
import threading
import time
from collections.abc import Callable
from typing import TYPE_CHECKING

from kettlepost.core.survey.noticing import Notes
from kettlepost.core.survey.sources import Listing, LocalFolder, Wanted

if TYPE_CHECKING:
    from concurrent.futures import Future

ALONE = 60
"""So many folders are walked before it pays to call others in."""
TURN = 250
"""So many folders a process walks before it reports."""

See = Callable[[Listing, Notes], None]
_work: tuple[LocalFolder, Wanted, See] | None = None


def notice_shared(
    source: LocalFolder, wanted: Wanted, see: See, progress: Callable[[int, int], None] | None, workers: int
) -> Notes:
    """Walk `source` and note what `see` makes of each listing."""
    notes, waiting = _walk(source, wanted, see, [""], ALONE)
    if not waiting:
        return notes
    import multiprocessing  # only large folders are worth the time these take to import
    from concurrent.futures import FIRST_COMPLETED, ProcessPoolExecutor, wait

    global _work
    _work = source, wanted, see  # inherited by the processes that are forked from here on
    context = multiprocessing.get_context("fork")
    pool = ProcessPoolExecutor(workers, mp_context=context, initializer=_begin, initargs=(os.getpid(),))
    running: set[Future[tuple[Notes, list[str]]]] = set()
    try:
        while waiting or running:
            while waiting and len(running) < 2 * workers:
                share = max(1, min(len(waiting) // (2 * workers), 200))
                part, waiting = waiting[:share], waiting[share:]
                running.add(pool.submit(_turn, part))
            done, running = wait(running, return_when=FIRST_COMPLETED)
            for future in done:
                part_notes, left = future.result()
                notes.absorb(part_notes)
                waiting += left
            if progress is not None:
                progress(notes.files, len(notes.folders))
    finally:
        for process in list((pool._processes or {}).values()):
            process.terminate()
        pool.shutdown(wait=False, cancel_futures=True)
        _work = None
    return notes


def _turn(folders: list[str]) -> tuple[Notes, list[str]]:
    assert _work is not None  # noqa: S101 (set before the fork)
    return _walk(*_work, folders, TURN)


def _walk(source: LocalFolder, wanted: Wanted, see: See, waiting: list[str], most: int) -> tuple[Notes, list[str]]:
    notes = Notes()
    for seen, listing in enumerate(source.walk(waiting, wanted), 1):
        see(listing, notes)
        if seen >= most:
            break
    return notes, waiting


def _begin(parent: int) -> None:
    """Leave interrupts to the parent, which then ends the others, and outlive it in no case."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()


def _end_with(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(0.5)
    os._exit(1)
