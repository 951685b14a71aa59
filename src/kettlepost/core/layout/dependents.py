"""What else hangs on a domain and on the name servers that lead it here."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.layout.account import AccountLayout
from kettlepost.core.messages import Message, say
from kettlepost.core.names import Folder, HostName
from kettlepost.core.plan import Domain

CERTIFICATES = "dependent/certificates"
"""What is said of certificates that cover a domain."""
GONE_ALONG = ("dependent/subdomains", "dependent/mail-planned")
"""What is said of what goes by its name servers, wherever those are looked after."""


def dependents_of(layout: AccountLayout, domain: Domain) -> list[Message]:
    """What else hangs on a domain and its name servers: mail, subdomains, aliases, certificates, staging."""
    host, account = domain.name, layout.account
    told = []
    mail = next((place for place in _mail_folders(host) if layout.contents and layout.contents.exists(place)), None)
    if domain.mail:
        told.append(say("dependent/mail-planned"))
    elif mail is not None:
        told.append(say("dependent/mail", folder=mail.shown))
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
    if below:
        told.append(say("dependent/subdomains", names=below))
    if aliases:
        told.append(say("dependent/aliases", names=aliases))
    if sent:
        told.append(say("dependent/redirects", names=sent))
    if rehearsing:
        told.append(say("dependent/staging", names=rehearsing))
    if covered:
        told.append(say(CERTIFICATES, number=covered))
    return told


def _mail_folders(host: HostName) -> Iterator[Folder]:
    yield from (Folder("mail").below(host), Folder("Maildir").below(host), Folder("mail/domains").below(host))
