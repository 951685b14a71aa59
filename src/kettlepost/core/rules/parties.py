"""How rules speak of domains, installations and finds."""

from __future__ import annotations

from kettlepost.core.layout import AccountLayout, Contents
from kettlepost.core.names import Folder, printable
from kettlepost.core.plan import Account, Application, Domain, Installation
from kettlepost.core.rules.finding import Party
from kettlepost.core.survey import FoundApplication, FoundPlaceholder


def domain_party(account: Account, domain: Domain) -> Party:
    return Party(
        f"{domain.kind} domain" if domain.kind == "primary" else domain.kind, domain.name, account.place(domain)
    )


def installation_party(account: Account, installation: Installation) -> Party:
    words = f"{installation.state} {installation.application}"
    return Party(words, str(installation.address), account.place(installation))


def application_party(here: AccountLayout, found: FoundApplication) -> Party:
    version = f" {printable(found.version)}" if found.version else ""
    states = {"copy": " (put aside as a copy)", "incomplete": " (half-finished)", "not set up": " (never set up)"}
    version += states.get(found.condition, "")
    return Party(
        f"found {here.title(found.application)}{version}",
        found.folder.shown,
        found=f"known by {printable(found.evidence[0])}",
    )


def placeholder_party(page: FoundPlaceholder) -> Party:
    return Party("placeholder page", printable(page.folder.below(page.file)), found=page.because)


def held_names(contents: Contents, folder: Folder, files: list[str], folders: list[Folder], most: int = 4) -> str:
    """The first few names of what lies in `folder`, for people."""
    names = [f"{inside.name}/" for inside in folders] + files
    shown = [printable(name) for name in names[:most]]
    there = contents.folders[folder]
    more = there.files - len(there.names) + len(names) - len(shown)
    return ", ".join(shown) + (f" and {more:,} more" if more > 0 else "")


def own_index(application: Application, order: list[str]) -> str | None:
    """The index file through which a server with this order shows the application."""
    return next((name for name in order if name in application.index_files), None)
