"""A change of one account that is tried: what its file says then, and what is done in its folders."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from typing import Any, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from kettlepost.core.layout import AccountLayout, addon_host, bare_and_www, stands_for
from kettlepost.core.names import Folder, HostName
from kettlepost.core.plan import Account, Change, Domain, Installation, RecordId, changed_account
from kettlepost.core.rules.ways_out import setting
from kettlepost.core.steps import BesideFiles, ChangeRoot, OnDatabases, ProbeAgain, RemoveHost, Step
from kettlepost.core.survey import ExternalFacts, ObservedHost

R = TypeVar("R", bound=Struct)

_FOLDERS = ("folder", "to", "root", "old")
"""The fields of steps that name a folder in which something changes."""


class Addition(Struct):
    """Tables that are to come into an account's file."""

    account: str
    domains: list[Domain] = field(default_factory=list)
    installations: list[Installation] = field(default_factory=list)


class Touched(Struct, frozen=True):
    """What a change names: records as they were and as they are to be, and folders in which work is done.

    `is_all` says that it may touch anything, as something else than a domain or an installation changes.
    """

    domains: Sequence[Domain]
    installations: Sequence[Installation]
    worked_in: Sequence[Folder]
    is_all: bool = False

    def folders(self, layout: AccountLayout) -> Iterator[Folder]:
        """The folders that it names: as they are written, where links lead, and where addresses do."""
        named = [root for domain in self.domains for root in (domain.root, domain.root_now)]
        named += [installation.folder for installation in self.installations]
        named += self.worked_in
        for folder in named:
            if folder is not None:
                yield from (folder, layout.real(folder))
        for installation in self.installations:
            reached = layout.reach(installation.address)
            if reached is not None:
                yield reached


class TriedChange(Struct, frozen=True):
    """What would be: the account as its file would be then, once `steps` are done in its folders and at its host.

    `on_databases` are those that are done to its databases, `at_host` those that let its names lead elsewhere, or go.

    Its records stand where they stood, and what is new behind them; `has_dropped` says that some are gone.
    `about` are records of the findings for which it is tried, which are looked at whether it touches them or not;
    `document` is what a parser makes of the file then, where it is known. Of hosts that are `asked_again` nothing is
    known any more of what they showed.
    """

    account: Account
    steps: Sequence[Step] = ()
    on_databases: Sequence[OnDatabases] = ()
    at_host: Sequence[ChangeRoot | RemoveHost] = ()
    has_dropped: bool = False
    about: Collection[RecordId] = ()
    document: dict[str, Any] = field(default_factory=dict)
    asked_again: Sequence[HostName] = ()

    def touched(self, before: Account) -> Touched:
        """What it names of an account, by comparing the two."""
        after = self.account
        folders = (getattr(step, name, None) for step in self.steps for name in _FOLDERS)
        others = ("settings", "path_aliases", "path_rules", "moved", "certificates")
        return Touched(
            _different(before.domains, after.domains),
            _different(before.installations, after.installations),
            [folder for folder in folders if isinstance(folder, Folder)],
            self.has_dropped or any(getattr(before, name) != getattr(after, name) for name in others),
        )


def _different(before: Sequence[R], after: Sequence[R]) -> list[R]:
    """The records that differ, each as it was and as it is then, and those that are new."""
    changed = [(was, now) for was, now in zip(before, after, strict=False) if was is not now and was != now]
    return [*(one for pair in changed for one in pair), *after[len(before) :]]


def hosts_of(account: Account, domain: Domain) -> Iterator[HostName]:
    """The host names that a domain of an account declares."""
    yield domain.name
    yield from domain.also
    if domain.www not in (None, "apart"):
        yield from bare_and_www(domain.name)
    if domain.kind == "addon" and (extra := addon_host(account, domain)) is not None:
        yield extra


def new_hosts(account: Account, addition: Addition) -> Iterator[HostName]:
    """The host names that an addition brings."""
    for domain in addition.domains:
        yield from hosts_of(account, domain)


def carried_out(
    layout: AccountLayout, changes: Sequence[Change], steps: Sequence[Step], about: Collection[RecordId] = ()
) -> TriedChange | None:
    """An account once its `steps` are done and `changes` written; None where that would be no plan any more."""
    work = [step for step in steps if step.account == layout.name]
    changed = changed_account(layout.account, [*changes, *_led_elsewhere(layout, work)])
    if changed is None:
        return None
    in_files = [step for step in work if not isinstance(step, BesideFiles)]
    on_databases = [step for step in work if isinstance(step, OnDatabases)]
    at_host = [step for step in work if isinstance(step, ChangeRoot | RemoveHost)]
    has_dropped = any(change.drop for change in changes)
    again = [step.host for step in work if isinstance(step, ProbeAgain)]
    return TriedChange(changed[0], in_files, on_databases, at_host, has_dropped, about, changed[1], again)


def outside_after(layout: AccountLayout, steps: Sequence[ChangeRoot | RemoveHost]) -> ExternalFacts | None:
    """What would be seen of an account's servers once the host has done `steps`; None where nothing changes."""
    if not steps or layout.outside is None:
        return None
    leads = {step.host: step.root if isinstance(step, ChangeRoot) else None for step in steps}

    def then(seen: ObservedHost) -> ObservedHost | None:
        mount = next(iter(layout.hosts.get(HostName(seen.host), ())), None)
        domain = stands_for(layout.account, mount.domain) if mount is not None else None
        host = domain.name if domain is not None else HostName(seen.host)
        root = leads.get(host)
        return None if host in leads and root is None else seen if root is None else seen._replace(root=str(root))

    hosts = [one for seen in layout.outside.hosts if (one := then(seen)) is not None]
    return replace(layout.outside, hosts=hosts)


def _led_elsewhere(layout: AccountLayout, steps: Sequence[Step]) -> Iterator[Change]:
    """What the plan says once the host has other folders for its names: no more where they led before."""
    for step in steps:
        domain = layout.account.named.get(step.host) if isinstance(step, ChangeRoot) else None
        if domain is not None:
            yield setting(layout, domain, root_now=None)
