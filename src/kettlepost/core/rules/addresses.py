"""Rules about host names across the accounts of a plan."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from kettlepost.core.names import Address, HostName, nearest
from kettlepost.core.plan import Change, RecordId
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.cross_account import AccountSummary, AllAccounts, HostNote, StrayNote, WwwNote
from kettlepost.core.rules.findings import Finding, Party, WayOut
from kettlepost.core.rules.registry import RuleReach, plan_rule
from kettlepost.core.steps import CompleteEntry, Decide, MakeRecord, Question
from kettlepost.core.words import counted, listed

Declared = tuple[AccountSummary, HostNote]


@plan_rule("stray-host", "stop", reaches=RuleReach.HOST)
def stray_host(whole: AllAccounts) -> Iterator[Finding]:
    """An installation's host is no domain of its account.

    Nothing leads from the address to a folder: the domain was never added, belongs to another
    account, is retired, or is misspelt. An installer then offers the main site's folder or fails
    half-way. Retired installations do not count.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "milbrookrail.example/shop"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

    Ways out:

    - correct the host name to the nearest one of the account;
    - declare the domain, with a root that is free;
    - move the entry to the account that has the domain;
    - where the domain is retired, retire what is installed there too;
    - where the domain only redirects, use the address it redirects to.
    """
    for summary in whole.accounts.values():
        for stray in summary.strays:
            yield _stray(whole, summary, stray)


@plan_rule("domain-twice", "stop", reaches=RuleReach.HOST)
def domain_twice(whole: AllAccounts) -> Iterator[Finding]:
    """One host name is declared twice, in one account or in two.

    A host name leads to one place. Which declaration wins depends on the server, so half the
    plan describes something that does not exist. Case, a trailing dot and the two spellings
    of an international name make no difference. A temporary address shared by several
    accounts is told apart by its path.

    Bad:

        [[domain]]
        name = "lanternchoir.example"
        kind = "primary"
        root = "www"

        [[domain]]
        name = "LanternChoir.example."
        kind = "addon"
        root = "choir"

    Good:

        [[domain]]
        name = "lanternchoir.example"
        kind = "primary"
        root = "www"

    Ways out:

    - keep the declaration that is true, usually the one with installations, and remove the rest.
    """
    for host in whole.declared_twice:
        alike: dict[str, list[Declared]] = defaultdict(list)
        for declared in whole.hosts[host]:
            alike[declared[1].path].append(declared)
        for path, there in alike.items():
            # what one table says twice in the same way is no contradiction
            twice = list({(one.account, note.number, note.goes): (one, note) for one, note in there}.values())
            if len(twice) > 1:
                yield _twice(whole, Address(HostName(host), path), twice)


@plan_rule("orphan-subdomain", "risk", reaches=RuleReach.HOST)
def orphan_subdomain(whole: AllAccounts) -> Iterator[Finding]:
    """A subdomain's parent is no domain of its account.

    Its name is decided by whoever has the parent: when that lapses or moves, the subdomain goes
    with it, and a certificate or a name server entry for it has to be asked for elsewhere.

    Bad:

        [[domain]]
        name = "shop.lanternchoir.example"
        kind = "subdomain"
        root = "shop"

    Good:

        [[domain]]
        name = "shop.millbrookrail.example"
        kind = "subdomain"
        root = "shop"

    Ways out:

    - declare it as an add-on domain, if the parent is somebody else's;
    - declare the parent too, or move the entry to the account that has it.
    """
    for summary in whole.accounts.values():
        if not summary.orphans:
            continue
        notes = {note.number: note for note in summary.hosts if not note.also}
        for number in summary.orphans:
            if number in notes:
                yield from _orphan(whole, summary, notes[number])


@plan_rule("wildcard-overlap", "risk", reaches=RuleReach.HOST)
def wildcard_overlap(whole: AllAccounts) -> Iterator[Finding]:
    """A wildcard subdomain and another account, or another wildcard, answer for the same names.

    An explicit name beats a wildcard, and a longer wildcard a shorter one, but only on one
    server. Between two it is the name servers' entries that decide: when one of them is missing
    or late, visitors land on the wildcard's site.

    Bad:

        [[domain]]
        name = "*.millbrookrail.example"
        kind = "subdomain"
        root = "www"

        [[domain]]
        name = "*.fair.millbrookrail.example"
        kind = "subdomain"
        root = "fair"

    Good:

        [[domain]]
        name = "*.millbrookrail.example"
        kind = "subdomain"
        root = "www"

        [[domain]]
        name = "fair.millbrookrail.example"
        kind = "subdomain"
        root = "fair"

    Ways out:

    - declare the names that are meant instead of the wildcard;
    - see that the name servers hold an entry of its own for each name that is to lead elsewhere.
    """
    for summary, wild, below in whole.wildcards:
        others = [
            (other, note)
            for other, note in below
            if (other is not summary or note.host.startswith("*."))
            and (other is not summary or note.folder != wild.folder)
        ]
        if others:
            names = listed((note.host for _, note in others), 4)
            yield Finding(
                at=wild.host,
                title=f"{wild.host} and {names} answer for the same names",
                why=f"where the name servers lack an entry for one of them, visitors land on {wild.host}",
                parties=[whole.host_party(summary, wild), *(whole.host_party(*declared) for declared in others)],
                ways_out=[
                    WayOut(
                        f"declare the names that are meant instead of {wild.host}",
                        steps=[CompleteEntry(summary.account, "domain", wild.number, ("name",))],
                    ),
                    WayOut(
                        f"see that the name servers hold an entry of its own for {names}",
                        steps=[MakeRecord(other.account, HostName(note.host)) for other, note in others],
                    ),
                ],
                account=summary.account,
                also_at=sorted({other.account for other, _ in others} - {summary.account}),
            )


@plan_rule("redirect-loop", "stop", reaches=RuleReach.HOST)
def redirect_loop(whole: AllAccounts) -> Iterator[Finding]:
    """Redirects lead back to where they began, also by way of other domains and accounts.

    A browser gives up after some rounds and shows an error, so nobody sees any of the sites.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        redirect_to = "www.millbrookrail.example"
        www = "bare"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        www = "bare"

    Ways out:

    - let the domain that is to answer have a root, and no redirect.
    """
    passed: set[_Passed] = set()
    for host in (host for summary in whole.accounts.values() for host in summary.sent):
        circle = _circle(whole, Address(HostName(host), whole.hosts[host][0][1].path), passed)
        if circle:
            yield _loop(whole, circle)


@plan_rule("www-missing", "note", "risk", reaches=RuleReach.HOST)
def www_missing(whole: AllAccounts) -> Iterator[Finding]:
    """Nobody declares a domain with www, and people type it, or are sent there.

    Without an entry at the name servers a browser says that there is no such site; with one, but
    without the name at the host, another site of the same machine answers. It is a risk where a
    control file, a redirect or an application's configuration sends people there already. With
    `www = "apart"` in `[settings]` nothing is asked of domains that do not say.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        www = "both"

    Ways out:

    - have the name with www added at the host and its name servers, and say with www = "both",
      "bare" or "www" which of the two answers;
    - if it is not to answer, say so with www = "apart".
    """
    for summary in whole.accounts.values():
        for bare in summary.bare:
            if not whole.serving(HostName(f"www.{bare.host}")):
                yield _bare(summary, bare)


def _bare(summary: AccountSummary, bare: WwwNote) -> Finding:
    record = RecordId(summary.account, "domain", bare.number)
    party = Party("domain", bare.host, record, f"accounts/{summary.file}", bare.line)
    sent = f"{bare.sent} sends people there" if bare.sent else "people type it all the same"
    own = f"declare www.{bare.host} with a root, as {bare.host} only sends visitors on to it"
    return Finding(
        at=bare.host,
        title=f"www.{bare.host} leads nowhere",
        why=f"nobody declares it, and {sent}",
        parties=[party],
        ways_out=[WayOut(own, steps=[CompleteEntry(summary.account, "domain", None, ("name", "root"))])]
        if bare.sent == bare.host
        else [
            WayOut(
                f"have www.{bare.host} added at the host and its name servers, and say that both answer",
                [Change(summary.account, "domain", bare.number, {"www": "both"})],
                Remedy.of(Action.SET_WWW, "both", bare.host),
                as_it_is=True,
            ),
            WayOut(
                "if it is not to answer, say that each is for itself",
                [Change(summary.account, "domain", bare.number, {"www": "apart"})],
                Remedy.of(Action.SET_WWW, "apart", bare.host),
                as_it_is=True,
            ),
        ],
        account=summary.account,
        severity="risk" if bare.sent else None,
    )


def _stray(whole: AllAccounts, summary: AccountSummary, stray: StrayNote) -> Finding:
    address = Address(HostName(stray.host), stray.path)
    declared = whole.serving(address.host)
    owners = {other.account: other for other, _ in declared if other is not summary}
    own = [note for other, note in declared if other is summary]
    ways: list[WayOut] = []
    if own:
        known = listed(str(Address(HostName(note.host), note.path)) for note in own)
        reason = (
            f"{stray.host} redirects and leads to no folder"
            if any(note.goes for note in own)
            else f"{stray.host} leads to folders only below {known}"
        )
        completed = CompleteEntry(summary.account, "installation", stray.number, ("address",))
        words = f"give the installation an address below {listed(note.goes or known for note in own)}"
        ways.append(WayOut(words, steps=[completed]))
    elif owners:
        reason = f"{stray.host} is a domain of account {listed(owners)}, not of {summary.account}"
        files = listed(f"accounts/{owner.file}" for owner in owners.values())
        moved = _moved_entry(whole, summary, "installation", stray.number, next(iter(owners)))
        ways.append(WayOut(f"move the entry to {files}, which has the domain", moved))
    elif stray.host in summary.retired:
        reason = f"{stray.host} is retired"
        gone = Change(summary.account, "installation", stray.number, {"state": "retired"})
        ways.append(WayOut("if the installation goes with it, mark that retired too", (gone,)))
        back = [
            Change(summary.account, "domain", number, {"state": "live"})
            for number, table in enumerate(whole.tables(summary, "domain"))
            if HostName.parse(str(table["name"])) == stray.host
        ]
        ways.append(WayOut(f'if {stray.host} is still wanted, write state = "live" there', back))
    else:
        reason = f"{stray.host} is no domain of the plan"
        ways += _new_host_ways(whole, summary, stray)
    title = f"{stray.application} is to be at {address}, but {reason}"
    party = whole.party(
        summary, "installation", stray.number, f"{stray.state} {stray.application}", str(address), "address"
    )
    return Finding(
        at=str(address),
        title=title,
        why="nothing leads from the address to a folder, so it cannot be deployed there",
        parties=[party, *(whole.host_party(other, note) for other, note in declared[:1])],
        ways_out=ways,
        account=summary.account,
        also_at=sorted(owners),
    )


def _new_host_ways(whole: AllAccounts, summary: AccountSummary, stray: StrayNote) -> list[WayOut]:
    """The host is nobody's: misspelt, or a domain that is still to be declared."""
    hosts = {note.host: note for note in summary.hosts}
    near = nearest(stray.host, hosts, 3) or nearest(stray.host, whole.hosts, 1)
    meant = [str(Address(HostName(host), stray.path)) for host in near]
    spelt = [
        WayOut(
            f'if {host} is meant, write address = "{address}"',
            [Change(summary.account, "installation", stray.number, {"address": address, "folder": None})],
        )
        for host, address in zip(near, meant, strict=True)
    ]
    kind = "subdomain" if any(stray.host.endswith("." + host) for host in hosts) else "addon"
    declared = {"name": stray.host, "kind": kind, "root": stray.root}
    new = WayOut(
        f'if it is a new domain, declare it: [[domain]] name = "{stray.host}", kind = "{kind}", '
        f'root = "{stray.root}", which is free',
        [Change(summary.account, "domain", None, declared)],
    )
    taken = {str(table.get("address", "")).rstrip("/") for table in whole.tables(summary, "installation")}
    fits = bool(near) and near[0] in hosts and meant[0].rstrip("/") not in taken
    return [*spelt, new] if fits else [new, *spelt]


