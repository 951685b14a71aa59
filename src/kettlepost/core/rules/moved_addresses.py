"""Rules about old addresses that are to stay good: what becomes of them, and promises that contradict each other."""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Sequence
from typing import assert_never

from msgspec import Struct

from kettlepost.core.layout import AccountLayout, FolderState, has_relocated
from kettlepost.core.messages import Message, say
from kettlepost.core.moving import (
    AddressKept,
    KeptHow,
    address_kept,
    circle_of,
    onward_promise,
    redirect_lines,
    stays_below,
    web_address,
)
from kettlepost.core.names import Address, Folder, InvalidName, printable
from kettlepost.core.plan import Change, Installation, Moved
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.findings import Finding, LazyWays, Party, WayOut
from kettlepost.core.rules.going_live import going_live
from kettlepost.core.rules.parties import application_party, domain_party, installation_party, party
from kettlepost.core.rules.registry import RuleReach, account_rule, page_only
from kettlepost.core.rules.ways_out import completing, dropping, setting
from kettlepost.core.steps import AddLines, Configure, LookAgain, SendOldOn, Step

OVER = "old-address-over"
_FINE = frozenset((KeptHow.KEPT, KeptHow.UNKNOWN, KeptHow.HOPS, KeptHow.QUERY))


@account_rule("old-address-lost", "risk", "note", reaches=RuleReach.ACCOUNT)
def old_address_lost(layout: AccountLayout) -> Iterator[Finding]:
    """An old address that is to stay good does not lead to where its visitors find the same now.

    Search engines, bookmarks, printed cards and other people's pages go on sending visitors there for years. They get
    "not found", another page, a circle, or a site that is somebody else's by now. The address itself is asked for, and
    where the promise is about all below it, paths below it too: a redirect of the first page alone is none of the rest.
    Where a program answers there, which may send visitors on itself, it is a note.

    Bad:

        # there: www/index.php = "<?php"
        [[moved]]
        from = "millbrookrail.example/new"
        to = "millbrookrail.example"

    Good:

        # there: www/index.php = "<?php"
        # there: www/new/.htaccess = "RedirectMatch 302 ^/new(?:/(.*))?$ http://millbrookrail.example/$1"
        [[moved]]
        from = "millbrookrail.example/new"
        to = "millbrookrail.example"

    Ways out:

    - add the redirect to the control file of the old folder, or of the one around it, before what rewrites paths there;
    - where the server obeys no control files, have it send the old address on;
    - keep the domain that is to go, as its old addresses go with it;
    - give the old address up, where something else answers there by now, or nobody comes there any more.
    """
    for moved in layout.account.moved:
        if circle_of(layout.account, moved):
            continue
        kept = address_kept(layout, moved)
        if kept.how not in _FINE and not _is_to_come(layout, moved):
            yield Finding(
                at=str(moved.old),
                severity="note" if kept.how is KeptHow.PROGRAM else None,
                title=say("old-address/title", old=moved.old, becomes=_becomes(kept)),
                why=say("old-address/why", asked=kept.asked, wanted=kept.wanted),
                parties=[_party(layout, moved), *_there(layout, moved, kept)],
                ways_out=LazyWays(lambda moved=moved, kept=kept: list(_ways(layout, moved, kept))),  # type: ignore[misc]
            )


@account_rule("old-address-hops", "note", reaches=RuleReach.ACCOUNT)
def old_address_hops(layout: AccountLayout) -> Iterator[Finding]:
    """An old address leads to the right place by a detour, or loses what was asked for behind the question mark.

    Each hop takes a visitor's time, and search engines follow few of them. What stands behind the question mark says
    which article, which page of a list, or which campaign it was.

    Bad:

        # there: www/index.php = "<?php"
        # there: www/old/.htaccess = "RedirectMatch 302 ^/old(?:/(.*))?$ http://millbrookrail.example/new/$1"
        # there: www/new/.htaccess = "RedirectMatch 302 ^/new(?:/(.*))?$ http://millbrookrail.example/$1"
        [[moved]]
        from = "millbrookrail.example/old"
        to = "millbrookrail.example"

    Good:

        # there: www/index.php = "<?php"
        # there: www/old/.htaccess = "RedirectMatch 302 ^/old(?:/(.*))?$ http://millbrookrail.example/$1"
        [[moved]]
        from = "millbrookrail.example/old"
        to = "millbrookrail.example"

    Ways out:

    - send the old address on to the new one at once.
    """
    for moved in layout.account.moved:
        kept = address_kept(layout, moved)
        if kept.how not in (KeptHow.HOPS, KeptHow.QUERY) or circle_of(layout.account, moved):
            continue
        yield Finding(
            at=str(moved.old),
            title=say("old-address/title", old=moved.old, becomes=_becomes(kept)),
            why=say("old-address-hops/why", is_query=kept.how is KeptHow.QUERY),
            parties=[_party(layout, moved)],
            ways_out=LazyWays(lambda moved=moved: list(_sending(layout, moved))),  # type: ignore[misc]
        )


