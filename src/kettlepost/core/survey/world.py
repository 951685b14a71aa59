"""What was seen of an account in the world: its names, its certificates, and what its addresses show.

It is kept as `surveys/NAME.probe.json`: facts with their moments, no pages and no secrets, and of each the one before,
as far as it differs.
"""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from functools import cached_property
from typing import Any, NamedTuple
from urllib.parse import quote

import msgspec
from msgspec import Struct, field

from kettlepost.core.errors import InputError
from kettlepost.core.names import Address, printable, quoted

_UNENCODED = "/~!$&'()*+,;=:@-._"
LARGEST_PROBE = 256 * 1024 * 1024


class ProbeTrouble(StrEnum):
    """Why something that was asked gave no answer; its value is the slug of its sentence."""

    NOT_PUBLIC = "probe/not-public"
    NO_ADDRESS = "probe/no-address"
    CANNOT_CONNECT = "probe/cannot-connect"
    TIMED_OUT = "probe/timed-out"
    CLOSED = "probe/closed"
    NO_TLS = "probe/no-tls"
    NOT_HTTP = "probe/not-http"
    LATER = "probe/later"
    TOO_FAR = "probe/too-far"
    ROUND = "probe/round"
    SILENT = "probe/silent"
    LAME = "probe/lame"


class NameState(StrEnum):
    """What name servers say of a name."""

    FOUND = "found"
    NO_ADDRESS = "no-address"
    NO_SUCH_NAME = "no-such-name"
    NO_SERVER = "no-server"
    UNKNOWN = "unknown"


class ShownKind(StrEnum):
    """What a page is to whoever opens it."""

    APPLICATION = "application"
    PLACEHOLDER = "placeholder"
    LISTING = "listing"
    INSTALLER = "installer"
    PHP_INFO = "phpinfo"
    ERROR = "error"
    MAINTENANCE = "maintenance"
    LOGIN = "login"
    PAGE = "page"
    EMPTY = "empty"
    REDIRECT = "redirect"
    NOTHING = "nothing"


class SeenName(Struct, omit_defaults=True, frozen=True):
    """What a host name leads to, as the name servers of its zone say it, else as resolvers do.

    `chain` are the names that it stands for, one after the other, `ttl` for how many seconds others keep the answer.
    `cached` is what resolvers still say where that is something else, `apart` what single name servers say otherwise,
    as "SERVER: ADDRESS ADDRESS".
    """

    host: str
    seen: str
    state: NameState
    zone: str = ""
    addresses: tuple[str, ...] = ()
    chain: tuple[str, ...] = ()
    ttl: int | None = None
    cached: tuple[str, ...] = ()
    apart: tuple[str, ...] = ()


class SeenNameServer(Struct, omit_defaults=True, frozen=True):
    """A name server of a zone: its addresses, the serial number that it has, and why it does not answer."""

    name: str
    addresses: tuple[str, ...] = ()
    serial: int | None = None
    trouble: ProbeTrouble | None = None


class SeenZone(Struct, omit_defaults=True, frozen=True):
    """A zone: the name servers that its parent names and those that it names itself, and what it says of mail.

    `wildcard` are the addresses of every name that it does not have, `issuers` who may issue certificates (CAA).
    `signed` is None where that cannot be told, `fails` where resolvers refuse what it says as wrongly signed.
    `registered_until` and `registry` (name servers) are those of the registry (RDAP, RFC 9083).
    """

    zone: str
    seen: str
    servers: tuple[SeenNameServer, ...] = ()
    own: tuple[str, ...] = ()
    mail: tuple[str, ...] = ()
    spf: str = ""
    issuers: tuple[str, ...] = ()
    wildcard: tuple[str, ...] = ()
    signed: bool | None = None
    fails: bool = False
    registered_until: str = ""
    registry: tuple[str, ...] = ()