def _twice(whole: AllAccounts, address: Address, declared: list[Declared]) -> Finding:
    keeper = max(declared, key=lambda other_declared: other_declared[1].uses)
    others = [other_declared for other_declared in declared if other_declared[1] is not keeper[1]]
    if all((one.account, note.number) == (keeper[0].account, keeper[1].number) for one, note in others):
        return _also_and_www(whole, address, keeper)
    accounts = sorted({summary.account for summary, _ in declared})
    within = f"in account {accounts[0]}" if len(accounts) == 1 else f"in accounts {listed(accounts)}"
    used = f", which has {counted(keeper[1].uses, 'installation')}" if keeper[1].uses else ""
    parties = [whole.host_party(*other_declared) for other_declared in [keeper, *others]]
    removed = listed(f"the one at {party.where}" for party in parties[1:])
    lost = [
        other_declared for other_declared in others if other_declared[0] is not keeper[0] and other_declared[1].uses
    ]
    also = (
        f", with what is installed there by {listed(other_declared[0].account for other_declared in lost)}"
        if lost
        else ""
    )
    gone = _removals(whole, others, {other_declared[0].account for other_declared in lost})
    decided = Decide(keeper[0].account, Question.WHICH_IS_WANTED, tuple(party.where for party in parties))
    return Finding(
        at=str(address.host),
        title=f"{address.host if not address.path else address} is declared {_times(len(declared))}, {within}",
        why="a host name leads to one place, and which declaration wins is up to the server",
        parties=parties,
        ways_out=[
            WayOut(f"keep the declaration at {parties[0].where}{used}, and remove {removed}{also}",
                gone, steps=[] if gone else [decided])
        ],
        account=keeper[0].account,
        also_at=sorted({summary.account for summary, _ in others} - {keeper[0].account}),
    )  # fmt: skip