@account_rule("old-address-chain", "note", reaches=RuleReach.ACCOUNT)
def old_address_chain(layout: AccountLayout) -> Iterator[Finding]:
    """An old address is to lead to one that has moved on itself.

    Its visitors are sent twice, and lost once the second promise ends.

    Bad:

        [[moved]]
        from = "millbrookrail.example/2021"
        to = "millbrookrail.example/new"

        [[moved]]
        from = "millbrookrail.example/new"
        to = "millbrookrail.example/timetable"

    Good:

        [[moved]]
        from = "millbrookrail.example/2021"
        to = "millbrookrail.example/timetable"

        [[moved]]
        from = "millbrookrail.example/new"
        to = "millbrookrail.example/timetable"

    Ways out:

    - let it lead to where the second one does.
    """
    for moved in layout.account.moved:
        onward = onward_promise(layout.account, moved)
        if onward is None or circle_of(layout.account, moved) or circle_of(layout.account, onward):
            continue
        rest = moved.to.path.removeprefix(onward.old.path).strip("/")
        to = onward.to.below(rest) if onward.below else onward.to
        yield Finding(
            at=str(moved.old),
            title=say("old-address-chain/title", old=moved.old, to=moved.to),
            why=say("old-address-chain/why", end=to),
            parties=[_party(layout, moved), _party(layout, onward)],
            ways_out=[
                WayOut(
                    say("old-address-chain/shorten", old=moved.old, end=to),
                    [setting(layout, moved, to=str(to))],
                    expects=("old-address-hops", "old-address-lost"),
                )
            ],
        )


@account_rule("old-address-circle", "risk", reaches=RuleReach.ACCOUNT)
def old_address_circle(layout: AccountLayout) -> Iterator[Finding]:
    """Old addresses are to lead to each other.

    What moved there and back again is at one of them. Kept to the letter, browsers go round in circles and show an
    error.

    Bad:

        [[moved]]
        from = "millbrookrail.example/new"
        to = "millbrookrail.example"

        [[moved]]
        from = "millbrookrail.example"
        to = "millbrookrail.example/new"

    Good:

        [[moved]]
        from = "millbrookrail.example/new"
        to = "millbrookrail.example"

    Ways out:

    - take the promise out that came first, as what moved back is where that one began.
    """
    told: set[int] = set()
    for moved in layout.account.moved:
        circle = circle_of(layout.account, moved)
        if not circle or moved.number in told:
            continue
        told.update(one.number for one in circle)
        dated = sorted((one for one in circle if one.since is not None), key=lambda one: str(one.since))
        first = dated[:1] if len(dated) == len(circle) else circle
        yield Finding(
            at=str(moved.old),
            title=say("old-address-circle/title", addresses=[one.old for one in circle], back=moved.old),
            why=say("old-address-circle/why"),
            parties=[_party(layout, one) for one in circle],
            ways_out=[
                _given_up(layout, one, say("old-address-circle/take-out", old=one.old, to=one.to)) for one in first
            ],
        )


class DatedPromise(Struct, array_like=True, frozen=True):
    """An old address that is kept until a day, where that was written, and the table's place in its file."""

    old: str
    until: datetime.date
    party: Party
    number: int


def dated_promises(layout: AccountLayout) -> list[DatedPromise]:
    """The old addresses of an account that are to be kept until a day."""
    return [
        DatedPromise(str(one.old), one.until, _party(layout, one, "until"), one.number)
        for one in layout.account.moved
        if one.until is not None
    ]


