"""Asking many addresses on loopback, beside a bare loop of the same library, and the memory that it takes."""

from __future__ import annotations

import asyncio
import resource
import subprocess
import sys
import time

AT_ONCE = 16
PAGES = 20
_SERVER = """
import asyncio, itertools
number = itertools.count()
PAGE = b"<!doctype html><html lang=en><title>A page</title><p>" + b"It says a little of this and of that. " * 40
HEAD = b"HTTP/1.1 200 OK\\r\\nContent-Type: text/html\\r\\nConnection: close\\r\\nContent-Length: %d\\r\\n\\r\\n"
async def serve(reader, writer):
    try:
        await reader.readuntil(b"\\r\\n\\r\\n")
        page = PAGE + b"<p>Page number %d of many.</p>" % next(number)
        writer.write(HEAD % len(page) + page)
        await writer.drain()
    except Exception:
        pass
    writer.close()
async def main():
    server = await asyncio.start_server(serve, "127.0.0.1", 0, backlog=4096)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()
asyncio.run(main())
"""


def probing() -> str:
    """10,000 addresses that are probed against a bare loop of aiohttp; and the memory of 100,000."""
    with subprocess.Popen([sys.executable, "-c", _SERVER], stdout=subprocess.PIPE, text=True) as server:
        try:
            port = (server.stdout.readline() if server.stdout else "").strip()
            bare, ours = (_measured(kind, 10_000, port)[0] for kind in ("bare", "ours"))
            _, memory = _measured("ours", 100_000, port)
        finally:
            server.terminate()
    told = f"{ours / bare:.2f}  ({ours:.0f} s for 10,000; aim: at most 2)"
    return f"{told}, {memory:.0f} MB for 100,000 (aim: at most 250)"


def _measured(kind: str, number: int, port: str) -> tuple[float, float]:
    command = [sys.executable, "-m", "bench.probing", kind, str(number), port]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    seconds, memory = done.stdout.split()
    return float(seconds), float(memory)


async def _bare(number: int, port: int) -> None:
    import aiohttp

    urls = iter(range(number))
    connector = aiohttp.TCPConnector(limit=0, force_close=True)
    async with aiohttp.ClientSession(connector=connector, auto_decompress=False) as session:

        async def work() -> None:
            for n in urls:
                headers = {"Host": f"h{n // PAGES}.example"}
                async with session.get(f"http://127.0.0.1:{port}/p{n}/", headers=headers, allow_redirects=False) as got:
                    await got.content.read(1_000_000)

        await asyncio.gather(*(work() for _ in range(AT_ONCE)))


def _ours(number: int, port: int) -> None:
    from kettlepost.core.names import HostName
    from kettlepost.core.probing import AskedFor, PageJudge, PageQuestion
    from kettlepost.sources.internet.asking import AskedAccount, AskingProgress, Manner, ask
    from kettlepost.workspace import catalogue

    hosts = [f"h{n}.example" for n in range(number // PAGES)]
    machine = ["192.0.2.10"]

    def accounts() -> list[AskedAccount]:
        return [
            AskedAccount(
                f"a{n}", machine, hosts[n : n + 10], [],
                [
                    PageQuestion(f"http://{host}/p{page}/", HostName(host), AskedFor.HOST)
                    for host in hosts[n : n + 10] for page in range(PAGES)
                ],
            )
            for n in range(0, len(hosts), 10)
        ]  # fmt: skip

    known = frozenset(hosts)
    instead = {("192.0.2.10", 80): ("127.0.0.1", port), ("192.0.2.10", 443): ("127.0.0.1", 1)}
    manner = Manner("kettlepost/bench", AT_ONCE, 0, 30, 36_000, [], instead)
    judge = PageJudge(catalogue.applications(), catalogue.placeholder_finder())
    kept = 0

    def keep(_world: object, is_whole: bool) -> None:
        nonlocal kept
        kept += is_whole

    ask(iter(accounts()), lambda host: machine if host in known else None, judge, manner, lambda: "", keep,
        AskingProgress())  # fmt: skip
    if kept != len(hosts) // 10:
        raise SystemExit("not all were asked")


def main(kind: str, number: int, port: int) -> None:
    """Measure one of the two in this process: seconds, and the most memory in MB."""
    begin = time.perf_counter()
    if kind == "bare":
        asyncio.run(_bare(number, port))
    else:
        _ours(number, port)
    sys.stdout.write(f"{time.perf_counter() - begin} {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024}\n")


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]))
