"""Rules about document roots."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from functools import partial

from kettlepost.core.layout import AccountLayout
from kettlepost.core.messages import Words, say, series
from kettlepost.core.names import HOME, Address, Folder, nearest, nested_pairs, printable
from kettlepost.core.plan import Change, Domain
from kettlepost.core.rules.consequences import AT_THE_SAME
from kettlepost.core.rules.findings import Finding, LazyWays, Party, WayOut
from kettlepost.core.rules.moves import moved_roots, moves_elsewhere, setting_aside
from kettlepost.core.rules.parties import domain_party, folder_party, installation_party
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import MANY, accepting, completing, is_free, lines_in, setting
from kettlepost.core.steps import (
    Accept,
    CompleteEntry,
    Decide,
    LookAgain,
    LookAtFile,
    LookAtFolder,
    MakeFolder,
    Question,
    Step,
)

_BESIDE = frozenset(("mail", "Maildir", "logs", "log", "backups", "backup", ".ssh", ".gnupg", "ssl"))
"""Folders that hosts put into an account's home beside the document roots."""


@account_rule("shared-root", "stop", reaches=RuleReach.NONE)
def shared_root(layout: AccountLayout) -> Iterator[Finding]:
    """Two domains lead to one folder, so both show the same pages.

    Hosts offer a new domain the root of the main site, and a form that is sent as it stands
    takes it. From then on both names show the main site, an application installed "on the new
    domain" lands over the main one, and search engines see every page twice. Aliases,
    temporary addresses and redirects are meant to lead where another domain does, and are
    left alone.

    Bad:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "www"

    Good:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "lanternchoir"

    Ways out:

    - give the newcomer a folder of its own that is free;
    - if both are to show the same pages, declare the one an alias of the other.
    """
    for root, domains in layout.roots.items():
        if len(domains) < 2:
            continue
        keeper = _keeper(layout, domains)
        newcomers = [domain for domain in domains if domain is not keeper]
        first = newcomers[0]
        names = series((domain.name for domain in domains), MANY)
        yield Finding(
            at=root.shown,
            title=say("shared-root/title", names=names, is_domains=len(domains) == 2, root=root.shown),
            why=say("shared-root/why", first=first.name, keeper=keeper.name),
            parties=[domain_party(layout.account, domain) for domain in [keeper, *newcomers]],
            ways_out=LazyWays(partial(_apart_or_alias, layout, keeper, newcomers)),
        )


def _apart_or_alias(layout: AccountLayout, keeper: Domain, newcomers: list[Domain]) -> list[WayOut]:
    shown, an_alias = (
        ("is", say("apart-or-alias/alias")) if len(newcomers) == 1 else ("are", say("apart-or-alias/each-them-alias"))
    )
    alias = WayOut(
        say(
            "apart-or-alias/show-same-pages",
            newcomers=(domain.name for domain in newcomers),
            shown=shown,
            keeper=keeper.name,
            an_alias=an_alias,
        ),
        [setting(layout, domain, kind="alias", of=str(keeper.name), root=None) for domain in newcomers],
    )
    return [moved_roots(layout, newcomers), alias]


@account_rule("nested-root", "risk", reaches=RuleReach.FOLDER)
def nested_root(layout: AccountLayout) -> Iterator[Finding]:
    """One domain's root lies inside another's.

    The inner site is then reached at a second address, below the outer domain; the outer
    site's control files (.htaccess) take effect in it; and whoever clears the outer site, or
    moves it, takes the inner one along. Some hosts allow nothing else; then accept the
    finding and keep the second address from being used. Where many roots lie in one, they are
    one finding.

    Bad:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "www/choir"

    Good:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "choir"

    Ways out:

    - give the inner domain a free folder outside every other root;
    - where the host insists, redirect the second address to the first, and accept the finding.
    """
    groups: dict[Folder, list[tuple[Folder, Folder]]] = {}
    tops: dict[Folder, Folder] = {}
    for root, outer in nested_pairs(root for root in layout.roots if root):
        tops[root] = tops.get(outer, outer)
        groups.setdefault(tops[root], []).append((root, outer))
    for top, pairs in groups.items():
        if len(pairs) > MANY:
            yield _many_nested(layout, top, [root for root, _ in pairs])
        else:
            yield from (_nested(layout, root, outer) for root, outer in pairs)


