"""What else hangs on a domain and on the name servers that lead it here."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.names import Folder, HostName
from kettlepost.core.plan import Domain
from kettlepost.core.words import counted, listed


def dependents_of(layout: AccountLayout, domain: Domain) -> list[str]:
    """What else hangs on a domain and its name servers, in words: mail, subdomains, aliases, certificates, staging."""
    host, account = domain.name, layout.account
    told = []
    mail = next((place for place in _mail_folders(host) if layout.contents and layout.contents.exists(place)), None)
    if domain.mail:
        told.append("its mail, as the plan says")
    elif mail is not None:
        told.append(f"its mail, in {mail.shown}")
    others = [entry for entry in account.domains if entry.number != domain.number and entry.state != "retired"]
    below = [entry.name for entry in others if entry.name.endswith(f".{host}")]
    aliases = [entry.name for entry in others if entry.of == host]
    sent = [entry.name for entry in others if entry.redirect_to is not None and entry.redirect_to.host == host]
    covered = sum(any(name in (host, f"*.{host}") for name in entry.covers) for entry in account.certificates)
    rehearsing = [
        str(entry.address)
        for entry in account.installations
        if entry.staging_of is not None and entry.staging_of.host == host and entry.state != "retired"
    ]
    for names, what in (
        (below, "subdomain"),
        (aliases, "alias"),
        (sent, "redirect to it"),
        (rehearsing, "staging site"),
    ):
        if names:
            many = {"alias": "aliases", "redirect to it": "redirects to it"}.get(what)
            told.append(f"{counted(len(names), what, many)}: {listed(names, 4)}")
    if covered:
        told.append(counted(covered, "certificate"))
    return told


def _mail_folders(host: HostName) -> Iterator[Folder]:
    yield from (Folder("mail").below(host), Folder("Maildir").below(host), Folder("mail/domains").below(host))
