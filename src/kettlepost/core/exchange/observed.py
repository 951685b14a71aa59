"""What a source outside the plan says: hosts and where they lead, and what of it was not understood."""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from functools import lru_cache
from typing import Literal, NamedTuple, Protocol

from msgspec import Struct, field

from kettlepost.core.errors import InputError
from kettlepost.core.messages import Words, say
from kettlepost.core.names import Address, HostName, InvalidName
from kettlepost.core.quoting import Code
from kettlepost.core.webserver import ServerConfiguration

LARGEST = 64 * 1024 * 1024
"""The largest file of a source that is read, in bytes."""
MOST_REMARKS = 10_000
"""How many remarks are made of a source at most."""
DEEPEST = 20
"""How many files include one another at most."""


class ImportLimits:
    """What one import may read as a whole, whatever its files say; each counts as often as it is included.

    `files` are opened, `bytes` read, `items` are directives, lines and records, those that macros and generators make
    among them, `names` are looked at in folders; `seconds` are those that all of it may take by `clock`.
    Whoever meets a bound raises InputError, so that nothing is entered.
    """

    def __init__(
        self,
        clock: Callable[[], float] | None = None,
        seconds: float = 120.0,
        files: int = 100_000,
        bytes: int = 256 * 1024 * 1024,  # noqa: A002 (the unit)
        items: int = 1_000_000,
        names: int = 1_000_000,
    ):
        self._clock, self._seconds = clock or (lambda: 0.0), seconds
        self._begun = self._clock()
        self._left = {"files": files, "bytes": bytes, "directives and records": items, "names in folders": names}
        self._most = dict(self._left)

    def file(self, size: int) -> None:
        self._take("files", 1)
        self._take("bytes", size)

    def items(self, number: int = 1) -> None:
        self._take("directives and records", number)

    def name(self) -> None:
        self._take("names in folders", 1)

    def text(self, length: int) -> None:
        """Text that was made of other text."""
        self._take("bytes", length)

    def _take(self, what: str, number: int) -> None:
        left = self._left[what] = self._left[what] - number
        if left < 0:
            raise InputError(
                f"more than {self._most[what]:,} {what} are to be read in at once, with all that the files include and "
                "make; nothing was entered: read them in in parts"
            )
        if left % 64 < number and self._clock() - self._begun > self._seconds:
            raise InputError(
                f"reading it in takes more than {self._seconds:g} seconds; nothing was entered: "
                "read it in in parts, or give it more with --timeout SECONDS"
            )


class SourceSpot(NamedTuple):
    """A place in a source: the file as it was named, and the line, from 1."""

    file: str
    line: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}" if self.line else self.file


KEPT = say("import/kept")
"""What it means that a line of a server's configuration is not entered."""


class ImportRemark(NamedTuple):
    """What was read and not understood, and what it could mean for the plan; `cuts` where more was not read at all."""

    spot: SourceSpot
    text: Words
    means: Words
    cuts: bool = False


class Remarks(list[ImportRemark]):
    """Remarks, of which there are not more than anybody reads."""

    def append(self, remark: ImportRemark) -> None:
        if len(self) < MOST_REMARKS:
            super().append(remark)
        elif len(self) == MOST_REMARKS:
            super().append(ImportRemark(remark.spot, say("import/more"), say("import/more/means")))


class SeenPath(NamedTuple):
    """What a server does with a path of a host and all below it: `to` is a folder, or where a redirect leads."""

    path: str
    does: Literal["folder", "password", "denied", "redirect", "fallback"]
    to: str
    spot: SourceSpot


class ConfigurationNode(Protocol):
    """A directive or a section of any server's configuration."""

    @property
    def name(self) -> str:
        """What it is called."""

    @property
    def words(self) -> list[str]:
        """Its arguments."""

    @property
    def inner(self) -> Sequence[ConfigurationNode] | None:
        """What stands in it."""


_SOCKET = re.compile(r"unix:[^|\s\"';]*/([^/|\s\"';]+)")
_HANDS_TO_PHP = frozenset(("fastcgi_pass", "sethandler", "addhandler", "proxypass", "proxypassmatch"))
_PARTS = re.compile(r"[-_](?=php|fpm|sock)|(?<=fpm)[-_]|(?<=\d)[-_]|\.(?=sock)")
_OF_NOBODY = re.compile(r"(?:php[\d.]*|\d[\d.]*|fpm|sockets?|sock|cgi|fastcgi|pool|default|www)", re.IGNORECASE)


def php_pool(nodes: Iterable[ConfigurationNode]) -> str:
    """Whose socket PHP listens at for a host: `anna` of `/run/php/php8.2-anna.sock`; empty where that is not told."""
    left = [*nodes]
    while left:
        node = left.pop()
        found = _SOCKET.search(" ".join(node.words)) if node.name in _HANDS_TO_PHP else None
        if found is not None:
            return _pool_of(found[1])
        if node.inner:
            left += node.inner
    return ""


@lru_cache(10_000)
def _pool_of(socket: str) -> str:
    own = [part for part in _PARTS.split(socket) if part and not _OF_NOBODY.fullmatch(part)]
    return own[0] if len(own) == 1 else ""