@account_rule("root-is-home", "stop", reaches=RuleReach.NONE)
def root_is_home(layout: AccountLayout) -> Iterator[Finding]:
    """A document root is the account's home, or a folder that holds mail, logs or backups.

    Everything in it can then be fetched by anybody: letters, logs with visitors' addresses,
    whole copies of the sites with their passwords. Every other root also lies inside it.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "."

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "www"

    Ways out:

    - give the domain a folder of its own, and move its pages there;
    - move mail, logs and backups out of the root.
    """
    beside = _beside(layout)
    for root, domains in layout.roots.items():
        inside = beside.get(root, [])
        if root and not inside:
            continue
        names = series(domain.name for domain in domains)
        is_what = (
            say("root-is-home/holds", root=root.shown, inside=inside) if root else say("root-is-home/home-account")
        )
        held = say("root-is-home/can-fetched", inside=inside) if inside else say("root-is-home/whatever-lies-beside")
        others = [other for other in layout.roots if other != root and other.is_inside(root)] if not root else []
        follows = [say("root-is-home/also-lie-inside", others=(other.shown for other in others))] if others else []
        ways = [moved_roots(layout, domains)]
        if root:
            decided = Decide(layout.name, Question.WHERE_ELSE, tuple(inside))
            ways.insert(0, WayOut(say("root-is-home/move-out", inside=inside, root=root.shown), steps=[decided]))
        yield Finding(
            at=root.shown,
            title=say("root-is-home/title", names=names, is_what=is_what),
            why=say("root-is-home/why", held=held),
            parties=[domain_party(layout.account, domain, "root") for domain in domains],
            ways_out=ways,
            follows=follows,
        )


@account_rule("root-outside-home", "stop", reaches=RuleReach.NONE)
def root_outside_home(layout: AccountLayout) -> Iterator[Finding]:
    """A document root is a symbolic link that leads out of the account's home.

    What lies there belongs to another account or to the host. It is not in this account's
    backups, does not move along with it, and many hosts refuse to serve it.

    Bad:

        # link: www = "/srv/shared/rail"

    Good:

        # link: www = "sites/rail"

    Ways out:

    - give the domain a folder inside the home, and copy the pages there.
    """
    for domain, link, target in _linked_roots(layout):
        if layout.links.real(domain.root or HOME) is None:
            yield Finding(
                at=(domain.root or HOME).shown,
                title=say("root-outside-home/title", domain=domain.name, target=printable(target)),
                why=say("root-outside-home/why"),
                parties=[domain_party(layout.account, domain, "root"), _link_party(link, target)],
                ways_out=[moved_roots(layout, [domain])],
            )


@account_rule("root-through-link", "note", reaches=RuleReach.NONE, follows={"root-outside-home": AT_THE_SAME})
def root_through_link(layout: AccountLayout) -> Iterator[Finding]:
    """A document root is reached through a symbolic link.

    Two folders then are one: who clears or moves the one clears the other. Backups and copies
    often keep the link and not what it leads to.

    Bad:

        # link: www = "sites/rail"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "sites/rail"

        # link: www = "sites/rail"

    Ways out:

    - write the folder that the link leads to as the root;
    - if the host insists on the link, accept the finding.
    """
    for domain, link, target in _linked_roots(layout):
        real = layout.links.real(domain.root or HOME)
        if real is not None:
            yield Finding(
                at=(domain.root or HOME).shown,
                title=say(
                    "root-through-link/title", domain=domain.name, root=(domain.root or HOME).shown, real=real.shown
                ),
                why=say("root-through-link/why", real=real.shown, domain=domain.name),
                parties=[domain_party(layout.account, domain, "root"), _link_party(link, target)],
                ways_out=[
                    WayOut(
                        say(
                            "root-through-link/write-root",
                            real=printable(real),
                            place=layout.account.place(domain, "root"),
                        ),
                        [setting(layout, domain, root=printable(real))],
                    )
                ],
            )


