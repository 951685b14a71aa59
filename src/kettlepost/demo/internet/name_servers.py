"""Name servers of the demo's small internet, each on a loopback port of its own (RFC 1034 section 4.3.2)."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from typing import Any

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdataclass
import dns.rdatatype
import dns.rrset
import dns.zone

_MOST_CHAIN = 8
_MOST_DEPTH = 4


class NameServer:
    """What one name server holds: zones, each as the lines of its file. One that holds none of them is lame."""

    def __init__(self, zones: Mapping[str, str]):
        self._zones = [
            dns.zone.from_text(text, origin=f"{name}.", relativize=False, check_origin=False)
            for name, text in zones.items()
        ]

    def reply(self, query: dns.message.Message) -> dns.message.Message:
        """What it answers by itself: with authority, by a referral, or that it has not got it."""
        reply = dns.message.make_response(query)
        question = query.question[0]
        zone = max((one for one in self._zones if question.name.is_subdomain(one.origin or dns.name.root)),
                   key=lambda one: len(one.origin or ()), default=None)  # fmt: skip
        if zone is None:
            reply.set_rcode(dns.rcode.REFUSED)
            return reply
        cut = _cut(zone, question.name)
        if cut is not None and not (cut == question.name and question.rdtype == dns.rdatatype.DS):
            reply.authority.append(_rrset(zone, cut, dns.rdatatype.NS))
            for target in reply.authority[0]:
                reply.additional += _found(zone, target.target, dns.rdatatype.A)
            return reply
        reply.flags |= dns.flags.AA
        here = question.name
        for _ in range(_MOST_CHAIN):
            node = _node(zone, here)
            onward = _found(zone, here, dns.rdatatype.CNAME) if question.rdtype != dns.rdatatype.CNAME else []
            if onward:
                reply.answer += onward
                here = onward[0][0].target
                if here.is_subdomain(zone.origin or dns.name.root):
                    continue
                return reply
            reply.answer += _found(zone, here, question.rdtype)
            if not reply.answer:
                if node is None:
                    reply.set_rcode(dns.rcode.NXDOMAIN)
                reply.authority += _found(zone, zone.origin or dns.name.root, dns.rdatatype.SOA)
            return reply
        return reply


class Resolver:
    """Asks name servers by turns from the top on, as a resolver does; `remembers` are old answers that it still has."""

    def __init__(self, top: str, servers: Mapping[str, NameServer], remembers: Mapping[str, Sequence[str]]):
        self._top, self._servers, self._remembers = top, servers, remembers

    def reply(self, query: dns.message.Message) -> dns.message.Message:
        """What is found, or that none of those who are asked answers."""
        reply = dns.message.make_response(query)
        reply.flags |= dns.flags.RA
        question = query.question[0]
        here = question.name
        for _ in range(_MOST_CHAIN):
            old = self._remembers.get(here.to_text(omit_final_dot=True))
            if old is not None and question.rdtype == dns.rdatatype.A:
                reply.answer.append(dns.rrset.from_text(here, 1800, "IN", "A", *old))
                return reply
            found = self._ask(dns.message.make_query(here, question.rdtype))
            if found is None:
                reply.set_rcode(dns.rcode.SERVFAIL)
                return reply
            reply.answer += found.answer
            reply.authority = found.authority
            reply.set_rcode(found.rcode())
            last = found.answer[-1] if found.answer else None
            if last is None or last.rdtype != dns.rdatatype.CNAME or question.rdtype == dns.rdatatype.CNAME:
                return reply
            here = last[0].target
        return reply

    def _ask(self, query: dns.message.Message, depth: int = 0) -> dns.message.Message | None:
        ask = [self._top] if depth < _MOST_DEPTH else []
        for _ in range(_MOST_CHAIN):
            for address in ask:
                server = self._servers.get(address)
                found = server.reply(query) if server is not None else None
                if found is not None and found.rcode() != dns.rcode.REFUSED:
                    break
            else:
                return None
            if found.flags & dns.flags.AA:
                return found
            names = [one.target for one in found.authority[0]] if found.authority else []
            glue = [str(one) for several in found.additional for one in several]
            ask = glue or [str(one) for name in names for one in self._addresses(name, depth + 1)]
        return None

    def _addresses(self, name: dns.name.Name, depth: int) -> list[Any]:
        found = self._ask(dns.message.make_query(name, dns.rdatatype.A), depth)
        return [one for several in (found.answer if found is not None else ()) for one in several]


def _cut(zone: dns.zone.Zone, name: dns.name.Name) -> dns.name.Name | None:
    """Where a name is handed on to other name servers, below the top of a zone."""
    origin = zone.origin or dns.name.root
    labels = len(name) - len(origin)
    for depth in range(1, labels + 1):
        here = name.split(len(origin) + depth)[1]
        if _found(zone, here, dns.rdatatype.NS):
            return here
    return None


def _node(zone: dns.zone.Zone, name: dns.name.Name) -> Any:
    """What a zone has at a name: itself, else what a wildcard has; something below it makes it be there as well."""
    node = zone.get_node(name)
    if node is not None:
        return node
    if any(one.is_subdomain(name) for one in zone.nodes):
        return {}
    return zone.get_node(dns.name.Name((b"*", *name.parent().labels))) if name != zone.origin else None


def _found(zone: dns.zone.Zone, name: dns.name.Name, kind: dns.rdatatype.RdataType) -> list[dns.rrset.RRset]:
    node = _node(zone, name) if name.is_subdomain(zone.origin or dns.name.root) else None
    data = node.get_rdataset(dns.rdataclass.IN, kind) if node else None
    return [dns.rrset.from_rdata_list(name, data.ttl, list(data))] if data else []


def _rrset(zone: dns.zone.Zone, name: dns.name.Name, kind: dns.rdatatype.RdataType) -> dns.rrset.RRset:
    return _found(zone, name, kind)[0]


class _Datagrams(asyncio.DatagramProtocol):
    def __init__(self, server: NameServer | Resolver):
        self._server = server

    def connection_made(self, transport: Any) -> None:
        self._transport = transport

    def datagram_received(self, data: bytes, addr: Any) -> None:
        raw = answer_raw(self._server, data, 1232)
        if raw is not None:
            self._transport.sendto(raw, addr)


def answer_raw(server: NameServer | Resolver, data: bytes, most: int) -> bytes | None:
    """What a server sends back; nothing for what is no question."""
    try:
        query = dns.message.from_wire(data)
        reply = server.reply(query)
        try:
            return reply.to_wire(max_size=most)
        except dns.exception.TooBig:
            short = dns.message.make_response(query)
            short.flags |= dns.flags.TC
            return short.to_wire()
    except (dns.exception.DNSException, IndexError):
        return None


async def serve_names(server: NameServer | Resolver) -> tuple[int, list[Any]]:
    """Serve on a loopback port, by UDP and TCP; the port, and what is to be closed in the end."""
    loop = asyncio.get_running_loop()

    async def stream(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            size = int.from_bytes(await reader.readexactly(2), "big")
            raw = answer_raw(server, await reader.readexactly(size), 65535)
            if raw is not None:
                writer.write(len(raw).to_bytes(2, "big") + raw)
                await writer.drain()
        except (asyncio.IncompleteReadError, OSError):
            pass
        finally:
            writer.close()

    for _ in range(20):
        streams = await asyncio.start_server(stream, "127.0.0.1", 0)
        port: int = streams.sockets[0].getsockname()[1]
        try:
            datagrams, _ = await loop.create_datagram_endpoint(
                lambda: _Datagrams(server), local_addr=("127.0.0.1", port)
            )
        except OSError:
            streams.close()  # the same port is taken by somebody who is asked by datagrams
            continue
        return port, [streams, datagrams]
    raise OSError("no port is free")
