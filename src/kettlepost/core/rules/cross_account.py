"""What rules across accounts need to know: a short summary of each account, and where to look lines up."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from functools import cached_property
from typing import Any

import rtoml
from msgspec import Struct, field

from kettlepost.core.layout import OWN_NAMES, AccountLayout, bare_and_www, server_key, stands_for
from kettlepost.core.names import Address, HostName, printable
from kettlepost.core.plan import Installation, RecordId, Settings, SourceFile
from kettlepost.core.rules.bringing import sites_at
from kettlepost.core.rules.findings import Party
from kettlepost.core.rules.ways_out import free_root
from kettlepost.core.secrets import without_password
from kettlepost.core.survey import SENDING


class HostNote(Struct, array_like=True, gc=False):
    """One host of an account: the domain table it comes from, and as what.

    `also` is true for a name that is not the domain's own, `goes` is where visitors are sent,
    `uses` counts the installations at it, `folder` is the one it leads to as it is written, empty for none.
    """

    host: str
    path: str
    number: int
    name: str
    kind: str
    also: bool = False
    goes: str = ""
    uses: int = 0
    folder: str = ""


class StrayNote(Struct, array_like=True, gc=False):
    """An installation whose address leads to no folder of its account; `root` is a free folder for its host."""

    number: int
    application: str
    state: str
    host: str
    path: str
    root: str


class TablesNote(Struct, array_like=True, gc=False):
    """The tables of an installation on a database server that is named, so that other accounts may use it."""

    number: int
    what: str
    address: str
    server: str
    name: str
    prefix: str


class WwwNote(Struct, array_like=True, gc=False):
    """A domain whose form with www its account does not declare, and the line that declares the domain.

    `sent` says what sends people there all the same; `is_seen` is whether its server was seen to have the name
    without www alone. Where neither is so, nobody says whether it answers.
    """

    number: int
    host: str
    line: int
    sent: str = ""
    is_seen: bool = False

    @property
    def is_told(self) -> bool:
        """Whether something says or shows that people miss it."""
        return bool(self.sent) or self.is_seen


class TransferNote(Struct, array_like=True, gc=False):
    """A domain that comes from another account (`is_coming`), or goes to one: which table it has, and that account.

    `sites` are the paths at which something of it is installed, each with what that is and the number of its table.
    """

    number: int
    host: str
    kind: str
    other: str
    is_coming: bool
    sites: list[tuple[str, str, int]] = field(default_factory=list)


class AccountSummary(Struct, array_like=True):
    """What one account tells of itself to rules that look across accounts.

    `sent` are the hosts that send visitors on, `orphans` the tables of subdomains without a
    parent of their account, `retired` the names of domains that are to go or gone, `bare` the
    domains that nothing is said of with www, `readable` the keys of the plan's settings with a password in them,
    `transfers` the domains that come from another account or go to one; `has_machine` is whether one of these could
    be told from the machine of another account.
    """

    account: str
    file: str
    hosts: list[HostNote] = field(default_factory=list)
    strays: list[StrayNote] = field(default_factory=list)
    sent: list[str] = field(default_factory=list)
    orphans: list[int] = field(default_factory=list)
    tables: list[TablesNote] = field(default_factory=list)
    retired: list[str] = field(default_factory=list)
    bare: list[WwwNote] = field(default_factory=list)
    readable: list[str] = field(default_factory=list)
    transfers: list[TransferNote] = field(default_factory=list)
    has_machine: bool = True


Document = dict[str, Any]
"""What a parser makes of an account's file."""


