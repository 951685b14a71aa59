"""What name servers say: who is asked for a name, whether they agree, and what it leads to (RFC 1034, RFC 1035).

The way to a zone is gone from the top-level domain down, a delegation after the other, so that what the parent says
and what each name server says by itself are told apart from what resolvers remember.
"""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Iterable, Sequence
from contextlib import suppress
from typing import Any, NamedTuple

import dns.asyncquery
import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdatatype
import dns.resolver

from kettlepost.core.survey import NameState, ProbeTrouble, SeenName, SeenNameServer, SeenZone
from kettlepost.sources.internet.machines import Machines
from kettlepost.sources.internet.ways import NotPublic, Ways

_MOST_CHAIN = 8
_MOST_STEPS = 12
_MOST_SERVERS = 13
_MOST_RECORDS = 64
_AT_ONCE = 16
_PATIENCE = 4.0
_TRIES = 3
_BETWEEN = 0.2
_LONGEST = 500
_FAULTS = (dns.exception.DNSException, OSError, EOFError, ValueError, asyncio.TimeoutError)
_A, _AAAA = dns.rdatatype.A, dns.rdatatype.AAAA


class _NameServer(NamedTuple):
    """A name server by its name, and the addresses that it is asked at."""

    name: str
    addresses: tuple[str, ...]


class _Delegation(NamedTuple):
    """Who is asked for a name: the zone and its name servers as the parent has them; `state` where nobody is."""

    zone: str
    servers: tuple[_NameServer, ...]
    state: NameState = NameState.FOUND


class _Said(NamedTuple):
    """What one server says of a name."""

    state: NameState
    addresses: tuple[str, ...] = ()
    chain: tuple[str, ...] = ()
    ttl: int | None = None


def system_resolvers() -> list[str]:
    """The name servers that this machine looks names up with; none where it does not say."""
    with suppress(dns.resolver.NoResolverConfiguration, OSError):
        return [str(one) for one in dns.resolver.Resolver().nameservers if isinstance(one, str)]
    return []


