"""A folder behind an SFTP login as the source of a survey (draft-ietf-secsh-filexfer-02, over SSH)."""

from __future__ import annotations

import asyncio
import io
import stat
import time
from collections import deque
from collections.abc import AsyncGenerator, Coroutine, Iterator
from contextlib import aclosing, contextmanager
from pathlib import Path
from posixpath import dirname, relpath
from typing import TYPE_CHECKING, Any, TypeVar, cast

from kettlepost.core.budget import Budget, Limits
from kettlepost.core.errors import InputError, OutsideError, cause
from kettlepost.core.names import printable
from kettlepost.core.remedies import Action, Remedy, argument
from kettlepost.core.survey import HEAD, Listing, Wanted
from kettlepost.sources.grouping import NO_NAMES
from kettlepost.sources.remote import Asking, RemotePlace, Secrets

if TYPE_CHECKING:
    import asyncssh

AT_ONCE = 48
"""How many folders are asked for before the first answer is awaited, as each takes several round trips."""
_LOOKS = 0.5
"""How many seconds pass at the most before it is looked whether there is progress."""
_OF_AN_ENTRY = 60
"""How many bytes are reckoned for an entry of a folder until all of them came, but for its name."""
_LONGEST = 4096
"""How many bytes a path has at the most (PATH_MAX of Linux)."""
_OF_A_LINK = 200
"""How many bytes of memory a link takes, but for its name and target."""
_MOST_AT_ONCE = 4_000
"""How many entries of a folder come in one listing."""
Result = TypeVar("Result")


class SftpFolder:
    """Walks a folder over one SFTP session, many folders at a time."""

    contents = True

    def __init__(self, place: RemotePlace, secrets: Secrets, limits: Limits | None = None):
        self.place, self.limits = place, limits
        self.name = str(place)
        self._secrets = secrets

    def listings(self, wanted: Wanted, below: str = "") -> Iterator[Listing]:
        try:
            import asyncssh  # noqa: F401 (to see that it is there)
        except ImportError:
            raise InputError("sftp:// wants one more package", Remedy.of(Action.ADD_EXTRA, "sftp")) from None
        loop, budget = new_loop(), Budget(self.name, self.limits, time.monotonic)
        asking = Asking(self._secrets)
        walk = _Walk(self.place, self._secrets, asking, wanted, loop, budget)
        try:
            with told_errors(self.place, asking):
                yield from walk.listings(below)
        finally:
            walk.close()
            loop.close()


@contextmanager
def told_errors(place: RemotePlace, asking: Asking | None = None) -> Iterator[None]:
    """Failures of a connection as OutsideError, in words, without the password that was given."""
    import asyncssh
    from asyncssh.packet import PacketDecodeError

    def said(words: str) -> str:
        return printable(asking.hidden(words) if asking is not None else words)

    try:
        yield
    except asyncssh.PermissionDenied as error:
        raise OutsideError(
            f"{place}: the server refused the login of {place.user} ({said(error.reason)}); "
            "check user, key and password"
        ) from None
    except (asyncssh.Error, asyncssh.SFTPError) as error:
        raise OutsideError(f"{place}: {said(str(error.reason)) or 'the connection failed'}") from None
    except (TimeoutError, ConnectionError, OSError) as error:
        reason = cause(error) if isinstance(error, OSError) else "no answer"
        raise OutsideError(f"{place}: {printable(reason)}; check host and port, then try again") from None
    except PacketDecodeError:
        raise OutsideError(f"{place}: the server said something that is no answer") from None


def new_loop() -> asyncio.AbstractEventLoop:
    """A loop that tells nobody of requests that nobody waits for any longer, as when a limit is met."""
    loop = asyncio.new_event_loop()
    loop.set_exception_handler(lambda *_: None)
    return loop


def patiently(loop: asyncio.AbstractEventLoop, work: Coroutine[Any, Any, Result], budget: Budget) -> Result:
    """Wait for something as long as there is progress. Raises OutsideError once there was none for too long."""
    task = loop.create_task(work)
    try:
        while not task.done():
            loop.run_until_complete(asyncio.wait([task], timeout=_LOOKS))
            if not task.done():
                budget.wait()
        return task.result()
    finally:
        task.cancel()


