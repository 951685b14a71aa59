"""What rules across accounts need to know: a short summary of each account, and where to look lines up."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable
from functools import cached_property
from pathlib import Path
from typing import Any

import rtoml
from msgspec import Struct, field

from kettlepost.core.layout import AccountLayout, stands_for
from kettlepost.core.names import Address, HostName, printable
from kettlepost.core.plan import Installation, SourceFile, read_source
from kettlepost.core.rules.finding import Party
from kettlepost.core.rules.ways import free_root


class HostNote(Struct, array_like=True, gc=False):
    """One host of an account: the domain table it comes from, and as what.

    `also` is true for a name that is not the domain's own, `goes` is where visitors are sent,
    `uses` counts the installations at it, `folder` is the one it leads to, empty for none.
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


class Summary(Struct, array_like=True):
    """What one account tells of itself to rules that look across accounts.

    `sent` are the hosts that send visitors on, `orphans` the tables of subdomains without a
    parent of their account.
    """

    account: str
    file: str
    hosts: list[HostNote] = field(default_factory=list)
    strays: list[StrayNote] = field(default_factory=list)
    sent: list[str] = field(default_factory=list)
    orphans: list[int] = field(default_factory=list)
    tables: list[TablesNote] = field(default_factory=list)


class Whole:
    """All accounts of a plan in summary; `folder` is the plan folder, where lines are looked up."""

    def __init__(self, folder: Path, summaries: Iterable[Summary]):
        self.folder = folder
        self.accounts = {summary.account: summary for summary in summaries}
        self._sources: dict[str, SourceFile] = {}
        self._documents: dict[str, dict[str, Any]] = {}
        self._assumed: dict[str, Callable[[], dict[str, Any]]] = {}
        self._several: dict[str, None] = {}
        self._wild: dict[str, None] = {}

    @cached_property
    def hosts(self) -> dict[str, list[tuple[Summary, HostNote]]]:
        """Who declares each host name."""
        found: dict[str, list[tuple[Summary, HostNote]]] = {}
        for summary in self.accounts.values():
            for note in summary.hosts:
                there = found.setdefault(note.host, [])
                there.append((summary, note))
                if len(there) > 1:
                    self._several[note.host] = None
                if note.host[0] == "*":
                    self._wild[note.host] = None
        return found

    @property
    def declared_twice(self) -> list[str]:
        """The hosts with more than one declaration."""
        return [host for host in self._several if len(self.hosts.get(host, ())) > 1] if self.hosts else []

    @property
    def wildcards(self) -> list[tuple[Summary, HostNote, list[tuple[Summary, HostNote]]]]:
        """Each wildcard with the declarations that it stands for as well, the other wildcards among them."""
        if not self.hosts or not self._wild:
            return []
        below: dict[str, list[tuple[Summary, HostNote]]] = {}
        for host, declared in self.hosts.items():
            above = host.removeprefix("*.").partition(".")[2]
            while above:
                if f"*.{above}" in self._wild:
                    below.setdefault(f"*.{above}", []).extend(declared)
                above = above.partition(".")[2]
        return [(*one, below.get(host, [])) for host in self._wild for one in self.hosts.get(host, ())]

    def serving(self, host: HostName) -> list[tuple[Summary, HostNote]]:
        """Who answers for `host`: those who declare it, else those of the longest wildcard above it."""
        found = self.hosts.get(host)
        if found is None and self._wild:
            found = next((wild for above in host.above() if (wild := self.hosts.get(f"*.{above}"))), None)
        return found or []

    def replaced(self, changed: dict[str, tuple[Summary, dict[str, Any]]]) -> Whole:
        """The same with other summaries of some accounts, each with the document it comes from."""
        other = Whole(self.folder, ())
        other.accounts = {name: changed[name][0] if name in changed else one for name, one in self.accounts.items()}
        hosts = dict(self.hosts)
        declared: dict[str, list[tuple[Summary, HostNote]]] = {}
        for new, _ in changed.values():
            for note in new.hosts:
                declared.setdefault(note.host, []).append((new, note))
        touched = {note.host for name in changed for note in self.accounts[name].hosts} | declared.keys()
        order = {name: number for number, name in enumerate(self.accounts)}
        for host in touched:
            kept = [one for one in hosts.pop(host, ()) if one[0].account not in changed] + declared.get(host, [])
            if kept:
                hosts[host] = sorted(kept, key=lambda one: order[one[0].account])
        other.hosts = hosts
        other._several = self._several | dict.fromkeys(touched)
        other._wild = self._wild | dict.fromkeys(host for host in touched if host[0] == "*")
        other._sources = dict(self._sources)
        other._documents = {
            **self._documents,
            **{f"accounts/{new.file}": document for new, document in changed.values()},
        }
        return other

    def party(self, summary: Summary, table: str, number: int, what: str, name: str, key: str = "") -> Party:
        """A table of an account's file as a party to a finding."""
        file = f"accounts/{summary.file}"
        line = self._source(file).line((table, number, key) if key else (table, number))
        return Party(what, name, f"{summary.account} {table} {number}", file, line)

    def tables(self, summary: Summary, table: str) -> list[dict[str, Any]]:
        """The tables of one kind in an account's file, as they are written."""
        file = f"accounts/{summary.file}"
        if file not in self._documents:
            assumed = self._assumed.get(summary.file)
            self._documents[file] = rtoml.loads(self._source(file).text) if assumed is None else assumed()
        return self._documents[file].get(table, [])  # type: ignore[no-any-return]

    def read_from(self, source: SourceFile) -> None:
        """Look up the lines of an account's file in `source`, whatever is on the disk."""
        self._sources[source.name] = source

    def assume(self, file: str, document: Callable[[], dict[str, Any]]) -> None:
        """Let `document` give what an account's file holds, whatever is on the disk."""
        self._assumed[file] = document

    def spare_root(self, summary: Summary, note: HostNote) -> str:
        """A folder that no domain of the account leads to and that lies in none, by what the plan says."""
        roots = {one.folder for one in summary.hosts if one.folder}
        for name in (note.host.partition(".")[0], note.host):
            if not any(root == name or root.startswith(name + "/") for root in roots):
                return name
        return f"{note.host}-root"

    def _source(self, file: str) -> SourceFile:
        source = self._sources.get(file)
        if source is None:
            source = self._sources[file] = read_source(self.folder / file, file)
        return source

    def host_party(self, summary: Summary, note: HostNote) -> Party:
        kind = f"{note.kind} domain" if note.kind == "primary" else note.kind
        what = f"another name of {note.name}" if note.also else kind
        return self.party(summary, "domain", note.number, what, note.host, "also" if note.also else "")