class Lookups:
    """Asks name servers, each question once."""

    def __init__(self, ways: Ways, resolvers: Sequence[str], seconds: float = _PATIENCE):
        self._ways, self._resolvers, self._seconds = ways, list(resolvers), min(seconds, _PATIENCE)
        self._machines = Machines(_AT_ONCE, 0)
        self._delegated: dict[str, asyncio.Task[_Delegation]] = {}
        self._zones: dict[str, _Delegation] = {}
        self._tops: dict[str, asyncio.Task[tuple[_NameServer, ...]]] = {}
        self._resolved: dict[str, asyncio.Task[tuple[str, ...]]] = {}
        self.answered = False
        """Whether anybody has answered anything yet."""

    async def name(self, host: str) -> SeenName:
        """What a host name leads to. The caller says when."""
        delegation = await self._delegation(host)
        cached = await self._recursive(host)
        if delegation.state is not NameState.FOUND:
            return await self._by_resolvers(host, delegation, cached)
        said = await asyncio.gather(*(self._of_server(server, host) for server in delegation.servers))
        answered = [(server, one) for server, one in zip(delegation.servers, said, strict=True) if one is not None]
        known = [(server, one) for server, one in answered if one.state is not NameState.UNKNOWN]
        if not known:
            state = NameState.UNKNOWN if answered else NameState.NO_SERVER
            return await self._by_resolvers(host, delegation._replace(state=state), cached)
        main = await self._newest(known, delegation.zone)
        apart = [
            f"{server.name}: {' '.join(one.addresses)}" for server, one in known if one.addresses != main.addresses
        ]
        addresses, chain = main.addresses, main.chain
        if chain and not addresses:
            addresses = await self.addresses(chain[-1])
        older = cached.addresses if cached is not None and set(cached.addresses) != set(addresses) else ()
        state = NameState.FOUND if addresses else NameState.NO_ADDRESS if chain else main.state
        return SeenName(host, "", state, delegation.zone, addresses, chain, main.ttl, older, tuple(sorted(apart)))

    async def _by_resolvers(self, host: str, delegation: _Delegation, cached: _Said | None) -> SeenName:
        """What a name leads to where its name servers do not tell.

        What resolvers say counts where those cannot be asked from here, as in many networks nobody else may ask; where
        one of them says that it has not got the zone, that is so, whatever resolvers remember.
        """
        zone, state = delegation.zone, delegation.state
        found = cached is not None and cached.state is NameState.FOUND
        if state is NameState.NO_SERVER and found:
            why = await asyncio.gather(*(self._why(server, zone) for server in delegation.servers))
            state = state if ProbeTrouble.LAME in why else NameState.UNKNOWN
        if state is NameState.UNKNOWN and cached is not None:
            return SeenName(host, "", cached.state, zone, cached.addresses, cached.chain, cached.ttl)
        return SeenName(host, "", state, zone, cached=cached.addresses if cached is not None else ())

    async def _newest(self, known: Sequence[tuple[_NameServer, _Said]], zone: str) -> _Said:
        """What most of some servers say, and where as many say something else, those with the newest zone."""
        numbers = Counter(one.addresses for _, one in known)
        if len(numbers) == 1:
            return known[0][1]
        states = await asyncio.gather(*(self._server_state(server, zone) for server, _ in known))
        serials = [state.serial or 0 for state in states]
        ranks = [
            (numbers[one.addresses], serial, -n)
            for n, ((_, one), serial) in enumerate(zip(known, serials, strict=True))
        ]
        return known[ranks.index(max(ranks))][1]

    async def zone(self, zone: str) -> SeenZone:
        """What a zone says of itself, and whether its name servers answer."""
        delegation = await self._delegation(zone)
        servers = await asyncio.gather(*(self._server_state(server, zone) for server in delegation.servers))
        good = next((server for server, seen in zip(delegation.servers, servers, strict=True) if seen.trouble is None),
                    None)  # fmt: skip
        if good is None:
            return SeenZone(zone, "", tuple(sorted(servers, key=lambda one: one.name)))
        kinds = ("NS", "MX", "TXT", "CAA")
        told = await asyncio.gather(*(self._authoritative(good, zone, kind) for kind in kinds))
        own, mail, texts, issuers = (_texts(one, zone, kind) for one, kind in zip(told, kinds, strict=True))
        spf = next((text for text in map(_unquoted, texts) if text.lower().startswith("v=spf1")), "")
        wild = await self._authoritative(good, f"*.{zone}", "A")
        signed, fails = await self._signed(zone)
        return SeenZone(
            zone, "", tuple(sorted(servers, key=lambda one: one.name)), tuple(sorted(map(_bare, own))),
            tuple(sorted(map(_bare, mail))), spf, tuple(sorted(issuers)),
            tuple(sorted(_texts(wild, f"*.{zone}", "A"))), signed, fails,
        )  # fmt: skip

    async def addresses(self, host: str) -> tuple[str, ...]:
        """The addresses of any name, as resolvers give them."""
        if host not in self._resolved:
            self._resolved[host] = asyncio.ensure_future(self._addresses(host))
        return await self._resolved[host]

    async def _addresses(self, host: str) -> tuple[str, ...]:
        found = await self._recursive(host)
        return found.addresses if found is not None else ()

    async def _recursive(self, host: str) -> _Said | None:
        """What resolvers say of a name; None where none answers."""
        replies = await asyncio.gather(*(self._resolve(host, kind) for kind in (_A, _AAAA)))
        return _joined(replies, host)

    async def _resolve(self, name: str, kind: Any, flags: int = 0) -> dns.message.Message | None:
        for resolver in self._resolvers[:3]:
            place = self._ways.to_resolver(resolver)
            reply = await self._ask(place, name, kind, dns.flags.RD | flags)
            if reply is not None:
                return reply
        return None

    async def _ask(self, place: tuple[str, int], name: str, kind: Any, flags: int) -> dns.message.Message | None:
        address, port = place
        try:
            query = dns.message.make_query(name, kind, use_edns=0, payload=1232)
        except _FAULTS:
            return None
        query.flags = dns.flags.Flag(flags)
        for _ in range(_TRIES):
            try:
                async with self._machines.slot(f"{address} {port}"):
                    reply, _ = await asyncio.wait_for(
                        dns.asyncquery.udp_with_fallback(
                            query, address, timeout=self._seconds, port=port, ignore_unexpected=True, ignore_errors=True
                        ),
                        self._seconds * 2,
                    )
            except dns.exception.Timeout:
                continue
            except _FAULTS:
                await asyncio.sleep(_BETWEEN)
                continue
            self.answered = True
            return reply
        return None

    async def _delegation(self, host: str) -> _Delegation:
        """Who is asked for a name. The way is gone on from the nearest zone above that is known already."""
        if host not in self._delegated:
            self._delegated[host] = asyncio.ensure_future(self._walk(host))
        return await self._delegated[host]

    async def _nearest(self, host: str) -> _Delegation:
        """The nearest zone around a name of which it is known who is asked, else its top-level domain."""
        for zone in _above(host):
            known = self._zones.get(zone)
            if known is not None:
                return known
        top = host.rpartition(".")[2]
        if top not in self._tops:
            self._tops[top] = asyncio.ensure_future(self._servers_of(top))
        return _Delegation(top, await self._tops[top])

    async def _walk(self, host: str) -> _Delegation:
        zone, servers, state = await self._nearest(host)
        top = host.rpartition(".")[2]
        if not servers:
            return _Delegation("", (), NameState.UNKNOWN)
        for _ in range(_MOST_STEPS):
            reply = await self._first_good(servers, host)
            if reply is None:
                is_top = zone == top
                state = NameState.UNKNOWN if is_top else NameState.NO_SERVER
                return _Delegation("" if is_top else zone, servers, state)
            if reply.flags & dns.flags.AA:
                if reply.rcode() == dns.rcode.NXDOMAIN and zone == top:
                    return _Delegation("", (), NameState.NO_SUCH_NAME)
                apex = await self._apex(servers, host, zone)
                self._zones[apex] = _Delegation(apex, servers)
                return self._zones[apex]
            below = _referral(reply, zone, host)
            if below is None:
                return _Delegation("" if zone == top else zone, servers, NameState.UNKNOWN)
            zone, servers = below[0], tuple([await self._with_addresses(one) for one in below[1][:_MOST_SERVERS]])
        return _Delegation(zone, servers, NameState.UNKNOWN)

    async def _servers_of(self, top: str) -> tuple[_NameServer, ...]:
        reply = await self._resolve(top, dns.rdatatype.NS)
        names = sorted(map(_bare, _texts(reply, top, "NS")))[:4]
        return tuple([await self._with_addresses(_NameServer(name, ())) for name in names])

    async def _with_addresses(self, server: _NameServer) -> _NameServer:
        addresses = server.addresses or await self.addresses(server.name)
        four = tuple(one for one in addresses if ":" not in one)
        return _NameServer(server.name, (four or addresses)[:4])

    async def _first_good(self, servers: Iterable[_NameServer], host: str) -> dns.message.Message | None:
        """The first answer that says who is asked, or what is asked for."""
        for server in servers:
            reply = await self._authoritative(server, host, "A", referrals=True)
            if reply is not None:
                return reply
        return None

    async def _authoritative(
        self, server: _NameServer, name: str, kind: str, referrals: bool = False
    ) -> dns.message.Message | None:
        """What a name server says by itself; None where it does not answer for that zone."""
        for address in server.addresses:
            try:
                place = self._ways.to(address, 53)
            except NotPublic:
                continue
            reply = await self._ask(place, name, dns.rdatatype.from_text(kind), 0)
            if reply is None or reply.rcode() not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
                continue
            if reply.flags & dns.flags.AA or (referrals and reply.authority):
                return reply
        return None

    async def _apex(self, servers: Iterable[_NameServer], host: str, zone: str) -> str:
        """The zone that answers for a name: of several on one server that one which it names."""
        for server in servers:
            reply = await self._authoritative(server, host, "SOA")
            for found in (*reply.answer, *reply.authority) if reply is not None else ():
                if found.rdtype == dns.rdatatype.SOA and _is_below(host, _bare(str(found.name))):
                    return _bare(str(found.name))
        return zone

    async def _of_server(self, server: _NameServer, host: str) -> _Said | None:
        replies = [await self._authoritative(server, host, kind) for kind in ("A", "AAAA")]
        return _joined(replies, host)

    async def _server_state(self, server: _NameServer, zone: str) -> SeenNameServer:
        if not server.addresses:
            return SeenNameServer(server.name, (), None, ProbeTrouble.NO_ADDRESS)
        reply = await self._authoritative(server, zone, "SOA")
        if reply is None:
            return SeenNameServer(server.name, server.addresses, None, await self._why(server, zone))
        serials = [int(one.serial) for found in reply.answer if found.rdtype == dns.rdatatype.SOA for one in found]
        return SeenNameServer(server.name, server.addresses, serials[0] if serials else None)

    async def _why(self, server: _NameServer, zone: str) -> ProbeTrouble:
        """Why a name server does not answer for a zone: it is silent, it may not be asked, or it has not got it."""
        for address in server.addresses:
            try:
                place = self._ways.to(address, 53)
            except NotPublic:
                return ProbeTrouble.NOT_PUBLIC
            if await self._ask(place, zone, dns.rdatatype.SOA, 0) is not None:
                return ProbeTrouble.LAME
        return ProbeTrouble.SILENT

    async def _signed(self, zone: str) -> tuple[bool | None, bool]:
        """Whether a zone is signed by its parent, and whether resolvers refuse what it says as wrongly signed."""
        reply = await self._resolve(zone, dns.rdatatype.DS)
        signed = bool(_texts(reply, zone, "DS")) if reply is not None and reply.rcode() == dns.rcode.NOERROR else None
        plain = await self._resolve(zone, dns.rdatatype.SOA)
        if plain is None or plain.rcode() != dns.rcode.SERVFAIL:
            return signed, False
        unchecked = await self._resolve(zone, dns.rdatatype.SOA, dns.flags.CD)
        return signed, unchecked is not None and unchecked.rcode() == dns.rcode.NOERROR


