"""Rules about installations and the folders they lie in."""

from __future__ import annotations

from collections.abc import Iterator

from kettlepost.core.answering import Requests
from kettlepost.core.layout import AccountLayout, FolderState, holds_in, stands_for
from kettlepost.core.messages import Words, say, series
from kettlepost.core.names import Folder, quoted
from kettlepost.core.plan import Database, Domain, Installation, RecordId
from kettlepost.core.rules.consequences import AMONG_ITS_DOMAINS, AT_THE_SAME, BETWEEN_THE_SAME
from kettlepost.core.rules.findings import Finding, WayOut
from kettlepost.core.rules.going_live import going_live, has_gone_live
from kettlepost.core.rules.moves import moves_elsewhere, own_subdomain
from kettlepost.core.rules.parties import application_party, at_its_address, folder_party, installation_party, named
from kettlepost.core.rules.paths import canonical
from kettlepost.core.rules.precedence import precedence
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.removal import removal, what_stays
from kettlepost.core.rules.tables_apart import (
    copy_remedy,
    copying,
    data_apart,
    free_database,
    own_prefix,
    room_for_databases,
)
from kettlepost.core.rules.ways_out import MANY, accepting, clearing, dropping, free_address, setting
from kettlepost.core.steps import (
    Accept,
    CompleteEntry,
    DeleteFolder,
    KeepFolder,
    LookAgain,
    LookAtFolder,
    Step,
    WriteFrontFile,
)


@account_rule(
    "same-folder",
    "stop",
    reaches=RuleReach.NONE,
    follows={"shared-root": AMONG_ITS_DOMAINS, "address-twice": BETWEEN_THE_SAME},
)
def same_folder(layout: AccountLayout) -> Iterator[Finding]:
    """Two installations end in the same folder.

    The second one to be deployed overwrites the index file, the configuration and the control
    files of the first. It happens when two addresses lead to one folder (a nested root, a path
    alias), when the folder box of an installer is left blank, or when an entry was copied.
    Retired installations do not count.

    Bad:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "www/choir"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/choir"

        [[installation]]
        application = "ticketgrove"
        address = "lanternchoir.example"

    Good:

        [[domain]]
        name = "lanternchoir.example"
        kind = "addon"
        root = "www/choir"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/choir"

        [[installation]]
        application = "ticketgrove"
        address = "lanternchoir.example/tickets"

    Ways out:

    - give the later one an address whose folder is free;
    - give it a subdomain of its own;
    - if one of them is gone, mark it retired, or remove an entry that was written twice.
    """
    for folder, placed in layout.standing.items():
        if len(placed) < 2:
            continue
        keeper, *others = sorted(placed, key=lambda installation: precedence(layout, installation))
        names = series(map(at_its_address, placed), MANY)
        yield Finding(
            at=folder.shown,
            title=say("same-folder/title", names=names, folder=folder.shown),
            why=say("same-folder/why"),
            parties=[installation_party(layout.account, installation) for installation in [keeper, *others]],
            ways_out=_told_apart(layout, folder, keeper, others),
            about=_domains_of(layout, placed),
        )


@account_rule(
    "nested-installation",
    "risk",
    reaches=RuleReach.FOLDER,
    follows={"shared-root": AMONG_ITS_DOMAINS, "nested-root": AMONG_ITS_DOMAINS, "path-shadowed": BETWEEN_THE_SAME},
)
def nested_installation(layout: AccountLayout) -> Iterator[Finding]:
    """One installation's folder lies inside another's.

    The outer application's control files and rewrites take effect in the inner one, an update
    or removal of the outer one may sweep the inner one away, and the outer one cannot use the
    address for a page of its own. Often it works for years, then an update ends it.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

    Good:

        [[domain]]
        name = "shop.millbrookrail.example"
        kind = "subdomain"
        root = "shop"

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"

        [[installation]]
        application = "barrowshop"
        address = "shop.millbrookrail.example"

    Ways out:

    - give the inner one a subdomain with a root of its own, outside the outer one's folder;
    - keep it, back up both before every update of either, and accept the finding.
    """
    for folder, outside in layout.nested:
        inner, outer = layout.standing[folder][0], layout.standing[outside][0]
        if inner.application != outer.application:
            yield Finding(
                at=folder.shown,
                title=say(
                    "nested-installation/title",
                    application=inner.application,
                    folder=folder.shown,
                    outer=outer.application,
                    outside=outside.shown,
                ),
                why=say(
                    "nested-installation/why",
                    address=outer.address,
                    application=outer.application,
                    inner=inner.application,
                ),
                parties=[installation_party(layout.account, installation) for installation in (inner, outer)],
                ways_out=_out_of(layout, inner, folder, outside, "nested-installation"),
                about=_domains_of(layout, [inner, outer]),
            )


