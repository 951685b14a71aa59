"""What the registry of a top-level domain knows of a domain (RDAP: RFC 7482, RFC 9083, RFC 9224)."""

from __future__ import annotations

import asyncio
from typing import Any, NamedTuple
from urllib.parse import urlsplit

import msgspec

from kettlepost.core.names import printable
from kettlepost.sources.internet.names import Lookups
from kettlepost.sources.internet.pages import Pages

_LIST = "https://data.iana.org/rdap/dns.json"
_MOST_SERVERS = 13


class Registration(NamedTuple):
    """Until which day a domain is registered (ISO 8601), and its name servers; empty where that is not told."""

    until: str = ""
    servers: tuple[str, ...] = ()


class Registries:
    """Asks registries by RDAP where they offer it, after the list that IANA keeps of them."""

    def __init__(self, pages: Pages, lookups: Lookups):
        self._pages, self._lookups = pages, lookups
        self._services: asyncio.Task[dict[str, str]] | None = None

    async def registration(self, zone: str) -> Registration:
        """What is known of a domain; nothing where its registry does not say, or cannot be asked."""
        if self._services is None:
            self._services = asyncio.ensure_future(self._list())
        base = (await self._services).get(zone.rpartition(".")[2])
        found = await self._read(f"{base.rstrip('/')}/domain/{zone}") if base else None
        return _registration(found) if isinstance(found, dict) else Registration()

    async def _list(self) -> dict[str, str]:
        found = await self._read(_LIST)
        services: dict[str, str] = {}
        for one in found.get("services", ()) if isinstance(found, dict) else ():
            if isinstance(one, list) and len(one) == 2 and all(isinstance(part, list) for part in one):
                base = next((url for url in one[1] if isinstance(url, str) and url.startswith("https://")), None)
                services |= {str(name).lower(): base for name in one[0]} if base else {}
        return services

    async def _read(self, url: str) -> Any:
        host = urlsplit(url).hostname or ""
        addresses = await self._lookups.addresses(host)
        fetched = await self._pages.fetch(url, addresses[0]) if addresses else None
        reply = fetched.reply if fetched is not None else None
        if reply is None or reply.status != 200 or not reply.is_whole:
            return None
        try:
            return msgspec.json.decode(reply.body)
        except (msgspec.MsgspecError, ValueError, RecursionError):
            return None


def _registration(found: dict[str, Any]) -> Registration:
    """What a domain's record says, as far as it is as it should be."""
    until = ""
    events = found.get("events")
    for event in events if isinstance(events, list) else ():
        if isinstance(event, dict) and event.get("eventAction") == "expiration":
            until = str(event.get("eventDate", ""))[:10]
    servers = found.get("nameservers")
    names = [
        str(one.get("ldhName", "")).rstrip(".").lower()
        for one in (servers if isinstance(servers, list) else ())[:_MOST_SERVERS]
        if isinstance(one, dict)
    ]
    is_day = len(until) == 10 and until.replace("-", "").isdigit()
    return Registration(until if is_day else "", tuple(sorted(printable(name)[:253] for name in names if name)))