def _said(reply: dns.message.Message, host: str) -> _Said:
    """What a reply says of a name: its addresses, or the names that it stands for as far as the reply goes."""
    if reply.rcode() not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
        return _Said(NameState.NO_SERVER)
    here, chain, ttls = host, list[str](), list[int]()
    while len(chain) < _MOST_CHAIN:
        found = [one for one in reply.answer[:_MOST_RECORDS] if _bare(str(one.name)) == here]
        addresses = [one for one in found if one.rdtype in (_A, _AAAA)]
        if addresses:
            ttls += [int(one.ttl) for one in addresses]
            told = tuple(sorted({str(one) for several in addresses for one in list(several)[:_MOST_RECORDS]}))
            return _Said(NameState.FOUND, told, tuple(chain), min(ttls))
        onward = next((one for one in found if one.rdtype == dns.rdatatype.CNAME), None)
        if onward is None:
            break
        ttls.append(int(onward.ttl))
        here = _bare(str(onward[0].target))
        chain.append(here)
    is_gone = reply.rcode() == dns.rcode.NXDOMAIN and not chain
    state = NameState.NO_SUCH_NAME if is_gone else NameState.NO_ADDRESS
    return _Said(state, (), tuple(chain), min(ttls, default=None))


def _joined(replies: Sequence[dns.message.Message | None], host: str) -> _Said | None:
    """What is said of both kinds of addresses together; None where nobody answers.

    Where of one kind alone there is an answer, what the name leads to is not known.
    """
    said = [_said(reply, host) for reply in replies if reply is not None]
    if not said:
        return None
    if len(said) < len(replies):
        return _Said(NameState.UNKNOWN)
    addresses = tuple(sorted({one for each in said for one in each.addresses}))
    best = next((one for one in said if one.addresses), said[0])
    return best._replace(addresses=addresses, state=NameState.FOUND if addresses else best.state)