@account_rule(
    "root-missing", "risk", reaches=RuleReach.FOLDER | RuleReach.SIBLINGS, follows={"shared-root": AT_THE_SAME}
)
def root_missing(layout: AccountLayout) -> Iterator[Finding]:
    """A domain's root does not exist.

    Visitors see an error of the server. It was renamed or removed, the plan misspells it, or the
    domain was never added. Where everything at the domain is still planned, nothing is said:
    the root comes with it.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "wwww"

        # there: www/timetable.html = "Trains run on the first Sunday of the month."

    Good:

        # there: www/timetable.html = "Trains run on the first Sunday of the month."

    Ways out:

    - write the folder that is there;
    - create the folder, or add the domain at the host.
    """
    contents = layout.contents
    if contents is None:
        return
    for root, domains in layout.roots.items():
        if root in contents.folders or all(
            domain.state == "planned" or domain.root_now is not None for domain in domains
        ):
            continue
        if any(layout.links.real(domain.root or HOME) is None for domain in domains):
            continue
        inside = [
            installation
            for folder in (root, *layout.claimed_inside(root))
            for installation in layout.placed.get(folder, ())
        ]
        if inside and all(installation.state == "planned" for installation in inside):
            continue
        near = [
            Folder(name)
            for name in nearest(
                root, [name for name in contents.folders if name.count("/") == root.count("/")], 2, 75.0
            )
            if name and not layout.is_held(Folder(name)) and Folder(name).parent == root.parent
        ]
        ways = [
            WayOut(say("root-missing/meant-write-root", other=other.shown, root=printable(other)),
                [setting(layout, domain, root=printable(other)) for domain in domains])
            for other in near[:1]
        ]  # fmt: skip
        made: list[Step] = [MakeFolder(layout.name, root), LookAgain(layout.name)]
        words = say("root-missing/create-add-domain", root=root.shown)
        ways.append(WayOut(words, steps=made, expects=("empty-root",)))
        yield Finding(
            at=root.shown,
            title=say("root-missing/title", root=root.shown, domains=(domain.name for domain in domains)),
            why=say("root-missing/why"),
            parties=[domain_party(layout.account, domain, "root") for domain in domains],
            ways_out=ways,
        )


@account_rule("case-twin", "risk", reaches=RuleReach.FOLDER)
def case_twin(layout: AccountLayout) -> Iterator[Finding]:
    """A folder of the plan differs from another folder by letter case or Unicode form only.

    To the server they are two, to people and to many file-transfer programs they are one: files
    go into the wrong one, and an address works for some links and not for others.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/Shop"

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/shop"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/pages"

    Ways out:

    - write both alike, if one is meant;
    - give one of them a name of its own.
    """
    seen = layout.contents.folders if layout.contents is not None else {}
    joined = "".join(("".join(layout.roots), "".join(layout.standing), "".join(seen)))
    if joined.isascii() and joined == joined.lower():
        return
    held = {folder for folder in (*layout.roots, *layout.standing) if folder}
    known = held | {Folder(folder) for folder in seen if folder}
    known |= {above for folder in held for above in folder.above() if above}
    twins: dict[str, list[Folder]] = {}
    for folder in sorted(known):
        twins.setdefault(alike(folder), []).append(folder)
    for folders in twins.values():
        ours = [folder for folder in folders if folder in held]
        if len(folders) < 2 or not ours:
            continue
        parties = [party for folder in folders for party in _holders(layout, folder)]
        absent = [place for place in ours if layout.contents is not None and not layout.contents.exists(place)]
        yield Finding(
            at=ours[0].shown,
            title=say("case-twin/title", folders=(folder.shown for folder in folders), difference=_difference(folders)),
            why=say("case-twin/why"),
            parties=parties,
            ways_out=[
                *[_as_it_is_there(layout, absent[0], other)
                  for other in folders if absent and other not in absent][:1],
                *_without(layout, [folder for folder in folders if folder not in held and not absent]),
                *_renamed(layout, ours),
            ],
        )  # fmt: skip