def _also_and_www(whole: AllAccounts, address: Address, declared: Declared) -> Finding:
    """A domain's `also` names the form that its `www` sends on."""
    summary, note = declared
    also = whole.tables(summary, "domain")[note.number].get("also", ())
    left = [host for host in also if HostName.parse(host) != address.host]
    party = whole.host_party(summary, note)
    return Finding(
        at=str(address.host),
        title=f"{address.host} is one of the other names of {note.name}, and its www sends visitors on from there",
        why="a host name leads to one place",
        parties=[party],
        ways_out=[
            WayOut(f"take {address.host} out of also at {party.where}",
                   [Change(summary.account, "domain", note.number, {"also": left or None})]),
            WayOut(f'if it is to answer by itself, write www = "both" at {party.where}',
                   [Change(summary.account, "domain", note.number, {"www": "both", "also": left or None})]),
        ],
        account=summary.account,
    )  # fmt: skip


def _removals(whole: AllAccounts, others: list[Declared], lost: set[str]) -> list[Change]:
    """What takes declarations of a host out; nothing where that cannot be done by a change of their tables."""
    changes: dict[tuple[str, int], Change] = {}
    for summary, note in others:
        table = whole.tables(summary, "domain")[note.number]
        key = (summary.account, note.number)
        if not note.also:
            changes[key] = Change(summary.account, "domain", note.number, drop=True)
        elif key not in changes or not changes[key].drop:
            left = [host for host in table.get("also", ()) if HostName.parse(host) != note.host]
            if len(left) == len(table.get("also", ())):
                return []
            changes[key] = Change(summary.account, "domain", note.number, {"also": left})
    found = list(changes.values())
    for summary, note in others:
        for number, entry in enumerate(whole.tables(summary, "installation") if summary.account in lost else ()):
            if Address.parse(str(entry["address"])).host == note.host:
                found.append(Change(summary.account, "installation", number, {"state": "retired"}))
    return found


