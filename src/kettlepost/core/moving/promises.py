"""What becomes of old addresses that are to stay good: each is asked for, and followed to where visitors end up."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from typing import NamedTuple
from urllib.parse import quote, urlsplit

from kettlepost.core.answering import Requests, SentOn
from kettlepost.core.layout import AccountLayout, PlanLayout
from kettlepost.core.names import Address, HostName, InvalidName
from kettlepost.core.plan import Account, Moved
from kettlepost.core.webserver import SAFE

_HOPS = 10
_QUERY = "from=old"
_BELOW = ("/", "/no-such-page.html", "/no/such/page")
"""What is asked for below an old address, besides itself: paths that nobody has a file for."""


class KeptHow(StrEnum):
    """What becomes of an old address."""

    KEPT = "kept"
    HOPS = "hops"
    QUERY = "query"
    LOST = "lost"
    BROKEN = "broken"
    SHUT = "shut"
    SHOWS = "shows"
    ASTRAY = "astray"
    ROUND = "round"
    NO_HOST = "no-host"
    NOWHERE = "nowhere"
    PROGRAM = "program"
    UNKNOWN = "unknown"


class AddressKept(NamedTuple):
    """How an old address is kept: the one of those asked for that is kept worst, where it leads and where it should.

    `way` are the addresses that a browser passes behind it, `status` is that of the last answer.
    """

    how: KeptHow
    asked: str
    wanted: str
    way: tuple[str, ...] = ()
    status: int | None = None


_WORST = (
    KeptHow.NO_HOST, KeptHow.ROUND, KeptHow.LOST, KeptHow.BROKEN, KeptHow.SHUT, KeptHow.SHOWS, KeptHow.ASTRAY,
    KeptHow.NOWHERE, KeptHow.PROGRAM, KeptHow.QUERY, KeptHow.HOPS, KeptHow.UNKNOWN, KeptHow.KEPT,
)  # fmt: skip


def address_kept(layout: AccountLayout, moved: Moved, requests: Requests | None = None) -> AddressKept:
    """What becomes of an old address and of what is below it, where the promise is about that; the worst counts.

    `requests` are those to ask by, where control files are to be others than are there.
    """
    ask = requests or Requests(layout)
    if layout.hosts.mount(moved.old) is None:
        return AddressKept(KeptHow.NO_HOST, str(moved.old), str(moved.to))
    found = [
        _followed(layout, ask, moved, host, path) for host in old_hosts(layout, moved) for path in old_paths(moved)
    ]
    worst = min(found, key=lambda one: _WORST.index(one.how))
    return worst if worst.how is not KeptHow.KEPT else _arrived(layout, ask, moved, worst)


def old_hosts(layout: AccountLayout, moved: Moved) -> list[HostName]:
    """The names under which an old address answers: its own, and the others of its domain that no other promise has."""
    own = layout.hosts.mount(moved.old)
    apart = {one.old.host for one in layout.account.moved} - {moved.old.host}
    found = [moved.old.host]
    if own is None or own.folder is None:
        return found
    for one in layout.mounts.get(own.folder, ()):
        host = one.address.host
        there = layout.hosts.mount(Address(host, moved.old.path))
        is_same = there is not None and there.domain is own.domain and there.folder == own.folder
        if is_same and host not in (*found, *apart) and "*" not in host:
            found.append(host)
    return found


def old_paths(moved: Moved) -> Iterator[str]:
    """The paths that are asked for to see whether an old address is kept, as they are written."""
    base = _written(moved.old.path)
    if moved.below:
        yield from ((base, *(base + rest for rest in _BELOW)) if base else _BELOW)
    elif not base or "." in moved.old.path.rpartition("/")[2]:
        yield base or "/"
    else:
        yield from (base, f"{base}/")


def _written(path: str) -> str:
    return quote(f"/{path}", safe=SAFE, errors="surrogateescape") if path else ""


def _followed(layout: AccountLayout, ask: Requests, moved: Moved, host: HostName, path: str) -> AddressKept:
    """What a browser gets that asks for an old path: where it is sent, until it is where it should be."""
    mount = layout.hosts.mount(moved.old)
    scheme = "https" if mount is not None and mount.domain.https else "http"
    rest = path.removeprefix(_written(moved.old.path)) if moved.below else ""
    to = _written(moved.to.path)
    wanted = f"{moved.to.host}{to}{rest}" if rest.strip("/") else f"{moved.to.host}{to or '/'}"
    asked = f"{scheme}://{host}{path}"
    way: list[str] = []

    def ends(how: KeptHow, status: int | None = None) -> AddressKept:
        return AddressKept(how, asked, wanted, tuple(way), status)

    address, query = Address.parse(asked), _QUERY
    for _ in range(_HOPS):
        sent = ask.sent_on(address, path, scheme, query)
        if sent.location is None or not sent.is_sure:
            return ends(_ended(sent, bool(way)), sent.status)
        onward = urlsplit(sent.location)
        scheme, path, query = onward.scheme, onward.path or "/", onward.query
        goes = f"{scheme}://{onward.netloc}{path}"
        is_round = goes in way or goes == asked
        way.append(goes)
        if is_round:
            break
        try:
            address = Address.parse(goes)
        except InvalidName:
            return ends(KeptHow.ASTRAY)
        if address == Address.parse(wanted):
            again = ask.sent_on(address, path, scheme)
            hops = len(way) + (again.is_sure and _is_same_place(again.location, address))
            return ends(_as_wanted(layout, address, scheme, query, hops))
        if layout.hosts.mount(address) is None:
            return ends(KeptHow.ASTRAY)
    return ends(KeptHow.ROUND)


def _is_same_place(location: str | None, address: Address) -> bool:
    """Whether visitors of an address are only sent to another way of writing it, such as with a slash at its end."""
    try:
        return location is not None and Address.parse(location) == address
    except InvalidName:
        return False


def _ended(sent: SentOn, was_sent: bool) -> KeptHow:
    """What becomes of a visitor who is sent no further, and is not where they should be."""
    if not sent.is_sure or not sent.status:
        return KeptHow.UNKNOWN
    if sent.program and sent.status < 400:
        return KeptHow.PROGRAM
    if was_sent:
        return KeptHow.ASTRAY
    if sent.status in (404, 410):
        return KeptHow.LOST
    return KeptHow.SHUT if sent.status in (401, 403) else KeptHow.BROKEN if sent.status >= 400 else KeptHow.SHOWS


def _as_wanted(layout: AccountLayout, address: Address, scheme: str, query: str, hops: int) -> KeptHow:
    """How well one is led to the right address: in how many hops, and with what was asked for."""
    mount = layout.hosts.mount(address)
    is_sent_again = mount is not None and (mount.goes is not None or (mount.domain.https and scheme != "https"))
    if hops > 1 or is_sent_again:
        return KeptHow.HOPS
    return KeptHow.KEPT if query == _QUERY else KeptHow.QUERY


def _arrived(layout: AccountLayout, ask: Requests, moved: Moved, kept: AddressKept) -> AddressKept:
    """The same, unless the new address itself surely shows nothing."""
    mount = layout.hosts.mount(moved.to)
    if mount is None or mount.goes is not None or layout.contents is None:
        return kept
    reply = ask.final_reply(moved.to)
    if reply is None or reply.goes is not None or not reply.reply.is_sure or reply.reply.status not in (404, 410):
        return kept
    return AddressKept(KeptHow.NOWHERE, str(moved.to), kept.wanted, kept.way, reply.reply.status)


def scheme_of(layout: AccountLayout, address: Address) -> str:
    """The scheme by which an address is to be reached: https, too, where it is none of the account's."""
    mount = layout.hosts.mount(address)
    return "https" if mount is None or mount.domain.https else "http"


