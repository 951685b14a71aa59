"""A tunnel through SSH (RFC 4254 section 7.2) to a server that only another machine can reach."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from kettlepost.core.errors import InputError
from kettlepost.core.remedies import Action, Remedy
from kettlepost.sources.remote import RemotePlace, Secrets


@contextmanager
def tunnel(via: RemotePlace, to: RemotePlace, secrets: Secrets) -> Iterator[int]:
    """The port on loopback that leads through `via` to `to`, as long as the block runs.

    The host key is verified as for files. Raises InputError, OutsideError.
    """
    try:
        import asyncssh  # noqa: F401 (to see that it is there)
    except ImportError:
        raise InputError("sftp:// wants one more package", Remedy.of(Action.ADD_EXTRA, "sftp")) from None
    from kettlepost.sources.sftp import new_loop

    loop = new_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()

    def done(work: Any) -> Any:
        return asyncio.run_coroutine_threadsafe(work, loop).result()

    connection: Any = None
    try:
        connection = done(_opened(via, secrets))
        yield done(_forwarding(connection, to))
    finally:
        if connection is not None:
            loop.call_soon_threadsafe(connection.abort)
        loop.call_soon_threadsafe(loop.stop)
        thread.join(5)
        loop.close()


async def _forwarding(connection: Any, to: RemotePlace) -> int:
    listener = await connection.forward_local_port("127.0.0.1", 0, to.host, to.port)
    port: int = listener.get_port()
    return port


async def _opened(via: RemotePlace, secrets: Secrets) -> Any:
    from kettlepost.sources.sftp import login, told_errors

    with told_errors(via):
        return await login(via, secrets)