def _orphan(whole: AllAccounts, summary: AccountSummary, note: HostNote) -> Iterator[Finding]:
    host = HostName(note.host)
    owner = next((declared[0] for above in host.above() if (declared := whole.hosts.get(above))), None)
    whose = f"{owner[1].host} of account {owner[0].account}" if owner else f"{host.parent}, no domain of the plan"
    ways = [
        WayOut(
            f'if the parent is somebody else\'s, declare {host} with kind = "addon"',
            [Change(summary.account, "domain", note.number, {"kind": "addon"})],
        ),
        WayOut(
            f"move the entry to accounts/{owner[0].file}, which has the parent",
            _moved_entry(whole, summary, "domain", note.number, owner[0].account),
        )
        if owner
        else WayOut(
            "declare the parent too", steps=[CompleteEntry(summary.account, "domain", None, ("name", "kind", "root"))]
        ),
    ]
    yield Finding(
        at=note.host,
        title=f"{host} is a subdomain of {whose}",
        why="its name is decided by whoever has the parent, and goes when that goes",
        parties=[whole.host_party(summary, note), *([whole.host_party(*owner)] if owner else [])],
        ways_out=ways,
        account=summary.account,
        also_at=[owner[0].account] if owner else [],
    )


def _moved_entry(whole: AllAccounts, summary: AccountSummary, table: str, number: int, to: str) -> list[Change]:
    """An entry taken out of one account's file and written into another's."""
    entry = dict(whole.tables(summary, table)[number])
    return [Change(summary.account, table, number, drop=True), Change(to, table, None, entry)]