def _as_it_is_there(layout: AccountLayout, place: Folder, other: Folder) -> WayOut:
    """Writing a folder as the one that is there, where the plan names it itself."""
    changes = [setting(layout, domain, root=str(other)) for domain in layout.roots.get(place, ())]
    named = [completing(layout, entry, "address") for entry in layout.standing.get(place, ()) if not changes]
    return WayOut(say("as-it-is-there/meant-write", other=other.shown), changes, steps=named)


def _without(layout: AccountLayout, others: list[Folder]) -> list[WayOut]:
    """Ways of doing without a twin that the plan does not name: it goes where it is empty, else somebody looks."""
    contents, ways = layout.contents, list[WayOut]()
    unread = {found.folder for found in contents.survey.troubles} if contents is not None else set[Folder]()
    for place in others:
        is_used = layout.claimed_inside(place) or layout.is_held(place) or _is_linked(layout, place)
        is_unread = any(folder == place or folder.is_inside(place) for folder in unread)
        if contents is not None and contents.is_empty(place) and not (is_used or is_unread):
            gone = setting_aside(layout, place, ())
            words = say("without/nobody-needs-empty", place=place.shown)
            ways.append(WayOut(words, remedy=gone.remedy, steps=[gone]))
        else:
            look = LookAtFolder(layout.name, place)
            ways.append(WayOut(say("without/look-lies-give", place=place.shown), steps=[look]))
    return ways


def _is_linked(layout: AccountLayout, place: Folder) -> bool:
    """Whether a link leads to a folder, or into it."""
    return any(target == place or target.is_inside(place) for _, target in layout.links_to)


def _renamed(layout: AccountLayout, twins: list[Folder]) -> list[WayOut]:
    """Ways of giving one of them a name of its own: one that is to come before a live one, an untidy before a tidy."""
    place = max(twins, key=lambda one: (not _is_live(layout, one), _is_untidy(one), one))
    domains, entries = layout.roots.get(place, []), layout.standing.get(place, [])
    moved = [moved_roots(layout, domains)] if domains else moves_elsewhere(layout, entries[0])
    if moved:
        return moved
    named = [completing(layout, entry, "address") for entry in entries]
    return [WayOut(say("renamed/give-name-own", place=place.shown), steps=named)]


def _is_live(layout: AccountLayout, place: Folder) -> bool:
    """Whether something that is live leads to a folder, or lies in it."""
    return any(one.state == "live" for one in (*layout.roots.get(place, ()), *layout.standing.get(place, ())))


