"""How much is asked of one machine at once: so many requests at a time, and a pause behind each."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager


class Machines:
    """The machines that are asked, by the address that is connected to."""

    def __init__(self, at_once: int, pause: float):
        self._at_once, self._pause = at_once, pause
        self._slots: dict[str, asyncio.Semaphore] = {}
        self._later: dict[str, float] = {}

    @asynccontextmanager
    async def slot(self, address: str) -> AsyncIterator[None]:
        """One of the requests that a machine gets at the same time; waits until there is room, and behind it."""
        slots = self._slots.setdefault(address, asyncio.Semaphore(self._at_once))
        async with slots:
            wait = self._later.get(address, 0) - time.monotonic()
            if wait > 0:
                await asyncio.sleep(wait)
            try:
                yield
            finally:
                if self._pause:
                    await asyncio.sleep(self._pause)

    def wait(self, address: str, seconds: float) -> None:
        """Ask a machine for nothing for a while, as it wants (RFC 9110 section 10.2.3)."""
        self._later[address] = max(self._later.get(address, 0), time.monotonic() + seconds)