class SeenHost(Struct):
    """One host as a source has it.

    `folder` is its document root as it is written, `names` are its other names, `sends_to` where
    all its visitors are sent on to, and `takes` its form with or without www that is sent on to it.
    `is_secure` says that it answers by https, `to_https` that http only sends on to that. `user` is
    whom its programs run as, `pool` what the socket is called at which PHP listens for it, `file_owner` the user
    whose the folder is on this machine, with that user's home, `elsewhere` the program that answers instead of a
    folder, `begins` the only path at which it leads to one, `index` the files
    shown for a folder, `onward` those of its names that it sends on to itself. `guess` is why it is taken to be
    there where nothing says so, and `account` names an account where the source does.
    """

    name: HostName
    spot: SourceSpot
    folder: str | None = None
    names: list[HostName] = field(default_factory=list)
    sends_to: Address | None = None
    takes: HostName | None = None
    is_secure: bool = False
    to_https: bool = False
    asks_password: bool = False
    fallback: str | None = None
    paths: list[SeenPath] = field(default_factory=list)
    user: str = ""
    pool: str = ""
    file_owner: tuple[str, str] | None = None
    account: str = ""
    kind: str = ""
    state: str = ""
    of: HostName | None = None
    application: str = ""
    client: str = ""
    server: Literal["apache", "nginx", "other", ""] = ""
    certificate: str = ""
    elsewhere: str = ""
    begins: str = ""
    guess: Words = ""
    index: tuple[str, ...] = ()
    onward: list[HostName] = field(default_factory=list)


class SeenInstallation(NamedTuple):
    """An application at an address, as a source calls it."""

    address: Address
    application: str
    version: str
    spot: SourceSpot


class SeenCertificate(NamedTuple):
    """A certificate: the names it covers, and the last day on which it holds, in ISO 8601 form."""

    covers: tuple[HostName, ...]
    until: str
    spot: SourceSpot


class SeenRecord(NamedTuple):
    """A record of a zone: `value` is an address or a name, `ttl` for how many seconds others keep it."""

    host: HostName
    kind: str
    value: str
    ttl: int
    zone: HostName
    spot: SourceSpot


class Reading(Struct):
    """All that was read of some sources; `reserved` are the paths that a server answers itself at every host.

    `user_folder` is the folder of each home that `/~name` leads to at one host, its `path`; `unread` are the files of
    certificates that hosts name and that could not be opened.
    """

    hosts: list[SeenHost] = field(default_factory=list)
    certificates: list[SeenCertificate] = field(default_factory=list)
    installations: list[SeenInstallation] = field(default_factory=list)
    records: list[SeenRecord] = field(default_factory=list)
    remarks: list[ImportRemark] = field(default_factory=Remarks)
    files: list[str] = field(default_factory=list)
    reserved: list[SeenPath] = field(default_factory=list)
    user_folder: SeenPath | None = None
    configurations: list[ServerConfiguration] = field(default_factory=list)
    unread: frozenset[str] = frozenset()

    def only(self, files: Collection[str]) -> Reading:
        """The same as far as it was said in some of the files."""
        return Reading(
            [host for host in self.hosts if host.spot.file in files],
            [one for one in self.certificates if one.spot.file in files],
            [one for one in self.installations if one.spot.file in files],
            [one for one in self.records if one.spot.file in files],
            [remark for remark in self.remarks if remark.spot.file in files],
            [file for file in self.files if file in files],
            self.reserved,
            self.user_folder,
            self.configurations,
            self.unread,
        )

    def named(self, names: Mapping[str, str]) -> Reading:
        """The same with files called as they were asked for."""
        for host in self.hosts:
            host.spot = _named(host.spot, names)
            host.paths = [path._replace(spot=_named(path.spot, names)) for path in host.paths]
        self.remarks = [remark._replace(spot=_named(remark.spot, names)) for remark in self.remarks]
        return self

    def add(self, other: Reading) -> None:
        self.hosts += other.hosts
        self.certificates += other.certificates
        self.installations += other.installations
        self.records += other.records
        self.remarks += other.remarks
        self.files += other.files
        self.reserved += other.reserved
        self.user_folder = self.user_folder or other.user_folder
        self.configurations += other.configurations
        self.unread |= other.unread


class OutputFile(NamedTuple):
    """A file that is written for another program: what it is called, and what it holds."""

    name: str
    text: Code


def _named(spot: SourceSpot, names: Mapping[str, str]) -> SourceSpot:
    return spot._replace(file=names.get(spot.file, spot.file))


class Opener(Protocol):
    """How included files are opened: by names as the source writes them, made absolute; and how spreadsheets are.

    `intake` bounds all that is read by it, and is told of each file by who opens it.
    """

    intake: ImportLimits

    def read(self, path: str) -> bytes | None:
        """What a file holds; None where it cannot be read."""

    def matching(self, pattern: str) -> Sequence[str]:
        """The files that a name with `*`, `?` and `[...]` stands for, in order; those in it where it is a folder."""

    def sheets(self, raw: bytes, most: int) -> Sequence[tuple[str, list[list[str]]]]:
        """The title and so many rows, at the most, of each sheet of a spreadsheet. Raises InputError, OutsideError."""


