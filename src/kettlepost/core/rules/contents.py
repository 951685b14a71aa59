"""Rules about what the survey found in the folders."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

from kettlepost.core.answering import Requests
from kettlepost.core.layout import AccountLayout, Contents, FolderState, HoldKind, has_relocated, holds_in
from kettlepost.core.messages import Words, say, series
from kettlepost.core.names import Address, Folder, printable
from kettlepost.core.plan import Change, Installation
from kettlepost.core.remedies import Action, Remedy
from kettlepost.core.rules.consequences import INSIDE
from kettlepost.core.rules.files import removed
from kettlepost.core.rules.findings import Finding, LazyWays, Party, WayOut
from kettlepost.core.rules.going_live import is_set_aside
from kettlepost.core.rules.moves import moves_elsewhere
from kettlepost.core.rules.parties import (
    application_party,
    application_words,
    folder_party,
    held_names,
    installation_party,
    named,
    placeholder_party,
)
from kettlepost.core.rules.registry import RuleReach, account_rule
from kettlepost.core.rules.removal import kept_places, removal, what_stays
from kettlepost.core.rules.ways_out import clearing, completing, setting
from kettlepost.core.steps import (
    CompleteEntry,
    CopyFolder,
    DeleteFolder,
    KeepFolder,
    LookAgain,
    LookAtFolder,
    SetIndexOrder,
    Step,
)
from kettlepost.core.survey import FoundApplication, FoundPlaceholder
from kettlepost.core.words import counted

HARMLESS = frozenset((".well-known", "cgi-bin"))


@account_rule("folder-occupied", "stop", reaches=RuleReach.FOLDER | RuleReach.SIBLINGS)
def folder_occupied(layout: AccountLayout) -> Iterator[Finding]:
    """A planned installation's folder holds something that is no placeholder page.

    An installer copies its files over what is there: pages with the same names are gone,
    others stay and mix with the new application. Placeholder pages and control files, of which
    other rules tell, folders without a file in them, .well-known and cgi-bin, and folders that
    another entry of the plan holds do not count.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"
        state = "planned"

        # there: www/timetable.html = "Trains run on the first Sunday of the month."

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"
        state = "planned"

        # there: www/timetable.html = "Trains run on the first Sunday of the month."

    Ways out:

    - install into a folder that is free;
    - if what is there is the application, the plan is behind: make the entry live;
    - if it may go, keep a copy of it, clear the folder, and take the survey again.
    """
    contents = layout.contents
    for folder, installation in layout.planned:
        if contents is None or folder not in contents.folders:
            continue
        there = contents.folders[folder]
        holding = {page.file for page in contents.placeholders(folder)} | set(there.control)
        listed_files = sorted({*there.names, *there.index} - holding)
        count = there.files - len(holding)
        inside = [child for child in contents.children(folder) if _is_occupied(layout, contents, child)]
        found, is_bare = contents.applications.get(folder), count <= 0 and not inside
        if is_bare and not (installation.is_moving and there.control):
            continue
        if found is None and installation.is_moving and not _written_over(layout, contents, folder, installation):
            continue
        if is_bare:  # what was copied there would write over them
            listed_files, count = sorted(there.control), len(there.control)
        total = contents.totals(folder).files - len(holding) if not is_bare else count
        what = (
            f"{application_words(layout, found)}, {counted(total, 'file')}"
            if found
            else say("folder-occupied/all", held_names=held_names(contents, folder, listed_files, inside), total=total)
        )
        ways: list[WayOut] = []
        why = say("folder-occupied/why")
        if found and found.application == installation.application and found.condition != "incomplete":
            words = say("folder-occupied/planned-one-write", place=layout.account.place(installation))
            ways.append(WayOut(words, [setting(layout, installation, state="live")]))
            base = found.database
            uses = (
                say("folder-occupied/database", base=printable(base.name))
                if base is not None and base.name
                else say("folder-occupied/names-database")
            )
            why = say("folder-occupied/why-older-site", uses=uses)
        for page in contents.perhaps_placeholders(folder):
            why = say(
                "folder-occupied/why-perhaps-placeholder",
                file=printable(page.file),
                page=page.words,
                why=why,
            )
        yield Finding(
            at=folder.shown,
            title=say("folder-occupied/title", application=installation.application, folder=folder.shown, what=what),
            why=why,
            parties=[installation_party(layout.account, installation)]
            + ([application_party(layout, found)] if found else [folder_party(folder)]),
            ways_out=LazyWays(partial(_out_of_its_way, layout, folder, installation, ways)),
            pending=is_bare,
        )


def _out_of_its_way(
    layout: AccountLayout, folder: Folder, installation: Installation, ways: list[WayOut]
) -> list[WayOut]:
    found = [*moves_elsewhere(layout, installation), *ways, *_cleared(layout, folder, installation)]
    return found or [_of_its_own(layout, installation)]


def _of_its_own(layout: AccountLayout, installation: Installation) -> WayOut:
    words = say("of-its-own/give-address-own", application=installation.application)
    return WayOut(words, steps=[completing(layout, installation, "address")])


@account_rule("placeholder-wins", "stop", reaches=RuleReach.FOLDER)
def placeholder_wins(layout: AccountLayout) -> Iterator[Finding]:
    """A placeholder page comes before an application's own index file.

    A host puts a welcome page into each new root, and the server shows the first index file
    of its list that is there. After a deployment that reports success, visitors go on seeing
    the welcome page. A placeholder that the application's own index file replaces, or that
    comes after it, does no such harm.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"
        state = "planned"

        # there: www/index.html = "Coming soon"

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example"
        state = "planned"

        # there: www/index.php = "Coming soon"

    Ways out:

    - look at the placeholder, and remove it before deploying;
    - put the application's index file first in the server's order, and in index_files.
    """
    if layout.contents is None or not layout.contents.survey.placeholders:
        return
    coming = dict(layout.planned)
    for folder, placed in {**{place: [one] for place, one in coming.items()}, **layout.present}.items():
        pages = layout.contents.placeholders(folder)
        installation = coming.get(folder, placed[0])
        is_to_come = installation.state == "planned" or folder in coming
        if pages and (is_to_come or folder in layout.contents.applications):
            own = layout.application(installation).index_files
            yield from _placeholder_wins(layout, folder, installation, pages, own)
    for front, installation in layout.fronts:
        pages = layout.contents.placeholders(front)
        if pages and not any(front in there for there in (layout.standing, layout.contents.applications)):
            yield from _placeholder_wins(layout, front, installation, pages, [layout.front_file(installation)])


@account_rule("front-occupied", "stop", reaches=RuleReach.FOLDER)
def front_occupied(layout: AccountLayout) -> Iterator[Finding]:
    """A real page, or another application, is at the address where a planned installation's front file is to go.

    An installation whose files lie elsewhere is started by a front file at its address. A page
    that lies there is shown instead of it, or is written over by it: either way somebody's page
    is lost. Placeholder pages are told of by another rule.

    Bad:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example"
        folder = "www/quill"
        state = "planned"

        # there: www/index.html = "<h1>Trains</h1> <p>Trains run on the first Sunday of the month, from ten to four."

    Good:

        [[installation]]
        application = "quillmoor"
        address = "millbrookrail.example/quill"
        state = "planned"

        # there: www/index.html = "<h1>Trains</h1> <p>Trains run on the first Sunday of the month, from ten to four."

    Ways out:

    - install at an address of its own;
    - if nobody wants the page, look at it, keep a copy, and remove it.
    """
    contents = layout.contents
    for front, installation in layout.fronts:
        there = contents.folders.get(front) if contents is not None else None
        is_to_come = installation.state == "planned" or installation.is_moving
        if not is_to_come or contents is None or there is None or front in layout.standing:
            continue
        own = layout.front_file(installation)
        order = Requests(layout).index_order(front)
        before = order[: order.index(own) + 1] if own in order else order
        holding = {page.file for page in contents.placeholders(front)}
        real = [name for name in before if name in there.index and name not in holding]
        found = contents.applications.get(front)
        if not real and found is None:
            continue
        names = series(printable(front.below(name)) for name in real) if real else application_words(layout, found)  # type: ignore[arg-type]
        page = say("front-occupied/look") if len(real) == 1 else say("front-occupied/look-them")
        ways = moves_elsewhere(layout, installation)
        if real and found is None:
            ways.append(
                WayOut(
                    say("front-occupied/nobody-wants-keep", names=names, page=page),
                    remedy=clearing(installation, "everything"),
                    steps=removed(layout, front, real),
                )
            )
        yield Finding(
            at=front.shown,
            title=say(
                "front-occupied/title",
                title=layout.title(installation.application),
                address=installation.address,
                own=own,
                front=front.shown,
                names=names,
            ),
            why=say("front-occupied/why"),
            parties=[installation_party(layout.account, installation)]
            + ([application_party(layout, found)] if found is not None else [folder_party(front)]),
            ways_out=ways or [_of_its_own(layout, installation)],
        )


def _with_both(layout: AccountLayout, folder: Folder, first: str, then: str) -> list[Folder]:
    """Other roots that hold two index files, and would show another one in another order."""
    folders = layout.contents.folders if layout.contents is not None else {}
    there = {root: folders[root].index for root in layout.roots if root != folder and root in folders}
    return [root for root, index in there.items() if {first, then} <= set(index)]


def _placeholder_wins(
    layout: AccountLayout, folder: Folder, installation: Installation, pages: list[FoundPlaceholder], index: list[str]
) -> Iterator[Finding]:
    """The placeholders in a folder that come before each of the index files through which an installation answers."""
    order = Requests(layout).index_order(folder)
    application = layout.application(installation)
    own = next((name for name in order if name in index), None)
    rank = order.index(own) if own is not None else len(order)
    pages = [page for page in pages if page.file in order[:rank]]
    if not pages:
        return
    names = [printable(folder.below(page.file)) for page in pages]
    is_to_come = installation.state == "planned" and installation.number not in layout.deployed
    is_to_come = is_to_come or (installation.is_moving and not has_relocated(layout, installation))
    before = say("placeholder-wins/before-deploying") if is_to_come else ""
    them = "it" if len(names) == 1 else "them"
    steps = removed(layout, folder, [page.file for page in pages], is_placeholder=True)
    ways = [
        WayOut(
            say("placeholder-wins/look-remove", names=names, them=them, before=before),
            remedy=clearing(installation),
            steps=steps,
        )
    ]
    if own is not None:
        order_set = SetIndexOrder(layout.name, own, pages[0].file)
        words = say("placeholder-wins/put-before-servers", own=own, file=pages[0].file)
        others = _with_both(layout, folder, own, pages[0].file)
        words += (
            say("placeholder-wins/will-show-too", others=(other.shown for other in others), own=own) if others else ""
        )
        ways.append(WayOut(words, steps=[order_set]))
    yield Finding(
        at=folder.shown,
        title=say(
            "placeholder-wins/title",
            names=names,
            is_before=bool(before),
            application=application.shown,
            address=installation.address,
        ),
        why=say("placeholder-wins/why", file=pages[0].file, own=own or index[0]),
        parties=[installation_party(layout.account, installation), *_pages(pages)],
        ways_out=ways,
        pending=bool(before),
    )


@account_rule("unplanned-application", "risk", reaches=RuleReach.FOLDER)
def unplanned_application(layout: AccountLayout) -> Iterator[Finding]:
    """An application answers at an address, and the plan does not know it.

    Nobody updates what nobody has written down, and the next deployment is planned as if its
    folder and its database were free.

    Bad:

        # there: www/old/barrow/core.php
        # there: www/old/shop.php

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/old"

        # there: www/old/barrow/core.php
        # there: www/old/shop.php

    Ways out:

    - write it into the plan at an address that reaches it;
    - if nobody wants it, keep a copy and remove it.
    """
    if layout.contents is None:
        return
    for found in layout.contents.applications.values():
        if layout.placed.get(found.folder) or layout.present.get(found.folder):
            continue
        addresses = layout.addresses_of(found.folder)
        if not addresses:
            continue
        party = application_party(layout, found)
        entry: dict[str, Any] = {"application": found.application, "address": str(addresses[0]), "state": "live"}
        base = found.database
        if base is not None and base.name and printable(base.name + base.prefix) == base.name + base.prefix:
            entry["database"] = {"name": base.name, "prefix": base.prefix}
        reached = say("unplanned-application/answers", addresses=map(str, addresses))
        yield Finding(
            at=found.folder.shown,
            title=say(
                "unplanned-application/title", application=application_words(layout, found), folder=found.folder.shown
            ),
            why=say("unplanned-application/why", reached=reached),
            parties=[party],
            ways_out=LazyWays(partial(_written_down, layout, found, addresses[0], entry)),
        )


def _written_down(
    layout: AccountLayout, found: FoundApplication, address: Address, entry: dict[str, Any]
) -> list[WayOut]:
    known = found.application in layout.plan.applications
    ways = [
        WayOut(
            say("written-down/write-down-installation", application=found.application, address=address),
            [Change(layout.name, "installation", None, entry)] if known else [],
            Remedy.of(Action.ADOPT, layout.name) if known and not found.condition else None,
            [] if known else [CompleteEntry(layout.name, "installation", None, ("application", "address"))],
            as_it_is=True,
        ),
        removal(layout, found.base, found=found, begin=say("written-down/nobody-wants")),
    ]
    if found.condition in ("copy", "incomplete") and not any(isinstance(step, LookAtFolder) for step in ways[1].steps):
        ways.reverse()
    return [*_moved_up(layout, found), *ways]


def _moved_up(layout: AccountLayout, found: FoundApplication) -> Iterator[WayOut]:
    """Where what is planned was uploaded one folder too deep, as archives hold a folder of their own."""
    to, contents = found.base.parent, layout.contents
    planned = [
        one
        for one in layout.placed.get(to, ())
        if one.state == "planned" and one.application == found.application and one.number not in layout.deployed
    ]
    there = contents.folders.get(to) if contents is not None else None
    if not planned or contents is None or there is None:
        return
    pages = {page.file for page in contents.placeholders(to)}
    within = found.base.below(found.base.name)
    if not pages.issuperset(there.names) or there.files > len(pages) or contents.exists(within):
        return  # what else lies there could be written over, or what comes of it goes with the folder it came from
    steps: list[Step] = [
        CopyFolder(layout.name, found.base, to),
        DeleteFolder(layout.name, found.base),
        LookAgain(layout.name),
    ]
    words = say("moved-up/uploaded-one-folder", address=planned[0].address, base=found.base.shown, to=to.shown)
    yield WayOut(words, steps=steps)


@account_rule("plan-and-survey-differ", "risk", reaches=RuleReach.HOST, follows={"root-missing": INSIDE})
def plan_and_survey_differ(layout: AccountLayout) -> Iterator[Finding]:
    """A live installation is not what the survey found in its folder.

    The folder is missing or empty, holds another application, or none of the files by which
    the application is known: it was removed or moved, the entry names the wrong folder, or
    the address leads elsewhere than people think.

    Bad:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

        # there: www/index.html = "Trains run on the first Sunday of the month."

    Good:

        [[installation]]
        application = "barrowshop"
        address = "millbrookrail.example/shop"

        # there: www/shop/barrow/core.php
        # there: www/shop/shop.php

    Ways out:

    - name the folder in which the application was found;
    - if it is gone, mark it retired; if it is still to come, planned;
    - if the survey is older than the installation, take it again.
    """
    contents = layout.contents
    if contents is None:
        return
    for folder, placed in layout.present.items():
        for installation in placed:
            if installation.state != "live":
                continue
            found = contents.applications.get(folder)
            if found is not None and found.application == installation.application and found.condition != "incomplete":
                continue
            seen = _seen_instead(layout, contents, folder, installation)
            if seen is None or (found is None and is_set_aside(layout, installation)):
                continue
            yield Finding(
                at=folder.shown,
                title=say("plan-and-survey-differ/title", **named(installation), seen=seen),
                why=say("plan-and-survey-differ/why"),
                parties=[installation_party(layout.account, installation)]
                + ([application_party(layout, found)] if found else []),
                ways_out=_truths(layout, contents, installation),
            )


def _cleared(layout: AccountLayout, folder: Folder, installation: Installation) -> Iterator[WayOut]:
    """Clearing a folder of what nobody else uses; not one in which somebody else's files are mixed with that."""
    holds = list(holds_in(layout, folder, "", installation.number))
    if any(hold.place == folder and hold.kind is HoldKind.INSTALLATION for hold in holds):
        return
    stays = what_stays(layout, folder, holds, is_unwanted=True)
    but = say("cleared/but", stays=stays) if stays else ""
    found = layout.contents is not None and folder in layout.contents.applications
    left = tuple(sorted(kept_places(layout, folder, holds)))
    yield WayOut(
        say("cleared/nobody-wants-lies", folder=folder.shown, but=but),
        remedy=clearing(installation, "leftovers" if found else "everything"),
        steps=[KeepFolder(layout.name, folder), DeleteFolder(layout.name, folder, left), LookAgain(layout.name)],
    )