async def login(place: RemotePlace, secrets: Secrets, budget: Budget | None = None) -> asyncssh.SSHClientConnection:
    """A connection to a machine whose key is known. Raises InputError for a key file that is none."""
    import asyncssh

    options: dict[str, Any] = {"known_hosts": str(secrets.known_hosts)} if secrets.known_hosts else {}
    if secrets.key is not None:
        options["client_keys"] = [str(secrets.key)]

    def password() -> str | None:
        given = secrets.password(place.who)
        if budget is not None:
            budget.go_on()  # it was the user who was waited for
        return given

    patience = (budget.limits if budget is not None else Limits()).patience
    try:
        return await asyncssh.connect(
            place.host, place.port, username=place.user, password=password,
            config=None, connect_timeout=patience, login_timeout=patience * 4, **options,
        )  # fmt: skip
    except asyncssh.HostKeyNotVerifiable:
        raise OutsideError(_wrong_key(place, secrets)) from None
    except (asyncssh.KeyImportError, FileNotFoundError) as error:
        raise InputError(
            f"the key file {printable(str(secrets.key))} cannot be used: {printable(str(error))}"
        ) from None


async def connect(
    place: RemotePlace, secrets: Secrets, budget: Budget, asking: Asking
) -> tuple[asyncssh.SSHClientConnection, Any]:
    """A connection and an SFTP session on it, in which the folder of `place` can be listed. Raises InputError."""
    import asyncssh

    connection = await login(place, secrets._replace(password=asking.password), budget)
    try:
        budget.go_on()
        session = await connection.start_sftp_client(path_encoding="utf-8", path_errors="surrogateescape")
        budget.go_on()
        async with aclosing(cast("AsyncGenerator[Any, None]", session.scandir(place.path))) as entries:
            async for _ in entries:
                break
    except (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection):
        connection.abort()
        raise
    except asyncssh.SFTPError as error:
        connection.abort()
        words = printable(asking.hidden(str(error.reason)))
        raise InputError(f"{place}: cannot list {printable(place.path)} ({words})") from None
    except BaseException:
        connection.abort()
        raise
    return connection, session