class AllAccounts:
    """All accounts of a plan in summary.

    `source_of` gives the text of an account's file, in which lines are looked up, by the file's
    name below the plan folder; `documents` what such files hold where that is not what they say.
    """

    def __init__(
        self,
        summaries: Iterable[AccountSummary],
        source_of: Callable[[str], SourceFile],
        documents: Mapping[str, Callable[[], Document]] | None = None,
    ):
        self.accounts = {summary.account: summary for summary in summaries}
        self._source_of = source_of
        self._assumed = dict(documents or {})
        self._documents: dict[str, Document] = {}
        self._sources: dict[str, SourceFile] = {}

    @cached_property
    def hosts(self) -> dict[str, list[tuple[AccountSummary, HostNote]]]:
        """Who declares each host name."""
        found: dict[str, list[tuple[AccountSummary, HostNote]]] = {}
        for summary in self.accounts.values():
            for note in summary.hosts:
                found.setdefault(note.host, []).append((summary, note))
        return found

    @cached_property
    def _times(self) -> Counter[str]:
        """How often each host is declared; counting alone is a fraction of gathering who declares it."""
        return Counter([note.host for summary in self.accounts.values() for note in summary.hosts])

    @cached_property
    def _several(self) -> dict[str, None]:
        """The hosts that may have more than one declaration."""
        return {host: None for host, times in self._times.items() if times > 1}

    @cached_property
    def _wild(self) -> dict[str, None]:
        return {host: None for host in self._times if host[0] == "*"}

    @property
    def declared_twice(self) -> list[str]:
        """The hosts with more than one declaration."""
        return [host for host in self._several if len(self.hosts.get(host, ())) > 1]

    def other_end(self, summary: AccountSummary, note: TransferNote) -> TransferNote | None:
        """What the other account says of a domain that is on its way; None where it does not say the same."""
        found = self._transfers.get((note.other, note.host, not note.is_coming))
        return found if found is not None and found.other == summary.account else None

    @cached_property
    def _transfers(self) -> dict[tuple[str, str, bool], TransferNote]:
        """What each account says of domains on their way, by itself, the host, and whether that comes."""
        summaries = self.accounts.values()
        return {(one.account, note.host, note.is_coming): note for one in summaries for note in one.transfers}

    def is_leaving(self, summary: AccountSummary, number: int) -> bool:
        """Whether a domain of an account is on its way to another one, as both of them say."""
        return (summary.account, number) in self._leaving

    @cached_property
    def _leaving(self) -> set[tuple[str, int]]:
        return {
            (one.account, note.number) for one in self.accounts.values() for note in one.transfers
            if not note.is_coming and self.other_end(one, note) is not None
        }  # fmt: skip

    @property
    def wildcards(self) -> list[tuple[AccountSummary, HostNote, list[tuple[AccountSummary, HostNote]]]]:
        """Each wildcard with the declarations that it stands for as well, the other wildcards among them."""
        if not self._wild:
            return []
        below: dict[str, list[tuple[AccountSummary, HostNote]]] = {}
        for host, declared in self.hosts.items():
            above = host.removeprefix("*.").partition(".")[2]
            while above:
                if f"*.{above}" in self._wild:
                    below.setdefault(f"*.{above}", []).extend(declared)
                above = above.partition(".")[2]
        return [
            (*other_declared, below.get(host, [])) for host in self._wild for other_declared in self.hosts.get(host, ())
        ]

    def serving(self, host: HostName) -> list[tuple[AccountSummary, HostNote]]:
        """Who answers for `host`: those who declare it, else those of the longest wildcard above it."""
        found = self.hosts.get(host)
        if found is None and self._wild:
            found = next((wild for above in host.above() if (wild := self.hosts.get(f"*.{above}"))), None)
        return found or []

    def replaced(
        self, changed: Mapping[str, tuple[AccountSummary, Document]], sources: Mapping[str, SourceFile] | None = None
    ) -> AllAccounts:
        """The same with other summaries of some accounts, each with the document it comes from.

        `sources` are their texts, by account, where those are to be looked lines up in.
        """
        texts = {f"accounts/{changed[name][0].file}": source for name, source in (sources or {}).items()}

        def source_of(file: str) -> SourceFile:
            return texts[file] if file in texts else self._source_of(file)

        other = AllAccounts((), source_of, self._assumed)
        other.accounts = {
            name: changed[name][0] if name in changed else summary for name, summary in self.accounts.items()
        }
        other._documents = self._documents | {f"accounts/{new.file}": document for new, document in changed.values()}
        hosts = dict(self.hosts)
        declared: dict[str, list[tuple[AccountSummary, HostNote]]] = {}
        for new, _ in changed.values():
            for note in new.hosts:
                declared.setdefault(note.host, []).append((new, note))
        touched = {note.host for name in changed for note in self.accounts[name].hosts} | declared.keys()
        order = {name: number for number, name in enumerate(self.accounts)}
        for host in sorted(touched):
            kept = [
                other_declared for other_declared in hosts.pop(host, ()) if other_declared[0].account not in changed
            ] + declared.get(host, [])
            if kept:
                hosts[host] = sorted(kept, key=lambda other_declared: order[other_declared[0].account])
        # what is worked out of all hosts is taken over, as going through them all again would take its time
        other.__dict__["hosts"] = hosts
        other.__dict__["_several"] = self._several | dict.fromkeys(sorted(touched))
        other.__dict__["_wild"] = self._wild | dict.fromkeys(host for host in sorted(touched) if host[0] == "*")
        return other

    def _source(self, file: str) -> SourceFile:
        """The text of a file, which is read once, as its lines are told apart but once then."""
        if file not in self._sources:
            self._sources[file] = self._source_of(file)
        return self._sources[file]

    def party(self, summary: AccountSummary, table: str, number: int, what: str, name: str, key: str = "") -> Party:
        """A table of an account's file as a party to a finding."""
        file = f"accounts/{summary.file}"
        line = self._source(file).line((table, number, key) if key else (table, number))
        return Party(what, name, RecordId(summary.account, table, number), file, line)

    def tables(self, summary: AccountSummary, table: str) -> list[dict[str, Any]]:
        """The tables of one kind in an account's file, as they are written."""
        file = f"accounts/{summary.file}"
        if file not in self._documents:
            assumed = self._assumed.get(file)
            self._documents[file] = rtoml.loads(self._source(file).text) if assumed is None else assumed()
        return self._documents[file].get(table, [])  # type: ignore[no-any-return]

    def spare_root(self, summary: AccountSummary, note: HostNote) -> str:
        """A folder that no domain of the account leads to and that lies in none, by what the plan says."""
        roots = {host_note.folder for host_note in summary.hosts if host_note.folder}
        for name in (note.host.partition(".")[0], note.host):
            if not any(root == name or root.startswith(name + "/") for root in roots):
                return name
        return f"{note.host}-root"

    def host_party(self, summary: AccountSummary, note: HostNote) -> Party:
        kind = f"{note.kind} domain" if note.kind == "primary" else note.kind
        what = f"another name of {note.name}" if note.also else kind
        return self.party(summary, "domain", note.number, what, note.host, "also" if note.also else "")


