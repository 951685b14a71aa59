"""A folder behind an SFTP login as the source of a survey (draft-ietf-secsh-filexfer-02, over SSH)."""

from __future__ import annotations

import asyncio
import io
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.remedies import Do, Remedy
from kettlepost.core.survey import HEAD, Listing, Wanted
from kettlepost.sources.remote import RemotePlace, Secrets

if TYPE_CHECKING:
    import asyncssh

AT_ONCE = 48
"""So many folders are asked for before the first answer is awaited, as each takes several round trips."""
_PATIENCE = 30


class SftpFolder:
    """Walks a folder over one SFTP session, many folders at a time."""

    contents = True

    def __init__(self, place: RemotePlace, secrets: Secrets):
        self.place = place
        self.name = str(place)
        self._secrets = secrets

    def listings(self, wanted: Wanted, below: str = "") -> Iterator[Listing]:
        try:
            import asyncssh  # noqa: F401 (to see that it is there)
        except ImportError:
            raise InputError("sftp:// wants one more package", Remedy(Do.ADD_EXTRA, "sftp")) from None
        loop = asyncio.new_event_loop()
        walk = _Walk(self.place, self._secrets, wanted, loop)
        try:
            with told_errors(self.place):
                yield from walk.listings(below)
        finally:
            walk.close()
            loop.close()


@contextmanager
def told_errors(place: RemotePlace) -> Iterator[None]:
    """Failures of a connection as OutsideError, in words."""
    import asyncssh

    try:
        yield
    except asyncssh.HostKeyNotVerifiable:
        raise OutsideError(_unknown_host(place)) from None
    except asyncssh.PermissionDenied as error:
        raise OutsideError(
            f"{place}: the server refused the login of {place.user} ({printable(error.reason)}); "
            "check user, key and password"
        ) from None
    except (asyncssh.Error, asyncssh.SFTPError) as error:
        raise OutsideError(f"{place}: {printable(str(error.reason)) or 'the connection failed'}") from None
    except (TimeoutError, ConnectionError, OSError) as error:
        reason = cause(error) if isinstance(error, OSError) else "no answer"
        raise OutsideError(f"{place}: {printable(reason)}; check host and port, then try again") from None


async def login(place: RemotePlace, secrets: Secrets) -> asyncssh.SSHClientConnection:
    """A connection to a machine whose key is known. Raises InputError for a key file that is none."""
    import asyncssh

    options: dict[str, Any] = {"known_hosts": str(secrets.known_hosts)} if secrets.known_hosts else {}
    if secrets.key is not None:
        options["client_keys"] = [str(secrets.key)]
    try:
        return await asyncssh.connect(
            place.host, place.port, username=place.user, password=lambda: secrets.password(place.who),
            config=None, connect_timeout=_PATIENCE, login_timeout=_PATIENCE * 4, **options,
        )  # fmt: skip
    except (asyncssh.KeyImportError, FileNotFoundError) as error:
        raise InputError(
            f"the key file {printable(str(secrets.key))} cannot be used: {printable(str(error))}"
        ) from None


async def connect(place: RemotePlace, secrets: Secrets) -> tuple[asyncssh.SSHClientConnection, Any]:
    """A connection and an SFTP session on it, in which the folder of `place` can be listed. Raises InputError."""
    import asyncssh

    connection = await login(place, secrets)
    session = await connection.start_sftp_client(path_encoding="utf-8", path_errors="surrogateescape")
    try:
        await session.listdir(place.path)
    except asyncssh.SFTPError as error:
        connection.abort()
        raise InputError(f"{place}: cannot list {printable(place.path)} ({printable(str(error.reason))})") from None
    return connection, session


class _Walk:
    """The session and the folders that are still to be listed."""

    def __init__(self, place: RemotePlace, secrets: Secrets, wanted: Wanted, loop: asyncio.AbstractEventLoop):
        self._place = place
        self._secrets = secrets
        self._wanted = wanted
        self._loop = loop
        self._connection: asyncssh.SSHClientConnection | None = None
        self._sftp: Any = None

    def listings(self, below: str) -> Iterator[Listing]:
        self._loop.run_until_complete(self._connect())
        if below and not self._loop.run_until_complete(self._is_folder(below)):
            return
        waiting, running = [below], set[asyncio.Task[tuple[Listing, list[str]]]]()
        while waiting or running:
            while waiting and len(running) < AT_ONCE:
                running.add(self._loop.create_task(self._list(waiting.pop())))
            done, running = self._loop.run_until_complete(asyncio.wait(running, return_when=asyncio.FIRST_COMPLETED))
            for task in done:
                listing, folders = task.result()
                waiting += folders
                yield listing

    def close(self) -> None:
        for task in asyncio.all_tasks(self._loop):
            task.cancel()
        if self._connection is not None:
            self._connection.abort()
        self._loop.run_until_complete(asyncio.sleep(0))

    async def _connect(self) -> None:
        self._connection, self._sftp = await connect(self._place, self._secrets)

    async def _is_folder(self, folder: str) -> bool:
        import asyncssh

        try:
            about = await self._sftp.lstat(f"{self._place.path.rstrip('/')}/{folder}")
        except (asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
            return False
        except asyncssh.SFTPPermissionDenied:
            return True
        return stat.S_ISDIR(about.permissions or stat.S_IFDIR)

    async def _list(self, folder: str) -> tuple[Listing, list[str]]:
        import asyncssh

        base = self._place.path.rstrip("/")
        there = f"{base}/{folder}" if folder else base or "/"
        listing, folders = Listing(folder), []
        try:
            async for entry in self._sftp.scandir(there):
                name, about = entry.filename, entry.attrs
                mode = stat.S_IFMT(about.permissions or 0)
                if name in (".", "..") or "/" in name:
                    continue
                if mode == stat.S_IFREG:
                    size = about.size or 0
                    listing.add(name, size, about.mtime or 0)
                    await self._head(there, listing, name, size)
                elif mode == stat.S_IFDIR:
                    folders.append(f"{folder}/{name}" if folder else name)
                elif mode == stat.S_IFLNK:
                    listing.links.append((name, await self._sftp.readlink(f"{there}/{name}")))
                else:
                    listing.odd += 1
        except (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection):
            raise
        except asyncssh.SFTPError as error:
            return Listing(folder, trouble=error.reason.lower()), []
        return listing, folders

    async def _head(self, there: str, listing: Listing, name: str, size: int) -> None:
        import asyncssh

        if not self._wanted.has(name):
            return
        reading = self._wanted.ask(listing.folder, name, size)
        if reading is None:
            return
        try:
            async with self._sftp.open(f"{there}/{name}", "rb") as file:
                listing.heads[name] = reading(io.BytesIO(await file.read(min(size, HEAD))))
        except (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection):
            raise
        except asyncssh.SFTPError:
            return  # a file that may not be read speaks for nothing


def _unknown_host(place: RemotePlace) -> str:
    port = f"-p {place.port} " if place.port != 22 else ""
    return (
        f"{place}: the host's key is not in known_hosts, so it may be any machine; compare the fingerprint your "
        f"host publishes with what 'ssh {port}{place.who}' shows, accept it there, then run this again"
    )
