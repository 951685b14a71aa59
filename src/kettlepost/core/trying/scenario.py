"""The plan as it would be: what changes in it if tables were added."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property, partial
from typing import Any, NamedTuple

import rtoml
from msgspec import Struct
from msgspec.structs import replace

from kettlepost.core.layout import AccountLayout, server_key
from kettlepost.core.names import Address, HostName
from kettlepost.core.plan import Account, Plan, RecordId, SourceFile, table_of
from kettlepost.core.rules import (
    AccountFindings,
    AccountSummary,
    AllAccounts,
    Finding,
    RuleReach,
    asked_reaches,
    find_rule,
    rules,
    summarise,
)
from kettlepost.core.rules.allowances import AllowanceUse, uses_of
from kettlepost.core.rules.cross_account import HostNote
from kettlepost.core.trying.change import Addition, TriedChange, new_hosts
from kettlepost.core.trying.difference import FindingDifference, difference_of, settled_across
from kettlepost.core.trying.index import AccountIndex
from kettlepost.core.trying.part import parts_touched

_SEEN = RuleReach.HOST | RuleReach.FOLDER
"""How far is looked to tell what is at a place and in it."""


class TrialOutcome(NamedTuple):
    """An addition tried out: what it changes, and the part of the account that it touches, without it and with it."""

    difference: FindingDifference
    before: AccountLayout
    after: AccountLayout


class AccountState:
    """One account as it stands, and what is worked out of it once."""

    def __init__(self, layout: AccountLayout, known: AccountFindings):
        self.layout = layout
        self.known = known
        self.index = AccountIndex(layout)

    @cached_property
    def document(self) -> dict[str, Any]:
        """The account's file as a parser reads it."""
        return rtoml.loads(self.layout.account.source.text)

    @cached_property
    def uses(self) -> dict[str, AllowanceUse]:
        """What is used of each allowance of its package."""
        return {use.key: use for use in uses_of(self.layout)}


