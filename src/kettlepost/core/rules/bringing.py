"""What comes along with a domain that goes from one account to another: folders, installations, and their data."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from msgspec import Struct

from kettlepost.core.layout import AccountLayout, HoldKind, TableUser, bare_and_www, holds_in
from kettlepost.core.names import Folder
from kettlepost.core.plan import Domain, Installation


class BroughtFolder(NamedTuple):
    """A folder of the other account, where it comes to, and what of it stays, as others use it there."""

    folder: Folder
    to: Folder
    stays: tuple[Folder, ...]


class BroughtSite(NamedTuple):
    """An installation as it is to be here, as it is there, where it lies and is to lie, and which tables it has there.

    `tables` is None where it has none, or nobody knows them.
    """

    here: Installation
    there: Installation
    folder: Folder
    to: Folder
    tables: TableUser | None


class Brought(Struct, frozen=True):
    """A domain that comes from another account, with the aliases that stand for it.

    `is_same_machine` is None where nobody has said which machines both are on.
    """

    domain: Domain
    was: Domain
    other: AccountLayout
    folders: tuple[BroughtFolder, ...]
    sites: tuple[BroughtSite, ...]
    is_same_machine: bool | None
    aliases: tuple[Domain, ...]

    @property
    def names(self) -> tuple[str, ...]:
        """Every name that comes."""
        return tuple(name for domain in (self.domain, *self.aliases) for name in names_of(domain))


def brought(here: AccountLayout, domain: Domain, other: AccountLayout) -> Brought | None:
    """What comes with a domain, which is to come from the account `other`; None where that has no such domain."""
    was = other.account.named.get(domain.name)
    if was is None:
        return None
    planned = {(one.address, one.application): one for one in sites_at(here, domain)}
    sites = [
        BroughtSite(own, one, lies, to, tables_of(other, one))
        for one in sites_at(other, was)
        if (own := planned.get((one.address, one.application))) is not None
        and (lies := other.lies_now(one)) is not None and (to := here.folder_of(own)) is not None
    ]  # fmt: skip
    both = here.account.settings.ip_addresses, other.account.settings.ip_addresses
    is_same = bool({*both[0]} & {*both[1]}) if all(both) else None
    root = here.real(domain.root) if domain.claims_root and domain.root is not None else None
    folders = tuple(_folders(other, was, root, sites))
    return Brought(domain, was, other, folders, tuple(sites), is_same, tuple(aliases_with(here, domain)))


def aliases_with(layout: AccountLayout, domain: Domain) -> Iterator[Domain]:
    """The aliases that stand for a domain and go with it to another account, or come with it from one."""
    goes = domain.account_now, domain.account_next
    for one in layout.aliases_of.get(domain.name, ()):
        if (one.account_now, one.account_next) == goes:
            yield one


def comes_with(layout: AccountLayout, domain: Domain) -> Domain | None:
    """The domain with which an alias comes from another account; None where it comes by itself, or not at all."""
    of = layout.account.named.get(domain.of) if domain.kind == "alias" and domain.of is not None else None
    return of if of is not None and of.account_now is not None and of.account_now == domain.account_now else None


def sites_at(layout: AccountLayout, domain: Domain) -> list[Installation]:
    """What is installed at a domain, at whatever name and path of it."""
    return layout.installations_of.get(domain.number, [])


def tables_of(layout: AccountLayout, installation: Installation) -> TableUser | None:
    """The tables that an installation works with."""
    return layout.tables.of_installations.get(installation.number)


def old_root(layout: AccountLayout, domain: Domain) -> Folder | None:
    """The folder that a domain leads to today; None where it has none of its own."""
    root = domain.root_now or domain.root
    return layout.real(root) if domain.claims_root and root is not None else None


def _folders(
    other: AccountLayout, was: Domain, root: Folder | None, sites: list[BroughtSite]
) -> Iterator[BroughtFolder]:
    """The root with all that lies in it, and what is installed elsewhere, or comes elsewhere."""
    old = old_root(other, was)
    apart: list[tuple[Folder, Folder]] = []
    for site in sites:
        comes_along = old is not None and root is not None and (site.folder == old or site.folder.is_inside(old))
        if not comes_along or old is None or root is None or site.to != root.below(site.folder.relative_to(old)):
            apart.append((site.folder, site.to))
    own = {site.folder for site in sites}
    pairs = [*([(old, root)] if old is not None and root is not None else []), *apart]
    for folder, to in dict.fromkeys(pairs):
        elsewhere = {place for place, _ in apart if place != folder and place.is_inside(folder)}
        stays = {
            hold.place for hold in holds_in(other, folder)
            if hold.place != folder and hold.kind in _OTHERS and hold.place not in own
        }  # fmt: skip
        yield BroughtFolder(folder, to, tuple(sorted({*stays, *elsewhere})))


_OTHERS = (HoldKind.ROOT, HoldKind.ROOT_NOW, HoldKind.ALIAS, HoldKind.INSTALLATION)


def controls_around(other: AccountLayout, folders: Iterable[BroughtFolder]) -> list[Folder]:
    """The control files in folders around what comes, which hold in it and do not come along."""
    contents = other.contents
    if contents is None or not other.obeys_control_files:
        return []
    around = dict.fromkeys(above for one in folders for above in reversed([*one.folder.above()]))
    return [above.below(one.file) for above in around for one in contents.controls(above) if one.file == ".htaccess"]


def unknown_inside(other: AccountLayout, folders: list[BroughtFolder], sites: list[Installation]) -> list[Folder]:
    """The applications in some folders that nobody has written down: they would come along with the data of others."""
    known = {lies for one in sites if (lies := other.lies_now(one)) is not None}
    found = other.contents.applications if other.contents is not None else {}
    return [
        place for place in map(Folder, found)
        if place not in known
        and any(place == one.folder or place.is_inside(one.folder) for one in folders)
        and not any(place == stay or place.is_inside(stay) for one in folders for stay in one.stays)
    ]  # fmt: skip


def names_of(domain: Domain) -> list[str]:
    """Every name of a domain, its own first."""
    with_www = [name for name in bare_and_www(domain.name) if domain.www in ("both", "bare", "www")]
    return list(dict.fromkeys([domain.name, *domain.also, *with_www]))


def hosts_line(here: AccountLayout, comes: Brought) -> str:
    """The line of a hosts file by which a machine of one's own finds a domain where it is to be."""
    return f"{here.account.settings.ip_addresses[0]} {' '.join(comes.names)}"
