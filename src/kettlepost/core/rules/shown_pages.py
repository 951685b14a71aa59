"""Rules about what addresses showed when the world was last asked."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress

from kettlepost.core.layout import AccountLayout, Mount, covering
from kettlepost.core.messages import Message, Words, say
from kettlepost.core.names import Address, Folder, HostName, InvalidName, readable
from kettlepost.core.plan import Installation
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.parties import domain_party, installation_party
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.ways_out import setting
from kettlepost.core.rules.witnesses import asking_again, witness
from kettlepost.core.steps import (
    ChangeRoot,
    Decide,
    GetCertificate,
    LookAgain,
    ProbeAgain,
    ProtectName,
    Question,
    RedirectToHttps,
    RemoveLeftovers,
    Step,
    TellSearchEngines,
)
from kettlepost.core.survey import ProbeTrouble, SeenPage, ShownKind, host_of


@account_rule("other-site-shown", "risk", reaches=RuleReach.HOST)
def other_site_shown(layout: AccountLayout) -> Iterator[Finding]:
    """A host shows the page of another folder, to the byte, than the plan has it lead to.

    The server has another root for it, or does not know the name, so that its first host answers.
    What is deployed where the plan has it is seen by nobody.

    Bad:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "choir"

        # probed: pages = {"url": "http://lanternchoir.example/", "at": "192.0.2.10", "status": 200, "kind": "page", \
"shows": "www/index.html"}

    Good:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "choir"

        # probed: pages = {"url": "http://lanternchoir.example/", "at": "192.0.2.10", "status": 200, "kind": "page", \
"shows": "choir/index.html"}

    Ways out:

    - change the root at the host, and ask again;
    - where the server is right, write down what it has.
    """
    for seen, mount in _pages(layout):
        leads = mount.folder
        if not seen.shows or leads is None or seen.hops or mount.address.path or not _is_root(seen):
            continue
        other = Folder(seen.shows).parent
        if seen.kind is ShownKind.PLACEHOLDER or other == leads:
            continue
        host, domain = HostName(host_of(seen.url)), mount.domain
        again = ProbeAgain(layout.name, host)
        own = domain.name == host and domain.claims_root and domain.root_now is None and other
        down = WayOut(
            say("other-site-shown/write", root=other.shown), [setting(layout, domain, root=other.shown)], as_it_is=True
        )
        yield Finding(
            at=seen.url,
            title=say("other-site-shown/title", host=readable(host), other=other.shown, root=leads.shown),
            why=say("other-site-shown/why", day=seen.seen[:10]),
            parties=[
                domain_party(layout.account, domain, "root"),
                witness(seen.url, say("other-site-shown/seen"), seen.seen),
            ],
            ways_out=[
                WayOut(
                    say("other-site-shown/change", host=readable(host), root=leads.shown),
                    steps=[ChangeRoot(layout.name, domain.name, other, leads), again],
                ),
                *([down] if own else []),
            ],
        )


@account_rule("placeholder-shown", "risk", reaches=RuleReach.HOST)
def placeholder_shown(layout: AccountLayout) -> Iterator[Finding]:
    """A page that only holds the place is shown where an application is live.

    The host's welcome page is still there and wins, or the server leads the name to another folder.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "live"

        # probed: pages = {"url": "http://millbrookrail.example/shop/", "at": "192.0.2.10", "status": 200, \
"kind": "placeholder", "what": "apache"}

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "live"

        # probed: pages = {"url": "http://millbrookrail.example/shop/", "at": "192.0.2.10", "status": 200, \
"kind": "application", "what": "barrowshop"}

    Ways out:

    - look what lies in its folder: a placeholder there is told by other rules, with how it goes; then ask again.
    """
    for seen, mount, installation in _sites(layout):
        if seen.kind is ShownKind.PLACEHOLDER and installation.state == "live":
            told = say("placeholder-shown/seen", what=seen.what)
            yield _shown(
                layout,
                mount,
                installation,
                seen,
                say("placeholder-shown/title", url=seen.url),
                say("placeholder-shown/why", day=seen.seen[:10]),
                told,
                [WayOut(say("placeholder-shown/look"), steps=[LookAgain(layout.name), asking_again(layout, seen)])],
            )


@account_rule("installer-open", "risk", reaches=RuleReach.HOST)
def installer_open(layout: AccountLayout) -> Iterator[Finding]:
    """The page that sets an application up is open to everybody.

    Whoever finds it first sets the application up, with an administrator of their own: the site is theirs.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "live"

        # probed: pages = {"url": "http://millbrookrail.example/shop/", "at": "192.0.2.10", "status": 200, \
"kind": "installer", "what": "barrowshop"}

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "live"

        # probed: pages = {"url": "http://millbrookrail.example/shop/", "at": "192.0.2.10", "status": 200, \