@account_rule(
    "same-application-nested",
    "risk",
    reaches=RuleReach.FOLDER,
    follows={"shared-root": AMONG_ITS_DOMAINS, "nested-root": AMONG_ITS_DOMAINS, "path-shadowed": BETWEEN_THE_SAME},
)
def same_application_nested(layout: AccountLayout) -> Iterator[Finding]:
    """Two installations of one application, one inside the other.

    What goes wrong with any nested installation is harder to see where both look alike: rewrites of
    the outer one send visitors of the inner one to the wrong pages, an update or a removal of the
    outer one takes the inner one along, and where the application does not keep their cookies apart
    by path or name, logging in to one logs out of the other.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/news"

    Good:

        [[domain]]
        name = "news.millbrookrail.example"
        kind = "subdomain"
        root = "news"

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"

        [[installation]]
        application = "quillmoor"
        address = "news.millbrookrail.example"

    Ways out:

    - give the inner one a subdomain with a root of its own;
    - keep it, back up both before every update of either, and accept the finding.
    """
    for folder, outside in layout.nested:
        inner, outer = layout.standing[folder][0], layout.standing[outside][0]
        if inner.application == outer.application:
            yield Finding(
                at=folder.shown,
                title=say(
                    "same-application-nested/title",
                    application=inner.application,
                    folder=folder.shown,
                    outside=outside.shown,
                ),
                why=say("same-application-nested/why", address=outer.address, outside=outside.shown),
                parties=[installation_party(layout.account, installation) for installation in (inner, outer)],
                ways_out=_out_of(layout, inner, folder, outside, "same-application-nested"),
                about=_domains_of(layout, [inner, outer]),
            )


@account_rule("folder-exists", "stop", reaches=RuleReach.NONE, follows={"folder-occupied": AT_THE_SAME})
def folder_exists(layout: AccountLayout) -> Iterator[Finding]:
    """An installer that wants a new folder is to go into one that exists.

    It refuses, even where the folder is empty; some hosts then put it into a folder with a
    number behind the name, and the address is not the planned one. With `deploy_by = "hand"` no
    installer has a say. The root of a domain that
    is still to be added is made by the host, and so is there before any installer is.

    Bad:

        [[installation]]
        application = "ticketgrove"
        address = "millbrookrail.example/tickets"
        state = "planned"

        # there: www/tickets/index.html = "Coming soon"

    Good:

        [[installation]]
        application = "ticketgrove"
        address = "millbrookrail.example/seats"
        state = "planned"

        # there: www/tickets/index.html = "Coming soon"

    Ways out:

    - install under a name that is not there yet;
    - remove the folder, once nothing in it is wanted;
    - upload it by hand, and write `deploy_by = "hand"`.
    """
    if layout.contents is None:
        return
    for folder, installation in layout.planned:
        coming = next((domain for domain in layout.roots.get(folder, ()) if domain.state == "planned"), None)
        is_there = layout.contents.exists(folder)
        wants_new = layout.wants_new_folder(installation) and not installation.is_moving
        if not wants_new or not (is_there or coming):
            continue
        below = free_address(layout, installation)
        ways = []
        if below is not None:
            words = say(
                "folder-exists/move-does-exist", address=installation.address, below=below[0], folder=below[1].shown
            )
            ways.append(WayOut(words, [setting(layout, installation, address=str(below[0]), folder=None)]))
        others = holds_in(layout, folder, "", installation.number)
        goes = folder not in layout.roots and not what_stays(layout, folder, others)
        if goes:
            words = say("folder-exists/remove-once-nothing", folder=folder.shown)
            gone: list[Step] = [
                KeepFolder(layout.name, folder),
                DeleteFolder(layout.name, folder),
                LookAgain(layout.name),
            ]
            ways.append(WayOut(words, remedy=clearing(installation), steps=gone))
        why_there = _why_there(folder, None if is_there else coming)
        yield Finding(
            at=folder.shown,
            title=say("folder-exists/title", application=installation.application, why_there=why_there),
            why=say("folder-exists/why"),
            parties=[installation_party(layout.account, installation), folder_party(folder)],
            ways_out=[
                *ways,
                WayOut(
                    say("folder-exists/upload-hand-instead", application=installation.application),
                    [setting(layout, installation, deploy_by="hand")],
                ),
            ],
            pending=goes and layout.contents.is_empty(folder),
        )