def host_in(written: str, spot: SourceSpot, remarks: list[ImportRemark]) -> HostName | None:
    """A host name of a source; what is none is remarked."""
    bare = written.partition("://")[2] or written
    bare = bare.partition("/")[0]
    head, colon, port = bare.rpartition(":")
    try:
        return HostName.parse(head if colon and port.isdigit() else bare)
    except InvalidName as error:
        remarks.append(ImportRemark(spot, str(error), say("import/no-name/means")))
        return None


def address_in(written: str) -> Address | None:
    """An address of a source without its query; None where it is none."""
    try:
        return Address.parse(written.partition("?")[0].partition("#")[0])
    except InvalidName:
        return None


def joined(hosts: Iterable[SeenHost], remarks: list[ImportRemark]) -> list[SeenHost]:
    """Hosts with those of one name taken together, as a server answers on several ports.

    What only sends on to itself by https is part of what is served there. `is_secure` is left where no
    visitor is served by http. A name that several hosts have is the first one's, what is served by https
    before what is not; where the others lead elsewhere, that is remarked.
    """
    found: dict[HostName, list[SeenHost]] = {}
    by_https: dict[HostName, HostName] = {}
    for host in hosts:
        found.setdefault(host.name, []).append(host)
        for name in (host.name, *host.names) if host.is_secure else ():
            by_https.setdefault(name, host.name)
    merged = [one for same in found.values() for one in _parted(_one(same, remarks))]
    served = {host.name: host for host in reversed(merged)}
    owners = {name: served[first] for name, first in by_https.items()}
    for host in merged:
        for name in (host.name, *host.names):
            owners.setdefault(name, host)
    return [host for host in merged if _keeps_own(host, owners, remarks)]


def _keeps_own(host: SeenHost, owners: Mapping[HostName, SeenHost], remarks: list[ImportRemark]) -> bool:
    """Leave a host the names that it answers for; False where none is left."""
    others = {name: owner for name in (host.name, *host.names) if (owner := owners[name]) is not host}
    if not others:
        return True
    own = [name for name in (host.name, *host.names) if name not in others]
    for name, owner in others.items():
        if host.sends_to == Address(owner.name):
            if f"www.{name}" == owner.name or f"www.{owner.name}" == name:
                owner.takes = name
        elif (host.folder, host.sends_to) != (owner.folder, owner.sends_to):
            leads, means = _leads(host), say("import/leads-elsewhere/means", spot=owner.spot, leads=_leads(owner))
            remarks.append(ImportRemark(host.spot, say("import/name-leads-elsewhere", name=name, leads=leads), means))
        elif not host.is_secure and not host.to_https:
            owner.is_secure = False
    if not own:
        return False
    host.name, host.names = own[0], own[1:]
    return True


def _leads(host: SeenHost) -> Words:
    leads = host.sends_to or host.folder or host.elsewhere
    return str(leads) if leads else say("import/leads-nowhere-told")


def _parted(host: SeenHost) -> Iterable[SeenHost]:
    """A host, and the names of it that it only sends on to itself."""
    yield host
    names = [name for name in host.onward if name not in host.names]
    form = [name for name in names if f"www.{name}" == host.name or f"www.{host.name}" == name]
    if form:
        host.takes = form[0]
    others = [name for name in names if name not in form]
    if others:
        sent = SeenHost(others[0], host.spot, names=others[1:], sends_to=Address(host.name), server=host.server)
        sent.certificate = host.certificate
        yield sent


NOWHERE = "no-such-folder"
"""What a root is called at which nothing is, beside the folders that paths of its host lead to."""


def _one(same: list[SeenHost], remarks: list[ImportRemark]) -> SeenHost:
    serving = [host for host in same if host.is_secure and not host.sends_to] or [
        host for host in same if host.folder is not None and not host.sends_to
    ]
    best = next(iter(serving), None) or next((host for host in same if host.sends_to is not None), same[0])
    sends = any(host.to_https for host in same)
    best.is_secure = sends or all(host.is_secure for host in same)
    for host in same:
        sends = host.to_https or host.sends_to is not None or best.sends_to is not None
        if not sends and None not in (host.folder, best.folder) and host.folder != best.folder:
            means = say("import/leads-elsewhere/means", spot=best.spot, leads=best.folder)
            remarks.append(
                ImportRemark(host.spot, say("import/leads-elsewhere", host=host.name, folder=host.folder), means)
            )
    sent = dict.fromkeys(name for host in same for name in host.onward)
    best.names = list(
        dict.fromkeys(name for host in same for name in host.names if name != best.name and name not in host.onward)
    )
    best.onward = [name for name in sent if name not in best.names]
    best.paths = list({(path.path, path.does): path for host in same for path in host.paths}.values())
    best.certificate = next((host.certificate for host in same if host.certificate), "")
    if best.folder is not None and best.folder.endswith(f"/{NOWHERE}"):
        best.folder = None
    best.user = best.user or next((host.user for host in same if host.user), "")
    return best