"kind": "application", "what": "barrowshop"}

    Ways out:

    - set it up now, or remove what sets it up, and ask again;
    - until then have the host ask for a password.
    """
    for seen, mount, installation in _sites(layout):
        if seen.kind is ShownKind.INSTALLER:
            known, host = layout.application(installation), mount.address.host
            removed = tuple(known.leftovers or ([known.set_up] if known.set_up else []))
            gone = Decide(layout.name, Question.WHAT_GOES, (seen.url,))
            ways = [
                WayOut(
                    say("installer-open/finish", application=known.shown),
                    steps=[RemoveLeftovers(layout.name, removed) if removed else gone, asking_again(layout, seen)],
                ),
                WayOut(
                    say("installer-open/protect"), steps=[ProtectName(layout.name, host), asking_again(layout, seen)]
                ),
            ]
            yield _shown(
                layout,
                mount,
                installation,
                seen,
                say("installer-open/title", url=seen.url),
                say("installer-open/why", day=seen.seen[:10]),
                say("installer-open/seen"),
                ways,
            )


@account_rule("laid-open", "risk", "note", reaches=RuleReach.HOST)
def laid_open(layout: AccountLayout) -> Iterator[Finding]:
    """An address shows everything about PHP on the machine, or a list of all files.

    Both tell whoever looks where to begin: versions, paths, and files that nobody meant to publish.

    Bad:

        # probed: pages = {"url": "http://millbrookrail.example/", "at": "192.0.2.10", "status": 200, "kind": "phpinfo"}

    Good:

        # probed: pages = {"url": "http://millbrookrail.example/", "at": "192.0.2.10", "status": 200, "kind": "page"}

    Ways out:

    - look what lies there, take out the page, or put an index page, and ask again.
    """
    for seen, mount in _pages(layout):
        if seen.kind in (ShownKind.PHP_INFO, ShownKind.LISTING):
            is_listing = seen.kind is ShownKind.LISTING
            what = say("laid-open/listing") if is_listing else say("laid-open/php")
            question = Decide(layout.name, Question.WHAT_GOES, (seen.url,))
            yield Finding(
                at=seen.url,
                title=say("laid-open/title", url=seen.url, what=what),
                why=say("laid-open/why", day=seen.seen[:10]),
                parties=[domain_party(layout.account, mount.domain), witness(seen.url, what, seen.seen)],
                ways_out=[
                    WayOut(
                        say("laid-open/take-out"), steps=[question, LookAgain(layout.name), asking_again(layout, seen)]
                    )
                ],
                severity="note" if is_listing else "risk",
            )


@account_rule("admin-unencrypted", "risk", reaches=RuleReach.HOST)
def admin_unencrypted(layout: AccountLayout) -> Iterator[Finding]:
    """The address at which an application is looked after answers by http, without sending on to https.

    The administrator's password goes over the net for everybody on the way to read.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "live"

        # probed: pages = {"url": "http://millbrookrail.example/shop/till.php", "at": "192.0.2.10", "status": 200, \
"kind": "login", "end": "http://millbrookrail.example/shop/till.php"}

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "live"

        # probed: pages = {"url": "http://millbrookrail.example/shop/till.php", "at": "192.0.2.10", "status": 200, \
"kind": "login", "end": "https://millbrookrail.example/shop/till.php"}

    Ways out:

    - get a certificate, send http on to https, and ask again.
    """
    for seen, mount, installation in _sites(layout, administration=True):
        is_open = seen.status is not None and (seen.status < 300 or seen.status == 401)
        if seen.url.startswith("http:") and seen.end.startswith("http:") and is_open and installation.state == "live":
            host = mount.address.host
            steps: list[Step] = [] if layout.has_certificate(host) else [GetCertificate(layout.name, host, (host,))]
            way = WayOut(
                say("admin-unencrypted/send-on", host=readable(host)),
                steps=[*steps, RedirectToHttps(layout.name, host), asking_again(layout, seen)],
            )
            yield _shown(
                layout,
                mount,
                installation,
                seen,
                say("admin-unencrypted/title", url=seen.url),
                say("admin-unencrypted/why", day=seen.seen[:10]),
                say("admin-unencrypted/seen"),
                [way],
            )


@account_rule("circle-shown", "stop", reaches=RuleReach.HOST)
def circle_shown(layout: AccountLayout) -> Iterator[Finding]:
    """An address sends visitors round in a circle, so that browsers give up.

    Two redirects lead to each other: one to https and one back, one to www and one away from it, or
    the application itself was told another address.

    Bad:

        # probed: pages = {"url": "http://millbrookrail.example/", "at": "192.0.2.10", "trouble": "probe/round"}

    Good:

        # probed: pages = {"url": "http://millbrookrail.example/", "at": "192.0.2.10", "status": 200, "kind": "page"}

    Ways out:

    - decide which of the redirects is right, take out the other one, and ask again.
    """
    for seen, mount in _pages(layout):
        if seen.trouble is ProbeTrouble.ROUND:
            hops = tuple(f"{hop.url} {hop.status}" for hop in seen.hops[-4:]) or (seen.url,)
            question = Decide(layout.name, Question.WHAT_GOES, tuple(hop.url for hop in seen.hops[-4:]) or (seen.url,))
            yield Finding(
                at=seen.url,
                title=say("circle-shown/title", url=seen.url),
                why=say("circle-shown/why", day=seen.seen[:10]),
                parties=[domain_party(layout.account, mount.domain), *(witness(hop, "", seen.seen) for hop in hops)],
                ways_out=[WayOut(say("circle-shown/take-out"), steps=[question, asking_again(layout, seen)])],
            )


@account_rule("staging-public", "risk", reaches=RuleReach.HOST)
def staging_public(layout: AccountLayout) -> Iterator[Finding]:
    """A rehearsal is seen by everybody, and search engines may list it.

    People order there, or find two sites of one name.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "live"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/try"
        state = "live"
        staging_of = "millbrookrail.example/shop"

        # probed: pages = {"url": "http://millbrookrail.example/try/", "at": "192.0.2.10", "status": 200, \
