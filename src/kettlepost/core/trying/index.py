"""An account's records and finds, filed by all that one may have in common with another."""

from __future__ import annotations

from collections.abc import Hashable, Iterable
from functools import cached_property
from typing import TypeVar

from kettlepost.core.layout import AccountLayout
from kettlepost.core.names import Address, Folder, HostName
from kettlepost.core.plan import Domain, Installation
from kettlepost.core.rules.paths import Spot, canonical
from kettlepost.core.rules.roots import alike

K = TypeVar("K", bound=Hashable)
V = TypeVar("V")


class AccountIndex:
    """An account's records and finds, by all that one may have in common with another."""

    def __init__(self, layout: AccountLayout):
        self.layout = layout
        self._domains = layout.account.domains
        self._installations = layout.account.installations

    @cached_property
    def named(self) -> dict[HostName, list[Domain]]:
        return _filed((domain.name, domain) for domain in self._domains)

    @cached_property
    def waited_for(self) -> set[HostName]:
        """The hosts that other domains stand for or send visitors to."""
        goes = {domain.redirect_to.host for domain in self._domains if domain.redirect_to is not None}
        return goes | {domain.of for domain in self._domains if domain.of is not None}

    @cached_property
    def at_host(self) -> dict[HostName, list[Installation]]:
        return _filed((installation.address.host, installation) for installation in self._installations)

    @cached_property
    def answered_by(self) -> dict[int, list[Installation]]:
        """Installations by the domains that answer at their hosts, by a wildcard or another name too."""
        serving = self.layout.hosts.serving
        return _filed(
            (number, installation)
            for host, installations in self.at_host.items()
            for number in dict.fromkeys(mount.domain.number for mount in serving(host))
            for installation in installations
        )

    @cached_property
    def at_place(self) -> dict[Spot, list[Installation]]:
        """Installations by the place that aliases, www and redirects make of their addresses."""
        return _filed(
            (canonical(self.layout, installation.address), installation) for installation in self._installations
        )

    @cached_property
    def reached_by(self) -> dict[str, list[Installation]]:
        """Installations by the domain of their contact."""
        return _filed(
            (installation.contact.rpartition("@")[2].lower(), installation)
            for installation in self._installations
            if installation.contact
        )

    @cached_property
    def databases(self) -> dict[str, list[Installation | Folder]]:
        """Installations, and folders of applications, by the name of their database."""
        found: list[tuple[str, Installation | Folder]] = [
            (installation.database.name.lower(), installation)
            for installation in self._installations
            if installation.database is not None
        ]
        contents = self.layout.contents
        for app in contents.survey.applications if contents is not None else ():
            if app.database is not None:
                found.append((app.database.name.lower(), app.folder))
        return _filed(found)

    @cached_property
    def elsewhere(self) -> list[tuple[Installation, Address]]:
        """Installations that name another address, as what they rehearse or are licensed to."""
        return [
            (installation, other)
            for installation in self._installations
            for other in (installation.staging_of, installation.licensed_to)
            if other
        ]

    @cached_property
    def held(self) -> set[Folder]:
        """Folders that somebody holds, or that an address leads to."""
        layout = self.layout
        applications = layout.contents.survey.applications if layout.contents is not None else ()
        return {
            *layout.roots,
            *layout.placed,
            *layout.mounts,
            *layout.tree("now").mounts,
            *(found.folder for found in applications),
        }

    @cached_property
    def ordered(self) -> list[list[Folder]]:
        """The folders of roots, of mounts and of installations, sorted."""
        layout = self.layout
        return [sorted(layout.roots), sorted(layout.mounts), sorted(layout.tree("now").mounts), sorted(layout.placed)]

    @cached_property
    def twins(self) -> dict[str, dict[Folder, Folder]]:
        """Folders by their names without letter case, each with one that is held in it or is there."""
        layout = self.layout
        found: dict[str, dict[Folder, Folder]] = {}
        for held in (*layout.roots, *layout.standing):
            for folder in (held, *held.above()):
                found.setdefault(alike(folder), {}).setdefault(folder, held)
        for seen in layout.contents.folders if layout.contents is not None else ():
            found.setdefault(alike(seen), {}).setdefault(Folder(seen), Folder(seen))
        return found


def _filed(pairs: Iterable[tuple[K, V]]) -> dict[K, list[V]]:
    filed: dict[K, list[V]] = {}
    for key, value in pairs:
        filed.setdefault(key, []).append(value)
    return filed