class ServedCertificate(Struct, omit_defaults=True, frozen=True):
    """The certificate that a host shows at one address.

    `wrong` is why it is not to be trusted, in the words of OpenSSL, and empty where it is; `oldest` is the oldest
    protocol that is spoken, where that is one that browsers refuse. Days are in ISO 8601 form.
    """

    host: str
    at: str
    seen: str
    covers: tuple[str, ...] = ()
    issuer: str = ""
    since: str = ""
    until: str = ""
    wrong: str = ""
    oldest: str = ""
    trouble: ProbeTrouble | None = None


class SeenHop(Struct, omit_defaults=True, frozen=True):
    """A redirect: the address that answered so, with what status, and what sent it as it names itself."""

    url: str
    status: int
    by: str = ""


class SeenPage(Struct, omit_defaults=True, frozen=True):
    """What an address shows in the end, asked at one machine.

    `at` is the machine's address, `by_names` whether the name itself leads there, `signed_in` whether a password was
    given. `hops` are the redirects on the way,
    `end` the address at which they end. `kind` and `what` say what is shown: an application's id, what a placeholder
    was known by. `digest` (see `page_digest`) and `size` are of the page as it came, where all of it did, and `shows`
    is the file of the account's survey that is the same to the byte. `keeps_out` says by what search engines are kept
    out, `mixed` how many parts an https page loads by http, `cookies` the names of those that lack a flag.
    """

    url: str
    at: str
    seen: str
    by_names: bool = False
    signed_in: bool = False
    status: int | None = None
    hops: tuple[SeenHop, ...] = ()
    end: str = ""
    trouble: ProbeTrouble | None = None
    kind: ShownKind = ShownKind.NOTHING
    what: str = ""
    title: str = ""
    language: str = ""
    generator: str = ""
    server: str = ""
    size: int = 0
    digest: str = ""
    shows: str = ""
    is_fresh: bool = False
    keeps_out: str = ""
    mixed: int = 0
    cookies: tuple[str, ...] = ()


WorldRecord = SeenName | SeenZone | ServedCertificate | SeenPage
_LISTS = ("names", "zones", "certificates", "pages")


class SeenWorld(Struct, omit_defaults=True, dict=True):
    """All that was seen of an account; `before` are records that were otherwise when they were last asked for."""

    account: str
    taken: str = ""
    names: list[SeenName] = field(default_factory=list)
    zones: list[SeenZone] = field(default_factory=list)
    certificates: list[ServedCertificate] = field(default_factory=list)
    pages: list[SeenPage] = field(default_factory=list)
    before: list[SeenPast] = field(default_factory=list)
    kettlepost: int = 1

    def over(self, other: SeenWorld | None) -> SeenWorld:
        """The two together: what this one has counts, and what it has otherwise is kept as it was before."""
        if other is None:
            return self
        merged = SeenWorld(self.account, self.taken)
        past = {(one.of, one.key): one for one in other.before}
        for name in _LISTS:
            known = {key_of(one): one for one in getattr(other, name)}
            fresh = {key_of(one): one for one in getattr(self, name)}
            for key, one in fresh.items():
                was = known.get(key)
                past.pop((name, " ".join(key)), None)
                if was is not None and differs(was, one):
                    kept = {fact: value for fact, value in msgspec.to_builtins(was).items() if fact != "digest"}
                    past[name, " ".join(key)] = SeenPast(name, " ".join(key), kept)
            setattr(merged, name, sorted((known | fresh).values(), key=key_of))
        merged.before = [past[key] for key in sorted(past)]
        return merged

    @cached_property
    def at(self) -> dict[str, SeenAtHost]:
        """What was seen of each host."""
        found: dict[str, SeenAtHost] = {}
        for name in self.names:
            found.setdefault(name.host, SeenAtHost([], [], [])).names.append(name)
        for certificate in self.certificates:
            found.setdefault(certificate.host, SeenAtHost([], [], [])).certificates.append(certificate)
        for page in self.pages:
            found.setdefault(host_of(page.url), SeenAtHost([], [], [])).pages.append(page)
        return found

    @cached_property
    def zone(self) -> dict[str, SeenZone]:
        """The zones by their names."""
        return {one.zone: one for one in self.zones}

    @cached_property
    def _past(self) -> dict[tuple[str, str], SeenPast]:
        return {(one.of, one.key): one for one in self.before}

    def past(self, record: WorldRecord) -> WorldRecord | None:
        """The record as it was before, where that was otherwise."""
        was = self._past.get((_LISTS[_KINDS.index(type(record))], " ".join(key_of(record))))
        try:
            return msgspec.convert(was.record, type(record)) if was is not None else None
        except msgspec.ValidationError:
            return None