def _referral(reply: dns.message.Message, zone: str, host: str) -> tuple[str, list[_NameServer]] | None:
    """The zone further down to which a server refers, and who is asked there; None where it refers to none."""
    for found in reply.authority:
        below = _bare(str(found.name))
        deeper = below != zone and _is_below(below, zone) and _is_below(host, below)
        if found.rdtype == dns.rdatatype.NS and deeper:
            names = sorted(_bare(str(one.target)) for one in list(found)[:_MOST_RECORDS])
            glue: dict[str, list[str]] = {}
            for more in reply.additional[:_MOST_RECORDS]:
                if more.rdtype in (_A, _AAAA) and _is_below(_bare(str(more.name)), below):
                    glue.setdefault(_bare(str(more.name)), []).extend(str(one) for one in list(more)[:4])
            return below, [_NameServer(name, tuple(sorted(glue.get(name, ())))) for name in names]
    return None


def _texts(reply: dns.message.Message | None, name: str, kind: str) -> list[str]:
    """The records of a kind that a reply has for a name itself, as text."""
    wanted = dns.rdatatype.from_text(kind)
    found = [one for one in reply.answer if one.rdtype == wanted and _bare(str(one.name)) == name] if reply else []
    return [str(one)[:_LONGEST] for several in found for one in list(several)[:_MOST_RECORDS]]


def _unquoted(text: str) -> str:
    return "".join(text.split('"')[1::2]) if '"' in text else text


def _bare(name: str) -> str:
    return name.rstrip(".").lower()


def _above(host: str) -> Iterable[str]:
    while host:
        yield host
        host = host.partition(".")[2]


def _is_below(name: str, zone: str) -> bool:
    return name == zone or name.endswith(f".{zone}") or not zone
