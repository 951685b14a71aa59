"""The rule about what applications need to run."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import say
from kettlepost.core.names import Folder
from kettlepost.core.plan import Installation, fits
from kettlepost.core.rules.findings import Finding, Party, WayOut
from kettlepost.core.rules.parties import installation_party, party
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import completing
from kettlepost.core.steps import CompleteEntry

_SETS = "sets the PHP version"


@account_rule("needs-unmet", "risk", reaches=RuleReach.NONE)
def needs_unmet(layout: AccountLayout) -> Iterator[Finding]:
    """An application needs another version of PHP, or another database server, than it gets.

    Its installer refuses, or it shows errors instead of pages. The version is the one that a
    control file in its folder or above sets, else that of `php` at its domain or account. What
    applications need changes with their releases; an entry of your own says it for yours.

    Bad:

        [account]
        name = "millbrook"
        database_server = "postgresql"

        [[installation]]
        application = "wordpress"
        address = "millbrookrail.example/news"
        state = "planned"

    Good:

        [account]
        name = "millbrook"
        database_server = "mariadb"

        [[installation]]
        application = "wordpress"
        address = "millbrookrail.example/news"
        state = "planned"

    Ways out:

    - have the host run another version for that folder or domain;
    - install it on an account that has what it needs.
    """
    is_told = _is_told(layout)
    for installation in layout.account.installations:
        known = layout.application(installation)
        if known.needs is None or installation.state == "retired":
            continue
        if known.needs.php is not None and is_told:
            yield from _php(layout, installation, known.needs.php)
        server = layout.account.settings.database_server
        if known.needs.database and known.database and server not in known.needs.database:
            yield Finding(
                at=str(installation.address),
                title=say(
                    "needs-unmet/title",
                    known=known.shown,
                    address=installation.address,
                    database=known.needs.database,
                    server=server,
                ),
                why=say("needs-unmet/why"),
                parties=[installation_party(layout.account, installation)],
                ways_out=[
                    WayOut(
                        say("needs-unmet/put-account", database=known.needs.database),
                        steps=[completing(layout, installation, "address")],
                    ),
                    WayOut(
                        say("needs-unmet/account-such-server"),
                        steps=[CompleteEntry(layout.name, "account", None, ("database_server",))],
                        as_it_is=True,
                    ),
                ],
            )


def _is_told(layout: AccountLayout) -> bool:
    """Whether anybody says which version of PHP runs anywhere in the account."""
    survey, account = layout.survey, layout.account
    said = account.settings.php is not None or any(domain.php is not None for domain in account.domains)
    controls = survey.controls if survey is not None else ()
    return said or any(effect.does == _SETS for control in controls for effect in control.effects)


def _php(layout: AccountLayout, installation: Installation, wanted: str) -> Iterator[Finding]:
    folder = layout.folder_of(installation)
    version, told = _version(layout, installation, folder)
    if not version or fits(version, wanted):
        return
    known = layout.application(installation)
    where = folder.shown if folder is not None else str(installation.address.host)
    yield Finding(
        at=str(installation.address),
        title=say("php/title", known=known.shown, address=installation.address, wanted=wanted, version=version),
        why=say("php/why"),
        parties=[installation_party(layout.account, installation), *told],
        ways_out=[
            WayOut(
                say("php/host-run-version", wanted=wanted, where=where),
                steps=[CompleteEntry(layout.name, "account", None, ("php",))],
            ),
            WayOut(
                say("php/release-you-install", known=known.shown),
                steps=[CompleteEntry(layout.name, "settings", None, ("application",))],
                as_it_is=True,
            ),
        ],
    )


def _version(layout: AccountLayout, installation: Installation, folder: Folder | None) -> tuple[str, list[Party]]:
    """The version of PHP that runs in a folder, and who says so: the nearest control file, the domain, the account."""
    for above in (folder, *folder.above()) if folder is not None and layout.contents is not None else ():
        for control in layout.contents.controls(above) if layout.contents is not None else ():
            effect = next((effect for effect in control.effects if effect.does == _SETS), None)
            if effect is not None and layout.server.kind == "apache":
                at = control.folder.below(control.file).shown
                return effect.what, [Party("control file", at, found=f"{_SETS}: {effect.what} (line {effect.line})")]
    mount = layout.hosts.mount(installation.address)
    domain = mount.domain if mount is not None else None
    if domain is not None and domain.php is not None:
        return domain.php, [party(layout.account, domain, domain.kind, domain.name, "php")]
    php = layout.account.settings.php
    return php or "", []
