"""Parties: how domains, installations and finds are named in findings."""

from __future__ import annotations

from kettlepost.core.layout import AccountLayout, Contents
from kettlepost.core.messages import Fact, Message, Words, joined, say
from kettlepost.core.names import Folder, printable
from kettlepost.core.plan import Account, Application, Domain, Installation, Record
from kettlepost.core.rules.findings import Party
from kettlepost.core.survey import FoundApplication, FoundPlaceholder


def party(account: Account, record: Record, what: str, name: str, key: str = "") -> Party:
    """A table of the plan as a party; `key` points to one of its keys."""
    place = account.place(record, key)
    return Party(what, name, account.identity(record), place.file, place.line)


def domain_party(account: Account, domain: Domain, key: str = "") -> Party:
    kind = f"{domain.kind} domain" if domain.kind == "primary" else domain.kind
    return party(account, domain, kind, domain.name, key)


def installation_party(account: Account, installation: Installation, key: str = "") -> Party:
    words = f"{installation.state} {installation.application}"
    return party(account, installation, words, str(installation.address), key)


def named(installation: Installation) -> dict[str, Fact]:
    """The facts by which a sentence names an installation: what it is, and where it answers."""
    return {"application": installation.application, "address": str(installation.address)}


def at_its_address(installation: Installation) -> Message:
    """An installation, for people: what it is, and where it answers."""
    return say("installation/at", **named(installation))


def application_party(layout: AccountLayout, found: FoundApplication) -> Party:
    return Party(
        f"found {application_words(layout, found)}",
        found.folder.shown,
        found=say("party/known-by", evidence=printable(found.known_by)),
    )


def application_words(layout: AccountLayout, found: FoundApplication) -> str:
    """An application that the survey found, with its version and condition."""
    return found.words(layout.title(found.application))


def placeholder_party(page: FoundPlaceholder) -> Party:
    return Party("placeholder page", printable(page.folder.below(page.file)), found=page.because)


def folder_party(folder: Folder, what: str = "folder") -> Party:
    return Party(what, folder.shown, found=say("party/seen"))


def held_names(contents: Contents, folder: Folder, files: list[str], folders: list[Folder], most: int = 4) -> Words:
    """The first few names of what lies in `folder`, for people."""
    names = [f"{inside.name}/" for inside in folders] + files
    shown = [printable(name) for name in names[:most]]
    there = contents.folders[folder]
    more = there.files - len(there.names) + len(names) - len(shown)
    return joined(", ".join(shown), say("held-names/more", more=more) if more > 0 else "")


def own_index(application: Application, order: list[str]) -> str | None:
    """The index file through which a server with this order shows the application."""
    return next((name for name in order if name in application.index_files), None)