def without_ended(
    findings: Sequence[Finding], promises: Sequence[DatedPromise], account: str, today: datetime.date
) -> list[Finding]:
    """Findings without those about old addresses that need not be kept any more, of which that is told instead."""
    over = [one for one in promises if today > one.until]
    gone = {one.party.record for one in over}
    left = [one for one in findings if not (one.rule in _OF_PROMISES and one.parties[0].record in gone)]
    return [*left, *(old_address_over(one, account) for one in over)]


_OF_PROMISES = ("old-address-lost", "old-address-hops", "old-address-chain")


@page_only(OVER, "note")
def old_address_over(promise: DatedPromise, account: str) -> Finding:
    """The day has passed until which an old address was to be kept.

    Nothing is wrong with keeping it longer. Where nobody comes there any more, the redirect and the promise can go; a
    domain that was kept for it need not be renewed.

    Bad:

        [[moved]]
        from = "millbrookrail.example/new"
        to = "millbrookrail.example"
        until = 2020-02-29

    Good:

        [[moved]]
        from = "millbrookrail.example/new"
        to = "millbrookrail.example"
        until = 2999-02-28

    Ways out:

    - take the promise out, and the redirect where there is one;
    - write down a later day.
    """
    drop = Change(account, "moved", promise.number, drop=True)
    return Finding(
        at=promise.old,
        title=say("old-address-over/title", old=promise.old, until=promise.until),
        why=say("old-address-over/why"),
        parties=[promise.party],
        ways_out=[WayOut(say("old-address-over/take-out", old=promise.old), [drop])],
        account=account,
        rule=OVER,
        severity="note",
    )


def _is_to_come(layout: AccountLayout, moved: Moved) -> bool:
    """Whether what an old address shows today is still to move: the work list has its redirect."""
    return any(one.address_now == moved.old and not has_relocated(layout, one) for one in layout.moving)


def _party(layout: AccountLayout, moved: Moved, key: str = "from") -> Party:
    return party(layout.account, moved, "old address", str(moved.old), key)


def _there(layout: AccountLayout, moved: Moved, kept: AddressKept) -> Iterator[Party]:
    """Who is at the old address in its place, or whose host it is that goes."""
    for installation in _taken_by(layout, moved):
        yield installation_party(layout.account, installation, "address")
    domain = layout.account.declared(moved.old.host)
    if kept.how is KeptHow.NO_HOST and domain is not None:
        yield domain_party(layout.account, domain, "state")


def _taken_by(layout: AccountLayout, moved: Moved) -> list[Installation]:
    """The installations that are, or are to be, at the very old address."""
    return [one for one in layout.installations_at.get(moved.old.host, ()) if one.address == moved.old]


def _becomes(kept: AddressKept) -> Message:  # noqa: C901 (a closed set)
    match kept.how:
        case KeptHow.LOST:
            return say("old-address/lost", status=kept.status)
        case KeptHow.BROKEN:
            return say("old-address/broken", status=kept.status)
        case KeptHow.SHUT:
            return say("old-address/shut", status=kept.status)
        case KeptHow.SHOWS:
            return say("old-address/shows")
        case KeptHow.PROGRAM:
            return say("old-address/program", asked=kept.asked)
        case KeptHow.ASTRAY:
            return say("old-address/astray", end=kept.way[-1])
        case KeptHow.ROUND:
            return say("old-address/round", end=kept.way[-1])
        case KeptHow.NO_HOST:
            return say("old-address/no-host")
        case KeptHow.NOWHERE:
            return say("old-address/nowhere", asked=kept.asked, status=kept.status)
        case KeptHow.HOPS:
            return say("old-address/hops", hops=kept.way)
        case KeptHow.QUERY:
            return say("old-address/query")
        case KeptHow.KEPT | KeptHow.UNKNOWN:
            return say("old-address/kept")
        case _:
            assert_never(kept.how)


def _ways(layout: AccountLayout, moved: Moved, kept: AddressKept) -> Iterator[WayOut]:
    if kept.how is KeptHow.NOWHERE:
        yield WayOut(say("old-address/correct-new", to=moved.to), steps=[completing(layout, moved, "to")])
    elif kept.how is KeptHow.NO_HOST:
        domain = layout.account.declared(moved.old.host)
        if domain is not None and domain.state == "retired":
            yield WayOut(say("old-address/keep-domain", host=domain.name), [setting(layout, domain, state=None)])
    elif not _taken_by(layout, moved):
        yield from _sending(layout, moved)
    yield _given_up(layout, moved, say("old-address/give-up", old=moved.old, to=moved.to))