def readable_settings(settings: Settings) -> Iterator[str]:
    """The keys of the settings whose addresses have a password in them."""
    copies = settings.copies.at if settings.copies is not None else ""
    for key, address in (("records_in", settings.records_in or ""), ("copies", copies)):
        if without_password(address) != address:
            yield key


def _host_notes(layout: AccountLayout) -> Iterator[HostNote]:
    """What is noted of each host of an account."""
    uses = Counter(entry.address[0] for entry in layout.account.installations if entry.state != "retired")
    for host, mounts in layout.hosts.items():
        for mount in mounts:
            if mount.alias is None:
                domain = mount.domain
                yield HostNote(
                    host, mount.address[1], domain.number, domain.name, domain.kind, host != domain.name,
                    "" if mount.goes is None else str(mount.goes), uses[host], printable(mount.way or ""),
                )  # fmt: skip


def summarise(layout: AccountLayout) -> AccountSummary:
    """What an account tells of itself."""
    account = layout.account
    summary = AccountSummary(account.name, account.source.name.removeprefix("accounts/"))
    summary.hosts += _host_notes(layout)
    summary.sent += [note.host for note in summary.hosts if note.goes]
    named = account.named
    summary.readable += readable_settings(layout.plan.settings)
    summary.retired += [domain.name for domain in account.domains if domain.state == "retired"]
    for domain in account.domains:
        if (
            domain.kind == "subdomain"
            and domain.state != "retired"
            and not any(above in named for above in domain.name.above())
        ):
            summary.orphans.append(domain.number)
    for installation in _strays(layout):
        host, path = installation.address
        summary.strays.append(
            StrayNote(
                installation.number, installation.application, installation.state, host, path,
                free_root(layout, host),
            )
        )  # fmt: skip
    for installation in account.installations:
        base = installation.database
        if base is not None and server_key(base.server) and installation.state != "retired":
            n, what = installation.number, f"{installation.state} {installation.application}"
            summary.tables.append(
                TablesNote(n, what, str(installation.address), server_key(base.server), base.name, base.prefix)
            )
    summary.bare += _bare(layout)
    summary.transfers += _transfers(layout)
    summary.has_machine = not summary.transfers or bool(account.settings.ip_addresses)
    return summary