def _why_there(folder: Folder, coming: Domain | None) -> Words:
    if coming is None:
        return say("why-there/already", folder=folder.shown)
    return say("why-there/made-host-once", folder=folder.shown, coming=coming.name)


@account_rule("front-missing", "risk", reaches=RuleReach.NONE)
def front_missing(layout: AccountLayout) -> Iterator[Finding]:
    """An installation's files lie apart from its address, and nothing at the address leads to them.

    Files in a subfolder can be served at the root through a front file there: a copy of the
    application's own that loads the rest from the subfolder. Without it, or a rewrite to the
    subfolder, visitors of the address do not see the application.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        folder = "www/quill"

        # there: www/quill/quill.php
        # there: www/quill/moor/kernel.php

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        folder = "www/quill"

        # there: www/index.php = "<?php require 'quill/quill.php'; echo 'Trains and timetables.';"
        # there: www/quill/quill.php
        # there: www/quill/moor/kernel.php

    Ways out:

    - put the application's front file at the address, set to load the subfolder;
    - write the address at which the files really answer.
    """
    if layout.contents is None or not any(
        installation.folder is not None for installation in layout.account.installations
    ):
        return
    for folder, placed in layout.standing.items():
        for installation in placed:
            if installation.folder is None or installation.state != "live":
                continue
            front = layout.reach(installation.address)
            if front is None or front == folder or _has_front(layout, front, installation):
                continue
            name = layout.application(installation).front_file or layout.application(installation).index_files[0]
            put: list[Step] = [WriteFrontFile(layout.name, front, name, folder), LookAgain(layout.name)]
            ways = [
                WayOut(say("front-missing/put-into-set", name=name, front=front.shown, folder=folder.shown), steps=put)
            ]
            real = layout.addresses_of(folder)
            if real:
                words = say("front-missing/answers-write-address", real=real[0])
                ways.append(WayOut(words, [setting(layout, installation, address=str(real[0]), folder=None)]))
            yield Finding(
                at=str(installation.address),
                title=say(
                    "front-missing/title",
                    application=installation.application,
                    folder=folder.shown,
                    front=front.shown,
                    address=installation.address,
                ),
                why=say("front-missing/why"),
                parties=[installation_party(layout.account, installation, "folder")],
                ways_out=ways,
            )