"kind": "application", "what": "barrowshop"}

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "live"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/try"
        state = "live"
        staging_of = "millbrookrail.example/shop"

        # probed: pages = {"url": "http://millbrookrail.example/try/", "at": "192.0.2.10", "status": 401, \
"kind": "login"}

    Ways out:

    - have the host ask for a password, and ask again;
    - keep search engines out, and ask again.
    """
    for seen, mount, installation in _sites(layout):
        is_open = seen.status == 200 and not seen.keeps_out and not seen.signed_in
        if installation.staging_of is not None and is_open:
            ways = [
                WayOut(
                    say("staging-public/protect"),
                    steps=[ProtectName(layout.name, mount.address.host), asking_again(layout, seen)],
                ),
                WayOut(
                    say("staging-public/keep-out"),
                    steps=[TellSearchEngines(layout.name, False), asking_again(layout, seen)],
                ),
            ]
            yield _shown(
                layout,
                mount,
                installation,
                seen,
                say("staging-public/title", url=seen.url),
                say("staging-public/why", day=seen.seen[:10]),
                say("staging-public/seen"),
                ways,
            )


@account_rule("search-kept-out", "risk", reaches=RuleReach.HOST)
def search_kept_out(layout: AccountLayout) -> Iterator[Finding]:
    """A live site keeps search engines out.

    What was right while it was being built is forgotten, and nobody finds the site.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "live"

        # probed: pages = {"url": "http://millbrookrail.example/shop/", "at": "192.0.2.10", "status": 200, \
"kind": "application", "what": "barrowshop", "keeps_out": "meta"}

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "live"

        # probed: pages = {"url": "http://millbrookrail.example/shop/", "at": "192.0.2.10", "status": 200, \
"kind": "application", "what": "barrowshop"}

    Ways out:

    - let them in, and ask again;
    - where they are kept out on purpose, write indexing = false.
    """
    for seen, mount, installation in _sites(layout):
        is_live = installation.state == "live" and installation.staging_of is None and installation.indexing
        if is_live and seen.status == 200 and seen.keeps_out:
            ways = [
                WayOut(
                    say("search-kept-out/let-in"),
                    steps=[TellSearchEngines(layout.name, True), asking_again(layout, seen)],
                ),
                WayOut(say("search-kept-out/on-purpose"), [setting(layout, installation, indexing=False)]),
            ]
            told = say("search-kept-out/seen", by=seen.keeps_out)
            yield _shown(
                layout,
                mount,
                installation,
                seen,
                say("search-kept-out/title", url=seen.url),
                say("search-kept-out/why", day=seen.seen[:10]),
                told,
                ways,
            )


def _pages(layout: AccountLayout) -> Iterator[tuple[SeenPage, Mount]]:
    """What hosts show at the account's machine."""
    for _, mounts, there in layout.seen_in_world():
        for seen in there.pages:
            with suppress(InvalidName):
                mount = covering(mounts, Address.parse(seen.url))
                if mount is not None and layout.is_its_machine(seen.at):
                    yield seen, mount


def _sites(layout: AccountLayout, administration: bool = False) -> Iterator[tuple[SeenPage, Mount, Installation]]:
    """What is shown at the very addresses of installations, or at those at which they are looked after."""
    if layout.world is None:
        return
    at: dict[str, Installation] = {}
    for installation in layout.account.installations:
        below = layout.application(installation).admin if administration else ""
        if installation.state != "retired" and below is not None and (below or not administration):
            base = f"{installation.address}".rstrip("/")
            at[f"{base}/{below.lstrip('/')}"] = installation
    for seen, mount in _pages(layout):
        found = at.get(seen.url.partition("://")[2])
        if found is not None:
            yield seen, mount, found


def _is_root(seen: SeenPage) -> bool:
    return seen.url.count("/") == 3 and seen.url.endswith("/")


def _shown(
    layout: AccountLayout,
    mount: Mount,
    installation: Installation,
    seen: SeenPage,
    title: Message,
    why: Message,
    told: Words,
    ways: list[WayOut],
) -> Finding:
    """A finding about what the address of an installation shows."""
    parties = [
        installation_party(layout.account, installation),
        domain_party(layout.account, mount.domain),
        witness(seen.url, told, seen.seen),
    ]
    return Finding(at=seen.url, title=title, why=why, parties=parties, ways_out=ways)