def _written_over(layout: AccountLayout, contents: Contents, folder: Folder, installation: Installation) -> bool:
    """Whether what is moved into a folder may write over what lies there, or is not seen behind an index file."""
    old, there = layout.comes_from(installation), contents.folders[folder]
    if old is None or len(there.names) < there.files:
        return True
    pages = {page.file for page in contents.placeholders(folder)}
    state = FolderState(layout, "now")
    files = {*there.names, *there.index, *there.control} - pages
    if {*there.index} - pages or any(state.has(old, name) is not False for name in files):
        return True
    inside = [place for place in contents.children(folder) if not (place == old or old.is_inside(place))]
    return any(contents.exists(old.below(place.name)) for place in inside)


def _is_occupied(layout: AccountLayout, contents: Contents, folder: Folder) -> bool:
    """Whether files lie in or below `folder` that no root or installation of the plan holds."""
    placed = layout.placed.keys() | layout.present.keys()
    if folder.name in HARMLESS or folder in layout.roots or folder in placed:
        return False
    if folder in layout.tree("now").mounts:
        return False
    files = contents.totals(folder).files
    held = [inside for inside in layout.claimed_inside(folder) if inside in layout.roots or inside in placed]
    outermost = [place for place in held if not any(place.is_inside(other) for other in held)]
    return files > sum(contents.totals(inside).files for inside in outermost)