class _Walk:
    """The session and the folders that are still to be listed."""

    def __init__(
        self, place: RemotePlace, secrets: Secrets, asking: Asking, wanted: Wanted,
        loop: asyncio.AbstractEventLoop, budget: Budget,
    ):  # fmt: skip
        self._asking = asking
        self._budget = budget
        self._place = place
        self._secrets = secrets
        self._wanted = wanted
        self._loop = loop
        self._connection: asyncssh.SSHClientConnection | None = None
        self._sftp: Any = None
        self._waiting = list[str]()
        self._done = deque[Listing]()

    def listings(self, below: str) -> Iterator[Listing]:
        patiently(self._loop, self._connect(), self._budget)
        if below and not patiently(self._loop, self._is_folder(below), self._budget):
            return
        self._waiting = [below]
        running = set[asyncio.Task[None]]()
        while self._waiting or running:
            while self._waiting and len(running) < AT_ONCE:
                running.add(self._loop.create_task(self._list(self._waiting.pop())))
            finished, running = self._loop.run_until_complete(
                asyncio.wait(running, timeout=_LOOKS, return_when=asyncio.FIRST_COMPLETED)
            )
            for task in finished:
                task.result()
            if not finished and not self._done:
                self._budget.wait()
            while self._done:
                yield self._done.popleft()
                self._budget.go_on()  # what was listed was looked at meanwhile

    def close(self) -> None:
        for task in asyncio.all_tasks(self._loop):
            task.cancel()
        if self._connection is not None:
            self._connection.abort()
        self._loop.run_until_complete(asyncio.sleep(0))

    async def _connect(self) -> None:
        self._connection, self._sftp = await connect(self._place, self._secrets, self._budget, self._asking)

    async def _is_folder(self, folder: str) -> bool:
        import asyncssh

        try:
            about = await self._sftp.lstat(f"{self._place.path.rstrip('/')}/{folder}")
        except (asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath):
            return False
        except asyncssh.SFTPPermissionDenied:
            return True
        return stat.S_ISDIR(about.permissions or stat.S_IFDIR)

    async def _list(self, folder: str) -> None:
        """Hand on what lies in a folder, in as many listings as it takes; the folders in it are to wait."""
        import asyncssh

        base = self._place.path.rstrip("/")
        there = f"{base}/{folder}" if folder else base or "/"
        listing, number, held = Listing(folder), 0, 0
        try:
            async for entry in self._sftp.scandir(there):
                self._budget.entry()
                self._budget.go_on()
                number, size = number + 1, _OF_AN_ENTRY + len(entry.filename)
                held += size
                self._budget.hold(size)
                if number % _MOST_AT_ONCE == 0:
                    self._done.append(listing)
                    listing = Listing(folder)
                if entry.filename not in NO_NAMES and "/" not in entry.filename:
                    self._budget.line(len(entry.filename))
                    await self._note(folder, there, listing, entry.filename, entry.attrs)
        except (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection):
            raise
        except asyncssh.SFTPError as error:
            listing = Listing(folder, trouble=self._asking.hidden(error.reason).lower())
        self._budget.let_go(held)
        self._done.append(listing)

    async def _note(self, folder: str, there: str, listing: Listing, name: str, about: Any) -> None:
        mode = stat.S_IFMT(about.permissions or 0)
        if mode == stat.S_IFREG:
            size = about.size or 0
            listing.add(name, size, about.mtime or 0)
            await self._head(there, listing, name, size)
        elif mode == stat.S_IFDIR:
            below = f"{folder}/{name}" if folder else name
            self._budget.listing(below, 0, ())
            self._waiting.append(below)
        elif mode == stat.S_IFLNK:
            target = await self._target(f"{there}/{name}")
            self._budget.keep(_OF_A_LINK + len(name) + 2 * len(target))  # as it came, and as text
            listing.links.append((name, target))
        else:
            listing.odd += 1

    async def _target(self, link: str) -> str:
        import asyncssh

        target = ""  # where nothing more is told
        try:
            target = await self._sftp.readlink(link)
            if is_below(target, self._place.path) and await self._sftp.exists(target):
                target = relpath(target, dirname(link))  # as servers tell it that show a part of the machine alone
        except (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection):
            raise
        except asyncssh.SFTPError:
            pass  # a link in a circle, or one that may not be followed, stays as it was told
        return target if len(target) <= _LONGEST else ""

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


def is_below(target: str, top: str) -> bool:
    """Whether an absolute path is the folder `top` or leads into it."""
    return f"{target}/".startswith(f"{top.rstrip('/')}/")


def _wrong_key(place: RemotePlace, secrets: Secrets) -> str:
    """Why a host's key is not believed: it is another one than is known, or none is known."""
    import asyncssh

    file = secrets.known_hosts or Path.home() / ".ssh/known_hosts"
    try:
        keys = asyncssh.match_known_hosts(str(file), place.host, "", place.port if place.port != 22 else None)[0]
    except (OSError, ValueError):
        return _unknown_host(place)
    if not keys:
        return _unknown_host(place)
    there = place.host if place.port == 22 else f"[{place.host}]:{place.port}"
    return (
        f"{place}: the host's key has changed, it is another one than {printable(file)} has: the host was set up "
        "anew, or somebody else answers in its place; nothing was sent to it. Ask your host which key it has now, and "
        f"only when that is so take the old one out: ssh-keygen -R {argument(there)} -f {argument(str(file))}"
    )


def _unknown_host(place: RemotePlace) -> str:
    port = f"-p {place.port} " if place.port != 22 else ""
    return (
        f"{place}: the host's key is not in known_hosts, so it may be any machine; compare the fingerprint your "
        f"host publishes with what 'ssh {port}{place.who}' shows, accept it there, then run this again"
    )