@account_rule("root-refused", "stop", reaches=RuleReach.NONE)
def root_refused(layout: AccountLayout) -> Iterator[Finding]:
    """The package allows no installation at a domain's root, and one is planned there.

    The installer refuses, or puts it into a folder of its own choosing.

    Bad:

        [account]
        name = "millbrook"
        package = "tin"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"
        state = "planned"

    Good:

        [account]
        name = "millbrook"
        package = "tin"

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"

    Ways out:

    - install into a subfolder;
    - take a package that allows it.
    """
    package = layout.plan.packages.get(layout.account.settings.package or "")
    if package is None or package.root_installations:
        return
    for folder, placed in layout.standing.items():
        for installation in placed:
            if installation.state == "planned" and folder in layout.roots:
                yield Finding(
                    at=str(installation.address),
                    title=say(
                        "root-refused/title",
                        application=installation.application,
                        folder=folder.shown,
                        package=layout.account.settings.package,
                    ),
                    why=say("root-refused/why"),
                    parties=[installation_party(layout.account, installation)],
                    ways_out=[
                        *moves_elsewhere(layout, installation)[:1],
                        WayOut(
                            say("root-refused/take-package-allows"),
                            steps=[CompleteEntry(layout.name, "account", None, ("package",))],
                        ),
                    ],
                )


@account_rule("staging-shares-data", "stop", reaches=RuleReach.HOST)
def staging_shares_data(layout: AccountLayout) -> Iterator[Finding]:
    """A staging site uses the tables of the live one.

    What is tried out in the rehearsal happens to the real data: test orders, deleted pages,
    settings with the staging address in them, which the live site then sends its visitors to.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "millb_shop", prefix = "bs4_" }

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/try"
        staging_of = "millbrookrail.example/shop"
        database = { name = "millb_shop", prefix = "bs4_" }

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        database = { name = "millb_shop", prefix = "bs4_" }

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/try"
        staging_of = "millbrookrail.example/shop"
        database = { name = "millb_try", prefix = "bs7_" }

    Ways out:

    - give the staging site a database of its own, with a copy of the data.
    """
    if not layout.rehearsals:
        return
    users = {user.installation.number: user for user in layout.tables.users if user.installation is not None}
    ours = {
        canonical(layout, installation.address): installation
        for installation in layout.account.installations
        if installation.state != "retired"
    }
    for installation in layout.account.installations:
        live = ours.get(canonical(layout, installation.staging_of)) if installation.staging_of is not None else None
        if live is None or live.number == installation.number or installation.state == "retired":
            continue
        mine, theirs = users.get(installation.number), users.get(live.number)
        if mine is None or theirs is None or (mine.database, mine.prefix) != (theirs.database, theirs.prefix):
            continue
        going = going_live(layout, installation)
        if going is not None and has_gone_live(layout, going):
            continue  # which is so until it is confirmed, and has a finding of its own
        own, words = _own_tables(layout, installation)
        new = Database(own.get("name", theirs.name), own.get("prefix", theirs.written))
        yield Finding(
            at=str(installation.address),
            title=say(
                "staging-shares-data/title",
                address=installation.address,
                original=live.address,
                mine=mine.name,
                prefix=quoted(mine.prefix),
            ),
            why=say("staging-shares-data/why"),
            parties=[
                installation_party(layout.account, installation, "database"),
                installation_party(layout.account, live),
            ],
            ways_out=[
                WayOut(
                    words,
                    [setting(layout, installation, database=own)],
                    copy_remedy(layout, theirs, new),
                    copying(layout, theirs, installation, new),
                )
                if installation.state == "planned"
                else data_apart(layout, mine, installation, own)
            ],
        )


def _own_tables(layout: AccountLayout, installation: Installation) -> tuple[dict[str, str], Words]:
    """The keys by which an installation has tables of its own: a database, or where no room is left, a prefix."""
    if room_for_databases(layout):
        name = free_database(layout, installation.address)
        return {"name": name}, say("own-tables/give-database-own", name=name)
    prefix = own_prefix(layout, installation)
    return {"prefix": prefix}, say("own-tables/give-tables-own", prefix=prefix)