@account_rule(
    "untidy-name",
    "note",
    reaches=RuleReach.NONE,
    follows={"folder-occupied": AT_THE_SAME, "case-twin": AT_THE_SAME, "reserved-path": AT_THE_SAME},
)
def untidy_name(layout: AccountLayout) -> Iterator[Finding]:
    """A root or an installation's folder has capitals, spaces or letters beyond ASCII in its name.

    Such a name is typed wrongly, looks different when it is sent as a link, and breaks scripts
    and backups that split at spaces.

    Bad:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "Web Site"

    Good:

        [[domain]]
        name = "millbrookrail.example"
        kind = "primary"
        root = "web-site"

    Ways out:

    - give it a name of small letters, digits and hyphens while that is still easy;
    - if it is in use, keep it and accept the finding.
    """
    written = "".join(str(domain.root or "") for domain in layout.account.domains)
    written += "".join(entry.address[1] for entry in layout.account.installations)
    if not _is_untidy(written):
        return
    for root, domains in layout.roots.items():
        untidy = [domain for domain in domains if domain.root is not None and _is_untidy(domain.root)]
        if untidy:
            other = _tidy(untidy[0].root or HOME)
            changes = [setting(layout, domain, root=str(other)) for domain in untidy] if is_free(layout, other) else []
            is_live = any(domain.state == "live" for domain in untidy)
            party, named = domain_party(layout.account, untidy[0], "root"), completing(layout, untidy[0], "root")
            yield _untidy(root, party, other, changes, named, is_live)
    for folder, placed in layout.standing.items():
        installation = placed[0]
        if not _is_untidy(installation.address.path):
            continue
        path = _tidy(Folder(installation.address.path))
        lies = layout.reach(installation.address.__class__(installation.address.host, path))
        free = installation.folder is None and lies is not None and not layout.is_held(lies)
        if layout.contents is not None and lies is not None and layout.contents.exists(lies):
            free = False
        changes = [setting(layout, installation, address=f"{installation.address.host}/{path}")] if free else []
        party = installation_party(layout.account, installation, "address")
        named = completing(layout, installation, "address")
        yield _untidy(folder, party, path, changes, named, installation.state == "live")


def _untidy(
    folder: Folder, party: Party, other: Folder, changes: list[Change], named: CompleteEntry, is_live: bool
) -> Finding:
    if is_live:
        rule = "untidy-name"
        accepted = [Accept(named.account, rule, folder.shown)]
        words = say("untidy/use-keep-accept")
        keep = WayOut(words, remedy=accepting(rule, folder.shown), steps=accepted)
        ways = [keep, WayOut(say("untidy/call-host-first", other=other.shown), steps=[named])]
    else:
        steps = [] if changes else [named]
        ways = [WayOut(say("untidy/call-plan-host", other=other.shown), changes, steps=steps)]
    return Finding(
        at=folder.shown,
        title=say("untidy/title", folder=folder.shown, untidiness=_untidiness(folder)),
        why=say("untidy/why"),
        parties=[party],
        ways_out=ways,
    )


def _nested(layout: AccountLayout, root: Folder, outer: Folder) -> Finding:
    domains = layout.roots[root]
    holder = layout.roots[outer][0]
    names = {mount.address for mount in layout.mounts[root]}
    second = [address for address in layout.addresses_of(root) if address not in names]
    also = say("nested/also-answers", second=map(str, second)) if second else ""
    return Finding(
        at=root.shown,
        title=say(
            "nested/title",
            root=root.shown,
            domains=(domain.name for domain in domains),
            outer=outer.shown,
            holder=holder.name,
        ),
        why=say("nested/why", holder=holder.name, also=also),
        parties=[domain_party(layout.account, domain) for domain in [*domains, *layout.roots[outer]]],
        ways_out=LazyWays(lambda: _out_of_the_outer(layout, root, domains, second)),
    )


def _out_of_the_outer(
    layout: AccountLayout, root: Folder, domains: list[Domain], second: list[Address]
) -> list[WayOut]:
    ways = [moved_roots(layout, domains)]
    if second:
        ways.append(
            WayOut(
                say("out-of-the-outer/host-gives-other", second=second[0], domain=domains[0].name, root=root.shown),
                steps=[*_sent_home(layout, root, domains[0], second), Accept(layout.name, "nested-root", root.shown)],
            )
        )
    return ways


def _sent_home(layout: AccountLayout, root: Folder, domain: Domain, second: list[Address]) -> Iterator[Step]:
    """The lines in a root's own control file that send visitors of its other addresses on to its name."""
    if not layout.obeys_control_files:
        return
    scheme = "https" if domain.https else "http"
    hosts = dict.fromkeys(str(address.host) for address in second)
    names = "|".join(re.escape(host) for host in hosts if "*" not in host)
    if names:
        lines = (
            "RewriteEngine On",
            f"RewriteCond %{{HTTP_HOST}} ^(?:{names})$ [NC]",
            f"RewriteRule ^(.*)$ {scheme}://{domain.name}/$1 [R=301,L]",
        )
        there = layout.contents.controls(root) if layout.contents is not None else []
        own = {line.split(" ")[1].lower() for one in there for line in one.lines if " " in line}
        if own & {"rewriterule", "fallbackresource"}:  # behind those the path that was asked for is lost
            yield LookAtFile(
                layout.name, root, ".htaccess", say("sent-home/above-its-rules", lines="; then ".join(lines))
            )
        else:
            yield from lines_in(layout, root, lines)


