"""The addresses of an account for people: those of one site told as one."""

from __future__ import annotations

from collections.abc import Sequence

from kettlepost.core.answering import AddressRow
from kettlepost.core.names import readable
from kettlepost.render.headers import show_account_head
from kettlepost.render.results import AddressMap
from kettlepost.render.screen import Screen
from kettlepost.render.sentences import text

WITH_WWW = "{} (and www)"
"""An address that is told together with the one that has www before it."""


def show_addresses(screen: Screen, shown: AddressMap) -> None:
    """Every address of some accounts, with its folder."""
    for n, (name, rows) in enumerate(shown.accounts.items()):
        if n:
            screen.blank()
        show_account_head(screen, shown.account_of(name))
        cells = _joined(rows)
        alike = {now for *_, now in cells}
        if len(alike) == 1 and len(cells) > 1:
            screen.columns(("address", "folder", "in the plan"), [row[:3] for row in cells], indent=2, wraps=True)
            screen.line((f"there now, in all: {alike.pop()}", "dim"), indent=2)
        else:
            screen.columns(("address", "folder", "in the plan", "there now"), cells, indent=2, wraps=True)


def in_pairs(addresses: Sequence[str]) -> list[str]:
    """Addresses, where one with www is told with the one without."""
    there = dict.fromkeys(map(readable, addresses))
    return [
        WITH_WWW.format(address) if f"www.{address}" in there else address
        for address in there
        if not address.startswith("www.") or address[4:] not in there
    ]


def _joined(rows: Sequence[AddressRow]) -> list[tuple[str, str, str, str]]:
    """One row for each address and what it is there for; the forms with and without www of one site together."""
    sent = {row.address: row.goes for row in rows if row.goes is not None and _differ_by_www(row.address, row.goes)}
    declared: dict[tuple[str, str | None, str], list[str]] = {}
    for row in rows:
        if row.address not in sent or row.goes is None:
            key = readable(sent.get(row.address, row.address)), row.folder, text(row.now)
            declared.setdefault(key, []).append(text(row.declared))
    redirected = {readable(goes): address for address, goes in sent.items()}
    cells = []
    for (address, folder, now), known in declared.items():
        if address.startswith("www.") and (address[4:], folder, now) in declared:
            continue
        label = WITH_WWW.format(address) if (f"www.{address}", folder, now) in declared else address
        if address in redirected:
            which = "www" if redirected[address].startswith("www.") else "the bare name"
            known.append(f"{which} redirects here")
        cells.append((label, folder or "-", "; ".join(known), now))
    return cells


def _differ_by_www(one: str, other: str) -> bool:
    return one in (f"www.{other}", other.removeprefix("www.")) and one != other