@account_rule("retired-still-there", "risk", reaches=RuleReach.NONE)
def retired_still_there(layout: AccountLayout) -> Iterator[Finding]:
    """An installation is retired in the plan, and its files are still in its folder.

    It goes on answering, and nobody updates what is thought to be gone.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "retired"

        # there: www/shop/shop.php
        # there: www/shop/barrow/core.php

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "retired"

        # there: www/index.html = "Trains run on the first Sunday of the month."

    Ways out:

    - keep a copy of folder and database, remove both, then take the entry out;
    - if it is in use after all, mark it live.
    """
    if layout.contents is None:
        return
    for installation in layout.account.installations:
        folder = layout.lies_now(installation) if installation.state == "retired" else None
        found = layout.contents.applications.get(folder) if folder is not None else None
        if folder is None or found is None or found.application != installation.application:
            continue
        if layout.standing.get(folder) or layout.present.get(folder):
            continue
        reached = layout.addresses_of(folder)
        answers = say("retired-still-there/still-answers", reached=map(str, reached)) if reached else ""
        yield Finding(
            at=folder.shown,
            title=say("retired-still-there/title", **named(installation), folder=folder.shown),
            why=say("retired-still-there/why", answers=answers),
            parties=[installation_party(layout.account, installation, "state"), application_party(layout, found)],
            ways_out=[
                removal(
                    layout,
                    folder,
                    installation,
                    found,
                    then=say("retired-still-there/take-entry-out"),
                    changes=(dropping(layout, installation),),
                ),
                WayOut(
                    say("retired-still-there/use-after-all"),
                    [setting(layout, installation, state="live")],
                    as_it_is=True,
                ),
            ],
        )


def _told_apart(
    layout: AccountLayout, folder: Folder, keeper: Installation, others: list[Installation]
) -> list[WayOut]:
    """Ways out for several in one folder: what is still to come goes elsewhere; of what is live one is there."""
    moved = others[0]
    gone = WayOut(
        say("told-apart/gone-mark-state", address=moved.address),
        [setting(layout, installation, state="retired") for installation in others],
    )
    if all(installation.state != "live" for installation in others):
        return [*(moves_elsewhere(layout, moved) if len(others) == 1 else []), gone]
    found = layout.contents.applications.get(folder) if layout.contents is not None else None
    live = [installation for installation in (keeper, *others) if installation.state == "live"]
    absent = [entry for entry in live if found is not None and entry.application != found.application]
    ways = []
    if found is not None and 0 < len(absent) < len(live):
        names = series(map(at_its_address, absent))
        words = say(
            "told-apart/holds-mark-retired", folder=folder.shown, title=layout.title(found.application), names=names
        )
        ways.append(WayOut(words, [setting(layout, entry, state="retired") for entry in absent]))
    look = LookAtFolder(layout.name, folder)
    words = say("told-apart/find-out-them", folder=folder.shown)
    return [*ways, WayOut(words, steps=[look]), gone]


def _out_of(layout: AccountLayout, inner: Installation, folder: Folder, outside: Folder, rule: str) -> list[WayOut]:
    """Only a subdomain leads out of the outer folder; a subfolder stays inside it."""
    own = own_subdomain(layout, inner)
    words = say("out-of/keep-back-up", outside=outside.shown)
    keep = WayOut(words, remedy=accepting(rule, folder.shown), steps=[Accept(layout.name, rule, folder.shown)])
    if own is None:
        return [keep]
    return [own, keep] if inner.state == "planned" else [keep, own]  # what people read keeps its address


def _domains_of(layout: AccountLayout, installations: list[Installation]) -> list[RecordId]:
    """The domains by whose roots installations come into their folders."""
    mounts = [layout.hosts.mount(installation.address) for installation in installations if installation.folder is None]
    domains = [
        stands_for(layout.account, mount.domain) for mount in mounts if mount is not None and mount.alias is None
    ]
    return list(dict.fromkeys(layout.account.identity(domain) for domain in domains if domain is not None))


def _has_front(layout: AccountLayout, front: Folder, installation: Installation) -> bool:
    """Whether something in `front` may lead to an installation that lies elsewhere."""
    state = FolderState(layout, "now")
    known = layout.application(installation)
    names = [*known.index_files, *([known.front_file] if known.front_file else [])]
    if any(state.has(front, name) is not False for name in names):
        return True
    requests = Requests(layout, "now")
    return requests.may(front, "hands") or requests.may_send(front)