def _given_up(layout: AccountLayout, moved: Moved, words: Message) -> WayOut:
    return WayOut(words, [dropping(layout, moved)])


def _sending(layout: AccountLayout, moved: Moved) -> Iterator[WayOut]:
    """Sending visitors on at once: by a control file where that surely does it, else by the server itself."""
    found = redirect_lines(layout, moved)
    if found is not None:
        file = printable(found.folder.below(".htaccess"))
        words = say(
            "old-address/add-lines", old=moved.old, to=moved.to, file=file, is_first=found.is_first, lines=found.lines
        )
        yield WayOut(words, steps=[AddLines(layout.name, found.folder, ".htaccess", found.lines, found.is_first)])
        return
    goes = web_address(layout, moved.to)
    changes = []
    if moved.below and not stays_below(layout, moved) and layout.server_hosts is None:
        values = {"address": str(moved.old).rstrip("/"), "does": "redirect", "to": goes}
        changes.append(Change(layout.name, "path_rule", None, values))
    words = say("old-address/by-server", old=moved.old, to=moved.to, is_written=bool(changes))
    yield WayOut(words, changes, steps=[SendOldOn(layout.name, str(moved.old), goes)])


@account_rule("address-inside-old", "risk", reaches=RuleReach.ACCOUNT)
def address_inside_old(layout: AccountLayout) -> Iterator[Finding]:
    """The configuration of something live names an address that leads elsewhere: one that it had before, or that of
    what it is a copy of.

    Applications send visitors on to the address that they know, and write it into links, forms and mails: so that who
    opens the new address lands at the old one, and who tries something out on a copy does so on what is live. A
    domain that the account does not have is left to other rules.

    Bad:

        [[installation]]
        application = "wordpress"
        address = "millbrookrail.example"

        # there: www/wp-load.php
        # there: www/wp-admin/index.php
        # there: www/wp-includes/version.php
        # there: www/wp-config.php = "<?php define('DB_NAME', 'p'); define('WP_HOME', 'http://millbrookrail.example/new');"

    Good:

        [[installation]]
        application = "wordpress"
        address = "millbrookrail.example"

        # there: www/wp-load.php
        # there: www/wp-admin/index.php
        # there: www/wp-includes/version.php
        # there: www/wp-config.php = "<?php define('DB_NAME', 'p'); define('WP_HOME', 'http://millbrookrail.example');"

    Ways out:

    - write its own address into the configuration, and replace the other one in its tables.
    """
    for folder, placed in layout.present.items():
        found = layout.contents.applications.get(folder) if layout.contents is not None else None
        if found is None or not found.address or len(placed) != 1:
            continue
        for installation in placed:
            written = _leads_elsewhere(layout, installation, folder, found.address)
            if found.application != installation.application or written is None:
                continue
            own = web_address(layout, installation.address)
            steps: list[Step] = [
                Configure(layout.name, str(installation.address), folder, address=own),
                LookAgain(layout.name),
            ]
            pair = f"{printable(str(written)).rstrip('/')}={str(installation.address).rstrip('/')}"
            has_tables = installation.database is not None or found.database is not None
            told = Remedy.of(Action.READDRESS, str(installation.address).rstrip("/"), pair) if has_tables else None
            yield Finding(
                at=str(installation.address),
                title=say(
                    "address-inside-old/title", address=installation.address, folder=folder.shown, written=written
                ),
                why=say("address-inside-old/why", written=written),
                parties=[installation_party(layout.account, installation, "address"), application_party(layout, found)],
                ways_out=[WayOut(say("address-inside-old/write", own=own), (), told, steps)],
            )


def _leads_elsewhere(layout: AccountLayout, installation: Installation, folder: Folder, named: str) -> Address | None:
    """The address that a configuration names, where that leads to another folder of the account than its own."""
    if installation.state != "live" or installation.is_moving or going_live(layout, installation) is not None:
        return None
    try:
        written = Address.parse(named)
    except InvalidName:
        return None
    leads = layout.tree("now").reach(written)
    if leads is None or leads in (folder, layout.tree("now").reach(installation.address)):
        return None
    front = layout.application(installation).front_file
    may_start = bool(front) and FolderState(layout, "now").has(leads, front or "") is not False
    is_free = leads not in layout.standing and (layout.contents is None or leads not in layout.contents.applications)
    return None if may_start and is_free else written  # a file there may start what lies elsewhere
