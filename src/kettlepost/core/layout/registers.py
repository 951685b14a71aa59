"""The registers people keep in a spreadsheet: every domain, and every installation."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.layout.answers import served_at
from kettlepost.core.layout.layout import Layout
from kettlepost.core.layout.mounts import Mount
from kettlepost.core.names import printable
from kettlepost.core.plan import Installation


class DomainRow(Struct):
    """One domain of an account: where it leads, what is there now, and where it is written.

    `leads_to` is a folder, or the address that visitors are sent on to.
    """

    domain: str
    account: str
    kind: str
    state: str
    leads_to: str
    also: str
    https: bool
    points_here: bool
    installations: int
    now: str
    written: str


class InstallRow(Struct):
    """One installation: what the plan says of it, and the version that the survey found."""

    address: str
    account: str
    folder: str
    application: str
    version: str
    state: str
    database: str
    prefix: str
    admin: str
    contact: str
    findings: int
    written: str


def domain_rows(layout: Layout, here: AccountLayout) -> Iterator[DomainRow]:
    """Every domain of an account, in the order of the plan."""
    uses: dict[int, int] = {}
    for one in here.account.installations:
        mount = here.hosts.mount(one.address)
        if mount is not None and one.state != "retired":
            uses[mount.domain.number] = uses.get(mount.domain.number, 0) + 1
    today = here.tree("now").hosts
    mounts: dict[int, Mount] = {}
    others: dict[int, list[str]] = {}
    for hosts in (here.hosts, today) if today is not here.hosts else (here.hosts,):
        for host, there in hosts.items():
            for known in there:
                number, name = known.domain.number, known.domain.name
                if known.alias is None and (known.folder is not None or number not in mounts):
                    mounts[number] = known  # as it is now, where that differs
                if host != name and host not in others.setdefault(number, []):
                    others[number].append(host)
    for domain in here.account.domains:
        mount, now, also = mounts.get(domain.number), "", ", ".join(others.get(domain.number, ()))
        if domain.state == "planned":
            now = "nothing yet"
        elif mount is not None and mount.folder is not None and here.contents is not None:
            now = served_at(layout.folder_state(here.name, "now"), mount.folder, mount, mount.way).words
        yield DomainRow(
            domain.name, here.name, domain.kind, domain.state, _leads_to(mount), also,
            domain.https, domain.points_here, uses.get(domain.number, 0), now, str(here.account.place(domain)),
        )  # fmt: skip


def install_rows(here: AccountLayout, findings: dict[int, int]) -> Iterator[InstallRow]:
    """Every installation of an account, in the order of the plan; `findings` counts them by its place there."""
    for number, one in enumerate(here.account.installations):
        folder = here.folder_of(one)
        found = here.contents.applications.get(folder) if here.contents is not None and folder is not None else None
        version = printable(found.version) if found is not None and found.application == one.application else ""
        version = version or printable(one.version or "")
        lies = folder.shown if folder is not None else ""
        base, prefix = (one.database.name, one.database.prefix) if one.database is not None else ("", "")
        yield InstallRow(
            str(one.address), here.name, lies, one.application, version, one.state, base, prefix, _admin(here, one),
            one.contact or "", findings.get(number, 0), str(here.account.place(one)),
        )  # fmt: skip


def _leads_to(mount: Mount | None) -> str:
    """The folder a domain leads to, or where it sends visitors."""
    if mount is None or (mount.folder is None and mount.goes is None):
        return "nowhere"
    return mount.folder.shown if mount.folder is not None else f"-> {mount.goes}"


def _admin(here: AccountLayout, one: Installation) -> str:
    """The address at which an installation is looked after, where the catalogue knows it."""
    path = here.application(one).admin
    return str(one.address.below(path)) if path else ""