def _pages(pages: list[FoundPlaceholder]) -> list[Party]:
    return [placeholder_party(page) for page in pages]


def _seen_instead(
    layout: AccountLayout, contents: Contents, folder: Folder, installation: Installation
) -> Words | None:
    """What is in a live installation's folder when it is not that application."""
    there = contents.folders.get(folder)
    if there is None:
        return say("seen-instead/does-exist", folder=folder.shown)
    if there.trouble:
        return None
    if contents.is_empty(folder):
        return say("seen-instead/empty", folder=folder.shown)
    found = contents.applications.get(folder)
    if found is not None and found.application == installation.application:
        return say("seen-instead/holds-half-missing", folder=folder.shown, missing=found.missing)
    if found is not None:
        return say("seen-instead/holds", folder=folder.shown, application=application_words(layout, found))
    known = layout.application(installation)
    if not (known.all_of or known.any_of):
        return None
    pages = contents.placeholders(folder)
    if pages and contents.totals(folder).files == len(pages):
        return say("seen-instead/holds-only-placeholder", folder=folder.shown, file=printable(pages[0].file))
    marks = series([*known.all_of, *known.any_of][:3])
    return say("seen-instead/holds-none-known", folder=folder.shown, known=known.shown, marks=marks)


def _truths(layout: AccountLayout, contents: Contents, installation: Installation) -> list[WayOut]:
    place = layout.account.place(installation)
    homes = [
        found.folder
        for found in contents.applications.values()
        if found.application == installation.application
        and not layout.placed.get(found.folder)
        and found.condition in ("", "not set up")
    ]
    ways = []
    for home in homes[:3]:
        addresses = layout.addresses_of(home)
        if addresses:
            words = say("truths/found-write-address", home=home.shown, address=addresses[0], place=place)
            ways.append(WayOut(words, [setting(layout, installation, address=str(addresses[0]), folder=None)]))
        else:
            words = say("truths/found-address-reaches", home=home.shown)
            ways.append(WayOut(words, steps=[CompleteEntry(layout.name, "domain", None, ("name", "root"))]))
    ways.append(
        WayOut(say("truths/write-state-retired", place=place), [setting(layout, installation, state="retired")])
    )
    again = layout.surveying
    looked = LookAgain(layout.name)
    ways.append(WayOut(say("truths/folder-changed-since"), remedy=again, steps=[looked]))
    return ways
