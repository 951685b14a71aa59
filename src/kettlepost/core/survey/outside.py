"""What was seen of an account outside of its folders: hosts of servers, records of zones, certificates.

It is kept as `surveys/NAME.outside.json`, one record a line.
"""

from __future__ import annotations

from collections.abc import Collection
from typing import NamedTuple

import msgspec
from msgspec import Struct, field

from kettlepost.core.errors import InputError
from kettlepost.core.names import printable, quoted

LARGEST_OUTSIDE = 64 * 1024 * 1024


class ObservedHost(NamedTuple):
    """A host as a server has it: the folder it leads to, from the home, or where it sends visitors on to.

    `unread` is the file of its certificate where that could not be opened, so that nobody knows which names it covers.
    """

    host: str
    root: str
    sends_to: str
    source: str
    unread: str = ""


class ObservedRecord(NamedTuple):
    """A record of a zone: an address or a name, and for how many seconds others keep it."""

    host: str
    kind: str
    value: str
    ttl: int


class ObservedCertificate(NamedTuple):
    """A certificate: the names it covers, and its last day in ISO 8601 form."""

    covers: list[str]
    until: str


class ExternalFacts(Struct):
    """All of it for one account, as it was at one moment (ISO 8601, UTC)."""

    account: str
    taken: str = ""
    hosts: list[ObservedHost] = field(default_factory=list)
    records: list[ObservedRecord] = field(default_factory=list)
    certificates: list[ObservedCertificate] = field(default_factory=list)
    kettlepost: int = 1

    def same(self, other: ExternalFacts | None) -> bool:
        """Whether another one says the same, whenever it was taken."""
        return other is not None and msgspec.structs.replace(self, taken=other.taken) == other

    def without_hosts_of(self, files: Collection[str]) -> ExternalFacts:
        """The same without the hosts that some files had."""
        hosts = [one for one in self.hosts if one.source.rpartition(":")[0] not in files and one.source not in files]
        return msgspec.structs.replace(self, hosts=hosts)

    def over(self, other: ExternalFacts | None) -> ExternalFacts:
        """The two together: what this one says of a host, a zone or a certificate counts."""
        if other is None:
            return self
        hosts = {one.host: one for one in (*other.hosts, *self.hosts)}
        mine = {one.host for one in self.records}
        records = [one for one in other.records if one.host not in mine] + self.records
        certificates = {tuple(one.covers): one for one in (*other.certificates, *self.certificates)}
        return ExternalFacts(self.account, self.taken, sorted(hosts.values()), sorted(set(records)),
                       sorted(certificates.values()))  # fmt: skip


_DECODER = msgspec.json.Decoder(ExternalFacts)


def encode_outside(outside: ExternalFacts) -> bytes:
    """It as JSON: a head line, then each list with one record a line."""
    head = {"kettlepost": outside.kettlepost, "account": outside.account, "taken": outside.taken}
    text = msgspec.json.encode(head)[:-1]
    for name in ("hosts", "records", "certificates"):
        text += b',\n"%s":[' % name.encode()
        text += b",".join(b"\n" + msgspec.json.encode(one) for one in getattr(outside, name)) + b"\n]"
    return text + b"}\n"


def decode_outside(raw: bytes, name: str, account: str) -> ExternalFacts:
    """What the file called `name` holds. Raises InputError when it is none of that account."""
    try:
        found = _DECODER.decode(raw)
    except (msgspec.MsgspecError, ValueError, RecursionError) as error:
        text = f"{printable(name)}: not what was seen of an account ({printable(str(error))}); import it again"
        raise InputError(text) from None
    if found.account != account or found.kettlepost != 1:
        raise InputError(f"{printable(name)}: of account {quoted(found.account)}, not of {quoted(account)}")
    return found
