"""OpenSSH's server behind a proxy that holds every byte back for a while."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path


@contextlib.contextmanager
def slow_sftp(folder: Path, delay: float) -> Iterator[tuple[str, list[str]]]:
    """An SFTP address with `delay` seconds added each way divided by two, and the options to reach it."""
    for name in ("host", "user"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)], check=True)
    server, proxy = _free_port(), _free_port()
    (folder / "config").write_text(
        f"Port {server}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nAuthorizedKeysFile {folder}/user.pub\n"
        "StrictModes no\nPidFile none\nSubsystem sftp internal-sftp\n"
    )
    (folder / "known_hosts").write_text(f"[127.0.0.1]:{proxy} {(folder / 'host.pub').read_text()}")
    Path("/run/sshd").mkdir(exist_ok=True)
    with subprocess.Popen(
        ["/usr/sbin/sshd", "-D", "-e", "-f", str(folder / "config")], stderr=subprocess.DEVNULL
    ) as running:
        loop = asyncio.new_event_loop()
        thread = threading.Thread(target=_run, args=(loop, proxy, server, delay / 2), daemon=True)
        thread.start()
        time.sleep(0.5)
        user = os.environ.get("USER", "root")
        try:
            options = ["--key", str(folder / "user"), "--known-hosts", str(folder / "known_hosts")]
            yield f"sftp://{user}@127.0.0.1:{proxy}", options
        finally:
            loop.call_soon_threadsafe(loop.stop)
            running.terminate()


def _run(loop: asyncio.AbstractEventLoop, proxy: int, server: int, delay: float) -> None:
    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        there, back = await asyncio.open_connection("127.0.0.1", server)
        await asyncio.gather(_pass_on(reader, back, delay), _pass_on(there, writer, delay))

    asyncio.set_event_loop(loop)
    loop.run_until_complete(asyncio.start_server(serve, "127.0.0.1", proxy))
    loop.run_forever()


async def _pass_on(reader: asyncio.StreamReader, writer: asyncio.StreamWriter, delay: float) -> None:
    loop = asyncio.get_running_loop()
    while data := await reader.read(1 << 16):
        loop.call_later(delay, writer.write, data)
    loop.call_later(delay, writer.close)


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
        return port