class SeenAtHost(NamedTuple):
    """What was seen of one host."""

    names: list[SeenName]
    certificates: list[ServedCertificate]
    pages: list[SeenPage]


class SeenPast(Struct, frozen=True):
    """A record as it was before: the list that it is of, what tells it from others there, and itself."""

    of: str
    key: str
    record: dict[str, Any]


_KINDS: tuple[type[WorldRecord], ...] = (SeenName, SeenZone, ServedCertificate, SeenPage)
_KEYS = {SeenName: ("host",), SeenZone: ("zone",), ServedCertificate: ("host", "at"), SeenPage: ("url", "at")}
_PASSING = frozenset(("seen", "size", "digest", "title", "cookies", "mixed", "by_names", "ttl", "serial"))
"""Facts that change from one look to the next without anything being otherwise."""


def key_of(record: WorldRecord) -> tuple[str, ...]:
    """What tells a record from others of its kind."""
    return tuple(getattr(record, name) for name in _KEYS[type(record)])


def differs(one: WorldRecord, other: WorldRecord) -> bool:
    """Whether two looks at the same saw it otherwise in anything that matters."""
    return _lasting(one) != _lasting(other)


def changed_facts(one: WorldRecord, other: WorldRecord) -> list[str]:
    """The names of the facts in which two looks at the same differ, as far as they matter."""
    first, second = _lasting(one), _lasting(other)
    return [name for name in first if first[name] != second[name]]


def _lasting(record: WorldRecord) -> dict[str, Any]:
    facts = {name: getattr(record, name) for name in record.__struct_fields__ if name not in _PASSING}
    if isinstance(record, SeenZone):
        facts["servers"] = [(one.name, one.addresses, one.trouble) for one in record.servers]
    return facts


def host_of(url: str) -> str:
    """The host of a URL of ours."""
    return url.partition("://")[2].partition("/")[0].partition(":")[0]


def url_of(scheme: str, address: Address, below: str = "") -> str:
    """An address as it is asked for: a folder with its slash, and what lies below it as that is written."""
    path = quote(f"/{address.path}".rstrip("/") + "/", safe=_UNENCODED, errors="surrogateescape")
    return f"{scheme}://{address.host}{path}{below.lstrip('/')}"


def encode_world(seen: SeenWorld) -> bytes:
    """It as JSON: a head line, then each list with one record a line."""
    head = {"kettlepost": seen.kettlepost, "account": seen.account, "taken": seen.taken}
    text = msgspec.json.encode(head)[:-1]
    for name in (*_LISTS, "before"):
        records: Sequence[Struct] = getattr(seen, name)
        text += b',\n"%s":[' % name.encode()
        text += b",".join(b"\n" + msgspec.json.encode(one) for one in records) + b"\n]"
    return text + b"}\n"


def decode_world(raw: bytes, name: str, account: str) -> SeenWorld:
    """What the file called `name` holds. Raises InputError when it is none of that account."""
    try:
        found = _DECODER.decode(raw)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        text = f"{printable(name)}: not what was probed of an account ({printable(str(error))}); probe it again"
        raise InputError(text) from None
    if found.account != account or found.kettlepost != 1:
        raise InputError(f"{printable(name)}: of account {quoted(found.account)}, not of {quoted(account)}")
    return found


_DECODER = msgspec.json.Decoder(SeenWorld)