def web_address(layout: AccountLayout, address: Address) -> str:
    """An address as it is opened, with its scheme and without a slash at its end."""
    return f"{scheme_of(layout, address)}://{address}".rstrip("/")


def onward_promise(account: Account, moved: Moved) -> Moved | None:
    """The promise that takes visitors on from where another one sends them; None where that is the last."""
    fits = [one for one in account.moved if one is not moved and _holds_for(one, moved.to)]
    return max(fits, key=lambda one: len(one.old.path), default=None)


def promised(layouts: PlanLayout, address: Address) -> Address | None:
    """Where an address is promised to lead, with what is behind the old one; None where nobody promised anything.

    A promise holds under every name of its domain.
    """
    for name in layouts.hosts.get(address.host, ()):
        layout = layouts.accounts[name]
        fits = [one for one in layout.account.moved if _holds_for(one, _under(layout, address, one))]
        best = max(fits, key=lambda one: len(one.old.path), default=None)
        if best is not None:
            rest = address.path.removeprefix(best.old.path).strip("/")
            return best.to.below(rest) if best.below and rest else best.to
    return None


def _under(layout: AccountLayout, address: Address, moved: Moved) -> Address:
    """An address under the name that a promise has, where it is one of the same domain."""
    own, other = layout.hosts.mount(moved.old), layout.hosts.mount(address)
    is_same = own is not None and other is not None and own.domain is other.domain
    return Address(moved.old.host, address.path) if is_same else address


def _holds_for(moved: Moved, address: Address) -> bool:
    if moved.old.host != address.host:
        return False
    path = moved.old.path
    is_below = moved.below and (not path or address.path.startswith(f"{path}/"))
    return address.path == path or (is_below and not _is_within(moved, address))


def _is_within(moved: Moved, address: Address) -> bool:
    """Whether a promise leads to below its own beginning, where what it leads to is none of it any more."""
    to = moved.to
    within = to.host == moved.old.host and (not moved.old.path or to.path.startswith(f"{moved.old.path}/"))
    return within and (address == to or address.path.startswith(f"{to.path}/"))


def circle_of(account: Account, moved: Moved) -> list[Moved]:
    """The promises through which visitors of an old address come back to it, itself first; none where they do not."""
    passed: list[Moved] = []
    here: Moved | None = moved
    while here is not None and not any(here is one for one in passed):
        passed.append(here)
        here = onward_promise(account, here)
    return passed if here is moved else []
