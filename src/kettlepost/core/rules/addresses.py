"""Rules about host names across the accounts of a plan."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from kettlepost.core.messages import Words, say, series
from kettlepost.core.names import Address, HostName, nearest
from kettlepost.core.plan import Change, RecordId
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.cross_account import AccountSummary, AllAccounts, HostNote, StrayNote, WwwNote
from kettlepost.core.rules.findings import Finding, Party, WayOut
from kettlepost.core.rules.registry import RuleReach, plan_rule
from kettlepost.core.steps import CompleteEntry, Decide, MakeRecord, Question

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
    accounts is told apart by its path. A domain on its way from one account to another is in
    both, as both say by `account_now` and `account_next`.

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
            # what one table says twice in the same way is no contradiction, and neither is what is on its way
            staying = [(one, note) for one, note in there if not whole.is_leaving(one, note.number)]
            twice = list({(one.account, note.number, note.goes): (one, note) for one, note in staying}.values())
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
            names = series((note.host for _, note in others), 4)
            yield Finding(
                at=wild.host,
                title=say("wildcard-overlap/title", wild=wild.host, names=names),
                why=say("wildcard-overlap/why", wild=wild.host),
                parties=[whole.host_party(summary, wild), *(whole.host_party(*declared) for declared in others)],
                ways_out=[
                    WayOut(
                        say("wildcard-overlap/declare-names-meant", wild=wild.host),
                        steps=[CompleteEntry(summary.account, "domain", wild.number, ("name",))],
                    ),
                    WayOut(
                        say("wildcard-overlap/see-name-servers", names=names),
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
    """A domain does not answer with www, and people are sent there, or its server has it without www alone.

    Without an entry at the name servers a browser says that there is no such site; with one, but
    without the name at the host, another site of the same machine answers. It is a risk where a
    control file, a redirect or an application's configuration sends people there already, and a note where the
    whole configuration of the server was read in and has no such name. Of domains of which nobody says it, and nothing
    was seen, a check ends with one hint for all. With `www = "apart"` in `[settings]` nothing is asked of them.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

        [[domain]]
        name = "millbrook-trains.example"
        kind = "addon"
        redirect_to = "www.millbrookrail.example"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"
        www = "both"

        [[domain]]
        name = "millbrook-trains.example"
        kind = "addon"
        redirect_to = "www.millbrookrail.example"

    Ways out:

    - have the name with www added at the host and its name servers, and say with www = "both",
      "bare" or "www" which of the two answers;
    - if it is not to answer, say so with www = "apart".
    """
    for summary in whole.accounts.values():
        for bare in summary.bare:
            if bare.is_told and not whole.serving(HostName(f"www.{bare.host}")):
                yield _bare(summary, bare)


def _bare(summary: AccountSummary, bare: WwwNote) -> Finding:
    record = RecordId(summary.account, "domain", bare.number)
    party = Party("domain", bare.host, record, f"accounts/{summary.file}", bare.line)
    sent = say("bare/sends-people", sent=bare.sent) if bare.sent else say("bare/server-without-www")
    own = say("bare/declare-www-root", bare=bare.host)
    return Finding(
        at=bare.host,
        title=say("bare/title", bare=bare.host),
        why=say("bare/why", sent=sent),
        parties=[party],
        ways_out=[WayOut(own, steps=[CompleteEntry(summary.account, "domain", None, ("name", "root"))])]
        if bare.sent == bare.host
        else [
            WayOut(
                say("bare/www-added-host", bare=bare.host),
                [Change(summary.account, "domain", bare.number, {"www": "both"})],
                Remedy.of(Action.SET_WWW, "both", bare.host),
                as_it_is=True,
            ),
            WayOut(
                say("bare/answer-say-each"),
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
        known = series(str(Address(HostName(note.host), note.path)) for note in own)
        reason = (
            say("stray/redirects-leads-folder", stray=stray.host)
            if any(note.goes for note in own)
            else say("stray/leads-folders-only", stray=stray.host, known=known)
        )
        completed = CompleteEntry(summary.account, "installation", stray.number, ("address",))
        words = say("stray/give-installation-address", own=(note.goes or known for note in own))
        ways.append(WayOut(words, steps=[completed]))
    elif owners:
        reason = say("stray/domain-account", stray=stray.host, owners=owners, account=summary.account)
        files = series(f"accounts/{owner.file}" for owner in owners.values())
        moved = _moved_entry(whole, summary, "installation", stray.number, next(iter(owners)))
        ways.append(WayOut(say("stray/move-entry-domain", files=files), moved))
    elif stray.host in summary.retired:
        reason = say("stray/retired", stray=stray.host)
        gone = _retired(whole, summary, stray.number)
        ways.append(WayOut(say("stray/installation-goes-mark"), (gone,)))
        back = [
            Change(summary.account, "domain", number, {"state": "live"})
            for number, table in enumerate(whole.tables(summary, "domain"))
            if HostName.parse(str(table["name"])) == stray.host
        ]
        ways.append(WayOut(say("stray/still-wanted-write", stray=stray.host), back))
    else:
        reason = say("stray/domain-plan", stray=stray.host)
        ways += _new_host_ways(whole, summary, stray)
    title = say("stray/title", application=stray.application, address=address, reason=reason)
    party = whole.party(
        summary, "installation", stray.number, f"{stray.state} {stray.application}", str(address), "address"
    )
    return Finding(
        at=str(address),
        title=title,
        why=say("stray/why"),
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
            say("new-host-ways/meant-write-address", host=host, address=address),
            [Change(summary.account, "installation", stray.number, {"address": address, "folder": None})],
        )
        for host, address in zip(near, meant, strict=True)
    ]
    kind = "subdomain" if any(stray.host.endswith("." + host) for host in hosts) else "addon"
    declared = {"name": stray.host, "kind": kind, "root": stray.root}
    new = WayOut(
        say("new-host-ways/new-domain-declare", stray=stray.host, kind=kind, root=stray.root),
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
    within = (
        say("twice/account", account=accounts[0]) if len(accounts) == 1 else say("twice/accounts", accounts=accounts)
    )
    used = say("twice/which-has", uses=keeper[1].uses) if keeper[1].uses else ""
    parties = [whole.host_party(*other_declared) for other_declared in [keeper, *others]]
    removed = series(say("twice/one", where=party.where) for party in parties[1:])
    lost = [
        other_declared for other_declared in others if other_declared[0] is not keeper[0] and other_declared[1].uses
    ]
    also = say("twice/installed", accounts=(other_declared[0].account for other_declared in lost)) if lost else ""
    gone = _removals(whole, others, {other_declared[0].account for other_declared in lost})
    decided = Decide(keeper[0].account, Question.WHICH_IS_WANTED, tuple(party.where for party in parties))
    return Finding(
        at=str(address.host),
        title=say(
            "twice/title",
            path=address.host if not address.path else address,
            times=_times(len(declared)),
            within=within,
        ),
        why=say("twice/why"),
        parties=parties,
        ways_out=[
            WayOut(
                say("twice/keep-declaration-remove", where=parties[0].where, used=used, removed=removed, also=also),
                gone,
                steps=[] if gone else [decided],
            )
        ],
        account=keeper[0].account,
        also_at=sorted({summary.account for summary, _ in others} - {keeper[0].account}),
    )


def _also_and_www(whole: AllAccounts, address: Address, declared: Declared) -> Finding:
    """A domain's `also` names the form that its `www` sends on."""
    summary, note = declared
    also = whole.tables(summary, "domain")[note.number].get("also", ())
    left = [host for host in also if HostName.parse(host) != address.host]
    party = whole.host_party(summary, note)
    return Finding(
        at=str(address.host),
        title=say("also-and-www/title", address=address.host, note=note.name),
        why=say("also-and-www/why"),
        parties=[party],
        ways_out=[
            WayOut(say("also-and-www/take-out-also", address=address.host, where=party.where),
                   [Change(summary.account, "domain", note.number, {"also": left or None})]),
            WayOut(say("also-and-www/answer-itself-write", where=party.where),
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
                found.append(_retired(whole, summary, number))
    return found


def _retired(whole: AllAccounts, summary: AccountSummary, number: int) -> Change:
    """What is written of an installation that is to go, whether it was on its way elsewhere or not."""
    entry = whole.tables(summary, "installation")[number]
    moving = [key for key in ("address_now", "folder_now") if key in entry]
    return Change(summary.account, "installation", number, {"state": "retired", **dict.fromkeys(moving)})


def _orphan(whole: AllAccounts, summary: AccountSummary, note: HostNote) -> Iterator[Finding]:
    host = HostName(note.host)
    owner = next((declared[0] for above in host.above() if (declared := whole.hosts.get(above))), None)
    whose = (
        say("orphan/account", owner=owner[1].host, account=owner[0].account)
        if owner
        else say("orphan/domain-plan", parent=host.parent)
    )
    ways = [
        WayOut(
            say("orphan/parent-somebody-elses", host=host),
            [Change(summary.account, "domain", note.number, {"kind": "addon"})],
        ),
        WayOut(
            say("orphan/move-entry-accounts", file=owner[0].file),
            _moved_entry(whole, summary, "domain", note.number, owner[0].account),
        )
        if owner
        else WayOut(
            say("orphan/declare-parent-too"),
            steps=[CompleteEntry(summary.account, "domain", None, ("name", "kind", "root"))],
        ),
    ]
    yield Finding(
        at=note.host,
        title=say("orphan/title", host=host, whose=whose),
        why=say("orphan/why"),
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
    words = say("loop/let-one-root", circle=(note.host for _, note in circle))
    ways = [WayOut(words, steps=[decided])]
    if breaks is not None:
        summary, note = breaks
        values: dict[str, object] = {"redirect_to": None}
        words = say("loop/take-redirect-out", note=note.host)
        if "root" not in _table(whole, breaks) and note.kind != "alias":
            root = whole.spare_root(summary, note)
            values["root"] = root
            words += say("loop/give-root-free", root=root)
        if note.kind != "alias":
            ways.insert(0, WayOut(words, [Change(summary.account, "domain", note.number, values)]))
    hosts = [note.host for _, note in circle]
    return Finding(
        at=min(hosts),
        title=say("loop/title", hosts=" -> ".join([*hosts, hosts[0]]))
        if len(hosts) > 1
        else say("loop/redirects-itself", host=hosts[0]),
        why=say("loop/why"),
        parties=_unique([whole.host_party(*declared) for declared in circle]),
        ways_out=ways,
        account=circle[0][0].account,
        also_at=sorted({summary.account for summary, _ in circle} - {circle[0][0].account}),
    )


def _table(whole: AllAccounts, declared: Declared) -> dict[str, object]:
    return whole.tables(declared[0], "domain")[declared[1].number]


def _times(number: int) -> Words:
    return "twice" if number == 2 else say("times/times", number=number)


def _unique(parties: list[Party]) -> list[Party]:
    return list({(party.record, party.name): party for party in parties}.values())