class Scenario:
    """All accounts of a plan, of which each is looked at in full only when it is asked of.

    `summaries` are what each account tells of itself; `known` gives what checking it by itself
    gives, `by_plan` the same as far as its plan tells, `layout_of` its layout, and `source_of` the
    text of a file of the plan.
    """

    def __init__(
        self, plan: Plan, summaries: Iterable[AccountSummary], today: datetime.date,
        known: Callable[[str], AccountFindings], by_plan: Callable[[str], AccountFindings],
        layout_of: Callable[[str], AccountLayout], source_of: Callable[[str], SourceFile],
    ):  # fmt: skip
        self.plan = plan
        self.today = today
        self.summaries = {summary.account: summary for summary in summaries}
        self._known_of = known
        self._by_plan = by_plan
        self._layout_of = layout_of
        self._source_of = source_of
        self._states: dict[str, AccountState] = {}

    def state(self, account: str) -> AccountState:
        """One account as it stands."""
        state = self._states.get(account)
        if state is None:
            state = self._states[account] = AccountState(self._layout_of(account), self._known_of(account))
        return state

    def declared(self, account: str) -> AccountLayout:
        """An account by what its plan says, if it was not looked at in full."""
        state = self._states.get(account)
        if state is not None:
            return state.layout
        layout = self._layout_of(account)
        return AccountLayout(self.plan, layout.account, None, databases=layout.databases_later)

    def layout(self, account: str) -> AccountLayout:
        return self.state(account).layout

    def owners(self, host: str) -> list[str]:
        """The accounts that declare a host name, without those that have it by a wildcard."""
        return list(dict.fromkeys(self._declared.get(host, ())))

    def former_owners(self, host: str) -> list[str]:
        """The accounts in which a domain is retired."""
        return [name for name, summary in self.summaries.items() if host in summary.retired]

    @property
    def hosts(self) -> Iterable[str]:
        return self._declared.keys()

    def part(self, addition: Addition, reach: RuleReach) -> tuple[AccountLayout, AccountLayout]:
        """What of its account an addition touches for rules that reach so far, without it and with it."""
        return self._parts(addition, [reach])[reach]

    def _parts(
        self, addition: Addition, reaches: Iterable[RuleReach]
    ) -> dict[RuleReach, tuple[AccountLayout, AccountLayout]]:
        """The same for several reaches."""
        state = self.state(addition.account)
        account = state.layout.account
        change = TriedChange(account.with_more(addition.domains, addition.installations))
        return parts_touched(state.index, change, reaches, self._crowded, self._wild_above(account, addition))

    def outcome(self, addition: Addition) -> TrialOutcome:
        """What `addition` would change, found by asking each rule only of what it reaches from there."""
        state = self.state(addition.account)
        wide = (rule.reach_across for rule in rules())
        parts = self._parts(addition, dict.fromkeys((*asked_reaches().values(), *wide, _SEEN)))
        was = self._settled(state, lambda reach: parts[reach][0], addition, is_added=False)
        now = self._settled(state, lambda reach: parts[reach][1], addition)
        difference = difference_of(was, now)
        added = tuple(_without_lines(found, state.layout.account) for found in difference.added)
        return TrialOutcome(replace(difference, added=added), *parts[_SEEN])

    def carry_out(self, addition: Addition) -> None:
        """Take `addition` for granted from here on."""
        state = self.state(addition.account)
        old = state.layout
        account = old.account.with_more(addition.domains, addition.installations)
        layout = old.changed(account, self.plan)
        if "contents" in old.__dict__:
            layout.contents = old.contents
        known = replace(state.known, summary=summarise(layout))
        self.summaries[addition.account] = known.summary
        self._states[addition.account] = fresh = AccountState(layout, known)
        fresh.document = _extended(state.document, addition)
        for host in new_hosts(account, addition):
            there = self._declared.setdefault(host, [])
            if there:
                self._crowded.add(host)
            there.append(addition.account)

    def _settled(
        self,
        state: AccountState,
        part: Callable[[RuleReach], AccountLayout],
        addition: Addition,
        is_added: bool = True,
    ) -> list[Finding]:
        """What each rule finds in the part of an account that it reaches, and in that and others."""
        reaches = asked_reaches()
        own = [found for slug, reach in reaches.items() for found in find_rule(slug).found_in(part(reach))]
        wide: list[Finding] = []
        for reach in dict.fromkeys(rule.reach_across for rule in rules() if rule.across is not None):
            summary = summarise(part(reach))
            others = sorted(self._related(state.layout.account, addition, reach))
            document = partial(_extended, state.document, addition if is_added else Addition(addition.account))
            whole = AllAccounts(
                [summary, *(self.summaries[other] for other in others)],
                lambda file: self._text(state, file),
                {f"accounts/{summary.file}": document},
            )
            wide += (found for rule in rules() if rule.reach_across == reach for found in rule.found_across(whole))
        return settled_across(state.known, own, wide, self._by_plan, self.today)

    def _text(self, state: AccountState, file: str) -> SourceFile:
        source = state.layout.account.source
        return source if source.name == file else self._source_of(file)

    def _related(self, account: Account, addition: Addition, reach: RuleReach) -> set[str]:
        """The other accounts that have to do with an addition: its hosts, or its database on a server of its own."""
        if reach == RuleReach.DATABASE:
            served = any(one.database is not None and server_key(one.database.server) for one in addition.installations)
            return {name for name, summary in self.summaries.items() if served and summary.tables} - {account.name}
        waiting = [
            *new_hosts(account, addition),
            *(installation.address.host for installation in addition.installations),
        ]
        if any(host[0] == "*" for host in waiting):
            return self.summaries.keys() - {account.name}
        related: set[str] = set()
        seen: set[str] = set()
        while waiting:
            host = waiting.pop()
            if host in seen:
                continue
            seen.add(host)
            related.update(self._declared.get(host, ()), self._strays.get(host, ()), self._children.get(host, ()))
            for source in self._sources.get(host, ()):
                waiting.append(HostName(source))
            waiting += [Address.parse(goes).host for goes in self._goes.get(host, ())]
            related.update(self._under(host))
        related.discard(account.name)
        return related

    def _wild_above(self, account: Account, addition: Addition) -> tuple[str, ...]:
        """The endings of hosts for which those wildcards stand that stand for hosts of an addition."""
        if not self._has_wildcards:
            return ()
        names = {above for host in new_hosts(account, addition) for above in host.above()}
        return tuple(f".{name}" for name in sorted(names) if f"*.{name}" in self._declared)

    @cached_property
    def _has_wildcards(self) -> bool:
        return any(host[0] == "*" for host in self._declared)

    def _under(self, host: HostName) -> Iterator[str]:
        """The accounts with a domain above `host`, and those that share a wildcard above it."""
        for above in HostName(host).above():
            yield from self._declared.get(above, ())
            wild = self._declared.get(f"*.{above}", ())
            yield from wild
            for other, names in self._declared.items() if wild else ():
                if other.endswith(f".{above}"):
                    yield from names

    @cached_property
    def _declared(self) -> dict[str, list[str]]:
        """The accounts that declare each host."""
        return self._noted(lambda summary: (note.host for note in summary.hosts))

    @cached_property
    def _crowded(self) -> set[str]:
        """The hosts that are declared more than once."""
        return {host for host, accounts in self._declared.items() if len(accounts) > 1}

    @cached_property
    def _strays(self) -> dict[str, list[str]]:
        return self._noted(lambda summary: (stray.host for stray in summary.strays))

    @cached_property
    def _children(self) -> dict[str, list[str]]:
        """The accounts with a subdomain whose parent they lack, by every host above it."""

        def above(summary: AccountSummary) -> Iterator[str]:
            names = {note.number: note.host for note in summary.hosts if not note.also}
            for number in summary.orphans:
                host = HostName(names[number]).parent if number in names else None
                while host is not None:
                    yield host
                    host = host.parent

        return self._noted(above)

    @cached_property
    def _goes(self) -> dict[str, list[str]]:
        """Where the hosts that send visitors on send them."""
        return _many((note.host, note.goes) for note in self._notes if note.goes)

    @cached_property
    def _sources(self) -> dict[str, list[str]]:
        """The hosts that send visitors to each host."""
        return _many((Address.parse(note.goes).host, note.host) for note in self._notes if note.goes)

    @property
    def _notes(self) -> Iterator[HostNote]:
        return (note for summary in self.summaries.values() for note in summary.hosts)

    def _noted(self, names: Callable[[AccountSummary], Iterable[str]]) -> dict[str, list[str]]:
        return _many((name, summary.account) for summary in self.summaries.values() for name in names(summary))


def _many(pairs: Iterable[tuple[str, str]]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for key, value in pairs:
        found.setdefault(key, []).append(value)
    return found


def _without_lines(found: Finding, account: Account) -> Finding:
    """A finding whose parties point to no line where they are still to be written."""
    counts = {"domain": len(account.domains), "installation": len(account.installations)}

    def is_new(record: RecordId | None) -> bool:
        return (
            record is not None
            and record.account == account.name
            and record.number >= counts.get(record.table, record.number + 1)
        )

    if not any(is_new(party.record) for party in found.parties):
        return found
    parties = tuple(
        replace(party, file=None, line=None, found="to be written") if is_new(party.record) else party
        for party in found.parties
    )
    return replace(found, parties=parties)


def _extended(document: dict[str, Any], addition: Addition) -> dict[str, Any]:
    """What an account's file holds with an addition."""
    more: dict[str, Sequence[Struct]] = {"domain": addition.domains, "installation": addition.installations}
    return document | {
        table: [*document.get(table, ()), *map(table_of, records)] for table, records in more.items() if records
    }