_Passed = tuple[str, int, str, str]
"""A declaration that a redirect passes: the account, the domain's place in it, the host and its path."""


def _circle(whole: AllAccounts, begin: Address, passed: set[_Passed]) -> list[Declared]:
    """The hosts that redirects pass through in a circle, from `begin` on; none when they come to an end.

    `passed` are declarations that were followed before, so that no way is gone twice.
    """
    way: dict[_Passed, Declared] = {}
    address = begin
    while True:
        covering = [
            declared for declared in whole.serving(address.host)
            if not declared[1].path or (address.path + "/").startswith(declared[1].path + "/")
        ]  # fmt: skip
        found = max(covering, key=lambda declared: len(declared[1].path), default=None)
        if found is None or not found[1].goes:
            return []
        mark = (found[0].account, found[1].number, found[1].host, found[1].path)
        if mark in way:
            marks = list(way)
            circle = [way[row] for row in marks[marks.index(mark) :]]
            first = min(range(len(circle)), key=lambda n: circle[n][1].host)
            return circle[first:] + circle[:first]
        if mark in passed:
            return []
        passed.add(mark)
        way[mark] = found
        rest = address.path[len(found[1].path) :].strip("/")
        address = Address.parse(found[1].goes).below(rest)


def _loop(whole: AllAccounts, circle: list[Declared]) -> Finding:
    breaks = next(
        (declared for declared in circle if not declared[1].also and "redirect_to" in _table(whole, declared)), None
    )
    decided = Decide(circle[0][0].account, Question.WHICH_IS_WANTED, tuple(note.host for _, note in circle))
    words = f"let one of {listed(note.host for _, note in circle)} have a root, and no redirect"
    ways = [WayOut(words, steps=[decided])]
    if breaks is not None:
        summary, note = breaks
        values: dict[str, object] = {"redirect_to": None}
        words = f"take redirect_to out of {note.host}"
        if "root" not in _table(whole, breaks) and note.kind != "alias":
            root = whole.spare_root(summary, note)
            values["root"] = root
            words += f', and give it a root that is free, such as "{root}"'
        if note.kind != "alias":
            ways.insert(0, WayOut(words, [Change(summary.account, "domain", note.number, values)]))
    hosts = [note.host for _, note in circle]
    return Finding(
        at=min(hosts),
        title=f"{' -> '.join([*hosts, hosts[0]]) if len(hosts) > 1 else f'{hosts[0]} redirects to itself'}"
        + (" is a circle of redirects" if len(hosts) > 1 else ""),
        why="browsers give up after some rounds and show an error",
        parties=_unique([whole.host_party(*declared) for declared in circle]),
        ways_out=ways,
        account=circle[0][0].account,
        also_at=sorted({summary.account for summary, _ in circle} - {circle[0][0].account}),
    )


def _table(whole: AllAccounts, declared: Declared) -> dict[str, object]:
    return whole.tables(declared[0], "domain")[declared[1].number]


def _times(number: int) -> str:
    return "twice" if number == 2 else f"{number} times"


def _unique(parties: list[Party]) -> list[Party]:
    return list({(party.record, party.name): party for party in parties}.values())