def _transfers(layout: AccountLayout) -> Iterator[TransferNote]:
    """The domains that come from another account, or go to one."""
    for domain in layout.account.domains:
        other = domain.account_now or domain.account_next
        if other is not None:
            sites = [(one.address.path, one.application, one.number) for one in sites_at(layout, domain)]
            is_coming = domain.account_now is not None
            yield TransferNote(domain.number, domain.name, domain.kind, other, is_coming, sites)


def _bare(layout: AccountLayout) -> Iterator[WwwNote]:
    """The domains of its own name whose form with www leads nowhere in an account."""
    sending: dict[str, str] | None = None
    for domain in layout.account.domains if layout.plan.settings.www != "apart" else ():
        if domain.www is not None or domain.kind not in OWN_NAMES or domain.state == "retired" or domain.path:
            continue
        with_www = bare_and_www(domain.name)[1]
        if domain.name == with_www or domain.name[0] == "*" or layout.hosts.serving(with_www):
            continue
        if sending is None:
            sending = dict(reversed(list(_sending(layout))))  # a redirect of the plan before what was found
        line = layout.account.source.line(("domain", domain.number))
        server = layout.server_hosts
        is_seen = server is not None and server.configuration.is_whole and server.has(domain.name)
        if server is None or not server.has(with_www):
            yield WwwNote(domain.number, domain.name, line, sending.get(with_www, ""), is_seen)


def _sending(layout: AccountLayout) -> Iterator[tuple[str, str]]:
    """The hosts to which people are sent, each with what sends them there."""
    for mounts in layout.hosts.values():
        for mount in mounts:
            if mount.goes is not None:
                yield mount.goes.host, mount.domain.name
    contents = layout.contents
    for found in contents.survey.applications if contents is not None else ():
        if found.address and found.condition != "copy":
            yield found.address.partition("/")[0], f"the configuration of {found.application} in {found.folder.shown}"
    for control in contents.survey.controls if contents is not None else ():
        for effect in control.effects:
            if effect.does in SENDING:
                yield effect.what.lower().rstrip("."), printable(control.folder.below(control.file))


def _strays(layout: AccountLayout) -> list[Installation]:
    """Installations, but for retired ones, whose address leads to no folder of the account, wherever they may lie."""
    found = list(layout.homeless)
    found += [
        installation
        for placed in layout.placed.values()
        for installation in placed
        if installation.folder is not None and layout.reach(installation.address) is None
    ]
    return [
        installation
        for installation in found
        if installation.state != "retired" and not _stands_for_nothing(layout, installation.address)
    ]


def _stands_for_nothing(layout: AccountLayout, address: Address) -> bool:
    """Whether the host is an alias of a domain that is not there, which has a finding of its own."""
    mount = layout.hosts.mount(address)
    return mount is not None and mount.goes is None and stands_for(layout.account, mount.domain) is None


def unsaid_www(whole: AllAccounts, accounts: Collection[str]) -> Iterator[str]:
    """The domains of some accounts of which nobody says whether they answer with www, and nothing was seen of it."""
    for summary in (whole.accounts[name] for name in whole.accounts if name in accounts):
        for bare in summary.bare:
            if not bare.is_told and not whole.serving(HostName(f"www.{bare.host}")):
                yield bare.host
