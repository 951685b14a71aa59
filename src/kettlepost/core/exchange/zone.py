"""DNS zone files (RFC 1035 section 5): where hosts point, name servers, mail, and how long that is kept."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator, Sequence

from kettlepost.core.errors import InputError
from kettlepost.core.exchange.hosts import addresses_of, led_here
from kettlepost.core.exchange.observed import (
    DEEPEST,
    LARGEST,
    ImportRemark,
    Opener,
    OutputFile,
    Reading,
    SeenRecord,
    SourceSpot,
)
from kettlepost.core.layout import OWN_NAMES, AccountLayout, When
from kettlepost.core.messages import Words, say
from kettlepost.core.names import HostName, InvalidName
from kettlepost.core.plan import Export
from kettlepost.core.quoting.zone import Zone, address, mailbox, record_of, relative
from kettlepost.core.quoting.zone import name as zone_name

_LOOKS = re.compile(
    rb"^[ \t]*\$(?:ORIGIN|TTL)[ \t]+\S|^\S*[ \t]+(?:\d+[a-z]?[ \t]+)?(?:IN[ \t]+)?(?:\d+[a-z]?[ \t]+)?SOA[ \t]",
    re.MULTILINE | re.IGNORECASE,
)
_TYPES = ("A", "AAAA", "CNAME", "NS", "MX")
_MOST_MADE = 10_000
"""How many records a `$GENERATE` makes at most."""
_COST = 10
"""How many directives a record counts for, as it takes as long to be made."""
_LONGEST = 64 * 1024
_FROM_NAME = re.compile(r"^(?:db\.|zone\.)?(.+?)(?:\.(?:zone|db|dns|txt|hosts))?$", re.IGNORECASE)


def is_it(raw: bytes) -> bool:
    """Whether a file is of this kind, by what is in it."""
    return bool(_LOOKS.search(raw[:200_000]))


def read(files: Sequence[tuple[str, bytes]], opener: Opener, _root: str = "") -> Reading:
    """The records of some zones. Includes are followed, and `$GENERATE` only as far as a zone needs it."""
    try:
        import dns.exception
        import dns.zone
    except ImportError:
        raise InputError("zone files want a package more: pip install 'kettlepost[zones]'") from None
    found = Reading(files=[name for name, _ in files])
    for name, raw in files:
        text = "\n".join(_Lines(opener, found.remarks).of(name, raw, []))
        origin = _origin(name, text)
        try:
            zone = dns.zone.from_text(text, origin, relativize=False, check_origin=False, allow_include=False)
        except (dns.exception.DNSException, ValueError, KeyError, RecursionError) as error:
            line = re.search(r":(\d+):", str(error))
            why = str(error).partition(": ")[2] or type(error).__name__
            means = say("import/zone-unreadable/means")
            found.remarks.append(
                ImportRemark(
                    SourceSpot(name, int(line[1]) if line else 0), say("import/zone-unreadable", why=why), means
                )
            )
            continue
        found.records += _records(zone, name)
    return found


def _records(zone: object, file: str) -> Iterator[SeenRecord]:
    import dns.rdatatype
    import dns.zone

    assert isinstance(zone, dns.zone.Zone)  # noqa: S101 (for the type checker)
    origin = zone.origin.to_text(omit_final_dot=True) if zone.origin is not None else ""
    for owner, ttl, data in zone.iterate_rdatas():
        kind = dns.rdatatype.to_text(data.rdtype)
        if kind not in _TYPES:
            continue
        try:
            host = HostName.parse(owner.to_text(omit_final_dot=True))
            value = data.to_text().split()[-1]
            yield SeenRecord(host, kind, value.rstrip("."), ttl, HostName.parse(origin), SourceSpot(file, 0))
        except InvalidName:
            continue  # names with underscores, such as those of mail, are no hosts


def _origin(file: str, text: str) -> str | None:
    """Where a zone's names begin, when it does not say so itself: by its file's name."""
    if re.search(r"^\s*\$ORIGIN\s", text, re.MULTILINE | re.IGNORECASE):
        return None
    match = re.search(r"^([a-z0-9.-]+\.)\s+.*\bSOA\s", text, re.MULTILINE | re.IGNORECASE)
    if match is not None:
        return match[1]
    named = _FROM_NAME.match(posixpath.basename(file))
    try:
        name = HostName.parse(named[1]) if named is not None else None
    except InvalidName:
        name = None
    return f"{name}." if name is not None and "." in name else None


class _Lines:
    """The lines of a zone with what it includes, none of it without bounds."""

    def __init__(self, opener: Opener, remarks: list[ImportRemark]):
        self._opener, self._remarks = opener, remarks

    def of(self, file: str, raw: bytes, above: list[str], origin: str = "") -> Iterator[str]:
        if len(raw) > LARGEST:
            why = say("import/too-large", megabytes=LARGEST >> 20)
            self._remarks.append(ImportRemark(SourceSpot(file, 0), why, say("import/nothing-read")))
            return
        for number, line in enumerate(raw.decode("utf-8", "replace").split("\n"), 1):
            self._opener.intake.items()
            word = line.split(None, 3)
            first = word[0].upper() if word else ""
            if len(line) > _LONGEST:
                self._left_out(file, number, say("import/line-too-long"))
            elif first == "$GENERATE":
                made = _made(word[1:2])
                if made is None or made > _MOST_MADE:
                    self._left_out(file, number, say("import/generates-too-many", most=_MOST_MADE))
                    continue
                self._opener.intake.items(made * _COST)
                yield line
            elif first == "$INCLUDE" and len(word) > 1:
                inner = word[2] if len(word) > 2 and not word[2].startswith(";") else origin
                yield from self._included(file, number, word[1].strip('"'), [*above, file], inner)
                if origin:
                    yield f"$ORIGIN {origin}"
            else:
                if first == "$ORIGIN" and len(word) > 1:
                    origin = word[1]
                yield line

    def _left_out(self, file: str, line: int, text: Words) -> None:
        self._remarks.append(ImportRemark(SourceSpot(file, line), text, say("import/left-out")))

    def _included(self, file: str, line: int, name: str, above: list[str], origin: str) -> Iterator[str]:
        path = name if name.startswith("/") else posixpath.join(posixpath.dirname(file), name)
        if path in above or len(above) > DEEPEST:
            self._left_out(file, line, say("import/includes-itself/zone", name=name))
            return
        raw = self._opener.read(path)
        if raw is None:
            self._left_out(file, line, say("import/cannot-be-read/zone", name=name))
            return
        if origin:
            yield f"$ORIGIN {origin}"
        yield from self.of(path, raw, above, origin)


def _made(written: list[str]) -> int | None:
    """How many records a range of `$GENERATE` stands for; None where it is none."""
    match = re.fullmatch(r"(\d{1,9})-(\d{1,9})(?:/(\d{1,9}))?", written[0]) if written else None
    if match is None:
        return None
    return max(int(match[2]) - int(match[1]), 0) // max(int(match[3] or 1), 1) + 1


def write(layouts: Sequence[AccountLayout], when: When, template: Export) -> list[OutputFile]:
    """A zone for each name that is registered by itself. Raises InputError where addresses or name servers lack."""
    found = []
    zones: list[tuple[AccountLayout, list[HostName], list[HostName]]] = []
    strays: list[tuple[AccountLayout, HostName]] = []
    for layout, hosts in led_here(layouts, when):
        tops = [domain.name for domain in layout.account.domains if domain.kind in OWN_NAMES and domain.name in hosts]
        tops = [name for name in dict.fromkeys(tops) if not any(above in tops for above in name.above())]
        zones.append((layout, hosts, tops))
        own = set(tops)
        strays += ((layout, host) for host in hosts if host not in own and own.isdisjoint(host.above()))
    for layout, hosts, tops in zones:
        for top in tops:
            inside = [host for host in hosts if host == top or top in host.above() or host == f"*.{top}"]
            others = [(other, host) for other, host in strays if other is not layout and top in host.above()]
            found.append(OutputFile(f"{top}.zone", _zone(layout, top, inside, template, others)))
    return found


def _zone(
    layout: AccountLayout, top: HostName, hosts: Sequence[HostName], template: Export,
    others: Sequence[tuple[AccountLayout, HostName]] = (),
) -> Zone:  # fmt: skip
    """A zone with the hosts of its account, and those below it that `others` have."""
    if not template.name_servers:
        raise InputError(
            "which name servers zones have is not told: write name_servers into [export] of kettlepost.toml"
        )
    servers = [zone_name(name) for name in template.name_servers]
    contact = mailbox(template.contact or f"hostmaster@{top}")
    addresses = addresses_of(layout, template)
    lines = [
        Zone.of("$ORIGIN «top».", top=zone_name(top)), Zone.of("$TTL 3600"),
        Zone.of("@ IN SOA «first». «contact» (1 7200 900 1209600 3600)", first=servers[0], contact=contact),
        *(Zone.of("@ IN NS «name».", name=name) for name in servers),
    ]  # fmt: skip
    known = {HostName.parse(name.rstrip(".")) for name in template.name_servers}
    own = sorted(name for name in known if top in name.above() and name not in hosts)
    led = [(addresses, host) for host in (*hosts, *own)]
    led += [(addresses_of(other, template), host) for other, host in others]
    for machines, host in led:
        lines += [
            Zone.of("«label» IN «kind» «address»", label=relative(host, top), kind=record_of(one), address=address(one))
            for one in machines
        ]  # fmt: skip
    return Zone.joined([*lines, Zone.of("")])