def _many_nested(layout: AccountLayout, top: Folder, roots: list[Folder]) -> Finding:
    domains = [domain for root in roots for domain in layout.roots[root]]
    holder = layout.roots[top][0]
    return Finding(
        at=top.shown,
        title=say("many-nested/title", domains=len(domains), top=top.shown, holder=holder.name),
        why=say("many-nested/why", holder=holder.name, top=top.shown),
        parties=[domain_party(layout.account, domain) for domain in [*layout.roots[top], *domains]],
        ways_out=LazyWays(lambda: [moved_roots(layout, domains)]),
    )


def _keeper(layout: AccountLayout, domains: list[Domain]) -> Domain:
    """The domain that was there first: the primary, else the one with most installations, else the first written."""
    hosts: dict[str, int] = {}
    for installation in layout.account.installations:
        hosts[installation.address.host] = hosts.get(installation.address.host, 0) + 1
    return min(domains, key=lambda domain: (domain.kind != "primary", -hosts.get(domain.name, 0)))


def _beside(layout: AccountLayout) -> dict[Folder, list[str]]:
    """The folders directly in roots that hold mail, logs or backups; an application may have such of its own."""
    if layout.contents is None:
        return {}
    called = {root: there for root, there in layout.contents.called(_BESIDE).items() if root in layout.roots}
    own = layout.contents.applications.keys()
    found = {root: [folder.shown for folder in there if folder not in layout.roots] for root, there in called.items()}
    return {root: names for root, names in found.items() if names and root not in own}


def _linked_roots(layout: AccountLayout) -> Iterator[tuple[Domain, Folder, str]]:
    """Domains whose root is reached through a symbolic link, with the first link on the way."""
    if layout.links:
        for domain in layout.account.domains:
            if domain.claims_root and domain.root is not None and domain.state != "retired":
                first = layout.links.first_in(domain.root)
                if first is not None:
                    yield domain, *first


def _link_party(link: Folder, target: str) -> Party:
    return Party("link", link.shown, found=say("party/leads-to", target=printable(target)))


def alike(folder: str) -> str:
    return unicodedata.normalize("NFC", folder).casefold()


def _difference(folders: list[Folder]) -> Words:
    normal = {unicodedata.normalize("NFC", folder) for folder in folders}
    return say("difference/unicode-form") if len(normal) == 1 else say("difference/letter-case")


def _holders(layout: AccountLayout, folder: Folder) -> list[Party]:
    found = [domain_party(layout.account, domain, "root") for domain in layout.roots.get(folder, ())]
    found += [installation_party(layout.account, installation) for installation in layout.standing.get(folder, ())]
    return found or [folder_party(folder)]


def _is_untidy(folder: str) -> bool:
    return not folder.isascii() or folder != folder.lower() or " " in folder


def _untidiness(folder: str) -> Words:
    told: list[Words] = ["capitals"] if folder != folder.lower() else []
    told += ["spaces"] if " " in folder else []
    return series(
        [*told, *([say("untidiness/letters-beyond-ascii")] if not folder.isascii() else [])]
        or [say("untidiness/such-letters")]
    )


def _tidy(folder: Folder) -> Folder:
    plain = unicodedata.normalize("NFKD", folder).encode("ascii", "ignore").decode().lower()
    parts = [re.sub(r"[^a-z0-9._~-]+", "-", part).strip("-") or "site" for part in plain.split("/")]
    return Folder("/".join(parts))