def summarise(here: AccountLayout) -> Summary:
    """What an account tells of itself."""
    account = here.account
    uses: Counter[str] = Counter()
    for one in account.installations:
        if one.state != "retired":
            uses[one.address[0]] += 1
    numbers = account.domain_numbers
    summary = Summary(account.name, account.source.name.removeprefix("accounts/"))
    for host, mounts in here.hosts.items():
        for mount in mounts:
            if mount.alias is None:
                domain = mount.domain
                if mount.goes is not None:
                    summary.sent.append(host)
                summary.hosts.append(
                    HostNote(
                        host, mount.address[1], numbers[id(domain)], domain.name, domain.kind, host != domain.name,
                        "" if mount.goes is None else str(mount.goes), uses[host], printable(mount.folder or ""),
                    )
                )  # fmt: skip
    named = account.named
    for domain in account.domains:
        if domain.kind == "subdomain" and not any(above in named for above in domain.name.above()):
            summary.orphans.append(numbers[id(domain)])
    for installation in _strays(here):
        host, path = installation.address
        summary.strays.append(
            StrayNote(
                account.number(installation), installation.application, installation.state, host, path,
                free_root(here, host),
            )
        )  # fmt: skip
    for installation in account.installations:
        base = installation.database
        if base is not None and base.server and installation.state != "retired":
            n, what = account.number(installation), f"{installation.state} {installation.application}"
            summary.tables.append(
                TablesNote(n, what, str(installation.address), base.server.lower(), base.name, base.prefix)
            )
    return summary


def _strays(here: AccountLayout) -> list[Installation]:
    """Installations whose address leads to no folder of the account, wherever their files may lie."""
    found = list(here.homeless)
    found += [
        one
        for placed in here.placed.values()
        for one in placed
        if one.folder is not None and here.reach(one.address) is None
    ]
    return [one for one in found if not _stands_for_nothing(here, one.address)]


def _stands_for_nothing(here: AccountLayout, address: Address) -> bool:
    """Whether the host is an alias of a domain that is not there, which has a finding of its own."""
    mount = here.hosts.mount(address)
    return mount is not None and mount.goes is None and stands_for(here.account, mount.domain) is None
